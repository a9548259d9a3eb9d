//! Suggestions for the active plan.

use std::collections::HashSet;
use std::sync::Arc;

use axum::extract::State;
use axum::{Extension, Json};
use rockrose_engine::trial::{self, Given, Real, Samples, Side};
use rockrose_engine::{Matcher, MatcherScratch};
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_ledger::Amount;
use rockrose_suggest::Material;
use serde::Deserialize;
use utoipa::IntoParams;

use super::extract::{Asked, Part};
use super::trial::real_problem;
use super::types::{self, Declined, Suggestion, SuggestionsAnswer};
use super::{place, records_problem};
use crate::apply::aside;
use crate::caller::Caller;
use crate::trial::{a_month, as_given, real, snapshot};
use crate::{App, now_ms};

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct SuggestQuery {
    /// `source:NAME` (only by the events of its sample), `route:NAME` or `destination:NAME` (only for it).
    point: Option<String>,
    /// Only by events that meet this condition.
    when: Option<String>,
}

/// Steps that would save something, or keep personal data from leaving, each with what it would do by a trial on the samples. Nothing is changed.
#[utoipa::path(get, operation_id = "suggestions", path = "/api/v1/suggestions", tag = "understand", params(SuggestQuery),
    responses((status = 200, body = types::SuggestionsAnswer), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn suggestions(State(app): State<Arc<App>>, Asked(query): Asked<SuggestQuery>) -> Result<Json<SuggestionsAnswer>, Problem> {
    let point = query.point.as_deref().map(place).transpose()?;
    let condition = query.when.as_deref().map(super::tail::condition).transpose()?.flatten();
    let snapshot = snapshot(&app).await;
    let basis = real(&app, snapshot.running.revision, snapshot.at_ms).await.map_err(|e| real_problem(&e))?;
    let declined: HashSet<String> = app.records(|r| r.declined()).await.map_err(|e| records_problem(&e))?.into_iter().collect();
    let key = app.engine.key();
    let answer = aside(&app, move || {
        let running = &snapshot.running;
        let mut matcher = condition.map(|condition| (Matcher::new(&condition), MatcherScratch::default()));
        let mut is_asked = |given: &Given<'_>| {
            let here = !matches!(&point, Some(Place::Source(name)) if name != given.source);
            here && matcher.as_mut().is_none_or(|(matcher, scratch)| matcher.meets_next(given.event, given.at_ms, scratch))
        };
        let (mut some, mut stretch) = (as_given(&snapshot.held.some), as_given(&snapshot.held.stretch));
        some.retain(&mut is_asked);
        stretch.retain(&mut is_asked);
        let plan = trial::behind_arrival(&running.checked);
        let (real, of_ms) = basis.map_or_else(|| (Real::default(), None), |(real, of_ms)| (real, Some(of_ms)));
        let nothing = HashSet::new();
        let side = Side { plan: &plan, environment: &running.environment };
        let material = Material { plan: side, key: &key, samples: Samples { some: &some, stretch: &stretch }, real: &real, declined: &nothing };
        let mut found = rockrose_suggest::suggest(&material);
        if let Some(at @ (Place::Route(_) | Place::Destination(_))) = &point {
            found.retain(|suggestion| suggestion.part == at.to_string());
        }
        let all = found.len();
        found.retain(|suggestion| !declined.contains(&suggestion.id));
        let month = |amount: Amount| of_ms.map_or(amount, |of_ms| a_month(amount, of_ms));
        let price = |name: &str| plan.destinations.iter().find(|d| d.name == name)?.price.as_ref();
        let declined = all - found.len();
        let suggestions = found.iter().map(|suggestion| Suggestion::new(suggestion, month, price)).collect();
        SuggestionsAnswer { revision: running.revision, events: some.len() as u64, estimated_from_ms: of_ms, suggestions, declined }
    });
    Ok(Json(answer.await))
}

/// Declines a suggestion: it is not made again.
#[utoipa::path(post, operation_id = "decline_suggestion", path = "/api/v1/suggestions/{id}/decline", tag = "understand", params(("id" = String, Path)),
    responses((status = 200, body = types::Declined), (status = 401, body = types::Problem)))]
pub(crate) async fn decline(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(id): Part<String>) -> Result<Json<Declined>, Problem> {
    let (kept, who) = (id.clone(), caller.name.clone());
    app.records(move |r| r.decline(&kept, &who, now_ms())).await.map_err(|e| records_problem(&e))?;
    Ok(Json(Declined { id, declined: true }))
}

/// Makes a suggestion again that was declined.
#[utoipa::path(delete, operation_id = "take_back_decline", path = "/api/v1/suggestions/{id}/decline", tag = "understand", params(("id" = String, Path)),
    responses((status = 200, body = types::Declined), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn take_back(State(app): State<Arc<App>>, Part(id): Part<String>) -> Result<Json<Declined>, Problem> {
    let kept = id.clone();
    let was = app.records(move |r| r.take_back_decline(&kept)).await.map_err(|e| records_problem(&e))?;
    if was { Ok(Json(Declined { id, declined: false })) } else { Err(Problem::not_found(format!("no suggestion `{id}` was declined"))) }
}
