//! The sources of what the service itself notes: its journal, and the alerts that begin and end. Each entry is an event. How far a log was read moves with the
//! events, so that each entry comes once.

use std::sync::Arc;
use std::time::Duration;

use rockrose_event::record::DeclaredFormat;
use rockrose_plan::{AlertSource, JournalSource};

use super::{Endpoint, Kind, PasteLine, Start};
use crate::probe::Probe;
use crate::{BodyMetadata, OwnLog, Position, Refusal, SenderFault, Sink};

/// How often a log is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(1);

impl OwnLog {
    /// Its own name in the positions of a source.
    fn id(self) -> &'static str {
        match self {
            OwnLog::Journal => "journal",
            OwnLog::Alerts => "alerts",
        }
    }
}

/// Hands on what behind `read` stands in a log, and moves `read`; true, if there may be more.
async fn advance<S: Sink>(log: OwnLog, read: &mut Option<i64>, start: &Start<S>) -> Result<bool, Refusal> {
    let Start { settings, sink, monitor, .. } = start;
    let name = settings.load().name.clone();
    let accept = async |lines: String, last: i64| {
        let with = BodyMetadata { positions: vec![Position { id: log.id().to_owned(), content: Some(last.to_string()) }], ..BodyMetadata::default() };
        sink.accept(&name, Arc::new(lines.into_bytes().into()), DeclaredFormat::Lines, with).await
    };
    let after = match *read {
        Some(after) => after,
        None => match sink.positions(&name).await?.iter().find(|p| p.id == log.id()).and_then(|p| p.content.as_ref()?.parse().ok()) {
            Some(after) => after,
            None => {
                // The journal is read from its beginning. What alerted before the source was there is old news; where it began is kept, so that nothing behind it is passed over.
                let first = if log == OwnLog::Journal { 0 } else { sink.log_end(log).await? };
                accept(String::new(), first).await?;
                first
            }
        },
    };
    *read = Some(after);
    let entries = sink.log(log, after).await?;
    let Some((last, _)) = entries.last() else { return Ok(false) };
    let last = *last;
    let receipt = accept(entries.into_iter().map(|(_, line)| line + "\n").collect(), last).await?;
    monitor.receipt(&receipt, None);
    *read = Some(last);
    Ok(true)
}

async fn follow<S: Sink>(log: OwnLog, start: Start<S>) {
    let mut read = None;
    while !start.stop.is_cancelled() {
        match advance(log, &mut read, &start).await {
            Ok(true) => continue,
            Ok(false) => {}
            Err(refusal) => start.monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None),
        }
        tokio::select! {
            () = start.stop.cancelled() => {}
            () = tokio::time::sleep(LOOK_EVERY) => {}
        }
    }
}

impl Kind for JournalSource {
    async fn run<S: Sink>(self, start: Start<S>) {
        follow(OwnLog::Journal, start).await;
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        probe.say("journal", true, "its entries are read as they are made".to_owned());
    }

    fn paste_lines(&self, _at: &Endpoint) -> Vec<PasteLine> {
        Vec::new()
    }
}

impl Kind for AlertSource {
    async fn run<S: Sink>(self, start: Start<S>) {
        follow(OwnLog::Alerts, start).await;
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        probe.say("alerts", true, "alerts come as they begin and end".to_owned());
    }

    fn paste_lines(&self, _at: &Endpoint) -> Vec<PasteLine> {
        Vec::new()
    }
}
