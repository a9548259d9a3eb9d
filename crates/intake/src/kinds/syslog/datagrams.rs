//! Syslog over UDP: a datagram is a message. It cannot be held back, so what comes faster than it can be kept is lost, here or in the system's own queue; both are counted.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use rockrose_extract::SyslogReader;
use tokio::net::UdpSocket;
use tokio::sync::mpsc;
use tokio::task::JoinSet;
use tokio_util::sync::CancellationToken;

use super::super::{Start, Transport};
use super::zone;
use crate::socket::Socket;
use crate::stream::until_taken;
use crate::{SenderFault, Sink, SourceMonitor, SourceSettings, now_ms};

/// Largest datagram.
const MAX_DATAGRAM: usize = 65_536;
/// So many bytes are read at a stretch.
const BATCH: usize = 1 << 20;
/// Most bytes that wait for the batch before them to be handed on; what comes past them is lost.
const WAITING: usize = 16 << 20;
/// How often it is looked what the system has lost.
const LOOK_EVERY: Duration = Duration::from_secs(1);

struct Batch {
    lines: Vec<u8>,
    /// The messages as they came, while somebody looks.
    raw: Vec<Vec<u8>>,
    from: SocketAddr,
}

impl Batch {
    /// Adds a datagram from the batch's last sender. `false`: so much waits that it has to be let go.
    fn add(&mut self, datagram: &[u8], settings: &SourceSettings, reader: &mut SyslogReader, monitor: &SourceMonitor) -> bool {
        if self.lines.len() >= WAITING {
            return false;
        }
        let message = &datagram[..datagram.len().min(settings.max_event)];
        if monitor.is_caught() {
            self.raw.push(message.to_vec());
        }
        let too_long = (datagram.len() > message.len()).then_some("longer than the limit for one event");
        if let Some(why) = reader.line(message, too_long, now_ms(), &mut self.lines) {
            monitor.broken(1, why, Some(self.from.ip()));
        }
        true
    }
}

/// Serves until it is to stop; what was received by then is handed on.
pub(super) async fn run<S: Sink>(Start { settings, transport, sink, monitor, stop, .. }: Start<S>) {
    let Transport::Datagrams(socket) = transport else { return };
    let (batches, mut waiting) = mpsc::channel::<Batch>(1);
    let stopping = CancellationToken::new();
    let handing = {
        let (settings, sink, monitor, stopping) = (Arc::clone(&settings), Arc::clone(&sink), Arc::clone(&monitor), stopping.clone());
        async move {
            while let Some(Batch { lines, raw, from }) = waiting.recv().await {
                let (count, bytes) = (memchr::memchr_iter(b'\n', &lines).count() as u64, lines.len() as u64);
                let source = settings.load().name.clone();
                match until_taken(&*sink, &source, lines, raw, &monitor, Some(&stopping)).await {
                    Some(receipt) => monitor.receipt(&receipt, Some(from.ip())),
                    None => {
                        monitor.wrong_times(SenderFault::Lost, count, "datagrams could not be stored", Some(from.ip()));
                        sink.lost(&source, count, bytes).await;
                    }
                }
            }
        }
    };
    let receiving = async {
        let mut datagram = vec![0; MAX_DATAGRAM];
        if let Ok(room) = Socket::room(&socket) {
            monitor.set_receive_buffer(room);
        }
        let (mut lost, mut losses, mut noting) = (Lost::of(&socket), Losses::default(), JoinSet::new());
        let mut look = tokio::time::interval(LOOK_EVERY);
        let mut reader: Option<(Option<String>, SyslogReader)> = None;
        let mut gathered: Option<Batch> = None;
        loop {
            let first = tokio::select! {
                () = stop.cancelled() => break,
                _ = look.tick() => {
                    let more = lost.more();
                    if more > 0 {
                        monitor.wrong_times(SenderFault::Lost, more, "datagrams arrived faster than they were read, and the system dropped them", None);
                        losses.unseen(more);
                    }
                    losses.note(&sink, &settings.load().name, &mut noting);
                    while noting.try_join_next().is_some() {}
                    continue;
                }
                // What was gathered goes on as soon as what went before it is kept.
                place = batches.reserve(), if gathered.is_some() => match (place, gathered.take()) {
                    (Ok(place), Some(batch)) => {
                        place.send(batch);
                        continue;
                    }
                    _ => break,
                },
                received = socket.recv_from(&mut datagram) => received,
            };
            let settings = settings.load();
            let zone = zone(&settings);
            let (_, reader) = match &mut reader {
                Some(known) if known.0 == zone => known,
                other => other.insert((zone.clone(), SyslogReader::new(zone.as_deref()))),
            };
            // What has come in the meantime goes along.
            let (mut next, mut over, mut burst) = (first.ok(), 0, 0);
            while let Some((length, from)) = next {
                if !settings.allows(from.ip()) {
                    monitor.wrong(SenderFault::Address, format!("{} is not an allowed address", from.ip()), Some(from.ip()));
                } else {
                    let batch = gathered.get_or_insert_with(|| Batch { lines: Vec::new(), raw: Vec::new(), from });
                    batch.from = from;
                    losses.seen(length);
                    if !batch.add(&datagram[..length], &settings, reader, &monitor) {
                        over += 1;
                        losses.add(1, length as u64);
                    }
                }
                burst += length;
                next = if burst >= BATCH { None } else { socket.try_recv_from(&mut datagram).ok() };
            }
            if over > 0 {
                monitor.wrong_times(SenderFault::Lost, over, "datagrams arrived faster than they could be stored", gathered.as_ref().map(|b| b.from.ip()));
            }
        }
        if let Some(batch) = gathered.take() {
            // Whoever takes it has ended only if nothing can be kept any more.
            let _ = batches.send(batch).await;
        }
        losses.unseen(lost.more());
        losses.note(&sink, &settings.load().name, &mut noting);
        stopping.cancel();
        drop(batches);
        noting.join_all().await;
    };
    tokio::join!(receiving, handing);
}

/// What was lost and is not noted yet.
#[derive(Default)]
struct Losses {
    messages: u64,
    bytes: u64,
    /// How many datagrams came, and their bytes: what the system let go was of about their size.
    came: (u64, u64),
}

impl Losses {
    fn seen(&mut self, length: usize) {
        self.came = (self.came.0 + 1, self.came.1 + length as u64);
    }

    fn add(&mut self, messages: u64, bytes: u64) {
        self.messages += messages;
        self.bytes += bytes;
    }

    /// Adds datagrams that nobody has seen.
    fn unseen(&mut self, messages: u64) {
        let (came, bytes) = self.came;
        self.add(messages, messages.saturating_mul(bytes).checked_div(came).unwrap_or(0));
    }

    /// Notes what was lost, without waiting for that.
    fn note<S: Sink>(&mut self, sink: &Arc<S>, source: &str, noting: &mut JoinSet<()>) {
        let (messages, bytes) = (std::mem::take(&mut self.messages), std::mem::take(&mut self.bytes));
        if messages > 0 {
            let (sink, source) = (Arc::clone(sink), source.to_owned());
            noting.spawn(async move { sink.lost(&source, messages, bytes).await });
        }
    }
}

/// How many datagrams for one socket the system has let go, as `/proc/net/udp` says.
struct Lost {
    file: &'static str,
    address: String,
    known: u64,
}

impl Lost {
    fn of(socket: &UdpSocket) -> Lost {
        let (file, port) = match socket.local_addr() {
            Ok(SocketAddr::V6(address)) => ("/proc/net/udp6", address.port()),
            Ok(address) => ("/proc/net/udp", address.port()),
            Err(_) => ("/proc/net/udp", 0),
        };
        let mut lost = Lost { file, address: format!(":{port:04X}"), known: 0 };
        lost.known = lost.all();
        lost
    }

    fn all(&self) -> u64 {
        let text = std::fs::read_to_string(self.file).unwrap_or_default();
        let mine = text.lines().filter(|l| l.split_whitespace().nth(1).is_some_and(|local| local.ends_with(&self.address)));
        mine.filter_map(|l| l.split_whitespace().last()?.parse::<u64>().ok()).sum()
    }

    /// How many more since the last look.
    fn more(&mut self) -> u64 {
        let all = self.all();
        let more = all.saturating_sub(self.known);
        self.known = all;
        more
    }
}
