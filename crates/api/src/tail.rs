//! Events as they pass a point.

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::ToSchema;

/// An event shown by live tail.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TailEvent {
    /// When it passed, in milliseconds since 1970.
    pub at_ms: i64,
    /// As it came to the point.
    #[schema(value_type = Object)]
    pub before: Box<RawValue>,
    /// As it went on; null if a step removed it or holds it back.
    #[schema(value_type = Option<Object>)]
    pub after: Option<Box<RawValue>>,
    /// The step that removed it.
    pub removed_by: Option<String>,
    /// The sentence of the step that holds it back.
    pub held_by: Option<String>,
}
