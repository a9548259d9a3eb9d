//! How a destination is doing, for all who ask.

use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};

/// A destination's state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Nothing was sent yet.
    Idle,
    /// It takes what it is sent.
    Healthy,
    /// The last try failed; it is tried again.
    Failing,
    /// It is being stopped, or was.
    Stopped,
}

/// How a destination is doing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Health {
    /// Its state.
    pub state: State,
    /// Since when, in milliseconds since 1970.
    pub since_ms: i64,
    /// Tries that failed in a row.
    pub failures: u32,
    /// What went wrong last, in the destination's own words.
    pub last_error: Option<String>,
    /// When that was, in milliseconds since 1970.
    pub last_error_ms: Option<i64>,
    /// When it is tried again, in milliseconds since 1970.
    pub next_try_ms: Option<i64>,
    /// When it last took something, in milliseconds since 1970.
    pub last_success_ms: Option<i64>,
}

/// Shared by a worker, which writes it, and those who look.
#[derive(Clone, Debug)]
pub struct HealthHandle(Arc<Mutex<Health>>);

impl HealthHandle {
    /// A destination of which nothing is known yet.
    #[must_use]
    pub fn new(now_ms: i64) -> HealthHandle {
        let health =
            Health { state: State::Idle, since_ms: now_ms, failures: 0, last_error: None, last_error_ms: None, next_try_ms: None, last_success_ms: None };
        HealthHandle(Arc::new(Mutex::new(health)))
    }

    /// How it is doing now.
    #[must_use]
    pub fn get(&self) -> Health {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn change(&self, now_ms: i64, state: State, more: impl FnOnce(&mut Health)) {
        let mut health = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if health.state != state {
            health.state = state;
            health.since_ms = now_ms;
        }
        more(&mut health);
    }

    pub(crate) fn took(&self, now_ms: i64) {
        self.change(now_ms, State::Healthy, |h| {
            h.failures = 0;
            h.next_try_ms = None;
            h.last_success_ms = Some(now_ms);
        });
    }

    pub(crate) fn failed(&self, now_ms: i64, why: &str, next_try_ms: i64) {
        self.change(now_ms, State::Failing, |h| {
            h.failures = h.failures.saturating_add(1);
            h.last_error = Some(why.to_owned());
            h.last_error_ms = Some(now_ms);
            h.next_try_ms = Some(next_try_ms);
        });
    }

    pub(crate) fn refused(&self, now_ms: i64, why: &str) {
        self.change(now_ms, State::Healthy, |h| {
            h.last_error = Some(why.to_owned());
            h.last_error_ms = Some(now_ms);
        });
    }

    pub(crate) fn stopped(&self, now_ms: i64) {
        self.change(now_ms, State::Stopped, |h| h.next_try_ms = None);
    }
}
