//! The HTTP source: a POST is a body of events.

use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use arc_swap::ArcSwap;
use axum::body::Body;
use axum::extract::{Path, Query, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use axum::{Json, Router};
use http_body_util::BodyExt;
use rockrose_event::buffers;
use rockrose_event::record::DeclaredFormat;
use rockrose_event::stamp::Stamp;
use tokio::sync::{Semaphore, SemaphorePermit};

use crate::unpack::{Unpack, unpack};
use crate::{BodyMetadata, Heard, Peer, Problem, Receipt, Sink, SourceSettings, Wrong, filled_form};

/// How long a body may take to arrive.
const BODY_TIME: Duration = Duration::from_secs(60);

/// The memory that bodies under way may take together, shared by all sources of a service.
#[derive(Debug)]
pub struct BodyBudget {
    bytes: Semaphore,
    unpacking: Semaphore,
    /// Places for requests over gRPC, whose bodies are read before anybody is asked.
    pub(crate) grpc: Semaphore,
}

/// Most bytes of bodies, as sent, that are held at once.
const BODY_BUDGET: usize = 256 << 20;
/// Most requests over gRPC that are read at once.
const GRPC: usize = 8;
/// Most bodies that are unpacked at once.
const UNPACKING: usize = 2;

impl Default for BodyBudget {
    fn default() -> BodyBudget {
        BodyBudget { bytes: Semaphore::new(BODY_BUDGET), unpacking: Semaphore::new(UNPACKING), grpc: Semaphore::new(GRPC) }
    }
}

pub(crate) struct Shared<S> {
    pub(crate) settings: Arc<ArcSwap<SourceSettings>>,
    pub(crate) sink: Arc<S>,
    pub(crate) budget: Arc<BodyBudget>,
    pub(crate) heard: Arc<Heard>,
    pub(crate) under_way: AtomicUsize,
}

impl<S> Shared<S> {
    /// Lets a request in that shows what it must, while there is a place for it; by the settings that it met.
    pub(crate) fn admit(&self, path_key: Option<&str>, headers: &HeaderMap) -> Result<(Arc<SourceSettings>, UnderWay<'_>), Problem> {
        let settings = self.settings.load_full();
        authorise(&settings, path_key, headers)?;
        let place = UnderWay::enter(&self.under_way, settings.max_requests).ok_or_else(|| busy("too many requests at once"))?;
        Ok((settings, place))
    }
}

/// One of the requests under way; gives its place back when it ends.
pub(crate) struct UnderWay<'a>(&'a AtomicUsize);

impl<'a> UnderWay<'a> {
    fn enter(count: &'a AtomicUsize, most: usize) -> Option<UnderWay<'a>> {
        let place = UnderWay(count);
        (count.fetch_add(1, Ordering::Relaxed) < most).then_some(place)
    }
}

impl Drop for UnderWay<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

pub(crate) fn router<S: Sink>(shared: Arc<Shared<S>>) -> Router {
    Router::new()
        .route("/", post(bare::<S>))
        .route("/in", post(bare::<S>))
        .route("/in/{key}", post(keyed::<S>))
        .fallback(elsewhere::<S>)
        .method_not_allowed_fallback(|| async {
            Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method-not-allowed", "Method not allowed", "events are sent with POST")
        })
        .with_state(shared)
}

/// What comes to another path: perhaps by another protocol. Paths are not repeated, since a key may stand in them.
async fn elsewhere<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Problem {
    let path = request.uri().path();
    if path.starts_with("/v1/") || path.starts_with("/opentelemetry.proto.collector.") {
        shared.heard.wrong(Wrong::Format, "somebody sent OTLP to a source of kind `http`", peer(request.extensions()));
    } else if request.method() == axum::http::Method::POST {
        shared.heard.wrong(Wrong::Format, "somebody posted to another path than `/in`", peer(request.extensions()));
    }
    Problem::not_found("events are posted to `/in`")
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
        let (settings, _place) = shared.admit(path_key.as_deref(), &head.headers)?;
        let mut with = BodyMetadata { stamps: stamps(&settings.may_set, &head)?, once: idempotency_key(&head.headers)?, ..BodyMetadata::default() };
        with_body(shared, &settings, &head.headers, body, async |mut body| {
            let mut says = says;
            if is_form && let Some(line) = filled_form::as_line(&body) {
                let form = std::mem::replace(&mut body, line);
                says = DeclaredFormat::Lines;
                if shared.heard.is_caught() {
                    with.raw.push(form);
                }
            }
            shared.sink.accept(&settings.name, Arc::new(body.into()), says, with).await.map_err(Problem::from)
        })
        .await
    };
    let taken = taken.await;
    note(&shared.heard, &taken, from);
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
        return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-idempotency-key", "The idempotency key cannot be used", detail));
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
            return Err(bad(format!("this source lets a request set {}, not `{name}`", may_set.join(", "))));
        };
        if stamps.iter().any(|s| s.name() == field) {
            return Err(bad(format!("`{field}` is set twice")));
        }
        stamps.push(Stamp::new(field, &value, crate::now_ms()).map_err(bad)?);
    }
    Ok(stamps)
}

/// Whence a request came.
pub(crate) fn peer(extensions: &axum::http::Extensions) -> Option<IpAddr> {
    extensions.get::<Peer>().map(|peer| peer.0.ip())
}

/// Notes what became of a body.
pub(crate) fn note(heard: &Heard, taken: &Result<Receipt, Problem>, from: Option<IpAddr>) {
    match taken {
        Ok(receipt) => heard.receipt(receipt, from),
        Err(problem) => {
            let what = match problem.status() {
                StatusCode::UNAUTHORIZED => Wrong::Key,
                StatusCode::PAYLOAD_TOO_LARGE => Wrong::TooLarge,
                StatusCode::SERVICE_UNAVAILABLE => Wrong::PushedBack,
                _ => Wrong::Format,
            };
            heard.wrong(what, problem.detail(), from);
        }
    }
}

/// Reads a body within its bounds, unpacks it, and hands it to `then`.
pub(crate) async fn with_body<S: Sink, T>(
    shared: &Shared<S>,
    settings: &SourceSettings,
    headers: &HeaderMap,
    body: Body,
    then: impl AsyncFnOnce(Vec<u8>) -> Result<T, Problem>,
) -> Result<T, Problem> {
    let encoding = match headers.get(header::CONTENT_ENCODING) {
        None => String::new(),
        Some(value) => value.to_str().map_err(|_| unknown_encoding())?.to_owned(),
    };
    let mut held = Vec::new();
    let body = read(body, headers, settings.max_body, &shared.budget.bytes, &mut held).await?;
    if body.is_empty() {
        return Err(Problem::new(StatusCode::BAD_REQUEST, "empty-body", "Nothing was sent", "the body is empty"));
    }
    let bound = settings.max_unpacked;
    let unpacking = if encoding.is_empty() { None } else { shared.budget.unpacking.acquire().await.ok() };
    let body = if encoding.is_empty() {
        body
    } else {
        let unpacked = tokio::task::spawn_blocking(move || unpack(body, &encoding, bound)).await;
        unpacked.map_err(|_| Problem::internal("the body could not be unpacked"))?.map_err(|e| match e {
            Unpack::UnknownEncoding => unknown_encoding(),
            Unpack::Damaged(why) => Problem::new(StatusCode::BAD_REQUEST, "damaged-body", "The body cannot be unpacked", why),
            Unpack::TooLarge => too_large(format!("more than {bound} bytes after decompression")),
        })?
    };
    let done = then(body).await;
    drop(unpacking);
    done
}

fn busy(detail: &str) -> Problem {
    Problem::unavailable("busy", detail).retry_after(1)
}

fn unknown_encoding() -> Problem {
    Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "unknown-encoding", "Unknown content encoding", "send the body plain, as gzip or as zstd")
}

pub(crate) fn too_large(detail: String) -> Problem {
    Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "body-too-large", "The body is too large", detail)
}

fn authorise(settings: &SourceSettings, path_key: Option<&str>, headers: &HeaderMap) -> Result<(), Problem> {
    let Some(key) = &settings.key else {
        return match path_key {
            None => Ok(()),
            Some(_) => Err(Problem::not_found("events are posted to `/in`")),
        };
    };
    let bearer = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).and_then(|v| {
        let (scheme, token) = v.split_once(' ')?;
        scheme.eq_ignore_ascii_case("bearer").then_some(token.trim())
    });
    match (path_key, bearer) {
        (Some(shown), _) | (None, Some(shown)) if key.is(shown) => Ok(()),
        (None, None) => Err(Problem::unauthorised("this source needs its key: `Authorization: Bearer KEY`, or the path `/in/KEY`")),
        _ => Err(Problem::unauthorised("this is not the key of this source")),
    }
}

/// What a sender calls its body, without parameters, in small letters.
pub(crate) fn content_type(headers: &HeaderMap) -> String {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    kind.split(';').next().unwrap_or_default().trim().to_ascii_lowercase()
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

async fn read<'a>(body: Body, headers: &HeaderMap, bound: usize, budget: &'a Semaphore, held: &mut Vec<SemaphorePermit<'a>>) -> Result<Vec<u8>, Problem> {
    let announced = headers.get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()?.parse::<usize>().ok());
    if announced.is_some_and(|n| n > bound) {
        return Err(too_large(format!("more than {bound} bytes")));
    }
    let mut body = body;
    // What is only announced takes no memory yet, beyond a first piece.
    let mut bytes = buffers::take(announced.unwrap_or(0).min(bound).min(1 << 20));
    let reading = async {
        while let Some(frame) = body.frame().await {
            let frame =
                frame.map_err(|_| Problem::new(StatusCode::BAD_REQUEST, "cut-off", "The body was cut off", "the connection ended before the body did"))?;
            if let Ok(data) = frame.into_data() {
                if bytes.len() + data.len() > bound {
                    return Err(too_large(format!("more than {bound} bytes")));
                }
                let room = u32::try_from(data.len()).ok().and_then(|n| budget.try_acquire_many(n).ok());
                held.push(room.ok_or_else(|| busy("too much is being sent at once"))?);
                bytes.extend_from_slice(&data);
            }
        }
        Ok(())
    };
    match tokio::time::timeout(BODY_TIME, reading).await {
        Ok(done) => done.map(|()| bytes),
        Err(_) => Err(Problem::new(StatusCode::REQUEST_TIMEOUT, "too-slow", "The body took too long", "it did not arrive within 60 seconds")),
    }
}
