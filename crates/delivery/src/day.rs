//! A destination's answers over the last day, in bounded room.

use std::collections::VecDeque;
use std::time::Duration;

/// How long one stretch is, in milliseconds.
pub(crate) const STRETCH_MS: i64 = 10 * 60 * 1_000;
/// So many stretches are remembered: a day.
const STRETCHES: i64 = 144;

/// The answers of ten minutes.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct AnswersThen {
    /// When the ten minutes begin, in milliseconds since 1970.
    pub at_ms: i64,
    /// How many answers said that it was taken.
    pub good: u64,
    /// How many did not, or did not come.
    pub bad: u64,
    /// How long all of them took together, in milliseconds.
    pub sum_ms: f64,
    /// How long the longest took, in milliseconds.
    pub longest_ms: f64,
}

/// The answers of a day.
#[derive(Clone, Debug, Default)]
pub(crate) struct Day(VecDeque<AnswersThen>);

impl Day {
    pub(crate) fn add(&mut self, now_ms: i64, after: Duration, good: bool) {
        let at_ms = now_ms.div_euclid(STRETCH_MS) * STRETCH_MS;
        // A clock that is set back adds to the newest.
        if self.0.back().is_none_or(|newest| newest.at_ms < at_ms) {
            self.0.push_back(AnswersThen { at_ms, ..AnswersThen::default() });
        }
        while self.0.front().is_some_and(|oldest| oldest.at_ms <= at_ms - STRETCHES * STRETCH_MS) {
            self.0.pop_front();
        }
        if let Some(newest) = self.0.back_mut() {
            let ms = after.as_secs_f64() * 1_000.0;
            *(if good { &mut newest.good } else { &mut newest.bad }) += 1;
            newest.sum_ms += ms;
            newest.longest_ms = newest.longest_ms.max(ms);
        }
    }

    /// The stretches in which answers came, the oldest first.
    pub(crate) fn list(&self) -> Vec<AnswersThen> {
        self.0.iter().copied().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_is_remembered_and_no_more() {
        let mut day = Day::default();
        for n in 0..400 {
            day.add(n * STRETCH_MS / 2 + 7, Duration::from_millis(10 + n as u64 % 2), n % 4 != 0);
        }
        let list = day.list();
        assert_eq!((list.len(), list[0].at_ms, list[143].at_ms), (144, 56 * STRETCH_MS, 199 * STRETCH_MS));
        assert!(list.iter().all(|s| s.good + s.bad == 2 && s.sum_ms == 21.0 && s.longest_ms == 11.0), "{list:?}");
        assert_eq!((list[0].bad, list[1].bad), (1, 0));
        day.add(5, Duration::ZERO, true);
        assert_eq!((day.list().len(), day.list()[143].good), (144, list[143].good + 1));
    }
}
