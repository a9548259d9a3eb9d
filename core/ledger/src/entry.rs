//! What is due at one destination.

use crate::{Amount, Earlier, Selection};

/// Lines of the batch that are due at one destination by one route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The destination's name.
    pub destination: String,
    /// The route's name.
    pub route: String,
    /// The batch's lines that are due there.
    pub selection: Selection,
    /// How these events stood before the steps of the destination.
    pub earlier: Earlier,
    /// How many events, of how many bytes (line ends not counted).
    pub amount: Amount,
}
