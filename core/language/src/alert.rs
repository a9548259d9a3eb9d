//! What an alert watches: what passes at a point, and whether sources and destinations are well.

use std::fmt::{self, Display, Formatter};

use crate::budget::{self, BudgetTest};
use crate::cursor::{Cursor, Outcome};
use crate::grant::Place;
use crate::mistake::Mistake;
use crate::quantity::{Size, Time, TimeUnit, any_time, size, time};

/// What an alert is about. `Display` prints its canonical sentence, which reads back as the same condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AlertCondition {
    /// `events at PLACE over TIME > NUMBER`: what was counted within the last whole minutes.
    Volume {
        /// What is counted.
        counted: Counted,
        /// The whole minutes that are looked at.
        over: Time,
        /// Whether there is trouble above the bound or below it.
        side: Side,
        /// The bound.
        bound: Bound,
    },
    /// `source:NAME silent for TIME`: nothing was heard from it.
    Silent {
        /// The source.
        source: String,
        /// For so long.
        time: Time,
    },
    /// `destination:NAME failing for TIME`: it has not accepted anything that was sent there.
    Failing {
        /// The destination.
        destination: String,
        /// For so long.
        time: Time,
    },
    /// `oldest event at destination:NAME > TIME`: the event that waits longest there.
    Oldest {
        /// The destination.
        destination: String,
        /// For longer than this.
        time: Time,
    },
    /// `promise of destination:NAME used >= SHARE %`: of the events that may come there late, so many were late in the last hour.
    Promise {
        /// The destination.
        destination: String,
        /// At least so many percent.
        percent: u64,
    },
    /// `waiting at destination:NAME > SIZE`: what waits there.
    Waiting {
        /// The destination.
        destination: String,
        /// More than this: events, or a size.
        more_than: Bound,
    },
    /// `any agent silent for TIME`: nothing was heard from some agent, perhaps only of those of a group.
    AgentSilent {
        /// The group; nothing: any agent.
        group: Option<String>,
        /// For so long.
        time: Time,
    },
    /// `budget:NAME >= SHARE %` or `forecast of budget:NAME >= SHARE %`: so much of a budget is used, or will be at the end of its period.
    Budget {
        /// How much of which.
        test: BudgetTest,
        /// At the end of the period, as it is foreseen.
        is_forecast: bool,
    },
    /// `disk >= SHARE %`: so much of the disk with the service's data is used.
    Disk {
        /// At least so many percent, from 1 to 100.
        percent: u64,
    },
    /// `any token ends within TIME`: some program's token is about to end.
    TokenEnds {
        /// Within so long.
        time: Time,
    },
    /// `ledger out of balance`.
    Unbalanced,
}

/// What is counted by the minute.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Counted {
    /// `events at PLACE`: of a source what arrives, of a route what it takes, of a destination what it accepts, of the remainder what no route takes.
    At {
        /// In what it is counted.
        unit: VolumeUnit,
        /// Only what came into quarantine there.
        quarantined: bool,
        /// The place.
        place: Place,
    },
    /// `metric NAME`: the events that a `count` or `measure` step has counted, whatever their labels.
    Metric(String),
}

impl Counted {
    /// In what it is counted.
    #[must_use]
    pub fn unit(&self) -> VolumeUnit {
        match self {
            Counted::At { unit, .. } => *unit,
            Counted::Metric(_) => VolumeUnit::Events,
        }
    }
}

/// What a volume is counted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum VolumeUnit {
    /// Events.
    Events,
    /// Bytes.
    Bytes,
}

/// On which side of a bound trouble is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// `>`
    Above,
    /// `<`
    Below,
}

/// What a volume is held against.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bound {
    /// So many events.
    Events(u64),
    /// So many bytes.
    Size(Size),
    /// So many percent of what it was at another time, or of something else in the same minutes.
    Share {
        /// At most 100 000.
        percent: u64,
        /// Of what.
        of: Whole,
    },
}

/// What a share is of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Whole {
    /// What it was in the same minutes a day before.
    Yesterday,
    /// What it was in the same minutes seven days before.
    LastWeek,
    /// Something else in these minutes.
    Counted(Counted),
}

impl Whole {
    /// How many minutes before.
    #[must_use]
    pub fn minutes_back(&self) -> i64 {
        match self {
            Whole::Yesterday => 24 * 60,
            Whole::LastWeek => 7 * 24 * 60,
            Whole::Counted(_) => 0,
        }
    }
}

impl AlertCondition {
    /// All that it counts by the minute.
    #[must_use]
    pub fn counted(&self) -> Vec<&Counted> {
        match self {
            AlertCondition::Volume { counted, bound: Bound::Share { of: Whole::Counted(whole), .. }, .. } => vec![counted, whole],
            AlertCondition::Volume { counted, .. } => vec![counted],
            _ => Vec::new(),
        }
    }

    /// The place of the plan that it is about.
    #[must_use]
    pub fn place(&self) -> Option<Place> {
        match self {
            AlertCondition::Volume { counted: Counted::At { place, .. }, .. } => Some(place.clone()),
            AlertCondition::Volume { counted: Counted::Metric(_), .. } => None,
            AlertCondition::Silent { source, .. } => Some(Place::Source(source.clone())),
            AlertCondition::Failing { destination, .. }
            | AlertCondition::Oldest { destination, .. }
            | AlertCondition::Promise { destination, .. }
            | AlertCondition::Waiting { destination, .. } => Some(Place::Destination(destination.clone())),
            AlertCondition::AgentSilent { .. }
            | AlertCondition::Budget { .. }
            | AlertCondition::Disk { .. }
            | AlertCondition::TokenEnds { .. }
            | AlertCondition::Unbalanced => None,
        }
    }
}

impl AlertCondition {
    /// What it means, in a sentence.
    #[must_use]
    pub fn explained(&self) -> String {
        let waits = |destination: &str| Place::Destination(destination.to_owned());
        match self {
            AlertCondition::Volume { counted, over, side, bound } => {
                let (unit, than) = (counted.unit(), if *side == Side::Above { "more" } else { "fewer" });
                let bound = match bound {
                    Bound::Events(count) => format!("{count} {unit}"),
                    Bound::Size(size) => size.to_string(),
                    Bound::Share { percent, of: Whole::Yesterday } => format!("{percent} % of the {unit} of the same minutes yesterday"),
                    Bound::Share { percent, of: Whole::LastWeek } => format!("{percent} % of the {unit} of the same minutes a week before"),
                    Bound::Share { percent, of: Whole::Counted(whole) } => format!("{percent} % of the {unit} that {}", happened(whole)),
                };
                format!("On while {than} than {bound} {} in the last {over}, in whole minutes.", happened(counted))
            }
            AlertCondition::Silent { source, time } => format!("On while nothing was heard from {} for {time}.", Place::Source(source.clone())),
            AlertCondition::Failing { destination, time } => {
                format!("On while {} has accepted nothing for {time}, although it was sent something.", waits(destination))
            }
            AlertCondition::Oldest { destination, time } => format!("On while some event has waited at {} for longer than {time}.", waits(destination)),
            AlertCondition::Promise { destination, percent } => {
                format!("On while at least {percent} % of the events that may come late to {} have done so in the last hour.", waits(destination))
            }
            AlertCondition::Waiting { destination, more_than } => {
                format!("On while more than {more_than}{} wait at {}.", if matches!(more_than, Bound::Events(_)) { " events" } else { "" }, waits(destination))
            }
            AlertCondition::AgentSilent { group, time } => {
                let of = group.as_ref().map(|group| format!(" of the group {group}")).unwrap_or_default();
                format!("On while nothing was heard from some agent{of} for {time}.")
            }
            AlertCondition::Budget { test: BudgetTest { budget, percent }, is_forecast: false } => {
                format!("On while at least {percent} % of the budget {budget} is used.")
            }
            AlertCondition::Budget { test: BudgetTest { budget, percent }, is_forecast: true } => {
                format!("On while it is to be expected that at least {percent} % of the budget {budget} will be used by the end of its period.")
            }
            AlertCondition::Disk { percent } => format!("On while at least {percent} % of the disk that holds the data of the service is used."),
            AlertCondition::TokenEnds { time } => format!("On while some program's token ends within {time}."),
            AlertCondition::Unbalanced => "On while the ledger does not balance.".to_owned(),
        }
    }
}

/// What became of what is counted, in words.
fn happened(counted: &Counted) -> String {
    match counted {
        Counted::At { quarantined: true, place, .. } => format!("came into quarantine at {place}"),
        Counted::At { place: Place::Remainder, .. } => "were taken by no route".to_owned(),
        Counted::At { place, .. } => {
            let what = match place {
                Place::Route(_) => "were taken",
                Place::Destination(_) => "were accepted",
                _ => "arrived",
            };
            format!("{what} at {place}")
        }
        Counted::Metric(name) => format!("were counted as {name}"),
    }
}

/// What an alert's condition may begin with.
const BEGINNINGS: [&str; 14] = [
    "events",
    "bytes",
    "metric",
    "source",
    "destination",
    "oldest event at",
    "promise of",
    "waiting at",
    "any agent",
    "budget",
    "forecast of budget",
    "disk",
    "any token",
    "ledger out of balance",
];

/// Reads what an alert watches.
///
/// ```
/// let text = "events at source:kiosks over 1 hour < 50 % of last week";
/// assert_eq!(rockrose_language::parse_alert(text).unwrap().to_string(), text);
/// ```
///
/// # Errors
/// At the first place where the sentence cannot go on, with what was expected there.
pub fn parse_alert(text: &str) -> Result<AlertCondition, Mistake> {
    read_alert(&mut Cursor::new(text)?)
}

/// Reads a whole text as what an alert watches.
pub(crate) fn read_alert(c: &mut Cursor<'_>) -> Outcome<AlertCondition> {
    let condition = alert(c)?;
    if c.done() { Ok(condition) } else { c.unexpected("the end of the sentence", &[]) }
}

fn alert(c: &mut Cursor<'_>) -> Outcome<AlertCondition> {
    if let Some(counted) = counted(c)? {
        return volume(c, counted);
    }
    if c.words("oldest event at") {
        let destination = destination(c)?;
        above(c)?;
        return Ok(AlertCondition::Oldest { destination, time: time(c)? });
    }
    if c.words("promise of") {
        let start = c.at();
        let Place::Destination(destination) = Place::parse(c)? else {
            return Err(Mistake::new(c.since(start), "only destinations promise something").expected("`destination:NAME`"));
        };
        c.need_words("used")?;
        return Ok(AlertCondition::Promise { destination, percent: budget::share(c)? });
    }
    if c.words("waiting at") {
        let destination = destination(c)?;
        above(c)?;
        return Ok(AlertCondition::Waiting { destination, more_than: waiting(c)? });
    }
    if c.words("any agent") {
        let group = if c.words("of group") { Some(c.name("the group's name")?) } else { None };
        c.need_words("silent for")?;
        return Ok(AlertCondition::AgentSilent { group, time: time(c)? });
    }
    for (words, is_forecast) in [("budget", false), ("forecast of budget", true)] {
        if c.words(words) {
            let test = BudgetTest { budget: budget::named(c)?, percent: budget::share(c)? };
            return Ok(AlertCondition::Budget { test, is_forecast });
        }
    }
    if c.words("disk") {
        let start = c.at();
        let percent = budget::share(c)?;
        if percent > 100 {
            return Err(Mistake::new(c.since(start), "no disk is more than full").expected("at most 100 %"));
        }
        return Ok(AlertCondition::Disk { percent });
    }
    if c.words("any token") {
        c.need_words("ends within")?;
        return Ok(AlertCondition::TokenEnds { time: any_time(c)? });
    }
    if c.words("ledger out of balance") {
        return Ok(AlertCondition::Unbalanced);
    }
    if !["source", "destination"].contains(&c.peek_word()) {
        return c.unexpected("what to watch: `events at …`, `bytes at …`, `metric NAME …`, `source:NAME silent for …`, `destination:NAME failing for …`, `oldest event at …`, `promise of …`, `waiting at …`, `any agent silent for …`, `budget:NAME >= …`, `forecast of budget:NAME >= …`, `disk >= …`, `any token ends within …` or `ledger out of balance`", &BEGINNINGS);
    }
    match Place::parse(c)? {
        Place::Source(source) => {
            c.need_words("silent for")?;
            Ok(AlertCondition::Silent { source, time: time(c)? })
        }
        place => {
            c.need_words("failing for")?;
            let Place::Destination(destination) = place else { return c.unexpected("a destination", &[]) };
            Ok(AlertCondition::Failing { destination, time: time(c)? })
        }
    }
}

/// `events at PLACE`, `bytes quarantined at PLACE` or `metric NAME`, if such a thing stands here.
fn counted(c: &mut Cursor<'_>) -> Outcome<Option<Counted>> {
    if c.words("metric") {
        return c.name("the metric's name").map(|name| Some(Counted::Metric(name)));
    }
    let Some(unit) = [("events", VolumeUnit::Events), ("bytes", VolumeUnit::Bytes)].into_iter().find(|(word, _)| c.words(word)).map(|(_, unit)| unit) else {
        return Ok(None);
    };
    let quarantined = c.words("quarantined");
    c.need_words("at")?;
    let start = c.at();
    let place = Place::parse(c)?;
    if quarantined && !matches!(place, Place::Source(_) | Place::Destination(_)) {
        return Err(Mistake::new(c.since(start), format!("nothing comes into quarantine at {place}")).expected("`source:NAME` or `destination:NAME`"));
    }
    Ok(Some(Counted::At { unit, quarantined, place }))
}

fn volume(c: &mut Cursor<'_>, counted: Counted) -> Outcome<AlertCondition> {
    c.need_words("over")?;
    let start = c.at();
    let over = time(c)?;
    if over.unit == TimeUnit::Second {
        return Err(Mistake::new(c.since(start), "volumes are counted by the minute").expected("whole minutes, as in `over 5 minutes`"));
    }
    let side = if c.sign(">") {
        Side::Above
    } else if c.sign("<") {
        Side::Below
    } else {
        return c.unexpected("`>` or `<`", &[]);
    };
    let bound = bound(c, counted.unit())?;
    Ok(AlertCondition::Volume { counted, over, side, bound })
}

/// A number, a size, or a share of what it was before.
fn bound(c: &mut Cursor<'_>, unit: VolumeUnit) -> Outcome<Bound> {
    if unit == VolumeUnit::Events && c.words("0") {
        return Ok(Bound::Events(0));
    }
    let start = c.at();
    let count = c.count("a number, as in `1000`, or a share, as in `50 % of last week`")?;
    if c.sign("%") {
        if !(1..=100_000).contains(&count) {
            return Err(Mistake::new(c.since(start), "the share is out of bounds").expected("at least 1 % and at most 100000 %"));
        }
        c.need_words("of")?;
        let start = c.at();
        let of = if c.words("yesterday") {
            Whole::Yesterday
        } else if c.words("last week") {
            Whole::LastWeek
        } else {
            match counted(c)? {
                Some(whole) if whole.unit() == unit => Whole::Counted(whole),
                Some(whole) => return Err(Mistake::new(c.since(start), format!("{unit} cannot be held against {}", whole.unit()))),
                None => {
                    return c.unexpected("`yesterday`, `last week`, `events at …` or `metric NAME`", &["yesterday", "last week", "events", "bytes", "metric"]);
                }
            }
        };
        return Ok(Bound::Share { percent: count, of });
    }
    match unit {
        VolumeUnit::Events => Ok(Bound::Events(count)),
        VolumeUnit::Bytes => {
            c.rewind(start);
            size(c).map(Bound::Size)
        }
    }
}

/// `1000 events` or a size.
fn waiting(c: &mut Cursor<'_>) -> Outcome<Bound> {
    let start = c.at();
    let count = c.count("a number of events, as in `1000 events`, or a size, as in `2 GB`")?;
    if c.words("events") {
        return Ok(Bound::Events(count));
    }
    c.rewind(start);
    size(c).map(Bound::Size)
}

fn destination(c: &mut Cursor<'_>) -> Outcome<String> {
    let start = c.at();
    match Place::parse(c)? {
        Place::Destination(name) => Ok(name),
        other => Err(Mistake::new(c.since(start), format!("nothing waits at {other}")).expected("`destination:NAME`")),
    }
}

fn above(c: &mut Cursor<'_>) -> Outcome<()> {
    if c.sign(">") { Ok(()) } else { c.unexpected("`>`", &[]) }
}

impl Display for Side {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Side::Above => ">",
            Side::Below => "<",
        })
    }
}

impl Display for VolumeUnit {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            VolumeUnit::Events => "events",
            VolumeUnit::Bytes => "bytes",
        })
    }
}

impl Display for Counted {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Counted::At { unit, quarantined, place } => write!(f, "{unit}{} at {place}", if *quarantined { " quarantined" } else { "" }),
            Counted::Metric(name) => write!(f, "metric {}", rockrose_event::field::Path::name(name)),
        }
    }
}

impl Display for Bound {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Bound::Events(count) => count.fmt(f),
            Bound::Size(size) => size.fmt(f),
            Bound::Share { percent, of: Whole::Yesterday } => write!(f, "{percent} % of yesterday"),
            Bound::Share { percent, of: Whole::LastWeek } => write!(f, "{percent} % of last week"),
            Bound::Share { percent, of: Whole::Counted(whole) } => write!(f, "{percent} % of {whole}"),
        }
    }
}

impl Display for AlertCondition {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let to = |name: &str| Place::Destination(name.to_owned());
        match self {
            AlertCondition::Volume { counted, over, side, bound } => write!(f, "{counted} over {over} {side} {bound}"),
            AlertCondition::Silent { source, time } => write!(f, "{} silent for {time}", Place::Source(source.clone())),
            AlertCondition::Failing { destination, time } => write!(f, "{} failing for {time}", to(destination)),
            AlertCondition::Oldest { destination, time } => write!(f, "oldest event at {} > {time}", to(destination)),
            AlertCondition::Promise { destination, percent } => write!(f, "promise of {} used >= {percent} %", to(destination)),
            AlertCondition::Waiting { destination, more_than } => {
                write!(f, "waiting at {} > {more_than}{}", to(destination), if matches!(more_than, Bound::Events(_)) { " events" } else { "" })
            }
            AlertCondition::AgentSilent { group: Some(group), time } => {
                write!(f, "any agent of group {} silent for {time}", rockrose_event::field::Path::name(group))
            }
            AlertCondition::AgentSilent { group: None, time } => write!(f, "any agent silent for {time}"),
            AlertCondition::Budget { test, is_forecast } => write!(f, "{}{test}", if *is_forecast { "forecast of " } else { "" }),
            AlertCondition::Disk { percent } => write!(f, "disk >= {percent} %"),
            AlertCondition::TokenEnds { time } => write!(f, "any token ends within {time}"),
            AlertCondition::Unbalanced => f.write_str("ledger out of balance"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_alerts_watch_reads_back_as_it_prints() {
        for text in [
            "events at route:web over 5 minutes > 1000",
            "bytes at destination:desk over 1 hour > 2 GB",
            "events at source:kiosks over 1 hour < 50 % of last week",
            "bytes at remainder over 10 minutes > 300 % of yesterday",
            "events quarantined at source:kiosks over 10 minutes > 0",
            "bytes quarantined at destination:desk over 24 hours > 1 MB",
            "metric refused over 5 minutes > 40 % of events at route:web",
            "metric refused over 10 minutes > 12",
            "events at route:web over 1 hour > 90 % of events at source:kiosks",
            "source:kiosks silent for 5 minutes",
            "destination:desk failing for 2 minutes",
            "oldest event at destination:desk > 10 minutes",
            "promise of destination:desk used >= 80 %",
            "waiting at destination:desk > 100000 events",
            "waiting at destination:desk > 2 GB",
            "any agent silent for 5 minutes",
            "any agent of group kiosks silent for 2 hours",
            "budget:desk-day >= 95 %",
            "forecast of budget:desk-day >= 120 %",
            "disk >= 90 %",
            "any token ends within 72 hours",
            "ledger out of balance",
        ] {
            let condition = parse_alert(text).unwrap_or_else(|m| panic!("{text}: {m:?}"));
            assert_eq!(condition.to_string(), text);
            assert_eq!(parse_alert(&format!("  {}  ", text.replace(" > ", ">").replace(" at ", "  at "))).unwrap(), condition);
        }
    }

    #[test]
    fn what_they_mean_is_told() {
        let says = |text: &str| parse_alert(text).unwrap().explained();
        assert_eq!(
            says("events at route:web over 5 minutes > 10"),
            "On while more than 10 events were taken at route:web in the last 5 minutes, in whole minutes."
        );
        assert_eq!(
            says("bytes quarantined at source:a over 1 hour < 50 % of yesterday"),
            "On while fewer than 50 % of the bytes of the same minutes yesterday came into quarantine at source:a in the last 1 hour, in whole minutes."
        );
        assert_eq!(
            says("metric refused over 5 minutes > 40 % of events at route:web"),
            "On while more than 40 % of the events that were taken at route:web were counted as refused in the last 5 minutes, in whole minutes."
        );
        assert_eq!(crate::explain("ledger out of balance").unwrap(), "On while the ledger does not balance.");
        assert_eq!(says("waiting at destination:desk > 2 GB"), "On while more than 2 GB wait at destination:desk.");
    }

    #[test]
    fn names_of_the_plan_are_asked_for() {
        use crate::{NameOf, SentenceKind, Want, following};
        let wants = |text: &str| following(SentenceKind::Alert, text).wants;
        assert!(wants("").contains(&Want::Word("events".into())) && wants("").contains(&Want::Word("ledger out of balance".into())));
        assert!(wants("events at source:").contains(&Want::Name(NameOf::Source)) && wants("events at route:w").contains(&Want::Name(NameOf::Route)));
        assert!(wants("oldest event at destination:").contains(&Want::Name(NameOf::Destination)));
        assert!(wants("events at route:web over 5 minutes > 50 % of ").contains(&Want::Word("last week".into())));
    }

    #[test]
    fn mistakes_are_told_where_they_stand() {
        for (text, at, says) in [
            ("", 0..0, "ends too early"),
            ("event at route:web over 5 minutes > 1", 0..5, "unexpected `event`"),
            ("events at table:web over 5 minutes > 1", 10..15, "unexpected `table`"),
            ("events at route:web over 30 seconds > 1", 25..35, "by the minute"),
            ("events at route:web over 48 hours > 1", 25..33, "longer than a day"),
            ("events at route:web over 5 minutes = 1", 35..36, "unexpected `=`"),
            ("events at route:web over 5 minutes > 200000 % of yesterday", 37..45, "out of bounds"),
            ("events at route:web over 5 minutes > 5 % of today", 44..49, "unexpected `today`"),
            ("bytes at route:web over 5 minutes > 5 % of metric refused", 43..57, "bytes cannot be held against events"),
            ("bytes at route:web over 5 minutes > 5", 37..37, "ends too early"),
            ("events quarantined at route:web over 5 minutes > 5", 22..31, "nothing comes into quarantine"),
            ("route:web silent for 5 minutes", 0..5, "unexpected `route`"),
            ("source:kiosks failing for 5 minutes", 14..21, "unexpected `failing`"),
            ("oldest event at source:kiosks > 5 minutes", 16..29, "nothing waits at source:kiosks"),
            ("promise of source:kiosks used >= 80 %", 11..24, "only destinations promise something"),
            ("disk >= 101 %", 5..13, "no disk is more than full"),
            ("disk > 90 %", 5..6, "unexpected `>`"),
            ("ledger out of balance now", 22..25, "unexpected `now`"),
        ] {
            let mistake = parse_alert(text).unwrap_err();
            assert!(mistake.at == at && mistake.message.contains(says), "{text}: {mistake:?}");
        }
        assert_eq!(parse_alert("event at route:web over 5 minutes > 1").unwrap_err().nearest.as_deref(), Some("events"));
    }
}
