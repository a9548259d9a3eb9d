//! Drafts of the plan, and what a plan consists of.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{PlanEdit, PlanMistake};

/// A draft of the plan. Each person has one at the most; without one, it is the active plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanDraft {
    /// The revision that it began from.
    pub revision: i64,
    /// The active revision.
    pub active: i64,
    /// How often it was changed; 0 without a draft.
    pub version: i64,
    /// When it was changed last, in milliseconds since 1970; nothing without a draft.
    pub at_ms: Option<i64>,
    /// The document.
    pub text: String,
    /// Drafts of others.
    pub others: Vec<OtherDraft>,
}

/// Somebody else's draft.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OtherDraft {
    /// Whose it is.
    pub who: String,
    /// When they changed it last, in milliseconds since 1970.
    pub at_ms: i64,
    /// The parts that they changed.
    pub parts: Vec<DraftedPart>,
}

/// A part of a plan, as it is in a draft.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DraftedPart {
    /// `source:NAME`, `destination:NAME`, `table:NAME`, `recipe:NAME` or `route:NAME`.
    pub part: String,
    /// It, as it stands in the plan; nothing, if it was removed.
    pub text: Option<String>,
}

/// A change of one's draft.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DraftChange {
    /// The version that is changed: 0 begins a draft from the active plan. If the draft has another meanwhile, nothing is changed.
    pub version: i64,
    /// A document in its place.
    #[serde(default)]
    pub text: Option<String>,
    /// Changes, one after the other.
    #[serde(default)]
    pub edits: Vec<PlanEdit>,
}

/// The draft is to take up what was applied since it began.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DraftRenewal {
    /// The version that is meant.
    pub version: i64,
    /// Where both changed the same lines: `mine` keeps the draft's, `active` takes the active plan's. If it is left out, nothing is changed where there are such lines.
    #[serde(default)]
    pub prefer: Option<String>,
}

/// A part that both a draft and the active plan changed, otherwise.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DraftConflict {
    /// The part.
    pub part: String,
    /// As it is in the draft; nothing, if it was removed there.
    pub mine: Option<String>,
    /// As it is in the active plan.
    pub active: Option<String>,
}

/// A plan to be outlined.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OutlineRequest {
    /// The document; the active plan, if it is left out.
    #[serde(default)]
    pub text: Option<String>,
}

/// What a plan consists of, as it is written, compared with the active one. It may have mistakes.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PlanOutline {
    /// Sources, destinations, tables, recipes and routes, in this order.
    pub parts: Vec<OutlinePart>,
    /// Parts that the active plan has, and this one has not.
    pub removed: Vec<String>,
    /// Why the document cannot be read at all.
    pub unreadable: Option<String>,
}

/// A part of a plan, as it is written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OutlinePart {
    /// `source:NAME`, `destination:NAME`, `table:NAME`, `recipe:NAME` or `route:NAME`.
    pub part: String,
    /// Its kind, such as `http`, where it says one.
    pub kind: Option<String>,
    /// The comment above it.
    pub comment: String,
    /// The condition of a route, an alert or an assignment; nothing, if there is none.
    pub when: Option<OutlineSentence>,
    /// The sources that a route takes events from; none, if it takes them from every source. Of an assignment, what it collects.
    pub from: Vec<String>,
    /// Where a route leads.
    pub to: Vec<String>,
    /// The sentences of its steps.
    pub steps: Vec<OutlineSentence>,
    /// It, as it stands in the plan, without the comment above it.
    pub text: String,
    /// `added` or `changed`, compared with the active plan; nothing, if it is the same there.
    pub change: Option<String>,
}

/// A sentence, and what is to be said of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OutlineSentence {
    /// It, as it is written.
    pub sentence: String,
    /// What it does, in plain words; nothing, if it has a mistake.
    pub says: Option<String>,
    /// What is wrong with it.
    pub mistake: Option<PlanMistake>,
    /// As how many steps it runs: more than one, if it uses a recipe.
    pub runs_as: usize,
}
