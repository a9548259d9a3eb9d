//! Trials over what the samples hold: the events, and what really flowed of which a month is reckoned.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::OnceLock;
use std::time::Instant;

use rockrose_engine::trial::Real;
use rockrose_ledger::{Amount, Measure, Stage};
use rockrose_records::RecordsError;
use rockrose_spool::SpoolError;

use crate::App;

/// Minutes in a day.
const DAY: i64 = 24 * 60;
/// Milliseconds in a minute.
const MINUTE_MS: i64 = 60_000;
/// A month, in milliseconds: a twelfth of a year.
pub(crate) const MONTH_MS: f64 = 365.25 / 12.0 * 86_400_000.0;
/// What flowed by a revision is only reckoned with once it has run for so many whole minutes.
const ENOUGH: i64 = 2;

/// Nanoseconds since somebody first asked.
pub(crate) fn nanos() -> u64 {
    static BEGAN: OnceLock<Instant> = OnceLock::new();
    BEGAN.get_or_init(Instant::now).elapsed().as_nanos() as u64
}

#[derive(Debug, thiserror::Error)]
pub(crate) enum RealError {
    #[error(transparent)]
    Spool(#[from] SpoolError),
    #[error(transparent)]
    Records(#[from] RecordsError),
}

/// What really flowed by the active plan in the last day, in whole minutes, and how long that was, in milliseconds. Where the plan has not run for that long, only what came at the sources is told.
pub(crate) async fn real(app: &Arc<App>, now_ms: i64) -> Result<Option<(Real, i64)>, RealError> {
    let this = now_ms.div_euclid(MINUTE_MS);
    let Some(first) = app.spool.first_minute(this - DAY).await? else { return Ok(None) };
    let number = app.engine.running().revision;
    let applied = app.records(move |r| r.revision(number)).await?.map_or(0, |revision| revision.at_ms.div_euclid(MINUTE_MS));
    // The first minute and the one that is running are not whole.
    let whole = (first + 1).max(applied + 1);
    let (since, until, long, by_plan) = match () {
        () if this - whole >= ENOUGH => (whole, this, (this - whole) * MINUTE_MS, true),
        () if this - first > ENOUGH => (first + 1, this, (this - first - 1) * MINUTE_MS, false),
        () => (first, this + 1, now_ms - first * MINUTE_MS, first >= applied),
    };
    let mut real = Real::default();
    for row in app.spool.ledger(Some(since), Some(until)).await? {
        let (account, amount) = (row.account, row.amount);
        match (account.stage, account.measure) {
            (Stage::Source, Measure::Passed) => *real.sources.entry(account.name).or_default() += amount,
            (Stage::Destination, Measure::Enqueued) if by_plan => *real.branches.entry((account.via, account.name)).or_default() += amount,
            _ => {}
        }
    }
    let flowed = real.sources.values().any(|amount: &Amount| amount.events > 0);
    Ok(flowed.then_some((real, long.max(1))))
}

/// Amounts of a stretch of time, for a month.
pub(crate) fn a_month(amount: Amount, of_ms: i64) -> Amount {
    let by = MONTH_MS / of_ms as f64;
    let month = |n: i64| (n as f64 * by).round() as i64;
    Amount { events: month(amount.events), bytes: month(amount.bytes) }
}

/// What the samples hold, as somebody may see it.
#[derive(Default)]
pub(crate) struct Held {
    /// Some events of a long time.
    pub(crate) some: Vec<Event>,
    /// All events of a shorter time.
    pub(crate) stretch: Vec<Event>,
}

/// An event for a trial.
pub(crate) struct Event {
    pub(crate) source: Arc<str>,
    pub(crate) bytes: Vec<u8>,
    pub(crate) form: rockrose_event::record::Form,
    pub(crate) at_ms: i64,
    pub(crate) times: u64,
}

/// The events that somebody sees of the samples of the sources: `shows` says what they see of one that came by a source at a time, if anything.
pub(crate) fn held(app: &App, sources: &[String], now_ms: i64, shows: &mut impl FnMut(&str, &[u8], i64) -> Option<Vec<u8>>) -> Held {
    let mut held = Held::default();
    let names: HashMap<&str, Arc<str>> = sources.iter().map(|name| (name.as_str(), Arc::from(name.as_str()))).collect();
    let form = rockrose_event::record::Form::Object;
    for name in sources {
        let source = &names[name.as_str()];
        for sampled in app.samples.of(name) {
            if let Some(bytes) = shows(name, &sampled.event, sampled.at_ms) {
                held.some.push(Event { source: Arc::clone(source), bytes, form, at_ms: sampled.at_ms, times: sampled.times });
            }
        }
    }
    if let Some(stretch) = app.samples.stretch(now_ms) {
        for event in &stretch.events {
            let Some(source) = names.get(event.source.as_str()) else { continue };
            if let Some(bytes) = shows(&event.source, &event.event, event.at_ms) {
                held.stretch.push(Event { source: Arc::clone(source), bytes, form, at_ms: event.at_ms, times: 1 });
            }
        }
    }
    held
}
