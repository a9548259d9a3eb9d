//! What a source does with its senders, whatever stands behind it.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use arc_swap::ArcSwap;
use rockrose_event::record::DeclaredFormat;
use serde_json::Value;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::Notify;

mod otlp;
mod streams;
mod suite;

use rockrose_plan::{HttpSource, OtlpSource, SourceKind, SyslogSource, TcpSource};

use super::*;
use crate::socket::Socket;
use crate::sources::{Running, start};

/// A sink that keeps what it is handed, and can be told to hold on or to refuse.
#[derive(Default)]
struct Kept {
    bodies: Mutex<Vec<(String, Vec<u8>, DeclaredFormat)>>,
    with: Mutex<Vec<BodyMetadata>>,
    holding: AtomicBool,
    let_go: Notify,
    waiting: AtomicUsize,
    refusing: Mutex<Option<Refusal>>,
    positions: Mutex<BTreeMap<String, String>>,
    /// Messages that were lost, and their bytes.
    lost: Mutex<(u64, u64)>,
}

impl Kept {
    /// Refuses everything for this reason from now on; or takes everything again.
    fn refuse(&self, refusal: Option<Refusal>) {
        *self.refusing.lock().unwrap() = refusal;
    }
}

fn full() -> Refusal {
    Refusal::Full { destination: "desk".into() }
}

impl Sink for Kept {
    async fn accept(&self, source: &str, body: Arc<Buffer>, says: DeclaredFormat, with: BodyMetadata) -> Result<Receipt, Refusal> {
        if self.holding.load(Ordering::SeqCst) && !body.is_empty() {
            self.waiting.fetch_add(1, Ordering::SeqCst);
            self.let_go.notified().await;
        }
        // Where a source has come to is noted even where no events can be taken.
        if let Some(refusal) = self.refusing.lock().unwrap().clone().filter(|_| !body.is_empty()) {
            return Err(refusal);
        }
        for Position { id, content } in &with.positions {
            match content {
                Some(content) => self.positions.lock().unwrap().insert(id.clone(), content.clone()),
                None => self.positions.lock().unwrap().remove(id),
            };
        }
        if body.is_empty() {
            return Ok(Receipt::default());
        }
        self.bodies.lock().unwrap().push((source.to_owned(), body.to_vec(), says));
        self.with.lock().unwrap().push(with);
        Ok(Receipt { received: 1, read: 1, ..Receipt::default() })
    }

    async fn lost(&self, _: &str, messages: u64, bytes: u64) {
        let mut lost = self.lost.lock().unwrap();
        *lost = (lost.0 + messages, lost.1 + bytes);
    }

    async fn positions(&self, _: &str) -> Result<Vec<Position>, Refusal> {
        Ok(self.positions.lock().unwrap().iter().map(|(id, content)| Position { id: id.clone(), content: Some(content.clone()) }).collect())
    }
}

struct Source {
    address: SocketAddr,
    settings: Arc<ArcSwap<SourceSettings>>,
    sink: Arc<Kept>,
    monitor: Arc<SourceMonitor>,
    running: Running,
}

/// What sources of each kind are in a plan.
pub(crate) fn http() -> SourceKind {
    SourceKind::Http(HttpSource)
}

pub(crate) fn otlp() -> SourceKind {
    SourceKind::Otlp(OtlpSource)
}

pub(crate) fn lines() -> SourceKind {
    SourceKind::Tcp(TcpSource)
}

pub(crate) fn syslog(datagrams: bool) -> SourceKind {
    SourceKind::Syslog(SyslogSource { tcp: !datagrams, udp: datagrams, zone: None })
}

pub(crate) fn settings(kind: SourceKind) -> SourceSettings {
    SourceSettings {
        name: "quays".into(),
        kind,
        listen: Some("127.0.0.1:0".parse().unwrap()),
        key: None,
        may_set: Vec::new(),
        allow: Vec::new(),
        door: None,
        certificates: None,
        max_body: 10_000,
        max_unpacked: 50_000,
        max_event: 5_000,
        max_requests: 2,
        scope: rockrose_plan::FileScope { under: vec!["/".into()], ..rockrose_plan::FileScope::default() },
    }
}

/// Opens the socket that a source needs.
fn open(settings: &SourceSettings) -> (Socket, SocketAddr) {
    let listen = settings.listen.unwrap();
    let socket = if settings.kind.takes().0 { Socket::streams(listen) } else { Socket::datagrams(listen) };
    let socket = socket.unwrap();
    let address = match &socket {
        Socket::Streams(listener) => listener.local_addr().unwrap(),
        Socket::Datagrams(socket) => socket.local_addr().unwrap(),
    };
    (socket, address)
}

async fn source(change: impl FnOnce(&mut SourceSettings)) -> Source {
    let mut settings = settings(http());
    change(&mut settings);
    let (socket, address) = match settings.listen {
        Some(_) => {
            let (socket, address) = open(&settings);
            (Some(socket), address)
        }
        // A source that opens what it reads has no address.
        None => (None, ([0, 0, 0, 0], 0).into()),
    };
    let (sink, monitor) = (Arc::new(Kept::default()), Arc::new(SourceMonitor::default()));
    let running = start(settings, socket, Arc::clone(&sink), Arc::default(), Arc::clone(&monitor)).unwrap();
    Source { address, settings: Arc::clone(&running.settings), sink, monitor, running }
}

struct Answer {
    status: u16,
    head: String,
    body: Value,
}

impl Answer {
    fn kind(&self) -> &str {
        self.body["type"].as_str().unwrap_or_default().trim_start_matches("urn:rockrose:problem:")
    }
}

/// Sends raw bytes and reads one answer.
async fn exchange(address: SocketAddr, bytes: &[u8]) -> Answer {
    let mut stream = TcpStream::connect(address).await.unwrap();
    // The other side may answer and close before it has read everything.
    let _ = stream.write_all(bytes).await;
    let mut text = Vec::new();
    let _ = tokio::time::timeout(Duration::from_secs(10), stream.read_to_end(&mut text)).await.expect("an answer in time");
    let text = String::from_utf8_lossy(&text).into_owned();
    let (head, body) = text.split_once("\r\n\r\n").unwrap_or((&text, ""));
    let status = head.split(' ').nth(1).and_then(|s| s.parse().ok()).unwrap_or(0);
    Answer { status, head: head.to_lowercase(), body: serde_json::from_str(body).unwrap_or_default() }
}

fn post(path: &str, headers: &str, body: &[u8]) -> Vec<u8> {
    let head = format!("POST {path} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n{headers}content-length: {}\r\n\r\n", body.len());
    [head.as_bytes(), body].concat()
}

#[tokio::test]
async fn bodies_reach_the_sink_with_what_the_sender_says() {
    let s = source(|_| {}).await;
    for (kind, says) in [
        ("application/json; charset=utf-8", DeclaredFormat::Json),
        ("application/vnd.ferry+json", DeclaredFormat::Json),
        ("application/x-ndjson", DeclaredFormat::Lines),
        ("TEXT/PLAIN", DeclaredFormat::Lines),
        ("application/x-www-form-urlencoded", DeclaredFormat::Unknown),
    ] {
        let answer = exchange(s.address, &post("/in", &format!("content-type: {kind}\r\n"), b"{\"a\":1}")).await;
        assert_eq!((answer.status, answer.body["read"].as_u64()), (200, Some(1)), "{kind}");
        let (name, body, said) = s.sink.bodies.lock().unwrap().pop().unwrap();
        assert_eq!((name.as_str(), body.as_slice(), said), ("quays", &b"{\"a\":1}"[..], says), "{kind}");
    }
    assert_eq!(exchange(s.address, &post("/", "", b"x")).await.status, 200);
    // A form is one event; as it came it is kept only while somebody looks.
    let form = post("/in", "content-type: application/x-www-form-urlencoded\r\n", b"gate=4&message=gangway+stuck");
    for looks in [false, true] {
        let _looking = looks.then(|| s.monitor.catch().unwrap());
        assert_eq!(exchange(s.address, &form).await.status, 200);
        let (_, body, said) = s.sink.bodies.lock().unwrap().pop().unwrap();
        assert_eq!((body.as_slice(), said), (&b"{\"gate\":\"4\",\"message\":\"gangway stuck\"}\n"[..], DeclaredFormat::Lines));
        let raw = s.sink.with.lock().unwrap().pop().unwrap().raw;
        assert_eq!(raw, if looks { vec![b"gate=4&message=gangway+stuck".to_vec()] } else { Vec::new() });
    }
}

#[tokio::test]
async fn bodies_in_pieces_and_cut_off() {
    let s = source(|_| {}).await;
    let chunked = b"POST /in HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ntransfer-encoding: chunked\r\n\r\n3\r\nabc\r\n4\r\ndefg\r\n0\r\n\r\n";
    assert_eq!(exchange(s.address, chunked).await.status, 200);
    assert_eq!(s.sink.bodies.lock().unwrap().pop().unwrap().1, b"abcdefg");
    // An endless body is refused at its bound, though no length was announced.
    let mut endless = b"POST /in HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ntransfer-encoding: chunked\r\n\r\n".to_vec();
    for _ in 0..30 {
        endless.extend_from_slice(b"3e8\r\n");
        endless.extend_from_slice(&[b'x'; 1000]);
        endless.extend_from_slice(b"\r\n");
    }
    assert_eq!(exchange(s.address, &endless).await.status, 413);
    // One that ends before it is whole reaches nobody.
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    stream.write_all(b"POST /in HTTP/1.1\r\nhost: localhost\r\ncontent-length: 100\r\n\r\n{\"a\":1}").await.unwrap();
    stream.shutdown().await.unwrap();
    let mut rest = Vec::new();
    let _ = stream.read_to_end(&mut rest).await;
    assert!(!String::from_utf8_lossy(&rest).contains("200 OK"));
    assert!(s.sink.bodies.lock().unwrap().is_empty());
    for garbage in
        [&b"\x16\x03\x01\x02\x00\x01\x00"[..], b"GET\r\n\r\n", b"\0\0\0\0\r\n\r\n", b"POST /in HTTP/1.1\r\nhost: localhost\r\ncontent-length: -1\r\n\r\n"]
    {
        let mut bytes = garbage.to_vec();
        bytes.extend_from_slice(b"\r\n\r\n");
        let answer = exchange(s.address, &bytes).await;
        assert!(answer.status == 0 || answer.status == 400, "{garbage:?}: {}", answer.status);
    }
    assert_eq!(exchange(s.address, &post("/in", "", b"still here")).await.status, 200);
}

#[tokio::test]
async fn bounds_and_encodings_are_told_apart() {
    let s = source(|_| {}).await;
    let gzip = |bytes: &[u8]| {
        let mut e = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
        std::io::Write::write_all(&mut e, bytes).unwrap();
        e.finish().unwrap()
    };
    for (headers, body, status, kind) in [
        ("", vec![b'x'; 10_001], 413, "body-too-large"),
        ("", Vec::new(), 400, "empty-body"),
        ("", b" \r\n\t\n".to_vec(), 400, "empty-body"),
        ("content-encoding: gzip\r\n", Vec::new(), 400, "empty-body"),
        ("content-encoding: gzip\r\ncontent-encoding: gzip\r\n", gzip(b"x"), 415, "unknown-encoding"),
        ("content-encoding: gzip\r\n", gzip(&[b'x'; 50_001]), 413, "body-too-large"),
        ("content-encoding: gzip\r\n", b"plain".to_vec(), 400, "damaged-body"),
        ("content-encoding: brotli\r\n", b"x".to_vec(), 415, "unknown-encoding"),
        ("content-encoding: \u{e9}\r\n", b"x".to_vec(), 415, "unknown-encoding"),
    ] {
        let answer = exchange(s.address, &post("/in", headers, &body)).await;
        assert_eq!((answer.status, answer.kind()), (status, kind), "{headers}");
        assert!(answer.head.contains("application/problem+json"));
    }
    let mut zlib = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::best());
    std::io::Write::write_all(&mut zlib, &[b'x'; 50_000]).unwrap();
    let zlib = ("content-encoding: deflate\r\n", zlib.finish().unwrap());
    for (headers, body) in [zlib, ("content-encoding: gzip\r\n", gzip(&[b'x'; 50_000])), ("content-encoding: identity\r\n", vec![b'x'; 10_000])] {
        assert_eq!(exchange(s.address, &post("/in", headers, &body)).await.status, 200, "{headers}");
    }
}

#[tokio::test]
async fn the_key_is_asked_for_in_either_place() {
    let s = source(|x| x.key = Some(SourceKey::new("tern".into()))).await;
    for (path, headers, status) in [
        ("/in", "authorization: Bearer tern\r\n", 200),
        ("/in", "authorization: bearer tern\r\n", 200),
        ("/in/tern", "", 200),
        ("/in", "", 401),
        ("/in", "authorization: Bearer ter\r\n", 401),
        ("/in", "authorization: Bearer tern2\r\n", 401),
        ("/in", "authorization: Basic tern\r\n", 401),
        ("/in/plover", "", 401),
        // The path's key is what counts where both are shown.
        ("/in/plover", "authorization: Bearer tern\r\n", 401),
    ] {
        let answer = exchange(s.address, &post(path, headers, b"x")).await;
        assert_eq!(answer.status, status, "{path} {headers}");
        assert!(!answer.body.to_string().contains("tern"), "the key never comes back");
    }
    assert_eq!(format!("{:?}", s.settings.load().key), "Some(SourceKey(…))");
    // Settings are exchanged under the running listener.
    s.settings.store(Arc::new(SourceSettings { key: None, name: "gates".into(), ..SourceSettings::clone(&s.settings.load()) }));
    assert_eq!(exchange(s.address, &post("/in", "", b"x")).await.status, 200);
    assert_eq!(s.sink.bodies.lock().unwrap().last().unwrap().0, "gates");
    assert_eq!(exchange(s.address, &post("/in/tern", "", b"x")).await.status, 404);
}

#[tokio::test]
async fn only_so_many_at_once_and_the_sink_can_refuse() {
    let s = source(|_| {}).await;
    s.sink.holding.store(true, Ordering::SeqCst);
    let held: Vec<_> = (0..2).map(|_| tokio::spawn(async move { exchange(s.address, &post("/in", "", b"x")).await.status })).collect();
    while s.sink.waiting.load(Ordering::SeqCst) < 2 {
        tokio::task::yield_now().await;
    }
    let busy = exchange(s.address, &post("/in", "", b"x")).await;
    assert_eq!((busy.status, busy.kind()), (503, "busy"));
    assert!(busy.head.contains("retry-after: 1"));
    // Which is not what is said of a full destination.
    assert_eq!(s.monitor.get().troubles.iter().map(|t| t.what).collect::<Vec<_>>(), [SenderFault::Busy]);
    s.sink.holding.store(false, Ordering::SeqCst);
    s.sink.let_go.notify_waiters();
    for one in held {
        assert_eq!(one.await.unwrap(), 200);
    }
    s.sink.refuse(Some(full()));
    let full = exchange(s.address, &post("/in", "", b"x")).await;
    assert_eq!((full.status, full.kind()), (503, "full"));
    s.sink.refuse(None);
    assert_eq!(exchange(s.address, &post("/in", "", b"x")).await.status, 200);
}

#[tokio::test]
async fn bodies_that_come_slowly_keep_nobody_out() {
    let s = source(|_| {}).await;
    let mut slow = Vec::new();
    for _ in 0..8 {
        let mut stream = TcpStream::connect(s.address).await.unwrap();
        stream.write_all(b"POST /in HTTP/1.1\r\nhost: localhost\r\ncontent-length: 100\r\n\r\n{").await.unwrap();
        slow.push(stream);
    }
    // More than are worked on at once, and none of them is.
    assert_eq!(exchange(s.address, &post("/in", "", b"x")).await.status, 200);
    let mut first = slow.swap_remove(0);
    first.write_all(&[b' '; 99]).await.unwrap();
    let mut answer = Vec::new();
    while answer.len() < 15 && first.read_buf(&mut answer).await.unwrap() > 0 {}
    assert!(answer.starts_with(b"HTTP/1.1 200"), "{}", String::from_utf8_lossy(&answer));
}

#[tokio::test(start_paused = true)]
async fn whoever_sends_nothing_or_only_half_a_head_is_cut_off() {
    let listener = BoundedListener::bind("127.0.0.1:0".parse().unwrap(), 100, None).await.unwrap();
    let address = listener.address().unwrap();
    tokio::spawn(crate::serve(listener, axum::Router::new(), None, tokio_util::sync::CancellationToken::new()));
    let ends_after = async |sent: &[u8]| {
        let mut stream = TcpStream::connect(address).await.unwrap();
        stream.write_all(sent).await.unwrap();
        let begun = tokio::time::Instant::now();
        let _ = tokio::time::timeout(Duration::from_secs(300), stream.read_to_end(&mut Vec::new())).await;
        begun.elapsed().as_secs()
    };
    for (sent, seconds) in [(&b""[..], 20..=21), (b"GET / HTTP/1.1\r\nhost: loc", 60..=61), (b"GET / HTTP/1.1\r\nhost: localhost\r\n\r\n", 60..=61)] {
        let after = ends_after(sent).await;
        assert!(seconds.contains(&after), "{:?}: {after} s", String::from_utf8_lossy(sent));
    }
}

#[tokio::test]
async fn a_peer_that_is_gone_without_a_word_is_looked_for() {
    let mut listener = BoundedListener::bind("127.0.0.1:0".parse().unwrap(), 100, None).await.unwrap();
    let _peer = TcpStream::connect(listener.address().unwrap()).await.unwrap();
    let (connection, _) = listener.next().await;
    let socket = socket2::SockRef::from(connection.plain().unwrap());
    assert!(socket.keepalive().unwrap() && socket.tcp_nodelay().unwrap());
    let (time, every, times) = (socket.tcp_keepalive_time().unwrap(), socket.tcp_keepalive_interval().unwrap(), socket.tcp_keepalive_retries().unwrap());
    assert!(time + every * times <= Duration::from_secs(300), "{time:?} {every:?} {times}");
}

#[tokio::test(start_paused = true)]
async fn a_body_comes_at_a_least_rate() {
    use crate::requests::read;
    let body = |every: Duration, bytes: usize, times: usize| {
        let pieces = futures_util::stream::unfold(0, move |n| async move {
            tokio::time::sleep(every).await;
            (n < times).then(|| (Ok::<_, std::io::Error>(vec![b'x'; bytes]), n + 1))
        });
        axum::body::Body::from_stream(pieces)
    };
    let second = Duration::from_secs(1);
    for (every, bytes, times, after) in
        [(second, 1, 60, Some(10)), (second, 1_000, 50, None), (4 * second, 1, 1, None), (second, 10_000, 100, Some(60)), (11 * second, 1, 1, Some(10))]
    {
        let begun = tokio::time::Instant::now();
        let (budget, mut held) = (tokio::sync::Semaphore::new(1 << 24), Vec::new());
        let taken = read(body(every, bytes, times), &axum::http::HeaderMap::new(), 1 << 24, &budget, &mut held).await;
        match after {
            None => assert_eq!(taken.unwrap().len(), bytes * times),
            Some(after) => {
                assert_eq!(taken.unwrap_err().status().as_u16(), 408);
                assert_eq!(begun.elapsed().as_secs(), after, "{every:?} {bytes}");
            }
        }
    }
}

#[tokio::test]
async fn whoever_guesses_a_key_waits() {
    let s = source(|x| x.key = Some(SourceKey::new("tern".into()))).await;
    let ask = async |key: &str| exchange(s.address, &post("/in", &format!("authorization: Bearer {key}\r\n"), b"x")).await;
    // A right key in between, and nothing is held against its address.
    for _ in 0..19 {
        assert_eq!(ask("plover").await.status, 401);
    }
    assert_eq!(ask("tern").await.status, 200);
    for _ in 0..20 {
        assert_eq!(ask("plover").await.status, 401);
    }
    let waits = ask("tern").await;
    assert_eq!((waits.status, waits.kind()), (429, "too-many-failures"));
    assert!(s.monitor.get().troubles.iter().any(|t| t.what == SenderFault::Key && t.says.contains("too many failures")));
}

#[tokio::test]
async fn a_source_that_stops_finishes_what_is_under_way() {
    let mut s = source(|_| {}).await;
    s.sink.holding.store(true, Ordering::SeqCst);
    let address = s.address;
    let held = tokio::spawn(async move { exchange(address, &post("/in", "", b"last")).await.status });
    while s.sink.waiting.load(Ordering::SeqCst) < 1 {
        tokio::task::yield_now().await;
    }
    s.running.stop.cancel();
    drop(s.running.socket.take());
    // New connections find nobody, soon.
    let closed = async {
        while TcpStream::connect(address).await.is_ok() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    tokio::time::timeout(Duration::from_secs(10), closed).await.unwrap();
    s.sink.let_go.notify_waiters();
    assert_eq!(held.await.unwrap(), 200);
    tokio::time::timeout(Duration::from_secs(10), s.running.task).await.unwrap().unwrap();
    assert_eq!(s.sink.bodies.lock().unwrap().pop().unwrap().1, b"last");
}

#[tokio::test]
async fn connections_are_bounded_and_idle_ones_make_room() {
    let listener = BoundedListener::bind("127.0.0.1:0".parse().unwrap(), 2, None).await.unwrap();
    let address = listener.address().unwrap();
    let app = axum::Router::new().route("/", axum::routing::get(|| async { "here" }));
    tokio::spawn(serve(listener, app, None, tokio_util::sync::CancellationToken::new()));
    let get = b"GET / HTTP/1.1\r\nhost: localhost\r\n\r\n";
    // Both are open: one has sent half a request, and one nothing.
    let mut half = TcpStream::connect(address).await.unwrap();
    half.write_all(&get[..8]).await.unwrap();
    let mut silent = TcpStream::connect(address).await.unwrap();
    let answered = async |stream: &mut TcpStream, rest: &[u8]| {
        stream.write_all(rest).await.unwrap();
        let mut answer = Vec::new();
        while !answer.ends_with(b"here") {
            let read = tokio::time::timeout(Duration::from_secs(10), stream.read_buf(&mut answer)).await.unwrap().unwrap();
            assert!(read > 0, "{}", String::from_utf8_lossy(&answer));
        }
    };
    let closed = async |stream: &mut TcpStream| {
        let read = tokio::time::timeout(Duration::from_secs(10), stream.read(&mut [0])).await.unwrap();
        read.map_or(true, |n| n == 0)
    };
    let mut third = TcpStream::connect(address).await.unwrap();
    answered(&mut third, get).await;
    assert!(closed(&mut silent).await, "the one that sent nothing made room");
    // Who was answered holds its place as long as others were idle longer.
    let mut fourth = TcpStream::connect(address).await.unwrap();
    answered(&mut fourth, get).await;
    assert!(closed(&mut half).await);
    answered(&mut third, get).await;
}

#[test]
fn problems_are_documents() {
    use axum::response::IntoResponse;
    let response = Problem::unauthorised("show it").with("hint", "x").into_response();
    assert_eq!(response.headers()["www-authenticate"], "Bearer");
    assert_eq!(response.headers()["content-type"], "application/problem+json");
    let waiting = Problem::unavailable("full", "later");
    assert_eq!((waiting.status().as_u16(), waiting.detail()), (503, "later"));
    assert_eq!(waiting.into_response().headers()["retry-after"], "5");
}
