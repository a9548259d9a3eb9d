//! The HTTP source: a POST is a body of events.

use std::sync::Arc;

use axum::extract::{Path, Query, Request, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use axum::{Json, Router};
use rockrose_event::record::{DeclaredFormat, is_blank};
use rockrose_event::stamp::Stamp;
use rockrose_plan::HttpSource;

use super::{Endpoint, Kind, PasteLine, Start, filled_form};
use crate::probe::Probe;
use crate::requests::{Shared, content_type, note, peer, with_body};
use crate::{BodyMetadata, Problem, Receipt, SenderFault, Sink, host};

impl Kind for HttpSource {
    const ALPN: &'static [&'static [u8]] = host::ALPN;

    async fn run<S: Sink>(self, start: Start<S>) {
        host::run(start, router).await;
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        // Any body would be an event, so it is only asked for another method.
        probe.ask("GET", "/in", "", "405").await;
    }

    fn paste_lines(&self, at: &Endpoint) -> Vec<PasteLine> {
        let (url, key) = (at.url(), at.key("-H 'Authorization: Bearer KEY' "));
        vec![
            PasteLine::new("curl, one event", format!("curl {key}-d '{{\"message\":\"hello\"}}' {url}/in")),
            PasteLine::new("curl, a file of lines", format!("curl {key}--data-binary @events.jsonl {url}/in")),
        ]
    }

    fn remedy(&self, what: SenderFault) -> Option<&'static str> {
        match what {
            SenderFault::Key => Some("make the sender show the key as `Authorization: Bearer KEY`, or post to `/in/KEY`"),
            SenderFault::Format => Some("post JSON or lines to `/in`; OTLP goes to a source of kind `otlp`, syslog to one of kind `syslog`"),
            _ => None,
        }
    }

    fn url_with_key(&self, at: &Endpoint, key: &str) -> Option<String> {
        Some(format!("{}/in/{key}", at.url()))
    }
}

fn router<S: Sink>(shared: Arc<Shared<S>>) -> Router {
    Router::new()
        .route("/", post(bare::<S>))
        .route("/in", post(bare::<S>))
        .route("/in/{key}", post(keyed::<S>))
        .fallback(elsewhere::<S>)
        .method_not_allowed_fallback(|| async {
            Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method-not-allowed", "Method not allowed", "events must be sent with POST")
        })
        .with_state(shared)
}

/// What comes to another path: perhaps by another protocol. Paths are not repeated, since a key may stand in them.
async fn elsewhere<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Problem {
    let path = request.uri().path();
    if path.starts_with("/v1/") || path.starts_with("/opentelemetry.proto.collector.") {
        shared.monitor.wrong(SenderFault::Format, "a sender sent OTLP to a source of kind `http`", peer(request.extensions()));
    } else if request.method() == axum::http::Method::POST {
        shared.monitor.wrong(SenderFault::Format, "a sender posted to another path than `/in`", peer(request.extensions()));
    }
    Problem::not_found("events must be posted to `/in`")
}

async fn bare<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    answer(&shared, None, request).await
}

async fn keyed<S: Sink>(State(shared): State<Arc<Shared<S>>>, Path(key): Path<String>, request: Request) -> Response {
    answer(&shared, Some(key), request).await
}

async fn answer<S: Sink>(shared: &Shared<S>, path_key: Option<String>, request: Request) -> Response {
    match take(shared, path_key, request).await {
        Ok(receipt) => Json(receipt).into_response(),
        Err(problem) => problem.into_response(),
    }
}

async fn take<S: Sink>(shared: &Shared<S>, path_key: Option<String>, request: Request) -> Result<Receipt, Problem> {
    let (head, body) = request.into_parts();
    let from = peer(&head.extensions);
    let kind = content_type(&head.headers);
    let (says, is_form) = (says(&kind), kind == "application/x-www-form-urlencoded");
    let taken = async {
        let settings = shared.admit(path_key.as_deref(), &head.headers, from)?;
        let mut with = BodyMetadata { stamps: stamps(&settings.may_set, &head)?, once: idempotency_key(&head.headers)?, ..BodyMetadata::default() };
        with_body(shared, &settings, &head.headers, body, async |mut body| {
            if is_blank(&body) {
                return Err(Problem::new(StatusCode::BAD_REQUEST, "empty-body", "Empty request", "the body is empty"));
            }
            let mut says = says;
            if is_form && let Some(line) = filled_form::as_line(&body) {
                let form = std::mem::replace(&mut body, line);
                says = DeclaredFormat::Lines;
                if shared.monitor.is_caught() {
                    with.raw.push(form);
                }
            }
            shared.sink.accept(&settings.name, Arc::new(body.into()), says, with).await.map_err(Problem::from)
        })
        .await
    };
    let taken = taken.await;
    note(&shared.monitor, &taken, from);
    taken
}

/// Longest `Idempotency-Key`, in bytes.
const MAX_ONCE: usize = 255;
/// What the names of headers that set fields begin with.
const FIELD_HEADER: &str = "field-";

/// What the sender calls the body, so that it is not taken twice.
fn idempotency_key(headers: &HeaderMap) -> Result<Option<String>, Problem> {
    let Some(value) = headers.get("idempotency-key") else { return Ok(None) };
    let key = value.to_str().unwrap_or_default().trim();
    let key = key.strip_prefix('"').and_then(|k| k.strip_suffix('"')).unwrap_or(key);
    if key.is_empty() || key.len() > MAX_ONCE {
        let detail = format!("`Idempotency-Key` has 1 to {MAX_ONCE} printable characters");
        return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-idempotency-key", "Invalid idempotency key", detail));
    }
    Ok(Some(key.to_owned()))
}

/// The fields that a request sets for all its events, where the source allows it.
fn stamps(may_set: &[String], head: &axum::http::request::Parts) -> Result<Vec<Stamp>, Problem> {
    if may_set.is_empty() {
        return Ok(Vec::new());
    }
    let bad = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "bad-field", "A field cannot be set", detail);
    let Query(asked) = Query::<Vec<(String, String)>>::try_from_uri(&head.uri).map_err(|e| bad(e.body_text()))?;
    let in_headers = head.headers.iter().filter_map(|(name, value)| Some((name.as_str().strip_prefix(FIELD_HEADER)?, value)));
    let mut given = asked;
    for (name, value) in in_headers {
        let value = std::str::from_utf8(value.as_bytes()).map_err(|_| bad(format!("the header `{FIELD_HEADER}{name}` is not UTF-8")))?;
        given.push((name.to_owned(), value.to_owned()));
    }
    let mut stamps: Vec<Stamp> = Vec::new();
    for (name, value) in given {
        // Names of headers know no capitals.
        let Some(field) = may_set.iter().find(|f| **f == name).or_else(|| may_set.iter().find(|f| f.eq_ignore_ascii_case(&name))) else {
            return Err(bad(format!("requests to this source may set {}, not `{name}`", may_set.join(", "))));
        };
        if stamps.iter().any(|s| s.name() == field) {
            return Err(bad(format!("`{field}` is set twice")));
        }
        stamps.push(Stamp::new(field, &value, crate::now_ms()).map_err(|e| bad(e.to_string()))?);
    }
    Ok(stamps)
}

fn says(kind: &str) -> DeclaredFormat {
    match kind {
        "application/x-ndjson" | "application/ndjson" | "application/jsonl" | "application/json-lines" | "application/jsonlines" | "text/plain" => {
            DeclaredFormat::Lines
        }
        "application/json" => DeclaredFormat::Json,
        k if k.ends_with("+json") => DeclaredFormat::Json,
        _ => DeclaredFormat::Unknown,
    }
}
