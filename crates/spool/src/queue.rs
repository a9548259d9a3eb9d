//! The queues in front of destinations: what is put into them, taken out of them, and set aside.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Account, Amount, Entry, Stage};

use crate::packed::{Packed, checksum};
use crate::schema::{batch, entry, quarantine};

/// How the queue of a destination moved in one commit.
#[derive(Default)]
pub(crate) struct Moved {
    pub(crate) by: Amount,
    pub(crate) queued_ms: Option<i64>,
    pub(crate) oldest: Option<i64>,
}

/// What is to be added to the account, by minute.
pub(crate) type Sums = BTreeMap<(i64, Account), Amount>;

/// Stores the lines of a batch that so many queue entries need; returns its number.
pub(crate) fn keep_batch(c: &mut SqliteConnection, source: &str, arrived_ms: i64, data: &Packed, uses: usize) -> QueryResult<i64> {
    let row = (
        batch::source.eq(source),
        batch::arrived_ms.eq(arrived_ms),
        batch::packing.eq(data.packing),
        batch::size.eq(data.size),
        batch::uses.eq(uses as i64),
        batch::data.eq(&data.data[..]),
        batch::checksum.eq(checksum(&data.data)),
    );
    diesel::insert_into(batch::table).values(row).returning(batch::id).get_result(c)
}

/// Takes one use from a batch, and the batch with its last.
pub(crate) fn release(c: &mut SqliteConnection, of: i64) -> QueryResult<()> {
    diesel::update(batch::table.find(of)).set(batch::uses.eq(batch::uses - 1)).execute(c)?;
    diesel::delete(batch::table.find(of).filter(batch::uses.le(0))).execute(c).map(|_| ())
}

/// When the oldest that waits for a destination was queued.
pub(crate) fn oldest(c: &mut SqliteConnection, destination: &str) -> QueryResult<i64> {
    let oldest: Option<i64> = entry::table.filter(entry::destination.eq(destination)).order(entry::id).select(entry::queued_ms).first(c).optional()?;
    Ok(oldest.unwrap_or(0))
}

/// Queues what is due of a batch; returns the entry's number.
pub(crate) fn queue(c: &mut SqliteConnection, of: i64, due: &Entry, queued_ms: i64, moved: &mut BTreeMap<String, Moved>) -> QueryResult<i64> {
    let row = (
        entry::destination.eq(&due.destination),
        entry::route.eq(&due.route),
        entry::batch.eq(of),
        entry::selection.eq(due.selection.as_bytes()),
        entry::events.eq(due.amount.events),
        entry::bytes.eq(due.amount.bytes),
        entry::done.eq(0),
        entry::queued_ms.eq(queued_ms),
        entry::earlier.eq(due.earlier.as_bytes()),
    );
    let id = diesel::insert_into(entry::table).values(row).returning(entry::id).get_result(c)?;
    let moved = moved.entry(due.destination.clone()).or_default();
    moved.by += due.amount;
    moved.queued_ms.get_or_insert(queued_ms);
    Ok(id)
}

/// Something that goes to quarantine.
#[derive(Clone, Copy)]
pub(crate) struct Aside<'a> {
    pub(crate) at_ms: i64,
    pub(crate) stage: Stage,
    pub(crate) name: &'a str,
    pub(crate) via: &'a str,
    pub(crate) reason: &'a str,
    pub(crate) data: &'a [u8],
    /// How many bytes it had, of which `data` may be the beginning.
    pub(crate) size: usize,
    /// How an event stood before the steps of its destination, where that is not how it left.
    pub(crate) earlier: Option<&'a [u8]>,
}

/// Returns the number that it has in quarantine.
pub(crate) fn keep_aside(c: &mut SqliteConnection, aside: Aside<'_>) -> QueryResult<i64> {
    let row = (
        quarantine::at_ms.eq(aside.at_ms),
        quarantine::place.eq(aside.stage.word()),
        quarantine::name.eq(aside.name),
        quarantine::via.eq(aside.via),
        quarantine::reason.eq(aside.reason),
        quarantine::data.eq(aside.data),
        quarantine::earlier.eq(aside.earlier),
        quarantine::size.eq(aside.size as i64),
    );
    diesel::insert_into(quarantine::table).values(row).returning(quarantine::id).get_result(c)
}
