//! What an operator, or a bound, lets go of the queues.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Account, Amount, Measure, Stage};

use crate::queue::{Aside, Moved, Sums, keep_aside, oldest, release};
use crate::resent::{self, Became};
use crate::schema::{batch, entry};

/// Lets go what waits for a destination; the ledger counts it as discarded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Discard {
    /// The destination.
    pub destination: String,
    /// How much of it.
    pub which: Which,
    /// Now, in milliseconds since 1970.
    pub at_ms: i64,
}

/// Which of what waits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Which {
    /// All of it.
    All,
    /// What was queued before a time, in milliseconds since 1970.
    QueuedBefore(i64),
    /// The oldest, until no more than so many bytes wait.
    DownTo(i64),
}

/// Takes out of all queues what stands in a batch whose bytes are damaged; the ledger counts it as quarantined.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GiveUp {
    /// The batch, as [`crate::SpoolError::Damaged`] names it.
    pub batch: i64,
    /// Now, in milliseconds since 1970.
    pub at_ms: i64,
}

impl GiveUp {
    pub(crate) fn apply(&self, c: &mut SqliteConnection, moved: &mut BTreeMap<String, Moved>, postings: &mut Sums) -> QueryResult<Amount> {
        type Due = (i64, String, String, i64, i64);
        let due: Vec<Due> =
            entry::table.filter(entry::batch.eq(self.batch)).select((entry::id, entry::destination, entry::route, entry::events, entry::bytes)).load(c)?;
        let mut gone = Amount::default();
        for (id, destination, route, events, bytes) in due {
            diesel::delete(entry::table.find(id)).execute(c)?;
            let amount = Amount { events, bytes };
            let why = format!("{events} events were lost: they are damaged on disk");
            let aside = Aside { at_ms: self.at_ms, stage: Stage::Destination, name: &destination, via: "", reason: &why, data: b"", size: 0, earlier: None };
            keep_aside(c, aside)?;
            resent::became(c, id, .., Became::Discarded, &why)?;
            let account = Account::at_destination(&destination, &route, Measure::Quarantined);
            *postings.entry((self.at_ms.div_euclid(60_000), account)).or_default() += amount;
            let oldest = oldest(c, &destination)?;
            let moved = moved.entry(destination).or_default();
            moved.by += Amount { events: -events, bytes: -bytes };
            moved.oldest = Some(oldest);
            gone += amount;
        }
        diesel::delete(batch::table.find(self.batch)).execute(c)?;
        Ok(gone)
    }
}

impl Discard {
    pub(crate) fn apply(&self, c: &mut SqliteConnection, moved: &mut BTreeMap<String, Moved>, postings: &mut Sums) -> QueryResult<Amount> {
        type Due = (i64, String, i64, i64, i64, i64);
        let due: Vec<Due> = entry::table
            .filter(entry::destination.eq(&self.destination))
            .order(entry::id)
            .select((entry::id, entry::route, entry::batch, entry::events, entry::bytes, entry::queued_ms))
            .load(c)?;
        let mut left: i64 = due.iter().map(|(.., bytes, _)| bytes).sum();
        let mut gone = Amount::default();
        for (id, route, of, events, bytes, queued_ms) in due {
            let goes = match self.which {
                Which::All => true,
                Which::QueuedBefore(time) => queued_ms < time,
                Which::DownTo(most) => left > most,
            };
            if !goes {
                continue;
            }
            left -= bytes;
            diesel::delete(entry::table.find(id)).execute(c)?;
            release(c, of)?;
            resent::became(c, id, .., Became::Discarded, "")?;
            let amount = Amount { events, bytes };
            gone += amount;
            *postings.entry((self.at_ms.div_euclid(60_000), Account::at_destination(&self.destination, &route, Measure::Discarded))).or_default() += amount;
        }
        if !gone.is_zero() {
            let moved = moved.entry(self.destination.clone()).or_default();
            moved.by += Amount { events: -gone.events, bytes: -gone.bytes };
            moved.oldest = Some(oldest(c, &self.destination)?);
        }
        Ok(gone)
    }
}
