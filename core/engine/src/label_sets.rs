//! The label sets that a metric has had: so many, and one for all others.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

use rockrose_ledger::OTHER;

/// Most label sets of one metric; further ones count under [`OTHER`].
const MAX_SETS: usize = 1_000;

/// The label sets a metric has had.
#[derive(Debug, Default)]
pub(crate) struct LabelSets {
    known: Mutex<HashSet<Vec<String>>>,
}

impl LabelSets {
    /// The label values as they may be used.
    pub(crate) fn admit(&self, values: Vec<String>) -> Vec<String> {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if known.contains(&values) {
            return values;
        }
        if known.len() >= MAX_SETS {
            return vec![OTHER.to_owned(); values.len()];
        }
        known.insert(values.clone());
        values
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn label_sets_are_bounded() {
        let sets = LabelSets::default();
        for n in 0..MAX_SETS + 50 {
            let admitted = sets.admit(vec![n.to_string()]);
            assert_eq!(admitted[0] == OTHER, n >= MAX_SETS, "{n}");
        }
        assert_eq!(sets.admit(vec!["7".into()]), ["7"]);
    }
}
