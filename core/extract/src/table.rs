//! Values in a row under names that are given: CSV (RFC 4180), values with tabs between, and the W3C extended log format.

use super::{Found, Name};

/// Reads a value in double quotes that begins at `at`, a doubled quote standing for one; returns the place behind it.
fn quoted(text: &[u8], mut at: usize, content: &mut Vec<u8>) -> Option<usize> {
    content.clear();
    at += 1;
    loop {
        let stop = at + memchr::memchr(b'"', text.get(at..)?)?;
        content.extend_from_slice(&text[at..stop]);
        if text.get(stop + 1) != Some(&b'"') {
            return Some(stop + 1);
        }
        content.push(b'"');
        at = stop + 2;
    }
}

/// One record of comma-separated values; there must be as many as names.
pub(super) fn csv(text: &[u8], passed: &[bool], found: &mut Found, content: &mut Vec<u8>) -> Option<()> {
    let text = text.strip_suffix(b"\n").unwrap_or(text);
    let text = text.strip_suffix(b"\r").unwrap_or(text);
    let mut at = 0;
    for (number, passed) in passed.iter().enumerate() {
        if number > 0 {
            if text.get(at) != Some(&b',') {
                return None;
            }
            at += 1;
        }
        if text.get(at) == Some(&b'"') {
            at = quoted(text, at, content)?;
            if !passed {
                found.text(number, content);
            }
        } else {
            let end = at + memchr::memchr(b',', &text[at..]).unwrap_or(text.len() - at);
            if !passed {
                found.typed(Name::Known(number as u16), &text[at..end]);
            }
            at = end;
        }
    }
    (at == text.len()).then_some(())
}

/// One record of values with tabs between; there must be as many as names. `-`, `(empty)` and nothing at all are none. A line that begins with `#` is a directive and no event.
pub(super) fn tsv(text: &[u8], passed: &[bool], found: &mut Found) -> Option<()> {
    let text = text.strip_suffix(b"\n").unwrap_or(text);
    let text = text.strip_suffix(b"\r").unwrap_or(text);
    if text.first() == Some(&b'#') {
        return None;
    }
    let mut values = text.split(|b| *b == b'\t');
    for (number, passed) in passed.iter().enumerate() {
        let value = values.next()?;
        if !passed && !matches!(value, b"" | b"-" | b"(empty)") {
            found.typed(Name::Known(number as u16), value);
        }
    }
    values.next().is_none().then_some(())
}

/// One line of values with white space between; `-` is none. A line that begins with `#` is a directive and no event.
pub(super) fn w3c(text: &[u8], passed: &[bool], found: &mut Found, content: &mut Vec<u8>) -> Option<()> {
    let text = text.trim_ascii();
    if text.first() == Some(&b'#') {
        return None;
    }
    let mut at = 0;
    for (number, passed) in passed.iter().enumerate() {
        while matches!(text.get(at), Some(b' ' | b'\t')) {
            at += 1;
        }
        if text.get(at)? == &b'"' {
            at = quoted(text, at, content)?;
            if !passed {
                found.text(number, content);
            }
        } else {
            let end = at + text[at..].iter().position(|b| matches!(b, b' ' | b'\t')).unwrap_or(text.len() - at);
            let value = &text[at..end];
            if !passed && value != b"-" {
                found.typed(Name::Known(number as u16), value);
            }
            at = end;
        }
    }
    (at == text.len()).then_some(())
}
