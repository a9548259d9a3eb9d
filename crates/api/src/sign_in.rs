//! Signing in to the console.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A link that signs a browser in, once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignInLink {
    /// The link; it opens once.
    pub url: String,
}

/// For whom a link is to be made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct LinkRequest {
    /// A person's name; left out: for whoever holds the token that asks.
    pub person: Option<String>,
}

/// How a browser can sign in, besides by a link or with a password.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SignInWays {
    /// What the company's OpenID Connect provider is called; none, if there is none.
    pub openid: Option<String>,
}

/// What a browser signs in with: a link's code, or a name and a password.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct SignIn {
    /// The code of a link, which is used up by this.
    pub code: Option<String>,
    /// A person's name.
    pub name: Option<String>,
    /// Their password.
    pub password: Option<String>,
}
