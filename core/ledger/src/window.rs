//! What windows of steps hold between batches, in the form in which it is kept.

use serde::{Deserialize, Serialize};

use crate::{Amount, Place};

/// Where in a plan a step stands.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct StepLocation {
    /// The source the events came by.
    pub source: String,
    /// Whether the step is a source's, a route's or a destination's.
    pub place: Place,
    /// Whose.
    pub name: String,
    /// Of a destination: the route by which events come.
    pub via: String,
    /// Which step, from 1.
    pub position: i32,
    /// Its sentence.
    pub sentence: String,
}

/// What one window holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct WindowState {
    /// The step that holds it.
    pub stand: StepLocation,
    /// The first event, as JSON.
    pub json: String,
    /// Of joined lines: their text so far.
    pub text: Option<String>,
    /// The events that are held (of repeats, only the first is).
    pub events: i64,
    /// Their bytes.
    pub bytes: i64,
    /// How many were merged or joined.
    pub count: u64,
    /// The first one's time and the last one's, as written by the sender.
    pub first: String,
    /// See `first`.
    pub last: String,
    /// When it closes, in milliseconds since 1970.
    pub due_ms: i64,
}

impl WindowState {
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
}

/// How a window stands after a batch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WindowChange {
    /// Which window.
    pub id: u128,
    /// What it holds; nothing once it is closed.
    pub held: Option<WindowState>,
}
