//! Who sends to a source: how much, how old events are when they come, and what that says of the senders' clocks.

use std::collections::{HashMap, VecDeque};
use std::net::IpAddr;

use crate::Receipt;

/// How old events were when they came, in milliseconds: the half, nine in ten, and ninety-nine in a hundred were no older. Negative: they say that they are yet to happen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Freshness {
    /// The median.
    pub half: i64,
    /// The 90th percentile.
    pub most: i64,
    /// The 99th percentile.
    pub nearly_all: i64,
}

/// So many events must tell their time before a clock is judged.
const CLOCK_SAMPLES: usize = 20;
/// A clock may be so much ahead.
const CLOCK_AHEAD_MS: i64 = 60_000;
/// Events may be so old when they come.
const CLOCK_BEHIND_MS: i64 = 25 * 60_000;
/// Events of one clock differ by no more than this.
const CLOCK_SPREAD_MS: i64 = 5 * 60_000;
/// Of so many events it is known how old they were.
const KEPT: usize = 512;
/// Of so many events of each sender.
const KEPT_OF_SENDER: usize = 64;
/// Of so many senders, those that were heard last.
const SENDERS: usize = 1_024;

/// How old the last events were when they came, in milliseconds; some of them, the newest last.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ages(VecDeque<i64>);

impl Ages {
    fn add(&mut self, more: &[i64], most: usize) {
        self.0.extend(more);
        let over = self.0.len().saturating_sub(most);
        self.0.drain(..over);
    }

    fn sorted(&self) -> Vec<i64> {
        let mut ages: Vec<i64> = self.0.iter().copied().collect();
        ages.sort_unstable();
        ages
    }

    /// How fresh the events are, once there were some that tell their time.
    #[must_use]
    pub fn freshness(&self) -> Option<Freshness> {
        let ages = self.sorted();
        let at = |share: usize| ages.get((ages.len().checked_sub(1)? * share).div_ceil(100)).copied();
        Some(Freshness { half: at(50)?, most: at(90)?, nearly_all: at(99)? })
    }

    /// What is wrong with the clock or zone that these are by, if something is: all are off by about the same, by more than a delay on the way explains.
    fn clock(&self) -> Option<String> {
        if self.0.len() < CLOCK_SAMPLES {
            return None;
        }
        let ages = self.sorted();
        let (low, half, high) = (ages[ages.len() / 10], ages[ages.len() / 2], ages[ages.len() * 9 / 10]);
        let off = off_in_words(half.abs());
        if high < -CLOCK_AHEAD_MS {
            return Some(format!("have timestamps {off} in the future: its clock is ahead, or it uses another time zone"));
        }
        // What is read late, a backlog say, has all sorts of ages; a clock has one.
        (low > CLOCK_BEHIND_MS && high - low < CLOCK_SPREAD_MS)
            .then(|| format!("all have timestamps {off} in the past: its clock is behind, or it uses another time zone"))
    }
}

fn off_in_words(ms: i64) -> String {
    let minutes = (ms + 30_000) / 60_000;
    match (minutes / 60, minutes % 60) {
        (0, minutes) => format!("{minutes} min"),
        (hours, 0) => format!("{hours} h"),
        (hours, minutes) => format!("{hours} h {minutes} min"),
    }
}

/// One that sends to a source, since the source began to listen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sender {
    /// Its address; none for this host.
    pub from: Option<IpAddr>,
    /// Events that it sent.
    pub events: u64,
    /// Records of it that could not be read.
    pub unreadable: u64,
    /// Bytes of both, as they came.
    pub bytes: u64,
    /// When it was heard first, in milliseconds since 1970.
    pub first_ms: i64,
    /// When last.
    pub last_ms: i64,
    /// How old its last events were when they came.
    pub ages: Ages,
}

impl Sender {
    /// What is wrong with its clock, in a sentence; none if nothing is, or too few of its events tell their time.
    #[must_use]
    pub fn clock_off(&self) -> Option<String> {
        self.ages.clock().map(|says| format!("its events {says}"))
    }
}

/// Those that send to a source: those heard last, one by one, and the others in sum.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SendersSeen {
    /// Those that sent most first.
    pub senders: Vec<Sender>,
    /// So many others are no longer told apart, counted each time that one was forgotten.
    pub others: u64,
    /// Events of those others.
    pub other_events: u64,
    /// Bytes of those others.
    pub other_bytes: u64,
}

/// The senders of a source, and the ages of its events together.
#[derive(Debug, Default)]
pub(crate) struct Senders {
    pub(crate) all: Ages,
    each: HashMap<Option<IpAddr>, Sender>,
    others: SendersSeen,
}

/// A sender whose clock is off.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct ClockOff {
    pub(crate) from: Option<IpAddr>,
    /// What is wrong, in a sentence.
    pub(crate) says: String,
    /// How many senders' clocks are off.
    pub(crate) senders: u64,
    /// When it was heard last, in milliseconds since 1970.
    pub(crate) last_ms: i64,
}

impl Senders {
    /// Counts what one sent.
    pub(crate) fn add(&mut self, from: Option<IpAddr>, receipt: &Receipt, now_ms: i64) {
        self.all.add(&receipt.ages, KEPT);
        if self.each.len() >= SENDERS
            && !self.each.contains_key(&from)
            && let Some(oldest) = self.each.values().min_by_key(|sender| sender.last_ms).map(|sender| sender.from)
            && let Some(gone) = self.each.remove(&oldest)
        {
            self.others.others += 1;
            self.others.other_events += gone.events;
            self.others.other_bytes += gone.bytes;
        }
        let sender = self.each.entry(from).or_insert_with(|| Sender { from, first_ms: now_ms, ..Sender::default() });
        sender.events += receipt.read;
        sender.unreadable += receipt.quarantined;
        sender.bytes += receipt.bytes;
        sender.last_ms = now_ms;
        sender.ages.add(&receipt.ages, KEPT_OF_SENDER);
    }

    /// All of them.
    pub(crate) fn seen(&self) -> SendersSeen {
        let mut senders: Vec<Sender> = self.each.values().cloned().collect();
        senders.sort_unstable_by(|a, b| b.bytes.cmp(&a.bytes).then(a.from.cmp(&b.from)));
        SendersSeen { senders, ..self.others.clone() }
    }

    /// The sender that was heard last of those whose clock is off.
    pub(crate) fn clock_off(&self) -> Option<ClockOff> {
        let off = self.each.values().filter_map(|sender| Some((sender.last_ms, sender.from, sender.ages.clock()?)));
        let mut off: Vec<_> = off.collect();
        off.sort_unstable();
        let senders = off.len() as u64;
        let Some((last_ms, from, says)) = off.pop() else {
            // Of many that send little it is only known together.
            let known = self.each.values().any(|sender| sender.ages.0.len() >= CLOCK_SAMPLES);
            let says = self.all.clock().filter(|_| !known)?;
            let last_ms = self.each.values().map(|sender| sender.last_ms).max().unwrap_or(0);
            return Some(ClockOff { from: None, says: format!("events {says}"), senders: self.each.len() as u64, last_ms });
        };
        let more = match senders {
            1 => String::new(),
            2 => "; the same is true of another sender".to_owned(),
            n => format!("; the same is true of {} other senders", n - 1),
        };
        let of = from.map_or_else(String::new, |from| format!(" of {from}"));
        Some(ClockOff { from, says: format!("events{of} {says}{more}"), senders, last_ms })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 3_600_000;

    fn ages(ages: impl Iterator<Item = i64>) -> Ages {
        Ages(ages.collect())
    }

    fn aged(ages: &[i64]) -> Receipt {
        Receipt { received: ages.len() as u64, read: ages.len() as u64, bytes: 10 * ages.len() as u64, ages: ages.to_vec(), ..Receipt::default() }
    }

    #[test]
    fn a_clock_that_is_off_is_told_from_events_that_come_late() {
        assert_eq!(ages((0..100).map(|n| n * 50)).clock(), None, "some seconds");
        assert_eq!(ages((0..100).map(|n| n * HOUR / 10)).clock(), None, "a backlog");
        assert_eq!(ages((0..10).map(|_| 2 * HOUR)).clock(), None, "too few");
        let behind = ages((0..100).map(|n| 2 * HOUR + n * 50)).clock().unwrap();
        assert!(behind.contains("2 h in the past") && behind.contains("behind"), "{behind}");
        let ahead = ages((0..100).map(|n| -HOUR - 30 * 60_000 + n)).clock().unwrap();
        assert!(ahead.contains("1 h 30 min in the future") && ahead.contains("ahead"), "{ahead}");
        assert_eq!(ages((1..=100).rev()).freshness(), Some(Freshness { half: 51, most: 91, nearly_all: 100 }));
        assert_eq!(ages(std::iter::empty()).freshness(), None);
    }

    #[test]
    fn one_sender_among_many_is_found() {
        let sender = |n: u8| Some(IpAddr::from([192, 0, 2, n]));
        let mut senders = Senders::default();
        for round in 0..30 {
            (1..=40).for_each(|n| senders.add(sender(n), &aged(&[i64::from(n)]), round));
        }
        assert_eq!(senders.clock_off(), None);
        (0..20).for_each(|n| senders.add(sender(7), &aged(&[]), n));
        assert_eq!(senders.clock_off(), None);
        for round in 0..40 {
            senders.add(sender(41), &aged(&[-HOUR, -HOUR + 3]), 100 + round);
            senders.add(sender(42), &aged(&[2 * HOUR]), 50 + round);
        }
        let off = senders.clock_off().unwrap();
        assert_eq!((off.from, off.senders, off.last_ms), (sender(41), 2, 139));
        assert_eq!(
            off.says,
            "events of 192.0.2.41 have timestamps 1 h in the future: its clock is ahead, or it uses another time zone; the same is true of another sender"
        );
        // Once its clock is right, that is seen.
        (0..KEPT_OF_SENDER).for_each(|_| senders.add(sender(41), &aged(&[5]), 200));
        assert_eq!(senders.clock_off().unwrap().from, sender(42));
    }

    #[test]
    fn many_that_send_little_are_judged_together() {
        let mut senders = Senders::default();
        (0..40).for_each(|n| senders.add(Some(IpAddr::from([192, 0, 2, n])), &aged(&[2 * HOUR + i64::from(n)]), n.into()));
        let off = senders.clock_off().unwrap();
        assert_eq!((off.from, off.senders, off.last_ms), (None, 40, 39));
        assert!(off.says.starts_with("events all have timestamps 2 h in the past"), "{}", off.says);
        // One that sends more, and whose clock is right, shows that it is not all of them.
        (0..20).for_each(|n| senders.add(None, &aged(&[5]), 50 + n));
        assert_eq!(senders.clock_off(), None);
    }

    #[test]
    fn of_many_senders_those_heard_last_are_kept() {
        let mut senders = Senders::default();
        for n in 0..2 * SENDERS as u32 {
            senders.add(Some(IpAddr::V4(n.into())), &aged(&[1]), n.into());
        }
        assert_eq!(senders.each.len(), SENDERS);
        assert!(senders.each.contains_key(&Some(IpAddr::V4((SENDERS as u32).into()))));
        assert!(!senders.each.contains_key(&Some(IpAddr::V4((SENDERS as u32 - 1).into()))));
        let seen = senders.seen();
        assert_eq!((seen.senders.len(), seen.others, seen.other_events, seen.other_bytes), (SENDERS, SENDERS as u64, SENDERS as u64, 10 * SENDERS as u64));
    }

    #[test]
    fn each_sender_is_counted_by_itself_and_the_largest_comes_first() {
        let at = |n: u8| Some(IpAddr::from([192, 0, 2, n]));
        let mut senders = Senders::default();
        senders.add(at(1), &Receipt { received: 3, read: 2, quarantined: 1, bytes: 300, ..Receipt::default() }, 7);
        senders.add(None, &aged(&[1]), 8);
        senders.add(at(2), &Receipt { received: 5, read: 5, bytes: 900, ..Receipt::default() }, 9);
        senders.add(at(1), &Receipt { received: 1, read: 1, bytes: 100, ..Receipt::default() }, 11);
        let seen = senders.seen();
        let told: Vec<_> = seen.senders.iter().map(|s| (s.from, s.events, s.unreadable, s.bytes, s.first_ms, s.last_ms)).collect();
        assert_eq!(told, [(at(2), 5, 0, 900, 9, 9), (at(1), 3, 1, 400, 7, 11), (None, 1, 0, 10, 8, 8)]);
        assert_eq!((seen.others, seen.senders[0].clock_off()), (0, None));
    }
}
