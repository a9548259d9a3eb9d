//! What is odd about a plan, by the events that come: said before it is applied.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use rockrose_event::field::Path;
use rockrose_event::record::Record;
use rockrose_language::{Condition, Test, nearest};
use rockrose_plan::{CheckedPlan, Gate, Route};
use rockrose_redact::HashKey;
use serde_json::Value;

use super::{Given, Side};
use crate::{CompiledPlan, Matcher, MatcherScratch, Point, Scratch, Watch};

/// So many events are looked at.
const LOOKED_AT: usize = 2_000;
/// Of fewer, nothing is said.
const ENOUGH: usize = 100;
/// Most routes whose ways are compared.
const MOST_ROUTES: usize = 500;
/// Fields are named down to so many levels.
const DEPTH: usize = 4;

/// What the events say that is odd about the routes that `then` has and `now` has not, or has otherwise: a route that takes none of them or all, a field that none of them has, events that
/// two routes send to one destination. In sentences.
#[must_use]
pub fn advice(now: &CheckedPlan, then: Side<'_>, key: &HashKey, given: &[Given<'_>]) -> Vec<String> {
    let before: HashMap<&str, &Route> = now.routes.iter().map(|route| (route.name.as_str(), route)).collect();
    let is_new = |route: &Route| before.get(route.name.as_str()).is_none_or(|old| (&old.when, &old.from, &old.to) != (&route.when, &route.from, &route.to));
    let new: Vec<usize> = (0..then.plan.routes.len()).filter(|r| is_new(&then.plan.routes[*r])).take(MOST_ROUTES).collect();
    if new.is_empty() {
        return Vec::new();
    }
    let seen = look(then, key, given);
    let mut says = Vec::new();
    let plan = then.plan;
    for number in &new {
        let route = &plan.routes[*number];
        let of: Vec<&SeenEvent> = seen.iter().filter(|e| route.takes_from(&e.source)).collect();
        let (came, taken) = (of.len(), of.iter().filter(|e| e.routes.contains(number)).count());
        let Gate::Condition(condition) = &route.when else { continue };
        if came < ENOUGH {
            continue;
        }
        let missing = missing(condition, &of);
        if taken == 0 {
            says.push(format!("the route `{}` takes none of the {came} events that were looked at", route.name));
        } else if taken == came {
            says.push(format!("the route `{}` takes each of the {came} events that were looked at", route.name));
        }
        if !missing.is_empty() {
            let names = names(&of);
            for field in missing {
                let near =
                    nearest(&field, names.iter().map(String::as_str)).map_or_else(String::new, |near| format!("; the nearest that they have is `{near}`"));
                says.push(format!("the route `{}` asks for the field `{field}`, which none of the {came} events has that were looked at{near}", route.name));
            }
        }
    }
    says.extend(twice(plan, &new, &seen));
    says
}

/// An event behind its source's steps, and the routes that take it.
struct SeenEvent {
    source: String,
    event: Vec<u8>,
    at_ms: i64,
    routes: BTreeSet<usize>,
}

/// Some of the events, evenly from all over them, on their way.
fn look(then: Side<'_>, key: &HashKey, given: &[Given<'_>]) -> Vec<SeenEvent> {
    let compiled = CompiledPlan::within(then.plan, key.clone(), then.environment);
    let points = (0..then.plan.sources.len()).map(Point::Source).chain((0..then.plan.routes.len()).map(Point::Route));
    let watch = Watch::new(points.collect(), 1);
    let (mut scratch, mut seen) = (Scratch::default(), Vec::new());
    let count = given.len().min(LOOKED_AT);
    for number in 0..count {
        let given = &given[number * given.len() / count];
        let Some(source) = compiled.source(given.source) else { continue };
        let record = Record { start: 0, end: given.event.len() as u32, form: given.form, number: 1 };
        let outcome = compiled.process(source, given.event, &[record], given.at_ms, Some(&watch), &mut scratch);
        let mut routes = BTreeSet::new();
        let mut arrived = None;
        for capture in outcome.captures.into_iter().filter(|c| c.record == 1) {
            match capture.point {
                Point::Source(_) => arrived = capture.after,
                Point::Route(route) => drop(routes.insert(route)),
                _ => {}
            }
        }
        scratch.take_back(outcome.lines, outcome.ends);
        if let Some(event) = arrived {
            seen.push(SeenEvent { source: given.source.to_owned(), event, at_ms: given.at_ms, routes });
        }
    }
    seen
}

/// The fields of a condition that none of the events has. One that is only asked whether it exists may be missing.
fn missing(condition: &Condition, events: &[&SeenEvent]) -> Vec<String> {
    let mut read: Vec<Path> = Vec::new();
    asked(condition, &mut read);
    let mut scratch = MatcherScratch::default();
    let mut missing: Vec<String> = Vec::new();
    for path in read {
        let exists = Matcher::new(&Condition::Field(path.clone(), Test::Exists));
        if !missing.contains(&path.to_string()) && !events.iter().any(|e| exists.meets_next(&e.event, e.at_ms, &mut scratch)) {
            missing.push(path.to_string());
        }
    }
    missing
}

/// The fields of which a condition asks more than whether they exist.
fn asked(condition: &Condition, out: &mut Vec<Path>) {
    match condition {
        Condition::And(all) | Condition::Or(all) => all.iter().for_each(|part| asked(part, out)),
        Condition::Not(part) => asked(part, out),
        Condition::Field(_, Test::Exists) => {}
        leaf => leaf.reads(out),
    }
}

/// The names of the fields that some events have.
fn names(events: &[&SeenEvent]) -> BTreeSet<String> {
    fn add(path: &str, value: &Value, depth: usize, out: &mut BTreeSet<String>) {
        if let Value::Object(fields) = value {
            for (name, value) in fields {
                let path = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                if depth > 1 {
                    add(&path, value, depth - 1, out);
                }
                out.insert(path);
            }
        }
    }
    let mut out = BTreeSet::new();
    for event in events.iter().take(LOOKED_AT / 4) {
        if let Ok(event) = serde_json::from_slice::<Value>(&event.event) {
            add("", &event, DEPTH, &mut out);
        }
    }
    out
}

/// Events that two routes, of which one is new, send to one destination.
fn twice(plan: &CheckedPlan, new: &[usize], seen: &[SeenEvent]) -> Vec<String> {
    let mut both: BTreeMap<(usize, usize), usize> = BTreeMap::new();
    for event in seen {
        for one in event.routes.iter().filter(|r| new.contains(r)) {
            for other in event.routes.iter().filter(|other| *other != one && (one < *other || !new.contains(other))) {
                *both.entry((*one, *other)).or_default() += 1;
            }
        }
    }
    let mut says = Vec::new();
    for ((one, other), count) in both {
        let (one, other) = (&plan.routes[one], &plan.routes[other]);
        let shared = one.to.iter().filter(|to| other.to.contains(to));
        says.extend(shared.map(|to| {
            format!("the routes `{}` and `{}` send the same events to `{to}`: {count} of the {} that were looked at", one.name, other.name, seen.len())
        }));
    }
    says
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Environment;

    const PLAN: &str = "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[destination.x]\nkind = 'discard'\n[destination.y]\nkind = 'discard'\n\
        [[route]]\nname = 'gates'\nwhen = 'gate exists'\nto = ['x']\n";

    #[test]
    fn what_is_odd_about_a_new_route_is_said() {
        let events: Vec<String> = (0..400).map(|n| format!("{{\"gate\":{},\"level\":\"info\",\"http\":{{\"status\":{}}}}}", n % 8, 200 + n % 2)).collect();
        let given: Vec<Given<'_>> = events.iter().map(|e| Given::one("a", e.as_bytes(), 0)).collect();
        let read = |text: &str| CheckedPlan::read(text).unwrap();
        let of = |route: &str, given: &[Given<'_>]| {
            let (now, then) = (read(PLAN), read(&format!("{PLAN}{route}")));
            advice(&now, Side { plan: &then, environment: &Environment::default() }, &HashKey::new([1; 32]), given)
        };
        let route = |when: &str, to: &str| format!("[[route]]\nname = 'new'\nwhen = '{when}'\nto = ['{to}']\n");
        assert_eq!(of(&route("gate = 4", "y"), &given), Vec::<String>::new());
        assert_eq!(of(&route("gate = 9", "y"), &given), ["the route `new` takes none of the 400 events that were looked at"]);
        assert_eq!(of(&route("severity < error", "y"), &given), ["the route `new` takes each of the 400 events that were looked at"]);
        assert_eq!(
            of(&route("http.statis = 200 or gate = 4", "y"), &given),
            [
                "the route `new` asks for the field `http.statis`, which none of the 400 events has that were looked at; the nearest that they have is `http.status`"
            ]
        );
        assert_eq!(of(&route("not (spare exists) and gate = 1", "y"), &given), Vec::<String>::new());
        assert_eq!(of(&route("gate = 4", "x"), &given), ["the routes `new` and `gates` send the same events to `x`: 50 of the 400 that were looked at"]);
        // Too few to say anything, and nothing new to say anything of.
        assert_eq!(of(&route("gate = 9", "y"), &given[..50]), Vec::<String>::new());
        assert_eq!(of("", &given), Vec::<String>::new());
    }
}
