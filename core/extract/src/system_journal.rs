//! Entries of a system's journal, as `journalctl --output=json` writes them (systemd's *Journal JSON Format*): each becomes an event with the fields that a syslog message has.

use rockrose_event::output::{FACILITIES, SEVERITIES};
use rockrose_event::{json, time};
use serde_json::{Map, Value};

/// Fields that tell where in the journal an entry stands, where in a program it was made, or what is told under another name.
const LEFT_OUT: &[&str] = &[
    "MESSAGE",
    "PRIORITY",
    "SYSLOG_IDENTIFIER",
    "SYSLOG_FACILITY",
    "SYSLOG_PID",
    "SYSLOG_TIMESTAMP",
    "SYSLOG_RAW",
    "CODE_FILE",
    "CODE_LINE",
    "CODE_FUNC",
    "TID",
    "INVOCATION_ID",
    "USER_INVOCATION_ID",
];

/// An entry that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SystemEntry {
    /// Where it stands in its journal: what `journalctl --after-cursor` takes.
    pub cursor: String,
    /// Its message had more bytes than an event may have, and was cut.
    pub is_cut: bool,
}

/// The text of a value: what is no UTF-8 comes as a list of bytes, with what is not replaced; of several values the first counts.
fn text(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Array(items) if items.iter().all(Value::is_number) && !items.is_empty() => {
            let bytes: Option<Vec<u8>> = items.iter().map(|byte| u8::try_from(byte.as_u64()?).ok()).collect();
            Some(String::from_utf8_lossy(&bytes?).into_owned())
        }
        Value::Array(items) => items.first().and_then(text),
        _ => None,
    }
}

/// The value under which a field is told: texts as they are, several of them as a list.
fn told(value: &Value) -> Option<Value> {
    match value {
        Value::Array(items) if items.iter().any(|item| !item.is_number()) => Some(items.iter().filter_map(text).map(Value::from).collect()),
        Value::Null => None,
        value => text(value).map(Value::from),
    }
}

struct Writer<'a> {
    out: &'a mut Vec<u8>,
    sign: u8,
}

impl Writer<'_> {
    fn name(&mut self, name: &str) {
        self.out.push(self.sign);
        self.sign = b',';
        json::quote(name.as_bytes(), self.out);
        self.out.push(b':');
    }

    fn text(&mut self, name: &str, text: &str) {
        self.name(name);
        json::quote(text.as_bytes(), self.out);
    }
}

/// Reads an entry and appends its event, a JSON object on a line of its own: `time`, `severity`, `facility`, `host`, `app`, `process` and `message` as a syslog message has them,
/// `systemd.unit`, what the program itself has added, and those of the system's own `fields` that are asked for. A message of more than `max` bytes is cut.
/// `None`, and nothing appended, if it is no entry.
#[must_use]
pub fn read_system_entry(line: &[u8], fields: &[String], max: usize, out: &mut Vec<u8>) -> Option<SystemEntry> {
    let entry: Map<String, Value> = serde_json::from_slice(line).ok()?;
    let of = |name: &str| entry.get(name).and_then(text);
    let cursor = of("__CURSOR").filter(|cursor| !cursor.is_empty())?;
    let number = |name: &str| of(name)?.parse::<u64>().ok();
    let mut writer = Writer { out, sign: b'{' };
    // When it was said, as far as its sender tells that; else when it was written down. In microseconds.
    if let Some(nanoseconds) = number("_SOURCE_REALTIME_TIMESTAMP").or_else(|| number("__REALTIME_TIMESTAMP")).and_then(|micros| micros.checked_mul(1_000)) {
        writer.name("time");
        writer.out.push(b'"');
        time::write_nanoseconds(nanoseconds, writer.out);
        writer.out.push(b'"');
    }
    let word = |name: &str, words: &[&'static str]| words.get(usize::try_from(number(name)?).ok()?).copied();
    let unit = match of("_SYSTEMD_UNIT") {
        // The system's manager speaks of a unit.
        Some(own) if own == "init.scope" => of("UNIT").or(Some(own)),
        None => of("_SYSTEMD_USER_UNIT"),
        own => own,
    };
    let mut message = of("MESSAGE").unwrap_or_default();
    let is_cut = message.len() > max;
    if is_cut {
        let end = (0..=max).rev().find(|end| message.is_char_boundary(*end)).unwrap_or(0);
        message.truncate(end);
    }
    let usual = [
        ("severity", word("PRIORITY", &SEVERITIES).map(str::to_owned)),
        ("facility", word("SYSLOG_FACILITY", &FACILITIES).map(str::to_owned)),
        ("host", of("_HOSTNAME")),
        ("app", of("SYSLOG_IDENTIFIER").or_else(|| of("_COMM"))),
        ("process", of("_PID").or_else(|| of("SYSLOG_PID"))),
        ("systemd.unit", unit),
        ("message", Some(message)),
    ];
    for (name, value) in usual {
        if let Some(value) = value {
            writer.text(name, &value);
        }
    }
    let is_own = |name: &str| !(name.starts_with('_') || LEFT_OUT.contains(&name) || name == "UNIT" && entry.contains_key("_SYSTEMD_UNIT"));
    // The rest fits in as far as there is room.
    let mut room = max.saturating_sub(writer.out.len().min(max));
    for (name, value) in entry.iter().filter(|(name, _)| is_own(name) || fields.contains(name)) {
        let Some(value) = told(value) else { continue };
        let value = value.to_string();
        let takes = name.len() + value.len() + 4;
        if takes <= room {
            room -= takes;
            writer.name(name);
            writer.out.extend_from_slice(value.as_bytes());
        }
    }
    if is_cut {
        writer.name("cut");
        writer.out.extend_from_slice(b"true");
    }
    writer.out.extend_from_slice(b"}\n");
    Some(SystemEntry { cursor, is_cut })
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn read(entry: &Value, fields: &[&str], max: usize) -> (Value, SystemEntry) {
        let mut out = Vec::new();
        let fields: Vec<String> = fields.iter().map(|&field| field.to_owned()).collect();
        let read = read_system_entry(entry.to_string().as_bytes(), &fields, max, &mut out).unwrap();
        assert_eq!(out.pop(), Some(b'\n'));
        (serde_json::from_slice(&out).unwrap(), read)
    }

    #[test]
    fn an_entry_has_the_fields_of_a_syslog_message_and_those_of_its_program() {
        let entry = json!({
            "__CURSOR": "s=1;i=2", "__REALTIME_TIMESTAMP": "1792000000100001", "_SOURCE_REALTIME_TIMESTAMP": "1792000000000001", "__MONOTONIC_TIMESTAMP": "7",
            "_HOSTNAME": "gate-1", "PRIORITY": "4", "SYSLOG_FACILITY": "3", "SYSLOG_IDENTIFIER": "gated", "_COMM": "gate", "_PID": "33", "_TRANSPORT": "stdout",
            "_SYSTEMD_UNIT": "gated.service", "MESSAGE": "gate slow to open", "GATE": "7", "QUAYS": ["Lowmere", "Marrow Bay"], "CODE_FILE": "gate.c", "EMPTY": null,
        });
        let (event, read_as) = read(&entry, &["_TRANSPORT", "_UID"], 9_000);
        assert_eq!(
            event,
            json!({
                "time": "2026-10-14T17:46:40.000001Z", "severity": "warning", "facility": "daemon", "host": "gate-1", "app": "gated", "process": "33",
                "systemd.unit": "gated.service", "message": "gate slow to open", "GATE": "7", "QUAYS": ["Lowmere", "Marrow Bay"], "_TRANSPORT": "stdout",
            })
        );
        assert_eq!(read_as, SystemEntry { cursor: "s=1;i=2".to_owned(), is_cut: false });
    }

    #[test]
    fn bytes_that_are_no_text_are_replaced_and_the_manager_speaks_of_units() {
        let entry = json!({ "__CURSOR": "c", "MESSAGE": [103, 97, 255, 116, 101], "_SYSTEMD_UNIT": "init.scope", "UNIT": "gated.service", "PRIORITY": "99" });
        let (event, _) = read(&entry, &[], 9_000);
        assert_eq!(event, json!({ "systemd.unit": "gated.service", "message": "ga\u{fffd}te" }));
        let (event, _) =
            read(&json!({ "__CURSOR": "c", "__REALTIME_TIMESTAMP": "x", "MESSAGE": null, "_COMM": "gate", "_SYSTEMD_USER_UNIT": "a" }), &[], 9_000);
        assert_eq!(event, json!({ "app": "gate", "systemd.unit": "a", "message": "" }));
    }

    #[test]
    fn what_is_too_long_is_cut_between_characters_and_what_is_no_entry_is_told() {
        let entry = json!({ "__CURSOR": "c", "MESSAGE": "gäte".repeat(50), "LARGE": "x".repeat(500), "SMALL": "y" });
        let (event, read_as) = read(&entry, &[], 102);
        assert!(read_as.is_cut && event["cut"] == json!(true) && event.get("LARGE").is_none(), "{event}");
        assert_eq!(event["message"].as_str().unwrap().len(), 101, "the 102nd byte is the first of two of a character: {event}");
        for wrong in ["", "gate open", "{}", "[1]", r#"{"MESSAGE":"no cursor"}"#, r#"{"__CURSOR":"c""#, r#"{"__CURSOR":""}"#] {
            let mut out = Vec::new();
            assert_eq!(read_system_entry(wrong.as_bytes(), &[], 100, &mut out), None, "{wrong}");
            assert!(out.is_empty());
        }
    }
}
