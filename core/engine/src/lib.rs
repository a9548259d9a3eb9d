#![doc = include_str!("crate.md")]

mod compile;
mod index;
pub mod kit;
mod metric;
mod pace;
mod passed;
mod process;
mod redaction;
pub mod sample;
mod shape;
mod steps;
mod test;
mod value;
mod why;
mod window;
mod work;

pub use compile::{CompiledPlan, Environment, Matcher, Names};
pub use passed::PASSED;
pub use process::{Capture, MAX_LINES, Outcome, Point, Quarantined, Scratch, Watch, spilled_from};
pub use why::{Effect, Part, Passing, RouteWhy, Why, parts, why};

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
