#![doc = include_str!("crate.md")]

mod ast;
mod condition;
mod cursor;
mod explain;
mod format;
mod mistake;
mod print;
mod step;
mod value;

pub use ast::{
    Arithmetic, Condition, Conversion, Detector, Format, Function, Joining, Literal, Mask, Operation, Ordering, Pace, Part, Pattern, Place, Rate, Redaction,
    Renaming, Selector, Size, Step, Template, Test, Time, TimeUnit, Unit, Value, What,
};
pub use condition::parse_condition;
pub use explain::explain;
pub use mistake::{Mistake, nearest};
pub(crate) use step::JOIN_WITHIN;
pub use step::{STEP_VERBS, parse_step};

/// Longest sentence that is read, in bytes.
pub const MAX_SENTENCE: usize = 16 * 1024;

#[cfg(test)]
mod tests;
