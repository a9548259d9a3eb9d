//! `why`: why an event goes where it goes.

use std::io::Read;

use anyhow::Context;
use clap::Args;
use reqwest::Method;
use serde_json::{Value, json};

use super::status::{list as items, text};
use crate::client::Client;
use crate::format::{self, BAD, GOOD, paint};
use crate::{Common, Exit, Failure, Outcome};

/// Why an event goes where it goes: which parts of each route's condition decide, what each step does, where it is sent
#[derive(Args)]
pub(crate) struct WhyArgs {
    /// The event, a line as a sender would send it; left out, it is read from standard input
    #[arg(value_name = "EVENT")]
    event: Option<String>,
    /// The source it comes at; left out, the plan's only one
    #[arg(long, value_name = "NAME")]
    source: Option<String>,
    /// One that is in quarantine, by its number
    #[arg(long, value_name = "NUMBER", conflicts_with = "event")]
    quarantined: Option<i64>,
    /// The next one that comes at this source, within a minute
    #[arg(long, value_name = "SOURCE", conflicts_with_all = ["event", "quarantined", "source"])]
    next: Option<String>,
}

async fn event(client: &Client, args: &WhyArgs) -> Result<(String, Option<String>), Failure> {
    if let Some(number) = args.quarantined {
        let all = client.get("/api/v1/quarantine?most=20000").await?;
        let found = items(&all).iter().find(|q| q["id"] == number).cloned();
        let found = found.ok_or_else(|| Failure::new(Exit::Failed, format!("there is no number {number} in quarantine")))?;
        let source = (found["place"] == "source").then(|| text(&found, "name").to_owned());
        if source.is_none() {
            eprintln!("{} refused it for good: {}", text(&found, "name"), text(&found, "reason"));
        }
        return Ok((text(&found, "data").to_owned(), source));
    }
    if let Some(source) = &args.next {
        let records = client.get(&format!("/api/v1/sources/{source}/next?events=1&wait=60")).await?;
        let [record, ..] = items(&records) else {
            return Err(Failure::new(Exit::Failed, format!("nothing came to `{source}` within a minute")));
        };
        // As it was read, where it was: what came may be of a protocol of its own.
        let event = if record["read"].is_null() { text(record, "raw").to_owned() } else { record["read"].to_string() };
        return Ok((event, Some(source.clone())));
    }
    if let Some(event) = &args.event {
        return Ok((event.clone(), None));
    }
    let mut read = String::new();
    std::io::stdin().read_to_string(&mut read).context("cannot read standard input")?;
    Ok((read, None))
}

async fn only_source(client: &Client) -> Result<String, Failure> {
    let sources = client.get("/api/v1/sources").await?;
    let names: Vec<&str> = items(&sources).iter().map(|s| text(s, "name")).collect();
    match names[..] {
        [only] => Ok(only.to_owned()),
        [] => Err(Failure::new(Exit::Failed, "the plan has no sources")),
        _ => Err(Failure::new(Exit::Failed, format!("say at which source it comes: --source {}", names.join(" | ")))),
    }
}

fn steps(passage: &Value, indent: &str, out: &mut Vec<String>) {
    for step in items(&passage["steps"]) {
        let effect = text(step, "effect");
        let shown = match effect {
            "removed" | "failed" => paint(&format!("{effect:<11}"), BAD),
            _ => format!("{effect:<11}"),
        };
        out.push(format!("{indent}{shown}  {}", text(step, "sentence")));
    }
}

fn parts(route: &Value, out: &mut Vec<String>) {
    for part in items(&route["parts"]) {
        let seen = items(&part["seen"]).iter().map(|s| match s["value"].as_str() {
            Some(value) => format!("{} is {value}", text(s, "field")),
            None => format!("there is no {}", text(s, "field")),
        });
        let seen: Vec<String> = seen.collect();
        let holds = if part["holds"] == true { "holds" } else { "fails" };
        out.push(format!("    {holds}: {}{}", text(part, "sentence"), if seen.is_empty() { String::new() } else { format!("  ({})", seen.join(", ")) }));
    }
}

fn told(why: &Value) -> Outcome {
    if let Some(reason) = why["unreadable"].as_str() {
        return format::line(&format!("It cannot be read, and goes to quarantine: {reason}"));
    }
    let mut out = vec![format!("at source {}", text(why, "source"))];
    steps(&why["arrival"], "  ", &mut out);
    if why["arrival"]["after"].is_null() {
        out.push("  It goes no further.".to_owned());
        return format::line(&out.join("\n"));
    }
    for route in items(&why["routes"]) {
        let taken = route["taken"] == true;
        let says = if taken { paint("takes it", GOOD) } else { "does not take it".to_owned() };
        let because = route["because"].as_str().map_or_else(String::new, |b| format!(": {b}"));
        out.push(format!("\nroute {} {says}{because}", text(route, "name")));
        parts(route, &mut out);
        if !taken {
            continue;
        }
        steps(&route["passage"], "  ", &mut out);
        if route["passage"]["after"].is_null() {
            out.push("  It goes no further on this route.".to_owned());
        }
        for destination in items(&route["destinations"]) {
            let name = text(destination, "name");
            out.push(match destination["fate"].as_str() {
                Some(fate) => format!("  is sent to {name}, and {fate}"),
                None => format!("  does not leave for {name}"),
            });
            steps(&destination["passage"], "    ", &mut out);
            if let Some(after) = destination["passage"]["after"].as_str() {
                out.push(format!("    as {after}"));
            }
        }
    }
    if why["remainder"] == true {
        out.push("\nNo route takes it but those of the remainder.".to_owned());
    }
    format::line(&out.join("\n"))
}

pub(crate) async fn why(common: &Common, args: WhyArgs) -> Outcome {
    let client = Client::new(common)?;
    let (event, from) = event(&client, &args).await?;
    let source = match args.source.or(from) {
        Some(source) => source,
        None => only_source(&client).await?,
    };
    let answer = client.call(Method::POST, "/api/v1/why", Some(&json!({ "source": source, "event": event }))).await?;
    if common.json { format::print_json(&answer) } else { told(&answer) }
}
