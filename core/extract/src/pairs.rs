//! `key=value` pairs.

use super::{Found, MAX_PAIRS};

/// Pairs with white space, commas or semicolons between; values in double quotes where they have spaces. What is no pair is passed over.
pub(super) fn key_value(text: &[u8], found: &mut Found, content: &mut Vec<u8>) -> Option<()> {
    let mut at = 0;
    while at < text.len() && found.pairs.len() < MAX_PAIRS {
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
        if text.get(at) == Some(&b'"') {
            at = quoted(text, at, content);
            let name = found.free(&text[key]);
            found.put(name, |out| super::quote(content, out));
        } else {
            let from = at;
            while at < text.len() && !matches!(text[at], b' ' | b'\t' | b'\n' | b'\r') && !next_pair(text, at) {
                at += 1;
            }
            let mut to = at;
            while to > from && matches!(text[to - 1], b',' | b';') {
                to -= 1;
            }
            let name = found.free(&text[key]);
            found.typed(name, &text[from..to]);
        }
    }
    (!found.pairs.is_empty()).then_some(())
}

/// Whether a comma or semicolon at `at` stands before another key and its `=`: `a=1,b=2`.
fn next_pair(text: &[u8], at: usize) -> bool {
    if !matches!(text[at], b',' | b';') {
        return false;
    }
    let rest = &text[at + 1..];
    let key = rest.iter().take_while(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'.' | b'-')).count();
    key > 0 && rest.get(key) == Some(&b'=')
}

/// Reads a text in double quotes that begins at `at`; returns the place behind it.
fn quoted(text: &[u8], mut at: usize, content: &mut Vec<u8>) -> usize {
    content.clear();
    at += 1;
    while let Some(&b) = text.get(at) {
        at += 1;
        match b {
            b'"' => break,
            b'\\' if at < text.len() => {
                content.push(match text[at] {
                    b'n' => b'\n',
                    b't' => b'\t',
                    other => other,
                });
                at += 1;
            }
            _ => content.push(b),
        }
    }
    at
}
