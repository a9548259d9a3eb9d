//! The HTTP face, under `/api/v1`: described by an OpenAPI document, errors as problem documents, signed in by token or session.

mod agents;
mod alerts;
pub(crate) mod auth;
mod budgets;
mod by_tag;
pub(crate) mod complete;
mod destinations;
mod document;
mod draft;
mod examples;
mod extract;
pub(crate) mod flow;
mod ledger;
mod look;
mod metrics;
pub(crate) mod openid;
mod people;
mod permits;
mod plan;
mod rates;
mod secrets;
mod sources;
mod status;
mod suggest;
mod survey;
mod tail;
mod trial;
pub(crate) mod types;
mod why;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::http::{HeaderValue, header};
use axum::middleware::{from_fn, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_plan::MAX_PLAN;
use rockrose_records::{Paused, RecordsError, Side};
use rockrose_spool::SpoolError;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::App;

/// Largest request body, in bytes: a plan as a JSON string.
const MAX_REQUEST: usize = 2 * MAX_PLAN;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Rockrose",
        description = "Routes, redacts, samples and delivers log streams, and accounts for every event. Sign in with `Authorization: Bearer TOKEN`. Errors are problem documents (RFC 9457).",
        license(name = "MIT OR Apache-2.0")
    ),
    components(schemas(types::Problem)),
    modifiers(&Bearer),
    security(("token" = []))
)]
struct ApiDoc;

struct Bearer;

impl utoipa::Modify for Bearer {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityScheme};
        let components = openapi.components.get_or_insert_default();
        components.add_security_scheme("token", SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer)));
    }
}

fn described() -> OpenApiRouter<Arc<App>> {
    OpenApiRouter::with_openapi(ApiDoc::openapi())
        .routes(routes!(status::status))
        .routes(routes!(flow::flow))
        .routes(routes!(flow::before))
        .routes(routes!(agents::agents, agents::set_agents))
        .routes(routes!(agents::agent, agents::retire))
        .routes(routes!(look::look_on_agent))
        .routes(routes!(agents::move_stage))
        .routes(routes!(agents::update_agents, agents::stop_update))
        .routes(routes!(agents::make_code))
        .routes(routes!(agents::end_code))
        .routes(routes!(alerts::alerts))
        .routes(routes!(alerts::acknowledge))
        .routes(routes!(alerts::silence, alerts::end_silence))
        .routes(routes!(alerts::try_alert))
        .routes(routes!(budgets::budgets))
        .routes(routes!(budgets::lift, budgets::end_lift))
        .routes(routes!(sources::sources))
        .routes(routes!(sources::senders))
        .routes(routes!(sources::pause))
        .routes(routes!(sources::resume))
        .routes(routes!(sources::new_key, sources::revoke_key))
        .routes(routes!(sources::test))
        .routes(routes!(sources::next))
        .routes(routes!(look::look))
        .routes(routes!(look::kits))
        .routes(routes!(look::recognise))
        .routes(routes!(plan::running))
        .routes(routes!(plan::first))
        .routes(routes!(plan::check))
        .routes(routes!(examples::run))
        .routes(routes!(examples::make))
        .routes(routes!(draft::outlined))
        .routes(routes!(draft::draft, draft::change, draft::discard))
        .routes(routes!(draft::renew))
        .routes(routes!(plan::revisions, plan::apply))
        .routes(routes!(plan::revision))
        .routes(routes!(plan::revert))
        .routes(routes!(ledger::ledger))
        .routes(routes!(ledger::minutes))
        .routes(routes!(by_tag::by_tag))
        .routes(routes!(ledger::quarantine))
        .routes(routes!(destinations::pause))
        .routes(routes!(destinations::resume))
        .routes(routes!(destinations::purge))
        .routes(routes!(destinations::test))
        .routes(routes!(destinations::test_planned))
        .routes(routes!(destinations::answers))
        .routes(routes!(destinations::resend))
        .routes(routes!(destinations::resent))
        .routes(routes!(why::why_quarantined))
        .routes(routes!(tail::tail))
        .routes(routes!(survey::sample))
        .routes(routes!(survey::fields))
        .routes(routes!(survey::patterns))
        .routes(routes!(complete::complete))
        .routes(routes!(suggest::suggestions))
        .routes(routes!(suggest::decline, suggest::take_back))
        .routes(routes!(why::why))
        .routes(routes!(trial::trial))
        .routes(routes!(trial::edit))
        .routes(routes!(secrets::list))
        .routes(routes!(secrets::set, secrets::remove))
        .routes(routes!(auth::make_link))
        .routes(routes!(people::me))
        .routes(routes!(people::own_password))
        .routes(routes!(people::roles))
        .routes(routes!(people::people, people::add))
        .routes(routes!(people::grant))
        .routes(routes!(people::password))
        .routes(routes!(people::remove))
        .routes(routes!(people::who_sees))
        .routes(routes!(people::tokens, people::make_token))
        .routes(routes!(people::revoke))
        .routes(routes!(people::sessions))
        .routes(routes!(people::end_session))
        .routes(routes!(people::journal))
        .routes(routes!(people::check_journal))
}

/// The handlers, and the OpenAPI 3.1 document that tells of them.
fn parts() -> (Router<Arc<App>>, utoipa::openapi::OpenApi) {
    let (api, mut openapi) = described().split_for_parts();
    document::complete(&mut openapi);
    (api, openapi)
}

pub(crate) use agents::make_enrol_code;

/// How the sources and destinations of the plan that runs are doing.
pub(crate) fn part_conditions(app: &App) -> Vec<crate::PartCondition> {
    let (running, now) = (app.engine.running(), crate::now_ms());
    let sources = running.checked.sources.iter().map(|planned| sources::source_condition(app, planned, now));
    let destinations = running.checked.destinations.iter().map(|planned| destinations::condition(app, &planned.name));
    sources.chain(destinations).collect()
}

/// The OpenAPI 3.1 document of the API.
#[must_use]
pub fn openapi() -> utoipa::openapi::OpenApi {
    parts().1
}

pub(crate) fn router(app: Arc<App>) -> Router {
    let (api, document) = parts();
    let document = Arc::new(document);
    let api = api.layer(from_fn_with_state(Arc::clone(&app), auth::require)).layer(DefaultBodyLimit::max(MAX_REQUEST)).layer(from_fn(no_store));
    let compress = CompressionLayer::new().compress_when(DefaultPredicate::new().and(NotForContentType::SSE));
    Router::new()
        .route("/api/v1/openapi.json", get(move || async move { axum::Json((*document).clone()) }))
        .route("/metrics", get(metrics::metrics))
        .route("/healthz", get(status::healthz))
        .route("/readyz", get(status::readyz))
        .route("/sign-in", get(crate::console::serve).post(auth::sign_in))
        .route("/sign-in/ways", get(openid::ways))
        .route("/sign-in/openid", get(openid::begin))
        .route(openid::BACK, get(openid::back))
        .route("/sign-out", axum::routing::post(auth::sign_out))
        .merge(api)
        .fallback(get(crate::console::serve))
        .method_not_allowed_fallback(|| async {
            Problem::new(axum::http::StatusCode::METHOD_NOT_ALLOWED, "method-not-allowed", "Method not allowed", "this path does not take that method")
        })
        .layer(compress)
        .layer(from_fn(guard))
        .layer(from_fn_with_state(Arc::clone(&app), by_its_name))
        .with_state(app)
}

/// Turns away requests by a name that is none of this service's: a page of another site that has its name lead here would ask as if it were a page of this one.
async fn by_its_name(axum::extract::State(app): axum::extract::State<Arc<App>>, request: axum::extract::Request, next: axum::middleware::Next) -> Response {
    let is_asked_by_machines = matches!(request.uri().path(), "/healthz" | "/readyz");
    match rockrose_intake::host_of(&request) {
        Some(host) if !is_asked_by_machines && !app.site.knows(&host) => {
            let detail = format!("this service is not known as `{host}`; if it is, say so when it starts: --public-url");
            Problem::new(axum::http::StatusCode::MISDIRECTED_REQUEST, "unknown-host", "Unknown host", detail).into_response()
        }
        _ => next.run(request).await,
    }
}

/// Headers that keep a browser from doing more with an answer than it should.
async fn guard(request: axum::extract::Request, next: axum::middleware::Next) -> Response {
    const POLICY: &str = "default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";
    let mut response = next.run(request).await;
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(POLICY));
    headers.insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    headers.insert(header::X_FRAME_OPTIONS, HeaderValue::from_static("DENY"));
    headers.insert(header::REFERRER_POLICY, HeaderValue::from_static("no-referrer"));
    response
}

async fn no_store(request: axum::extract::Request, next: axum::middleware::Next) -> Response {
    let mut response = next.run(request).await;
    response.headers_mut().entry(header::CACHE_CONTROL).or_insert(HeaderValue::from_static("no-store"));
    response
}

/// A place of a plan, by its name.
fn place(text: &str) -> Result<Place, Problem> {
    let bad = || format!("`{text}` is not a point: write `source:NAME`, `route:NAME`, `destination:NAME` or `remainder`");
    Place::read(text).ok_or_else(|| Problem::new(axum::http::StatusCode::BAD_REQUEST, "bad-point", "No such point", bad()))
}

/// Pauses a source or a destination, over restarts and plans; one that is paused already stays as it was.
pub(crate) async fn pause(app: &App, side: Side, name: &str, who: String) -> Result<(), Problem> {
    let paused = Paused { name: name.to_owned(), at_ms: crate::now_ms(), who };
    let kept = paused.clone();
    app.records(move |r| r.pause(side, &kept.name, &kept.who, kept.at_ms)).await.map_err(|e| records_problem(&e))?;
    if app.engine.paused(side, name).is_none() {
        app.engine.set_paused(side, name, Some(paused));
    }
    Ok(())
}

/// Resumes a source or a destination. Says whether it was paused.
pub(crate) async fn resume(app: &App, side: Side, name: &str) -> Result<bool, Problem> {
    let asked = name.to_owned();
    let was = app.records(move |r| r.resume(side, &asked)).await.map_err(|e| records_problem(&e))?;
    app.engine.set_paused(side, name, None);
    Ok(was)
}

/// What the records could not do, as an answer.
pub(crate) fn records_problem(e: &RecordsError) -> Problem {
    match e {
        RecordsError::Conflict { newest, expected } => Problem::new(
            axum::http::StatusCode::CONFLICT,
            "newer-revision",
            "Somebody else applied a plan",
            format!("the newest revision is {newest}, not {expected}; compare with it and apply again"),
        )
        .with("newest", *newest),
        RecordsError::Taken { .. } => Problem::new(axum::http::StatusCode::CONFLICT, "name-taken", "The name is taken", e.to_string()),
        RecordsError::Storage(_) | RecordsError::Key(_) => {
            tracing::error!(error = %e, "the records failed");
            Problem::internal(e.to_string())
        }
    }
}

/// A request that cannot be met as it is.
fn bad(kind: &'static str, title: &'static str, detail: impl Into<String>) -> Problem {
    Problem::new(axum::http::StatusCode::BAD_REQUEST, kind, title, detail.into())
}

/// What the spool could not do, as an answer.
pub(crate) fn spool_problem(e: &SpoolError) -> Problem {
    tracing::error!(error = %e, "the spool failed");
    Problem::unavailable("spool", e.to_string())
}
