//! Alerts: what is watched, how it stands, and what was told.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The alerts of the active plan, and what was told of alerts lately.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertsAnswer {
    /// When this was so, in milliseconds since 1970.
    pub now_ms: i64,
    /// In the plan's order.
    pub alerts: Vec<AlertState>,
    /// The newest notices, newest first.
    pub notices: Vec<AlertNotice>,
    /// The sources of kind `alerts`, by which notices come as events. None: nobody is told.
    pub sources: Vec<String>,
}

/// An alert, and how it stands.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertState {
    /// Its name.
    pub name: String,
    /// What it watches.
    pub when: String,
    /// For so many milliseconds it must be so before it is told.
    pub lasting_ms: i64,
    /// What ends it; null: that it is not so any more.
    pub until: Option<String>,
    /// `info`, `warn`, `error` or `fatal`.
    pub severity: String,
    /// What to do about it.
    pub advice: Option<String>,
    /// Where it stands.
    pub phase: AlertPhase,
    /// Since when, in milliseconds since 1970; null, if it was not looked at yet.
    pub since_ms: Option<i64>,
    /// What was measured last, in words; null, if nothing could be said yet.
    pub says: Option<String>,
    /// Who has seen that it is on.
    pub acknowledged_by: Option<String>,
    /// Nobody is told of it for a while.
    pub silence: Option<AlertSilence>,
}

/// Where an alert stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum AlertPhase {
    /// What it watches is as it should be.
    Quiet,
    /// It is not, but has not been for long enough.
    Rising,
    /// It is on.
    On,
}

/// That nobody is told of an alert for a while.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertSilence {
    /// Until when, in milliseconds since 1970.
    pub until_ms: i64,
    /// Who said so.
    pub who: String,
}

/// For how long nobody is to be told of an alert.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewSilence {
    /// For so many minutes from now, at most 30 days.
    #[schema(minimum = 1, maximum = 43200)]
    pub minutes: i64,
}

/// What was told of an alert.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertNotice {
    /// Its number.
    pub number: i64,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// The alert.
    pub alert: String,
    /// `began`, `again` or `over`.
    pub turn: String,
    /// How grave it is.
    pub severity: String,
    /// What was measured, in words.
    pub says: String,
}

/// An alert that is to be tried on the past.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertTrial {
    /// What it would watch: volumes, which the ledger keeps by the minute.
    pub when: String,
    /// What would end it.
    #[serde(default)]
    pub until: Option<String>,
    /// For so many milliseconds it must be so.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 604800000)]
    pub lasting_ms: i64,
    /// How many minutes back it is tried, at most 7 days.
    #[schema(minimum = 1, maximum = 10080)]
    pub minutes: i64,
}

/// When an alert would have been on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertPast {
    /// From when on it was tried, in milliseconds since 1970.
    pub from_ms: i64,
    /// Until when.
    pub to_ms: i64,
    /// When the ledger begins, if that is later than what was looked at, in milliseconds since 1970.
    pub begins_ms: Option<i64>,
    /// When it would have been on, oldest first.
    pub stretches: Vec<AlertStretch>,
}

/// A time for which an alert would have been on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlertStretch {
    /// From when, in milliseconds since 1970.
    pub from_ms: i64,
    /// Until when; null, if it still would be.
    pub until_ms: Option<i64>,
    /// What was measured when it began, in words.
    pub says: String,
}
