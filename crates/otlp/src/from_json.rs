//! OTLP in JSON: read strictly, so that nothing vanishes without a word.
//!
//! Names are taken as the protocol has them (`resourceLogs`) and as protobuf does (`resource_logs`), numbers of 64 bits as texts or numbers, levels by number or name. What is
//! not known is passed over, as the protocol asks, but a request without `resourceLogs`, and a value of an unknown sort, are mistakes.

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, ArrayValue, InstrumentationScope, KeyValue, KeyValueList};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use serde_json::{Map, Value as Json};

use crate::collector::ExportLogsServiceRequest;

/// Deepest values.
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
}

impl From<String> for JsonError {
    fn from(says: String) -> JsonError {
        JsonError::Shape(says)
    }
}

/// What was read, or what is wrong with it in words, to which each level adds where that stands.
type Read<T> = Result<T, String>;

/// Reads a request.
///
/// # Errors
/// If the body is no JSON, or not of the protocol's shape.
pub fn from_json(body: &[u8]) -> Result<ExportLogsServiceRequest, JsonError> {
    let json: Json = serde_json::from_slice(body)?;
    let request = object(&json, "the request")?;
    if member(request, "resourceLogs", "resource_logs").is_none() {
        return Err(JsonError::Shape("the request has no `resourceLogs`".to_owned()));
    }
    Ok(ExportLogsServiceRequest { resource_logs: list(request, "resourceLogs", "resource_logs", resource_logs)? })
}

fn object<'a>(json: &'a Json, what: &str) -> Read<&'a Map<String, Json>> {
    json.as_object().ok_or_else(|| format!("{what} is no object"))
}

fn member<'a>(of: &'a Map<String, Json>, name: &str, other: &str) -> Option<&'a Json> {
    of.get(name).or_else(|| of.get(other)).filter(|v| !v.is_null())
}

/// Reads each item of a list; one that is missing is empty.
fn list<T>(of: &Map<String, Json>, name: &str, other: &str, each: impl Fn(&Map<String, Json>) -> Read<T>) -> Read<Vec<T>> {
    let Some(found) = member(of, name, other) else { return Ok(Vec::new()) };
    let items = found.as_array().ok_or_else(|| format!("`{name}` is no list"))?;
    items.iter().enumerate().map(|(i, item)| each(object(item, &format!("`{name}[{i}]`"))?).map_err(|e| format!("{name}[{i}]: {e}"))).collect()
}

fn text(of: &Map<String, Json>, name: &str, other: &str) -> Read<String> {
    match member(of, name, other) {
        None => Ok(String::new()),
        Some(Json::String(text)) => Ok(text.clone()),
        Some(_) => Err(format!("`{name}` is no text")),
    }
}

/// A number, which may be written as a text.
fn number<T: std::str::FromStr + Default>(of: &Map<String, Json>, name: &str, other: &str) -> Read<T> {
    let written = match member(of, name, other) {
        None => return Ok(T::default()),
        Some(Json::Number(n)) => n.to_string(),
        Some(Json::String(text)) => text.clone(),
        Some(_) => return Err(format!("`{name}` is no number")),
    };
    written.parse().map_err(|_| format!("`{name}` is no such number: {written}"))
}

fn resource_logs(of: &Map<String, Json>) -> Read<ResourceLogs> {
    let resource = match member(of, "resource", "resource") {
        None => None,
        Some(found) => Some(Resource { attributes: attributes(object(found, "`resource`")?)?, ..Resource::default() }),
    };
    Ok(ResourceLogs { resource, scope_logs: list(of, "scopeLogs", "scope_logs", scope_logs)?, schema_url: text(of, "schemaUrl", "schema_url")? })
}

fn scope_logs(of: &Map<String, Json>) -> Read<ScopeLogs> {
    let scope = match member(of, "scope", "scope") {
        None => None,
        Some(found) => {
            let found = object(found, "`scope`")?;
            let (name, version) = (text(found, "name", "name")?, text(found, "version", "version")?);
            Some(InstrumentationScope { name, version, attributes: attributes(found)?, ..InstrumentationScope::default() })
        }
    };
    Ok(ScopeLogs { scope, log_records: list(of, "logRecords", "log_records", record)?, schema_url: text(of, "schemaUrl", "schema_url")? })
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
        None => Err(format!("`severityNumber` is no level: {name}")),
    }
}

/// An id in hexadecimal; one of another length is none.
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
    let Some(depth) = depth.checked_sub(1) else { return Err("it is nested too deep".to_owned()) };
    let Some((kind, held)) = of.iter().next() else { return Ok(AnyValue { value: None }) };
    if of.len() > 1 {
        return Err("a value has one member".to_owned());
    }
    let wrong = || format!("this is no `{kind}`");
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
        other => return Err(format!("`{other}` is no sort of value")),
    };
    Ok(AnyValue { value: Some(value) })
}
