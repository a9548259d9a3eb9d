//! The account, and what was kept aside.

use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_grants::{Eye, Need};
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_ledger::{Account, Amount, Equation, Measure, Stage};
use rockrose_plan::Destination;
use rockrose_spool::{Page, Quarantined};
use serde::Deserialize;
use utoipa::IntoParams;

use super::extract::Asked;
use super::types::{DestinationCost, LedgerAnswer, LedgerEquation, LedgerMinute, LedgerWaiting, QuarantineEntry};
use super::{records_problem, spool_problem, types};
use crate::caller::Caller;
use crate::history::History;
use crate::{App, now_ms};

/// Longest time back that minutes are asked for: a day.
const MAX_MINUTES: i64 = 24 * 60;
/// Most quarantined records in one answer.
const MAX_QUARANTINED: i64 = 1_000;
/// So many quarantined records are read whole at once.
const WHOLE_AT_ONCE: i64 = 20;
/// Most of a quarantined record that is shown, in bytes.
const SHOWN: usize = 4_096;

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct LedgerQuery {
    /// Only the last so many minutes; left out, everything since the beginning.
    pub(super) minutes: Option<i64>,
    /// Only from here on, in milliseconds since 1970; the minute in which it lies counts whole. Not together with `minutes`.
    pub(super) from_ms: Option<i64>,
    /// Only up to here, in milliseconds since 1970; the minute in which it lies counts whole. Not together with `minutes`.
    pub(super) to_ms: Option<i64>,
}

impl LedgerQuery {
    /// The first minute, and the one after the last, minutes since 1970; none: since the beginning, and until now.
    pub(super) fn span(&self, now_ms: i64) -> Result<(Option<i64>, Option<i64>), Problem> {
        let bad = |detail: &str| Problem::new(StatusCode::BAD_REQUEST, "bad-span", "No such span", detail);
        // Nothing was counted before 1970.
        let from = self.from_ms.map(|ms| ms.max(0) / 60_000);
        let to = self.to_ms.map(|ms| ms.max(0).saturating_add(59_999) / 60_000);
        match self.minutes {
            Some(_) if from.is_some() || to.is_some() => Err(bad("a span is told either by `minutes` or by `from_ms` and `to_ms`")),
            Some(minutes) => Ok((Some(first_minute(now_ms, minutes)), None)),
            None if self.from_ms.zip(self.to_ms).is_some_and(|(from, to)| from >= to) => Err(bad("`from_ms` is not before `to_ms`")),
            None => Ok((from, to)),
        }
    }
}

/// The first of the last so many minutes, which count whole; minutes since 1970.
fn first_minute(now_ms: i64, minutes: i64) -> i64 {
    let this_minute = now_ms.div_euclid(60_000);
    this_minute - minutes.clamp(1, this_minute.max(1)) + 1
}

/// The account of every event and byte, and whether it balances.
#[utoipa::path(get, path = "/api/v1/ledger", tag = "verify", params(LedgerQuery), responses((status = 200, body = types::LedgerAnswer), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn ledger(State(app): State<Arc<App>>, Asked(query): Asked<LedgerQuery>) -> Result<Json<LedgerAnswer>, Problem> {
    let now = now_ms();
    let (since, until) = query.span(now)?;
    let rows = app.spool.ledger(since, until).await.map_err(|e| spool_problem(&e))?;
    let equations = app.spool.balance().await.map_err(|e| spool_problem(&e))?;
    let mut rows: Vec<_> = rows.into_iter().collect();
    rows.sort_by(|a, b| a.account.cmp(&b.account));
    let waiting = app.spool.waiting();
    let equation = |e: &Equation| LedgerEquation {
        place: e.stage.word().to_owned(),
        name: e.name.clone(),
        says: e.says.clone(),
        holds: e.holds(),
        left_events: e.left.events,
        right_events: e.right.events,
        left_bytes: e.left.bytes,
        right_bytes: e.right.bytes,
    };
    let (active, steps) = History::steps(&app).await.map_err(|e| records_problem(&e))?;
    let running = app.engine.running();
    let plan = &running.checked;
    let prices = types::Prices::of(plan);
    let of_ms = since.map(|since| until.map_or(now, |until| (until * 60_000).min(now)) - since * 60_000);
    let mut queued: HashMap<&str, Amount> = HashMap::new();
    for r in rows.iter().filter(|r| r.account.stage == Stage::Destination) {
        let of = queued.entry(&r.account.name).or_default();
        match r.account.measure {
            Measure::Enqueued => *of += r.amount,
            // What went on to another destination is billed there.
            Measure::Spilled => *of = *of - r.amount,
            _ => {}
        }
    }
    let costs = plan.destinations.iter().filter_map(|d| cost(d, queued.get(d.name.as_str()).copied().unwrap_or_default(), of_ms)).collect();
    let caveats = plan.destinations.iter().filter_map(|d| Some(format!("destination {} {}", d.name, plan.undone_redaction(d)?))).collect();
    Ok(Json(LedgerAnswer {
        since_ms: since.map(|m| m * 60_000),
        until_ms: until.map(|m| m * 60_000),
        now_ms: now,
        rows: rows.into_iter().map(|r| types::ledger_entry(&r.account, r.amount, (active, &steps), &prices)).collect(),
        waiting: waiting.into_iter().map(|(destination, w)| LedgerWaiting { destination, events: w.amount.events, bytes: w.amount.bytes }).collect(),
        balanced: equations.iter().all(Equation::holds),
        equations: equations.iter().map(equation).collect(),
        costs,
        tags: plan.account_by.iter().map(ToString::to_string).collect(),
        caveats,
    }))
}

/// Milliseconds in a month of 30 days, by which what is paid by the month is divided.
const MONTH_MS: i64 = 30 * 86_400_000;

/// What was spent at a destination within `of_ms`, if it has a price, where so much was queued for it.
fn cost(destination: &Destination, queued: Amount, of_ms: Option<i64>) -> Option<DestinationCost> {
    let price = destination.price.as_ref()?;
    Some(DestinationCost {
        destination: destination.name.clone(),
        price: price.to_string(),
        bytes: queued.bytes,
        events: queued.events,
        sent: price.of(queued).to_string(),
        standing: of_ms.map(|of_ms| price.standing(of_ms, MONTH_MS).to_string()),
        currency: price.currency.clone(),
    })
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct MinutesQuery {
    /// What the account is kept for.
    #[param(inline, value_type = types::LedgerPlace)]
    place: String,
    name: String,
    /// How many minutes back; 60 if left out, at most 1440.
    minutes: Option<i64>,
}

/// One source's, route's or destination's account, minute by minute.
#[utoipa::path(get, path = "/api/v1/ledger/minutes", tag = "verify", params(MinutesQuery), responses((status = 200, body = Vec<types::LedgerMinute>), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn minutes(State(app): State<Arc<App>>, Asked(query): Asked<MinutesQuery>) -> Result<Json<Vec<LedgerMinute>>, Problem> {
    let bad = || Problem::new(StatusCode::BAD_REQUEST, "bad-place", "No such place", "the place is `source`, `route` or `destination`");
    let stage = Stage::read(&query.place).ok_or_else(bad)?;
    let since = first_minute(now_ms(), query.minutes.unwrap_or(60).min(MAX_MINUTES));
    let rows = app.spool.minutes(stage, &query.name, since).await.map_err(|e| spool_problem(&e))?;
    let (active, steps) = History::steps(&app).await.map_err(|e| records_problem(&e))?;
    let running = app.engine.running();
    let prices = types::Prices::of(&running.checked);
    let row = |account: &Account, amount| types::ledger_entry(account, amount, (active, &steps), &prices);
    Ok(Json(rows.into_iter().map(|(minute, account, amount)| LedgerMinute { at_ms: minute * 60_000, row: row(&account, amount) }).collect()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct QuarantineQuery {
    /// Most records to answer with; 100 if left out, at most 1000.
    most: Option<i64>,
    /// Only records with smaller numbers.
    before: Option<i64>,
}

/// The newest records that could not be read or were refused for good.
#[utoipa::path(get, path = "/api/v1/quarantine", tag = "verify", params(QuarantineQuery), responses((status = 200, body = Vec<types::QuarantineEntry>), (status = 401, body = types::Problem)))]
pub(crate) async fn quarantine(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Asked(query): Asked<QuarantineQuery>,
) -> Result<Json<Vec<QuarantineEntry>>, Problem> {
    let most = query.most.unwrap_or(100).clamp(1, MAX_QUARANTINED);
    let mut eyes: HashMap<Place, Eye> = HashMap::new();
    let mut entry = |q: Quarantined| {
        let place = place(&q);
        quarantine_entry(eyes.entry(place).or_insert_with_key(|place| caller.eye(&app, place)), q)
    };
    // Whoever sees all is shown the beginnings; whether others see a record is asked of the whole of it.
    let (at_once, bytes) = if caller.grants.allow(Need::SeeAll) { (most, SHOWN as i32) } else { (WHOLE_AT_ONCE, i32::MAX) };
    let (mut shown, mut before) = (Vec::new(), query.before);
    for _ in 0..MAX_QUARANTINED / WHOLE_AT_ONCE {
        let found = app.spool.quarantine_page(Page { before, most: at_once, bytes }).await.map_err(|e| spool_problem(&e))?;
        let Some(last) = found.last().map(|q| q.id) else { break };
        before = Some(last);
        shown.extend(found.into_iter().filter_map(&mut entry));
        if shown.len() as i64 >= most {
            break;
        }
    }
    shown.truncate(most as usize);
    Ok(Json(shown))
}

/// Where a record came into quarantine.
pub(super) fn place(q: &Quarantined) -> Place {
    if q.stage == Stage::Source { Place::Source(q.name.clone()) } else { Place::Destination(q.name.clone()) }
}

/// A record in quarantine as whoever looks with `eye` may see it; nothing, if they may not. What a source could not read is no event, and is shown where all is.
pub(super) fn quarantine_entry(eye: &mut Eye, q: Quarantined) -> Option<QuarantineEntry> {
    if q.stage == Stage::Source && !eye.sees_all() {
        return None;
    }
    let reason = if eye.sees_all() { q.reason } else { rockrose_delivery::without_words(&q.reason).to_owned() };
    let data = eye.shows(&q.data, q.at_ms)?;
    Some(QuarantineEntry {
        id: q.id,
        at_ms: q.at_ms,
        place: q.stage.word().to_owned(),
        name: q.name,
        via: q.via,
        reason,
        size: q.size,
        data: String::from_utf8_lossy(&data[..data.len().min(SHOWN)]).into_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_span_is_told_in_one_way_and_counts_its_minutes_whole() {
        let span = |minutes, from_ms, to_ms| LedgerQuery { minutes, from_ms, to_ms }.span(100 * 60_000);
        assert_eq!(span(None, None, None).unwrap(), (None, None));
        assert_eq!(span(Some(5), None, None).unwrap(), (Some(96), None));
        assert_eq!(span(None, Some(3 * 60_000 + 1), Some(4 * 60_000 + 1)).unwrap(), (Some(3), Some(5)));
        assert_eq!(span(None, Some(3 * 60_000), Some(4 * 60_000)).unwrap(), (Some(3), Some(4)));
        assert_eq!(span(None, None, Some(i64::MAX)).unwrap().0, None);
        assert_eq!(span(None, Some(i64::MIN), Some(-1)).unwrap(), (Some(0), Some(0)));
        assert!(span(Some(5), Some(1), None).is_err() && span(None, Some(60_000), Some(60_000)).is_err());
    }

    #[test]
    fn minutes_count_whole_however_many_are_asked_for() {
        let now = 100 * 60_000 + 59_999;
        for (minutes, first) in [(1, 100), (2, 99), (100, 1), (0, 100), (-5, 100), (i64::MAX, 1), (i64::MIN, 100)] {
            assert_eq!(first_minute(now, minutes), first, "{minutes}");
        }
        assert_eq!(first_minute(-1, 7), -1, "a clock that stands before 1970");
    }
}
