//! What an operator, or a bound, does to the queues: let go, or send again.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Account, Amount, Entry, Measure, Selection, Stage};

use crate::packed::Packed;
use crate::queue::{Moved, Sums, keep_aside, keep_batch, oldest, queue, release};
use crate::schema::{batch, entry, quarantine};

/// Most quarantined events that one [`Resend`] queues again.
const MAX_RESENT: i64 = 20_000;

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

/// Queues again what destinations refused for good. Records that a source could not read are none of it, nor batches of which nobody knows what was refused: the rest of them
/// was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Resend {
    /// Only what this destination refused.
    pub destination: Option<String>,
    /// Only these, by number; without, all.
    pub ids: Option<Vec<i64>>,
    /// Now, in milliseconds since 1970.
    pub at_ms: i64,
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
            let why = format!("{events} events were lost: the bytes they were kept in are damaged on the disk");
            keep_aside(c, self.at_ms, Stage::Destination, &destination, "", &why, b"")?;
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

impl Resend {
    pub(crate) fn apply(&self, c: &mut SqliteConnection, moved: &mut BTreeMap<String, Moved>, postings: &mut Sums) -> QueryResult<Amount> {
        let mut asked = quarantine::table.filter(quarantine::place.eq(Stage::Destination.word()).and(quarantine::via.ne(""))).into_boxed();
        if let Some(destination) = &self.destination {
            asked = asked.filter(quarantine::name.eq(destination));
        }
        if let Some(ids) = &self.ids {
            asked = asked.filter(quarantine::id.eq_any(ids));
        }
        type Row = (i64, String, String, Vec<u8>);
        let rows: Vec<Row> =
            asked.order(quarantine::id).limit(MAX_RESENT).select((quarantine::id, quarantine::name, quarantine::via, quarantine::data)).load(c)?;
        let mut by_queue: BTreeMap<(String, String), Vec<Vec<u8>>> = BTreeMap::new();
        for (id, name, via, data) in rows {
            diesel::delete(quarantine::table.find(id)).execute(c)?;
            by_queue.entry((name, via)).or_default().push(data);
        }
        let mut all = Amount::default();
        for ((destination, route), lines) in by_queue {
            let (mut selection, mut amount, mut data) = (Selection::default(), Amount::default(), Vec::new());
            for (i, line) in lines.iter().enumerate() {
                selection.push(i as u32);
                amount.count(line.len());
                data.extend_from_slice(line);
                data.push(b'\n');
            }
            let of = keep_batch(c, "", self.at_ms, &Packed::plain(data), 1)?;
            let due = Entry { destination, route, selection, amount };
            queue(c, of, &due, self.at_ms, moved)?;
            let back = Amount { events: -amount.events, bytes: -amount.bytes };
            *postings.entry((self.at_ms.div_euclid(60_000), Account::at_destination(&due.destination, &due.route, Measure::Quarantined))).or_default() += back;
            all += amount;
        }
        Ok(all)
    }
}
