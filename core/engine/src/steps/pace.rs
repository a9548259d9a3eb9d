//! Steps that look at how fast events come: `limit`, and `sample to N per …`.
//!
//! Their memory is one node's and lasts as long as the plan runs; keys are bounded, and what comes past the bound shares one key.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use xxhash_rust::xxh3::{Xxh3DefaultBuilder, xxh3_64, xxh3_64_with_seed};

/// Most keys that have a pace of their own.
const MAX_KEYS: usize = 100_000;

type Keyed<T> = Mutex<HashMap<u64, T, Xxh3DefaultBuilder>>;

/// The entry of a key; past the bound, one that all further keys share. `idle` says which entries may be forgotten to make room.
fn entry<'a, T: Default>(map: &'a mut HashMap<u64, T, Xxh3DefaultBuilder>, key: &[u8], idle: impl Fn(&T) -> bool) -> &'a mut T {
    let mut hash = xxh3_64(key);
    if map.len() >= MAX_KEYS && !map.contains_key(&hash) {
        map.retain(|_, value| !idle(value));
        if map.len() >= MAX_KEYS {
            hash = 0;
        }
    }
    map.entry(hash).or_default()
}

/// A token bucket for each key: it holds one unit of time's worth and is filled steadily.
#[derive(Debug)]
pub(super) struct Buckets {
    most: f64,
    per_ms: f64,
    buckets: Keyed<Bucket>,
}

#[derive(Debug, Default)]
struct Bucket {
    /// Tokens taken and not yet given back.
    taken: f64,
    at_ms: i64,
}

impl Buckets {
    pub(super) fn new(count: u64, per_ms: i64) -> Buckets {
        Buckets { most: count as f64, per_ms: count as f64 / per_ms as f64, buckets: Mutex::default() }
    }

    /// Whether one more of `key` may pass at `now_ms`.
    pub(super) fn pass(&self, key: &[u8], now_ms: i64) -> bool {
        let mut buckets = self.buckets.lock().unwrap_or_else(PoisonError::into_inner);
        let left = |b: &Bucket| (b.taken - (now_ms - b.at_ms).max(0) as f64 * self.per_ms).max(0.0);
        let bucket = entry(&mut buckets, key, |b| left(b) == 0.0);
        bucket.taken = left(bucket);
        bucket.at_ms = bucket.at_ms.max(now_ms);
        let pass = bucket.taken + 1.0 <= self.most + 1e-9;
        bucket.taken += f64::from(u8::from(pass));
        pass
    }
}

/// Which events stay where nothing in them decides it: a draw for each, that is the likelier won the more are owed. So of any number that came the right share stays, to within one,
/// while no regular order of events can keep in step with it.
#[derive(Debug, Default)]
pub(super) struct Thinning {
    /// How many more should have stayed.
    owed: f64,
    came: u64,
}

impl Thinning {
    /// Whether one more event stays, when one in `weight` shall. The draw is of what the event holds and of how many came before, so that the first of a plan is always drawn alike.
    pub(super) fn keeps(&mut self, weight: f64, event: &[u8], salt: u64) -> bool {
        // An odd constant with its bits well mixed (2^64 divided by the golden ratio), so that numbers next to each other give seeds far apart.
        let seed = salt.wrapping_add(self.came.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let draw = xxh3_64_with_seed(event, seed) as f64 / u64::MAX as f64;
        self.came += 1;
        self.owed += 1.0 / weight.max(1.0);
        let stays = draw < self.owed;
        self.owed -= f64::from(u8::from(stays));
        stays
    }
}

/// What share of each key's events comes to about the wanted number.
#[derive(Debug)]
pub(super) struct Targets {
    target: f64,
    per_ms: i64,
    seen: Keyed<Seen>,
}

#[derive(Debug, Default)]
struct Seen {
    /// Which stretch of time, and how many came in it and in the one before.
    stretch: i64,
    now: u64,
    before: u64,
    thinning: Thinning,
}

impl Targets {
    pub(super) fn new(count: u64, per_ms: i64) -> Targets {
        Targets { target: count as f64, per_ms, seen: Mutex::default() }
    }

    /// Whether an event of `key` stays, and how many events one that stays stands for. That is 1 while a key is rare.
    pub(super) fn keeps(&self, key: &[u8], now_ms: i64, event: &[u8], salt: u64) -> (bool, f64) {
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let stretch = now_ms.div_euclid(self.per_ms);
        let key = entry(&mut seen, key, |s| s.stretch + 1 < stretch);
        if stretch > key.stretch {
            key.before = if stretch == key.stretch + 1 { key.now } else { 0 };
            (key.stretch, key.now) = (stretch, 0);
        }
        key.now += 1;
        // As many as in the stretch before, unless more came already.
        let weight = (key.now.max(key.before) as f64 / self.target).max(1.0);
        (weight <= 1.0 || key.thinning.keeps(weight, event, salt), weight)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bucket_lets_pass_what_its_pace_allows() {
        let limit = Buckets::new(10, 1_000);
        let passed = |now: i64, key: &str| (0..100).filter(|_| limit.pass(key.as_bytes(), now)).count();
        assert_eq!((passed(0, "a"), passed(0, "b"), passed(0, "a")), (10, 10, 0));
        assert_eq!((passed(500, "a"), passed(1_000, "a"), passed(9_000, "a")), (5, 5, 10));
        // A clock that steps back gives nothing.
        assert_eq!(passed(3_000, "a"), 0);
    }

    #[test]
    fn a_rare_key_is_kept_whole_and_a_common_one_to_its_target() {
        let targets = Targets::new(50, 1_000);
        for second in 0..20 {
            // A burst of one and the same event.
            let kept = (0..5_000i64).filter(|n| targets.keeps(b"common", second * 1_000 + n / 5, b"{}", 0).0).count();
            assert!(second == 0 || (48..=52).contains(&kept), "{kept} in second {second}");
            for n in 0..20 {
                assert_eq!(targets.keeps(b"rare", second * 1_000 + n, b"{}", 0), (true, 1.0));
            }
        }
    }

    #[test]
    fn of_events_that_are_alike_the_right_share_stays() {
        for weight in [1.0, 1.1, 2.0, 20.0, 33.3] {
            let mut thinning = Thinning::default();
            let mut kept = [0; 5];
            for n in 0..50_000usize {
                kept[n % 5] += u32::from(thinning.keeps(weight, &[b'a' + (n % 5) as u8], 0));
            }
            let (all, expected) = (kept.iter().sum::<u32>(), 50_000.0 / weight);
            assert!((f64::from(all) - expected).abs() <= 1.0, "{all} of {expected} at {weight}");
            // Five standard deviations of draws that know nothing of one another; ours vary less.
            let (each, most) = (expected / 5.0, 5.0 * (expected / 5.0 * (1.0 - 1.0 / weight)).sqrt() + 1.0);
            assert!(kept.iter().all(|k| (f64::from(*k) - each).abs() <= most), "{kept:?} at {weight}");
        }
    }

    #[test]
    fn keys_are_bounded() {
        let limit = Buckets::new(1, 3_600_000);
        let passed = (0..MAX_KEYS + 1_000).filter(|n| limit.pass(&n.to_le_bytes(), 0)).count();
        assert!(passed <= MAX_KEYS + 1 && limit.buckets.lock().unwrap().len() <= MAX_KEYS + 1, "{passed}");
        // Once they are idle they make room.
        assert!(limit.pass(b"later", 4_000_000));
        assert!(limit.buckets.lock().unwrap().len() < 10);
    }
}
