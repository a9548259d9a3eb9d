//! A trial: a plan over given events, by the code that runs live, with nothing sent, counted or remembered.
//!
//! A plan is compiled anew for it, so nothing that the steps of the running plan remember is touched. Each given event stands for as many as its sample says, and comes at its own time. What
//! a step makes of it may depend on the events around it (`limit`, `merge repeats` …): of those a sample with gaps tells little, and the trial says so; events that came without a gap tell it.

mod advice;
mod arrival;
mod compare;
mod examples;
mod predict;
mod shown;
mod totals;

#[cfg(test)]
mod tests;

use std::collections::BTreeMap;

use rockrose_event::record::{Form, Record};
use rockrose_language::{Operation, Rate, Step};
use rockrose_ledger::{Account, Amount};
use rockrose_plan::{CheckedPlan, Part};
use rockrose_redact::HashKey;

pub use advice::advice;
pub use arrival::{behind_arrival, behind_arrival_of};
pub use compare::{Comparison, Samples, Side, compare};
pub use examples::{example_of, failing_examples, tables_in, tried_examples};
pub use predict::{Predicted, Real};
pub use shown::{Difference, Fate, Tried, TriedRoute, differences};
pub use totals::{BranchTotals, ListTotals, StepTotals};

use crate::behind::BehindSteps;
pub use crate::drawn::Leaving;
use crate::{CompiledPlan, Environment, Outcome, Point, Scratch, Watch};
use shown::Shown;
use totals::Totals;

/// An event that a trial is given.
#[derive(Clone, Copy, Debug)]
pub struct Given<'a> {
    /// The source that it comes by.
    pub source: &'a str,
    /// Its bytes.
    pub event: &'a [u8],
    /// How they are written.
    pub form: Form,
    /// When it came, in milliseconds since 1970.
    pub at_ms: i64,
    /// For how many it stands.
    pub times: u64,
}

/// How a trial is made, and what of it is shown.
#[derive(Clone, Copy)]
pub struct Asked<'a> {
    /// The events came without a gap: what depends on the events around one can be told.
    pub consecutive: bool,
    /// Of events that came without a gap, those of so long at the beginning, in milliseconds, only warm the steps up: they are not counted.
    pub warm_up_ms: i64,
    /// Show what becomes of events on this route only: if nothing else is said, of those that it takes.
    pub route: Option<&'a str>,
    /// Show only events of which this becomes.
    pub fate: Option<Fate>,
    /// Where two plans are compared, show events first of which they make something different.
    pub differing: bool,
    /// Show so many events at the most.
    pub most: usize,
    /// Keep so many of the events that go on behind each step at the most.
    pub behind: usize,
    /// Tells nanoseconds, if steps are to be timed.
    pub clock: Option<fn() -> u64>,
    /// Asked now and then: whether nobody waits for the trial any more.
    pub stop: &'a (dyn Fn() -> bool + Sync),
}

impl Default for Asked<'_> {
    fn default() -> Self {
        Asked { consecutive: false, warm_up_ms: 0, route: None, fate: None, differing: false, most: 0, behind: 0, clock: None, stop: &|| false }
    }
}

/// What became of the events.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Trial {
    /// How many were given.
    pub events: u64,
    /// For how many they stand.
    pub stands_for: u64,
    /// Those that cannot be read stand for so many.
    pub unreadable: u64,
    /// Those that no route takes, but routes of the remainder, stand for so many.
    pub remainder: Amount,
    /// Each source, route and destination of the plan, in this order: what came to it, what its steps did, what went on.
    pub lists: Vec<ListTotals>,
    /// Each way from a route to a destination.
    pub branches: Vec<BranchTotals>,
    /// Some events, and what became of each.
    pub shown: Vec<Tried>,
    /// They are of the stretch without gaps, where there is one beside the sample.
    pub shows_stretch: bool,
    /// What these events cannot tell, in sentences.
    pub cannot_tell: Vec<String>,
    /// For each destination of the plan, some of the events that would be sent there, as they would be, and for how many each stands.
    pub sent: Vec<Leaving>,
    /// It was stopped before the last event.
    pub is_cut: bool,
}

/// So many events run at once.
const AT_ONCE: usize = 2_000;
/// And so many while they are watched.
const WATCHED_AT_ONCE: usize = 100;
/// Room for the events that are kept behind steps, in bytes.
const ROOM_BEHIND: usize = 4 << 20;
/// So many of the first events of a source are timed.
const TIMED: usize = 2_000;
/// The windows are looked through so often in the events' own time, in milliseconds, as the service does.
const LOOK_EVERY: i64 = 250;

/// Runs `plan` over `given`. Events of a source that the plan does not have are left out.
#[must_use]
pub fn trial(plan: &CheckedPlan, key: HashKey, environment: &Environment, given: &[Given<'_>], asked: &Asked<'_>) -> Trial {
    let compiled = CompiledPlan::within(plan, key, environment);
    let mut events: Vec<(usize, usize)> = given.iter().enumerate().filter_map(|(i, g)| Some((compiled.source(g.source)?, i))).collect();
    if asked.consecutive {
        events.sort_by_key(|(_, i)| given[*i].at_ms);
    } else {
        events.sort_by_key(|(source, i)| (*source, given[*i].times));
    }
    let mut run = TrialRun {
        compiled: &compiled,
        given,
        asked,
        scratch: Scratch::default(),
        account: BTreeMap::new(),
        totals: Totals::default(),
        shown: Shown::new(plan, asked),
        trial: Trial { events: events.len() as u64, stands_for: events.iter().map(|(_, i)| given[*i].times).sum(), ..Trial::default() },
        looked: i64::MIN,
        timed: vec![0; plan.sources.len()],
    };
    let begins = events.first().filter(|_| asked.consecutive && asked.warm_up_ms > 0).map(|(_, first)| given[*first].at_ms.saturating_add(asked.warm_up_ms));
    let (first, counted) = events.split_at(begins.map_or(0, |begins| events.partition_point(|(_, i)| given[*i].at_ms < begins)));
    run.all(first);
    run.account.clear();
    if asked.behind > 0 {
        run.scratch.keep_behind(BehindSteps::new(asked.behind, ROOM_BEHIND));
    }
    run.all(counted);
    let TrialRun { account, totals, shown, mut trial, mut scratch, .. } = run;
    (trial.lists, trial.branches) = totals.of(plan, &account);
    if let Some(behind) = scratch.behind() {
        trial.lists.iter_mut().for_each(|list| list.keep_behind(behind));
    }
    if !first.is_empty() {
        // Steps held as much when the count began as when it ended.
        trial.branches.iter_mut().for_each(|branch| branch.steady = branch.sent);
    }
    trial.remainder = totals::sum(&account, |a| a.measure == rockrose_ledger::Measure::Remainder);
    trial.unreadable = account.iter().filter(|(a, _)| is_unreadable(a)).map(|(_, n)| n.events.max(0) as u64).sum();
    trial.cannot_tell = if asked.consecutive { Vec::new() } else { cannot_tell(plan) };
    (trial.shown, trial.sent) = shown.finish();
    trial
}

fn is_unreadable(account: &Account) -> bool {
    account.stage == rockrose_ledger::Stage::Source && account.measure == rockrose_ledger::Measure::Quarantined
}

/// Whether what a step does to an event depends on when others come.
#[must_use]
pub fn depends_on_pace(step: &Step) -> bool {
    match &step.operation {
        Operation::Limit(_) | Operation::Merge(_) | Operation::Join(_) | Operation::Dedupe(_) => true,
        Operation::Sample(sample) => matches!(sample.rate, Rate::Target(_)),
        _ => false,
    }
}

/// What events with gaps between them cannot tell of a plan.
fn cannot_tell(plan: &CheckedPlan) -> Vec<String> {
    let of = |(part, steps): (Part, Vec<Step>)| {
        let paced = steps.into_iter().filter(depends_on_pace);
        paced.map(move |step| format!("the {part}: what `{step}` does depends on events in between, which are not in the sample")).collect::<Vec<_>>()
    };
    plan.lists().flat_map(of).collect()
}

struct TrialRun<'a> {
    compiled: &'a CompiledPlan,
    given: &'a [Given<'a>],
    asked: &'a Asked<'a>,
    scratch: Scratch,
    account: BTreeMap<Account, Amount>,
    totals: Totals,
    shown: Shown<'a>,
    trial: Trial,
    /// When it was last looked which windows are due, in stretches of [`LOOK_EVERY`].
    looked: i64,
    /// How many events of each source were timed.
    timed: Vec<usize>,
}

impl TrialRun<'_> {
    /// All of some events, one after the other.
    fn all(&mut self, events: &[(usize, usize)]) {
        let mut rest = events;
        while !rest.is_empty() {
            if (self.asked.stop)() {
                self.trial.is_cut = true;
                break;
            }
            let (some, further) = rest.split_at(self.next(rest));
            self.some(some);
            rest = further;
        }
    }

    /// How many of the next events are of one source and stand for as many.
    fn next(&self, rest: &[(usize, usize)]) -> usize {
        let most = if self.shown.points().is_some() { WATCHED_AT_ONCE } else { AT_ONCE };
        let (source, first) = rest[0];
        let holds = self.asked.consecutive && self.compiled.holds_back();
        let alike = |(of, i): &&(usize, usize)| {
            let (event, first) = (&self.given[*i], &self.given[first]);
            *of == source && event.times == first.times && (!holds || event.at_ms.div_euclid(LOOK_EVERY) == first.at_ms.div_euclid(LOOK_EVERY))
        };
        rest.iter().take(most).take_while(alike).count().max(1)
    }

    /// Some events of one source.
    fn some(&mut self, some: &[(usize, usize)]) {
        let (source, first) = some[0];
        let (now, times) = (self.given[first].at_ms, self.given[first].times);
        if self.asked.consecutive && self.compiled.holds_back() && now.div_euclid(LOOK_EVERY) > self.looked {
            self.looked = now.div_euclid(LOOK_EVERY);
            for (_, outcome) in self.compiled.release(now, false, &mut self.scratch) {
                self.take(outcome, 1, &[]);
            }
        }
        let (mut body, mut records, mut moments) = (Vec::new(), Vec::with_capacity(some.len()), Vec::with_capacity(some.len()));
        for (number, (_, i)) in some.iter().enumerate() {
            let start = body.len() as u32;
            body.extend_from_slice(self.given[*i].event);
            records.push(Record { start, end: body.len() as u32, form: self.given[*i].form, number: number as u32 + 1 });
            body.push(b'\n');
            moments.push(self.given[*i].at_ms);
        }
        let mut watch = self.shown.points().map(|points: &[Point]| Watch::new(points.to_vec(), some.len() * self.compiled.branches.len().max(1)));
        if let Some(clock) = self.asked.clock.filter(|_| self.timed[source] < TIMED) {
            self.timed[source] += some.len();
            // A watch of nothing is none: the source's own point is looked at.
            watch = Some(watch.unwrap_or_else(|| Watch::new(vec![Point::Source(source)], 1)).timed(clock));
        }
        if let Some(behind) = self.scratch.behind() {
            behind.times = times;
        }
        let outcome = self.compiled.process_timed(source, &body, &records, &moments, watch.as_ref(), &mut self.scratch);
        self.take(outcome, times, some);
    }

    /// What came of some events, which stand for `times` each.
    fn take(&mut self, outcome: Outcome, times: u64, some: &[(usize, usize)]) {
        for posting in &outcome.postings {
            let amount = Amount { events: times_of(posting.amount.events, times), bytes: times_of(posting.amount.bytes, times) };
            match self.account.get_mut(&posting.account) {
                Some(sum) => *sum += amount,
                None => drop(self.account.insert(posting.account.clone(), amount)),
            }
        }
        self.totals.time(&outcome.times);
        self.shown.sent(self.compiled, &outcome, times);
        self.shown.take(&outcome, some, self.given);
        self.scratch.take_back(outcome.lines, outcome.ends);
    }
}

fn times_of(amount: i64, times: u64) -> i64 {
    amount.saturating_mul(i64::try_from(times).unwrap_or(i64::MAX))
}
