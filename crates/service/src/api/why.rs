//! Why an event goes where it goes, by the active plan.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use rockrose_delivery::State as Doing;
use rockrose_engine::{Effect, ListTrace};
use rockrose_intake::Problem;
use rockrose_plan::{DestinationKind, WhenFull};
use rockrose_records::Side;

use super::extract::Body;
use super::types::{self, Decision, Passage, PassageStep, RouteDecision, Seen, SentTo, Why, WhyRequest};
use crate::{App, now_ms, queues};

/// What the running plan would do with an event that comes at a source. Nothing is sent, counted or remembered.
#[utoipa::path(post, path = "/api/v1/why", tag = "watch", request_body = types::WhyRequest,
    responses((status = 200, body = types::Why), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn why(State(app): State<Arc<App>>, Body(request): Body<WhyRequest>) -> Result<Json<Why>, Problem> {
    let running = app.engine.running();
    let key = app.engine.key();
    let asked = request.source.clone();
    let found = tokio::task::spawn_blocking(move || {
        rockrose_engine::why(&running.checked, key, &running.environment, &request.source, request.event.as_bytes(), now_ms())
    });
    let found = found.await.map_err(|_| Problem::internal("the event could not be looked at"))?;
    let why = found.ok_or_else(|| Problem::not_found(format!("the plan has no source `{asked}`")))?;
    Ok(Json(Why {
        source: asked,
        unreadable: why.unreadable,
        arrival: passage(why.arrival),
        remainder: why.remainder,
        routes: why.routes.into_iter().map(|r| route(&app, r)).collect(),
    }))
}

fn route(app: &App, route: rockrose_engine::RouteWhy) -> RouteDecision {
    let part = |p: rockrose_engine::Part| Decision {
        sentence: p.sentence,
        holds: p.holds,
        seen: p.seen.into_iter().map(|(field, value)| Seen { field, value }).collect(),
    };
    RouteDecision {
        name: route.name,
        taken: route.taken,
        because: route.because.map(str::to_owned),
        parts: route.parts.into_iter().map(part).collect(),
        passage: passage(route.passing),
        destinations: route.destinations.into_iter().map(|(name, passing)| sent_to(app, name, passing)).collect(),
    }
}

fn sent_to(app: &App, name: String, passing: ListTrace) -> SentTo {
    let sent = passing.after.is_some();
    SentTo { fate: sent.then(|| fate(app, &name)), name, sent, passage: passage(passing) }
}

/// What becomes of an event that is sent to a destination, as that is doing now.
fn fate(app: &App, name: &str) -> String {
    let running = app.engine.running();
    let Some(planned) = running.checked.destinations.iter().find(|d| d.name == name) else { return String::new() };
    if matches!(planned.kind, DestinationKind::Discard(_)) {
        return "is counted, and kept nowhere".to_owned();
    }
    let waiting = app.spool.waiting_for(name).amount.events;
    let behind = if waiting > 0 { format!(", behind {waiting} others") } else { String::new() };
    if queues::is_full(&app.spool, planned) {
        return match &planned.when_full {
            WhenFull::PushBack => "is not taken: it holds all it may, so its sources tell their senders to wait".to_owned(),
            WhenFull::DropOldest => "takes the place of the oldest that wait: it holds all it may".to_owned(),
            WhenFull::Spill(other) => format!("goes to {other} instead: it holds all it may"),
        };
    }
    if let Some(paused) = app.engine.paused(Side::Destination, name) {
        return format!("waits{behind}: {} has paused it", paused.who);
    }
    match app.engine.health(name) {
        Some(health) if health.state == Doing::Failing => {
            format!("waits{behind}, and is tried again: {}", health.last_error.as_deref().unwrap_or("it fails"))
        }
        Some(health) if health.state == Doing::Slow => format!("is delivered{behind}, though it answers slowly"),
        _ => format!("is delivered{behind}"),
    }
}

fn passage(passing: ListTrace) -> Passage {
    let effect = |effect| match effect {
        Effect::Nothing => "no change",
        Effect::Changed => "changed",
        Effect::Failed => "failed",
        Effect::Removed => "removed",
        Effect::Held => "held",
        Effect::NotReached => "not reached",
    };
    Passage { steps: passing.steps.into_iter().map(|(sentence, e)| PassageStep { sentence, effect: effect(e).to_owned() }).collect(), after: passing.after }
}
