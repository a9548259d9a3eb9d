//! Goes through JSON that is known to be valid: its members, its tokens, its depth.

use super::Scanner;
use super::guide::Guide;
use crate::field::{FieldTable, NONE};
use crate::json::{Kind, Span};

/// How many levels of objects and arrays the valid value `token` has.
pub fn depth(token: &[u8]) -> usize {
    let (mut deepest, mut now, mut at) = (0usize, 0usize, 0);
    while let Some(b) = token.get(at) {
        match b {
            b'"' => {
                // Past the string, its escaped quotes included.
                at += 1;
                while let Some(c) = token.get(at).filter(|c| **c != b'"') {
                    at += if *c == b'\\' { 2 } else { 1 };
                }
            }
            b'{' | b'[' => {
                now += 1;
                deepest = deepest.max(now);
            }
            b'}' | b']' => now = now.saturating_sub(1),
            _ => {}
        }
        at += 1;
    }
    deepest
}

/// Walks the members of the valid object at `object`: for each, the span of its key (quotes included) and of its value.
pub fn members(json: &[u8], object: Span) -> Vec<(Span, Span)> {
    let mut guide = Guide::default();
    let mut s = Scanner::relaxed(json, object.start as usize + 1, FieldTable::none(), &mut guide);
    let mut found = Vec::new();
    loop {
        s.space();
        match s.peek() {
            Some(b'"') => {}
            Some(b',') => {
                s.at += 1;
                continue;
            }
            _ => return found,
        }
        let start = s.at as u32;
        let Ok(kind) = s.string() else { return found };
        let key = Span { start, end: s.at as u32, kind };
        s.space();
        s.at += 1;
        s.space();
        let start = s.at as u32;
        let Ok(kind) = s.value(NONE, &mut [], 0) else { return found };
        found.push((key, Span { start, end: s.at as u32, kind }));
    }
}

/// All values inside `within` that the names `path` lead to: through the items of every list on the way, and by members whose own names have dots (`a.b.c` in `{"a.b":{"c":…}}`).
/// The text must be valid JSON, no deeper than an event.
pub fn reach(json: &[u8], within: Span, path: &[String], found: &mut Vec<Span>) {
    match within.kind {
        _ if path.is_empty() => found.push(within),
        Kind::Object => {
            for (key, value) in members(json, within) {
                let written = &json[key.start as usize + 1..key.end as usize - 1];
                let unescaped;
                let name = if key.kind == Kind::EscapedText {
                    let mut out = Vec::new();
                    crate::json::unescape(written, &mut out);
                    unescaped = out;
                    &unescaped[..]
                } else {
                    written
                };
                let mut joined = String::new();
                for (at, segment) in path.iter().enumerate() {
                    joined.push_str(segment);
                    if joined.as_bytes() == name {
                        reach(json, value, &path[at + 1..], found);
                    }
                    joined.push('.');
                }
            }
        }
        Kind::Array => {
            let skip = |mut at: usize| {
                while json.get(at).is_some_and(|b| matches!(b, b' ' | b'\t' | b'\n' | b'\r' | b',')) {
                    at += 1;
                }
                at
            };
            let mut at = skip(within.start as usize + 1);
            while at + 1 < within.end as usize {
                let Ok(item) = super::value_at(json, at) else { return };
                reach(json, item, path, found);
                at = skip(item.end as usize);
            }
        }
        _ => {}
    }
}

/// Every string and number token inside `within` (which covers valid JSON), in order; `true` for a member's name.
pub fn tokens(json: &[u8], within: Span, mut each: impl FnMut(Span, bool)) {
    let mut guide = Guide::default();
    let mut s = Scanner::relaxed(json, within.start as usize, FieldTable::none(), &mut guide);
    while s.at < within.end as usize {
        match json[s.at] {
            b'"' => {
                let start = s.at as u32;
                let Ok(kind) = s.string() else { return };
                let span = Span { start, end: s.at as u32, kind };
                let mut next = s.at;
                while matches!(json.get(next), Some(b' ' | b'\t' | b'\n' | b'\r')) {
                    next += 1;
                }
                each(span, json.get(next) == Some(&b':') && next < within.end as usize);
            }
            b'-' | b'0'..=b'9' => {
                let start = s.at as u32;
                let Ok(kind) = s.number() else { return };
                each(Span { start, end: s.at as u32, kind }, false);
            }
            _ => s.at += 1,
        }
    }
}

/// Appends the valid JSON in `json` to `out` without the white space between its tokens, so that it is one line.
pub fn minify(json: &[u8], out: &mut Vec<u8>) {
    let mut guide = Guide::default();
    let mut s = Scanner::relaxed(json, 0, FieldTable::none(), &mut guide);
    while let Some(b) = s.peek() {
        match b {
            b'"' => {
                let from = s.at;
                if s.string().is_err() {
                    return;
                }
                out.extend_from_slice(&json[from..s.at]);
            }
            b' ' | b'\n' | b'\r' | b'\t' => s.at += 1,
            _ => {
                out.push(b);
                s.at += 1;
            }
        }
    }
}
