#![doc = include_str!("model.md")]

pub mod archive;
pub mod engine;
pub mod extract;
pub mod field;
pub mod form;
pub mod json;
pub mod kit;
pub mod lang;
pub mod ledger;
pub mod places;
pub mod plan;
pub mod read;
pub mod redact;
pub mod room;
pub mod sample;
pub mod stamp;
pub mod table;
mod texts;
pub mod time;
mod wide;
