//! E-mail addresses.

use std::ops::Range;

fn local(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b >= 0x80 || matches!(b, b'.' | b'_' | b'%' | b'+' | b'-' | b'\'' | b'~' | b'!' | b'#' | b'$' | b'&' | b'*')
}

/// Whether what begins at `start` belongs to what a URL has before its host (`://user:password@`): then the host behind the sign is no e-mail's.
fn is_userinfo(text: &[u8], start: usize) -> bool {
    let ends = |b: &u8| b.is_ascii_whitespace() || matches!(b, b'/' | b'@' | b'"' | b'\'' | b'<' | b'>' | b'\\');
    let begin = text[..start].iter().rposition(ends).map_or(0, |end| end + 1);
    text[..begin].ends_with(b"://")
}

/// How the sign is written in URLs, in HTML and in JSON within a text.
const WRITINGS: [&[u8]; 5] = [b"%40", b"&#64;", b"&#x40;", b"&commat;", b"\\u0040"];

/// The next sign between the two parts of an address, in whatever writing.
#[inline]
fn sign(text: &[u8], from: usize) -> Option<Range<usize>> {
    let plain = memchr::memchr(b'@', &text[from..]).map(|step| from + step);
    let until = plain.unwrap_or(text.len());
    match memchr::memchr3(b'%', b'&', b'\\', &text[from..until]) {
        Some(step) => written_otherwise(text, from + step, until).or(plain.map(|at| at..at + 1)),
        None => plain.map(|at| at..at + 1),
    }
}

/// The first sign in another writing that begins in `from..until`.
#[cold]
fn written_otherwise(text: &[u8], from: usize, until: usize) -> Option<Range<usize>> {
    let mut at = from;
    loop {
        let writing = WRITINGS.iter().find(|w| text[at..].get(..w.len()).is_some_and(|t| t.eq_ignore_ascii_case(w)));
        if let Some(writing) = writing {
            return Some(at..at + writing.len());
        }
        at += 1 + memchr::memchr3(b'%', b'&', b'\\', text.get(at + 1..until)?)?;
    }
}

pub(super) fn find(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while let Some(Range { start: sign, end: behind }) = sign(text, at) {
        at = behind;
        let mut start = sign;
        while start > from && local(text[start - 1]) {
            start -= 1;
        }
        // What only decorates the beginning is no part of an address.
        while start < sign && matches!(text[start], b'.' | b'\'' | b'*' | b'&' | b'~' | b'!' | b'#' | b'$' | b'-') {
            start += 1;
        }
        let mut end = behind;
        while end < text.len() && (text[end].is_ascii_alphanumeric() || text[end] >= 0x80 || matches!(text[end], b'.' | b'-')) {
            end += 1;
        }
        while end > behind && matches!(text[end - 1], b'.' | b'-') {
            end -= 1;
        }
        let domain = &text[behind..end];
        let top = domain.rsplit(|b| *b == b'.').next().unwrap_or_default();
        let labels = domain.split(|b| *b == b'.');
        let named = top.len() >= 2 && top.iter().all(|b| b.is_ascii_alphabetic() || *b >= 0x80) || top.starts_with(b"xn--");
        if start < sign && named && top.len() < domain.len() && labels.clone().all(|l| !l.is_empty()) && !is_userinfo(text, start) {
            return Some(start..end);
        }
    }
    None
}
