//! What a trial's events came to at each source, route, step and destination.

use std::collections::{BTreeMap, HashMap};

use rockrose_language::{Operation, Step};
use rockrose_ledger::{Account, Amount, Measure, Stage};
use rockrose_plan::{CheckedPlan, Part, Route};

use crate::StepTime;
use crate::behind::BehindSteps;
use crate::drawn::Leaving;

/// One list of steps: of a source, a route or a destination. Each event counts for as many as it stands for.
#[derive(Clone, Debug, PartialEq)]
pub struct ListTotals {
    /// Where it stands.
    pub stage: Stage,
    /// The name of the source, route or destination.
    pub name: String,
    /// What came to it.
    pub came: Amount,
    /// What went on.
    pub went: Amount,
    /// What its steps did, recipes written out.
    pub steps: Vec<StepTotals>,
}

/// One step.
#[derive(Clone, Debug, PartialEq)]
pub struct StepTotals {
    /// Its sentence.
    pub sentence: String,
    /// What came to it.
    pub came: Amount,
    /// What went on.
    pub went: Amount,
    /// Events that it removed.
    pub removed: i64,
    /// Events that it changed.
    pub changed: i64,
    /// Events that it could not do its work on.
    pub failed: i64,
    /// Events that it held at the end.
    pub held: i64,
    /// How long it worked on one event on average, in nanoseconds, if that was measured.
    pub nanos: Option<u64>,
    /// Some of the events that go on behind it, if they were asked for.
    pub behind: Leaving,
}

impl ListTotals {
    pub(super) fn keep_behind(&mut self, behind: &mut BehindSteps) {
        for (step, position) in self.steps.iter_mut().zip(1..) {
            step.behind = behind.take(self.stage, &self.name, position);
        }
    }
}

/// The way from a route to one of its destinations.
#[derive(Clone, Debug, PartialEq)]
pub struct BranchTotals {
    /// The route.
    pub route: String,
    /// The destination.
    pub destination: String,
    /// What would be queued.
    pub sent: Amount,
    /// What the route took, by source.
    pub taken: Vec<(String, Amount)>,
    /// What would be queued of as many events in the middle of a long stream: at the end of these, steps still hold some, and at their beginning they held none.
    pub steady: Amount,
}

/// What is gathered on the way.
#[derive(Debug, Default)]
pub(super) struct Totals {
    /// By stage, name and position: events, nanoseconds.
    times: HashMap<(Stage, String, usize), (u64, u64)>,
}

/// The sum of the accounts that are wanted.
pub(super) fn sum(account: &BTreeMap<Account, Amount>, wanted: impl Fn(&Account) -> bool) -> Amount {
    let mut total = Amount::default();
    account.iter().filter(|(a, _)| wanted(a)).for_each(|(_, amount)| total += *amount);
    total
}

/// The accounts of destinations by the route that led there, and the destination.
type ByWay<'a> = HashMap<(&'a str, &'a str), Vec<(&'a Account, Amount)>>;
/// The accounts by the list that they belong to.
type ByList<'a> = HashMap<(Stage, &'a str), Vec<(&'a Account, Amount)>>;

impl Totals {
    pub(super) fn time(&mut self, times: &[StepTime]) {
        for time in times {
            let of = self.times.entry((time.stage, time.name.clone(), time.position)).or_default();
            *of = (of.0 + time.events, of.1 + time.nanos);
        }
    }

    pub(super) fn of(&self, plan: &CheckedPlan, account: &BTreeMap<Account, Amount>) -> (Vec<ListTotals>, Vec<BranchTotals>) {
        let (mut by_list, mut by_way): (ByList<'_>, ByWay<'_>) = (HashMap::new(), HashMap::new());
        for (at, amount) in account {
            by_list.entry((at.stage, at.name.as_str())).or_default().push((at, *amount));
            if at.stage == Stage::Destination {
                by_way.entry((at.via.as_str(), at.name.as_str())).or_default().push((at, *amount));
            }
        }
        let list = |(part, steps): (Part, Vec<Step>)| Some(self.list(Stage::read(part.kind)?, &part.name, &steps, &by_list));
        let lists = plan.lists().filter_map(list).collect();
        let always = |to: &str| plan.destinations.iter().find(|d| d.name == to).map(|d| plan.expanded(&d.always)).unwrap_or_default();
        let of = |route: &Route| {
            let steps = plan.expanded(&route.steps);
            route.to.iter().map(|to| branch((&route.name, &steps), (to, &always(to)), &by_list, &by_way)).collect::<Vec<_>>()
        };
        let branches = plan.routes.iter().flat_map(of).collect();
        (lists, branches)
    }

    fn list(&self, stage: Stage, name: &str, steps: &[Step], by_list: &ByList<'_>) -> ListTotals {
        let here = by_list.get(&(stage, name)).map(Vec::as_slice).unwrap_or_default();
        let total = |measure: Measure, position: usize| {
            let mut total = Amount::default();
            here.iter().filter(|(a, _)| a.measure == measure && a.position as usize == position).for_each(|(_, amount)| total += *amount);
            total
        };
        let came = match stage {
            Stage::Source => {
                let (read, rewritten) = (total(Measure::Read, 0), total(Measure::Rewritten, 0));
                Amount { events: read.events, bytes: read.bytes - rewritten.bytes }
            }
            Stage::Route => total(Measure::Taken, 0),
            Stage::Destination => total(Measure::Offered, 0),
        };
        let mut at = came;
        let steps = steps.iter().zip(1..).map(|(step, position)| {
            let [removed, changed, failed, held] = [Measure::Removed, Measure::Changed, Measure::Failed, Measure::Held].map(|m| total(m, position));
            let came = at;
            at = Amount { events: came.events - removed.events - held.events, bytes: came.bytes - removed.bytes - changed.bytes - held.bytes };
            let nanos = self.times.get(&(stage, name.to_owned(), position)).filter(|(events, _)| *events > 0).map(|(events, nanos)| nanos / events);
            let (removed, changed, failed, held) = (removed.events, changed.events, failed.events, held.events);
            StepTotals { sentence: step.to_string(), came, went: at, removed, changed, failed, held, nanos, behind: Leaving::new() }
        });
        let steps = steps.collect();
        let went = match stage {
            Stage::Source => total(Measure::Passed, 0),
            Stage::Route => total(Measure::Out, 0),
            Stage::Destination => total(Measure::Enqueued, 0),
        };
        ListTotals { stage, name: name.to_owned(), came, went, steps }
    }
}

/// The way from a route to a destination, each with its steps.
fn branch((route, steps): (&str, &[Step]), (to, always): (&str, &[Step]), by_list: &ByList<'_>, by_way: &ByWay<'_>) -> BranchTotals {
    let at_route = by_list.get(&(Stage::Route, route)).map(Vec::as_slice).unwrap_or_default();
    let at_destination = by_way.get(&(route, to)).map(Vec::as_slice).unwrap_or_default();
    let mut by_source: BTreeMap<&str, Amount> = BTreeMap::new();
    at_route.iter().filter(|(a, _)| a.measure == Measure::Taken).for_each(|(a, amount)| *by_source.entry(&a.via).or_default() += *amount);
    let mut sent = Amount::default();
    let here = || at_destination.iter();
    here().filter(|(a, _)| a.measure == Measure::Enqueued).for_each(|(_, amount)| sent += *amount);
    // Of repeats that are merged only the first is held; of lines that are joined, each.
    let (mut merging, mut joining) = (0, 0);
    let held = at_route.iter().map(|at| (at, steps)).chain(here().map(|at| (at, always))).filter(|((a, _), _)| a.measure == Measure::Held);
    for ((account, amount), steps) in held {
        match steps.get(account.position as usize - 1).map(|step| &step.operation) {
            Some(Operation::Merge(_)) => merging += amount.events,
            _ => joining += amount.events,
        }
    }
    let taken: i64 = by_source.values().map(|amount| amount.events).sum();
    // A window that is open at the end is half over on average, and so was one that a long stream would have had open at the beginning.
    let more = if sent.events > 0 { 1.0 + merging as f64 / 2.0 / sent.events as f64 } else { 1.0 };
    let settled = if taken > joining { 1.0 - joining as f64 / taken as f64 } else { 1.0 };
    let steady = |n: i64| (n as f64 * more / settled).round() as i64;
    let mut steady = Amount { events: steady(sent.events), bytes: steady(sent.bytes) };
    if sent.events == 0 && merging > 0 {
        steady = Amount { events: merging, bytes: at_route.iter().filter(|(a, _)| a.measure == Measure::Held).map(|(_, amount)| amount.bytes).sum() };
    }
    let taken = by_source.into_iter().map(|(source, amount)| (source.to_owned(), amount)).collect();
    BranchTotals { route: route.to_owned(), destination: to.to_owned(), sent, taken, steady }
}
