//! `source`: how sources are doing, and how to send to them.

use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{
    CaughtRecord, Flow, Freshness, LookRequest, LookedInto, LookedKind, Sender, SenderList, Source, SourceFile, SourceKey, SourceState, Trouble,
};
use serde_json::json;

use crate::client::Client;
use crate::destination::test;
use crate::format::{self, BAD, GOOD, HEAD, paint};
use crate::plan::ask;
use crate::status::bytes_per_second;
use crate::{Common, Exit, Failure, Outcome};

/// The commands about sources.
#[derive(Subcommand)]
pub enum SourceCommand {
    /// List the sources and what arrives at them
    List,
    /// Show a source: what arrives, problems with its senders, and commands that send to it
    Show {
        /// The source's name
        name: String,
    },
    /// Show who sends to a source: addresses, shares, clocks
    Senders {
        /// The source's name
        name: String,
    },
    /// Test a source as a sender would: whether it can be reached, and whether its events are routed anywhere
    Test {
        /// The source's name
        name: String,
    },
    /// Show the next records that arrive, raw and as they are read
    Next {
        /// The source's name
        name: String,
        /// Number of records to show
        #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=100))]
        events: u32,
        /// Time to wait for them, in seconds
        #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=60))]
        wait: u32,
    },
    /// Examine files before they are read: their kind, the events they would give, and what to add to the plan
    Look {
        /// Files or patterns of files, on the service's host
        #[arg(required = true, value_name = "PATH")]
        paths: Vec<String>,
        /// Patterns of files to leave out
        #[arg(long, alias = "but-not", value_name = "PATH")]
        exclude: Vec<String>,
        /// Name for the new source
        #[arg(long, default_value = "files")]
        name: String,
    },
    /// Accept nothing from senders until resumed; those that can retry are told to
    Pause {
        /// The source's name
        name: String,
    },
    /// Accept events again
    Resume {
        /// The source's name
        name: String,
    },
    /// Issue a new key for senders, or revoke it; the old key stops working
    Key {
        /// The source's name
        name: String,
        /// `new` or `revoke`
        #[arg(value_parser = ["new", "revoke"])]
        what: String,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
}

fn state(source: &Source) -> String {
    let says = &source.says;
    match source.state {
        SourceState::Paused => format!("{}: {says}", paint("paused", HEAD)),
        SourceState::Flowing if says != "events flow" => format!("{}: {says}", paint("flowing", GOOD)),
        SourceState::Flowing => paint("flowing", GOOD),
        SourceState::Troubled => format!("{}: {says}", paint("troubled", BAD)),
        SourceState::Unheard | SourceState::Quiet => says.clone(),
    }
}

fn ago(source: &Source, now: i64) -> String {
    source.last_event_ms.map_or_else(|| "never".to_owned(), |at| format!("{} ago", format::age(now - at)))
}

fn kind(source: &Source) -> String {
    let more = [(source.safe, ", TLS"), (source.keyed, ", key")].into_iter().filter(|(is, _)| *is).map(|(_, says)| says);
    format!("{}{}", source.kind, more.collect::<String>())
}

/// Most files that are shown one by one.
const FILES_SHOWN: usize = 12;
/// Most characters that are shown of a line, and of an event.
const LONGEST_SHOWN: usize = 300;

/// The share of its records that could not be read, since the beginning.
fn unreadable(source: &Source) -> String {
    let (bad, all) = (source.unreadable.events, source.received.events);
    if bad == 0 {
        "none".to_owned()
    } else {
        format!("{} of {} records, {:.1}%", format::count(bad), format::count(all), 100.0 * bad as f64 / all.max(1) as f64)
    }
}

/// What the service asks the system for, in bytes.
const ASKED_FOR_DATAGRAMS: usize = 8 << 20;

/// Room for datagrams that wait to be read, and what helps where it is less than was asked for.
fn receive_buffer(room: usize) -> String {
    let got = format::bytes(room as f64);
    if room >= ASKED_FOR_DATAGRAMS {
        return got;
    }
    format!("{got} of the {} that were asked for; raise `net.core.rmem_max` to lose fewer datagrams in bursts", format::bytes(ASKED_FOR_DATAGRAMS as f64))
}

/// How old events are when they come.
fn freshness(of: Option<&Freshness>) -> String {
    let Some(of) = of else { return "unknown: no event has a time".to_owned() };
    format!("median timestamp {}, p90 {}, p99 {}", age_of_event(of.half_ms), age_of_event(of.most_ms), age_of_event(of.nearly_all_ms))
}

fn age_of_event(ms: i64) -> String {
    let span = |ms: i64| if ms < 1_000 { format!("{ms} ms") } else { format::age(ms) };
    if ms < 0 { format!("{} in the future", span(-ms)) } else { format!("{} old", span(ms)) }
}

/// A record as it came, and what was made of it.
fn caught(record: &CaughtRecord) -> String {
    let [read, after] = [&record.read, &record.after].map(|part| part.as_ref().map(|value| value.get()));
    let mut out: Vec<String> = record.raw.iter().map(|raw| format!("came      {}", raw.trim_end())).collect();
    match &record.unreadable {
        Some(why) => out.push(format!("{}  {why}", paint("not read", BAD))),
        None => out.push(format!("read as   {}", read.unwrap_or("null"))),
    }
    match (&record.stopped_by, after) {
        (Some(step), _) => out.push(format!("stopped   by `{step}`")),
        (None, Some(event)) if after != read => out.push(format!("goes on   {event}")),
        _ => {}
    }
    out.join("\n")
}

fn trouble(trouble: &Trouble, now: i64) -> [Vec<String>; 2] {
    let from = trouble.from.as_ref().map_or_else(String::new, |from| format!(", from {from}"));
    let last = format::age(now - trouble.last_ms);
    let often = match trouble.times {
        1 => format!("once, {last} ago"),
        times => format!("{} times, last {last} ago", format::count(times as i64)),
    };
    [vec![paint("wrong", BAD), format!("{}{from} ({often})", trouble.says)], vec!["what helps".into(), trouble.remedy.clone()]]
}

fn show(source: &Source, now: i64) -> Outcome {
    let is_file = source.kind == "file";
    let mut rows = vec![
        vec!["state".into(), state(source)],
        vec![if is_file { "reads" } else { "listens" }.into(), format!("{} at {}", kind(source), source.listen)],
        vec!["last event".into(), {
            let from = source.last_from.as_ref().map_or_else(String::new, |from| format!(", from {from}"));
            format!("{}{from}", ago(source, now))
        }],
        vec!["events".into(), {
            let begun = if is_file { "read" } else { "listen" };
            format!("{} since the service began to {begun}", format::count(source.events as i64))
        }],
        vec!["rate".into(), format!("{}, {}", format::rate(source.received.events_per_second), bytes_per_second(&source.received))],
        vec!["unreadable".into(), unreadable(source)],
        vec!["freshness".into(), freshness(source.freshness.as_ref())],
    ];
    if is_file {
        let most = source.files.iter().take(FILES_SHOWN);
        rows.push(vec!["files".into(), format::count(source.file_count as i64)]);
        // What is read of a packed file is more than its size.
        let read = |f: &SourceFile| {
            if f.offset < f.size && f.state != "current" { format!("{} of ", format::bytes(f.offset as f64)) } else { String::new() }
        };
        rows.extend(most.map(|f| vec![String::new(), format!("{}: {} ({}{})", f.path, f.says, read(f), format::bytes(f.size as f64))]));
    } else {
        rows.push(vec!["connections".into(), format::count(source.connections as i64)]);
    }
    rows.extend(source.receive_buffer_bytes.map(|room| vec!["receive buffer".into(), receive_buffer(room)]));
    rows.extend(source.troubles.iter().flat_map(|t| trouble(t, now)));
    let mut blocks = vec![format::table(&[&format!("source {}", source.name), ""], &[], rows)];
    // Lines to paste stand as they are, never wrapped into columns.
    let lines: Vec<String> = source.send.iter().map(|l| format!("{}\n  {}", l.with, l.line)).collect();
    blocks.push(format!("To send to it:\n\n{}", lines.join("\n\n")));
    format::blocks(&blocks)
}

/// Who sends to a source.
fn senders(name: &str, list: &SenderList) -> Outcome {
    if list.senders.is_empty() {
        return format::line(&format!("Nothing has come to `{name}` since the service began to listen."));
    }
    let row = |s: &Sender| {
        let median = s.freshness.as_ref().map_or_else(String::new, |f| age_of_event(f.half_ms));
        vec![
            s.from.clone().unwrap_or_else(|| "this host".to_owned()),
            format!("{:.1}%", 100.0 * s.share),
            format::count(s.events as i64),
            format::bytes(s.bytes as f64),
            if s.unreadable == 0 { String::new() } else { paint(&format::count(s.unreadable as i64), BAD) },
            format!("{} ago", format::age(list.now_ms - s.last_ms)),
            s.clock.as_ref().map_or(median, |says| paint(says, BAD)),
        ]
    };
    let rows = list.senders.iter().map(row).collect();
    let mut blocks = vec![format::table(&["sender", "of bytes", "events", "bytes", "unreadable", "last heard", "median timestamp"], &[1, 2, 3, 4], rows)];
    if list.others > 0 {
        let [events, bytes] = [format::count(list.other_events as i64), format::bytes(list.other_bytes as f64)];
        blocks.push(format!("{events} events, {bytes}, came from {} others, heard earlier.", format::count(list.others as i64)));
    }
    format::blocks(&blocks)
}

/// All sources, and when it is now by the service's clock.
async fn all(client: &Client) -> Result<(i64, Vec<Source>), Failure> {
    let Flow { now_ms, .. } = client.get("/api/v1/flow").await?.read()?;
    Ok((now_ms, client.get("/api/v1/sources").await?.read()?))
}

pub(crate) async fn source(common: &Common, command: SourceCommand) -> Outcome {
    let client = Client::new(common)?;
    match command {
        SourceCommand::Test { name } => test(common, &client, "source", &name).await,
        SourceCommand::Senders { name } => {
            let answer = client.get(&format!("/api/v1/sources/{name}/senders")).await?;
            if common.json { answer.print() } else { senders(&name, &answer.read()?) }
        }
        SourceCommand::Next { name, events, wait } => {
            let answer = client.get(&format!("/api/v1/sources/{name}/next?events={events}&wait={wait}")).await?;
            if common.json {
                return answer.print();
            }
            match &answer.read::<Vec<CaughtRecord>>()?[..] {
                [] => format::line(&format!("No events reached `{name}` within {wait} seconds. `rockrose source test {name}` may say why.")),
                some => format::line(&some.iter().map(caught).collect::<Vec<_>>().join("\n\n")),
            }
        }
        SourceCommand::Look { paths, exclude, name } => {
            let asked = LookRequest { paths, exclude, name: Some(name) };
            let answer = client.call(Method::POST, "/api/v1/files/look", &asked).await?;
            if common.json { answer.print() } else { looked_into(&answer.read()?) }
        }
        SourceCommand::Pause { name } => {
            client.call_bare(Method::POST, &format!("/api/v1/sources/{name}/pause")).await?;
            say(common, &name, "paused", "is paused: it accepts nothing until it is resumed")
        }
        SourceCommand::Resume { name } => {
            client.call_bare(Method::POST, &format!("/api/v1/sources/{name}/resume")).await?;
            say(common, &name, "resumed", "is resumed: it accepts events again")
        }
        SourceCommand::Key { name, what, yes } => key(common, &client, &name, &what, yes).await,
        SourceCommand::List => {
            let (now, all) = all(&client).await?;
            if common.json {
                return format::print_json(&all);
            }
            if all.is_empty() {
                return format::line("The plan has no sources.");
            }
            let row = |s: &Source| vec![s.name.clone(), kind(s), s.listen.clone(), ago(s, now), state(s)];
            format::line(&format::table(&["source", "kind", "listens at", "last event", "state"], &[], all.iter().map(row).collect()))
        }
        SourceCommand::Show { name } => {
            let (now, all) = all(&client).await?;
            let found = all.iter().find(|s| s.name == name);
            let found = found.ok_or_else(|| Failure::new(Exit::Failed, format!("there is no source `{name}`")))?;
            if common.json { format::print_json(found) } else { show(found, now) }
        }
    }
}

fn say(common: &Common, name: &str, key: &str, words: &str) -> Outcome {
    if common.json { format::print_json(&json!({ key: name })) } else { format::line(&format!("Source `{name}` {words}.")) }
}

fn looked_into(looked: &LookedInto) -> Outcome {
    let mut blocks = vec![files_shown(&looked.files, looked.file_count)];
    if looked.kinds.is_empty() {
        blocks.push("They contain nothing readable.".to_owned());
        return format::blocks(&blocks);
    }
    blocks.extend(looked.kinds.iter().map(|kind| looked_kind(kind, looked.kinds.len() > 1)));
    if looked.more {
        blocks.push("There are more groups of files than were examined; name some of them to see what they are.".to_owned());
    }
    let this = if looked.kinds.len() == 1 { "this" } else { "these sources" };
    blocks.push(format!("To read them this way, add {this} to the plan:\n\n{}", looked.plan.as_deref().unwrap_or_default().trim_end()));
    format::blocks(&blocks)
}

/// The first of these files, and how many more there are.
pub(crate) fn files_shown(files: &[SourceFile], count: usize) -> String {
    let row = |f: &SourceFile| vec![f.path.clone(), format::bytes(f.size as f64), f.says.clone()];
    let table = format::table(&["file", "size", ""], &[1], files.iter().take(FILES_SHOWN).map(row).collect());
    if files.len() > FILES_SHOWN { format!("{table}\n\nand {} more", count.saturating_sub(FILES_SHOWN)) } else { table }
}

/// What files of one kind are, and how they would be read.
pub(crate) fn looked_kind(kind: &LookedKind, several: bool) -> String {
    let found = &kind.recognised;
    let percent = |share: f64| format!("{:.0}%", 100.0 * share);
    let time = match &found.time {
        Some(time) => format!("{} of the events have a timestamp; the first is {time}", percent(found.timed)),
        None => "no event has a timestamp, so arrival times are used".to_owned(),
    };
    let others = match kind.file_count {
        _ if !several => String::new(),
        1 => String::new(),
        2 => " and 1 other file".to_owned(),
        n => format!(" and {} other files", n - 1),
    };
    let mut out = vec![format!("{}{others}: {}.\n{} of its lines match, and {time}.\n", kind.path, paint(&found.says, HEAD), percent(found.share))];
    let short = |text: &str| match text.char_indices().nth(LONGEST_SHOWN) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    };
    out.extend(kind.lines.iter().take(3).map(|l| format!("came      {}", short(l))));
    out.extend(found.events.iter().take(3).map(|e| format!("read as   {}", short(e.get()))));
    out.join("\n")
}

async fn key(common: &Common, client: &Client, name: &str, what: &str, yes: bool) -> Outcome {
    let path = format!("/api/v1/sources/{name}/key");
    if !yes && !ask(&format!("The key that senders use for `{name}` now will stop working. Continue?"))? {
        return Ok(Exit::Declined);
    }
    if what == "revoke" {
        client.call_bare(Method::DELETE, &path).await?;
        return say(common, name, "revoked", "accepts no sender until it has a new key: `rockrose source key NAME new`");
    }
    let answer = client.call_bare(Method::POST, &path).await?;
    if common.json {
        return answer.print();
    }
    let made: SourceKey = answer.read()?;
    let url = made.url.as_ref().map_or_else(String::new, |url| format!("\nor post to           {url}"));
    format::line(&format!("The new key of `{name}`, shown this once:\n\nAuthorization: Bearer {}{url}", made.key))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn raw(json: &str) -> Option<Box<serde_json::value::RawValue>> {
        serde_json::value::RawValue::from_string(json.to_owned()).ok()
    }

    fn record(read: Option<&str>, after: Option<&str>) -> CaughtRecord {
        CaughtRecord { at_ms: 0, raw: Some("gate 3 opens\n".into()), read: read.and_then(raw), unreadable: None, after: after.and_then(raw), stopped_by: None }
    }

    #[test]
    fn a_record_is_shown_as_it_came_as_it_was_read_and_as_it_goes_on() {
        let (read, after) = ("{\"b\":1.0,\"a\":2}", "{\"b\":1.0,\"a\":2,\"team\":\"quays\"}");
        let shown = caught(&record(Some(read), Some(after)));
        assert_eq!(shown, format!("came      gate 3 opens\nread as   {read}\ngoes on   {after}"), "numbers and the order of members stay");
        assert_eq!(caught(&record(Some(read), Some(read))).lines().count(), 2, "what nothing changed is shown once");
    }

    #[test]
    fn what_stopped_a_record_is_told() {
        let dropped = CaughtRecord { stopped_by: Some("drop severity = debug".into()), ..record(Some("{}"), None) };
        assert!(caught(&dropped).ends_with("stopped   by `drop severity = debug`"));
        let broken = CaughtRecord { unreadable: Some("the text ends too early".into()), ..record(None, None) };
        assert_eq!(caught(&broken), "came      gate 3 opens\nnot read  the text ends too early");
    }

    fn source() -> Source {
        let json = r#"{"name":"gates","kind":"http","listen":"192.0.2.7:8620","keyed":true,"safe":true,"state":"flowing","says":"events flow","events":7,
            "last_event_ms":1000,"last_from":null,"connections":1,
            "received":{"events":200,"bytes":9,"events_per_second":1.0,"bytes_per_second":2.0},"unreadable":{"events":3,"bytes":9,"events_per_second":0.0,"bytes_per_second":0.0},
            "freshness":null,"paused_by":null,"files":[],"file_count":0,"receive_buffer_bytes":null,"troubles":[],"send":[]}"#;
        serde_json::from_str(json).unwrap()
    }

    #[test]
    fn a_source_is_described_in_few_words() {
        let mut s = source();
        assert_eq!(kind(&s), "http, TLS, key");
        (s.safe, s.keyed) = (false, false);
        assert_eq!(kind(&s), "http");
        assert_eq!(ago(&s, 61_000), "1 min ago");
        assert_eq!(unreadable(&s), "3 of 200 records, 1.5%");
        s.unreadable.events = 0;
        assert_eq!(unreadable(&s), "none");
        s.last_event_ms = None;
        assert_eq!(ago(&s, 61_000), "never");
    }

    #[test]
    fn the_state_tells_what_is_not_as_it_should_be() {
        let with = |state, says: &str| super::state(&Source { state, says: says.into(), ..source() });
        assert_eq!(with(SourceState::Flowing, "events flow"), "flowing");
        assert_eq!(with(SourceState::Flowing, "events arrive, but wrong key"), "flowing: events arrive, but wrong key");
        assert_eq!(with(SourceState::Troubled, "wrong key"), "troubled: wrong key");
        assert_eq!(with(SourceState::Unheard, "no events received yet"), "no events received yet");
        assert_eq!(with(SourceState::Quiet, "no recent events"), "no recent events");
        assert_eq!(with(SourceState::Paused, "ann paused it"), "paused: ann paused it");
    }

    #[test]
    fn ages_are_told_in_three_shares_and_clocks_that_are_ahead_too() {
        assert_eq!(receive_buffer(8 << 20), "8.4 MB");
        assert!(receive_buffer(212_992).starts_with("213.0 kB of the 8.4 MB"), "{}", receive_buffer(212_992));
        assert_eq!(freshness(None), "unknown: no event has a time");
        let ages = Freshness { half_ms: -2_500, most_ms: 800, nearly_all_ms: 90_000 };
        assert_eq!(freshness(Some(&ages)), "median timestamp 2 s in the future, p90 800 ms old, p99 1 min old");
    }

    #[test]
    fn a_trouble_says_how_often_and_from_where_and_what_helps() {
        let once = Trouble { what: "key".into(), says: "wrong key".into(), remedy: "show the key".into(), from: None, times: 1, last_ms: 0 };
        let [wrong, helps] = trouble(&once, 5_000);
        assert_eq!((wrong[1].as_str(), helps[1].as_str()), ("wrong key (once, 5 s ago)", "show the key"));
        let often = Trouble { from: Some("192.0.2.9".into()), times: 1_200, ..once };
        assert_eq!(trouble(&often, 5_000)[0][1], "wrong key, from 192.0.2.9 (1\u{202f}200 times, last 5 s ago)");
    }
}
