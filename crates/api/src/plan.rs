//! The plan: checked, compared, applied, reverted; its revisions.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{TrialDestination, Volume};

/// A mistake in a plan, at its place.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanMistake {
    /// Its line, from 1.
    pub line: usize,
    /// Its column, in characters from 1.
    pub column: usize,
    /// How many characters it covers.
    pub length: usize,
    /// What is wrong.
    pub message: String,
    /// What could stand there instead, if that can be said.
    pub expected: Option<String>,
    /// The nearest word that would be right.
    pub nearest: Option<String>,
    /// The line it stands on.
    pub excerpt: String,
}

/// The active plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RunningPlan {
    /// Its revision; 0 if none was applied yet.
    pub revision: i64,
    /// The document.
    pub text: String,
}

/// A plan to start from.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FirstPlan {
    /// The document.
    pub text: String,
}

/// A plan to look at.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckRequest {
    /// The document.
    pub text: String,
}

/// What would change, part by part.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanChange {
    /// `source`, `route` or `destination`.
    pub part: String,
    /// The name of what changed.
    pub name: String,
    /// `added`, `removed` or `changed`.
    pub change: String,
    /// What was changed, a sentence each.
    #[serde(default)]
    pub details: Vec<String>,
}

/// What is predicted of a plan, from the samples and from what really flowed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Forecast {
    /// The stretch of real time, in milliseconds, from which a month's volume is estimated; nothing, if too little has flowed.
    pub estimated_from_ms: Option<i64>,
    /// How many events of the samples were tried.
    pub events: u64,
    /// What each destination would get in a month.
    pub destinations: Vec<TrialDestination>,
    /// What is odd about the plan by the events that come, and what they cannot tell, in sentences.
    pub advice: Vec<String>,
}

/// What a destination really got.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionOutcome {
    /// The destination.
    pub name: String,
    /// What was queued for it while the revision was active, in the proportion of a month.
    pub month: Volume,
}

/// What is to be said of a plan, compared with the one that runs.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckAnswer {
    /// Whether it could be applied.
    pub good: bool,
    /// What is wrong; empty for a plan that can be applied.
    pub mistakes: Vec<PlanMistake>,
    /// What is odd but not wrong.
    pub warnings: Vec<PlanMistake>,
    /// Secrets it refers to that are not set.
    pub missing_secrets: Vec<String>,
    /// What else keeps it from being applied: files that plans may not reach, secrets that would be shown to others than they may be, a change that whoever asks may not make.
    #[serde(default)]
    pub refused: Vec<String>,
    /// The revision it was compared with.
    pub revision: i64,
    /// What it would change.
    pub changes: Vec<PlanChange>,
    /// The text's difference from the running plan's, as a unified diff; empty if there is none.
    pub difference: String,
    /// The hosts that would collect something else, by name.
    #[serde(default)]
    pub hosts: Vec<HostChange>,
    /// What is predicted of it; nothing, if it cannot be applied, or whoever asks does not see all events.
    #[serde(default)]
    pub forecast: Option<Forecast>,
}

/// What would change on a host.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HostChange {
    /// The agent's name.
    pub name: String,
    /// Its group.
    pub group: String,
    /// What would change, a sentence each.
    pub changes: Vec<String>,
}

/// A plan to apply.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ApplyRequest {
    /// The document.
    pub text: String,
    /// Why, for the history.
    #[serde(default)]
    pub why: String,
    /// The newest revision the sender has seen; if another was applied meanwhile, this one is not.
    pub expected_revision: Option<i64>,
    /// What it changes on agents' hosts goes to some of them first. To all at once, if left out.
    #[serde(default)]
    pub first: Option<FirstHosts>,
}

/// Which hosts a change goes to first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FirstHosts {
    /// A share of those that change, as in `5%`, or a condition on their facts.
    pub hosts: String,
    /// For how many seconds they have to be well before it goes on to all; at most a week. If one is not, it goes back.
    pub well_for_s: i64,
}

/// What a revert may say.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RevertRequest {
    /// Why, for the history.
    #[serde(default)]
    pub why: String,
    /// The newest revision the sender has seen; if another was applied meanwhile, nothing is reverted.
    #[serde(default)]
    pub expected_revision: Option<i64>,
}

/// A plan was applied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Applied {
    /// The new revision's number.
    pub revision: i64,
}

/// A revision in the history.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionEntry {
    /// Its number.
    pub number: i64,
    /// When it was applied, in milliseconds since 1970.
    pub at_ms: i64,
    /// Who applied it.
    pub who: String,
    /// Why, in their words.
    pub why: String,
    /// Whether it is the one that runs.
    pub running: bool,
    /// Lines added since the one before.
    pub lines_added: usize,
    /// Lines removed since the one before.
    pub lines_removed: usize,
}

/// A revision, whole.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RevisionDetail {
    /// Its number.
    pub number: i64,
    /// When it was applied, in milliseconds since 1970.
    pub at_ms: i64,
    /// Who applied it.
    pub who: String,
    /// Why, in their words.
    pub why: String,
    /// The document.
    pub text: String,
    /// Its difference from the one before, or from the one that was asked for, as a unified diff.
    pub difference: String,
    /// What was predicted of it when it was applied, against the revision before.
    #[serde(default)]
    pub forecast: Option<Forecast>,
    /// What each destination really got while it was active.
    #[serde(default)]
    pub outcome: Vec<RevisionOutcome>,
    /// For how long that is told, in milliseconds of whole minutes; nothing, if it was not active for one.
    #[serde(default)]
    pub outcome_of_ms: Option<i64>,
}
