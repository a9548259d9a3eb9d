//! Budgets: how much may pass, how much did, and what is done by them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The budgets of the active plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BudgetsAnswer {
    /// When this was so, in milliseconds since 1970.
    pub now_ms: i64,
    /// In the order of their names.
    pub budgets: Vec<BudgetState>,
}

/// A budget, and how it stands.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BudgetState {
    /// Its name.
    pub name: String,
    /// What it allows, such as `40 GB a day at destination:desk`.
    pub allows: String,
    /// What it is counted in: `bytes`, `events`, or a currency by its ISO 4217 code.
    pub unit: String,
    /// How much is used in this period: a decimal number.
    pub used: String,
    /// How much may be: a decimal number.
    pub most: String,
    /// How many percent of it are used, rounded down.
    pub percent: i64,
    /// When its period begins, in milliseconds since 1970.
    pub begins_ms: i64,
    /// When its period ends, in milliseconds since 1970.
    pub ends_ms: i64,
    /// The time zone by whose clocks it does.
    pub time_zone: String,
    /// What is to be expected at its end; null, while nothing is known to tell it by.
    pub forecast: Option<BudgetForecast>,
    /// What to do about it.
    pub advice: Option<String>,
    /// What is done by it: the steps and routes that ask how much of it is used.
    pub acts: Vec<BudgetAct>,
    /// Nothing is done by it until its period is over.
    pub lift: Option<BudgetLift>,
}

/// What is to be expected at the end of a budget's period, in what it is counted in.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct BudgetForecast {
    /// Most likely so much.
    pub expected: f64,
    /// In nine of ten cases at least this.
    pub low: f64,
    /// In nine of ten cases at most this.
    pub high: f64,
}

/// What is done by a budget.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BudgetAct {
    /// Where: `source:NAME`, `route:NAME` or `destination:NAME`.
    pub at: String,
    /// The step, or the condition of the route behind `when`.
    pub sentence: String,
    /// From how many percent of it on.
    pub from_percent: u64,
    /// So much of it is used, and it is not lifted.
    pub acts: bool,
    /// Events that the step has removed in this period; of a route, that it has taken. Of all of the step's other reasons as well, if it has any.
    pub events: i64,
    /// The bytes of these.
    pub bytes: i64,
}

/// That nothing is done by a budget until its period is over.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct BudgetLift {
    /// Until when, in milliseconds since 1970.
    pub until_ms: i64,
    /// Who said so.
    pub who: String,
}
