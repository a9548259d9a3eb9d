//! A plan against the one that runs, over what the samples hold.

use std::collections::{BTreeMap, HashMap, HashSet};

use rockrose_language::Step;
use rockrose_ledger::{Amount, Stage};
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;

use super::predict::{self, Predicted, Real, Way};
use super::{Asked, Given, Trial, Tried, TriedRoute, depends_on_pace, trial};
use crate::Environment;

/// A plan, and what it asks beyond the events.
#[derive(Clone, Copy)]
pub struct Side<'a> {
    /// The plan.
    pub plan: &'a CheckedPlan,
    /// What it asks beyond the events.
    pub environment: &'a Environment,
}

/// The events of the samples.
#[derive(Clone, Copy)]
pub struct Samples<'a> {
    /// Some events of a long time, each for as many as it stands for.
    pub some: &'a [Given<'a>],
    /// All events of a shorter time.
    pub stretch: &'a [Given<'a>],
}

/// A plan compared with the one that runs.
#[derive(Clone, Debug)]
pub struct Comparison {
    /// What the plan that runs does.
    pub now: Trial,
    /// What the other does.
    pub then: Trial,
    /// What each destination gets, and would get.
    pub predicted: Vec<Predicted>,
}

/// So many events are looked through for those that differ.
const SOUGHT: usize = 400;

/// One part in so many of a stretch only warms the steps up.
const WARM_UP: i64 = 5;

/// Runs both plans over the samples. What steps do that depend on the events around one is told from the stretch, all else from the sample of a long time.
#[must_use]
pub fn compare(now: Side<'_>, then: Side<'_>, key: &HashKey, samples: Samples<'_>, real: &Real, asked: &Asked<'_>) -> Comparison {
    let paced: HashSet<Way> = paced_ways(now.plan).into_iter().chain(paced_ways(then.plan)).collect();
    let times = samples.stretch.iter().map(|g| g.at_ms);
    let long = times.clone().max().unwrap_or(0) - times.min().unwrap_or(0);
    let run = |side: Side<'_>, given: &[Given<'_>], consecutive: bool, most: usize, behind: usize| {
        trial(side.plan, key.clone(), side.environment, given, &Asked { consecutive, warm_up_ms: long / WARM_UP, most, behind, ..*asked })
    };
    let both = |given: &[Given<'_>], consecutive: bool| {
        let (most, most_now) = if asked.differing && asked.most > 0 { (SOUGHT, SOUGHT) } else { (asked.most, 0) };
        let (now, mut then) = (run(now, given, consecutive, most_now, 0), run(then, given, consecutive, most, asked.behind));
        if most_now > 0 {
            then.shown = differing(&now, then.shown, asked.most);
        }
        (now, then)
    };
    let some = both(samples.some, false);
    let told = !paced.is_empty() && !samples.stretch.is_empty();
    let stretch = told.then(|| both(samples.stretch, true));
    let mut ways = predict::ways(&some.0, &some.1, real);
    if let Some((now, then)) = &stretch {
        let came: HashMap<&str, i64> = then.lists.iter().filter(|l| l.stage == Stage::Route).map(|l| (l.name.as_str(), l.came.events)).collect();
        let real = of_stretch(real, now, &some.0);
        let short = predict::ways(now, then, &real);
        for (way, mut told) in short.into_iter().filter(|(way, _)| paced.contains(way) && came.get(way.0.as_str()).is_some_and(|n| *n > 0)) {
            // What really flowed on this way is known, or it is estimated from what comes.
            if real.branches.get(&way).is_none_or(|really| really.events == 0) {
                told.0 = predict::with_volume_of(told.0, now, &some.0, &way.0, &real);
                told.1 = predict::with_volume_of(told.1, then, &some.1, &way.0, &real);
            }
            ways.insert(way, told);
        }
    }
    let predicted = predict::by_destination(ways);
    let (short_now, short_then) = stretch.map_or((None, None), |(now, then)| (Some(now), Some(then)));
    Comparison { now: together(now.plan, some.0, short_now, asked), then: together(then.plan, some.1, short_then, asked), predicted }
}

/// Of the events of a trial those of which the plan that runs makes something else; if there are none, the first.
fn differing(now: &Trial, mut shown: Vec<Tried>, most: usize) -> Vec<Tried> {
    let made = |tried: &Tried| {
        let sent =
            |route: &TriedRoute| (route.name.clone(), route.destinations.iter().map(|(name, there)| (name.clone(), there.after.clone())).collect::<Vec<_>>());
        tried.routes.iter().filter(|route| route.passing.is_some()).map(sent).collect::<Vec<_>>()
    };
    let before: HashMap<usize, _> = now.shown.iter().map(|tried| (tried.given, made(tried))).collect();
    let differs = |tried: &Tried| before.get(&tried.given).is_none_or(|before| *before != made(tried));
    if shown.iter().any(differs) {
        shown.retain(differs);
    }
    shown.truncate(most);
    shown
}

/// What really flowed, where only the sample of a long time tells it.
fn of_stretch(real: &Real, stretch: &Trial, some: &Trial) -> Real {
    if !real.branches.is_empty() || !real.sources.is_empty() {
        return real.clone();
    }
    let sources = some.lists.iter().filter(|l| l.stage == Stage::Source && stretch.lists.iter().any(|s| s.name == l.name));
    Real { sources: sources.map(|l| (l.name.clone(), l.went)).collect(), branches: HashMap::new() }
}

fn is_paced(plan: &CheckedPlan, steps: &[Step]) -> bool {
    plan.expanded(steps).iter().any(depends_on_pace)
}

/// The ways on which some step depends on the events around one.
fn paced_ways(plan: &CheckedPlan) -> Vec<Way> {
    let always: HashMap<&str, bool> = plan.destinations.iter().map(|d| (d.name.as_str(), is_paced(plan, &d.always))).collect();
    let of = |route: &rockrose_plan::Route| {
        let own = is_paced(plan, &route.steps);
        let ways = route.to.iter().filter(|to| own || always.get(to.as_str()).copied().unwrap_or_default());
        ways.map(|to| (route.name.clone(), to.clone())).collect::<Vec<_>>()
    };
    plan.routes.iter().flat_map(of).collect()
}

/// One account of both trials of a plan: what depends on the events around one from the stretch, for as many as the other stands for.
fn together(plan: &CheckedPlan, mut some: Trial, stretch: Option<Trial>, asked: &Asked<'_>) -> Trial {
    let Some(stretch) = stretch else { return some };
    let ways: HashSet<Way> = paced_ways(plan).into_iter().collect();
    let paced_routes: HashSet<&str> = plan.routes.iter().filter(|r| is_paced(plan, &r.steps)).map(|r| r.name.as_str()).collect();
    let paced_destinations: HashSet<&str> = ways.iter().map(|(_, to)| to.as_str()).collect();
    let came =
        |trial: &Trial| -> BTreeMap<String, i64> { trial.lists.iter().filter(|l| l.stage == Stage::Route).map(|l| (l.name.clone(), l.came.events)).collect() };
    let (of_some, of_stretch) = (came(&some), came(&stretch));
    let total = |came: &BTreeMap<String, i64>, routes: &[&str]| routes.iter().filter_map(|route| came.get(*route)).sum::<i64>();
    let mut told: HashSet<&str> = HashSet::new();
    for (list, short) in some.lists.iter_mut().zip(&stretch.lists) {
        let routes: Vec<&str> = match list.stage {
            Stage::Source => continue,
            Stage::Route if paced_routes.contains(list.name.as_str()) => vec![list.name.as_str()],
            Stage::Destination if paced_destinations.contains(list.name.as_str()) => {
                plan.routes.iter().filter(|r| r.to.contains(&list.name)).map(|r| r.name.as_str()).collect()
            }
            _ => continue,
        };
        let (long, brief) = (total(&of_some, &routes), total(&of_stretch, &routes));
        if brief == 0 {
            continue;
        }
        if let Some(route) = plan.routes.iter().find(|r| list.stage == Stage::Route && r.name == list.name) {
            told.insert(&route.name);
        }
        if let Some(destination) = plan.destinations.iter().find(|d| list.stage == Stage::Destination && d.name == list.name) {
            told.insert(&destination.name);
        }
        let by = long as f64 / brief as f64;
        let scaled = |n: i64| (n as f64 * by).round() as i64;
        let amount = |a: Amount| Amount { events: scaled(a.events), bytes: scaled(a.bytes) };
        *list = short.clone();
        (list.came, list.went) = (amount(list.came), amount(list.went));
        for step in &mut list.steps {
            (step.came, step.went) = (amount(step.came), amount(step.went));
            for n in [&mut step.removed, &mut step.changed, &mut step.failed, &mut step.held] {
                *n = scaled(*n);
            }
        }
    }
    some.cannot_tell.retain(|sentence| !told.iter().any(|name| sentence.contains(&format!("`{name}`:"))));
    for (kept, (short, destination)) in some.sent.iter_mut().zip(stretch.sent.into_iter().zip(&plan.destinations)) {
        if paced_destinations.contains(destination.name.as_str()) && !short.is_empty() {
            *kept = short;
        }
    }
    if asked.route.is_some_and(|route| ways.iter().any(|(name, _)| name == route)) && !stretch.shown.is_empty() {
        (some.shown, some.shows_stretch) = (stretch.shown, true);
    }
    some
}
