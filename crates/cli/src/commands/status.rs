//! `status`: what arrives, what is done to it, how the destinations are doing.

use rockrose_api::{DestinationState, Flow, FlowDestination, FlowRoute, FlowSource, Gauge, Status};
use serde_json::{Value, json};

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::{Common, Outcome};

fn per_second(gauge: &Gauge) -> String {
    format::rate(gauge.events_per_second)
}

pub(super) fn bytes_per_second(gauge: &Gauge) -> String {
    format!("{}/s", format::bytes(gauge.bytes_per_second))
}

fn total(gauge: &Gauge) -> String {
    format::count(gauge.events)
}

pub(super) fn state(destination: &FlowDestination, now: i64) -> String {
    let health = &destination.health;
    let since = format::age(now - health.since_ms);
    let last_error = health.last_error.as_deref().unwrap_or_default();
    match health.state {
        DestinationState::Idle => "idle".to_owned(),
        DestinationState::Stopped => "stopped".to_owned(),
        DestinationState::Healthy => paint("healthy", GOOD),
        DestinationState::Failing => {
            let next = health.next_try_ms.map_or_else(String::new, |at| format!(", next try in {}", format::age(at - now)));
            format!("{} for {since}{next}: {last_error}", paint("failing", BAD))
        }
        DestinationState::Full => format!("{}: it holds all it may; {last_error}", paint("full", BAD)),
        DestinationState::Paused => format!("paused for {since} by {}", health.paused_by.as_deref().unwrap_or_default()),
        DestinationState::Slow => format!("{} for {since}: half of its answers take {:.1} s", paint("slow", BAD), health.answers.p50_ms / 1_000.0),
    }
}

fn head(status: &Status, now: i64) -> String {
    let balanced = if status.balanced { paint("balanced", GOOD) } else { paint("NOT balanced (see `rockrose ledger`)", BAD) };
    let waiting = match status.waiting_events {
        0 => "nothing waits".to_owned(),
        n => format!("{} events ({}) wait", format::count(n), format::bytes(status.waiting_bytes as f64)),
    };
    let up = format::age(now - status.started_ms);
    format!("Rockrose {}, node {}, revision {}, up {up}; ledger {balanced}; {waiting}", status.version, status.node, status.revision)
}

fn sources(sources: &[FlowSource]) -> String {
    let row = |s: &FlowSource| {
        let unreadable = s.quarantined.events;
        let unreadable = if unreadable > 0 { paint(&format::count(unreadable), BAD) } else { "0".into() };
        vec![s.name.clone(), per_second(&s.received), bytes_per_second(&s.received), total(&s.received), unreadable, total(&s.remainder), s.listen.clone()]
    };
    format::table(&["source", "arrives", "", "in all", "unreadable", "no route", "listens on"], &[1, 2, 3, 4, 5], sources.iter().map(row).collect())
}

/// The routes, and what their steps did.
fn routes(routes: &[FlowRoute]) -> [String; 2] {
    let (mut rows, mut steps) = (Vec::new(), Vec::new());
    for r in routes {
        rows.push(vec![r.name.clone(), per_second(&r.taken), per_second(&r.out), total(&r.taken), total(&r.out), r.to.join(", ")]);
        for step in &r.steps {
            let note = |gauge: &Gauge, says: &str| match gauge.events {
                0 => String::new(),
                n => paint(&format!("  ({says} {})", format::count(n)), FAINT),
            };
            let notes = note(&step.held, "holds back") + &note(&step.failed, "could not on");
            steps.push(vec![r.name.clone(), total(&step.removed), total(&step.changed), format!("{}{notes}", step.sentence)]);
        }
    }
    let steps = if steps.is_empty() { String::new() } else { format::table(&["route", "removed", "changed", "by the step"], &[1, 2], steps) };
    [format::table(&["route", "takes", "lets out", "taken", "out", "to"], &[1, 2, 3, 4], rows), steps]
}

fn destinations(destinations: &[FlowDestination], now: i64) -> String {
    let row = |d: &FlowDestination| {
        let waits = match d.waiting_events {
            0 => "0".to_owned(),
            n => format!("{} ({}, oldest {})", format::count(n), format::bytes(d.waiting_bytes as f64), format::age(now - d.oldest_ms)),
        };
        let cost = d.cost.as_ref().map_or_else(String::new, |c| format!("{:.4} {}", c.today, c.currency));
        vec![d.name.clone(), per_second(&d.delivered), bytes_per_second(&d.delivered), total(&d.delivered), waits, cost, state(d, now)]
    };
    let rows = destinations.iter().map(row).collect();
    format::table(&["destination", "takes", "", "delivered", "waits", "cost today", "state"], &[1, 2, 3, 4, 5], rows)
}

pub(crate) async fn status(common: &Common) -> Outcome {
    let client = Client::new(common)?;
    let (status, flow) = (client.get("/api/v1/status").await?, client.get("/api/v1/flow").await?);
    if common.json {
        return format::print_json(&json!({ "status": status.read::<Value>()?, "flow": flow.read::<Value>()? }));
    }
    let (status, flow): (Status, Flow) = (status.read()?, flow.read()?);
    let head = head(&status, flow.now_ms);
    if flow.sources.is_empty() && flow.destinations.is_empty() {
        return format::blocks(&[head, "The plan is empty. `rockrose apply PLAN` applies one.".into()]);
    }
    let [routes, steps] = routes(&flow.routes);
    format::blocks(&[paint(&head, HEAD), sources(&flow.sources), routes, steps, destinations(&flow.destinations, flow.now_ms)])
}
