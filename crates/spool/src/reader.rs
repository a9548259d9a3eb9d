//! Questions that do not change anything.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sql_types::{Binary, Integer};
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Account, Amount, Equation, Measure, Stage};

use crate::queue::oldest;
use crate::schema::{due, entry, ledger_minute, ledger_total, quarantine, reached as reached_table};
use crate::{SpoolError, Waiting};

/// One account and its sum.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LedgerRow {
    /// The account.
    pub account: Account,
    /// Its sum over the time asked for.
    pub amount: Amount,
}

/// What was counted at a place within a minute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Volume {
    /// The minute, since 1970.
    pub minute: i64,
    /// The place.
    pub stage: Stage,
    /// Its name.
    pub name: String,
    /// What was counted.
    pub measure: Measure,
    /// How much.
    pub amount: Amount,
}

/// A record in quarantine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Quarantined {
    /// Its number.
    pub id: i64,
    /// When it came there, in milliseconds since 1970.
    pub at_ms: i64,
    /// At a source (it could not be read) or a destination (it was refused for good).
    pub stage: Stage,
    /// The name of the source, route or destination.
    pub name: String,
    /// At a destination, the route it came by.
    pub via: String,
    /// Why it is in quarantine.
    pub reason: String,
    /// Its bytes: all of them, or the beginning.
    pub data: Vec<u8>,
    /// How many bytes it had.
    pub size: usize,
}

/// Which records of quarantine are wanted: the newest first.
#[derive(Clone, Copy, Debug)]
pub struct Page {
    /// Only those with smaller numbers.
    pub before: Option<i64>,
    /// Most records.
    pub most: i64,
    /// Most bytes of each.
    pub bytes: i32,
}

diesel::define_sql_function! {
    /// Some bytes of a value, from the first, which is 1; nothing of an empty one.
    fn substr(data: Binary, from: Integer, bytes: Integer) -> Nullable<Binary>;
}

/// A row of the ledger as it is stored: place, name, via, position, sentence, measure, events, bytes.
pub(crate) type Row = (String, String, String, i32, String, String, i64, i64);

pub(crate) fn row((stage, name, via, position, sentence, measure, events, bytes): Row) -> Option<LedgerRow> {
    let account = Account { stage: Stage::read(&stage)?, name, via, position, sentence, measure: Measure::read(&measure)? };
    Some(LedgerRow { account, amount: Amount { events, bytes } })
}

/// The ledger's rows since the beginning.
pub(crate) fn totals(c: &mut SqliteConnection) -> QueryResult<Vec<LedgerRow>> {
    use ledger_total::dsl as l;
    let rows: Vec<Row> = ledger_total::table.select((l::place, l::name, l::via, l::position, l::sentence, l::measure, l::events, l::bytes)).load(c)?;
    Ok(rows.into_iter().filter_map(row).collect())
}

pub(crate) fn ledger(c: &mut SqliteConnection, since: Option<i64>, until: Option<i64>) -> Result<Vec<LedgerRow>, SpoolError> {
    if since.is_none() && until.is_none() {
        return Ok(totals(c)?);
    }
    Ok(crate::rolled::sums(c, since, until)?.into_iter().map(|(account, amount)| LedgerRow { account, amount }).collect())
}

pub(crate) fn first_minute(c: &mut SqliteConnection, since: i64) -> Result<Option<i64>, SpoolError> {
    use ledger_minute::dsl as l;
    Ok(ledger_minute::table.filter(l::minute.ge(since)).select(diesel::dsl::min(l::minute)).first(c)?)
}

pub(crate) fn minutes(c: &mut SqliteConnection, stage: Stage, name: &str, since: i64) -> Result<Vec<(i64, Account, Amount)>, SpoolError> {
    use ledger_minute::dsl as l;
    let rows: Vec<(i64, Row)> = ledger_minute::table
        .filter(l::place.eq(stage.word()).and(l::name.eq(name)).and(l::minute.ge(since)))
        .order(l::minute)
        .select((l::minute, (l::place, l::name, l::via, l::position, l::sentence, l::measure, l::events, l::bytes)))
        .load(c)?;
    Ok(rows.into_iter().filter_map(|(minute, r)| row(r).map(|r| (minute, r.account, r.amount))).collect())
}

pub(crate) fn delivered_since(c: &mut SqliteConnection, minute: i64) -> Result<BTreeMap<String, Amount>, SpoolError> {
    use ledger_minute::dsl as l;
    let rows: Vec<(String, i64, i64)> = ledger_minute::table
        .filter(l::minute.ge(minute).and(l::place.eq(Stage::Destination.word())).and(l::measure.eq(Measure::Delivered.word())))
        .select((l::name, l::events, l::bytes))
        .load(c)?;
    let mut sums: BTreeMap<String, Amount> = BTreeMap::new();
    for (name, events, bytes) in rows {
        *sums.entry(name).or_default() += Amount { events, bytes };
    }
    Ok(sums)
}

/// What came to each source, was taken by each route and was accepted by each destination, from minute `since` to before minute `until`.
pub(crate) fn volumes(c: &mut SqliteConnection, since: i64, until: i64) -> Result<BTreeMap<(Stage, String), Amount>, SpoolError> {
    let counted = [(Stage::Source, Measure::Received), (Stage::Route, Measure::Taken), (Stage::Destination, Measure::Delivered)];
    let mut sums: BTreeMap<(Stage, String), Amount> = BTreeMap::new();
    for Volume { stage, name, measure, amount, .. } in minute_volumes(c, since, until, &counted.map(|(_, measure)| measure), None)? {
        if counted.contains(&(stage, measure)) {
            *sums.entry((stage, name)).or_default() += amount;
        }
    }
    Ok(sums)
}

/// The rows of these measures from minute `since` to before minute `until`; `names`: only at places of these names.
pub(crate) fn minute_volumes(
    c: &mut SqliteConnection,
    since: i64,
    until: i64,
    measures: &[Measure],
    names: Option<&[String]>,
) -> Result<Vec<Volume>, SpoolError> {
    use ledger_minute::dsl as l;
    let wanted = l::minute.ge(since).and(l::minute.lt(until)).and(l::measure.eq_any(measures.iter().map(|measure| measure.word())));
    let mut query = ledger_minute::table.filter(wanted).select((l::minute, l::place, l::name, l::measure, l::events, l::bytes)).into_boxed();
    if let Some(names) = names {
        query = query.filter(l::name.eq_any(names));
    }
    let rows: Vec<(i64, String, String, String, i64, i64)> = query.load(c)?;
    let volume = |(minute, place, name, measure, events, bytes): (i64, String, String, String, i64, i64)| {
        Some(Volume { minute, stage: Stage::read(&place)?, name, measure: Measure::read(&measure)?, amount: Amount { events, bytes } })
    };
    Ok(rows.into_iter().filter_map(volume).collect())
}

/// The name of the spool.
pub(crate) fn name(c: &mut SqliteConnection) -> Result<String, SpoolError> {
    Ok(crate::schema::identity::table.select(crate::schema::identity::name).first(c)?)
}

/// What waits for each destination, as the sums that every commit keeps say.
pub(crate) fn waiting(c: &mut SqliteConnection) -> Result<BTreeMap<String, Waiting>, SpoolError> {
    c.transaction(|c| {
        let rows: Vec<(String, i64, i64)> = due::table.select((due::destination, due::events, due::bytes)).load(c)?;
        let one = |(destination, events, bytes): (String, i64, i64)| {
            let oldest_ms = if events > 0 { oldest(c, &destination)? } else { 0 };
            Ok((destination, Waiting { amount: Amount { events, bytes }, oldest_ms }))
        };
        rows.into_iter().map(one).collect()
    })
}

/// What waits for each destination, counted.
fn counted(c: &mut SqliteConnection) -> QueryResult<BTreeMap<String, Amount>> {
    let rows: Vec<(String, i64, i64)> = entry::table.select((entry::destination, entry::events, entry::bytes)).load(c)?;
    let mut all: BTreeMap<String, Amount> = BTreeMap::new();
    for (destination, events, bytes) in rows {
        *all.entry(destination).or_default() += Amount { events, bytes };
    }
    Ok(all)
}

pub(crate) fn balance(c: &mut SqliteConnection) -> Result<Vec<Equation>, SpoolError> {
    c.transaction(|c| {
        let rows = ledger(c, None, None)?;
        let waiting = counted(c)?;
        let mut equations = rockrose_ledger::balance(rows.iter().map(|r| (&r.account, r.amount)), &waiting);
        let by_tag = crate::by_tag::whole(c)?;
        equations.extend(rockrose_ledger::balance_by_tag(rows.iter().map(|r| (&r.account, r.amount)), &by_tag));
        Ok(equations)
    })
}

type Aside = (i64, i64, String, String, String, String, Option<Vec<u8>>, i64);

impl Quarantined {
    fn of((id, at_ms, place, name, via, reason, data, size): Aside) -> Option<Quarantined> {
        Some(Quarantined { id, at_ms, stage: Stage::read(&place)?, name, via, reason, data: data.unwrap_or_default(), size: size as usize })
    }
}

pub(crate) fn quarantined(c: &mut SqliteConnection, page: Page) -> Result<Vec<Quarantined>, SpoolError> {
    use quarantine::dsl as q;
    let shown = (q::id, q::at_ms, q::place, q::name, q::via, q::reason, substr(q::data, 1, page.bytes), q::size);
    let older = quarantine::table.filter(q::id.lt(page.before.unwrap_or(i64::MAX)));
    let rows: Vec<Aside> = older.order(q::id.desc()).limit(page.most).select(shown).load(c)?;
    Ok(rows.into_iter().filter_map(Quarantined::of).collect())
}

pub(crate) fn quarantined_one(c: &mut SqliteConnection, id: i64) -> Result<Option<Quarantined>, SpoolError> {
    use quarantine::dsl as q;
    let row: Option<Aside> =
        quarantine::table.find(id).select((q::id, q::at_ms, q::place, q::name, q::via, q::reason, q::data.nullable(), q::size)).first(c).optional()?;
    Ok(row.and_then(Quarantined::of))
}

pub(crate) fn reached(c: &mut SqliteConnection, destination: &str, file: &str) -> Result<Option<u64>, SpoolError> {
    let length: Option<i64> = reached_table::table
        .filter(reached_table::destination.eq(destination).and(reached_table::file.eq(file)))
        .select(reached_table::length)
        .first(c)
        .optional()?;
    Ok(length.map(|n| n as u64))
}

/// Whether anything can be read.
pub(crate) fn can_read(c: &mut SqliteConnection) -> Result<(), SpoolError> {
    Ok(due::table.select(due::destination).first::<String>(c).optional().map(|_| ())?)
}
