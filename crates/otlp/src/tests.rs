use opentelemetry_proto::tonic::common::v1::any_value::Value;
use opentelemetry_proto::tonic::common::v1::{AnyValue, ArrayValue, InstrumentationScope, KeyValue, KeyValueList};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use proptest::prelude::{Strategy, any as arbitrary, prop, prop_assert, prop_assert_eq, prop_oneof};
use proptest::proptest;
use serde_json::json;

use super::*;
use crate::collector::ExportLogsServiceRequest;

fn any(value: Value) -> Option<AnyValue> {
    Some(AnyValue { value: Some(value) })
}

fn attribute(key: &str, value: Value) -> KeyValue {
    KeyValue { key: key.into(), value: any(value), key_strindex: 0 }
}

fn text(text: &str) -> Value {
    Value::StringValue(text.into())
}

fn one(record: LogRecord) -> ExportLogsServiceRequest {
    let scope = InstrumentationScope { name: "gates".into(), version: "2.1".into(), attributes: vec![attribute("kind", text("manual"))], ..Default::default() };
    ExportLogsServiceRequest {
        resource_logs: vec![ResourceLogs {
            resource: Some(Resource {
                attributes: vec![attribute("host.name", text("gate-4")), attribute("service.name", text("boarding"))],
                ..Default::default()
            }),
            scope_logs: vec![ScopeLogs { scope: Some(scope), log_records: vec![record], schema_url: "https://schema.example/2".into() }],
            schema_url: "https://schema.example/1".into(),
        }],
    }
}

/// A record with one of each type of value, and attributes whose names are taken.
fn full() -> LogRecord {
    LogRecord {
        time_unix_nano: 1_795_430_400_123_456_789,
        observed_time_unix_nano: 1_795_430_401_000_000_000,
        severity_number: 14,
        severity_text: "WARN".into(),
        body: any(text("gate \"4\" stuck\nagain")),
        attributes: vec![
            attribute("attempts", Value::IntValue(3)),
            attribute("big", Value::IntValue(i64::MIN)),
            attribute("blob", Value::BytesValue(vec![0, 255, 7])),
            attribute(
                "deep",
                Value::KvlistValue(KeyValueList { values: vec![attribute("list", Value::ArrayValue(ArrayValue { values: vec![AnyValue { value: None }] }))] }),
            ),
            attribute("open", Value::BoolValue(false)),
            attribute("ratio", Value::DoubleValue(2.0)),
            attribute("small", Value::DoubleValue(1.5e-9)),
            attribute("message", text("an attribute of that name")),
            attribute("resource", Value::IntValue(1)),
        ],
        trace_id: (0..16).collect(),
        span_id: (100..108).collect(),
        flags: 1,
        event_name: "gate.stuck".into(),
        ..Default::default()
    }
}

#[test]
fn a_record_becomes_an_event_and_the_same_record_again() {
    let request = one(full());
    let lines = to_lines(&request, 1 << 20).unwrap();
    let event: serde_json::Value = serde_json::from_slice(&lines).unwrap();
    assert_eq!(lines.iter().filter(|b| **b == b'\n').count(), 1);
    assert_eq!(event["time"], "2026-11-23T10:40:00.123456789Z");
    assert_eq!(event["message"], "gate \"4\" stuck\nagain");
    assert_eq!((event["severity"].as_str(), event["severity_number"].as_i64()), (Some("WARN"), Some(14)));
    assert_eq!(event["trace_id"], "000102030405060708090a0b0c0d0e0f");
    assert_eq!(event["attempts"], 3);
    assert_eq!(event["attributes"], json!({"message": "an attribute of that name", "resource": 1}));
    assert_eq!(event["resource"]["service.name"], "boarding");
    assert_eq!(event["scope"], json!({"name": "gates", "version": "2.1", "attributes": {"kind": "manual"}}));
    assert_eq!(to_request(&lines, &[]), request);
}

#[test]
fn records_that_share_stand_together_again() {
    let mut request = one(full());
    let second = LogRecord { severity_number: 0, severity_text: String::new(), body: any(Value::IntValue(7)), ..full() };
    request.resource_logs[0].scope_logs[0].log_records.push(second);
    let mut other = request.resource_logs[0].clone();
    other.resource.as_mut().unwrap().attributes[0] = attribute("host.name", text("gate-5"));
    request.resource_logs.push(other);
    assert_eq!(to_request(&to_lines(&request, 1 << 20).unwrap(), &[]), request);
}

#[test]
fn an_empty_record_is_an_empty_event() {
    let request = ExportLogsServiceRequest {
        resource_logs: vec![ResourceLogs {
            scope_logs: vec![ScopeLogs { log_records: vec![LogRecord::default()], ..Default::default() }],
            ..Default::default()
        }],
    };
    assert_eq!(to_lines(&request, 100).unwrap(), b"{}\n");
}

#[test]
fn what_is_shared_by_many_is_bounded() {
    let mut request = one(LogRecord::default());
    request.resource_logs[0].resource.as_mut().unwrap().attributes[0] = attribute("long", text(&"x".repeat(10_000)));
    request.resource_logs[0].scope_logs[0].log_records = vec![LogRecord::default(); 1_000];
    assert_eq!(to_lines(&request, 1_000_000), Err(TooLong(1_000_000).into()));
    assert!(to_lines(&request, 20_000_000).is_ok());
}

/// The one record of the request that a line becomes.
fn record_of(line: &str) -> (ResourceLogs, LogRecord) {
    let mut request = to_request(format!("{line}\n").as_bytes(), &[]);
    let of_resource = request.resource_logs.remove(0);
    let record = of_resource.scope_logs[0].log_records[0].clone();
    (of_resource, record)
}

#[test]
fn an_event_was_observed_when_it_arrived_unless_it_says_when_itself() {
    let request =
        to_request(b"{\"n\":1}\n{\"observed\":\"2026-11-23T08:00:00Z\"}\n{\"time\":\"Nov 23 10:00:00\"}\n", &[1_795_424_400_123, 5, 1_795_424_400_000]);
    let records = &request.resource_logs[0].scope_logs[0].log_records;
    let times: Vec<(u64, u64)> = records.iter().map(|r| (r.time_unix_nano, r.observed_time_unix_nano)).collect();
    let (eight, ten) = (1_795_420_800_000_000_000, 1_795_428_000_000_000_000);
    assert_eq!(times, [(0, 1_795_424_400_123_000_000), (0, eight), (ten, 1_795_424_400_000_000_000)]);
}

fn attributes_of(record: &LogRecord) -> Vec<&str> {
    record.attributes.iter().map(|a| a.key.as_str()).collect()
}

#[test]
fn an_event_that_came_another_way_is_written_by_its_usual_names() {
    let (of_resource, record) =
        record_of(r#"{"ts":"2026-11-23T08:00:00Z","lvl":"error","msg":"stuck","service":"boarding","host":"gate-4","n":1,"ratio":1.0}"#);
    assert_eq!(record.time_unix_nano, 1_795_420_800_000_000_000);
    assert_eq!((record.severity_number, record.severity_text.as_str()), (17, "error"));
    assert_eq!(record.body, any(text("stuck")));
    let resource = of_resource.resource.unwrap();
    assert_eq!(resource.attributes, [attribute("host.name", text("gate-4")), attribute("service.name", text("boarding"))]);
    // What was called otherwise stays where conditions find it.
    assert_eq!(attributes_of(&record), ["host", "n", "ratio", "service"]);
    assert_eq!(record.attributes[2].value, any(Value::DoubleValue(1.0)));
}

#[test]
fn a_severity_that_a_step_has_set_is_the_one_that_counts() {
    for (line, number) in [
        (r#"{"severity":"error","severity_number":9}"#, 17),
        (r#"{"severity":"ERROR","severity_number":19}"#, 19),
        (r#"{"severity":"odd","severity_number":19}"#, 19),
        (r#"{"severity":"odd"}"#, 0),
    ] {
        assert_eq!(record_of(line).1.severity_number, number, "{line}");
    }
}

#[test]
fn members_that_are_not_what_their_names_mean_stay_attributes() {
    let (of_resource, record) =
        record_of(r#"{"trace_id":"short","span_id":7,"resource":"pump","scope":[1],"time":"soon","observed":"later","trace_flags":-1}"#);
    assert_eq!(attributes_of(&record), ["observed", "resource", "scope", "span_id", "time", "trace_flags", "trace_id"]);
    assert!(of_resource.resource.unwrap().attributes.is_empty() && record.trace_id.is_empty() && record.time_unix_nano == 0);
    let (_, record) = record_of(r#"{"big":18446744073709551615,"blob":{"base64":"no!"}}"#);
    assert_eq!(record.attributes[0].value, any(text("18446744073709551615")));
    assert!(matches!(record.attributes[1].value, Some(AnyValue { value: Some(Value::KvlistValue(_)) })));
}

fn values() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        arbitrary::<String>().prop_map(Value::StringValue),
        arbitrary::<bool>().prop_map(Value::BoolValue),
        arbitrary::<i64>().prop_map(Value::IntValue),
        arbitrary::<f64>().prop_filter("finite", |n| n.is_finite()).prop_map(Value::DoubleValue),
        arbitrary::<Vec<u8>>().prop_map(Value::BytesValue),
    ];
    leaf.prop_recursive(3, 20, 4, |inner| {
        let values = prop::collection::vec(inner.clone(), 0..4)
            .prop_map(|l| Value::ArrayValue(ArrayValue { values: l.into_iter().map(|v| AnyValue { value: Some(v) }).collect() }));
        let members = prop::collection::btree_map("[a-z]{2,5}", inner, 0..4)
            .prop_map(|m| Value::KvlistValue(KeyValueList { values: m.into_iter().map(|(k, v)| attribute(&k, v)).collect() }));
        prop_oneof![values, members]
    })
}

proptest! {
    #[test]
    fn every_value_comes_back(value in values(), time in arbitrary::<u32>(), message in arbitrary::<String>()) {
        let record = LogRecord {
            time_unix_nano: u64::from(time) * 1_000_000_007 + 1,
            body: any(text(&message)),
            attributes: vec![attribute("value", value)],
            ..Default::default()
        };
        let request = one(record);
        let lines = to_lines(&request, 1 << 24).unwrap();
        prop_assert_eq!(lines_of(&request.encode_to_vec(), 1 << 24).unwrap().text, &lines[..]);
        prop_assert_eq!(to_request(&lines, &[]), request);
    }

    /// Bytes that were cut or changed on the way are refused, or become events; whatever they are.
    #[test]
    fn broken_requests_are_refused_or_read(changes in prop::collection::vec((arbitrary::<prop::sample::Index>(), arbitrary::<u8>()), 0..6), end in arbitrary::<prop::sample::Index>()) {
        let mut bytes = one(full()).encode_to_vec();
        for (at, with) in changes {
            let at = at.index(bytes.len());
            bytes[at] = with;
        }
        bytes.truncate(end.index(bytes.len()) + 1);
        if let Ok(lines) = lines_of(&bytes, 1 << 20) {
            for (at, line) in lines.text.split(|b| *b == b'\n').enumerate().filter(|(_, l)| !l.is_empty()) {
                let told = lines.unreadable.iter().any(|(number, _)| *number as usize == at + 1);
                prop_assert!(told || serde_json::from_slice::<serde_json::Value>(line).is_ok());
            }
        }
    }
}

#[test]
fn a_request_becomes_the_same_lines_without_being_read_into_a_tree() {
    let mut many = full();
    many.attributes.extend((0..40).map(|n| attribute(&format!("a{}", n % 25), Value::IntValue(n))));
    let mut request = one(full());
    request.resource_logs.push(one(many).resource_logs.remove(0));
    request
        .resource_logs
        .push(ResourceLogs { scope_logs: vec![ScopeLogs { log_records: vec![LogRecord::default(), full()], ..Default::default() }], ..Default::default() });
    let lines = lines_of(&request.encode_to_vec(), 1 << 20).unwrap();
    assert_eq!((lines.text, lines.unreadable), (to_lines(&request, 1 << 20).unwrap(), Vec::new()));
    assert_eq!(lines_of(&[], 10), Ok(Lines::default()));
    assert!(matches!(lines_of(&request.encode_to_vec(), 100), Err(NotLines::TooLong(TooLong(100)))));
    for (bytes, says) in [
        (&b"\x0a\x05abc"[..], "ends within a field"),
        (b"\x0a\xff\xff\xff\xff\xff\xff\xff\xff\xff\x7f", "a number is too large"),
        (b"\x0b", "unknown kind"),
        (b"\x08\x01", "another kind"),
        (b"\x02\x00", "no number"),
    ] {
        let said = lines_of(bytes, 1 << 20).unwrap_err().to_string();
        assert!(said.contains(says), "{said} should say {says}");
    }
}

/// A request in JSON with such records.
fn with(records: &[&str]) -> String {
    format!("{{\"resourceLogs\":[{{\"scopeLogs\":[{{\"logRecords\":[{}]}}]}}]}}", records.join(","))
}

#[test]
fn json_is_read_as_it_is_written_by_others() {
    let request = one(full());
    let lines = lines_of_json(&serde_json::to_vec(&request).unwrap(), 1 << 20).unwrap();
    assert_eq!((lines.text, lines.unreadable), (to_lines(&request, 1 << 20).unwrap(), Vec::new()));
    // As protobuf names things, and numbers and levels in the ways that are about.
    let body = r#"{"resource_logs":[{"scope_logs":[{"log_records":[{"time_unix_nano":5,"severity_number":"SEVERITY_NUMBER_WARN2","body":{"string_value":"x"},
        "attributes":[{"key":"n","value":{"int_value":"7"}},{"key":"none","value":{}}],"from_later":[1]}]}]}]}"#;
    let record = LogRecord {
        time_unix_nano: 5,
        severity_number: 14,
        body: any(text("x")),
        attributes: vec![attribute("n", Value::IntValue(7)), KeyValue { key: "none".into(), value: Some(AnyValue { value: None }), key_strindex: 0 }],
        ..LogRecord::default()
    };
    let bare = ResourceLogs { scope_logs: vec![ScopeLogs { log_records: vec![record], ..Default::default() }], ..Default::default() };
    let expected = to_lines(&ExportLogsServiceRequest { resource_logs: vec![bare] }, 1 << 20).unwrap();
    assert_eq!(lines_of_json(format!("\u{feff}{body}").as_bytes(), 1 << 20).unwrap().text, expected);
    for nothing in ["{\"resourceLogs\":[]}", "{\"resourceLogs\":[{}]}", "{}"] {
        assert_eq!(lines_of_json(nothing.as_bytes(), 10).unwrap(), Lines::default(), "{nothing}");
    }
    assert!(matches!(lines_of_json(body.as_bytes(), 10), Err(JsonError::TooLong(TooLong(10)))));
}

#[test]
fn a_body_that_is_no_request_is_refused_whole() {
    for (body, says) in [
        ("[]", "invalid type"),
        ("{\"resourceLogs\":[{]}", "line 1 column 19"),
        (r#"{"resourceSpans":[]}"#, "no `resourceLogs`"),
        (r#"{"resourceLogs":[{"scopeLogs":[7]}]}"#, "resourceLogs[0]: `scopeLogs[0]` is not an object"),
        (r#"{"resourceLogs":[{"scopeLogs":[{"logRecords":7}]}]}"#, "resourceLogs[0]: scopeLogs[0]: `logRecords` is not a list"),
    ] {
        let said = lines_of_json(body.as_bytes(), 1 << 20).unwrap_err().to_string();
        assert!(said.contains(says), "{said} should say {says}");
    }
}

#[test]
fn a_record_in_json_that_cannot_be_read_harms_no_other_and_does_not_vanish() {
    let deep = |depth: usize| format!(r#"{{"body":{}{{"stringValue":"x"}}{}}}"#, r#"{"arrayValue":{"values":["#.repeat(depth), "]}}".repeat(depth));
    let odd = [&b"{\"body\":{\"stringValue\":\"caf"[..], b"\xe9", b"\"}}"].concat();
    for (record, says) in [
        (r#"{"body":{"textValue":"x"}}"#.into(), "resourceLogs[0]: scopeLogs[0]: logRecords[1]: body: `textValue` is not a kind of value"),
        (r#"{"body":"x"}"#.into(), "the value is not an object"),
        (r#"7"#.into(), "the record is not an object"),
        (r#"{"severityNumber":"LOUD"}"#.into(), "not a level"),
        (r#"{"traceId":"12"}"#.into(), "32 hexadecimal digits"),
        (r#"{"timeUnixNano":"soon"}"#.into(), "not a valid number"),
        (r#"{"timeUnixNano":1e999}"#.into(), "out of range"),
        (r#"{"body":{"stringValue":"\ud800"}}"#.into(), "hex escape"),
        (r#"{"attributes":[{"key":"a","value":{"intValue":1,"boolValue":true}}]}"#.into(), "`a`: a value has one member"),
        (deep(34).into_bytes(), "nested too deep"),
        (deep(100).into_bytes(), "nested too deep"),
        (odd, "not UTF-8"),
    ] as [(Vec<u8>, &str); 12]
    {
        let good = |n: u32| format!("{{\"attributes\":[{{\"key\":\"n\",\"value\":{{\"intValue\":{n}}}}}]}}");
        let [before, behind] = [good(1), good(2)];
        let whole = with(&[&before, "RECORD", &behind]);
        let (head, tail) = whole.split_once("RECORD").unwrap();
        let lines = lines_of_json(&[head.as_bytes(), &record, tail.as_bytes()].concat(), 1 << 20).unwrap();
        let texts: Vec<&[u8]> = lines.text.split(|b| *b == b'\n').collect();
        assert_eq!((texts.len(), texts[0], texts[2]), (4, &b"{\"n\":1}"[..], &b"{\"n\":2}"[..]));
        assert!(texts[1].starts_with(b"{\"json\":"), "what came is kept: {}", String::from_utf8_lossy(texts[1]));
        assert!(matches!(&lines.unreadable[..], [(2, why)] if why.contains(says)), "{:?} should say {says}", lines.unreadable);
    }
    // What is wrong with a resource is wrong with its records, and no others.
    let [bad, good] =
        [r#"{"attributes":[{"key":7}]}"#, "{}"].map(|resource| format!(r#"{{"resource":{resource},"scopeLogs":[{{"logRecords":[{{}},{{}}]}}]}}"#));
    let lines = lines_of_json(format!("{{\"resourceLogs\":[{bad},{good}]}}").as_bytes(), 1 << 20).unwrap();
    assert_eq!(lines.unreadable.iter().map(|(n, _)| *n).collect::<Vec<_>>(), [1, 2]);
    assert!(lines.text.ends_with(b"{}\n{}\n") && lines.unreadable[0].1.contains("`resource`: attributes[0]: `key` is not a text"), "{lines:?}");
}

#[test]
fn a_record_in_protobuf_that_cannot_be_read_harms_no_other() {
    let mut request = one(full());
    let records = &mut request.resource_logs[0].scope_logs[0].log_records;
    records.extend([LogRecord { event_name: "TO-BREAK".into(), ..full() }, full()]);
    let whole = request.encode_to_vec();
    let good = to_lines(&one(full()), 1 << 20).unwrap();
    let at = whole.windows(8).position(|w| w == b"TO-BREAK").unwrap();
    // The text is none; the field behind its number is of another kind.
    for (at, with, says) in [(at, 0xff, "a text is not UTF-8"), (at - 2, 0x60, "another kind")] {
        let mut bytes = whole.clone();
        bytes[at] = with;
        let lines = lines_of(&bytes, 1 << 20).unwrap();
        assert!(matches!(&lines.unreadable[..], [(2, why)] if why.contains(says)), "{:?} should say {says}", lines.unreadable);
        let texts: Vec<&[u8]> = lines.text.split_inclusive(|b| *b == b'\n').collect();
        assert_eq!((texts.len(), texts[0], texts[2]), (3, &good[..], &good[..]));
    }
    // A value that is nested too deep is told, and not null.
    let nested = |depth| (0..depth).fold(text("x"), |inner, _| Value::ArrayValue(ArrayValue { values: vec![AnyValue { value: Some(inner) }] }));
    for (depth, told) in [(47, 0), (48, 1)] {
        let request = one(LogRecord { body: any(nested(depth)), ..full() });
        let lines = lines_of(&request.encode_to_vec(), 1 << 20).unwrap();
        assert_eq!(lines.unreadable.len(), told, "{depth}");
        assert_eq!(to_lines(&request, 1 << 20).is_err(), told == 1, "{depth}");
        assert_eq!(lines.text.starts_with(b"{\"protobuf\":{\"base64\":"), told == 1);
    }
    // What cannot be read of a resource costs its own records.
    let mut bytes = one(full()).encode_to_vec();
    let at = bytes.windows(6).position(|w| w == b"gate-4").unwrap();
    bytes[at] = 0xff;
    bytes.extend(one(full()).encode_to_vec());
    let lines = lines_of(&bytes, 1 << 20).unwrap();
    assert!(matches!(&lines.unreadable[..], [(1, why)] if why.contains("shares with others")), "{:?}", lines.unreadable);
    assert!(lines.text.ends_with(&good));
}

#[test]
fn what_readers_do_not_take_is_rewritten_and_the_record_tells() {
    let deep = format!("{}1{}", "[".repeat(40), "]".repeat(40));
    let lines = format!("{{\"n\":1}}\n{{\"message\":\"gate \\ud800 shut\",\"count\":1e999}}\n{{\"deep\":{deep}}}\nno event\n");
    let request = to_request(lines.as_bytes(), &[]);
    assert_eq!(crate::records(&request), 3, "what is no event is left to the caller, who counts");
    let records = &request.resource_logs[0].scope_logs[0].log_records;
    let told = |record: &LogRecord| -> Vec<String> {
        let told = record.attributes.iter().find(|a| a.key == crate::REWRITTEN).and_then(|a| a.value.clone()?.value);
        let Some(Value::ArrayValue(words)) = told else { return Vec::new() };
        words.values.into_iter().filter_map(|word| if let Some(Value::StringValue(word)) = word.value { Some(word) } else { None }).collect()
    };
    assert_eq!(records.iter().map(told).collect::<Vec<_>>(), [vec![], vec!["text".to_owned(), "number".to_owned()], vec!["depth".to_owned()]]);
    assert_eq!(records[1].body, any(text("gate \u{fffd} shut")));
    assert!(records[1].attributes.contains(&attribute("count", text("1e999"))));
}
