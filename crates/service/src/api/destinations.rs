//! What an operator does to destinations: hold back, let go, send again, look whether they can be reached.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_grants::Need;
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_records::Side;
use rockrose_spool::{Became, Discard, Fate, Refused, Which};

use super::auth::Subject;
use super::extract::{Body, Part};
use super::plan::problem;
use super::spool_problem;
use super::types::{self, AnswersThen, Moved, PlanMistake, Probe, ProbeRequest, ProbeStep, ResendRequest, Resent, ResentEvent, ResentState};
use crate::apply::{Refusal, checked, settings_of};
use crate::caller::Caller;
use crate::resend::Failed;
use crate::{App, now_ms};

fn known(app: &App, name: &str) -> Result<(), Problem> {
    if app.engine.running().checked.destinations.iter().any(|d| d.name == name) {
        Ok(())
    } else {
        Err(Problem::not_found(format!("the plan has no destination `{name}`")))
    }
}

/// How a destination is doing.
pub(crate) fn condition(app: &App, name: &str) -> crate::PartCondition {
    let health = app.engine.health(name);
    let failing = health.as_ref().filter(|health| health.state == rockrose_delivery::State::Failing);
    let says = match (failing.and_then(|health| health.last_error.clone()), &health) {
        (Some(error), _) => error,
        (None, Some(health)) if health.last_success_ms.is_some() => "it takes what it is sent".to_owned(),
        (None, _) => "nothing was sent to it yet".to_owned(),
    };
    crate::PartCondition { part: format!("destination:{name}"), fine: failing.is_none(), says, remedy: String::new() }
}

/// What a destination said, for whoever may see all of its events: it may have said some of them.
pub(super) fn said(caller: &Caller, destination: &str, says: String) -> String {
    if caller.grants.sees_all(&Place::Destination(destination.to_owned())) { says } else { rockrose_delivery::without_words(&says).to_owned() }
}

/// Holds a destination's events back until it is resumed, over restarts and plans. What is on its way ends.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/pause", tag = "watch", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn pause(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    caller.must_operate(&Place::Destination(name.clone()))?;
    known(&app, &name)?;
    super::pause(&app, Side::Destination, &name, caller.name.clone()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Lets a paused destination's events go again.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/resume", tag = "watch", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn resume(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    caller.must_operate(&Place::Destination(name.clone()))?;
    if !super::resume(&app, Side::Destination, &name).await? {
        known(&app, &name)?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Lets go all that waits for a destination, for good. The ledger counts it as discarded.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/purge", tag = "watch", params(("name" = String, Path)),
    responses((status = 200, body = types::Moved), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn purge(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(name): Part<String>) -> Result<Json<Moved>, Problem> {
    caller.must_operate(&Place::Destination(name.clone()))?;
    // One that left the plan may still have events that wait.
    if !app.spool.waiting().contains_key(&name) {
        known(&app, &name)?;
    }
    let discard = Discard { destination: name.clone(), which: Which::All, at_ms: now_ms() };
    let gone = app.spool.discard(discard).await.map_err(|e| spool_problem(&e))?;
    tracing::warn!(destination = name, who = caller.name, events = gone.events, "queued events were discarded");
    Ok(Json(Moved { events: gone.events, bytes: gone.bytes }))
}

/// Looks whether a destination can be reached and takes a marked event, step by step.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/test", tag = "connect", params(("name" = String, Path)),
    responses((status = 200, body = types::Probe), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn test(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(name): Part<String>) -> Result<Json<Probe>, Problem> {
    caller.must_operate(&Place::Destination(name.clone()))?;
    known(&app, &name)?;
    let settings = app.engine.settings(&name).ok_or_else(|| Problem::unavailable("stopping", "its worker was stopped"))?;
    Ok(probed(rockrose_delivery::probe(&settings).await))
}

fn probed(steps: Vec<rockrose_delivery::ProbeStep>) -> Json<Probe> {
    let steps: Vec<ProbeStep> = steps.into_iter().map(|s| ProbeStep { step: s.step.to_owned(), good: s.good, ms: s.ms, says: s.says }).collect();
    Json(Probe { good: steps.iter().all(|s| s.good), steps })
}

/// Looks whether a destination of a plan that is not applied can be reached and takes a marked event, step by step. Whoever asks must be allowed to apply the plan. Nothing is applied.
#[utoipa::path(post, operation_id = "test_planned_destination", path = "/api/v1/plan/test-destination", tag = "connect", request_body = types::ProbeRequest,
    responses((status = 200, body = types::Probe), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn test_planned(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<ProbeRequest>,
) -> Result<(Extension<Subject>, Json<Probe>), Problem> {
    let ProbeRequest { text, destination } = request;
    caller.must_operate(&Place::Destination(destination.clone()))?;
    let plan = checked(&app, &text).await.map_err(|mistakes| problem(Refusal::Mistakes(mistakes)))?;
    if let Err(why) = caller.grants.change(&app.engine.running().checked, &plan) {
        return Err(Problem::not_granted(format!("{} may not make this change: {why}", caller.name)));
    }
    let settings = settings_of(&app, &plan, &destination).await.map_err(problem)?;
    let settings = settings.ok_or_else(|| Problem::not_found(format!("the plan has no destination `{destination}`")))?;
    Ok((Extension(Subject(destination)), probed(rockrose_delivery::probe(&settings).await)))
}

/// A destination's answers over the last day, in stretches of ten minutes in which there were any. They are remembered from the start of the service, and until the destination's settings change.
#[utoipa::path(get, operation_id = "destination_answers", path = "/api/v1/destinations/{name}/answers", tag = "watch", params(("name" = String, Path)),
    responses((status = 200, body = Vec<types::AnswersThen>), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn answers(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<Json<Vec<AnswersThen>>, Problem> {
    known(&app, &name)?;
    let day = app.engine.day(&name).unwrap_or_default();
    let then = |s: rockrose_delivery::AnswersThen| AnswersThen {
        at_ms: s.at_ms,
        good: s.good,
        bad: s.bad,
        mean_ms: s.sum_ms / (s.good + s.bad).max(1) as f64,
        longest_ms: s.longest_ms,
    };
    Ok(Json(day.into_iter().map(then).collect()))
}

/// Sends again what destinations refused for good: as their present steps make of the events as they stood before those steps. What a source could not read is none of it.
#[utoipa::path(post, path = "/api/v1/quarantine/resend", tag = "watch", request_body = types::ResendRequest,
    responses((status = 200, body = types::Resent), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn resend(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<ResendRequest>,
) -> Result<(Extension<Subject>, Json<Resent>), Problem> {
    match &request.destination {
        Some(name) => caller.must_operate(&Place::Destination(name.clone()))?,
        None if caller.grants.operates_everywhere() => {}
        None => return Err(Problem::not_granted(format!("{} may operate only some destinations; name one of them", caller.name))),
    }
    if !request.steps.is_empty() {
        // How many events a step removes says what stands in them.
        caller.must(&[Need::SeeAll])?;
    }
    let subject = Subject(request.destination.clone().unwrap_or_else(|| "all destinations".to_owned()));
    let which = Refused { destination: request.destination, ids: request.ids, ..Refused::default() };
    let bad = |detail: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-steps", "The steps cannot be run", detail);
    let sent = crate::resend::resend(&app, which, &request.steps).await.map_err(|failed| match failed {
        Failed::Steps(mistakes) => {
            let listed: Vec<PlanMistake> = mistakes.into_iter().map(types::mistake).collect();
            bad("there is a mistake in them".to_owned()).with("mistakes", serde_json::to_value(&listed).unwrap_or_default())
        }
        Failed::DoneOnce(sentence) => bad(format!("`{sentence}` is done to each event once, on its first way")),
        Failed::Spool(e) => spool_problem(&e),
        Failed::Work => Problem::internal("the steps could not be run"),
    })?;
    Ok((Extension(subject), Json(Resent { run: sent.run, events: sent.queued.events, bytes: sent.queued.bytes, removed: sent.removed, left: sent.left })))
}

/// What became of the events that one request sent again, by the numbers that they had in quarantine. Empty if there is no such request, or it is forgotten.
#[utoipa::path(get, path = "/api/v1/quarantine/resent/{run}", tag = "watch", params(("run" = i64, Path)),
    responses((status = 200, body = Vec<types::ResentEvent>), (status = 401, body = types::Problem)))]
pub(crate) async fn resent(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(run): Part<i64>,
) -> Result<Json<Vec<ResentEvent>>, Problem> {
    let fates = app.spool.fates(run).await.map_err(|e| spool_problem(&e))?;
    let state = |became: Became| match became {
        Became::Waiting => ResentState::Waiting,
        Became::Delivered => ResentState::Delivered,
        Became::Refused => ResentState::Refused,
        Became::Removed => ResentState::Removed,
        Became::Discarded => ResentState::Discarded,
        Became::Unclear => ResentState::Unclear,
    };
    let event = |f: Fate| {
        let detail = said(&caller, &f.destination, f.detail);
        ResentEvent { id: f.id, destination: f.destination, state: state(f.became), detail, again: f.again }
    };
    let theirs = fates.into_iter().filter(|f| caller.grants.operates(&Place::Destination(f.destination.clone())));
    Ok(Json(theirs.map(event).collect()))
}
