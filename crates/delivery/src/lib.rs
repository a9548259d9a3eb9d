//! Open protocols out: one worker for each destination takes from its own queue, sends, retries, and records what became of each event.
//!
//! Workers share nothing but the spool, so a slow or dead destination holds up nobody else. A worker learns from its [`Outlet`] whether events were taken, were refused for good,
//! or should be tried again; only the worker knows about retries, bisection and the account.

mod archive;
mod concurrency;
mod discard;
mod file;
mod health;
mod http;
mod otlp;
mod parquet;
mod probe;
mod rotation;
pub mod standin;
mod syslog;
mod tls;
mod worker;

use std::time::Duration;

use rockrose_plan::{FileDestination, SyslogDestination};

pub use archive::ArchiveSettings;
pub use health::{Answers, Health, HealthHandle, State};
pub use http::HttpSettings;
pub use probe::{ProbeStep, probe};
pub use worker::{Worker, WorkerSettings};

/// What a destination is, with everything that is needed to send to it.
#[derive(Clone, PartialEq, Eq)]
pub enum Kind {
    /// Appends to a file.
    File(FileDestination),
    /// Posts events.
    Http(HttpSettings),
    /// Sends OTLP log records over gRPC.
    Grpc(HttpSettings),
    /// Sends syslog messages.
    Syslog(SyslogDestination),
    /// Keeps events in objects.
    Archive(ArchiveSettings),
    /// Lets events go.
    Discard,
}

/// Why events were not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Failure {
    /// Not now: the same events may be taken later.
    Later {
        /// In the destination's own words, or the system's.
        why: String,
        /// When to come back, if it said so.
        after: Option<Duration>,
    },
    /// At least one of these events is refused for good.
    Refused(String),
    /// So many at once are refused; fewer may be taken.
    TooLarge(String),
}

impl Failure {
    /// Not now, and nobody said when.
    pub(crate) fn later(why: impl Into<String>) -> Failure {
        Failure::Later { why: why.into(), after: None }
    }

    /// What is said of it.
    pub(crate) fn why(self) -> String {
        let (Failure::Later { why, .. } | Failure::Refused(why) | Failure::TooLarge(why)) = self;
        why
    }
}

/// What became of events that a destination has answered for.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Taken {
    /// How long its file is now.
    length: Option<u64>,
    /// So many of them it refused for good, without saying which, and why.
    refused: Option<(u64, String)>,
}

impl Taken {
    /// It has all of them.
    pub(crate) fn all() -> Taken {
        Taken::default()
    }
}

/// A way out: one kind of destination, open.
pub(crate) enum Outlet {
    File(Box<file::FileOutlet>),
    Http(Box<http::HttpOutlet>),
    Grpc(Box<otlp::GrpcOutlet>),
    Syslog(Box<syslog::SyslogOutlet>),
    Archive(Box<archive::ArchiveOutlet>),
    Discard(discard::DiscardOutlet),
}

impl Outlet {
    /// Opens the way to a destination. What cannot be opened is told in words.
    async fn open(settings: &WorkerSettings, spool: &rockrose_spool::Spool) -> Result<Outlet, String> {
        match &settings.kind {
            Kind::File(file) => {
                let reached = spool.reached(&settings.name, &file.path).await.map_err(|e| e.to_string())?;
                Ok(Outlet::File(Box::new(file::FileOutlet::new(file.clone(), reached))))
            }
            Kind::Http(http) => Ok(Outlet::Http(Box::new(http::HttpOutlet::new(http.clone())?))),
            Kind::Grpc(http) => Ok(Outlet::Grpc(Box::new(otlp::GrpcOutlet::new(http.clone())?))),
            Kind::Syslog(syslog) => Ok(Outlet::Syslog(Box::new(syslog::SyslogOutlet::new(syslog.clone())?))),
            Kind::Archive(archive) => Ok(Outlet::Archive(Box::new(archive::ArchiveOutlet::new(archive.clone())?))),
            Kind::Discard => Ok(Outlet::Discard(discard::DiscardOutlet)),
        }
    }

    /// Most bytes to send at once.
    pub(crate) fn max_batch(&self) -> usize {
        match self {
            Outlet::File(_) => file::MAX_BATCH,
            Outlet::Http(http) => http.max_batch(),
            Outlet::Grpc(grpc) => grpc.max_batch(),
            Outlet::Syslog(syslog) => syslog.max_batch(),
            Outlet::Archive(archive) => archive.max_batch(),
            Outlet::Discard(_) => discard::MAX_BATCH,
        }
    }

    /// Sends the first events of a parcel. `Ok` means the destination has done with all of them for good.
    pub(crate) async fn send(&mut self, parcel: &rockrose_spool::DeliveryBatch, events: usize) -> Result<Taken, Failure> {
        let lines = parcel.front(events);
        match self {
            Outlet::File(file) => file.send(lines).await.map(|length| Taken { length: Some(length), ..Taken::all() }),
            Outlet::Http(http) => http.send(lines, parcel.origins(events)).await,
            Outlet::Grpc(grpc) => grpc.send(lines, events).await,
            Outlet::Syslog(syslog) => syslog.send(&lines).await.map(|()| Taken::all()),
            Outlet::Archive(archive) => archive.send(lines, parcel.origins(events)).await,
            Outlet::Discard(discard) => discard.send(&lines).map(|()| Taken::all()),
        }
    }

    /// What must be done before anything is sent. Of a file, the length that the spool is to know before that.
    pub(crate) async fn prepare(&mut self) -> Result<Option<u64>, Failure> {
        if let Outlet::File(file) = self { file.prepare().await } else { Ok(None) }
    }

    /// What was sent last is now settled in the spool.
    pub(crate) fn settled(&mut self) {
        if let Outlet::File(file) = self {
            file.settled();
        }
    }
}

/// The first cause of a failure.
pub(crate) fn deepest<'a>(e: &'a (dyn std::error::Error + 'static)) -> &'a (dyn std::error::Error + 'static) {
    let mut cause = e;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    cause
}

/// Somebody else's words on one line, without secrets, and at most so many characters of them.
pub(crate) fn one_line<'a>(text: &str, secrets: impl Iterator<Item = &'a str>, most: usize) -> String {
    let text = secrets.fold(text.to_owned(), |text, secret| text.replace(secret, "***"));
    let words: Vec<&str> = text.split_whitespace().collect();
    words.join(" ").chars().filter(|c| !c.is_control()).take(most).collect()
}

/// Milliseconds since 1970.
pub(crate) fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

#[cfg(test)]
mod tests;
