//! How long events take from their own time to their acceptance, over the last hour, in bounded room.

use std::cell::RefCell;
use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use rockrose_event::usual::Usual;
use rockrose_ledger::{bucket, bucket_end};
use rockrose_spool::DeliveryBatch;
use serde::{Deserialize, Serialize};

/// Of so many events of a body it is looked how old they are.
const LOOKED_AT: usize = 8;
/// How many minutes are remembered.
const MINUTES: i64 = 60;
const MINUTE_MS: i64 = 60_000;

/// How old events were when they were accepted, within the last hour: of some of each body, which stand for the others.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Freshness {
    /// How many events this is about; 0, if none had a time of its own.
    pub events: u64,
    /// Half of them were no older, in milliseconds; times are told to a fifth.
    pub p50_ms: f64,
    /// Nine in ten were no older, in milliseconds.
    pub p90_ms: f64,
    /// Of a hundred, 99 were no older, in milliseconds.
    pub p99_ms: f64,
    /// Share of those that were older than is promised, 0 to 1; nothing, where nothing is.
    pub late: Option<f64>,
}

/// The events of one minute, by their ages.
#[derive(Clone, Debug, Default)]
struct Minute {
    at: i64,
    /// How many, by the buckets of their ages in milliseconds.
    ages: BTreeMap<i32, f64>,
    late: f64,
}

/// The events of an hour.
#[derive(Clone, Debug, Default)]
pub(crate) struct Hour {
    minutes: VecDeque<Minute>,
    /// How old they may be.
    within: Option<Duration>,
}

/// Some of the first `events` of a batch: how old each is, in milliseconds, and for how many it stands.
pub(crate) fn ages(batch: &DeliveryBatch, events: usize, now_ms: i64) -> Vec<(i64, f64)> {
    thread_local! {
        static USUAL: RefCell<Usual> = RefCell::new(Usual::new(&[]));
    }
    let some = batch.some(events, LOOKED_AT);
    let each = events as f64 / some.len().max(1) as f64;
    USUAL.with_borrow_mut(|usual| some.iter().filter_map(|event| usual.age_ms(event, now_ms)).map(|age| (age, each)).collect())
}

impl Hour {
    pub(crate) fn new(within: Option<Duration>) -> Hour {
        Hour { minutes: VecDeque::new(), within }
    }

    pub(crate) fn add(&mut self, now_ms: i64, ages: &[(i64, f64)]) {
        let at = now_ms.div_euclid(MINUTE_MS);
        // A clock that is set back adds to the newest.
        if self.minutes.back().is_none_or(|newest| newest.at < at) {
            self.minutes.push_back(Minute { at, ..Minute::default() });
        }
        self.forget(at);
        let Some(newest) = self.minutes.back_mut() else { return };
        for (age, events) in ages {
            *newest.ages.entry(bucket(*age as f64)).or_default() += events;
            if self.within.is_some_and(|within| *age > within.as_millis() as i64) {
                newest.late += events;
            }
        }
    }

    fn forget(&mut self, at: i64) {
        while self.minutes.front().is_some_and(|oldest| oldest.at <= at - MINUTES) {
            self.minutes.pop_front();
        }
    }

    pub(crate) fn freshness(&mut self, now_ms: i64) -> Freshness {
        self.forget(now_ms.div_euclid(MINUTE_MS));
        let mut ages: BTreeMap<i32, f64> = BTreeMap::new();
        for (bucket, events) in self.minutes.iter().flat_map(|minute| &minute.ages) {
            *ages.entry(*bucket).or_default() += events;
        }
        let all: f64 = ages.values().sum();
        if all <= 0.0 {
            return Freshness::default();
        }
        let at = |share: f64| {
            let mut left = all * share;
            let reaches = |(_, events): &(&i32, &f64)| {
                left -= **events;
                left <= 1e-9
            };
            ages.iter().find(reaches).or(ages.last_key_value()).map_or(0.0, |(bucket, _)| bucket_end(*bucket))
        };
        let late = self.within.map(|_| self.minutes.iter().map(|minute| minute.late).sum::<f64>() / all);
        Freshness { events: all.round() as u64, p50_ms: at(0.5), p90_ms: at(0.9), p99_ms: at(0.99), late }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_hour_is_remembered_and_told_to_a_fifth() {
        let mut hour = Hour::new(Some(Duration::from_secs(30)));
        let now = 1_000 * MINUTE_MS;
        assert_eq!(hour.freshness(now), Freshness::default());
        for n in 0..100 {
            // From 1 to 100 seconds, in the last 50 minutes.
            hour.add(now + n / 2 * MINUTE_MS, &[(1_000 * (n + 1), 10.0)]);
        }
        let told = hour.freshness(now + 49 * MINUTE_MS);
        assert_eq!((told.events, told.late), (1_000, Some(0.7)));
        for (told, exact) in [(told.p50_ms, 50_000.0), (told.p90_ms, 90_000.0), (told.p99_ms, 99_000.0)] {
            assert!((exact..exact * 1.2).contains(&told), "{told} for {exact}");
        }
        // An hour later than the first half, only the second is known; then nothing.
        assert_eq!(hour.freshness(now + 84 * MINUTE_MS).events, 500);
        assert_eq!(hour.freshness(now + 200 * MINUTE_MS), Freshness::default());
        // Clocks that are ahead, or set back.
        hour.add(now + 200 * MINUTE_MS, &[(-5_000, 1.0)]);
        hour.add(now + 100 * MINUTE_MS, &[(1, 1.0)]);
        assert_eq!(hour.freshness(now + 200 * MINUTE_MS), Freshness { events: 2, p50_ms: 0.0, p90_ms: 1.0, p99_ms: 1.0, late: Some(0.0) });
        assert_eq!(Hour::new(None).freshness(now).late, None);
    }
}
