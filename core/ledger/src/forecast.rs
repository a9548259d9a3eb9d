//! What an account will come to at the end of a period, by the hour of the week.

/// Milliseconds in an hour.
const HOUR_MS: i64 = 3_600_000;
/// Hours in a day and in a week.
const DAY: i64 = 24;
const WEEK: i64 = 168;
/// What an hour was a week earlier counts so much less.
const FADES: f64 = 0.7;
/// Standard deviations to either side between which nine of ten outcomes lie, if they are distributed normally.
const NINE_OF_TEN: f64 = 1.645;
/// However even the past was, the future is not known better than this, relative to what is yet to come.
const LEAST_DOUBT: f64 = 0.02;

/// What is to be expected.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Forecast {
    /// Most likely so much, by the end of the period.
    pub expected: f64,
    /// In nine of ten cases at least this.
    pub low: f64,
    /// In nine of ten cases at most this.
    pub high: f64,
}

/// What was counted by the hour: one number for each, without a gap.
#[derive(Clone, Debug, Default)]
pub struct Hours {
    /// The first hour, since 1970.
    pub first: i64,
    /// What was counted within each.
    pub counts: Vec<f64>,
}

/// What is usual for an hour, and how well that is known.
struct Usual {
    /// The hours of the past that it is an average of, by a number that they share.
    like: i64,
    mean: f64,
    /// The variance of the mean, in squares of the deviation of one hour.
    doubt: f64,
}

impl Hours {
    fn at(&self, hour: i64) -> Option<f64> {
        usize::try_from(hour - self.first).ok().and_then(|at| self.counts.get(at)).copied()
    }

    /// The average of the hours that lie so many times `lag` before `hour`, later ones counting more.
    fn usual_by(&self, hour: i64, lag: i64, fades: f64) -> Option<Usual> {
        let (mut sum, mut weights, mut squares, mut weight) = (0.0, 0.0, 0.0, 1.0);
        let mut at = hour - lag;
        while at >= self.first {
            if let Some(count) = self.at(at) {
                sum += weight * count;
                weights += weight;
                squares += weight * weight;
                weight *= fades;
            }
            at -= lag;
        }
        (weights > 0.0).then(|| Usual { like: hour.rem_euclid(lag), mean: sum / weights, doubt: squares / (weights * weights) })
    }

    /// What is usual at an hour: of the same hour of the week, else of the day, else of all that is known.
    fn usual(&self, hour: i64) -> Usual {
        let known = self.counts.len().max(1) as f64;
        let all = || Usual { like: 0, mean: self.counts.iter().sum::<f64>() / known, doubt: 1.0 / known };
        self.usual_by(hour, WEEK, FADES).or_else(|| self.usual_by(hour, DAY, FADES)).unwrap_or_else(all)
    }

    /// By how much an hour differs from what is usual, relative to that: the standard deviation.
    fn deviation(&self) -> f64 {
        // Two hours that should be alike differ by twice the variance of one.
        let by = |lag: i64| {
            let pairs = (self.first + lag..self.first + self.counts.len() as i64).filter_map(|hour| {
                let (a, b) = (self.at(hour)?, self.at(hour - lag)?);
                let mean = (a + b) / 2.0;
                (mean > 0.0).then(|| ((a - b) / mean).powi(2) / 2.0)
            });
            let (sum, count) = pairs.fold((0.0, 0), |(sum, count), square| (sum + square, count + 1));
            (count >= 12).then(|| (sum / f64::from(count)).sqrt())
        };
        by(WEEK).or_else(|| by(DAY)).or_else(|| by(1)).unwrap_or(1.0)
    }
}

/// What will be used at `until_ms` of what has come to `used` at `now_ms`, both in milliseconds since 1970, by what was counted in the whole hours before; nothing, if none is known.
///
/// Each hour that is yet to come is expected to be as the same hour of the week was (or of the day, where less than a week is known). The band takes into account by how much hours differ
/// from week to week, and how many weeks there were to learn from. A change of the level that begins later is not foreseen.
#[must_use]
pub fn forecast(hours: &Hours, used: f64, now_ms: i64, until_ms: i64) -> Option<Forecast> {
    if hours.counts.is_empty() {
        return None;
    }
    let (mut rest, mut squares) = (0.0, 0.0);
    // Hours that are learnt from the same past are wrong together.
    let mut together: std::collections::BTreeMap<i64, (f64, f64)> = std::collections::BTreeMap::new();
    for hour in now_ms.div_euclid(HOUR_MS)..(until_ms + HOUR_MS - 1).div_euclid(HOUR_MS) {
        let (from, to) = ((hour * HOUR_MS).max(now_ms), ((hour + 1) * HOUR_MS).min(until_ms));
        let part = (to - from).max(0) as f64 / HOUR_MS as f64;
        let usual = hours.usual(hour);
        rest += part * usual.mean;
        squares += (part * usual.mean).powi(2);
        let (sum, doubt) = together.entry(usual.like).or_insert((0.0, usual.doubt));
        *sum += part * usual.mean;
        *doubt = doubt.max(usual.doubt);
    }
    squares += together.values().map(|(sum, doubt)| sum * sum * doubt).sum::<f64>();
    let sides = NINE_OF_TEN * (hours.deviation() * squares.sqrt()).max(LEAST_DOUBT * rest);
    Some(Forecast { expected: used + rest, low: used + (rest - sides).max(0.0), high: used + rest + sides })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Even numbers from 0 to 1, always the same ones.
    struct Even(u64);

    impl Even {
        fn next(&mut self) -> f64 {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (self.0 >> 11) as f64 / (1u64 << 53) as f64
        }

        /// About normal, of mean 0 and variance 1.
        fn normal(&mut self) -> f64 {
            (0..12).map(|_| self.next()).sum::<f64>() - 6.0
        }
    }

    /// Busy by day, less so at weekends, with noise of 15 %.
    fn traffic(hour: i64, noise: &mut Even) -> f64 {
        let of_day = (hour.rem_euclid(DAY) as f64 / 24.0 * std::f64::consts::TAU).sin();
        let weekend = if hour.rem_euclid(WEEK) / DAY >= 5 { 0.5 } else { 1.0 };
        ((1_000.0 + 800.0 * of_day) * weekend * (1.0 + 0.15 * noise.normal())).max(0.0)
    }

    #[test]
    fn after_eight_days_a_month_is_foreseen_within_five_percent_and_the_band_holds() {
        let (mut held, mut worst) = (0, 0.0f64);
        const MONTHS: u64 = 200;
        for month in 0..MONTHS {
            let mut noise = Even(month * 7_919 + 1);
            let first = 480_000 + (month as i64 * 31) % WEEK;
            let all: Vec<f64> = (first..first + 30 * DAY).map(|hour| traffic(hour, &mut noise)).collect();
            let known = 8 * DAY as usize;
            let used: f64 = all[..known].iter().sum();
            let truth: f64 = all.iter().sum();
            let foreseen = forecast(&Hours { first, counts: all[..known].to_vec() }, used, (first + 8 * DAY) * HOUR_MS, (first + 30 * DAY) * HOUR_MS).unwrap();
            worst = worst.max((foreseen.expected / truth - 1.0).abs());
            held += u32::from((foreseen.low..=foreseen.high).contains(&truth));
        }
        assert!(worst < 0.05, "{worst}");
        assert!(held >= 180, "{held} of {MONTHS}");
        // A band that holds always says nothing.
        assert!(held < 200, "{held} of {MONTHS}");
    }

    #[test]
    fn what_is_known_of_little_is_told_with_more_doubt() {
        let even = |hours: usize| Hours { first: 100, counts: vec![10.0; hours] };
        let end = |hours: i64| (100 + hours) * HOUR_MS;
        assert_eq!(forecast(&even(0), 0.0, end(0), end(5)), None);
        let foreseen = forecast(&even(2), 20.0, end(2), end(4)).unwrap();
        assert_eq!((foreseen.expected, foreseen.low < 40.0 && foreseen.high > 40.0), (40.0, true));
        // Half of an hour is over, half of one is yet to come; nothing is taken away again.
        let half = forecast(&even(48), 5.0, end(48) + HOUR_MS / 2, end(49)).unwrap();
        assert_eq!((half.expected, half.low >= 5.0), (10.0, true));
        let over = forecast(&even(48), 7.0, end(48), end(48)).unwrap();
        assert_eq!((over.low, over.expected, over.high), (7.0, 7.0, 7.0));
    }
}
