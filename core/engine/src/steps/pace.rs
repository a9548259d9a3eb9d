//! Steps that look at how fast events come: `limit`, and `sample to N per …`.
//!
//! Their memory is one node's and lasts as long as the plan runs; keys are bounded, and what comes past the bound shares one key.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use xxhash_rust::xxh3::{Xxh3DefaultBuilder, xxh3_64};

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
}

impl Targets {
    pub(super) fn new(count: u64, per_ms: i64) -> Targets {
        Targets { target: count as f64, per_ms, seen: Mutex::default() }
    }

    /// How many events one kept event of `key` must stand for, this one counted. It is 1 while a key is rare.
    pub(super) fn weight(&self, key: &[u8], now_ms: i64) -> f64 {
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let stretch = now_ms.div_euclid(self.per_ms);
        let key = entry(&mut seen, key, |s| s.stretch + 1 < stretch);
        if stretch > key.stretch {
            key.before = if stretch == key.stretch + 1 { key.now } else { 0 };
            (key.stretch, key.now) = (stretch, 0);
        }
        key.now += 1;
        // As many as in the stretch before, unless more came already.
        (key.now.max(key.before) as f64 / self.target).max(1.0)
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
        let (mut kept, mut weights) = (0.0, 0.0);
        for second in 0..20 {
            for n in 0..5_000i64 {
                let weight = targets.weight(b"common", second * 1_000 + n / 5);
                if second >= 1 {
                    kept += 1.0 / weight;
                    weights += 1.0;
                }
            }
            for n in 0..20 {
                assert_eq!(targets.weight(b"rare", second * 1_000 + n), 1.0);
            }
        }
        let per_second: f64 = kept / 19.0;
        assert!((45.0..=55.0).contains(&per_second), "{per_second} kept of {weights}");
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
