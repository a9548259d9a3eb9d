//! Destinations: how they are doing, what waits for them, what an operator does to them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How a destination is doing.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum DestinationState {
    /// Nothing was sent to it yet.
    Idle,
    /// It takes what it is sent.
    Healthy,
    /// It takes what it is sent, but its answers take long.
    Slow,
    /// The last try failed.
    Failing,
    /// It holds all it may.
    Full,
    /// An operator holds its events back.
    Paused,
    /// Its worker was stopped, or it left the plan.
    Stopped,
}

/// How a destination is doing, since when and why.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DestinationHealth {
    /// How it is doing.
    pub state: DestinationState,
    /// Since when, in milliseconds since 1970.
    pub since_ms: i64,
    /// Consecutive failed delivery attempts.
    pub failures: u32,
    /// What went wrong last, in the destination's own words.
    pub last_error: Option<String>,
    /// When that was, in milliseconds since 1970.
    pub last_error_ms: Option<i64>,
    /// What was noticed last that is no failure, but that somebody should know.
    #[serde(default)]
    pub noticed: Option<String>,
    /// When that was, in milliseconds since 1970.
    #[serde(default)]
    pub noticed_ms: Option<i64>,
    /// When it is tried again.
    pub next_try_ms: Option<i64>,
    /// When it last took events, in milliseconds since 1970.
    pub last_success_ms: Option<i64>,
    /// Who paused it.
    pub paused_by: Option<String>,
    /// Its last answers.
    pub answers: Answers,
    /// How old events were when it accepted them, in the last hour.
    #[serde(default)]
    pub event_ages: EventAges,
}

/// How long events took from their own time to a destination's acceptance, in the last hour: of some of each body, which stand for the others.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct EventAges {
    /// How many events this is about; 0, if none had a time of its own.
    pub events: u64,
    /// Half of them were no older, in milliseconds; times are told to a fifth.
    pub p50_ms: f64,
    /// Nine in ten were no older, in milliseconds.
    pub p90_ms: f64,
    /// 99 in a hundred were no older, in milliseconds.
    pub p99_ms: f64,
    /// What the plan promises; null, where it promises nothing.
    pub promise: Option<PromiseState>,
}

/// How a destination's promise stands.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PromiseState {
    /// How old events may be when they are accepted, in milliseconds.
    pub within_ms: i64,
    /// The share that is promised to be no older, in percent, such as `99`.
    pub percent: f64,
    /// The share that was older in the last hour, in percent.
    pub late_percent: f64,
    /// How many percent of the events that may be late were late.
    pub used_percent: u64,
}

/// How long a destination's last answers took, and how many of them were good.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Answers {
    /// How many answers this is about, at most 256.
    pub count: usize,
    /// The share that took what was sent, 0 to 1.
    pub good: f64,
    /// Half of them took no longer, in milliseconds.
    pub p50_ms: f64,
    /// Nine in ten took no longer, in milliseconds.
    pub p90_ms: f64,
    /// 99 in a hundred took no longer, in milliseconds.
    pub p99_ms: f64,
}

/// What an operator did to a queue.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Moved {
    /// How many events.
    pub events: i64,
    /// The bytes of these events.
    pub bytes: i64,
}

/// Which quarantined events are sent again: all that destinations refused, those of one destination, or those of some numbers.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ResendRequest {
    /// Only what this destination refused; without, whatever was refused.
    pub destination: Option<String>,
    /// Only these, by the numbers that the quarantine gives them; without, all.
    pub ids: Option<Vec<i64>>,
    /// Steps that are run over each event before those of its destination.
    #[serde(default, rename = "do")]
    pub steps: Vec<String>,
}

/// What was sent again. What became of each event is told under the number of the request.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Resent {
    /// The number of this request.
    pub run: i64,
    /// How many events are queued again.
    pub events: i64,
    /// The bytes of these events.
    pub bytes: i64,
    /// How many events the steps removed.
    pub removed: i64,
    /// What was not sent again, and why.
    pub left: Vec<String>,
}

/// What became of an event that was sent again.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ResentState {
    /// It waits for its destination.
    Waiting,
    /// Its destination took it.
    Delivered,
    /// Its destination refused it again.
    Refused,
    /// A step removed it.
    Removed,
    /// It was discarded.
    Discarded,
    /// Its destination refused some events, this one perhaps among them, and did not say which.
    Unclear,
}

/// An event that was sent again.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ResentEvent {
    /// The number that it had in quarantine.
    pub id: i64,
    /// Its destination.
    pub destination: String,
    /// What became of it.
    pub state: ResentState,
    /// Why it was refused or discarded, or the step that removed it.
    pub detail: String,
    /// The number that it has in quarantine now, if it was refused again.
    pub again: Option<i64>,
}

/// A destination's answers in ten minutes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AnswersThen {
    /// When the ten minutes begin, in milliseconds since 1970.
    pub at_ms: i64,
    /// How many answers said that it was taken.
    pub good: u64,
    /// How many did not, or did not come.
    pub bad: u64,
    /// How long one took on average, in milliseconds.
    pub mean_ms: f64,
    /// How long the longest took, in milliseconds.
    pub longest_ms: f64,
}

/// A destination of a plan that is not applied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProbeRequest {
    /// The plan.
    pub text: String,
    /// The destination's name in it.
    pub destination: String,
}

/// A look at a destination, up to the first step that fails.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Probe {
    /// Whether every step went well.
    pub good: bool,
    /// What was tried, one step after the other, up to the first that failed.
    pub steps: Vec<ProbeStep>,
}

/// One step of a look.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ProbeStep {
    /// `resolve`, `connect`, `secure`, `accept` or `open`; of a source also `files`, `room`, `routes`, `heard`.
    pub step: String,
    /// Whether it went well.
    pub good: bool,
    /// How long it took, in milliseconds.
    pub ms: f64,
    /// What was found, or what is wrong.
    pub says: String,
}
