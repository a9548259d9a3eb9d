#![doc = include_str!("crate.md")]

mod account;
mod by_tag;
mod earlier;
mod entry;
mod forecast;
mod metric;
mod money;
mod selection;
pub mod varint;
mod window;

pub use account::{Account, Amount, Equation, Measure, Posting, Stage, balance};
pub use by_tag::{BEFORE, TagAmount, WITHOUT, balance_by_tag};
pub use earlier::{Difference, Earlier};
pub use entry::Entry;
pub use forecast::{Forecast, Hours, forecast};
pub use metric::{Added, OTHER, Series, ZERO_BUCKET, bucket, bucket_end};
pub use money::{Money, Price};
pub use selection::Selection;
pub use window::{StepLocation, WindowChange, WindowState};
