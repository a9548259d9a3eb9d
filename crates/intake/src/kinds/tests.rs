//! What operators are told of each kind of source.

use rockrose_plan::CheckedPlan;

use super::*;

const KINDS: [&str; 6] = ["http", "otlp", "syslog", "tcp", "file", "syslog-udp"];

/// A source of a kind, with more settings.
fn planned(kind: &str, more: &str) -> Source {
    let settings = match kind {
        "file" => "kind = \"file\"\npaths = [\"/var/log/gates.log\"]".to_owned(),
        "syslog-udp" => "kind = \"syslog\"\nlisten = \"127.0.0.1:8620\"\nover = \"udp\"".to_owned(),
        listens => format!("kind = \"{listens}\"\nlisten = \"127.0.0.1:8620\""),
    };
    let text = format!("[source.quays]\n{settings}\n{more}\n[destination.vault]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"vault\"]\n");
    let plan = CheckedPlan::read(&text).unwrap_or_else(|reports| panic!("{text}\n{reports:?}"));
    plan.sources.into_iter().next().unwrap()
}

fn lines(kind: &str, more: &str) -> String {
    paste_lines(&planned(kind, more)).into_iter().map(|l| format!("{}: {}\n", l.with, l.line)).collect()
}

const SAFE: &str = "certificate = \"quay.pem\"\ncertificate_key = \"quay.key\"";

#[test]
fn every_kind_has_lines_to_paste_that_name_where_it_listens() {
    for kind in KINDS {
        let lines = lines(kind, "");
        assert!(!lines.is_empty(), "{kind}");
        for line in lines.lines() {
            let named = if kind == "file" { line.contains("/var/log/gates.log") } else { line.contains("127.0.0.1") && line.contains("8620") };
            assert!(named, "{kind}: {line}");
        }
    }
}

#[test]
fn lines_to_paste_show_a_key_only_where_the_source_asks_for_one() {
    for kind in ["http", "otlp"] {
        assert!(!lines(kind, "").contains("KEY"), "{kind}");
        for line in lines(kind, "key = { secret = \"quays\" }").lines() {
            assert!(line.contains("Bearer") && line.contains("KEY"), "{kind}: {line}");
        }
    }
}

#[test]
fn lines_to_paste_go_over_tls_where_the_source_does() {
    for kind in ["http", "otlp"] {
        assert!(lines(kind, "").contains("http://127.0.0.1:8620") && !lines(kind, "").contains("https://"), "{kind}");
        assert!(lines(kind, SAFE).contains("https://127.0.0.1:8620") && !lines(kind, SAFE).contains("http://"), "{kind}");
    }
    assert!(lines("tcp", SAFE).starts_with("openssl: ") && lines("tcp", "").starts_with("bash: "));
    let safe = lines("syslog", SAFE);
    assert!(safe.contains("protocol TLS") && !safe.contains("logger"), "logger speaks no TLS: {safe}");
}

#[test]
fn syslog_is_sent_by_what_the_source_takes() {
    let both = lines("syslog", "");
    assert!(both.contains("--udp") && both.contains("--tcp") && both.contains("protocol TCP"), "{both}");
    let datagrams = lines("syslog-udp", "");
    assert!(datagrams.contains("--udp") && !datagrams.to_lowercase().contains("tcp") && datagrams.contains("protocol UDP"), "{datagrams}");
}

#[test]
fn addresses_that_stand_for_all_and_of_version_6_can_be_pasted() {
    let at = |listen: &str| {
        let mut source = planned("http", "");
        source.listen = Some(listen.parse().unwrap());
        Endpoint::of(&source).url()
    };
    assert_eq!(at("0.0.0.0:8610"), "http://HOST:8610", "which address others reach it by is not known");
    assert_eq!(at("[::]:8610"), "http://HOST:8610");
    assert_eq!(at("[2001:db8::7]:8610"), "http://[2001:db8::7]:8610");
}

#[test]
fn against_everything_that_senders_do_wrong_something_helps() {
    let all = [
        SenderFault::Key,
        SenderFault::Address,
        SenderFault::PlainText,
        SenderFault::Tls,
        SenderFault::Format,
        SenderFault::TooLarge,
        SenderFault::Unreadable,
        SenderFault::PushedBack,
        SenderFault::Busy,
        SenderFault::Crowded,
        SenderFault::Lost,
        SenderFault::Clock,
    ];
    for kind in KINDS {
        let source = planned(kind, "");
        for what in all {
            assert!(remedy(what, &source).len() > 20, "{kind}: {what:?}");
        }
        // Nobody is sent to the kind of source that they sent to.
        let says = remedy(SenderFault::Format, &source);
        assert!(!says.contains(&format!("of kind `{}`", source.kind.word())), "{kind}: {says}");
    }
    assert!(remedy(SenderFault::Tls, &planned("http", "")).contains("switch off TLS"));
    assert!(remedy(SenderFault::Tls, &planned("http", SAFE)).contains("trusts the certificate"));
    assert!(remedy(SenderFault::Key, &planned("http", "")).contains("/in/KEY"), "a key may stand in the path over HTTP");
    assert!(!remedy(SenderFault::Key, &planned("otlp", "")).contains("/in/KEY"));
}
