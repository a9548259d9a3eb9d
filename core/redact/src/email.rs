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

pub(super) fn find(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while let Some(step) = memchr::memchr(b'@', &text[at..]) {
        let sign = at + step;
        at = sign + 1;
        let mut start = sign;
        while start > from && local(text[start - 1]) {
            start -= 1;
        }
        // What only decorates the beginning is no part of an address.
        while start < sign && matches!(text[start], b'.' | b'\'' | b'*' | b'&' | b'~' | b'!' | b'#' | b'$' | b'-') {
            start += 1;
        }
        let mut end = sign + 1;
        while end < text.len() && (text[end].is_ascii_alphanumeric() || text[end] >= 0x80 || matches!(text[end], b'.' | b'-')) {
            end += 1;
        }
        while end > sign + 1 && matches!(text[end - 1], b'.' | b'-') {
            end -= 1;
        }
        let domain = &text[sign + 1..end];
        let top = domain.rsplit(|b| *b == b'.').next().unwrap_or_default();
        let labels = domain.split(|b| *b == b'.');
        let named = top.len() >= 2 && top.iter().all(|b| b.is_ascii_alphabetic() || *b >= 0x80) || top.starts_with(b"xn--");
        if start < sign && named && top.len() < domain.len() && labels.clone().all(|l| !l.is_empty()) && !is_userinfo(text, start) {
            return Some(start..end);
        }
    }
    None
}
