//! Syslog messages (RFC 5424): severity, time, host and application out of the usual fields, the message as it is, all other values as structured data.

use crate::json::{self, Kind, Span};
use crate::level::Level;
use crate::scan;
use crate::time::{self, TimeForm};
use crate::usual::{APP_NAMES, FieldReader, HOST_NAMES};

/// The facilities (RFC 5424, section 6.2.1), by number.
pub const FACILITIES: [&str; 24] = [
    "kernel", "user", "mail", "daemon", "auth", "syslog", "printer", "news", "uucp", "clock", "authpriv", "ftp", "ntp", "audit", "alert", "cron", "local0",
    "local1", "local2", "local3", "local4", "local5", "local6", "local7",
];
/// The severities, by number.
pub const SEVERITIES: [&str; 8] = ["emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"];

/// The element that fields stand in. 32473 is the enterprise number for documentation.
const ELEMENT: &str = "fields@32473";
/// Longest name of an element or a parameter, in bytes (RFC 5424, section 6.3.3).
const MAX_NAME: usize = 32;
/// Elements that everybody knows (section 7), whose names have no enterprise number.
const KNOWN_ELEMENTS: [&str; 3] = ["timeQuality", "origin", "meta"];
/// Most digits of a second's fraction (section 6.2.3).
const MAX_DECIMALS: usize = 6;
/// Deepest objects whose members become parameters.
const MAX_DEPTH: usize = 4;

/// Fields of the header, best first, and the longest that may stand there in bytes.
const HOST: (&[&str], usize) = (HOST_NAMES, 255);
const APP: (&[&str], usize) = (APP_NAMES, 48);
const PROCESS: (&[&str], usize) = (&["process", "process.pid", "pid"], 128);
const MESSAGE_ID: (&[&str], usize) = (&["message_id"], 32);

/// The part of a system that messages come from.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SyslogFacility {
    /// User-level messages.
    #[default]
    User,
    /// System daemons.
    Daemon,
    /// Security and authorization.
    Auth,
    /// Local use, 0 to 7.
    Local(u8),
}

impl SyslogFacility {
    /// The words a plan may say.
    pub const WORDS: &[&str] = &["user", "daemon", "auth", "local0", "local1", "local2", "local3", "local4", "local5", "local6", "local7"];

    /// Reads the word.
    #[must_use]
    pub fn read(word: &str) -> Option<SyslogFacility> {
        Some(match word {
            "user" => SyslogFacility::User,
            "daemon" => SyslogFacility::Daemon,
            "auth" => SyslogFacility::Auth,
            _ => SyslogFacility::Local(word.strip_prefix("local")?.parse().ok().filter(|n| *n < 8)?),
        })
    }

    fn number(self) -> u8 {
        match self {
            SyslogFacility::User => 1,
            SyslogFacility::Daemon => 3,
            SyslogFacility::Auth => 4,
            SyslogFacility::Local(n) => 16 + n,
        }
    }
}

/// Writes syslog messages. Kept from event to event.
pub struct Syslog {
    facility: SyslogFacility,
    asked: FieldReader,
    reader: time::Reader,
}

impl Syslog {
    /// For messages of one facility.
    #[must_use]
    pub fn new(facility: SyslogFacility) -> Syslog {
        let header = [HOST, APP, PROCESS, MESSAGE_ID].into_iter().flat_map(|(names, _)| names);
        let names: Vec<&str> = ["time", "severity", "message", "facility"].iter().chain(header).copied().collect();
        Syslog { facility, asked: FieldReader::new(&names), reader: time::Reader::new(&TimeForm::default()) }
    }

    /// Writes one event, without an end of its own: over a stream it is framed, over UDP it is a datagram. `now_ms` completes times that name no year.
    ///
    /// One that came by syslog leaves with its facility, severity, process, message id and structured data as they were.
    pub fn write(&mut self, event: &[u8], now_ms: i64, out: &mut Vec<u8>) {
        self.asked.read(event);
        let own = self.asked.text(event, 3).and_then(|word| FACILITIES.iter().position(|f| f.as_bytes() == word));
        let facility = own.unwrap_or(usize::from(self.facility.number()));
        let severity = self.asked.text(event, 1).map_or(6, severity);
        out.extend_from_slice(format!("<{}>1 ", facility * 8 + severity).as_bytes());
        match self.asked.text(event, 0).and_then(|text| self.reader.read(text, now_ms)) {
            Some(at) => stamp(at, out),
            None => out.push(b'-'),
        }
        let mut used = vec![self.asked.span(0), self.asked.span(1), self.asked.span(2)];
        used.extend(own.map(|_| self.asked.span(3)));
        let mut at = 4;
        for (names, most) in [HOST, APP, PROCESS, MESSAGE_ID] {
            out.push(b' ');
            let found = (at..at + names.len()).find(|at| is_one_value(self.asked.span(*at)));
            let text = found.and_then(|at| self.asked.text(event, at).map(<[u8]>::to_vec)).unwrap_or_default();
            header(&text, most, out);
            used.extend(found.map(|at| self.asked.span(at)));
            at += names.len();
        }
        out.push(b' ');
        structured(event, &used, own.is_some(), out);
        if let Some(message) = self.asked.text(event, 2) {
            out.push(b' ');
            out.extend_from_slice(message);
        }
    }
}

/// A severity by its word here, or the level that another word means.
fn severity(word: &[u8]) -> usize {
    if let Some(number) = SEVERITIES.iter().position(|s| s.as_bytes() == word) {
        return number;
    }
    match Level::read(word).unwrap_or(Level::Info) {
        Level::Trace | Level::Debug => 7,
        Level::Info => 6,
        Level::Warn => 4,
        Level::Error => 3,
        Level::Fatal => 2,
    }
}

/// Writes a time with no more decimals than may stand there.
fn stamp(at: jiff::Timestamp, out: &mut Vec<u8>) {
    let begun = out.len();
    time::write(at, out);
    if let Some(point) = memchr::memchr(b'.', &out[begun..]).map(|at| begun + at)
        && out.len() - point > MAX_DECIMALS + 2
    {
        out.truncate(point + 1 + MAX_DECIMALS);
        while out.last() == Some(&b'0') {
            out.pop();
        }
        if out.last() == Some(&b'.') {
            out.pop();
        }
        out.push(b'Z');
    }
}

/// Whether a value is there that can stand in the header: no object, list or null.
fn is_one_value(span: Span) -> bool {
    !matches!(span.kind, Kind::Missing | Kind::Null | Kind::Object | Kind::Array)
}

/// Writes the structured data: the elements that the event came with, and all its other values in one of ours; `-` where there are none. Only where `came` by syslog are elements
/// taken for such that have no enterprise number.
fn structured(event: &[u8], used: &[Span], came: bool, out: &mut Vec<u8>) {
    let whole = Span { start: 0, end: event.len() as u32, kind: Kind::Object };
    let mark = out.len();
    let mut used = used.to_vec();
    let mut elements: Vec<(String, Vec<u8>)> = Vec::new();
    for (key, value) in scan::members(event, whole) {
        let name = unescaped(event, key);
        let Some((element, parameter)) = element_of(&name, came).filter(|_| is_one_value(value)) else { continue };
        used.push(value);
        let at = elements.iter().position(|(name, _)| name == element).unwrap_or_else(|| {
            elements.push((element.to_owned(), Vec::new()));
            elements.len() - 1
        });
        write_parameter(event, parameter, value, &mut elements[at].1);
    }
    let mut rest = Vec::new();
    parameters(event, whole, "", &used, MAX_DEPTH, &mut rest);
    if !rest.is_empty() {
        elements.push((ELEMENT.to_owned(), rest));
    }
    for (element, parameters) in elements {
        out.push(b'[');
        out.extend_from_slice(element.as_bytes());
        out.extend_from_slice(&parameters);
        out.push(b']');
    }
    if out.len() == mark {
        out.push(b'-');
    }
}

/// The element and the parameter of a field that came by syslog: `port@32473.name`.
fn element_of(name: &str, came: bool) -> Option<(&str, &str)> {
    let (element, parameter) = match name.split_once('@') {
        Some((before, rest)) => {
            let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
            (&name[..before.len() + 1 + digits], rest[digits..].strip_prefix('.').filter(|_| digits > 0)?)
        }
        None => name.split_once('.').filter(|(element, _)| came && KNOWN_ELEMENTS.contains(element))?,
    };
    let is_name = |text: &str| (1..=MAX_NAME).contains(&text.len()) && text.chars().all(is_name_character);
    (is_name(element) && is_name(parameter)).then_some((element, parameter))
}

/// Whether a character may stand in the name of an element or a parameter.
fn is_name_character(c: char) -> bool {
    c.is_ascii_graphic() && !matches!(c, '=' | ']' | '"')
}

fn unescaped(event: &[u8], key: Span) -> String {
    let mut name = Vec::new();
    json::unescape(&event[key.start as usize + 1..key.end as usize - 1], &mut name);
    String::from_utf8_lossy(&name).into_owned()
}

/// A part of the header: printable ASCII without blanks, not too long; `-` where nothing of it is left.
fn header(text: &[u8], most: usize, out: &mut Vec<u8>) {
    let before = out.len();
    out.extend(text.iter().map(|b| if b.is_ascii_graphic() { *b } else { b'_' }).take(most));
    if out.len() == before {
        out.push(b'-');
    }
}

/// Writes ` name="value"` for every member that is not an object or null and stands in none of the places `used`.
fn parameters(event: &[u8], object: Span, prefix: &str, used: &[Span], depth: usize, out: &mut Vec<u8>) {
    for (key, value) in scan::members(event, object) {
        if used.contains(&value) || value.kind == Kind::Null {
            continue;
        }
        let name = format!("{prefix}{}", unescaped(event, key));
        if value.kind == Kind::Object && depth > 0 {
            parameters(event, value, &format!("{name}."), used, depth - 1, out);
        } else {
            write_parameter(event, &name, value, out);
        }
    }
}

/// Writes ` name="value"`. What cannot stand in a name is `_`, and so is a name that is empty.
fn write_parameter(event: &[u8], name: &str, value: Span, out: &mut Vec<u8>) {
    out.push(b' ');
    let name = if name.is_empty() { "_" } else { name };
    out.extend(name.chars().map(|c| if is_name_character(c) { c as u8 } else { b'_' }).take(MAX_NAME));
    out.extend_from_slice(b"=\"");
    let mut scratch = Vec::new();
    for b in json::text(event, value, &mut scratch) {
        if matches!(b, b'"' | b'\\' | b']') {
            out.push(b'\\');
        }
        out.push(*b);
    }
    out.push(b'"');
}
