//! Sorted points, searched without going through half of them again and again.

use std::ops::Deref;

/// Something that has a place on a line, if only a rough one: of two, the greater has never the lesser place.
pub(crate) trait Placed: Copy + PartialOrd {
    fn rough(self) -> f64;
}

impl Placed for f64 {
    fn rough(self) -> f64 {
        self
    }
}

impl Placed for u32 {
    fn rough(self) -> f64 {
        f64::from(self)
    }
}

impl Placed for u128 {
    fn rough(self) -> f64 {
        self as f64
    }
}

/// So many are counted one by one.
const FEW: usize = 8;

/// Points in order, with a grid of equal stretches laid over them: a point is looked for in its own stretch only.
#[derive(Debug)]
pub(crate) struct Sorted<T> {
    points: Vec<T>,
    lowest: f64,
    /// Stretches to a unit.
    scale: f64,
    /// How many points lie below each stretch, and at the end how many there are.
    below: Vec<u32>,
}

impl<T: Placed> Sorted<T> {
    /// `points` are sorted already.
    pub(crate) fn new(points: Vec<T>) -> Sorted<T> {
        let stretches = 2 * points.len() + 1;
        let (lowest, highest) = (points.first().map_or(0.0, |p| p.rough()), points.last().map_or(0.0, |p| p.rough()));
        let scale = (stretches - 1) as f64 / (highest - lowest);
        // Points that all lie together, or unspeakably far apart, are one stretch.
        let scale = if scale.is_finite() { scale } else { 0.0 };
        let mut sorted = Sorted { points, lowest, scale, below: vec![0; stretches + 1] };
        for at in 0..sorted.points.len() {
            let stretch = sorted.stretch(sorted.points[at]);
            sorted.below[stretch + 1] += 1;
        }
        for stretch in 0..stretches {
            sorted.below[stretch + 1] += sorted.below[stretch];
        }
        sorted
    }

    #[inline(always)]
    fn stretch(&self, point: T) -> usize {
        // Whatever is below the first, or no number, comes to 0.
        (((point.rough() - self.lowest) * self.scale) as usize).min(self.below.len() - 2)
    }

    /// How many points are less than `point`.
    #[inline(always)]
    pub(crate) fn below(&self, point: T) -> usize {
        self.count(point, |p| p < point)
    }

    /// How many points are `point` or less.
    #[inline(always)]
    pub(crate) fn up_to(&self, point: T) -> usize {
        self.count(point, |p| p <= point)
    }

    #[inline(always)]
    fn count(&self, point: T, of: impl Fn(T) -> bool) -> usize {
        if self.points.len() <= FEW {
            return self.points.iter().filter(|p| of(**p)).count();
        }
        let stretch = self.stretch(point);
        let (from, to) = (self.below[stretch] as usize, self.below[stretch + 1] as usize);
        let near = &self.points[from..to];
        from + if near.len() <= FEW { near.iter().filter(|p| of(**p)).count() } else { near.partition_point(|p| of(*p)) }
    }
}

impl<T> Deref for Sorted<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        &self.points
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::Sorted;

    proptest! {
        #[test]
        fn numbers_are_counted_as_one_by_one(
            mut points in prop::collection::vec(prop_oneof![-50.0..50.0, (-20i32..20).prop_map(f64::from), any::<f64>().prop_filter("ordered", |n| n.is_finite())], 0..60),
            asked in prop::collection::vec(prop_oneof![(-60i32..60).prop_map(f64::from), any::<f64>().prop_filter("a number", |n| !n.is_nan())], 1..40),
        ) {
            points.sort_by(f64::total_cmp);
            let sorted = Sorted::new(points.clone());
            for n in asked.iter().chain(&points) {
                prop_assert_eq!(sorted.below(*n), points.iter().filter(|p| *p < n).count());
                prop_assert_eq!(sorted.up_to(*n), points.iter().filter(|p| *p <= n).count());
            }
        }

        #[test]
        fn addresses_are_counted_as_one_by_one(mut points in prop::collection::vec(any::<u128>(), 0..30), base in any::<u128>(), asked in any::<u128>()) {
            // Several that are the same as far as their rough places go.
            points.extend((0..20).map(|n| base.saturating_add(n)));
            points.sort_unstable();
            let sorted = Sorted::new(points.clone());
            for n in [asked, base, base.saturating_add(7), 0, u128::MAX] {
                prop_assert_eq!(sorted.up_to(n), points.iter().filter(|p| **p <= n).count());
            }
        }
    }
}
