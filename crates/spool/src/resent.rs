//! Events that a destination refused for good, sent to it again: queued as its steps make of them now, and followed until it is known what became of each.

use std::collections::BTreeMap;
use std::ops::{Bound, RangeBounds};
use std::sync::Arc;

use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Account, Amount, Earlier, Entry, Measure, Posting, Selection, Stage, TagAmount};

use crate::SpoolError;
use crate::by_tag::{TagWriter, post_all};
use crate::packed::pack;
use crate::queue::{Moved, Sums, keep_batch, queue};
use crate::schema::{quarantine, resent};

/// So many events that were sent again are remembered.
const KEEP_RESENT: i64 = 20_000;

/// Which refused events are meant.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Refused {
    /// Only what this destination refused.
    pub destination: Option<String>,
    /// Only these, by the numbers that they have in quarantine.
    pub ids: Option<Vec<i64>>,
    /// Only those of higher numbers than this.
    pub above: i64,
    /// Only those of numbers up to this.
    pub up_to: Option<i64>,
}

/// An event in quarantine that a destination refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RefusedEvent {
    /// Its number in quarantine.
    pub id: i64,
    /// The destination.
    pub destination: String,
    /// The route that it came by.
    pub route: String,
    /// How it stood before the destination's steps.
    pub earlier: Vec<u8>,
    /// As it was queued.
    pub left: Vec<u8>,
}

/// Sends refused events again. None of it is done if any of them is not in quarantine any more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Resend {
    /// Those of one request have one number.
    pub run: i64,
    /// Now, in milliseconds since 1970.
    pub at_ms: i64,
    /// The events.
    pub events: Vec<ResentEvent>,
    /// What the steps of their destinations did to them now.
    pub postings: Vec<Posting>,
    /// The tags by which the account is told apart.
    pub tags: Arc<[Arc<str>]>,
}

/// One of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResentEvent {
    /// Its number in quarantine.
    pub id: i64,
    /// As it leaves now; or the sentence of the step that removed it.
    pub leaving: Result<Vec<u8>, String>,
    /// The values of its tags as it was queued, and as it leaves now.
    pub values: [Vec<TagAmount>; 2],
}

/// What became of an event that was sent again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Became {
    /// Not delivered yet.
    Waiting,
    /// Its destination has it.
    Delivered,
    /// Its destination refused it again.
    Refused,
    /// A step of its destination removed it.
    Removed,
    /// It was let go.
    Discarded,
    /// It was among events of which the destination refused some, without saying which.
    Unclear,
}

impl Became {
    const ALL: [Became; 6] = [Became::Waiting, Became::Delivered, Became::Refused, Became::Removed, Became::Discarded, Became::Unclear];

    /// The word it is kept under.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["waiting", "delivered", "refused", "removed", "discarded", "unclear"][self as usize]
    }
}

/// An event that was sent again, and what became of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fate {
    /// The number that it had in quarantine.
    pub id: i64,
    /// The destination.
    pub destination: String,
    /// What became of it.
    pub became: Became,
    /// Why, where that is to be said.
    pub detail: String,
    /// The number in quarantine that it has now, if it was refused again.
    pub again: Option<i64>,
}

/// What became of the events of one request, by their numbers.
pub(crate) fn fates(c: &mut SqliteConnection, run: i64) -> Result<Vec<Fate>, SpoolError> {
    type Row = (i64, String, String, String, Option<i64>);
    let rows: Vec<Row> = resent::table
        .filter(resent::run.eq(run))
        .order(resent::id)
        .select((resent::id, resent::destination, resent::became, resent::detail, resent::again))
        .load(c)?;
    let read = |(id, destination, became, detail, again): Row| {
        let became = Became::ALL.into_iter().find(|b| b.word() == became)?;
        Some(Fate { id, destination, became, detail, again })
    };
    Ok(rows.into_iter().filter_map(read).collect())
}

/// The next of the refused events that are meant, in the order of their numbers: at most `most`, of at most `max_bytes` (but at least one). Not among them are batches of which nobody knows
/// what was refused: the rest of them was taken.
pub(crate) fn refused(c: &mut SqliteConnection, which: &Refused, most: usize, max_bytes: usize) -> Result<Vec<RefusedEvent>, SpoolError> {
    let mut asked = quarantine::table.filter(quarantine::place.eq(Stage::Destination.word()).and(quarantine::via.ne(""))).into_boxed();
    asked = asked.filter(quarantine::id.gt(which.above));
    if let Some(up_to) = which.up_to {
        asked = asked.filter(quarantine::id.le(up_to));
    }
    if let Some(destination) = &which.destination {
        asked = asked.filter(quarantine::name.eq(destination));
    }
    if let Some(ids) = &which.ids {
        asked = asked.filter(quarantine::id.eq_any(ids));
    }
    type Row = (i64, String, String, Vec<u8>, Option<Vec<u8>>);
    let columns = (quarantine::id, quarantine::name, quarantine::via, quarantine::data, quarantine::earlier);
    let (mut found, mut bytes) = (Vec::new(), 0);
    for row in asked.order(quarantine::id).limit(most as i64).select(columns).load_iter::<Row, diesel::connection::DefaultLoadingMode>(c)? {
        let (id, destination, route, data, earlier) = row?;
        let earlier = earlier.unwrap_or_else(|| data.clone());
        bytes += earlier.len();
        if bytes > max_bytes && !found.is_empty() {
            break;
        }
        found.push(RefusedEvent { id, destination, route, earlier, left: data });
    }
    Ok(found)
}

/// Notes what became of the events at `places` of a queue entry, where they were sent again.
pub(crate) fn became(c: &mut SqliteConnection, entry: i64, places: impl RangeBounds<i64>, became: Became, detail: &str) -> QueryResult<()> {
    let from = match places.start_bound() {
        Bound::Included(at) => *at,
        _ => 0,
    };
    let mut those = diesel::update(resent::table).filter(resent::entry.eq(entry).and(resent::place.ge(from))).into_boxed();
    if let Bound::Excluded(end) = places.end_bound() {
        those = those.filter(resent::place.lt(*end));
    }
    those.filter(resent::became.eq(Became::Waiting.word())).set((resent::became.eq(became.word()), resent::detail.eq(detail))).execute(c).map(|_| ())
}

/// Notes that the event at `place` of a queue entry was refused again, if it was sent again.
pub(crate) fn refused_again(c: &mut SqliteConnection, entry: i64, place: i64, why: &str, again: i64) -> QueryResult<()> {
    let one = resent::table.filter(resent::entry.eq(entry).and(resent::place.eq(place)));
    diesel::update(one).set((resent::became.eq(Became::Refused.word()), resent::detail.eq(why), resent::again.eq(again))).execute(c).map(|_| ())
}

/// Forgets what became of the oldest of too many.
pub(crate) fn forget(c: &mut SqliteConnection) -> QueryResult<()> {
    let last: Option<i64> = resent::table.order(resent::id.desc()).offset(KEEP_RESENT).select(resent::id).first(c).optional()?;
    diesel::delete(resent::table.filter(resent::id.le(last.unwrap_or(0)))).execute(c).map(|_| ())
}

/// Events on their way into the queue of one destination, by one route.
#[derive(Default)]
struct Queueing {
    /// Their numbers in quarantine.
    ids: Vec<i64>,
    selection: Selection,
    earlier: Earlier,
    amount: Amount,
    lines: Vec<u8>,
}

impl Resend {
    /// Returns how much is queued again; `Err(Settled)` if some event is not in quarantine any more.
    pub(crate) fn apply(
        &self,
        c: &mut SqliteConnection,
        moved: &mut BTreeMap<String, Moved>,
        sums: &mut Sums,
        tags: &mut TagWriter,
    ) -> QueryResult<Result<Amount, SpoolError>> {
        let minute = self.at_ms.div_euclid(60_000);
        let ids: Vec<i64> = self.events.iter().map(|e| e.id).collect();
        let there: i64 = quarantine::table.filter(quarantine::id.eq_any(&ids)).count().get_result(c)?;
        if there != ids.len() as i64 {
            return Ok(Err(SpoolError::Settled));
        }
        post_all(c, minute, &self.tags, &self.postings, sums, tags)?;
        let mut by_queue: BTreeMap<(String, String), Queueing> = BTreeMap::new();
        for ResentEvent { id, leaving, values: [was, is] } in &self.events {
            type Row = (String, String, Vec<u8>, Option<Vec<u8>>);
            let this = quarantine::table.find(id);
            let (destination, route, left, stood): Row = this.select((quarantine::name, quarantine::via, quarantine::data, quarantine::earlier)).first(c)?;
            diesel::delete(this).execute(c)?;
            let stood = stood.as_deref().unwrap_or(&left);
            let mut post = |measure: Measure, events: i64, bytes: i64, values: &[TagAmount]| {
                let (account, amount) = (Account::at_destination(&destination, &route, measure), Amount { events, bytes });
                let by_tag = if account.is_by_tag() { values.iter().map(|one| TagAmount { amount, ..one.clone() }).collect() } else { Vec::new() };
                post_all(c, minute, &self.tags, &[Posting { account, amount, by_tag }], sums, tags)
            };
            // As if it had never been queued: what the steps did then is undone with it, since they are run anew.
            let bytes = left.len() as i64;
            post(Measure::Quarantined, -1, -bytes, was)?;
            post(Measure::Enqueued, -1, -bytes, was)?;
            post(Measure::Changed, 0, bytes - stood.len() as i64, was)?;
            match leaving {
                Ok(line) => {
                    post(Measure::Enqueued, 1, line.len() as i64, is)?;
                    let queueing = by_queue.entry((destination, route)).or_default();
                    queueing.selection.push(queueing.ids.len() as u32);
                    queueing.ids.push(*id);
                    queueing.earlier.push(stood, line);
                    queueing.amount.count(line.len());
                    queueing.lines.extend_from_slice(line);
                    queueing.lines.push(b'\n');
                }
                Err(sentence) => self.note(c, *id, &destination, (0, 0), Became::Removed, sentence)?,
            }
        }
        let mut all = Amount::default();
        for ((destination, route), Queueing { ids, selection, earlier, amount, lines }) in by_queue {
            let of = keep_batch(c, "", self.at_ms, &pack(lines), 1)?;
            let due = Entry { destination, route, selection, earlier, amount };
            let entry = queue(c, of, &due, self.at_ms, moved)?;
            for (id, place) in ids.into_iter().zip(0..) {
                self.note(c, id, &due.destination, (entry, place), Became::Waiting, "")?;
            }
            all += amount;
        }
        Ok(Ok(all))
    }

    fn note(&self, c: &mut SqliteConnection, id: i64, destination: &str, (entry, place): (i64, i64), became: Became, detail: &str) -> QueryResult<()> {
        let row = (
            resent::id.eq(id),
            resent::run.eq(self.run),
            resent::destination.eq(destination),
            resent::entry.eq(entry),
            resent::place.eq(place),
            resent::became.eq(became.word()),
            resent::detail.eq(detail),
        );
        diesel::insert_into(resent::table).values(row).execute(c).map(|_| ())
    }
}
