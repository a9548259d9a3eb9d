//! Fields given beside a body, for all its events: the file they stood in, what a request says of them.

use crate::field::names_of;
use crate::json::{self, Kind, Span};
use crate::record::{Form, Record};
use crate::scan;
use crate::time::{Reader, TimeForm};
use crate::usual::HOST_NAMES;

/// A field and its value, for all events of a body. It takes the place of what an event has under that name, and of the usual names where it is one of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stamp {
    name: String,
    /// What it replaces.
    names: Vec<String>,
    /// `,"name":"value"`
    member: Vec<u8>,
}

/// Why a field cannot be given beside a body.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum StampError {
    /// The value of `time` cannot be read as one.
    #[error("`{0}` is not a time")]
    NotATime(String),
}

impl Stamp {
    /// A text field. A `time` is written as RFC 3339; `now_ms` (milliseconds since 1970) completes one without a year.
    ///
    /// # Errors
    /// If the field is `time`, and its value cannot be read as one.
    pub fn new(name: &str, value: &str, now_ms: i64) -> Result<Stamp, StampError> {
        let mut value = value.to_owned();
        let usual: &[&str] = match name {
            "time" => {
                let time = Reader::new(&TimeForm::default()).read(value.as_bytes(), now_ms);
                value = time.ok_or(StampError::NotATime(value))?.to_string();
                names_of("time")
            }
            "host" | "host.name" | "hostname" => HOST_NAMES,
            _ => &[],
        };
        let mut names: Vec<String> = usual.iter().map(|&n| n.to_owned()).collect();
        if !names.iter().any(|n| n == name) {
            names.push(name.to_owned());
        }
        let mut member = vec![b','];
        json::quote(name.as_bytes(), &mut member);
        member.push(b':');
        json::quote(value.as_bytes(), &mut member);
        Ok(Stamp { name: name.to_owned(), names, member })
    }

    /// The field's name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Whether an event may have what this replaces: whether one of the names stands in it anywhere.
    fn may_meet(&self, event: &[u8]) -> bool {
        // A name can also be written with escapes.
        memchr::memchr(b'\\', event).is_some() || self.names.iter().any(|n| memchr::memmem::find(event, n.as_bytes()).is_some())
    }
}

/// The records of a body as lines, each with the stamps. What cannot be read stays as it is.
#[must_use]
pub fn stamped(body: &[u8], records: &[Record], stamps: &[Stamp]) -> Vec<u8> {
    let room: usize = stamps.iter().map(|s| s.member.len()).sum();
    let mut out = crate::buffers::take(body.len() + records.len() * (room + 16));
    for record in records {
        let raw = &body[record.start as usize..record.end as usize];
        match record.form {
            Form::Object => object(raw, stamps, &mut out),
            Form::Text | Form::QuotedText => {
                out.extend_from_slice(b"{\"message\":");
                match record.form {
                    Form::Text if simdutf8::basic::from_utf8(raw).is_ok() => json::quote(raw, &mut out),
                    Form::Text => json::quote(String::from_utf8_lossy(raw).as_bytes(), &mut out),
                    _ => out.extend_from_slice(raw),
                }
                stamps.iter().for_each(|s| out.extend_from_slice(&s.member));
                out.push(b'}');
            }
            Form::Unreadable(_) => out.extend(raw.iter().map(|b| if *b == b'\n' { b' ' } else { *b })),
        }
        out.push(b'\n');
    }
    out
}

fn object(raw: &[u8], stamps: &[Stamp], out: &mut Vec<u8>) {
    let raw = raw.trim_ascii_end();
    let begin = out.len();
    let one_line = memchr::memchr(b'\n', raw).is_none();
    if one_line && !stamps.iter().any(|s| s.may_meet(raw)) && raw.len() >= 2 && raw.ends_with(b"}") {
        out.extend_from_slice(raw[..raw.len() - 1].trim_ascii_end());
    } else {
        let whole = scan::value_at(raw, 0).ok().filter(|span| span.kind == Kind::Object && span.end as usize == raw.len());
        let Some(whole) = whole else {
            out.extend(raw.iter().map(|b| if *b == b'\n' { b' ' } else { *b }));
            return;
        };
        out.push(b'{');
        let mut name = Vec::new();
        for (key, value) in scan::members(raw, whole) {
            name.clear();
            json::unescape(&raw[key.start as usize + 1..key.end as usize - 1], &mut name);
            if stamps.iter().any(|s| s.names.iter().any(|n| n.as_bytes() == name)) {
                continue;
            }
            if out.len() > begin + 1 {
                out.push(b',');
            }
            out.extend_from_slice(key.of(raw));
            out.push(b':');
            scan::minify(Span::of(value, raw), out);
        }
    }
    for stamp in stamps {
        let member = if out[begin..].trim_ascii() == b"{" { &stamp.member[1..] } else { &stamp.member[..] };
        out.extend_from_slice(member);
    }
    out.push(b'}');
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::{DeclaredFormat, split};

    fn stamp(body: &str, given: &[(&str, &str)]) -> String {
        let stamps: Vec<Stamp> = given.iter().map(|(n, v)| Stamp::new(n, v, 0).unwrap()).collect();
        let records = split(body.as_bytes(), DeclaredFormat::Unknown, 1_000).unwrap();
        String::from_utf8(stamped(body.as_bytes(), &records, &stamps)).unwrap()
    }

    #[test]
    fn every_event_gets_the_fields_once() {
        let port = &[("port", "Tansy \"Quay\"")];
        let given = r#""port":"Tansy \"Quay\"""#;
        for (event, expected) in [
            ("{}", format!("{{{given}}}")),
            ("{ }", format!("{{ {given}}}").replace("{ ", "{")),
            (r#"{"a":1 }"#, format!(r#"{{"a":1,{given}}}"#)),
            (r#"{"port":2,"a":[1, 2]}"#, format!(r#"{{"a":[1,2],{given}}}"#)),
            (r#"{"p\u006frt":2}"#, format!("{{{given}}}")),
            (r#"{"a":{"port":2}}"#, format!(r#"{{"a":{{"port":2}},{given}}}"#)),
            ("{\n \"a\":\n1}", format!(r#"{{"a":1,{given}}}"#)),
            ("gate 4 \"open\"", format!(r#"{{"message":"gate 4 \"open\"",{given}}}"#)),
            (r#"["one"]"#, format!(r#"{{"message":"one",{given}}}"#)),
            (r#"{"a":1,}"#, format!(r#"{{"a":1,,{given}}}"#)),
            (r#"{"port" 1}"#, r#"{"port" 1}"#.to_owned()),
        ] {
            assert_eq!(stamp(event, port), format!("{expected}\n"), "{event}");
        }
    }

    #[test]
    fn time_and_host_take_the_place_of_their_usual_names() {
        let event = r#"{"ts":1,"hostname":"a","host":"b","x":1}"#;
        assert_eq!(stamp(event, &[("time", "1795428000"), ("host", "gate-4")]), "{\"x\":1,\"time\":\"2026-11-23T10:00:00Z\",\"host\":\"gate-4\"}\n");
        assert!(Stamp::new("time", "soon", 0).is_err());
    }

    proptest::proptest! {
        /// What was a readable event is one afterwards, with the field and all others.
        #[test]
        fn a_stamped_event_can_be_read(keys in proptest::collection::vec("[a-z\"\\\\é]{0,4}", 0..5), value in ".{0,8}") {
            let event: serde_json::Map<String, serde_json::Value> = keys.iter().map(|k| (k.clone(), serde_json::json!([k]))).collect();
            let line = serde_json::to_string(&event).unwrap();
            let stamped: serde_json::Map<String, serde_json::Value> = serde_json::from_str(&stamp(&line, &[("a", &value)])).unwrap();
            proptest::prop_assert_eq!(&stamped["a"], &serde_json::json!(value));
            proptest::prop_assert!(event.iter().all(|(k, v)| k == "a" || stamped[k] == *v));
        }
    }
}
