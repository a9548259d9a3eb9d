//! Suggestions that somebody declined.

use diesel::prelude::*;

use crate::schema::declined;
use crate::{Records, RecordsError};

impl Records {
    /// Keeps that a suggestion was declined.
    pub fn decline(&self, id: &str, who: &str, at_ms: i64) -> Result<(), RecordsError> {
        self.with(|c| {
            let row = (declined::id.eq(id), declined::at_ms.eq(at_ms), declined::who.eq(who));
            diesel::insert_or_ignore_into(declined::table).values(row).execute(c)?;
            Ok(())
        })
    }

    /// Forgets that a suggestion was declined. Says whether it was.
    pub fn take_back_decline(&self, id: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(declined::table.find(id)).execute(c)? > 0))
    }

    /// The ids of all that were declined.
    pub fn declined(&self) -> Result<Vec<String>, RecordsError> {
        self.with(|c| Ok(declined::table.select(declined::id).order(declined::id).load(c)?))
    }
}
