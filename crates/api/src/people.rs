//! People, tokens and sessions: who may come in, and what they may see and do.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Whoever asks, and what they may do.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Me {
    /// The name of the person, or of the token.
    pub name: String,
    /// Whether it is a person; else it is a program's token, or a session by its link.
    pub person: bool,
    /// What they may do, a sentence each.
    pub grants: Vec<String>,
    /// When the token or session ends, in milliseconds since 1970; none: not by itself.
    pub expires_ms: Option<i64>,
    /// Whether they sign in with a password, which they can change.
    pub password: bool,
}

/// A ready-made set of grants.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Role {
    /// What it is called.
    pub name: String,
    /// For whom it is.
    pub says: String,
    /// Whether it is for one team's members.
    pub of_team: bool,
    /// Its grants, a sentence each.
    pub grants: Vec<String>,
}

/// Somebody who signs in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Person {
    /// Their name.
    pub name: String,
    /// What they may do, a sentence each.
    pub grants: Vec<String>,
    /// Whether they have a password.
    pub password: bool,
    /// Whether they have signed in through the OpenID Connect provider.
    pub account: bool,
    /// When they were added, in milliseconds since 1970.
    pub made_ms: i64,
    /// By whom.
    pub made_by: String,
}

/// Somebody to add.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewPerson {
    /// Their name: 1 to 64 characters, none of them a control character.
    #[schema(min_length = 1, max_length = 64)]
    pub name: String,
    /// What they may do, a sentence each.
    #[schema(max_items = 64)]
    pub grants: Vec<String>,
}

/// What somebody may do from now on.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewGrants {
    /// A sentence each.
    #[schema(max_items = 64)]
    pub grants: Vec<String>,
}

/// A password to set.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct NewPassword {
    /// The password, 12 to 256 characters; none: they sign in otherwise.
    #[schema(min_length = 12, max_length = 256)]
    pub password: Option<String>,
}

/// One's own password, changed.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct OwnPassword {
    /// The password until now.
    #[schema(max_length = 256)]
    pub current: String,
    /// The password from now on, 12 to 256 characters.
    #[schema(min_length = 12, max_length = 256)]
    pub new: String,
}

/// A program's token; never its text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Token {
    /// Its number.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// What it may do, a sentence each.
    pub grants: Vec<String>,
    /// When it was made, in milliseconds since 1970.
    pub made_ms: i64,
    /// Who made it.
    pub made_by: String,
    /// When it ends, in milliseconds since 1970; none: not by itself.
    pub expires_ms: Option<i64>,
    /// When it was last used, in milliseconds since 1970, to the minute.
    pub used_ms: Option<i64>,
    /// From which address it was last used.
    pub used_from: Option<String>,
}

/// A token to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewToken {
    /// Its name: 1 to 64 characters, none of them a control character.
    #[schema(min_length = 1, max_length = 64)]
    pub name: String,
    /// What it may do, a sentence each.
    #[schema(max_items = 64)]
    pub grants: Vec<String>,
    /// For how many days it is good; left out: until it is revoked.
    #[schema(minimum = 1, maximum = 3650)]
    pub days: Option<i64>,
}

/// A token just made.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// The token. It is shown this once.
    pub token: String,
    /// When it ends, in milliseconds since 1970; none: not by itself.
    pub expires_ms: Option<i64>,
}

/// A signed-in browser.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Session {
    /// Its number.
    pub id: i64,
    /// Whose it is.
    pub name: String,
    /// Since when, in milliseconds since 1970.
    pub made_ms: i64,
    /// When it ends, in milliseconds since 1970.
    pub expires_ms: Option<i64>,
    /// When it was last used, in milliseconds since 1970, to the minute.
    pub used_ms: Option<i64>,
    /// From which address it was last used.
    pub used_from: Option<String>,
    /// Whether it is the session that asks.
    pub mine: bool,
}

/// An event, and where somebody would see it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WhoSeesRequest {
    /// `source:NAME`, `route:NAME`, `destination:NAME` or `remainder`.
    pub place: String,
    /// The event, as it stands there: a JSON object.
    pub event: String,
}

/// Somebody who may see an event.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WhoSees {
    /// The name of a person or a token.
    pub name: String,
    /// Whether it is a person.
    pub person: bool,
    /// The event as they see it.
    pub event: String,
}

/// An entry of the journal.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JournalEntry {
    /// Its number; each is one more than the one before.
    pub number: i64,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// The name of a person or a token; empty, if it is not known.
    pub who: String,
    /// From which address; empty: by the service itself.
    pub address: String,
    /// What was done or tried.
    pub action: String,
    /// To what.
    pub subject: String,
    /// `done`, or why not.
    pub result: String,
}

/// Whether the journal is as it was written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct JournalCheck {
    /// Whether no entry was changed, and none taken out between two others.
    pub whole: bool,
    /// How many entries there are.
    pub entries: i64,
    /// The number of the oldest one.
    pub first: Option<i64>,
    /// The number of the newest one.
    pub last: Option<i64>,
    /// The hash of the newest one. Whoever notes it elsewhere can tell later whether entries were cut off at the end.
    pub head: String,
    /// The number of the first entry that is not as it was written, or before which some are missing.
    pub broken_at: Option<i64>,
}
