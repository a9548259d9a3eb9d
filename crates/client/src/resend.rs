//! `resend`: what destinations refused, sent to them again.

use std::time::{Duration, Instant};

use clap::Args;
use reqwest::Method;
use rockrose_api::{ResendRequest, Resent, ResentEvent, ResentState};
use serde_json::json;

use crate::client::Client;
use crate::format::{self, BAD, GOOD, HEAD, paint};
use crate::{Common, Exit, Failure, Outcome};

/// Which refused events are sent again, and how.
#[derive(Args)]
pub struct ResendArgs {
    /// Numbers of quarantined events, as `quarantine` lists them
    ids: Vec<i64>,
    /// Everything that this destination refused
    #[arg(long, value_name = "NAME", conflicts_with = "ids")]
    destination: Option<String>,
    /// Everything that any destination refused
    #[arg(long, conflicts_with_all = ["ids", "destination"])]
    all: bool,
    /// A step to run over each event first, such as `remove debug.*`; may be repeated
    #[arg(long = "do", value_name = "STEP")]
    steps: Vec<String>,
    /// Wait for the outcome of each event, at most this long
    #[arg(long, value_name = "SECONDS", num_args = 0..=1, require_equals = true, default_missing_value = "30")]
    wait: Option<u64>,
}

/// How often it is asked what became of them.
const ASK_EVERY: Duration = Duration::from_millis(200);
/// So many events are listed one by one.
const LISTED: usize = 40;

/// What became of an event, in words, and how they are painted.
fn told(event: &ResentEvent) -> String {
    let because = if event.detail.is_empty() { String::new() } else { format!(": {}", event.detail) };
    match event.state {
        ResentState::Waiting => "waiting".to_owned(),
        ResentState::Delivered => paint("delivered", GOOD),
        ResentState::Refused => {
            let again = event.again.map_or_else(String::new, |id| format!(", now number {id}"));
            format!("{}{again}{because}", paint("refused again", BAD))
        }
        ResentState::Removed => format!("{} by {}", paint("removed", HEAD), event.detail),
        ResentState::Discarded => format!("{}{because}", paint("discarded", BAD)),
        ResentState::Unclear => format!("{}{because}", paint("unclear", HEAD)),
    }
}

/// How many became what: `3 delivered, 1 refused again`.
fn counted(events: &[ResentEvent]) -> String {
    let words = [
        (ResentState::Delivered, "delivered"),
        (ResentState::Waiting, "still waiting"),
        (ResentState::Refused, "refused again"),
        (ResentState::Removed, "removed"),
        (ResentState::Discarded, "discarded"),
        (ResentState::Unclear, "unclear"),
    ];
    let count = |state| events.iter().filter(|e| e.state == state).count();
    let parts: Vec<String> = words.iter().map(|(state, word)| (count(*state), word)).filter(|(n, _)| *n > 0).map(|(n, word)| format!("{n} {word}")).collect();
    parts.join(", ")
}

async fn fates(client: &Client, run: i64) -> Result<Vec<ResentEvent>, Failure> {
    client.get(&format!("/api/v1/quarantine/resent/{run}")).await?.read()
}

/// What became of the events, once none waits or the time is over.
async fn wait(client: &Client, run: i64, seconds: u64) -> Result<Vec<ResentEvent>, Failure> {
    let until = Instant::now() + Duration::from_secs(seconds);
    loop {
        let events = fates(client, run).await?;
        if events.iter().all(|e| e.state != ResentState::Waiting) || Instant::now() >= until {
            return Ok(events);
        }
        tokio::time::sleep(ASK_EVERY).await;
    }
}

pub(crate) async fn resend(common: &Common, args: ResendArgs) -> Outcome {
    if args.ids.is_empty() && args.destination.is_none() && !args.all {
        return Err(Failure::new(Exit::Failed, "pass the events' numbers (see `rockrose quarantine`), --destination NAME, or --all"));
    }
    let ids = (!args.ids.is_empty()).then_some(args.ids);
    let client = Client::new(common)?;
    let request = ResendRequest { destination: args.destination, ids, steps: args.steps };
    let resent: Resent = client.call(Method::POST, "/api/v1/quarantine/resend", &request).await?.read()?;
    let events = match args.wait {
        Some(seconds) => wait(&client, resent.run, seconds).await?,
        None if resent.removed > 0 => fates(&client, resent.run).await?,
        None => Vec::new(),
    };
    let settled = |e: &ResentEvent| matches!(e.state, ResentState::Delivered | ResentState::Removed);
    let exit = if resent.left.is_empty() && (args.wait.is_none() || events.iter().all(settled)) { Exit::Done } else { Exit::Failed };
    if common.json {
        let Resent { run, events: queued, bytes, removed, left } = resent;
        format::print_json(&json!({ "run": run, "events": queued, "bytes": bytes, "removed": removed, "left": left, "became": events }))?;
        return Ok(exit);
    }
    let mut blocks = Vec::new();
    let listed = events.iter().filter(|e| args.wait.is_some() || e.state == ResentState::Removed);
    let rows: Vec<Vec<String>> = listed.clone().take(LISTED).map(|e| vec![e.id.to_string(), e.destination.clone(), told(e)]).collect();
    if !rows.is_empty() {
        let more = listed.count() - rows.len();
        blocks.push(format::table(&["number", "destination", "result"], &[0], rows));
        if more > 0 {
            blocks.push(format!("and {more} more"));
        }
    }
    blocks.push(match args.wait {
        Some(_) if !events.is_empty() => format!("{}: {}.", format::events(events.len() as i64), counted(&events)),
        _ if resent.removed > 0 => format!("{} requeued, {} removed by the steps.", format::events(resent.events), resent.removed),
        _ => format!("{} ({}) requeued.", format::events(resent.events), format::bytes(resent.bytes as f64)),
    });
    blocks.extend(resent.left.iter().map(|why| paint(&format!("Not requeued: {why}."), BAD)));
    format::blocks(&blocks)?;
    Ok(exit)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(id: i64, state: ResentState, detail: &str, again: Option<i64>) -> ResentEvent {
        ResentEvent { id, destination: "desk".into(), state, detail: detail.into(), again }
    }

    #[test]
    fn what_became_of_events_is_told_and_counted() {
        let events = [
            event(1, ResentState::Delivered, "", None),
            event(2, ResentState::Refused, "HTTP 422", Some(9)),
            event(3, ResentState::Removed, "drop n = 3", None),
            event(4, ResentState::Delivered, "", None),
        ];
        assert_eq!(counted(&events), "2 delivered, 1 refused again, 1 removed");
        let told: Vec<String> = events.iter().map(told).collect();
        assert_eq!(told[1..3], ["refused again, now number 9: HTTP 422", "removed by drop n = 3"]);
    }
}
