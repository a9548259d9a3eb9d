//! The account, its equations, and what could not be read or delivered.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A row of the ledger.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LedgerEntry {
    /// `source`, `route` or `destination`.
    pub place: String,
    /// The name of the source, route or destination.
    pub name: String,
    /// At a route, the source; at a destination, the route; empty where it is not told apart.
    pub via: String,
    /// At a step, its place in its list, from 1; else 0.
    pub position: i32,
    /// At a step, its sentence.
    pub sentence: String,
    /// What was counted.
    pub measure: String,
    /// How many events.
    pub events: i64,
    /// The bytes of these events.
    pub bytes: i64,
    /// Whether the active plan has the step; true where it is of none.
    pub current: bool,
    /// At a step, the last revision that had it; null where it is of none, or older than the last 50 revisions.
    pub last_revision: Option<i64>,
    /// What was queued for a destination costs by the active plan's price for it (what it spilled to another: less than nothing, so that both add up to what is billed), without what is paid by the month: an exact decimal number, such as `12.40`; null elsewhere.
    #[serde(default)]
    pub money: Option<String>,
    /// Its currency, an ISO 4217 code.
    #[serde(default)]
    pub currency: Option<String>,
    /// At a step of a route or destination: what was saved by what it removed and shortened, by the prices of the destinations where that would have gone; less than nothing, if it added
    /// more. An amount for each currency.
    #[serde(default)]
    pub saved: Vec<ExactMoney>,
}

/// An exact amount of money.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ExactMoney {
    /// A decimal number, such as `12.40`.
    pub money: String,
    /// ISO 4217 code.
    pub currency: String,
}

/// What was spent at a destination in a span of time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DestinationCost {
    /// Its name.
    pub destination: String,
    /// What it bills, in words, such as `2.40 EUR a GB and 100.00 EUR a month`.
    pub price: String,
    /// What was queued for it and not spilled to another, in bytes.
    pub bytes: i64,
    /// What was queued for it and not spilled to another, in events.
    pub events: i64,
    /// What that costs: an exact decimal number.
    pub sent: String,
    /// What is paid by the month, for this span: of a month of 30 days; null of a span without a beginning.
    pub standing: Option<String>,
    /// ISO 4217 code.
    pub currency: String,
}

/// One equation of the account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LedgerEquation {
    /// `source`, `route` or `destination`.
    pub place: String,
    /// The name of the source, route or destination.
    pub name: String,
    /// The equation in words.
    pub says: String,
    /// Whether both sides agree, in events and in bytes.
    pub holds: bool,
    /// Events on its left side.
    pub left_events: i64,
    /// Events on its right side.
    pub right_events: i64,
    /// Bytes on its left side.
    pub left_bytes: i64,
    /// Bytes on its right side.
    pub right_bytes: i64,
}

/// What waits for a destination.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LedgerWaiting {
    /// The destination's name.
    pub destination: String,
    /// How many events wait.
    pub events: i64,
    /// The bytes of these events.
    pub bytes: i64,
}

/// What an account is kept for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum LedgerPlace {
    /// A source.
    Source,
    /// A route.
    Route,
    /// A destination.
    Destination,
}

/// The account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LedgerAnswer {
    /// From when, in milliseconds since 1970; none: since the beginning.
    pub since_ms: Option<i64>,
    /// Until when, in milliseconds since 1970; none: until now.
    #[serde(default)]
    pub until_ms: Option<i64>,
    /// Now, by the service's clock, in milliseconds since 1970.
    pub now_ms: i64,
    /// The account's rows.
    pub rows: Vec<LedgerEntry>,
    /// What waits for each destination.
    pub waiting: Vec<LedgerWaiting>,
    /// Whether every equation holds, since the beginning.
    pub balanced: bool,
    /// The equations, and whether they hold.
    pub equations: Vec<LedgerEquation>,
    /// What was spent at each destination with a price, in the plan's order.
    #[serde(default)]
    pub costs: Vec<DestinationCost>,
    /// The tags by which the active plan tells the account apart as well.
    #[serde(default)]
    pub tags: Vec<String>,
    /// What the account cannot tell: where what steps mask is kept unmasked, in sentences.
    #[serde(default)]
    pub caveats: Vec<String>,
}

/// What a share of the account by a tag is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum TagValue {
    /// Events that have this value.
    Value,
    /// Events that do not have the field, or nothing in it.
    Without,
    /// Events of further values, once a tag has had 500, and of values of more than 128 bytes.
    Others,
    /// What was counted while the plan did not tell the account apart by this tag.
    Before,
}

/// What was sent to a destination of the events of one value of a tag.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagSent {
    /// The destination's name.
    pub destination: String,
    /// How many events were queued for it and not spilled to another.
    pub events: i64,
    /// The bytes of these events.
    pub bytes: i64,
    /// What that costs by the active plan's price, without what is paid by the month: an exact decimal number; null where it has no price.
    pub money: Option<String>,
    /// Its currency, an ISO 4217 code.
    pub currency: Option<String>,
}

/// The share of one value of a tag in the account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TagShare {
    /// What it is of.
    pub of: TagValue,
    /// The value; empty where it is not of one value.
    pub value: String,
    /// Events that came through the steps of their sources.
    pub arrived_events: i64,
    /// The bytes of these events.
    pub arrived_bytes: i64,
    /// Events that steps removed, at sources, routes and destinations.
    pub removed_events: i64,
    /// The bytes of these events.
    pub removed_bytes: i64,
    /// What was sent, by destination.
    pub sent: Vec<TagSent>,
    /// What was saved by what steps of routes and destinations removed and shortened; an amount for each currency.
    pub saved: Vec<ExactMoney>,
}

/// The account by the values of a tag.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LedgerByTag {
    /// From when, in milliseconds since 1970; none: since the beginning.
    pub since_ms: Option<i64>,
    /// Until when, in milliseconds since 1970; none: until now.
    pub until_ms: Option<i64>,
    /// Now, by the service's clock, in milliseconds since 1970.
    pub now_ms: i64,
    /// The tag.
    pub tag: String,
    /// The tags by which the active plan tells the account apart.
    pub tags: Vec<String>,
    /// The values in alphabetical order, then what is of no single one.
    pub values: Vec<TagShare>,
}

/// One minute of one account.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LedgerMinute {
    /// When the minute begins, in milliseconds since 1970.
    pub at_ms: i64,
    /// What was counted in that minute.
    pub row: LedgerEntry,
}

/// A record in quarantine.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuarantineEntry {
    /// Its number.
    pub id: i64,
    /// When it came there, in milliseconds since 1970.
    pub at_ms: i64,
    /// `source`: it could not be read. `destination`: it was refused for good.
    pub place: String,
    /// The name of the source or destination.
    pub name: String,
    /// At a destination, the route it came by.
    pub via: String,
    /// Why it could not be read, or was refused.
    pub reason: String,
    /// Its bytes; what is not UTF-8 is replaced.
    pub data: String,
    /// How many bytes it has; `data` holds the first 4096.
    pub size: usize,
}
