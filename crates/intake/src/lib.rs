//! Open protocols in: what listens, reads, decompresses and bounds, and hands bodies on.
//!
//! A source knows nothing of plans or spools. It hands each body to a [`Sink`] and answers its sender only with what the sink says,
//! so that an acknowledgement means what the sink makes it mean: all of it is durable.

mod http;
mod listener;
mod problem;
mod unpack;

pub use http::{BodyBudget, HttpSource, SourceKey, serve};
pub use listener::{BoundedListener, Peer};
pub use problem::Problem;

use rockrose_core::read::Says;
use serde::Serialize;

/// Where bodies go.
pub trait Sink: Send + Sync + 'static {
    /// Takes one body of the source called `source`. An `Ok` means that everything in it is durable, or was removed or quarantined on purpose.
    fn accept(&self, source: &str, body: Vec<u8>, says: Says) -> impl Future<Output = Result<Receipt, Problem>> + Send;
}

/// What was done with a body, told to its sender.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Receipt {
    /// Records in the body.
    pub received: u64,
    /// Records read as events.
    pub read: u64,
    /// Records that could not be read and are kept aside.
    pub quarantined: u64,
    /// The first few of those, with the reason.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<Unreadable>,
}

/// Most unreadable records that a receipt names.
pub const NAMED_UNREADABLE: usize = 10;

/// A record that could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Unreadable {
    /// Its line, or its place in the array, from 1.
    pub record: u32,
    /// Why.
    pub reason: String,
}

#[cfg(test)]
mod tests;
