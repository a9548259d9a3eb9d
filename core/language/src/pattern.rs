//! Regular expressions.

use std::fmt::{self, Display, Formatter};

/// A regular expression as written between slashes. It runs in linear time.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    /// What stands between the slashes.
    pub source: String,
    /// Written `/…/i`.
    pub ignore_case: bool,
}

/// Most memory one compiled regular expression may take, in bytes.
const PATTERN_SIZE: usize = 2 << 20;

impl Pattern {
    /// Compiles it.
    pub fn compile(&self) -> Result<regex::bytes::Regex, regex::Error> {
        regex::bytes::RegexBuilder::new(&self.source).case_insensitive(self.ignore_case).size_limit(PATTERN_SIZE).build()
    }
}

impl Display for Pattern {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "/{}/{}", self.source, if self.ignore_case { "i" } else { "" })
    }
}
