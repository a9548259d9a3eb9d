//! Drafts of the plan: each person has one at the most.

use diesel::prelude::*;

use crate::schema::draft;
use crate::{Records, RecordsError};

/// A draft of the plan.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Insertable, AsChangeset)]
#[diesel(table_name = draft)]
pub struct Draft {
    /// Whose it is.
    pub who: String,
    /// The revision that it began from.
    pub revision: i64,
    /// How often it was changed, from 1.
    pub version: i64,
    /// When it was changed last, in milliseconds since 1970.
    pub at_ms: i64,
    /// The document.
    pub text: String,
}

impl Records {
    /// Somebody's draft.
    pub fn draft(&self, who: &str) -> Result<Option<Draft>, RecordsError> {
        self.with(|c| Ok(draft::table.find(who).first(c).optional()?))
    }

    /// All drafts, by name.
    pub fn drafts(&self) -> Result<Vec<Draft>, RecordsError> {
        self.with(|c| Ok(draft::table.order(draft::who).load(c)?))
    }

    /// Keeps a draft, if the one that was kept has the version before it; one of version 1 if there was none. Says whether it did.
    pub fn set_draft(&self, new: &Draft) -> Result<bool, RecordsError> {
        self.with(|c| {
            if new.version == 1 {
                return Ok(diesel::insert_or_ignore_into(draft::table).values(new).execute(c)? > 0);
            }
            let before = draft::table.filter(draft::who.eq(&new.who).and(draft::version.eq(new.version - 1)));
            Ok(diesel::update(before).set(new).execute(c)? > 0)
        })
    }

    /// Forgets somebody's draft. Says whether there was one.
    pub fn remove_draft(&self, who: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(draft::table.find(who)).execute(c)? > 0))
    }
}
