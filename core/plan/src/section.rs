//! What stands in a document: sections and their entries, each with its place.

use std::ops::Range;

use rockrose_ledger::Price;

use super::keys::Key;

/// Something with its place in the document.
#[derive(Clone, Debug)]
pub(super) struct At<T> {
    pub(super) value: T,
    pub(super) at: Range<usize>,
}

/// A value of the right sort, its meaning not yet looked at.
#[derive(Clone, Debug)]
pub(super) enum Raw {
    Text(String),
    Texts(Vec<At<String>>),
    Truth(bool),
    Count(u64),
    Secret(At<String>),
    Price(Price),
    Headers(Vec<(At<String>, HeaderValue)>),
    Expectations(Vec<(At<String>, At<String>)>),
}

/// What a header says, as written.
#[derive(Clone, Debug)]
pub(super) enum HeaderValue {
    Text(At<String>),
    Secret(At<String>),
}

/// A source, destination, route or recipe as written.
#[derive(Clone, Debug)]
pub(super) struct Section {
    /// Its name; of a route, found in the check.
    pub(super) name: At<String>,
    pub(super) entries: Vec<(&'static Key, At<Raw>)>,
    /// Some of it could not be read: what seems to be missing may be that.
    pub(super) flawed: bool,
}

impl Section {
    pub(super) fn get(&self, name: &str) -> Option<&At<Raw>> {
        self.entries.iter().find(|(k, _)| k.name == name).map(|(_, v)| v)
    }

    pub(super) fn text(&self, name: &str) -> Option<At<&str>> {
        match self.get(name) {
            Some(At { value: Raw::Text(text), at }) => Some(At { value: text, at: at.clone() }),
            _ => None,
        }
    }

    pub(super) fn texts(&self, name: &str) -> &[At<String>] {
        match self.get(name) {
            Some(At { value: Raw::Texts(list), .. }) => list,
            _ => &[],
        }
    }

    pub(super) fn secret(&self, name: &str) -> Option<&At<String>> {
        match self.get(name) {
            Some(At { value: Raw::Secret(secret), .. }) => Some(secret),
            _ => None,
        }
    }
}

/// Where byte `offset` of the decoded text `decoded` stands in the document, when the text was written as the TOML string at `at`.
pub(super) fn inside(document: &str, at: &Range<usize>, decoded: &str, offset: usize) -> usize {
    let written = &document[at.clone()];
    let quote = if written.starts_with("\"\"\"") || written.starts_with("'''") { 3 } else { 1 };
    let literal = written.starts_with('\'');
    let mut from = quote.min(written.len());
    if quote == 3 {
        // A line break right behind the opening quotes is not part of the text.
        from += written[from..].len() - written[from..].strip_prefix("\r\n").or_else(|| written[from..].strip_prefix('\n')).unwrap_or(&written[from..]).len();
    }
    let mut reached = 0;
    let mut rest = &written[from..];
    while reached < offset.min(decoded.len()) {
        let Some(c) = rest.chars().next() else { break };
        let used = if literal || c != '\\' {
            reached += c.len_utf8();
            c.len_utf8()
        } else {
            let hex = |n: usize| rest.get(2..2 + n).and_then(|h| u32::from_str_radix(h, 16).ok()).and_then(char::from_u32).map_or(1, char::len_utf8);
            match rest.as_bytes().get(1) {
                Some(b'x') => {
                    reached += hex(2);
                    4
                }
                Some(b'u') => {
                    reached += hex(4);
                    6
                }
                Some(b'U') => {
                    reached += hex(8);
                    10
                }
                Some(b' ' | b'\t' | b'\r' | b'\n') => rest.len() - rest[1..].trim_start().len(),
                _ => {
                    reached += 1;
                    2
                }
            }
        };
        rest = rest.get(used..).unwrap_or("");
    }
    at.start + written.len() - rest.len()
}
