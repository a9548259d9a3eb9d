#![doc = include_str!("crate.md")]

mod miner;
mod pattern;
mod pieces;
mod settle;
mod trend;

pub use miner::{BUDGET, Line, Miner, Origin, Patterns, SEVERITIES};
pub use pattern::{Pattern, Varying};
pub use pieces::Sort;
pub use trend::{SLOTS, Trend};

#[cfg(test)]
mod sets;
#[cfg(test)]
mod tests;
