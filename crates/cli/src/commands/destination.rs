//! `destination`: how destinations are doing, and what an operator does to them. `resend`: what they refused, queued again.

use clap::Subcommand;
use reqwest::Method;
use serde_json::{Value, json};

use super::plan::ask;
use super::status::{list as items, state, text};
use crate::client::Client;
use crate::format::{self, BAD, GOOD, HEAD, paint};
use crate::{Common, Exit, Failure, Outcome};

#[derive(Subcommand)]
pub(crate) enum DestinationCommand {
    /// List the destinations and how they are doing
    List,
    /// Show one: what waits, how it answers, what went wrong last
    Show {
        /// Which
        name: String,
    },
    /// Look whether one can be reached and takes a marked event, up to the first step that fails
    Test {
        /// Which
        name: String,
    },
    /// Hold its events back until it is resumed
    Pause {
        /// Which
        name: String,
    },
    /// Let its events go again
    Resume {
        /// Which
        name: String,
    },
    /// Let go all that waits for it, for good
    Purge {
        /// Which
        name: String,
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
}

async fn all(client: &Client) -> Result<(i64, Vec<Value>), Failure> {
    let flow = client.get("/api/v1/flow").await?;
    Ok((flow["now_ms"].as_i64().unwrap_or(0), items(&flow["destinations"]).to_vec()))
}

async fn one(client: &Client, name: &str) -> Result<(i64, Value), Failure> {
    let (now, all) = all(client).await?;
    let found = all.into_iter().find(|d| d["name"] == name);
    found.map(|d| (now, d)).ok_or_else(|| Failure::new(Exit::Failed, format!("there is no destination `{name}`")))
}

fn waits(destination: &Value, now: i64) -> String {
    match destination["waiting_events"].as_i64() {
        Some(0) | None => "nothing".into(),
        Some(n) => {
            let oldest = format::age(now - destination["oldest_ms"].as_i64().unwrap_or(now));
            format!("{} events, {}, the oldest for {oldest}", format::count(n), format::bytes(destination["waiting_bytes"].as_f64().unwrap_or(0.0)))
        }
    }
}

fn milliseconds(answers: &Value, key: &str) -> String {
    format!("{:.0} ms", answers[key].as_f64().unwrap_or(0.0))
}

fn show(destination: &Value, now: i64) -> Outcome {
    let (health, answers) = (&destination["health"], &destination["health"]["answers"]);
    let of = |key: &str| format::count(destination[key]["events"].as_i64().unwrap_or(0));
    let mut rows = vec![
        vec!["state".into(), state(destination, now)],
        vec!["to".into(), format!("{} {}", text(destination, "kind"), text(destination, "target"))],
        vec!["waits".into(), waits(destination, now)],
        vec!["delivered".into(), format!("{} events", of("delivered"))],
        vec!["refused".into(), format!("{} events", of("quarantined"))],
    ];
    if let Some(count) = answers["count"].as_u64().filter(|n| *n > 0) {
        let good = answers["good"].as_f64().unwrap_or(0.0) * 100.0;
        let times = ["p50_ms", "p90_ms", "p99_ms"].map(|key| milliseconds(answers, key)).join(", ");
        rows.push(vec!["answers".into(), format!("{good:.0} % good of the last {count}; half, 90 % and 99 % of them within {times}")]);
    }
    if let Some(at) = health["last_success_ms"].as_i64() {
        rows.push(vec!["took last".into(), format!("{} ago", format::age(now - at))]);
    }
    if let (Some(at), said) = (health["last_error_ms"].as_i64(), text(health, "last_error")) {
        rows.push(vec!["failed last".into(), format!("{} ago: {said}", format::age(now - at))]);
    }
    format::line(&format::table(&[&format!("destination {}", text(destination, "name")), ""], &[], rows))
}

pub(crate) async fn destination(common: &Common, command: DestinationCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        DestinationCommand::List => {
            let (now, all) = all(&client).await?;
            if common.json {
                return format::print_json(&json!(all));
            }
            if all.is_empty() {
                return format::line("The plan has no destinations.");
            }
            let row = |d: &Value| vec![text(d, "name").to_owned(), text(d, "kind").to_owned(), waits(d, now), state(d, now)];
            format::line(&format::table(&["destination", "kind", "waits", "state"], &[], all.iter().map(row).collect()))
        }
        DestinationCommand::Show { name } => {
            let (now, found) = one(&client, &name).await?;
            if common.json { format::print_json(&found) } else { show(&found, now) }
        }
        DestinationCommand::Test { name } => test(common, &client, "destination", &name).await,
        DestinationCommand::Pause { name } => {
            client.call(Method::POST, &format!("/api/v1/destinations/{name}/pause"), None).await?;
            say(common, &name, "paused", "is paused: its events wait until it is resumed")
        }
        DestinationCommand::Resume { name } => {
            client.call(Method::POST, &format!("/api/v1/destinations/{name}/resume"), None).await?;
            say(common, &name, "resumed", "gets its events again")
        }
        DestinationCommand::Purge { name, yes } => {
            let (now, found) = one(&client, &name).await?;
            if found["waiting_events"].as_i64() == Some(0) {
                return if common.json { format::print_json(&json!({ "events": 0, "bytes": 0 })) } else { format::line("Nothing waits for it.") };
            }
            if !yes && !ask(&format!("{} wait for `{name}`. Let them go, for good?", waits(&found, now)))? {
                return Ok(Exit::Declined);
            }
            let gone = client.call(Method::POST, &format!("/api/v1/destinations/{name}/purge"), None).await?;
            moved(common, &gone, "were let go")
        }
    }
}

fn say(common: &Common, name: &str, key: &str, words: &str) -> Outcome {
    if common.json { format::print_json(&json!({ key: name })) } else { format::line(&format!("The destination `{name}` {words}.")) }
}

fn moved(common: &Common, amount: &Value, words: &str) -> Outcome {
    if common.json {
        return format::print_json(amount);
    }
    let events = format::count(amount["events"].as_i64().unwrap_or(0));
    format::line(&format!("{events} events ({}) {words}.", format::bytes(amount["bytes"].as_f64().unwrap_or(0.0))))
}

/// Looks at a source or a destination step by step, and gives a verdict.
pub(super) async fn test(common: &Common, client: &Client, what: &str, name: &str) -> Outcome {
    let probe = client.call(Method::POST, &format!("/api/v1/{what}s/{name}/test"), None).await?;
    let good = probe["good"].as_bool() == Some(true);
    let exit = if good { Exit::Done } else { Exit::Failed };
    if common.json {
        format::print_json(&probe)?;
        return Ok(exit);
    }
    let row = |s: &Value| {
        let mark = if s["good"].as_bool() == Some(true) { paint("good", GOOD) } else { paint("failed", BAD) };
        vec![text(s, "step").to_owned(), mark, milliseconds(s, "ms"), text(s, "says").to_owned()]
    };
    let table = format::table(&["step", "", "took", "found"], &[2], items(&probe["steps"]).iter().map(row).collect());
    let verdict = match items(&probe["steps"]).iter().find(|s| s["good"].as_bool() != Some(true)) {
        None => paint(&format!("`{name}` takes events."), GOOD),
        Some(failed) => match (text(failed, "step"), text(failed, "says")) {
            ("heard", says) => paint(&format!("`{name}` is ready, but {says}. `rockrose source show {name}` has lines to paste."), HEAD),
            ("files", says) => paint(&format!("`{name}` does not read all that it should: {says}."), BAD),
            (_, says) => paint(&format!("`{name}` does not take events: {says}."), BAD),
        },
    };
    format::blocks(&[table, verdict])?;
    Ok(exit)
}

pub(crate) async fn resend(common: &Common, ids: Vec<i64>, destination: Option<String>, all: bool) -> Outcome {
    if ids.is_empty() && destination.is_none() && !all {
        return Err(Failure::new(Exit::Failed, "say which: their numbers (see `rockrose quarantine`), --destination NAME, or --all"));
    }
    let ids = (!ids.is_empty()).then_some(ids);
    let back = Client::new(common)?.call(Method::POST, "/api/v1/quarantine/resend", Some(&json!({ "destination": destination, "ids": ids }))).await?;
    moved(common, &back, "wait for delivery again")
}
