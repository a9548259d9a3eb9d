//! Alerts: how they stand, what was told, and how they are acknowledged and silenced.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_alerts::{Rules, past};
use rockrose_intake::Problem;
use rockrose_language::{AlertCondition, Mistake, parse_alert};
use rockrose_plan::{Alert, Report, SourceKind};
use rockrose_records::Silence;

use super::extract::{Body, Part};
use super::types::{AlertNotice, AlertPast, AlertPhase, AlertSilence, AlertState, AlertStretch, AlertTrial, AlertsAnswer, NewSilence};
use super::{records_problem, spool_problem, types};
use crate::alerts::{AlertStanding, NotOn, Volumes};
use crate::caller::Caller;
use crate::{App, now_ms};

/// So many notices are shown.
const NOTICES: i64 = 100;
/// Longest silence, in minutes: 30 days.
const LONGEST_SILENCE: i64 = 30 * 24 * 60;
/// Most minutes that an alert is tried on: a week.
const MOST_PAST: i64 = 7 * 24 * 60;

fn shown(AlertStanding { alert, record, silence }: AlertStanding) -> AlertState {
    let phase = record.as_ref().map_or(AlertPhase::Quiet, |r| match r.phase.as_str() {
        "on" => AlertPhase::On,
        "rising" => AlertPhase::Rising,
        _ => AlertPhase::Quiet,
    });
    AlertState {
        name: alert.name,
        when: alert.when.to_string(),
        lasting_ms: i64::try_from(alert.lasting.as_millis()).unwrap_or(i64::MAX),
        until: alert.until.map(|until| until.to_string()),
        severity: alert.severity.word().to_owned(),
        advice: alert.advice,
        phase,
        since_ms: record.as_ref().map(|r| r.since_ms).filter(|since| *since > 0),
        says: record.as_ref().map(|r| r.says.clone()).filter(|says| !says.is_empty()),
        acknowledged_by: record.and_then(|r| r.acknowledged_by),
        silence: silence.map(|s| AlertSilence { until_ms: s.until_ms, who: s.who }),
    }
}

/// The alerts of the active plan, how each stands, and what was told lately.
#[utoipa::path(get, path = "/api/v1/alerts", tag = "watch", responses((status = 200, body = types::AlertsAnswer), (status = 401, body = types::Problem)))]
pub(crate) async fn alerts(State(app): State<Arc<App>>) -> Result<Json<AlertsAnswer>, Problem> {
    let all = app.alerts.all(&app).await.map_err(|e| records_problem(&e))?;
    let notices = app.records(|r| r.newest_notices(None, NOTICES)).await.map_err(|e| records_problem(&e))?;
    let notices = notices.into_iter().map(|n| AlertNotice {
        number: n.number,
        at_ms: n.told.at_ms,
        alert: n.told.alert,
        turn: n.told.turn,
        severity: n.told.severity,
        says: n.told.says,
    });
    let running = app.engine.running();
    let sources = running.checked.sources.iter().filter(|s| matches!(s.kind, SourceKind::Alerts(_))).map(|s| s.name.clone()).collect();
    Ok(Json(AlertsAnswer { now_ms: now_ms(), alerts: all.into_iter().map(shown).collect(), notices: notices.collect(), sources }))
}

/// The alert of this name, if the caller may operate what it watches.
fn operated(app: &App, caller: &Caller, name: &str) -> Result<Alert, Problem> {
    let running = app.engine.running();
    let alert = running.checked.all_alerts().into_iter().find(|alert| alert.name == name).ok_or_else(|| unknown(name))?;
    let of_budget = match &alert.when {
        AlertCondition::Budget { test, .. } => running.checked.budgets.iter().find(|b| b.name == test.budget).map(|b| b.allowance.at.clone()),
        _ => None,
    };
    if let Some(place) = alert.when.place().or(of_budget) {
        caller.must_operate(&place)?;
    }
    Ok(alert)
}

fn unknown(name: &str) -> Problem {
    Problem::new(StatusCode::NOT_FOUND, "no-alert", "No such alert", format!("the active plan has no alert `{name}`"))
}

/// Notes that somebody has seen that an alert is on: while it lasts, it is not told again.
#[utoipa::path(post, path = "/api/v1/alerts/{name}/acknowledge", tag = "watch", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn acknowledge(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(name): Part<String>,
) -> Result<StatusCode, Problem> {
    operated(&app, &caller, &name)?;
    match app.alerts.acknowledge(&app, &name, &caller.name).await {
        Ok(()) => Ok(StatusCode::NO_CONTENT),
        Err(NotOn::Unknown | NotOn::Quiet) => Err(Problem::new(StatusCode::CONFLICT, "not-on", "The alert is not on", format!("the alert `{name}` is not on"))),
        Err(NotOn::Records(e)) => Err(records_problem(&e)),
    }
}

/// For a while nobody is told of an alert. If it is still on when that is over, it is told then.
#[utoipa::path(put, path = "/api/v1/alerts/{name}/silence", tag = "watch", params(("name" = String, Path)), request_body = types::NewSilence,
    responses((status = 200, body = types::AlertSilence), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn silence(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(name): Part<String>,
    Body(NewSilence { minutes }): Body<NewSilence>,
) -> Result<Json<AlertSilence>, Problem> {
    operated(&app, &caller, &name)?;
    if !(1..=LONGEST_SILENCE).contains(&minutes) {
        return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-silence", "No such silence", "a silence lasts from 1 minute to 30 days (43200 minutes)"));
    }
    let silence = Silence { alert: name, until_ms: now_ms() + minutes * 60_000, who: caller.name.clone() };
    let answer = AlertSilence { until_ms: silence.until_ms, who: silence.who.clone() };
    app.alerts.silence(&app, silence).await.map_err(|e| records_problem(&e))?;
    Ok(Json(answer))
}

/// Ends the silence of an alert.
#[utoipa::path(delete, path = "/api/v1/alerts/{name}/silence", tag = "watch", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn end_silence(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(name): Part<String>,
) -> Result<StatusCode, Problem> {
    operated(&app, &caller, &name)?;
    app.alerts.end_silence(&app, &name).await.map_err(|e| records_problem(&e))?;
    Ok(StatusCode::NO_CONTENT)
}

/// When an alert would have been on in the past, by the ledger's minutes.
#[utoipa::path(post, path = "/api/v1/alerts/try", tag = "shape", request_body = types::AlertTrial,
    responses((status = 200, body = types::AlertPast), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn try_alert(State(app): State<Arc<App>>, Body(given): Body<AlertTrial>) -> Result<Json<AlertPast>, Problem> {
    let bad = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "bad-alert", "The alert cannot be tried", detail);
    let read = |text: &str| -> Result<AlertCondition, Problem> {
        let told = |mistake: Mistake| bad(Report::new(text, &mistake).render("the sentence"));
        let condition = parse_alert(text).map_err(told)?;
        let is_kept = matches!(condition, AlertCondition::Volume { .. });
        if is_kept {
            Ok(condition)
        } else {
            Err(bad("of the past only volumes are kept, by the minute: `events at …`, `bytes at …` and `metric …`".to_owned()))
        }
    };
    let when = read(&given.when)?;
    let until = given.until.as_deref().map(read).transpose()?;
    if !(1..=MOST_PAST).contains(&given.minutes) || !(0..=MOST_PAST * 60_000).contains(&given.lasting_ms) {
        return Err(bad("an alert is tried on 1 minute to 7 days (10080 minutes)".to_owned()));
    }
    let to_ms = now_ms();
    let from_ms = to_ms - given.minutes * 60_000;
    let mut volumes = Volumes::default();
    let conditions: Vec<&AlertCondition> = [Some(&when), until.as_ref()].into_iter().flatten().collect();
    volumes.know(&app.spool, &conditions, from_ms, to_ms).await.map_err(|e| spool_problem(&e))?;
    let rules = Rules { hold_ms: given.lasting_ms, ..Rules::default() };
    let tried = tokio::task::spawn_blocking(move || past(&when, until.as_ref(), rules, &volumes, from_ms, to_ms)).await;
    let stretches = tried.map_err(|_| bad("it failed".to_owned()))?;
    let begins_ms = app.spool.first_minute(0).await.map_err(|e| spool_problem(&e))?.map(|minute| minute * 60_000).filter(|begins| *begins > from_ms);
    let stretches = stretches.into_iter().map(|s| AlertStretch { from_ms: s.from_ms, until_ms: s.until_ms, says: s.says }).collect();
    Ok(Json(AlertPast { from_ms, to_ms, begins_ms, stretches }))
}
