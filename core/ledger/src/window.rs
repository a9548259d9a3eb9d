//! What windows of steps hold between batches, in the form in which it is kept.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::{Amount, Stage};

/// Where in a plan a step stands.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct StepLocation {
    /// The source that the events came by.
    pub source: String,
    /// Whether the step is a source's, a route's or a destination's.
    #[serde(rename = "place")]
    pub stage: Stage,
    /// The name of that source, route or destination.
    pub name: String,
    /// At a destination, the route by which the events come; at a route, their source.
    pub via: String,
    /// Which step of its list, from 1.
    pub position: i32,
    /// Its canonical sentence.
    pub sentence: String,
}

/// What one window holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WindowState {
    /// The step that holds it. All windows of one step share it.
    #[serde(rename = "stand", with = "shared")]
    pub location: Arc<StepLocation>,
    /// The first event, as JSON.
    pub json: String,
    /// Of joined lines: their text so far.
    pub text: Option<String>,
    /// The events that are held (of repeats, only the first is).
    pub events: i64,
    /// The bytes of the events that it holds, as they came to the step.
    pub bytes: i64,
    /// How many were merged or joined.
    pub count: u64,
    /// The time of the first one, as its sender wrote it.
    pub first: String,
    /// The time of the last one, as its sender wrote it.
    pub last: String,
    /// When it closes, in milliseconds since 1970.
    pub due_ms: i64,
}

impl WindowState {
    /// A window that holds nothing yet, and only says that something was there.
    #[must_use]
    pub fn mark(location: Arc<StepLocation>, due_ms: i64) -> WindowState {
        WindowState { location, json: String::new(), text: None, events: 0, bytes: 0, count: 0, first: String::new(), last: String::new(), due_ms }
    }

    /// A window that holds one event, given as JSON.
    #[must_use]
    pub fn of(location: Arc<StepLocation>, json: &[u8], due_ms: i64) -> WindowState {
        let json_text = String::from_utf8_lossy(json).into_owned();
        WindowState { json: json_text, events: 1, bytes: json.len() as i64, count: 1, ..WindowState::mark(location, due_ms) }
    }

    /// Whether it holds nothing, and only says that something was there: a copy that comes is one too many.
    #[must_use]
    pub fn is_mark(&self) -> bool {
        self.events == 0
    }

    /// How many events it holds, of how many bytes.
    #[must_use]
    pub fn amount(&self) -> Amount {
        Amount { events: self.events, bytes: self.bytes }
    }

    /// The bytes of memory that its texts take.
    #[must_use]
    pub fn size(&self) -> usize {
        self.json.len() + self.text.as_ref().map_or(0, String::len) + self.first.len() + self.last.len()
    }
}

/// How a window stands after a batch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WindowChange {
    /// The id of the window.
    pub id: u128,
    /// What it holds; nothing once it is closed.
    pub state: Option<WindowState>,
}

/// A shared location is kept as the location itself.
mod shared {
    use std::sync::Arc;

    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use super::StepLocation;

    pub(super) fn serialize<S: Serializer>(location: &Arc<StepLocation>, to: S) -> Result<S::Ok, S::Error> {
        location.as_ref().serialize(to)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Arc<StepLocation>, D::Error> {
        StepLocation::deserialize(from).map(Arc::new)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_kept_by_earlier_versions_is_read() {
        let kept = r#"{"stand":{"source":"s","place":"route","name":"r","via":"s","position":1,"sentence":"merge repeats within 1 minute by a"},
            "json":"{}","text":null,"events":1,"bytes":2,"count":3,"first":"t0","last":"t1","due_ms":7}"#;
        let state: WindowState = serde_json::from_str(kept).unwrap();
        assert_eq!((state.location.stage, state.location.name.as_str(), state.count, state.size()), (Stage::Route, "r", 3, 6));
        let again: WindowState = serde_json::from_str(&serde_json::to_string(&state).unwrap()).unwrap();
        assert_eq!(again, state);
    }
}
