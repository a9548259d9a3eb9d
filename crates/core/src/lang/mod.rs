//! The language: conditions and steps, as text and as trees.
//!
//! [`parse_condition`] and [`parse_step`] read one sentence each and say what they expected where they stopped
//! ([`Mistake`]). Every tree prints (`Display`) as its canonical sentence, and that sentence parses to the same tree.

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
    Arithmetic, Condition, Conversion, Detector, Format, Function, Joining, Level, Literal, Mask, Network, Operation, Ordering, Pace, Part, Pattern, Place,
    Rate, Redaction, Renaming, Selector, Size, Step, Template, Test, Time, TimeForm, TimeUnit, Unit, Value, What,
};
pub use condition::parse_condition;
pub use explain::explain;
pub use mistake::{Mistake, nearest};
pub(crate) use step::JOIN_WITHIN;
pub use step::{STEP_VERBS, parse_step};

/// Words that stand for themselves in a sentence; a field of that name is written in quotes.
pub const RESERVED: &[&str] = &["and", "or", "not", "when", "unless", "by", "in", "as", "with", "keep", "true", "false", "remainder", "to", "into"];

/// Longest sentence that is read, in bytes.
pub const MAX_SENTENCE: usize = 16 * 1024;

pub(crate) fn write_quoted(f: &mut impl std::fmt::Write, text: &str) -> std::fmt::Result {
    f.write_char('"')?;
    for c in text.chars() {
        match c {
            '"' => f.write_str("\\\"")?,
            '\\' => f.write_str("\\\\")?,
            '\n' => f.write_str("\\n")?,
            '\t' => f.write_str("\\t")?,
            '\r' => f.write_str("\\r")?,
            c if c.is_control() => write!(f, "\\u{{{:x}}}", c as u32)?,
            c => f.write_char(c)?,
        }
    }
    f.write_char('"')
}

#[cfg(test)]
mod tests;
