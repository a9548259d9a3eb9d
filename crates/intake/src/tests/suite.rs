//! One suite that every kind of source passes: what is whole arrives in order, whatever else comes, and what is pushed back comes later.

use std::io::Write;
use std::path::PathBuf;

use tokio_util::sync::CancellationToken;

use super::*;

/// A kind of source, running, and a way to send to it as its senders do.
enum Way {
    Http,
    Otlp,
    Syslog,
    Datagrams,
    Lines,
    File { path: PathBuf, stop: CancellationToken, _folder: tempfile::TempDir },
}

struct Case {
    name: &'static str,
    way: Way,
    source: Source,
}

async fn cases() -> Vec<Case> {
    let speaking = async |name, way, protocol: Protocol| Case { name, way, source: source(|s| s.protocol = protocol).await };
    let syslog = |datagrams| Protocol::Syslog { datagrams, zone: None };
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("quays.log");
    // The file's source stands beside one that nobody sends to.
    let quiet = source(|_| {}).await;
    let stop = CancellationToken::new();
    let settings =
        FileSettings { name: "quays".into(), paths: vec![path.display().to_string()], but_not: Vec::new(), from_start: true, path_as: None, max_event: 5_000 };
    tokio::spawn(follow(settings, Arc::clone(&quiet.sink), Arc::clone(&quiet.heard), stop.clone()));
    vec![
        speaking("http", Way::Http, Protocol::Http).await,
        speaking("otlp", Way::Otlp, Protocol::Otlp).await,
        speaking("syslog", Way::Syslog, syslog(false)).await,
        speaking("syslog, UDP", Way::Datagrams, syslog(true)).await,
        speaking("tcp", Way::Lines, Protocol::Lines).await,
        Case { name: "file", way: Way::File { path, stop, _folder: folder }, source: quiet },
    ]
}

impl Case {
    /// Sends messages as this kind's senders do; those who are answered ask again until they are not pushed back. Without `whole`, it breaks off within the last.
    async fn send(&self, messages: &[&[u8]], whole: bool) {
        let address = self.source.address;
        let until = |bytes: Vec<u8>| if whole { bytes } else { bytes[..bytes.len() - 3].to_vec() };
        let lines: Vec<u8> = messages.iter().flat_map(|m| [m, &b"\n"[..]].concat()).collect();
        match &self.way {
            Way::Http | Way::Otlp => {
                let (path, kind, body) = if matches!(self.way, Way::Http) {
                    ("/in", "application/x-ndjson", lines)
                } else {
                    let records: Vec<Value> = messages.iter().map(|m| serde_json::json!({ "body": { "stringValue": String::from_utf8_lossy(m) } })).collect();
                    let request = serde_json::json!({ "resourceLogs": [{ "scopeLogs": [{ "logRecords": records }] }] });
                    ("/v1/logs", "application/json", request.to_string().into_bytes())
                };
                let request = post(path, &format!("content-type: {kind}\r\n"), &body);
                if !whole {
                    return TcpStream::connect(address).await.unwrap().write_all(&until(request)).await.unwrap();
                }
                while exchange(address, &request).await.status == 503 {
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
            }
            Way::Syslog => {
                let framed: Vec<u8> = messages.iter().flat_map(|m| [format!("{} <34>1 - - gated - - - ", m.len() + 22).as_bytes(), m].concat()).collect();
                TcpStream::connect(address).await.unwrap().write_all(&until(framed)).await.unwrap();
            }
            Way::Lines => TcpStream::connect(address).await.unwrap().write_all(&until(lines)).await.unwrap(),
            Way::Datagrams => {
                let socket = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
                for message in messages {
                    // Larger than a datagram can be is larger than anybody can send.
                    let message = &message[..message.len().min(9_000)];
                    socket.send_to(&[b"<34>1 - - gated - - - ", message].concat(), address).await.unwrap();
                }
            }
            Way::File { path, .. } => std::fs::OpenOptions::new().create(true).append(true).open(path).unwrap().write_all(&until(lines)).unwrap(),
        }
    }

    /// The numbers of the messages that were handed on, in order.
    fn numbers(&self) -> Vec<u32> {
        let bodies = self.source.sink.bodies.lock().unwrap();
        let text: String = bodies.iter().map(|(_, body, _)| String::from_utf8_lossy(body).into_owned()).collect();
        text.split("gate #").skip(1).filter_map(|t| t.chars().take_while(char::is_ascii_digit).collect::<String>().parse().ok()).collect()
    }

    async fn comes_to(&self, what: &str, expected: &[u32]) {
        for _ in 0..400 {
            if self.numbers().len() >= expected.len() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        assert_eq!(self.numbers(), expected, "{}: {what}; {:?}", self.name, self.source.heard.get().troubles);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_passes() {
    for case in cases().await {
        case.send(&[b"gate #1", b"gate #2", b"gate #3"], true).await;
        case.comes_to("takes, in order", &[1, 2, 3]).await;
        // Nothing, blank lines, bytes that are no text, and one that is far too long: what stands behind them is taken all the same.
        if !matches!(case.way, Way::File { .. } | Way::Datagrams) {
            drop(TcpStream::connect(case.source.address).await.unwrap());
        }
        case.send(&[b" "], true).await;
        case.send(&[b"\xff\xfe\x00\x80"], true).await;
        let long = b"x".repeat(9_000);
        case.send(&[&long], true).await;
        case.send(&[b"gate #4"], true).await;
        case.comes_to("bears what is none", &[1, 2, 3, 4]).await;
        // The same again is another event.
        case.send(&[b"gate #4", b"gate #5"], true).await;
        case.comes_to("repeated", &[1, 2, 3, 4, 4, 5]).await;
        // Broken off within the last: a request goes as a whole, a stream as far as it was.
        if !matches!(case.way, Way::Datagrams) {
            case.send(&[b"gate #6", b"gate #7 in the bay"], false).await;
        } else {
            case.send(&[b"gate #6", b"gate #7 in the bay"], true).await;
        }
        let mut have = vec![1, 2, 3, 4, 4, 5];
        match case.way {
            Way::Http | Way::Otlp => {}
            // The rest of its last line comes later.
            Way::File { .. } => {
                case.comes_to("cut off", &[1, 2, 3, 4, 4, 5, 6]).await;
                case.send(&[b""], true).await;
                have.extend([6, 7]);
            }
            _ => have.extend([6, 7]),
        }
        case.comes_to("cut off", &have).await;
        // Pushed back: kept by the sender, or not read on, and taken once there is room.
        case.source.sink.refusing.store(true, Ordering::SeqCst);
        let pushed = async {
            let mut waited = 0;
            while !case.source.heard.get().troubles.iter().any(|t| t.what == Wrong::PushedBack) && waited < 400 {
                waited += 1;
                tokio::time::sleep(Duration::from_millis(25)).await;
            }
            case.source.sink.refusing.store(false, Ordering::SeqCst);
        };
        tokio::join!(case.send(&[b"gate #8", b"gate #9"], true), pushed);
        have.extend([8, 9]);
        case.comes_to("pushed back", &have).await;
        assert!(case.source.heard.get().troubles.iter().any(|t| t.what == Wrong::PushedBack), "{}", case.name);
        if let Way::File { stop, .. } = &case.way {
            stop.cancel();
        }
    }
}
