//! Whether a condition holds, and the measured value in words.

use std::ops::Range;

use rockrose_language::{AlertCondition, Bound, Counted, Place, Side, VolumeUnit, Whole};
use rockrose_ledger::Amount;

/// Milliseconds in a minute.
pub(crate) const MINUTE_MS: i64 = 60_000;

/// What is known at the moment at which alerts are looked at.
pub trait Readings {
    /// What was counted within these minutes since 1970, as far as the ledger reaches back; of a metric, as events.
    fn volume(&self, counted: &Counted, minutes: Range<i64>) -> Amount;
    /// The minute with which the ledger begins; nothing, if nothing was counted yet.
    fn first_minute(&self) -> Option<i64>;
    /// What was heard from a source; nothing, if that is not known, as of the past.
    fn heard(&self, _source: &str) -> Option<Heard> {
        None
    }
    /// How a destination stands; nothing, if that is not known.
    fn standing(&self, _destination: &str) -> Option<Standing> {
        None
    }
    /// What was heard from the agents, of a group or all of them: the name of each, and when; nothing, if that is not known.
    fn agents(&self, _group: Option<&str>) -> Option<Vec<(String, Heard)>> {
        None
    }
    /// How much of a budget is used; nothing, if that is not known.
    fn budget(&self, _name: &str) -> Option<BudgetReading> {
        None
    }
    /// How many percent of the disk with the data are used, and how many bytes of it are free; nothing, if that is not known.
    fn disk(&self) -> Option<(i64, i64)> {
        None
    }
    /// Programs' tokens that end: the name of each, and when, in milliseconds since 1970; nothing, if that is not known.
    fn tokens(&self) -> Option<Vec<(String, i64)>> {
        None
    }
    /// Whether the ledger balances; nothing, if it was not looked at.
    fn is_balanced(&self) -> Option<bool> {
        None
    }
}

/// What was heard from a source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Heard {
    /// Something, at last at this time, milliseconds since 1970.
    At(i64),
    /// Nothing, since one listens: from this time on, milliseconds since 1970.
    NothingSince(i64),
}

/// What is known of a destination.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Standing {
    /// Since when it accepts nothing, milliseconds since 1970; nothing, if it does.
    pub failing_ms: Option<i64>,
    /// What waits for it was not yet sent, so that nobody knows whether it would accept it.
    pub is_untried: bool,
    /// What waits for it.
    pub waiting: Amount,
    /// When the oldest of that began to wait, milliseconds since 1970; of no meaning if nothing waits.
    pub oldest_ms: i64,
    /// How many percent of the events that may come there late were late in the last hour; nothing, where nothing is promised or known.
    pub promise_used: Option<u64>,
}

/// How much of a budget is used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BudgetReading {
    /// What it allows, such as `40 GB a day at destination:desk`.
    pub allows: String,
    /// So many percent of it are used.
    pub percent: i64,
    /// So many are to be expected at the end of its period; nothing, if that cannot be said yet.
    pub expected: Option<i64>,
}

/// Whether a condition holds, and by what measure.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// It does.
    pub holds: bool,
    /// The measured value in words, such as `12 events at route:web in 5 minutes`.
    pub says: String,
}

/// Looks whether a condition holds at `now_ms`, milliseconds since 1970; nothing, if that cannot be said. Volumes are of the last whole minutes.
#[must_use]
pub fn find(condition: &AlertCondition, readings: &impl Readings, now_ms: i64) -> Option<Finding> {
    let finding = |holds, says| Some(Finding { holds, says });
    match condition {
        AlertCondition::Volume { counted, over, side, bound } => {
            let until = now_ms.div_euclid(MINUTE_MS);
            let minutes = until - over.ms() / MINUTE_MS..until;
            let of = |counted: &Counted, minutes: Range<i64>| {
                let amount = readings.volume(counted, minutes);
                if counted.unit() == VolumeUnit::Events { amount.events } else { amount.bytes }
            };
            // What is not known can only add to what is.
            let is_whole = |minutes: &Range<i64>| readings.first_minute().is_some_and(|first| first <= minutes.start);
            if *side == Side::Below && !is_whole(&minutes) {
                return None;
            }
            let measured = of(counted, minutes.clone());
            let words = |count: i64| if counted.unit() == VolumeUnit::Events { plural(count, "event") } else { bytes(count) };
            let says = format!("{} {} in {over}", words(measured), counted_where(counted));
            match bound {
                Bound::Events(count) => finding(beyond(*side, measured.into(), i128::from(*count)), says),
                Bound::Size(size) => finding(beyond(*side, measured.into(), i128::from(size.bytes())), says),
                Bound::Share { percent, of: whole } => {
                    let before = minutes.start - whole.minutes_back()..minutes.end - whole.minutes_back();
                    if whole.minutes_back() > 0 && !is_whole(&before) {
                        return None;
                    }
                    let (then, what) = match whole {
                        Whole::Yesterday => (of(counted, before), "yesterday".to_owned()),
                        Whole::LastWeek => (of(counted, before), "a week ago".to_owned()),
                        Whole::Counted(other) => (of(other, before), counted_where(other)),
                    };
                    let says = format!("{says}, against {} {what}", words(then));
                    finding(beyond(*side, i128::from(measured) * 100, i128::from(then) * i128::from(*percent)), says)
                }
            }
        }
        AlertCondition::Silent { source, time } => {
            let heard = readings.heard(source)?;
            let (Heard::At(since) | Heard::NothingSince(since)) = heard;
            let silent = now_ms - since;
            // It may have been silent long before one began to listen.
            if matches!(heard, Heard::NothingSince(_)) && silent < time.ms() {
                return None;
            }
            finding(silent >= time.ms(), format!("nothing was heard from {} for {}", Place::Source(source.clone()), span(silent)))
        }
        AlertCondition::Failing { destination, time } => {
            let place = Place::Destination(destination.clone());
            let standing = readings.standing(destination)?;
            if standing.is_untried {
                return None;
            }
            match standing.failing_ms {
                Some(since) => finding(now_ms - since >= time.ms(), format!("{place} has accepted nothing for {}", span(now_ms - since))),
                None => finding(false, format!("{place} is not failing")),
            }
        }
        AlertCondition::Oldest { destination, time } => {
            let standing = readings.standing(destination)?;
            let place = Place::Destination(destination.clone());
            if standing.waiting.events == 0 {
                return finding(false, format!("nothing waits at {place}"));
            }
            let age = now_ms - standing.oldest_ms;
            finding(age > time.ms(), format!("the oldest event at {place} has waited for {}", span(age)))
        }
        AlertCondition::Waiting { destination, more_than } => {
            let waiting = readings.standing(destination)?.waiting;
            let holds = match more_than {
                Bound::Events(count) => i128::from(waiting.events) > i128::from(*count),
                Bound::Size(size) => i128::from(waiting.bytes) > i128::from(size.bytes()),
                Bound::Share { .. } => false,
            };
            let (verb, place) = (if waiting.events == 1 { "waits" } else { "wait" }, Place::Destination(destination.clone()));
            finding(holds, format!("{} ({}) {verb} at {place}", plural(waiting.events, "event"), bytes(waiting.bytes)))
        }
        AlertCondition::AgentSilent { group, time } => {
            let agents = readings.agents(group.as_deref())?;
            let since = |heard: &Heard| {
                let (Heard::At(at) | Heard::NothingSince(at)) = *heard;
                now_ms - at
            };
            let mut silent: Vec<(&str, i64)> = agents.iter().map(|(name, heard)| (name.as_str(), since(heard))).filter(|(_, ms)| *ms >= time.ms()).collect();
            silent.sort_by_key(|(name, ms)| (std::cmp::Reverse(*ms), *name));
            let Some((first, longest)) = silent.first() else {
                // Of those that were not heard since one listens, nobody knows.
                let is_unknown = agents.iter().any(|(_, heard)| matches!(heard, Heard::NothingSince(_)));
                return if is_unknown { None } else { finding(false, format!("all of {} are heard", plural(agents.len() as i64, "agent"))) };
            };
            let more = if silent.len() == 1 { String::new() } else { format!(", and {} as well", plural(silent.len() as i64 - 1, "other agent")) };
            finding(true, format!("nothing was heard from the agent {first} for {}{more}", span(*longest)))
        }
        AlertCondition::Budget { test, is_forecast } => {
            let BudgetReading { allows, percent, expected } = readings.budget(&test.budget)?;
            let (percent, says) = if *is_forecast {
                let expected = expected?;
                (expected, format!("{expected} % of {allows} will probably be used by the end, and {percent} % are"))
            } else {
                (percent, format!("{percent} % of {allows} are used"))
            };
            finding(i128::from(percent) >= i128::from(test.percent), says)
        }
        AlertCondition::Promise { destination, percent } => {
            let used = readings.standing(destination)?.promise_used?;
            let place = Place::Destination(destination.clone());
            finding(used >= *percent, format!("{used} % of the events that may come late to {place} did so in the last hour"))
        }
        AlertCondition::Disk { percent } => {
            let (used, free) = readings.disk()?;
            finding(i128::from(used) >= i128::from(*percent), format!("{used} % of the disk with the data are used, and {} are free", bytes(free)))
        }
        AlertCondition::TokenEnds { time } => {
            let mut soon: Vec<(String, i64)> = readings.tokens()?.into_iter().filter(|(_, ends_ms)| ends_ms - now_ms <= time.ms()).collect();
            soon.sort_by_key(|(_, ends_ms)| *ends_ms);
            let Some((first, ends_ms)) = soon.first() else { return finding(false, format!("no token ends within {time}")) };
            let more = if soon.len() > 1 { format!(", and {} as well", plural(soon.len() as i64 - 1, "other token")) } else { String::new() };
            finding(true, format!("the token `{first}` ends in {}{more}", span(ends_ms - now_ms)))
        }
        AlertCondition::Unbalanced => {
            let balanced = readings.is_balanced()?;
            finding(!balanced, if balanced { "the ledger balances".to_owned() } else { "the ledger does not balance".to_owned() })
        }
    }
}

/// Where something is counted, in words.
fn counted_where(counted: &Counted) -> String {
    match counted {
        Counted::At { quarantined, place, .. } => format!("{}at {place}", if *quarantined { "came into quarantine " } else { "" }),
        Counted::Metric(name) => format!("counted as {name}"),
    }
}

fn beyond(side: Side, measured: i128, bound: i128) -> bool {
    match side {
        Side::Above => measured > bound,
        Side::Below => measured < bound,
    }
}

fn plural(count: i64, one: &str) -> String {
    format!("{count} {one}{}", if count == 1 { "" } else { "s" })
}

fn bytes(count: i64) -> String {
    let units = [(1_000_000_000, "GB"), (1_000_000, "MB"), (1_000, "kB")];
    match units.into_iter().find(|(unit, _)| count >= *unit) {
        Some((unit, word)) => format!("{:.1} {word}", count as f64 / unit as f64),
        None => format!("{count} B"),
    }
}

/// A length of time in its largest unit.
fn span(ms: i64) -> String {
    let units = [(86_400_000, "day"), (3_600_000, "hour"), (60_000, "minute")];
    match units.into_iter().find(|(unit, _)| ms >= *unit) {
        Some((unit, word)) => plural(ms / unit, word),
        None => plural(ms.max(0) / 1_000, "second"),
    }
}

#[cfg(test)]
mod tests {
    use rockrose_language::parse_alert;

    use super::*;

    struct Known;

    impl Readings for Known {
        fn agents(&self, group: Option<&str>) -> Option<Vec<(String, Heard)>> {
            let of = |name: &str, heard| (name.to_owned(), heard);
            match group {
                None => {
                    Some(vec![of("gate-1", Heard::At(6_000_000 - 700_000)), of("kiosk-1", Heard::At(6_000_000 - 900_000)), of("kiosk-2", Heard::At(5_999_000))])
                }
                Some("new") => Some(vec![of("gate-2", Heard::At(5_999_000)), of("gate-3", Heard::NothingSince(5_990_000))]),
                Some("quays") => Some(vec![of("gate-2", Heard::At(5_999_000))]),
                Some(_) => None,
            }
        }

        fn first_minute(&self) -> Option<i64> {
            Some(100)
        }

        fn volume(&self, counted: &Counted, minutes: Range<i64>) -> Amount {
            if let Counted::Metric(_) = counted {
                return Amount { events: 3 * (minutes.end - minutes.start), bytes: 0 };
            }
            let quarantined = matches!(counted, Counted::At { quarantined: true, .. });
            // Ten events of 100 bytes a minute; twice as many before minute 5 000.
            let one = |minute: i64| if minute < 5_000 { 20 } else { 10 };
            let events = minutes.clone().map(one).sum::<i64>() / if quarantined { 10 } else { 1 };
            Amount { events, bytes: events * 100 }
        }

        fn heard(&self, source: &str) -> Option<Heard> {
            match source {
                "kiosks" => Some(Heard::At(20_000 * MINUTE_MS)),
                "quays" => Some(Heard::NothingSince(20_000 * MINUTE_MS)),
                _ => None,
            }
        }

        fn standing(&self, destination: &str) -> Option<Standing> {
            match destination {
                "gate" => Some(Standing { is_untried: true, ..Standing::default() }),
                "desk" => Some(Standing {
                    failing_ms: Some(20_000 * MINUTE_MS),
                    is_untried: false,
                    waiting: Amount { events: 50, bytes: 5_000 },
                    oldest_ms: 20_001 * MINUTE_MS,
                    promise_used: Some(120),
                }),
                "vault" => Some(Standing::default()),
                _ => None,
            }
        }

        fn is_balanced(&self) -> Option<bool> {
            Some(true)
        }

        fn budget(&self, name: &str) -> Option<BudgetReading> {
            let expected = (name == "desk").then_some(130);
            (name != "new").then(|| BudgetReading { allows: "40 GB a day at destination:desk".into(), percent: 82, expected })
        }

        fn disk(&self) -> Option<(i64, i64)> {
            Some((91, 7_500_000_000))
        }

        fn tokens(&self) -> Option<Vec<(String, i64)>> {
            Some(vec![("late".into(), 400 * 3_600_000), ("backup".into(), 50 * 3_600_000), ("probe".into(), 30 * 3_600_000)])
        }
    }

    #[test]
    fn what_is_running_out_is_told_before_it_has() {
        let found = |text: &str| find(&parse_alert(text).unwrap(), &Known, 6 * 3_600_000).map(|f| (f.holds, f.says));
        let is = |holds: bool, says: &str| Some((holds, says.to_owned()));
        assert_eq!(found("budget:desk >= 82 %"), is(true, "82 % of 40 GB a day at destination:desk are used"));
        assert_eq!(found("budget:desk >= 83 %").map(|f| f.0), Some(false));
        assert_eq!(
            found("forecast of budget:desk >= 130 %"),
            is(true, "130 % of 40 GB a day at destination:desk will probably be used by the end, and 82 % are")
        );
        assert_eq!(
            (found("forecast of budget:desk >= 131 %").map(|f| f.0), found("forecast of budget:other >= 1 %"), found("budget:new >= 1 %")),
            (Some(false), None, None)
        );
        assert_eq!(found("disk >= 91 %"), is(true, "91 % of the disk with the data are used, and 7.5 GB are free"));
        assert_eq!(found("disk >= 92 %").map(|f| f.0), Some(false));
        assert_eq!(found("any token ends within 72 hours"), is(true, "the token `probe` ends in 1 day, and 1 other token as well"));
        assert_eq!(found("any token ends within 24 hours"), is(true, "the token `probe` ends in 1 day"));
        assert_eq!(found("any token ends within 5 minutes"), is(false, "no token ends within 5 minutes"));
    }

    #[test]
    fn an_agent_that_is_silent_is_named_and_one_that_was_not_heard_yet_is_not_accused() {
        let found = |text: &str| find(&parse_alert(text).unwrap(), &Known, 6_000_000);
        let told = found("any agent silent for 10 minutes").unwrap();
        assert_eq!((told.holds, told.says.as_str()), (true, "nothing was heard from the agent kiosk-1 for 15 minutes, and 1 other agent as well"));
        assert_eq!(found("any agent silent for 14 minutes").unwrap().says, "nothing was heard from the agent kiosk-1 for 15 minutes");
        assert!(!found("any agent silent for 16 minutes").unwrap().holds);
        assert_eq!(found("any agent of group new silent for 5 minutes"), None, "the service has just begun to listen");
        assert_eq!(found("any agent of group quays silent for 5 minutes").unwrap().says, "all of 1 agent are heard");
    }

    #[test]
    fn conditions_hold_by_what_is_known_and_say_it() {
        let now = 20_003 * MINUTE_MS + 30_000;
        let found = |text: &str| find(&parse_alert(text).unwrap(), &Known, now).map(|f| (f.holds, f.says));
        let is = |holds: bool, says: &str| Some((holds, says.to_owned()));
        assert_eq!(found("events at route:web over 5 minutes > 49"), is(true, "50 events at route:web in 5 minutes"));
        assert_eq!(found("events at route:web over 5 minutes > 50"), is(false, "50 events at route:web in 5 minutes"));
        assert_eq!(found("events at route:web over 5 minutes < 51"), is(true, "50 events at route:web in 5 minutes"));
        assert_eq!(found("bytes at route:web over 5 minutes > 4 KB"), is(true, "5.0 kB at route:web in 5 minutes"));
        assert_eq!(found("events quarantined at source:kiosks over 1 minute > 0"), is(true, "1 event came into quarantine at source:kiosks in 1 minute"));
        assert_eq!(found("events at route:web over 1 hour < 101 % of yesterday"), is(true, "600 events at route:web in 1 hour, against 600 events yesterday"));
        assert_eq!(found("events at route:web over 1 hour < 100 % of last week").map(|f| f.0), Some(false));
        // What the ledger does not know cannot be said, but what it knows may be enough.
        let first = |text: &str| find(&parse_alert(text).unwrap(), &Known, 130 * MINUTE_MS).map(|f| f.holds);
        assert_eq!(first("events at remainder over 1 hour < 1"), None);
        assert_eq!(first("events at remainder over 1 hour > 1"), Some(true));
        assert_eq!(first("events at remainder over 10 minutes > 300 % of yesterday"), None);
        assert_eq!(
            found("metric refused over 5 minutes > 29 % of events at route:web"),
            is(true, "15 events counted as refused in 5 minutes, against 50 events at route:web")
        );
        assert_eq!(found("metric refused over 5 minutes > 30 % of events at route:web").map(|f| f.0), Some(false));
        assert_eq!(found("source:kiosks silent for 3 minutes"), is(true, "nothing was heard from source:kiosks for 3 minutes"));
        assert_eq!(found("source:kiosks silent for 4 minutes").map(|f| f.0), Some(false));
        assert_eq!((found("source:quays silent for 4 minutes"), found("source:quays silent for 3 minutes").map(|f| f.0)), (None, Some(true)));
        assert_eq!(found("source:gates silent for 4 minutes"), None);
        assert_eq!(found("destination:desk failing for 3 minutes"), is(true, "destination:desk has accepted nothing for 3 minutes"));
        assert_eq!(found("destination:vault failing for 3 minutes"), is(false, "destination:vault is not failing"));
        assert_eq!(found("destination:gate failing for 3 minutes"), None);
        assert_eq!(found("oldest event at destination:desk > 2 minutes"), is(true, "the oldest event at destination:desk has waited for 2 minutes"));
        assert_eq!(
            found("promise of destination:desk used >= 120 %"),
            is(true, "120 % of the events that may come late to destination:desk did so in the last hour")
        );
        assert_eq!(found("promise of destination:desk used >= 121 %").map(|f| f.0), Some(false));
        assert_eq!(found("promise of destination:vault used >= 1 %"), None, "nothing is promised there");
        assert_eq!(found("oldest event at destination:vault > 1 second"), is(false, "nothing waits at destination:vault"));
        assert_eq!(found("waiting at destination:desk > 49 events"), is(true, "50 events (5.0 kB) wait at destination:desk"));
        assert_eq!(found("waiting at destination:desk > 5 KB").map(|f| f.0), Some(false));
        assert_eq!(found("ledger out of balance"), is(false, "the ledger balances"));
        // A week before minute 20 003 there were as many; before minute 5 000 twice as many.
        let early = (5_000 + 7 * 1_440 - 60) * MINUTE_MS;
        let halved = find(&parse_alert("events at route:web over 1 hour < 51 % of last week").unwrap(), &Known, early).unwrap();
        assert_eq!((halved.holds, halved.says.as_str()), (true, "600 events at route:web in 1 hour, against 1200 events a week ago"));
    }
}
