//! OTLP in JSON: read strictly, so that nothing vanishes without a word, and each record for itself, so that what is wrong with one harms no other.
//!
//! Names are taken as the protocol has them (`resourceLogs`) and as protobuf does (`resource_logs`), numbers of 64 bits as texts or numbers, levels by number or name. What is
//! not known is passed over, as the protocol asks, but a request without `resourceLogs`, and a value of an unknown sort, are mistakes. A request that is an empty object has no records.

use std::borrow::Cow;
use std::collections::HashMap;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, ArrayValue, InstrumentationScope, KeyValue, KeyValueList};
use opentelemetry_proto::tonic::logs::v1::LogRecord;
use opentelemetry_proto::tonic::resource::v1::Resource;
use rockrose_event::scan::minify;
use serde_json::value::RawValue;
use serde_json::{Map, Value as Json};

use crate::TooLong;
use crate::into_lines::{Lines, Writer, record_line, share_resource, share_scope};
use crate::value::TOO_DEEP;

/// Deepest values: each is several levels of JSON.
const MAX_DEPTH: usize = 32;

/// Why a body is no request in JSON.
#[derive(Debug, thiserror::Error)]
pub enum JsonError {
    /// It is no JSON.
    #[error(transparent)]
    Syntax(#[from] serde_json::Error),
    /// It is JSON, but not of the protocol's shape: what is wrong, and where.
    #[error("{0}")]
    Shape(String),
    /// Its records are too many.
    #[error(transparent)]
    TooLong(#[from] TooLong),
}

impl From<String> for JsonError {
    fn from(says: String) -> JsonError {
        JsonError::Shape(says)
    }
}

/// What was read, or what is wrong with it in words, to which each level adds where that stands.
type Read<T> = Result<T, String>;
/// An object whose members are not read yet.
type Unread<'a> = HashMap<Cow<'a, str>, &'a RawValue>;

/// The records of a request in JSON as JSON objects, a line each, of `max` bytes together at the most. Of a record that cannot be read, what was sent stands there.
///
/// # Errors
/// If the body is no JSON, or not of the protocol's shape, or the lines are too many.
pub fn lines_of_json(body: &[u8], max: usize) -> Result<Lines, JsonError> {
    let (text, odd) = readable(body);
    let mut out = Writer::new(body.len(), max);
    let request: Unread<'_> = serde_json::from_str(&text)?;
    if request.is_empty() {
        return Ok(out.finish());
    }
    if unread_member(&request, "resourceLogs", "resource_logs").is_none() {
        return Err(JsonError::Shape("the request has no `resourceLogs`".to_owned()));
    }
    let mut shared = Vec::new();
    for (at, of_resource) in unread_list(&request, "resourceLogs", "resource_logs")?.into_iter().enumerate() {
        let place = format!("resourceLogs[{at}]");
        let resource = share_one(&of_resource, "resource", odd, resource);
        for (at, of_scope) in unread_list(&of_resource, "scopeLogs", "scope_logs").map_err(|e| format!("{place}: {e}"))?.into_iter().enumerate() {
            let place = format!("{place}: scopeLogs[{at}]");
            let scope = share_one(&of_scope, "scope", odd, scope);
            shared.clear();
            let sharing = share(&resource, &scope, &mut shared);
            for (at, unread) in unread_items(&of_scope, "logRecords", "log_records").map_err(|e| format!("{place}: {e}"))?.into_iter().enumerate() {
                let write = |out: &mut Vec<u8>| {
                    sharing.clone().map_err(|e| format!("{place}: {e}"))?;
                    let read = read_record(unread, odd).and_then(|record| record_line(&record, &shared, out).map_err(|e| e.to_string()));
                    read.map_err(|e| format!("{place}: logRecords[{at}]: {e}"))
                };
                out.record(write, |out| came(unread, out))?;
            }
        }
    }
    Ok(out.finish())
}

/// A body as text. Bytes that are not UTF-8 are a character that stands nowhere else in it, by which the records that have them are known.
fn readable(body: &[u8]) -> (Cow<'_, str>, Option<char>) {
    if let Ok(text) = std::str::from_utf8(body) {
        return (Cow::Borrowed(text.strip_prefix('\u{feff}').unwrap_or(text)), None);
    }
    let text = String::from_utf8_lossy(body);
    // Of these 32 no text that means something has any (Unicode, section 23.7).
    let odd = ('\u{fdd0}'..='\u{fdef}').find(|c| !text.contains(*c));
    let odd = odd.unwrap_or(char::REPLACEMENT_CHARACTER);
    let mut marked = String::with_capacity(text.len());
    for chunk in body.utf8_chunks() {
        marked.push_str(chunk.valid());
        if !chunk.invalid().is_empty() {
            marked.push(odd);
        }
    }
    (Cow::Owned(marked), Some(odd))
}

/// A record that cannot be read, as it came.
fn came(unread: &RawValue, out: &mut Vec<u8>) {
    out.extend_from_slice(b"{\"json\":");
    minify(unread.get().as_bytes(), out);
    out.push(b'}');
}

/// Reads a value, in which there may be no `odd` character.
fn read_value(unread: &RawValue, odd: Option<char>) -> Read<Json> {
    if odd.is_some_and(|odd| unread.get().contains(odd)) {
        return Err("a text is not UTF-8".to_owned());
    }
    serde_json::from_str(unread.get()).map_err(|e| if e.to_string().contains("recursion") { TOO_DEEP.to_owned() } else { e.to_string() })
}

fn read_record(unread: &RawValue, odd: Option<char>) -> Read<LogRecord> {
    record(object(&read_value(unread, odd)?, "the record")?)
}

/// The members of an object, which are not read.
fn unread_object<'a>(raw: &'a RawValue, what: &str) -> Read<Unread<'a>> {
    serde_json::from_str(raw.get()).map_err(|_| format!("{what} is not an object"))
}

fn unread_member<'a>(of: &Unread<'a>, name: &str, other: &str) -> Option<&'a RawValue> {
    of.get(name).or_else(|| of.get(other)).copied().filter(|raw| raw.get() != "null")
}

/// The items of a list, which are not read; one that is missing is empty.
fn unread_items<'a>(of: &Unread<'a>, name: &str, other: &str) -> Read<Vec<&'a RawValue>> {
    let Some(found) = unread_member(of, name, other) else { return Ok(Vec::new()) };
    serde_json::from_str(found.get()).map_err(|_| format!("`{name}` is not a list"))
}

fn unread_list<'a>(of: &Unread<'a>, name: &str, other: &str) -> Read<Vec<Unread<'a>>> {
    unread_items(of, name, other)?.into_iter().enumerate().map(|(at, item)| unread_object(item, &format!("`{name}[{at}]`"))).collect()
}

/// What records share, and its schema's URL.
type SharedPart<T> = Read<(Option<T>, String)>;

fn share_one<T>(of: &Unread<'_>, name: &str, odd: Option<char>, read: impl Fn(&Map<String, Json>) -> Read<T>) -> SharedPart<T> {
    let json = |raw: &RawValue, name: &str| read_value(raw, odd).map_err(|e| format!("`{name}`: {e}"));
    let shared = unread_member(of, name, name).map(|raw| {
        let json = json(raw, name)?;
        read(object(&json, &format!("`{name}`"))?).map_err(|e| format!("`{name}`: {e}"))
    });
    let schema = match unread_member(of, "schemaUrl", "schema_url").map(|raw| json(raw, "schemaUrl")).transpose()? {
        None => String::new(),
        Some(Json::String(text)) => text,
        Some(_) => return Err("`schemaUrl` is not a text".to_owned()),
    };
    Ok((shared.transpose()?, schema))
}

fn share(resource: &SharedPart<Resource>, scope: &SharedPart<InstrumentationScope>, out: &mut Vec<u8>) -> Read<()> {
    let (resource, resource_schema) = resource.as_ref().map_err(Clone::clone)?;
    let (scope, schema) = scope.as_ref().map_err(Clone::clone)?;
    let written = share_resource(resource.as_ref(), resource_schema, out).and_then(|()| share_scope(scope.as_ref(), schema, out));
    written.map_err(|e| e.to_string())
}

fn object<'a>(json: &'a Json, what: &str) -> Read<&'a Map<String, Json>> {
    json.as_object().ok_or_else(|| format!("{what} is not an object"))
}

fn member<'a>(of: &'a Map<String, Json>, name: &str, other: &str) -> Option<&'a Json> {
    of.get(name).or_else(|| of.get(other)).filter(|v| !v.is_null())
}

/// Reads each item of a list; one that is missing is empty.
fn list<T>(of: &Map<String, Json>, name: &str, other: &str, each: impl Fn(&Map<String, Json>) -> Read<T>) -> Read<Vec<T>> {
    let Some(found) = member(of, name, other) else { return Ok(Vec::new()) };
    let items = found.as_array().ok_or_else(|| format!("`{name}` is not a list"))?;
    items.iter().enumerate().map(|(i, item)| each(object(item, &format!("`{name}[{i}]`"))?).map_err(|e| format!("{name}[{i}]: {e}"))).collect()
}

fn text(of: &Map<String, Json>, name: &str, other: &str) -> Read<String> {
    match member(of, name, other) {
        None => Ok(String::new()),
        Some(Json::String(text)) => Ok(text.clone()),
        Some(_) => Err(format!("`{name}` is not a text")),
    }
}

/// A number, which may be written as a text.
fn number<T: std::str::FromStr + Default>(of: &Map<String, Json>, name: &str, other: &str) -> Read<T> {
    let written = match member(of, name, other) {
        None => return Ok(T::default()),
        Some(Json::Number(n)) => n.to_string(),
        Some(Json::String(text)) => text.clone(),
        Some(_) => return Err(format!("`{name}` is not a number")),
    };
    written.parse().map_err(|_| format!("`{name}` is not a valid number: {written}"))
}

fn resource(of: &Map<String, Json>) -> Read<Resource> {
    Ok(Resource { attributes: attributes(of)?, ..Resource::default() })
}

fn scope(of: &Map<String, Json>) -> Read<InstrumentationScope> {
    let (name, version) = (text(of, "name", "name")?, text(of, "version", "version")?);
    Ok(InstrumentationScope { name, version, attributes: attributes(of)?, ..InstrumentationScope::default() })
}

fn record(of: &Map<String, Json>) -> Read<LogRecord> {
    Ok(LogRecord {
        time_unix_nano: number(of, "timeUnixNano", "time_unix_nano")?,
        observed_time_unix_nano: number(of, "observedTimeUnixNano", "observed_time_unix_nano")?,
        severity_number: severity(of)?,
        severity_text: text(of, "severityText", "severity_text")?,
        body: member(of, "body", "body").map(|v| value(v, MAX_DEPTH)).transpose().map_err(|e| format!("body: {e}"))?,
        attributes: attributes(of)?,
        dropped_attributes_count: number(of, "droppedAttributesCount", "dropped_attributes_count")?,
        flags: number(of, "flags", "flags")?,
        trace_id: id(of, "traceId", "trace_id", 16)?,
        span_id: id(of, "spanId", "span_id", 8)?,
        event_name: text(of, "eventName", "event_name")?,
    })
}

/// A level, by its number or as protobuf names it: `SEVERITY_NUMBER_WARN2`.
fn severity(of: &Map<String, Json>) -> Read<i32> {
    let Some(Json::String(name)) = member(of, "severityNumber", "severity_number") else { return number(of, "severityNumber", "severity_number") };
    if let Ok(number) = name.parse() {
        return Ok(number);
    }
    let word = name.strip_prefix("SEVERITY_NUMBER_").unwrap_or(name);
    let (word, finer) = match word.as_bytes().last() {
        Some(digit @ b'2'..=b'4') => (&word[..word.len() - 1], i32::from(digit - b'1')),
        _ => (word, 0),
    };
    let words = ["TRACE", "DEBUG", "INFO", "WARN", "ERROR", "FATAL"];
    match words.iter().position(|w| *w == word) {
        Some(at) => Ok(at as i32 * 4 + 1 + finer),
        None if word == "UNSPECIFIED" => Ok(0),
        None => Err(format!("`severityNumber` is not a level: {name}")),
    }
}

/// An id in hexadecimal.
fn id(of: &Map<String, Json>, name: &str, other: &str, bytes: usize) -> Read<Vec<u8>> {
    let written = text(of, name, other)?;
    if written.is_empty() {
        return Ok(Vec::new());
    }
    let read: Option<Vec<u8>> = (written.len() == 2 * bytes && written.is_ascii())
        .then(|| (0..bytes).map(|i| u8::from_str_radix(&written[2 * i..2 * i + 2], 16).ok()).collect())
        .flatten();
    read.ok_or_else(|| format!("`{name}` is not {} hexadecimal digits", 2 * bytes))
}

fn attributes(of: &Map<String, Json>) -> Read<Vec<KeyValue>> {
    list(of, "attributes", "attributes", |item| key_value(item, MAX_DEPTH))
}

fn key_value(of: &Map<String, Json>, depth: usize) -> Read<KeyValue> {
    let key = text(of, "key", "key")?;
    let value = member(of, "value", "value").map(|v| value(v, depth)).transpose().map_err(|e| format!("`{key}`: {e}"))?;
    Ok(KeyValue { key, value, key_strindex: 0 })
}

fn value(json: &Json, depth: usize) -> Read<AnyValue> {
    let of = object(json, "the value")?;
    let Some(depth) = depth.checked_sub(1) else { return Err(TOO_DEEP.to_owned()) };
    let Some((kind, held)) = of.iter().next() else { return Ok(AnyValue { value: None }) };
    if of.len() > 1 {
        return Err("a value has one member".to_owned());
    }
    let wrong = || format!("this is not a `{kind}`");
    let value = match kind.as_str() {
        "stringValue" | "string_value" => Value::StringValue(held.as_str().ok_or_else(wrong)?.to_owned()),
        "boolValue" | "bool_value" => Value::BoolValue(held.as_bool().ok_or_else(wrong)?),
        "intValue" | "int_value" => Value::IntValue(number(of, kind, kind)?),
        "doubleValue" | "double_value" => Value::DoubleValue(match held {
            Json::String(text) if text == "Infinity" => f64::INFINITY,
            Json::String(text) if text == "-Infinity" => f64::NEG_INFINITY,
            _ => number(of, kind, kind)?,
        }),
        "bytesValue" | "bytes_value" => Value::BytesValue(held.as_str().and_then(|t| BASE64_STANDARD.decode(t).ok()).ok_or_else(wrong)?),
        "arrayValue" | "array_value" => {
            let values = list(object(held, kind)?, "values", "values", |item| self::value(&Json::Object(item.clone()), depth))?;
            Value::ArrayValue(ArrayValue { values })
        }
        "kvlistValue" | "kvlist_value" => {
            Value::KvlistValue(KeyValueList { values: list(object(held, kind)?, "values", "values", |item| key_value(item, depth))? })
        }
        other => return Err(format!("`{other}` is not a kind of value")),
    };
    Ok(AnyValue { value: Some(value) })
}
