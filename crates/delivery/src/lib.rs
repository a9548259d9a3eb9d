//! Open protocols out: one worker for each destination takes from its own queue, sends, retries, and records what became of each event.
//!
//! Workers share nothing but the spool, so a slow or dead destination holds up nobody else. See [`Kind`] for what a kind of
//! destination is.

mod concurrency;
mod day;
mod freshness;
mod health;
mod kind;
mod kinds;
mod probe;
mod reach;
pub mod standin;
mod tls;
mod words;
mod worker;

pub use day::AnswersThen;
pub use freshness::Freshness;
pub use health::{Answers, Health, HealthHandle, State};
pub use kind::{Failure, Gathering, Kind, Limits, OpenError, Outgoing, Outlet, Resolver, Taken, Target, TlsError};
#[cfg(feature = "archive")]
pub use kinds::ArchiveSettings;
#[cfg(feature = "mail")]
pub use kinds::MailSettings;
pub use kinds::{Discard, GrpcSettings, HttpSettings, planned, real_path};
pub use probe::{Probe, ProbeStep};
pub use reach::probe;
pub use words::without_words;
pub use worker::{Worker, WorkerSettings};

/// Milliseconds since 1970.
pub(crate) fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

#[cfg(test)]
mod tests;
