//! What may stand next in a sentence.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{OutlineSentence, PlanMistake};

/// The beginning of a sentence.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CompleteRequest {
    /// `step`, `condition` or `alert` (what an alert watches).
    pub kind: String,
    /// The sentence up to where something is to follow; its last word may be cut off.
    pub text: String,
    /// The point whose events are asked for fields and values: `source:NAME`, `route:NAME` or `remainder`; without it, none are.
    #[serde(default)]
    pub point: Option<String>,
    /// Most proposals; 50 if left out, at most 200.
    #[serde(default)]
    pub most: Option<usize>,
}

/// What may follow.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CompleteAnswer {
    /// The byte of the text from which on a proposal takes its place.
    pub from: usize,
    /// What may stand there.
    pub proposals: Vec<SentenceProposal>,
    /// What is wrong before that place; then there are no proposals.
    pub mistake: Option<PlanMistake>,
    /// The text as if it were a whole sentence: what it does, or what is wrong with it.
    pub whole: OutlineSentence,
    /// Fields and values are missing, because the sample is looked at for the first time in a while. Asked again a moment later, they are there.
    #[serde(default)]
    pub partial: bool,
}

/// Something that may stand there.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SentenceProposal {
    /// As it is written in the sentence.
    pub text: String,
    /// `word`, `sign`, `field`, `value`, `table`, `recipe`, `source`, `destination` or `pattern`.
    pub sort: String,
    /// In what share of the events it is, 0 to 1, where that is known.
    pub share: Option<f64>,
}
