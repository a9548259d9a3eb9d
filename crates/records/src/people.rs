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

    /// Gives somebody a password, by its hash, or takes it away; whoever signed in with the one before is signed out. Says whether there is such a person.
    pub fn set_password(&self, name: &str, hash: Option<&str>) -> Result<bool, RecordsError> {
        self.with(|c| {
            c.transaction(|c| {
                end_sessions(c, name)?;
                Ok(diesel::update(person::table.find(name)).set(person::password.eq(hash)).execute(c)? > 0)
            })
        })
    }

    /// Removes somebody, and signs them out everywhere. Says whether there was such a person.
    pub fn remove_person(&self, name: &str) -> Result<bool, RecordsError> {
        self.with(|c| {
            c.transaction(|c| {
                end_sessions(c, name)?;
                Ok(diesel::delete(person::table.find(name)).execute(c)? > 0)
            })
        })
    }
}

fn end_sessions(c: &mut SqliteConnection, name: &str) -> QueryResult<usize> {
    diesel::delete(token::table.filter(token::person.eq(name).and(token::kind.eq(TokenKind::Session.word())))).execute(c)
}
