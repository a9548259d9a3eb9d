//! Events as they pass a point.

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::ToSchema;

/// An event shown by live tail.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TailEvent {
    /// When it passed, in milliseconds since 1970.
    pub at_ms: i64,
    /// As it came to the point.
    #[schema(value_type = Object)]
    pub before: Box<RawValue>,
    /// As it went on; null if a step removed it or holds it back.
    #[schema(value_type = Option<Object>)]
    pub after: Option<Box<RawValue>>,
    /// The step that removed it.
    pub removed_by: Option<String>,
    /// The sentence of the step that holds it back.
    pub held_by: Option<String>,
}

/// What passed a point, before it is written as a [`TailEvent`].
#[derive(Clone, Copy, Debug)]
pub struct Passed<'a> {
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// The event as it came: one JSON object.
    pub before: &'a str,
    /// As it went on: one JSON object.
    pub after: Option<&'a str>,
    /// The step that removed it.
    pub removed_by: Option<&'a str>,
    /// The sentence of the step that holds it back.
    pub held_by: Option<&'a str>,
}

impl Passed<'_> {
    /// A [`TailEvent`] as one line of JSON. The events are written as they are, without reading them again.
    #[must_use]
    pub fn line(&self) -> String {
        let quoted = |text: Option<&str>| text.map_or_else(|| "null".to_owned(), |text| serde_json::Value::from(text).to_string());
        let (removed_by, held_by) = (quoted(self.removed_by), quoted(self.held_by));
        let after = self.after.unwrap_or("null");
        let mut line = String::with_capacity(self.before.len() + after.len() + removed_by.len() + held_by.len() + 96);
        let at_ms = self.at_ms.to_string();
        for part in ["{\"at_ms\":", &at_ms, ",\"before\":", self.before, ",\"after\":", after, ",\"removed_by\":", &removed_by, ",\"held_by\":", &held_by, "}"]
        {
            line.push_str(part);
        }
        // Between the parts of an event, not within its texts.
        if line.contains(['\n', '\r']) { line.replace(['\n', '\r'], " ") } else { line }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_passed_is_one_line_that_reads_as_what_it_is() {
        let passed = Passed { at_ms: -5, before: "{\r\n \"a\":\"x\\n\"}", after: Some("{\"a\":1.50}"), removed_by: None, held_by: Some("merge by \"a\"") };
        let line = passed.line();
        assert!(!line.contains('\n') && !line.contains('\r'));
        let read: TailEvent = serde_json::from_str(&line).unwrap_or_else(|e| panic!("{e}: {line}"));
        assert_eq!((read.at_ms, read.before.get(), read.after.as_deref().map(RawValue::get)), (-5, "{   \"a\":\"x\\n\"}", Some("{\"a\":1.50}")));
        assert_eq!((read.removed_by, read.held_by.as_deref()), (None, Some("merge by \"a\"")));
        let removed = Passed { after: None, removed_by: Some("drop"), held_by: None, ..passed }.line();
        let read: TailEvent = serde_json::from_str(&removed).unwrap_or_else(|e| panic!("{e}: {removed}"));
        assert!(read.after.is_none() && read.removed_by.as_deref() == Some("drop"));
    }
}
