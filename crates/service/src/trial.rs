//! Trials over what the samples hold: the events, and what really flowed from which a month is estimated.

use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, OnceLock};
use std::time::Instant;

use rockrose_api::{Forecast, PersonalData, PersonalField, RevisionOutcome, TrialDestination, TrialMoney, Volume};
use rockrose_engine::Environment;
use rockrose_engine::trial::{self, Asked, Comparison, Given, Real, Samples, Side, Trial};
use rockrose_ledger::{Amount, Measure, Stage};
use rockrose_plan::{CheckedPlan, Destination};
use rockrose_records::RecordsError;
use rockrose_redact::HashKey;
use rockrose_spool::SpoolError;
use rockrose_survey::Fields;

use crate::App;
use crate::apply::aside;
use crate::engine::Running;

/// Minutes in a day.
const DAY: i64 = 24 * 60;
/// Milliseconds in a minute.
const MINUTE_MS: i64 = 60_000;
/// A month, in milliseconds: a twelfth of a year.
pub(crate) const MONTH_MS: f64 = 365.25 / 12.0 * 86_400_000.0;
/// What flowed by a revision only counts once it has run for so many whole minutes.
const ENOUGH: i64 = 2;

/// Most rows of the ledger that are read.
const MOST_ROWS: i64 = 200_000;

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

/// How many minutes are looked back: fewer, the more accounts each has.
fn minutes(app: &App) -> i64 {
    let accounts = i64::try_from(app.meter.read().now.len()).unwrap_or(i64::MAX).max(1);
    (MOST_ROWS / accounts).clamp(ENOUGH + 3, DAY)
}

/// What really flowed by the plan of a revision, which runs at `now_ms` or did, in the day before, in whole minutes, and how long that was, in milliseconds. Where the plan has not run for that long, only what came at the sources is told.
pub(crate) async fn real(app: &Arc<App>, number: i64, now_ms: i64) -> Result<Option<(Real, i64)>, RealError> {
    let this = now_ms.div_euclid(MINUTE_MS);
    let Some(first) = app.spool.first_minute(this - minutes(app)).await? else { return Ok(None) };
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

/// All that the samples hold of the sources of a plan.
async fn all_held(app: &Arc<App>, plan: &CheckedPlan) -> Held {
    let (app, sources) = (Arc::clone(app), plan.sources.iter().map(|s| s.name.clone()).collect::<Vec<_>>());
    let shows_all = |_: &str, event: &[u8], _: i64| Some(event.to_vec());
    // A panic there would have been told already.
    tokio::task::spawn_blocking(move || held(&app, &sources, crate::now_ms(), &mut { shows_all })).await.unwrap_or_default()
}

pub(crate) fn as_given(events: &[Event]) -> Vec<Given<'_>> {
    events.iter().map(|e| Given { source: &e.source, event: &e.bytes, form: e.form, at_ms: e.at_ms, times: e.times }).collect()
}

/// Personal data in events as they would be sent.
pub(crate) fn personal(sent: &[(Vec<u8>, u64)]) -> Vec<PersonalField> {
    let mut fields = Fields::default();
    for (event, times) in sent {
        fields.add(event, *times, 0);
    }
    let found = fields.list().into_iter().filter(|field| !field.personal.is_empty());
    let data = |(detector, share): (&'static str, f64)| PersonalData { detector: detector.to_owned(), share };
    found.map(|field| PersonalField { field: field.name, found: field.personal.into_iter().map(data).collect() }).collect()
}

/// What each destination of a plan would get in a month, compared with the plan that runs; `of_ms` is how long what is predicted took to flow.
pub(crate) fn destinations(running: &CheckedPlan, plan: &CheckedPlan, compared: &Comparison, of_ms: Option<i64>) -> Vec<TrialDestination> {
    let sent = |trial: &Trial, at: usize| personal(trial.sent.get(at).map_or(&[], Vec::as_slice));
    let price = |d: &Destination, amount: Amount| d.price.as_ref().map(|p| (p.of(amount) + p.per_month).to_f64());
    let one = |(at, destination): (usize, &Destination)| {
        let told = compared.predicted.iter().find(|p| p.destination == destination.name);
        let month = |amount: Amount| of_ms.map_or_else(Amount::default, |of_ms| a_month(amount, of_ms));
        let (now, then) = told.map_or_else(Default::default, |p| (month(p.now), month(p.then)));
        let before = running.destinations.iter().position(|d| d.name == destination.name);
        let money = of_ms.and(destination.price.as_ref()).map(|p| TrialMoney {
            now: before.and_then(|at| price(&running.destinations[at], now)).unwrap_or_default(),
            then: price(destination, then).unwrap_or_default(),
            currency: p.currency.clone(),
        });
        let personal = sent(&compared.then, at);
        let had = before.map(|at| sent(&compared.now, at)).unwrap_or_default();
        let new_personal = personal.iter().filter(|p| had.iter().all(|h| h.field != p.field)).map(|p| p.field.clone()).collect();
        TrialDestination { name: destination.name.clone(), now: volume(now), then: volume(then), money, personal, new_personal }
    };
    plan.destinations.iter().enumerate().map(one).collect()
}

pub(crate) fn volume(amount: Amount) -> Volume {
    Volume { events: amount.events, bytes: amount.bytes }
}

/// What a forecast is made of, as it is at one moment.
pub(crate) struct Snapshot {
    pub(crate) running: Arc<Running>,
    pub(crate) held: Held,
    pub(crate) at_ms: i64,
}

pub(crate) async fn snapshot(app: &Arc<App>) -> Snapshot {
    let running = app.engine.running();
    let held = all_held(app, &running.checked).await;
    Snapshot { running, held, at_ms: crate::now_ms() }
}

/// What is predicted of a plan, as the service itself sees the events. Nothing, if there are none.
pub(crate) async fn forecast(app: &Arc<App>, snapshot: Snapshot, plan: CheckedPlan, environment: Environment) -> Result<Option<Forecast>, RealError> {
    if snapshot.held.some.is_empty() {
        return Ok(None);
    }
    let basis = real(app, snapshot.running.revision, snapshot.at_ms).await?;
    let key = app.engine.key();
    Ok(Some(aside(app, move || made(&snapshot, &plan, &environment, &key, basis)).await))
}

fn made(snapshot: &Snapshot, plan: &CheckedPlan, environment: &Environment, key: &HashKey, basis: Option<(Real, i64)>) -> Forecast {
    let running = &snapshot.running;
    let now = trial::behind_arrival(&running.checked);
    let (then, cannot_tell) = trial::behind_arrival_of(&running.checked, plan);
    let (some, stretch) = (as_given(&snapshot.held.some), as_given(&snapshot.held.stretch));
    let (real, of_ms) = basis.map_or_else(|| (Real::default(), None), |(real, of_ms)| (real, Some(of_ms)));
    let then_side = Side { plan: &then, environment };
    let compared = trial::compare(
        Side { plan: &now, environment: &running.environment },
        then_side,
        key,
        Samples { some: &some, stretch: &stretch },
        &real,
        &Asked::default(),
    );
    let destinations = destinations(&running.checked, plan, &compared, of_ms);
    let mut advice: Vec<String> = destinations
        .iter()
        .filter(|d| !d.new_personal.is_empty())
        .map(|d| format!("the destination `{}` would get personal data that it does not get now, in {}", d.name, d.new_personal.join(", ")))
        .collect();
    advice.extend(trial::advice(&now, then_side, key, &some));
    let cannot_tell = cannot_tell.into_iter().chain(compared.then.cannot_tell);
    advice.extend(cannot_tell.map(|sentence| format!("the samples do not tell it: {sentence}")));
    Forecast { estimated_from_ms: of_ms, events: compared.then.events, destinations, advice }
}

/// Keeps with a revision what was predicted of it.
pub(crate) async fn keep(app: Arc<App>, number: i64, snapshot: Snapshot, plan: CheckedPlan, environment: Environment) {
    let kept = async {
        let Some(forecast) = forecast(&app, snapshot, plan, environment).await? else { return Ok::<_, RealError>(()) };
        let content = serde_json::to_string(&forecast).unwrap_or_default();
        app.records(move |r| r.set_forecast(number, &content)).await?;
        Ok(())
    };
    if let Err(e) = kept.await {
        tracing::warn!(error = %e, revision = number, "what was predicted of the plan could not be kept");
    }
}

/// What each destination got while a revision was active, in the proportion of a month, and for how long that is told.
pub(crate) async fn outcome(app: &Arc<App>, number: i64) -> Result<Option<(Vec<RevisionOutcome>, i64)>, RealError> {
    let (of, next) = app.records(move |r| Ok((r.revision(number)?, r.revision(number + 1)?))).await?;
    let Some(of) = of else { return Ok(None) };
    let since = of.at_ms.div_euclid(MINUTE_MS) + 1;
    let until = next.map_or_else(crate::now_ms, |next| next.at_ms).div_euclid(MINUTE_MS);
    // Longer ago, minutes may not be kept.
    let since = since.max(until - minutes(app));
    if until <= since {
        return Ok(None);
    }
    let mut by_name: BTreeMap<String, Amount> = BTreeMap::new();
    for row in app.spool.ledger(Some(since), Some(until)).await? {
        if row.account.stage == Stage::Destination && row.account.measure == Measure::Enqueued {
            *by_name.entry(row.account.name).or_default() += row.amount;
        }
    }
    let long = (until - since) * MINUTE_MS;
    let one = |(name, amount)| RevisionOutcome { name, month: volume(a_month(amount, long)) };
    Ok((!by_name.is_empty()).then(|| (by_name.into_iter().map(one).collect(), long)))
}
