//! Sends again what destinations refused: as the present steps of each destination make of the events as they stood before its steps.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use rockrose_engine::{CompiledPlan, Point, Scratch, Watch};
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_language::Step;
use rockrose_ledger::{Account, Amount, Measure, Posting, Stage};
use rockrose_plan::{CheckedPlan, Report};
use rockrose_spool::{Refused, RefusedEvent, Resend, ResentEvent, SpoolError};

use crate::engine::Running;
use crate::{App, now_ms};

/// So many events are sent again in one transaction.
const EVENTS_AT_ONCE: usize = 500;
/// And no more than so many bytes of them.
const BYTES_AT_ONCE: usize = 8 << 20;
/// So often it is tried anew when somebody else sends the same events again.
const TRIES: usize = 5;

/// What was sent again.
#[derive(Debug, Default)]
pub(crate) struct Sent {
    /// The number under which it is known what became of each event.
    pub(crate) run: i64,
    pub(crate) queued: Amount,
    pub(crate) removed: i64,
    /// What was not sent again, and why.
    pub(crate) left: Vec<String>,
}

/// Why nothing, or not all, was sent again.
pub(crate) enum Failed {
    /// The steps that were to be run first are wrong.
    Steps(Vec<Report>),
    /// One of them is done to each event once.
    DoneOnce(String),
    Spool(SpoolError),
    /// The steps could not be run.
    Work,
}

impl From<SpoolError> for Failed {
    fn from(e: SpoolError) -> Failed {
        Failed::Spool(e)
    }
}

/// One event, whose bytes are counted elsewhere.
const ONE: Amount = Amount { events: 1, bytes: 0 };

/// A number that no request had before.
fn next_run() -> i64 {
    static LAST: AtomicI64 = AtomicI64::new(0);
    let now = now_ms();
    LAST.fetch_update(Ordering::AcqRel, Ordering::Acquire, |last| Some(now.max(last + 1))).map_or(now, |last| now.max(last + 1))
}

/// The way of refused events to one destination, by one route.
struct Way {
    compiled: CompiledPlan,
    /// How many steps are run before those of the destination.
    first: i32,
    /// The place of the first of the destination's steps that is run, in its list.
    anew: i32,
    /// How many steps the destination has.
    steps: i32,
}

impl Way {
    /// `None` if the plan has no such destination.
    fn new(app: &App, running: &Running, destination: &str, route: &str, first: &[Step]) -> Option<Way> {
        let plan = &running.checked;
        let planned = plan.destinations.iter().find(|d| d.name == destination)?;
        let compiled = app.engine.compile(&plan.anew(destination, route, first)?, &running.environment);
        let number = |n: usize| i32::try_from(n).unwrap_or(i32::MAX);
        let (first, steps) = (plan.expanded(first).len(), plan.expanded(&planned.always).len());
        Some(Way { compiled, first: number(first), anew: number(planned.anew(plan)), steps: number(steps) })
    }

    /// Where the ledger counts what the step at `position` of this way does. The steps that are run first stand behind all that the destination has.
    fn position(&self, position: i32) -> i32 {
        if position > self.first { position - self.first + self.anew } else { self.steps + position }
    }

    /// An event of which it is not known yet how it leaves.
    fn resent(&self, event: &RefusedEvent) -> ResentEvent {
        ResentEvent { id: event.id, leaving: Err(String::new()), values: [self.compiled.by_tag(&event.left, ONE), Vec::new()] }
    }

    /// What becomes of events, and what the steps did.
    fn run(&self, events: &[RefusedEvent], now_ms: i64) -> (Vec<ResentEvent>, Vec<Posting>) {
        let lines: Vec<&[u8]> = events.iter().map(|e| &e.earlier[..]).collect();
        let body = lines.join(&b'\n');
        let records = split(&body, DeclaredFormat::Lines, usize::MAX).unwrap_or_default();
        let watch = Watch::new(vec![Point::Source(0), Point::Destination(0)], events.len());
        let outcome = self.compiled.process(0, &body, &records, now_ms, Some(&watch), &mut Scratch::default());
        let mut postings: Vec<Posting> = outcome.postings.into_iter().filter(|p| p.account.stage == Stage::Destination && p.account.position > 0).collect();
        postings.iter_mut().for_each(|p| p.account.position = self.position(p.account.position));
        let mut resent: Vec<ResentEvent> = events.iter().map(|e| self.resent(e)).collect();
        for capture in outcome.captures {
            let Some(at) = (capture.record as usize).checked_sub(1).filter(|at| *at < events.len()) else { continue };
            match (capture.point, capture.after) {
                (Point::Destination(_), Some(after)) => {
                    resent[at].values[1] = self.compiled.by_tag(&after, ONE);
                    resent[at].leaving = Ok(after);
                }
                (Point::Destination(_), None) => resent[at].leaving = Err(capture.removed_by.unwrap_or_default()),
                // What has been at this node before goes no further.
                (_, None) => {
                    let (event, sentence) = (&events[at], capture.removed_by.unwrap_or_default());
                    let account = Account { sentence: sentence.clone(), ..Account::at_destination(&event.destination, &event.route, Measure::Removed) };
                    let amount = Amount { events: 1, bytes: event.earlier.len() as i64 };
                    postings.push(Posting { account, amount, by_tag: self.compiled.by_tag(&event.earlier, amount) });
                    resent[at].leaving = Err(sentence);
                }
                (_, Some(_)) => {}
            }
        }
        (resent, postings)
    }
}

/// The steps that `sentences` say, to be run before those of the destinations.
fn steps(plan: &CheckedPlan, sentences: &[String]) -> Result<Vec<Step>, Failed> {
    let steps = plan.steps(sentences).map_err(Failed::Steps)?;
    match plan.expanded(&steps).iter().find(|step| step.is_done_once()) {
        Some(step) => Err(Failed::DoneOnce(step.to_string())),
        None => Ok(steps),
    }
}

/// Sends the refused events that are meant again, `sentences` run over them first.
pub(crate) async fn resend(app: &Arc<App>, mut which: Refused, sentences: &[String]) -> Result<Sent, Failed> {
    let running = app.engine.running();
    let first = steps(&running.checked, sentences)?;
    let mut sent = Sent { run: next_run(), ..Sent::default() };
    // What is refused again meanwhile is not sent once more.
    let newest = app.spool.quarantined(1).await?.first().map_or(0, |q| q.id);
    which.up_to = Some(newest);
    let asked = which.ids.as_ref().map(Vec::len);
    let (mut ways, mut strangers, mut seen, mut tries) = (HashMap::new(), HashMap::<String, i64>::new(), 0, 0);
    loop {
        let events = app.spool.refused(which.clone(), EVENTS_AT_ONCE, BYTES_AT_ONCE).await?;
        let Some(last) = events.last().map(|e| e.id) else { break };
        let count = events.len();
        let mut by_way: HashMap<(String, String), Vec<RefusedEvent>> = HashMap::new();
        for event in events {
            by_way.entry((event.destination.clone(), event.route.clone())).or_default().push(event);
        }
        let mut resend = Resend { run: sent.run, at_ms: now_ms(), events: Vec::new(), postings: Vec::new(), tags: Arc::clone(running.compiled.tags()) };
        let mut unknown = HashMap::<String, i64>::new();
        for ((destination, route), events) in by_way {
            let key = (destination, route);
            let (worker, asked, from, first) = (Arc::clone(app), key.clone(), Arc::clone(&running), first.clone());
            let known: Option<Arc<Way>> = ways.get(&key).cloned();
            let at_ms = resend.at_ms;
            let work = tokio::task::spawn_blocking(move || {
                let way = known.or_else(|| Way::new(&worker, &from, &asked.0, &asked.1, &first).map(Arc::new));
                let done = way.as_ref().map(|way| way.run(&events, at_ms));
                (way, done, events.len())
            });
            let (way, done, count) = work.await.map_err(|_| Failed::Work)?;
            match (way, done) {
                (Some(way), Some((events, postings))) => {
                    resend.events.extend(events);
                    resend.postings.extend(postings);
                    ways.insert(key, way);
                }
                _ => *unknown.entry(key.0).or_default() += count as i64,
            }
        }
        let removed = resend.events.iter().filter(|e| e.leaving.is_err()).count() as i64;
        match app.spool.resend(resend).await {
            Ok(queued) => {
                sent.queued += queued;
                sent.removed += removed;
                seen += count;
                unknown.into_iter().for_each(|(name, n)| *strangers.entry(name).or_default() += n);
                (which.above, tries) = (last, 0);
            }
            // Somebody else sent some of them again. The others are asked for anew.
            Err(SpoolError::Settled) if tries < TRIES => tries += 1,
            Err(e) => return Err(e.into()),
        }
    }
    let events = |n: i64| if n == 1 { "1 event".to_owned() } else { format!("{n} events") };
    sent.left = strangers.into_iter().map(|(name, n)| format!("{}: the active plan has no destination `{name}`", events(n))).collect();
    sent.left.sort();
    if let Some(missing) = asked.map(|asked| asked.saturating_sub(seen)).filter(|n| *n > 0) {
        sent.left.push(format!("{missing} of the numbers: no event that a destination refused is in quarantine under them"));
    }
    Ok(sent)
}
