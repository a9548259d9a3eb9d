//! How often something came, over time, in bounded space: slots that become wider as the time grows.

/// Slots of a trend.
pub const SLOTS: usize = 24;
/// The narrowest slot, in milliseconds.
const NARROWEST: i64 = 1_000;

/// How often something came in each of some stretches of time of the same length.
#[derive(Clone, Debug)]
pub struct Trend {
    /// When the first slot begins, in milliseconds since 1970: a multiple of `width_ms`.
    start_ms: i64,
    width_ms: i64,
    slots: [u64; SLOTS],
    /// The slot that was last added to: what comes next is mostly in it.
    last: usize,
}

impl PartialEq for Trend {
    fn eq(&self, other: &Trend) -> bool {
        (self.start_ms, self.width_ms, self.slots) == (other.start_ms, other.width_ms, other.slots)
    }
}

impl Eq for Trend {}

impl Trend {
    /// Of one that came at `at_ms`, standing for `times`.
    #[must_use]
    pub fn new(at_ms: i64, times: u64) -> Trend {
        let mut slots = [0; SLOTS];
        slots[0] = times;
        Trend { start_ms: at_ms.div_euclid(NARROWEST) * NARROWEST, width_ms: NARROWEST, slots, last: 0 }
    }

    /// Another `times` came at `at_ms`.
    pub fn add(&mut self, at_ms: i64, times: u64) {
        let in_last = at_ms - (self.start_ms + self.last as i64 * self.width_ms);
        if (0..self.width_ms).contains(&in_last) {
            self.slots[self.last] += times;
            return;
        }
        loop {
            let slot = (at_ms - self.start_ms).div_euclid(self.width_ms);
            if (0..SLOTS as i64).contains(&slot) {
                self.slots[slot as usize] += times;
                self.last = slot as usize;
                return;
            }
            if slot < 0 && self.make_room_before(at_ms) {
                continue;
            }
            self.widen();
        }
    }

    /// Moves what is there to later slots, if the last ones are free.
    fn make_room_before(&mut self, at_ms: i64) -> bool {
        let first = at_ms.div_euclid(self.width_ms) * self.width_ms;
        let by = (self.start_ms - first) / self.width_ms;
        let used = SLOTS - self.slots.iter().rev().take_while(|n| **n == 0).count();
        if by <= 0 || used as i64 + by > SLOTS as i64 {
            return false;
        }
        self.slots.rotate_right(by as usize);
        self.start_ms = first;
        true
    }

    fn widen(&mut self) {
        let width = self.width_ms * 2;
        let start = self.start_ms.div_euclid(width) * width;
        let offset = usize::from(start != self.start_ms);
        let mut slots = [0; SLOTS];
        for (i, n) in self.slots.iter().enumerate() {
            slots[(i + offset) / 2] += n;
        }
        *self = Trend { start_ms: start, width_ms: width, slots, last: 0 };
    }

    /// Adds what another has.
    pub fn merge(&mut self, other: &Trend) {
        let mut other = other.clone();
        while other.width_ms < self.width_ms {
            other.widen();
        }
        for (i, n) in other.slots.iter().enumerate().filter(|(_, n)| **n > 0) {
            self.add(other.start_ms + i as i64 * other.width_ms, *n);
        }
    }

    /// When each slot begins, in milliseconds since 1970, and how often it came in it; from the first to the last that is not empty.
    #[must_use]
    pub fn slots(&self) -> Vec<(i64, u64)> {
        let last = self.slots.iter().rposition(|n| *n > 0).map_or(0, |last| last + 1);
        let first = self.slots.iter().position(|n| *n > 0).unwrap_or(0);
        (first..last).map(|i| (self.start_ms + i as i64 * self.width_ms, self.slots[i])).collect()
    }

    /// How long a slot is, in milliseconds.
    #[must_use]
    pub fn width_ms(&self) -> i64 {
        self.width_ms
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_lost_whatever_the_times() {
        let mut random = fastrand::Rng::with_seed(5);
        for _ in 0..300 {
            let around = random.i64(-1_000_000_000_000..2_000_000_000_000);
            let spread = 1i64 << random.u8(5..36);
            let times: Vec<i64> = (0..random.usize(1..60)).map(|_| around + random.i64(-spread..spread)).collect();
            let mut whole = Trend::new(times[0], 1);
            times[1..].iter().for_each(|at| whole.add(*at, 1));
            let total = |trend: &Trend| trend.slots().iter().map(|(_, n)| n).sum::<u64>();
            assert_eq!(total(&whole), times.len() as u64);
            for (start, n) in whole.slots() {
                let within = times.iter().filter(|at| (start..start + whole.width_ms()).contains(*at)).count();
                assert_eq!(n, within as u64, "{times:?}");
            }
            // Merged of two parts, it tells of the same.
            let (one, other) = times.split_at(times.len() / 2);
            if let (Some(first), Some(second)) = (one.first(), other.first()) {
                let (mut a, mut b) = (Trend::new(*first, 1), Trend::new(*second, 1));
                one[1..].iter().for_each(|at| a.add(*at, 1));
                other[1..].iter().for_each(|at| b.add(*at, 1));
                a.merge(&b);
                assert_eq!(total(&a), times.len() as u64);
            }
        }
    }

    #[test]
    fn a_steady_stream_has_even_slots() {
        let mut trend = Trend::new(0, 1);
        (1..24_000).for_each(|n| trend.add(n * 100, 1));
        let slots = trend.slots();
        assert_eq!((trend.width_ms(), slots.len()), (128_000, 19));
        assert!(slots[..18].iter().all(|(_, n)| *n == 1_280), "{slots:?}");
    }
}
