//! How a destination is doing, for all who ask.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::day::{AnswersThen, Day};
use crate::freshness::{Freshness, Hour};
use crate::now_ms;

/// A destination's state.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Nothing was sent to it yet.
    Idle,
    /// It takes what it is sent.
    Healthy,
    /// It takes what it is sent, but its answers take long.
    Slow,
    /// The last try failed; it is tried again.
    Failing,
    /// An operator holds its events back.
    Paused,
    /// It is being stopped, or was.
    Stopped,
}

/// How a destination is doing.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Health {
    /// Its state.
    pub state: State,
    /// Since when, in milliseconds since 1970.
    pub since_ms: i64,
    /// Consecutive failed delivery attempts.
    pub failures: u32,
    /// What went wrong last, in the destination's own words.
    pub last_error: Option<String>,
    /// When that was, in milliseconds since 1970.
    pub last_error_ms: Option<i64>,
    /// What was noticed last that is no failure, but that somebody should know.
    pub noticed: Option<String>,
    /// When that was, in milliseconds since 1970.
    pub noticed_ms: Option<i64>,
    /// When it is tried again, in milliseconds since 1970.
    pub next_try_ms: Option<i64>,
    /// When it last took something, in milliseconds since 1970.
    pub last_success_ms: Option<i64>,
    /// How long its answers took lately.
    pub answers: Answers,
    /// How old events were when it accepted them.
    pub freshness: Freshness,
}

impl Health {
    /// In this state, with nothing known of it.
    #[must_use]
    pub fn new(state: State, since_ms: i64) -> Health {
        Health {
            state,
            since_ms,
            failures: 0,
            last_error: None,
            last_error_ms: None,
            noticed: None,
            noticed_ms: None,
            next_try_ms: None,
            last_success_ms: None,
            answers: Answers::default(),
            freshness: Freshness::default(),
        }
    }
}

/// How long the last answers took, and how many of them were good.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Answers {
    /// How many answers this is about; at most 256.
    pub count: usize,
    /// Share of those that said it was taken, 0 to 1.
    pub good: f64,
    /// Half of them took no longer, in milliseconds.
    pub p50_ms: f64,
    /// Nine in ten took no longer, in milliseconds.
    pub p90_ms: f64,
    /// Of a hundred, 99 took no longer, in milliseconds.
    pub p99_ms: f64,
}

/// How many answers are remembered.
const LAST: usize = 256;
/// With answers that take longer, half of them, a destination is slow.
const SLOW: Duration = Duration::from_secs(5);

/// Shared by a worker, which writes it, and those who look.
#[derive(Clone, Debug)]
pub struct HealthHandle(Arc<Mutex<Known>>);

#[derive(Debug)]
struct Known {
    health: Health,
    /// How long the last answers took, in milliseconds, and whether they were good; the newest last.
    answers: VecDeque<(f64, bool)>,
    day: Day,
    hour: Hour,
}

impl Known {
    fn answers(&self) -> Answers {
        let count = self.answers.len();
        if count == 0 {
            return Answers::default();
        }
        let mut times: Vec<f64> = self.answers.iter().map(|(ms, _)| *ms).collect();
        times.sort_by(f64::total_cmp);
        let at = |share: f64| times[((count as f64 * share).ceil() as usize).clamp(1, count) - 1];
        let good = self.answers.iter().filter(|(_, good)| *good).count() as f64 / count as f64;
        Answers { count, good, p50_ms: at(0.5), p90_ms: at(0.9), p99_ms: at(0.99) }
    }
}

impl HealthHandle {
    /// A destination of which nothing is known yet.
    #[must_use]
    pub fn new(now_ms: i64) -> HealthHandle {
        HealthHandle::promising(now_ms, None)
    }

    /// As [`HealthHandle::new`], of one at which events are to be accepted within a time.
    pub(crate) fn promising(now_ms: i64, within: Option<Duration>) -> HealthHandle {
        let health = Health::new(State::Idle, now_ms);
        HealthHandle(Arc::new(Mutex::new(Known { health, answers: VecDeque::new(), day: Day::default(), hour: Hour::new(within) })))
    }

    /// How it is doing now.
    #[must_use]
    pub fn get(&self) -> Health {
        let mut known = self.known();
        Health { answers: known.answers(), freshness: known.hour.freshness(now_ms()), ..known.health.clone() }
    }

    /// Its answers over the last day, as far as it is remembered: the stretches in which there were any, the oldest first.
    #[must_use]
    pub fn day(&self) -> Vec<AnswersThen> {
        self.known().day.list()
    }

    fn known(&self) -> std::sync::MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn change(&self, now_ms: i64, state: State, more: impl FnOnce(&mut Health)) {
        let health = &mut self.known().health;
        if health.state != state {
            health.state = state;
            health.since_ms = now_ms;
        }
        more(health);
    }

    /// It accepted events that were so old, in milliseconds, each with how many it stands for.
    pub(crate) fn accepted(&self, now_ms: i64, ages: &[(i64, f64)]) {
        self.known().hour.add(now_ms, ages);
    }

    /// An answer came, or none did.
    pub(crate) fn answered(&self, now_ms: i64, after: Duration, good: bool) {
        let mut known = self.known();
        known.day.add(now_ms, after, good);
        let answers = &mut known.answers;
        if answers.len() == LAST {
            answers.pop_front();
        }
        answers.push_back((after.as_secs_f64() * 1_000.0, good));
    }

    pub(crate) fn took(&self, now_ms: i64) {
        // Judged by the newest few, so that it shows soon and goes soon.
        let mut newest: Vec<f64> = self.known().answers.iter().rev().take(5).map(|(ms, _)| *ms).collect();
        newest.sort_by(f64::total_cmp);
        let slow = newest.get(newest.len() / 2).is_some_and(|ms| *ms > SLOW.as_secs_f64() * 1_000.0);
        self.change(now_ms, if slow { State::Slow } else { State::Healthy }, |h| {
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

    /// Something was noticed that is no failure, but that somebody should know.
    pub(crate) fn noticed(&self, now_ms: i64, what: &str) {
        let health = &mut self.known().health;
        (health.noticed, health.noticed_ms) = (Some(what.to_owned()), Some(now_ms));
    }

    pub(crate) fn paused(&self, now_ms: i64) {
        self.change(now_ms, State::Paused, |h| h.next_try_ms = None);
    }

    /// It was paused, if it was; nothing is known of it again.
    pub(crate) fn resumed(&self, now_ms: i64) {
        if self.known().health.state == State::Paused {
            self.change(now_ms, State::Idle, |_| {});
        }
    }

    pub(crate) fn stopped(&self, now_ms: i64) {
        self.change(now_ms, State::Stopped, |h| h.next_try_ms = None);
    }
}
