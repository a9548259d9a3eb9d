//! What is wrong with a sentence, and where.

use std::ops::Range;

/// One thing that is wrong with a text, at a place in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mistake {
    /// Bytes of the text it is about; may be empty, at a place where something is missing.
    pub at: Range<usize>,
    /// What is wrong, in words.
    pub message: String,
    /// What could stand there instead, if that can be said.
    pub expected: Option<String>,
    /// The nearest word that would be right.
    pub nearest: Option<String>,
}

impl Mistake {
    /// A mistake at `at`.
    #[must_use]
    pub fn new(at: Range<usize>, message: impl Into<String>) -> Mistake {
        Mistake { at, message: message.into(), expected: None, nearest: None }
    }

    /// Adds what was expected.
    #[must_use]
    pub fn expected(mut self, what: impl Into<String>) -> Mistake {
        self.expected = Some(what.into());
        self
    }

    /// Adds the nearest of `words` to what was written, if one is near.
    #[must_use]
    pub fn near<'a>(mut self, written: &str, words: impl IntoIterator<Item = &'a str>) -> Mistake {
        // The same word, in a place where it cannot stand, is no help.
        self.nearest = nearest(written, words).filter(|word| *word != written).map(str::to_owned);
        self
    }
}

/// The word of `words` nearest to `written`, if it is near enough to be what was meant.
pub fn nearest<'a>(written: &str, words: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let written = written.to_lowercase();
    words
        .into_iter()
        .map(|w| (strsim::damerau_levenshtein(&written, &w.to_lowercase()), w))
        .filter(|(distance, w)| *distance <= 1 + w.len().min(written.len()) / 6)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, w)| w)
}
