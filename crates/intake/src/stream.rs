//! Sources that are streams of messages: syslog over TCP and TLS, and lines.
//!
//! Nothing is answered, so the only way to hold a sender back is to read no more. What was read is handed on until it is durable; meanwhile about as much again is read and cut, and
//! no more, in the order in which it came. What all connections of a source hold together is bounded too.

use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use arc_swap::ArcSwap;
use futures_util::FutureExt;
use rockrose_event::buffers::{self, Buffer};
use rockrose_event::record::DeclaredFormat;
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::sync::{Semaphore, SemaphorePermit};
use tokio::time::{Instant, timeout_at};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::kinds::{Start, Transport};
use crate::messages::{Framing, Messages};
use crate::spoken::SpokenProtocol;
use crate::{BodyMetadata, Receipt, SenderFault, Sink, SourceMonitor, SourceSettings};

/// Most bytes that are handed on at once.
const BATCH: usize = 1 << 20;
/// So many bytes are read at once.
const READ: usize = 64 << 10;
/// Most bytes that the connections of a source hold together, as they were sent; more only for events that are larger.
const HELD: usize = 64 << 20;
/// How long a message that has begun may take to end.
const MESSAGE_TIME: Duration = Duration::from_secs(60);
/// First and longest pause while there is no room.
const PAUSES: (Duration, Duration) = (Duration::from_millis(50), Duration::from_secs(2));
const HTTP_SPOKEN: &str = "a sender sent HTTP to a port for raw messages";

/// Serves until it is to stop; what was read by then is handed on. `framing` tells how the settings of the moment cut a stream.
pub(crate) async fn run<S: Sink>(Start { settings, transport, sink, monitor, stop, .. }: Start<S>, framing: fn(&SourceSettings) -> Framing) {
    let Transport::Streams(mut listener) = transport else { return };
    let (connections, stopping) = (TaskTracker::new(), CancellationToken::new());
    let held = Arc::new(Reserved::new(HELD.max(2 * settings.load().max_event)));
    loop {
        tokio::select! {
            () = stop.cancelled() => break,
            (stream, from) = listener.next() => {
                let (settings, sink, monitor, held) = (Arc::clone(&settings), Arc::clone(&sink), Arc::clone(&monitor), Arc::clone(&held));
                let one = Reading { settings, framing, sink, monitor, held, from, stopping: stopping.clone() };
                connections.spawn(async move { one.run(stream).await });
            }
        }
    }
    stopping.cancel();
    connections.close();
    connections.wait().await;
}

/// What all connections of a source hold together.
struct Reserved {
    /// Places for bytes.
    places: Semaphore,
    /// Batches that are being handed on: places that will be free again.
    handing: AtomicUsize,
}

impl Reserved {
    fn new(bytes: usize) -> Reserved {
        Reserved { places: Semaphore::new(bytes), handing: AtomicUsize::new(0) }
    }
}

struct Reading<S> {
    settings: Arc<ArcSwap<SourceSettings>>,
    framing: fn(&SourceSettings) -> Framing,
    sink: Arc<S>,
    monitor: Arc<SourceMonitor>,
    held: Arc<Reserved>,
    from: SocketAddr,
    stopping: CancellationToken,
}

/// Places for bytes that are held.
struct Places<'a> {
    of: &'a Semaphore,
    taken: Option<SemaphorePermit<'a>>,
    /// Bytes that were read before there was a place for them.
    owed: usize,
}

impl<'a> Places<'a> {
    fn new(of: &'a Semaphore) -> Places<'a> {
        Places { of, taken: None, owed: 0 }
    }

    fn add(&mut self, places: SemaphorePermit<'a>) {
        match &mut self.taken {
            Some(taken) => taken.merge(places),
            None => self.taken = Some(places),
        }
    }

    /// For so many bytes more, now or as soon as there are.
    fn owe(&mut self, bytes: usize) {
        self.owed += bytes;
        if let Ok(places) = self.of.try_acquire_many(self.owed as u32) {
            self.owed = 0;
            self.add(places);
        }
    }

    /// Waits until there is a place for each byte.
    async fn settle(&mut self) {
        // The semaphore is never closed.
        if let Ok(places) = self.of.acquire_many(self.owed as u32).await {
            self.owed = 0;
            self.add(places);
        }
    }

    /// Gives up those of so many bytes.
    fn split(&mut self, bytes: usize) -> Places<'a> {
        let owed = bytes.min(self.owed);
        self.owed -= owed;
        Places { of: self.of, taken: self.taken.as_mut().and_then(|taken| taken.split(bytes - owed)), owed }
    }
}

impl<S: Sink> Reading<S> {
    async fn run(&self, mut stream: impl AsyncRead + Unpin) {
        let mut bytes = Vec::with_capacity(READ);
        let mut messages = Messages::new((self.framing)(&self.settings.load()));
        let mut unfinished_since: Option<Instant> = None;
        // What is handed on, and what has been cut since.
        let mut handing: Option<Pin<Box<dyn Future<Output = bool> + Send + '_>>> = None;
        let (mut places, mut cut) = (Places::new(&self.held.places), 0);
        let mut is_first = true;
        loop {
            if handing.is_none() && !messages.lines.is_empty() {
                handing = Some(Box::pin(self.hand_on(messages.take(), places.split(std::mem::take(&mut cut)))));
            }
            let (full, owes) = (messages.lines.len() >= BATCH, places.owed > 0);
            // A sender may be silent for ever, but not within a message.
            let end = unfinished_since.map_or_else(|| Instant::now() + Duration::from_secs(86_400 * 365), |since| since + MESSAGE_TIME);
            bytes.reserve(READ);
            let handed = async {
                match &mut handing {
                    Some(handing) => handing.await,
                    None => std::future::pending().await,
                }
            };
            let read = tokio::select! {
                () = self.stopping.cancelled() => break,
                taken = handed => {
                    handing = None;
                    if !taken {
                        return;
                    }
                    if full {
                        // The time in which nothing was read is not the sender's.
                        unfinished_since = unfinished_since.map(|_| Instant::now());
                    }
                    continue;
                }
                settled = timeout_at(end, places.settle()), if owes && !full => {
                    // Where others only wait themselves for the ends of messages, it is not known when there will be places again.
                    if settled.is_err() && self.held.handing.load(Ordering::Relaxed) == 0 {
                        self.monitor.wrong(SenderFault::Format, "too many incomplete messages", Some(self.from.ip()));
                        break;
                    }
                    unfinished_since = unfinished_since.map(|_| Instant::now());
                    continue;
                }
                read = timeout_at(end, stream.read_buf(&mut bytes)), if !owes && !full => read,
            };
            let new = match read {
                Ok(Ok(0) | Err(_)) => break,
                Ok(Ok(n)) => n,
                Err(_) => {
                    self.monitor.wrong(SenderFault::Format, "a message was not completed in time", Some(self.from.ip()));
                    break;
                }
            };
            let new = new + read_at_hand(&mut stream, &mut bytes);
            if std::mem::take(&mut is_first) && !self.can_be_read(&bytes, &mut messages) {
                bytes.clear();
                break;
            }
            places.owe(new);
            let used = self.cut(&mut messages, &bytes, false);
            cut += used;
            bytes.drain(..used);
            if bytes.is_empty() && bytes.capacity() > 2 * READ {
                // A connection that is silent again holds no more than it did at first.
                buffers::leave(std::mem::replace(&mut bytes, Vec::with_capacity(READ)));
            }
            unfinished_since = if bytes.is_empty() { None } else { unfinished_since.filter(|_| used == 0).or_else(|| Some(Instant::now())) };
        }
        if let Some(handing) = handing
            && !handing.await
        {
            return;
        }
        self.cut(&mut messages, &bytes, true);
        if !messages.lines.is_empty() {
            self.hand_on(messages.take(), places).await;
        }
    }

    /// Whether a connection that begins with these bytes can be read. Another protocol is told of.
    fn can_be_read(&self, first: &[u8], messages: &mut Messages) -> bool {
        match SpokenProtocol::of(first) {
            Some(SpokenProtocol::Tls) => {
                self.monitor.wrong(SenderFault::Tls, "a sender used TLS on a plain text port", Some(self.from.ip()));
                return false;
            }
            Some(SpokenProtocol::Http) => {
                // Its lines are read all the same; that they are no messages is no other trouble.
                self.monitor.wrong(SenderFault::Format, HTTP_SPOKEN, Some(self.from.ip()));
                messages.because = Some(HTTP_SPOKEN);
            }
            _ => {}
        }
        true
    }

    /// Cuts what is whole, and tells what is wrong with it.
    fn cut(&self, messages: &mut Messages, bytes: &[u8], last: bool) -> usize {
        messages.keeps_raw = self.monitor.is_caught();
        let settings = self.settings.load();
        let used = messages.cut(bytes, last, &(self.framing)(&settings), settings.max_event);
        for (what, says) in messages.wrong.drain(..) {
            self.monitor.wrong(what, says, Some(self.from.ip()));
        }
        if let (times @ 1.., why) = std::mem::take(&mut messages.broken) {
            match messages.because {
                Some(because) => self.monitor.wrong_times(SenderFault::Format, times, because, Some(self.from.ip())),
                None => self.monitor.broken(times, why, Some(self.from.ip())),
            }
        }
        used
    }

    /// Hands on what was cut; returns once it is durable, or with `false` if it never will be. Its places are free then.
    async fn hand_on(&self, (body, raw): (Vec<u8>, Vec<Vec<u8>>), _places: Places<'_>) -> bool {
        let source = self.settings.load().name.clone();
        self.held.handing.fetch_add(1, Ordering::Relaxed);
        let receipt = until_taken(&*self.sink, &source, body, raw, &self.monitor, Some(&self.stopping)).await;
        self.held.handing.fetch_sub(1, Ordering::Relaxed);
        if let Some(receipt) = &receipt {
            self.monitor.receipt(receipt, Some(self.from.ip()));
        }
        receipt.is_some()
    }
}

/// Reads what has come in the meantime, without waiting, up to a batch; returns how many bytes that was.
fn read_at_hand(stream: &mut (impl AsyncRead + Unpin), bytes: &mut Vec<u8>) -> usize {
    let mut new = 0;
    while bytes.len() < BATCH {
        if bytes.capacity() - bytes.len() < READ {
            let mut larger = buffers::take(BATCH + READ);
            larger.extend_from_slice(bytes);
            buffers::leave(std::mem::replace(bytes, larger));
        }
        match stream.read_buf(bytes).now_or_never() {
            Some(Ok(n @ 1..)) => new += n,
            _ => break,
        }
    }
    new
}

/// Hands lines on until they are taken. `None`: they never will be, or the source stops and they were not taken at the last try.
pub(crate) async fn until_taken<S: Sink>(
    sink: &S,
    source: &str,
    body: Vec<u8>,
    raw: Vec<Vec<u8>>,
    monitor: &SourceMonitor,
    stopping: Option<&CancellationToken>,
) -> Option<Receipt> {
    let body = Arc::new(Buffer::from(body));
    let mut pause = PAUSES.0;
    loop {
        match sink.accept(source, Arc::clone(&body), DeclaredFormat::Lines, BodyMetadata { raw: raw.clone(), bounded: true, ..BodyMetadata::default() }).await {
            Ok(receipt) => return Some(receipt),
            Err(refusal) if refusal.is_temporary() => {
                monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None);
                if stopping.is_some_and(CancellationToken::is_cancelled) {
                    return None;
                }
                tokio::time::sleep(pause).await;
                pause = (pause * 2).min(PAUSES.1);
            }
            Err(refusal) => {
                monitor.wrong(SenderFault::TooLarge, refusal.to_string(), None);
                return None;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::AsyncWriteExt;

    use super::*;
    use crate::{Position, Refusal};

    /// Takes nothing while it has no place.
    struct Gate {
        places: Semaphore,
        taken: std::sync::Mutex<Vec<u8>>,
    }

    impl Sink for Gate {
        async fn accept(&self, _: &str, body: Arc<Buffer>, _: DeclaredFormat, _: BodyMetadata) -> Result<Receipt, Refusal> {
            self.places.acquire().await.unwrap().forget();
            self.taken.lock().unwrap().extend_from_slice(&body);
            Ok(Receipt::default())
        }

        async fn lost(&self, _: &str, _: u64, _: u64) {}

        async fn positions(&self, _: &str) -> Result<Vec<Position>, Refusal> {
            Ok(Vec::new())
        }
    }

    struct Source {
        sink: Arc<Gate>,
        held: Arc<Reserved>,
        monitor: Arc<SourceMonitor>,
        settings: Arc<ArcSwap<SourceSettings>>,
    }

    impl Source {
        /// That takes so many batches for now, and whose connections hold so many bytes together.
        fn new(batches: usize, bytes: usize) -> Source {
            let settings = SourceSettings { max_event: 200_000, ..crate::tests::settings(crate::tests::lines()) };
            let sink = Arc::new(Gate { places: Semaphore::new(batches), taken: Default::default() });
            Source { sink, held: Arc::new(Reserved::new(bytes)), monitor: Arc::default(), settings: Arc::new(ArcSwap::from_pointee(settings)) }
        }

        /// A connection with so much room on the way.
        fn connect(&self, room: usize) -> (tokio::io::DuplexStream, tokio::task::JoinHandle<()>) {
            let one = Reading {
                settings: Arc::clone(&self.settings),
                framing: |_| Framing::Lines,
                sink: Arc::clone(&self.sink),
                monitor: Arc::clone(&self.monitor),
                held: Arc::clone(&self.held),
                from: "192.0.2.4:5".parse().unwrap(),
                stopping: CancellationToken::new(),
            };
            let (near, far) = tokio::io::duplex(room);
            (near, tokio::spawn(async move { one.run(far).await }))
        }

        fn places(&self) -> usize {
            self.held.places.available_permits()
        }

        fn taken(&self) -> Vec<u8> {
            self.sink.taken.lock().unwrap().clone()
        }
    }

    async fn until(what: &str, mut holds: impl FnMut() -> bool) {
        let begun = std::time::Instant::now();
        while !holds() {
            assert!(begun.elapsed() < Duration::from_secs(20), "timed out: {what}");
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
    }

    /// Lets the others do whatever they can.
    async fn all_that_can_be_done() {
        for _ in 0..50_000 {
            tokio::task::yield_now().await;
        }
    }

    #[tokio::test]
    async fn what_connections_hold_is_bounded_and_given_back() {
        let s = Source::new(0, 300_000);
        // Two begin messages that do not end, and there is no place for more.
        let mut silent: Vec<_> = (0..2).map(|_| s.connect(1_000)).collect();
        for (stream, _) in &mut silent {
            stream.write_all(&[b'x'; 149_000]).await.unwrap();
        }
        until("all of that is held", || s.places() == 2_000).await;
        let (mut third, reading) = s.connect(1_000);
        let text: Vec<u8> = (0..40_000).flat_map(|n| format!("line {n}\n").into_bytes()).collect();
        let expected = text.clone();
        let sending = tokio::spawn(async move { third.write_all(&text).await.unwrap() });
        until("no slot is left", || s.places() < 1_000).await;
        // What waits is handed on, but nothing more is read while the others hold what there is.
        s.sink.places.add_permits(1);
        until("something came through", || !s.taken().is_empty()).await;
        all_that_can_be_done().await;
        assert!(!sending.is_finished() && s.taken().len() < 10_000);
        drop(silent);
        s.sink.places.add_permits(1_000);
        until("all came through", || s.taken().len() >= expected.len()).await;
        sending.await.unwrap();
        reading.await.unwrap();
        until("all slots are free", || s.places() == 300_000).await;
        let taken = s.taken();
        let lines: Vec<u8> = taken.split_inclusive(|b| *b == b'\n').filter(|l| l.starts_with(b"line")).flatten().copied().collect();
        assert!(lines == expected, "in order, each once");
    }

    #[tokio::test(start_paused = true)]
    async fn those_that_only_wait_for_one_another_do_not_wait_for_ever() {
        let s = Source::new(1_000, 100_000);
        let ((mut first, _), (mut second, _)) = (s.connect(200_000), s.connect(200_000));
        first.write_all(&[b'a'; 60_000]).await.unwrap();
        until("the first holds most", || s.places() == 40_000).await;
        second.write_all(&[b'b'; 60_000]).await.unwrap();
        first.write_all(&[b'a'; 50_000]).await.unwrap();
        all_that_can_be_done().await;
        second.write_all(b"\n").await.unwrap();
        until("the first is given up, and the second read to its end", || s.taken().ends_with(b"b\n")).await;
        assert_eq!(s.taken().len(), 110_000 + 1 + 60_000 + 1);
        assert!(s.monitor.get().troubles.iter().any(|t| t.says.contains("incomplete messages")), "{:?}", s.monitor.get().troubles);
        drop(second);
        until("all slots are free", || s.places() == 100_000).await;
    }

    #[tokio::test]
    async fn reading_goes_on_while_a_batch_is_handed_on() {
        let s = Source::new(0, 10 * BATCH);
        let (mut near, reading) = s.connect(1_000);
        let text = b"a kiosk prints\n".repeat(2 * BATCH / 15);
        let whole = text.len();
        let sending = tokio::spawn(async move { near.write_all(&text).await.unwrap() });
        // Nothing was taken yet, and a batch is read behind the one that waits; but no more than one.
        until("a batch is read meanwhile", || 10 * BATCH - s.places() >= BATCH).await;
        all_that_can_be_done().await;
        assert!(!sending.is_finished() && s.taken().is_empty());
        s.sink.places.add_permits(1_000_000);
        reading.await.unwrap();
        assert_eq!((s.taken().len(), s.places()), (whole, 10 * BATCH));
    }
}
