//! `kind = "discard"`: events are counted and let go.

use super::{DestinationSection, PlannedDestination};
use crate::checker::Checker;
use crate::keys::Key;

/// A destination that keeps nothing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct DiscardDestination;

impl PlannedDestination for DiscardDestination {
    const WORD: &'static str = "discard";
    const EXAMPLE: &'static str = "";
    const KEYS: &'static [&'static [Key]] = &[];

    fn read(_c: &mut Checker<'_>, _section: DestinationSection<'_>) -> Option<DiscardDestination> {
        Some(DiscardDestination)
    }

    fn address(&self) -> String {
        String::new()
    }
}
