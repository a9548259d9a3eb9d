#![doc = include_str!("crate.md")]

mod access;
mod container;
mod moment;
mod pairs;
mod syslog;
mod system_journal;
mod table;
mod template;
mod timed;
mod xml;

pub use moment::{InDigits, date_in_digits};
pub use syslog::SyslogReader;
pub use system_journal::{SystemEntry, read_system_entry};
pub use timed::tells_its_time;

use std::ops::Range;

use rockrose_event::field::{FieldTable, Path};
use rockrose_event::json::{self, Kind};
use rockrose_event::scan;
use rockrose_language::{Format, Part};

/// Most fields one `parse` adds.
const MAX_PAIRS: usize = 512;

/// A field's name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Name {
    /// By its place in [`Extractor::names`].
    Known(u16),
    /// Where it stands in [`Found::bytes`], escapes resolved.
    Free(Range<u32>),
}

/// What was found in one text.
#[derive(Debug, Default)]
pub struct Found {
    /// Names and JSON values, behind one another.
    pub bytes: Vec<u8>,
    /// Each name, and where its value stands in `bytes`.
    pub pairs: Vec<(Name, Range<u32>)>,
}

impl Found {
    fn clear(&mut self) {
        self.bytes.clear();
        self.pairs.clear();
    }

    fn put(&mut self, name: Name, write: impl FnOnce(&mut Vec<u8>)) {
        let from = self.bytes.len() as u32;
        write(&mut self.bytes);
        self.pairs.push((name, from..self.bytes.len() as u32));
    }

    fn free(&mut self, name: &[u8]) -> Name {
        let from = self.bytes.len() as u32;
        self.bytes.extend_from_slice(name);
        Name::Free(from..self.bytes.len() as u32)
    }

    /// A text under a known name. It must be UTF-8, as every piece is that was cut from an event's text at ASCII signs.
    fn text(&mut self, name: usize, text: &[u8]) {
        debug_assert!(std::str::from_utf8(text).is_ok(), "pieces are cut between characters");
        self.put(Name::Known(name as u16), |out| json::quote(text, out));
    }

    /// A text under a known name in which nothing needs an escape.
    fn plain(&mut self, name: usize, text: &[u8]) {
        debug_assert_eq!(rockrose_event::simd::string_stop(text, 0), text.len(), "nothing to escape");
        self.put(Name::Known(name as u16), |out| {
            out.reserve(text.len() + 2);
            out.push(b'"');
            out.extend_from_slice(text);
            out.push(b'"');
        });
    }

    /// A JSON token under a known name.
    fn token(&mut self, name: usize, token: &[u8]) {
        self.put(Name::Known(name as u16), |out| out.extend_from_slice(token));
    }

    /// A number or truth value as it stands, if it is one in JSON's writing; else a text.
    fn typed(&mut self, name: Name, text: &[u8]) {
        self.put(name, |out| if is_plain(text) { out.extend_from_slice(text) } else { quote(text, out) });
    }

    /// The name's own writing.
    #[must_use]
    pub fn name<'a>(&'a self, name: &Name, names: &'a [Vec<u8>]) -> &'a [u8] {
        match name {
            Name::Known(number) => &names[*number as usize],
            Name::Free(range) => &self.bytes[range.start as usize..range.end as usize],
        }
    }

    /// The value's JSON.
    #[must_use]
    pub fn value(&self, range: &Range<u32>) -> &[u8] {
        &self.bytes[range.start as usize..range.end as usize]
    }
}

fn quote(text: &[u8], out: &mut Vec<u8>) {
    match simdutf8::basic::from_utf8(text) {
        Ok(_) => json::quote(text, out),
        // A match can only end inside a character where the pattern works on bytes; what is cut off is shown as such.
        Err(_) => json::quote(String::from_utf8_lossy(text).as_bytes(), out),
    }
}

/// Whether a text can stand as a JSON number or truth value. Long digits are names and ids more often than amounts, and would lose their exactness in many readers; so are digits with
/// an `e` among them, but for the exponents that programs write (`5e-06`).
fn is_plain(text: &[u8]) -> bool {
    let number = || scan::value_at(text, 0).is_ok_and(|s| s.kind == Kind::Number && s.start == 0 && s.end as usize == text.len());
    let exponent = |at: usize| matches!(text[at + 1..], [b'+' | b'-', _] | [b'+' | b'-', _, _]);
    let no_id = memchr::memchr2(b'e', b'E', text).is_none_or(exponent);
    matches!(text, b"true" | b"false") || text.len() <= 15 && text.first().is_some_and(|b| b.is_ascii_digit() || *b == b'-') && no_id && number()
}

#[derive(Debug)]
enum CompiledFormat {
    Json,
    KeyValue,
    Csv,
    Tsv,
    AccessLog,
    Syslog,
    W3cLog,
    ContainerLog,
    TimedLine,
    Xml,
    Template(template::Compiled),
    /// The regex, and for each known name its group.
    Pattern(Box<regex::bytes::Regex>, Vec<usize>),
}

/// A compiled format.
#[derive(Debug)]
pub struct Extractor {
    compiled: CompiledFormat,
    names: Vec<Path>,
    /// Of columns: whether each is passed over.
    passed: Vec<bool>,
}

/// Buffers that reading needs.
#[derive(Debug, Default)]
pub struct Buffers {
    text: Vec<u8>,
    places: Option<regex::bytes::CaptureLocations>,
}

impl Extractor {
    /// Compiles a format that the parser has let pass.
    #[must_use]
    pub fn new(format: &Format) -> Extractor {
        let named = |names: &[&str]| names.iter().map(|n| Path::name(n)).collect::<Vec<_>>();
        let (compiled, names) = match format {
            Format::Json => (CompiledFormat::Json, Vec::new()),
            Format::KeyValue => (CompiledFormat::KeyValue, Vec::new()),
            Format::Csv(columns) => (CompiledFormat::Csv, columns.clone()),
            Format::Tsv(columns) => (CompiledFormat::Tsv, columns.clone()),
            Format::AccessLog => (CompiledFormat::AccessLog, named(access::NAMES)),
            Format::Syslog => (CompiledFormat::Syslog, named(syslog::NAMES)),
            Format::W3cLog(columns) => (CompiledFormat::W3cLog, columns.clone()),
            Format::ContainerLog => (CompiledFormat::ContainerLog, named(container::NAMES)),
            Format::TimedLine => (CompiledFormat::TimedLine, named(timed::NAMES)),
            Format::Xml => (CompiledFormat::Xml, Vec::new()),
            Format::Template(template) => {
                let fields = template.parts.iter().filter_map(|part| if let Part::Field(path, _) = part { path.clone() } else { None });
                (CompiledFormat::Template(template::Compiled::new(template)), fields.collect())
            }
            Format::Pattern(pattern) => match pattern.compile() {
                Ok(regex) => {
                    let (groups, names) = regex.capture_names().enumerate().filter_map(|(i, n)| Some((i, Path::name(n?)))).unzip();
                    (CompiledFormat::Pattern(Box::new(regex), groups), names)
                }
                Err(e) => unreachable!("the parser compiled it: {e}"),
            },
        };
        let passed = names.iter().map(|n| n.segments() == ["-"]).collect();
        Extractor { compiled, names, passed }
    }

    /// The fields it may write, by number.
    #[must_use]
    pub fn names(&self) -> &[Path] {
        &self.names
    }

    /// Reads `text` into `found`; says whether it is of this format. A time without a year is of the year before `now_ms`.
    pub fn read(&self, text: &[u8], now_ms: i64, found: &mut Found, room: &mut Buffers) -> bool {
        found.clear();
        let read = match &self.compiled {
            CompiledFormat::Json => object(text, found),
            CompiledFormat::KeyValue => pairs::key_value(text, found, &mut room.text),
            CompiledFormat::Csv => table::csv(text, &self.passed, found, &mut room.text),
            CompiledFormat::Tsv => table::tsv(text, &self.passed, found),
            CompiledFormat::AccessLog => access::read(text, found, &mut room.text),
            CompiledFormat::Syslog => syslog::read(text, now_ms, found),
            CompiledFormat::W3cLog => table::w3c(text, &self.passed, found, &mut room.text),
            CompiledFormat::ContainerLog => container::read(text, found, &mut room.text),
            CompiledFormat::TimedLine => timed::read(text, found, &mut room.text),
            CompiledFormat::Xml => xml::read(text, found),
            CompiledFormat::Template(template) => template.read(text, now_ms, found),
            CompiledFormat::Pattern(regex, groups) => pattern(regex, groups, text, found, &mut room.places),
        };
        if read.is_none() || found.pairs.len() > MAX_PAIRS {
            found.clear();
            return false;
        }
        true
    }
}

fn pattern(regex: &regex::bytes::Regex, groups: &[usize], text: &[u8], found: &mut Found, places: &mut Option<regex::bytes::CaptureLocations>) -> Option<()> {
    let places = match places {
        Some(places) if places.len() == regex.captures_len() => places,
        other => other.insert(regex.capture_locations()),
    };
    regex.captures_read(places, text)?;
    for (number, group) in groups.iter().enumerate() {
        if let Some((from, to)) = places.get(*group) {
            found.put(Name::Known(number as u16), |out| quote(&text[from..to], out));
        }
    }
    Some(())
}

/// A JSON object, whole.
fn object(text: &[u8], found: &mut Found) -> Option<()> {
    let scanned = scan::scan(text, FieldTable::none(), &mut Vec::new()).ok()?;
    if !text[scanned.end..].iter().all(u8::is_ascii_whitespace) {
        return None;
    }
    let start = text.iter().position(|b| *b == b'{')?;
    let members = scan::members(text, json::Span { start: start as u32, end: scanned.end as u32, kind: Kind::Object });
    if members.len() > MAX_PAIRS {
        return None;
    }
    for (key, value) in members {
        let from = found.bytes.len() as u32;
        json::unescape(&text[key.start as usize + 1..key.end as usize - 1], &mut found.bytes);
        let name = Name::Free(from..found.bytes.len() as u32);
        found.put(name, |out| scan::minify(value.of(text), out));
    }
    Some(())
}

#[cfg(test)]
mod output_tests;
#[cfg(test)]
mod tests;
#[cfg(test)]
mod timed_tests;
