//! People who sign in, and what they may do.

use diesel::prelude::*;

use crate::schema::{person, token};
use crate::tokens::TokenKind;
use crate::{Records, RecordsError};

/// Somebody who signs in.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct Person {
    /// Their name.
    pub name: String,
    /// What they may do: a sentence on each line.
    pub grants: String,
    /// Their password's hash, as a PHC string; none, if they have none.
    pub password: Option<String>,
    /// When they were added, in milliseconds since 1970.
    pub made_ms: i64,
    /// By whom.
    pub made_by: String,
    /// Their account at the OpenID Connect provider, as it names itself; none, until they have signed in by it.
    pub account: Option<String>,
}

/// Whose an account at the provider is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AccountOf {
    /// The person of this name.
    Person(String),
    /// The person whose name it has is somebody with another account.
    Other,
    /// Nobody's.
    Nobody,
}

impl Records {
    /// All people, by name.
    pub fn people(&self) -> Result<Vec<Person>, RecordsError> {
        self.with(|c| Ok(person::table.order(person::name).load(c)?))
    }

    /// The person of that name.
    pub fn person(&self, name: &str) -> Result<Option<Person>, RecordsError> {
        self.with(|c| Ok(person::table.find(name).first(c).optional()?))
    }

    /// Adds somebody.
    ///
    /// # Errors
    /// If there is somebody of that name already.
    pub fn add_person(&self, name: &str, grants: &str, made_by: &str, now_ms: i64) -> Result<(), RecordsError> {
        self.with(|c| {
            let row = (person::name.eq(name), person::grants.eq(grants), person::made_ms.eq(now_ms), person::made_by.eq(made_by));
            match diesel::insert_or_ignore_into(person::table).values(row).execute(c)? {
                0 => Err(RecordsError::Taken { what: "person", name: name.to_owned() }),
                _ => Ok(()),
            }
        })
    }

    /// Says what somebody may do from now on. Says whether there is such a person.
    pub fn grant(&self, name: &str, grants: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::update(person::table.find(name)).set(person::grants.eq(grants)).execute(c)? > 0))
    }

    /// Whose an account is that the provider calls `account`, and whose owner it calls `name`. The first account of that name is theirs from then on, whatever it is called later; an account that is
    /// given the same name afterwards is somebody else's.
    pub fn person_of_account(&self, account: &str, name: &str) -> Result<AccountOf, RecordsError> {
        self.with(|c| {
            c.immediate_transaction(|c| {
                if let Some(known) = person::table.filter(person::account.eq(account)).select(person::name).first(c).optional()? {
                    return Ok(AccountOf::Person(known));
                }
                let theirs = person::table.find(name).select(person::account).first::<Option<String>>(c).optional()?;
                Ok(match theirs {
                    None => AccountOf::Nobody,
                    Some(Some(_)) => AccountOf::Other,
                    Some(None) => {
                        diesel::update(person::table.find(name)).set(person::account.eq(account)).execute(c)?;
                        AccountOf::Person(name.to_owned())
                    }
                })
            })
        })
    }

    /// Gives somebody a password, by its hash, or takes it away; whoever signed in with the one before is signed out, but for the session `kept`. Says whether there is such a person.
    pub fn set_password(&self, name: &str, hash: Option<&str>, kept: Option<i64>) -> Result<bool, RecordsError> {
        self.with(|c| {
            c.transaction(|c| {
                end_sessions(c, name, kept)?;
                Ok(diesel::update(person::table.find(name)).set(person::password.eq(hash)).execute(c)? > 0)
            })
        })
    }

    /// Removes somebody, and signs them out everywhere. Says whether there was such a person.
    pub fn remove_person(&self, name: &str) -> Result<bool, RecordsError> {
        self.with(|c| {
            c.transaction(|c| {
                end_sessions(c, name, None)?;
                Ok(diesel::delete(person::table.find(name)).execute(c)? > 0)
            })
        })
    }
}

fn end_sessions(c: &mut SqliteConnection, name: &str, kept: Option<i64>) -> QueryResult<usize> {
    let theirs = token::person.eq(name).and(token::kind.eq(TokenKind::Session.word())).and(token::id.ne(kept.unwrap_or(-1)));
    diesel::delete(token::table.filter(theirs)).execute(c)
}
