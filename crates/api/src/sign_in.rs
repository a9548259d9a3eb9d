//! Signing in to the console.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A link that signs a browser in, once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignInLink {
    /// The link; it opens once.
    pub url: String,
}
