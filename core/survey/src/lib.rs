#![doc = include_str!("crate.md")]

mod fields;
mod miner;
mod pattern;
mod pieces;
mod settle;
mod sketch;
mod trend;

pub use fields::{Field, Fields, KINDS, MOST_FIELDS, Numbers, masked};
pub use miner::{BUDGET, Line, Miner, Origin, Patterns, SEVERITIES};
pub use pattern::{Pattern, Varying};
pub use pieces::Sort;
pub use trend::{SLOTS, Trend};

#[cfg(test)]
mod sets;
#[cfg(test)]
mod tests;
