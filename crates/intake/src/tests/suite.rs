//! One suite of properties that every kind of source has, whatever its senders do and whatever the sink answers.
//!
//! A kind is one line in [`Case::every_kind`] and one in [`Case::send`]; a property is one function and one line in [`every_kind_has_every_property`].

use std::io::Write;
use std::path::PathBuf;

use std::sync::atomic::AtomicU64;

use rockrose_plan::{Files, SystemJournal};

use super::*;

/// How a kind's senders send.
enum Way {
    Http,
    Otlp,
    Syslog,
    Datagrams,
    Lines,
    File(PathBuf),
    /// The folder of a journal that `systemd-journal-remote` writes.
    Journal(PathBuf),
}

/// How much of the last message is sent, and how.
#[derive(Clone, Copy, PartialEq, Eq)]
enum How {
    Whole,
    /// A few bytes at a time.
    Slowly,
    /// The connection ends before the message does.
    BrokenOff,
}

/// A kind of source that runs, and a way to send to it as its senders do.
struct Case {
    name: &'static str,
    way: Way,
    source: Source,
    _folder: tempfile::TempDir,
}

impl Case {
    async fn every_kind() -> Vec<Case> {
        let folder = || tempfile::tempdir().unwrap();
        let speaking = async |name, way, kind: SourceKind| Case { name, way, source: source(|s| s.kind = kind).await, _folder: folder() };
        let files = folder();
        let journal = folder();
        let entries = SystemJournal { from_start: true, folder: Some(journal.path().display().to_string()), ..SystemJournal::default() };
        let path = files.path().join("quays.log");
        let kind = SourceKind::File(Files { paths: vec![path.display().to_string()], exclude: Vec::new(), from_start: true, path_as: None });
        vec![
            speaking("http", Way::Http, http()).await,
            speaking("otlp", Way::Otlp, otlp()).await,
            speaking("syslog", Way::Syslog, syslog(false)).await,
            speaking("syslog, UDP", Way::Datagrams, syslog(true)).await,
            speaking("tcp", Way::Lines, lines()).await,
            Case {
                name: "system journal",
                way: Way::Journal(journal.path().to_owned()),
                source: source(|s| (s.kind, s.listen) = (SourceKind::SystemJournal(entries), None)).await,
                _folder: journal,
            },
            Case { name: "file", way: Way::File(path), source: source(|s| (s.kind, s.listen) = (kind, None)).await, _folder: files },
        ]
    }

    /// Sends messages as this kind's senders do. Those that are answered try again while they are told to.
    async fn send(&self, messages: &[&[u8]], how: How) {
        let lines: Vec<u8> = messages.iter().flat_map(|m| [m, &b"\n"[..]].concat()).collect();
        match &self.way {
            Way::Http => self.request("/in", "application/x-ndjson", &lines, how).await,
            Way::Otlp => {
                let records: Vec<Value> = messages.iter().map(|m| serde_json::json!({ "body": { "stringValue": String::from_utf8_lossy(m) } })).collect();
                let request = serde_json::json!({ "resourceLogs": [{ "scopeLogs": [{ "logRecords": records }] }] });
                self.request("/v1/logs", "application/json", request.to_string().as_bytes(), how).await;
            }
            Way::Syslog => {
                let framed: Vec<u8> = messages.iter().flat_map(|m| [format!("{} <34>1 - - gated - - - ", m.len() + 22).as_bytes(), m].concat()).collect();
                self.stream(&framed, how).await;
            }
            Way::Lines => {
                self.stream(&lines, how).await;
            }
            Way::Datagrams => {
                let socket = tokio::net::UdpSocket::bind("127.0.0.1:0").await.unwrap();
                for message in messages {
                    // Larger than a datagram can be is larger than anybody can send.
                    let message = &message[..message.len().min(9_000)];
                    socket.send_to(&[b"<34>1 - - gated - - - ", message].concat(), self.source.address).await.unwrap();
                }
            }
            Way::Journal(folder) => {
                // The next journal file goes on where the one before ended.
                let number = std::fs::read_dir(folder).unwrap().count();
                for (at, message) in messages.iter().enumerate() {
                    write_journal(&folder.join(format!("{number:03}-{at:03}.journal")), message);
                }
            }
            Way::File(path) => {
                let mut file = std::fs::OpenOptions::new().create(true).append(true).open(path).unwrap();
                for piece in pieces(&lines, how) {
                    file.write_all(piece).unwrap();
                    tokio::task::yield_now().await;
                }
            }
        }
    }

    async fn request(&self, path: &str, kind: &str, body: &[u8], how: How) {
        let request = post(path, &format!("content-type: {kind}\r\n"), body);
        loop {
            let mut stream = self.stream(&request, how).await;
            let mut answer = Vec::new();
            if how == How::BrokenOff || stream.read_to_end(&mut answer).await.is_ok() && !answer.starts_with(b"HTTP/1.1 503") {
                return;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// Sends bytes over a connection of their own.
    async fn stream(&self, bytes: &[u8], how: How) -> TcpStream {
        let mut stream = TcpStream::connect(self.source.address).await.unwrap();
        stream.set_nodelay(true).unwrap();
        for piece in pieces(bytes, how) {
            // One who is refused may find the connection closed.
            if stream.write_all(piece).await.is_err() {
                break;
            }
            tokio::task::yield_now().await;
        }
        stream
    }

    fn is_asked(&self) -> bool {
        matches!(self.way, Way::Http | Way::Otlp)
    }

    /// Whether it opens no connections.
    fn is_kept(&self) -> bool {
        matches!(self.way, Way::File(_) | Way::Journal(_))
    }

    /// The numbers of the messages that were handed on, in order.
    fn numbers(&self) -> Vec<u32> {
        let bodies = self.source.sink.bodies.lock().unwrap();
        let text: String = bodies.iter().map(|(_, body, _)| String::from_utf8_lossy(body).into_owned()).collect();
        text.split("gate #").skip(1).filter_map(|t| t.chars().take_while(char::is_ascii_digit).collect::<String>().parse().ok()).collect()
    }

    async fn until(&self, what: &str, holds: impl Fn(&Case) -> bool) {
        for _ in 0..800 {
            if holds(self) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        panic!("{}: {what}; {:?}, {:?}", self.name, self.numbers(), self.source.monitor.get().troubles);
    }

    /// Waits until so many were taken, and sees that they are these.
    async fn takes(&self, what: &str, expected: &[u32]) {
        self.until(what, |case| case.numbers().len() >= expected.len()).await;
        assert_eq!(self.numbers(), expected, "{}: {what}; {:?}", self.name, self.source.monitor.get().troubles);
    }

    fn is_in_trouble(&self, what: SenderFault) -> bool {
        self.source.monitor.get().troubles.iter().any(|t| t.what == what)
    }

    /// Ends the source and starts it again as it was. `meanwhile` happens while it does not run.
    async fn restart(&mut self, meanwhile: impl AsyncFnOnce(&Case)) {
        self.source.running.stop.cancel();
        drop(self.source.running.socket.take());
        tokio::time::timeout(Duration::from_secs(20), &mut self.source.running.task).await.unwrap().unwrap();
        meanwhile(self).await;
        let mut settings = SourceSettings::clone(&self.source.settings.load());
        settings.listen = settings.listen.map(|_| self.source.address);
        let socket = settings.listen.map(|_| open(&settings).0);
        self.source.running = start(settings, socket, Arc::clone(&self.source.sink), Arc::default(), Arc::clone(&self.source.monitor)).unwrap();
    }
}

/// Writes a journal file with an entry (systemd's *Journal Export Format*).
fn write_journal(path: &std::path::Path, message: &[u8]) {
    static ENTRIES: AtomicU64 = AtomicU64::new(1);
    let number = ENTRIES.fetch_add(1, Ordering::SeqCst);
    let boot = "0123456789abcdef0123456789abcdef";
    let at = 1_792_000_000_000_000 + number;
    let mut entry =
        format!("__REALTIME_TIMESTAMP={at}\n__MONOTONIC_TIMESTAMP={number}\n_BOOT_ID={boot}\nPRIORITY=4\nSYSLOG_IDENTIFIER=gated\nMESSAGE\n").into_bytes();
    entry.extend_from_slice(&(message.len() as u64).to_le_bytes());
    entry.extend_from_slice(message);
    entry.extend_from_slice(b"\n\n");
    let export = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(export.path(), &entry).unwrap();
    let fresh = path.with_extension("new.journal");
    let written = std::process::Command::new("/lib/systemd/systemd-journal-remote").arg("-o").arg(&fresh).arg(export.path()).output().unwrap();
    assert!(written.status.success(), "{}", String::from_utf8_lossy(&written.stderr));
    std::fs::rename(&fresh, path).unwrap();
}

/// The pieces in which bytes are sent.
fn pieces(bytes: &[u8], how: How) -> std::slice::Chunks<'_, u8> {
    match how {
        How::Whole => bytes.chunks(bytes.len().max(1)),
        How::Slowly => bytes.chunks(7),
        How::BrokenOff => bytes[..bytes.len() - 3].chunks(bytes.len()),
    }
}

async fn takes_all_in_order(case: Case) {
    case.send(&[b"gate #1", b"gate #2", b"gate #3"], How::Whole).await;
    case.takes("the first", &[1, 2, 3]).await;
    case.send(&[b"gate #4"], How::Whole).await;
    case.takes("the next", &[1, 2, 3, 4]).await;
}

async fn bears_what_is_no_event(case: Case) {
    // A file that begins with something else is not read at all.
    case.send(&[b"gate #1"], How::Whole).await;
    case.takes("what is one", &[1]).await;
    if !case.is_kept() && !matches!(case.way, Way::Datagrams) {
        drop(TcpStream::connect(case.source.address).await.unwrap());
        // What no sender of any protocol sends.
        let _ = case.stream(b"\0\x01\x02\r\n\r\n\0", How::Whole).await;
    }
    // Blank lines, bytes that are no text, and one that is far too long: what stands behind them is taken all the same.
    case.send(&[b" "], How::Whole).await;
    case.send(&[b"\xff\xfe\x00\x80"], How::Whole).await;
    case.send(&[&b"x".repeat(9_000)], How::Whole).await;
    case.send(&[b"gate #2"], How::Whole).await;
    case.takes("the next that is one", &[1, 2]).await;
    // Those that cut a stream into messages know how long each is.
    if matches!(case.way, Way::Syslog | Way::Lines | Way::File(_) | Way::Journal(_)) {
        case.until("it is told of what was too long", |case| case.is_in_trouble(SenderFault::TooLarge)).await;
    }
}

async fn takes_what_is_repeated_as_another(case: Case) {
    case.send(&[b"gate #1"], How::Whole).await;
    case.takes("once", &[1]).await;
    case.send(&[b"gate #1", b"gate #2"], How::Whole).await;
    case.takes("again", &[1, 1, 2]).await;
}

/// A request goes as a whole or not at all; a stream as far as it came; the rest of a file's last line comes later.
async fn takes_what_is_whole_of_what_breaks_off(case: Case) {
    if let Way::Datagrams | Way::Journal(_) = case.way {
        return;
    }
    case.send(&[b"gate #1", b"gate #2 in the bay"], How::BrokenOff).await;
    match case.way {
        Way::Http | Way::Otlp => {
            case.send(&[b"gate #3"], How::Whole).await;
            case.takes("only what was whole", &[3]).await;
        }
        Way::File(_) => {
            case.takes("the whole line", &[1]).await;
            case.send(&[b"", b"gate #3"], How::Whole).await;
            case.takes("the rest of the line", &[1, 2, 3]).await;
        }
        _ => case.takes("as far as it came", &[1, 2]).await,
    }
}

async fn waits_for_slow_senders(case: Case) {
    case.send(&[b"gate #1 in the bay", b"gate #2"], How::Slowly).await;
    case.takes("a few bytes at a time", &[1, 2]).await;
}

async fn is_not_held_up_by_one_that_hangs(case: Case) {
    if case.is_kept() || matches!(case.way, Way::Datagrams) {
        return;
    }
    let mut hanging = Vec::new();
    for first in [&b""[..], b"POST /in HTTP/1.1\r\ncontent-length: 9\r\n\r\ngate", b"99 <34>1 - "] {
        let mut stream = TcpStream::connect(case.source.address).await.unwrap();
        stream.write_all(first).await.unwrap();
        hanging.push(stream);
    }
    case.send(&[b"gate #1"], How::Whole).await;
    case.takes("another sender's", &[1]).await;
}

/// What is refused for now is kept by the sender, or is not read on, or is tried again; and is taken once, when it can be.
async fn loses_nothing_that_is_refused_for_now(case: Case) {
    let refusals =
        [full(), Refusal::Paused { who: "ann".into() }, Refusal::Gone, Refusal::NotDurable, Refusal::Repeated, Refusal::Stopping].into_iter().enumerate();
    let mut have = Vec::new();
    for (at, refusal) in refusals {
        let times = |case: &Case| case.source.monitor.get().troubles.iter().filter(|t| t.what == SenderFault::PushedBack).map(|t| t.times).sum::<u64>();
        let (before, why) = (times(&case), refusal.to_string());
        case.source.sink.refuse(Some(refusal));
        let number = at as u32 * 2 + 1;
        let (first, second) = (format!("gate #{number}"), format!("gate #{}", number + 1));
        let pushed = async {
            case.until(&why, |case| times(case) > before).await;
            case.source.sink.refuse(None);
        };
        let messages = [first.as_bytes(), second.as_bytes()];
        tokio::join!(case.send(&messages, How::Whole), pushed);
        have.extend([number, number + 1]);
        case.takes(&why, &have).await;
    }
}

/// What is refused for good is let go and told of, and holds up nothing behind it.
async fn lets_go_what_is_refused_for_good(case: Case) {
    case.source.sink.refuse(Some(Refusal::TooLarge));
    case.send(&[b"gate #1", b"gate #2"], How::Whole).await;
    case.until("it is told", |case| case.is_in_trouble(SenderFault::TooLarge)).await;
    if let Way::File(_) = case.way {
        // Each line is tried by itself before it is let go.
        case.until("both are passed over", |case| case.source.monitor.get().files.iter().any(|f| f.offset == f.size && f.size > 0)).await;
    }
    case.source.sink.refuse(None);
    case.send(&[b"gate #3"], How::Whole).await;
    case.takes("the next", &[3]).await;
}

async fn finishes_what_is_under_way_when_it_stops(mut case: Case) {
    case.source.sink.holding.store(true, Ordering::SeqCst);
    let stopping = case.source.running.stop.clone();
    let sink = Arc::clone(&case.source.sink);
    let under_way = async {
        while sink.waiting.load(Ordering::SeqCst) == 0 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        stopping.cancel();
        sink.holding.store(false, Ordering::SeqCst);
        // Whoever waits is let go until nobody does.
        for _ in 0..100 {
            sink.let_go.notify_waiters();
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    };
    tokio::join!(case.send(&[b"gate #1"], How::Whole), under_way);
    tokio::time::timeout(Duration::from_secs(20), &mut case.source.running.task).await.unwrap().unwrap();
    assert_eq!(case.numbers(), [1], "{}", case.name);
}

/// A source that is stopped and started again goes on where it was: nothing is taken twice, and what a file got meanwhile is read.
async fn goes_on_where_it_was(mut case: Case) {
    case.send(&[b"gate #1", b"gate #2"], How::Whole).await;
    case.takes("before", &[1, 2]).await;
    case.restart(async |case| {
        if case.is_kept() {
            case.send(&[b"gate #3"], How::Whole).await;
        } else if !matches!(case.way, Way::Datagrams) {
            assert!(TcpStream::connect(case.source.address).await.is_err(), "{}: nobody listens", case.name);
        }
    })
    .await;
    if !case.is_kept() {
        case.send(&[b"gate #3"], How::Whole).await;
    }
    case.takes("meanwhile", &[1, 2, 3]).await;
    case.send(&[b"gate #4"], How::Whole).await;
    case.takes("after", &[1, 2, 3, 4]).await;
}

/// Whoever is answered learns whether what they sent was taken.
async fn answers_only_what_is_taken(case: Case) {
    if !case.is_asked() {
        return;
    }
    let (path, kind, body) = match case.way {
        Way::Http => ("/in", "text/plain", &b"gate #1"[..]),
        _ => ("/v1/logs", "application/json", &br#"{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"gate #1"}}]}]}]}"#[..]),
    };
    let request = post(path, &format!("content-type: {kind}\r\n"), body);
    for (refusal, status) in [(full(), 503), (Refusal::TooLarge, 413), (Refusal::Failed, 500)] {
        case.source.sink.refuse(Some(refusal));
        assert_eq!(exchange(case.source.address, &request).await.status, status, "{}", case.name);
        assert!(case.numbers().is_empty(), "{}", case.name);
    }
    case.source.sink.refuse(None);
    assert_eq!(exchange(case.source.address, &request).await.status, 200, "{}", case.name);
    assert_eq!(case.numbers(), [1], "{}", case.name);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_kind_has_every_property() {
    let mut running = tokio::task::JoinSet::new();
    macro_rules! properties {
        ($($property:ident,)*) => {$(
            for case in Case::every_kind().await {
                running.spawn($property(case));
            }
        )*};
    }
    properties! {
        takes_all_in_order,
        bears_what_is_no_event,
        takes_what_is_repeated_as_another,
        takes_what_is_whole_of_what_breaks_off,
        waits_for_slow_senders,
        is_not_held_up_by_one_that_hangs,
        loses_nothing_that_is_refused_for_now,
        lets_go_what_is_refused_for_good,
        finishes_what_is_under_way_when_it_stops,
        goes_on_where_it_was,
        answers_only_what_is_taken,
    }
    while let Some(done) = running.join_next().await {
        done.unwrap();
    }
}
