//! Destinations and sources that an operator has paused: they stay so over restarts and plans.

use diesel::prelude::*;

use crate::schema::{paused, paused_source};
use crate::{Records, RecordsError};

/// What is paused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// A source takes nothing.
    Source,
    /// A destination is sent nothing.
    Destination,
}

/// Something that is paused.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct Paused {
    /// Its name.
    pub name: String,
    /// Since when, in milliseconds since 1970.
    pub at_ms: i64,
    /// By whom.
    pub who: String,
}

impl Records {
    /// All that is paused of one sort.
    pub fn paused(&self, side: Side) -> Result<Vec<Paused>, RecordsError> {
        self.with(|c| {
            Ok(match side {
                Side::Destination => paused::table.order(paused::destination).load(c)?,
                Side::Source => paused_source::table.order(paused_source::source).load(c)?,
            })
        })
    }

    /// Pauses something; what is paused already stays as it was.
    pub fn pause(&self, side: Side, name: &str, who: &str, now_ms: i64) -> Result<(), RecordsError> {
        self.with(|c| {
            match side {
                Side::Destination => {
                    let row = (paused::destination.eq(name), paused::at_ms.eq(now_ms), paused::who.eq(who));
                    diesel::insert_or_ignore_into(paused::table).values(row).execute(c)?
                }
                Side::Source => {
                    let row = (paused_source::source.eq(name), paused_source::at_ms.eq(now_ms), paused_source::who.eq(who));
                    diesel::insert_or_ignore_into(paused_source::table).values(row).execute(c)?
                }
            };
            Ok(())
        })
    }

    /// Resumes something. Says whether it was paused.
    pub fn resume(&self, side: Side, name: &str) -> Result<bool, RecordsError> {
        self.with(|c| {
            let gone = match side {
                Side::Destination => diesel::delete(paused::table.find(name)).execute(c)?,
                Side::Source => diesel::delete(paused_source::table.find(name)).execute(c)?,
            };
            Ok(gone > 0)
        })
    }
}
