//! Addresses of networks and of hardware.

use std::net::Ipv6Addr;
use std::ops::Range;

use super::{before, before_word, joins_word, word_before};

/// Words before a number of four parts that make it a version.
const VERSION_WORDS: [&[u8]; 6] = [b"version", b"ver", b"release", b"build", b"firmware", b"rev"];

/// An IPv4 address. A version number of four parts is none, if a word before it says so.
pub(super) fn ipv4(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while let Some(dot) = memchr::memchr(b'.', &text[at..]) {
        // It begins at most three digits before its first dot.
        let dot = at + dot;
        at = dot + 1;
        let mut start = dot;
        while start > from && dot - start < 3 && text[start - 1].is_ascii_digit() {
            start -= 1;
        }
        if start == dot
            || before(text, start, from).is_some_and(|b| joins_word(b) || b == b'.' || (b == b'-' && start >= 2 && text[start - 2].is_ascii_alphanumeric()))
        {
            continue;
        }
        let Some(end) = octets(text, start) else { continue };
        let behind = text.get(end).copied().unwrap_or(b' ');
        let goes_on = joins_word(behind) || (matches!(behind, b'.' | b'-') && text.get(end + 1).is_some_and(u8::is_ascii_alphanumeric));
        let (word, len) = word_before(text, start);
        if !goes_on && !VERSION_WORDS.contains(&&word[..len]) {
            return Some(start..end);
        }
    }
    None
}

/// Where four numbers of at most 255 with dots between end.
fn octets(text: &[u8], start: usize) -> Option<usize> {
    let mut at = start;
    for part in 0..4 {
        if part > 0 {
            if text.get(at) != Some(&b'.') {
                return None;
            }
            at += 1;
        }
        let len = text[at..].iter().take(4).take_while(|b| b.is_ascii_digit()).count();
        let value = text[at..at + len].iter().fold(0u32, |n, b| n * 10 + u32::from(b - b'0'));
        if len == 0 || len > 3 || value > 255 || (len > 1 && text[at] == b'0') {
            return None;
        }
        at += len;
    }
    Some(at)
}

/// An IPv6 address, in any of its writings.
pub(super) fn ipv6(text: &[u8], from: usize) -> Option<Range<usize>> {
    let part = |b: u8| b.is_ascii_hexdigit() || matches!(b, b':' | b'.');
    let mut at = from;
    while let Some(colon) = memchr::memchr(b':', &text[at..]) {
        let colon = at + colon;
        let mut start = colon;
        while start > at && part(text[start - 1]) {
            start -= 1;
        }
        let mut end = colon + 1;
        while end < text.len() && part(text[end]) {
            end += 1;
        }
        at = end;
        // What only ends a sentence or a clause is no part of it.
        while end > start && (text[end - 1] == b'.' || (text[end - 1] == b':' && !text[start..end].ends_with(b"::"))) {
            end -= 1;
        }
        let candidate = &text[start..end];
        let colons = candidate.iter().filter(|b| **b == b':').count();
        let free = !before(text, start, from).is_some_and(joins_word) && !text.get(end).is_some_and(|b| joins_word(*b));
        // Names joined by two colons can look like one.
        let numeric = colons > 2 || candidate.iter().any(u8::is_ascii_digit);
        if colons >= 2
            && candidate.len() > 2
            && candidate.len() <= 45
            && free
            && numeric
            && std::str::from_utf8(candidate).is_ok_and(|t| t.parse::<Ipv6Addr>().is_ok())
        {
            return Some(start..end);
        }
    }
    None
}

/// Words before twelve hexadecimal digits that make them a hardware address.
const MAC_WORDS: [&[u8]; 7] = [b"mac", b"macaddr", b"macaddress", b"hwaddr", b"bssid", b"ether", b"lladdr"];

/// A hardware address: six pairs of hexadecimal digits with colons or dashes between, or three groups of four with dots; behind a word that says so, twelve digits as well.
pub(super) fn mac(text: &[u8], from: usize) -> Option<Range<usize>> {
    match (parted_mac(text, from), plain_mac(text, from)) {
        (Some(parted), Some(plain)) => Some(if parted.start < plain.start { parted } else { plain }),
        (parted, plain) => parted.or(plain),
    }
}

/// Twelve hexadecimal digits behind a word that makes them a hardware address.
fn plain_mac(text: &[u8], from: usize) -> Option<Range<usize>> {
    const DIGITS: usize = 12;
    let mut at = from;
    // Any twelve digits in a row have one at each twelfth place.
    while at + DIGITS <= text.len() {
        let last = at + DIGITS - 1;
        if !text[last].is_ascii_hexdigit() {
            at = last + 1;
            continue;
        }
        let start = text[..last].iter().rposition(|b| !b.is_ascii_hexdigit()).map_or(0, |before| before + 1);
        let end = last + text[last..].iter().take_while(|b| b.is_ascii_hexdigit()).count();
        at = end;
        if start < from || end - start != DIGITS || joins(text, start, end, from) {
            continue;
        }
        let (word, len) = word_before(text, start);
        let said = match &word[..len] {
            b"address" | b"addr" => {
                let (word, len) = word_before(text, before_word(text, start, len));
                MAC_WORDS.contains(&&word[..len])
            }
            word => MAC_WORDS.contains(&word),
        };
        if said {
            return Some(start..end);
        }
    }
    None
}

/// Whether something stands beside a span that belongs to it.
fn joins(text: &[u8], start: usize, end: usize, from: usize) -> bool {
    before(text, start, from).is_some_and(joins_word) || text.get(end).is_some_and(|b| joins_word(*b))
}

fn parted_mac(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while let Some(step) = memchr::memchr3(b':', b'-', b'.', &text[at..]) {
        let gap = at + step;
        at = gap + 1;
        let (size, groups) = if text[gap] == b'.' { (4, 3) } else { (2, 6) };
        if gap < from + size {
            continue;
        }
        let start = gap - size;
        let end = start + size * groups + groups - 1;
        let Some(found) = text.get(start..end) else { continue };
        let sign = text[gap];
        let shaped = found.iter().enumerate().all(|(i, b)| if i % (size + 1) == size { *b == sign } else { b.is_ascii_hexdigit() });
        let joined = |b: u8| joins_word(b) || b == sign;
        let goes_on = text.get(end).is_some_and(|b| joins_word(*b) || (*b == sign && text.get(end + 1).is_some_and(u8::is_ascii_hexdigit)));
        // Digits only, in groups of four: an amount or an id.
        let lettered = sign != b'.' || found.iter().any(u8::is_ascii_alphabetic);
        if shaped && lettered && !goes_on && !before(text, start, from).is_some_and(joined) {
            return Some(start..end);
        }
    }
    None
}
