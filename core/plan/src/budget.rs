//! Budgets: what may pass a place in a day or a month, how much of that an account comes to, and when it is told.

use std::fmt::{self, Display, Formatter};
use std::time::Duration;

use jiff::tz::TimeZone;
use rockrose_event::level::Level;
use rockrose_language::{AlertCondition, Allowance, BudgetTest, Condition, Mistake, Most, Place, nearest, parse_allowance};
use rockrose_ledger::{Account, Amount, Measure, Money, Price, Stage};

use crate::alert::Alert;
use crate::checker::Checker;
use crate::keys::BUDGET;
use crate::parse::ParsedPlan;
use crate::section::At;
use crate::{CheckedPlan, Destination, Gate, Route};

/// The largest share of which anybody can be told, in percent.
const MOST_TOLD: u64 = 1_000;
/// The most money of a budget, in its currency.
const MOST_MONEY: &str = "1000000";

/// What a budget allows, as it is written; how much that is; and of money, what is billed by destination.
type Allowed = (Allowance, Used, Vec<(String, Price)>);

/// What may pass a place in one period.
#[derive(Clone, Debug, PartialEq)]
pub struct Budget {
    /// Its name.
    pub name: String,
    /// How much, in how long, and where.
    pub allowance: Allowance,
    /// How much, in what it is counted in.
    pub most: Used,
    /// By whose clocks its periods begin.
    pub zone: TimeZone,
    /// Whom it concerns is told when so much of it is used, in percent, rising.
    pub tell_at: Vec<u64>,
    /// It is also told when it is to be expected that the budget will not suffice.
    pub tell_forecast: bool,
    /// What to do about it, in its author's words.
    pub advice: Option<String>,
    /// Of a budget of money: what is billed in its currency, by destination.
    pub prices: Vec<(String, Price)>,
}

/// So much of a budget, in what it is counted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Used {
    /// Bytes.
    Bytes(i64),
    /// Events.
    Events(i64),
    /// Money, in the budget's currency.
    Money(Money),
}

impl Used {
    /// Nothing, in what this is counted in.
    #[must_use]
    pub fn nothing(self) -> Used {
        match self {
            Used::Bytes(_) => Used::Bytes(0),
            Used::Events(_) => Used::Events(0),
            Used::Money(_) => Used::Money(Money::ZERO),
        }
    }

    /// Both together. They are counted in the same.
    #[must_use]
    pub fn and(self, other: Used) -> Used {
        match (self, other) {
            (Used::Bytes(a), Used::Bytes(b)) => Used::Bytes(a.saturating_add(b)),
            (Used::Events(a), Used::Events(b)) => Used::Events(a.saturating_add(b)),
            (Used::Money(a), Used::Money(b)) => Used::Money(a + b),
            (one, _) => one,
        }
    }

    /// As near as a float can tell it: for forecasts and drawings, never for sums.
    #[must_use]
    pub fn to_f64(self) -> f64 {
        match self {
            Used::Bytes(n) | Used::Events(n) => n as f64,
            Used::Money(money) => money.to_f64(),
        }
    }

    /// How many percent of `most` this is, rounded down. They are counted in the same, and `most` is more than nothing.
    #[must_use]
    pub fn percent_of(self, most: Used) -> i64 {
        let (used, most) = match (self, most) {
            (Used::Money(a), Used::Money(b)) => (a.parts(), b.parts()),
            (a, b) => (a.count().into(), b.count().into()),
        };
        i64::try_from((used * 100).div_euclid(most.max(1))).unwrap_or(i64::MAX)
    }

    fn count(self) -> i64 {
        match self {
            Used::Bytes(n) | Used::Events(n) => n,
            Used::Money(_) => 0,
        }
    }
}

/// As a decimal number, without its unit.
impl Display for Used {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Used::Bytes(n) | Used::Events(n) => n.fmt(f),
            Used::Money(money) => money.fmt(f),
        }
    }
}

impl Budget {
    /// What an amount of an account uses of it: nothing, where the account is another's.
    ///
    /// Of a source that is what arrives, of a route what leaves by it, of a destination what is queued for it and not spilled to another. Money is what the destinations bill for what is
    /// queued there, without what is paid by the month.
    #[must_use]
    pub fn uses(&self, account: &Account, amount: Amount) -> Used {
        let nothing = self.most.nothing();
        if account.position != 0 {
            return nothing;
        }
        let queued = account.stage == Stage::Destination && matches!(account.measure, Measure::Enqueued | Measure::Spilled);
        let counts = match &self.allowance.at {
            Place::Source(name) => account.stage == Stage::Source && account.measure == Measure::Received && account.name == *name,
            Place::Route(name) if self.prices.is_empty() => account.stage == Stage::Route && account.measure == Measure::Out && account.name == *name,
            Place::Route(name) => queued && account.via == *name,
            Place::Destination(name) => queued && account.name == *name,
            Place::Remainder => false,
        };
        if !counts {
            return nothing;
        }
        // What went on to another destination is that one's.
        let amount = if account.measure == Measure::Spilled { Amount::default() - amount } else { amount };
        match self.most {
            Used::Bytes(_) => Used::Bytes(amount.bytes),
            Used::Events(_) => Used::Events(amount.events),
            Used::Money(_) => Used::Money(self.prices.iter().filter(|(name, _)| *name == account.name).map(|(_, price)| price.of(amount)).sum()),
        }
    }

    /// The ledger's rows that it is counted by: the stage, the name and the measure. Of money at a route they are asked by the route.
    #[must_use]
    pub fn counted(&self) -> (Stage, &str, Measure) {
        match &self.allowance.at {
            Place::Source(name) => (Stage::Source, name, Measure::Received),
            Place::Route(name) if self.prices.is_empty() => (Stage::Route, name, Measure::Out),
            Place::Route(name) => (Stage::Route, name, Measure::Enqueued),
            Place::Destination(name) => (Stage::Destination, name, Measure::Enqueued),
            Place::Remainder => (Stage::Source, "", Measure::Remainder),
        }
    }

    /// The alerts by which it is told.
    #[must_use]
    pub fn alerts(&self) -> Vec<Alert> {
        let alert = |suffix: &str, percent: u64, is_forecast: bool| Alert {
            name: format!("{}-{suffix}", self.name),
            when: AlertCondition::Budget { test: BudgetTest { budget: self.name.clone(), percent }, is_forecast },
            lasting: Duration::ZERO,
            until: None,
            severity: if percent >= 100 && !is_forecast { Level::Error } else { Level::Warn },
            advice: self.advice.clone(),
            again: None,
        };
        let at = self.tell_at.iter().map(|percent| alert(&percent.to_string(), *percent, false));
        at.chain(self.tell_forecast.then(|| alert("forecast", 100, true))).collect()
    }
}

impl CheckedPlan {
    /// All that is watched: the alerts that the plan writes down, and those by which its budgets are told.
    #[must_use]
    pub fn all_alerts(&self) -> Vec<Alert> {
        self.alerts.iter().cloned().chain(self.budgets.iter().flat_map(Budget::alerts)).collect()
    }
}

impl Checker<'_> {
    pub(super) fn budgets(&mut self, plan: &ParsedPlan, destinations: &[Destination], routes: &[Route], alerts: &[Alert]) -> Vec<Budget> {
        let mut found: Vec<Budget> = Vec::new();
        for section in &plan.budgets {
            self.name(&section.name, "budget");
            self.keys(section, BUDGET, "budget");
            let zone = self.zone(section.text("time_zone"));
            let (tell_at, tell_forecast) = match section.get("tell") {
                None => (vec![80, 100], true),
                Some(_) => self.told(section.texts("tell")),
            };
            let Some(allows) = section.text("allows") else { continue };
            let Some((allowance, most, prices)) = self.allowance(&allows, plan, destinations, routes) else { continue };
            let advice = section.text("advice").map(|advice| advice.value.to_owned());
            let budget = Budget { name: section.name.value.clone(), allowance, most, zone, tell_at, tell_forecast, advice, prices };
            if let Some(twice) = budget.alerts().into_iter().find(|told| alerts.iter().any(|alert| alert.name == told.name)) {
                let message = format!("the budget `{}` is told by the alert `{}`, and the plan has another of this name", budget.name, twice.name);
                self.mistakes.push(Mistake::new(section.name.at.clone(), message).expected("another name for one of them"));
            }
            found.push(budget);
        }
        self.without_effect(plan, &found, routes, alerts);
        found
    }

    fn zone(&mut self, written: Option<At<&str>>) -> TimeZone {
        let Some(written) = written else { return TimeZone::UTC };
        TimeZone::get(written.value).unwrap_or_else(|_| {
            let mistake = Mistake::new(written.at, format!("there is no time zone `{}`", written.value));
            self.mistakes.push(mistake.expected("a name of the IANA time zone database, such as `Europe/Lisbon`"));
            TimeZone::UTC
        })
    }

    /// At which shares it is told, and whether its forecast is.
    fn told(&mut self, written: &[At<String>]) -> (Vec<u64>, bool) {
        let (mut shares, mut forecast) = (Vec::new(), false);
        for one in written {
            if one.value == "forecast" {
                forecast = true;
                continue;
            }
            match one.value.strip_suffix('%').map(str::trim_end).and_then(|share| share.parse::<u64>().ok()).filter(|share| (1..=MOST_TOLD).contains(share)) {
                Some(share) => shares.push(share),
                None => {
                    let mistake = Mistake::new(one.at.clone(), format!("`{}` is no share of a budget", one.value));
                    self.mistakes.push(mistake.expected("`80 %`, from 1 % to 1000 %, or `forecast`"));
                }
            }
        }
        shares.sort_unstable();
        shares.dedup();
        (shares, forecast)
    }

    /// What a budget allows, if it can be read, the plan has its place, and something is billed there where it is of money.
    fn allowance(&mut self, written: &At<&str>, plan: &ParsedPlan, destinations: &[Destination], routes: &[Route]) -> Option<Allowed> {
        let whole = |message: String| Mistake::new(0..written.value.len(), message);
        let read = parse_allowance(written.value).and_then(|allowance| {
            if let Some((what, name, known)) = plan.names_of(&allowance.at).filter(|(_, name, known)| !known.contains(name)) {
                let at = written.value.rfind(name).unwrap_or(0);
                return Err(Mistake::new(at..at + name.len(), format!("there is no {what} `{name}`"))
                    .expected(format!("a {what} of this plan"))
                    .near(name, known));
            }
            let (most, currency) = match &allowance.most {
                Most::Size(size) => return Ok((allowance.clone(), Used::Bytes(i64::try_from(size.bytes()).unwrap_or(i64::MAX)), Vec::new())),
                Most::Events(count) => return Ok((allowance.clone(), Used::Events(i64::try_from(*count).unwrap_or(i64::MAX)), Vec::new())),
                Most::Money { amount, currency } => (Money::read(amount), currency),
            };
            let largest = Money::read(MOST_MONEY);
            let Some(most) = most.filter(|most| *most > Money::ZERO && Some(*most) <= largest) else {
                return Err(whole("the amount is out of bounds".to_owned())
                    .expected(format!("more than nothing and at most {MOST_MONEY}, with at most six decimal places")));
            };
            let at_destination = |name: &str| destinations.iter().find(|d| d.name == name);
            let to: Vec<&Destination> = match &allowance.at {
                Place::Route(name) => routes.iter().filter(|r| r.name == *name).flat_map(|r| &r.to).filter_map(|to| at_destination(to)).collect(),
                Place::Destination(name) => at_destination(name).into_iter().collect(),
                _ => Vec::new(),
            };
            let priced = to.iter().filter_map(|d| Some((d.name.clone(), d.price.clone()?)));
            let (same, other): (Vec<_>, Vec<_>) = priced.partition(|(_, price)| price.currency == *currency);
            let is_billed = |(_, price): &&(String, Price)| price.per_gb > Money::ZERO || price.per_million > Money::ZERO;
            match (same.iter().find(is_billed), other.first()) {
                (Some(_), None) => Ok((allowance.clone(), Used::Money(most), same)),
                (_, Some((name, price))) => {
                    Err(whole(format!("the destination `{name}` bills in {}, not in {currency}", price.currency)).expected("one currency, that of the prices"))
                }
                (None, None) => Err(whole(format!("this budget can never be used: nothing that passes at {} is billed", allowance.at))
                    .expected("a price by the GB or by the million of events at the destination: `price = { per_gb = 2.40 }`")),
            }
        });
        match read {
            Ok(read) => Some(read),
            Err(mistake) => {
                let mistake = self.placed(&written.at, written.value, mistake);
                self.mistakes.push(mistake);
                None
            }
        }
    }

    /// Warns of budgets of which nobody is told, and by which nothing is done.
    fn without_effect(&mut self, plan: &ParsedPlan, budgets: &[Budget], routes: &[Route], alerts: &[Alert]) {
        let steps: Vec<&At<String>> = [&plan.sources, &plan.destinations, &plan.routes, &plan.recipes]
            .into_iter()
            .flatten()
            .flat_map(|section| ["on_arrival", "always", "do", "steps"].into_iter().flat_map(|key| section.texts(key)))
            .collect();
        let asks = |name: &str| {
            let in_steps =
                steps.iter().any(|step| rockrose_language::parse_step(&step.value).is_ok_and(|step| step.budgets().iter().any(|test| test.budget == name)));
            let in_routes = routes.iter().any(|route| matches!(&route.when, Gate::Condition(when) if when.budgets().iter().any(|test| test.budget == name)));
            let in_alerts = alerts.iter().any(|alert| matches!(&alert.when, AlertCondition::Budget { test, .. } if test.budget == name));
            in_steps || in_routes || in_alerts
        };
        for (section, budget) in plan.budgets.iter().filter_map(|section| Some((section, budgets.iter().find(|b| b.name == section.name.value)?))) {
            if budget.tell_at.is_empty() && !budget.tell_forecast && !asks(&budget.name) {
                let message = format!("nobody is told of the budget `{}`, and nothing is done by it", budget.name);
                let expected = format!("`tell = [\"80 %\"]`, or a step such as `drop severity < error when budget:{} >= 100 %`", budget.name);
                self.warnings.push(Mistake::new(section.name.at.clone(), message).expected(expected));
            }
        }
    }

    /// Notes what is wrong with the budgets that a condition asks.
    pub(super) fn may_ask(&mut self, condition: &Condition, written: &At<&str>) {
        if let Some(mistake) = self.asks_budgets(&condition.budgets(), written.value) {
            let mistake = self.placed(&written.at, written.value, mistake);
            self.mistakes.push(mistake);
        }
    }

    /// What is wrong with the budgets that a sentence asks: one that the plan does not have, or any at all where that is not known (on hosts, and in examples).
    pub(super) fn asks_budgets(&self, budgets: &[&BudgetTest], text: &str) -> Option<Mistake> {
        budgets.iter().find_map(|test| {
            let name = test.budget.as_str();
            let at = text.find(&format!("budget:{name}")).map_or(0..text.len(), |at| at + 7..at + 7 + name.len());
            let Some(known) = &self.budgets else {
                return Some(
                    Mistake::new(at, "how much of a budget is used is not known here")
                        .expected("a step of a source, route or destination, or the condition of a route"),
                );
            };
            if known.iter().any(|k| k == name) {
                return None;
            }
            let mut mistake = Mistake::new(at, format!("there is no budget `{name}`")).expected("a budget of this plan: `[budget.NAME]`");
            mistake.nearest = nearest(name, known.iter().map(String::as_str)).map(str::to_owned);
            Some(mistake)
        })
    }
}

#[cfg(test)]
mod tests {
    use rockrose_ledger::{Account, Amount, Measure, Money, Stage};

    use super::Used;
    use crate::{CheckedPlan, Report, changes};

    const PLAN: &str = "[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[source.watch]\nkind = \"alerts\"\n[destination.desk]\nkind = \"discard\"\nprice = { per_gb = 2.40, per_million = 0.5 }\n\
                        [destination.vault]\nkind = \"discard\"\n[[route]]\nname = \"web\"\nto = [\"desk\", \"vault\"]\n";

    fn read(lines: &str) -> Result<CheckedPlan, Vec<Report>> {
        CheckedPlan::read(&format!("{PLAN}[budget.daily]\n{lines}\n"))
    }

    #[test]
    fn budgets_are_read_and_their_mistakes_pointed_at() {
        let plan = read("allows = '10 GB a day at destination:desk'").unwrap();
        let budget = &plan.budgets[0];
        assert_eq!((budget.most, &budget.tell_at[..], budget.tell_forecast), (Used::Bytes(10_000_000_000), &[80, 100][..], true));
        let told: Vec<String> = plan.all_alerts().into_iter().map(|alert| format!("{} {} {}", alert.name, alert.severity.word(), alert.when)).collect();
        assert_eq!(
            told,
            ["daily-80 warn budget:daily >= 80 %", "daily-100 error budget:daily >= 100 %", "daily-forecast warn forecast of budget:daily >= 100 %"]
        );
        let quiet = read("allows = '5 EUR a month at route:web'\ntell = ['90 %']\ntime_zone = 'Europe/Lisbon'\nadvice = 'Ask the desk.'").unwrap();
        assert_eq!((quiet.budgets[0].tell_at.as_slice(), quiet.budgets[0].tell_forecast, quiet.budgets[0].prices.len()), (&[90][..], false, 1));
        for (lines, line, says) in [
            ("tell = ['80 %']", 14, "the budget `daily` needs `allows`"),
            ("allows = '0 GB a day at destination:desk'", 15, "more than nothing"),
            ("allows = '-1 EUR a day at destination:desk'", 15, "more than nothing"),
            ("allows = '1 GB a day at destination:dusk'", 15, "there is no destination `dusk`"),
            ("allows = '1 EUR a day at destination:vault'", 15, "can never be used"),
            ("allows = '1 USD a day at destination:desk'", 15, "bills in EUR, not in USD"),
            ("allows = '1 XXX a day at route:web'", 15, "bills in EUR, not in XXX"),
            ("allows = '1000001 EUR a day at route:web'", 15, "out of bounds"),
            ("allows = '1 GB a day at route:web'\ntell = ['0 %']", 16, "no share of a budget"),
            ("allows = '1 GB a day at route:web'\ntell = ['soon']", 16, "no share of a budget"),
            ("allows = '1 GB a day at route:web'\ntime_zone = 'Europe/Tansy'", 16, "there is no time zone"),
            ("allows = '1 GB a day at route:web'\nmost = 3", 16, "a budget has no `most`"),
            ("allows = '1 GB a day at route:web'\n[alert.daily-80]\nwhen = 'ledger out of balance'", 14, "is told by the alert `daily-80`"),
            ("allows = '1 GB a day at route:web'\n[alert.a]\nwhen = 'budget:dayly >= 80 %'", 17, "there is no budget `dayly`"),
            ("allows = '1 GB a day at route:web'\n[recipe.a]\nsteps = ['drop x = 1 when budget:dayly >= 1 %']", 17, "there is no budget `dayly`"),
            ("allows = '1 GB a day at route:web'\n[[route]]\nname = 'b'\nto = ['desk']\nwhen = 'budget:dayly >= 1 %'", 19, "there is no budget `dayly`"),
            ("allows = '1 GB a day at route:web'\n[assignment.a]\ndo = ['drop x = 1 when budget:daily >= 1 %']", 17, "is not known here"),
        ] {
            let reports = read(lines).unwrap_err();
            assert!(reports.iter().any(|r| r.line == line && r.message.contains(says)), "{lines}: {reports:?}");
        }
    }

    #[test]
    fn a_budget_without_effect_is_warned_of() {
        let warned = |lines: &str| read(lines).unwrap().warnings.iter().any(|w| w.message.contains("nothing is done by it"));
        let quiet = "allows = '1 GB a day at destination:desk'\ntell = []\n";
        assert!(warned(quiet));
        assert!(!warned(&format!("{quiet}[alert.a]\nwhen = 'budget:daily >= 5 %'")));
        assert!(!warned(&format!("{quiet}[destination.far]\nkind = 'discard'\nalways = ['drop severity < error when budget:daily >= 100 %']")));
        assert!(!warned(&format!("{quiet}[[route]]\nname = 'b'\nto = ['vault']\nwhen = 'budget:daily >= 100 %'")));
    }

    #[test]
    fn what_is_used_is_told_by_the_account() {
        let account =
            |stage, name: &str, via: &str, measure| Account { stage, name: name.into(), via: via.into(), position: 0, sentence: String::new(), measure };
        let amount = Amount { events: 1_000_000, bytes: 1_000_000_000 };
        let uses = |allows: &str, account: &Account| read(&format!("allows = '{allows}'")).unwrap().budgets[0].uses(account, amount);
        let queued = account(Stage::Destination, "desk", "web", Measure::Enqueued);
        let money = |text: &str| Used::Money(Money::read(text).unwrap());
        assert_eq!(uses("1 GB a day at destination:desk", &queued), Used::Bytes(1_000_000_000));
        assert_eq!(uses("5 events a day at destination:desk", &queued), Used::Events(1_000_000));
        assert_eq!(uses("5 EUR a day at destination:desk", &queued), money("2.90"));
        assert_eq!(uses("5 EUR a day at route:web", &queued), money("2.90"));
        assert_eq!(uses("5 EUR a day at route:web", &account(Stage::Destination, "vault", "web", Measure::Enqueued)), money("0"));
        assert_eq!(uses("1 GB a day at route:web", &queued), Used::Bytes(0));
        assert_eq!(uses("1 GB a day at route:web", &account(Stage::Route, "web", "gates", Measure::Out)), Used::Bytes(1_000_000_000));
        assert_eq!(uses("1 GB a day at source:gates", &account(Stage::Source, "gates", "", Measure::Received)), Used::Bytes(1_000_000_000));
        assert_eq!(uses("1 GB a day at destination:desk", &account(Stage::Destination, "desk", "web", Measure::Spilled)), Used::Bytes(-1_000_000_000));
        assert_eq!(uses("1 GB a day at destination:desk", &Account { position: 1, ..queued }), Used::Bytes(0));
        assert_eq!((money("2.90").percent_of(money("3")), Used::Bytes(-1).percent_of(Used::Bytes(10))), (96, -10));
    }

    #[test]
    fn a_changed_budget_is_told_as_one() {
        let (old, new) = (read("allows = '1 GB a day at route:web'").unwrap(), read("allows = '2 GB a day at route:web'").unwrap());
        let told = changes(&old, &new);
        assert_eq!((told.len(), told[0].part, told[0].name.as_str()), (1, "budget", "daily"));
        assert_eq!(told[0].details, ["allows 2 GB a day at route:web instead of 1 GB a day at route:web"]);
    }
}
