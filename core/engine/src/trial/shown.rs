//! The events of a trial that are shown, and what became of each.

use std::collections::BTreeMap;

use rockrose_event::record::Form;
use rockrose_ledger::Selection;
use rockrose_plan::{CheckedPlan, Gate};
use serde_json::Value;

use super::{Asked, Given};
use crate::drawn::{Drawn, Leaving, Random};
use crate::{Capture, CompiledPlan, Outcome, Part, Point, parts};

/// What became of an event at a list of steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Fate {
    /// The route does not take it.
    NotTaken,
    /// It goes on as it came.
    Unchanged,
    /// It goes on otherwise than it came.
    Changed,
    /// A step could not do its work on it; it goes on.
    Failed,
    /// A step removed it.
    Removed,
    /// A step holds it back.
    Held,
}

impl Fate {
    /// All of them.
    pub const ALL: &[Fate] = &[Fate::NotTaken, Fate::Unchanged, Fate::Changed, Fate::Failed, Fate::Removed, Fate::Held];

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Fate::NotTaken => "not taken",
            Fate::Unchanged => "unchanged",
            Fate::Changed => "changed",
            Fate::Failed => "failed",
            Fate::Removed => "removed",
            Fate::Held => "held",
        }
    }

    /// Reads the word back.
    #[must_use]
    pub fn read(word: &str) -> Option<Fate> {
        Fate::ALL.iter().copied().find(|fate| fate.word() == word || fate.word().replace(' ', "-") == word)
    }
}

impl Capture {
    /// What became of the event there.
    #[must_use]
    pub fn fate(&self) -> Fate {
        match &self.after {
            _ if self.removed_by.is_some() => Fate::Removed,
            _ if self.held_by.is_some() => Fate::Held,
            _ if self.failed_by.is_some() => Fate::Failed,
            Some(after) if *after == self.before => Fate::Unchanged,
            _ => Fate::Changed,
        }
    }
}

/// What became of one event.
#[derive(Clone, Debug, PartialEq)]
pub struct Tried {
    /// Which of those that were given, from 0.
    pub given: usize,
    /// For how many it stands.
    pub times: u64,
    /// At its source.
    pub arrival: Capture,
    /// At the route that was asked for; else at each that takes it.
    pub routes: Vec<TriedRoute>,
}

/// What became of an event on a route.
#[derive(Clone, Debug, PartialEq)]
pub struct TriedRoute {
    /// The route.
    pub name: String,
    /// What its steps did; nothing, if it does not take the event.
    pub passing: Option<Capture>,
    /// The parts of its condition that decide, if it does not take the event.
    pub parts: Vec<Part>,
    /// What the steps of each of its destinations did, as far as it came there.
    pub destinations: Vec<(String, Capture)>,
}

impl TriedRoute {
    /// What became of the event on it.
    #[must_use]
    pub fn fate(&self) -> Fate {
        self.passing.as_ref().map_or(Fate::NotTaken, Capture::fate)
    }

    /// What became of it here and at its destinations.
    fn fates(&self) -> impl Iterator<Item = Fate> + '_ {
        std::iter::once(self.fate()).chain(self.destinations.iter().map(|(_, capture)| capture.fate()))
    }
}

impl Tried {
    /// Whether this became of it: where `here` says so, at its source as well. Unchanged is what nothing changed.
    fn has(&self, fate: Fate, here: bool) -> bool {
        let arrival = here.then(|| self.arrival.fate());
        let mut fates = arrival.into_iter().chain(self.routes.iter().flat_map(TriedRoute::fates));
        match fate {
            Fate::NotTaken => self.arrival.after.is_some() && self.routes.iter().all(|route| route.passing.is_none()),
            Fate::Unchanged => !self.routes.is_empty() && fates.all(|f| f == Fate::Unchanged),
            _ => fates.any(|f| f == fate),
        }
    }
}

/// So many events of each destination are kept as they would be sent.
const KEPT: usize = 1_000;
/// Of all destinations together no more than so many bytes.
const ROOM: usize = 64 << 20;

pub(super) struct Shown<'a> {
    plan: &'a CheckedPlan,
    /// The route that was asked for.
    route: Option<usize>,
    /// What is watched while events are still wanted.
    points: Vec<Point>,
    fate: Option<Fate>,
    most: usize,
    tried: Vec<Tried>,
    sent: Vec<Drawn>,
    /// Room for so many bytes of further ones.
    room: usize,
    random: Random,
}

impl<'a> Shown<'a> {
    pub(super) fn new(plan: &'a CheckedPlan, asked: &Asked<'_>) -> Shown<'a> {
        let route = asked.route.and_then(|name| plan.routes.iter().position(|r| r.name == name));
        let routes: Vec<usize> = route.map_or_else(|| (0..plan.routes.len()).collect(), |route| vec![route]);
        let to = |d: &usize| routes.iter().any(|r| plan.routes[*r].to.contains(&plan.destinations[*d].name));
        let destinations: Vec<usize> = (0..plan.destinations.len()).filter(|d| route.is_none() || to(d)).collect();
        let points =
            (0..plan.sources.len()).map(Point::Source).chain(routes.iter().copied().map(Point::Route)).chain(destinations.into_iter().map(Point::Destination));
        let count = plan.destinations.len();
        Shown {
            plan,
            route,
            points: points.collect(),
            fate: asked.fate,
            most: asked.most,
            tried: Vec::new(),
            sent: vec![Drawn::default(); count],
            room: ROOM,
            random: Random::default(),
        }
    }

    /// What is to be watched, as long as anything is.
    pub(super) fn points(&self) -> Option<&[Point]> {
        (self.tried.len() < self.most).then_some(&self.points)
    }

    /// Keeps some of what would be sent, each with the same chance.
    pub(super) fn sent(&mut self, plan: &CompiledPlan, outcome: &Outcome, times: u64) {
        for entry in &outcome.entries {
            let Some(to) = plan.destination(&entry.destination) else { continue };
            let mut lines = Vec::with_capacity(entry.selection.len());
            Selection::read(entry.selection.as_bytes(), |line| lines.push(line as usize));
            for line in lines {
                let start = if line == 0 { 0 } else { outcome.ends[line - 1] as usize };
                let event = &outcome.lines[start..outcome.ends[line] as usize - 1];
                self.sent[to].see(event, times, KEPT, &mut self.room, &mut self.random);
            }
        }
    }

    /// Takes those of some events that are to be shown.
    pub(super) fn take(&mut self, outcome: &Outcome, some: &[(usize, usize)], given: &[Given<'_>]) {
        if self.tried.len() >= self.most {
            return;
        }
        let mut by_record: BTreeMap<u32, Vec<&Capture>> = BTreeMap::new();
        for capture in outcome.captures.iter().filter(|c| c.record > 0) {
            by_record.entry(capture.record).or_default().push(capture);
        }
        for (record, captures) in by_record {
            let Some((source, number)) = some.get(record as usize - 1) else { continue };
            let Some(arrival) = captures.iter().find(|c| c.point == Point::Source(*source)) else { continue };
            let event = &given[*number];
            let mut routes = Vec::new();
            for (route, planned) in self.plan.routes.iter().enumerate().filter(|(r, _)| self.route.is_none_or(|route| route == *r)) {
                let passing = captures.iter().find(|c| c.point == Point::Route(route)).map(|c| (*c).clone());
                let parts = match (&passing, &planned.when, &arrival.after) {
                    (None, Gate::Condition(condition), Some(arrived)) if self.route.is_some() && planned.takes_from(event.source) => {
                        parts(condition, arrived, event.at_ms)
                    }
                    (None, ..) if self.route.is_none() => continue,
                    _ => Vec::new(),
                };
                let there = |c: &&&Capture| c.route == Some(route as u32);
                let name = |c: &Capture| match c.point {
                    Point::Destination(to) => self.plan.destinations[to].name.clone(),
                    _ => String::new(),
                };
                let destinations = captures.iter().filter(there).map(|c| (name(c), (*c).clone())).collect();
                routes.push(TriedRoute { name: planned.name.clone(), passing, parts, destinations });
            }
            let tried = Tried { given: *number, times: event.times, arrival: (*arrival).clone(), routes };
            if self.tried.len() < self.most && self.is_wanted(&tried) {
                self.tried.push(tried);
            }
        }
    }

    /// Without a word on what becomes of them, events are shown that the route takes which was asked for.
    fn is_wanted(&self, tried: &Tried) -> bool {
        match self.fate {
            Some(fate) => tried.has(fate, self.route.is_none()),
            None => self.route.is_none() || tried.routes.iter().any(|route| route.passing.is_some()),
        }
    }

    pub(super) fn finish(self) -> (Vec<Tried>, Vec<Leaving>) {
        (self.tried, self.sent.into_iter().map(|drawn| drawn.kept).collect())
    }
}

/// A field that differs between an event before and after.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The field's path.
    pub field: String,
    /// Its value before, in JSON; nothing, if it was not there.
    pub before: Option<String>,
    /// Its value after.
    pub after: Option<String>,
}

/// What differs between two events, in the order of the first, then of the second. Nothing, if one of them is no JSON object.
#[must_use]
pub fn differences(before: &[u8], after: &[u8]) -> Vec<Difference> {
    let read = |event: &[u8]| serde_json::from_slice::<Value>(event).ok().filter(Value::is_object);
    let mut found = Vec::new();
    if let (Some(before), Some(after)) = (read(before), read(after)) {
        compare("", Some(&before), Some(&after), &mut found);
    }
    found
}

fn compare(path: &str, before: Option<&Value>, after: Option<&Value>, found: &mut Vec<Difference>) {
    if before == after {
        return;
    }
    if let (Some(Value::Object(before)), Some(Value::Object(after))) = (before, after) {
        let names = before.keys().chain(after.keys().filter(|name| !before.contains_key(*name)));
        for name in names {
            let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
            compare(&path, before.get(name), after.get(name), found);
        }
        return;
    }
    let text = |value: Option<&Value>| value.map(Value::to_string);
    found.push(Difference { field: path.to_owned(), before: text(before), after: text(after) });
}

impl Given<'_> {
    /// A JSON object that came at `at_ms` and stands for itself.
    #[must_use]
    pub fn one<'a>(source: &'a str, event: &'a [u8], at_ms: i64) -> Given<'a> {
        Given { source, event, form: Form::Object, at_ms, times: 1 }
    }
}
