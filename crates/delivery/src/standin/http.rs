//! JSON lines and OTLP log records over HTTP.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use axum::body::{Body, Bytes};
use axum::extract::{DefaultBodyLimit, Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use rockrose_otlp::collector::{ExportLogsServiceRequest, ExportLogsServiceResponse};
use rockrose_otlp::{Message, lines_of_json, to_lines};
use serde_json::{Value, json};

use super::{Mood, REFUSAL, Shared, TOO_MUCH, hang};

/// Largest body it takes, in bytes, packed and unpacked.
const MAX_BODY: usize = 128 << 20;

pub(super) fn router(shared: Arc<Shared>) -> Router {
    let takes = Router::new().route("/in", post(take)).route("/v1/logs", post(take_records)).layer(from_fn_with_state(Arc::clone(&shared), in_mood));
    takes.route("/", get(tell)).layer(DefaultBodyLimit::max(MAX_BODY)).with_state(shared)
}

/// Does to a request what the mood is.
pub(super) async fn in_mood(State(shared): State<Arc<Shared>>, request: Request, next: Next) -> Response {
    match shared.mood() {
        Mood::Well => next.run(request).await,
        Mood::Slow(time) => {
            tokio::time::sleep(time).await;
            next.run(request).await
        }
        Mood::Refusing => (StatusCode::UNPROCESSABLE_ENTITY, REFUSAL).into_response(),
        Mood::Failing => (StatusCode::SERVICE_UNAVAILABLE, "not now").into_response(),
        Mood::Hanging => {
            hang().await;
            StatusCode::OK.into_response()
        }
        Mood::Closing => {
            // The body it promises never comes.
            let broken = futures_util::stream::once(async { Err::<Bytes, _>(std::io::Error::other("closing")) });
            ([(header::CONTENT_LENGTH, "20")], Body::from_stream(broken)).into_response()
        }
    }
}

async fn tell(State(shared): State<Arc<Shared>>) -> Json<Value> {
    let of = |n: &AtomicU64| n.load(Ordering::Relaxed);
    Json(json!({ "requests": of(&shared.requests), "events": of(&shared.events), "bytes": of(&shared.bytes) }))
}

fn signed_in(shared: &Shared, headers: &HeaderMap) -> bool {
    let shown = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
    shared.settings.token.as_ref().is_none_or(|token| shown == Some(&format!("Bearer {token}")))
}

type Refusal = (StatusCode, &'static str);

fn unpacked(headers: &HeaderMap, body: &Bytes) -> Result<Vec<u8>, Refusal> {
    let mut out = Vec::new();
    let read = match headers.get(header::CONTENT_ENCODING).map(|v| v.as_bytes()) {
        None => return Ok(body.to_vec()),
        Some(b"gzip") => std::io::copy(&mut flate2::read::MultiGzDecoder::new(&body[..]), &mut out),
        Some(b"zstd") => zstd::stream::copy_decode(&body[..], &mut out).map(|()| 0),
        Some(_) => return Err((StatusCode::UNSUPPORTED_MEDIA_TYPE, "compressed in an unknown way")),
    };
    read.map(|_| out).map_err(|_| (StatusCode::BAD_REQUEST, "cannot be decompressed"))
}

async fn take(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> Result<Json<Value>, Refusal> {
    if !signed_in(&shared, &headers) {
        return Err((StatusCode::UNAUTHORIZED, "wrong token"));
    }
    let lines = unpacked(&headers, &body)?;
    if shared.refuses(&lines) {
        return Err((StatusCode::UNPROCESSABLE_ENTITY, REFUSAL));
    }
    let events: Result<Vec<Value>, _> = lines.split(|b| *b == b'\n').filter(|l| !l.is_empty()).map(serde_json::from_slice).collect();
    let events = events.map_err(|_| (StatusCode::BAD_REQUEST, "not JSON lines"))?;
    if shared.is_too_much(events.len()) {
        return Err((StatusCode::PAYLOAD_TOO_LARGE, TOO_MUCH));
    }
    shared.keep(events.len(), &lines).map_err(|_| (StatusCode::INSUFFICIENT_STORAGE, "cannot keep it"))?;
    Ok(Json(json!({ "taken": events.len() })))
}

async fn take_records(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> Result<Response, Refusal> {
    if !signed_in(&shared, &headers) {
        return Err((StatusCode::UNAUTHORIZED, "wrong token"));
    }
    let body = unpacked(&headers, &body)?;
    let in_json = headers.get(header::CONTENT_TYPE).is_some_and(|v| v.as_bytes().starts_with(b"application/json"));
    let lines = if in_json {
        lines_of_json(&body, MAX_BODY).ok().filter(|lines| lines.unreadable.is_empty()).map(|lines| lines.text)
    } else {
        ExportLogsServiceRequest::decode(&body[..]).ok().and_then(|request| to_lines(&request, MAX_BODY).ok())
    };
    let lines = lines.ok_or((StatusCode::BAD_REQUEST, "no OTLP request, or too much at once"))?;
    if shared.refuses(&lines) {
        return Err((StatusCode::BAD_REQUEST, REFUSAL));
    }
    let events = memchr::memchr_iter(b'\n', &lines).count();
    if shared.is_too_much(events) {
        return Err((StatusCode::PAYLOAD_TOO_LARGE, TOO_MUCH));
    }
    shared.keep(events, &lines).map_err(|_| (StatusCode::SERVICE_UNAVAILABLE, "cannot keep it"))?;
    let response = ExportLogsServiceResponse::default();
    Ok(if in_json { Json(json!({})).into_response() } else { ([(header::CONTENT_TYPE, "application/x-protobuf")], response.encode_to_vec()).into_response() })
}
