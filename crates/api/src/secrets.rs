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
}

/// A secret to keep.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct SecretValue {
    /// The value: 1 to 4096 bytes without control characters. It is never answered.
    #[schema(min_length = 1, max_length = 4096, pattern = "^[^\\x00-\\x1f\\x7f-\\x9f]*$")]
    pub value: String,
}
