//! Why an event goes where it goes: for each route, whether it takes the event and which parts of its condition decide that, then what each step does, then where it is sent.
//!
//! A plan is compiled anew for it, so that nothing that steps of the running plan remember is touched: limits are unused, windows empty.

use rockrose_event::field::FieldTable;
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_event::scan;
use rockrose_language::{Condition, Step};
use rockrose_ledger::{Measure, Stage};
use rockrose_plan::{CheckedPlan, Gate};
use rockrose_redact::HashKey;

use crate::{Capture, CompiledPlan, Environment, Matcher, Outcome, Point, Scratch, Watch};

/// Longest value that is shown, in bytes.
const MAX_SEEN: usize = 200;

/// What would become of one event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Why {
    /// Why it cannot be read, if it cannot; nothing else is known then.
    pub unreadable: Option<String>,
    /// What its source's steps do.
    pub arrival: ListTrace,
    /// Each route, in the plan's order. None, if it does not come so far.
    pub routes: Vec<RouteWhy>,
    /// No route but those of the remainder takes it.
    pub remainder: bool,
}

/// One event through one list of steps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ListTrace {
    /// What each step does.
    pub steps: Vec<(String, Effect)>,
    /// The event behind the last; nothing, if one removed it or holds it back.
    pub after: Option<String>,
}

/// What a step does to an event.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Effect {
    /// Nothing.
    Nothing,
    /// Changes it.
    Changed,
    /// Cannot do its work, and leaves it.
    Failed,
    /// Removes it.
    Removed,
    /// Holds it back for a while.
    Held,
    /// Nothing: a step before removed it or holds it back.
    NotReached,
}

/// What a route does with an event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RouteWhy {
    /// Its name.
    pub name: String,
    /// Whether it takes the event.
    pub taken: bool,
    /// Why not, where its condition is not what decides.
    pub because: Option<&'static str>,
    /// The parts of its condition that decide.
    pub parts: Vec<Part>,
    /// What its steps do.
    pub passing: ListTrace,
    /// Where it sends the event, and what is always done there.
    pub destinations: Vec<(String, ListTrace)>,
}

/// A part of a condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// Its sentence.
    pub sentence: String,
    /// Whether it holds.
    pub holds: bool,
    /// The fields it asks, and their values as they stand in the event; nothing for one that is not there.
    pub seen: Vec<(String, Option<String>)>,
}

/// What `plan` would do with `event`, which comes at `source` at `now_ms`. `None` if there is no such source.
#[must_use]
pub fn why(plan: &CheckedPlan, key: HashKey, environment: &Environment, source: &str, event: &[u8], now_ms: i64) -> Option<Why> {
    let compiled = CompiledPlan::within(plan, key, environment);
    let number = compiled.source(source)?;
    let planned = plan.sources.iter().find(|s| s.name == source)?;
    let points =
        [Point::Source(number)].into_iter().chain((0..plan.routes.len()).map(Point::Route)).chain((0..plan.destinations.len()).map(Point::Destination));
    let watch = Watch::new(points.collect(), plan.routes.len().max(1));
    let records = split(event, DeclaredFormat::Unknown, planned.max_event as usize).unwrap_or_default();
    let outcome = compiled.process(number, event, records.get(..1).unwrap_or_default(), now_ms, Some(&watch), &mut Scratch::default());
    let unreadable = outcome.quarantined.first().map(|q| q.reason.clone()).or_else(|| records.is_empty().then(|| "there is no event in it".to_owned()));
    let told = TraceReader { outcome: &outcome };
    let arrival = told.passing(Point::Source(number), None, Stage::Source, source, "", &plan.expanded(&planned.on_arrival));
    let Some(arrived) = arrival.after.clone().filter(|_| unreadable.is_none()) else {
        return Some(Why { unreadable, arrival, routes: Vec::new(), remainder: false });
    };
    let taken = |name: &str| told.any(Stage::Route, name, Measure::Taken);
    let mut routes = Vec::new();
    for (i, route) in plan.routes.iter().enumerate() {
        let takes = taken(&route.name);
        let because = match &route.when {
            _ if !route.takes_from(source) => Some("it does not take from this source"),
            Gate::Remainder if !takes => Some("it takes what no other route takes, and another does"),
            _ => None,
        };
        let parts = match &route.when {
            Gate::Condition(condition) if because.is_none() => parts(condition, arrived.as_bytes(), now_ms),
            _ => Vec::new(),
        };
        let mut passing = ListTrace::default();
        let mut destinations = Vec::new();
        if takes {
            passing = told.passing(Point::Route(i), None, Stage::Route, &route.name, source, &plan.expanded(&route.steps));
            if let Some(out) = &passing.after {
                for name in &route.to {
                    let Some(at) = plan.destinations.iter().position(|d| d.name == *name) else { continue };
                    let always = plan.expanded(&plan.destinations[at].always);
                    destinations.push((name.clone(), told.passing(Point::Destination(at), Some(out), Stage::Destination, name, &route.name, &always)));
                }
            }
        }
        routes.push(RouteWhy { name: route.name.clone(), taken: takes, because, parts, passing, destinations });
    }
    let remainder = plan.routes.iter().all(|r| r.when == Gate::Remainder || !taken(&r.name));
    Some(Why { unreadable, arrival, routes, remainder })
}

/// What the account of the one event tells.
struct TraceReader<'a> {
    outcome: &'a Outcome,
}

impl TraceReader<'_> {
    fn any(&self, stage: Stage, name: &str, measure: Measure) -> bool {
        self.outcome.postings.iter().any(|p| p.account.stage == stage && p.account.name == name && p.account.measure == measure && p.amount.events > 0)
    }

    /// One list of steps, at `point`. Where several routes lead there, the event is the one that came there as `came`, unless it is kept as it was received.
    fn passing(&self, point: Point, came: Option<&String>, stage: Stage, name: &str, via: &str, steps: &[Step]) -> ListTrace {
        let did = |position: usize, measure: Measure| {
            self.outcome.postings.iter().any(|p| {
                let a = &p.account;
                a.stage == stage && a.name == name && a.via == via && a.position == position as i32 + 1 && a.measure == measure && p.amount.events != 0
            })
        };
        let mut gone = false;
        let steps = steps.iter().enumerate().map(|(i, step)| {
            let effect = match () {
                () if gone => Effect::NotReached,
                () if did(i, Measure::Removed) => Effect::Removed,
                () if did(i, Measure::Held) => Effect::Held,
                () if did(i, Measure::Failed) => Effect::Failed,
                () if did(i, Measure::Changed) => Effect::Changed,
                () => Effect::Nothing,
            };
            gone |= matches!(effect, Effect::Removed | Effect::Held);
            (step.to_string(), effect)
        });
        let steps = steps.collect();
        let mut here = self.outcome.captures.iter().filter(|c| c.point == point);
        let first: Option<&Capture> = here.clone().next();
        let captured = here.find(|c| came.is_some_and(|came| c.before == came.as_bytes())).or(first);
        let after = captured.and_then(|c| c.after.as_ref()).filter(|_| !gone).map(|a| String::from_utf8_lossy(a).into_owned());
        ListTrace { steps, after }
    }
}

/// The parts of a condition that decide its answer for one event that arrives at `now_ms`: of what fails, the parts that fail; of what holds, those that hold.
#[must_use]
pub fn parts(condition: &Condition, event: &[u8], now_ms: i64) -> Vec<Part> {
    let holds = Matcher::new(condition).meets(event, now_ms);
    let mut found = Vec::new();
    match condition {
        Condition::And(all) | Condition::Or(all) => {
            for part in all {
                // Of an `and` that fails those that fail decide, of an `or` that fails all do; and the other way round.
                if Matcher::new(part).meets(event, now_ms) == holds {
                    found.extend(parts(part, event, now_ms));
                }
            }
        }
        leaf => {
            let (mut read, mut fields) = (Vec::new(), Vec::new());
            leaf.reads(&mut read);
            for path in read {
                if !fields.contains(&path) {
                    fields.push(path);
                }
            }
            let seen = fields.iter().map(|path| (path.to_string(), value(path, event))).collect();
            found.push(Part { sentence: leaf.to_string(), holds, seen });
        }
    }
    found
}

/// A field's value as it stands in the event.
fn value(path: &rockrose_event::field::Path, event: &[u8]) -> Option<String> {
    let mut fields = FieldTable::with_resource();
    let field = fields.want(path);
    let mut slots = Vec::new();
    scan::scan(event, &fields, &mut slots).ok()?;
    let span = fields.find(field, &slots);
    let token = span.present().then(|| String::from_utf8_lossy(span.of(event)).into_owned())?;
    let end = token.char_indices().map(|(i, c)| i + c.len_utf8()).take_while(|end| *end <= MAX_SEEN).last().unwrap_or(0);
    Some(if end < token.len() { format!("{}…", &token[..end]) } else { token })
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = "[source.s]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = ['drop noise = true', 'tag seen = true']\n[source.t]\nkind = 'http'\nlisten = '127.0.0.1:2'\n\
        [destination.d]\nkind = 'discard'\nalways = ['redact email']\n[destination.e]\nkind = 'discard'\n\
        [[route]]\nname = 'trouble'\nwhen = 'service = \"boarding\" and (severity >= warn or http.status in 500..599) and not quiet = true'\ndo = ['limit 1 per minute', 'parse message as json', 'drop a = 2', 'tag late = true']\nto = ['d', 'e']\n\
        [[route]]\nname = 'others'\nfrom = ['t']\nto = ['d']\n[[route]]\nname = 'rest'\nwhen = 'remainder'\nto = ['e']\n";

    fn why_of(source: &str, event: &str) -> Why {
        why(&CheckedPlan::read(PLAN).unwrap(), HashKey::new([1; 32]), &Environment::default(), source, event.as_bytes(), 0).unwrap()
    }

    fn part(sentence: &str, holds: bool, seen: &[(&str, Option<&str>)]) -> Part {
        Part { sentence: sentence.into(), holds, seen: seen.iter().map(|(f, v)| ((*f).into(), v.map(str::to_owned))).collect() }
    }

    #[test]
    fn a_route_that_does_not_take_says_which_part_failed() {
        let why = why_of("s", r#"{"service":"boarding","level":"info","http":{"status":404},"quiet":true}"#);
        let route = &why.routes[0];
        assert!(!route.taken && route.because.is_none() && route.passing.steps.is_empty());
        let expected = [
            part("severity >= warn", false, &[("severity", Some("\"info\""))]),
            part("http.status in 500..599", false, &[("http.status", Some("404"))]),
            part("not (quiet = true)", false, &[("quiet", Some("true"))]),
        ];
        assert_eq!(route.parts, expected);
        assert_eq!((why.routes[1].because, why.routes[2].taken, why.remainder), (Some("it does not take from this source"), true, true));
        assert_eq!(why.routes[2].destinations, [("e".to_owned(), ListTrace { steps: Vec::new(), after: why.arrival.after.clone() })]);
    }

    #[test]
    fn a_route_that_takes_says_what_each_step_does_and_where_it_goes() {
        let why = why_of("s", r#"{"service":"boarding","level":"error","message":"ann@post.example"}"#);
        assert_eq!(why.arrival.steps.iter().map(|s| s.1).collect::<Vec<_>>(), [Effect::Nothing, Effect::Changed]);
        let route = &why.routes[0];
        assert_eq!(route.parts.len(), 3, "what decides: {:?}", route.parts);
        assert_eq!(route.parts[2], part("not (quiet = true)", true, &[("quiet", None)]));
        assert_eq!(route.passing.steps.iter().map(|s| s.1).collect::<Vec<_>>(), [Effect::Nothing, Effect::Failed, Effect::Nothing, Effect::Changed]);
        assert!(route.passing.after.as_ref().unwrap().contains("\"late\":true"));
        let [(d, redacted), (e, plain)] = &route.destinations[..] else { panic!() };
        assert_eq!((d.as_str(), redacted.steps[0].1, e.as_str()), ("d", Effect::Changed, "e"));
        assert!(!redacted.after.as_ref().unwrap().contains("ann@") && plain.after.as_ref().unwrap().contains("ann@"));
        assert_eq!((why.remainder, why.routes[2].because), (false, Some("it takes what no other route takes, and another does")));
    }

    #[test]
    fn two_routes_to_one_destination_each_show_their_own() {
        let text = "[source.s]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[destination.d]\nkind = 'discard'\nalways = ['tag sent = true']\n\
            [[route]]\nname = 'a'\ndo = ['tag way = \"a\"']\nto = ['d']\n[[route]]\nname = 'b'\ndo = ['tag way = \"b\"']\nto = ['d']\n";
        let why = why(&CheckedPlan::read(text).unwrap(), HashKey::new([1; 32]), &Environment::default(), "s", b"{}", 0).unwrap();
        let sent: Vec<&str> = why.routes.iter().map(|r| r.destinations[0].1.after.as_deref().unwrap()).collect();
        assert_eq!(sent, [r#"{"way":"a","sent":true}"#, r#"{"way":"b","sent":true}"#]);
    }

    #[test]
    fn what_is_removed_or_unreadable_goes_no_further() {
        let why = why_of("s", r#"{"noise":true}"#);
        assert_eq!(why.arrival.steps.iter().map(|s| s.1).collect::<Vec<_>>(), [Effect::Removed, Effect::NotReached]);
        assert!(why.routes.is_empty() && why.arrival.after.is_none());
        let why = why_of("s", r#"{"service":"boarding","level":"error","message":"{\"a\":2}"}"#);
        assert_eq!(
            why.routes[0].passing.steps.iter().map(|s| s.1).collect::<Vec<_>>(),
            [Effect::Nothing, Effect::Changed, Effect::Removed, Effect::NotReached]
        );
        assert!(why.routes[0].destinations.is_empty());
        assert!(why_of("s", "{\"a\":").unreadable.is_some_and(|u| u.contains("at byte")));
        assert!(why_of("t", " ").unreadable.is_some());
        assert_eq!(super::why(&CheckedPlan::read(PLAN).unwrap(), HashKey::new([1; 32]), &Environment::default(), "x", b"{}", 0), None);
    }
}
