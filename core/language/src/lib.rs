#![doc = include_str!("crate.md")]

mod alert;
mod budget;
mod condition;
mod cursor;
mod explain;
mod following;
mod format;
mod grant;
mod habits;
mod list;
mod literal;
mod mistake;
mod pattern;
mod program;
mod quantity;
mod steps;
mod time_form;
mod value;

pub use alert::{AlertCondition, Bound, Counted, Side, VolumeUnit, Whole, parse_alert};
pub use budget::{Allowance, BudgetTest, Most, Period, parse_allowance};
pub use condition::{Comparison, Condition, Ordering, Test, parse_condition, parse_field};
pub use cursor::MAX_SENTENCE;
pub use explain::explain;
pub use following::{Catalog, Following, NameOf, Proposal, SentenceKind, Want, field_in_sentence, following, proposals};
pub use format::{Format, Part, Placeholder, Template};
pub use grant::{GRANT_WORDS, Grant, Place, parse_grant};
pub use literal::Literal;
pub use mistake::{Mistake, nearest};
pub use pattern::Pattern;
pub use program::Program;
pub use quantity::{Pace, Size, Time, TimeUnit, Unit};
pub use steps::*;
pub use value::{Arithmetic, Function, Value};

#[cfg(test)]
mod tests;
