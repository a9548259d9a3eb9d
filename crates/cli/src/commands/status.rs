//! `status`: what arrives, what is done to it, how the destinations are doing.

use serde_json::Value;

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::{Common, Outcome};

pub(super) fn text<'a>(value: &'a Value, key: &str) -> &'a str {
    value[key].as_str().unwrap_or_default()
}

pub(super) fn list(value: &Value) -> &[Value] {
    value.as_array().map_or(&[], Vec::as_slice)
}

fn per_second(gauge: &Value) -> String {
    format::rate(gauge["events_per_second"].as_f64().unwrap_or(0.0))
}

fn bytes_per_second(gauge: &Value) -> String {
    format!("{}/s", format::bytes(gauge["bytes_per_second"].as_f64().unwrap_or(0.0)))
}

fn total(gauge: &Value) -> String {
    format::count(gauge["events"].as_i64().unwrap_or(0))
}

pub(super) fn state(destination: &Value, now: i64) -> String {
    let health = &destination["health"];
    let since = format::age(now - health["since_ms"].as_i64().unwrap_or(now));
    match text(health, "state") {
        "healthy" => paint("healthy", GOOD),
        "failing" => {
            let next = health["next_try_ms"].as_i64().map_or_else(String::new, |at| format!(", next try in {}", format::age(at - now)));
            format!("{} for {since}{next}: {}", paint("failing", BAD), text(health, "last_error"))
        }
        "full" => format!("{}: it holds all it may; {}", paint("full", BAD), text(health, "last_error")),
        "paused" => format!("paused for {since} by {}", text(health, "paused_by")),
        "slow" => {
            format!("{} for {since}: half of its answers take {:.1} s", paint("slow", BAD), health["answers"]["p50_ms"].as_f64().unwrap_or(0.0) / 1_000.0)
        }
        other => other.to_owned(),
    }
}

pub(crate) async fn status(common: &Common) -> Outcome {
    let client = Client::new(common)?;
    let (status, flow) = (client.get("/api/v1/status").await?, client.get("/api/v1/flow").await?);
    if common.json {
        return format::print_json(&serde_json::json!({ "status": status, "flow": flow }));
    }
    let now = flow["now_ms"].as_i64().unwrap_or(0);
    let balanced = if status["balanced"].as_bool() == Some(true) { paint("balanced", GOOD) } else { paint("NOT balanced (see `rockrose ledger`)", BAD) };
    let waiting = match status["waiting_events"].as_i64() {
        Some(0) | None => "nothing waits".to_owned(),
        Some(n) => format!("{} events ({}) wait", format::count(n), format::bytes(status["waiting_bytes"].as_f64().unwrap_or(0.0))),
    };
    let up = format::age(now - status["started_ms"].as_i64().unwrap_or(now));
    let head = format!(
        "Rockrose {}, node {}, revision {}, up {up}; ledger {balanced}; {waiting}",
        text(&status, "version"),
        text(&status, "node"),
        status["revision"]
    );
    if list(&flow["sources"]).is_empty() && list(&flow["destinations"]).is_empty() {
        return format::blocks(&[head, "The plan is empty. `rockrose apply PLAN` applies one.".into()]);
    }
    let source = |s: &Value| {
        let unreadable = s["quarantined"]["events"].as_i64().unwrap_or(0);
        let unreadable = if unreadable > 0 { paint(&format::count(unreadable), BAD) } else { "0".into() };
        vec![
            text(s, "name").to_owned(),
            per_second(&s["received"]),
            bytes_per_second(&s["received"]),
            total(&s["received"]),
            unreadable,
            total(&s["remainder"]),
            text(s, "listen").to_owned(),
        ]
    };
    let sources = format::table(
        &["source", "arrives", "", "in all", "unreadable", "no route", "listens on"],
        &[1, 2, 3, 4, 5],
        list(&flow["sources"]).iter().map(source).collect(),
    );
    let (mut rows, mut steps) = (Vec::new(), Vec::new());
    for r in list(&flow["routes"]) {
        let to: Vec<&str> = list(&r["to"]).iter().filter_map(Value::as_str).collect();
        rows.push(vec![text(r, "name").to_owned(), per_second(&r["taken"]), per_second(&r["out"]), total(&r["taken"]), total(&r["out"]), to.join(", ")]);
        for step in list(&r["steps"]) {
            let note = |key: &str, says: &str| match step[key]["events"].as_i64() {
                Some(0) | None => String::new(),
                Some(n) => paint(&format!("  ({says} {})", format::count(n)), FAINT),
            };
            let notes = note("held", "holds back") + &note("failed", "could not on");
            steps.push(vec![text(r, "name").to_owned(), total(&step["removed"]), total(&step["changed"]), format!("{}{notes}", text(step, "sentence"))]);
        }
    }
    let routes = format::table(&["route", "takes", "lets out", "taken", "out", "to"], &[1, 2, 3, 4], rows);
    let steps = if steps.is_empty() { String::new() } else { format::table(&["route", "removed", "changed", "by the step"], &[1, 2], steps) };
    let destination = |d: &Value| {
        let waits = d["waiting_events"].as_i64().unwrap_or(0);
        let waits = if waits == 0 {
            "0".to_owned()
        } else {
            format!(
                "{} ({}, oldest {})",
                format::count(waits),
                format::bytes(d["waiting_bytes"].as_f64().unwrap_or(0.0)),
                format::age(now - d["oldest_ms"].as_i64().unwrap_or(now))
            )
        };
        let cost = match d["cost"]["today"].as_f64() {
            Some(today) => format!("{today:.4} {}", text(&d["cost"], "currency")),
            None => String::new(),
        };
        vec![text(d, "name").to_owned(), per_second(&d["delivered"]), bytes_per_second(&d["delivered"]), total(&d["delivered"]), waits, cost, state(d, now)]
    };
    let destinations = format::table(
        &["destination", "takes", "", "delivered", "waits", "cost today", "state"],
        &[1, 2, 3, 4, 5],
        list(&flow["destinations"]).iter().map(destination).collect(),
    );
    format::blocks(&[paint(&head, HEAD), sources, routes, steps, destinations])
}
