//! What a changed plan would send to each destination, from two trials over one sample and from what really flowed.

use std::collections::{BTreeMap, HashMap};

use rockrose_ledger::{Amount, Stage};

use super::Trial;
use super::totals::BranchTotals;

/// What really flowed in some stretch of time.
#[derive(Clone, Debug, Default)]
pub struct Real {
    /// What came through each source's steps.
    pub sources: HashMap<String, Amount>,
    /// What was queued on each way from a route to a destination. Empty, if it is not known.
    pub branches: HashMap<(String, String), Amount>,
}

/// What a destination gets in that stretch of time.
#[derive(Clone, Debug, PartialEq)]
pub struct Predicted {
    /// The destination.
    pub destination: String,
    /// What it gets by the plan that runs.
    pub now: Amount,
    /// What it would get by the other plan.
    pub then: Amount,
}

/// A way from a route to a destination.
pub(super) type Way = (String, String);

/// Compares a trial of the plan that runs with one of another plan, over the same events, way by way: what it carries, and what it would carry.
///
/// Where the running plan sends something on a way, what it really sent is what the trials' ratio is taken of: so the sample need not be exact. A way that is new is estimated from its sources.
pub(super) fn ways(now: &Trial, then: &Trial, real: &Real) -> BTreeMap<Way, (Amount, Amount)> {
    let sampled: HashMap<&str, Amount> = now.lists.iter().filter(|l| l.stage == Stage::Source).map(|l| (l.name.as_str(), l.went)).collect();
    let by_way =
        |trial: &'_ Trial| -> HashMap<Way, BranchTotals> { trial.branches.iter().map(|b| ((b.route.clone(), b.destination.clone()), b.clone())).collect() };
    let (now_ways, then_ways) = (by_way(now), by_way(then));
    let mut found: BTreeMap<Way, (Amount, Amount)> = BTreeMap::new();
    for (way, branch) in &now_ways {
        let really = if real.branches.is_empty() { scaled(branch, &sampled, real) } else { real.branches.get(way).copied().unwrap_or_default() };
        found.entry(way.clone()).or_default().0 = really;
    }
    // What events took that are on no way of the running plan any more, such as those that another destination spilled.
    for (way, amount) in real.branches.iter().filter(|(way, _)| !now_ways.contains_key(*way)) {
        found.entry(way.clone()).or_default().0 = *amount;
    }
    for (way, then) in &then_ways {
        let really = found.get(way).map(|(now, _)| *now).unwrap_or_default();
        let estimate = match now_ways.get(way) {
            Some(now) if really.events > 0 && now.steady.events > 0 => {
                // Of each the ratio, so that an event may become shorter.
                Amount { events: ratio(really.events, then.steady.events, now.steady.events), bytes: ratio(really.bytes, then.steady.bytes, now.steady.bytes) }
            }
            // None of its events is in the sample, and nothing says that it changed.
            Some(now) if really.events > 0 && now.taken == then.taken && then.steady.events == 0 => really,
            _ => scaled(then, &sampled, real),
        };
        found.entry(way.clone()).or_default().1 = estimate;
    }
    found
}

/// How many events a route would take in the stretch of real time, by what really came at its sources.
fn would_take(trial: &Trial, route: &str, real: &Real) -> f64 {
    let Some(branch) = trial.branches.iter().find(|b| b.route == route) else { return 0.0 };
    let of = |(source, amount): &(String, Amount)| {
        let stands_for = trial.lists.iter().find(|l| l.stage == Stage::Source && l.name == *source).map_or(0, |l| l.went.events);
        let came = real.sources.get(source).map_or(0, |came| came.events);
        if stands_for > 0 { amount.events as f64 * came as f64 / stands_for as f64 } else { 0.0 }
    };
    branch.taken.iter().map(of).sum()
}

/// What the few events of a stretch tell of the volume of a route is little: the volume is that of the sample of a long time, and only what steps make of it is the stretch's.
pub(super) fn with_volume_of(told: Amount, stretch: &Trial, some: &Trial, route: &str, real: &Real) -> Amount {
    let (short, long) = (would_take(stretch, route, real), would_take(some, route, real));
    if short == 0.0 || long == 0.0 {
        return told;
    }
    let scaled = |n: i64| (n as f64 * long / short).round() as i64;
    Amount { events: scaled(told.events), bytes: scaled(told.bytes) }
}

/// What comes to each destination on all its ways.
pub(super) fn by_destination(ways: impl IntoIterator<Item = (Way, (Amount, Amount))>) -> Vec<Predicted> {
    let mut found: BTreeMap<String, Predicted> = BTreeMap::new();
    for ((_, destination), (now, then)) in ways {
        let at = found.entry(destination.clone()).or_insert_with(|| Predicted { destination, now: Amount::default(), then: Amount::default() });
        at.now += now;
        at.then += then;
    }
    found.into_values().collect()
}

fn ratio(really: i64, then: i64, now: i64) -> i64 {
    if now == 0 { 0 } else { (really as f64 * then as f64 / now as f64).round() as i64 }
}

/// What a way would carry, by what really came at its sources.
fn scaled(branch: &BranchTotals, sampled: &HashMap<&str, Amount>, real: &Real) -> Amount {
    let (mut taken, mut really) = (0.0, 0.0);
    for (source, amount) in &branch.taken {
        let (came, stands_for) = (real.sources.get(source), sampled.get(source.as_str()));
        let scale = match (came, stands_for) {
            (Some(came), Some(stands_for)) if stands_for.events > 0 => came.events as f64 / stands_for.events as f64,
            _ => 0.0,
        };
        taken += amount.events as f64;
        really += amount.events as f64 * scale;
    }
    if taken == 0.0 {
        return Amount::default();
    }
    let by = really / taken;
    Amount { events: (branch.steady.events as f64 * by).round() as i64, bytes: (branch.steady.bytes as f64 * by).round() as i64 }
}
