//! Log records as events.

use std::collections::HashSet;

use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use opentelemetry_proto::tonic::resource::v1::Resource;
use rockrose_event::json::quote;
use rockrose_event::level::Level;

use crate::collector::ExportLogsServiceRequest;
use crate::value::{write, write_int, write_object};
use crate::{ATTRIBUTES, RESOURCE, RESOURCE_SCHEMA, SCOPE, SCOPE_SCHEMA, is_own};

/// A batch becomes more bytes of events than it may: what its records share stands in each of them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the batch becomes more than {0} bytes of events")]
pub struct TooLong(pub usize);

/// The bytes are no request: what is wrong with them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Broken(pub(crate) &'static str);

/// Why a request does not become lines.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotLines {
    /// It is none.
    #[error(transparent)]
    Broken(#[from] Broken),
    /// It would be too many.
    #[error(transparent)]
    TooLong(#[from] TooLong),
}

/// A request's records as lines.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Lines {
    /// A JSON object on a line for each record, in their order. One that could not be read has what came of it there.
    pub text: Vec<u8>,
    /// Which lines are records that could not be read, from 1 and rising, and why.
    pub unreadable: Vec<(u32, String)>,
}

/// Writes a request's records as lines, each for itself: what is wrong with one harms no other.
pub(crate) struct Writer {
    lines: Lines,
    count: u32,
    max: usize,
}

impl Writer {
    /// For `max` bytes at the most, and perhaps about `bytes`.
    pub(crate) fn new(bytes: usize, max: usize) -> Writer {
        Writer { lines: Lines { text: start(bytes, max), unreadable: Vec::new() }, count: 0, max }
    }

    /// Writes a record by `write`, or where that fails, what came of it by `came`.
    pub(crate) fn record<E: ToString>(&mut self, write: impl FnOnce(&mut Vec<u8>) -> Result<(), E>, came: impl FnOnce(&mut Vec<u8>)) -> Result<(), TooLong> {
        self.count += 1;
        let begun = self.lines.text.len();
        if let Err(why) = write(&mut self.lines.text) {
            self.lines.text.truncate(begun);
            came(&mut self.lines.text);
            self.lines.text.push(b'\n');
            self.lines.unreadable.push((self.count, why.to_string()));
        }
        if self.lines.text.len() > self.max { Err(TooLong(self.max)) } else { Ok(()) }
    }

    pub(crate) fn finish(self) -> Lines {
        self.lines
    }
}

/// A value that can be written as JSON.
pub(crate) trait Value: Copy {
    fn write(self, out: &mut Vec<u8>) -> Result<(), Broken>;
}

impl Value for Option<&AnyValue> {
    fn write(self, out: &mut Vec<u8>) -> Result<(), Broken> {
        write(self, out)
    }
}

/// A record's own fields, but for its attributes.
pub(crate) struct Record<'a, V> {
    pub(crate) time: u64,
    pub(crate) observed: u64,
    pub(crate) severity_number: i32,
    pub(crate) severity_text: &'a [u8],
    pub(crate) body: Option<V>,
    pub(crate) trace_id: &'a [u8],
    pub(crate) span_id: &'a [u8],
    pub(crate) flags: u32,
    pub(crate) event_name: &'a [u8],
}

impl<V> Default for Record<'_, V> {
    fn default() -> Self {
        Record { time: 0, observed: 0, severity_number: 0, severity_text: &[], body: None, trace_id: &[], span_id: &[], flags: 0, event_name: &[] }
    }
}

/// Room for about so many bytes of lines.
pub(crate) fn start(bytes: usize, max: usize) -> Vec<u8> {
    rockrose_event::buffers::take(bytes.min(max))
}

/// About how long a line is, in bytes.
const USUAL_LINE: usize = 512;

/// The records of a request as JSON objects, a line each, of `max` bytes together at the most.
///
/// # Errors
/// If the lines are too many, or a value of a record is nested too deep.
pub fn to_lines(request: &ExportLogsServiceRequest, max: usize) -> Result<Vec<u8>, NotLines> {
    let records: usize = request.resource_logs.iter().flat_map(|r| &r.scope_logs).map(|s| s.log_records.len()).sum();
    let mut out = start(records.saturating_mul(USUAL_LINE), max);
    let mut shared = Vec::new();
    for of_resource in &request.resource_logs {
        for of_scope in &of_resource.scope_logs {
            shared.clear();
            share_resource(of_resource.resource.as_ref(), &of_resource.schema_url, &mut shared)?;
            share_scope(of_scope.scope.as_ref(), &of_scope.schema_url, &mut shared)?;
            for record in &of_scope.log_records {
                record_line(record, &shared, &mut out)?;
                if out.len() > max {
                    return Err(TooLong(max).into());
                }
            }
        }
    }
    Ok(out)
}

/// Writes a record, and what it shares with others, as a line.
pub(crate) fn record_line(record: &LogRecord, shared: &[u8], out: &mut Vec<u8>) -> Result<(), Broken> {
    let attributes: Vec<_> = record.attributes.iter().map(|a| (a.key.as_bytes(), a.value.as_ref())).collect();
    line(&own(record), &attributes, shared, out)
}

fn own(record: &LogRecord) -> Record<'_, Option<&AnyValue>> {
    Record {
        time: record.time_unix_nano,
        observed: record.observed_time_unix_nano,
        severity_number: record.severity_number,
        severity_text: record.severity_text.as_bytes(),
        body: record.body.as_ref().map(Some),
        trace_id: &record.trace_id,
        span_id: &record.span_id,
        flags: record.flags,
        event_name: record.event_name.as_bytes(),
    }
}

const HEX: &[u8; 16] = b"0123456789abcdef";

/// Writes `,"name":`.
#[inline(always)]
fn name(name: &str, out: &mut Vec<u8>) {
    out.extend_from_slice(b",\"");
    out.extend_from_slice(name.as_bytes());
    out.extend_from_slice(b"\":");
}

pub(crate) fn share_resource(resource: Option<&Resource>, schema: &str, out: &mut Vec<u8>) -> Result<(), Broken> {
    if let Some(resource) = resource.filter(|r| !r.attributes.is_empty()) {
        name(RESOURCE, out);
        write_object(&resource.attributes, out)?;
    }
    if !schema.is_empty() {
        name(RESOURCE_SCHEMA, out);
        quote(schema.as_bytes(), out);
    }
    Ok(())
}

pub(crate) fn share_scope(scope: Option<&InstrumentationScope>, schema: &str, out: &mut Vec<u8>) -> Result<(), Broken> {
    if let Some(scope) = scope {
        name(SCOPE, out);
        out.extend_from_slice(b"{\"name\":");
        quote(scope.name.as_bytes(), out);
        out.extend_from_slice(b",\"version\":");
        quote(scope.version.as_bytes(), out);
        if !scope.attributes.is_empty() {
            name(ATTRIBUTES, out);
            write_object(&scope.attributes, out)?;
        }
        out.push(b'}');
    }
    if !schema.is_empty() {
        name(SCOPE_SCHEMA, out);
        quote(schema.as_bytes(), out);
    }
    Ok(())
}

pub(crate) fn line<V: Value>(record: &Record<'_, V>, attributes: &[(&[u8], V)], shared: &[u8], out: &mut Vec<u8>) -> Result<(), Broken> {
    let start = out.len();
    if record.time > 0 {
        name("time", out);
        time(record.time, out);
    }
    if record.observed > 0 {
        name("observed", out);
        time(record.observed, out);
    }
    let level = usize::try_from(record.severity_number - 1).ok().and_then(|n| Level::ALL.get(n / 4));
    if !record.severity_text.is_empty() {
        name("severity", out);
        quote(record.severity_text, out);
    } else if let Some(level) = level {
        name("severity", out);
        quote(level.word().as_bytes(), out);
    }
    if level.is_some() {
        name("severity_number", out);
        write_int(record.severity_number.into(), out);
    }
    if let Some(body) = record.body {
        name("message", out);
        body.write(out)?;
    }
    for (member, id) in [("trace_id", record.trace_id), ("span_id", record.span_id)] {
        if !id.is_empty() {
            name(member, out);
            out.push(b'"');
            out.extend(id.iter().flat_map(|b| [HEX[usize::from(b >> 4)], HEX[usize::from(b & 15)]]));
            out.push(b'"');
        }
    }
    if record.flags > 0 {
        name("trace_flags", out);
        write_int(record.flags.into(), out);
    }
    if !record.event_name.is_empty() {
        name("event_name", out);
        quote(record.event_name, out);
    }
    write_attributes(attributes, out)?;
    out.extend_from_slice(shared);
    if out.len() == start {
        out.push(b'{');
    } else {
        // In place of the first comma.
        out[start] = b'{';
    }
    out.extend_from_slice(b"}\n");
    Ok(())
}

/// Writes attributes as members; those whose names are taken stand together in one.
fn write_attributes<V: Value>(attributes: &[(&[u8], V)], out: &mut Vec<u8>) -> Result<(), Broken> {
    let (mut sketches, mut many): (u64, HashSet<&[u8]>) = (0, HashSet::new());
    // Whether an attribute is the first of its name: of many it is kept which there were; a few are compared, and that only where a sketch of the name was met before.
    let mut is_first = |at: usize| {
        let (name, _) = attributes[at];
        if attributes.len() > FEW {
            return many.insert(name);
        }
        let sketch = 1 << (sketch(name) & 63);
        let met = sketches & sketch != 0;
        sketches |= sketch;
        !met || attributes[..at].iter().all(|(other, _)| *other != name)
    };
    let mut aside: Vec<(&[u8], V)> = Vec::new();
    let member = |(key, value): (&[u8], V), out: &mut Vec<u8>| {
        quote(key, out);
        out.push(b':');
        value.write(out)
    };
    for (at, attribute) in attributes.iter().enumerate() {
        if !is_first(at) {
            continue;
        }
        if is_own(attribute.0) {
            aside.push(*attribute);
            continue;
        }
        out.push(b',');
        member(*attribute, out)?;
    }
    if !aside.is_empty() {
        name(ATTRIBUTES, out);
        for (i, attribute) in aside.into_iter().enumerate() {
            out.push(if i == 0 { b'{' } else { b',' });
            member(attribute, out)?;
        }
        out.push(b'}');
    }
    Ok(())
}

/// So many attributes are few.
const FEW: usize = 16;

/// A number that is the same for the same names, and mostly another for others.
fn sketch(name: &[u8]) -> u32 {
    let [first, last] = [name.first(), name.last()].map(|b| u32::from(b.copied().unwrap_or(0)));
    (name.len() as u32).wrapping_mul(23) ^ first.wrapping_mul(5) ^ last.wrapping_mul(11)
}

/// A time in nanoseconds since 1970, as RFC 3339 in UTC.
fn time(nanos: u64, out: &mut Vec<u8>) {
    out.push(b'"');
    rockrose_event::time::write_nanoseconds(nanos, out);
    out.push(b'"');
}
