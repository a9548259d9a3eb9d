//! The plan: checked, compared, applied, reverted; its revisions.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
}

/// What a revert may say.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RevertRequest {
    /// Why, for the history.
    #[serde(default)]
    pub why: String,
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
    /// Its difference from the one before, as a unified diff.
    pub difference: String,
}
