//! A checked plan, compiled, and batches of events run through it.
//!
//! [`CompiledPlan::process`] is called with one body's records and a [`Scratch`] the caller keeps; it returns an [`Outcome`]. Each event is scanned once;
//! routes share that scan and the results of equal tests. A route that changes an event works on its own copy
//! (copy on first write), so no route sees another's changes; an event that no step changed leaves as the bytes that came in, stored once.

mod compile;
mod extract;
mod index;
mod process;
mod selection;
mod steps;
mod test;
mod work;

pub use compile::{CompiledPlan, Matcher};
pub use process::{Capture, Entry, MAX_LINES, Outcome, Point, Quarantined, Scratch, Watch};
pub use selection::Selection;

#[cfg(test)]
mod extract_tests;
#[cfg(test)]
mod tests;
#[cfg(test)]
mod work_tests;
