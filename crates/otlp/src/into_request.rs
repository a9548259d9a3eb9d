//! Events as log records.

use std::collections::{BTreeMap, HashMap};

use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, InstrumentationScope, KeyValue};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use rockrose_event::field::names_of;
use rockrose_event::level::Level;
use rockrose_event::output::{each, portable};
use rockrose_event::scan;
use rockrose_event::usual::{APP_NAMES, HOST_NAMES, Usual};
use serde_json::Value as Json;

use crate::collector::ExportLogsServiceRequest;
use crate::value::{attribute, read};
use crate::{ATTRIBUTES, RESOURCE, RESOURCE_SCHEMA, SCOPE, SCOPE_SCHEMA};

/// The attribute that tells what of an event had to be rewritten: `text`, `number`, `depth`.
pub const REWRITTEN: &str = "rockrose.rewritten";
/// Deepest events that are written as they are. Each level is three of protobuf's, of which its readers take a hundred.
const MAX_DEPTH: usize = 24;

/// The members of an object, by name; so attributes stand in one order, however they were written.
type Members = BTreeMap<String, Json>;

/// Events, JSON objects a line each, as one request; records that share a resource and a scope stand together, in their order. `arrived_ms` is when each of them arrived, in
/// milliseconds since 1970 and as far as it is known: that completes times that name no year, and is when an event was observed that does not say so itself.
///
/// What the protocol or its readers cannot hold is rewritten (see [`portable`]), and the record's attribute [`REWRITTEN`] tells what. A line that is no JSON object makes no record: the
/// caller compares [`records`] with what it gave.
#[must_use]
pub fn to_request(lines: &[u8], arrived_ms: &[i64]) -> ExportLogsServiceRequest {
    let mut usual = Usual::new(&[HOST_NAMES, APP_NAMES]);
    let mut request = ExportLogsServiceRequest::default();
    let mut places: HashMap<String, (usize, HashMap<String, usize>)> = HashMap::new();
    let mut rewritten = Vec::new();
    for (at, line) in each(lines).enumerate() {
        let arrived_ms = arrived_ms.get(at).copied().unwrap_or(0);
        let Some((event, line)) = read_event(line, &mut rewritten) else { continue };
        usual.read(line);
        let Parts { resource, resource_schema, scope, scope_schema, record } = parts(event, line, &mut usual, arrived_ms);
        let (at, scopes) = places.entry(key(&resource, &resource_schema)).or_insert_with(|| {
            let attributes = resource.unwrap_or_default().into_iter().map(|(key, value)| attribute(key, value)).collect();
            request.resource_logs.push(ResourceLogs {
                resource: Some(Resource { attributes, ..Resource::default() }),
                scope_logs: Vec::new(),
                schema_url: resource_schema,
            });
            (request.resource_logs.len() - 1, HashMap::new())
        });
        let of_resource = &mut request.resource_logs[*at].scope_logs;
        let at = *scopes.entry(key(&scope, &scope_schema)).or_insert_with(|| {
            of_resource.push(ScopeLogs { scope: scope.map(instrumentation), log_records: Vec::new(), schema_url: scope_schema });
            of_resource.len() - 1
        });
        of_resource[at].log_records.push(record);
    }
    request
}

/// How many records a request holds.
#[must_use]
pub fn records(request: &ExportLogsServiceRequest) -> usize {
    request.resource_logs.iter().flat_map(|resource| &resource.scope_logs).map(|scope| scope.log_records.len()).sum()
}

/// An event, and the line that it was read from: its own, or one in `rewritten` that every reader takes.
fn read_event<'a>(line: &'a [u8], rewritten: &'a mut Vec<u8>) -> Option<(Members, &'a [u8])> {
    if scan::depth(line) <= MAX_DEPTH
        && let Ok(event) = serde_json::from_slice(line)
    {
        return Some((event, line));
    }
    rewritten.clear();
    let what = portable(line, MAX_DEPTH, rewritten);
    let mut event: Members = serde_json::from_slice(rewritten).ok()?;
    event.insert(REWRITTEN.to_owned(), what.words().collect());
    Some((event, rewritten))
}

struct Parts {
    resource: Option<Members>,
    resource_schema: String,
    scope: Option<Members>,
    scope_schema: String,
    record: LogRecord,
}

fn key(object: &Option<Members>, schema: &str) -> String {
    format!("{}\n{schema}", object.as_ref().and_then(|o| serde_json::to_string(o).ok()).unwrap_or_default())
}

fn parts(mut event: Members, line: &[u8], usual: &mut Usual, arrived_ms: i64) -> Parts {
    let mut record = LogRecord::default();
    // A member of another type than the one that is meant stays an attribute.
    let resource = take(&mut event, RESOURCE, object);
    let scope = take(&mut event, SCOPE, object);
    let resource_schema = take(&mut event, RESOURCE_SCHEMA, text).unwrap_or_default();
    let scope_schema = take(&mut event, SCOPE_SCHEMA, text).unwrap_or_default();
    let nanos = |at: Option<jiff::Timestamp>| at.and_then(|at| u64::try_from(at.as_nanosecond()).ok()).unwrap_or(0);
    if let Some(at) = usual.time(line, arrived_ms) {
        record.time_unix_nano = nanos(Some(at));
        remove_usual(&mut event, "time");
    }
    let observed = take(&mut event, "observed", |v| v.as_str().and_then(|t| t.parse().ok()).map(|at| nanos(Some(at))).ok_or(v));
    record.observed_time_unix_nano = observed.unwrap_or_else(|| u64::try_from(arrived_ms).unwrap_or(0).saturating_mul(1_000_000));
    if let Some(severity) = usual.severity(line) {
        let level = Level::read(severity.as_bytes());
        let base = level.map_or(0, |l| l as i32 * 4 + 1);
        let said = take(&mut event, "severity_number", |v| v.as_i64().filter(|n| (1..=24).contains(n)).map(|n| n as i32).ok_or(v));
        // A step that set another severity is right; else the number is finer than the word.
        record.severity_number = said.filter(|n| level.is_none() || (n - 1) / 4 == (base - 1) / 4).unwrap_or(base);
        record.severity_text = severity;
        remove_usual(&mut event, "severity");
    }
    record.body = remove_usual(&mut event, "message").map(read);
    record.trace_id = take(&mut event, "trace_id", |v| id(v, 16)).unwrap_or_default();
    record.span_id = take(&mut event, "span_id", |v| id(v, 8)).unwrap_or_default();
    record.flags = take(&mut event, "trace_flags", |v| v.as_u64().and_then(|n| u32::try_from(n).ok()).ok_or(v)).unwrap_or(0);
    record.event_name = take(&mut event, "event_name", text).unwrap_or_default();
    let aside = take(&mut event, ATTRIBUTES, object);
    let resource = resource.or_else(|| derived(line, usual, &mut event));
    record.attributes = event.into_iter().chain(aside.unwrap_or_default()).map(|(key, value)| attribute(key, value)).collect();
    Parts { resource, resource_schema, scope, scope_schema, record }
}

/// Takes out what stands under the first of the usual names that is there.
fn remove_usual(event: &mut Members, view: &str) -> Option<Json> {
    let name = names_of(view).iter().find(|name| event.contains_key(**name))?;
    event.remove(*name)
}

/// What an event that came another way says of where it is from, in the names that OpenTelemetry gives them.
fn derived(line: &[u8], usual: &mut Usual, event: &mut Members) -> Option<Members> {
    let mut resource = Members::new();
    for (list, name) in [(0, "host.name"), (1, "service.name")] {
        if let Some(value) = usual.text_of(line, list) {
            event.remove(name);
            resource.insert(name.to_owned(), Json::String(value));
        }
    }
    (!resource.is_empty()).then_some(resource)
}

/// Takes a member out if it is what it should be; else it stays.
fn take<T>(event: &mut Members, name: &str, as_it_should_be: impl FnOnce(Json) -> Result<T, Json>) -> Option<T> {
    match as_it_should_be(event.remove(name)?) {
        Ok(value) => Some(value),
        Err(other) => {
            event.insert(name.to_owned(), other);
            None
        }
    }
}

fn object(value: Json) -> Result<Members, Json> {
    if let Json::Object(members) = value { Ok(members.into_iter().collect()) } else { Err(value) }
}

fn text(value: Json) -> Result<String, Json> {
    if let Json::String(text) = value { Ok(text) } else { Err(value) }
}

/// An id of so many bytes, written in hexadecimal.
fn id(value: Json, bytes: usize) -> Result<Vec<u8>, Json> {
    let read = |text: &str| -> Option<Vec<u8>> {
        if text.len() != bytes * 2 || !text.bytes().all(|b| b.is_ascii_hexdigit()) {
            return None;
        }
        (0..bytes).map(|i| u8::from_str_radix(&text[2 * i..2 * i + 2], 16).ok()).collect()
    };
    value.as_str().and_then(read).ok_or(value)
}

fn instrumentation(mut scope: Members) -> InstrumentationScope {
    let name = take(&mut scope, "name", text).unwrap_or_default();
    let version = take(&mut scope, "version", text).unwrap_or_default();
    let attributes: Vec<KeyValue> = match scope.remove(ATTRIBUTES) {
        Some(Json::Object(attributes)) => attributes.into_iter().collect::<Members>().into_iter().map(|(key, value)| attribute(key, value)).collect(),
        Some(other) => {
            vec![KeyValue { key: ATTRIBUTES.to_owned(), value: Some(AnyValue { value: Some(Value::StringValue(other.to_string())) }), key_strindex: 0 }]
        }
        None => Vec::new(),
    };
    InstrumentationScope { name, version, attributes, ..InstrumentationScope::default() }
}
