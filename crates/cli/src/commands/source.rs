//! `source`: how sources are doing, and how to send to them.

use clap::Subcommand;
use reqwest::Method;
use serde_json::{Value, json};

use super::destination::test;
use super::plan::ask;
use super::status::{list as items, text};
use crate::client::Client;
use crate::format::{self, BAD, GOOD, HEAD, paint};
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
    /// Look at one as a sender would: whether it can be reached, whether its events have somewhere to go, what it heard
    Test {
        /// Which
        name: String,
    },
    /// Show the next records that come, as they come and as they are read
    Next {
        /// At which
        name: String,
        /// How many
        #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=100))]
        events: u32,
        /// How long to wait for them, in seconds
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=60))]
        wait: u32,
    },
    /// Look into files before they are read: what they are, how they would be read, and what to add to the plan
    Look {
        /// Patterns of them, on the service's host
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
        /// Patterns of files to leave out
        #[arg(long, value_name = "PATH")]
        but_not: Vec<String>,
        /// What the source is to be called
        #[arg(long, default_value = "files")]
        name: String,
    },
    /// Take nothing more from its senders; those that can wait are told to
    Pause {
        /// Which
        name: String,
    },
    /// Take events again
    Resume {
        /// Which
        name: String,
    },
    /// Give its senders a new key, or none; the one before is good no more
    Key {
        /// Whose
        name: String,
        /// `new` or `revoke`
        #[arg(value_parser = ["new", "revoke"])]
        what: String,
        /// Do it without asking
        #[arg(long)]
        yes: bool,
    },
}

fn state(source: &Value) -> String {
    match text(source, "state") {
        "paused" => format!("{}: {}", paint("paused", HEAD), text(source, "says")),
        "flowing" if text(source, "says") != "events flow" => format!("{}: {}", paint("flowing", GOOD), text(source, "says")),
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

/// Most files that are shown one by one.
const FILES_SHOWN: usize = 12;

fn number(of: &Value, name: &str) -> f64 {
    of[name].as_f64().unwrap_or(0.0)
}

fn size(file: &Value, name: &str) -> String {
    format::bytes(number(file, name))
}

/// The share of its records that could not be read, since the beginning.
fn unreadable(source: &Value) -> String {
    let (bad, all) = (number(&source["unreadable"], "events"), number(&source["received"], "events"));
    if bad == 0.0 {
        "none".to_owned()
    } else {
        format!("{} of {} records, {:.1}%", format::count(bad as i64), format::count(all as i64), 100.0 * bad / all.max(1.0))
    }
}

/// How old events are when they come.
fn freshness(of: &Value) -> String {
    let Some(half) = of["half_ms"].as_i64() else { return "unknown: no event told its time".to_owned() };
    let span = |ms: i64| if ms < 1_000 { format!("{ms} ms") } else { format::age(ms) };
    let age = |ms: i64| if ms < 0 { format!("{} ahead", span(-ms)) } else { span(ms) };
    let at = |name: &str| age(of[name].as_i64().unwrap_or(0));
    format!("half come within {}, 90% within {}, 99% within {}", age(half), at("most_ms"), at("nearly_all_ms"))
}

/// A record as it came, and what was made of it.
fn caught(record: &Value) -> String {
    let line = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let mut out = vec![format!("came      {}", text(record, "raw").trim_end())];
    match record["unreadable"].as_str() {
        Some(why) => out.push(format!("{}  {why}", paint("not read", BAD))),
        None => out.push(format!("read as   {}", line(&record["read"]))),
    }
    match (record["stopped_by"].as_str(), &record["after"]) {
        (Some(step), _) => out.push(format!("stopped   by `{step}`")),
        (None, after) if !after.is_null() && *after != record["read"] => out.push(format!("goes on   {}", line(after))),
        _ => {}
    }
    out.join("\n")
}

fn show(source: &Value, now: i64) -> Outcome {
    let is_file = text(source, "kind") == "file";
    let mut rows = vec![
        vec!["state".into(), state(source)],
        vec![if is_file { "reads" } else { "listens" }.into(), format!("{} at {}", kind(source), text(source, "listen"))],
        vec!["last event".into(), {
            let from = source["last_from"].as_str().map_or_else(String::new, |from| format!(", from {from}"));
            format!("{}{from}", ago(source, now))
        }],
        vec!["events".into(), {
            let begun = if is_file { "read" } else { "listen" };
            format!("{} since the service began to {begun}", format::count(source["events"].as_i64().unwrap_or(0)))
        }],
        vec![
            "rate".into(),
            format!("{}, {}/s", format::rate(number(&source["received"], "events_per_second")), format::bytes(number(&source["received"], "bytes_per_second"))),
        ],
        vec!["unreadable".into(), unreadable(source)],
        vec!["freshness".into(), freshness(&source["freshness"])],
    ];
    if is_file {
        let most = items(&source["files"]).iter().take(FILES_SHOWN);
        rows.push(vec!["files".into(), format::count(source["file_count"].as_i64().unwrap_or(0))]);
        // What is read of a packed file is more than its size.
        let read = |f: &Value| {
            if number(f, "offset") < number(f, "size") && text(f, "state") != "current" { format!("{} of ", size(f, "offset")) } else { String::new() }
        };
        rows.extend(most.map(|f| vec![String::new(), format!("{}: {} ({}{})", text(f, "path"), text(f, "says"), read(f), size(f, "size"))]));
    } else {
        rows.push(vec!["connections".into(), format::count(source["connections"].as_i64().unwrap_or(0))]);
    }
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

/// All sources, and when it is now by the service's clock.
async fn all(client: &Client) -> Result<(i64, Value), Failure> {
    let now = client.get("/api/v1/flow").await?["now_ms"].as_i64().unwrap_or(0);
    Ok((now, client.get("/api/v1/sources").await?))
}

pub(crate) async fn source(common: &Common, command: SourceCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        SourceCommand::Test { name } => test(common, &client, "source", &name).await,
        SourceCommand::Next { name, events, wait } => {
            let records = client.get(&format!("/api/v1/sources/{name}/next?events={events}&wait={wait}")).await?;
            match items(&records) {
                _ if common.json => format::print_json(&records),
                [] => format::line(&format!("Nothing came to `{name}` within {wait} seconds. `rockrose source test {name}` says why that may be.")),
                some => format::line(&some.iter().map(caught).collect::<Vec<_>>().join("\n\n")),
            }
        }
        SourceCommand::Look { paths, but_not, name } => {
            let asked = json!({ "paths": paths, "but_not": but_not, "name": name });
            let looked = client.call(Method::POST, "/api/v1/files/look", Some(&asked)).await?;
            if common.json { format::print_json(&looked) } else { looked_into(&looked) }
        }
        SourceCommand::Pause { name } => {
            client.call(Method::POST, &format!("/api/v1/sources/{name}/pause"), None).await?;
            say(common, &name, "paused", "is paused: it takes nothing until it is resumed")
        }
        SourceCommand::Resume { name } => {
            client.call(Method::POST, &format!("/api/v1/sources/{name}/resume"), None).await?;
            say(common, &name, "resumed", "takes events again")
        }
        SourceCommand::Key { name, what, yes } => key(common, &client, &name, &what, yes).await,
        SourceCommand::List => {
            let (now, all) = all(&client).await?;
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
            let (now, all) = all(&client).await?;
            let found = items(&all).iter().find(|s| s["name"] == name.as_str());
            let found = found.ok_or_else(|| Failure::new(Exit::Failed, format!("there is no source `{name}`")))?;
            if common.json { format::print_json(found) } else { show(found, now) }
        }
    }
}

fn say(common: &Common, name: &str, key: &str, words: &str) -> Outcome {
    if common.json { format::print_json(&json!({ key: name })) } else { format::line(&format!("The source `{name}` {words}.")) }
}

fn looked_into(looked: &Value) -> Outcome {
    let row = |f: &Value| vec![text(f, "path").to_owned(), size(f, "size"), text(f, "says").to_owned()];
    let files = items(&looked["files"]);
    let mut blocks = vec![format::table(&["file", "size", ""], &[1], files.iter().take(FILES_SHOWN).map(row).collect())];
    if files.len() > FILES_SHOWN {
        blocks.push(format!("and {} more", looked["file_count"].as_i64().unwrap_or(0) - FILES_SHOWN as i64));
    }
    let found = &looked["recognised"];
    if found.is_null() {
        blocks.push("There is nothing in them that can be read.".to_owned());
        return format::blocks(&blocks);
    }
    let percent = |name: &str| format!("{:.0}%", 100.0 * number(found, name));
    let time = match found["time"].as_str() {
        Some(time) => format!("{} of the events tell their time; the first is of {time}", percent("timed")),
        None => "no event tells its time, so the time of arrival has to do".to_owned(),
    };
    blocks.push(format!("{}: {}.\n{} of its lines fit, and {time}.", text(looked, "path"), paint(text(found, "says"), HEAD), percent("share")));
    let came: Vec<String> = items(&looked["lines"]).iter().take(3).map(|l| format!("came      {}", l.as_str().unwrap_or_default())).collect();
    let read: Vec<String> = items(&found["events"]).iter().take(3).map(|e| format!("read as   {e}")).collect();
    blocks.push([came, read].concat().join("\n"));
    blocks.push(format!("To read them so, add this to the plan:\n\n{}", text(looked, "plan").trim_end()));
    format::blocks(&blocks)
}

async fn key(common: &Common, client: &Client, name: &str, what: &str, yes: bool) -> Outcome {
    let path = format!("/api/v1/sources/{name}/key");
    if !yes && !ask(&format!("The key that senders show to `{name}` now will be good no more. Go on?"))? {
        return Ok(Exit::Declined);
    }
    if what == "revoke" {
        client.call(Method::DELETE, &path, None).await?;
        return say(common, name, "revoked", "lets nobody in until it has a new key: `rockrose source key NAME new`");
    }
    let made = client.call(Method::POST, &path, None).await?;
    if common.json {
        return format::print_json(&made);
    }
    let url = made["url"].as_str().map_or_else(String::new, |url| format!("\nor post to           {url}"));
    format::line(&format!("The new key of `{name}`, shown this once:\n\nAuthorization: Bearer {}{url}", text(&made, "key")))
}
