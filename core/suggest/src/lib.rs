#![doc = include_str!("crate.md")]

mod candidates;
mod reads;
#[cfg(test)]
mod tests;

use std::collections::HashSet;

use rockrose_engine::trial::{self, Asked, Given, Real, Samples, Side, Trial};
use rockrose_language::{Operation, Step, parse_step};
use rockrose_ledger::{Amount, Stage};
use rockrose_plan::{CheckedPlan, Gate};
use rockrose_redact::HashKey;
use xxhash_rust::xxh3::xxh3_64;

use candidates::{Candidate, Carried};

/// Why a step is suggested.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Reason {
    /// Personal data leaves by a destination that does not redact it.
    PersonalData,
    /// Requests by which something asks whether a service is well.
    HealthChecks,
    /// One pattern of messages of low severity carries much.
    Repetitive,
    /// The same message comes again within seconds.
    Repeats,
    /// Nothing in the plan reads a field that carries much.
    UnreadField,
    /// Long texts carry much.
    LongTexts,
    /// The same events come from two sources.
    Copies,
}

impl Reason {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Reason::PersonalData => "personal data",
            Reason::HealthChecks => "health checks",
            Reason::Repetitive => "repetitive messages",
            Reason::Repeats => "repeats",
            Reason::UnreadField => "unread field",
            Reason::LongTexts => "long texts",
            Reason::Copies => "copies",
        }
    }
}

/// A step that is worth a thought.
#[derive(Clone, Debug, PartialEq)]
pub struct Suggestion {
    /// The same for the same sentence at the same place.
    pub id: String,
    /// Why.
    pub reason: Reason,
    /// The part of the plan at the end of whose list it would stand: `route:NAME` or `destination:NAME`.
    pub part: String,
    /// The sentence.
    pub step: String,
    /// What was found, in a sentence.
    pub because: String,
    /// What each destination would no longer get, of what really flowed.
    pub saves: Vec<(String, Amount)>,
    /// What all destinations of the part get now.
    pub of: Amount,
}

impl Suggestion {
    /// Bytes that it saves.
    #[must_use]
    pub fn bytes(&self) -> i64 {
        self.saves.iter().map(|(_, amount)| amount.bytes).sum()
    }

    /// What it saves, by the prices of `plan`.
    #[must_use]
    pub fn money(&self, plan: &CheckedPlan) -> f64 {
        let price = |name: &str| plan.destinations.iter().find(|d| d.name == name)?.price.as_ref();
        self.saves.iter().filter_map(|(name, amount)| Some(price(name)?.of(*amount).to_f64())).sum()
    }
}

/// What suggestions are made of.
#[derive(Clone, Copy)]
pub struct Material<'a> {
    /// The plan that runs, as it is with the events of the samples.
    pub plan: Side<'a>,
    /// Hashes what is redacted `as hash`.
    pub key: &'a HashKey,
    /// The events of the samples.
    pub samples: Samples<'a>,
    /// What really flowed.
    pub real: &'a Real,
    /// Ids of suggestions that were declined.
    pub declined: &'a HashSet<String>,
}

/// So many routes are looked into, those that carry most.
const ROUTES: usize = 12;
/// So many events of the sample are tried.
const EVENTS: usize = 5_000;
/// And so many of the stretch.
const CONSECUTIVE: usize = 20_000;
/// So many candidates of a route are tried, those that seem to save most.
const TRIED: usize = 8;
/// One that saves a smaller share of what its part carries is not worth a thought.
const LEAST: f64 = 0.01;

/// Steps that would save something, or keep personal data from leaving: those that protect somebody first, then by the money that they save, then by bytes.
#[must_use]
pub fn suggest(material: &Material<'_>) -> Vec<Suggestion> {
    let plan = material.plan.plan;
    let some = fewer(material.samples.some);
    let stretch = &material.samples.stretch[..material.samples.stretch.len().min(CONSECUTIVE)];
    let samples = Samples { some: &some, stretch };
    let now = trial::trial(plan, material.key.clone(), material.plan.environment, &some, &Asked::default());
    let mut found = personal(plan, &now);
    let mut routes: Vec<(&str, i64)> = now.lists.iter().filter(|l| l.stage == Stage::Route).map(|l| (l.name.as_str(), l.went.bytes)).collect();
    routes.sort_by_key(|(_, bytes)| -bytes);
    let read = reads::fields(plan);
    for (route, _) in routes.into_iter().filter(|(_, bytes)| *bytes > 0).take(ROUTES) {
        let carried = Carried::of(material, route, samples);
        for candidate in carried.candidates(&read).into_iter().take(TRIED) {
            found.extend(measured(material, route, samples, candidate));
        }
    }
    found.retain(|s| !material.declined.contains(&s.id));
    found.sort_by(|a, b| {
        let protects = |s: &Suggestion| s.reason != Reason::PersonalData;
        let order = protects(a).cmp(&protects(b)).then(b.money(plan).total_cmp(&a.money(plan)));
        order.then(b.bytes().cmp(&a.bytes())).then(a.id.cmp(&b.id))
    });
    found
}

/// Some of the events, each for as many more.
fn fewer<'a>(given: &'a [Given<'a>]) -> Vec<Given<'a>> {
    let factor = given.len().div_ceil(EVENTS).max(1);
    given.iter().step_by(factor).map(|g| Given { times: g.times * factor as u64, ..*g }).collect()
}

fn id(part: &str, step: &str) -> String {
    format!("{:016x}", xxh3_64(format!("{part}\u{1f}{step}").as_bytes()))
}

/// The plan with one route, or, where that takes the remainder, with all that it needs to know which.
fn only(plan: &CheckedPlan, route: &str) -> CheckedPlan {
    let mut plan = plan.clone();
    if plan.routes.iter().any(|r| r.name == route && r.when != Gate::Remainder) {
        plan.routes.retain(|r| r.name == route);
    }
    plan
}

/// What a candidate would save, if that is enough.
fn measured(material: &Material<'_>, route: &str, samples: Samples<'_>, candidate: Candidate) -> Option<Suggestion> {
    let step: Step = parse_step(&candidate.step).ok()?;
    let now = only(material.plan.plan, route);
    let mut then = now.clone();
    let at = then.routes.iter().position(|r| r.name == route)?;
    let there = then.expanded(&then.routes[at].steps);
    // What a route samples already, somebody has thought of.
    let samples_again = matches!(step.operation, Operation::Sample(_)) && there.iter().any(|s| matches!(s.operation, Operation::Sample(_)));
    if there.contains(&step) || samples_again {
        return None;
    }
    then.routes[at].steps.push(step);
    let side = |plan| Side { plan, environment: material.plan.environment };
    let real = of_route(material.real, route);
    let compared = trial::compare(side(&now), side(&then), material.key, samples, &real, &Asked::default());
    let (mut saves, mut of) = (Vec::new(), Amount::default());
    for told in compared.predicted.iter().filter(|p| now.routes[at].to.contains(&p.destination)) {
        of += told.now;
        let saved = Amount { events: told.now.events - told.then.events, bytes: told.now.bytes - told.then.bytes };
        if saved.bytes > 0 {
            saves.push((told.destination.clone(), saved));
        }
    }
    let part = format!("route:{route}");
    let suggestion = Suggestion { id: id(&part, &candidate.step), reason: candidate.reason, part, step: candidate.step, because: candidate.because, saves, of };
    (suggestion.of.bytes > 0 && suggestion.bytes() as f64 >= LEAST * suggestion.of.bytes as f64).then_some(suggestion)
}

/// What really flowed on the ways of one route.
fn of_route(real: &Real, route: &str) -> Real {
    Real {
        sources: real.sources.clone(),
        branches: real.branches.iter().filter(|((via, _), _)| via == route).map(|(way, amount)| (way.clone(), *amount)).collect(),
    }
}

/// Personal data in what is sent, and the step that would mask it.
fn personal(plan: &CheckedPlan, now: &Trial) -> Vec<Suggestion> {
    /// In a smaller share of a field's values it may be an accident of the detector.
    const LEAST_SHARE: f64 = 0.005;
    let mut found = Vec::new();
    for (destination, sent) in plan.destinations.iter().zip(&now.sent) {
        let mut fields = rockrose_survey::Fields::default();
        for (event, times) in sent {
            fields.add(event, *times, 0);
        }
        let (mut detectors, mut places): (Vec<&str>, Vec<String>) = (Vec::new(), Vec::new());
        for field in fields.list() {
            for (detector, share) in field.personal.iter().filter(|(_, share)| *share >= LEAST_SHARE) {
                if !detectors.contains(detector) {
                    detectors.push(detector);
                }
                places.push(format!("{detector} in {:.1} % of `{}`", 100.0 * share, field.name));
            }
        }
        // Addresses and the like are what logs are for.
        detectors.retain(|detector| !matches!(*detector, "ipv4" | "ipv6" | "mac"));
        if detectors.is_empty() {
            continue;
        }
        places.retain(|place| detectors.iter().any(|detector| place.starts_with(detector)));
        let part = format!("destination:{}", destination.name);
        let step = format!("redact {}", detectors.join(", "));
        let because = format!("`{}` gets {}", destination.name, places.join(", "));
        found.push(Suggestion { id: id(&part, &step), reason: Reason::PersonalData, part, step, because, saves: Vec::new(), of: Amount::default() });
    }
    found
}
