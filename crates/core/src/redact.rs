//! Detectors of personal data in text, and masks.
//!
//! A detector is given text with all escapes resolved (never raw JSON, where `\u0040` could hide an `@`) and
//! returns the next span it recognises. It looks at what stands on both sides, so that a card number inside a hexadecimal id is not one.

use std::ops::Range;

use hmac::{Hmac, Mac};
use sha2::Sha256;

use crate::lang::{Detector, Mask};

/// Finds the first span in `text[from..]` that `detector` recognises; offsets count from the start of `text`.
#[must_use]
pub fn find(detector: Detector, text: &[u8], from: usize) -> Option<Range<usize>> {
    match detector {
        Detector::Email => email(text, from),
        Detector::Card => card(text, from),
    }
}

/// Whether `detector` could find anything at all in raw JSON text: a cheap test that never misses.
#[must_use]
pub fn possible(detector: Detector, json: &[u8]) -> bool {
    match detector {
        Detector::Email => memchr::memchr2(b'@', b'\\', json).is_some(),
        Detector::Card => true,
    }
}

fn local(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b >= 0x80 || matches!(b, b'.' | b'_' | b'%' | b'+' | b'-' | b'\'' | b'~' | b'!' | b'#' | b'$' | b'&' | b'*')
}

fn email(text: &[u8], from: usize) -> Option<Range<usize>> {
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
        if start < sign && named && top.len() < domain.len() && labels.clone().all(|l| !l.is_empty()) {
            return Some(start..end);
        }
    }
    None
}

/// Most and fewest digits of a card number (ISO/IEC 7812-1).
const CARD_DIGITS: std::ops::RangeInclusive<usize> = 13..=19;

fn card(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while at + CARD_DIGITS.start() <= text.len() {
        // A number of 13 digits with a separator after each digit at the most has a digit in any two neighbours.
        if !text[at].is_ascii_digit() {
            at += 1;
            continue;
        }
        if let Some(found) = card_at(text, at, from) {
            return Some(found);
        }
        while at < text.len() && text[at].is_ascii_digit() {
            at += 1;
        }
    }
    None
}

fn joins_word(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b == b'_' || b >= 0x80
}

/// A card number that starts at the digit `start`, which begins a run of digits.
fn card_at(text: &[u8], start: usize, floor: usize) -> Option<Range<usize>> {
    if start > floor && (joins_word(text[start - 1]) || (text[start - 1] == b'.' && start > 1 && text[start - 2].is_ascii_digit())) {
        return None;
    }
    let mut digits = [0u8; 19];
    let mut ends = [0usize; 19];
    let (mut count, mut at) = (0, start);
    while count < digits.len() && at < text.len() {
        let b = text[at];
        if b.is_ascii_digit() {
            digits[count] = b - b'0';
            count += 1;
            at += 1;
            ends[count - 1] = at;
        } else if matches!(b, b' ' | b'-') && count > 0 && ends[count - 1] == at && text.get(at + 1).is_some_and(u8::is_ascii_digit) {
            at += 1;
        } else {
            break;
        }
    }
    for n in CARD_DIGITS.rev() {
        if n > count || !matches!(digits[0], 2..=6) {
            continue;
        }
        let end = ends[n - 1];
        let after = text.get(end).copied().unwrap_or(b' ');
        let fraction = after == b'.' && text.get(end + 1).is_some_and(u8::is_ascii_digit);
        let all_same = digits[1..n].iter().all(|d| *d == digits[0]);
        if !joins_word(after) && !fraction && !all_same && luhn(&digits[..n]) {
            return Some(start..end);
        }
    }
    None
}

fn luhn(digits: &[u8]) -> bool {
    let sum: u32 = digits
        .iter()
        .rev()
        .enumerate()
        .map(|(i, &d)| {
            let d = u32::from(d);
            if i % 2 == 0 {
                d
            } else if d > 4 {
                2 * d - 9
            } else {
                2 * d
            }
        })
        .sum();
    sum.is_multiple_of(10)
}

/// The secret under which redacted values are hashed. It is never printed.
#[derive(Clone)]
pub struct HashKey([u8; 32]);

impl HashKey {
    /// A key of 32 random bytes, kept by the caller.
    #[must_use]
    pub fn new(bytes: [u8; 32]) -> HashKey {
        HashKey(bytes)
    }

    /// The first 16 hexadecimal digits of HMAC-SHA-256 (RFC 2104) of `value`.
    #[must_use]
    pub fn digest(&self, value: &[u8]) -> [u8; 16] {
        const HEX: &[u8; 16] = b"0123456789abcdef";
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.0).expect("HMAC takes keys of any length");
        mac.update(value);
        let sum = mac.finalize().into_bytes();
        let mut hex = [0; 16];
        for (pair, byte) in hex.chunks_exact_mut(2).zip(sum.iter()) {
            pair[0] = HEX[(byte >> 4) as usize];
            pair[1] = HEX[(byte & 15) as usize];
        }
        hex
    }
}

impl std::fmt::Debug for HashKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("HashKey(…)")
    }
}

/// Appends what stands in place of `value` (text, escapes resolved) to `out`.
pub fn mask(mask: &Mask, value: &[u8], key: &HashKey, out: &mut Vec<u8>) {
    match mask {
        Mask::Stars => out.extend_from_slice(b"***"),
        Mask::With(text) => out.extend_from_slice(text.as_bytes()),
        Mask::Hash => out.extend_from_slice(&key.digest(value)),
        Mask::KeepLast(n) => {
            out.extend_from_slice(b"***");
            let text = String::from_utf8_lossy(value);
            let kept: Vec<char> = text.chars().filter(|c| !matches!(c, ' ' | '-')).collect();
            // A value that is no longer than what may stay is masked whole.
            if kept.len() > *n {
                out.extend(kept[kept.len() - n..].iter().collect::<String>().as_bytes());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(detector: Detector, text: &str) -> Vec<&str> {
        let mut found = Vec::new();
        let mut at = 0;
        while let Some(span) = find(detector, text.as_bytes(), at) {
            found.push(&text[span.clone()]);
            at = span.end;
        }
        found
    }

    #[test]
    fn finds_email_addresses_and_nothing_like_them() {
        let text = "to ann.o'hara+x@mail.ferries.example, <b@c.example>. mailto:d_e@f-g.example? é@ö.example";
        assert_eq!(all(Detector::Email, text), ["ann.o'hara+x@mail.ferries.example", "b@c.example", "d_e@f-g.example", "é@ö.example"]);
        for none in ["a@b", "@kiosk.example", "user@", "a@b..example", "x @ y.example", "v1.2@3.4", "a@-"] {
            assert!(all(Detector::Email, none).is_empty(), "{none}");
        }
    }

    #[test]
    fn finds_card_numbers_by_luhn_and_by_what_stands_around() {
        let text = "paid 4111 1111 1111 1111, then 5500-0000-0000-0004; 378282246310005 and 4111111111111111.";
        assert_eq!(all(Detector::Card, text), ["4111 1111 1111 1111", "5500-0000-0000-0004", "378282246310005", "4111111111111111"]);
        for none in [
            "4111111111111112",
            "id a4111111111111111",
            "4111111111111111f",
            "0.4111111111111111",
            "41111111111111110000000",
            "1234567890123",
            "0000000000000000",
            "4111  1111 1111 1111",
            "2026-11-23 10:00:00 411111",
        ] {
            assert!(all(Detector::Card, none).is_empty(), "{none}");
        }
        assert_eq!(all(Detector::Card, "4111 1111 1111 1111 2027"), ["4111 1111 1111 1111"]);
        assert_eq!(all(Detector::Card, "ref 12 4111 1111 1111 1111"), ["4111 1111 1111 1111"]);
    }

    #[test]
    fn masks() {
        let key = HashKey::new([7; 32]);
        let done = |m: &Mask, v: &str| {
            let mut out = Vec::new();
            mask(m, v.as_bytes(), &key, &mut out);
            String::from_utf8(out).unwrap()
        };
        assert_eq!(done(&Mask::KeepLast(4), "4111 1111 1111 1234"), "***1234");
        assert_eq!(done(&Mask::KeepLast(4), "1234"), "***");
        assert_eq!(done(&Mask::Stars, "x"), "***");
        assert_eq!(done(&Mask::Hash, "x"), done(&Mask::Hash, "x"));
        assert_ne!(done(&Mask::Hash, "x"), done(&Mask::Hash, "y"));
        assert_eq!(format!("{key:?}"), "HashKey(…)");
    }
}
