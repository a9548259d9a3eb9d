//! How sources are doing: what they heard last, what is wrong with their senders, and what to paste to send to them.

use std::sync::Arc;

use axum::Json;
use axum::extract::State;
use rockrose_core::plan::{Source as Planned, SourceKind};
use rockrose_intake::{Hearing, Problem, Wrong};

use super::types::{self, SendLine, Source, SourceState, Trouble};
use crate::{App, now_ms};

/// A source whose last event came longer ago than this is quiet, in milliseconds.
const QUIET_AFTER: i64 = 5 * 60_000;

/// The sources of the plan that runs.
#[utoipa::path(get, path = "/api/v1/sources", tag = "connect", responses((status = 200, body = Vec<Source>), (status = 401, body = types::Problem)))]
pub(crate) async fn sources(State(app): State<Arc<App>>) -> Result<Json<Vec<Source>>, Problem> {
    let (running, now) = (app.engine.running(), now_ms());
    let one = |planned: &Planned| {
        let hearing = app.sources.heard(&planned.name).get();
        let (state, says) = state(&hearing, now);
        let troubles = hearing.troubles.iter().map(|t| Trouble {
            what: word(t.what).to_owned(),
            says: t.says.clone(),
            remedy: remedy(t.what, planned).to_owned(),
            from: t.from.map(|a| a.to_string()),
            times: t.times,
            last_ms: t.last_ms,
        });
        Source {
            name: planned.name.clone(),
            kind: planned.kind.word().to_owned(),
            listen: planned.listen.to_string(),
            keyed: planned.key.is_some(),
            safe: planned.certificates.is_some(),
            state,
            says,
            events: hearing.events,
            last_event_ms: hearing.last_event_ms,
            last_from: hearing.last_from.map(|a| a.to_string()),
            connections: hearing.connections,
            troubles: troubles.collect(),
            send: send(planned),
        }
    };
    Ok(Json(running.checked.sources.iter().map(one).collect()))
}

/// What is to be said of a source, in a word and a sentence. It is only flowing while events flow, whatever else is well.
pub(crate) fn state(hearing: &Hearing, now_ms: i64) -> (SourceState, String) {
    let worst = hearing.troubles.first();
    // What only some records or senders have wrong does not make a source that flows a troubled one.
    match (hearing.last_event_ms, worst) {
        (Some(last), _) if now_ms - last < QUIET_AFTER => (SourceState::Flowing, "events flow".to_owned()),
        (Some(last), Some(worst)) if worst.last_ms > last => (SourceState::Troubled, worst.says.clone()),
        (Some(_), _) => (SourceState::Quiet, "it was heard before, and is quiet now".to_owned()),
        (None, Some(worst)) => (SourceState::Troubled, worst.says.clone()),
        (None, None) if hearing.connections > 0 => (SourceState::Unheard, "senders are connected, but have sent nothing".to_owned()),
        (None, None) => (SourceState::Unheard, "nothing has come yet".to_owned()),
    }
}

fn word(what: Wrong) -> &'static str {
    match what {
        Wrong::Key => "key",
        Wrong::Address => "address",
        Wrong::PlainText => "plain text",
        Wrong::Tls => "tls",
        Wrong::Format => "format",
        Wrong::TooLarge => "too large",
        Wrong::Unreadable => "unreadable",
        Wrong::PushedBack => "pushed back",
        Wrong::Lost => "lost",
    }
}

/// What helps against it.
fn remedy(what: Wrong, planned: &Planned) -> &'static str {
    match (what, &planned.kind) {
        (Wrong::Key, SourceKind::Http) => "let the sender show the key as `Authorization: Bearer KEY`, or post to `/in/KEY`",
        (Wrong::Key, _) => "let the sender show the key as `Authorization: Bearer KEY`",
        (Wrong::Address, _) => "add the sender's network to `allow`, if it may send",
        (Wrong::PlainText, _) => "switch on TLS at the sender, or send to a source without `certificate`",
        (Wrong::Tls, _) => "see that the sender trusts the certificate, and shows one of its own if `client_ca` asks for it",
        (Wrong::Format, SourceKind::Otlp) => "send logs as OTLP, over gRPC or to `/v1/logs`",
        (Wrong::Format, _) => "see what the sender writes: JSON, lines, or whole messages",
        (Wrong::TooLarge, _) => "let the sender send less at once, or raise the source's limits",
        (Wrong::Unreadable, _) => "look at what came in quarantine",
        (Wrong::PushedBack, _) => "see which destination is full, or cannot be written to",
        (Wrong::Lost, _) => "send over TCP, which waits, or less",
    }
}

/// What to paste to send to a source.
fn send(planned: &Planned) -> Vec<SendLine> {
    let (host, port) = match planned.listen.ip() {
        ip if ip.is_unspecified() => ("HOST".to_owned(), planned.listen.port()),
        ip if ip.is_ipv6() => (format!("[{ip}]"), planned.listen.port()),
        ip => (ip.to_string(), planned.listen.port()),
    };
    let scheme = if planned.certificates.is_some() { "https" } else { "http" };
    let line = |with: &str, line: String| SendLine { with: with.to_owned(), line };
    let key = |written: &str| if planned.key.is_some() { written.to_owned() } else { String::new() };
    let over_tls = planned.certificates.is_some();
    match &planned.kind {
        SourceKind::Http => vec![
            line("curl, one event", format!("curl {}-d '{{\"message\":\"hello\"}}' {scheme}://{host}:{port}/in", key("-H 'Authorization: Bearer KEY' "))),
            line("curl, a file of lines", format!("curl {}--data-binary @events.jsonl {scheme}://{host}:{port}/in", key("-H 'Authorization: Bearer KEY' "))),
        ],
        SourceKind::Otlp => vec![
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
        SourceKind::Syslog { tcp, udp, .. } => {
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
        SourceKind::Tcp if over_tls => vec![line("openssl", format!("echo hello | openssl s_client -quiet -connect {host}:{port}"))],
        SourceKind::Tcp => vec![line("bash", format!("echo hello > /dev/tcp/{host}/{port}"))],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_source_is_green_only_while_events_flow() {
        let now = 10 * QUIET_AFTER;
        let trouble = |last_ms| rockrose_intake::Trouble { what: Wrong::Key, says: "this is not the key".into(), from: None, times: 1, last_ms };
        let hearing = |last_event_ms, connections, troubles| Hearing { last_event_ms, connections, troubles, ..Hearing::default() };
        for (hearing, expected) in [
            (hearing(None, 0, vec![]), (SourceState::Unheard, "nothing has come yet")),
            (hearing(None, 2, vec![]), (SourceState::Unheard, "senders are connected, but have sent nothing")),
            (hearing(None, 2, vec![trouble(now)]), (SourceState::Troubled, "this is not the key")),
            (hearing(Some(now - 1_000), 0, vec![trouble(now)]), (SourceState::Flowing, "events flow")),
            (hearing(Some(now - QUIET_AFTER), 0, vec![trouble(1)]), (SourceState::Quiet, "it was heard before, and is quiet now")),
            (hearing(Some(now - QUIET_AFTER), 0, vec![trouble(now)]), (SourceState::Troubled, "this is not the key")),
        ] {
            let (state, says) = state(&hearing, now);
            assert_eq!((state, says.as_str()), expected);
        }
    }
}
