//! Budgets: how they stand, and how they are lifted.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_intake::Problem;
use rockrose_language::{BudgetTest, Most, Step};
use rockrose_ledger::{Amount, Measure};
use rockrose_plan::{CheckedPlan, Gate};
use rockrose_spool::LedgerRow;

use super::extract::Part;
use super::types::{BudgetAct, BudgetForecast, BudgetLift, BudgetState, BudgetsAnswer};
use super::{records_problem, spool_problem, types};
use crate::budgets::BudgetStanding;
use crate::caller::Caller;
use crate::{App, now_ms};

/// The budgets of the active plan, how each stands, and what is done by it.
#[utoipa::path(get, path = "/api/v1/budgets", tag = "watch", responses((status = 200, body = types::BudgetsAnswer), (status = 401, body = types::Problem)))]
pub(crate) async fn budgets(State(app): State<Arc<App>>) -> Result<Json<BudgetsAnswer>, Problem> {
    let mut since: HashMap<i64, Vec<LedgerRow>> = HashMap::new();
    let all = app.budgets.all();
    for of in &all {
        let minute = of.begins_ms.div_euclid(60_000);
        if let Entry::Vacant(rows) = since.entry(minute) {
            rows.insert(app.spool.ledger(Some(minute), None).await.map_err(|e| spool_problem(&e))?);
        }
    }
    let running = app.engine.running();
    let shown = |of: BudgetStanding| {
        let rows = &since[&of.begins_ms.div_euclid(60_000)];
        shown(of, &running.checked, rows)
    };
    Ok(Json(BudgetsAnswer { now_ms: now_ms(), budgets: all.into_iter().map(shown).collect() }))
}

fn shown(of: BudgetStanding, plan: &CheckedPlan, rows: &[LedgerRow]) -> BudgetState {
    let BudgetStanding { budget, used, begins_ms, ends_ms, forecast, lift } = of;
    let percent = used.percent_of(budget.most);
    let unit = match &budget.allowance.most {
        Most::Size(_) => "bytes".to_owned(),
        Most::Events(_) => "events".to_owned(),
        Most::Money { currency, .. } => currency.clone(),
    };
    BudgetState {
        allows: budget.allowance.to_string(),
        unit,
        used: used.to_string(),
        most: budget.most.to_string(),
        percent,
        begins_ms,
        ends_ms,
        time_zone: budget.zone.iana_name().unwrap_or("UTC").to_owned(),
        forecast: forecast.map(|f| BudgetForecast { expected: f.expected, low: f.low, high: f.high }),
        advice: budget.advice,
        acts: acts(&budget.name, plan, rows, |from| lift.is_none() && percent >= i64::try_from(from).unwrap_or(i64::MAX)),
        lift: lift.map(|l| BudgetLift { until_ms: l.until_ms, who: l.who }),
        name: budget.name,
    }
}

/// What is done by a budget, in the order of an event's way.
fn acts(budget: &str, plan: &CheckedPlan, rows: &[LedgerRow], is_used: impl Fn(u64) -> bool) -> Vec<BudgetAct> {
    let from = |tests: &[&BudgetTest]| tests.iter().filter(|test| test.budget == budget).map(|test| test.percent).min();
    let sum = |counts: &dyn Fn(&LedgerRow) -> bool| {
        let mut sum = Amount::default();
        rows.iter().filter(|row| counts(row)).for_each(|row| sum += row.amount);
        sum
    };
    let mut found = Vec::new();
    for (part, steps) in plan.lists() {
        let act = |step: &Step| {
            let from_percent = from(&step.budgets())?;
            let sentence = step.to_string();
            let removed = sum(&|row| {
                let account = &row.account;
                account.measure == Measure::Removed && account.stage.word() == part.kind && account.name == part.name && account.sentence == sentence
            });
            let at = format!("{}:{}", part.kind, part.name);
            Some(BudgetAct { at, sentence, from_percent, acts: is_used(from_percent), events: removed.events, bytes: removed.bytes })
        };
        if let Some(Gate::Condition(when)) = plan.routes.iter().find(|r| part.kind == "route" && r.name == part.name).map(|r| &r.when)
            && let Some(from_percent) = from(&when.budgets())
        {
            let taken = sum(&|row| row.account.measure == Measure::Taken && row.account.name == part.name);
            let (at, sentence) = (format!("route:{}", part.name), format!("when {when}"));
            found.push(BudgetAct { at, sentence, from_percent, acts: is_used(from_percent), events: taken.events, bytes: taken.bytes });
        }
        found.extend(steps.iter().filter_map(act));
    }
    found
}

/// Whoever lifts a budget operates the place that it is of.
fn operated(app: &App, caller: &Caller, name: &str) -> Result<(), Problem> {
    let running = app.engine.running();
    let budget = running.checked.budgets.iter().find(|budget| budget.name == name).ok_or_else(|| unknown(name))?;
    caller.must_operate(&budget.allowance.at)
}

fn unknown(name: &str) -> Problem {
    Problem::new(StatusCode::NOT_FOUND, "no-budget", "No such budget", format!("the active plan has no budget `{name}`"))
}

/// Until its period is over, nothing is done by a budget: what its steps would remove goes on. It is still counted, and told.
#[utoipa::path(put, path = "/api/v1/budgets/{name}/lift", tag = "watch", params(("name" = String, Path)),
    responses((status = 200, body = types::BudgetLift), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn lift(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(name): Part<String>,
) -> Result<Json<BudgetLift>, Problem> {
    operated(&app, &caller, &name)?;
    let lift = app.budgets.lift(&app, &name, &caller.name).await.map_err(|e| records_problem(&e))?.ok_or_else(|| unknown(&name))?;
    Ok(Json(BudgetLift { until_ms: lift.until_ms, who: lift.who }))
}

/// Steps act by a budget again.
#[utoipa::path(delete, path = "/api/v1/budgets/{name}/lift", tag = "watch", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn end_lift(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    operated(&app, &caller, &name)?;
    let known = app.budgets.end_lift(&app, &name).await.map_err(|e| records_problem(&e))?;
    if known { Ok(StatusCode::NO_CONTENT) } else { Err(unknown(&name)) }
}
