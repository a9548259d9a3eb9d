//! E-mail addresses.

use std::ops::Range;

fn local(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b >= 0x80 || matches!(b, b'.' | b'_' | b'%' | b'+' | b'-' | b'\'' | b'~' | b'!' | b'#' | b'$' | b'&' | b'*')
}

/// So many bytes before a sign are looked at: an address has at most 64 before it, which URLs write with up to three bytes each.
const MOST_BEFORE: usize = 256;

/// Whether what begins at `start` belongs to what a URL has before its host (`://user:password@`): then the host behind the sign is no e-mail's.
fn is_userinfo(text: &[u8], start: usize) -> bool {
    let ends = |b: &u8| b.is_ascii_whitespace() || matches!(b, b'/' | b'@' | b'"' | b'\'' | b'<' | b'>' | b'\\');
    let floor = start.saturating_sub(MOST_BEFORE);
    let begin = text[floor..start].iter().rposition(ends).map_or(floor, |end| floor + end + 1);
    text[..begin].ends_with(b"://")
}

/// How the sign is written in URLs, in HTML and in JSON within a text.
const WRITINGS: [&[u8]; 5] = [b"%40", b"&#64;", b"&#x40;", b"&commat;", b"\\u0040"];
/// So many bytes are searched for the plain sign before the other writings are looked for in them: to look for the one to the text's end, for each of the others, would go over it again and again.
const WINDOW: usize = 512;

/// The next sign between the two parts of an address, in whatever writing.
#[inline]
fn sign(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while at < text.len() {
        let end = (at + WINDOW).min(text.len());
        let plain = memchr::memchr(b'@', &text[at..end]).map(|step| at + step);
        let until = plain.unwrap_or(end);
        let other = memchr::memchr3(b'%', b'&', b'\\', &text[at..until]).and_then(|step| written_otherwise(text, at + step, until));
        if let Some(found) = other.or(plain.map(|at| at..at + 1)) {
            return Some(found);
        }
        at = end;
    }
    None
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

/// Endings of files that are no domain's.
const FILES: [&[u8]; 18] =
    [b"png", b"jpg", b"jpeg", b"gif", b"svg", b"webp", b"ico", b"css", b"js", b"json", b"html", b"htm", b"map", b"txt", b"log", b"xml", b"yaml", b"pdf"];
/// Names under which programs of version control sign in.
const PROGRAMS: [&[u8]; 3] = [b"git", b"hg", b"svn"];

/// Whether what is found is a file with an `@` in its name, or a repository's address (`git@host:path`).
fn is_other(local: &[u8], top: &[u8], behind: Option<&u8>) -> bool {
    let any = |of: &[&[u8]], is: &[u8]| of.iter().any(|word| is.eq_ignore_ascii_case(word));
    any(&FILES, top) || (any(&PROGRAMS, local) && behind.is_some_and(|b| matches!(b, b':' | b'/')))
}

pub(super) fn find(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while let Some(Range { start: sign, end: behind }) = sign(text, at) {
        at = behind;
        let (mut start, floor) = (sign, from.max(sign.saturating_sub(MOST_BEFORE)));
        while start > floor && local(text[start - 1]) {
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
        let whole = start < sign && named && top.len() < domain.len() && labels.clone().all(|l| !l.is_empty());
        if whole && !is_other(&text[start..sign], top, text.get(end)) && !is_userinfo(text, start) {
            return Some(start..end);
        }
    }
    None
}
