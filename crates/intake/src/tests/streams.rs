//! Syslog and lines over streams and datagrams: every message an event, once, whatever the framing; what is wrong is marked and told.

use rockrose_plan::SourceCertificates;
use tokio::net::UdpSocket;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName};
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

use super::*;

/// The events that the sink has, in order.
fn events(s: &Source) -> Vec<Value> {
    let bodies = s.sink.bodies.lock().unwrap();
    let lines = bodies.iter().flat_map(|(_, body, _)| body.split(|b| *b == b'\n')).filter(|l| !l.is_empty());
    lines.map(|l| serde_json::from_slice(l).unwrap_or_else(|_| Value::String(String::from_utf8_lossy(l).into_owned()))).collect()
}

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = std::time::Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(20), "timed out: {what}");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

fn message(n: usize) -> String {
    format!("<14>1 2026-11-23T10:00:00Z gate-4 boarding 7 - - number {n}")
}

fn troubles(s: &Source) -> Vec<(SenderFault, u64)> {
    s.monitor.get().troubles.iter().map(|t| (t.what, t.times)).collect()
}

#[tokio::test]
async fn messages_are_found_in_every_framing_and_cut() {
    let s = source(|x| x.kind = syslog(false)).await;
    // By their lengths, by lines, mixed; in pieces of every size.
    let mut bytes = Vec::new();
    for n in 0..200 {
        let text = message(n);
        let framed = if n % 3 == 0 {
            format!("{} {text}", text.len())
        } else if n % 3 == 1 {
            format!("{text}\n")
        } else {
            format!("{text}\r\n")
        };
        bytes.extend_from_slice(framed.as_bytes());
    }
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    let mut rest = &bytes[..];
    let mut size = 1;
    while !rest.is_empty() {
        let piece = size.min(rest.len());
        stream.write_all(&rest[..piece]).await.unwrap();
        stream.flush().await.unwrap();
        if size < 40 {
            tokio::task::yield_now().await;
        }
        rest = &rest[piece..];
        size = size % 97 + 1;
    }
    until("all are there", || events(&s).len() >= 200).await;
    let all = events(&s);
    for (n, event) in all.iter().enumerate() {
        assert_eq!(
            (event["message"].as_str().unwrap(), &event["app"], &event["severity"]),
            (format!("number {n}").as_str(), &"boarding".into(), &"info".into())
        );
        assert_eq!(event.get("syslog.broken"), None, "{event}");
    }
    assert_eq!(s.monitor.get().connections, 1);
    assert!(s.monitor.get().last_event_ms.is_some());
    drop(stream);
    until("the connection is gone", || s.monitor.get().connections == 0).await;
    assert_eq!(all.len(), 200);
}

#[tokio::test]
async fn what_is_broken_is_read_as_far_as_it_goes_and_told() {
    let s = source(|x| (x.kind, x.max_event) = (syslog(false), 100)).await;
    let long = format!("<14>1 - - - - - - {}", "x".repeat(300));
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    let parts = [
        format!("{} {long}", long.len()),
        format!("{long}\n"),
        "no header at all\n".to_owned(),
        "<14>Nov 23 10:00:00 gate app: fine\n".to_owned(),
        "900 <14>1 - - - - - - cut".to_owned(),
    ];
    stream.write_all(parts.concat().as_bytes()).await.unwrap();
    stream.shutdown().await.unwrap();
    until("all are there", || events(&s).len() >= 5).await;
    let broken: Vec<String> = events(&s).iter().map(|e| e["syslog.broken"].as_str().unwrap_or_default().to_owned()).collect();
    let too_long = "longer than the limit for one event";
    assert_eq!(broken, [too_long, too_long, "neither RFC 5424 nor RFC 3164", "", too_long]);
    assert!(events(&s)[0]["message"].as_str().unwrap().starts_with("xxx"));
    assert_eq!(events(&s)[3]["message"], "fine");
    assert!(troubles(&s).contains(&(SenderFault::TooLarge, 3)), "{:?}", troubles(&s));
    // Cut off in the middle.
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    stream.write_all(b"60 <14>1 - - - - - - half").await.unwrap();
    drop(stream);
    until("it is there", || events(&s).len() == 6).await;
    assert_eq!((events(&s)[5]["message"].as_str(), events(&s)[5]["syslog.broken"].as_str()), (Some("half"), Some("cut off")));
}

#[tokio::test]
async fn a_sender_is_held_back_while_there_is_no_room_and_loses_nothing() {
    let s = source(|x| x.kind = lines()).await;
    s.sink.refuse(Some(full()));
    let address = s.address;
    let sending = tokio::spawn(async move {
        let mut stream = TcpStream::connect(address).await.unwrap();
        for n in 0..200_000 {
            stream.write_all(format!("{{\"n\":{n},\"text\":\"some of what a line has to say\"}}\n").as_bytes()).await.unwrap();
        }
        stream.shutdown().await.unwrap();
    });
    until("it is told to wait", || troubles(&s).iter().any(|(what, times)| *what == SenderFault::PushedBack && *times >= 2)).await;
    assert!(!sending.is_finished(), "more is sent than the system holds");
    s.sink.refuse(None);
    sending.await.unwrap();
    until("all are there", || events(&s).len() >= 200_000).await;
    assert!(events(&s).iter().enumerate().all(|(n, e)| e["n"] == n));
}

#[tokio::test]
async fn lines_are_json_or_text_and_a_last_one_needs_no_end() {
    let s = source(|x| (x.kind, x.max_event) = (lines(), 50)).await;
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    stream.write_all(format!("{{\"a\":1}}\r\n\nwords\n{{\"long\":\"{}\"}}\n{{\"b\":2}}", "x".repeat(80)).as_bytes()).await.unwrap();
    stream.shutdown().await.unwrap();
    until("all are there", || events(&s).len() >= 4).await;
    let all = events(&s);
    assert_eq!((&all[0]["a"], &all[1], &all[3]["b"]), (&1.into(), &Value::String("words".into()), &2.into()));
    // What was cut is no JSON any more, so it is kept as text.
    assert!(all[2]["cut"] == true && all[2]["message"].as_str().unwrap().starts_with("{\"long\""));
}

#[tokio::test]
async fn a_datagram_is_a_message_and_losses_are_counted() {
    let s = source(|x| x.kind = syslog(true)).await;
    let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
    for n in 0..50 {
        socket.send_to(message(n).as_bytes(), s.address).await.unwrap();
    }
    until("all are there", || events(&s).len() >= 50).await;
    assert!(events(&s).iter().enumerate().all(|(n, e)| e["message"] == format!("number {n}")));
    // While nothing can be kept, some wait and the rest is lost, and counted.
    s.sink.refuse(Some(full()));
    let mut sent = 50u64;
    let lost = |s: &Source| s.monitor.get().troubles.iter().filter(|t| t.what == SenderFault::Lost).map(|t| t.times).sum::<u64>();
    let begun = std::time::Instant::now();
    let long = format!("{} {}", message(50), "x".repeat(3_000));
    while lost(&s) == 0 {
        assert!(begun.elapsed() < Duration::from_secs(20));
        for _ in 0..20 {
            socket.send_to(long.as_bytes(), s.address).await.unwrap();
            sent += 1;
        }
        tokio::time::sleep(Duration::from_millis(1)).await;
    }
    s.sink.refuse(None);
    until("what was kept and what was lost is all that was sent", || events(&s).len() as u64 + lost(&s) == sent).await;
    // The sink is told as well, for the account; and how much room the system has is known.
    until("the losses are noted", || s.sink.lost.lock().unwrap().0 == lost(&s)).await;
    let (messages, bytes) = *s.sink.lost.lock().unwrap();
    assert!(bytes / messages > 2_000, "{bytes} bytes of {messages}");
    assert!(s.monitor.get().receive_buffer.is_some_and(|room| room >= 64 << 10));
}

#[tokio::test]
async fn only_those_who_may_come_do() {
    let s = source(|x| (x.kind, x.allow) = (syslog(false), vec![rockrose_event::address::Network::read("192.0.2.0/24").unwrap()])).await;
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    let _ = stream.write_all(message(1).as_bytes()).await;
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer).await;
    until("it is told", || troubles(&s) == [(SenderFault::Address, 1)]).await;
    assert!(events(&s).is_empty());
    // Exchanged while it listens.
    s.settings.store(Arc::new(SourceSettings {
        allow: vec![rockrose_event::address::Network::read("127.0.0.1").unwrap()],
        ..SourceSettings::clone(&s.settings.load())
    }));
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    stream.write_all(format!("{}\n", message(2)).as_bytes()).await.unwrap();
    until("it is there", || events(&s).len() == 1).await;
}

/// A certificate for `localhost` and its authority, in files; and who trusts that.
fn certificates(folder: &std::path::Path) -> (SourceCertificates, Arc<ClientConfig>) {
    let _ = tokio_rustls::rustls::crypto::ring::default_provider().install_default();
    let mut params = rcgen::CertificateParams::new(Vec::new()).unwrap();
    params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    let authority = rcgen::CertifiedIssuer::self_signed(params, rcgen::KeyPair::generate().unwrap()).unwrap();
    let key = rcgen::KeyPair::generate().unwrap();
    let own = rcgen::CertificateParams::new(vec!["localhost".to_owned()]).unwrap().signed_by(&key, &authority).unwrap();
    let (certificate, its_key) = (folder.join("own.pem"), folder.join("own.key"));
    std::fs::write(&certificate, own.pem()).unwrap();
    std::fs::write(&its_key, key.serialize_pem()).unwrap();
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(authority.pem().as_bytes()).unwrap()).unwrap();
    let client = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    (SourceCertificates { certificate: certificate.display().to_string(), key: its_key.display().to_string(), client_ca: None }, Arc::new(client))
}

#[tokio::test]
async fn streams_are_safe_where_a_certificate_is_shown_and_plain_text_is_noticed() {
    let folder = tempfile::tempdir().unwrap();
    let (files, client) = certificates(folder.path());
    for kind in [syslog(false), http()] {
        let http = kind == http();
        let s = source(|x| (x.kind, x.certificates) = (kind, Some(files.clone()))).await;
        let connector = tokio_rustls::TlsConnector::from(Arc::clone(&client));
        let plain = TcpStream::connect(s.address).await.unwrap();
        let mut safe = connector.connect(ServerName::try_from("localhost").unwrap(), plain).await.unwrap();
        let bytes = if http { post("/in", "", b"x") } else { format!("{}\n", message(1)).into_bytes() };
        safe.write_all(&bytes).await.unwrap();
        until("it is there", || events(&s).len() == 1).await;
        let mut plain = TcpStream::connect(s.address).await.unwrap();
        let _ = plain.write_all(&bytes).await;
        until("plain text is noticed", || troubles(&s) == [(SenderFault::PlainText, 1)]).await;
        // One who only looks whether somebody listens has done nothing wrong; one who begins and hangs up has.
        drop(TcpStream::connect(s.address).await.unwrap());
        TcpStream::connect(s.address).await.unwrap().write_all(b"\x16\x03\x01").await.unwrap();
        until("so is one that hangs up", || troubles(&s).contains(&(SenderFault::Tls, 1))).await;
        // One that never goes on holds up nobody.
        let _silent = TcpStream::connect(s.address).await.unwrap();
        let plain = TcpStream::connect(s.address).await.unwrap();
        let mut safe = connector.connect(ServerName::try_from("localhost").unwrap(), plain).await.unwrap();
        safe.write_all(&bytes).await.unwrap();
        until("the next is served", || events(&s).len() == 2).await;
    }
    let missing = SourceSettings { certificates: Some(SourceCertificates { key: "missing.key".into(), ..files }), ..settings(http()) };
    let (source, why) = Sources::default().prepare(vec![missing]).await.unwrap_err();
    assert!(matches!(why, StartError::Certificates(_)) && why.to_string().contains("missing.key"), "{}: {why}", source.name);
}

#[tokio::test]
async fn who_speaks_another_protocol_is_noticed() {
    const HELLO: &[u8] = b"\x16\x03\x01\x00\xa5\x01\x00\x00\xa1\x03\x03\n\n";
    let asked = post("/in", "", b"{\"gate\":4}");
    let (logs, grpc) = (post("/v1/logs", "", b"{}"), post("/opentelemetry.proto.collector.logs.v1.LogsService/Export", "", b""));
    let elsewhere = post("/elsewhere", "", b"{}");
    for (kind, sent, what, says, count) in [
        (http(), HELLO, SenderFault::Tls, "used TLS on a plain HTTP port", 0),
        (http(), b"<34>1 - - gated - - - shut\n\n", SenderFault::Format, "sent syslog", 0),
        (http(), b"{\"gate\":4}\n\n", SenderFault::Format, "sent JSON without HTTP", 0),
        (http(), b"gate open\n\n", SenderFault::Format, "something other than HTTP", 0),
        (http(), &logs, SenderFault::Format, "sent OTLP to a source of kind `http`", 0),
        (http(), &grpc, SenderFault::Format, "sent OTLP to a source of kind `http`", 0),
        (http(), &elsewhere, SenderFault::Format, "another path", 0),
        (otlp(), HELLO, SenderFault::Tls, "used TLS", 0),
        (otlp(), b"17 <34>1 - - gated - - - shut\n\n", SenderFault::Format, "sent syslog", 0),
        (otlp(), &asked, SenderFault::Format, "log records must be posted to `/v1/logs`", 0),
        (syslog(false), HELLO, SenderFault::Tls, "used TLS on a plain text port", 0),
        (syslog(false), &asked, SenderFault::Format, "sent HTTP", 5),
        (syslog(false), b"gate open\n", SenderFault::Format, "neither RFC 5424 nor RFC 3164", 1),
        (lines(), HELLO, SenderFault::Tls, "used TLS", 0),
        (lines(), &asked, SenderFault::Format, "sent HTTP", 5),
    ] {
        let s = source(|x| x.kind = kind.clone()).await;
        let mut stream = TcpStream::connect(s.address).await.unwrap();
        stream.write_all(sent).await.unwrap();
        let _ = stream.shutdown().await;
        let sent = String::from_utf8_lossy(sent).into_owned();
        until(&format!("{kind:?} {sent}"), || s.monitor.get().troubles.iter().any(|t| t.what == what && t.says.contains(says) && t.from.is_some())).await;
        until("what is read is kept", || events(&s).len() == count).await;
        // The next is served as ever.
        match kind {
            SourceKind::Http(_) => assert_eq!(exchange(s.address, &asked).await.status, 200),
            SourceKind::Otlp(_) => {
                let record = br#"{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"x"}}]}]}]}"#;
                assert_eq!(exchange(s.address, &post("/v1/logs", "content-type: application/json\r\n", record)).await.status, 200);
            }
            _ => TcpStream::connect(s.address).await.unwrap().write_all(format!("{}\n", message(1)).as_bytes()).await.unwrap(),
        }
        until("the next is served", || events(&s).len() == count + 1).await;
    }
}

#[tokio::test]
async fn two_thousand_idle_connections_hold_up_nobody_and_stopping_keeps_what_was_read() {
    let s = source(|x| x.kind = lines()).await;
    let mut idle = Vec::new();
    for _ in 0..2_000 {
        idle.push(TcpStream::connect(s.address).await.unwrap());
    }
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    stream.write_all(b"{\"n\":1}\n{\"n\":2}").await.unwrap();
    until("it is there", || events(&s).len() == 1).await;
    s.running.stop.cancel();
    tokio::time::timeout(Duration::from_secs(10), s.running.task).await.unwrap().unwrap();
    let kept = s.sink.bodies.lock().unwrap().iter().map(|(_, b, _)| b.len()).sum::<usize>();
    assert_eq!(kept, 16, "what had no end yet was kept as well");
}
