#![doc = include_str!("crate.md")]

mod find;
mod state;

pub use find::{BudgetReading, Finding, Heard, Readings, Standing, find};
pub use state::{Phase, Rules, State, Stretch, Turn, past};
