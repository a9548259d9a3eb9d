//! The ledger, the queues, the destinations' health and the alerts, in Prometheus' text format or OpenMetrics'.

use std::collections::HashSet;
use std::sync::Arc;

use axum::extract::State;
use axum::http::{Extensions, HeaderMap, Method, header};
use axum::response::{IntoResponse, Response};
use prometheus::core::Collector;
use prometheus::{Encoder, GaugeVec, IntCounterVec, IntGaugeVec, Opts, Registry, TextEncoder};
use rockrose_alerts::Phase;
use rockrose_delivery::State as Health;
use rockrose_grants::Need;
use rockrose_intake::Problem;
use rockrose_ledger::Measure;

use super::{auth, records_problem};
use crate::alerts::AlertStanding;
use crate::{App, queues};

/// The media type of OpenMetrics' text format.
const OPEN_METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// Whether whoever asks takes OpenMetrics.
fn wants_open_metrics(headers: &HeaderMap) -> bool {
    headers.get_all(header::ACCEPT).iter().any(|accept| accept.to_str().is_ok_and(|accept| accept.contains("application/openmetrics-text")))
}

/// Metrics; what a plan counts and measures is there for those who see all events. They need a token, since names show in them, unless the service was told that they are open: where a request comes from says nothing behind a proxy.
pub(crate) async fn metrics(State(app): State<Arc<App>>, headers: HeaderMap, extensions: Extensions) -> Response {
    // What a plan counts by fields tells what stands in them.
    let mut counts = true;
    if !app.open_metrics {
        let caller = auth::who(&app, &Method::GET, &headers, &extensions).await.and_then(|caller| caller.must(&[Need::Known]).map(|()| caller));
        match caller {
            Ok(caller) => counts = caller.grants.allow(Need::SeeAll),
            Err(problem) => return problem.into_response(),
        }
    }
    let alerts = match app.alerts.all(&app).await {
        Ok(alerts) => alerts,
        Err(e) => return records_problem(&e).into_response(),
    };
    match text(&app, counts, &alerts) {
        Ok(text) if wants_open_metrics(&headers) => ([(header::CONTENT_TYPE, OPEN_METRICS)], open_metrics(&String::from_utf8_lossy(&text))).into_response(),
        Ok(text) => ([(header::CONTENT_TYPE, prometheus::TEXT_FORMAT)], text).into_response(),
        Err(e) => Problem::internal(e.to_string()).into_response(),
    }
}

fn text(app: &App, counts: bool, alerts: &[AlertStanding]) -> prometheus::Result<Vec<u8>> {
    let registry = Registry::new();
    let counter = |name: &str, says: &str, labels: &[&str]| IntCounterVec::new(Opts::new(name, says), labels);
    let gauge = |name: &str, says: &str, labels: &[&str]| IntGaugeVec::new(Opts::new(name, says), labels);
    let labels = ["place", "name", "via", "position", "measure"];
    let events = counter("rockrose_events_total", "Events by point of the plan and by outcome.", &labels)?;
    let bytes = counter("rockrose_bytes_total", "Bytes by point of the plan and by outcome.", &labels)?;
    let saved = gauge("rockrose_saved_bytes", "Bytes saved by changing events; negative where bytes were added.", &labels)?;
    let waiting_events = gauge("rockrose_waiting_events", "Events queued for delivery.", &["destination"])?;
    let waiting_bytes = gauge("rockrose_waiting_bytes", "Bytes queued for delivery.", &["destination"])?;
    let oldest = gauge("rockrose_waiting_oldest_timestamp_seconds", "When the oldest queued event was queued, in seconds since 1970.", &["destination"])?;
    let failing = gauge("rockrose_destination_failing", "1 while the last delivery attempt failed.", &["destination"])?;
    let paused = gauge("rockrose_destination_paused", "1 while an operator holds its events back.", &["destination"])?;
    let full = gauge("rockrose_destination_full", "1 while its queue is at its limit.", &["destination"])?;
    let failures = gauge("rockrose_destination_failures", "Consecutive failed delivery attempts.", &["destination"])?;
    let floats = |name: &str, says: &str, labels: &[&str]| GaugeVec::new(Opts::new(name, says), labels);
    let answers =
        floats("rockrose_destination_answer_seconds", "Response time of the last requests (at most 256), by quantile.", &["destination", "quantile"])?;
    let good = floats("rockrose_destination_good_answers_ratio", "Share of the last requests that were accepted.", &["destination"])?;
    let ages = floats(
        "rockrose_destination_event_age_seconds",
        "How old events were, by their own times, when the destination accepted them, in the last hour, by quantile.",
        &["destination", "quantile"],
    )?;
    let promise_used =
        floats("rockrose_destination_promise_used_ratio", "Of the events that may be late, the share that was in the last hour.", &["destination"])?;
    let alert_on = gauge("rockrose_alert_on", "1 while the alert is on.", &["alert", "severity"])?;
    let budget_used = floats("rockrose_budget_used_ratio", "Share of the budget that is used in its present period.", &["budget"])?;
    let budget_lifted = gauge("rockrose_budget_lifted", "1 while nothing is done by the budget.", &["budget"])?;
    let revision = gauge("rockrose_plan_revision", "The revision of the active plan.", &[])?;
    let started = gauge("rockrose_start_timestamp_seconds", "When the service started, in seconds since 1970.", &["version"])?;
    for AlertStanding { alert, record, .. } in alerts {
        let is_on = record.as_ref().is_some_and(|record| record.phase == Phase::On.word());
        alert_on.with_label_values(&[alert.name.as_str(), alert.severity.word()]).set(is_on.into());
    }
    for of in app.budgets.all() {
        budget_used.with_label_values(&[of.budget.name.as_str()]).set(of.used.to_f64() / of.budget.most.to_f64());
        budget_lifted.with_label_values(&[of.budget.name.as_str()]).set(of.lift.is_some().into());
    }
    let reading = app.meter.read();
    for (account, amount) in reading.now.iter() {
        let position = account.position.to_string();
        let of = [account.stage.word(), &account.name, &account.via, &position, account.measure.word()];
        events.with_label_values(&of).inc_by(amount.events.max(0) as u64);
        if matches!(account.measure, Measure::Changed | Measure::Rewritten) {
            saved.with_label_values(&of).add(amount.bytes);
        } else {
            bytes.with_label_values(&of).inc_by(amount.bytes.max(0) as u64);
        }
    }
    for (name, waiting) in app.spool.waiting() {
        waiting_events.with_label_values(&[&name]).set(waiting.amount.events);
        waiting_bytes.with_label_values(&[&name]).set(waiting.amount.bytes);
        if waiting.oldest_ms > 0 {
            oldest.with_label_values(&[&name]).set(waiting.oldest_ms / 1000);
        }
    }
    let running = app.engine.running();
    for destination in &running.checked.destinations {
        let (name, health) = (destination.name.as_str(), app.engine.health(&destination.name));
        let bad = health.as_ref().is_some_and(|h| h.state == Health::Failing);
        failing.with_label_values(&[name]).set(i64::from(bad));
        paused.with_label_values(&[name]).set(i64::from(app.engine.paused(rockrose_records::Side::Destination, name).is_some()));
        full.with_label_values(&[name]).set(i64::from(queues::is_full(&app.spool, destination)));
        failures.with_label_values(&[name]).set(health.as_ref().map_or(0, |h| i64::from(h.failures)));
        if let Some(known) = health.as_ref().map(|h| h.freshness).filter(|f| f.events > 0) {
            for (quantile, ms) in [("0.5", known.p50_ms), ("0.9", known.p90_ms), ("0.99", known.p99_ms)] {
                ages.with_label_values(&[name, quantile]).set(ms / 1_000.0);
            }
            if let Some((promise, late)) = destination.within.zip(known.late) {
                promise_used.with_label_values(&[name]).set(promise.used_percent(late) as f64 / 100.0);
            }
        }
        if let Some(known) = health.map(|h| h.answers).filter(|a| a.count > 0) {
            good.with_label_values(&[name]).set(known.good);
            for (quantile, ms) in [("0.5", known.p50_ms), ("0.9", known.p90_ms), ("0.99", known.p99_ms)] {
                answers.with_label_values(&[name, quantile]).set(ms / 1_000.0);
            }
        }
    }
    let none: [&str; 0] = [];
    revision.with_label_values(&none).set(running.revision);
    started.with_label_values(&[env!("CARGO_PKG_VERSION")]).set(app.started_ms / 1000);
    let all: [Box<dyn Collector>; 19] = [
        Box::new(ages),
        Box::new(promise_used),
        Box::new(events),
        Box::new(bytes),
        Box::new(saved),
        Box::new(waiting_events),
        Box::new(waiting_bytes),
        Box::new(oldest),
        Box::new(failing),
        Box::new(paused),
        Box::new(full),
        Box::new(failures),
        Box::new(answers),
        Box::new(good),
        Box::new(alert_on),
        Box::new(budget_used),
        Box::new(budget_lifted),
        Box::new(revision),
        Box::new(started),
    ];
    for one in all {
        registry.register(one)?;
    }
    let mut out = Vec::new();
    TextEncoder::new().encode(&registry.gather(), &mut out)?;
    if counts {
        app.metrics.write(&mut out);
    }
    Ok(out)
}

/// The same metrics in OpenMetrics' text format: families of counters are named without `_total`, bounds of buckets are written as decimal numbers, and the end is marked. There are no exemplars.
fn open_metrics(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 16);
    let counters: HashSet<&str> = text.lines().filter_map(|line| line.strip_prefix("# TYPE ")?.strip_suffix(" counter")).collect();
    for line in text.lines() {
        let mut words = line.splitn(4, ' ');
        match (words.next(), words.next(), words.next(), words.next()) {
            (Some("#"), Some(word @ ("HELP" | "TYPE")), Some(name), rest) => {
                let family = if counters.contains(name) { name.strip_suffix("_total").unwrap_or(name) } else { name };
                out.push_str(&format!("# {word} {family} {}", rest.unwrap_or_default()));
            }
            _ => match line.split_once("le=\"").and_then(|(before, rest)| Some((before, rest.split_once('"')?))) {
                Some((before, (bound, behind))) if bound.bytes().all(|b| b.is_ascii_digit()) => out.push_str(&format!("{before}le=\"{bound}.0\"{behind}")),
                _ => out.push_str(line),
            },
        }
        out.push('\n');
    }
    out.push_str("# EOF\n");
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn open_metrics_are_the_same_numbers() {
        let text = "# HELP a_total How many.\n# TYPE a_total counter\na_total{x=\"# TYPE b_total counter\"} 5\n# HELP b_total A gauge.\n# TYPE b_total gauge\nb_total 1\n\
                    # TYPE h histogram\nh_bucket{m=\"GET\",le=\"1\"} 2\nh_bucket{m=\"GET\",le=\"1.5\"} 2\nh_bucket{m=\"GET\",le=\"+Inf\"} 3\nh_sum 4\nh_count 3\n";
        assert_eq!(
            open_metrics(text),
            "# HELP a How many.\n# TYPE a counter\na_total{x=\"# TYPE b_total counter\"} 5\n# HELP b_total A gauge.\n# TYPE b_total gauge\nb_total 1\n# TYPE h histogram\nh_bucket{m=\"GET\",le=\"1.0\"} 2\n\
             h_bucket{m=\"GET\",le=\"1.5\"} 2\nh_bucket{m=\"GET\",le=\"+Inf\"} 3\nh_sum 4\nh_count 3\n# EOF\n"
        );
        let mut headers = HeaderMap::new();
        assert!(!wants_open_metrics(&headers));
        headers.insert(header::ACCEPT, "text/plain;q=0.5,application/openmetrics-text;version=1.0.0".parse().unwrap());
        assert!(wants_open_metrics(&headers));
    }
}
