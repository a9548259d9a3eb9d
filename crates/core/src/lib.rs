#![doc = include_str!("model.md")]

pub mod engine;
pub mod field;
pub mod json;
pub mod lang;
pub mod ledger;
pub mod plan;
pub mod read;
pub mod redact;
#[cfg(test)]
mod redact_tests;
pub mod sample;
mod texts;
mod wide;
