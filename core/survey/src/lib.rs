#![doc = include_str!("crate.md")]

mod fields;
mod miner;
mod pattern;
mod pieces;
mod sample;
mod settle;
mod sketch;
mod survey;
mod trend;

pub use fields::{Field, Fields, KINDS, MOST_FIELDS, Numbers, SHAPE, masked};
pub use miner::{BUDGET, Line, Miner, Origin, Patterns, SEVERITIES};
pub use pattern::{Pattern, Sentences, Varying};
pub use pieces::Sort;
pub use sample::{Sample, Sampled};
pub use survey::Survey;
pub use trend::{SLOTS, Trend};

#[cfg(test)]
mod sets;
#[cfg(test)]
mod tests;
