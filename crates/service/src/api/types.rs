//! The API's types, filled from the service's own.

use std::collections::BTreeMap;

use rockrose_delivery as delivery;
use rockrose_ledger::{Account, Amount, Measure, Money, Stage};
use rockrose_plan::{CheckedPlan, Report};

pub(crate) use rockrose_api::*;

use crate::history::{LastRevisions, last_revision};

/// How a destination is doing.
pub(crate) fn health(h: delivery::Health) -> DestinationHealth {
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
    }
}

/// One mistake in a plan or a sentence.
pub(crate) fn mistake(r: Report) -> PlanMistake {
    PlanMistake { line: r.line, column: r.column, length: r.length, message: r.message, expected: r.expected, nearest: r.nearest, excerpt: r.excerpt }
}

/// One row of the account.
/// `steps` are the steps of the last revisions, and which is active.
/// What was saved by what a step removed and shortened, by currency. What later steps would have made of it is not known.
fn saved(account: &Account, amount: Amount, plan: &CheckedPlan) -> Vec<ExactMoney> {
    let saved = match account.measure {
        Measure::Removed => amount,
        Measure::Changed => Amount { events: 0, bytes: amount.bytes },
        _ => return Vec::new(),
    };
    let to: Vec<&str> = match account.stage {
        Stage::Source => Vec::new(),
        Stage::Route => plan.routes.iter().filter(|r| r.name == account.name).flat_map(|r| r.to.iter().map(String::as_str)).collect(),
        Stage::Destination => vec![&account.name],
    };
    let mut sums: BTreeMap<&str, Money> = BTreeMap::new();
    for price in plan.destinations.iter().filter(|d| to.contains(&d.name.as_str())).filter_map(|d| d.price.as_ref()) {
        *sums.entry(&price.currency).or_default() += price.of(saved);
    }
    sums.into_iter().map(|(currency, money)| ExactMoney { money: money.to_string(), currency: currency.to_owned() }).collect()
}

pub(crate) fn ledger_entry(account: &Account, amount: Amount, (active, steps): (i64, &LastRevisions), plan: &CheckedPlan) -> LedgerEntry {
    let is_billed = account.stage == Stage::Destination && account.measure == Measure::Enqueued;
    let price = plan.destinations.iter().find(|d| is_billed && d.name == account.name).and_then(|d| d.price.as_ref());
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
        money: price.map(|p| p.of(amount).to_string()),
        currency: price.map(|p| p.currency.clone()),
        saved: saved(account, amount, plan),
    }
}
