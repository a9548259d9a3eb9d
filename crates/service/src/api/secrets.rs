//! Secrets: set and forgotten by name; a value never comes back out.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use rockrose_intake::Problem;
use rockrose_plan::is_name;
use rockrose_records::Secret;

use super::extract::{Body, Part};
use super::types::{SecretName, SecretValue};
use super::{records_problem, types};
use crate::{App, now_ms};

/// Longest secret, in bytes.
const MAX_SECRET: usize = 4_096;

fn named(name: &str) -> Result<(), Problem> {
    let bad = || Problem::new(StatusCode::BAD_REQUEST, "bad-name", "Not a secret's name", "a name is letters, digits, `-` and `_`, a letter first, at most 64");
    if is_name(name) { Ok(()) } else { Err(bad()) }
}

/// The names of all secrets.
#[utoipa::path(get, path = "/api/v1/secrets", tag = "plan", responses((status = 200, body = Vec<types::SecretName>), (status = 401, body = types::Problem)))]
pub(crate) async fn list(State(app): State<Arc<App>>) -> Result<Json<Vec<SecretName>>, Problem> {
    let kept = app.records(|r| r.secrets()).await.map_err(|e| records_problem(&e))?;
    let running = app.engine.running();
    let used = running.checked.secrets();
    Ok(Json(
        kept.into_iter()
            .map(|s| SecretName {
                used: used.iter().any(|u| u.0 == s.name),
                shown_to: s.shown_to.lines().map(str::to_owned).collect(),
                name: s.name,
                set_ms: s.set_ms,
            })
            .collect(),
    ))
}

/// Keeps a secret. One that the running plan uses takes effect at once.
#[utoipa::path(put, path = "/api/v1/secrets/{name}", tag = "plan", params(("name" = String, Path)), request_body = types::SecretValue,
    responses((status = 204), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn set(State(app): State<Arc<App>>, Part(name): Part<String>, Body(request): Body<SecretValue>) -> Result<StatusCode, Problem> {
    named(&name)?;
    if request.value.is_empty() || request.value.len() > MAX_SECRET || request.value.chars().any(char::is_control) {
        return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-secret", "Not a secret's value", "a value has 1 to 4096 bytes and no control characters"));
    }
    let shown_to = shown_to(&app, &name, &request.shown_to).await?;
    keep(&app, &name, request.value, shown_to).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// To whom a secret may be shown, as it is kept; nothing, if that stays as it is.
async fn shown_to(app: &App, name: &str, asked: &[String]) -> Result<Option<String>, Problem> {
    let bad = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "bad-hosts", "It is not said to whom the secret may be shown", detail);
    if asked.is_empty() {
        let kept = app.records(|r| r.secrets()).await.map_err(|e| records_problem(&e))?;
        let says = "say to whom the new secret may be shown: hosts, `source:NAME`, or `anywhere` (`--for`)";
        return if kept.iter().any(|s| s.name == name) { Ok(None) } else { Err(bad(says.to_owned())) };
    }
    let is_host = |text: &str| (1..=255).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._:[]".contains(&b));
    match asked.iter().find(|text| !is_host(text.strip_prefix("source:").unwrap_or(text))) {
        Some(wrong) => Err(bad(format!("`{wrong}` is no host: write its name or address, perhaps with a port, and nothing else"))),
        None => Ok(Some(asked.join("\n"))),
    }
}

/// Keeps a secret; one that the running plan uses takes effect at once.
pub(super) async fn keep(app: &Arc<App>, name: &str, value: String, shown_to: Option<String>) -> Result<(), Problem> {
    let kept = name.to_owned();
    app.records(move |r| r.set_secret(&kept, &Secret::new(value), shown_to.as_deref(), now_ms())).await.map_err(|e| records_problem(&e))?;
    let running = app.engine.running();
    if running.checked.secrets().iter().any(|s| s.0 == name) {
        let taken_up = crate::apply::take_up(app, running.revision, &running.checked.text).await;
        taken_up.map_err(|e| Problem::internal(format!("the secret was saved but could not be applied: {e}")))?;
    }
    Ok(())
}

/// Forgets a secret that the running plan does not use.
#[utoipa::path(delete, path = "/api/v1/secrets/{name}", tag = "plan", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn remove(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    if app.engine.running().checked.secrets().iter().any(|s| s.0 == name) {
        return Err(Problem::new(StatusCode::CONFLICT, "secret-in-use", "The secret is in use", format!("the running plan refers to `{name}`")));
    }
    let asked = name.clone();
    if app.records(move |r| r.remove_secret(&asked)).await.map_err(|e| records_problem(&e))? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::not_found(format!("there is no secret `{name}`")))
    }
}
