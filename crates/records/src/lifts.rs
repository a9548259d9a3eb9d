//! Budgets by which nothing is done for a while.

use diesel::prelude::*;

use crate::schema::lift;
use crate::{Records, RecordsError};

/// A budget by which nothing is done for a while.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Insertable)]
#[diesel(table_name = lift)]
pub struct Lift {
    /// The budget.
    pub budget: String,
    /// Until when, in milliseconds since 1970.
    pub until_ms: i64,
    /// Who said so.
    pub who: String,
}

impl Records {
    /// All lifts that last beyond `now_ms`.
    pub fn lifts(&self, now_ms: i64) -> Result<Vec<Lift>, RecordsError> {
        self.with(|c| Ok(lift::table.filter(lift::until_ms.gt(now_ms)).order(lift::budget).load(c)?))
    }

    /// Nothing is done by a budget for a while.
    pub fn lift_budget(&self, new: &Lift) -> Result<(), RecordsError> {
        self.with(|c| {
            diesel::replace_into(lift::table).values(new.clone()).execute(c)?;
            Ok(())
        })
    }

    /// Something is done by a budget again. Says whether it was lifted.
    pub fn end_lift(&self, budget: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(lift::table.find(budget)).execute(c)? > 0))
    }
}
