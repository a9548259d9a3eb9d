//! Regular expressions.

use std::fmt::{self, Display, Formatter};
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use regex_automata::nfa::thompson::WhichCaptures;
use regex_syntax::hir::Hir;

use crate::program::{Program, states};

/// A regular expression as written between slashes. It runs in linear time.
#[derive(Clone, Debug)]
pub struct Pattern {
    /// What stands between the slashes.
    pub source: String,
    /// Written `/…/i`.
    pub ignore_case: bool,
    /// Made once for all who ask, and for copies of this.
    program: OnceLock<Option<Arc<Program>>>,
}

impl PartialEq for Pattern {
    fn eq(&self, other: &Pattern) -> bool {
        (&self.source, self.ignore_case) == (&other.source, other.ignore_case)
    }
}

impl Eq for Pattern {}

/// Most memory one compiled regular expression may take, in bytes.
const PATTERN_SIZE: usize = 2 << 20;
/// Most memory one may take that groups are taken from, in bytes. Where a group is takes a walk through all of it for each byte, which no automaton shortens.
const GROUPED_SIZE: usize = 256 << 10;
/// Most groups that are taken from one.
const MAX_GROUPS: usize = 32;

impl Pattern {
    /// One of which is not known yet whether it is right.
    pub(crate) fn new(source: String, ignore_case: bool) -> Pattern {
        Pattern { source, ignore_case, program: OnceLock::new() }
    }

    /// What can be asked whether it matches; `None` if it is wrong.
    #[must_use]
    pub fn program(&self) -> Option<Arc<Program>> {
        self.program.get_or_init(|| Program::new(&self.source, self.ignore_case, PATTERN_SIZE).map(Arc::new)).clone()
    }

    /// Compiles it, to take groups of what it matches or to replace that.
    pub fn compile(&self) -> Result<regex::bytes::Regex, regex::Error> {
        regex::bytes::RegexBuilder::new(&self.source).case_insensitive(self.ignore_case).size_limit(PATTERN_SIZE).build()
    }

    fn parsed(&self) -> Result<Hir, Box<regex_syntax::Error>> {
        regex_syntax::ParserBuilder::new().case_insensitive(self.ignore_case).utf8(false).build().parse(&self.source).map_err(Box::new)
    }

    /// What is wrong with it, if anything is: where that stands in its source, what it is, and what to write instead, where that is known.
    pub(crate) fn wrong(&self) -> Option<(Range<usize>, String, Option<&'static str>)> {
        const LINEAR: &str = "a second condition, since regular expressions run in linear time here and cannot look around or back";
        if self.program().is_some() {
            return None;
        }
        let (span, says) = match self.parsed().as_ref().map_err(|e| &**e) {
            Err(regex_syntax::Error::Parse(e)) => (*e.span(), e.kind().to_string()),
            Err(regex_syntax::Error::Translate(e)) => (*e.span(), e.kind().to_string()),
            _ => return Some((0..self.source.len(), format!("it takes more than {} MB compiled", PATTERN_SIZE >> 20), Some("a shorter one"))),
        };
        let at = span.start.offset..span.end.offset.max(span.start.offset);
        // What other dialects write behind `(?`, which reads as a flag here.
        let opened = self.source[..at.start].rfind("(?").filter(|open| at.start - open <= 3).unwrap_or(at.start);
        let group = self.source[opened..].strip_prefix("(?").unwrap_or_default();
        let unknown = match group.as_bytes().first() {
            Some(b'>') => Some("atomic groups are not supported"),
            Some(b'R' | b'&' | b'+' | b'0'..=b'9') => Some("recursion is not supported"),
            Some(b'(') => Some("conditional groups are not supported"),
            Some(b'=' | b'!') | Some(b'<') if matches!(group.as_bytes().get(usize::from(group.starts_with('<'))), Some(b'=' | b'!')) => {
                Some("look-around is not supported")
            }
            _ => None,
        };
        match unknown {
            Some(says) => Some((opened..at.end.max(opened + 3).min(self.source.len()), says.to_owned(), Some(LINEAR))),
            None if says.contains("backreference") => Some((at, "back-references are not supported".to_owned(), Some(LINEAR))),
            None => Some((at, says, None)),
        }
    }

    /// Why its groups cannot be taken from every event, and what to write instead, if they cannot.
    pub(crate) fn too_many_groups(&self) -> Option<(String, &'static str)> {
        let groups = self.parsed().ok()?.properties().explicit_captures_len();
        if groups > MAX_GROUPS {
            return Some((format!("{groups} groups are too many: at most {MAX_GROUPS} are taken"), "`(?:…)` for groups of which nothing is taken"));
        }
        let too_large = groups > 0 && states(&self.source, self.ignore_case, GROUPED_SIZE, WhichCaptures::All).is_none();
        too_large.then(|| ("the regular expression is too large to take groups from".to_owned(), "a shorter one, or one without groups"))
    }
}

impl Display for Pattern {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "/{}/{}", self.source, if self.ignore_case { "i" } else { "" })
    }
}
