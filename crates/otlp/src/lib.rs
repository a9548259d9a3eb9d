//! Events as OTLP log records (OpenTelemetry protocol, the logs signal), and back.
//!
//! An event that came as a log record is a JSON object whose members `time`, `observed`, `severity`, `severity_number`, `message`, `trace_id`, `span_id`, `trace_flags` and
//! `event_name` are the record's own fields, whose `resource` and `scope` are what it shared with its batch, and whose other members are its attributes. [`to_lines`] writes
//! such objects and [`to_request`] reads them, so that resource, scope and the types of values are the same on both sides. An event that came another way is written as a log
//! record by the views on its usual names.

mod from_json;
mod from_wire;
mod into_lines;
mod into_request;
mod value;

#[cfg(test)]
mod tests;

pub use from_json::{JsonError, lines_of_json};
pub use from_wire::lines_of;
pub use into_lines::{Broken, Lines, NotLines, TooLong, to_lines};
pub use into_request::{REWRITTEN, records, to_request};
pub use opentelemetry_proto::tonic::collector::logs::v1 as collector;
pub use prost::Message;

/// Whether a member of that name is one of a log record's own fields. An attribute of such a name stands in the member [`ATTRIBUTES`].
fn is_own(name: &[u8]) -> bool {
    matches!(name, b"time" | b"observed" | b"severity" | b"severity_number" | b"message" | b"trace_id" | b"span_id" | b"trace_flags" | b"event_name")
        || [RESOURCE, RESOURCE_SCHEMA, SCOPE, SCOPE_SCHEMA, ATTRIBUTES].iter().any(|own| own.as_bytes() == name)
}

/// The member that holds the attributes of the resource.
const RESOURCE: &str = "resource";
/// The URL of its schema, where there is one.
const RESOURCE_SCHEMA: &str = "resource_schema";
/// The member that holds name, version and attributes of the scope.
const SCOPE: &str = "scope";
/// The URL of its schema, where there is one.
const SCOPE_SCHEMA: &str = "scope_schema";
/// The member that holds attributes whose names are taken.
const ATTRIBUTES: &str = "attributes";
