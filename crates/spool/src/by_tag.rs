//! The account told apart by the values of tags, kept in the transaction of the events themselves.
//!
//! One commit may touch hundreds of accounts of hundreds of values. So it writes all that it adds as one row of numbers, and what many commits added is summed up now and then; whoever
//! reads adds what is not summed up yet.

use std::collections::BTreeMap;
use std::sync::Arc;

use diesel::connection::DefaultLoadingMode;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text};
use diesel::sqlite::SqliteConnection;
use foldhash::HashMap;
use rockrose_ledger::{Account, Amount, BEFORE, OTHER, Posting, varint};

use crate::queue::Sums;
use crate::reader::{self, Row, row};
use crate::rolled::{self, BY_TAG};
use crate::schema::{tag, tag_account, tag_pending};
use crate::{LedgerRow, SpoolError};

/// Most values of one tag that are told apart, over all time; further ones count under [`OTHER`].
pub(crate) const MAX_VALUES: usize = 500;
/// So many commits are summed up at once.
const PENDING: usize = if cfg!(test) { 3 } else { 1_024 };

/// The account of one value of a tag.
pub(crate) type OfValue = (String, Account);

/// What the writer knows of tags.
#[derive(Default)]
pub(crate) struct TagWriter {
    /// The tags that the last arrival was told apart by.
    active: Vec<Arc<str>>,
    known: HashMap<Arc<str>, KnownTag>,
    /// What the present commit adds: the minute, the number of the account, and how much. An account may stand there several times.
    adds: Vec<(i64, i64, Amount)>,
    /// How many commits are not summed up.
    pending: usize,
}

/// What the writer knows of one tag.
#[derive(Default)]
struct KnownTag {
    /// The values that it has had, numbered from 0.
    values: HashMap<Arc<str>, usize>,
    /// Values by where their texts lie, which is the same from batch to batch. They are kept, so that nothing else can lie there.
    met: HashMap<usize, (Arc<str>, usize)>,
    /// The numbers of accounts, by the account and the number of the value; 0, where that is not looked up yet.
    accounts: HashMap<Account, Vec<i64>>,
}

/// So many texts are kept to be known again.
const MET: usize = 16_384;

impl KnownTag {
    /// The number of a value, or of [`OTHER`] where there are too many.
    fn value(&mut self, value: &Arc<str>) -> usize {
        let at = value.as_ptr().addr();
        if let Some((_, number)) = self.met.get(&at) {
            return *number;
        }
        let is_known = self.values.contains_key(value) || self.values.len() < MAX_VALUES || **value == *BEFORE;
        let kept = if is_known { Arc::clone(value) } else { Arc::from(OTHER) };
        let next = self.values.len();
        let number = *self.values.entry(kept).or_insert(next);
        if self.met.len() >= MET {
            self.met.clear();
        }
        self.met.insert(at, (Arc::clone(value), number));
        number
    }
}

impl TagWriter {
    /// As the spool knows it: after the start, and after a commit that failed.
    pub(crate) fn load(c: &mut SqliteConnection) -> QueryResult<TagWriter> {
        let active: Vec<String> = tag::table.filter(tag::active.eq(true)).order(tag::name).select(tag::name).load(c)?;
        let met: Vec<(String, String)> = tag_account::table.select((tag_account::tag, tag_account::value)).distinct().load(c)?;
        let mut known: HashMap<Arc<str>, KnownTag> = HashMap::default();
        for (tag, value) in met {
            let values = &mut known.entry(Arc::from(tag)).or_default().values;
            values.insert(Arc::from(value), values.len());
        }
        let pending: i64 = tag_pending::table.count().get_result(c)?;
        Ok(TagWriter { active: active.into_iter().map(Arc::from).collect(), known, adds: Vec::new(), pending: pending as usize })
    }

    /// Whether postings are told apart by other tags than those before.
    pub(crate) fn is_other(&self, tags: &[Arc<str>], postings: &[Posting]) -> bool {
        let is_same = tags.len() == self.active.len() && tags.iter().all(|tag| self.active.contains(tag));
        !is_same && postings.iter().any(|posting| posting.account.is_by_tag())
    }

    /// From now on postings are told apart by these tags. All that was posted must be in the totals: what a tag was not told apart by counts as before it.
    pub(crate) fn change(&mut self, c: &mut SqliteConnection, tags: &[Arc<str>]) -> QueryResult<()> {
        for gone in self.active.iter().filter(|tag| !tags.contains(tag)) {
            diesel::update(tag::table.find(&**gone)).set(tag::active.eq(false)).execute(c)?;
        }
        let new: Vec<&Arc<str>> = tags.iter().filter(|tag| !self.active.contains(tag)).collect();
        for new in new {
            diesel::replace_into(tag::table).values((tag::name.eq(&**new), tag::active.eq(true))).execute(c)?;
            let mut counted = told_apart(reader::totals(c)?);
            for ((_, account), amount) in sums(c, new, None, None)? {
                let total = counted.entry(account).or_default();
                *total = *total - amount;
            }
            let before: Vec<(Account, Amount)> = counted.into_iter().filter(|(_, amount)| !amount.is_zero()).collect();
            for (account, amount) in before {
                let number = number(c, &account, new, BEFORE)?;
                add_to_total(c, number, amount)?;
            }
        }
        self.active = tags.to_vec();
        Ok(())
    }

    /// Adds postings of a minute to what the commit adds.
    pub(crate) fn post(&mut self, c: &mut SqliteConnection, minute: i64, tags: &[Arc<str>], posting: &Posting) -> QueryResult<()> {
        for of_tag in posting.by_tag.chunk_by(|a, b| a.tag == b.tag) {
            let Some(tag) = tags.get(of_tag[0].tag) else { continue };
            if !self.known.contains_key(tag) {
                self.known.insert(Arc::clone(tag), KnownTag::default());
            }
            let Some(known) = self.known.get_mut(tag) else { continue };
            // Taken out, so that values can be looked up meanwhile.
            let mut numbers = known.accounts.remove(&posting.account).unwrap_or_default();
            for one in of_tag {
                let value = known.value(&one.value);
                if numbers.len() <= value {
                    numbers.resize(value + 1, 0);
                }
                if numbers[value] == 0 {
                    let kept = known.values.iter().find(|(_, number)| **number == value).map_or(OTHER, |(kept, _)| kept);
                    numbers[value] = number(c, &posting.account, tag, kept)?;
                }
                self.adds.push((minute, numbers[value], one.amount));
            }
            known.accounts.insert(posting.account.clone(), numbers);
        }
        Ok(())
    }

    /// Keeps what the commit adds.
    pub(crate) fn keep(&mut self, c: &mut SqliteConnection) -> QueryResult<()> {
        if self.adds.is_empty() {
            return Ok(());
        }
        let mut amounts = Vec::with_capacity(6 * self.adds.len());
        let mut before = (0, 0);
        for (minute, account, amount) in self.adds.drain(..) {
            // Most are of the minute of the one before, and of an account close to it.
            for number in [minute - before.0, account - before.1, amount.events, amount.bytes] {
                varint::push_signed(number, &mut amounts);
            }
            before = (minute, account);
        }
        diesel::insert_into(tag_pending::table).values(tag_pending::amounts.eq(amounts)).execute(c)?;
        self.pending += 1;
        if self.pending >= PENDING {
            self.fold(c)?;
        }
        Ok(())
    }

    /// Adds to the sums what commits added. Within a transaction.
    pub(crate) fn fold(&mut self, c: &mut SqliteConnection) -> QueryResult<()> {
        self.pending = 0;
        let all = pending(c)?;
        if all.is_empty() {
            return Ok(());
        }
        let mut totals: HashMap<i64, Amount> = HashMap::default();
        for ((_, account), amount) in &all {
            *totals.entry(*account).or_default() += *amount;
        }
        for (account, amount) in totals {
            add_to_total(c, account, amount)?;
        }
        let until = rolled::until(c)?;
        for ((minute, account), amount) in &all {
            for (table, unit, length) in BY_TAG.tables().into_iter().filter(|(.., length)| *length == 1 || *minute < until) {
                let sql = format!(
                    "INSERT INTO {table} VALUES (?, ?, ?, ?)
                     ON CONFLICT ({unit}, account) DO UPDATE SET events = events + excluded.events, bytes = bytes + excluded.bytes"
                );
                diesel::sql_query(sql)
                    .bind::<BigInt, _>(minute.div_euclid(length))
                    .bind::<BigInt, _>(account)
                    .bind::<BigInt, _>(amount.events)
                    .bind::<BigInt, _>(amount.bytes)
                    .execute(c)?;
            }
        }
        diesel::delete(tag_pending::table).execute(c).map(|_| ())
    }
}

/// The number of an account under a value.
fn number(c: &mut SqliteConnection, account: &Account, tag: &str, value: &str) -> QueryResult<i64> {
    let (place, measure) = (account.stage.word(), account.measure.word());
    let same = tag_account::table
        .filter(tag_account::tag.eq(tag).and(tag_account::value.eq(value)).and(tag_account::place.eq(place)))
        .filter(tag_account::name.eq(&account.name).and(tag_account::via.eq(&account.via)).and(tag_account::position.eq(account.position)))
        .filter(tag_account::sentence.eq(&account.sentence).and(tag_account::measure.eq(measure)));
    if let Some(number) = same.select(tag_account::id).first(c).optional()? {
        return Ok(number);
    }
    let row = (
        tag_account::tag.eq(tag),
        tag_account::value.eq(value),
        tag_account::place.eq(place),
        tag_account::name.eq(&account.name),
        tag_account::via.eq(&account.via),
        tag_account::position.eq(account.position),
        tag_account::sentence.eq(&account.sentence),
        tag_account::measure.eq(measure),
        tag_account::events.eq(0),
        tag_account::bytes.eq(0),
    );
    diesel::insert_into(tag_account::table).values(row).returning(tag_account::id).get_result(c)
}

fn add_to_total(c: &mut SqliteConnection, account: i64, amount: Amount) -> QueryResult<()> {
    let sum = (tag_account::events.eq(tag_account::events + amount.events), tag_account::bytes.eq(tag_account::bytes + amount.bytes));
    diesel::update(tag_account::table.find(account)).set(sum).execute(c).map(|_| ())
}

/// What commits added and nobody summed up yet, by the minute and the number of the account.
fn pending(c: &mut SqliteConnection) -> QueryResult<HashMap<(i64, i64), Amount>> {
    let mut all: HashMap<(i64, i64), Amount> = HashMap::default();
    for row in tag_pending::table.select(tag_pending::amounts).load_iter::<Vec<u8>, DefaultLoadingMode>(c)? {
        let row = row?;
        let mut numbers = varint::Varints(&row).map(varint::signed);
        let (mut minute, mut account) = (0, 0);
        while let (Some(minutes), Some(accounts), Some(events), Some(bytes)) = (numbers.next(), numbers.next(), numbers.next(), numbers.next()) {
            minute += minutes;
            account += accounts;
            *all.entry((minute, account)).or_default() += Amount { events, bytes };
        }
    }
    Ok(all)
}

/// Of some rows of the ledger, the sums of what is told apart by tags.
fn told_apart(rows: Vec<LedgerRow>) -> BTreeMap<Account, Amount> {
    rows.into_iter().filter(|row| row.account.is_by_tag()).map(|row| (row.account, row.amount)).collect()
}

/// The tags that the plan accounts by.
pub(crate) fn active(c: &mut SqliteConnection) -> QueryResult<Vec<String>> {
    tag::table.filter(tag::active.eq(true)).order(tag::name).select(tag::name).load(c)
}

/// The accounts of a tag, by their numbers, and their sums since the beginning as far as they are summed up.
fn accounts(c: &mut SqliteConnection, tag: &str) -> QueryResult<HashMap<i64, (OfValue, Amount)>> {
    use tag_account::dsl as t;
    let columns = (t::id, t::value, (t::place, t::name, t::via, t::position, t::sentence, t::measure, t::events, t::bytes));
    let rows: Vec<(i64, String, Row)> = tag_account::table.filter(t::tag.eq(tag)).select(columns).load(c)?;
    Ok(rows.into_iter().filter_map(|(id, value, of)| row(of).map(|row| (id, ((value, row.account), row.amount)))).collect())
}

/// The sums by the values of a tag from minute `since` to before minute `until`; without both, since the beginning, and then also what was counted before the tag was told apart.
pub(crate) fn sums(c: &mut SqliteConnection, tag: &str, since: Option<i64>, until: Option<i64>) -> QueryResult<BTreeMap<OfValue, Amount>> {
    let mut accounts = accounts(c, tag)?;
    let span = since.unwrap_or(0).max(0)..until.unwrap_or(i64::MAX / 2);
    if since.is_some() || until.is_some() {
        accounts.values_mut().for_each(|(_, amount)| *amount = Amount::default());
        for (table, unit, range) in rolled::stretches(c, &BY_TAG, span.clone())? {
            let sql = format!(
                "SELECT account, SUM(events) AS events, SUM(bytes) AS bytes FROM {table}
                 WHERE {unit} >= ? AND {unit} < ? AND account IN (SELECT id FROM tag_account WHERE tag = ?) GROUP BY 1"
            );
            let rows: Vec<Sum> = diesel::sql_query(sql).bind::<BigInt, _>(range.start).bind::<BigInt, _>(range.end).bind::<Text, _>(tag).load(c)?;
            for Sum { account, events, bytes } in rows {
                if let Some((_, amount)) = accounts.get_mut(&account) {
                    *amount += Amount { events, bytes };
                }
            }
        }
    }
    for ((_, account), amount) in pending(c)?.into_iter().filter(|((minute, _), _)| (since.is_none() && until.is_none()) || span.contains(minute)) {
        if let Some((_, sum)) = accounts.get_mut(&account) {
            *sum += amount;
        }
    }
    let mut sums: BTreeMap<OfValue, Amount> = BTreeMap::new();
    for (of, amount) in accounts.into_values().filter(|(_, amount)| !amount.is_zero()) {
        *sums.entry(of).or_default() += amount;
    }
    Ok(sums)
}

#[derive(QueryableByName)]
struct Sum {
    #[diesel(sql_type = BigInt)]
    account: i64,
    #[diesel(sql_type = BigInt)]
    events: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
}

/// The sums of [`sums`], with what the ledger counted beside them under [`BEFORE`]. Nothing of a tag that the account was never told apart by. Within a transaction.
pub(crate) fn whole_account(c: &mut SqliteConnection, tag: &str, since: Option<i64>, until: Option<i64>) -> Result<Vec<(String, LedgerRow)>, SpoolError> {
    let is_known: i64 = tag::table.filter(tag::name.eq(tag)).count().get_result(c)?;
    if is_known == 0 {
        return Ok(Vec::new());
    }
    let mut rest = told_apart(reader::ledger(c, since, until)?);
    let mut all = Vec::new();
    for ((value, account), amount) in sums(c, tag, since, until)?.into_iter().filter(|((value, _), _)| value != BEFORE) {
        let left = rest.entry(account.clone()).or_default();
        *left = *left - amount;
        all.push((value, LedgerRow { account, amount }));
    }
    let rest = rest.into_iter().filter(|(_, amount)| !amount.is_zero());
    all.extend(rest.map(|(account, amount)| (BEFORE.to_owned(), LedgerRow { account, amount })));
    Ok(all)
}

/// Of each tag that the plan accounts by, the sums of all its values since the beginning.
pub(crate) fn whole(c: &mut SqliteConnection) -> QueryResult<BTreeMap<Arc<str>, BTreeMap<Account, Amount>>> {
    let mut all = BTreeMap::new();
    for tag in active(c)? {
        let mut whole: BTreeMap<Account, Amount> = BTreeMap::new();
        for ((_, account), amount) in sums(c, &tag, None, None)? {
            *whole.entry(account).or_default() += amount;
        }
        all.insert(Arc::from(tag), whole);
    }
    Ok(all)
}

/// Posts what is counted in a minute, with what it is by `tags`.
pub(crate) fn post_all(
    c: &mut SqliteConnection,
    minute: i64,
    tags: &[Arc<str>],
    postings: &[Posting],
    sums: &mut Sums,
    by_tag: &mut TagWriter,
) -> QueryResult<()> {
    for posting in postings {
        *sums.entry((minute, posting.account.clone())).or_default() += posting.amount;
        by_tag.post(c, minute, tags, posting)?;
    }
    Ok(())
}
