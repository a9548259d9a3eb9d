//! `tail`: events as they pass a point.

use clap::ValueEnum;
use futures_util::StreamExt;
use rockrose_api::TailEvent;

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, paint};
use crate::{Common, Exit, Failure, Outcome};

/// Which side of the point is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Side {
    /// Events as they came to it
    Before,
    /// Events as they went on, without those that were removed
    After,
    /// Both, and what was removed by which step
    Both,
}

/// Longest line of the stream that is read, in bytes.
const MAX_LINE: usize = 256 << 20;

pub(crate) async fn tail(common: &Common, point: &str, when: Option<&str>, side: Side, most: Option<u64>) -> Outcome {
    let mut end = crate::End::listen()?;
    let client = Client::new(common)?;
    let mut query = vec![("point", point)];
    if let Some(when) = when {
        query.push(("when", when));
    }
    if side == Side::After {
        query.push(("kept_only", "true"));
    }
    let answer = client.stream("/api/v1/tail", &query).await?;
    let mut stream = answer.bytes_stream();
    let (mut pending, mut kind, mut shown) = (Vec::new(), String::new(), 0u64);
    loop {
        let chunk = tokio::select! {
            chunk = stream.next() => chunk,
            () = end.asked() => return Ok(Exit::Done),
        };
        let Some(chunk) = chunk else { return Err(Failure::new(Exit::Unreachable, "the service ended the stream")) };
        pending.extend_from_slice(&chunk.map_err(|e| Failure::new(Exit::Unreachable, format!("the stream was interrupted: {e}")))?);
        if pending.len() > MAX_LINE {
            return Err(Failure::new(Exit::Failed, "the service sent a line longer than the limit"));
        }
        while let Some(end) = pending.iter().position(|b| *b == b'\n') {
            let line: Vec<u8> = pending.drain(..=end).collect();
            let line = String::from_utf8_lossy(&line);
            let line = line.trim_end();
            if let Some(name) = line.strip_prefix("event:") {
                kind = name.trim().to_owned();
            } else if let Some(data) = line.strip_prefix("data:") {
                match kind.as_str() {
                    "event" => {
                        print(data.trim(), side, common.json)?;
                        shown += 1;
                        if most.is_some_and(|m| shown >= m) {
                            return Ok(Exit::Done);
                        }
                    }
                    "grants" => bounds(data.trim()),
                    "skipped" => eprintln!("{}", paint(&format!("({} events came too fast to show)", data.trim()), FAINT)),
                    _ => {}
                }
            }
        }
    }
}

/// Says under which grants events are shown here, where that is not all of them.
fn bounds(data: &str) {
    if let Ok(Some(grants)) = serde_json::from_str::<Option<Vec<String>>>(data) {
        eprintln!("{}", paint(&format!("(your grants show some of the events here: {})", format::escaped(&grants.join("; "))), FAINT));
    }
}

fn print(data: &str, side: Side, as_json: bool) -> Outcome {
    if as_json {
        return format::line(&format::escaped(data));
    }
    // The three parts are taken as they were sent, so that numbers and the order of members stay.
    let parts: TailEvent = serde_json::from_str(data).map_err(anyhow::Error::from)?;
    let at = paint(format::moment(parts.at_ms).split(' ').next_back().unwrap_or_default(), FAINT);
    match (side, &parts.after) {
        (Side::Before, _) => format::line(&format!("{at}  {}", format::escaped(parts.before.get()))),
        (Side::After, Some(after)) => format::line(&format!("{at}  {}", format::escaped(after.get()))),
        (Side::After, None) => Ok(Exit::Done),
        (Side::Both, Some(after)) if format::escaped(after.get()) == format::escaped(parts.before.get()) => {
            format::line(&format!("{at}  as it came  {}", format::escaped(after.get())))
        }
        (Side::Both, Some(after)) => format::line(&format!(
            "{at}  {}  {}\n          {}     {}",
            paint("came      ", FAINT),
            format::escaped(parts.before.get()),
            paint("went on", GOOD),
            format::escaped(after.get())
        )),
        (Side::Both, None) => {
            let (what, by) = match parts.held_by {
                Some(by) => (paint("held   ", FAINT), by),
                None => (paint("removed", BAD), parts.removed_by.unwrap_or_default()),
            };
            format::line(&format!("{at}  {}  {}\n          {what}     {by}", paint("came      ", FAINT), format::escaped(parts.before.get())))
        }
    }
}
