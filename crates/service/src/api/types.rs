//! What the API says, as types: serialised here, read by the client, described in the OpenAPI document, from which the console's types are made.

use rockrose_delivery as delivery;
use rockrose_ledger as core_ledger;
use rockrose_plan::Report;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::ToSchema;

/// An RFC 9457 problem document.
#[derive(Serialize, ToSchema)]
pub(crate) struct Problem {
    /// What sort of problem, as a URN.
    pub(crate) r#type: String,
    /// The sort in words.
    pub(crate) title: String,
    /// The HTTP status.
    pub(crate) status: u16,
    /// What is wrong this time.
    pub(crate) detail: String,
}

/// The service in a few words.
#[derive(Serialize, ToSchema)]
pub(crate) struct Status {
    /// The service's version.
    pub(crate) version: String,
    /// Its name among other nodes.
    pub(crate) node: String,
    /// When it started, in milliseconds since 1970.
    pub(crate) started_ms: i64,
    /// Now, by its clock, in milliseconds since 1970.
    pub(crate) now_ms: i64,
    /// The revision that runs; 0 if none was applied yet.
    pub(crate) revision: i64,
    /// Whether the ledger balances, since the beginning.
    pub(crate) balanced: bool,
    /// Events waiting for delivery.
    pub(crate) waiting_events: i64,
    /// Their bytes.
    pub(crate) waiting_bytes: i64,
    /// Destinations whose last try failed.
    pub(crate) failing: Vec<String>,
}

/// A count of events and bytes since the beginning, and how fast it moves.
#[derive(Clone, Copy, Default, Serialize, ToSchema)]
pub(crate) struct Gauge {
    /// Events since the beginning.
    pub(crate) events: i64,
    /// Bytes since the beginning.
    pub(crate) bytes: i64,
    /// Events a second, over the last few seconds.
    pub(crate) events_per_second: f64,
    /// Bytes a second, over the last few seconds.
    pub(crate) bytes_per_second: f64,
}

/// What passes through the plan.
#[derive(Serialize, ToSchema)]
pub(crate) struct Flow {
    /// When this was so, in milliseconds since 1970.
    pub(crate) now_ms: i64,
    /// The revision that runs; 0 if none was applied yet.
    pub(crate) revision: i64,
    /// Over how many seconds rates are taken.
    pub(crate) window_seconds: f64,
    /// In the plan's order.
    pub(crate) sources: Vec<FlowSource>,
    /// In the plan's order.
    pub(crate) routes: Vec<FlowRoute>,
    /// In the plan's order; then those that left the plan while events wait for them.
    pub(crate) destinations: Vec<FlowDestination>,
}

/// A step and what it did.
#[derive(Serialize, ToSchema)]
pub(crate) struct FlowStep {
    /// Its place in its list, from 1.
    pub(crate) position: i32,
    /// Its canonical sentence.
    pub(crate) sentence: String,
    /// Events it removed.
    pub(crate) removed: Gauge,
    /// Events it changed; bytes are what that saved (below zero: added).
    pub(crate) changed: Gauge,
    /// Events it could not do its work on.
    pub(crate) failed: Gauge,
    /// Events it holds back now.
    pub(crate) held: Gauge,
}

/// A source and what arrives there.
#[derive(Serialize, ToSchema)]
pub(crate) struct FlowSource {
    pub(crate) name: String,
    pub(crate) kind: String,
    /// Where it listens.
    pub(crate) listen: String,
    /// Whether senders must show a key.
    pub(crate) keyed: bool,
    pub(crate) state: SourceState,
    /// The same in a sentence.
    pub(crate) says: String,
    /// Records that came.
    pub(crate) received: Gauge,
    /// Records that could not be read.
    pub(crate) quarantined: Gauge,
    /// Events that came through its steps.
    pub(crate) passed: Gauge,
    /// Events that no route took.
    pub(crate) remainder: Gauge,
    pub(crate) steps: Vec<FlowStep>,
}

/// How a source is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum SourceState {
    /// Nothing came since it began to listen.
    Unheard,
    /// Events came within the last minutes.
    Flowing,
    /// It was heard before, but not lately.
    Quiet,
    /// What came last was no event.
    Troubled,
    /// An operator has paused it.
    Paused,
}

/// A source: what it has heard, and what is wrong with its senders.
#[derive(Serialize, ToSchema)]
pub(crate) struct Source {
    pub(crate) name: String,
    pub(crate) kind: String,
    /// Where it listens, or the patterns of its files.
    pub(crate) listen: String,
    /// Whether senders must show a key.
    pub(crate) keyed: bool,
    /// Whether its connections are made over TLS.
    pub(crate) safe: bool,
    pub(crate) state: SourceState,
    /// The same in a sentence.
    pub(crate) says: String,
    /// Events that came since it began to listen.
    pub(crate) events: u64,
    /// When the last came, in milliseconds since 1970.
    pub(crate) last_event_ms: Option<i64>,
    /// The address it came from.
    pub(crate) last_from: Option<String>,
    /// Connections that are open.
    pub(crate) connections: usize,
    /// Records that came, by the ledger.
    pub(crate) received: Gauge,
    /// Records that could not be read, by the ledger.
    pub(crate) unreadable: Gauge,
    /// How old events are when they come, once there were some that tell their time.
    pub(crate) freshness: Option<Freshness>,
    /// Who paused it, if it is paused.
    pub(crate) paused_by: Option<String>,
    /// Its files, those in trouble first, at the most 1000.
    pub(crate) files: Vec<SourceFile>,
    /// How many files there are.
    pub(crate) file_count: usize,
    /// What went wrong, the latest first.
    pub(crate) troubles: Vec<Trouble>,
    /// What to paste to send to it.
    pub(crate) send: Vec<SendLine>,
}

/// Something that went wrong between a source and its senders.
#[derive(Serialize, ToSchema)]
pub(crate) struct Trouble {
    /// What, in a word.
    pub(crate) what: String,
    /// In a sentence.
    pub(crate) says: String,
    /// What helps.
    pub(crate) remedy: String,
    /// The address it came from last.
    pub(crate) from: Option<String>,
    /// How often since the source began to listen.
    pub(crate) times: u64,
    /// When last, in milliseconds since 1970.
    pub(crate) last_ms: i64,
}

/// How old a source's events are when they come, in milliseconds; negative where they say that they are yet to happen.
#[derive(Serialize, ToSchema)]
pub(crate) struct Freshness {
    /// Half of them are no older.
    pub(crate) half_ms: i64,
    /// Nine in ten are no older.
    pub(crate) most_ms: i64,
    /// Ninety-nine in a hundred are no older.
    pub(crate) nearly_all_ms: i64,
}

/// A file of a source, or a pattern under which nothing stands.
#[derive(Serialize, ToSchema)]
pub(crate) struct SourceFile {
    pub(crate) path: String,
    /// `current`, `behind`, `copy`, `denied`, `binary`, `damaged`, `gone`, `odd`, `missing` or `too many`.
    pub(crate) state: String,
    pub(crate) says: String,
    /// Its size in bytes, packed if it is.
    pub(crate) size: u64,
    /// Bytes that are read of it, unpacked.
    pub(crate) offset: u64,
}

/// Files to look into.
#[derive(Deserialize, ToSchema)]
pub(crate) struct LookRequest {
    /// Patterns of them.
    pub(crate) paths: Vec<String>,
    /// Patterns of those among them that are left out.
    #[serde(default)]
    pub(crate) but_not: Vec<String>,
    /// What the source is to be called. `files`, if left out.
    #[serde(default)]
    pub(crate) name: Option<String>,
}

/// What was found in files.
#[derive(Serialize, ToSchema)]
pub(crate) struct LookedInto {
    /// The files, and what cannot be read, at the most 1000.
    pub(crate) files: Vec<SourceFile>,
    pub(crate) file_count: usize,
    /// The file that was looked into: the one that was written last and can be read.
    pub(crate) path: Option<String>,
    /// Its first lines.
    pub(crate) lines: Vec<String>,
    pub(crate) recognised: Option<Recognised>,
    /// What to add to a plan to read them so.
    pub(crate) plan: Option<String>,
}

/// What lines were recognised as.
#[derive(Serialize, ToSchema)]
pub(crate) struct Recognised {
    /// In words.
    pub(crate) says: String,
    /// The kits that read them.
    pub(crate) kits: Vec<String>,
    /// Steps for the source's `on_arrival`.
    pub(crate) steps: Vec<String>,
    /// The share of the lines that is so, from 0 to 1.
    pub(crate) share: f64,
    /// The share of the events whose time can be read then, from 0 to 1.
    pub(crate) timed: f64,
    /// The first event's time, as it is read.
    pub(crate) time: Option<String>,
    /// The first events, as they would be read.
    #[schema(value_type = Vec<Object>)]
    pub(crate) events: Vec<Box<RawValue>>,
}

/// A kit.
#[derive(Serialize, ToSchema)]
pub(crate) struct KitShown {
    pub(crate) name: String,
    pub(crate) says: String,
    pub(crate) steps: Vec<String>,
    /// Its recipe and its tables, to be added to a plan.
    pub(crate) plan: String,
}

/// A record as it came to a source, and what was made of it.
#[derive(Serialize, ToSchema)]
pub(crate) struct CaughtRecord {
    pub(crate) at_ms: i64,
    /// Its bytes as they came; what is not UTF-8 is replaced.
    pub(crate) raw: String,
    /// As it was read; null if it could not be.
    #[schema(value_type = Option<Object>)]
    pub(crate) read: Option<Box<RawValue>>,
    /// Why it could not be read.
    pub(crate) unreadable: Option<String>,
    /// As it went on; null if a step removed it or holds it back.
    #[schema(value_type = Option<Object>)]
    pub(crate) after: Option<Box<RawValue>>,
    /// The sentence of that step.
    pub(crate) stopped_by: Option<String>,
}

/// A source's new key. It is shown this once.
#[derive(Serialize, ToSchema)]
pub(crate) struct SourceKey {
    pub(crate) key: String,
    /// Where to post to with it, over HTTP.
    pub(crate) url: Option<String>,
}

/// A line to paste.
#[derive(Serialize, ToSchema)]
pub(crate) struct SendLine {
    /// With what.
    pub(crate) with: String,
    /// The line. `KEY` and `HOST` stand for what only the operator knows.
    pub(crate) line: String,
}

/// A part of a gauge, by where it came from.
#[derive(Serialize, ToSchema)]
pub(crate) struct Share {
    /// A source (at a route) or a route (at a destination).
    pub(crate) from: String,
    pub(crate) gauge: Gauge,
}

/// A route and what it does.
#[derive(Serialize, ToSchema)]
pub(crate) struct FlowRoute {
    pub(crate) name: String,
    /// Its condition in canonical form; `remainder`; or empty, if it takes every event.
    pub(crate) when: String,
    /// The sources it takes from.
    pub(crate) from: Vec<String>,
    /// The destinations that each get a copy.
    pub(crate) to: Vec<String>,
    /// Events it took.
    pub(crate) taken: Gauge,
    /// The same, by source.
    pub(crate) taken_from: Vec<Share>,
    /// Events that came through its steps.
    pub(crate) out: Gauge,
    pub(crate) steps: Vec<FlowStep>,
}

/// How a destination is doing.
#[derive(Clone, Copy, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum DestinationState {
    /// Nothing was sent yet.
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
#[derive(Serialize, ToSchema)]
pub(crate) struct DestinationHealth {
    pub(crate) state: DestinationState,
    /// Since when, in milliseconds since 1970.
    pub(crate) since_ms: i64,
    /// Tries that failed in a row.
    pub(crate) failures: u32,
    /// What went wrong last, in the destination's own words.
    pub(crate) last_error: Option<String>,
    pub(crate) last_error_ms: Option<i64>,
    /// When it is tried again.
    pub(crate) next_try_ms: Option<i64>,
    pub(crate) last_success_ms: Option<i64>,
    /// Who paused it.
    pub(crate) paused_by: Option<String>,
    /// Its last answers.
    pub(crate) answers: Answers,
}

/// How long a destination's last answers took, and how many of them were good.
#[derive(Default, Serialize, ToSchema)]
pub(crate) struct Answers {
    /// How many answers this is about, at most 256.
    pub(crate) count: usize,
    /// The share that took what was sent, 0 to 1.
    pub(crate) good: f64,
    /// Half of them took no longer, in milliseconds.
    pub(crate) p50_ms: f64,
    /// Nine in ten took no longer, in milliseconds.
    pub(crate) p90_ms: f64,
    /// 99 in a hundred took no longer, in milliseconds.
    pub(crate) p99_ms: f64,
}

/// What an operator did to a queue.
#[derive(Serialize, ToSchema)]
pub(crate) struct Moved {
    pub(crate) events: i64,
    pub(crate) bytes: i64,
}

/// Which quarantined events are queued again: all that destinations refused, those of one destination, or those of some numbers.
#[derive(Deserialize, ToSchema)]
pub(crate) struct ResendRequest {
    pub(crate) destination: Option<String>,
    pub(crate) ids: Option<Vec<i64>>,
}

/// An event, and where it comes.
#[derive(Deserialize, ToSchema)]
pub(crate) struct WhyRequest {
    /// The source.
    pub(crate) source: String,
    /// The event as a sender would send it: a JSON object, or a line of text.
    pub(crate) event: String,
}

/// Why an event goes where it goes.
#[derive(Serialize, ToSchema)]
pub(crate) struct Why {
    pub(crate) source: String,
    /// Why it cannot be read, if it cannot.
    pub(crate) unreadable: Option<String>,
    /// Through its source's steps.
    pub(crate) arrival: Passage,
    /// Each route, in the plan's order.
    pub(crate) routes: Vec<RouteDecision>,
    /// No route takes it but those of the remainder.
    pub(crate) remainder: bool,
}

/// An event through a list of steps.
#[derive(Serialize, ToSchema)]
pub(crate) struct Passage {
    pub(crate) steps: Vec<PassageStep>,
    /// The event behind the last step; nothing, if one removed it or holds it back.
    pub(crate) after: Option<String>,
}

/// What a step does to an event.
#[derive(Serialize, ToSchema)]
pub(crate) struct PassageStep {
    pub(crate) sentence: String,
    /// `nothing`, `changed`, `failed`, `removed`, `held` or `not reached`.
    pub(crate) effect: String,
}

/// What a route does with an event.
#[derive(Serialize, ToSchema)]
pub(crate) struct RouteDecision {
    pub(crate) name: String,
    pub(crate) taken: bool,
    /// Why not, where its condition is not what decides.
    pub(crate) because: Option<String>,
    /// The parts of its condition that decide.
    pub(crate) parts: Vec<Decision>,
    pub(crate) passage: Passage,
    pub(crate) destinations: Vec<SentTo>,
}

/// A part of a condition.
#[derive(Serialize, ToSchema)]
pub(crate) struct Decision {
    pub(crate) sentence: String,
    pub(crate) holds: bool,
    /// The fields it asks, as they stand in the event.
    pub(crate) seen: Vec<Seen>,
}

/// A field as it stands in an event.
#[derive(Serialize, ToSchema)]
pub(crate) struct Seen {
    pub(crate) field: String,
    /// Its value in JSON; nothing, if it is not there.
    pub(crate) value: Option<String>,
}

/// A destination that an event is sent to.
#[derive(Serialize, ToSchema)]
pub(crate) struct SentTo {
    pub(crate) name: String,
    /// Whether it comes that far.
    pub(crate) sent: bool,
    /// What becomes of it there, as the destination is doing now; nothing, if it does not come so far.
    pub(crate) fate: Option<String>,
    /// What is always done there.
    pub(crate) passage: Passage,
}

/// A look at a destination, up to the first step that fails.
#[derive(Serialize, ToSchema)]
pub(crate) struct Probe {
    /// Whether every step went well.
    pub(crate) good: bool,
    pub(crate) steps: Vec<ProbeStep>,
}

/// One step of a look.
#[derive(Serialize, ToSchema)]
pub(crate) struct ProbeStep {
    /// `resolve`, `connect`, `secure`, `accept` or `open`; of a source also `files`, `room`, `routes`, `heard`.
    pub(crate) step: String,
    pub(crate) good: bool,
    /// How long it took, in milliseconds.
    pub(crate) ms: f64,
    /// What was found, or what is wrong.
    pub(crate) says: String,
}

impl From<delivery::Health> for DestinationHealth {
    fn from(h: delivery::Health) -> Self {
        let state = match h.state {
            delivery::State::Idle => DestinationState::Idle,
            delivery::State::Healthy => DestinationState::Healthy,
            delivery::State::Slow => DestinationState::Slow,
            delivery::State::Failing => DestinationState::Failing,
            delivery::State::Paused => DestinationState::Paused,
            delivery::State::Stopped => DestinationState::Stopped,
        };
        DestinationHealth {
            state,
            since_ms: h.since_ms,
            failures: h.failures,
            last_error: h.last_error,
            last_error_ms: h.last_error_ms,
            next_try_ms: h.next_try_ms,
            last_success_ms: h.last_success_ms,
            paused_by: None,
            answers: Answers { count: h.answers.count, good: h.answers.good, p50_ms: h.answers.p50_ms, p90_ms: h.answers.p90_ms, p99_ms: h.answers.p99_ms },
        }
    }
}

/// What sending to a destination has cost since midnight UTC.
#[derive(Serialize, ToSchema)]
pub(crate) struct Cost {
    pub(crate) today: f64,
    /// ISO 4217 code.
    pub(crate) currency: String,
    pub(crate) per_gb: f64,
}

/// A destination, what goes there and how it is doing.
#[derive(Serialize, ToSchema)]
pub(crate) struct FlowDestination {
    pub(crate) name: String,
    pub(crate) kind: String,
    /// The file, or the first URL.
    pub(crate) target: String,
    /// Whether the running plan has it.
    pub(crate) in_plan: bool,
    /// Copies that came to it.
    pub(crate) offered: Gauge,
    /// The same, by route.
    pub(crate) offered_from: Vec<Share>,
    /// Events it accepted.
    pub(crate) delivered: Gauge,
    /// Events it refused for good.
    pub(crate) quarantined: Gauge,
    pub(crate) waiting_events: i64,
    pub(crate) waiting_bytes: i64,
    /// When the oldest that waits was queued, in milliseconds since 1970; 0 if none waits.
    pub(crate) oldest_ms: i64,
    pub(crate) health: DestinationHealth,
    pub(crate) cost: Option<Cost>,
    pub(crate) steps: Vec<FlowStep>,
}

/// A mistake in a plan, at its place.
#[derive(Serialize, ToSchema)]
pub(crate) struct PlanMistake {
    pub(crate) line: usize,
    pub(crate) column: usize,
    /// How many characters it covers.
    pub(crate) length: usize,
    pub(crate) message: String,
    pub(crate) expected: Option<String>,
    /// The nearest word that would be right.
    pub(crate) nearest: Option<String>,
    /// The line it stands on.
    pub(crate) excerpt: String,
}

impl From<Report> for PlanMistake {
    fn from(r: Report) -> Self {
        PlanMistake { line: r.line, column: r.column, length: r.length, message: r.message, expected: r.expected, nearest: r.nearest, excerpt: r.excerpt }
    }
}

/// The plan that runs.
#[derive(Serialize, ToSchema)]
pub(crate) struct RunningPlan {
    /// Its revision; 0 if none was applied yet.
    pub(crate) revision: i64,
    pub(crate) text: String,
}

/// A plan to look at.
#[derive(Deserialize, ToSchema)]
pub(crate) struct CheckRequest {
    pub(crate) text: String,
}

/// What would change, part by part.
#[derive(Serialize, ToSchema)]
pub(crate) struct PlanChange {
    /// `source`, `route` or `destination`.
    pub(crate) part: String,
    pub(crate) name: String,
    /// `added`, `removed` or `changed`.
    pub(crate) change: String,
}

/// What is to be said of a plan, compared with the one that runs.
#[derive(Serialize, ToSchema)]
pub(crate) struct CheckAnswer {
    /// Whether it could be applied.
    pub(crate) good: bool,
    pub(crate) mistakes: Vec<PlanMistake>,
    /// What is odd but not wrong.
    pub(crate) warnings: Vec<PlanMistake>,
    /// Secrets it refers to that are not set.
    pub(crate) missing_secrets: Vec<String>,
    /// The revision it was compared with.
    pub(crate) revision: i64,
    pub(crate) changes: Vec<PlanChange>,
    /// The text's difference from the running plan's, as a unified diff; empty if there is none.
    pub(crate) difference: String,
}

/// A plan to apply.
#[derive(Deserialize, ToSchema)]
pub(crate) struct ApplyRequest {
    pub(crate) text: String,
    /// Why, for the history.
    #[serde(default)]
    pub(crate) why: String,
    /// The newest revision the sender has seen; if another was applied meanwhile, this one is not.
    pub(crate) expected_revision: Option<i64>,
}

/// What a revert may say.
#[derive(Deserialize, Default, ToSchema)]
pub(crate) struct RevertRequest {
    /// Why, for the history.
    #[serde(default)]
    pub(crate) why: String,
}

/// A plan was applied.
#[derive(Serialize, ToSchema)]
pub(crate) struct Applied {
    pub(crate) revision: i64,
}

/// A revision in the history.
#[derive(Serialize, ToSchema)]
pub(crate) struct RevisionEntry {
    pub(crate) number: i64,
    pub(crate) at_ms: i64,
    pub(crate) who: String,
    pub(crate) why: String,
    /// Whether it is the one that runs.
    pub(crate) running: bool,
    /// Lines added since the one before.
    pub(crate) lines_added: usize,
    /// Lines removed since the one before.
    pub(crate) lines_removed: usize,
}

/// A revision, whole.
#[derive(Serialize, ToSchema)]
pub(crate) struct RevisionDetail {
    pub(crate) number: i64,
    pub(crate) at_ms: i64,
    pub(crate) who: String,
    pub(crate) why: String,
    pub(crate) text: String,
    /// Its difference from the one before, as a unified diff.
    pub(crate) difference: String,
}

/// A row of the ledger.
#[derive(Serialize, ToSchema)]
pub(crate) struct LedgerEntry {
    /// `source`, `route` or `destination`.
    pub(crate) place: String,
    pub(crate) name: String,
    /// At a route, the source; at a destination, the route; empty where it is not told apart.
    pub(crate) via: String,
    /// At a step, its place in its list, from 1; else 0.
    pub(crate) position: i32,
    /// At a step, its sentence.
    pub(crate) sentence: String,
    pub(crate) measure: String,
    pub(crate) events: i64,
    pub(crate) bytes: i64,
}

impl LedgerEntry {
    pub(crate) fn new(account: core_ledger::Account, amount: core_ledger::Amount) -> LedgerEntry {
        LedgerEntry {
            place: account.stage.word().to_owned(),
            name: account.name,
            via: account.via,
            position: account.position,
            sentence: account.sentence,
            measure: account.measure.word().to_owned(),
            events: amount.events,
            bytes: amount.bytes,
        }
    }
}

/// One equation of the account.
#[derive(Serialize, ToSchema)]
pub(crate) struct LedgerEquation {
    pub(crate) place: String,
    pub(crate) name: String,
    /// The equation in words.
    pub(crate) says: String,
    pub(crate) holds: bool,
    pub(crate) left_events: i64,
    pub(crate) right_events: i64,
    pub(crate) left_bytes: i64,
    pub(crate) right_bytes: i64,
}

/// What waits for a destination.
#[derive(Serialize, ToSchema)]
pub(crate) struct LedgerWaiting {
    pub(crate) destination: String,
    pub(crate) events: i64,
    pub(crate) bytes: i64,
}

/// The account.
#[derive(Serialize, ToSchema)]
pub(crate) struct LedgerAnswer {
    /// From when, in milliseconds since 1970; none: since the beginning.
    pub(crate) since_ms: Option<i64>,
    pub(crate) now_ms: i64,
    pub(crate) rows: Vec<LedgerEntry>,
    pub(crate) waiting: Vec<LedgerWaiting>,
    /// Whether every equation holds, since the beginning.
    pub(crate) balanced: bool,
    pub(crate) equations: Vec<LedgerEquation>,
}

/// One minute of one account.
#[derive(Serialize, ToSchema)]
pub(crate) struct LedgerMinute {
    /// When the minute begins, in milliseconds since 1970.
    pub(crate) at_ms: i64,
    pub(crate) row: LedgerEntry,
}

/// A record in quarantine.
#[derive(Serialize, ToSchema)]
pub(crate) struct QuarantineEntry {
    pub(crate) id: i64,
    pub(crate) at_ms: i64,
    /// `source`: it could not be read. `destination`: it was refused for good.
    pub(crate) place: String,
    pub(crate) name: String,
    /// At a destination, the route it came by.
    pub(crate) via: String,
    pub(crate) reason: String,
    /// Its bytes; what is not UTF-8 is replaced.
    pub(crate) data: String,
    /// How many bytes it has; `data` holds the first 4096.
    pub(crate) size: usize,
}

/// An event shown by live tail.
#[derive(Serialize, ToSchema)]
pub(crate) struct TailEvent {
    pub(crate) at_ms: i64,
    /// As it came to the point.
    #[schema(value_type = Object)]
    pub(crate) before: Box<RawValue>,
    /// As it went on; null if a step removed it or holds it back.
    #[schema(value_type = Option<Object>)]
    pub(crate) after: Option<Box<RawValue>>,
    /// The step that removed it.
    pub(crate) removed_by: Option<String>,
    /// The sentence of the step that holds it back.
    pub(crate) held_by: Option<String>,
}

/// A kept secret; never its value.
#[derive(Serialize, ToSchema)]
pub(crate) struct SecretName {
    pub(crate) name: String,
    pub(crate) set_ms: i64,
    /// Whether the running plan refers to it.
    pub(crate) used: bool,
}

/// A secret to keep.
#[derive(Deserialize, ToSchema)]
pub(crate) struct SecretValue {
    pub(crate) value: String,
}

/// A link that signs a browser in, once.
#[derive(Serialize, ToSchema)]
pub(crate) struct SignInLink {
    pub(crate) url: String,
}
