//! Small summaries of many values: how many are different, which are most frequent, how numbers are spread.

use xxhash_rust::xxh3::xxh3_64;

/// Registers for the number of different values: their estimate is off by some 6.5 percent (1.04 over the root of their number).
const REGISTERS: usize = 256;
/// Up to so many different values are counted one by one.
const EXACT: usize = 64;

/// How many different values there were.
#[derive(Clone, Debug)]
pub(crate) enum Distinct {
    /// The hashes of those that came, in order.
    Few(Vec<u64>),
    /// For each part of the hashes, the most zeros in front that one had (after Flajolet and others, 2007).
    Many(Box<[u8; REGISTERS]>),
}

impl Distinct {
    pub(crate) fn new() -> Distinct {
        Distinct::Few(Vec::new())
    }

    pub(crate) fn add(&mut self, value: &[u8]) {
        self.add_hash(xxh3_64(value));
    }

    fn add_hash(&mut self, hash: u64) {
        match self {
            Distinct::Few(known) => {
                if let Err(at) = known.binary_search(&hash) {
                    known.insert(at, hash);
                    if known.len() > EXACT {
                        let known = std::mem::take(known);
                        *self = Distinct::Many(Box::new([0; REGISTERS]));
                        known.into_iter().for_each(|hash| self.add_hash(hash));
                    }
                }
            }
            Distinct::Many(registers) => {
                let register = &mut registers[(hash % REGISTERS as u64) as usize];
                *register = (*register).max((hash / REGISTERS as u64).leading_zeros() as u8 - REGISTERS.trailing_zeros() as u8 + 1);
            }
        }
    }

    pub(crate) fn merge(&mut self, other: &Distinct) {
        match other {
            Distinct::Few(hashes) => hashes.iter().for_each(|hash| self.add_hash(*hash)),
            Distinct::Many(theirs) => {
                if let Distinct::Few(known) = self {
                    let known = std::mem::take(known);
                    *self = Distinct::Many(Box::new([0; REGISTERS]));
                    known.into_iter().for_each(|hash| self.add_hash(hash));
                }
                if let Distinct::Many(mine) = self {
                    mine.iter_mut().zip(theirs.iter()).for_each(|(mine, theirs)| *mine = (*mine).max(*theirs));
                }
            }
        }
    }

    /// How many; exact up to 64.
    pub(crate) fn count(&self) -> u64 {
        match self {
            Distinct::Few(known) => known.len() as u64,
            Distinct::Many(registers) => {
                let m = REGISTERS as f64;
                let sum: f64 = registers.iter().map(|r| 2f64.powi(-i32::from(*r))).sum();
                let estimate = 0.7213 / (1.0 + 1.079 / m) * m * m / sum;
                let empty = registers.iter().filter(|r| **r == 0).count();
                let estimate = if estimate <= 2.5 * m && empty > 0 { m * (m / empty as f64).ln() } else { estimate };
                (estimate.round() as u64).max(EXACT as u64 + 1)
            }
        }
    }

    pub(crate) fn is_exact(&self) -> bool {
        matches!(self, Distinct::Few(_))
    }
}

/// Most values that are counted at once.
const KEPT: usize = 48;
/// Longest value that is kept, in bytes.
const LONGEST: usize = 120;

/// The most frequent values, with how often each came at the most, and by how much that may be too many (after Metwally and others, 2005).
#[derive(Clone, Debug, Default)]
pub(crate) struct Top(Vec<(Box<[u8]>, u64, u64)>);

impl Top {
    pub(crate) fn add(&mut self, value: &[u8], times: u64) {
        let value = &value[..value.len().min(LONGEST)];
        if let Some(at) = self.0.iter().position(|(known, ..)| **known == *value) {
            self.0[at].1 += times;
            // Towards the front, where it is found sooner.
            if at > 0 && self.0[at - 1].1 < self.0[at].1 {
                self.0.swap(at, at - 1);
            }
        } else if self.0.len() < KEPT {
            self.0.push((value.into(), times, 0));
        } else if let Some((at, least)) = self.0.iter().enumerate().map(|(at, (_, times, _))| (at, *times)).min_by_key(|(_, times)| *times) {
            self.0[at] = (value.into(), least + times, least);
        }
    }

    pub(crate) fn merge(&mut self, other: &Top) {
        other.0.iter().for_each(|(value, times, too_many)| self.add(value, times - too_many));
    }

    /// The most frequent first, with how often each came at the least.
    pub(crate) fn list(&self, most: usize) -> Vec<(&[u8], u64)> {
        let mut list: Vec<(&[u8], u64)> = self.0.iter().map(|(value, times, too_many)| (&**value, times - too_many)).filter(|(_, times)| *times > 0).collect();
        list.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(b.0)));
        list.truncate(most);
        list
    }
}

/// Steps that a doubling is divided into: a quantile is off by some 4 percent at the most.
const STEPS: f64 = 16.0;
/// Numbers beyond two to the power of so many count as that.
const POWERS: f64 = 100.0;

/// How numbers are spread.
#[derive(Clone, Debug)]
pub(crate) struct Spread {
    pub(crate) least: f64,
    pub(crate) most: f64,
    pub(crate) sum: f64,
    pub(crate) times: u64,
    /// How many there were of each size, the least first.
    sizes: Vec<(i32, u64)>,
}

impl Spread {
    pub(crate) fn new() -> Spread {
        Spread { least: f64::INFINITY, most: f64::NEG_INFINITY, sum: 0.0, times: 0, sizes: Vec::new() }
    }

    fn size_of(value: f64) -> i32 {
        if value == 0.0 {
            return 0;
        }
        let size = (value.abs().log2().clamp(-POWERS, POWERS) * STEPS).floor() as i32 + (POWERS * STEPS) as i32 + 1;
        if value < 0.0 { -size } else { size }
    }

    fn value_of(size: i32) -> f64 {
        let value = ((f64::from(size.abs() - 1) - POWERS * STEPS + 0.5) / STEPS).exp2();
        match size {
            0 => 0.0,
            _ if size < 0 => -value,
            _ => value,
        }
    }

    pub(crate) fn add(&mut self, value: f64, times: u64) {
        self.least = self.least.min(value);
        self.most = self.most.max(value);
        self.sum += value * times as f64;
        self.times += times;
        self.of_size(Spread::size_of(value), times);
    }

    fn of_size(&mut self, size: i32, times: u64) {
        match self.sizes.binary_search_by_key(&size, |(size, _)| *size) {
            Ok(at) => self.sizes[at].1 += times,
            Err(at) => self.sizes.insert(at, (size, times)),
        }
    }

    pub(crate) fn merge(&mut self, other: &Spread) {
        self.least = self.least.min(other.least);
        self.most = self.most.max(other.most);
        self.sum += other.sum;
        self.times += other.times;
        other.sizes.iter().for_each(|(size, times)| self.of_size(*size, *times));
    }

    /// How many there are in each of `parts` equal parts from the least to the most; one part, if all are the same.
    pub(crate) fn shape(&self, parts: usize) -> Vec<u64> {
        let width = self.most - self.least;
        if self.times == 0 || !width.is_finite() || width <= 0.0 || parts < 2 {
            return vec![self.times];
        }
        let mut shape = vec![0; parts];
        for (size, times) in &self.sizes {
            let value = Spread::value_of(*size).clamp(self.least, self.most);
            let part = ((value - self.least) / width * parts as f64) as usize;
            shape[part.min(parts - 1)] += times;
        }
        shape
    }

    /// The number that the share `at` (0 to 1) of them does not exceed.
    pub(crate) fn quantile(&self, at: f64) -> f64 {
        if at >= 1.0 {
            return self.most;
        }
        let wanted = (at * self.times as f64).ceil().max(1.0) as u64;
        let mut so_far = 0;
        for (size, times) in &self.sizes {
            so_far += times;
            if so_far >= wanted {
                return Spread::value_of(*size).clamp(self.least, self.most);
            }
        }
        self.most
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shape_tells_where_the_numbers_are() {
        let mut spread = Spread::new();
        (0..1_000).for_each(|n| spread.add(f64::from(n), 1));
        let shape = spread.shape(4);
        assert!(shape.iter().sum::<u64>() == 1_000 && shape.iter().all(|n| (200..300).contains(n)), "{shape:?}");
        spread.add(2_000.0, 1_000);
        assert_eq!(spread.shape(8)[7], 1_000);
        let mut one = Spread::new();
        one.add(5.0, 3);
        assert_eq!((one.shape(8), Spread::new().shape(8)), (vec![3], vec![0]));
    }

    #[test]
    fn different_values_are_counted_within_bounds() {
        for wanted in [0u64, 1, 64, 65, 1_000, 100_000] {
            let (mut whole, mut one, mut other) = (Distinct::new(), Distinct::new(), Distinct::new());
            for n in 0..wanted {
                let value = n.to_string();
                whole.add(value.as_bytes());
                whole.add(value.as_bytes());
                if n % 2 == 0 { &mut one } else { &mut other }.add(value.as_bytes());
            }
            one.merge(&other);
            assert_eq!(one.count(), whole.count());
            let off = (whole.count() as f64 - wanted as f64).abs();
            assert!(off <= 0.2 * wanted as f64 && (wanted > 64 || off == 0.0), "{wanted}: {}", whole.count());
        }
    }

    #[test]
    fn frequent_values_are_kept_whatever_comes_between() {
        let mut random = fastrand::Rng::with_seed(2);
        let (mut one, mut other) = (Top::default(), Top::default());
        for n in 0..50_000 {
            let value = if n % 3 == 0 { random.u32(..4).to_string() } else { format!("x{}", random.u32(..)) };
            if n % 2 == 0 { &mut one } else { &mut other }.add(value.as_bytes(), 1);
        }
        one.merge(&other);
        let list = one.list(4);
        let names: std::collections::BTreeSet<_> = list.iter().map(|(value, _)| value.to_vec()).collect();
        assert_eq!(names, ["0", "1", "2", "3"].map(|n| n.as_bytes().to_vec()).into());
        assert!(list.iter().all(|(_, times)| (2_500..=4_500).contains(times)), "{list:?}");
        assert!(one.0.len() <= KEPT);
    }

    #[test]
    fn quantiles_are_within_four_percent() {
        let mut random = fastrand::Rng::with_seed(3);
        for scale in [1e-9, 1.0, 1e12] {
            let mut spread = Spread::new();
            let mut all: Vec<f64> = (0..5_000).map(|_| (random.f64() - 0.2).powi(3) * scale).collect();
            all.iter().for_each(|value| spread.add(*value, 1));
            all.sort_by(f64::total_cmp);
            for at in [0.01, 0.25, 0.5, 0.9, 0.99] {
                let (exact, found) = (all[((at * 5_000.0) as usize).max(1) - 1], spread.quantile(at));
                assert!((exact - found).abs() <= 0.05 * exact.abs(), "{at}: {found} for {exact}");
            }
            assert_eq!(spread.quantile(1.0), spread.most);
        }
        let mut odd = Spread::new();
        [0.0, -0.0, f64::MAX, f64::MIN, f64::MIN_POSITIVE].iter().for_each(|value| odd.add(*value, 1));
        assert!(odd.quantile(0.5).abs() < 1.0);
    }
}
