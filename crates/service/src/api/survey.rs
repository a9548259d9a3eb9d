//! What is in the streams: samples, their fields and the patterns of their messages.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_engine::{Matcher, MatcherScratch};
use rockrose_intake::Problem;
use rockrose_language::{Condition, Place};
use rockrose_survey::{BUDGET, Survey};
use serde::Deserialize;
use serde_json::value::RawValue;
use utoipa::IntoParams;

use super::auth::Subject;
use super::extract::Asked;
use super::types::{self, FieldsAnswer, PatternsAnswer, SampleAnswer, SampledEvent};
use crate::caller::Caller;
use crate::{App, now_ms};

/// Most events of a sample in one answer.
const MOST_EVENTS: usize = 1_000;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct SampleQuery {
    /// `source:NAME` (as its events leave its own steps), `route:NAME` (as it takes them) or `remainder`.
    point: String,
    /// Only events that meet this condition.
    when: Option<String>,
    /// Of a route: its events as they leave its steps, without those that it removes. Steps that merge, join, limit or hold back are passed over, because a sample has gaps.
    #[serde(default)]
    leaving: bool,
    /// Most events to answer with, the newest; 100 if left out, at most 1000.
    most: Option<usize>,
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct FieldsQuery {
    /// `source:NAME` (as its events leave its own steps), `route:NAME` (as it takes them) or `remainder`.
    point: String,
    /// Only events that meet this condition.
    when: Option<String>,
    /// Of a route: its events as they leave its steps, without those that it removes. Steps that merge, join, limit or hold back are passed over, because a sample has gaps.
    #[serde(default)]
    leaving: bool,
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct PatternsQuery {
    /// `source:NAME` (as its events leave its own steps), `route:NAME` (as it takes them) or `remainder`.
    point: String,
    /// Only events that meet this condition.
    when: Option<String>,
    /// Of a route: its events as they leave its steps, without those that it removes. Steps that merge, join, limit or hold back are passed over, because a sample has gaps.
    #[serde(default)]
    leaving: bool,
    /// The field whose text is looked at; the message if left out.
    field: Option<String>,
    /// Say of each pattern whether it came up in the last so many minutes, or came no more.
    minutes: Option<i64>,
}

/// What is looked at.
pub(super) struct Looked<'a> {
    /// `source:NAME`, `route:NAME` or `remainder`.
    pub(super) point: &'a str,
    /// Only events that meet this condition.
    pub(super) when: Option<&'a str>,
    /// As they leave a route's steps, and not as it takes them.
    pub(super) leaving: bool,
}

/// Queries that say what is looked at.
macro_rules! looked {
    ($($query:ty),*) => {
        $(impl $query {
            fn looked(&self) -> Looked<'_> {
                Looked { point: &self.point, when: self.when.as_deref(), leaving: self.leaving }
            }
        })*
    };
}

looked!(SampleQuery, FieldsQuery, PatternsQuery);

/// An event of a sample, as somebody may see it.
pub(super) struct Seen {
    source: String,
    pub(super) at_ms: i64,
    pub(super) times: u64,
    pub(super) event: String,
}

/// The events of a sample as they may be seen.
pub(super) async fn seen(app: &Arc<App>, caller: &Arc<Caller>, looked: &Looked<'_>) -> Result<(Place, Vec<Seen>), Problem> {
    let &Looked { point, when, leaving } = looked;
    let place = super::place(point)?;
    let mut eye = caller.open_eye(app, &place)?;
    let condition: Option<Condition> = when.map(super::tail::condition).transpose()?.flatten();
    let running = app.engine.running();
    let is_there = match &place {
        Place::Source(name) => running.compiled.source(name).is_some(),
        Place::Route(name) => running.compiled.route(name).is_some(),
        Place::Remainder => true,
        Place::Destination(_) => {
            let detail = "samples are kept of sources, routes and the remainder";
            return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-point", "No sample", detail));
        }
    };
    if !is_there {
        return Err(Problem::not_found(format!("the running plan has no {}", point.replacen(':', " ", 1))));
    }
    let (app, at) = (Arc::clone(app), place.clone());
    let looked = tokio::task::spawn_blocking(move || {
        let now = now_ms();
        let found = app.samples.at(&at, leaving, &running.checked, app.engine.key(), &running.environment, now)?;
        let mut matcher = condition.map(|condition| (Matcher::new(&condition), MatcherScratch::default()));
        let shown = found.into_iter().filter_map(|(source, sampled)| {
            // What is asked for is asked of what is seen.
            let event = eye.shows_event(&sampled.event, sampled.at_ms)?;
            let meets = matcher.as_mut().is_none_or(|(matcher, scratch)| matcher.meets_next(event.as_bytes(), sampled.at_ms, scratch));
            meets.then(|| Seen { source, at_ms: sampled.at_ms, times: sampled.times, event: event.into_owned() })
        });
        Some(shown.collect::<Vec<_>>())
    });
    let looked = looked.await.map_err(|_| Problem::internal("the sample could not be looked at"))?;
    looked.map(|seen| (place, seen)).ok_or_else(|| Problem::not_found("there is no sample of this"))
}

/// The events of a sample, surveyed.
async fn surveyed(app: &Arc<App>, caller: &Arc<Caller>, looked: &Looked<'_>, field: Option<String>) -> Result<(Place, Survey), Problem> {
    let (place, seen) = seen(app, caller, looked).await?;
    let survey = tokio::task::spawn_blocking(move || {
        let mut survey = Survey::new(BUDGET, field.as_deref());
        for one in seen {
            let from = survey.miner.origin(&format!("source:{}", one.source));
            survey.add(one.event.as_bytes(), one.times, one.at_ms, from);
        }
        survey
    });
    survey.await.map(|survey| (place, survey)).map_err(|_| Problem::internal("the sample could not be looked at"))
}

/// Events of a sample, the newest first, each with the number of events for which it stands.
///
/// Of each source some events are kept, the recent ones more densely, and those of rare kinds longest.
#[utoipa::path(get, path = "/api/v1/sample", tag = "understand", params(SampleQuery),
    responses((status = 200, body = types::SampleAnswer), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn sample(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Asked(query): Asked<SampleQuery>,
) -> Result<(Extension<Subject>, Json<SampleAnswer>), Problem> {
    let (place, seen) = seen(&app, &caller, &query.looked()).await?;
    let (kept, stands_for) = (seen.len(), seen.iter().map(|s| s.times).sum());
    let most = query.most.unwrap_or(100).clamp(1, MOST_EVENTS);
    let mut newest: Vec<Seen> = seen;
    newest.sort_by_key(|s| std::cmp::Reverse(s.at_ms));
    let event = |s: Seen| Some(SampledEvent { at_ms: s.at_ms, source: s.source, stands_for: s.times, event: RawValue::from_string(s.event).ok()? });
    let events = newest.into_iter().take(most).filter_map(event).collect();
    Ok((Extension(Subject(place.to_string())), Json(SampleAnswer { kept, stands_for, events })))
}

/// What the fields of a sample's events hold, of those events that whoever asks may see.
#[utoipa::path(get, path = "/api/v1/fields", tag = "understand", params(FieldsQuery),
    responses((status = 200, body = types::FieldsAnswer), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn fields(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Asked(query): Asked<FieldsQuery>,
) -> Result<(Extension<Subject>, Json<FieldsAnswer>), Problem> {
    let (place, survey) = surveyed(&app, &caller, &query.looked(), None).await?;
    Ok((Extension(Subject(place.to_string())), Json(FieldsAnswer::from(&survey.fields).read_by(&app.engine.running().checked))))
}

/// The patterns of the messages of a sample, of those events that whoever asks may see, with sentences that read, find and cut them.
#[utoipa::path(get, path = "/api/v1/patterns", tag = "understand", params(PatternsQuery),
    responses((status = 200, body = types::PatternsAnswer), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn patterns(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Asked(query): Asked<PatternsQuery>,
) -> Result<(Extension<Subject>, Json<PatternsAnswer>), Problem> {
    let field = query.field.clone().unwrap_or_else(|| "message".to_owned());
    let (place, survey) = surveyed(&app, &caller, &query.looked(), Some(field.clone())).await?;
    let mut answer = PatternsAnswer::new(&survey.miner, &field);
    if let Some(minutes) = query.minutes {
        answer.notice(now_ms(), minutes.max(1));
    }
    Ok((Extension(Subject(place.to_string())), Json(answer)))
}
