//! How a stand-in is: well, or one of the ways in which a destination can be bad.

use std::time::Duration;

/// How a stand-in is to a request.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Mood {
    /// It takes what it gets.
    #[default]
    Well,
    /// It takes what it gets, after this time.
    Slow(Duration),
    /// It says that it takes this never.
    Refusing,
    /// It says that it cannot now.
    Failing,
    /// It never answers.
    Hanging,
    /// It closes half-way through its answer.
    Closing,
}

/// Moods, one after the other, from the beginning again after the last.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Schedule(Vec<(Mood, Duration)>);

impl Schedule {
    /// Reads `well for 5s, slow 500ms for 10s, failing for 3s`; the moods are `well`, `slow TIME`, `refusing`, `failing`, `hanging` and `closing`.
    pub fn read(text: &str) -> Result<Schedule, String> {
        let part = |part: &str| -> Result<(Mood, Duration), String> {
            let (mood, time) = part.rsplit_once(" for ").ok_or_else(|| format!("`{part}`: expected `MOOD for TIME`"))?;
            let mood = match mood.trim().split_once(' ').map_or((mood.trim(), None), |(word, rest)| (word, Some(rest))) {
                ("well", None) => Mood::Well,
                ("slow", Some(time)) => Mood::Slow(duration(time)?),
                ("refusing", None) => Mood::Refusing,
                ("failing", None) => Mood::Failing,
                ("hanging", None) => Mood::Hanging,
                ("closing", None) => Mood::Closing,
                _ => return Err(format!("`{mood}` is no mood: expected `well`, `slow TIME`, `refusing`, `failing`, `hanging` or `closing`")),
            };
            Ok((mood, duration(time)?))
        };
        text.split(',').map(|p| part(p.trim())).collect::<Result<_, _>>().map(Schedule)
    }

    /// How it is, so long after the beginning.
    #[must_use]
    pub fn at(&self, since: Duration) -> Mood {
        let round: Duration = self.0.iter().map(|(_, time)| *time).sum();
        if round.is_zero() {
            return Mood::Well;
        }
        let mut left = Duration::from_nanos((since.as_nanos() % round.as_nanos()) as u64);
        for (mood, time) in &self.0 {
            match left.checked_sub(*time) {
                Some(rest) => left = rest,
                None => return *mood,
            }
        }
        Mood::Well
    }
}

fn duration(text: &str) -> Result<Duration, String> {
    let text = text.trim();
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let unit = match text[digits.len()..].trim() {
        "ms" => 1,
        "s" => 1_000,
        "m" => 60_000,
        _ => return Err(format!("`{text}` is no time: expected `500ms`, `5s` or `2m`")),
    };
    let n: u64 = digits.trim().parse().map_err(|_| format!("`{text}` is no time: expected `500ms`, `5s` or `2m`"))?;
    Ok(Duration::from_millis(n.saturating_mul(unit)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moods_follow_one_another_and_begin_again() {
        let schedule = Schedule::read("well for 5s, slow 500ms for 10s,failing for 200ms").unwrap();
        let at = |ms| schedule.at(Duration::from_millis(ms));
        let slow = Mood::Slow(Duration::from_millis(500));
        assert_eq!(
            [0, 4_999, 5_000, 14_999, 15_000, 15_199, 15_200, 20_200].map(at),
            [Mood::Well, Mood::Well, slow, slow, Mood::Failing, Mood::Failing, Mood::Well, slow]
        );
        assert_eq!(Schedule::default().at(Duration::from_secs(9)), Mood::Well);
        for wrong in ["", "well", "well for ever", "odd for 5s", "slow for 5s", "well for 5 years", "well for 5s,"] {
            assert!(Schedule::read(wrong).is_err(), "{wrong}");
        }
    }
}
