//! `status`: what arrives, what is done to it, how the destinations are doing.

use rockrose_api::{DestinationState, Flow, FlowDestination, FlowRoute, FlowSource, Gauge, Status};
use serde_json::{Value, json};

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::{Common, Outcome};

fn per_second(gauge: &Gauge) -> String {
    format::rate(gauge.events_per_second)
}

pub(crate) fn bytes_per_second(gauge: &Gauge) -> String {
    format!("{}/s", format::bytes(gauge.bytes_per_second))
}

fn total(gauge: &Gauge) -> String {
    format::count(gauge.events)
}

pub(crate) fn state(destination: &FlowDestination, now: i64) -> String {
    let health = &destination.health;
    let since = format::age(now - health.since_ms);
    let last_error = health.last_error.as_deref().unwrap_or_default();
    let refused = match destination.quarantined.events {
        0 => String::new(),
        n => paint(&format!("; {} refused, in quarantine", format::events(n)), BAD),
    };
    let state = match health.state {
        DestinationState::Idle => "idle".to_owned(),
        DestinationState::Stopped => "stopped".to_owned(),
        DestinationState::Healthy => paint("healthy", GOOD),
        DestinationState::Failing => {
            let next = health.next_try_ms.map_or_else(String::new, |at| format!(", next try in {}", format::age(at - now)));
            format!("{} for {since}{next}: {last_error}", paint("failing", BAD))
        }
        DestinationState::Full => format!("{}: its queue is at its limit; {last_error}", paint("full", BAD)),
        DestinationState::Paused => format!("paused for {since} by {}", health.paused_by.as_deref().unwrap_or_default()),
        DestinationState::Slow => format!("{} for {since}: the median answer takes {:.1} s", paint("slow", BAD), health.answers.p50_ms / 1_000.0),
    };
    state + &refused
}

fn head(status: &Status, now: i64) -> String {
    let balanced = if status.balanced { paint("balanced", GOOD) } else { paint("NOT balanced (see `rockrose ledger`)", BAD) };
    let waiting = match status.waiting_events {
        0 => "nothing queued".to_owned(),
        n => format!("{} ({}) waiting", format::events(n), format::bytes(status.waiting_bytes as f64)),
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
    format::table(&["source", "in/s", "", "total", "unreadable", "no route", "listens on"], &[1, 2, 3, 4, 5], sources.iter().map(row).collect())
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
            let caveat = step.caveat.as_ref().map_or_else(String::new, |caveat| paint(&format!("  ({caveat})"), BAD));
            let notes = note(&step.held, "holding") + &note(&step.failed, "failed on") + &caveat;
            steps.push(vec![r.name.clone(), total(&step.removed), total(&step.changed), format!("{}{notes}", step.sentence)]);
        }
    }
    let steps = if steps.is_empty() { String::new() } else { format::table(&["route", "removed", "changed", "by the step"], &[1, 2], steps) };
    [format::table(&["route", "in/s", "out/s", "in", "out", "to"], &[1, 2, 3, 4], rows), steps]
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
    format::table(&["destination", "out/s", "", "delivered", "queued", "cost today", "state"], &[1, 2, 3, 4, 5], rows)
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
    let head = match &status.alerts[..] {
        [] => paint(&head, HEAD),
        on => format!("{}\n{}", paint(&head, HEAD), paint(&format!("Alerts that are on: {}. `rockrose alert list` says more.", on.join(", ")), BAD)),
    };
    format::blocks(&[head, sources(&flow.sources), routes, steps, destinations(&flow.destinations, flow.now_ms)])
}

#[cfg(test)]
mod tests {
    use rockrose_api::{Cost, DestinationHealth, FlowStep};

    use super::*;

    const NOW: i64 = 1_795_428_000_000;

    fn gauge(events: i64, events_per_second: f64) -> Gauge {
        Gauge { events, bytes: 100 * events, events_per_second, bytes_per_second: 100.0 * events_per_second }
    }

    fn destination(state: DestinationState) -> FlowDestination {
        let health = DestinationHealth {
            state,
            since_ms: NOW - 90_000,
            failures: 3,
            last_error: Some("no answer".into()),
            last_error_ms: Some(NOW - 1_000),
            noticed: None,
            noticed_ms: None,
            next_try_ms: None,
            last_success_ms: None,
            paused_by: Some("ann".into()),
            answers: rockrose_api::Answers { p50_ms: 4_300.0, ..Default::default() },
            event_ages: rockrose_api::EventAges::default(),
        };
        let [name, kind, target] = ["vault", "http", "http://vault.example"].map(str::to_owned);
        let (offered, delivered, quarantined) = (gauge(9, 0.0), gauge(7, 2.0), gauge(0, 0.0));
        FlowDestination {
            name,
            kind,
            target,
            caveat: None,
            in_plan: true,
            offered,
            offered_from: Vec::new(),
            delivered,
            quarantined,
            waiting_events: 0,
            waiting_bytes: 0,
            oldest_ms: NOW - 5_000,
            health,
            cost: None,
            steps: Vec::new(),
        }
    }

    #[test]
    fn what_a_destination_refused_is_told_beside_its_state() {
        let mut refusing = destination(DestinationState::Healthy);
        refusing.quarantined = gauge(16, 0.0);
        assert_eq!(state(&refusing, NOW), "healthy; 16 events refused, in quarantine");
        refusing.quarantined = gauge(1, 0.0);
        assert_eq!(state(&refusing, NOW), "healthy; 1 event refused, in quarantine");
    }

    #[test]
    fn each_state_is_told_with_what_an_operator_needs_of_it() {
        use DestinationState::*;
        for (is, says) in [
            (Idle, "idle"),
            (Healthy, "healthy"),
            (Slow, "slow for 1 min: the median answer takes 4.3 s"),
            (Failing, "failing for 1 min: no answer"),
            (Full, "full: its queue is at its limit; no answer"),
            (Paused, "paused for 1 min by ann"),
            (Stopped, "stopped"),
        ] {
            assert_eq!(state(&destination(is), NOW), says);
        }
        let mut failing = destination(Failing);
        failing.health.next_try_ms = Some(NOW + 8_000);
        assert_eq!(state(&failing, NOW), "failing for 1 min, next try in 8 s: no answer");
    }

    #[test]
    fn what_waits_and_what_it_costs_stand_beside_a_destination() {
        let idle = destinations(&[destination(DestinationState::Healthy)], NOW);
        assert!(idle.lines().nth(1).unwrap().contains("2.0/s") && !idle.contains("oldest"), "{idle}");
        let mut busy = destination(DestinationState::Full);
        (busy.waiting_events, busy.waiting_bytes) = (1_234, 5_000_000);
        busy.cost = Some(Cost { today: 1.5, currency: "EUR".into(), says: "0.50 EUR a GB".into() });
        let busy = destinations(&[busy], NOW);
        assert!(busy.contains("1\u{202f}234 (5.0 MB, oldest 5 s)") && busy.contains("1.5000 EUR"), "{busy}");
    }

    #[test]
    fn the_first_line_says_whether_the_account_adds_up_and_what_waits() {
        let status = |balanced, waiting_events| Status {
            version: "0.1.0".into(),
            node: "3cae".into(),
            started_ms: NOW - 3_700_000,
            now_ms: NOW,
            revision: 4,
            balanced,
            waiting_events,
            waiting_bytes: 2_000,
            failing: Vec::new(),
            alerts: Vec::new(),
        };
        assert_eq!(head(&status(true, 0), NOW), "Rockrose 0.1.0, node 3cae, revision 4, up 1 h 1 min; ledger balanced; nothing queued");
        let off = head(&status(false, 3), NOW);
        assert!(off.contains("NOT balanced") && off.contains("`rockrose ledger`") && off.ends_with("3 events (2.0 kB) waiting"), "{off}");
    }

    #[test]
    fn a_step_is_listed_with_what_it_holds_back_and_could_not_do() {
        let step = |held, failed| FlowStep {
            position: 1,
            sentence: "merge repeats within 5 seconds".into(),
            removed: gauge(8, 0.0),
            changed: gauge(5, 0.0),
            failed: gauge(failed, 0.0),
            held: gauge(held, 0.0),
            caveat: (failed > 0).then(|| "none of 5000 events had `pasenger`".into()),
        };
        let route = |steps| FlowRoute {
            team: None,
            name: "kiosk-usage".into(),
            when: String::new(),
            from: vec!["kiosks".into()],
            to: vec!["vault".into(), "desk".into()],
            taken: gauge(20, 4.0),
            taken_from: Vec::new(),
            out: gauge(12, 2.0),
            steps,
        };
        let [table, steps] = routes(&[route(vec![step(0, 0), step(3, 2)])]);
        assert!(table.lines().nth(1).unwrap().ends_with("vault, desk"), "{table}");
        let lines: Vec<&str> = steps.lines().skip(1).collect();
        assert!(lines[0].ends_with("merge repeats within 5 seconds"), "{steps}");
        assert!(lines[1].ends_with("merge repeats within 5 seconds  (holding 3)  (failed on 2)  (none of 5000 events had `pasenger`)"), "{steps}");
        assert_eq!(routes(&[route(Vec::new())])[1], "", "no table of steps where there are none");
    }
}
