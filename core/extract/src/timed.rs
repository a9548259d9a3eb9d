//! Lines of applications that tell a time and mostly a level, in whatever order and writing: `2026/11/23 10:00:00.5 [warn] no answer`, `[4711] 23-Nov-2026 10:00:00 WARN - no answer`.
//!
//! What stands before the message in a known place (time, level, process, application) is taken out of it; what is not known stays in it, so that nothing is lost. The time is written in
//! one way and goes no further: where the line names no zone or no year, `convert` completes it. Days and months that could be either (`11/12/2026`) are not guessed.

use rockrose_event::level::Level;

use super::Found;
use super::moment::{Date, Digits, time, word_end};

pub(super) const NAMES: &[&str] = &["time", "severity", "app", "process", "caller", "message", "logger", "thread"];
const TIME: usize = 0;
const SEVERITY: usize = 1;
const APP: usize = 2;
const PROCESS: usize = 3;
const CALLER: usize = 4;
const MESSAGE: usize = 5;
const LOGGER: usize = 6;
const THREAD: usize = 7;

/// A time that does not begin the line begins within so many bytes.
const WITHIN: usize = 100;
/// A line begins with a time though so many bytes stand before it.
const NEAR: usize = 40;
/// Most parts before the time, and most looked at for a level behind it.
const PARTS: usize = 4;
/// Most parts between the time and the message.
const PARTS_BEHIND: usize = 6;
/// Longest name of a logger or a thread.
const LONGEST_NAME: usize = 100;

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
    logger: Option<&'a [u8]>,
    thread: Option<&'a [u8]>,
    caller: Option<&'a [u8]>,
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
        let mut line = Line { text, severity: None, by_letter: false, process: None, logger: None, thread: None, caller: None };
        let mut at = 0;
        if let Some((level, end)) = letter_before_bracket(text) {
            (line.severity, line.by_letter, at) = (Some(level), true, end);
        }
        for _ in 0..=PARTS {
            if let Some(head) = packed_head(text, at, room) {
                return Some((line, TimeLocation::Packed(head)));
            }
            if let Some(end) = line.bracketed_time(at, room) {
                return Some((line, TimeLocation::Before(end)));
            }
            match line.part(at).or_else(|| line.thread(at, |next| text.get(next).is_some_and(u8::is_ascii_digit))) {
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

    /// Takes a level, a process, a logger, a thread or a caller that stands at `at`; where the next part begins.
    fn part(&mut self, at: usize) -> Option<usize> {
        if at >= self.text.len() {
            return None;
        }
        self.level_or_process(at).or_else(|| self.logger(at)).or_else(|| {
            let text = self.text;
            self.thread(at, |next| level(text, next).is_some() || logger(text, next).is_some_and(|(name, ..)| is_qualified(name)))
        })
    }

    fn level_or_process(&mut self, at: usize) -> Option<usize> {
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
        // A number before the level, or before three dashes.
        if self.process.is_none() {
            let end = word_end(self.text, at, |b| b.is_ascii_digit());
            let next = skip_blanks(self.text, end);
            if (1..=10).contains(&(end - at)) && next > end && (level(self.text, next).is_some() || self.text[next..].starts_with(b"---")) {
                self.process = Some(&self.text[at..end]);
                return Some(skip_between(self.text, end));
            }
        }
        // A level by its letter, before the name of a component in capitals.
        if self.severity.is_none()
            && let [letter, b' ', rest @ ..] = &self.text[at..]
            && let Some(level) = by_letter(*letter)
        {
            let name = word_end(rest, 0, |b| b.is_ascii_uppercase() || b == b'_');
            if (name >= 2 || rest.first() == Some(&b'-')) && rest.get(name.max(1)) == Some(&b' ') {
                (self.severity, self.by_letter) = (Some(level.word().as_bytes()), true);
                self.logger = self.logger.or((name >= 2).then_some(&rest[..name]));
                return Some(skip_between(self.text, at + 2 + name));
            }
        }
        None
    }

    /// Takes what names the part of the program that speaks, with the level in it, behind it or before it.
    fn logger(&mut self, at: usize) -> Option<usize> {
        if self.logger.is_some() {
            return None;
        }
        if let Some((name, level, end)) = logger_and_level(self.text, at).filter(|_| self.severity.is_none()) {
            (self.logger, self.severity) = (Some(name), Some(level));
            return Some(skip_between(self.text, end));
        }
        let (name, end, is_caller) = logger(self.text, at)?;
        let next = skip_between(self.text, end);
        if is_caller {
            return self.caller.is_none().then(|| {
                self.caller = Some(name);
                next
            });
        }
        // One word in brackets is a thread's name as often.
        let levelled = self.text[at] != b'[' && self.severity.is_none() && level(self.text, next).is_some();
        (levelled || self.severity.is_some() && is_qualified(name)).then(|| {
            self.logger = Some(name);
            next
        })
    }

    /// Takes a thread's name in brackets, where what is `known` stands behind it.
    fn thread(&mut self, at: usize, known: impl Fn(usize) -> bool) -> Option<usize> {
        if self.thread.is_some() || self.text.get(at) != Some(&b'[') {
            return None;
        }
        let inner = &self.text[at + 1..];
        let end = memchr::memchr(b']', &inner[..inner.len().min(LONGEST_NAME)])?;
        let name = inner[..end].trim_ascii();
        let plain = !name.is_empty() && !name.ends_with(b":") && name.iter().all(|b| *b >= b' ' && *b != b'[');
        let next = skip_between(self.text, at + 1 + end + 1);
        (plain && known(next)).then(|| {
            self.thread = Some(name);
            next
        })
    }

    /// Takes a time that stands at `at`, in brackets or not; where it ends. Its writing is left in `out`. With it in the brackets may stand the process, or the level and the logger or
    /// the thread; what stands there with anything else belongs to the message.
    fn bracketed_time(&mut self, at: usize, out: &mut Vec<u8>) -> Option<usize> {
        let text = self.text;
        let (from, close) = opened(text, at);
        let end = time(text, from, true, out)?;
        let Some(close) = close else { return Some(end) };
        if text.get(end) == Some(&close) {
            return Some(end + 1);
        }
        if let Some(number) = text.get(end..)?.strip_prefix(b" #") {
            let digits = word_end(number, 0, |b| b.is_ascii_digit());
            return (number.get(digits) == Some(&close)).then(|| {
                self.process = self.process.or(Some(&number[..digits]));
                end + 2 + digits + 1
            });
        }
        let word = skip_between(text, end);
        let word_ends = word_end(text, word, |b| b.is_ascii_alphabetic());
        let level = level_word(&text[word..word_ends]).filter(|level| word > end && level.len() > 1)?;
        let behind = &text[word_ends..];
        let closed = memchr::memchr(close, &behind[..behind.len().min(LONGEST_NAME)])?;
        let (is_thread, name) = match behind[..closed].strip_prefix(b"/") {
            Some(name) => (true, name),
            None => (false, behind[..closed].trim_ascii()),
        };
        if name.iter().any(|b| *b <= b' ') {
            return None;
        }
        self.severity = Some(level);
        if !name.is_empty() {
            *(if is_thread { &mut self.thread } else { &mut self.logger }) = Some(name);
        }
        Some(word_ends + closed + 1)
    }

    /// Reads what follows the time.
    fn behind_time(mut self, end: usize, found: &mut Found) {
        let text = self.text;
        let mut at = skip_between(text, end);
        let mut app = None;
        for _ in 0..PARTS_BEHIND {
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
        let mut message = &text[at..];
        if self.logger.is_none()
            && self.severity.is_some()
            && let Some((rest, name)) = logger_at_the_end(message)
        {
            (self.logger, message) = (Some(name), rest);
        }
        for (name, value) in [(SEVERITY, severity), (APP, app), (PROCESS, self.process), (CALLER, self.caller), (LOGGER, self.logger), (THREAD, self.thread)] {
            if let Some(value) = value {
                found.text(name, value);
            }
        }
        found.text(MESSAGE, message);
    }
}

fn skip_blanks(text: &[u8], at: usize) -> usize {
    word_end(text, at, |b| matches!(b, b' ' | b'\t'))
}

/// Whether a name is of several parts, as names of packages, modules and classes are and words are not.
fn is_qualified(name: &[u8]) -> bool {
    name.windows(3).any(|part| part[1] == b'.' && part[0] != b'.' && part[2] != b'.') || memchr::memmem::find(name, b"::").is_some()
}

/// A name that begins at `at` and ends, in brackets or before a colon, a bar, a dash or a tab, where a message may begin; where it ends, and whether it is a place in a source file
/// (`gates/berth.go:17`).
fn logger(text: &[u8], at: usize) -> Option<(&[u8], usize, bool)> {
    let (from, close) = opened(text, at);
    text.get(from).filter(|b| b.is_ascii_alphabetic() || **b == b'_')?;
    let limit = text.len().min(from + LONGEST_NAME);
    let of_name = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'_' | b'-' | b'$' | b'/');
    let mut end = word_end(&text[..limit], from, of_name);
    while text[end..limit].starts_with(b"::") && text.get(end + 2).is_some_and(|b| of_name(*b)) {
        end = word_end(&text[..limit], end + 2, of_name);
    }
    let name = &text[from..end];
    if let Some(close) = close {
        let inside = skip_blanks(text, end);
        return (text.get(inside) == Some(&close)).then_some((name, inside + 1, false));
    }
    let digits = word_end(text, (end + 1).min(text.len()), |b| b.is_ascii_digit());
    if text.get(end) == Some(&b':') && digits > end + 1 && name.contains(&b'.') && matches!(text.get(digits), Some(b' ' | b'\t' | b':')) {
        return Some((&text[from..digits], digits, true));
    }
    if text[end..].starts_with(b" [-] ") {
        return Some((name, end + 4, false));
    }
    let rest = &text[skip_blanks(text, end)..];
    let padded = rest.len() < text.len() - end;
    let ends = match rest {
        [b':', b' ' | b'\t' | b'\n', ..] | [b':'] | [b'|', ..] => true,
        [b'-', b' ', ..] | [b'-', b'-', b' ', ..] => padded,
        _ => text.get(end) == Some(&b'\t'),
    };
    ends.then_some((name, end, false))
}

/// `gates.ERROR: `: a name and the level behind its last full stop.
fn logger_and_level(text: &[u8], at: usize) -> Option<(&[u8], &[u8], usize)> {
    let end = word_end(text, at, |b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'_' | b'-'));
    let stop = at + memchr::memrchr(b'.', &text[at..end])?;
    let level = &text[stop + 1..end];
    let is_level = text.get(end) == Some(&b':') && stop > at && level.len() > 1 && level.iter().all(u8::is_ascii_uppercase) && level_word(level).is_some();
    is_level.then_some((&text[at..stop], level, end))
}

/// A name of several parts in parentheses that a message ends with; what stands before it, and the name.
fn logger_at_the_end(message: &[u8]) -> Option<(&[u8], &[u8])> {
    let inner = message.strip_suffix(b")")?;
    let open = inner.len() - inner.iter().rev().take(LONGEST_NAME).position(|b| *b == b'(')? - 1;
    let name = &inner[open + 1..];
    let is_name =
        is_qualified(name) && name[0].is_ascii_alphabetic() && name.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'_' | b'$' | b':'));
    Some((inner[..open].strip_suffix(b" ")?, name)).filter(|_| is_name)
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
