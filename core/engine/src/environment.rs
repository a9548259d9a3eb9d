//! What a plan asks beyond the events themselves.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use rockrose_tables::TableSlot;

use crate::budget::BudgetGauge;

/// Names of addresses, as far as they are known. Asking must not wait.
pub trait Names: Send + Sync {
    /// The name of `address`: known, known to have none (`Some(None)`), or not known (yet).
    fn name(&self, address: IpAddr) -> Option<Option<String>>;
}

/// What a plan asks beyond the events themselves.
#[derive(Clone, Default)]
pub struct Environment {
    /// Tables, by name. One that is missing finds nothing.
    pub tables: HashMap<String, Arc<TableSlot>>,
    /// What `resolve` asks.
    pub names: Option<Arc<dyn Names>>,
    /// How much of each budget is used, by its name. One that is missing is unused.
    pub budgets: HashMap<String, BudgetGauge>,
    /// The name of this node among those it forwards to: letters and digits. Empty, it marks nothing.
    pub node: String,
}
