//! Syslog messages (RFC 5424): severity, time, host and application out of the usual fields, the message as it is, all other values as structured data.

use crate::json::{self, Kind, Span};
use crate::level::Level;
use crate::scan;
use crate::time::{self, TimeForm};
use crate::usual::{APP_NAMES, FieldReader, HOST_NAMES};

/// The element that fields stand in. 32473 is the enterprise number for documentation.
const ELEMENT: &str = "fields@32473";
/// Longest name of a parameter, in bytes (RFC 5424, section 6.3.3).
const MAX_NAME: usize = 32;
/// Deepest objects whose members become parameters.
const MAX_DEPTH: usize = 4;

/// Fields of the header, best first, and the longest that may stand there in bytes.
const HOST: (&[&str], usize) = (HOST_NAMES, 255);
const APP: (&[&str], usize) = (APP_NAMES, 48);
const PROCESS: (&[&str], usize) = (&["process.pid", "pid"], 128);

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
        let names: Vec<&str> = ["time", "severity", "message"].iter().chain(HOST.0).chain(APP.0).chain(PROCESS.0).copied().collect();
        Syslog { facility, asked: FieldReader::new(&names), reader: time::Reader::new(&TimeForm::default()) }
    }

    /// Writes one event, without an end of its own: over a stream it is framed, over UDP it is a datagram. `now_ms` completes times that name no year.
    pub fn write(&mut self, event: &[u8], now_ms: i64, out: &mut Vec<u8>) {
        self.asked.read(event);
        let level = self.asked.text(event, 1).and_then(Level::read).unwrap_or(Level::Info);
        let severity = match level {
            Level::Trace | Level::Debug => 7,
            Level::Info => 6,
            Level::Warn => 4,
            Level::Error => 3,
            Level::Fatal => 2,
        };
        out.extend_from_slice(format!("<{}>1 ", self.facility.number() * 8 + severity).as_bytes());
        match self.asked.text(event, 0).and_then(|text| self.reader.read(text, now_ms)) {
            Some(at) => time::write(at, out),
            None => out.push(b'-'),
        }
        let mut used = vec![self.asked.span(0), self.asked.span(1), self.asked.span(2)];
        let mut at = 3;
        for (names, most) in [HOST, APP, PROCESS] {
            out.push(b' ');
            let found = (at..at + names.len()).find(|at| self.asked.span(*at).present());
            let text = found.and_then(|at| self.asked.text(event, at).map(<[u8]>::to_vec)).unwrap_or_default();
            header(&text, most, out);
            used.extend(found.map(|at| self.asked.span(at)));
            at += names.len();
        }
        out.extend_from_slice(b" - ");
        let mark = out.len();
        let whole = Span { start: 0, end: event.len() as u32, kind: Kind::Object };
        out.extend_from_slice(b"[");
        out.extend_from_slice(ELEMENT.as_bytes());
        let bare = out.len();
        parameters(event, whole, "", &used, MAX_DEPTH, out);
        if out.len() == bare {
            out.truncate(mark);
            out.push(b'-');
        } else {
            out.push(b']');
        }
        if let Some(message) = self.asked.text(event, 2) {
            out.push(b' ');
            out.extend_from_slice(message);
        }
    }
}

/// A part of the header: printable ASCII without blanks, not too long; `-` where nothing of it is left.
fn header(text: &[u8], most: usize, out: &mut Vec<u8>) {
    let before = out.len();
    out.extend(text.iter().map(|b| if b.is_ascii_graphic() { *b } else { b'_' }).take(most));
    if out.len() == before {
        out.push(b'-');
    }
}

/// Writes ` name="value"` for every member that is no object or array and stands in none of the places `used`.
fn parameters(event: &[u8], object: Span, prefix: &str, used: &[Span], depth: usize, out: &mut Vec<u8>) {
    for (key, value) in scan::members(event, object) {
        let mut name = Vec::new();
        json::unescape(&event[key.start as usize + 1..key.end as usize - 1], &mut name);
        let name = format!("{prefix}{}", String::from_utf8_lossy(&name));
        if used.contains(&value) || value.kind == Kind::Null {
            continue;
        }
        if value.kind == Kind::Object && depth > 0 {
            parameters(event, value, &format!("{name}."), used, depth - 1, out);
            continue;
        }
        out.push(b' ');
        let plain = |c: char| if c.is_ascii_graphic() && !matches!(c, '=' | ']' | '"') { c as u8 } else { b'_' };
        out.extend(name.chars().map(plain).take(MAX_NAME));
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
}
