//! `destination`: how destinations are doing, and what an operator does to them.

use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{Flow, FlowDestination, Moved, Probe, ProbeStep};
use serde_json::json;

use crate::client::{Answer, Client};
use crate::format::{self, BAD, GOOD, HEAD, paint};
use crate::plan::ask;
use crate::status::state;
use crate::{Common, Exit, Failure, Outcome};

/// What is done with destinations.
#[derive(Subcommand)]
pub enum DestinationCommand {
    /// List the destinations and their health
    List,
    /// Show a destination: its queue, response times and last errors
    Show {
        /// The destination's name
        name: String,
    },
    /// Test whether a destination can be reached and accepts a test event, up to the first step that fails
    Test {
        /// The destination's name
        name: String,
    },
    /// Stop delivery until resumed; events stay queued
    Pause {
        /// The destination's name
        name: String,
    },
    /// Start delivery again
    Resume {
        /// The destination's name
        name: String,
    },
    /// Permanently discard its queued events
    Purge {
        /// The destination's name
        name: String,
        /// Do not ask for confirmation
        #[arg(long, short)]
        yes: bool,
    },
}

async fn all(client: &Client) -> Result<(i64, Vec<FlowDestination>), Failure> {
    let flow: Flow = client.get("/api/v1/flow").await?.read()?;
    Ok((flow.now_ms, flow.destinations))
}

async fn one(client: &Client, name: &str) -> Result<(i64, FlowDestination), Failure> {
    let (now, all) = all(client).await?;
    let found = all.into_iter().find(|d| d.name == name);
    found.map(|d| (now, d)).ok_or_else(|| Failure::new(Exit::Failed, format!("there is no destination `{name}`")))
}

fn waits(destination: &FlowDestination, now: i64) -> String {
    match destination.waiting_events {
        0 => "nothing".into(),
        n => {
            let oldest = format::age(now - destination.oldest_ms);
            format!("{}, {}, the oldest for {oldest}", format::events(n), format::bytes(destination.waiting_bytes as f64))
        }
    }
}

fn milliseconds(ms: f64) -> String {
    format!("{ms:.0} ms")
}

/// How old an event was, told as finely as it is known.
fn lag(ms: f64) -> String {
    match ms {
        ..1_000.0 => milliseconds(ms),
        ..10_000.0 => format!("{:.1} s", ms / 1_000.0),
        _ => format::age(ms as i64),
    }
}

fn show(destination: &FlowDestination, now: i64) -> Outcome {
    let (health, answers) = (&destination.health, &destination.health.answers);
    let mut rows = vec![
        vec!["state".into(), state(destination, now)],
        vec!["to".into(), format!("{} {}", destination.kind, destination.target)],
        vec!["waits".into(), waits(destination, now)],
        vec!["delivered".into(), format::events(destination.delivered.events)],
        vec!["refused".into(), format::events(destination.quarantined.events)],
    ];
    rows.extend(destination.caveat.as_ref().map(|caveat| vec![String::new(), caveat.clone()]));
    if answers.count > 0 {
        let (good, count) = (answers.good * 100.0, answers.count);
        let times = [answers.p50_ms, answers.p90_ms, answers.p99_ms].map(milliseconds).join(", ");
        rows.push(vec!["answers".into(), format!("{good:.0} % of the last {count} requests succeeded; p50, p90, p99: {times}")]);
    }
    let fresh = &health.event_ages;
    if fresh.events > 0 {
        let [half, most, all] = [fresh.p50_ms, fresh.p90_ms, fresh.p99_ms].map(lag);
        let events = format::events(fresh.events as i64);
        rows.push(vec!["age".into(), format!("of {events} accepted in the last hour, half were at most {half} old, 90 % {most}, 99 % {all}")]);
    }
    if let Some(p) = fresh.promise.as_ref() {
        let within = lag(p.within_ms as f64);
        let used = format!("{:.2} % were late, which uses {} % of what may be", p.late_percent, p.used_percent);
        rows.push(vec![
            "promised".into(),
            format!("{} % within {within}; {}", p.percent, if fresh.events > 0 { used } else { "nothing was accepted in the last hour".into() }),
        ]);
    }
    if let Some(at) = health.last_success_ms {
        rows.push(vec!["took last".into(), format!("{} ago", format::age(now - at))]);
    }
    if let (Some(at), said) = (health.last_error_ms, health.last_error.as_deref().unwrap_or_default()) {
        rows.push(vec!["failed last".into(), format!("{} ago: {said}", format::age(now - at))]);
    }
    if let (Some(at), said) = (health.noticed_ms, health.noticed.as_deref().unwrap_or_default()) {
        rows.push(vec!["noticed".into(), format!("{} ago: {said}", format::age(now - at))]);
    }
    format::line(&format::table(&[&format!("destination {}", destination.name), ""], &[], rows))
}

pub(crate) async fn destination(common: &Common, command: DestinationCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        DestinationCommand::List => {
            let (now, all) = all(&client).await?;
            if common.json {
                return format::print_json(&all);
            }
            if all.is_empty() {
                return format::line("The plan has no destinations.");
            }
            let row = |d: &FlowDestination| vec![d.name.clone(), d.kind.clone(), d.target.clone(), waits(d, now), state(d, now)];
            format::line(&format::table(&["destination", "kind", "to", "waiting", "state"], &[], all.iter().map(row).collect()))
        }
        DestinationCommand::Show { name } => {
            let (now, found) = one(&client, &name).await?;
            if common.json { format::print_json(&found) } else { show(&found, now) }
        }
        DestinationCommand::Test { name } => test(common, &client, "destination", &name).await,
        DestinationCommand::Pause { name } => {
            client.call_bare(Method::POST, &format!("/api/v1/destinations/{name}/pause")).await?;
            say(common, &name, "paused", "is paused: its events wait until it is resumed")
        }
        DestinationCommand::Resume { name } => {
            client.call_bare(Method::POST, &format!("/api/v1/destinations/{name}/resume")).await?;
            say(common, &name, "resumed", "is resumed: its events are delivered again")
        }
        DestinationCommand::Purge { name, yes } => {
            let (now, found) = one(&client, &name).await?;
            if found.waiting_events == 0 {
                return if common.json { format::print_json(&json!({ "events": 0, "bytes": 0 })) } else { format::line("Its queue is empty.") };
            }
            if !yes && !ask(&format!("{} wait for `{name}`. Permanently discard them?", waits(&found, now)))? {
                return Ok(Exit::Declined);
            }
            let gone = client.call_bare(Method::POST, &format!("/api/v1/destinations/{name}/purge")).await?;
            moved(common, &gone, "permanently discarded")
        }
    }
}

fn say(common: &Common, name: &str, key: &str, words: &str) -> Outcome {
    if common.json { format::print_json(&json!({ key: name })) } else { format::line(&format!("Destination `{name}` {words}.")) }
}

fn moved(common: &Common, answer: &Answer, words: &str) -> Outcome {
    if common.json {
        return answer.print();
    }
    let amount: Moved = answer.read()?;
    format::line(&format!("{} ({}) {words}.", format::events(amount.events), format::bytes(amount.bytes as f64)))
}

/// Looks at a source or a destination step by step, and gives a verdict.
pub(crate) async fn test(common: &Common, client: &Client, what: &str, name: &str) -> Outcome {
    let answer = client.call_bare(Method::POST, &format!("/api/v1/{what}s/{name}/test")).await?;
    let probe: Probe = answer.read()?;
    let exit = if probe.good { Exit::Done } else { Exit::Failed };
    if common.json {
        answer.print()?;
        return Ok(exit);
    }
    let row = |s: &ProbeStep| {
        let mark = if s.good { paint("good", GOOD) } else { paint("failed", BAD) };
        vec![s.step.clone(), mark, milliseconds(s.ms), s.says.clone()]
    };
    let table = format::table(&["step", "", "took", "found"], &[2], probe.steps.iter().map(row).collect());
    let verdict = match probe.steps.iter().find(|s| !s.good) {
        None => paint(&format!("`{name}` takes events."), GOOD),
        Some(failed) => match (failed.step.as_str(), &failed.says) {
            ("heard", says) => paint(&format!("`{name}` is ready, but {says}. `rockrose source show {name}` has lines to paste."), HEAD),
            ("files", says) => paint(&format!("`{name}` does not read all that it should: {says}."), BAD),
            (_, says) => paint(&format!("`{name}` does not take events: {says}."), BAD),
        },
    };
    format::blocks(&[table, verdict])?;
    Ok(exit)
}
