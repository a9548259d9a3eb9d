//! Tokens of programs and sessions of browsers: random, shown once, kept only as their SHA-256 (a token of 256 random bits needs no slower hash).

use diesel::prelude::*;
use sha2::{Digest, Sha256};

use crate::schema::{person, token};
use crate::{Records, RecordsError};

/// A token's last use is noted again after so long, in milliseconds.
const NOTED_AGAIN: i64 = 60_000;

/// What a token is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TokenKind {
    /// A client that shows it with each request.
    Client,
    /// A signed-in browser.
    Session,
}

impl TokenKind {
    pub(crate) fn word(self) -> &'static str {
        match self {
            TokenKind::Client => "client",
            TokenKind::Session => "session",
        }
    }
}

/// Whose a session is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Holder {
    /// A person's.
    Person(String),
    /// That of whoever holds the token of this number.
    Token(i64),
}

/// A token just made. This is the only time its text is known.
pub struct NewToken(String);

impl NewToken {
    pub(crate) fn of(text: String) -> NewToken {
        NewToken(text)
    }

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

/// Whose token was shown, and what they may do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bearer {
    /// The token's number.
    pub id: i64,
    /// The name of the person, or of the program's token.
    pub name: String,
    /// Whether it is a person.
    pub is_person: bool,
    /// What they may do: a sentence on each line.
    pub grants: String,
    /// When it ends, in milliseconds since 1970.
    pub expires_ms: Option<i64>,
}

/// What may be shown of a token or a session.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct TokenEntry {
    /// Its number.
    pub id: i64,
    /// Its name; of a session, whose it is.
    pub name: String,
    /// What it may do: a sentence on each line. Nothing of a session: it may do what its owner may.
    pub grants: String,
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

pub(crate) fn hash(text: &str) -> Vec<u8> {
    Sha256::digest(text.as_bytes()).to_vec()
}

/// 256 random bits as text, for a token or a key.
pub fn random_text() -> Result<String, RecordsError> {
    let mut bytes = [0u8; 32];
    getrandom::fill(&mut bytes).map_err(|e| RecordsError::Storage(format!("no random numbers: {e}").into()))?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

impl Records {
    /// Makes a program's token. `expires_ms` is when it ends, in milliseconds since 1970.
    ///
    /// # Errors
    /// If there is one of that name already.
    pub fn make_token(&self, name: &str, grants: &str, made_by: &str, now_ms: i64, expires_ms: Option<i64>) -> Result<NewToken, RecordsError> {
        let text = random_text()?;
        let row = (
            (token::name.eq(name), token::kind.eq(TokenKind::Client.word()), token::hash.eq(hash(&text)), token::grants.eq(grants)),
            (token::made_by.eq(made_by), token::made_ms.eq(now_ms), token::expires_ms.eq(expires_ms)),
        );
        self.with(|c| {
            c.immediate_transaction(|c| {
                forget_ended(c, now_ms)?;
                let taken = token::table.filter(token::name.eq(name).and(token::kind.eq(TokenKind::Client.word()))).count().get_result::<i64>(c)?;
                if taken > 0 {
                    return Err(RecordsError::Taken { what: "token", name: name.to_owned() });
                }
                diesel::insert_into(token::table).values(row).execute(c)?;
                Ok(())
            })
        })?;
        Ok(NewToken(text))
    }

    /// Makes a program's token for `name` in place of the one that it had, which stops working.
    pub fn renew_token(&self, name: &str, grants: &str, now_ms: i64) -> Result<NewToken, RecordsError> {
        self.with(|c| {
            let theirs = token::table.filter(token::name.eq(name).and(token::kind.eq(TokenKind::Client.word()))).select(token::id).load::<i64>(c)?;
            theirs.into_iter().try_for_each(|id| end(c, id).map(|_| ()))?;
            Ok(())
        })?;
        self.make_token(name, grants, name, now_ms, None)
    }

    /// Makes a session for a browser.
    pub fn make_session(&self, name: &str, of: &Holder, now_ms: i64, expires_ms: i64) -> Result<NewToken, RecordsError> {
        let text = random_text()?;
        let (person, parent) = match of {
            Holder::Person(name) => (Some(name.as_str()), None),
            Holder::Token(id) => (None, Some(*id)),
        };
        let row = (
            (token::name.eq(name), token::kind.eq(TokenKind::Session.word()), token::hash.eq(hash(&text)), token::made_by.eq(name)),
            (token::person.eq(person), token::parent.eq(parent), token::made_ms.eq(now_ms), token::expires_ms.eq(Some(expires_ms))),
        );
        self.with(|c| {
            forget_ended(c, now_ms)?;
            diesel::insert_into(token::table).values(row).execute(c)?;
            Ok(())
        })?;
        Ok(NewToken(text))
    }

    /// Whose token `text` is, if it is one that has not ended. That it was used, from `address`, is noted.
    pub fn bearer(&self, text: &str, kind: TokenKind, address: &str, now_ms: i64) -> Result<Option<Bearer>, RecordsError> {
        self.with(|c| {
            let found: Option<(i64, Option<i64>)> =
                token::table.filter(token::hash.eq(hash(text)).and(token::kind.eq(kind.word()))).select((token::id, token::used_ms)).first(c).optional()?;
            let Some((id, used)) = found else { return Ok(None) };
            let bearer = alive(c, id, now_ms)?;
            if bearer.is_some() && used.is_none_or(|used| now_ms - used >= NOTED_AGAIN) {
                diesel::update(token::table.find(id)).set((token::used_ms.eq(now_ms), token::used_from.eq(address))).execute(c)?;
            }
            Ok(bearer)
        })
    }

    /// Whose the token or session of this number is, if it has not ended.
    pub fn bearer_again(&self, id: i64, now_ms: i64) -> Result<Option<Bearer>, RecordsError> {
        self.with(|c| Ok(alive(c, id, now_ms)?))
    }

    /// All tokens, or all sessions, that have not ended; the newest first.
    pub fn tokens(&self, kind: TokenKind, now_ms: i64) -> Result<Vec<TokenEntry>, RecordsError> {
        let shown = (token::id, token::name, token::grants, token::made_ms, token::made_by, token::expires_ms, token::used_ms, token::used_from);
        self.with(|c| {
            forget_ended(c, now_ms)?;
            Ok(token::table.filter(token::kind.eq(kind.word())).select(shown).order(token::id.desc()).load(c)?)
        })
    }

    /// Ends a token or a session of this kind, and with a token the sessions of its links. Returns its name, if there was one.
    pub fn end_token(&self, id: i64, kind: TokenKind) -> Result<Option<String>, RecordsError> {
        self.with(|c| {
            c.immediate_transaction(|c| {
                let name = token::table.find(id).filter(token::kind.eq(kind.word())).select(token::name).first::<String>(c).optional()?;
                if name.is_some() {
                    end(c, id)?;
                }
                Ok(name)
            })
        })
    }
}

/// A token and the sessions that are by it.
fn end(c: &mut SqliteConnection, id: i64) -> QueryResult<usize> {
    diesel::delete(token::table.filter(token::id.eq(id).or(token::parent.eq(id)))).execute(c)
}

fn forget_ended(c: &mut SqliteConnection, now_ms: i64) -> QueryResult<usize> {
    diesel::delete(token::table.filter(token::expires_ms.le(now_ms))).execute(c)
}

/// Whose a token is, if neither it nor what it stands on has ended.
fn alive(c: &mut SqliteConnection, id: i64, now_ms: i64) -> QueryResult<Option<Bearer>> {
    type Row = (String, String, Option<String>, Option<i64>, Option<i64>);
    let shown = (token::name, token::grants, token::person, token::parent, token::expires_ms);
    let found: Option<Row> = token::table.find(id).select(shown).first(c).optional()?;
    let Some((name, grants, person, parent, expires_ms)) = found.filter(|(.., expires)| expires.is_none_or(|at| at > now_ms)) else { return Ok(None) };
    let is_person = person.is_some();
    let grants = match (person, parent) {
        (Some(person), _) => person::table.find(person).select(person::grants).first(c).optional()?,
        (None, Some(parent)) => {
            let of: Option<(String, Option<i64>)> = token::table.find(parent).select((token::grants, token::expires_ms)).first(c).optional()?;
            of.filter(|(_, expires)| expires.is_none_or(|at| at > now_ms)).map(|(grants, _)| grants)
        }
        (None, None) => Some(grants),
    };
    Ok(grants.map(|grants| Bearer { id, name, is_person, grants, expires_ms }))
}
