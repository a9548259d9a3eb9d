//! A stand-in for an outside destination: takes JSON lines over HTTP, keeps them in a file, and can be made slow, refusing or failing.

use std::io::Write;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use axum::body::Bytes;
use axum::extract::{DefaultBodyLimit, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::routing::{get, post};
use axum::{Json, Router};
use serde_json::{Value, json};
use tokio::sync::Mutex;

/// Largest body it takes, in bytes.
const MAX_BODY: usize = 128 << 20;

/// How a stand-in behaves.
#[derive(Clone, Debug, Default)]
pub struct StandIn {
    /// The file that what it takes is appended to; none: it is only counted.
    pub into: Option<PathBuf>,
    /// The token it asks for.
    pub token: Option<String>,
    /// How long it thinks before it answers.
    pub delay: Duration,
    /// It answers 503 to one request in so many; 0: never.
    pub fail_one_in: u64,
    /// It answers 422 to a body in which this text stands.
    pub refuse_text: Option<String>,
}

struct Shared {
    settings: StandIn,
    file: Option<Mutex<std::fs::File>>,
    requests: AtomicU64,
    events: AtomicU64,
    bytes: AtomicU64,
}

/// Serves a stand-in on `listener` until `stop` resolves. It takes `POST /in` and tells what it has at `GET /`.
pub async fn serve(settings: StandIn, listener: tokio::net::TcpListener, stop: impl Future<Output = ()> + Send + 'static) -> std::io::Result<()> {
    let file = match &settings.into {
        None => None,
        Some(path) => Some(Mutex::new(std::fs::OpenOptions::new().create(true).append(true).open(path)?)),
    };
    let shared = Arc::new(Shared { settings, file, requests: AtomicU64::new(0), events: AtomicU64::new(0), bytes: AtomicU64::new(0) });
    let router = Router::new().route("/in", post(take)).route("/", get(tell)).layer(DefaultBodyLimit::max(MAX_BODY)).with_state(shared);
    axum::serve(listener, router).with_graceful_shutdown(stop).await
}

/// Binds an address for [`serve`].
pub async fn bind(address: SocketAddr) -> std::io::Result<tokio::net::TcpListener> {
    tokio::net::TcpListener::bind(address).await
}

async fn tell(State(shared): State<Arc<Shared>>) -> Json<Value> {
    let of = |n: &AtomicU64| n.load(Ordering::Relaxed);
    Json(json!({ "requests": of(&shared.requests), "events": of(&shared.events), "bytes": of(&shared.bytes) }))
}

async fn take(State(shared): State<Arc<Shared>>, headers: HeaderMap, body: Bytes) -> (StatusCode, String) {
    let number = shared.requests.fetch_add(1, Ordering::Relaxed) + 1;
    let settings = &shared.settings;
    tokio::time::sleep(settings.delay).await;
    if let Some(token) = &settings.token
        && headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()) != Some(&format!("Bearer {token}"))
    {
        return (StatusCode::UNAUTHORIZED, "wrong token".into());
    }
    if settings.fail_one_in > 0 && number.is_multiple_of(settings.fail_one_in) {
        return (StatusCode::SERVICE_UNAVAILABLE, "not now".into());
    }
    let gzip = headers.get(header::CONTENT_ENCODING).is_some_and(|v| v == "gzip");
    let lines = if gzip {
        let mut out = Vec::new();
        match std::io::copy(&mut flate2::read::MultiGzDecoder::new(&body[..]), &mut out) {
            Ok(_) => out,
            Err(_) => return (StatusCode::BAD_REQUEST, "not gzip".into()),
        }
    } else {
        body.to_vec()
    };
    if let Some(text) = &settings.refuse_text
        && lines.windows(text.len().max(1)).any(|w| w == text.as_bytes())
    {
        return (StatusCode::UNPROCESSABLE_ENTITY, "there is an event that this place does not take".into());
    }
    let events: Result<Vec<Value>, _> = lines.split(|b| *b == b'\n').filter(|l| !l.is_empty()).map(serde_json::from_slice).collect();
    let Ok(events) = events else { return (StatusCode::BAD_REQUEST, "not JSON lines".into()) };
    if let Some(file) = &shared.file {
        let mut file = file.lock().await;
        if file.write_all(&lines).is_err() {
            return (StatusCode::INSUFFICIENT_STORAGE, "cannot keep it".into());
        }
    }
    shared.events.fetch_add(events.len() as u64, Ordering::Relaxed);
    shared.bytes.fetch_add(lines.len() as u64, Ordering::Relaxed);
    (StatusCode::OK, json!({ "taken": events.len() }).to_string())
}
