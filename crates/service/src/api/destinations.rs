//! What an operator does to destinations: hold back, let go, send again, look whether they can be reached.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_intake::Problem;
use rockrose_records::Side;
use rockrose_spool::{Discard, Resend, Which};

use super::auth::Identity;
use super::extract::{Body, Part};
use super::spool_problem;
use super::types::{self, Moved, Probe, ProbeStep, ResendRequest};
use crate::{App, now_ms};

fn known(app: &App, name: &str) -> Result<(), Problem> {
    if app.engine.running().checked.destinations.iter().any(|d| d.name == name) {
        Ok(())
    } else {
        Err(Problem::not_found(format!("the plan has no destination `{name}`")))
    }
}

/// Holds a destination's events back until it is resumed, over restarts and plans. What is on its way ends.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/pause", tag = "watch", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn pause(State(app): State<Arc<App>>, Extension(who): Extension<Identity>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    known(&app, &name)?;
    super::pause(&app, Side::Destination, &name, who.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Lets a paused destination's events go again.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/resume", tag = "watch", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn resume(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    if !super::resume(&app, Side::Destination, &name).await? {
        known(&app, &name)?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Lets go all that waits for a destination, for good. The ledger counts it as discarded.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/purge", tag = "watch", params(("name" = String, Path)),
    responses((status = 200, body = types::Moved), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn purge(State(app): State<Arc<App>>, Extension(who): Extension<Identity>, Part(name): Part<String>) -> Result<Json<Moved>, Problem> {
    // One that left the plan may still have events that wait.
    if !app.spool.waiting().contains_key(&name) {
        known(&app, &name)?;
    }
    let discard = Discard { destination: name.clone(), which: Which::All, at_ms: now_ms() };
    let gone = app.spool.discard(discard).await.map_err(|e| spool_problem(&e))?;
    tracing::warn!(destination = name, who = who.0, events = gone.events, "what waited was let go");
    Ok(Json(Moved { events: gone.events, bytes: gone.bytes }))
}

/// Looks whether a destination can be reached and takes a marked event, step by step.
#[utoipa::path(post, path = "/api/v1/destinations/{name}/test", tag = "connect", params(("name" = String, Path)),
    responses((status = 200, body = types::Probe), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn test(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<Json<Probe>, Problem> {
    known(&app, &name)?;
    let settings = app.engine.settings(&name).ok_or_else(|| Problem::unavailable("stopping", "its worker was stopped"))?;
    let steps: Vec<ProbeStep> =
        rockrose_delivery::probe(&settings).await.into_iter().map(|s| ProbeStep { step: s.step.to_owned(), good: s.good, ms: s.ms, says: s.says }).collect();
    Ok(Json(Probe { good: steps.iter().all(|s| s.good), steps }))
}

/// Queues again what destinations refused for good. What a source could not read is none of it.
#[utoipa::path(post, path = "/api/v1/quarantine/resend", tag = "watch", request_body = types::ResendRequest,
    responses((status = 200, body = types::Moved), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn resend(State(app): State<Arc<App>>, Body(request): Body<ResendRequest>) -> Result<Json<Moved>, Problem> {
    let resend = Resend { destination: request.destination, ids: request.ids, at_ms: now_ms() };
    let back = app.spool.resend(resend).await.map_err(|e| spool_problem(&e))?;
    Ok(Json(Moved { events: back.events, bytes: back.bytes }))
}
