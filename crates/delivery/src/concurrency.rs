//! How many bodies may be on their way at once: one more after each round that went well, half as many after a failure.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Failures so close together are one.
const ONE_FAILURE: Duration = Duration::from_secs(1);

/// The number of lanes that a destination bears.
#[derive(Debug)]
pub(crate) struct ConcurrencyLimit(Mutex<Inner>);

#[derive(Debug)]
struct Inner {
    most: usize,
    /// Grows by one a round, so by a part with each body taken.
    allowed: f64,
    running: usize,
    /// All that wait are on their way: more lanes would find nothing.
    empty: bool,
    failed: Option<Instant>,
}

impl ConcurrencyLimit {
    pub(crate) fn new(most: usize) -> ConcurrencyLimit {
        ConcurrencyLimit(Mutex::new(Inner { most, allowed: 1.0, running: 0, empty: true, failed: None }))
    }

    fn inner(&self) -> std::sync::MutexGuard<'_, Inner> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn allowed(&self) -> usize {
        self.inner().allowed as usize
    }

    /// So many run now, and whether nothing else waits.
    pub(crate) fn busy(&self, running: usize, empty: bool) {
        let mut inner = self.inner();
        (inner.running, inner.empty) = (running, empty);
    }

    /// A body was taken. Only where all lanes have work does that say that there may be more.
    pub(crate) fn took(&self) {
        let mut inner = self.inner();
        if !inner.empty && inner.running >= inner.allowed as usize {
            inner.allowed = (inner.allowed + 1.0 / inner.allowed).min(inner.most as f64);
        }
    }

    /// A body was not taken. Says whether more lanes run than are allowed now.
    pub(crate) fn failed(&self) -> bool {
        let mut inner = self.inner();
        if inner.failed.is_none_or(|at| at.elapsed() > ONE_FAILURE) {
            inner.failed = Some(Instant::now());
            inner.allowed = (inner.allowed / 2.0).floor().max(1.0);
        }
        let too_many = inner.running > inner.allowed as usize;
        if too_many {
            inner.running -= 1;
        }
        too_many
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lanes_grow_by_one_a_round_and_halve_once_for_failures_together() {
        let limit = ConcurrencyLimit::new(6);
        assert_eq!(limit.allowed(), 1);
        for expected in [2, 3, 4, 5, 6, 6, 6] {
            let running = limit.allowed();
            limit.busy(running, false);
            // One more than a round, since parts of it add up to a little less than one.
            (0..=running).for_each(|_| limit.took());
            assert_eq!(limit.allowed(), expected);
        }
        limit.busy(6, false);
        let too_many: Vec<bool> = (0..6).map(|_| limit.failed()).collect();
        assert_eq!(limit.allowed(), 3);
        assert_eq!(too_many, [true, true, true, false, false, false]);
    }

    #[test]
    fn a_queue_that_is_empty_asks_for_no_more_lanes() {
        let limit = ConcurrencyLimit::new(6);
        limit.busy(1, true);
        (0..50).for_each(|_| limit.took());
        assert_eq!(limit.allowed(), 1);
    }
}
