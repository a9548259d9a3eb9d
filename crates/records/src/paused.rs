//! Destinations that an operator has paused: they stay so over restarts and plans.

use diesel::prelude::*;

use crate::schema::paused;
use crate::{Records, RecordsError};

/// A paused destination.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct Paused {
    /// Its name.
    pub destination: String,
    /// Since when, in milliseconds since 1970.
    pub at_ms: i64,
    /// By whom.
    pub who: String,
}

impl Records {
    /// All paused destinations.
    pub fn paused(&self) -> Result<Vec<Paused>, RecordsError> {
        self.with(|c| Ok(paused::table.order(paused::destination).load(c)?))
    }

    /// Pauses a destination; one that is paused already stays as it was.
    pub fn pause(&self, destination: &str, who: &str, now_ms: i64) -> Result<(), RecordsError> {
        let row = (paused::destination.eq(destination), paused::at_ms.eq(now_ms), paused::who.eq(who));
        self.with(|c| {
            diesel::insert_or_ignore_into(paused::table).values(row).execute(c)?;
            Ok(())
        })
    }

    /// Resumes a destination. Says whether it was paused.
    pub fn resume(&self, destination: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(paused::table.find(destination)).execute(c)? > 0))
    }
}
