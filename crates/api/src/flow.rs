//! What passes through the plan, now and since the beginning.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{DestinationHealth, SourceState, Volume};

/// A count of events and bytes since the beginning, and how fast it moves.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Gauge {
    /// Events since the beginning.
    pub events: i64,
    /// Bytes since the beginning.
    pub bytes: i64,
    /// Events a second, over the last few seconds.
    pub events_per_second: f64,
    /// Bytes a second, over the last few seconds.
    pub bytes_per_second: f64,
}

/// What passes through the plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Flow {
    /// When this was so, in milliseconds since 1970.
    pub now_ms: i64,
    /// The revision that runs; 0 if none was applied yet.
    pub revision: i64,
    /// Over how many seconds rates are taken.
    pub window_seconds: f64,
    /// In the plan's order.
    pub sources: Vec<FlowSource>,
    /// In the plan's order.
    pub routes: Vec<FlowRoute>,
    /// In the plan's order; then those that left the plan while events wait for them.
    pub destinations: Vec<FlowDestination>,
}

/// What passed in the last hour, and in the same hour before.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlowBefore {
    /// When the hour ended, at a whole minute, in milliseconds since 1970.
    pub until_ms: i64,
    /// The sources, routes and destinations of the active plan.
    pub places: Vec<VolumeBefore>,
}

/// What came to a source, was taken by a route or was accepted by a destination within an hour, now and before.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VolumeBefore {
    /// `source:NAME`, `route:NAME` or `destination:NAME`.
    pub point: String,
    /// In the last hour.
    pub now: Volume,
    /// In the same hour yesterday; null if nothing had been counted anywhere before it began.
    pub yesterday: Option<Volume>,
    /// In the same hour a week ago; null likewise.
    pub last_week: Option<Volume>,
}

/// A step and what it did.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlowStep {
    /// Its place in its list, from 1.
    pub position: i32,
    /// Its canonical sentence.
    pub sentence: String,
    /// Events it removed.
    pub removed: Gauge,
    /// Events it changed; bytes are what that saved (below zero: added).
    pub changed: Gauge,
    /// Events it could not do its work on.
    pub failed: Gauge,
    /// Events it holds back now.
    pub held: Gauge,
    /// What may be wrong with it: a field that it should mask and no event has.
    pub caveat: Option<String>,
}

/// A source and what arrives there.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlowSource {
    /// Its name.
    pub name: String,
    /// Its kind, as the plan has it.
    pub kind: String,
    /// Where it listens.
    pub listen: String,
    /// Whether senders must show a key.
    pub keyed: bool,
    /// How it is doing.
    pub state: SourceState,
    /// How it is doing, in a sentence.
    pub says: String,
    /// Records that came.
    pub received: Gauge,
    /// Records that could not be read.
    pub quarantined: Gauge,
    /// Events that came through its steps.
    pub passed: Gauge,
    /// Events that no route took.
    pub remainder: Gauge,
    /// Its `on_arrival` steps.
    pub steps: Vec<FlowStep>,
}

/// A part of a gauge, by where it came from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Share {
    /// A source (at a route) or a route (at a destination).
    pub from: String,
    /// How much.
    pub gauge: Gauge,
}

/// A route and what it does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlowRoute {
    /// Its name.
    pub name: String,
    /// The team that it belongs to, if the plan says one.
    #[serde(default)]
    pub team: Option<String>,
    /// Its condition in canonical form; `remainder`; or empty, if it takes every event.
    pub when: String,
    /// The sources it takes from.
    pub from: Vec<String>,
    /// The destinations that each get a copy.
    pub to: Vec<String>,
    /// Events it took.
    pub taken: Gauge,
    /// The events it took, by the source that they came from.
    pub taken_from: Vec<Share>,
    /// Events that came through its steps.
    pub out: Gauge,
    /// Its `do` steps.
    pub steps: Vec<FlowStep>,
}

/// A destination, what goes there and how it is doing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FlowDestination {
    /// Its name.
    pub name: String,
    /// Its kind, as the plan has it; empty for one that is no longer in the plan.
    pub kind: String,
    /// The file, or the first URL.
    pub target: String,
    /// What its protocol cannot tell of the events that count as delivered, if anything.
    pub caveat: Option<String>,
    /// Whether the running plan has it.
    pub in_plan: bool,
    /// Copies that came to it.
    pub offered: Gauge,
    /// The copies that came to it, by the route that sent them.
    pub offered_from: Vec<Share>,
    /// Events it accepted.
    pub delivered: Gauge,
    /// Events it refused for good.
    pub quarantined: Gauge,
    /// Events that wait for it.
    pub waiting_events: i64,
    /// The bytes of the events that wait.
    pub waiting_bytes: i64,
    /// When the oldest that waits was queued, in milliseconds since 1970; 0 if none waits.
    pub oldest_ms: i64,
    /// How it is doing.
    pub health: DestinationHealth,
    /// What it costs, if the plan gives a price.
    pub cost: Option<Cost>,
    /// Its `always` steps.
    pub steps: Vec<FlowStep>,
}

/// What sending to a destination has cost since midnight UTC.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Cost {
    /// What was sent today costs, since midnight in UTC, without what is paid by the month.
    pub today: f64,
    /// ISO 4217 code.
    pub currency: String,
    /// The price in words, such as `2.40 EUR a GB and 100.00 EUR a month`.
    pub says: String,
}
