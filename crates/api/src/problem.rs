//! What is answered when something is refused or fails.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{DraftConflict, PlanMistake};

/// An RFC 9457 problem document.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What sort of problem, as a URN.
    pub r#type: String,
    /// The sort in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong this time.
    pub detail: String,
    /// Mistakes in a plan or a condition, where that is the problem.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mistakes: Vec<PlanMistake>,
    /// Parts that both a draft and the active plan changed, where that is the problem.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub conflicts: Vec<DraftConflict>,
}
