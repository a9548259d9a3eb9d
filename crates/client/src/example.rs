//! `example`: makes an example of a real event, so that what becomes of it now is kept.

use std::path::PathBuf;

use clap::{Args, Subcommand};
use reqwest::Method;
use rockrose_api::{ApplyRequest, EditRequest, EditedPlan, PlanEdit, RunningPlan, SampleAnswer, TrialAnswer, TrialRequest, TriedEvent, TriedPassage};
use rockrose_language::{Literal, Place, field_in_sentence, parse_condition};
use rockrose_plan::CheckedPlan;
use serde_json::{Value, json};

use crate::client::Client;
use crate::format::{self, HEAD, paint};
use crate::{Common, Exit, Failure, Outcome, ask};

/// What is done with examples.
#[derive(Subcommand)]
pub enum ExampleCommand {
    /// Make an example of an event: what becomes of it now at each destination must hold from then on
    Add(AddArgs),
}

/// Which event, and where the example is added.
#[derive(Args)]
pub struct AddArgs {
    /// The source that the event comes by
    #[arg(long, value_name = "NAME")]
    source: String,
    /// The event: a JSON object, or a line of text. The newest of the source's sample if omitted
    #[arg(long, value_name = "EVENT")]
    event: Option<String>,
    /// Take the newest event of the sample that meets this condition
    #[arg(long, value_name = "CONDITION", conflicts_with = "event")]
    when: Option<String>,
    /// What the example shows, in your words
    #[arg(long, value_name = "TEXT")]
    says: Option<String>,
    /// Plan file to add it to, instead of the active plan
    #[arg(long, value_name = "FILE")]
    plan: Option<PathBuf>,
    /// Do not ask for confirmation
    #[arg(long, short)]
    yes: bool,
}

/// Most tests that are made of what became of an event.
const MOST_TESTS: usize = 3;

pub(crate) async fn example(common: &Common, command: ExampleCommand) -> Outcome {
    let ExampleCommand::Add(args) = command;
    let client = Client::new(common)?;
    let running: RunningPlan = client.get("/api/v1/plan").await?.read()?;
    let text = args.plan.as_deref().map(crate::plan::read).transpose()?.map_or_else(|| running.text.clone(), |(text, _)| text);
    let event = match &args.event {
        Some(event) => event.trim().to_owned(),
        None => newest(&client, &args).await?,
    };
    let asked =
        TrialRequest { text: Some(text.clone()), events: Some(event.clone()), source: Some(args.source.clone()), most: Some(1), ..TrialRequest::default() };
    let told: TrialAnswer = client.call(Method::POST, "/api/v1/trial", &asked).await?.read()?;
    let tried = told.shown.first().ok_or_else(|| Failure::new(Exit::Failed, "the event cannot be read, so it is no example"))?;
    let plan = CheckedPlan::read(&text).map_err(|mistakes| Failure::new(Exit::BadPlan, crate::plan::mistakes(&mistakes, "the plan")))?;
    let example = made(&plan, tried, &args, &event);
    let edits = vec![PlanEdit::AddPart { text: example.clone() }];
    let edited: EditedPlan = client.call(Method::POST, "/api/v1/plan/edit", &EditRequest { text: Some(text), edits }).await?.read()?;
    if !args.yes && !ask(&format!("{}\n\n{example}\nAdd this to the plan?", paint(&format!("Of {event}:"), HEAD)))? {
        return Ok(Exit::Declined);
    }
    let revision = match &args.plan {
        Some(path) => {
            std::fs::write(path, &edited.text).map_err(|e| Failure::new(Exit::Failed, format!("cannot write {}: {e}", path.display())))?;
            None
        }
        None => {
            let why = format!("example: {}", args.says.as_deref().unwrap_or("of a real event"));
            let asked = ApplyRequest { text: edited.text, why, expected_revision: Some(running.revision) };
            let applied: rockrose_api::Applied = client.call(Method::POST, "/api/v1/revisions", &asked).await?.read()?;
            Some(applied.revision)
        }
    };
    if common.json {
        return format::print_json(&json!({ "example": example, "revision": revision }));
    }
    match (revision, &args.plan) {
        (Some(revision), _) => format::line(&format!("{example}\nRevision {revision} is active, with this example.")),
        (None, Some(path)) => format::line(&format!("{example}\nIt stands in {}.", path.display())),
        (None, None) => Ok(Exit::Done),
    }
}

async fn newest(client: &Client, args: &AddArgs) -> Result<String, Failure> {
    let mut query = form_urlencoded::Serializer::new(String::new());
    query.append_pair("point", &Place::Source(args.source.clone()).to_string()).append_pair("most", "1");
    if let Some(when) = &args.when {
        query.append_pair("when", when);
    }
    let found: SampleAnswer = client.get(&format!("/api/v1/sample?{}", query.finish())).await?.read()?;
    let event = found.events.into_iter().next().map(|e| e.event.get().to_owned());
    event.ok_or_else(|| Failure::new(Exit::Failed, format!("the sample of the source {} has no such event", args.source)))
}

/// A text of a plan, in quotes.
fn quoted(text: &str) -> String {
    let plain = !text.contains('\'') && !text.chars().any(char::is_control);
    if plain { format!("'{text}'") } else { Value::from(text).to_string() }
}

fn made(plan: &CheckedPlan, tried: &TriedEvent, args: &AddArgs, event: &str) -> String {
    let mut lines = vec!["[[example]]".to_owned()];
    lines.extend(args.says.as_ref().map(|says| format!("says = {}", quoted(says))));
    lines.push(format!("source = \"{}\"", args.source));
    lines.push(format!("event = {}", quoted(event)));
    let expectations: Vec<String> = plan.destinations.iter().map(|d| format!("{} = {}", d.name, quoted(&outcome(plan, tried, &d.name, event)))).collect();
    lines.push(format!("expect = {{ {} }}", expectations.join(", ")));
    lines.join("\n")
}

/// What became of the event at a destination, as it is written in an example.
fn outcome(plan: &CheckedPlan, tried: &TriedEvent, destination: &str, event: &str) -> String {
    let is_gone = |passage: &TriedPassage| passage.outcome == "removed";
    if is_gone(&tried.arrival) {
        return "removed".to_owned();
    }
    let leads_there = |name: &str| plan.routes.iter().any(|r| r.name == name && r.to.iter().any(|to| to == destination));
    let mut removed = false;
    for route in tried.routes.iter().filter(|route| route.taken && leads_there(&route.name)) {
        for there in route.destinations.iter().filter(|there| there.name == destination) {
            if let Some(after) = &there.passage.after {
                return condition(event, after.get());
            }
        }
        let here = route.destinations.iter().filter(|there| there.name == destination).map(|there| &there.passage);
        let passed = route.passage.iter().chain(here);
        if let Some(held) = passed.clone().find(|p| p.outcome == "held") {
            // It goes on later, as it is.
            return condition(event, held.after.as_ref().map_or(event, |after| after.get()));
        }
        removed |= passed.into_iter().any(is_gone);
    }
    if removed { "removed".to_owned() } else { "not sent".to_owned() }
}

/// A condition that what is sent meets: on what was changed on its way, or, if nothing was, on what it says.
fn condition(before: &str, after: &str) -> String {
    let mut tests = Vec::new();
    for difference in rockrose_engine::trial::differences(before.as_bytes(), after.as_bytes()) {
        tests.extend(match &difference.after {
            Some(value) => equals(&difference.field, value),
            None => Some(format!("not ({} exists)", field_in_sentence(&difference.field))),
        });
    }
    if tests.is_empty()
        && let Ok(Value::Object(fields)) = serde_json::from_str::<Value>(after)
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_condition_tells_what_was_changed_on_the_way() {
        let of = |before: &str, after: &str| condition(before, after);
        assert_eq!(of(r#"{"a":1,"m":"ann@post.example"}"#, r#"{"a":1,"m":"***","team":"quays"}"#), r#"m = "***" and team = "quays""#);
        assert_eq!(of(r#"{"a":1,"debug":{"heap":7}}"#, r#"{"a":1}"#), "not (debug exists)");
        assert_eq!(of(r#"{"a":1,"message":"tide \"high\""}"#, r#"{"a":1,"message":"tide \"high\""}"#), r#"message = "tide \"high\"""#);
        assert_eq!(of(r#"{"odd name":1}"#, r#"{"odd name":2}"#), "\"odd name\" = 2");
        assert_eq!(of(r#"{"list":[1]}"#, r#"{"list":[2]}"#), "true");
        assert_eq!(of(r#"{"a":1}"#, r#"{"a":2.5,"b":true}"#), "a = 2.5 and b = true");
    }
}
