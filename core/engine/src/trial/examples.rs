//! The examples of a plan: each event by itself through the plan, and what must hold of it where it would be sent.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use rockrose_event::record::{DeclaredFormat, split};
use rockrose_language::{Literal, Operation, field_in_sentence, parse_condition};
use rockrose_ledger::{Measure, Posting, Selection, Stage};
use rockrose_plan::{CheckedPlan, Example, Expectation, Expected, Gate, Report};
use rockrose_redact::HashKey;
use rockrose_tables::{TableError, TableSlot};
use serde_json::Value;

use super::differences;
use crate::{CompiledPlan, Environment, Matcher, Outcome, Part, Scratch, parts};

/// Each example comes so long after the one before, in milliseconds, so that no pace is reached: a day.
const APART: i64 = 86_400_000;

/// The tables of a plan whose rows stand in the plan itself, by name.
///
/// # Errors
/// The name of the first that cannot be read, and why.
pub fn tables_in(plan: &CheckedPlan) -> Result<HashMap<String, Arc<TableSlot>>, (String, TableError)> {
    let mut tables = HashMap::new();
    for table in &plan.tables {
        if let Some(text) = &table.text {
            let read = table.kind.read(text.clone().into_bytes()).map_err(|why| (table.name.clone(), why))?;
            tables.insert(table.name.clone(), Arc::new(TableSlot::of(read)));
        }
    }
    Ok(tables)
}

/// Why each expectation of each example of `plan` does not hold, with the part that failed and the value that it had; nothing, where it holds. Both are in the plan's order. Events come at
/// `now_ms`.
#[must_use]
pub fn tried_examples(plan: &CheckedPlan, key: &HashKey, environment: &Environment, now_ms: i64) -> Vec<Vec<Option<String>>> {
    if plan.examples.is_empty() {
        return Vec::new();
    }
    let compile = || CompiledPlan::within(plan, key.clone(), environment);
    // Where chance decides by the order of events, each example is the first.
    let by_chance = plan.lists().flat_map(|(_, steps)| steps).any(|step| matches!(&step.operation, Operation::Sample(sample) if sample.by.is_empty()));
    let mut compiled = compile();
    let mut tried = Vec::new();
    for (number, example) in plan.examples.iter().enumerate() {
        if by_chance && number > 0 {
            compiled = compile();
        }
        let at_ms = now_ms.saturating_add(APART * number as i64);
        let run = Run::of(plan, &compiled, example, at_ms);
        tried.push(example.expectations.iter().map(|expectation| run.failure(expectation)).collect());
    }
    tried
}

/// The examples of `plan` that do not come out as they say, each at its place in the plan ([`tried_examples`]).
#[must_use]
pub fn failing_examples(plan: &CheckedPlan, key: &HashKey, environment: &Environment, now_ms: i64) -> Vec<Report> {
    let report = |example: &Example, expectation: &Expectation, why: String| {
        let name = example.says.as_ref().map_or_else(|| "the example".to_owned(), |says| format!("the example \"{says}\""));
        expectation.report(&plan.text, format!("{name} fails at `{}`: {why}", expectation.destination))
    };
    let mut reports = Vec::new();
    for (example, failures) in plan.examples.iter().zip(tried_examples(plan, key, environment, now_ms)) {
        let failed = example.expectations.iter().zip(failures).filter_map(|(expectation, why)| Some(report(example, expectation, why?)));
        reports.extend(failed);
    }
    reports
}

/// Most tests that are made of what became of an event.
const MOST_TESTS: usize = 3;

/// An example as it stands in a plan, made of an event: what becomes of it now at each destination must hold from then on. The `expectations` of what is given are not looked at. The event
/// comes at `now_ms`.
///
/// # Errors
/// Why the event cannot be read.
pub fn example_of(plan: &CheckedPlan, key: &HashKey, environment: &Environment, given: &Example, now_ms: i64) -> Result<String, String> {
    let run = Run::of(plan, &CompiledPlan::within(plan, key.clone(), environment), given, now_ms);
    if let Some(why) = run.unreadable {
        return Err(why);
    }
    let outcome = |to: &str| match run.sent.get(to).and_then(|sent| sent.first()) {
        Some(after) => condition_of(given.event.as_bytes(), after),
        None if run.removed_by(to).is_some() => "removed".to_owned(),
        None => "not sent".to_owned(),
    };
    let expectations: Vec<String> = plan.destinations.iter().map(|d| format!("{} = {}", d.name, quoted(&outcome(&d.name)))).collect();
    let mut lines = vec!["[[example]]".to_owned()];
    lines.extend(given.says.as_ref().map(|says| format!("says = {}", quoted(says))));
    lines.push(format!("source = {}", quoted(&given.source)));
    lines.push(format!("event = {}", quoted(given.event.trim())));
    lines.push(format!("expect = {{ {} }}", expectations.join(", ")));
    Ok(lines.join("\n"))
}

/// A text of a plan, in quotes. What JSON escapes, TOML reads as well.
fn quoted(text: &str) -> String {
    let plain = !text.contains('\'') && !text.chars().any(char::is_control);
    if plain { format!("'{text}'") } else { Value::from(text).to_string() }
}

/// A condition that what is sent meets: on what was changed on its way, or, if nothing was, on what it says.
fn condition_of(before: &[u8], after: &[u8]) -> String {
    let mut tests = Vec::new();
    for difference in differences(before, after) {
        tests.extend(match &difference.after {
            Some(value) => equals(&difference.field, value),
            None => Some(format!("not ({} exists)", field_in_sentence(&difference.field))),
        });
    }
    if tests.is_empty()
        && let Ok(Value::Object(fields)) = serde_json::from_slice::<Value>(after)
    {
        let names = ["message", "msg"].into_iter().map(str::to_owned).chain(fields.keys().cloned());
        tests.extend(names.filter_map(|name| equals(&name, &fields.get(&name)?.to_string())).take(1));
    }
    tests.truncate(MOST_TESTS);
    if tests.is_empty() { "true".to_owned() } else { tests.join(" and ") }
}

fn equals(field: &str, value: &str) -> Option<String> {
    let field = field_in_sentence(field);
    let literal = match serde_json::from_str::<Value>(value).ok()? {
        Value::String(text) => Literal::Text(text),
        Value::Number(number) => Literal::Number(number.as_f64()?),
        Value::Bool(truth) => Literal::Bool(truth),
        _ => return None,
    };
    let test = format!("{field} = {literal}");
    // What a sentence cannot say is no test.
    parse_condition(&test).ok().map(|_| test)
}

/// What became of one example.
struct Run<'a> {
    plan: &'a CheckedPlan,
    at_ms: i64,
    /// As it would be sent to each destination, once for each route.
    sent: BTreeMap<String, Vec<Vec<u8>>>,
    postings: Vec<Posting>,
    /// Why it cannot be read, if it cannot.
    unreadable: Option<String>,
}

impl<'a> Run<'a> {
    fn of(plan: &'a CheckedPlan, compiled: &CompiledPlan, example: &Example, at_ms: i64) -> Run<'a> {
        let mut run = Run { plan, at_ms, sent: BTreeMap::new(), postings: Vec::new(), unreadable: None };
        let Some(source) = compiled.source(&example.source) else { return run };
        let max_event = plan.sources.iter().find(|s| s.name == example.source).map_or(usize::MAX, |s| s.max_event as usize);
        let body = example.event.as_bytes();
        let records = split(body, DeclaredFormat::Unknown, max_event).unwrap_or_default();
        let mut scratch = Scratch::default();
        let outcome = compiled.process(source, body, &records, at_ms, None, &mut scratch);
        run.unreadable = outcome.quarantined.first().map(|q| q.reason.clone()).or_else(|| records.is_empty().then(|| "there is no event in it".to_owned()));
        run.take(outcome);
        // What is held back goes on at last.
        for (_, outcome) in compiled.release(at_ms, true, &mut scratch) {
            run.take(outcome);
        }
        run
    }

    fn take(&mut self, outcome: Outcome) {
        for entry in &outcome.entries {
            let sent = self.sent.entry(entry.destination.clone()).or_default();
            Selection::read(entry.selection.as_bytes(), |line| {
                let start = if line == 0 { 0 } else { outcome.ends[line as usize - 1] as usize };
                sent.push(outcome.lines[start..outcome.ends[line as usize] as usize - 1].to_vec());
            });
        }
        self.postings.extend(outcome.postings);
    }

    /// Why what is expected does not hold, if it does not.
    fn failure(&self, expectation: &Expectation) -> Option<String> {
        let to = &expectation.destination;
        if let Some(reason) = &self.unreadable {
            return (expectation.outcome != Expected::NotSent).then(|| format!("the event cannot be read: {reason}"));
        }
        let sent = self.sent.get(to).map(Vec::as_slice).unwrap_or_default();
        let shown = |event: &[u8]| String::from_utf8_lossy(event).into_owned();
        match (&expectation.outcome, sent) {
            (Expected::NotSent, []) => None,
            (Expected::NotSent | Expected::Removed, [event, ..]) => Some(format!("it is sent there, as {}", shown(event))),
            (Expected::Removed, []) => self.removed_by(to).is_none().then(|| format!("no step removes it: {}", self.not_taken(to))),
            (Expected::Meets(_), []) => Some(match self.removed_by(to) {
                Some(step) => format!("`{step}` removes it"),
                None => self.not_taken(to),
            }),
            (Expected::Meets(condition), sent) => {
                let (event, parts) = sent.iter().find_map(|event| {
                    let fails = !Matcher::new(condition).meets(event, self.at_ms);
                    fails.then(|| (event, parts(condition, event, self.at_ms)))
                })?;
                let parts: Vec<String> = parts.iter().map(told).collect();
                Some(format!("{}, in {}", parts.join("; "), shown(event)))
            }
        }
    }

    /// The step that removes it on its way there.
    fn removed_by(&self, to: &str) -> Option<&str> {
        let leads_there = |route: &str| self.plan.routes.iter().any(|r| r.name == route && r.to.iter().any(|t| t == to));
        let removed = self.postings.iter().filter(|p| p.account.measure == Measure::Removed && p.amount.events > 0);
        let here = |p: &&Posting| match p.account.stage {
            Stage::Source => true,
            Stage::Route => leads_there(&p.account.name),
            Stage::Destination => p.account.name == to,
        };
        removed.filter(here).map(|p| p.account.sentence.as_str()).next()
    }

    /// Why no route leads it there.
    fn not_taken(&self, to: &str) -> String {
        let routes: Vec<&rockrose_plan::Route> = self.plan.routes.iter().filter(|r| r.to.iter().any(|t| t == to)).collect();
        match &routes[..] {
            [] => "no route leads there".to_owned(),
            [route] => match &route.when {
                Gate::Condition(condition) => format!("the route `{}` does not take it: {condition}", route.name),
                _ => format!("the route `{}` does not take it", route.name),
            },
            routes => format!("none of the routes {} takes it", routes.iter().map(|r| format!("`{}`", r.name)).collect::<Vec<_>>().join(", ")),
        }
    }
}

fn told(part: &Part) -> String {
    let seen: Vec<String> =
        part.seen.iter().map(|(field, value)| value.as_ref().map_or_else(|| format!("there is no {field}"), |v| format!("{field} is {v}"))).collect();
    let seen = if seen.is_empty() { String::new() } else { format!(" ({})", seen.join(", ")) };
    format!("`{}` {}{seen}", part.sentence, if part.holds { "holds" } else { "does not hold" })
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = ['drop noise = true']\n[destination.x]\nkind = 'discard'\nalways = ['redact email']\n[destination.y]\nkind = 'discard'\n\
        [table.ports]\nkind = 'csv'\nkey = 'port'\ntext = \"port,office\\nLowmere,north\\n\"\n\
        [[route]]\nname = 'gates'\nwhen = 'gate exists'\ndo = ['look up port in ports as office', 'merge repeats within 5 seconds by gate', 'limit 1 per hour', 'sample 1 in 1']\nto = ['x']\n";

    fn failing(examples: &str) -> Vec<(usize, String)> {
        let plan = CheckedPlan::read(&format!("{PLAN}{examples}")).unwrap();
        let environment = Environment { tables: tables_in(&plan).unwrap(), ..Environment::default() };
        failing_examples(&plan, &HashKey::new([1; 32]), &environment, 0).into_iter().map(|r| (r.line, r.message)).collect()
    }

    fn example(event: &str, expect: &str) -> String {
        format!("[[example]]\nsays = 'one'\nsource = 'a'\nevent = '{event}'\nexpect = {{ {expect} }}\n")
    }

    #[test]
    fn an_example_that_holds_says_nothing_and_examples_do_not_meet_one_another() {
        let good =
            example(r#"{"gate":4,"port":"Lowmere","message":"ann@post.example"}"#, r#"x = 'office = "north" and not (message contains "@")', y = 'not sent'"#);
        assert_eq!(failing(&good.repeat(3)), []);
        assert_eq!(failing(&example(r#"{"gate":4,"noise":true}"#, "x = 'removed', y = 'removed'")), []);
        assert_eq!(failing(&example(r#"{"port":"Lowmere"}"#, "x = 'not sent'")), []);
        assert_eq!(failing(""), []);
    }

    #[test]
    fn what_is_made_of_an_event_holds_until_the_plan_is_changed() {
        let made = |event: &str| {
            let plan = CheckedPlan::read(PLAN).unwrap();
            let environment = Environment { tables: tables_in(&plan).unwrap(), ..Environment::default() };
            let given = Example { says: Some("it's one".into()), source: "a".into(), event: event.into(), expectations: Vec::new() };
            example_of(&plan, &HashKey::new([1; 32]), &environment, &given, 0)
        };
        for (event, expect) in [
            (r#"{"gate":4,"port":"Lowmere"}"#, r#"expect = { x = 'office = "north" and sampled.weight = 1', y = 'not sent' }"#),
            (r#"{"gate":4,"noise":true}"#, "expect = { x = 'removed', y = 'removed' }"),
            (r#"{"port":"Lowmere"}"#, "expect = { x = 'not sent', y = 'not sent' }"),
        ] {
            let text = made(event).unwrap();
            assert!(text.starts_with("[[example]]\nsays = \"it's one\"\nsource = 'a'\n") && text.ends_with(expect), "{text}");
            assert_eq!(failing(&text), []);
        }
        assert!(made("{\"gate\":").is_err() && made("").is_err());
    }

    #[test]
    fn a_condition_tells_what_was_changed_on_the_way() {
        let of = |before: &str, after: &str| condition_of(before.as_bytes(), after.as_bytes());
        assert_eq!(of(r#"{"a":1,"m":"ann@post.example"}"#, r#"{"a":1,"m":"***","team":"quays"}"#), r#"m = "***" and team = "quays""#);
        assert_eq!(of(r#"{"a":1,"debug":{"heap":7}}"#, r#"{"a":1}"#), "not (debug exists)");
        assert_eq!(of(r#"{"a":1,"message":"tide \"high\""}"#, r#"{"a":1,"message":"tide \"high\""}"#), r#"message = "tide \"high\"""#);
        assert_eq!(of(r#"{"odd name":1}"#, r#"{"odd name":2}"#), "\"odd name\" = 2");
        assert_eq!(of(r#"{"list":[1]}"#, r#"{"list":[2]}"#), "true");
        assert_eq!(of(r#"{"a":1}"#, r#"{"a":2.5,"b":true}"#), "a = 2.5 and b = true");
    }

    #[test]
    fn one_that_fails_says_which_part_and_with_what_value() {
        let one = |event: &str, expect: &str| {
            let found = failing(&example(event, expect));
            assert!(found.len() == 1 && found[0].0 == 23, "{found:?}");
            found[0].1.strip_prefix("the example \"one\" fails at ").unwrap().to_owned()
        };
        assert_eq!(
            one(r#"{"gate":4,"port":"Marrow Bay"}"#, r#"x = 'gate = 4 and office = "north"'"#),
            r#"`x`: `office = "north"` does not hold (there is no office), in {"gate":4,"port":"Marrow Bay","sampled.weight":1}"#
        );
        assert_eq!(one(r#"{"gate":4}"#, "x = 'removed'"), "`x`: it is sent there, as {\"gate\":4,\"sampled.weight\":1}");
        assert_eq!(one(r#"{"gate":4}"#, "x = 'not sent'"), "`x`: it is sent there, as {\"gate\":4,\"sampled.weight\":1}");
        assert_eq!(one(r#"{"gate":4,"noise":true}"#, "x = 'gate = 4'"), "`x`: `drop noise = true` removes it");
        assert_eq!(one(r#"{"level":"info"}"#, "x = 'gate = 4'"), "`x`: the route `gates` does not take it: gate exists");
        assert_eq!(one(r#"{"level":"info"}"#, "x = 'removed'"), "`x`: no step removes it: the route `gates` does not take it: gate exists");
        assert_eq!(one(r#"{"gate":4}"#, "y = 'gate = 4'"), "`y`: no route leads there");
        assert!(one(r#"{"gate":"#, "x = 'gate = 4'").starts_with("`x`: the event cannot be read: "));
    }
}
