//! A plan's document as it stands in an editor: perhaps not whole yet, so that it is looked at piece by piece.

use std::ops::Range;

use lsp_types::{Position, Range as Span};
use rockrose_language::SentenceKind;

/// A text in quotes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Quoted {
    /// What stands between the quotes.
    pub(super) at: Range<usize>,
    /// Whether a backslash begins an escape in it.
    pub(super) escapes: bool,
    /// The key whose value it is, or a part of it.
    pub(super) key: String,
    /// The section that it stands in.
    pub(super) section: usize,
}

/// A section: `[source.NAME]`, `[[route]]`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Section {
    /// `source`, `route` …; nothing for the top of the document.
    pub(super) kind: String,
    /// Its name; of a route, what its `name` says.
    pub(super) name: String,
    /// Its header, or of a route the name.
    pub(super) at: Range<usize>,
}

/// A document, cut into sections and quoted texts.
#[derive(Clone, Debug, Default)]
pub(super) struct Document {
    pub(super) text: String,
    pub(super) sections: Vec<Section>,
    pub(super) quoted: Vec<Quoted>,
}

impl Document {
    pub(super) fn new(text: String) -> Document {
        let mut document = Document { text, sections: vec![Section::default()], quoted: Vec::new() };
        document.cut();
        for at in 0..document.quoted.len() {
            let Quoted { at, key, section, .. } = document.quoted[at].clone();
            if key == "name" && matches!(document.sections[section].kind.as_str(), "route") {
                document.sections[section].name = document.text[at.clone()].to_owned();
                document.sections[section].at = at;
            }
        }
        document
    }

    fn cut(&mut self) {
        let text = self.text.clone();
        let bytes = text.as_bytes();
        let (mut at, mut depth, mut key) = (0, 0usize, String::new());
        // Whether the present line begins a new entry.
        let mut fresh = true;
        while at < bytes.len() {
            match bytes[at] {
                b'\n' => {
                    fresh = depth == 0;
                    at += 1;
                }
                b'#' => at = line_end(&text, at),
                b'[' if fresh => {
                    let end = line_end(&text, at);
                    let header = text[at..end].split('#').next().unwrap_or_default().trim();
                    let inner = header.trim_matches(['[', ']']);
                    let (kind, name) = inner.split_once('.').unwrap_or((inner, ""));
                    self.sections.push(Section { kind: kind.trim().to_owned(), name: name.trim().trim_matches('"').to_owned(), at: at..at + header.len() });
                    (at, key) = (end, String::new());
                }
                b'"' | b'\'' => {
                    let (content, next) = quoted(&text, at);
                    let section = self.sections.len() - 1;
                    // A key may be in quotes as well.
                    self.quoted.push(Quoted { at: content, escapes: bytes[at] == b'"', key: key.clone(), section });
                    (at, fresh) = (next, false);
                }
                b'[' | b'{' | b']' | b'}' => {
                    depth = if matches!(bytes[at], b'[' | b'{') { depth + 1 } else { depth.saturating_sub(1) };
                    at += 1;
                }
                b if fresh && (b.is_ascii_alphanumeric() || b == b'_') => {
                    let end = text[at..].find(|c: char| !(c.is_ascii_alphanumeric() || matches!(c, '_' | '-'))).map_or(text.len(), |n| at + n);
                    (key, at, fresh) = (text[at..end].to_owned(), end, false);
                }
                _ => at += 1,
            }
        }
    }

    /// The quoted text around a place.
    pub(super) fn quoted_at(&self, place: usize) -> Option<&Quoted> {
        self.quoted.iter().find(|q| q.at.start <= place && place <= q.at.end)
    }

    /// The section around a place.
    pub(super) fn section_at(&self, place: usize) -> &Section {
        self.sections.iter().rev().find(|s| s.at.start <= place || s.kind.is_empty()).unwrap_or(&self.sections[0])
    }

    /// The names of the sections of a kind.
    pub(super) fn names(&self, kind: &str) -> Vec<String> {
        self.sections.iter().filter(|s| s.kind == kind && !s.name.is_empty()).map(|s| s.name.clone()).collect()
    }

    pub(super) fn section(&self, kind: &str, name: &str) -> Option<&Section> {
        self.sections.iter().find(|s| s.kind == kind && s.name == name)
    }

    /// The texts of a key in a section.
    pub(super) fn texts<'a>(&'a self, section: &'a Section, key: &'a str) -> impl Iterator<Item = &'a str> {
        self.quoted.iter().filter(move |q| q.key == key && self.sections[q.section] == *section).map(|q| &self.text[q.at.clone()])
    }

    /// The place of a position, whose columns count UTF-16 units.
    pub(super) fn place(&self, position: Position) -> usize {
        let start = self.line_start(position.line as usize);
        let line = self.text[start..].split('\n').next().unwrap_or_default();
        let mut units = position.character as usize;
        let mut end = 0;
        for c in line.chars() {
            if units == 0 {
                break;
            }
            units = units.saturating_sub(c.len_utf16());
            end += c.len_utf8();
        }
        start + end
    }

    fn line_start(&self, line: usize) -> usize {
        if line == 0 { 0 } else { self.text.match_indices('\n').nth(line - 1).map_or(self.text.len(), |(at, _)| at + 1) }
    }

    pub(super) fn position(&self, place: usize) -> Position {
        let before = &self.text[..place.min(self.text.len())];
        let line = before.matches('\n').count();
        let column = before.rsplit('\n').next().unwrap_or_default().encode_utf16().count();
        Position::new(line as u32, column as u32)
    }

    pub(super) fn span(&self, at: &Range<usize>) -> Span {
        Span::new(self.position(at.start), self.position(at.end))
    }

    /// The span of a report: its line, its column and its length in characters, from 1.
    pub(super) fn reported(&self, line: usize, column: usize, length: usize) -> Span {
        let start = self.line_start(line.saturating_sub(1));
        let text = self.text[start..].split('\n').next().unwrap_or_default();
        let at = |chars: usize| start + text.char_indices().nth(chars).map_or(text.len(), |(at, _)| at);
        self.span(&(at(column.saturating_sub(1))..at(column.saturating_sub(1) + length.max(1))))
    }
}

fn line_end(text: &str, at: usize) -> usize {
    text[at..].find('\n').map_or(text.len(), |n| at + n)
}

/// What stands between the quotes that begin at `at`, and where the text goes on behind them. One that is not closed ends with its line.
fn quoted(text: &str, at: usize) -> (Range<usize>, usize) {
    let quote = &text[at..=at];
    let triple = quote.repeat(3);
    if text[at..].starts_with(&triple) {
        let start = at + 3;
        let end = text[start..].find(&triple).map_or(text.len(), |n| start + n);
        return (start..end, (end + 3).min(text.len()));
    }
    let (start, end) = (at + 1, line_end(text, at));
    let mut escaped = false;
    for (n, c) in text[start..end].char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quote == "\"" => escaped = true,
            c if quote.starts_with(c) => return (start..start + n, start + n + 1),
            _ => {}
        }
    }
    (start..end, end)
}

impl Quoted {
    /// Which sort of sentence it is, if it is one.
    pub(super) fn sentence(&self) -> Option<SentenceKind> {
        match self.key.as_str() {
            "on_arrival" | "do" | "always" | "steps" => Some(SentenceKind::Step),
            "when" | "until" | "expect" => Some(SentenceKind::Condition),
            _ => None,
        }
    }

    /// As it is meant, up to a place of the document.
    pub(super) fn decoded(&self, document: &str, until: usize) -> String {
        let written = &document[self.at.start..until.clamp(self.at.start, self.at.end)];
        if !self.escapes {
            return written.to_owned();
        }
        let (mut out, mut chars) = (String::new(), written.chars());
        while let Some(c) = chars.next() {
            match (c, chars.as_str().chars().next()) {
                ('\\', Some(next)) => {
                    out.push(match next {
                        'n' => '\n',
                        't' => '\t',
                        other => other,
                    });
                    chars.next();
                }
                _ => out.push(c),
            }
        }
        out
    }

    /// Where byte `from` of what is meant is written.
    pub(super) fn written_at(&self, document: &str, from: usize) -> usize {
        let ends = document[self.at.clone()].char_indices().map(|(n, _)| self.at.start + n).chain([self.at.end]);
        ends.filter(|at| self.decoded(document, *at).len() >= from).min().unwrap_or(self.at.end)
    }

    /// A proposal as it is written between these quotes.
    pub(super) fn written(&self, text: &str) -> String {
        if self.escapes { text.replace('\\', "\\\\").replace('"', "\\\"") } else { text.to_owned() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = "# A plan.\n[source.gates]\nkind = \"http\"\non_arrival = [\n    'drop a = \"x\"', # no \"text\"\n    \"tag b = \\\"y\\\"\",\n]\n[[route]]\nname = \"all\"\nwhen = 'ga\nto = [\"desk\"]\n";

    #[test]
    fn a_document_is_cut_even_where_a_text_is_not_closed() {
        let document = Document::new(PLAN.to_owned());
        let texts: Vec<(&str, &str)> = document.quoted.iter().map(|q| (q.key.as_str(), &PLAN[q.at.clone()])).collect();
        assert_eq!(
            texts,
            [("kind", "http"), ("on_arrival", "drop a = \"x\""), ("on_arrival", "tag b = \\\"y\\\""), ("name", "all"), ("when", "ga"), ("to", "desk")]
        );
        assert_eq!(document.sections.iter().map(|s| (s.kind.as_str(), s.name.as_str())).collect::<Vec<_>>(), [("", ""), ("source", "gates"), ("route", "all")]);
        let step = &document.quoted[2];
        assert_eq!(step.decoded(PLAN, step.at.end), "tag b = \"y\"");
        assert_eq!(&PLAN[step.written_at(PLAN, 8)..step.at.end], "\\\"y\\\"");
        assert_eq!((step.written("\"z\""), document.quoted[1].written("\"z\"")), ("\\\"z\\\"".to_owned(), "\"z\"".to_owned()));
        let open = PLAN.find("'ga").unwrap() + 3;
        assert_eq!(document.quoted_at(open).map(|q| q.key.as_str()), Some("when"));
        assert_eq!((document.section_at(open).name.as_str(), document.position(open)), ("all", Position::new(9, 10)));
        assert_eq!(document.place(Position::new(9, 10)), open);
        let umlaut = Document::new("a = \"é𝄞x\"\n".to_owned());
        assert_eq!((umlaut.position(11), umlaut.place(Position::new(0, 8))), (Position::new(0, 8), 11));
        assert_eq!(umlaut.reported(1, 6, 2), Span::new(Position::new(0, 5), Position::new(0, 8)));
    }
}
