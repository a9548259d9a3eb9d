//! What is written reads back as what it was.

use proptest::prelude::*;
use rockrose_event::output::*;
use rockrose_language::{Operation, Parse, parse_step};
use serde_json::{Value, json};

use crate::{Buffers, Extractor, Found};

const NOW: i64 = 1_795_428_000_000;

fn syslog(event: &str) -> String {
    let mut out = Vec::new();
    Syslog::new(SyslogFacility::Local(3)).write(event.as_bytes(), NOW, &mut out);
    String::from_utf8(out).unwrap()
}

#[test]
fn an_array_holds_every_line() {
    let mut out = Vec::new();
    json_array(b"{\"a\":1}\n{\"b\":[2]}\n", &mut out);
    assert_eq!(out, b"[{\"a\":1},{\"b\":[2]}]");
    out.clear();
    json_array(b"", &mut out);
    assert_eq!(out, b"[]");
}

#[test]
fn cloud_events_carry_the_event_and_where_it_comes_from() {
    let origins =
        [Origin { entry: 7, place: 0, route: "takings".into(), queued_ms: 0 }, Origin { entry: 7, place: 3, route: "spilled by desk".into(), queued_ms: 0 }];
    let mut out = Vec::new();
    cloud_events(b"{\"ts\":\"2026-11-23T10:00:00+01:00\",\"n\":1.10}\n{\"time\":\"soon\"}\n", &origins, "urn:rockrose:quay", &mut out);
    let batch: Value = serde_json::from_slice(&out).unwrap();
    assert_eq!(batch[0]["id"], "7-0");
    assert_eq!(batch[0]["source"], "urn:rockrose:quay/routes/takings");
    assert_eq!(batch[0]["time"], "2026-11-23T09:00:00Z");
    assert_eq!((&batch[0]["specversion"], &batch[0]["type"]), (&json!("1.0"), &json!("log.event")));
    assert!(String::from_utf8_lossy(&out).contains("\"data\":{\"ts\":\"2026-11-23T10:00:00+01:00\",\"n\":1.10}"), "the event is as it was");
    assert_eq!((batch[1].get("time"), &batch[1]["id"]), (None, &json!("7-3")));
    assert_eq!(batch[1]["source"], "urn:rockrose:quay/routes/spilled-by-desk");
}

#[test]
fn a_syslog_message_has_its_usual_fields_in_its_header() {
    for (event, expected) in [
        (
            r#"{"time":"2026-11-23T10:00:00Z","level":"warn","host":"kiosk-3","service":"boarding","pid":77,"message":"gate 4 jammed","gate":4}"#,
            "<156>1 2026-11-23T10:00:00Z kiosk-3 boarding 77 - [fields@32473 gate=\"4\"] gate 4 jammed",
        ),
        (r#"{"message":"only this"}"#, "<158>1 - - - - - - only this"),
        (r#"{"n":1}"#, "<158>1 - - - - - [fields@32473 n=\"1\"]"),
        (r#"{"level":"fatal","msg":"two\nlines"}"#, "<154>1 - - - - - - two\nlines"),
        (
            r#"{"a b=\"c]":"x\"y]z\\","o":{"p":{"q":true}},"nothing":null,"list":[1, 2]}"#,
            r#"<158>1 - - - - - [fields@32473 a_b__c_="x\"y\]z\\" o.p.q="true" list="[1, 2\]"]"#,
        ),
        (r#"{"host":"ein Schiff é","message":"m"}"#, "<158>1 - ein_Schiff___ - - - - m"),
        (r#"{"host":{"name":"quay-1"},"service":{"name":"crew"},"body":"m"}"#, "<158>1 - quay-1 crew - - - m"),
    ] {
        assert_eq!(syslog(event), expected, "{event}");
    }
}

#[test]
fn a_syslog_message_keeps_to_what_the_protocol_allows() {
    for (event, expected) in [
        // Six decimals, and none that are nothing.
        (r#"{"time":"2026-11-23T10:00:00.123456789Z"}"#, "<158>1 2026-11-23T10:00:00.123456Z - - - - -"),
        (r#"{"time":"2026-11-23T10:00:00.5Z"}"#, "<158>1 2026-11-23T10:00:00.5Z - - - - -"),
        (r#"{"time":"2026-11-23T10:00:00.120000789Z"}"#, "<158>1 2026-11-23T10:00:00.12Z - - - - -"),
        (r#"{"time":"2026-11-23T10:00:00.000000789Z"}"#, "<158>1 2026-11-23T10:00:00Z - - - - -"),
        // A name that is empty, too long, or has what may not stand there.
        (r#"{"":1,"o":{"":2}}"#, r#"<158>1 - - - - - [fields@32473 _="1" o.="2"]"#),
        (r#"{"a_name_of_more_than_thirty_two_letters":1,"é]=":2}"#, r#"<158>1 - - - - - [fields@32473 a_name_of_more_than_thirty_two_l="1" ___="2"]"#),
        // What looks like an element, and is none.
        (
            r#"{"@.a":1,"a@1.":2,"@7.b":3,"a b@7.c":4,"ann@post.example":5}"#,
            r#"<158>1 - - - - - [@7 b="3"][fields@32473 @.a="1" a@1.="2" a_b@7.c="4" ann@post.example="5"]"#,
        ),
        (r#"{"meta.n":1,"facility":"quay","host":{"id":1}}"#, r#"<158>1 - - - - - [fields@32473 meta.n="1" facility="quay" host.id="1"]"#),
    ] {
        assert_eq!(syslog(event), expected, "{event}");
    }
}

#[test]
fn a_message_that_came_by_syslog_leaves_as_it_was() {
    for message in [
        r#"<165>1 2026-11-23T09:59:58.5Z gate-4 boarding 77 ID7 [port@32473 name="Tansy \"Quay\"" berth="2"][meta sequenceId="9"] stuck"#,
        "<0>1 2026-11-23T09:59:58Z - - - - - all of it",
        "<191>1 - gate-4 - - ID9 -",
    ] {
        let (mut line, mut out) = (Vec::new(), Vec::new());
        assert_eq!(crate::SyslogReader::new(None).line(message.as_bytes(), None, NOW, &mut line), None);
        Syslog::new(SyslogFacility::Local(3)).write(line.trim_ascii_end(), NOW, &mut out);
        assert_eq!(String::from_utf8(out).unwrap(), message);
    }
}

#[test]
fn facilities_have_words() {
    assert!(SyslogFacility::WORDS.iter().all(|w| SyslogFacility::read(w).is_some()));
    assert_eq!((SyslogFacility::read("local8"), SyslogFacility::read("kernel")), (None, None));
    let mut out = Vec::new();
    Syslog::new(SyslogFacility::Daemon).write(b"{}", NOW, &mut out);
    assert_eq!(out, b"<30>1 - - - - - -");
}

#[test]
fn lines_follow_their_template() {
    let mut out = Vec::new();
    let mut template = LineTemplate::new("{time} [{severity}] {host.name}: {message} {{{n}}}").unwrap();
    template.write(br#"{"ts":"10:00","lvl":"warn","host":{"name":"quay-1"},"msg":"two\nlines","n":1.50}"#, &mut out);
    template.write(br#"{"message":"","n":null}"#, &mut out);
    assert_eq!(String::from_utf8(out).unwrap(), "10:00 [warn] quay-1: two\\nlines {1.50}\n- [-] -: - {-}\n");
    for (wrong, at) in [("a } b", 2), ("a {b", 2), ("{}", 1), ("{a b}", 1), ("{a.}", 1)] {
        assert_eq!(LineTemplate::new(wrong).map(|_| ()).unwrap_err().0, at, "{wrong}");
    }
}

#[test]
fn what_a_spreadsheet_would_run_is_a_text_there() {
    let written = |formulas: bool| {
        let mut rows = CsvRows::new(&["a".into(), "b".into()], formulas);
        let mut out = Vec::new();
        for event in [
            r#"{"a":"=HYPERLINK(\"http://x.example\")","b":"@sum"}"#,
            r#"{"a":"-4.5","b":-4.5}"#,
            r#"{"a":"+44 20 7946 0958","b":"-verbose, on"}"#,
            r#"{"a":"a=b","b":"\t=1"}"#,
        ] {
            rows.write(event.as_bytes(), &mut out);
        }
        String::from_utf8(out).unwrap()
    };
    assert_eq!(written(false), "\"'=HYPERLINK(\"\"http://x.example\"\")\",'@sum\n-4.5,-4.5\n'+44 20 7946 0958,\"'-verbose, on\"\na=b,'\t=1\n");
    assert_eq!(written(true), "\"=HYPERLINK(\"\"http://x.example\"\")\",@sum\n-4.5,-4.5\n+44 20 7946 0958,\"-verbose, on\"\na=b,\t=1\n");
}

#[test]
fn rows_are_quoted_where_they_must_be() {
    let mut out = Vec::new();
    let mut rows = CsvRows::new(&["message".into(), "http.status".into(), "n".into()], false);
    rows.head(&mut out);
    rows.write(br#"{"msg":"a, \"b\"\nc","http":{"status":404},"n":true}"#, &mut out);
    rows.write(br#"{"n":[1,2]}"#, &mut out);
    assert_eq!(String::from_utf8(out).unwrap(), "message,http.status,n\n\"a, \"\"b\"\"\nc\",404,true\n,,\"[1,2]\"\n");
}

proptest! {
    /// Our own reader of the protocol, written apart, finds in a message what stood in the event.
    #[test]
    fn a_syslog_message_reads_back(message in "[ -~éß]{1,60}", host in "[a-z0-9.-]{1,30}", value in "\\PC{0,30}", name in "[a-z_]{1,20}") {
        prop_assume!(!["time", "timestamp", "ts", "severity", "level", "lvl", "message", "msg", "body", "host", "hostname", "service", "app", "pid", "process", "facility"].contains(&name.as_str()));
        prop_assume!(message.trim() == message && host != "-");
        let event = json!({ "message": message, "host": host, "level": "error", name.clone(): value }).to_string();
        let line = syslog(&event);
        let Ok(Operation::Parse(Parse { formats, .. })) = parse_step("parse message as syslog").map(|s| s.operation) else { panic!() };
        let (mut found, mut room) = (Found::default(), Buffers::default());
        let extractor = Extractor::new(&formats[0]);
        prop_assert!(extractor.read(line.as_bytes(), NOW, &mut found, &mut room), "{}", line);
        let names: Vec<Vec<u8>> = extractor.names().iter().map(|n| n.flat().into_bytes()).collect();
        let pairs: Vec<(String, Value)> = found.pairs.iter().map(|(n, v)| {
            let name = String::from_utf8_lossy(found.name(n, &names)).into_owned();
            (name, serde_json::from_slice(found.value(v)).unwrap())
        }).collect();
        let of = |name: &str| pairs.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone());
        prop_assert_eq!(of("message"), Some(json!(message)));
        prop_assert_eq!(of("host"), Some(json!(host)));
        prop_assert_eq!(of("severity"), Some(json!("error")));
    }
}
