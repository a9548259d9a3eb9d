//! Open protocols out: one worker for each destination takes from its own queue, sends, retries, and records what became of each event.
//!
//! Workers share nothing but the spool, so a slow or dead destination holds up nobody else. See [`Kind`] for what a kind of
//! destination is.

mod archive;
mod concurrency;
mod discard;
mod endpoint;
mod file;
mod health;
mod http;
mod kind;
mod otlp;
mod otlp_answer;
mod parquet;
mod probe;
mod rotation;
pub mod standin;
mod syslog;
mod tls;
mod worker;

pub use archive::ArchiveSettings;
pub use discard::Discard;
pub use endpoint::HttpSettings;
pub use health::{Answers, Health, HealthHandle, State};
pub use kind::{Failure, Gathering, Kind, Limits, OpenError, Outgoing, Outlet, Resolver, Taken, Target, TlsError};
pub use otlp::GrpcSettings;
pub use probe::{Probe, ProbeStep, probe};
pub use worker::{Worker, WorkerSettings};

/// Milliseconds since 1970.
pub(crate) fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

#[cfg(test)]
mod tests;
