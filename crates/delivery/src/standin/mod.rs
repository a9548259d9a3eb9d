//! Stand-ins for outside destinations: each speaks one protocol, keeps what it takes in a file or folder, and can be made slow, refusing, failing or silent, also by a schedule.

mod grpc;
mod http;
mod mail;
mod mood;
mod store;
mod syslog;

use std::io::Write;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

pub use mood::{Mood, Schedule};

/// What a stand-in speaks.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Speaks {
    /// HTTP: JSON lines at `/in`, OTLP log records at `/v1/logs`; `GET /` tells what it has.
    #[default]
    Http,
    /// OTLP log records over gRPC.
    Grpc,
    /// Syslog messages over TCP, each after its length, and over UDP at the same port.
    Syslog,
    /// SMTP: letters, kept as they are read.
    Mail,
    /// The S3 protocol, as far as writing, reading and listing objects goes.
    Store,
}

/// How a stand-in behaves.
#[derive(Clone, Debug, Default)]
pub struct StandIn {
    /// What it speaks.
    pub speaks: Speaks,
    /// The file that what it takes is appended to; none: it is only counted. Of an object store, the folder of its objects.
    pub into: Option<PathBuf>,
    /// The token it asks for. Of an object store, the access key; of a mail server, the password.
    pub token: Option<String>,
    /// How long it thinks before it answers.
    pub delay: Duration,
    /// It fails one request in so many; 0: never.
    pub fail_one_in: u64,
    /// It refuses a body in which this text stands.
    pub refuse_text: Option<String>,
    /// It takes at most so many events at once; 0: any number.
    pub most_events: usize,
    /// How it is at what time after the first request; well, where nothing is said.
    pub schedule: Schedule,
}

/// What the requests to one stand-in share.
struct Shared {
    settings: StandIn,
    /// When the first request came; the schedule begins with it.
    begun: OnceLock<Instant>,
    file: Option<Mutex<std::fs::File>>,
    requests: AtomicU64,
    events: AtomicU64,
    bytes: AtomicU64,
}

impl Shared {
    fn new(settings: StandIn) -> std::io::Result<Shared> {
        let file = match &settings.into {
            Some(path) if settings.speaks != Speaks::Store => Some(Mutex::new(std::fs::OpenOptions::new().create(true).append(true).open(path)?)),
            _ => None,
        };
        Ok(Shared { settings, begun: OnceLock::new(), file, requests: AtomicU64::new(0), events: AtomicU64::new(0), bytes: AtomicU64::new(0) })
    }

    /// How it is to the next request.
    fn mood(&self) -> Mood {
        let number = self.requests.fetch_add(1, Ordering::Relaxed) + 1;
        if self.settings.fail_one_in > 0 && number.is_multiple_of(self.settings.fail_one_in) {
            return Mood::Failing;
        }
        match self.settings.schedule.at(self.begun.get_or_init(Instant::now).elapsed()) {
            Mood::Well if !self.settings.delay.is_zero() => Mood::Slow(self.settings.delay),
            mood => mood,
        }
    }

    /// Whether there is something in `body` that it refuses.
    fn refuses(&self, body: &[u8]) -> bool {
        self.settings.refuse_text.as_ref().is_some_and(|text| memchr::memmem::find(body, text.as_bytes()).is_some())
    }

    /// Whether so many events are too many at once.
    fn is_too_much(&self, events: usize) -> bool {
        self.settings.most_events > 0 && events > self.settings.most_events
    }

    /// Keeps events, a line each.
    fn keep(&self, events: usize, lines: &[u8]) -> std::io::Result<()> {
        if let Some(file) = &self.file {
            file.lock().unwrap_or_else(PoisonError::into_inner).write_all(lines)?;
        }
        self.events.fetch_add(events as u64, Ordering::Relaxed);
        self.bytes.fetch_add(lines.len() as u64, Ordering::Relaxed);
        Ok(())
    }
}

/// What is said of what it does not take.
const REFUSAL: &str = "it has an event that this place does not accept";

/// What is said where too much comes at once.
const TOO_MUCH: &str = "the body is too large: it has more events than this place accepts at once";

/// Waits for ever.
async fn hang() {
    std::future::pending::<()>().await;
}

/// Serves a stand-in on `listener` until `stop` resolves.
pub async fn serve(settings: StandIn, listener: tokio::net::TcpListener, stop: impl Future<Output = ()> + Send + 'static) -> std::io::Result<()> {
    let speaks = settings.speaks;
    let shared = std::sync::Arc::new(Shared::new(settings)?);
    match speaks {
        Speaks::Http => axum::serve(listener, http::router(shared)).with_graceful_shutdown(stop).await,
        Speaks::Store => axum::serve(listener, store::router(shared)?).with_graceful_shutdown(stop).await,
        Speaks::Grpc => grpc::serve(shared, listener, stop).await,
        Speaks::Syslog => syslog::serve(shared, listener, stop).await,
        Speaks::Mail => mail::serve(shared, listener, stop).await,
    }
}

/// Binds an address for [`serve`].
pub async fn bind(address: SocketAddr) -> std::io::Result<tokio::net::TcpListener> {
    tokio::net::TcpListener::bind(address).await
}
