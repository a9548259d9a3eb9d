//! A checked plan, compiled, and batches of events run through it.
//!
//! [`CompiledPlan::process`] is called with one body's records and a [`Scratch`] the caller keeps; it returns an [`Outcome`]. Each event is scanned once;
//! routes share that scan and the results of equal tests. A route that changes an event works on its own copy
//! (copy on first write), so no route sees another's changes; an event that no step changed leaves as the bytes that came in, stored once.

mod compile;
mod index;
mod metric;
mod pace;
mod passed;
mod process;
mod redaction;
mod selection;
mod shape;
mod steps;
mod test;
mod value;
mod why;
mod window;
mod work;

pub use compile::{CompiledPlan, Matcher, Names, Surroundings};
pub use metric::{Added, OTHER, Series, ZERO_BUCKET, bucket, bucket_end};
pub use passed::PASSED;
pub use process::{Capture, Entry, MAX_LINES, Outcome, Point, Quarantined, Scratch, Watch, spilled_from};
pub use selection::Selection;
pub(crate) use test::ip as address;
pub use why::{Effect, Part, Passing, RouteWhy, Why, parts, why};
pub use window::{Held, HeldChange, Stand};

#[cfg(test)]
mod index_tests;
#[cfg(test)]
mod language_tests;
#[cfg(test)]
mod tests;
#[cfg(test)]
mod value_tests;
#[cfg(test)]
mod window_tests;
#[cfg(test)]
mod work_tests;
