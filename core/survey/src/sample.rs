//! A representative sample of recent events, in bounded memory.
//!
//! Events are kept by kind: those whose messages have the same skeleton are of one. Where room runs out, the kind with the most events gives up every other one of those that stand for the
//! fewest, and the one that stays beside it stands for both. So rare kinds stay whole, what is kept of a kind stands for as many as came, and each stands for about as many as the others of its
//! kind, whenever it came.

use std::collections::HashMap;

use crate::miner::key_of;

/// What an event takes beside its bytes, in bytes, roughly.
const BESIDE: usize = 64;

/// An event of a sample.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sampled {
    /// The event.
    pub event: Box<[u8]>,
    /// When it came, in milliseconds since 1970.
    pub at_ms: i64,
    /// For how many it stands.
    pub times: u64,
    /// Its place among all that came.
    number: u64,
}

impl Sampled {
    /// As it stands further on.
    #[must_use]
    pub fn with(&self, event: Vec<u8>) -> Sampled {
        Sampled { event: event.into(), ..*self }
    }
}

/// A sample of a stream of events.
#[derive(Debug)]
pub struct Sample {
    kinds: HashMap<u64, Vec<Sampled>>,
    budget: usize,
    size: usize,
    came: u64,
    /// For how many stood what went without one of its kind to stand for it.
    gone: u64,
    random: u64,
}

impl Sample {
    /// One that takes about `budget` bytes of memory.
    #[must_use]
    pub fn new(budget: usize) -> Sample {
        Sample { kinds: HashMap::new(), budget, size: 0, came: 0, gone: 0, random: 0x9e37_79b9_7f4a_7c15 }
    }

    /// Takes about `budget` bytes from now on.
    pub fn set_budget(&mut self, budget: usize) {
        self.budget = budget;
        self.thin();
    }

    /// Takes in an event whose message is `message`, and which stands for `times`.
    pub fn add(&mut self, event: &[u8], message: &[u8], at_ms: i64, times: u64) {
        self.came += 1;
        self.size += event.len() + BESIDE;
        let sampled = Sampled { event: event.into(), at_ms, times, number: self.came };
        self.kinds.entry(key_of(message)).or_default().push(sampled);
        if self.size > self.budget {
            self.thin();
        }
    }

    /// A number below `of`.
    fn below(&mut self, of: u64) -> u64 {
        self.random ^= self.random << 13;
        self.random ^= self.random >> 7;
        self.random ^= self.random << 17;
        self.random % of.max(1)
    }

    fn thin(&mut self) {
        let wanted = self.budget - self.budget / 8;
        while self.size > wanted {
            let most = self.kinds.iter().map(|(key, kept)| (kept.len(), *key)).max();
            let Some((count, key)) = most else { return };
            if count < 2 {
                self.forget_oldest(wanted);
                return;
            }
            let kept = self.kinds.remove(&key).unwrap_or_default();
            let fewest = kept.iter().map(|s| s.times).min().unwrap_or(1);
            let mut few = kept.iter().filter(|s| s.times < 2 * fewest).count();
            let mut thinned: Vec<Sampled> = Vec::with_capacity(kept.len());
            let mut waiting: Option<Sampled> = None;
            for sampled in kept {
                // One that is alone with its few joins whatever comes next.
                let is_one = sampled.times < 2 * fewest || (few == 1 && waiting.is_some());
                match waiting.take() {
                    None if is_one => waiting = Some(sampled),
                    Some(other) if is_one => {
                        few = few.saturating_sub(2);
                        // The more it stands for, the likelier it stays.
                        let times = sampled.times + other.times;
                        let (mut stays, goes) = if self.below(times) < sampled.times { (sampled, other) } else { (other, sampled) };
                        stays.times = times;
                        self.size -= goes.event.len() + BESIDE;
                        thinned.push(stays);
                    }
                    before => {
                        waiting = before;
                        thinned.push(sampled);
                    }
                }
            }
            // The last one may have had nobody behind it: then it joins the one before.
            if let Some(mut last) = waiting {
                if few == 1
                    && let Some(before) = thinned.pop()
                {
                    self.size -= before.event.len() + BESIDE;
                    last.times += before.times;
                }
                thinned.push(last);
            }
            thinned.sort_by_key(|s| s.number);
            self.kinds.insert(key, thinned);
        }
    }

    /// Each kind has one event only: the oldest of them go.
    fn forget_oldest(&mut self, wanted: usize) {
        let mut oldest: Vec<(u64, u64)> = self.kinds.iter().map(|(key, kept)| (kept.first().map_or(0, |s| s.number), *key)).collect();
        oldest.sort_unstable();
        for (_, key) in oldest {
            if self.size <= wanted {
                return;
            }
            for sampled in self.kinds.remove(&key).unwrap_or_default() {
                self.size -= sampled.event.len() + BESIDE;
                self.gone += sampled.times;
            }
        }
    }

    /// Forgets what came before `at_ms` (milliseconds since 1970).
    pub fn forget_before(&mut self, at_ms: i64) {
        let mut size = 0;
        self.kinds.retain(|_, kept| {
            kept.retain(|sampled| sampled.at_ms >= at_ms);
            size += kept.iter().map(|s| s.event.len() + BESIDE).sum::<usize>();
            !kept.is_empty()
        });
        self.size = size;
    }

    /// All events, in the order in which they came.
    #[must_use]
    pub fn events(&self) -> Vec<Sampled> {
        let mut all: Vec<Sampled> = self.kinds.values().flatten().cloned().collect();
        all.sort_by_key(|sampled| sampled.number);
        all
    }

    /// For how many events none stands any more.
    #[must_use]
    pub fn gone(&self) -> u64 {
        self.gone
    }

    /// About how much memory is taken, in bytes.
    #[must_use]
    pub fn size(&self) -> usize {
        self.size
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_stands_for_as_many_as_came_and_the_rare_ones_stay() {
        let mut sample = Sample::new(64 << 10);
        for n in 0..20_000i64 {
            let message = match n % 1_000 {
                7 => format!("printer {n} burns"),
                m if m % 3 == 0 => format!("gate {n} opens"),
                _ => format!("ticket {n} printed for ann{n}"),
            };
            sample.add(format!("{{\"message\":\"{message}\"}}").as_bytes(), message.as_bytes(), n, 1);
            assert!(sample.size() <= 64 << 10);
        }
        let events = sample.events();
        let of = |word: &str| events.iter().filter(|s| String::from_utf8_lossy(&s.event).contains(word)).collect::<Vec<_>>();
        let stands = |word: &str| of(word).iter().map(|s| s.times).sum::<u64>();
        assert_eq!((of("burns").len(), stands("burns")), (20, 20));
        assert_eq!((stands("opens"), stands("printed"), sample.gone()), (6_680, 13_300, 0));
        assert!(events.is_sorted_by_key(|s| s.at_ms));
        // Of all times.
        let old = events.iter().filter(|s| s.at_ms < 10_000).map(|s| s.times).sum::<u64>();
        assert!((8_000..12_000).contains(&old), "{old}");
        sample.forget_before(10_000);
        assert!(sample.events().iter().all(|s| s.at_ms >= 10_000) && sample.size() < 64 << 10);
    }

    #[test]
    fn kinds_without_end_are_borne() {
        let mut sample = Sample::new(16 << 10);
        let word = |n: u64| (0..6).map(|at| char::from(b'a' + (n >> (4 * at)) as u8 % 16)).collect::<String>();
        for n in 0..5_000 {
            sample.add(b"{\"message\":\"x\"}", word(n).as_bytes(), 0, 2);
        }
        assert!(sample.size() <= 16 << 10);
        assert_eq!(sample.gone() + sample.events().iter().map(|s| s.times).sum::<u64>(), 10_000);
        // One that is larger than all there is room for.
        sample.add(&vec![b' '; 64 << 10], b"large", 0, 1);
        assert!(sample.size() <= 16 << 10);
        sample.set_budget(1 << 10);
        assert!(sample.size() <= 1 << 10);
    }

    #[test]
    fn shares_are_those_of_the_stream() {
        // One kind of two sorts: the sample cannot know, and keeps their shares.
        let mut sample = Sample::new(32 << 10);
        for n in 0..50_000u64 {
            let event = format!("{{\"port\":{}}}", u8::from(n % 5 == 0));
            sample.add(event.as_bytes(), b"tick", n as i64, 1);
        }
        let (mut ones, mut all) = (0, 0);
        for s in sample.events() {
            all += s.times;
            ones += if *s.event == *b"{\"port\":1}" { s.times } else { 0 };
        }
        assert_eq!(all, 50_000);
        assert!((0.14..0.26).contains(&(ones as f64 / all as f64)), "{ones}");
        let (least, most) = (sample.events().iter().map(|s| s.times).min(), sample.events().iter().map(|s| s.times).max());
        assert!(most.unwrap() <= 8 * least.unwrap().max(64), "{least:?} to {most:?}");
    }
}
