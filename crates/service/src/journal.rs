//! What is noted in the journal, and for how long it is kept.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use rockrose_records::Action;

use crate::{App, now_ms};

/// Looking at the same thing again is noted again after so long, in milliseconds.
const SAME_LOOK: i64 = 10 * 60_000;
/// Most looks that are remembered.
const MOST_LOOKS: usize = 10_000;
/// So often old entries are removed.
const TIDY: Duration = Duration::from_secs(3_600);
/// Longest name, subject or result that is noted, in bytes.
const LONGEST: usize = 256;

/// When somebody last looked at something: the name, what they did, and to what.
#[derive(Default)]
pub(crate) struct Looks(Mutex<HashMap<(String, String, String), i64>>);

impl Looks {
    /// Whether a look is to be noted: not, if the same was a short while ago.
    fn is_new(&self, action: &Action, now_ms: i64) -> bool {
        let mut looks = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (action.who.clone(), action.what.clone(), action.subject.clone());
        if looks.get(&key).is_some_and(|last| now_ms - last < SAME_LOOK) {
            return false;
        }
        if looks.len() >= MOST_LOOKS {
            looks.retain(|_, last| now_ms - *last < SAME_LOOK);
        }
        if looks.len() < MOST_LOOKS {
            looks.insert(key, now_ms);
        }
        true
    }
}

fn bounded(text: String) -> String {
    match text.char_indices().find(|(at, c)| at + c.len_utf8() > LONGEST) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text,
    }
}

/// Notes what somebody did, or tried to. What cannot be noted is logged as an error.
pub(crate) async fn note(app: &App, from: Option<IpAddr>, action: Action) {
    let address = from.map(|a| a.to_canonical().to_string()).unwrap_or_default();
    let Action { who, what, subject, result, .. } = action;
    let action = Action { who: bounded(who), address, what, subject: bounded(subject), result: bounded(result) };
    let noted = app.records(move |r| r.note(&action, now_ms())).await;
    if let Err(e) = noted {
        tracing::error!(error = %e, "the journal cannot be written");
    }
}

/// Notes that somebody looked at something, unless they did so a short while ago.
pub(crate) async fn note_look(app: &App, from: Option<IpAddr>, action: Action) {
    if app.looks.is_new(&action, now_ms()) {
        note(app, from, action).await;
    }
}

/// Removes entries that are older than the journal is kept.
pub(crate) async fn run(app: Arc<App>) {
    let Some(days) = app.journal_days else { return };
    let mut tick = tokio::time::interval(TIDY);
    loop {
        tick.tick().await;
        match app.records(move |r| r.forget_journal(now_ms() - i64::from(days) * 86_400_000)).await {
            Ok(0) => {}
            Ok(gone) => tracing::info!(entries = gone, "old entries of the journal were removed"),
            Err(e) => tracing::error!(error = %e, "old entries of the journal cannot be removed"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_look_is_noted_once_in_a_while() {
        let looks = Looks::default();
        let action = |who: &str, subject: &str| Action { who: who.into(), what: "look".into(), subject: subject.into(), ..Action::default() };
        assert!(looks.is_new(&action("ann", "desk"), 0));
        assert!(!looks.is_new(&action("ann", "desk"), SAME_LOOK - 1));
        assert!(looks.is_new(&action("bo", "desk"), 1) && looks.is_new(&action("ann", "vault"), 1));
        assert!(looks.is_new(&action("ann", "desk"), SAME_LOOK));
    }

    #[test]
    fn texts_are_bounded_between_letters() {
        assert_eq!(bounded("ä".repeat(127)), "ä".repeat(127));
        assert_eq!(bounded("ä".repeat(200)), format!("{}…", "ä".repeat(128)));
    }
}
