//! What becomes durable beside events: how far a source has read, and which bodies it took that may come again.

use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;

use crate::SpoolError;
use crate::schema::{position, taken_once};

/// What becomes durable beside the events of an arrival.
#[derive(Clone, Debug, Default)]
pub struct CommitExtras {
    /// How far the source has read, by its own names for what it reads; none: it is forgotten.
    pub positions: Vec<(String, Option<String>)>,
    /// The body must not be taken twice.
    pub once: Option<Once>,
}

/// A body that its sender may send again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Once {
    /// What its sender calls it.
    pub key: String,
    /// By which it is seen whether the same comes again.
    pub sum: i64,
    /// What its sender was told.
    pub receipt: String,
}

/// For how long a body is known by its key, in milliseconds: a day.
const KNOWN_FOR: i64 = 86_400_000;
/// Most bodies that are known; the oldest are forgotten first.
const KNOWN: i64 = 1_000_000;

/// Whether a body was taken already.
pub(crate) fn was_taken(c: &mut SqliteConnection, source: &str, extras: &CommitExtras) -> QueryResult<bool> {
    match &extras.once {
        None => Ok(false),
        Some(once) => diesel::select(diesel::dsl::exists(taken_once::table.find((source, &once.key)))).get_result(c),
    }
}

pub(crate) fn keep(c: &mut SqliteConnection, source: &str, at_ms: i64, extras: &CommitExtras) -> QueryResult<()> {
    for (id, content) in &extras.positions {
        match content {
            Some(content) => {
                let row = (position::source.eq(source), position::id.eq(id), position::content.eq(content));
                diesel::replace_into(position::table).values(row).execute(c)?;
            }
            None => {
                diesel::delete(position::table.find((source, id))).execute(c)?;
            }
        }
    }
    if let Some(Once { key, sum, receipt }) = &extras.once {
        let row =
            (taken_once::source.eq(source), taken_once::key.eq(key), taken_once::at_ms.eq(at_ms), taken_once::sum.eq(sum), taken_once::receipt.eq(receipt));
        diesel::insert_into(taken_once::table).values(row).execute(c)?;
    }
    Ok(())
}

/// Forgets bodies that were taken long ago, seen from the newest.
pub(crate) fn forget(c: &mut SqliteConnection) -> QueryResult<()> {
    let newest: Option<i64> = taken_once::table.select(diesel::dsl::max(taken_once::at_ms)).first(c)?;
    let Some(newest) = newest else { return Ok(()) };
    let last: Option<i64> = taken_once::table.order(taken_once::at_ms.desc()).offset(KNOWN).select(taken_once::at_ms).first(c).optional()?;
    let before = last.map_or(newest - KNOWN_FOR, |last| last.max(newest - KNOWN_FOR));
    diesel::delete(taken_once::table.filter(taken_once::at_ms.lt(before))).execute(c).map(|_| ())
}

pub(crate) fn positions(c: &mut SqliteConnection, source: &str) -> Result<Vec<(String, String)>, SpoolError> {
    Ok(position::table.filter(position::source.eq(source)).order(position::id).select((position::id, position::content)).load(c)?)
}

pub(crate) fn once(c: &mut SqliteConnection, source: &str, key: &str) -> Result<Option<Once>, SpoolError> {
    let row: Option<(String, i64, String)> =
        taken_once::table.find((source, key)).select((taken_once::key, taken_once::sum, taken_once::receipt)).first(c).optional()?;
    Ok(row.map(|(key, sum, receipt)| Once { key, sum, receipt }))
}
