//! What passes through the plan.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::State;
use axum::{Extension, Json};
use rockrose_intake::Problem;
use rockrose_ledger::{Amount, Measure, Stage};
use rockrose_plan::Gate;
use rockrose_records::Side;
use rockrose_spool::{SpoolError, Waiting};

use super::rates::Book;
use super::types::{Cost, DestinationHealth, DestinationState, Flow, FlowBefore, FlowDestination, FlowRoute, FlowSource, Volume, VolumeBefore};
use super::{spool_problem, types};
use crate::caller::Caller;
use crate::{App, now_ms, queues};

/// Milliseconds in a day.
const DAY_MS: i64 = 86_400_000;

/// What passes through the plan, with totals since the beginning and rates over the last few seconds.
#[utoipa::path(get, path = "/api/v1/flow", tag = "watch", responses((status = 200, body = types::Flow), (status = 401, body = types::Problem)))]
pub(crate) async fn flow(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>) -> Result<Json<Flow>, Problem> {
    let now = now_ms();
    let today = app.spool.delivered_since(now.div_euclid(DAY_MS) * DAY_MS / 60_000).await.map_err(|e| spool_problem(&e))?;
    let running = app.engine.running();
    let reading = app.meter.read();
    let book = Book::new(&reading);
    let plan = &running.checked;
    let waiting = app.spool.waiting();
    let states = plan.sources.iter().map(|s| super::sources::state(&app, &s.name, &app.sources.monitor(&s.name).get(), now));
    let sources = plan.sources.iter().zip(states).enumerate().map(|(number, (s, (state, says)))| FlowSource {
        state,
        says,
        name: s.name.clone(),
        kind: s.kind.word().into(),
        listen: s.place(),
        keyed: s.key.is_some(),
        received: book.gauge(Stage::Source, &s.name, Measure::Received),
        quarantined: book.gauge(Stage::Source, &s.name, Measure::Quarantined),
        passed: book.gauge(Stage::Source, &s.name, Measure::Passed),
        remainder: book.gauge(Stage::Source, &s.name, Measure::Remainder),
        steps: book.steps(Stage::Source, &s.name, &plan.expanded(&s.on_arrival), &running.compiled.never_met(Stage::Source, number)),
    });
    let routes = plan.routes.iter().enumerate().map(|(number, r)| FlowRoute {
        name: r.name.clone(),
        team: r.team.clone(),
        when: match &r.when {
            Gate::Every => String::new(),
            Gate::Remainder => "remainder".into(),
            Gate::Condition(c) => c.to_string(),
        },
        from: plan.sources.iter().filter(|s| r.takes_from(&s.name)).map(|s| s.name.clone()).collect(),
        to: r.to.clone(),
        taken: book.gauge(Stage::Route, &r.name, Measure::Taken),
        taken_from: book.shares(Stage::Route, &r.name, Measure::Taken),
        out: book.gauge(Stage::Route, &r.name, Measure::Out),
        steps: book.steps(Stage::Route, &r.name, &plan.expanded(&r.steps), &running.compiled.never_met(Stage::Route, number)),
    });
    let mut destinations: Vec<FlowDestination> = plan
        .destinations
        .iter()
        .enumerate()
        .map(|(number, d)| {
            let mut health = app.engine.health(&d.name).map_or_else(|| stopped(now), |health| types::health(health, d.within));
            let said = |says: Option<String>| says.map(|says| super::destinations::said(&caller, &d.name, says));
            (health.last_error, health.noticed) = (said(health.last_error), said(health.noticed));
            if let Some(paused) = app.engine.paused(Side::Destination, &d.name) {
                // What an operator did is told before what came of it.
                (health.state, health.since_ms, health.paused_by) = (DestinationState::Paused, paused.at_ms, Some(paused.who));
            } else if queues::is_full(&app.spool, d) {
                health.state = DestinationState::Full;
            }
            let mut shown = destination(&book, &d.name, waiting.get(&d.name), health);
            shown.kind = d.kind.word().into();
            shown.target = d.kind.address();
            shown.caveat = plan.undone_redaction(d).or_else(|| d.kind.caveat().map(str::to_owned));
            shown.in_plan = true;
            shown.cost = d.price.as_ref().map(|p| Cost {
                today: p.of(today.get(&d.name).copied().unwrap_or_default()).to_f64(),
                currency: p.currency.clone(),
                says: p.to_string(),
            });
            shown.steps = book.steps(Stage::Destination, &d.name, &plan.expanded(&d.always), &running.compiled.never_met(Stage::Destination, number));
            shown
        })
        .collect();
    for (name, left) in waiting.iter().filter(|(n, w)| w.amount.events > 0 && plan.destinations.iter().all(|d| d.name != **n)) {
        destinations.push(destination(&book, name, Some(left), stopped(now)));
    }
    Ok(Json(Flow {
        now_ms: now,
        revision: running.revision,
        window_seconds: reading.seconds(),
        sources: sources.collect(),
        routes: routes.collect(),
        destinations,
    }))
}

/// Minutes in an hour.
const HOUR: i64 = 60;
/// Minutes in a day.
const DAY: i64 = 24 * HOUR;

/// The last hour beside the same hour yesterday and a week ago, as the ledger has it; kept for the minute, in which it stays the same.
#[derive(Default)]
pub(crate) struct Before(tokio::sync::Mutex<Option<(i64, Arc<Hours>)>>);

/// What passed each place within an hour.
type Hour = BTreeMap<(Stage, String), Amount>;

struct Hours {
    now: Hour,
    /// Nothing, if the ledger begins later.
    yesterday: Option<Hour>,
    last_week: Option<Hour>,
}

impl Before {
    async fn hours(&self, app: &App, until: i64) -> Result<Arc<Hours>, SpoolError> {
        let mut kept = self.0.lock().await;
        if let Some((of, hours)) = &*kept
            && *of == until
        {
            return Ok(Arc::clone(hours));
        }
        let begun = app.spool.first_minute(0).await?;
        let hour = async |back: i64| {
            let since = until - back - HOUR;
            if begun.is_none_or(|begun| begun > since) { Ok(None) } else { app.spool.volumes(since, since + HOUR).await.map(Some) }
        };
        let (yesterday, last_week) = (hour(DAY).await?, hour(7 * DAY).await?);
        let hours = Arc::new(Hours { now: app.spool.volumes(until - HOUR, until).await?, yesterday, last_week });
        *kept = Some((until, Arc::clone(&hours)));
        Ok(hours)
    }
}

/// What passed each source, route and destination in the last hour, and in the same hour yesterday and a week ago.
#[utoipa::path(get, path = "/api/v1/flow/before", tag = "watch", responses((status = 200, body = types::FlowBefore), (status = 401, body = types::Problem)))]
pub(crate) async fn before(State(app): State<Arc<App>>) -> Result<Json<FlowBefore>, Problem> {
    let until = now_ms().div_euclid(60_000);
    let hours = app.before.hours(&app, until).await.map_err(|e| spool_problem(&e))?;
    let running = app.engine.running();
    let plan = &running.checked;
    let sources = plan.sources.iter().map(|s| (Stage::Source, &s.name));
    let routes = plan.routes.iter().map(|r| (Stage::Route, &r.name));
    let destinations = plan.destinations.iter().map(|d| (Stage::Destination, &d.name));
    let places = sources.chain(routes).chain(destinations).map(|(stage, name)| {
        let point = format!("{}:{name}", stage.word());
        let place = (stage, name.clone());
        let volume = |hour: &Hour| hour.get(&place).map_or_else(Volume::default, |a| Volume { events: a.events, bytes: a.bytes });
        VolumeBefore { point, now: volume(&hours.now), yesterday: hours.yesterday.as_ref().map(volume), last_week: hours.last_week.as_ref().map(volume) }
    });
    Ok(Json(FlowBefore { until_ms: until * 60_000, places: places.collect() }))
}

fn stopped(now_ms: i64) -> DestinationHealth {
    types::health(rockrose_delivery::Health::new(rockrose_delivery::State::Stopped, now_ms), None)
}

fn destination(book: &Book<'_>, name: &str, waiting: Option<&Waiting>, health: DestinationHealth) -> FlowDestination {
    let waiting = waiting.copied().unwrap_or_default();
    FlowDestination {
        name: name.to_owned(),
        kind: String::new(),
        target: String::new(),
        caveat: None,
        in_plan: false,
        offered: book.gauge(Stage::Destination, name, Measure::Offered),
        offered_from: book.shares(Stage::Destination, name, Measure::Offered),
        delivered: book.gauge(Stage::Destination, name, Measure::Delivered),
        quarantined: book.gauge(Stage::Destination, name, Measure::Quarantined),
        waiting_events: waiting.amount.events,
        waiting_bytes: waiting.amount.bytes,
        oldest_ms: waiting.oldest_ms,
        health,
        cost: None,
        steps: Vec::new(),
    }
}
