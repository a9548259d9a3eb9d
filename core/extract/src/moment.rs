//! Times as applications write them at the head of a line: recognised where they stand, and written in one way.
//!
//! Nothing is known here of zones or of the year: what a line does not name, its writing does not have, and [`rockrose_event::time`] completes it.

use rockrose_event::time::MONTHS;

/// Where a stretch ends that begins at `at`.
pub(super) fn word_end(text: &[u8], at: usize, is: impl Fn(u8) -> bool) -> usize {
    at + text[at..].iter().position(|b| !is(*b)).unwrap_or(text.len() - at)
}

/// Reads digits and what stands between them.
pub(super) struct Digits<'a> {
    pub(super) text: &'a [u8],
    pub(super) at: usize,
}

pub(super) struct Clock<'a> {
    hour: u32,
    minute: u32,
    second: u32,
    fraction: &'a [u8],
    /// It said so with AM or PM.
    halves: bool,
}

pub(super) struct Date {
    pub(super) year: Option<u32>,
    pub(super) month: u32,
    pub(super) day: u32,
}

/// Most digits of a fraction that count.
const FRACTION: usize = 9;

const DAYS: [&[u8; 3]; 7] = [b"Mon", b"Tue", b"Wed", b"Thu", b"Fri", b"Sat", b"Sun"];
/// What zones are called that are the same everywhere, and their minutes east of UTC (RFC 2822, section 4.3, and Europe's).
const ZONES: &[(&[u8], i32)] = &[
    (b"UTC", 0),
    (b"GMT", 0),
    (b"WET", 0),
    (b"WEST", 60),
    (b"BST", 60),
    (b"CET", 60),
    (b"CEST", 120),
    (b"EET", 120),
    (b"EEST", 180),
    (b"EST", -300),
    (b"EDT", -240),
    (b"CST", -360),
    (b"CDT", -300),
    (b"MST", -420),
    (b"MDT", -360),
    (b"PST", -480),
    (b"PDT", -420),
];

impl<'a> Digits<'a> {
    fn peek(&self) -> Option<u8> {
        self.text.get(self.at).copied()
    }

    /// A number of just so many digits.
    pub(super) fn number(&mut self, digits: usize) -> Option<u32> {
        let text = self.text.get(self.at..self.at + digits)?;
        self.at += digits;
        text.iter().try_fold(0, |n, b| b.is_ascii_digit().then(|| n * 10 + u32::from(b - b'0')))
    }

    /// A number of one or two digits; one may have a blank before it.
    fn short(&mut self) -> Option<u32> {
        if self.peek() == Some(b' ') {
            self.at += 1;
            return self.number(1);
        }
        let digits = word_end(self.text, self.at, |b| b.is_ascii_digit()) - self.at;
        if digits > 2 { None } else { self.number(digits.max(1)) }
    }

    /// A number of one or two digits that begins here.
    fn unpadded(&mut self) -> Option<u32> {
        self.peek().filter(u8::is_ascii_digit)?;
        self.short()
    }

    pub(super) fn sign(&mut self, sign: u8) -> Option<()> {
        (self.peek()? == sign).then(|| self.at += 1)
    }

    fn one_of(&mut self, signs: &[u8]) -> Option<u8> {
        let sign = self.peek().filter(|b| signs.contains(b))?;
        self.at += 1;
        Some(sign)
    }

    pub(super) fn blanks(&mut self) {
        while self.peek() == Some(b' ') {
            self.at += 1;
        }
    }

    /// A month's name, whole or short.
    fn month(&mut self) -> Option<u32> {
        let end = word_end(self.text, self.at.min(self.text.len()), |b| b.is_ascii_alphabetic() || b >= 0x80);
        let name = self.text.get(self.at..end)?;
        let short = if name.len() == 3 { MONTHS.chunks_exact(3).position(|m| m.eq_ignore_ascii_case(name)) } else { None };
        let month = match short {
            Some(month) => month as u32 + 1,
            // Only where a number follows: most words are no months.
            None => match self.text[end..] {
                [b' ' | b'-' | b'/', b'0'..=b'9' | b' ', ..] | [b'.', b' ', b'0'..=b'9' | b' ', ..] => month_of(name)?,
                _ => return None,
            },
        };
        self.at = end;
        // Where it is short of a longer name.
        if self.text[end..].starts_with(b". ") {
            self.at += 1;
        }
        Some(month)
    }

    /// A year of four digits, or of the two last ones.
    fn year(&mut self) -> Option<u32> {
        match word_end(self.text, self.at.min(self.text.len()), |b| b.is_ascii_digit()) - self.at.min(self.text.len()) {
            4 => self.number(4).filter(|y| is_year(*y)),
            2 => self.number(2).map(|y| 2_000 + y),
            _ => None,
        }
    }

    /// `10:00`, `10:00:00`, with a fraction, with AM or PM.
    pub(super) fn clock(&mut self) -> Option<Clock<'a>> {
        let hour = self.short()?;
        self.sign(b':')?;
        let minute = self.number(2)?;
        let mut clock = Clock { hour, minute, second: 0, fraction: &[], halves: false };
        if self.peek() == Some(b':') && self.text.get(self.at + 1).is_some_and(u8::is_ascii_digit) {
            self.at += 1;
            clock.second = self.number(2)?;
            let end = word_end(self.text, (self.at + 1).min(self.text.len()), |b| b.is_ascii_digit());
            let digits = end.saturating_sub(self.at + 1);
            // A colon is one of a fraction only before milliseconds.
            if digits > 0 && self.peek().is_some_and(|b| matches!(b, b'.' | b',') || b == b':' && digits == 3) {
                clock.fraction = &self.text[self.at + 1..end][..digits.min(FRACTION)];
                self.at = end;
            }
        }
        let behind = self.text.get(self.at..).unwrap_or_default();
        let behind = behind.strip_prefix(b" ").unwrap_or(behind);
        if let [half @ (b'A' | b'P' | b'a' | b'p'), b'M' | b'm', rest @ ..] = behind
            && (1..=12).contains(&clock.hour)
            && !rest.first().is_some_and(u8::is_ascii_alphanumeric)
        {
            clock.hour = clock.hour % 12 + if half.eq_ignore_ascii_case(&b'p') { 12 } else { 0 };
            clock.halves = true;
            self.at = self.text.len() - rest.len();
        }
        (clock.hour < 24 && clock.minute < 60 && clock.second <= 60).then_some(clock)
    }

    /// A zone, if one is named: its minutes east of UTC.
    fn zone(&mut self) -> Option<i32> {
        let blank = usize::from(self.peek() == Some(b' '));
        let rest = &self.text[self.at + blank..];
        let ends = |len: usize| !rest.get(len).is_some_and(u8::is_ascii_alphanumeric);
        if rest.first() == Some(&b'Z') && ends(1) {
            self.at += blank + 1;
            return Some(0);
        }
        if let Some((name, minutes)) = ZONES.iter().find(|(name, _)| rest.starts_with(name) && ends(name.len())) {
            self.at += blank + name.len();
            return Some(*minutes);
        }
        let sign = match rest.first()? {
            b'+' => 1,
            b'-' => -1,
            _ => return None,
        };
        let mut c = Digits { text: rest, at: 1 };
        let hours = c.number(2)?;
        c.sign(b':');
        let whole = c.at;
        let minutes = c.number(2).filter(|m| *m < 60);
        if minutes.is_none() {
            // Hours alone, right behind the time.
            c.at = whole;
            if blank > 0 || rest[whole - 1] == b':' {
                return None;
            }
        }
        if hours > 14 || !ends(c.at) {
            return None;
        }
        self.at += blank + c.at;
        Some(sign * (hours * 60 + minutes.unwrap_or(0)) as i32)
    }
}

/// Two digits.
fn digits(n: u32, out: &mut Vec<u8>) {
    out.extend([b'0' + (n / 10 % 10) as u8, b'0' + (n % 10) as u8]);
}

/// Two digits after a sign.
fn after(sign: u8, n: u32, out: &mut Vec<u8>) {
    out.push(sign);
    digits(n, out);
}

impl Date {
    /// Leaves the time's writing in `out`: as RFC 3339 but without a zone where none is known, and as `Nov 23 10:00:00` where the year is not.
    pub(super) fn write(&self, clock: &Clock<'_>, zone: Option<i32>, out: &mut Vec<u8>) -> Option<()> {
        let Clock { hour, minute, second, fraction, .. } = clock;
        if !(1..=12).contains(&self.month) || !(1..=31).contains(&self.day) {
            return None;
        }
        out.clear();
        match self.year {
            Some(year) => {
                digits(year / 100, out);
                digits(year % 100, out);
                after(b'-', self.month, out);
                after(b'-', self.day, out);
                after(b'T', *hour, out);
            }
            None => {
                out.extend(&MONTHS[3 * (self.month as usize - 1)..][..3]);
                after(b' ', self.day, out);
                after(b' ', *hour, out);
            }
        }
        after(b':', *minute, out);
        after(b':', *second, out);
        if !fraction.is_empty() {
            out.push(b'.');
            out.extend_from_slice(fraction);
        }
        match zone.filter(|_| self.year.is_some()) {
            Some(0) => out.push(b'Z'),
            Some(minutes) => {
                after(if minutes < 0 { b'-' } else { b'+' }, minutes.unsigned_abs() / 60, out);
                after(b':', minutes.unsigned_abs() % 60, out);
            }
            None => {}
        }
        Some(())
    }
}

/// The months as they are called in German, English, French, Spanish, Italian, Portuguese and Dutch: of each, the short names that are not English, and the whole ones.
const MONTH_NAMES: [&[&str]; 12] = [
    &["jän", "janv", "ene", "gen", "january", "januar", "jänner", "janvier", "enero", "gennaio", "janeiro", "januari"],
    &["févr", "fév", "fev", "february", "februar", "février", "febrero", "febbraio", "fevereiro", "februari"],
    &["mär", "mrz", "mars", "mrt", "march", "märz", "marzo", "março", "maart"],
    &["avr", "abr", "april", "avril", "abril", "aprile"],
    &["mai", "mag", "mei", "mayo", "maggio", "maio"],
    &["juin", "giu", "june", "juni", "junio", "giugno", "junho"],
    &["juil", "lug", "july", "juli", "juillet", "julio", "luglio", "julho"],
    &["août", "ago", "august", "agosto", "augustus"],
    &["sept", "set", "september", "septembre", "septiembre", "settembre", "setembro"],
    &["okt", "ott", "out", "october", "oktober", "octobre", "octubre", "ottobre", "outubro"],
    &["november", "novembre", "noviembre", "novembro"],
    &["dez", "déc", "dic", "december", "dezember", "décembre", "diciembre", "dicembre", "dezembro"],
];

/// The month of that name, in one of the languages that are known.
fn month_of(name: &[u8]) -> Option<u32> {
    if !(3..=12).contains(&name.len()) {
        return None;
    }
    let name = std::str::from_utf8(name).ok()?;
    let is = |known: &str| known.eq_ignore_ascii_case(name) || !name.is_ascii() && known == name.to_lowercase();
    MONTH_NAMES.iter().position(|known| known.iter().any(|known| is(known))).map(|month| month as u32 + 1)
}

/// Years that log lines are of.
fn is_year(year: u32) -> bool {
    (1970..2100).contains(&year)
}

/// A time that begins at `at`; where it ends. Its writing is left in `out`. Unless it `begins` the line, only one that cannot be anything else.
pub(super) fn time(text: &[u8], at: usize, begins: bool, out: &mut Vec<u8>) -> Option<usize> {
    let digits = word_end(text, at.min(text.len()), |b| b.is_ascii_digit()) - at.min(text.len());
    match digits {
        0 if text.get(at) == Some(&b'@') => tai64(text, at, out),
        0 => by_month_name(text, at, begins, out),
        4 => year_first(text, at, out),
        1 | 2 => day_first(text, at, out),
        6 | 8 => together(text, at, digits, begins, out),
        10 | 13 if begins => since_1970(text, at, digits, out),
        _ => None,
    }
}

/// `@400000006a1b2c3d1d4c5b6c`: seconds since 1970 in the scale of TAI64 in sixteen digits of base 16, and nanoseconds in eight, as those write it who follow no leap seconds.
fn tai64(text: &[u8], at: usize, out: &mut Vec<u8>) -> Option<usize> {
    /// What the label of 1970 is, and how far the scale was ahead then.
    const BEGIN: u64 = (1 << 62) + 10;
    let end = word_end(text, at + 1, |b| b.is_ascii_hexdigit());
    let digits = std::str::from_utf8(&text[at + 1..end]).ok()?;
    let nanos = match digits.len() {
        16 => 0,
        24 => u32::from_str_radix(&digits[16..], 16).ok().filter(|n| *n < 1_000_000_000)?,
        _ => return None,
    };
    let seconds = u64::from_str_radix(&digits[..16], 16).ok()?.checked_sub(BEGIN)?;
    if !LIKELY_SECONDS.contains(&seconds) {
        return None;
    }
    out.clear();
    out.extend_from_slice(format!("{seconds}.{nanos:09}").as_bytes());
    Some(end)
}

/// `2026-11-23 10:00:00`, with `/`, `.` or `:` as well, with `T`, `_`, `:` or blanks between.
fn year_first(text: &[u8], at: usize, out: &mut Vec<u8>) -> Option<usize> {
    let mut c = Digits { text, at };
    let year = c.number(4).filter(|y| is_year(*y))?;
    let sign = c.one_of(b"-/.:")?;
    let month = c.number(2)?;
    c.sign(sign)?;
    let day = c.number(2)?;
    c.sign(b',');
    c.one_of(b" Tt_:-")?;
    c.blanks();
    if c.text[..c.at].ends_with(b" ") && c.sign(b'-').is_some() {
        c.sign(b' ')?;
    }
    let clock = c.clock()?;
    let zone = c.zone();
    Date { year: Some(year), month, day }.write(&clock, zone, out)?;
    Some(c.at)
}

/// `23/Nov/2026:10:00:00`, `23-Nov-2026 10:00:00`, `23 Nov 2026 10:00:00`; `11/23/2026 10:00:00 AM`, whose halves of the day tell that the month is first.
fn day_first(text: &[u8], at: usize, out: &mut Vec<u8>) -> Option<usize> {
    let mut c = Digits { text, at };
    let first = c.short()?;
    // A full stop of an ordinal number.
    if c.text.get(c.at..c.at + 2) == Some(b". ") {
        c.at += 1;
    }
    let sign = c.one_of(b"-/ ")?;
    let (month, by_name) = match c.month() {
        Some(month) => (month, true),
        None => (c.short()?, false),
    };
    if !by_name && sign == b'/' && c.sign(b'-').is_some() {
        // `09/29-08:25:54.123456`, the month first and without a year.
        let clock = c.clock().filter(|clock| !clock.fraction.is_empty())?;
        Date { year: None, month: first, day: month }.write(&clock, None, out)?;
        return Some(c.at);
    }
    c.sign(sign)?;
    let year = if by_name && sign == b'-' { c.year()? } else { c.number(4).filter(|y| is_year(*y))? };
    c.sign(b',');
    c.one_of(b" :T_")?;
    c.blanks();
    let clock = c.clock()?;
    let date = match (by_name, clock.halves) {
        (true, _) => Date { year: Some(year), month, day: first },
        (false, true) => Date { year: Some(year), month: first, day: month },
        _ => return None,
    };
    let zone = c.zone();
    date.write(&clock, zone, out)?;
    Some(c.at)
}

/// A date in digits at the beginning of a line, such as `23/11/2026 10:00:00 +0100`, of which it is not known whether the day or the month is first.
pub struct InDigits {
    /// Its first number.
    pub first: u32,
    /// Its second number.
    pub second: u32,
    /// What stands between its numbers.
    pub sign: char,
    /// An offset from UTC follows.
    pub zoned: bool,
}

/// The date in digits that a line begins with, in a bracket or not. `None` also where a part of the time stands where it would be passed over: a half of the day, a zone behind a fraction.
pub fn date_in_digits(line: &str) -> Option<InDigits> {
    let mut c = Digits { text: line.strip_prefix('[').unwrap_or(line).as_bytes(), at: 0 };
    let first = c.unpadded()?;
    let sign = c.one_of(b"/-.")?;
    let second = c.unpadded()?;
    c.sign(sign)?;
    c.number(4).filter(|y| is_year(*y))?;
    c.sign(b' ')?;
    let begun = c.at;
    c.peek().filter(u8::is_ascii_digit)?;
    let clock = c.clock()?;
    let has_seconds = memchr::memchr_iter(b':', &c.text[begun..c.at]).count() > 1;
    let zoned = matches!(c.text[c.at..], [b' ', b'+' | b'-', a, b, c, d, ..] if [a, b, c, d].iter().all(u8::is_ascii_digit));
    let is_whole = has_seconds && !clock.halves && (clock.fraction.is_empty() || !zoned);
    (is_whole && first <= 31 && second <= 31).then_some(InDigits { first, second, sign: sign.into(), zoned })
}

/// `20261123T100000Z`, `20261123 10:00:00`, `261123 10:00:00`.
fn together(text: &[u8], at: usize, digits: usize, begins: bool, out: &mut Vec<u8>) -> Option<usize> {
    let mut c = Digits { text, at };
    let year = if digits == 8 { c.number(4)? } else { 2_000 + c.number(2)? };
    let (month, day) = (c.number(2)?, c.number(2)?);
    let between = c.one_of(b" Tt_-")?;
    let run = word_end(text, c.at, |b| b.is_ascii_digit()) - c.at;
    let clock = if run == 6 && digits == 8 {
        let clock = Clock { hour: c.number(2)?, minute: c.number(2)?, second: c.number(2)?, fraction: &[], halves: false };
        (clock.hour < 24 && clock.minute < 60 && clock.second <= 60).then_some(clock)?
    } else {
        c.clock()?
    };
    // Six digits are mostly something else.
    if !is_year(year) || digits == 6 && !(between == b' ' && (begins || clock.second > 0)) {
        return None;
    }
    let zone = c.zone();
    Date { year: Some(year), month, day }.write(&clock, zone, out)?;
    Some(c.at)
}

/// `Nov 23 10:00:00`, `Mon Nov 23 10:00:00 2026`, `Mon, 23 Nov 2026 10:00:00 +0000`, `Nov 23, 2026 10:00:00 AM`.
fn by_month_name(text: &[u8], at: usize, begins: bool, out: &mut Vec<u8>) -> Option<usize> {
    let mut c = Digits { text, at };
    if text.get(at..at + 3).is_some_and(|name| DAYS.iter().any(|d| &d[..] == name)) {
        c.at += 3;
        c.sign(b',');
        c.sign(b' ')?;
        c.blanks();
        if c.peek().is_some_and(|b| b.is_ascii_digit()) {
            return day_first(text, c.at, out);
        }
    }
    let month = c.month()?;
    if c.sign(b'-').is_some() {
        // `Apr-07-13 09:11:12`
        let day = c.number(2)?;
        c.sign(b'-')?;
        let year = c.year()?;
        c.sign(b' ')?;
        let clock = c.clock()?;
        let zone = c.zone();
        Date { year: Some(year), month, day }.write(&clock, zone, out)?;
        return Some(c.at);
    }
    c.sign(b' ')?;
    let day = c.short()?;
    c.sign(b',');
    c.sign(b' ')?;
    let mut year = None;
    if word_end(text, c.at, |b| b.is_ascii_digit()) - c.at == 4 {
        year = Some(c.number(4).filter(|y| is_year(*y))?);
        c.sign(b',');
        c.sign(b' ')?;
    }
    let clock = c.clock()?;
    let mut zone = c.zone();
    if year.is_none() {
        // The year may come last, and a zone before it.
        let mut last = Digits { text, at: c.at };
        if last.sign(b' ').is_some()
            && let Some(found) = last.number(4).filter(|y| is_year(*y))
            && !last.peek().is_some_and(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'/' | b':' | b'.'))
        {
            year = Some(found);
            c.at = last.at;
            zone = zone.or_else(|| c.zone());
        }
    }
    if year.is_none() && !begins {
        return None;
    }
    Date { year, month, day }.write(&clock, zone, out)?;
    Some(c.at)
}

/// Seconds since 1970 of the years that logs are of.
const LIKELY_SECONDS: std::ops::Range<u64> = 1_000_000_000..4_102_444_800;

/// `1795428000`, `1795428000.5`, `1795428000123`: seconds or milliseconds since 1970, of the years that logs are of.
fn since_1970(text: &[u8], at: usize, digits: usize, out: &mut Vec<u8>) -> Option<usize> {
    let mut end = at + digits;
    let seconds = text[at..at + 10].iter().fold(0u64, |n, b| n * 10 + u64::from(b - b'0'));
    let fraction = word_end(text, (end + 1).min(text.len()), |b| b.is_ascii_digit());
    if digits == 10 && text.get(end) == Some(&b'.') && fraction > end + 1 {
        end = fraction;
    }
    let ends = text.get(end).is_none_or(|b| matches!(b, b' ' | b'\t' | b':' | b']' | b')' | b',' | b'|'));
    if !ends || !LIKELY_SECONDS.contains(&seconds) {
        return None;
    }
    out.clear();
    out.extend_from_slice(&text[at..end.min(at + digits + 1 + FRACTION)]);
    Some(end)
}
