//! Numbers that people have: of cards, accounts and identities.

use std::ops::Range;

use super::{before, before_word, joins_word, word_before};

/// Most and fewest digits of a card number (ISO/IEC 7812-1).
const CARD_DIGITS: std::ops::RangeInclusive<usize> = 13..=19;

pub(super) fn card(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while at + CARD_DIGITS.start() <= text.len() {
        // Any two neighbours inside a card number hold a digit. So where the twelfth and thirteenth places from here do not, none begins before them.
        // But for the two bytes of a no-break blank.
        if !text[at + 11].is_ascii_digit() && !text[at + 12].is_ascii_digit() && text[at + 11..at + 13] != *NO_BREAK {
            at += 13;
            continue;
        }
        if !text[at].is_ascii_digit() {
            at += 1;
            continue;
        }
        if (at == from || !text[at - 1].is_ascii_digit())
            && let Some(found) = card_at(text, at, from)
        {
            return Some(found);
        }
        while at < text.len() && text[at].is_ascii_digit() {
            at += 1;
        }
    }
    None
}

/// A blank at which no line is broken.
const NO_BREAK: &[u8] = b"\xc2\xa0";
/// A blank as URLs write it.
const IN_URLS: &[u8] = b"%20";

/// Whether the letters that stand right beside digits are a word, as in `card4111…`, and not what ids and numbers of base 16 are made of.
fn is_word(letters: impl Iterator<Item = u8>) -> bool {
    let (mut len, mut plain) = (0, false);
    for b in letters.take_while(|b| b.is_ascii_alphanumeric()).take(MAX_WORD) {
        if b.is_ascii_digit() {
            return false;
        }
        len += 1;
        plain |= !b.is_ascii_hexdigit();
    }
    len >= 2 && plain
}

/// So many letters are looked at.
const MAX_WORD: usize = 24;

/// How long the sign is that parts groups of a card's digits at the beginning of `rest`; 0 if there is none. `group` digits stand in the group before it.
fn gap(rest: &[u8], group: usize) -> usize {
    let len = match rest {
        [b' ' | b'-' | b'+', ..] => 1,
        // With dots, only where groups of cards end: others are fractions.
        [b'.', ..] if matches!(group, 4 | 6) => 1,
        _ if rest.starts_with(NO_BREAK) => NO_BREAK.len(),
        _ if rest.starts_with(IN_URLS) => IN_URLS.len(),
        _ => return 0,
    };
    if rest.get(len).is_some_and(u8::is_ascii_digit) { len } else { 0 }
}

/// A card number that starts at the digit `start`, which begins a run of digits.
fn card_at(text: &[u8], start: usize, floor: usize) -> Option<Range<usize>> {
    if let Some(b) = before(text, start, floor) {
        let fraction = b == b'.' && start > 1 && text[start - 2].is_ascii_digit();
        if fraction || (b.is_ascii_alphanumeric() && !is_word(text[floor..start].iter().rev().copied())) {
            return None;
        }
    }
    let mut digits = [0u8; 19];
    let mut ends = [0usize; 19];
    // How many digits stand before the group that is read.
    let (mut count, mut group, mut at) = (0, 0, start);
    while count < digits.len() && at < text.len() {
        let b = text[at];
        if b.is_ascii_digit() {
            digits[count] = b - b'0';
            count += 1;
            at += 1;
            ends[count - 1] = at;
        } else {
            match gap(&text[at..], count - group) {
                0 => break,
                len => (at, group) = (at + len, count),
            }
        }
    }
    for n in CARD_DIGITS.rev() {
        if n > count || !of_a_brand(&digits[..n]) {
            continue;
        }
        let end = ends[n - 1];
        let after = text.get(end).copied().unwrap_or(b' ');
        let fraction = after == b'.' && text.get(end + 1).is_some_and(u8::is_ascii_digit);
        let all_same = digits[1..n].iter().all(|d| *d == digits[0]);
        let free = !after.is_ascii_alphanumeric() || is_word(text[end..].iter().copied());
        if free && !fraction && !all_same && luhn(&digits[..n]) {
            return Some(start..end);
        }
    }
    None
}

/// Whether a number of these digits can be a card's, by the ranges that issuers of cards have.
fn of_a_brand(digits: &[u8]) -> bool {
    let lead = digits[..4].iter().fold(0u32, |n, d| n * 10 + u32::from(*d));
    match lead {
        4000..=4999 => matches!(digits.len(), 13 | 16 | 19),
        5100..=5599 | 2221..=2720 => digits.len() == 16,
        3400..=3499 | 3700..=3799 => digits.len() == 15,
        3000..=3059 | 3095 | 3600..=3699 | 3800..=3999 => digits.len() >= 14,
        3528..=3589 | 6011 | 6200..=6299 | 6440..=6599 => digits.len() >= 16,
        5000..=5099 | 5600..=5899 | 6000..=6999 => digits.len() >= 13,
        2200..=2204 => digits.len() >= 16,
        _ => false,
    }
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

/// How long an IBAN is, by country (ISO 13616).
const IBAN_LENGTHS: &[(&[u8; 2], usize)] = &[
    (b"AD", 24),
    (b"AE", 23),
    (b"AL", 28),
    (b"AT", 20),
    (b"AZ", 28),
    (b"BA", 20),
    (b"BE", 16),
    (b"BG", 22),
    (b"BH", 22),
    (b"BI", 27),
    (b"BR", 29),
    (b"BY", 28),
    (b"CH", 21),
    (b"CR", 22),
    (b"CY", 28),
    (b"CZ", 24),
    (b"DE", 22),
    (b"DJ", 27),
    (b"DK", 18),
    (b"DO", 28),
    (b"EE", 20),
    (b"EG", 29),
    (b"ES", 24),
    (b"FI", 18),
    (b"FK", 18),
    (b"FO", 18),
    (b"FR", 27),
    (b"GB", 22),
    (b"GE", 22),
    (b"GI", 23),
    (b"GL", 18),
    (b"GR", 27),
    (b"GT", 28),
    (b"HR", 21),
    (b"HU", 28),
    (b"IE", 22),
    (b"IL", 23),
    (b"IQ", 23),
    (b"IS", 26),
    (b"IT", 27),
    (b"JO", 30),
    (b"KW", 30),
    (b"KZ", 20),
    (b"LB", 28),
    (b"LC", 32),
    (b"LI", 21),
    (b"LT", 20),
    (b"LU", 20),
    (b"LV", 21),
    (b"LY", 25),
    (b"MC", 27),
    (b"MD", 24),
    (b"ME", 22),
    (b"MK", 19),
    (b"MN", 20),
    (b"MR", 27),
    (b"MT", 31),
    (b"MU", 30),
    (b"NI", 28),
    (b"NL", 18),
    (b"NO", 15),
    (b"OM", 23),
    (b"PK", 24),
    (b"PL", 28),
    (b"PS", 29),
    (b"PT", 25),
    (b"QA", 29),
    (b"RO", 24),
    (b"RS", 22),
    (b"RU", 33),
    (b"SA", 24),
    (b"SC", 31),
    (b"SD", 18),
    (b"SE", 24),
    (b"SI", 19),
    (b"SK", 24),
    (b"SM", 27),
    (b"SO", 23),
    (b"ST", 25),
    (b"SV", 28),
    (b"TL", 23),
    (b"TN", 24),
    (b"TR", 26),
    (b"UA", 29),
    (b"VA", 22),
    (b"VG", 24),
    (b"XK", 20),
    (b"YE", 30),
];

/// An international bank account number: country, check digits, and the rest, alone or in groups with single spaces or dashes between.
pub(super) fn iban(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while let Some(window) = text.get(at..at + 5) {
        // Two letters and two digits; the digits tell soonest that it is not here.
        if !window[3].is_ascii_digit() {
            at += if window[4].is_ascii_digit() { 1 } else { 2 };
            continue;
        }
        let begins = window[0].is_ascii_alphabetic() && window[1].is_ascii_alphabetic() && window[2].is_ascii_digit();
        if begins
            && !before(text, at, from).is_some_and(joins_word)
            && let Some(found) = iban_at(text, at)
        {
            return Some(found);
        }
        at += 1;
    }
    None
}

fn iban_at(text: &[u8], start: usize) -> Option<Range<usize>> {
    let country = [text[start].to_ascii_uppercase(), text[start + 1].to_ascii_uppercase()];
    let (_, length) = IBAN_LENGTHS.iter().find(|(code, _)| **code == country)?;
    let mut signs = [0u8; 34];
    let (mut count, mut at) = (0, start);
    while count < *length {
        let b = *text.get(at)?;
        if b.is_ascii_alphanumeric() {
            signs[count] = b.to_ascii_uppercase();
            count += 1;
        } else if !(matches!(b, b' ' | b'-') && count >= 4 && text.get(at + 1).is_some_and(u8::is_ascii_alphanumeric)) {
            return None;
        }
        at += 1;
    }
    if text.get(at).is_some_and(|b| joins_word(*b)) {
        return None;
    }
    // ISO 7064, MOD 97-10: the first four signs behind the others, letters as numbers from 10 on.
    let moved = signs[4..*length].iter().chain(&signs[..4]);
    let rest = moved.fold(0u32, |rest, b| match b {
        b'0'..=b'9' => (rest * 10 + u32::from(b - b'0')) % 97,
        _ => (rest * 100 + u32::from(b - b'A') + 10) % 97,
    });
    (rest == 1).then_some(start..at)
}

/// Words before nine digits that make them a national identity number.
const ID_WORDS: [&[u8]; 5] = [b"ssn", b"security", b"identity", b"nationalid", b"socialsecurity"];

/// Whether numbers of this kind are given out.
fn issued(area: &[u8], group: &[u8], serial: &[u8]) -> bool {
    area != b"000" && area != b"666" && area[0] != b'9' && group != b"00" && serial != b"0000"
}

/// Whether the word before `start` says that a national identity number follows.
fn says_id(text: &[u8], start: usize) -> bool {
    let (word, len) = word_before(text, start);
    match &word[..len] {
        b"number" | b"no" | b"id" => {
            let (first, first_len) = word_before(text, before_word(text, start, len));
            ID_WORDS.contains(&&first[..first_len]) || (word[..len] == *b"id" && first[..first_len] == *b"national")
        }
        word => ID_WORDS.contains(&word),
    }
}

/// A national identity number: three, two and four digits with dashes or spaces between, or, behind a word that says so, nine digits.
pub(super) fn national_id(text: &[u8], from: usize) -> Option<Range<usize>> {
    const DIGITS: usize = 9;
    let mut at = from;
    while let Some(window) = text.get(at..at + DIGITS) {
        let gap = window[3];
        if gap.is_ascii_digit() && window.iter().all(u8::is_ascii_digit) {
            let end = at + DIGITS;
            let free = !before(text, at, from).is_some_and(|b| joins_word(b) || b == b'.') && !text.get(end).is_some_and(|b| joins_word(*b));
            if free && issued(&window[..3], &window[3..5], &window[5..]) && says_id(text, at) {
                return Some(at..end);
            }
            // Past this run of digits.
            at = end + text[end..].iter().take_while(|b| b.is_ascii_digit()).count();
            continue;
        }
        let Some(window) = text.get(at..at + 11).filter(|window| matches!(gap, b'-' | b' ') && window[6] == gap) else {
            at += 1;
            continue;
        };
        let digits = [0, 1, 2, 4, 5, 7, 8, 9, 10].iter().all(|i| window[*i].is_ascii_digit());
        let joined = |b: u8| joins_word(b) || matches!(b, b'-' | b'.');
        let free = !before(text, at, from).is_some_and(joined)
            && !text.get(at + 11).is_some_and(|b| joins_word(*b) || (*b == b'-' && text.get(at + 12).is_some_and(u8::is_ascii_digit)));
        if digits && free && issued(&window[..3], &window[4..6], &window[7..]) {
            return Some(at..at + 11);
        }
        at += 1;
    }
    None
}
