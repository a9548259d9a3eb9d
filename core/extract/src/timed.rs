//! Lines of applications that tell a time and mostly a level, in whatever order and writing: `2026/11/23 10:00:00.5 [warn] no answer`, `[4711] 23-Nov-2026 10:00:00 WARN - no answer`.
//!
//! What stands before the message in a known place (time, level, process, application) is taken out of it; what is not known stays in it, so that nothing is lost. The time is written in
//! one way and goes no further: where the line names no zone or no year, `convert` completes it. Days and months that could be either (`11/12/2026`) are not guessed.

use rockrose_event::level::Level;

use super::Found;
use super::moment::{Date, Digits, time, word_end};

pub(super) const NAMES: &[&str] = &["time", "severity", "app", "process", "caller", "message"];
const TIME: usize = 0;
const SEVERITY: usize = 1;
const APP: usize = 2;
const PROCESS: usize = 3;
const CALLER: usize = 4;
const MESSAGE: usize = 5;

/// A time that does not begin the line begins within so many bytes.
const WITHIN: usize = 100;
/// A line begins with a time though so many bytes stand before it.
const NEAR: usize = 40;
/// Most parts before the time, and most looked at for a level behind it.
const PARTS: usize = 4;

/// Where a line's time stands.
enum TimeLocation<'a> {
    /// In a head that packs all in one.
    Packed(PackedHead<'a>),
    /// Before the message; where it ends.
    Before(usize),
    /// Within the message: where it begins and ends.
    Within(usize, usize),
}

/// What was found of a line so far.
struct Line<'a> {
    text: &'a [u8],
    severity: Option<&'a [u8]>,
    /// Only a letter said so.
    by_letter: bool,
    process: Option<&'a [u8]>,
}

pub(super) fn read(text: &[u8], found: &mut Found, room: &mut Vec<u8>) -> Option<()> {
    let (line, place) = Line::begin(text, room)?;
    found.text(TIME, room);
    match place {
        TimeLocation::Packed(head) => {
            found.plain(SEVERITY, head.level.word().as_bytes());
            found.text(PROCESS, head.process);
            found.text(CALLER, head.caller);
            found.text(MESSAGE, &text[head.end..]);
        }
        TimeLocation::Before(end) => line.behind_time(end, found),
        TimeLocation::Within(_, end) => {
            // The line is its message, whole.
            if let Some(level) = level_among_parts(text, end).or(line.severity) {
                found.text(SEVERITY, level);
            }
            found.text(MESSAGE, text);
        }
    }
    Some(())
}

/// Whether a line begins with a time, or with one not far behind.
pub fn tells_its_time(text: &[u8], room: &mut Vec<u8>) -> bool {
    let place = if text.first().is_none_or(u8::is_ascii_whitespace) { None } else { Line::begin(text, room) };
    place.is_some_and(|(_, place)| !matches!(place, TimeLocation::Within(start, _) if start > NEAR))
}

impl<'a> Line<'a> {
    /// Finds the time, and what of the line stands before it. The time's writing is left in `room`.
    fn begin(text: &'a [u8], room: &mut Vec<u8>) -> Option<(Line<'a>, TimeLocation<'a>)> {
        let mut line = Line { text, severity: None, by_letter: false, process: None };
        let mut at = 0;
        if let Some((level, end)) = letter_before_bracket(text) {
            (line.severity, line.by_letter, at) = (Some(level), true, end);
        }
        for _ in 0..=PARTS {
            if let Some(head) = packed_head(text, at, room) {
                return Some((line, TimeLocation::Packed(head)));
            }
            if let Some((end, process)) = bracketed_time(text, at, room) {
                line.process = line.process.or(process);
                return Some((line, TimeLocation::Before(end)));
            }
            match line.part(at) {
                Some(next) => at = next,
                None => break,
            }
        }
        // A word in capitals and room behind it are a column of their own; else only what cannot be anything but a time is one in the middle.
        let shouted = word_end(text, 0, |b| b.is_ascii_uppercase());
        let column = text[shouted..].starts_with(b"  ").then(|| shouted + text[shouted..].iter().take_while(|b| **b == b' ').count());
        let mut starts = (1..text.len().min(WITHIN)).filter(|at| matches!(text[at - 1], b' ' | b'\t' | b'[' | b'(' | b'='));
        let (start, end) = starts.find_map(|at| Some((at, time(text, at, column == Some(at), room)?)))?;
        Some((line, TimeLocation::Within(start, end)))
    }

    /// Takes a level or a process that stands at `at`; where the next part begins.
    fn part(&mut self, at: usize) -> Option<usize> {
        if at >= self.text.len() {
            return None;
        }
        if self.process.is_none()
            && let Some((process, end)) = process(self.text, at)
        {
            self.process = Some(process);
            return Some(skip_between(self.text, end));
        }
        if (self.severity.is_none() || self.by_letter)
            && let Some((level, end)) = level(self.text, at)
        {
            (self.severity, self.by_letter) = (Some(level), false);
            return Some(skip_between(self.text, end));
        }
        None
    }

    /// Reads what follows the time.
    fn behind_time(mut self, end: usize, found: &mut Found) {
        let text = self.text;
        let mut at = skip_between(text, end);
        let mut app = None;
        for _ in 0..PARTS {
            if let Some(next) = self.part(at) {
                at = next;
            } else if let Some((name, process, end)) = tag(text, at).filter(|_| app.is_none() && self.process.is_none()) {
                (app, self.process) = (Some(name), Some(process));
                at = skip_between(text, end);
            } else {
                break;
            }
        }
        let severity = self.severity.or_else(|| level_among_parts(text, at));
        for (name, value) in [(SEVERITY, severity), (APP, app), (PROCESS, self.process)] {
            if let Some(value) = value {
                found.text(name, value);
            }
        }
        found.text(MESSAGE, &text[at..]);
    }
}

/// A level by its letter alone before the bracket of a time, as in `W, [2026-…`; where the bracket stands.
fn letter_before_bracket(text: &[u8]) -> Option<(&'static [u8], usize)> {
    let at = match text.get(1..)? {
        [b' ', b'[', ..] => 2,
        [b',', b' ', b'[', ..] => 3,
        _ => return None,
    };
    Some((by_letter(text[0])?.word().as_bytes(), at))
}

/// What stands between the parts of a line: blanks, and signs with nothing but blanks behind them.
fn skip_between(text: &[u8], mut at: usize) -> usize {
    while let Some(byte) = text.get(at) {
        match byte {
            b' ' | b'\t' | b':' | b'|' | b',' => at += 1,
            b'-' | b'*' => {
                let end = word_end(text, at, |b| b == *byte);
                if end < text.len() && !matches!(text[end], b' ' | b'\t') {
                    break;
                }
                at = end;
            }
            _ => break,
        }
    }
    at
}

/// Where what stands in brackets at `at` begins, and what closes it; without brackets, `at` itself.
fn opened(text: &[u8], at: usize) -> (usize, Option<u8>) {
    let close = match text.get(at) {
        Some(b'[') => b']',
        Some(b'(') => b')',
        Some(b'<') => b'>',
        _ => return (at, None),
    };
    (at + 1, Some(close))
}

/// `[4711]`, `[4711:12]`, `(4711)`, or `4711:M`.
fn process(text: &[u8], at: usize) -> Option<(&[u8], usize)> {
    let (from, close) = opened(text, at);
    let digits = word_end(text, from, |b| b.is_ascii_digit());
    if close == Some(b'>') || !(1..=10).contains(&(digits - from)) {
        return None;
    }
    match close {
        Some(close) => {
            let end = word_end(text, digits, |b| b.is_ascii_digit() || matches!(b, b':' | b'-' | b'.' | b'#'));
            (text.get(end) == Some(&close)).then(|| (&text[from..end], end + 1))
        }
        // A role behind the number, as a single capital.
        None => {
            let role = text.get(digits) == Some(&b':') && text.get(digits + 1).is_some_and(u8::is_ascii_uppercase) && text.get(digits + 2) == Some(&b' ');
            role.then(|| (&text[from..digits], digits + 2))
        }
    }
}

/// `name[4711]:`.
fn tag(text: &[u8], at: usize) -> Option<(&[u8], &[u8], usize)> {
    let end = word_end(text, at, |b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.' | b'/'));
    if end == at || text.get(end) != Some(&b'[') {
        return None;
    }
    let (process, close) = process(text, end)?;
    Some((&text[at..end], process, close))
}

/// A word for a level that stands at `at`, and where it ends: in brackets, before a colon or a bar, in capitals, or with room around it.
fn level(text: &[u8], at: usize) -> Option<(&[u8], usize)> {
    if at >= text.len() {
        return None;
    }
    let (from, close) = opened(text, at);
    let end = word_end(text, from, |b| b.is_ascii_alphabetic());
    let word = &text[from..end];
    // Some number how fine their debugging is.
    let end = if word.eq_ignore_ascii_case(b"debug") { word_end(text, end, |b| b.is_ascii_digit()) } else { end };
    if let Some(close) = close {
        let inside = end + text[end..].iter().take_while(|b| **b == b' ').count();
        return (text.get(inside) == Some(&close)).then(|| level_word(word)).flatten().map(|word| (word, inside + 1));
    }
    let rest = &text[end..];
    let padded = rest.trim_ascii_start();
    let marked = padded.first().is_some_and(|b| matches!(b, b':' | b'|'));
    let alone = rest.first().is_none_or(|b| matches!(b, b' ' | b'\t' | b',' | b';' | b'-' | b'[' | b'(')) || rest.starts_with(b":") || rest.starts_with(b"|");
    let stands_out = marked || word.iter().all(u8::is_ascii_uppercase) || rest.starts_with(b"\t") || rest.starts_with(b"  ");
    let by_letter = word.len() == 1;
    if !alone || !(if by_letter { padded.starts_with(b"|") } else { stands_out }) {
        return None;
    }
    level_word(word).map(|word| (word, end))
}

/// The word as it is, if a level is known by it; for a letter, the word that it stands for.
fn level_word(word: &[u8]) -> Option<&[u8]> {
    match word {
        [letter] => by_letter(*letter).map(|level| level.word().as_bytes()),
        _ if word.len() >= 3 && Level::read(word).is_some() => Some(word),
        _ => None,
    }
}

fn by_letter(letter: u8) -> Option<Level> {
    Some(match letter {
        b'T' => Level::Trace,
        b'D' | b'V' => Level::Debug,
        b'I' | b'N' => Level::Info,
        b'W' => Level::Warn,
        b'E' => Level::Error,
        b'F' | b'C' => Level::Fatal,
        _ => return None,
    })
}

/// A level among the next parts of the line, which stays where it is.
fn level_among_parts(text: &[u8], mut at: usize) -> Option<&[u8]> {
    for _ in 0..PARTS {
        if let Some((level, _)) = level(text, at) {
            return Some(level);
        }
        at += memchr::memchr3(b' ', b'\t', b'\n', text.get(at..)?)?;
        at = word_end(text, at, |b| b.is_ascii_whitespace());
    }
    None
}

/// A head that packs all in one: `W1123 10:00:00.123456  4711 gate.go:17] `.
struct PackedHead<'a> {
    level: Level,
    process: &'a [u8],
    caller: &'a [u8],
    end: usize,
}

fn packed_head<'a>(text: &'a [u8], at: usize, out: &mut Vec<u8>) -> Option<PackedHead<'a>> {
    if !matches!(text.get(at)?, b'I' | b'W' | b'E' | b'F' | b'D') {
        return None;
    }
    let mut c = Digits { text, at: at + 1 };
    let (month, day) = (c.number(2)?, c.number(2)?);
    c.sign(b' ')?;
    let clock = c.clock()?;
    Date { year: None, month, day }.write(&clock, None, out)?;
    c.blanks();
    let process = &text[c.at..word_end(text, c.at, |b| b.is_ascii_digit())];
    c.at += process.len();
    c.sign(b' ')?;
    let close = c.at + memchr::memchr(b']', text.get(c.at..)?)?;
    let caller = &text[c.at..close];
    let is_place = !process.is_empty() && !caller.contains(&b' ') && caller.contains(&b':');
    is_place.then(|| PackedHead {
        level: by_letter(text[at]).unwrap_or(Level::Info),
        process,
        caller,
        end: close + 1 + usize::from(text.get(close + 1) == Some(&b' ')),
    })
}

/// A time that stands at `at`, in brackets or not; where it ends, and the process where its number stands in the brackets as well. Its writing is left in `out`. What stands in brackets
/// with anything else belongs to the message.
fn bracketed_time<'a>(text: &'a [u8], at: usize, out: &mut Vec<u8>) -> Option<(usize, Option<&'a [u8]>)> {
    let (from, close) = opened(text, at);
    let end = time(text, from, true, out)?;
    let Some(close) = close else { return Some((end, None)) };
    if text.get(end) == Some(&close) {
        return Some((end + 1, None));
    }
    let number = text.get(end..)?.strip_prefix(b" #")?;
    let digits = word_end(number, 0, |b| b.is_ascii_digit());
    (number.get(digits) == Some(&close)).then(|| (end + 2 + digits + 1, Some(&number[..digits])))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Time, severity, app, process, caller and message, `-` for none.
    fn line(text: &str) -> Option<[String; 6]> {
        let (mut found, mut room) = (Found::default(), Vec::new());
        read(text.as_bytes(), &mut found, &mut room)?;
        let mut fields = ["-"; 6].map(str::to_owned);
        for (name, value) in &found.pairs {
            let super::super::Name::Known(number) = name else { unreachable!() };
            fields[usize::from(*number)] = serde_json::from_slice(found.value(value)).unwrap();
        }
        Some(fields)
    }

    #[test]
    fn lines_of_all_sorts_of_applications() {
        for (text, expected) in [
            ("2026-11-23 10:00:00,123 WARN  [gate-7] no answer", ["2026-11-23T10:00:00.123", "WARN", "-", "-", "-", "[gate-7] no answer"]),
            ("2026-11-23T10:00:00.5+01:00 [info] gate open", ["2026-11-23T10:00:00.5+01:00", "info", "-", "-", "-", "gate open"]),
            ("[4711] 2026/11/23 10:00:00.533285 [INF] ready", ["2026-11-23T10:00:00.533285", "INF", "-", "4711", "-", "ready"]),
            ("23-Nov-2026 10:00:00.554 general: notice: all loaded", ["2026-11-23T10:00:00.554", "notice", "-", "-", "-", "general: notice: all loaded"]),
            (
                "23-Nov-2026 10:00:00.205 INFO [main] ferries.Timetable.load 12 lines",
                ["2026-11-23T10:00:00.205", "INFO", "-", "-", "-", "[main] ferries.Timetable.load 12 lines"],
            ),
            ("Nov 23 10:00:00 names[4711]: started", ["Nov 23 10:00:00", "-", "names", "4711", "-", "started"]),
            ("NOTICE    Nov  3 10:00:00.586 [16258]: Initializing ...", ["Nov 03 10:00:00.586", "NOTICE", "-", "16258", "-", "Initializing ..."]),
            ("[1795428000] names[16259:0] notice: init module 0", ["1795428000", "notice", "names", "16259:0", "-", "init module 0"]),
            ("1795428000: broker 2 running", ["1795428000", "-", "-", "-", "-", "broker 2 running"]),
            ("17:M 23 Nov 2026 10:00:00.123 * gates are ready", ["2026-11-23T10:00:00.123", "-", "-", "17", "-", "gates are ready"]),
            ("2026-11-23 10:00:00.123 UTC [4711] LOG:  ready", ["2026-11-23T10:00:00.123Z", "LOG", "-", "4711", "-", "ready"]),
            ("2026-11-23 10:00:00 0 [Note] Quays: using 4 berths", ["2026-11-23T10:00:00", "Note", "-", "-", "-", "0 [Note] Quays: using 4 berths"]),
            ("2026-11-23 10:00:00.489700 W | pkg/gate: no answer", ["2026-11-23T10:00:00.489700", "warn", "-", "-", "-", "pkg/gate: no answer"]),
            ("2026-11-23T10:00:00.489Z\tinfo\tgate.go:17\topen", ["2026-11-23T10:00:00.489Z", "info", "-", "-", "-", "gate.go:17\topen"]),
            ("[2026-11-23T10:00:00+0000] info     :  gate open", ["2026-11-23T10:00:00Z", "info", "-", "-", "-", "gate open"]),
            ("[2026-11-23  10:00:00] EROR main/main no berth", ["2026-11-23T10:00:00", "EROR", "-", "-", "-", "main/main no berth"]),
            ("2026-11-23 10:00:00.736612+00:00 [notice] <0.223.0> started", ["2026-11-23T10:00:00.736612Z", "notice", "-", "-", "-", "<0.223.0> started"]),
            ("W1123 10:00:00.123456    4711 gate.go:17] no answer", ["Nov 23 10:00:00.123456", "warn", "-", "4711", "gate.go:17", "no answer"]),
            ("E1123 10:00:00.1 7 a.go:1]é", ["Nov 23 10:00:00.1", "error", "-", "7", "a.go:1", "é"]),
            ("Mon Nov 23 10:00:00 2026 [pid 3] CONNECT", ["2026-11-23T10:00:00", "-", "-", "-", "-", "[pid 3] CONNECT"]),
            ("Mon Nov 23 10:00:00 CET 2026 up", ["2026-11-23T10:00:00+01:00", "-", "-", "-", "-", "up"]),
            ("Mon, 23 Nov 2026 10:00:00 -0330 up", ["2026-11-23T10:00:00-03:30", "-", "-", "-", "-", "up"]),
            ("Nov 23, 2026 6:40:16 PM ferries.Gate open", ["2026-11-23T18:40:16", "-", "-", "-", "-", "ferries.Gate open"]),
            ("11/23/2026 12:40:16 AM Error: no berth", ["2026-11-23T00:40:16", "Error", "-", "-", "-", "no berth"]),
            ("2026:11:23-10:00:45: up", ["2026-11-23T10:00:45", "-", "-", "-", "-", "up"]),
            ("20261123T100000Z up", ["2026-11-23T10:00:00Z", "-", "-", "-", "-", "up"]),
            ("261123 10:00:02 [Warning] slow", ["2026-11-23T10:00:02", "Warning", "-", "-", "-", "slow"]),
            ("2026-11-23 10:00:00 error opening the gate", ["2026-11-23T10:00:00", "-", "-", "-", "-", "error opening the gate"]),
            ("2026-11-23 10:00:00 -5 degrees", ["2026-11-23T10:00:00", "-", "-", "-", "-", "-5 degrees"]),
            ("2026-11-23 10:00:00", ["2026-11-23T10:00:00", "-", "-", "-", "-", ""]),
            // In the middle: all of it is the message.
            (
                "192.0.2.7:33184 [23/Nov/2026:10:00:00.274] quays 200",
                ["2026-11-23T10:00:00.274", "-", "-", "-", "-", "192.0.2.7:33184 [23/Nov/2026:10:00:00.274] quays 200"],
            ),
            ("E, [2026-11-23T10:00:00.133406 #4711] ERROR -- : no berth", ["2026-11-23T10:00:00.133406", "ERROR", "-", "4711", "-", "no berth"]),
            ("D [23/Nov/2026:10:00:00 +0000] opened", ["2026-11-23T10:00:00Z", "debug", "-", "-", "-", "opened"]),
            ("[2026/11/23 10:00:00.37,  0] quay.c:17", ["2026-11-23T10:00:00.37", "-", "-", "-", "-", "[2026/11/23 10:00:00.37,  0] quay.c:17"]),
            ("CONNECT   Nov 23 10:00:00.586 [1]: 192.0.2.7", ["Nov 23 10:00:00.586", "-", "-", "-", "-", "CONNECT   Nov 23 10:00:00.586 [1]: 192.0.2.7"]),
            ("Nov 23, 2026 6:40:16 PM Gate open\nINFO: opened", ["2026-11-23T18:40:16", "INFO", "-", "-", "-", "Gate open\nINFO: opened"]),
            ("2026-11-23 10:00:00 --- opened", ["2026-11-23T10:00:00", "-", "-", "-", "-", "opened"]),
            ("2026-11-23 10:00:00 --verbose is on", ["2026-11-23T10:00:00", "-", "-", "-", "-", "--verbose is on"]),
            ("gate-7 2026-11-23 10:00:00 ERROR stuck", ["2026-11-23T10:00:00", "ERROR", "-", "-", "-", "gate-7 2026-11-23 10:00:00 ERROR stuck"]),
        ] {
            assert_eq!(line(text).unwrap_or_else(|| panic!("{text}")), expected, "{text}");
        }
    }

    #[test]
    fn a_line_that_goes_on_tells_no_time() {
        let tells = |text: &str| tells_its_time(text.as_bytes(), &mut Vec::new());
        assert!(
            tells("2026-11-23 10:00:00 x")
                && tells("# Time: 261123 10:00:02")
                && tells("gates: 2026/11/23 10:00:00 x")
                && tells("I1123 10:00:00.1 7 a.go:1] x")
        );
        assert!(!tells("  2026-11-23 10:00:00 x") && !tells("Caused by: x") && !tells(""));
        assert!(!tells("the timetable that was read in at the quay on 2026-11-23 10:00:00"));
    }

    #[test]
    fn what_could_be_something_else_is_no_time() {
        for text in [
            "",
            "gate open",
            "11/12/2026 10:00:00 gate open",
            "2026-11-23",
            "2026-13-23 10:00:00 x",
            "2026-11-23 25:00:00 x",
            "1795428000123456 x",
            "17954280001 x",
            "0795428000 x",
            "call 1795428000 now",
            "on Nov 23 10:00:00 it was open",
            "123456 tickets 10:00:00",
            "10:00:00 gate open",
            "May be 10:00",
            "[    0.000000] Linux version",
            "W1123 gate.go:17] no answer",
        ] {
            assert_eq!(line(text), None, "{text}");
        }
    }
}
