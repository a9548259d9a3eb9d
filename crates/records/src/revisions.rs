//! Plans that were applied, numbered from 1, kept for ever.

use diesel::prelude::*;

use crate::schema::{forecast, revision, stage};
use crate::{Records, RecordsError};

/// A plan that was applied.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct Revision {
    /// Its number.
    pub number: i64,
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// Who applied it.
    pub who: String,
    /// Why, in their words.
    pub why: String,
    /// The plan.
    pub text: String,
}

impl Records {
    /// Keeps a plan as the next revision and returns its number. With `expected`, fails if the newest revision is another. `state` is its stage, if it goes to some hosts first; the
    /// stage of a revision before is over.
    pub fn add_revision(&self, at_ms: i64, who: &str, why: &str, text: &str, expected: Option<i64>, state: Option<&str>) -> Result<i64, RecordsError> {
        self.with(|c| {
            c.immediate_transaction(|c| {
                let newest: Option<i64> = revision::table.select(diesel::dsl::max(revision::number)).first(c)?;
                let newest = newest.unwrap_or(0);
                if let Some(expected) = expected
                    && expected != newest
                {
                    return Err(RecordsError::Conflict { newest, expected });
                }
                let row = (revision::number.eq(newest + 1), revision::at_ms.eq(at_ms), revision::who.eq(who), revision::why.eq(why), revision::text.eq(text));
                diesel::insert_into(revision::table).values(row).execute(c)?;
                diesel::delete(stage::table).execute(c)?;
                if let Some(state) = state {
                    diesel::insert_into(stage::table).values((stage::revision.eq(newest + 1), stage::state.eq(state))).execute(c)?;
                }
                Ok(newest + 1)
            })
        })
    }

    /// The stage of a revision, as it was kept; nothing, if all hosts have it.
    pub fn stage(&self, number: i64) -> Result<Option<String>, RecordsError> {
        self.with(|c| Ok(stage::table.find(number).select(stage::state).first(c).optional()?))
    }

    /// Keeps where the stage of a revision stands; with nothing, it is over.
    pub fn set_stage(&self, number: i64, state: Option<&str>) -> Result<(), RecordsError> {
        self.with(|c| {
            match state {
                Some(state) => diesel::update(stage::table.find(number)).set(stage::state.eq(state)).execute(c)?,
                None => diesel::delete(stage::table.find(number)).execute(c)?,
            };
            Ok(())
        })
    }

    /// The newest revision.
    pub fn newest_revision(&self) -> Result<Option<Revision>, RecordsError> {
        self.with(|c| Ok(revision::table.order(revision::number.desc()).first(c).optional()?))
    }

    /// One revision.
    pub fn revision(&self, number: i64) -> Result<Option<Revision>, RecordsError> {
        self.with(|c| Ok(revision::table.find(number).first(c).optional()?))
    }

    /// Keeps what was predicted of a revision.
    pub fn set_forecast(&self, number: i64, content: &str) -> Result<(), RecordsError> {
        self.with(|c| {
            let row = (forecast::revision.eq(number), forecast::content.eq(content));
            diesel::replace_into(forecast::table).values(row).execute(c)?;
            Ok(())
        })
    }

    /// What was predicted of a revision, if anything was.
    pub fn forecast(&self, number: i64) -> Result<Option<String>, RecordsError> {
        self.with(|c| Ok(forecast::table.find(number).select(forecast::content).first(c).optional()?))
    }

    /// The newest revisions, newest first, at most `most`.
    pub fn revisions(&self, most: i64) -> Result<Vec<Revision>, RecordsError> {
        self.with(|c| Ok(revision::table.order(revision::number.desc()).limit(most).load(c)?))
    }
}
