//! Mistakes in a document, as a reader wants them: line, column, the line itself, a caret.

use std::fmt;

use rockrose_language::Mistake;
use serde::Serialize;

/// One mistake, placed in its document.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Report {
    /// Its line, from 1.
    pub line: usize,
    /// Its column in characters, from 1.
    pub column: usize,
    /// How many characters it covers, at least 1.
    pub length: usize,
    /// What is wrong.
    pub message: String,
    /// What could stand there instead.
    pub expected: Option<String>,
    /// The nearest word that would be right.
    pub nearest: Option<String>,
    /// The line it stands on.
    pub excerpt: String,
}

/// Longest list of what was expected that stands beside a suggestion, in characters.
const MAX_EXPECTED: usize = 100;
/// Longest excerpt that is shown, in characters.
const MAX_EXCERPT: usize = 160;

impl Report {
    /// Places `mistake` in `document`.
    #[must_use]
    pub fn new(document: &str, mistake: &Mistake) -> Report {
        let floor = |mut at: usize| {
            at = at.min(document.len());
            while !document.is_char_boundary(at) {
                at -= 1;
            }
            at
        };
        let (start, end) = (floor(mistake.at.start), floor(mistake.at.end.max(mistake.at.start)));
        let line_start = document[..start].rfind('\n').map_or(0, |n| n + 1);
        let line_end = document[start..].find('\n').map_or(document.len(), |n| start + n);
        let text = document[line_start..line_end].trim_end_matches('\r');
        let before = document[line_start..start].chars().count();
        let length = document[start..end.min(line_end)].chars().count().max(1);
        // A very long line is shown around the place.
        let skip = if before > MAX_EXCERPT { before - MAX_EXCERPT / 2 } else { 0 };
        let excerpt: String = text.chars().skip(skip).take(MAX_EXCERPT).collect();
        Report {
            line: 1 + document[..line_start].matches('\n').count(),
            column: before + 1,
            length: length.min(MAX_EXCERPT),
            message: mistake.message.clone(),
            expected: mistake.expected.clone(),
            nearest: mistake.nearest.clone(),
            excerpt: if skip > 0 { format!("…{excerpt}") } else { excerpt },
        }
    }

    /// The mistake in full, for a terminal: what, where in `name`, the line with a caret below it, and what to write instead.
    #[must_use]
    pub fn render(&self, name: &str) -> String {
        let number = self.line.to_string();
        let pad = " ".repeat(number.len());
        let shown = if let Some(rest) = self.excerpt.strip_prefix('…') { MAX_EXCERPT / 2 + usize::from(!rest.is_empty()) } else { self.column - 1 };
        // Tabs keep their width under the caret.
        let indent: String = self.excerpt.chars().take(shown).map(|c| if c == '\t' { '\t' } else { ' ' }).collect();
        let mut out = format!("{name}:{}:{}: {}\n", self.line, self.column, self.message);
        out.push_str(&format!(" {number} | {}\n {pad} | {indent}{}\n", self.excerpt, "^".repeat(self.length)));
        if let Some(nearest) = &self.nearest {
            out.push_str(&format!(" {pad} = did you mean `{nearest}`?\n"));
        }
        if let Some(expected) = self.short_expected() {
            out.push_str(&format!(" {pad} = expected {expected}\n"));
        }
        out
    }

    /// What was expected; a long list is no help beside a suggestion.
    fn short_expected(&self) -> Option<&str> {
        self.expected.as_deref().filter(|expected| self.nearest.is_none() || expected.chars().count() <= MAX_EXPECTED)
    }
}

impl fmt::Display for Report {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}, column {}: {}", self.line, self.column, self.message)?;
        if let Some(nearest) = &self.nearest {
            write!(f, "; did you mean `{nearest}`?")?;
        }
        if let Some(expected) = self.short_expected() {
            write!(f, "; expected {expected}")?;
        }
        Ok(())
    }
}
