//! The service in a few words.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The service in a few words.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// The service's version.
    pub version: String,
    /// Its name among other nodes.
    pub node: String,
    /// When it started, in milliseconds since 1970.
    pub started_ms: i64,
    /// Now, by its clock, in milliseconds since 1970.
    pub now_ms: i64,
    /// The revision that runs; 0 if none was applied yet.
    pub revision: i64,
    /// Whether the ledger balances, since the beginning.
    pub balanced: bool,
    /// Events waiting for delivery.
    pub waiting_events: i64,
    /// The bytes of the events that wait.
    pub waiting_bytes: i64,
    /// Destinations whose last try failed.
    pub failing: Vec<String>,
    /// Alerts that are on and that nobody has acknowledged.
    #[serde(default)]
    pub alerts: Vec<String>,
}
