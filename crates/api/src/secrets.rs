//! Secrets, of which only names are ever answered.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A kept secret; never its value.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct SecretName {
    /// Its name.
    pub name: String,
    /// When it was last set, in milliseconds since 1970.
    pub set_ms: i64,
    /// Whether the running plan refers to it.
    pub used: bool,
    /// To whom it may be shown: hosts, `source:NAME`, or `anywhere`.
    pub shown_to: Vec<String>,
}

/// A secret to keep.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct SecretValue {
    /// The value: 1 to 4096 bytes without control characters. It is never answered.
    #[schema(min_length = 1, max_length = 4096, pattern = "^[^\\x00-\\x1f\\x7f-\\x9f]*$")]
    pub value: String,
    /// To whom it may be shown: hosts, with or without a port; `source:NAME` for the key of a source's senders; or `anywhere`. Needed for a new secret; of one that is kept, it stays as it
    /// is if left out.
    #[serde(default)]
    #[schema(max_items = 64)]
    pub shown_to: Vec<String>,
}
