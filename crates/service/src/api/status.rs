//! Is it alive, is it ready, how is it doing.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use rockrose_intake::Problem;
use rockrose_ledger::Equation;

use super::{spool_problem, types};
use crate::{App, now_ms};

/// The service in a few words.
#[utoipa::path(get, path = "/api/v1/status", tag = "watch", responses((status = 200, body = types::Status), (status = 401, body = types::Problem)))]
pub(crate) async fn status(State(app): State<Arc<App>>) -> Result<Json<types::Status>, Problem> {
    let equations = app.spool.balance().await.map_err(|e| spool_problem(&e))?;
    let running = app.engine.running();
    let waiting = app.spool.waiting();
    let failing = running.checked.destinations.iter().filter(|d| app.engine.health(&d.name).is_some_and(|h| h.state == rockrose_delivery::State::Failing));
    Ok(Json(types::Status {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        node: app.records.node(),
        started_ms: app.started_ms,
        now_ms: now_ms(),
        revision: running.revision,
        balanced: equations.iter().all(Equation::holds),
        waiting_events: waiting.values().map(|w| w.amount.events).sum(),
        waiting_bytes: waiting.values().map(|w| w.amount.bytes).sum(),
        failing: failing.map(|d| d.name.clone()).collect(),
        alerts: app.alerts.unacknowledged(&app).await.map_err(|e| super::records_problem(&e))?,
    }))
}

/// The process answers.
pub(crate) async fn healthz() -> &'static str {
    "alive\n"
}

/// Events can be taken and made durable.
pub(crate) async fn readyz(State(app): State<Arc<App>>) -> (StatusCode, &'static str) {
    if app.stopping.is_cancelled() {
        (StatusCode::SERVICE_UNAVAILABLE, "stopping\n")
    } else if rockrose_intake::out_of_descriptors() {
        (StatusCode::SERVICE_UNAVAILABLE, "file descriptors have run out; raise the limit of open files\n")
    } else if app.spool.healthy().await {
        (StatusCode::OK, "ready\n")
    } else {
        (StatusCode::SERVICE_UNAVAILABLE, "the spool cannot be written or read\n")
    }
}
