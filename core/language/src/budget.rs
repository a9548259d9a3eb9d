//! Budgets: how much may pass a place in a day or a month, and the tests of how much of that is used.

use std::fmt::{self, Display, Formatter};

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};

use crate::cursor::{Cursor, Outcome};
use crate::grant::Place;
use crate::mistake::Mistake;
use crate::quantity::{Size, size};

/// What may pass a place in one period. `Display` prints its canonical sentence, which reads back as the same allowance.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Allowance {
    /// How much.
    pub most: Most,
    /// In how long.
    pub per: Period,
    /// Where: a source, a route or a destination.
    pub at: Place,
}

/// What an allowance is counted in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Most {
    /// So many bytes.
    Size(Size),
    /// So many events.
    Events(u64),
    /// So much money.
    Money {
        /// A decimal number, as written.
        amount: String,
        /// ISO 4217 code.
        currency: String,
    },
}

/// How long an allowance is for, by the calendar.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Period {
    /// From midnight to midnight.
    Day,
    /// From the first of a month to the first of the next.
    Month,
}

impl Period {
    /// Both.
    pub const ALL: [Period; 2] = [Period::Day, Period::Month];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["day", "month"][self as usize]
    }

    /// When the period begins in which `ms` lies, and when the next one begins, by the clocks of `zone`; all in milliseconds since 1970.
    #[must_use]
    pub fn around(self, ms: i64, zone: &TimeZone) -> (i64, i64) {
        let now = Timestamp::from_millisecond(ms).unwrap_or_default().to_zoned(zone.clone());
        let date = now.date();
        let (first, length) = match self {
            Period::Day => (date, 1.day()),
            Period::Month => (date.first_of_month(), 1.month()),
        };
        let begins = |date: Date| zone.to_zoned(date.at(0, 0, 0, 0)).map_or(ms, |begins| begins.timestamp().as_millisecond());
        (begins(first), first.checked_add(length).map_or(i64::MAX, begins))
    }
}

/// Whether so much of a budget is used. It is no question to the event: the answer is that of the moment at which the event passes.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct BudgetTest {
    /// The budget's name.
    pub budget: String,
    /// At least so many percent of it, from 1.
    pub percent: u64,
}

/// The largest share of a budget that can be asked for.
const MOST_PERCENT: u64 = 1_000;

/// `budget:NAME >= 90 %`, if such a test stands here.
pub(crate) fn budget_test(c: &mut Cursor<'_>) -> Outcome<Option<BudgetTest>> {
    // A field may have this name as well.
    if !c.rest().strip_prefix("budget").is_some_and(|rest| rest.trim_start().starts_with(':')) {
        return Ok(None);
    }
    c.words("budget");
    let budget = named(c)?;
    Ok(Some(BudgetTest { budget, percent: share(c)? }))
}

/// `:NAME`, behind `budget`.
pub(crate) fn named(c: &mut Cursor<'_>) -> Outcome<String> {
    if c.sign(":") { c.name("a budget's name") } else { c.unexpected("`:` and a budget's name", &[]) }
}

/// `>= 90 %`
pub(crate) fn share(c: &mut Cursor<'_>) -> Outcome<u64> {
    if !c.sign(">=") {
        return c.unexpected("`>=` and a share, as in `>= 90 %`", &[]);
    }
    let start = c.at();
    let percent = c.count("a share, as in `90 %`")?;
    if !c.sign("%") {
        return c.unexpected("`%`", &[]);
    }
    if percent > MOST_PERCENT {
        return Err(Mistake::new(c.since(start), "the share is out of bounds").expected("at least 1 % and at most 1000 %"));
    }
    Ok(percent)
}

/// Reads what a budget allows.
///
/// ```
/// let text = "40 GB a day at destination:desk";
/// assert_eq!(rockrose_language::parse_allowance(text).unwrap().to_string(), text);
/// ```
///
/// # Errors
/// At the first place where the sentence cannot go on, with what was expected there.
pub fn parse_allowance(text: &str) -> Result<Allowance, Mistake> {
    let c = &mut Cursor::new(text)?;
    let most = most(c)?;
    if !c.words("a") && !c.words("per") {
        return c.unexpected("`a day` or `a month`", &["a day", "a month"]);
    }
    let Some(per) = Period::ALL.into_iter().find(|per| c.words(per.word())) else { return c.unexpected("`day` or `month`", &["day", "month"]) };
    c.need_words("at")?;
    let start = c.at();
    let at = Place::parse(c)?;
    let expected = "`source:NAME`, `route:NAME` or `destination:NAME`";
    if at == Place::Remainder {
        return Err(Mistake::new(c.since(start), "what no route takes goes nowhere and costs nothing").expected(expected));
    }
    if matches!((&most, &at), (Most::Money { .. }, Place::Source(_))) {
        return Err(
            Mistake::new(c.since(start), "what arrives at a source is billed by nobody").expected("`route:NAME` or `destination:NAME`, or a size or events")
        );
    }
    if c.done() { Ok(Allowance { most, per, at }) } else { c.unexpected("the end of the sentence", &[]) }
}

fn most(c: &mut Cursor<'_>) -> Outcome<Most> {
    const EXPECTED: &str = "how much, as in `40 GB`, `2000000 events` or `25.50 EUR`";
    let (start, here) = (c.at(), c.here());
    if c.number().is_none_or(|n| n <= 0.0) {
        c.rewind(start);
        let mistake = Mistake::new(here, "a budget allows more than nothing").expected(EXPECTED);
        return if c.number().is_some() { Err(mistake) } else { c.unexpected(EXPECTED, &[]) };
    }
    let amount = c.since(start);
    let amount = c.before(start)[..amount.len()].to_owned();
    let rest = c.rest();
    let currency: String = rest.chars().take_while(char::is_ascii_uppercase).collect();
    if currency.len() == 3 && c.words(&currency) {
        return Ok(Most::Money { amount, currency });
    }
    c.rewind(start);
    let count = c.count(EXPECTED)?;
    if c.words("events") {
        return Ok(Most::Events(count));
    }
    c.rewind(start);
    size(c).map(Most::Size)
}

impl Allowance {
    /// What it means, in a sentence.
    #[must_use]
    pub fn explained(&self) -> String {
        let counted = match (&self.at, &self.most) {
            (Place::Source(_), _) => "arrive at",
            (Place::Route(_), Most::Money { .. }) => "be spent for what goes by",
            (Place::Route(_), _) => "leave by",
            (_, Most::Money { .. }) => "be spent at",
            _ => "be sent to",
        };
        format!("Up to {} may {counted} {} in a {} of the calendar.", self.most, self.at, self.per.word())
    }
}

impl Display for Most {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Most::Size(size) => size.fmt(f),
            Most::Events(count) => write!(f, "{count} events"),
            Most::Money { amount, currency } => write!(f, "{amount} {currency}"),
        }
    }
}

impl Display for Allowance {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} a {} at {}", self.most, self.per.word(), self.at)
    }
}

impl Display for BudgetTest {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "budget:{} >= {} %", rockrose_event::field::Path::name(&self.budget), self.percent)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{parse_alert, parse_condition, parse_step};

    #[test]
    fn allowances_are_read_and_printed() {
        for text in
            ["40 GB a day at destination:desk", "2000000 events a month at route:web", "25.50 EUR a month at destination:desk", "1 MB a day at source:kiosks"]
        {
            let allowance = parse_allowance(text).unwrap();
            assert_eq!(allowance.to_string(), text);
            assert!(allowance.explained().ends_with(" of the calendar."), "{}", allowance.explained());
        }
        assert_eq!(parse_allowance("40GB per day at destination:desk").unwrap().to_string(), "40 GB a day at destination:desk");
        for (text, says) in [
            ("0 GB a day at route:web", "a budget allows more than nothing"),
            ("-1 EUR a day at route:web", "a budget allows more than nothing"),
            ("much a day at route:web", "unexpected `much`"),
            ("40 a day at route:web", "unexpected `a`"),
            ("40 GB a week at route:web", "unexpected `week`"),
            ("40 GB at route:web", "unexpected `at`"),
            ("40 GB a day at remainder", "what no route takes"),
            ("4 EUR a day at source:kiosks", "billed by nobody"),
            ("4 EUR a day at route:web for ever", "unexpected `for`"),
        ] {
            let mistake = parse_allowance(text).unwrap_err();
            assert!(mistake.message.contains(says), "{text}: {mistake:?}");
        }
    }

    #[test]
    fn periods_are_those_of_the_calendar() {
        let ms = |text: &str| text.parse::<jiff::Timestamp>().unwrap().as_millisecond();
        for (period, zone, at, from, to) in [
            (Period::Day, "UTC", "2026-11-30T23:59:59.999Z", "2026-11-30T00:00:00Z", "2026-12-01T00:00:00Z"),
            (Period::Month, "UTC", "2026-12-01T00:00:00Z", "2026-12-01T00:00:00Z", "2027-01-01T00:00:00Z"),
            (Period::Month, "UTC", "2028-02-29T12:00:00Z", "2028-02-01T00:00:00Z", "2028-03-01T00:00:00Z"),
            // The days on which clocks are changed have 23 and 25 hours.
            (Period::Day, "Europe/Lisbon", "2027-03-28T12:00:00Z", "2027-03-28T00:00:00Z", "2027-03-28T23:00:00Z"),
            (Period::Day, "Europe/Lisbon", "2026-10-25T12:00:00Z", "2026-10-24T23:00:00Z", "2026-10-26T00:00:00Z"),
            (Period::Month, "Europe/Lisbon", "2026-10-01T00:00:00Z", "2026-09-30T23:00:00Z", "2026-11-01T00:00:00Z"),
            // At midnight the clocks were put forward: that day began at one.
            (Period::Day, "America/Asuncion", "2024-10-06T12:00:00Z", "2024-10-06T04:00:00Z", "2024-10-07T03:00:00Z"),
        ] {
            let zone = TimeZone::get(zone).unwrap();
            assert_eq!(period.around(ms(at), &zone), (ms(from), ms(to)), "{at}");
        }
    }

    #[test]
    fn conditions_and_alerts_ask_how_much_of_a_budget_is_used() {
        for text in ["budget:desk-daily >= 90 %", "severity < error and not (budget:desk >= 100 %)", "budget = 3 or budget:b >= 1 %", "budget exists"] {
            assert_eq!(parse_condition(text).unwrap().to_string(), text);
        }
        let text = "drop severity < error when budget:desk-daily >= 100 %";
        let step = parse_step(text).unwrap();
        assert_eq!(step.to_string(), text);
        assert_eq!(step.budgets(), [&BudgetTest { budget: "desk-daily".into(), percent: 100 }]);
        let every = "sample 1 in 10 by trace_id unless budget:a >= 1 % when budget:b >= 2 %";
        assert_eq!(parse_step(every).unwrap().budgets().iter().map(|t| t.budget.as_str()).collect::<Vec<_>>(), ["a", "b"]);
        for step in ["keep not (budget:a >= 1 %)", "drop budget:a >= 1 % or a = 1", "limit 1 per second unless budget:a >= 1 %"] {
            assert_eq!(parse_step(step).unwrap().budgets().len(), 1, "{step}");
        }
        for text in ["budget:desk-daily >= 80 %", "forecast of budget:desk-daily >= 100 %"] {
            assert_eq!(parse_alert(text).unwrap().to_string(), text);
        }
        for (text, says) in [
            ("budget:desk > 90 %", "unexpected `>`"),
            ("budget:desk >= 90", "the sentence ends"),
            ("budget:desk >= 0 %", "not a whole number of at least 1"),
            ("budget:desk >= 1001 %", "out of bounds"),
        ] {
            let mistake = parse_condition(text).unwrap_err();
            assert!(mistake.message.contains(says), "{text}: {mistake:?}");
        }
    }
}
