//! The one thread that writes. It takes what has piled up while the last commit ran, applies it in one transaction, and answers.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use diesel::connection::SimpleConnection;
use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;
use diesel::upsert::excluded;
use rockrose_ledger::{Account, Added, Amount, Earlier, Entry, Measure, Posting, Series, Stage, WindowChange};
use tokio::sync::{mpsc, oneshot, watch};

use crate::batch::{Progress, Settlement, Unnamed};
use crate::by_tag::{TagWriter, post_all};
use crate::extras::{self, CommitExtras};
use crate::operate::{Discard, GiveUp};
use crate::packed::Packed;
use crate::queue::{Aside, Moved, Sums, keep_aside, keep_batch, oldest, queue, release};
use crate::resent::{self, Became, Resend};
use crate::schema::{due, entry, ledger_minute, ledger_total, reached};
use crate::unpacked::{Unpacked, UnpackedCache};
use crate::{SpoolError, Waiting, lock, metrics, quarantine, rolled};

/// Most writes that share a commit.
const GROUP: usize = 256;
/// Most bytes that share a commit.
const GROUP_BYTES: usize = 16 << 20;
/// The quarantine is tidied at once when so many bytes came there.
const TIDY_ASIDE: usize = 32 << 20;
/// How often the writer tidies.
const TIDY_EVERY: Duration = Duration::from_secs(30);

/// So many free pages (64 MB) are given back as soon as nobody waits.
const SHRINK_FROM: i64 = 2_048;
/// So many are kept for what comes next.
const SHRINK_TO: i64 = 512;
/// Pages given back at a time, which holds up a write for some milliseconds at the most.
const SHRINK_STEP: i64 = 256;
/// Pause between two of these.
const SHRINK_PAUSE: Duration = Duration::from_millis(5);
/// How often free pages are looked for.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// One body's worth of events, to be made durable together.
#[derive(Debug, Default)]
pub struct Arrival {
    /// The source it came to.
    pub source: String,
    /// When, in milliseconds since 1970.
    pub arrived_ms: i64,
    /// Distinct event lines as packed by [`pack`].
    pub data: Packed,
    /// What is due where.
    pub entries: Vec<Entry>,
    /// The account.
    pub postings: Vec<Posting>,
    /// The tags by which it is told apart.
    pub tags: Arc<[Arc<str>]>,
    /// Records that could not be read.
    pub unread: Vec<Unread>,
    /// How windows stand now.
    pub held: Vec<WindowChange>,
    /// What is added to metrics.
    pub metrics: Vec<(Series, Added)>,
    /// What else becomes durable with it.
    pub extras: CommitExtras,
}

/// A record that could not be read, with the reason.
#[derive(Debug)]
pub struct Unread {
    /// Why it could not be read.
    pub reason: String,
    /// Its bytes as they came: at the most the first [`crate::KEPT_OF_RECORD`].
    pub data: Vec<u8>,
    /// How many bytes it has.
    pub size: usize,
}

/// What is to be written, and who wants to know when it is.
pub(crate) struct Write {
    pub(crate) what: What,
    /// Told what was moved, where something was.
    pub(crate) answer: oneshot::Sender<Result<Amount, SpoolError>>,
}

pub(crate) enum What {
    Store(Box<Arrival>),
    Settle(Box<Settlement>),
    Discard(Discard),
    Resend(Resend),
    GiveUp(GiveUp),
}

/// What the writer shares with its handles.
pub(crate) struct Shared {
    pub(crate) waiting: Mutex<BTreeMap<String, Waiting>>,
    pub(crate) arrivals: watch::Sender<u64>,
    pub(crate) commits: AtomicU64,
    /// Batches that need not be unpacked.
    pub(crate) kept: UnpackedCache,
}

pub(crate) fn run(mut connection: SqliteConnection, mut tags: TagWriter, mut queue: mpsc::Receiver<Write>, shared: &Shared) {
    let mut group = Vec::new();
    let (mut tidied, mut aside) = (Instant::now(), 0);
    let mut shrinking = Shrinking::default();
    while let Some(first) = shrinking.until_next(&mut connection, &mut queue) {
        let mut bytes = first.len();
        group.push(first);
        while group.len() < GROUP && bytes < GROUP_BYTES {
            let Ok(next) = queue.try_recv() else { break };
            bytes += next.len();
            group.push(next);
        }
        let (mut moved, mut stored) = (BTreeMap::new(), Vec::new());
        let done: QueryResult<Each> = connection.immediate_transaction(|c| {
            moved.clear();
            stored.clear();
            let each = apply(c, &group, &mut moved, &mut stored, &mut tags)?;
            keep_sums(c, &moved)?;
            Ok(each)
        });
        let done = match done.map_err(SpoolError::from) {
            Ok(each) => each,
            Err(e) => {
                tracing::error!(error = %e, writes = group.len(), "a commit failed; nothing of it was kept");
                reload(&mut connection, &mut tags);
                group.iter().map(|_| Err(e.clone())).collect()
            }
        };
        if done.iter().any(Result::is_ok) {
            shared.commits.fetch_add(1, Ordering::AcqRel);
            stored.iter().for_each(|(batch, plain)| shared.kept.put(*batch, plain));
            let queued = settle_waiting(shared, moved);
            if queued {
                shared.arrivals.send_modify(|n| *n += 1);
            }
        }
        aside += group.iter().map(Write::aside).sum::<usize>();
        for (write, done) in group.drain(..).zip(done) {
            // A caller that went away does not need the answer.
            let _ = write.answer.send(done);
        }
        if aside >= TIDY_ASIDE {
            aside = 0;
            if let Err(e) = quarantine::tidy(&mut connection, quarantine::BOUNDS) {
                tracing::warn!(error = %e, "tidying the quarantine failed");
            }
        }
        if tidied.elapsed() >= TIDY_EVERY {
            tidied = Instant::now();
            if let Err(e) = tidy(&mut connection, &mut tags) {
                tracing::warn!(error = %e, "tidying the spool failed");
                reload(&mut connection, &mut tags);
            }
        }
    }
}

/// What the writer knows of tags is what the spool does again. Where that cannot be read, the next commits fail as well.
fn reload(c: &mut SqliteConnection, tags: &mut TagWriter) {
    match TagWriter::load(c) {
        Ok(known) => *tags = known,
        Err(e) => tracing::error!(error = %e, "the tags of the account cannot be read"),
    }
}

/// Gives the room of a backlog that is gone back to the disk, while nobody waits for a commit.
#[derive(Default)]
struct Shrinking {
    looked: Option<Instant>,
    going_on: bool,
}

impl Shrinking {
    /// The next write. Until it comes, room is given back, bit by bit, if much is free.
    fn until_next(&mut self, c: &mut SqliteConnection, queue: &mut mpsc::Receiver<Write>) -> Option<Write> {
        if !self.going_on && self.looked.is_none_or(|at| at.elapsed() >= LOOK_EVERY) {
            self.looked = Some(Instant::now());
            self.going_on = free_pages(c) >= SHRINK_FROM;
        }
        while self.going_on {
            match queue.try_recv() {
                Ok(write) => return Some(write),
                Err(mpsc::error::TryRecvError::Disconnected) => return None,
                Err(mpsc::error::TryRecvError::Empty) => {}
            }
            let gave = c.batch_execute(&format!("PRAGMA incremental_vacuum({SHRINK_STEP});"));
            self.going_on = gave.is_ok() && free_pages(c) >= SHRINK_TO;
            if !self.going_on {
                // What was given back leaves the file with a checkpoint.
                let _ = c.batch_execute("PRAGMA wal_checkpoint(TRUNCATE);");
            }
            std::thread::sleep(SHRINK_PAUSE);
        }
        queue.blocking_recv()
    }
}

/// How many pages of the file are free.
fn free_pages(c: &mut SqliteConnection) -> i64 {
    #[derive(QueryableByName)]
    struct Free {
        #[diesel(sql_type = diesel::sql_types::BigInt)]
        freelist_count: i64,
    }
    diesel::sql_query("PRAGMA freelist_count").get_result::<Free>(c).map_or(0, |free| free.freelist_count)
}

/// Adds to what waits for each destination how its queue moved.
fn keep_sums(c: &mut SqliteConnection, moved: &BTreeMap<String, Moved>) -> QueryResult<()> {
    use due::dsl as d;
    for (destination, Moved { by, .. }) in moved {
        let row = (d::destination.eq(destination), d::events.eq(by.events), d::bytes.eq(by.bytes));
        let sum = (d::events.eq(d::events + excluded(d::events)), d::bytes.eq(d::bytes + excluded(d::bytes)));
        diesel::insert_into(due::table).values(row).on_conflict(d::destination).do_update().set(sum).execute(c)?;
    }
    Ok(())
}

impl Write {
    /// Bytes of records that could not be read.
    fn aside(&self) -> usize {
        match &self.what {
            What::Store(arrival) => arrival.unread.iter().map(|u| u.data.len()).sum(),
            _ => 0,
        }
    }

    fn len(&self) -> usize {
        match &self.what {
            What::Store(arrival) => arrival.data.data.len() + self.aside(),
            What::Settle(_) | What::Discard(_) | What::Resend(_) | What::GiveUp(_) => 0,
        }
    }
}

fn settle_waiting(shared: &Shared, moved: BTreeMap<String, Moved>) -> bool {
    let mut waiting = lock(&shared.waiting);
    let mut queued = false;
    for (destination, moved) in moved {
        let now = waiting.entry(destination).or_default();
        now.amount += moved.by;
        queued |= moved.queued_ms.is_some();
        if let Some(oldest) = moved.oldest {
            now.oldest_ms = oldest;
        }
        if now.oldest_ms == 0 {
            now.oldest_ms = moved.queued_ms.unwrap_or(0);
        }
        if now.amount.events <= 0 {
            now.oldest_ms = 0;
        }
    }
    queued
}

/// What became of each write of a group, unless the whole of it failed.
type Each = Vec<Result<Amount, SpoolError>>;
/// Batches that were stored, as they were before they were packed.
type Stored = Vec<(i64, Arc<Unpacked>)>;

fn apply(c: &mut SqliteConnection, group: &[Write], moved: &mut BTreeMap<String, Moved>, stored: &mut Stored, tags: &mut TagWriter) -> QueryResult<Each> {
    let mut sums: Sums = BTreeMap::new();
    let mut added: BTreeMap<(i64, Series), Added> = BTreeMap::new();
    let mut each = Vec::with_capacity(group.len());
    for write in group {
        let told_apart = match &write.what {
            What::Store(arrival) => Some((&arrival.tags, &arrival.postings)),
            What::Resend(resend) => Some((&resend.tags, &resend.postings)),
            _ => None,
        };
        if let Some((by, postings)) = told_apart
            && tags.is_other(by, postings)
        {
            post(c, &std::mem::take(&mut sums))?;
            tags.keep(c)?;
            tags.change(c, by)?;
        }
        let done = match &write.what {
            What::Store(arrival) if extras::was_taken(c, &arrival.source, &arrival.extras)? => Err(SpoolError::Repeated),
            What::Store(arrival) => {
                extras::keep(c, &arrival.source, arrival.arrived_ms, &arrival.extras)?;
                let batch = store(c, arrival, moved, &mut sums, tags)?;
                stored.extend(batch.zip(arrival.data.plain.clone()));
                metrics::keep_held(c, &arrival.held)?;
                for (series, more) in &arrival.metrics {
                    added.entry((arrival.arrived_ms.div_euclid(60_000), series.clone())).or_default().add(more);
                }
                Ok(Amount::default())
            }
            // One that comes too late harms nobody else in the group.
            What::Settle(settlement) if !still_due(c, settlement)? => Err(SpoolError::Settled),
            What::Settle(settlement) => settle(c, settlement, moved, &mut sums).map(|()| Ok(settlement.amount()))?,
            What::Discard(discard) => Ok(discard.apply(c, moved, &mut sums)?),
            What::Resend(resend) => resend.apply(c, moved, &mut sums, tags)?,
            What::GiveUp(give_up) => Ok(give_up.apply(c, moved, &mut sums)?),
        };
        each.push(done);
    }
    metrics::add(c, &added)?;
    post(c, &sums)?;
    tags.keep(c)?;
    Ok(each)
}

/// Whether all that a settlement covers still waits, from where it was taken.
fn still_due(c: &mut SqliteConnection, s: &Settlement) -> QueryResult<bool> {
    for progress in &s.progress {
        let done: Option<i64> = entry::table.find(progress.entry).select(entry::done).first(c).optional()?;
        if done != Some(progress.done) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Returns the number of its batch, if any of it leaves.
fn store(c: &mut SqliteConnection, arrival: &Arrival, moved: &mut BTreeMap<String, Moved>, sums: &mut Sums, tags: &mut TagWriter) -> QueryResult<Option<i64>> {
    let mut stored = None;
    if !arrival.entries.is_empty() {
        let id = keep_batch(c, &arrival.source, arrival.arrived_ms, &arrival.data, arrival.entries.len())?;
        stored = Some(id);
        for due in &arrival.entries {
            queue(c, id, due, arrival.arrived_ms, moved)?;
        }
    }
    for unread in &arrival.unread {
        let (name, reason, data) = (&*arrival.source, &*unread.reason, &*unread.data);
        keep_aside(c, Aside { at_ms: arrival.arrived_ms, stage: Stage::Source, name, via: "", reason, data, size: unread.size, earlier: None })?;
    }
    post_all(c, arrival.arrived_ms.div_euclid(60_000), &arrival.tags, &arrival.postings, sums, tags)?;
    Ok(stored)
}

fn settle(c: &mut SqliteConnection, s: &Settlement, moved: &mut BTreeMap<String, Moved>, postings: &mut Sums) -> QueryResult<()> {
    let minute = s.at_ms.div_euclid(60_000);
    let mut post = |via: &str, measure: Measure, amount: Amount| {
        let account = Account::at_destination(&s.destination, via, measure);
        *postings.entry((minute, account)).or_default() += amount;
    };
    let mut unnamed = s.unnamed.as_ref().map_or(0, |u| u.events);
    let mut refused_lines = s.refused_lines.iter();
    for Progress { entry: id, batch: of, route, done, lines, amount, finished } in &s.progress {
        let due = entry::table.find(id);
        if let Some(reason) = &s.refused {
            let earlier: Vec<u8> = due.select(entry::earlier).first(c)?;
            let mut earlier = Earlier::read(&earlier).skip(*done as usize);
            for (line, place) in refused_lines.by_ref().take(*lines).zip(*done..) {
                let earlier = earlier.next().flatten().and_then(|difference| difference.earlier(line));
                let (stage, name, data, earlier) = (Stage::Destination, &*s.destination, &**line, earlier.as_deref());
                let again = keep_aside(c, Aside { at_ms: s.at_ms, stage, name, via: route, reason, data, size: data.len(), earlier })?;
                resent::refused_again(c, *id, place, reason, again)?;
            }
        } else {
            let (became, why) = match &s.unnamed {
                Some(unnamed) => (Became::Unclear, &*unnamed.why),
                None => (Became::Delivered, ""),
            };
            resent::became(c, *id, *done..*done + *lines as i64, became, why)?;
        }
        if *finished {
            diesel::delete(due).execute(c)?;
            release(c, *of)?;
        } else {
            let set =
                (entry::done.eq(entry::done + *lines as i64), entry::events.eq(entry::events - amount.events), entry::bytes.eq(entry::bytes - amount.bytes));
            diesel::update(due).set(set).execute(c)?;
        }
        // Nobody knows which were refused: the first, and their share of the bytes, stand for them.
        let events = unnamed.min(amount.events);
        let refused = Amount { events, bytes: if amount.events == 0 { 0 } else { amount.bytes * events / amount.events } };
        unnamed -= events;
        post(route, s.outcome_measure(), Amount { events: amount.events - refused.events, bytes: amount.bytes - refused.bytes });
        if !refused.is_zero() {
            post(route, Measure::Quarantined, refused);
        }
        moved.entry(s.destination.clone()).or_default().by += Amount { events: -amount.events, bytes: -amount.bytes };
    }
    if let Some(Unnamed { why, lines, .. }) = &s.unnamed {
        let (stage, name, data) = (Stage::Destination, &*s.destination, &**lines);
        keep_aside(c, Aside { at_ms: s.at_ms, stage, name, via: "", reason: why, data, size: data.len(), earlier: None })?;
    }
    if let Some((file, length)) = &s.reached {
        let row = (reached::destination.eq(&s.destination), reached::file.eq(file), reached::length.eq(*length as i64));
        diesel::replace_into(reached::table).values(row).execute(c)?;
    }
    moved.entry(s.destination.clone()).or_default().oldest = Some(oldest(c, &s.destination)?);
    Ok(())
}

/// Adds postings to their minutes and to the totals, and where hours were summed up without them, to those.
pub(crate) fn post(c: &mut SqliteConnection, postings: &BTreeMap<(i64, Account), Amount>) -> QueryResult<()> {
    rolled::post_late(c, postings)?;
    for ((minute, account), amount) in postings {
        {
            use ledger_minute::dsl as l;
            let row = (
                l::minute.eq(minute),
                l::place.eq(account.stage.word()),
                l::name.eq(&account.name),
                l::via.eq(&account.via),
                l::position.eq(account.position),
                l::sentence.eq(&account.sentence),
                l::measure.eq(account.measure.word()),
                l::events.eq(amount.events),
                l::bytes.eq(amount.bytes),
            );
            let keys = (l::minute, l::place, l::name, l::via, l::position, l::sentence, l::measure);
            let sum = (l::events.eq(l::events + excluded(l::events)), l::bytes.eq(l::bytes + excluded(l::bytes)));
            diesel::insert_into(ledger_minute::table).values(row).on_conflict(keys).do_update().set(sum).execute(c)?;
        }
        use ledger_total::dsl as l;
        let row = (
            l::place.eq(account.stage.word()),
            l::name.eq(&account.name),
            l::via.eq(&account.via),
            l::position.eq(account.position),
            l::sentence.eq(&account.sentence),
            l::measure.eq(account.measure.word()),
            l::events.eq(amount.events),
            l::bytes.eq(amount.bytes),
        );
        let keys = (l::place, l::name, l::via, l::position, l::sentence, l::measure);
        let sum = (l::events.eq(l::events + excluded(l::events)), l::bytes.eq(l::bytes + excluded(l::bytes)));
        diesel::insert_into(ledger_total::table).values(row).on_conflict(keys).do_update().set(sum).execute(c)?;
    }
    Ok(())
}

/// Forgets old minutes and what quarantine holds too much of, and gives freed pages back.
fn tidy(c: &mut SqliteConnection, tags: &mut TagWriter) -> QueryResult<()> {
    let newest: Option<i64> = ledger_minute::table.select(diesel::dsl::max(ledger_minute::minute)).first(c)?;
    if let Some(newest) = newest {
        c.immediate_transaction(|c| {
            tags.fold(c)?;
            rolled::roll(c, newest)
        })?;
        metrics::forget(c, newest - rolled::KEEP_MINUTES)?;
    }
    extras::forget(c)?;
    resent::forget(c)?;
    quarantine::tidy(c, quarantine::BOUNDS)?;
    // 2 000 pages of 32 KiB at a time keep the pause short.
    c.batch_execute("PRAGMA incremental_vacuum(2000);")
}
