//! Values: OTLP's and JSON's.
//!
//! Whole numbers are `int`, numbers with a decimal point or an exponent `double`, and bytes an object whose only member is `base64`.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, ArrayValue, KeyValue, KeyValueList};
use rockrose_event::json::quote;
use serde_json::Value as Json;

use crate::into_lines::Broken;

/// The only member of an object that stands for bytes.
const BYTES: &str = "base64";
/// Deepest values that can be read: an event may be nested no deeper than 64.
pub(crate) const MAX_DEPTH: usize = 48;
/// What is said of deeper ones.
pub(crate) const TOO_DEEP: &str = "a value is nested too deep";

/// Writes a value as JSON.
pub(crate) fn write(value: Option<&AnyValue>, out: &mut Vec<u8>) -> Result<(), Broken> {
    write_within(value, MAX_DEPTH, out)
}

pub(crate) fn write_int(n: i64, out: &mut Vec<u8>) {
    out.extend_from_slice(itoa::Buffer::new().format(n).as_bytes());
}

pub(crate) fn write_double(n: f64, out: &mut Vec<u8>) {
    if n.is_finite() {
        out.extend_from_slice(ryu::Buffer::new().format_finite(n).as_bytes());
    } else {
        // JSON has no writing for these.
        quote(n.to_string().as_bytes(), out);
    }
}

pub(crate) fn write_bytes(bytes: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(b"{\"base64\":\"");
    out.extend_from_slice(BASE64_STANDARD.encode(bytes).as_bytes());
    out.extend_from_slice(b"\"}");
}

fn write_within(value: Option<&AnyValue>, depth: usize, out: &mut Vec<u8>) -> Result<(), Broken> {
    let value = value.and_then(|v| v.value.as_ref());
    if depth == 0 && value.is_some() {
        return Err(Broken(TOO_DEEP));
    }
    match value {
        None | Some(Value::StringValueStrindex(_)) => out.extend_from_slice(b"null"),
        Some(Value::StringValue(text)) => quote(text.as_bytes(), out),
        Some(Value::BoolValue(yes)) => out.extend_from_slice(if *yes { b"true" } else { b"false" }),
        Some(Value::IntValue(n)) => write_int(*n, out),
        Some(Value::DoubleValue(n)) => write_double(*n, out),
        Some(Value::BytesValue(bytes)) => write_bytes(bytes, out),
        Some(Value::ArrayValue(list)) => {
            out.push(b'[');
            for (i, value) in list.values.iter().enumerate() {
                if i > 0 {
                    out.push(b',');
                }
                write_within(Some(value), depth - 1, out)?;
            }
            out.push(b']');
        }
        Some(Value::KvlistValue(list)) => write_members(&list.values, depth - 1, out)?,
    }
    Ok(())
}

/// Writes attributes as a JSON object.
pub(crate) fn write_object(attributes: &[KeyValue], out: &mut Vec<u8>) -> Result<(), Broken> {
    write_members(attributes, MAX_DEPTH, out)
}

fn write_members(members: &[KeyValue], depth: usize, out: &mut Vec<u8>) -> Result<(), Broken> {
    out.push(b'{');
    for (i, member) in members.iter().enumerate() {
        if i > 0 {
            out.push(b',');
        }
        quote(member.key.as_bytes(), out);
        out.push(b':');
        write_within(member.value.as_ref(), depth, out)?;
    }
    out.push(b'}');
    Ok(())
}

/// Reads a value from JSON.
pub(crate) fn read(json: Json) -> AnyValue {
    let value = match json {
        Json::Null => None,
        Json::Bool(yes) => Some(Value::BoolValue(yes)),
        Json::Number(n) => Some(match (n.as_i64(), n.as_f64()) {
            (Some(n), _) => Value::IntValue(n),
            // A whole number beyond 64 bits with sign keeps its digits.
            (None, _) if n.is_u64() => Value::StringValue(n.to_string()),
            (None, Some(n)) => Value::DoubleValue(n),
            (None, None) => Value::StringValue(n.to_string()),
        }),
        Json::String(text) => Some(Value::StringValue(text)),
        Json::Array(list) => Some(Value::ArrayValue(ArrayValue { values: list.into_iter().map(read).collect() })),
        Json::Object(members) => Some(match bytes(&members) {
            Some(bytes) => Value::BytesValue(bytes),
            None => Value::KvlistValue(KeyValueList {
                values: members.into_iter().collect::<BTreeMap<_, _>>().into_iter().map(|(key, value)| attribute(key, value)).collect(),
            }),
        }),
    };
    AnyValue { value }
}

/// An attribute of a JSON value.
pub(crate) fn attribute(key: String, value: Json) -> KeyValue {
    KeyValue { key, value: Some(read(value)), key_strindex: 0 }
}

fn bytes(members: &serde_json::Map<String, Json>) -> Option<Vec<u8>> {
    match members.get(BYTES)? {
        Json::String(text) if members.len() == 1 => BASE64_STANDARD.decode(text).ok(),
        _ => None,
    }
}
