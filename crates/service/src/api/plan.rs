//! The plan: what runs, what would change, the history, applying and going back.

use std::path::PathBuf;
use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_agents::First;
use rockrose_engine::Environment;
use rockrose_grants::Need;
use rockrose_intake::Problem;
use rockrose_plan::{Change, CheckedPlan, Files, changes, first_plan};
use rockrose_records::Revision;
use serde::Deserialize;
use similar::{ChangeTag, TextDiff};
use utoipa::IntoParams;

use super::auth::Subject;
use super::extract::{Asked, Body, Part};
use super::trial::real_problem;
use super::types::{
    Applied, ApplyRequest, CheckAnswer, CheckRequest, FirstPlan, Forecast, PlanChange, PlanMistake, RevertRequest, RevisionDetail, RevisionEntry, RunningPlan,
};
use super::{records_problem, types};
use crate::App;
use crate::agents::StageAsked;
use crate::apply::{Refusal, apply as exchange, apply_first, aside, checked, environment_of, failing_examples, missing_secrets, out_of_reach};
use crate::caller::Caller;
use crate::trial::{outcome, snapshot};

/// Most revisions in one answer.
const MAX_REVISIONS: i64 = 500;

pub(super) fn difference(old: &str, new: &str) -> String {
    TextDiff::from_lines(old, new).unified_diff().context_radius(2).to_string()
}

pub(super) fn problem(refusal: Refusal) -> Problem {
    match refusal {
        Refusal::Mistakes(mistakes) => {
            let listed: Vec<PlanMistake> = mistakes.into_iter().map(types::mistake).collect();
            let detail = if listed.len() == 1 { "there is 1 mistake in it".to_owned() } else { format!("there are {} mistakes in it", listed.len()) };
            let listed = serde_json::to_value(&listed).unwrap_or_default();
            Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-plan", "The plan cannot be applied", detail).with("mistakes", listed)
        }
        Refusal::Secrets(names) => {
            let detail = format!("it refers to secrets that are not set: {}; set each with `rockrose secret set NAME`", names.join(", "));
            Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "missing-secrets", "The plan cannot be applied", detail).with("missing_secrets", names)
        }
        Refusal::Listen { .. } => Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "cannot-listen", "The plan cannot be applied", refusal.to_string()),
        Refusal::Table { .. } => Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "table-unreadable", "The plan cannot be applied", refusal.to_string()),
        Refusal::OutOfReach(_) => Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "out-of-reach", "The plan cannot be applied", refusal.to_string()),
        Refusal::NoFirst(_) => Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "no-first-hosts", "The plan cannot be applied", refusal.to_string()),
        Refusal::NotGranted { .. } => Problem::not_granted(refusal.to_string()),
        Refusal::Records(e) => records_problem(&e),
    }
}

/// The active plan.
#[utoipa::path(get, path = "/api/v1/plan", tag = "plan", responses((status = 200, body = types::RunningPlan), (status = 401, body = types::Problem)))]
pub(crate) async fn running(State(app): State<Arc<App>>) -> Json<RunningPlan> {
    let running = app.engine.running();
    Json(RunningPlan { revision: running.revision, text: running.checked.text.clone() })
}

/// What a first plan is to begin with.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct FirstQuery {
    /// Kinds of sources, separated by commas. `http` if left out.
    from: Option<String>,
    /// Kinds of destinations, separated by commas. `file` if left out.
    to: Option<String>,
}

/// A commented plan to start from, with a source and a destination of each kind that is asked for. Nothing is changed.
#[utoipa::path(get, operation_id = "first_plan", path = "/api/v1/plan/first", tag = "plan", params(FirstQuery),
    responses((status = 200, body = types::FirstPlan), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn first(Asked(query): Asked<FirstQuery>) -> Result<Json<FirstPlan>, Problem> {
    let (from, to) = (query.from.unwrap_or_else(|| "http".to_owned()), query.to.unwrap_or_else(|| "file".to_owned()));
    let words = |list: &'_ str| list.split(',').map(|word| word.trim().to_owned()).filter(|word| !word.is_empty()).collect::<Vec<_>>();
    let (from, to) = (words(&from), words(&to));
    let text = first_plan(&from.iter().map(String::as_str).collect::<Vec<_>>(), &to.iter().map(String::as_str).collect::<Vec<_>>());
    let text = text.map_err(|e| Problem::new(StatusCode::BAD_REQUEST, "unknown-kind", "There is no such kind", e.to_string()))?;
    Ok(Json(FirstPlan { text }))
}

/// The files that a source would read though this service writes them: its log, and the files of the plan's destinations.
fn own_files(plan: &CheckedPlan, files: &Files) -> Vec<PathBuf> {
    let written = plan.destinations.iter().filter_map(|d| d.kind.file()).map(rockrose_delivery::real_path);
    written.chain(rockrose_intake::own_logs()).filter(|path| rockrose_intake::would_read(&files.paths, &files.exclude, path)).collect()
}

/// Says what is wrong with a plan, and what would change if it were applied. Nothing is changed.
#[utoipa::path(post, path = "/api/v1/plan/check", tag = "plan", request_body = types::CheckRequest, responses((status = 200, body = types::CheckAnswer), (status = 401, body = types::Problem)))]
pub(crate) async fn check(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<CheckRequest>,
) -> Result<Json<CheckAnswer>, Problem> {
    let running = app.engine.running();
    let (before, after) = (Arc::clone(&running), request.text.clone());
    let difference = aside(&app, move || difference(&before.checked.text, &after)).await;
    let mut answer = CheckAnswer {
        good: false,
        mistakes: Vec::new(),
        warnings: Vec::new(),
        missing_secrets: Vec::new(),
        refused: Vec::new(),
        revision: running.revision,
        changes: Vec::new(),
        difference,
        hosts: Vec::new(),
        forecast: None,
    };
    match checked(&app, &request.text).await {
        Err(mistakes) => answer.mistakes = mistakes.into_iter().map(types::mistake).collect(),
        Ok(plan) => {
            answer.missing_secrets = missing_secrets(&app, &plan).await.map_err(|e| records_problem(&e))?;
            let change = |c: Change| PlanChange { part: c.part.to_owned(), name: c.name, change: c.change.to_owned(), details: c.details };
            answer.changes = changes(&running.checked, &plan).into_iter().map(change).collect();
            let feeding = plan.feeding_on_itself(|files| own_files(&plan, files));
            answer.refused = out_of_reach(&app, &plan).await.map_err(|e| records_problem(&e))?;
            if let Err(why) = caller.grants.change(&running.checked, &plan) {
                answer.refused.push(format!("{} may not make this change: {why}", caller.name));
            }
            answer.good = answer.missing_secrets.is_empty() && answer.refused.is_empty();
            answer.warnings = plan.warnings.iter().cloned().chain(feeding).map(types::mistake).collect();
            if answer.good
                // A table that cannot be read is told when the plan is applied.
                && let Ok(environment) = environment_of(&app, &running, &plan).await
            {
                let failing = failing_examples(&app, &plan, &environment).await.into_iter().chain(app.agents.contradictions(&plan));
                answer.mistakes = failing.map(types::mistake).collect();
                answer.good = answer.mistakes.is_empty();
                if answer.good {
                    answer.hosts = app.agents.changes(&running, &plan);
                    answer.forecast = forecast(&app, &caller, plan, environment).await?;
                }
            }
        }
    }
    Ok(Json(answer))
}

/// What is predicted of a plan, for those who see all events.
async fn forecast(app: &Arc<App>, caller: &Caller, plan: CheckedPlan, environment: Environment) -> Result<Option<Forecast>, Problem> {
    if !caller.grants.allow(Need::SeeAll) {
        return Ok(None);
    }
    crate::trial::forecast(app, snapshot(app).await, plan, environment).await.map_err(|e| real_problem(&e))
}

/// Applies a plan: it becomes the next revision and runs at once.
#[utoipa::path(post, path = "/api/v1/revisions", tag = "plan", request_body = types::ApplyRequest,
    responses((status = 200, body = types::Applied), (status = 401, body = types::Problem), (status = 409, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn apply(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<ApplyRequest>,
) -> Result<(Extension<Subject>, Json<Applied>), Problem> {
    let first = request.first.as_ref().map(first_asked).transpose()?;
    let revision = apply_first(&app, &request.text, (&*caller).into(), &request.why, request.expected_revision, first).await.map_err(problem)?;
    Ok((Extension(Subject(format!("revision {revision}"))), Json(Applied { revision })))
}

/// Longest time for which the first hosts have to be well: a week.
const LONGEST_STAGE_S: i64 = 7 * 86_400;

pub(super) fn first_asked(asked: &types::FirstHosts) -> Result<StageAsked, Problem> {
    let bad = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "bad-first-hosts", "It is not said which hosts are first", detail);
    if !(0..=LONGEST_STAGE_S).contains(&asked.well_for_s) {
        return Err(bad(format!("the first hosts have to be well for 0 to {LONGEST_STAGE_S} seconds")));
    }
    let first = First::read(&asked.hosts).map_err(|e| bad(e.to_string()))?;
    Ok(StageAsked { first, well_for_ms: asked.well_for_s * 1_000 })
}

/// All revisions, newest first.
#[utoipa::path(get, path = "/api/v1/revisions", tag = "plan", responses((status = 200, body = Vec<types::RevisionEntry>), (status = 401, body = types::Problem)))]
pub(crate) async fn revisions(State(app): State<Arc<App>>) -> Result<Json<Vec<RevisionEntry>>, Problem> {
    let found = app.records(|r| r.revisions(MAX_REVISIONS + 1)).await.map_err(|e| records_problem(&e))?;
    let current = app.engine.running().revision;
    let listed = found.iter().enumerate().take(MAX_REVISIONS as usize).map(|(i, r)| {
        let before = found.get(i + 1).map_or("", |b| b.text.as_str());
        let diff = TextDiff::from_lines(before, &r.text);
        let count = |tag: ChangeTag| diff.iter_all_changes().filter(|c| c.tag() == tag).count();
        let (lines_added, lines_removed) = (count(ChangeTag::Insert), count(ChangeTag::Delete));
        RevisionEntry { number: r.number, at_ms: r.at_ms, who: r.who.clone(), why: r.why.clone(), running: r.number == current, lines_added, lines_removed }
    });
    Ok(Json(listed.collect()))
}

async fn find(app: &App, number: i64) -> Result<Revision, Problem> {
    let found = app.records(move |r| r.revision(number)).await.map_err(|e| records_problem(&e))?;
    found.ok_or_else(|| Problem::not_found(format!("there is no revision {number}")))
}

/// What a revision is compared with.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AgainstQuery {
    /// The revision from which the difference is told; the one before if left out.
    against: Option<i64>,
}

/// One revision, whole.
#[utoipa::path(get, path = "/api/v1/revisions/{number}", tag = "plan", params(("number" = i64, Path), AgainstQuery),
    responses((status = 200, body = types::RevisionDetail), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn revision(State(app): State<Arc<App>>, Part(number): Part<i64>, Asked(query): Asked<AgainstQuery>) -> Result<Json<RevisionDetail>, Problem> {
    let found = find(&app, number).await?;
    let before = match query.against {
        Some(against) => find(&app, against).await?.text,
        None => app.records(move |r| r.revision(number - 1)).await.map_err(|e| records_problem(&e))?.map(|b| b.text).unwrap_or_default(),
    };
    let after = found.text.clone();
    let difference = aside(&app, move || difference(&before, &after)).await;
    let kept = app.records(move |r| r.forecast(number)).await.map_err(|e| records_problem(&e))?;
    let forecast = kept.and_then(|kept| serde_json::from_str(&kept).ok());
    let (outcome, outcome_of_ms) = match outcome(&app, number).await.map_err(|e| real_problem(&e))? {
        Some((outcome, of_ms)) => (outcome, Some(of_ms)),
        None => (Vec::new(), None),
    };
    let Revision { at_ms, who, why, text, .. } = found;
    Ok(Json(RevisionDetail { number, at_ms, who, why, text, difference, forecast, outcome, outcome_of_ms }))
}

/// Applies an earlier revision again. It becomes the next revision; nothing of the history is lost.
#[utoipa::path(post, path = "/api/v1/revisions/{number}/revert", tag = "plan", params(("number" = i64, Path)), request_body = types::RevertRequest,
    responses((status = 200, body = types::Applied), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn revert(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(number): Part<i64>,
    Body(request): Body<RevertRequest>,
) -> Result<(Extension<Subject>, Json<Applied>), Problem> {
    let found = find(&app, number).await?;
    let why = if request.why.is_empty() { format!("back to revision {number}") } else { request.why };
    let revision = exchange(&app, &found.text, (&*caller).into(), &why, request.expected_revision).await.map_err(problem)?;
    Ok((Extension(Subject(format!("revision {revision}, as revision {number}"))), Json(Applied { revision })))
}
