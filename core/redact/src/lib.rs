#![doc = include_str!("crate.md")]

mod email;
mod features;
mod network;
mod numbers;
mod phone;
mod secrets;

use std::ops::Range;

use hmac::{Hmac, Mac};
use rockrose_language::{Detector, Mask};
use sha2::Sha256;

pub use features::Features;
pub use secrets::names_a_secret;

/// Finds the first span in `text[from..]` that `detector` recognises; offsets count from the start of `text`.
#[must_use]
pub fn find(detector: Detector, text: &[u8], from: usize) -> Option<Range<usize>> {
    match detector {
        Detector::Email => email::find(text, from),
        Detector::Card => numbers::card(text, from),
        Detector::Iban => numbers::iban(text, from),
        Detector::Phone => phone::find(text, from),
        Detector::NationalId => numbers::national_id(text, from),
        Detector::Ipv4 => network::ipv4(text, from),
        Detector::Ipv6 => network::ipv6(text, from),
        Detector::Mac => network::mac(text, from),
        Detector::Secret => secrets::secret(text, from),
        Detector::UrlPassword => secrets::url_password(text, from),
        Detector::PrivateKey => secrets::private_key(text, from),
    }
}

/// Up to so many bytes a text is short.
const SHORT: usize = 128;

/// Whether `detector` could find anything at all in raw JSON text: a cheap test that never misses.
#[inline]
#[must_use]
pub fn possible(detector: Detector, json: &[u8]) -> bool {
    match detector {
        // Of a short text all bytes are looked at together, which is no dearer than one search.
        Detector::Email if json.len() <= SHORT => json.iter().fold(false, |any, b| any | matches!(b, b'@' | b'\\' | b'%' | b'&')),
        Detector::Email => memchr::memchr3(b'@', b'\\', b'%', json).is_some() || memchr::memchr(b'&', json).is_some(),
        _ => true,
    }
}

/// What joins what stands before or behind it to one word.
fn joins_word(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b == b'_' || b >= 0x80
}

/// The word (lower case, at most 16 bytes) right before `at`, blanks and signs such as `:` and `=` skipped.
fn word_before(text: &[u8], at: usize) -> ([u8; 16], usize) {
    let mut end = at;
    while end > 0 && matches!(text[end - 1], b' ' | b':' | b'=' | b'"' | b'\'') {
        end -= 1;
    }
    let mut start = end;
    while start > 0 && end - start < 16 && text[start - 1].is_ascii_alphabetic() {
        start -= 1;
    }
    let mut word = [0; 16];
    for (to, from) in word.iter_mut().zip(&text[start..end]) {
        *to = from.to_ascii_lowercase();
    }
    (word, end - start)
}

/// Where what stands before the word of `len` letters ends that [`word_before`] found before `at`: what joins the two is skipped.
fn before_word(text: &[u8], at: usize, len: usize) -> usize {
    let word = at - text[..at].iter().rev().take_while(|b| !b.is_ascii_alphabetic()).count() - len;
    word - text[..word].iter().rev().take_while(|b| matches!(b, b' ' | b'_' | b'-')).count()
}

/// Whether `text` ends with `word`, whatever the case of its letters.
fn ends_with(text: &[u8], word: &[u8]) -> bool {
    text.len().checked_sub(word.len()).is_some_and(|at| text[at..].eq_ignore_ascii_case(word))
}

/// The byte before `at`, if there is one at or behind `floor`.
fn before(text: &[u8], at: usize, floor: usize) -> Option<u8> {
    (at > floor).then(|| text[at - 1])
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

/// How many characters of a value a mask lets be seen: the fewer, the more protective it is.
#[must_use]
pub fn shows(mask: &Mask) -> usize {
    match mask {
        Mask::Stars | Mask::With(_) | Mask::Hash => 0,
        Mask::KeepLast(n) | Mask::KeepFirst(n) => *n,
    }
}

/// Appends what stands in place of `value` (text, escapes resolved) to `out`.
pub fn mask(mask: &Mask, value: &[u8], key: &HashKey, out: &mut Vec<u8>) {
    match mask {
        Mask::Stars => out.extend_from_slice(b"***"),
        Mask::With(text) => out.extend_from_slice(text.as_bytes()),
        Mask::Hash => out.extend_from_slice(&key.digest(value)),
        Mask::KeepLast(n) | Mask::KeepFirst(n) => {
            let text = String::from_utf8_lossy(value);
            let plain: Vec<char> = text.chars().filter(|c| !matches!(c, ' ' | '-')).collect();
            // A value that is no longer than what may stay is masked whole.
            let kept = |range: Range<usize>| if plain.len() > *n { plain[range].iter().collect() } else { String::new() };
            if matches!(mask, Mask::KeepFirst(_)) {
                out.extend_from_slice(kept(0..(*n).min(plain.len())).as_bytes());
                out.extend_from_slice(b"***");
            } else {
                out.extend_from_slice(b"***");
                out.extend_from_slice(kept(plain.len().saturating_sub(*n)..plain.len()).as_bytes());
            }
        }
    }
}

#[cfg(test)]
mod tests;
#[cfg(test)]
mod writings_tests;
#[cfg(test)]
mod unit {
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
        for written in ["ann%40post.example", "ann&#64;post.example", "ann&#X40;post.example", "ann&commat;post.example", "ann\\u0040post.example"] {
            assert_eq!(all(Detector::Email, &format!("?to={written}&x=1 & 40%")), [written]);
        }
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
        assert_eq!(done(&Mask::KeepFirst(2), "ann@kiosk.example"), "an***");
        assert_eq!(done(&Mask::KeepFirst(4), "1234"), "***");
        assert_eq!(done(&Mask::Stars, "x"), "***");
        assert_eq!(done(&Mask::Hash, "x"), done(&Mask::Hash, "x"));
        assert_ne!(done(&Mask::Hash, "x"), done(&Mask::Hash, "y"));
        assert_eq!(format!("{key:?}"), "HashKey(…)");
    }
}
