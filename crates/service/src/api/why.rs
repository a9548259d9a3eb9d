//! Why an event goes where it goes, by the plan that runs.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use rockrose_core::engine::{self, Effect, Passing};
use rockrose_intake::Problem;

use super::extract::Body;
use super::types::{self, Decision, Passage, PassageStep, RouteDecision, Seen, SentTo, Why, WhyRequest};
use crate::{App, now_ms};

/// What the running plan would do with an event that comes at a source. Nothing is sent, counted or remembered.
#[utoipa::path(post, path = "/api/v1/why", tag = "watch", request_body = types::WhyRequest,
    responses((status = 200, body = types::Why), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn why(State(app): State<Arc<App>>, Body(request): Body<WhyRequest>) -> Result<Json<Why>, Problem> {
    let running = app.engine.running();
    let key = app.engine.key();
    let asked = request.source.clone();
    let found =
        tokio::task::spawn_blocking(move || engine::why(&running.checked, key, &running.surroundings, &request.source, request.event.as_bytes(), now_ms()));
    let found = found.await.map_err(|_| Problem::internal("the event could not be looked at"))?;
    let why = found.ok_or_else(|| Problem::not_found(format!("the plan has no source `{asked}`")))?;
    Ok(Json(Why {
        source: asked,
        unreadable: why.unreadable,
        arrival: passage(why.arrival),
        remainder: why.remainder,
        routes: why.routes.into_iter().map(route).collect(),
    }))
}

fn route(route: engine::RouteWhy) -> RouteDecision {
    let part =
        |p: engine::Part| Decision { sentence: p.sentence, holds: p.holds, seen: p.seen.into_iter().map(|(field, value)| Seen { field, value }).collect() };
    RouteDecision {
        name: route.name,
        taken: route.taken,
        because: route.because.map(str::to_owned),
        parts: route.parts.into_iter().map(part).collect(),
        passage: passage(route.passing),
        destinations: route.destinations.into_iter().map(|(name, passing)| SentTo { name, sent: passing.after.is_some(), passage: passage(passing) }).collect(),
    }
}

fn passage(passing: Passing) -> Passage {
    let effect = |effect| match effect {
        Effect::Nothing => "nothing",
        Effect::Changed => "changed",
        Effect::Failed => "failed",
        Effect::Removed => "removed",
        Effect::Held => "held",
        Effect::NotReached => "not reached",
    };
    Passage { steps: passing.steps.into_iter().map(|(sentence, e)| PassageStep { sentence, effect: effect(e).to_owned() }).collect(), after: passing.after }
}
