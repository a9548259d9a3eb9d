//! Why an event goes where it goes.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::QuarantineEntry;

/// An event, and where it comes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WhyRequest {
    /// The source.
    pub source: String,
    /// The event as a sender would send it: a JSON object, or a line of text.
    pub event: String,
}

/// Why an event goes where it goes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Why {
    /// The source that it would come by.
    pub source: String,
    /// Why it cannot be read, if it cannot.
    pub unreadable: Option<String>,
    /// Through its source's steps.
    pub arrival: Passage,
    /// Each route, in the plan's order.
    pub routes: Vec<RouteDecision>,
    /// No route takes it but those of the remainder.
    pub remainder: bool,
}

/// An event through a list of steps.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Passage {
    /// What each step does.
    pub steps: Vec<PassageStep>,
    /// The event behind the last step; nothing, if one removed it or holds it back.
    pub after: Option<String>,
}

/// What a step does to an event.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PassageStep {
    /// Its sentence.
    pub sentence: String,
    /// `nothing`, `changed`, `failed`, `removed`, `held` or `not reached`.
    pub effect: String,
}

/// What a route does with an event.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RouteDecision {
    /// The route's name.
    pub name: String,
    /// Whether it takes the event.
    pub taken: bool,
    /// Why not, where its condition is not what decides.
    pub because: Option<String>,
    /// The parts of its condition that decide.
    pub parts: Vec<Decision>,
    /// What its steps do.
    pub passage: Passage,
    /// Where it sends the event, and what is always done there.
    pub destinations: Vec<SentTo>,
}

/// A part of a condition.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Decision {
    /// The part of the condition, as a sentence.
    pub sentence: String,
    /// Whether it holds.
    pub holds: bool,
    /// The fields it asks, as they stand in the event.
    pub seen: Vec<Seen>,
}

/// A field as it stands in an event.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Seen {
    /// The field's path.
    pub field: String,
    /// Its value in JSON; nothing, if it is not there.
    pub value: Option<String>,
}

/// A destination that an event is sent to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SentTo {
    /// The destination's name.
    pub name: String,
    /// Whether it comes that far.
    pub sent: bool,
    /// What becomes of it there, as the destination is doing now; nothing, if it does not come so far.
    pub fate: Option<String>,
    /// What is always done there.
    pub passage: Passage,
}

/// Why a record is in quarantine, and what the active plan would do with it now.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuarantineWhy {
    /// The record.
    pub record: QuarantineEntry,
    /// Of one that a source could not read: what the plan would do with it.
    pub at_source: Option<Why>,
    /// Of an event that a destination refused: how it stood before the destination's steps.
    pub earlier: Option<String>,
    /// What the destination's steps would make of it now.
    pub at_destination: Option<SentTo>,
}
