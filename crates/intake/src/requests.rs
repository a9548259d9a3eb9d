//! What sources that are sent requests share: who is let in, how much is read, and what is told of it.

use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use arc_swap::ArcSwap;
use axum::body::Body;
use axum::http::{HeaderMap, StatusCode, header};
use http_body_util::BodyExt;
use rockrose_event::buffers;
use tokio::sync::{Semaphore, SemaphorePermit};

use crate::agents::AgentTurns;
use crate::host::{host_name, is_plain_host};
use crate::unpack::{Unpack, unpack};
use crate::{Attempts, Peer, Problem, Receipt, SenderFault, Sink, SourceMonitor, SourceSettings};

/// How long a body may take to arrive.
const BODY_TIME: Duration = Duration::from_secs(60);
/// A body that takes longer than this must come at least at `LEAST_RATE`.
const GRACE: Duration = Duration::from_secs(10);
/// Slowest pace of a body, in bytes per second.
const LEAST_RATE: f64 = 1_024.0;
/// How long a body that has arrived waits for a place to be worked on.
const PLACE_TIME: Duration = Duration::from_secs(1);
/// So many wrong keys, one after another, cost an address nothing.
const FREE_FAILURES: u32 = 20;

/// The memory that bodies under way may take together, shared by all sources of a service.
#[derive(Debug)]
pub(crate) struct BodyBudget {
    pub(crate) bytes: Semaphore,
    unpacking: Semaphore,
    /// Places for bodies over gRPC that are unpacked.
    pub(crate) grpc: Semaphore,
    /// Who showed wrong keys.
    pub(crate) attempts: Attempts,
    /// Whose turn it is among what agents send.
    pub(crate) agents: AgentTurns,
}

/// Most bytes of bodies, as sent, that are held at once.
const BODY_BUDGET: usize = 256 << 20;
/// Most bodies over gRPC that are unpacked at once.
const GRPC: usize = 8;
/// Most bodies that are unpacked at once.
const UNPACKING: usize = 2;

impl Default for BodyBudget {
    fn default() -> BodyBudget {
        BodyBudget {
            bytes: Semaphore::new(BODY_BUDGET),
            unpacking: Semaphore::new(UNPACKING),
            grpc: Semaphore::new(GRPC),
            attempts: Attempts::new(FREE_FAILURES),
            agents: AgentTurns::default(),
        }
    }
}

pub(crate) struct Shared<S> {
    pub(crate) settings: Arc<ArcSwap<SourceSettings>>,
    pub(crate) sink: Arc<S>,
    pub(crate) budget: Arc<BodyBudget>,
    pub(crate) monitor: Arc<SourceMonitor>,
    pub(crate) under_way: AtomicUsize,
}

impl<S> Shared<S> {
    /// Lets a request in that shows what it must, while others can be worked on; by the settings that it met.
    pub(crate) fn admit(&self, path_key: Option<&str>, headers: &HeaderMap, from: Option<IpAddr>) -> Result<Arc<SourceSettings>, Problem> {
        let settings = self.settings.load_full();
        by_its_name(&settings, headers)?;
        if settings.key.is_some() {
            if let Some(wait) = from.and_then(|from| self.budget.attempts.wait(from)) {
                return Err(Problem::too_many_failures(wait));
            }
            let authorised = authorise(&settings, path_key, headers);
            match from {
                Some(from) if authorised.is_ok() => self.budget.attempts.succeeded(from),
                Some(from) => {
                    self.budget.attempts.failed(from);
                }
                None => {}
            }
            authorised?;
        } else {
            authorise(&settings, path_key, headers)?;
        }
        // A body that will have no place need not be sent.
        if self.under_way.load(Ordering::Relaxed) >= settings.max_requests { Err(busy(BUSY)) } else { Ok(settings) }
    }

    /// Takes a place for a body that has arrived: those that are still on their way take none, so that slow ones keep nobody out.
    pub(crate) async fn place(&self, settings: &SourceSettings) -> Result<UnderWay<'_>, Problem> {
        let until = tokio::time::Instant::now() + PLACE_TIME;
        loop {
            if let Some(place) = UnderWay::enter(&self.under_way, settings.max_requests) {
                return Ok(place);
            }
            if tokio::time::Instant::now() >= until {
                return Err(busy(BUSY));
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }
}

const BUSY: &str = "too many requests at once";

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

/// Whence a request came.
pub(crate) fn peer(extensions: &axum::http::Extensions) -> Option<IpAddr> {
    extensions.get::<Peer>().map(|peer| peer.0.ip())
}

/// Notes what became of a body.
pub(crate) fn note(monitor: &SourceMonitor, taken: &Result<Receipt, Problem>, from: Option<IpAddr>) {
    match taken {
        Ok(receipt) => monitor.receipt(receipt, from),
        Err(problem) => {
            let what = match problem.status() {
                StatusCode::UNAUTHORIZED => SenderFault::Key,
                StatusCode::PAYLOAD_TOO_LARGE => SenderFault::TooLarge,
                StatusCode::SERVICE_UNAVAILABLE if problem.is(BUSY_KIND) => SenderFault::Busy,
                StatusCode::SERVICE_UNAVAILABLE => SenderFault::PushedBack,
                StatusCode::REQUEST_TIMEOUT => SenderFault::Busy,
                StatusCode::TOO_MANY_REQUESTS => SenderFault::Key,
                _ => SenderFault::Format,
            };
            monitor.wrong(what, problem.detail(), from);
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
    let encodings: Result<Vec<&str>, _> = headers.get_all(header::CONTENT_ENCODING).into_iter().map(|value| value.to_str()).collect();
    let encoding = encodings.map_err(|_| unknown_encoding())?.join(",");
    let mut held = Vec::new();
    let body = read(body, headers, settings.max_body, &shared.budget.bytes, &mut held).await?;
    let _place = shared.place(settings).await?;
    let bound = settings.max_unpacked;
    let plain = encoding.is_empty() || body.is_empty();
    let unpacking = if plain { None } else { shared.budget.unpacking.acquire().await.ok() };
    let body = if plain {
        body
    } else {
        let unpacked = tokio::task::spawn_blocking(move || unpack(body, &encoding, bound)).await;
        unpacked.map_err(|_| Problem::internal("the body could not be decompressed"))?.map_err(|e| match e {
            Unpack::UnknownEncoding => unknown_encoding(),
            Unpack::SeveralEncodings => unsupported_encoding("the body has several content encodings; send it with one, or plain"),
            Unpack::Damaged(why) => Problem::new(StatusCode::BAD_REQUEST, "damaged-body", "The body cannot be decompressed", why),
            Unpack::TooLarge => too_large(format!("more than {bound} bytes after decompression")),
        })?
    };
    let done = then(body).await;
    drop(unpacking);
    done
}

const BUSY_KIND: &str = "busy";

fn busy(detail: &str) -> Problem {
    Problem::unavailable(BUSY_KIND, detail).retry_after(1)
}

fn unknown_encoding() -> Problem {
    unsupported_encoding("send the body plain, or as gzip, deflate or zstd")
}

fn unsupported_encoding(detail: &str) -> Problem {
    Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "unknown-encoding", "Unsupported content encoding", detail)
}

pub(crate) fn too_large(detail: String) -> Problem {
    Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "body-too-large", "The body is too large", detail)
}

/// Turns away what pages of other sites make a browser send: to a source that listens on this machine alone, by a name that they have lead here; and to any that asks for no key.
fn by_its_name(settings: &SourceSettings, headers: &HeaderMap) -> Result<(), Problem> {
    let text = |name: header::HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let host = text(header::HOST).map(host_name);
    if settings.listen.is_some_and(|listen| listen.ip().is_loopback())
        && let Some(host) = host.as_ref().filter(|host| !is_plain_host(host))
    {
        let detail = format!("this source listens on this machine alone and is not known as `{host}`");
        return Err(Problem::new(StatusCode::MISDIRECTED_REQUEST, "unknown-host", "Unknown host", detail));
    }
    let site = headers.get("sec-fetch-site").and_then(|value| value.to_str().ok());
    let origin = text(header::ORIGIN).map(|origin| origin.split_once("://").map_or("", |(_, rest)| rest));
    let is_foreign = site.is_some_and(|site| site != "same-origin" && site != "none") || origin.is_some_and(|origin| host != Some(host_name(origin)));
    if settings.key.is_none() && is_foreign {
        let detail = "a page of another site may send only to a source with a key";
        return Err(Problem::new(StatusCode::FORBIDDEN, "other-site", "From another site", detail));
    }
    Ok(())
}

fn authorise(settings: &SourceSettings, path_key: Option<&str>, headers: &HeaderMap) -> Result<(), Problem> {
    let Some(key) = &settings.key else {
        return match path_key {
            None => Ok(()),
            Some(_) => Err(Problem::not_found("events must be posted to `/in`")),
        };
    };
    let bearer = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).and_then(|v| {
        let (scheme, token) = v.split_once(' ')?;
        scheme.eq_ignore_ascii_case("bearer").then_some(token.trim())
    });
    match (path_key, bearer) {
        (Some(shown), _) | (None, Some(shown)) if key.is(shown) => Ok(()),
        (None, None) => Err(Problem::unauthorised("this source needs its key: `Authorization: Bearer KEY`, or the path `/in/KEY`")),
        _ => Err(Problem::unauthorised("wrong key for this source")),
    }
}

/// What a sender calls its body, without parameters, in small letters.
pub(crate) fn content_type(headers: &HeaderMap) -> String {
    let kind = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    kind.split(';').next().unwrap_or_default().trim().to_ascii_lowercase()
}

/// Reads a body as it is sent, within `bound` bytes and the budget for all, in bounded time.
pub(crate) async fn read<'a>(
    body: Body,
    headers: &HeaderMap,
    bound: usize,
    budget: &'a Semaphore,
    held: &mut Vec<SemaphorePermit<'a>>,
) -> Result<Vec<u8>, Problem> {
    let announced = headers.get(header::CONTENT_LENGTH).and_then(|v| v.to_str().ok()?.parse::<usize>().ok());
    if announced.is_some_and(|n| n > bound) {
        return Err(too_large(format!("more than {bound} bytes")));
    }
    let mut body = body;
    // What is only announced takes no memory yet, beyond a first piece.
    let mut bytes = buffers::take(announced.unwrap_or(0).min(bound).min(1 << 20));
    let begun = tokio::time::Instant::now();
    let too_slow = |detail: String| Problem::new(StatusCode::REQUEST_TIMEOUT, "too-slow", "The body took too long", detail);
    let reading = async {
        loop {
            let pace = Duration::from_secs_f64(bytes.len() as f64 / LEAST_RATE);
            let frame = tokio::time::timeout_at(begun + GRACE + pace, body.frame()).await;
            let frame = frame.map_err(|_| too_slow(format!("it arrives at less than {LEAST_RATE} bytes a second")))?;
            let Some(frame) = frame else { return Ok(()) };
            let frame =
                frame.map_err(|_| Problem::new(StatusCode::BAD_REQUEST, "cut-off", "The body ended early", "the connection ended before the body did"))?;
            if let Ok(data) = frame.into_data() {
                if bytes.len() + data.len() > bound {
                    return Err(too_large(format!("more than {bound} bytes")));
                }
                let room = u32::try_from(data.len()).ok().and_then(|n| budget.try_acquire_many(n).ok());
                held.push(room.ok_or_else(|| busy("too much data at once"))?);
                bytes.extend_from_slice(&data);
            }
        }
    };
    match tokio::time::timeout(BODY_TIME, reading).await {
        Ok(done) => done.map(|()| bytes),
        Err(_) => Err(too_slow("it did not arrive within 60 seconds".to_owned())),
    }
}
