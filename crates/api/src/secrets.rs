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
    /// The value. It is never answered.
    pub value: String,
}
