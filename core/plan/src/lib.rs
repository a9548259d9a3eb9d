#![doc = include_str!("crate.md")]

mod account_by;
mod alert;
mod anew;
mod assignment;
mod budget;
mod canonical;
mod change;
mod check;
mod checker;
mod destinations;
mod edit;
mod example;
mod first;
mod keys;
mod outline;
mod parse;
mod reads;
mod recipe;
mod report;
mod schema;
mod scope;
mod section;
mod sources;
mod watch;

pub use account_by::MAX_TAGS;
pub use alert::Alert;
pub use assignment::{Assignment, CENTRE, CENTRE_HEADER, Contradiction};
pub use budget::{Budget, Used};
pub use canonical::canonical;
pub use change::{Change, changes};
pub use check::{CheckedPlan, Gate, Route, TableFile, TableKind, plain_path};
pub use checker::{SecretName, is_name};
pub use destinations::*;
pub use edit::{EditError, Part, PlanEdit, edited, joined};
pub use example::{Example, Expectation, Expected};
pub use first::{UnknownKind, first_plan};
pub use outline::{OutlinedPart, outline};
pub use parse::ParsedPlan;
pub use reads::reads_field;
pub use report::Report;
pub use schema::schema;
pub use scope::{FILES, FileScope, NamedFile, ShownSecret};
pub use sources::*;
pub use watch::WATCH_SAYS;

/// Largest plan that is read, in bytes.
pub const MAX_PLAN: usize = 4 << 20;

#[cfg(test)]
mod report_tests;
#[cfg(test)]
mod tests;
