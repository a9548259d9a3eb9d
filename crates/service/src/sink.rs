//! What sources hand bodies to.

use std::cell::RefCell;
use std::sync::Arc;

use rockrose_engine::{Capture, Outcome, Point, Quarantined, Scratch, Watch};
use rockrose_event::buffers::{self, Buffer};
use rockrose_event::record::{DeclaredFormat, Form, Record, split};
use rockrose_event::stamp::stamped;
use rockrose_event::usual::Usual;
use rockrose_intake::{
    AgentMessage, AgentRefusal, BodyMetadata, Caught, Fingerprint, KnownAgent, NAMED_UNREADABLE, OwnLog, Position, Receipt, Refusal, Sink, Unreadable,
};
use rockrose_ledger::{Account, Amount, Measure, Posting, Stage};
use rockrose_opamp::ServerToAgent;
use rockrose_records::Side;
use rockrose_spool::{Arrival, CommitExtras, KEPT_BYTES_OF_BODY, KEPT_OF_BODY, KEPT_OF_RECORD, Once, Packed, SpoolError, Unread, pack};

use crate::engine::Running;
use crate::samples::{LOOKED_AT, Wanted, below};
use crate::{App, alerts, now_ms, queues, windows};

/// Runs bodies through the plan and makes the outcome durable before it is acknowledged.
pub(crate) struct PlanSink {
    app: Arc<App>,
}

impl PlanSink {
    pub(crate) fn new(app: Arc<App>) -> PlanSink {
        PlanSink { app }
    }
}

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

struct Processed {
    outcome: Outcome,
    data: Packed,
    unread: Vec<Unread>,
    /// How old some of its events are, in milliseconds.
    ages: Vec<i64>,
    /// For those who look at the source.
    caught: Vec<Caught>,
}

/// Of so many events of a body it is looked when they happened.
const AGES: usize = 4;
/// So many records of a body are shown to those who look at its source.
const CAUGHT: usize = 50;

/// A body on its way through the plan.
struct BodyJob {
    source: String,
    body: Arc<Buffer>,
    says: DeclaredFormat,
    with: BodyMetadata,
    now: i64,
    watch: Option<Watch>,
    /// Somebody looks at what the source is sent.
    caught: bool,
    /// What of its events is for the samples.
    sampled: Wanted,
}

fn work(running: &Running, given: BodyJob) -> Result<Processed, Refusal> {
    let BodyJob { source, body, says, with, now, watch, caught, sampled } = given;
    let number = running.compiled.source(&source).ok_or(Refusal::Gone)?;
    let settings = running.checked.sources.iter().find(|s| s.name == source);
    let max_event = settings.filter(|_| !with.bounded).map_or(usize::MAX, |s| s.max_event as usize);
    let mut given = split(&body, says, max_event).map_err(Refusal::NotJson)?;
    for (number, _) in &with.unreadable {
        if let Ok(at) = given.binary_search_by_key(number, |record| record.number) {
            given[at].form = Form::Unreadable("its source could not read it");
        }
    }
    let (stamped_body, stamped_records);
    let (events, records) = if with.stamps.is_empty() {
        (&*body, &given)
    } else {
        stamped_body = Buffer::from(stamped(&body, &given, &with.stamps));
        // The fields come on top of what an event may have.
        stamped_records = split(&stamped_body, DeclaredFormat::Lines, max_event.saturating_add(MAX_STAMPS)).map_err(Refusal::NotJson)?;
        (&stamped_body, &stamped_records)
    };
    let watch = match sampled {
        Wanted::Nothing => watch,
        Wanted::Some => {
            let from = below(now as u64, records.len().saturating_sub(LOOKED_AT) + 1);
            let from = records.get(from).map_or(0, |record| record.number);
            Some(watch.unwrap_or_default().also_from(Point::Source(number), LOOKED_AT, from))
        }
        Wanted::All => Some(watch.unwrap_or_default().also(Point::Source(number), usize::MAX)),
    };
    let watch = if caught { Some(watch.unwrap_or_default().also(Point::Source(number), CAUGHT)) } else { watch };
    let mut outcome = SCRATCH.with_borrow_mut(|scratch| {
        scratch.take_back(buffers::take(events.len()), Vec::new());
        running.compiled.process(number, events, records, now, watch.as_ref(), scratch)
    });
    if outcome.overflowed {
        return Err(Refusal::TooLarge);
    }
    for record in &mut outcome.quarantined {
        if let Ok(at) = with.unreadable.binary_search_by_key(&record.number, |(number, _)| *number) {
            record.reason.clone_from(&with.unreadable[at].1);
        }
    }
    let caught = if caught { catch(&outcome, number, &body, &given, &with.raw, now) } else { Vec::new() };
    let unread = unread(&outcome.quarantined, events);
    let lines = std::mem::take(&mut outcome.lines);
    let ages = ages(&lines, &outcome.ends, now);
    let data = if settings.is_none_or(|s| s.compress) { pack(lines) } else { Packed::plain(lines) };
    Ok(Processed { outcome, data, unread, ages, caught })
}

/// What is kept aside of the records that could not be read: the beginnings of the first ones. The ledger counts all.
fn unread(quarantined: &[Quarantined], events: &[u8]) -> Vec<Unread> {
    let mut left = KEPT_BYTES_OF_BODY;
    let one = |q: &Quarantined| {
        let data = &events[q.range.clone()];
        let kept = &data[..data.len().min(KEPT_OF_RECORD)];
        left = left.checked_sub(kept.len())?;
        Some(Unread { reason: format!("record {}: {}", q.number, q.reason), data: kept.to_vec(), size: data.len() })
    };
    quarantined.iter().take(KEPT_OF_BODY).map_while(one).collect()
}

/// Most bytes that the fields given beside a body add to an event.
const MAX_STAMPS: usize = 64 << 10;

fn content_sum(body: &[u8]) -> i64 {
    xxhash_rust::xxh3::xxh3_64(body) as i64
}

/// How old some of the events are that leave.
fn ages(lines: &[u8], ends: &[u32], now: i64) -> Vec<i64> {
    thread_local! {
        static USUAL: RefCell<Usual> = RefCell::new(Usual::new(&[]));
    }
    let places = (0..AGES.min(ends.len())).map(|n| n * ends.len() / AGES.min(ends.len()));
    USUAL.with_borrow_mut(|usual| {
        let age = |at: usize| {
            let event = &lines[if at == 0 { 0 } else { ends[at - 1] as usize }..ends[at] as usize - 1];
            usual.age_ms(event, now)
        };
        places.filter_map(age).collect()
    })
}

/// The first records of a body as they came, and what was made of them.
fn catch(outcome: &Outcome, source: usize, body: &[u8], records: &[Record], raw: &[Vec<u8>], now: i64) -> Vec<Caught> {
    let raw_of = |number: u32| {
        let record = records.iter().find(|r| r.number == number);
        let own = record.map_or(&[][..], |r| &body[r.start as usize..r.end as usize]);
        raw.get(number as usize - 1).map_or(own, |r| &r[..]).to_vec()
    };
    let read = outcome.captures.iter().filter(|c| c.point == Point::Source(source) && c.record > 0).map(|c| {
        let stopped_by = c.removed_by.clone().or_else(|| c.held_by.clone());
        (c.record, Caught { at_ms: now, raw: raw_of(c.record), read: Ok(c.before.clone()), after: c.after.clone(), stopped_by })
    });
    let unread = outcome.quarantined.iter().take(CAUGHT);
    let unread = unread.map(|q| (q.number, Caught { at_ms: now, raw: raw_of(q.number), read: Err(q.reason.clone()), after: None, stopped_by: None }));
    let mut all: Vec<(u32, Caught)> = read.chain(unread).collect();
    all.sort_by_key(|(number, _)| *number);
    all.into_iter().map(|(_, caught)| caught).take(CAUGHT).collect()
}

impl Sink for PlanSink {
    async fn accept(&self, source: &str, body: Arc<Buffer>, says: DeclaredFormat, with: BodyMetadata) -> Result<Receipt, Refusal> {
        // A sender that goes away does not stop what has begun: what steps remember must become durable, or be undone.
        let (sink, source) = (PlanSink { app: Arc::clone(&self.app) }, source.to_owned());
        let taking = tokio::spawn(async move { sink.take(source, body, says, with).await });
        taking.await.unwrap_or(Err(Refusal::Failed))
    }

    async fn lost(&self, source: &str, messages: u64, bytes: u64) {
        let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
        let account =
            Account { stage: Stage::Source, name: source.to_owned(), via: String::new(), position: 0, sentence: String::new(), measure: Measure::Lost };
        let posting = Posting::new(account, Amount { events: number(messages), bytes: number(bytes) });
        let arrival = Arrival { source: source.to_owned(), arrived_ms: now_ms(), postings: vec![posting], ..Arrival::default() };
        if let Err(e) = self.app.spool.store(arrival).await {
            tracing::warn!(error = %e, source, messages, "lost datagrams could not be counted");
        }
    }

    async fn positions(&self, source: &str) -> Result<Vec<Position>, Refusal> {
        let kept = self.app.spool.positions(source).await.map_err(|e| kept_nothing(&e))?;
        Ok(kept.into_iter().map(|(id, content)| Position { id, content: Some(content) }).collect())
    }

    async fn agent(&self, certificate: &Fingerprint) -> Option<KnownAgent> {
        self.app.agents.showing(certificate)
    }

    fn agents_changed(&self) -> tokio::sync::watch::Receiver<()> {
        self.app.agents.changed.subscribe()
    }

    async fn agent_due(&self, uid: &[u8]) -> Option<ServerToAgent> {
        self.app.agents.due(&self.app, uid)
    }

    fn agent_program(&self) -> std::path::PathBuf {
        crate::agents::Agents::program_file(&self.app)
    }

    async fn agent_setup(&self, source: &str, code: &str) -> Result<String, AgentRefusal> {
        self.app.agents.setup(&self.app, source, code).await
    }

    async fn agent_says(&self, message: AgentMessage) -> Result<ServerToAgent, AgentRefusal> {
        self.app.agents.says(&self.app, message).await
    }

    async fn log_end(&self, log: OwnLog) -> Result<i64, Refusal> {
        match log {
            OwnLog::Journal => Ok(0),
            OwnLog::Alerts => self.app.records(|r| r.last_notice()).await.map_err(|_| Refusal::NotDurable),
        }
    }

    async fn log(&self, log: OwnLog, after: i64) -> Result<Vec<(i64, String)>, Refusal> {
        /// Most entries at once.
        const AT_ONCE: i64 = 500;
        if log == OwnLog::Alerts {
            let notices = self.app.records(move |r| r.notices_after(after, AT_ONCE)).await.map_err(|_| Refusal::NotDurable)?;
            return Ok(notices.into_iter().map(|notice| (notice.number, alerts::event(&notice))).collect());
        }
        let entries = self.app.records(move |r| r.journal_after(after, AT_ONCE)).await.map_err(|_| Refusal::NotDurable)?;
        let event = |entry: rockrose_records::JournalEntry| {
            let time = jiff::Timestamp::from_millisecond(entry.at_ms).map(|time| time.to_string()).unwrap_or_default();
            let action = entry.action;
            let event = serde_json::json!({
                "time": time,
                "service": "rockrose",
                "message": format!("{}: {}", action.what, action.result),
                "number": entry.number,
                "who": action.who,
                "from": action.address,
                "action": action.what,
                "subject": action.subject,
                "result": action.result,
            });
            (entry.number, event.to_string())
        };
        Ok(entries.into_iter().map(event).collect())
    }
}

/// What a body is refused with that could not be stored.
fn kept_nothing(e: &SpoolError) -> Refusal {
    match e {
        SpoolError::Storage(_) => Refusal::NotDurable,
        SpoolError::Repeated => Refusal::Repeated,
        SpoolError::Closed => Refusal::Stopping,
        // Neither is said of what is stored.
        SpoolError::Settled | SpoolError::Damaged(_) => Refusal::Failed,
    }
}

impl PlanSink {
    async fn take(&self, source: String, body: Arc<Buffer>, says: DeclaredFormat, with: BodyMetadata) -> Result<Receipt, Refusal> {
        let once = with.once.clone().map(|key| (key, content_sum(&body)));
        if let Some((key, sum)) = &once
            && let Some(before) = self.taken(&source, key, *sum).await?
        {
            return Ok(before);
        }
        if let Some(paused) = self.app.engine.paused(Side::Source, &source) {
            return Err(Refusal::Paused { who: paused.who });
        }
        let mut running = self.app.engine.running();
        // What steps hold back is only touched in order, from the work to the commit, by those whose events can reach such a step.
        let mut turn = None;
        if running.compiled.holds_back() {
            let unchanged = self.app.engine.windows.read().await;
            running = self.app.engine.running();
            let windows = running.windows_of(&source);
            if !windows.is_empty() {
                turn = Some((unchanged, running.order.turn(windows).await));
            }
        }
        if let Some(number) = running.compiled.source(&source) {
            self.room(&running, number)?;
        }
        let monitor = self.app.sources.monitor(&source);
        let watch = self.app.tail.watch(&running.compiled);
        let positions = with.positions.iter().map(|p| (p.id.clone(), p.content.clone())).collect();
        // Only so many bodies are worked on at once, so that their copies do not fill the memory together.
        let place = self.app.working.acquire().await;
        let (asked, now) = (Arc::clone(&running), now_ms());
        let is_sampled = running.checked.sources.iter().any(|s| s.sampled && s.name == source);
        let sampled = if is_sampled { self.app.samples.wanted(&source, now) } else { Wanted::Nothing };
        let given = BodyJob { source: source.clone(), body, says, with, now, watch, caught: monitor.is_caught(), sampled };
        let worked = tokio::task::spawn_blocking(move || work(&asked, given)).await;
        drop(place);
        if turn.is_some() && !matches!(worked, Ok(Ok(_))) {
            windows::take_back(&self.app, &running.compiled, running.windows_of(&source)).await;
        }
        let worked = worked.map_err(|_| Refusal::Failed)??;
        let Processed { mut outcome, data, unread, ages, caught } = worked;
        let receipt = Receipt {
            received: outcome.received.events as u64,
            read: outcome.read.events as u64,
            quarantined: outcome.quarantined.len() as u64,
            repeated: false,
            bytes: outcome.received.bytes as u64,
            ages,
            unreadable: outcome.quarantined.drain(..).take(NAMED_UNREADABLE).map(|q| Unreadable { record: q.number, reason: q.reason }).collect(),
        };
        let captures = std::mem::take(&mut outcome.captures);
        let once = once.map(|(key, sum)| Once { key, sum, receipt: serde_json::to_string(&receipt).unwrap_or_default() });
        let kept = windows::store(&self.app, &source, now, outcome, data, unread, CommitExtras { positions, once: once.clone() }).await;
        if kept.is_err() && turn.is_some() {
            windows::take_back(&self.app, &running.compiled, running.windows_of(&source)).await;
        }
        drop(turn);
        if let (Err(SpoolError::Repeated), Some(once)) = (&kept, &once)
            && let Some(before) = self.taken(&source, &once.key, once.sum).await?
        {
            // The same body came twice at once.
            return Ok(before);
        }
        kept.map_err(|e| kept_nothing(&e))?;
        self.sample(&running, &source, receipt.read, sampled, &captures, now);
        self.app.tail.publish(&running.compiled, now, captures);
        if !caught.is_empty() {
            monitor.show(caught);
        }
        Ok(receipt)
    }

    /// What was said when this body was accepted before, if it was. Another body under the same key is refused.
    async fn taken(&self, source: &str, key: &str, sum: i64) -> Result<Option<Receipt>, Refusal> {
        let Some(before) = self.app.spool.taken_once(source, key).await.map_err(|e| kept_nothing(&e))? else { return Ok(None) };
        if before.sum != sum {
            return Err(Refusal::KeyReused);
        }
        let receipt: Receipt = serde_json::from_str(&before.receipt).unwrap_or_default();
        Ok(Some(Receipt { repeated: true, ..receipt }))
    }
}

impl PlanSink {
    /// Some events of a body that was acknowledged go into the source's sample.
    fn sample(&self, running: &Running, source: &str, read: u64, wanted: Wanted, captures: &[Capture], now: i64) {
        let number = running.compiled.source(source);
        let is_here = |capture: &&Capture| Some(capture.point) == number.map(Point::Source) && capture.record > 0;
        // Others may look at the same point.
        let captures: Vec<&Capture> = if wanted == Wanted::Nothing { Vec::new() } else { captures.iter().filter(is_here).collect() };
        self.app.samples.took(source, read, wanted, &captures, now);
    }

    /// A source is pushed back while a destination that it can reach holds all it may, and wants it so.
    fn room(&self, running: &Running, source: usize) -> Result<(), Refusal> {
        for destination in running.compiled.reached_from(source) {
            if let Some(full) = queues::pushes_back(&self.app.spool, &running.checked, &running.checked.destinations[*destination]) {
                return Err(Refusal::Full { destination: full.to_owned() });
            }
        }
        Ok(())
    }
}
