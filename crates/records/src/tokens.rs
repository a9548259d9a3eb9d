//! Tokens: random, shown once, kept only as their SHA-256 (a token of 256 random bits needs no slower hash).

use diesel::prelude::*;
use sha2::{Digest, Sha256};

use crate::schema::token;
use crate::{Records, RecordsError};

/// What a token is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TokenKind {
    /// A client that shows it with each request.
    Client,
    /// A signed-in browser.
    Session,
}

impl TokenKind {
    fn word(self) -> &'static str {
        match self {
            TokenKind::Client => "client",
            TokenKind::Session => "session",
        }
    }
}

/// A token just made. This is the only time its text is known.
pub struct NewToken(String);

impl NewToken {
    /// The text, to be handed to its owner.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for NewToken {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("NewToken(…)")
    }
}

/// Whose token was shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bearer {
    /// The token's number.
    pub id: i64,
    /// The name it was made for.
    pub name: String,
}

fn hash(text: &str) -> Vec<u8> {
    Sha256::digest(text.as_bytes()).to_vec()
}

/// 256 random bits as text, for a token or a key.
pub fn random_text() -> Result<String, RecordsError> {
    let mut bytes = [0u8; 32];
    getrandom::fill(&mut bytes).map_err(|e| RecordsError::Storage(format!("no random numbers: {e}").into()))?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

impl Records {
    /// Makes a token. `expires_ms` is when it ends, in milliseconds since 1970.
    pub fn make_token(&self, name: &str, kind: TokenKind, now_ms: i64, expires_ms: Option<i64>) -> Result<NewToken, RecordsError> {
        let text = random_text()?;
        let row = (token::name.eq(name), token::kind.eq(kind.word()), token::hash.eq(hash(&text)), token::made_ms.eq(now_ms), token::expires_ms.eq(expires_ms));
        self.with(|c| {
            diesel::delete(token::table.filter(token::expires_ms.lt(now_ms))).execute(c)?;
            diesel::insert_into(token::table).values(row).execute(c)?;
            Ok(())
        })?;
        Ok(NewToken(text))
    }

    /// Makes a token of that kind for `name` in place of all that it had, which stop working.
    pub fn renew_token(&self, name: &str, kind: TokenKind, now_ms: i64) -> Result<NewToken, RecordsError> {
        self.with(|c| {
            diesel::delete(token::table.filter(token::name.eq(name).and(token::kind.eq(kind.word())))).execute(c)?;
            Ok(())
        })?;
        self.make_token(name, kind, now_ms, None)
    }

    /// Whose token `text` is, if it is one that has not ended.
    pub fn bearer(&self, text: &str, kind: TokenKind, now_ms: i64) -> Result<Option<Bearer>, RecordsError> {
        self.with(|c| {
            let found: Option<(i64, String, Option<i64>)> = token::table
                .filter(token::hash.eq(hash(text)).and(token::kind.eq(kind.word())))
                .select((token::id, token::name, token::expires_ms))
                .first(c)
                .optional()?;
            Ok(found.filter(|(.., expires)| expires.is_none_or(|at| at > now_ms)).map(|(id, name, _)| Bearer { id, name }))
        })
    }

    /// Ends a token. Says whether there was one.
    pub fn end_token(&self, id: i64) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(token::table.find(id)).execute(c)? > 0))
    }
}
