//! The source of the service's own journal: each entry is an event. How far it was read moves with the events, so that each entry comes once.

use std::sync::Arc;
use std::time::Duration;

use rockrose_event::record::DeclaredFormat;
use rockrose_plan::JournalSource;

use super::{Endpoint, Kind, PasteLine, Start};
use crate::probe::Probe;
use crate::{BodyMetadata, Position, SenderFault, Sink};

/// How often the journal is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// Its own name for what it reads.
const ID: &str = "journal";

impl Kind for JournalSource {
    async fn run<S: Sink>(self, Start { settings, sink, monitor, stop, .. }: Start<S>) {
        let name = settings.load().name.clone();
        let mut read: Option<i64> = None;
        while !stop.is_cancelled() {
            let entries = async {
                let after = match read {
                    Some(after) => after,
                    None => sink.positions(&name).await?.iter().find(|p| p.id == ID).and_then(|p| p.content.as_ref()?.parse().ok()).unwrap_or(0),
                };
                Ok((after, sink.journal(after).await?))
            };
            match entries.await {
                Ok((after, entries)) => {
                    read = Some(after);
                    if let Some((last, _)) = entries.last() {
                        let last = *last;
                        let lines: String = entries.into_iter().map(|(_, line)| line + "\n").collect();
                        let positions = vec![Position { id: ID.to_owned(), content: Some(last.to_string()) }];
                        let with = BodyMetadata { positions, ..BodyMetadata::default() };
                        match sink.accept(&name, Arc::new(lines.into_bytes().into()), DeclaredFormat::Lines, with).await {
                            Ok(receipt) => {
                                monitor.receipt(&receipt, None);
                                read = Some(last);
                                continue;
                            }
                            Err(refusal) => monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None),
                        }
                    }
                }
                Err(refusal) => {
                    let refusal: crate::Refusal = refusal;
                    monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None);
                }
            }
            tokio::select! {
                () = stop.cancelled() => {}
                () = tokio::time::sleep(LOOK_EVERY) => {}
            }
        }
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        probe.say("journal", true, "its entries are read as they are made".to_owned());
    }

    fn paste_lines(&self, _at: &Endpoint) -> Vec<PasteLine> {
        Vec::new()
    }
}
