#![doc = include_str!("crate.md")]

mod batch;
mod behind;
mod budget;
mod by_tag;
mod compile;
mod compile_context;
mod context;
mod drawn;
mod edit;
mod effect;
mod environment;
mod expression;
mod forward;
mod index;
pub mod kit;
mod label_sets;
mod masks;
mod matcher;
mod steps;
pub mod trial;
mod value;
mod view;
mod why;
mod window;

pub use batch::{Capture, MAX_LINES, Outcome, Point, Quarantined, Scratch, StepTime, Watch, spilled_from};
pub use budget::{BudgetGauge, BudgetMeter, UnderWay};
pub use compile::CompiledPlan;
pub use environment::{Environment, Names};
pub use forward::PASSED;
pub use masks::Masks;
pub use matcher::{Matcher, MatcherScratch};
pub use why::{Effect, ListTrace, Part, RouteWhy, Why, parts, why};

#[cfg(test)]
mod edit_tests;
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
