//! What an operator is told to do about a source: lines to paste at its senders, and what helps when something is wrong.

use rockrose_intake::{FileState, Wrong};
use rockrose_plan::{Source as Planned, SourceKind, SyslogSource};

use super::types::SendLine;

/// What helps against the state of a file.
pub(super) fn file_remedy(state: FileState) -> &'static str {
    match state {
        FileState::Denied => "let the user that the service runs as read it and its folders, by its group or an access list",
        FileState::Binary => "leave it out with `but_not`, or have it written as UTF-8",
        FileState::Damaged => "see whether it is still being packed or copied; it is tried again when it changes",
        FileState::Gone => "keep rotated files until they are read: let `paths` meet their names as well",
        FileState::Odd => "let `paths` meet files only",
        FileState::Missing => "see whether the path is right, and whether the folder is there; it is taken up as soon as it appears",
        FileState::TooMany => "divide them among several sources, or narrow `paths`",
        FileState::Current | FileState::Behind | FileState::Copy => "",
    }
}

/// What helps against what senders do wrong.
pub(super) fn remedy(what: Wrong, planned: &Planned) -> &'static str {
    match (what, &planned.kind) {
        (Wrong::Key, SourceKind::Http(_)) => "let the sender show the key as `Authorization: Bearer KEY`, or post to `/in/KEY`",
        (Wrong::Key, _) => "let the sender show the key as `Authorization: Bearer KEY`",
        (Wrong::Address, _) => "add the sender's network to `allow`, if it may send",
        (Wrong::PlainText, _) => "switch on TLS at the sender, or send to a source without `certificate`",
        (Wrong::Tls, _) if planned.certificates.is_none() => "switch off TLS at the sender, or give the source a `certificate`",
        (Wrong::Tls, _) => "see that the sender trusts the certificate, and shows one of its own if `client_ca` asks for it",
        (Wrong::Clock, SourceKind::Syslog(_)) => "set the source's `zone` to the senders', or their clocks right",
        (Wrong::Clock, _) => "set the senders' clocks right, or convert their times with their zone: `convert time to time in \"ZONE\"`",
        (Wrong::TooLarge, SourceKind::File(_)) => "raise the source's `max_event`",
        (Wrong::Format, SourceKind::Otlp(_)) => "send logs as OTLP, over gRPC or to `/v1/logs`; other JSON and lines go to a source of kind `http`",
        (Wrong::Format, SourceKind::Http(_)) => "post JSON or lines to `/in`; OTLP goes to a source of kind `otlp`, syslog to one of kind `syslog`",
        (Wrong::Format, SourceKind::Syslog(_)) => "send whole messages, RFC 5424 or RFC 3164; lines go to a source of kind `tcp`, HTTP to one of kind `http`",
        (Wrong::Format, _) => "send lines of JSON or text; HTTP goes to a source of kind `http`, syslog to one of kind `syslog`",
        (Wrong::TooLarge, _) => "let the sender send less at once, or raise the source's limits",
        (Wrong::Unreadable, _) => "look at what came in quarantine",
        (Wrong::PushedBack, _) => "see which destination is full, or cannot be written to",
        (Wrong::Lost, _) => "send over TCP, which waits, or less",
    }
}

/// Scheme, host and port by which senders reach a source that listens.
pub(super) fn reached_at(planned: &Planned) -> (&'static str, String, u16) {
    let scheme = if planned.certificates.is_some() { "https" } else { "http" };
    let (host, port) = match planned.listen.map(|l| (l.ip(), l.port())) {
        None => ("HOST".to_owned(), 0),
        Some((ip, port)) if ip.is_unspecified() => ("HOST".to_owned(), port),
        Some((ip, port)) if ip.is_ipv6() => (format!("[{ip}]"), port),
        Some((ip, port)) => (ip.to_string(), port),
    };
    (scheme, host, port)
}

/// What to paste to send to a source.
pub(super) fn send(planned: &Planned) -> Vec<SendLine> {
    let (scheme, host, port) = reached_at(planned);
    let line = |with: &str, line: String| SendLine { with: with.to_owned(), line };
    let key = |written: &str| if planned.key.is_some() { written.to_owned() } else { String::new() };
    let over_tls = planned.certificates.is_some();
    match &planned.kind {
        SourceKind::Http(_) => vec![
            line("curl, one event", format!("curl {}-d '{{\"message\":\"hello\"}}' {scheme}://{host}:{port}/in", key("-H 'Authorization: Bearer KEY' "))),
            line("curl, a file of lines", format!("curl {}--data-binary @events.jsonl {scheme}://{host}:{port}/in", key("-H 'Authorization: Bearer KEY' "))),
        ],
        SourceKind::Otlp(_) => vec![
            line(
                "an OpenTelemetry SDK, gRPC",
                format!(
                    "export OTEL_LOGS_EXPORTER=otlp OTEL_EXPORTER_OTLP_PROTOCOL=grpc OTEL_EXPORTER_OTLP_ENDPOINT={scheme}://{host}:{port}{}",
                    key(" OTEL_EXPORTER_OTLP_HEADERS='authorization=Bearer%20KEY'")
                ),
            ),
            line(
                "an OpenTelemetry SDK, HTTP",
                format!(
                    "export OTEL_LOGS_EXPORTER=otlp OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf OTEL_EXPORTER_OTLP_ENDPOINT={scheme}://{host}:{port}{}",
                    key(" OTEL_EXPORTER_OTLP_HEADERS='authorization=Bearer%20KEY'")
                ),
            ),
        ],
        SourceKind::Syslog(SyslogSource { tcp, udp, .. }) => {
            let mut lines = Vec::new();
            if *udp {
                lines.push(line("logger, UDP", format!("logger --udp --server {host} --port {port} --rfc5424 hello")));
            }
            if *tcp && !over_tls {
                lines.push(line("logger, TCP", format!("logger --tcp --octet-count --server {host} --port {port} --rfc5424 hello")));
            }
            let protocol = match (tcp, over_tls) {
                (true, true) => "TLS",
                (true, false) => "TCP",
                (false, _) => "UDP",
            };
            let framing = if *tcp { ", framing octet-counted or by lines" } else { "" };
            lines.push(line("a syslog daemon", format!("protocol {protocol}, host {host}, port {port}, RFC 5424 or RFC 3164{framing}")));
            if !over_tls {
                let address = if *tcp { "tcp" } else { "udp" };
                let options = format!("--log-opt syslog-address={address}://{host}:{port} --log-opt syslog-format=rfc5424micro");
                lines.push(line("a container runtime", format!("--log-driver syslog {options}")));
            }
            lines
        }
        SourceKind::File(files) => {
            let path = files.paths.first().map_or("", String::as_str);
            let shown = if path.contains(['*', '?', '[']) { "FILE" } else { path };
            vec![line("bash", format!("echo hello >> {shown}"))]
        }
        SourceKind::Tcp(_) if over_tls => vec![line("openssl", format!("echo hello | openssl s_client -quiet -connect {host}:{port}"))],
        SourceKind::Tcp(_) => vec![line("bash", format!("echo hello > /dev/tcp/{host}/{port}"))],
    }
}

#[cfg(test)]
mod tests {
    use rockrose_plan::CheckedPlan;

    use super::*;

    const KINDS: [&str; 6] = ["http", "otlp", "syslog", "tcp", "file", "syslog-udp"];

    /// A source of a kind, with more settings.
    fn planned(kind: &str, more: &str) -> Planned {
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
        send(&planned(kind, more)).into_iter().map(|l| format!("{}: {}\n", l.with, l.line)).collect()
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
            let (scheme, host, port) = reached_at(&source);
            format!("{scheme}://{host}:{port}")
        };
        assert_eq!(at("0.0.0.0:8610"), "http://HOST:8610", "which address others reach it by is not known");
        assert_eq!(at("[::]:8610"), "http://HOST:8610");
        assert_eq!(at("[2001:db8::7]:8610"), "http://[2001:db8::7]:8610");
    }

    #[test]
    fn against_everything_that_senders_do_wrong_something_helps() {
        let all = [
            Wrong::Key,
            Wrong::Address,
            Wrong::PlainText,
            Wrong::Tls,
            Wrong::Format,
            Wrong::TooLarge,
            Wrong::Unreadable,
            Wrong::PushedBack,
            Wrong::Lost,
            Wrong::Clock,
        ];
        for kind in KINDS {
            let source = planned(kind, "");
            for what in all {
                assert!(remedy(what, &source).len() > 20, "{kind}: {what:?}");
            }
            // Nobody is sent to the kind of source that they sent to.
            let says = remedy(Wrong::Format, &source);
            assert!(!says.contains(&format!("of kind `{}`", source.kind.word())), "{kind}: {says}");
        }
        assert!(remedy(Wrong::Tls, &planned("http", "")).contains("switch off TLS"));
        assert!(remedy(Wrong::Tls, &planned("http", SAFE)).contains("trusts the certificate"));
        assert!(remedy(Wrong::Key, &planned("http", "")).contains("/in/KEY"), "a key may stand in the path over HTTP");
        assert!(!remedy(Wrong::Key, &planned("otlp", "")).contains("/in/KEY"));
    }

    #[test]
    fn a_file_in_trouble_has_a_remedy_and_one_that_is_well_has_none() {
        use FileState::*;
        for state in [Current, Behind, Copy, Denied, Binary, Damaged, Gone, Odd, Missing, TooMany] {
            assert_eq!(state.is_trouble(), !file_remedy(state).is_empty(), "{state:?}");
        }
    }
}
