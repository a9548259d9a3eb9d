//! What a batch adds to the metrics that `count` and `measure` steps keep.

use std::collections::BTreeMap;

/// The label of everything past the bound.
pub const OTHER: &str = "(other)";
/// Buckets of a histogram double in width every so many.
const BUCKETS_A_DOUBLING: f64 = 4.0;
/// The bucket of zero and of what is below.
pub const ZERO_BUCKET: i32 = i32::MIN;

/// A metric and its labels' values.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Series {
    /// The metric's name.
    pub metric: String,
    /// Labels, by name.
    pub labels: Vec<(String, String)>,
}

/// What is added to a series.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Added {
    /// How many events, weights counted.
    pub count: f64,
    /// Of a histogram: the sum of the values, weights counted, and how many lie in each bucket.
    pub values: Option<(f64, BTreeMap<i32, f64>)>,
}

impl Added {
    /// Adds `other` to it.
    pub fn add(&mut self, other: &Added) {
        self.count += other.count;
        if let Some((sum, buckets)) = &other.values {
            let mine = self.values.get_or_insert_with(Default::default);
            mine.0 += sum;
            for (bucket, count) in buckets {
                *mine.1.entry(*bucket).or_default() += count;
            }
        }
    }
}

/// The bucket that a value falls into: bucket *i* ends at 2^(*i* / 4), its end included.
#[must_use]
pub fn bucket(value: f64) -> i32 {
    if value <= 0.0 { ZERO_BUCKET } else { (value.log2() * BUCKETS_A_DOUBLING).ceil() as i32 }
}

/// Where a bucket ends.
#[must_use]
pub fn bucket_end(bucket: i32) -> f64 {
    if bucket == ZERO_BUCKET { 0.0 } else { (f64::from(bucket) / BUCKETS_A_DOUBLING).exp2() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_value_lies_at_or_below_its_buckets_end_and_above_the_one_before() {
        for value in [1e-9, 0.3, 1.0, 1.0001, 2.0, 3.7, 250.0, 1e12] {
            let b = bucket(value);
            assert!(value <= bucket_end(b) * (1.0 + 1e-12) && value > bucket_end(b - 1), "{value} in {b}");
        }
        assert_eq!((bucket(0.0), bucket(-3.0), bucket_end(ZERO_BUCKET)), (ZERO_BUCKET, ZERO_BUCKET, 0.0));
    }
}
