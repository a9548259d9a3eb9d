//! Sources that are streams of messages: syslog over TCP and TLS, and lines.
//!
//! Nothing is answered, so the only way to hold a sender back is to read no more: what was read is handed on until it is durable, and only then is more read.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use arc_swap::ArcSwap;
use axum::http::StatusCode;
use rockrose_core::extract::SyslogReader;
use rockrose_core::read::Says;
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::time::{Instant, timeout_at};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::files::shortened;
use crate::{BoundedListener, Heard, Receipt, Sink, SourceSettings, Speaks, With, Wrong, now_ms};

/// Most bytes that are handed on at once.
const BATCH: usize = 1 << 20;
/// How long a message that has begun may take to end.
const MESSAGE_TIME: Duration = Duration::from_secs(60);
/// First and longest pause while there is no room.
const PAUSES: (Duration, Duration) = (Duration::from_millis(50), Duration::from_secs(2));
/// Most digits of a length before a message.
const LENGTH_DIGITS: usize = 7;

/// Serves until `stop` resolves; what was read by then is handed on.
pub(crate) async fn serve<S: Sink>(
    settings: Arc<ArcSwap<SourceSettings>>,
    mut listener: BoundedListener,
    sink: Arc<S>,
    heard: Arc<Heard>,
    stop: impl Future<Output = ()>,
) {
    let (connections, stopping) = (TaskTracker::new(), CancellationToken::new());
    tokio::pin!(stop);
    loop {
        tokio::select! {
            () = &mut stop => break,
            (stream, from) = listener.next() => {
                let one = Reading { settings: Arc::clone(&settings), sink: Arc::clone(&sink), heard: Arc::clone(&heard), from, stopping: stopping.clone() };
                connections.spawn(one.run(stream));
            }
        }
    }
    stopping.cancel();
    connections.close();
    connections.wait().await;
}

struct Reading<S> {
    settings: Arc<ArcSwap<SourceSettings>>,
    sink: Arc<S>,
    heard: Arc<Heard>,
    from: SocketAddr,
    stopping: CancellationToken,
}

impl<S: Sink> Reading<S> {
    async fn run(self, mut stream: impl AsyncRead + Unpin) {
        let mut bytes = Vec::new();
        let mut messages = Messages::new(&self.settings.load());
        let mut unfinished_since: Option<Instant> = None;
        loop {
            // A sender may be silent for ever, but not within a message.
            let end = unfinished_since.map_or_else(|| Instant::now() + Duration::from_secs(86_400 * 365), |since| since + MESSAGE_TIME);
            bytes.reserve(64 << 10);
            let read = tokio::select! {
                () = self.stopping.cancelled() => break,
                read = timeout_at(end, stream.read_buf(&mut bytes)) => read,
            };
            match read {
                Ok(Ok(0) | Err(_)) => break,
                Ok(Ok(_)) => {}
                Err(_) => {
                    self.heard.wrong(Wrong::Format, "a message began and did not end in time", Some(self.from.ip()));
                    break;
                }
            }
            // What has come in the meantime goes along.
            while bytes.len() < BATCH {
                let more = stream.read_buf(&mut bytes);
                match timeout_at(Instant::now(), more).await {
                    Ok(Ok(n)) if n > 0 => {}
                    _ => break,
                }
            }
            let settings = self.settings.load_full();
            messages.keeps_raw = self.heard.is_caught();
            let used = messages.cut(&bytes, false, &settings);
            bytes.drain(..used);
            if !self.hand_on(&settings, &mut messages).await {
                return;
            }
            unfinished_since = if bytes.is_empty() { None } else { unfinished_since.filter(|_| used == 0).or_else(|| Some(Instant::now())) };
        }
        let settings = self.settings.load_full();
        messages.cut(&bytes, true, &settings);
        self.hand_on(&settings, &mut messages).await;
    }

    /// Hands on what was cut; returns once it is durable, or with `false` if it never will be.
    async fn hand_on(&self, settings: &SourceSettings, messages: &mut Messages) -> bool {
        let from = Some(self.from.ip());
        for (what, says) in messages.wrong.drain(..) {
            self.heard.wrong(what, says, from);
        }
        let body = std::mem::take(&mut messages.lines);
        if body.is_empty() {
            return true;
        }
        let raw = std::mem::take(&mut messages.raw);
        match until_taken(&*self.sink, &settings.name, body, raw, &self.heard, Some(&self.stopping)).await {
            Some(receipt) => {
                self.heard.receipt(&receipt, from);
                true
            }
            None => false,
        }
    }
}

/// Hands lines on until they are taken. `None`: they never will be, or the source stops and they were not taken at the last try.
pub(crate) async fn until_taken<S: Sink>(
    sink: &S,
    source: &str,
    body: Vec<u8>,
    raw: Vec<Vec<u8>>,
    heard: &Heard,
    stopping: Option<&CancellationToken>,
) -> Option<Receipt> {
    let mut pause = PAUSES.0;
    loop {
        match sink.accept(source, body.clone(), Says::Lines, With { raw: raw.clone(), ..With::default() }).await {
            Ok(receipt) => return Some(receipt),
            Err(problem) if problem.status() == StatusCode::SERVICE_UNAVAILABLE => {
                heard.wrong(Wrong::PushedBack, problem.detail(), None);
                if stopping.is_some_and(CancellationToken::is_cancelled) {
                    return None;
                }
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(PAUSES.1);
            }
            Err(problem) => {
                heard.wrong(Wrong::TooLarge, problem.detail(), None);
                return None;
            }
        }
    }
}

/// Cuts a stream into messages, and makes lines of them.
struct Messages {
    /// For syslog, what reads it, with the zone it was made for.
    syslog: Option<(SyslogReader, Option<String>)>,
    lines: Vec<u8>,
    /// The messages as they came, while somebody looks.
    raw: Vec<Vec<u8>>,
    keeps_raw: bool,
    wrong: Vec<(Wrong, String)>,
    /// The rest of a message that was too long is passed over: so many bytes, or up to the end of its line.
    pass_over: Option<PassOver>,
}

#[derive(Clone, Copy)]
enum PassOver {
    Bytes(usize),
    Line,
}

impl Messages {
    fn new(settings: &SourceSettings) -> Messages {
        let syslog = match &settings.speaks {
            Speaks::Syslog { zone, .. } => Some((SyslogReader::new(zone.as_deref()), zone.clone())),
            _ => None,
        };
        Messages { syslog, lines: Vec::new(), raw: Vec::new(), keeps_raw: false, wrong: Vec::new(), pass_over: None }
    }

    /// Cuts what is whole (with `last`, all that is left); returns how many bytes that was.
    fn cut(&mut self, bytes: &[u8], last: bool, settings: &SourceSettings) -> usize {
        if let (Speaks::Syslog { zone, .. }, Some((reader, known))) = (&settings.speaks, &mut self.syslog)
            && zone != known
        {
            (*reader, *known) = (SyslogReader::new(zone.as_deref()), zone.clone());
        }
        let (max, now) = (settings.max_event, now_ms());
        let mut at = 0;
        while at < bytes.len() {
            let rest = &bytes[at..];
            match self.pass_over {
                Some(PassOver::Bytes(n)) => {
                    at += n.min(rest.len());
                    self.pass_over = (n > rest.len()).then(|| PassOver::Bytes(n - rest.len()));
                    continue;
                }
                Some(PassOver::Line) => {
                    let end = self.end(rest);
                    at += end.map_or(rest.len(), |e| e + 1);
                    self.pass_over = end.is_none().then_some(PassOver::Line);
                    continue;
                }
                None => {}
            }
            if self.syslog.is_some()
                && let Some((head, length)) = counted(rest)
            {
                let have = rest.len() - head;
                if have < length.min(max) && !last {
                    break;
                }
                let message = &rest[head..head + length.min(have).min(max)];
                let broken = if length > max {
                    Some("longer than the limit for one event")
                } else if have < length {
                    Some("cut off")
                } else {
                    None
                };
                self.message(message, broken, now);
                at += head + message.len();
                if length > message.len() && !last {
                    self.pass_over = Some(PassOver::Bytes(length - message.len()));
                }
                continue;
            }
            match self.end(rest) {
                Some(end) if end <= max => {
                    self.message(&rest[..end], None, now);
                    at += end + 1;
                }
                None if rest.len() <= max && !last => break,
                None if rest.len() <= max => {
                    self.message(rest, None, now);
                    at = bytes.len();
                }
                _ => {
                    self.message(&rest[..max], Some("longer than the limit for one event"), now);
                    at += max;
                    self.pass_over = Some(PassOver::Line);
                }
            }
        }
        at
    }

    /// Where the first line ends. Some senders of syslog end messages with a NUL.
    fn end(&self, bytes: &[u8]) -> Option<usize> {
        if self.syslog.is_some() { memchr::memchr2(b'\n', 0, bytes) } else { memchr::memchr(b'\n', bytes) }
    }

    fn message(&mut self, message: &[u8], broken: Option<&'static str>, now_ms: i64) {
        if let Some(why) = broken {
            self.wrong.push((if why == "cut off" { Wrong::Format } else { Wrong::TooLarge }, format!("a message was {why}")));
        }
        let message = message.strip_suffix(b"\r").unwrap_or(message);
        if message.is_empty() {
            return;
        }
        if self.keeps_raw {
            self.raw.push(message.to_vec());
        }
        match &mut self.syslog {
            Some((reader, _)) => reader.line(message, broken, now_ms, &mut self.lines),
            // A line that was cut is text: JSON that breaks off could not be read.
            None if broken.is_some() => shortened(message, &mut self.lines),
            None => {
                self.lines.extend_from_slice(message);
                self.lines.push(b'\n');
            }
        }
    }
}

/// A length before a message (RFC 6587): how long it is itself, blank included, and what it says.
fn counted(bytes: &[u8]) -> Option<(usize, usize)> {
    let digits = bytes.iter().take(LENGTH_DIGITS + 1).take_while(|b| b.is_ascii_digit()).count();
    if digits == 0 || digits > LENGTH_DIGITS || bytes[0] == b'0' || bytes.get(digits) != Some(&b' ') || bytes.get(digits + 1).is_some_and(|b| *b != b'<') {
        return None;
    }
    let length: usize = std::str::from_utf8(&bytes[..digits]).ok()?.parse().ok()?;
    Some((digits + 1, length))
}
