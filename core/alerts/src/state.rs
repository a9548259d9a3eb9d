//! How an alert stands, and when it is told.

use rockrose_language::AlertCondition;

use crate::find::{MINUTE_MS, Readings, find};

/// How an alert is told.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Rules {
    /// For so many milliseconds its condition must hold before it is on.
    pub hold_ms: i64,
    /// While it is on, it is told again after so many milliseconds; nothing: it is told once.
    pub again_ms: Option<i64>,
    /// Somebody has silenced it: that it is on is told when that is over, if it still is.
    pub is_silenced: bool,
}

/// Where an alert stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Phase {
    /// Its condition does not hold.
    #[default]
    Quiet,
    /// Its condition holds, but not yet for long enough.
    Rising,
    /// It is on.
    On,
}

impl Phase {
    /// All of them.
    pub const ALL: [Phase; 3] = [Phase::Quiet, Phase::Rising, Phase::On];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["quiet", "rising", "on"][self as usize]
    }
}

/// How an alert stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct State {
    /// Where.
    pub phase: Phase,
    /// Since when, milliseconds since 1970.
    pub since_ms: i64,
    /// When it was last told while it is on, milliseconds since 1970.
    pub told_ms: i64,
    /// It was told that it is on.
    pub is_told: bool,
    /// Somebody has seen it: it is not told again while it is on.
    pub is_acknowledged: bool,
}

/// What is to be told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Turn {
    /// It is on from now.
    Began,
    /// It is still on.
    Again,
    /// It is over.
    Over,
}

impl Turn {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["began", "again", "over"][self as usize]
    }
}

impl State {
    /// Takes what was found at `now_ms`: whether the condition holds, and whether the one holds that ends it, if it has one. What cannot be said leaves the state as it is.
    pub fn step(&mut self, now_ms: i64, holds: Option<bool>, ends: Option<bool>, rules: Rules) -> Option<Turn> {
        let turn_to = |phase| State { phase, since_ms: now_ms, ..State::default() };
        if self.phase == Phase::Quiet && holds == Some(true) {
            *self = turn_to(Phase::Rising);
        }
        match self.phase {
            Phase::Quiet => None,
            Phase::Rising if holds == Some(false) => {
                *self = turn_to(Phase::Quiet);
                None
            }
            Phase::Rising => {
                if now_ms - self.since_ms < rules.hold_ms || holds != Some(true) {
                    return None;
                }
                *self = turn_to(Phase::On);
                self.told(now_ms, Turn::Began, rules)
            }
            Phase::On => {
                if ends.or(holds.map(|holds| !holds)) == Some(true) {
                    let was_told = self.is_told;
                    *self = turn_to(Phase::Quiet);
                    return was_told.then_some(Turn::Over);
                }
                if !self.is_told {
                    return self.told(now_ms, Turn::Began, rules);
                }
                let due = !self.is_acknowledged && rules.again_ms.is_some_and(|again| now_ms - self.told_ms >= again);
                if due { self.told(now_ms, Turn::Again, rules) } else { None }
            }
        }
    }
}

impl State {
    fn told(&mut self, now_ms: i64, turn: Turn, rules: Rules) -> Option<Turn> {
        if rules.is_silenced {
            return None;
        }
        (self.is_told, self.told_ms) = (true, now_ms);
        Some(turn)
    }
}

/// A time for which an alert would have been on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// From when, milliseconds since 1970.
    pub from_ms: i64,
    /// Until when; nothing, if it still would be.
    pub until_ms: Option<i64>,
    /// What was measured when it began, in words.
    pub says: String,
}

/// When an alert would have been on from `from_ms` to `to_ms`, milliseconds since 1970, looked at at the turn of every minute.
#[must_use]
pub fn past(condition: &AlertCondition, ends: Option<&AlertCondition>, rules: Rules, readings: &impl Readings, from_ms: i64, to_ms: i64) -> Vec<Stretch> {
    let (mut state, mut stretches) = (State::default(), Vec::<Stretch>::new());
    for minute in from_ms.div_euclid(MINUTE_MS)..=to_ms.div_euclid(MINUTE_MS) {
        let now = minute * MINUTE_MS;
        let found = find(condition, readings, now);
        // Whether it ends is asked only of one that is on.
        let over = ends.filter(|_| state.phase == Phase::On).and_then(|ends| find(ends, readings, now));
        let ends = ends.map(|_| over.is_some_and(|over| over.holds));
        match state.step(now, found.as_ref().map(|f| f.holds), ends, Rules { again_ms: None, ..rules }) {
            Some(Turn::Began) => stretches.push(Stretch { from_ms: now, until_ms: None, says: found.map(|f| f.says).unwrap_or_default() }),
            Some(Turn::Over) => {
                if let Some(last) = stretches.last_mut() {
                    last.until_ms = Some(now);
                }
            }
            Some(Turn::Again) | None => {}
        }
    }
    stretches
}

#[cfg(test)]
mod tests {
    use std::ops::Range;

    use rockrose_language::{Counted, parse_alert};
    use rockrose_ledger::Amount;

    use super::*;

    #[test]
    fn an_alert_rises_is_told_once_or_again_and_is_over() {
        let rules = Rules { hold_ms: 100, again_ms: Some(1_000), is_silenced: false };
        let mut state = State::default();
        assert_eq!(state.step(0, Some(true), None, rules), None);
        assert_eq!((state.step(50, Some(false), None, rules), state.phase), (None, Phase::Quiet), "it did not hold for long enough");
        assert_eq!(state.step(60, Some(true), None, rules), None);
        assert_eq!((state.step(160, None, None, rules), state.phase), (None, Phase::Rising), "what is not known turns nothing");
        assert_eq!(state.step(170, Some(true), None, rules), Some(Turn::Began));
        assert_eq!(state.step(900, Some(true), None, rules), None);
        assert_eq!(state.step(1_170, Some(true), None, rules), Some(Turn::Again));
        state.is_acknowledged = true;
        assert_eq!(state.step(5_000, Some(true), None, rules), None, "somebody has seen it");
        assert_eq!(state.step(5_100, Some(false), None, rules), Some(Turn::Over));
        assert_eq!(state, State { phase: Phase::Quiet, since_ms: 5_100, ..State::default() });
    }

    #[test]
    fn one_that_is_silenced_is_told_when_that_is_over_if_it_is_still_on() {
        let silenced = Rules { is_silenced: true, again_ms: Some(5), ..Rules::default() };
        let open = Rules { is_silenced: false, ..silenced };
        let mut state = State::default();
        assert_eq!((state.step(0, Some(true), None, silenced), state.phase), (None, Phase::On));
        assert_eq!(state.step(10, Some(true), None, silenced), None);
        assert_eq!(state.step(20, Some(false), None, silenced), None, "nobody knows that it began");
        assert_eq!(state.step(30, Some(true), None, silenced), None);
        assert_eq!(state.step(40, Some(true), None, open), Some(Turn::Began));
        assert_eq!(state.step(50, Some(true), None, silenced), None);
        assert_eq!(state.step(60, Some(false), None, silenced), Some(Turn::Over), "who was told that it began is told that it is over");
    }

    #[test]
    fn one_that_ends_by_a_condition_of_its_own_does_not_flap() {
        let mut state = State::default();
        assert_eq!(state.step(0, Some(true), Some(false), Rules::default()), Some(Turn::Began), "at once, if it need not hold for any time");
        assert_eq!(state.step(1, Some(false), Some(false), Rules::default()), None);
        assert_eq!(state.step(2, Some(false), Some(true), Rules::default()), Some(Turn::Over));
    }

    struct Burst;

    impl Readings for Burst {
        fn first_minute(&self) -> Option<i64> {
            Some(-10)
        }

        fn volume(&self, _: &Counted, minutes: Range<i64>) -> Amount {
            Amount { events: minutes.filter(|minute| (100..110).contains(minute)).count() as i64 * 10, bytes: 0 }
        }
    }

    #[test]
    fn the_past_tells_when_an_alert_would_have_been_on() {
        let on = parse_alert("events at route:web over 1 minute > 5").unwrap();
        let rules = Rules { hold_ms: 2 * MINUTE_MS, ..Rules::default() };
        let tried = |ends: Option<&AlertCondition>, to: i64| past(&on, ends, rules, &Burst, 0, to * MINUTE_MS);
        let burst = |until: Option<i64>| {
            vec![Stretch { from_ms: 103 * MINUTE_MS, until_ms: until.map(|m| m * MINUTE_MS), says: "10 events at route:web in 1 minute".into() }]
        };
        assert_eq!(tried(None, 200), burst(Some(111)));
        assert_eq!(tried(None, 105), burst(None));
        let ends = parse_alert("events at route:web over 5 minutes < 1").unwrap();
        assert_eq!(tried(Some(&ends), 200), burst(Some(115)));
    }
}
