//! Telephone numbers: international (`+44 20 7946 0958`), and the common national writings.

use std::ops::Range;

use super::{before, ends_with, joins_word, word_before};

/// Words before a number that make it one to call.
const CALL_WORDS: [&[u8]; 14] =
    [b"tel", b"telephone", b"phone", b"mobile", b"call", b"called", b"caller", b"callback", b"cell", b"fax", b"ring", b"dial", b"sms", b"msisdn"];

/// Words before a number that make it one of something else than a telephone.
const OTHER_WORDS: [&[u8]; 24] = [
    b"sku",
    b"part",
    b"serial",
    b"invoice",
    b"order",
    b"item",
    b"isbn",
    b"issn",
    b"batch",
    b"lot",
    b"model",
    b"upc",
    b"ean",
    b"gtin",
    b"barcode",
    b"tracking",
    b"article",
    b"parcel",
    b"waybill",
    b"version",
    b"date",
    b"build",
    b"amount",
    b"berth",
];

/// Digits in groups, as read from one place on.
struct Groups {
    /// How many digits in each group.
    sizes: [usize; 10],
    /// The sign before each group but the first.
    gaps: [u8; 10],
    /// Where each group ends.
    ends: [usize; 10],
    count: usize,
    digits: usize,
    end: usize,
    first: u8,
    second: u8,
}

/// Reads digits with single signs between (a parenthesis may have a blank beside it).
fn groups(text: &[u8], start: usize) -> Groups {
    let mut g = Groups { sizes: [0; 10], gaps: [0; 10], ends: [0; 10], count: 0, digits: 0, end: start, first: 0, second: 0 };
    let mut at = start;
    loop {
        let from = at;
        while text.get(at).is_some_and(u8::is_ascii_digit) {
            match g.digits {
                0 => g.first = text[at],
                1 => g.second = text[at],
                _ => {}
            }
            g.digits += 1;
            at += 1;
        }
        if at == from || g.count == 10 {
            break;
        }
        g.sizes[g.count] = at - from;
        g.ends[g.count] = at;
        g.count += 1;
        g.end = at;
        if g.count == 10 {
            break;
        }
        let gap = match (text.get(at), text.get(at + 1)) {
            (Some(b')'), Some(b' ' | b'-')) | (Some(b' '), Some(b'(')) => 2,
            (Some(b' ' | b'-' | b'.' | b'/' | b')' | b'('), _) => 1,
            _ => break,
        };
        g.gaps[g.count] = text[at];
        at += gap;
    }
    g.without_what_follows();
    g
}

fn called(text: &[u8], start: usize) -> bool {
    let mut end = start;
    while end > 0 && matches!(text[end - 1], b' ' | b':' | b'=' | b'"' | b'\'' | b'.' | b'(') {
        end -= 1;
    }
    // `phone number`, `tel no`
    for filler in [&b"number"[..], b"no", b"at", b"on"] {
        if ends_with(&text[..end], filler) && end > filler.len() && !text[end - filler.len() - 1].is_ascii_alphanumeric() {
            end -= filler.len();
            while end > 0 && matches!(text[end - 1], b' ' | b'_' | b'-') {
                end -= 1;
            }
            break;
        }
    }
    let from = end - text[..end].iter().rev().take(16).take_while(|b| b.is_ascii_alphabetic()).count();
    let word = text[from..end].to_ascii_lowercase();
    CALL_WORDS.contains(&word.as_slice())
}

impl Groups {
    /// A short number behind a blank, once there are digits enough, is another one: `… 0958 14 times`.
    fn without_what_follows(&mut self) {
        while self.count > 1 {
            let last = self.count - 1;
            let pairs = self.first == b'0' && self.count > 5 && self.sizes[..5] == [2; 5];
            let another = self.gaps[last] == b' ' && self.sizes[last] <= 2 && self.sizes[last - 1] >= 3 && self.digits - self.sizes[last] >= 9;
            if !pairs && !another {
                return;
            }
            self.digits -= self.sizes[last];
            self.count = last;
            self.end = self.ends[last - 1];
        }
    }

    fn is(&self, sizes: &[usize]) -> bool {
        self.sizes[..self.count] == *sizes
    }

    /// One sign between all groups.
    fn even(&self) -> bool {
        self.gaps[1..self.count.max(1)].iter().all(|g| *g == self.gaps[1])
    }

    fn dotted(&self) -> bool {
        self.gaps[1..self.count.max(1)].contains(&b'.')
    }
}

/// Where the number of a telephone that begins at `start` ends, if one does. `start` is a digit, a `+` or a `(`.
fn number(text: &[u8], start: usize) -> Option<usize> {
    let lead = text[start];
    let opened = lead == b'(';
    let from = start + usize::from(lead == b'+' || opened);
    if lead == b'+' {
        // `+44 (0)20 7946 0958`: the zero is not dialled.
        let g = groups(text, from);
        return ((8..=15).contains(&g.digits) && g.first != b'0' && g.sizes[0] <= 15).then_some(g.end);
    }
    if !text.get(from).is_some_and(u8::is_ascii_digit) {
        return None;
    }
    let g = groups(text, from);
    if opened && text.get(from + g.sizes[0]).is_none_or(|b| *b != b')') {
        return None;
    }
    // A date, or the parts of an address.
    let begins = |sizes: [usize; 3]| g.count >= 3 && g.sizes[..3] == sizes;
    let said = called(text, start);
    if begins([4, 2, 2]) || begins([2, 2, 4]) && !said {
        return None;
    }
    let (word, len) = word_before(text, start);
    if !said && OTHER_WORDS.contains(&&word[..len]) {
        return None;
    }
    // `(415) 555-0123`, `415-555-0123`, `1-415-555-0123`
    let ten = g.is(&[3, 3, 4]) || g.is(&[1, 3, 3, 4]) && g.first == b'1';
    let area = if g.sizes[0] == 1 { g.second } else { g.first };
    if ten && (b'2'..=b'9').contains(&area) && (opened || g.even() || said) {
        return Some(g.end);
    }
    // `0044 20 7946 0958`
    if g.first == b'0' && g.second == b'0' && (11..=17).contains(&g.digits) && text.get(from + 2).is_some_and(|b| *b != b'0') && !g.dotted() {
        return Some(g.end);
    }
    // `020 7946 0958`, `0171/1234567`, `01 23 45 67 89`, `07700 900123`
    let trunk = g.first == b'0' && g.second != b'0';
    if trunk && (9..=12).contains(&g.digits) && g.count > 1 && (2..=6).contains(&g.sizes[0]) && g.sizes[1..g.count].iter().all(|s| (2..=8).contains(s)) {
        let pairs = g.count == 5 && g.sizes[..5] == [2; 5];
        if pairs || (g.count <= 4 && (said || !g.dotted())) {
            return Some(g.end);
        }
    }
    // `07700900123`: a mobile, all in one.
    if trunk && g.count == 1 && (said && (9..=12).contains(&g.digits) || g.digits == 11 && g.second == b'7') {
        return Some(g.end);
    }
    (said && (7..=15).contains(&g.digits) && !g.dotted()).then_some(g.end)
}

pub(super) fn find(text: &[u8], from: usize) -> Option<Range<usize>> {
    let mut at = from;
    while at + 7 <= text.len() {
        let b = text[at];
        // Seven digits with a sign between each two have a digit or an opening among any three neighbours.
        if !b.is_ascii_digit() && !matches!(b, b'+' | b'(') {
            at += 1;
            continue;
        }
        let joined = |b: u8| joins_word(b) || matches!(b, b'+' | b'.' | b',' | b'/' | b'#' | b'$' | b'-');
        let behind_sign = before(text, at, from);
        let begins = match behind_sign {
            None => true,
            // `tel:`, but not the hours of a time.
            Some(b':') if at >= from + 2 => !text[at - 2].is_ascii_digit(),
            // A clause may end right before it; a number may not.
            Some(b'.' | b',' | b'-' | b'/') if at >= from + 2 => !text[at - 2].is_ascii_alphanumeric(),
            Some(b) => !joined(b),
        };
        if begins && let Some(end) = number(text, at) {
            let next = text.get(end).copied().unwrap_or(b' ');
            let goes_on =
                joins_word(next) || (matches!(next, b'-' | b'.' | b':' | b'/' | b',') && text.get(end + 1).is_some_and(u8::is_ascii_digit)) || next == b'%';
            if !goes_on {
                return Some(at..end);
            }
        }
        // Past this run of digits.
        at += 1;
        if b.is_ascii_digit() {
            while at < text.len() && text[at].is_ascii_digit() {
                at += 1;
            }
        }
    }
    None
}
