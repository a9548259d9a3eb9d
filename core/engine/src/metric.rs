//! `count` and `measure`: which label values a metric may still take.

use std::collections::HashSet;
use std::sync::{Mutex, PoisonError};

use rockrose_ledger::OTHER;

/// Most label sets of one metric; further ones count under [`OTHER`].
const MAX_SETS: usize = 1_000;
/// Longest label value, in bytes; a longer one is cut.
const MAX_LABEL: usize = 200;
/// The label sets a metric has had.
#[derive(Debug, Default)]
pub(super) struct Sets {
    known: Mutex<HashSet<Vec<String>>>,
}

impl Sets {
    /// The label values as they may be used.
    pub(super) fn admit(&self, values: Vec<String>) -> Vec<String> {
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

/// A label's value, cut to its bound.
pub(super) fn label(text: &[u8]) -> String {
    let mut end = text.len().min(MAX_LABEL);
    while end > 0 && end < text.len() && text[end] & 0xc0 == 0x80 {
        end -= 1;
    }
    String::from_utf8_lossy(&text[..end]).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn label_sets_are_bounded() {
        let sets = Sets::default();
        for n in 0..MAX_SETS + 50 {
            let admitted = sets.admit(vec![n.to_string()]);
            assert_eq!(admitted[0] == OTHER, n >= MAX_SETS, "{n}");
        }
        assert_eq!(sets.admit(vec!["7".into()]), ["7"]);
    }
}
