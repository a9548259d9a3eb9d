//! `source`: how sources are doing, and how to send to them.

use clap::Subcommand;
use serde_json::{Value, json};

use super::status::{list as items, text};
use crate::client::Client;
use crate::format::{self, BAD, GOOD, paint};
use crate::{Common, Exit, Failure, Outcome};

#[derive(Subcommand)]
pub(crate) enum SourceCommand {
    /// List the sources and what they have heard
    List,
    /// Show one: what it heard, what is wrong with its senders, and lines to send to it
    Show {
        /// Which
        name: String,
    },
}

fn state(source: &Value) -> String {
    match text(source, "state") {
        "flowing" => paint("flowing", GOOD),
        "troubled" => format!("{}: {}", paint("troubled", BAD), text(source, "says")),
        other => format!("{other}: {}", text(source, "says")),
    }
}

fn ago(source: &Value, now: i64) -> String {
    source["last_event_ms"].as_i64().map_or_else(|| "never".to_owned(), |at| format!("{} ago", format::age(now - at)))
}

fn kind(source: &Value) -> String {
    let more = [("safe", ", TLS"), ("keyed", ", key")].iter().filter(|(name, _)| source[*name] == true).map(|(_, says)| *says);
    format!("{}{}", text(source, "kind"), more.collect::<String>())
}

fn show(source: &Value, now: i64) -> Outcome {
    let mut rows = vec![
        vec!["state".into(), state(source)],
        vec!["listens".into(), format!("{} at {}", kind(source), text(source, "listen"))],
        vec!["last event".into(), {
            let from = source["last_from"].as_str().map_or_else(String::new, |from| format!(", from {from}"));
            format!("{}{from}", ago(source, now))
        }],
        vec!["events".into(), format!("{} since the service began to listen", format::count(source["events"].as_i64().unwrap_or(0)))],
        vec!["connections".into(), format::count(source["connections"].as_i64().unwrap_or(0))],
    ];
    for trouble in items(&source["troubles"]) {
        let from = trouble["from"].as_str().map_or_else(String::new, |from| format!(", from {from}"));
        let last = format::age(now - trouble["last_ms"].as_i64().unwrap_or(now));
        let often = match trouble["times"].as_i64().unwrap_or(0) {
            1 => format!("once, {last} ago"),
            times => format!("{} times, last {last} ago", format::count(times)),
        };
        rows.push(vec![paint("wrong", BAD), format!("{}{from} ({often})", text(trouble, "says"))]);
        rows.push(vec!["what helps".into(), text(trouble, "remedy").to_owned()]);
    }
    let mut blocks = vec![format::table(&[&format!("source {}", text(source, "name")), ""], &[], rows)];
    // Lines to paste stand as they are, never wrapped into columns.
    let lines: Vec<String> = items(&source["send"]).iter().map(|l| format!("{}\n  {}", text(l, "with"), text(l, "line"))).collect();
    blocks.push(format!("To send to it:\n\n{}", lines.join("\n\n")));
    format::blocks(&blocks)
}

pub(crate) async fn source(common: &Common, command: SourceCommand) -> Outcome {
    let client = Client::new(common)?;
    let now = client.get("/api/v1/flow").await?["now_ms"].as_i64().unwrap_or(0);
    let all = client.get("/api/v1/sources").await?;
    match command {
        SourceCommand::List => {
            if common.json {
                return format::print_json(&json!(all));
            }
            if items(&all).is_empty() {
                return format::line("The plan has no sources.");
            }
            let row = |s: &Value| vec![text(s, "name").to_owned(), kind(s), text(s, "listen").to_owned(), ago(s, now), state(s)];
            format::line(&format::table(&["source", "kind", "listens at", "last event", "state"], &[], items(&all).iter().map(row).collect()))
        }
        SourceCommand::Show { name } => {
            let found = items(&all).iter().find(|s| s["name"] == name.as_str());
            let found = found.ok_or_else(|| Failure::new(Exit::Failed, format!("there is no source `{name}`")))?;
            if common.json { format::print_json(found) } else { show(found, now) }
        }
    }
}
