//! The account over long times: minutes are summed up by the hour and by the day, so that a year is kept in little room and asked for in little time.
//!
//! An hour is summed up once it is over, in one transaction that also notes up to which minute that is done. What is posted for an earlier minute later on (after
//! a clock was set back) is added to all three, in its own commit. So what hours and days say is what their minutes did, also when those are gone.

use std::collections::BTreeMap;
use std::ops::Range;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Integer, Text};
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Account, Amount, Measure, Stage};

use crate::SpoolError;
use crate::schema::{ledger_minute, rolled};

/// Minutes that are kept: 35 days.
pub(crate) const KEEP_MINUTES: i64 = 35 * DAY;
/// Minutes of the hours that are kept: 400 days.
const KEEP_HOURS: i64 = 400 * DAY;
/// Minutes in an hour and in a day.
const HOUR: i64 = 60;
const DAY: i64 = 24 * HOUR;
/// So many minutes after its end an hour is summed up.
const SETTLE: i64 = 5;

/// An account that is kept by the minute, hour and day.
pub(crate) struct Kept {
    tables: [&'static str; 3],
    /// The columns by which its rows are told apart.
    key: &'static str,
    /// How many of them.
    width: usize,
}

/// The ledger.
pub(crate) const LEDGER: Kept = Kept { tables: ["ledger_minute", "ledger_hour", "ledger_day"], key: "place, name, via, position, sentence, measure", width: 6 };
/// The same by the values of tags.
pub(crate) const BY_TAG: Kept = Kept { tables: ["tag_minute", "tag_hour", "tag_day"], key: "account", width: 1 };

impl Kept {
    /// Its tables, each with the column that says when, and how many minutes that is.
    pub(crate) fn tables(&self) -> [(&'static str, &'static str, i64); 3] {
        let [minutes, hours, days] = self.tables;
        [(minutes, "minute", 1), (hours, "hour", HOUR), (days, "day", DAY)]
    }
}

/// Up to which minute (exclusive) hours and days are summed up.
pub(crate) fn until(c: &mut SqliteConnection) -> QueryResult<i64> {
    rolled::table.select(rolled::until).first(c)
}

/// Sums up the hours that are over at minute `newest`, and forgets what is too old. Within a transaction.
pub(crate) fn roll(c: &mut SqliteConnection, newest: i64) -> QueryResult<()> {
    let (from, to) = (until(c)?, (newest - SETTLE).div_euclid(HOUR) * HOUR);
    if from < to {
        add(c, &LEDGER, from..to)?;
        add(c, &BY_TAG, from..to)?;
        diesel::update(rolled::table).set(rolled::until.eq(to)).execute(c)?;
    }
    for Kept { tables: [minutes, hours, _], .. } in [LEDGER, BY_TAG] {
        diesel::sql_query(format!("DELETE FROM {hours} WHERE hour < ?")).bind::<BigInt, _>((newest - KEEP_HOURS).div_euclid(HOUR)).execute(c)?;
        diesel::sql_query(format!("DELETE FROM {minutes} WHERE minute < ?")).bind::<BigInt, _>(newest - KEEP_MINUTES).execute(c)?;
    }
    Ok(())
}

/// Adds what these minutes sum up to. Of minutes before 1970 there are none.
fn add(c: &mut SqliteConnection, of: &Kept, minutes: Range<i64>) -> QueryResult<()> {
    let [(from, ..), longer @ ..] = of.tables();
    let (key, columns) = (of.key, (1..=of.width + 1).map(|n| n.to_string()).collect::<Vec<_>>().join(", "));
    for (table, unit, length) in longer {
        let sql = format!(
            "INSERT INTO {table} SELECT minute / {length}, {key}, SUM(events), SUM(bytes) FROM {from} WHERE minute >= ? AND minute < ? GROUP BY {columns}
             ON CONFLICT ({unit}, {key}) DO UPDATE SET events = events + excluded.events, bytes = bytes + excluded.bytes"
        );
        diesel::sql_query(sql).bind::<BigInt, _>(minutes.start).bind::<BigInt, _>(minutes.end).execute(c)?;
    }
    Ok(())
}

/// Adds to hours and days what is posted for a minute that they were summed up with already.
pub(crate) fn post_late(c: &mut SqliteConnection, postings: &BTreeMap<(i64, Account), Amount>) -> QueryResult<()> {
    let until = until(c)?;
    for ((minute, account), amount) in postings.range(..(until, first())) {
        for (table, unit, length) in LEDGER.tables().into_iter().skip(1) {
            let sql = format!(
                "INSERT INTO {table} VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
                 ON CONFLICT ({unit}, place, name, via, position, sentence, measure) DO UPDATE SET events = events + excluded.events, bytes = bytes + excluded.bytes"
            );
            diesel::sql_query(sql)
                .bind::<BigInt, _>(minute.div_euclid(length))
                .bind::<Text, _>(account.stage.word())
                .bind::<Text, _>(&account.name)
                .bind::<Text, _>(&account.via)
                .bind::<Integer, _>(account.position)
                .bind::<Text, _>(&account.sentence)
                .bind::<Text, _>(account.measure.word())
                .bind::<BigInt, _>(amount.events)
                .bind::<BigInt, _>(amount.bytes)
                .execute(c)?;
        }
    }
    Ok(())
}

/// The account that stands before all others.
fn first() -> Account {
    Account { stage: Stage::Source, name: String::new(), via: String::new(), position: 0, sentence: String::new(), measure: Measure::Lost }
}

/// A row of any of the three tables, or a sum of some.
#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = BigInt)]
    at: i64,
    #[diesel(sql_type = Text)]
    place: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = Text)]
    via: String,
    #[diesel(sql_type = Integer)]
    position: i32,
    #[diesel(sql_type = Text)]
    sentence: String,
    #[diesel(sql_type = Text)]
    measure: String,
    #[diesel(sql_type = BigInt)]
    events: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
}

impl Row {
    fn read(self) -> Option<(Account, Amount)> {
        let (stage, measure) = (Stage::read(&self.place)?, Measure::read(&self.measure)?);
        let account = Account { stage, name: self.name, via: self.via, position: self.position, sentence: self.sentence, measure };
        Some((account, Amount { events: self.events, bytes: self.bytes }))
    }
}

/// Which rows of which table are read.
type Stretch = (&'static str, &'static str, Range<i64>);

/// A span of minutes as rows of the three tables of an account.
pub(crate) fn stretches(c: &mut SqliteConnection, of: &Kept, span: Range<i64>) -> QueryResult<Vec<Stretch>> {
    Ok(parts(of, span, until(c)?, newest(c)?))
}

/// A span of minutes as rows of the three tables, so that few are read. Where minutes are not kept any more, whole hours stand for them, and whole days for hours.
fn parts(of: &Kept, span: Range<i64>, rolled: i64, newest: i64) -> Vec<Stretch> {
    let [minutes, hours, days] = of.tables;
    let (mut from, to) = (span.start, span.end.max(span.start));
    if from < newest - KEEP_MINUTES {
        from = from.div_euclid(HOUR) * HOUR;
    }
    if from < newest - KEEP_HOURS {
        from = from.div_euclid(DAY) * DAY;
    }
    // The parts: minutes, hours, days, hours, minutes, each as far as it was summed up.
    let summed = to.min(rolled);
    let up = |at: i64, length: i64| (at + length - 1).div_euclid(length) * length;
    let down = |at: i64, length: i64| at.div_euclid(length) * length;
    let (first_hour, last_hour) = (up(from, HOUR), down(summed, HOUR));
    if first_hour >= last_hour {
        return vec![(minutes, "minute", from..to)];
    }
    let (first_day, last_day) = (up(first_hour, DAY), down(last_hour, DAY));
    let mut parts = vec![(minutes, "minute", from..first_hour)];
    let hour = |minutes: Range<i64>| (hours, "hour", minutes.start / HOUR..minutes.end / HOUR);
    if first_day >= last_day {
        parts.push(hour(first_hour..last_hour));
    } else {
        parts.push(hour(first_hour..first_day));
        parts.push((days, "day", first_day / DAY..last_day / DAY));
        parts.push(hour(last_day..last_hour));
    }
    parts.push((minutes, "minute", last_hour..to));
    parts.retain(|(_, _, range)| range.start < range.end);
    parts
}

/// The newest minute of which anything is kept; 0, if nothing is.
fn newest(c: &mut SqliteConnection) -> QueryResult<i64> {
    ledger_minute::table.select(diesel::dsl::max(ledger_minute::minute)).first::<Option<i64>>(c).map(|newest| newest.unwrap_or(0))
}

/// The sums of all accounts from minute `since` to before minute `until`.
pub(crate) fn sums(c: &mut SqliteConnection, since: Option<i64>, until: Option<i64>) -> Result<BTreeMap<Account, Amount>, SpoolError> {
    // Nothing was counted before 1970, and nothing is counted beyond what anybody sees.
    let span = since.unwrap_or(0).max(0)..until.unwrap_or(i64::MAX / 2);
    c.transaction(|c| {
        let mut sums: BTreeMap<Account, Amount> = BTreeMap::new();
        for (table, unit, range) in stretches(c, &LEDGER, span)? {
            let sql = format!(
                "SELECT 0 AS at, place, name, via, position, sentence, measure, SUM(events) AS events, SUM(bytes) AS bytes FROM {table}
                 WHERE {unit} >= ? AND {unit} < ? GROUP BY 2, 3, 4, 5, 6, 7"
            );
            let rows: Vec<Row> = diesel::sql_query(sql).bind::<BigInt, _>(range.start).bind::<BigInt, _>(range.end).load(c)?;
            for (account, amount) in rows.into_iter().filter_map(Row::read) {
                *sums.entry(account).or_default() += amount;
            }
        }
        Ok(sums)
    })
}

/// The accounts of a place by the hour, from minute `since` to before minute `until`: whole hours, by when they begin, in minutes since 1970. At a route or source these are
/// its own accounts, and with `via` those of the destinations that have events by it.
pub(crate) fn hours(c: &mut SqliteConnection, stage: Stage, name: &str, measure: Measure, span: Range<i64>) -> Result<Vec<(i64, Account, Amount)>, SpoolError> {
    let (from, to) = (span.start.div_euclid(HOUR), span.end.div_euclid(HOUR));
    c.transaction(|c| {
        let summed = (until(c)? / HOUR).clamp(from, to.max(from));
        let column = if stage == Stage::Route && measure == Measure::Enqueued { "via" } else { "name" };
        let stage = if column == "via" { Stage::Destination } else { stage };
        let mut found = Vec::new();
        for (table, unit, range) in [("ledger_hour", "hour", from..summed), ("ledger_minute", "minute / 60", summed..to)] {
            let (low, high) = if table == "ledger_hour" { (range.start, range.end) } else { (range.start * HOUR, range.end * HOUR) };
            let key = if table == "ledger_hour" { "hour" } else { "minute" };
            let sql = format!(
                "SELECT {unit} AS at, place, name, via, position, sentence, measure, SUM(events) AS events, SUM(bytes) AS bytes FROM {table}
                 WHERE {key} >= ? AND {key} < ? AND place = ? AND {column} = ? AND measure = ? GROUP BY 1, 2, 3, 4, 5, 6, 7 ORDER BY 1"
            );
            let rows: Vec<Row> = diesel::sql_query(sql)
                .bind::<BigInt, _>(low)
                .bind::<BigInt, _>(high)
                .bind::<Text, _>(stage.word())
                .bind::<Text, _>(name)
                .bind::<Text, _>(measure.word())
                .load(c)?;
            found.extend(rows.into_iter().filter_map(|row| {
                let at = row.at * HOUR;
                row.read().map(|(account, amount)| (at, account, amount))
            }));
        }
        Ok(found)
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use std::sync::Arc;

    use rockrose_ledger::{Posting, TagAmount};

    use super::*;
    use crate::by_tag::TagWriter;
    use crate::writer::post;

    fn account(name: &str) -> Account {
        Account { stage: Stage::Destination, name: name.to_owned(), via: "web".to_owned(), measure: Measure::Enqueued, ..first() }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        /// However postings and the summing up of hours follow each other, and however the clock is set, any span sums to what was posted for its minutes.
        #[test]
        fn spans_sum_to_what_was_posted(
            posted in prop::collection::vec((0..4_000i64, 0..3usize, 1..50i64, any::<bool>()), 1..60),
            spans in prop::collection::vec((0..4_200i64, 0..4_200i64), 1..8),
        ) {
            let dir = tempfile::tempdir().unwrap();
            let mut c = crate::connect::writer(&dir.path().join("spool.db")).unwrap();
            // Twenty days in, so that no minute is too old to be kept.
            let base = 20 * DAY + 17;
            let names = ["desk", "vault", "far"];
            let tag: Arc<str> = Arc::from("port");
            let mut tags = TagWriter::load(&mut c).unwrap();
            for (minute, name, events, rolls) in &posted {
                let postings = BTreeMap::from([((base + minute, account(names[*name])), Amount { events: *events, bytes: events * 10 })]);
                post(&mut c, &postings).unwrap();
                let amount = Amount { events: *events, bytes: events * 10 };
                let by_tag = vec![TagAmount { tag: 0, value: Arc::from(names[2 - *name]), amount }];
                tags.post(&mut c, base + minute, std::slice::from_ref(&tag), &Posting { account: account(names[*name]), amount, by_tag }).unwrap();
                tags.keep(&mut c).unwrap();
                if *rolls {
                    tags.fold(&mut c).unwrap();
                    roll(&mut c, base + minute).unwrap();
                }
            }
            for (a, b) in spans {
                let (from, to) = (base + a.min(b), base + a.max(b));
                let mut expected: BTreeMap<Account, Amount> = BTreeMap::new();
                for (_, name, events, _) in posted.iter().filter(|(minute, ..)| (from..to).contains(&(base + minute))) {
                    *expected.entry(account(names[*name])).or_default() += Amount { events: *events, bytes: events * 10 };
                }
                let by_tag = |(name, amount): (Account, Amount)| ((names.iter().rev().zip(names).find(|(_, n)| *n == name.name).unwrap().0.to_string(), name), amount);
                let told_apart: BTreeMap<_, _> = expected.clone().into_iter().map(by_tag).collect();
                prop_assert_eq!(crate::by_tag::sums(&mut c, "port", Some(from), Some(to)).unwrap(), told_apart);
                prop_assert_eq!(sums(&mut c, Some(from), Some(to)).unwrap(), expected);
                // By the hour, whole hours.
                let (from, to) = (from / HOUR * HOUR, to / HOUR * HOUR);
                let mut by_hour: BTreeMap<i64, i64> = BTreeMap::new();
                for (minute, _, events, _) in posted.iter().filter(|(minute, name, ..)| *name == 0 && (from..to).contains(&(base + minute))) {
                    *by_hour.entry((base + minute) / HOUR * HOUR).or_default() += events;
                }
                let told: BTreeMap<i64, i64> = hours(&mut c, Stage::Destination, "desk", Measure::Enqueued, from..to).unwrap().into_iter().map(|(at, _, amount)| (at, amount.events)).collect();
                prop_assert_eq!(told, by_hour);
            }
        }
    }

    #[test]
    fn minutes_go_and_their_hours_and_days_stay() {
        let dir = tempfile::tempdir().unwrap();
        let mut c = crate::connect::writer(&dir.path().join("spool.db")).unwrap();
        let start = 1_000 * DAY;
        for minute in [start + 5, start + 70, start + 2 * DAY] {
            post(&mut c, &BTreeMap::from([((minute, account("desk")), Amount { events: 1, bytes: 7 })])).unwrap();
        }
        let whole = |c: &mut SqliteConnection| sums(c, Some(start), Some(start + 3 * DAY)).unwrap().values().map(|amount| amount.events).sum::<i64>();
        roll(&mut c, start + 2 * DAY + 100).unwrap();
        for days in [0, 36, 401, 4_000] {
            let now = start + (2 + days) * DAY;
            post(&mut c, &BTreeMap::from([((now, account("desk")), Amount { events: 0, bytes: 1 })])).unwrap();
            roll(&mut c, now + 100).unwrap();
            assert_eq!(whole(&mut c), 3, "after {days} days");
        }
        let rows = |c: &mut SqliteConnection, table: &str| {
            #[derive(QueryableByName)]
            struct Count {
                #[diesel(sql_type = BigInt)]
                rows: i64,
            }
            diesel::sql_query(format!("SELECT COUNT(*) AS rows FROM {table}")).get_result::<Count>(c).unwrap().rows
        };
        assert_eq!([rows(&mut c, "ledger_minute"), rows(&mut c, "ledger_hour"), rows(&mut c, "ledger_day")], [1, 1, 5]);
    }

    #[test]
    fn a_span_is_read_in_as_few_rows_as_it_can_be() {
        let at = |day: i64, hour: i64, minute: i64| day * DAY + hour * HOUR + minute;
        let newest = at(100, 12, 30);
        let rolled = at(100, 12, 0);
        let told = |span: Range<i64>| -> Vec<String> {
            parts(&LEDGER, span, rolled, newest).into_iter().map(|(_, unit, range)| format!("{unit} {}..{}", range.start, range.end)).collect()
        };
        assert_eq!(told(at(100, 11, 50)..at(100, 12, 40)), [format!("minute {}..{}", at(100, 11, 50), at(100, 12, 40))]);
        assert_eq!(
            told(at(98, 22, 30)..at(100, 12, 31)),
            [
                format!("minute {}..{}", at(98, 22, 30), at(98, 23, 0)),
                format!("hour {}..{}", 98 * 24 + 23, 99 * 24),
                "day 99..100".to_owned(),
                format!("hour {}..{}", 100 * 24, 100 * 24 + 12),
                format!("minute {}..{}", at(100, 12, 0), at(100, 12, 31)),
            ]
        );
        assert_eq!(told(at(99, 0, 0)..at(100, 0, 0)), ["day 99..100"]);
        // Minutes that are gone are told by their hours.
        assert_eq!(told(at(50, 3, 30)..at(51, 0, 0)), [format!("hour {}..{}", 50 * 24 + 3, 51 * 24)]);
    }
}
