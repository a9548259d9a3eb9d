//! Why an event goes where it goes, by the active plan.

use std::sync::Arc;

use axum::extract::State;
use axum::{Extension, Json};
use rockrose_delivery::State as Doing;
use rockrose_engine::{Effect, ListTrace};
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_ledger::Stage;
use rockrose_plan::{CheckedPlan, DestinationKind, WhenFull};
use rockrose_records::Side;
use rockrose_spool::Refused;

use super::auth::Subject;
use super::destinations::said;
use super::extract::{Body, Part};
use super::ledger::{place, quarantine_entry};
use super::spool_problem;
use super::types::{self, Decision, Passage, PassageStep, QuarantineWhy, RouteDecision, Seen, SentTo, Why, WhyRequest};
use crate::caller::Caller;
use crate::{App, now_ms, queues};

/// What the running plan would do with an event that comes at a source. Nothing is sent, counted or remembered.
#[utoipa::path(post, path = "/api/v1/why", tag = "watch", request_body = types::WhyRequest,
    responses((status = 200, body = types::Why), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn why(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<WhyRequest>,
) -> Result<(Extension<Subject>, Json<Why>), Problem> {
    let place = Place::Source(request.source.clone());
    let subject = Subject(place.to_string());
    // An event that they would not see is not explained to them, and one that they would see redacted is explained so: else hashes and tables could be asked through it.
    let mut eye = caller.open_eye(&app, &place)?;
    let event = eye.shows(request.event.trim().as_bytes(), now_ms()).map(std::borrow::Cow::into_owned);
    let event = event.ok_or_else(|| Problem::not_granted(format!("{} may not see such an event at `{place}`", caller.name)))?;
    Ok((Extension(subject), Json(at_source(&app, &caller, request.source, event).await?)))
}

/// Why a record is in quarantine, and what the active plan would do with it now. Nothing is sent, counted or remembered.
#[utoipa::path(get, operation_id = "why_quarantined", path = "/api/v1/quarantine/{id}/why", tag = "watch", params(("id" = i64, Path)),
    responses((status = 200, body = types::QuarantineWhy), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn why_quarantined(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(id): Part<i64>,
) -> Result<Json<QuarantineWhy>, Problem> {
    let found = app.spool.quarantined_one(id).await.map_err(|e| spool_problem(&e))?;
    // Whoever may not see a record is not told that it is there.
    let none = || Problem::not_found(format!("quarantine has no record {id}"));
    let found = found.ok_or_else(none)?;
    let (stage, name, via, data) = (found.stage, found.name.clone(), found.via.clone(), found.data.clone());
    let mut eye = caller.eye(&app, &place(&found));
    let record = quarantine_entry(&mut eye, found).ok_or_else(none)?;
    let mut answer = QuarantineWhy { record, at_source: None, earlier: None, at_destination: None };
    if stage == Stage::Source {
        // One that came at a source which the plan has no more is shown as it is.
        answer.at_source = at_source(&app, &caller, name, data).await.ok();
        return Ok(Json(answer));
    }
    let refused = app.spool.refused(Refused { ids: Some(vec![id]), ..Refused::default() }, 1, usize::MAX).await.map_err(|e| spool_problem(&e))?;
    let earlier = refused.into_iter().next().and_then(|event| Some(eye.shows(&event.earlier, now_ms())?.into_owned()));
    if let Some(earlier) = earlier {
        answer.earlier = Some(String::from_utf8_lossy(&earlier).into_owned());
        let running = app.engine.running();
        if let Some(anew) = running.checked.anew(&name, &via, &[]) {
            let why = look(&app, anew, None, earlier).await?;
            let destination = why.and_then(|why| why.routes.into_iter().next()?.destinations.into_iter().next());
            answer.at_destination = destination.map(|(name, passing)| sent_to(&app, &caller, name, passing));
        }
    }
    Ok(Json(answer))
}

/// What `plan` would do with an event that comes at `source`, or at its only one.
async fn look(app: &App, plan: CheckedPlan, source: Option<String>, event: Vec<u8>) -> Result<Option<rockrose_engine::Why>, Problem> {
    let (key, environment) = (app.engine.key(), app.engine.running().environment.clone());
    let found = tokio::task::spawn_blocking(move || {
        let source = source.or_else(|| plan.sources.first().map(|s| s.name.clone()))?;
        rockrose_engine::why(&plan, key, &environment, &source, &event, now_ms())
    });
    found.await.map_err(|_| Problem::internal("the event could not be examined"))
}

async fn at_source(app: &App, caller: &Caller, source: String, event: Vec<u8>) -> Result<Why, Problem> {
    let found = look(app, app.engine.running().checked.clone(), Some(source.clone()), event).await?;
    let why = found.ok_or_else(|| Problem::not_found(format!("the plan has no source `{source}`")))?;
    Ok(Why {
        source,
        unreadable: why.unreadable,
        arrival: passage(why.arrival),
        remainder: why.remainder,
        routes: why.routes.into_iter().map(|r| route(app, caller, r)).collect(),
    })
}

pub(super) fn decision(part: rockrose_engine::Part) -> Decision {
    let seen = part.seen.into_iter().map(|(field, value)| Seen { field, value });
    Decision { sentence: part.sentence, holds: part.holds, seen: seen.collect() }
}

fn route(app: &App, caller: &Caller, route: rockrose_engine::RouteWhy) -> RouteDecision {
    RouteDecision {
        name: route.name,
        taken: route.taken,
        because: route.because.map(str::to_owned),
        parts: route.parts.into_iter().map(decision).collect(),
        passage: passage(route.passing),
        destinations: route.destinations.into_iter().map(|(name, passing)| sent_to(app, caller, name, passing)).collect(),
    }
}

fn sent_to(app: &App, caller: &Caller, name: String, passing: ListTrace) -> SentTo {
    let sent = passing.after.is_some();
    SentTo { fate: sent.then(|| fate(app, caller, &name)), name, sent, passage: passage(passing) }
}

/// What becomes of an event that is sent to a destination, as that is doing now.
fn fate(app: &App, caller: &Caller, name: &str) -> String {
    let running = app.engine.running();
    let Some(planned) = running.checked.destinations.iter().find(|d| d.name == name) else { return String::new() };
    if matches!(planned.kind, DestinationKind::Discard(_)) {
        return "is counted, and kept nowhere".to_owned();
    }
    let waiting = app.spool.waiting_for(name).amount.events;
    let behind = if waiting > 0 { format!(", behind {waiting} others") } else { String::new() };
    if queues::is_full(&app.spool, planned) {
        return match &planned.when_full {
            WhenFull::PushBack => "is not accepted: its queue is at its limit, so its sources tell their senders to wait".to_owned(),
            WhenFull::DropOldest => "replaces the oldest queued events: its queue is at its limit".to_owned(),
            WhenFull::Spill(other) => format!("goes to {other} instead: its queue is at its limit"),
        };
    }
    if let Some(paused) = app.engine.paused(Side::Destination, name) {
        return format!("waits{behind}: {} paused it", paused.who);
    }
    match app.engine.health(name) {
        Some(health) if health.state == Doing::Failing => {
            let why = health.last_error.map_or_else(|| "it fails".to_owned(), |why| said(caller, name, why));
            format!("waits{behind}, and is tried again: {why}")
        }
        Some(health) if health.state == Doing::Slow => format!("is delivered{behind}, though it responds slowly"),
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
