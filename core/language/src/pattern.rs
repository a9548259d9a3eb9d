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
/// Most memory one may take that groups are taken from, in bytes. Where a group is takes a walk through all of it for each byte, which no automaton shortens.
const GROUPED_SIZE: usize = 256 << 10;
/// Most groups that are taken from one.
const MAX_GROUPS: usize = 32;

impl Pattern {
    /// Compiles it.
    pub fn compile(&self) -> Result<regex::bytes::Regex, regex::Error> {
        self.compile_within(PATTERN_SIZE)
    }

    fn compile_within(&self, size: usize) -> Result<regex::bytes::Regex, regex::Error> {
        regex::bytes::RegexBuilder::new(&self.source).case_insensitive(self.ignore_case).size_limit(size).build()
    }

    /// Why its groups cannot be taken from every event, and what to write instead, if they cannot.
    pub(crate) fn too_many_groups(&self) -> Option<(String, &'static str)> {
        let groups = self.compile().ok()?.captures_len() - 1;
        if groups > MAX_GROUPS {
            return Some((format!("{groups} groups are too many: at most {MAX_GROUPS} are taken"), "`(?:…)` for groups of which nothing is taken"));
        }
        let too_large = groups > 0 && self.compile_within(GROUPED_SIZE).is_err();
        too_large.then(|| ("the regular expression is too large to take groups from".to_owned(), "a shorter one, or one without groups"))
    }
}

impl Display for Pattern {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "/{}/{}", self.source, if self.ignore_case { "i" } else { "" })
    }
}
