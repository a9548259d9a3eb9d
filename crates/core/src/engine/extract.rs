//! What `parse` reads out of a text: pairs of a name and a JSON value.

use std::net::IpAddr;

use crate::field::FieldTable;
use crate::json::{self, Kind};
use crate::lang::{Part, Place};

/// Most fields one `parse` adds.
const MAX_PAIRS: usize = 512;

/// Names (escapes resolved) and JSON values.
pub(super) type Pairs = Vec<(Vec<u8>, Vec<u8>)>;

/// A compiled format.
#[derive(Debug)]
pub(super) enum Extractor {
    Json,
    KeyValue,
    Template(Vec<Part>),
    Pattern(regex::bytes::Regex, Vec<(usize, String)>),
}

impl Extractor {
    /// Reads `text`; `None` if it is not of this format.
    pub(super) fn read(&self, text: &[u8]) -> Option<Pairs> {
        match self {
            Extractor::Json => object(text),
            Extractor::KeyValue => key_value(text),
            Extractor::Template(parts) => template(parts, text),
            Extractor::Pattern(regex, groups) => {
                let found = regex.captures(text)?;
                let named = groups.iter().filter_map(|(i, name)| Some((name.as_bytes().to_vec(), quoted(found.get(*i)?.as_bytes()))));
                Some(named.collect())
            }
        }
    }
}

fn quoted(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len() + 2);
    // A match can only end inside a character where the pattern works on bytes; what is cut off is shown as such.
    json::quote(String::from_utf8_lossy(text).as_bytes(), &mut out);
    out
}

fn object(text: &[u8]) -> Option<Pairs> {
    let scanned = json::scan(text, FieldTable::none(), &mut Vec::new()).ok()?;
    if !text[scanned.end..].iter().all(u8::is_ascii_whitespace) {
        return None;
    }
    let start = text.iter().position(|b| *b == b'{')?;
    let whole = json::Span { start: start as u32, end: scanned.end as u32, kind: Kind::Object };
    let members = json::members(text, whole);
    if members.len() > MAX_PAIRS {
        return None;
    }
    let pair = |(key, value): (json::Span, json::Span)| {
        let mut token = Vec::with_capacity(value.of(text).len());
        json::minify(value.of(text), &mut token);
        (super::work::name_of(text, key), token)
    };
    Some(members.into_iter().map(pair).collect())
}

/// A number or truth value as it stands, if it is one in JSON's writing; else a string.
fn typed(text: &[u8]) -> Vec<u8> {
    let plain = matches!(text, b"true" | b"false") || json::value_at(text, 0).is_ok_and(|s| s.kind == Kind::Number && s.end as usize == text.len());
    // Long digits are names and ids more often than amounts, and would lose their exactness in many readers.
    if plain && text.len() <= 15 { text.to_vec() } else { quoted(text) }
}

fn key_value(text: &[u8]) -> Option<Pairs> {
    let mut pairs = Pairs::new();
    let mut at = 0;
    while at < text.len() && pairs.len() < MAX_PAIRS {
        if matches!(text[at], b' ' | b'\t' | b',' | b';' | b'\n' | b'\r') {
            at += 1;
            continue;
        }
        let start = at;
        while at < text.len() && !matches!(text[at], b'=' | b' ' | b'\t' | b'\n' | b'\r' | b'"') {
            at += 1;
        }
        let key = start..at;
        if at >= text.len() || text[at] != b'=' || key.is_empty() {
            // A word without a value is no pair; it is passed over.
            at = at.max(start + 1);
            continue;
        }
        at += 1;
        let value = if text.get(at) == Some(&b'"') {
            let mut content = Vec::new();
            at += 1;
            while let Some(&b) = text.get(at) {
                at += 1;
                match b {
                    b'"' => break,
                    b'\\' if at < text.len() => {
                        let escaped = text[at];
                        content.push(match escaped {
                            b'n' => b'\n',
                            b't' => b'\t',
                            other => other,
                        });
                        at += 1;
                    }
                    _ => content.push(b),
                }
            }
            quoted(&content)
        } else {
            let from = at;
            while at < text.len() && !matches!(text[at], b' ' | b'\t' | b'\n' | b'\r') {
                at += 1;
            }
            let mut to = at;
            while to > from && matches!(text[to - 1], b',' | b';') {
                to -= 1;
            }
            typed(&text[from..to])
        };
        pairs.push((text[key].to_vec(), value));
    }
    if pairs.is_empty() { None } else { Some(pairs) }
}

fn template(parts: &[Part], text: &[u8]) -> Option<Pairs> {
    let mut pairs = Pairs::new();
    let mut at = 0;
    let mut rest = parts.iter().peekable();
    while let Some(part) = rest.next() {
        match part {
            Part::Text(literal) => at = text[at..].starts_with(literal.as_bytes()).then_some(at + literal.len())?,
            Part::Field(path, place) => {
                let end = match rest.peek() {
                    Some(Part::Text(next)) => at + memchr::memmem::find(&text[at..], next.as_bytes())?,
                    _ => text.len(),
                };
                pairs.push((path.flat().into_bytes(), place_value(*place, &text[at..end])?));
                at = end;
            }
        }
    }
    (at == text.len()).then_some(pairs)
}

fn place_value(place: Place, text: &[u8]) -> Option<Vec<u8>> {
    let number = |whole: bool| {
        let span = json::value_at(text, 0).ok()?;
        let good = span.kind == Kind::Number && span.start == 0 && span.end as usize == text.len();
        (good && !(whole && text.iter().any(|b| matches!(b, b'.' | b'e' | b'E')))).then(|| text.to_vec())
    };
    match place {
        Place::Text => (!text.is_empty()).then(|| quoted(text)),
        Place::Word => (!text.is_empty() && !text.iter().any(u8::is_ascii_whitespace)).then(|| quoted(text)),
        Place::Integer => number(true),
        Place::Number => number(false),
        Place::Ip => std::str::from_utf8(text).ok()?.parse::<IpAddr>().is_ok().then(|| quoted(text)),
    }
}
