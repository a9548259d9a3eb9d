//! The API's types, filled from the service's own.

use std::collections::{BTreeMap, HashMap};

use rockrose_delivery as delivery;
use rockrose_ledger::{Account, Amount, Measure, Money, Price, Stage};
use rockrose_plan::{CheckedPlan, Promise, Report};

pub(crate) use rockrose_api::*;

use crate::history::{LastRevisions, last_revision};

/// How old events were when a destination accepted them, against what is promised.
fn event_ages(f: delivery::Freshness, promise: Option<Promise>) -> EventAges {
    let stands = |promise: Promise| PromiseState {
        within_ms: i64::try_from(promise.within.as_millis()).unwrap_or(i64::MAX),
        percent: f64::from(1_000_000 - promise.but_for) / 10_000.0,
        late_percent: f.late.unwrap_or(0.0) * 100.0,
        used_percent: promise.used_percent(f.late.unwrap_or(0.0)),
    };
    EventAges { events: f.events, p50_ms: f.p50_ms, p90_ms: f.p90_ms, p99_ms: f.p99_ms, promise: promise.map(stands) }
}

/// How a destination is doing.
pub(crate) fn health(h: delivery::Health, promise: Option<Promise>) -> DestinationHealth {
    let state = match h.state {
        delivery::State::Idle => DestinationState::Idle,
        delivery::State::Healthy => DestinationState::Healthy,
        delivery::State::Slow => DestinationState::Slow,
        delivery::State::Failing => DestinationState::Failing,
        delivery::State::Paused => DestinationState::Paused,
        delivery::State::Stopped => DestinationState::Stopped,
    };
    DestinationHealth {
        state,
        since_ms: h.since_ms,
        failures: h.failures,
        last_error: h.last_error,
        last_error_ms: h.last_error_ms,
        noticed: h.noticed,
        noticed_ms: h.noticed_ms,
        next_try_ms: h.next_try_ms,
        last_success_ms: h.last_success_ms,
        paused_by: None,
        answers: Answers { count: h.answers.count, good: h.answers.good, p50_ms: h.answers.p50_ms, p90_ms: h.answers.p90_ms, p99_ms: h.answers.p99_ms },
        event_ages: event_ages(h.freshness, promise),
    }
}

/// One mistake in a plan or a sentence.
pub(crate) fn mistake(r: Report) -> PlanMistake {
    PlanMistake { line: r.line, column: r.column, length: r.length, message: r.message, expected: r.expected, nearest: r.nearest, excerpt: r.excerpt }
}

/// Names in a sentence, each in backticks; `nothing`, if there are none.
pub(crate) fn listed(names: &[String]) -> String {
    let quoted: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
    match &quoted[..] {
        [] => "nothing".to_owned(),
        [one] => one.clone(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}

/// The prices of a plan, by the names of what they are for: looked up for each of many rows.
pub(crate) struct Prices<'a> {
    destinations: HashMap<&'a str, &'a Price>,
    /// Those of the destinations to which a route leads.
    routes: HashMap<&'a str, Vec<&'a Price>>,
}

impl<'a> Prices<'a> {
    pub(crate) fn of(plan: &'a CheckedPlan) -> Prices<'a> {
        let destinations: HashMap<&str, &Price> = plan.destinations.iter().filter_map(|d| Some((d.name.as_str(), d.price.as_ref()?))).collect();
        let of_route = |to: &[String]| to.iter().filter_map(|to| destinations.get(to.as_str()).copied()).collect();
        let routes = plan.routes.iter().map(|r| (r.name.as_str(), of_route(&r.to))).collect();
        Prices { destinations, routes }
    }

    /// The price by which what an account counts is billed.
    pub(crate) fn billed(&self, account: &Account) -> Option<&'a Price> {
        let is_billed = account.stage == Stage::Destination && matches!(account.measure, Measure::Enqueued | Measure::Spilled);
        self.destinations.get(account.name.as_str()).copied().filter(|_| is_billed)
    }

    /// What was saved by what a step removed and shortened, by currency. What later steps would have made of it is not known.
    pub(crate) fn saved(&self, account: &Account, amount: Amount) -> BTreeMap<&'a str, Money> {
        let saved = match account.measure {
            Measure::Removed => amount,
            Measure::Changed => Amount { events: 0, bytes: amount.bytes },
            _ => return BTreeMap::new(),
        };
        let name = account.name.as_str();
        let prices: &[&'a Price] = match account.stage {
            Stage::Source => &[],
            Stage::Route => self.routes.get(name).map_or(&[], Vec::as_slice),
            Stage::Destination => self.destinations.get(name).map_or(&[], std::slice::from_ref),
        };
        let mut sums: BTreeMap<&'a str, Money> = BTreeMap::new();
        for price in prices {
            *sums.entry(&price.currency).or_default() += price.of(saved);
        }
        sums
    }
}

/// One row of the account. `steps` are the steps of the last revisions, and which is active.
pub(crate) fn ledger_entry(account: &Account, amount: Amount, (active, steps): (i64, &LastRevisions), prices: &Prices<'_>) -> LedgerEntry {
    let price = prices.billed(account);
    let last = last_revision(steps, account);
    LedgerEntry {
        place: account.stage.word().to_owned(),
        name: account.name.clone(),
        via: account.via.clone(),
        position: account.position,
        sentence: account.sentence.clone(),
        measure: account.measure.word().to_owned(),
        events: amount.events,
        bytes: amount.bytes,
        current: account.position == 0 || last == Some(active),
        last_revision: last,
        // What went on to another destination is billed there.
        money: price.map(|p| p.of(if account.measure == Measure::Spilled { Amount::default() - amount } else { amount }).to_string()),
        currency: price.map(|p| p.currency.clone()),
        saved: prices
            .saved(account, amount)
            .into_iter()
            .map(|(currency, money)| ExactMoney { money: money.to_string(), currency: currency.to_owned() })
            .collect(),
    }
}
