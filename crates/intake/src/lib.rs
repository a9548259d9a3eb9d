//! Open protocols in: what listens, reads, decompresses and bounds, and hands bodies on.
//!
//! A source knows nothing of plans or spools. It hands each body to a [`Sink`] and answers its sender only with what the sink says,
//! so that an acknowledgement means what the sink makes it mean: all of it is durable.

mod ages;
mod datagrams;
mod files;
mod filled_form;
mod heard;
mod host;
mod http;
mod listener;
mod messages;
mod otlp;
mod probe;
mod problem;
mod refusal;
mod settings;
mod spoken;
mod stream;
mod tls;
mod unpack;

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;

pub use ages::{Ages, Freshness};
use arc_swap::ArcSwap;
pub use files::{FileSettings, Sample, follow, sample};
pub use heard::{Caught, FileSeen, FileState, Heard, Hearing, Trouble, Wrong};
pub use http::BodyBudget;
pub use listener::{BoundedListener, Peer};
pub use probe::{Looked, look};
pub use problem::Problem;
pub use refusal::Refusal;
pub use settings::{Certificates, Protocol, SourceKey, SourceSettings};

use rockrose_event::buffers::Buffer;
use rockrose_event::record::DeclaredFormat;
use rockrose_event::stamp::Stamp;
use serde::{Deserialize, Serialize};

/// Where bodies go.
pub trait Sink: Send + Sync + 'static {
    /// Takes one body of the source called `source`, and what is given beside it. An `Ok` means that everything in it is durable, or was removed or quarantined on purpose, and that the
    /// rest of what was given became durable with it.
    fn accept(&self, source: &str, body: Arc<Buffer>, says: DeclaredFormat, with: BodyMetadata) -> impl Future<Output = Result<Receipt, Refusal>> + Send;

    /// The positions that were kept for a source.
    fn positions(&self, source: &str) -> impl Future<Output = Result<Vec<Position>, Refusal>> + Send;
}

/// What is given beside a body.
#[derive(Clone, Debug, Default)]
pub struct BodyMetadata {
    /// Fields for all its events.
    pub stamps: Vec<Stamp>,
    /// How far the source has read once the body is taken.
    pub positions: Vec<Position>,
    /// What its sender calls the body, so that it is not taken twice.
    pub once: Option<String>,
    /// Its records as they came, where they were put into another form on the way and somebody looks.
    pub raw: Vec<Vec<u8>>,
}

/// How far something was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Position {
    /// The source's own name for what is read.
    pub id: String,
    /// What the source needs to read on; none: it is forgotten.
    pub content: Option<String>,
}

/// Most connections one source holds open.
const MAX_CONNECTIONS: usize = 2_048;
/// Room that the system is asked to have for datagrams that wait to be read, in bytes. It may give less.
const DATAGRAM_ROOM: usize = 8 << 20;

/// A source's socket.
#[derive(Debug)]
pub enum Socket {
    /// For streams.
    Streams(std::net::TcpListener),
    /// For datagrams.
    Datagrams(std::net::UdpSocket),
}

impl Socket {
    /// Opens the socket that `settings` need.
    pub fn open(settings: &SourceSettings) -> std::io::Result<Socket> {
        if let Protocol::Syslog { datagrams: true, .. } = settings.protocol {
            let socket = socket2::Socket::new(socket2::Domain::for_address(settings.listen), socket2::Type::DGRAM, None)?;
            let _ = socket.set_recv_buffer_size(DATAGRAM_ROOM);
            socket.set_nonblocking(true)?;
            socket.bind(&settings.listen.into())?;
            return Ok(Socket::Datagrams(socket.into()));
        }
        let socket = socket2::Socket::new(socket2::Domain::for_address(settings.listen), socket2::Type::STREAM, None)?;
        socket.set_reuse_address(true)?;
        socket.set_nonblocking(true)?;
        socket.bind(&settings.listen.into())?;
        socket.listen(1_024)?;
        Ok(Socket::Streams(socket.into()))
    }

    /// Another handle on the same socket, so that one who listens can take over from another without a gap.
    pub fn again(&self) -> std::io::Result<Socket> {
        match self {
            Socket::Streams(listener) => listener.try_clone().map(Socket::Streams),
            Socket::Datagrams(socket) => socket.try_clone().map(Socket::Datagrams),
        }
    }

    /// Whether it is for datagrams.
    #[must_use]
    pub fn is_for_datagrams(&self) -> bool {
        matches!(self, Socket::Datagrams(_))
    }

    /// The address it is bound to.
    pub fn address(&self) -> std::io::Result<SocketAddr> {
        match self {
            Socket::Streams(listener) => listener.local_addr(),
            Socket::Datagrams(socket) => socket.local_addr(),
        }
    }
}

/// Milliseconds since 1970.
pub(crate) fn now_ms() -> i64 {
    std::time::SystemTime::now().duration_since(std::time::SystemTime::UNIX_EPOCH).map_or(0, |t| t.as_millis() as i64)
}

/// Says what is wrong with the files of a source's certificates, if anything is.
pub fn check_certificates(settings: &SourceSettings) -> Result<(), String> {
    settings.certificates.as_ref().map_or(Ok(()), |files| tls::acceptor(files, &settings.protocol).map(|_| ()))
}

/// Serves a source on `socket` until `stop` resolves, then finishes what is under way. The settings may be exchanged while it runs, for such as [`SourceSettings::listens_like`]
/// them; each request is served by those it met.
pub async fn serve<S: Sink>(
    settings: Arc<ArcSwap<SourceSettings>>,
    socket: Socket,
    sink: Arc<S>,
    budget: Arc<BodyBudget>,
    heard: Arc<Heard>,
    stop: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    let listener = match socket {
        Socket::Datagrams(socket) => {
            datagrams::serve(settings, tokio::net::UdpSocket::from_std(socket)?, sink, heard, stop).await;
            return Ok(());
        }
        Socket::Streams(listener) => tokio::net::TcpListener::from_std(listener)?,
    };
    let now = settings.load_full();
    let acceptor = match &now.certificates {
        Some(files) => Some(tls::acceptor(files, &now.protocol).map_err(std::io::Error::other)?),
        None => None,
    };
    let guard = listener::Guard { settings: Arc::clone(&settings), heard: Arc::clone(&heard), acceptor };
    let listener = BoundedListener::new(listener, MAX_CONNECTIONS, Some(guard));
    let shared = |sink| Arc::new(http::Shared { settings: Arc::clone(&settings), sink, budget, heard: Arc::clone(&heard), under_way: AtomicUsize::new(0) });
    match now.protocol {
        Protocol::Http => host::host(listener, http::router(shared(sink)), heard, stop).await,
        Protocol::Otlp => host::host(listener, otlp::router(shared(sink)), heard, stop).await,
        Protocol::Syslog { .. } | Protocol::Lines => stream::serve(settings, listener, sink, heard, stop).await,
    }
    Ok(())
}

/// What was done with a body, told to its sender.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Receipt {
    /// Records in the body.
    pub received: u64,
    /// Records read as events.
    pub read: u64,
    /// Records that could not be read and are kept aside.
    pub quarantined: u64,
    /// It was taken before, under the same `Idempotency-Key`; this is what was said then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub repeated: bool,
    /// How old events were when they came, in milliseconds, of some of them.
    #[serde(skip)]
    pub ages: Vec<i64>,
    /// The first few of those that could not be read, with the reason.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<Unreadable>,
}

/// Most unreadable records that a receipt names.
pub const NAMED_UNREADABLE: usize = 10;

/// A record that could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unreadable {
    /// Its line, or its place in the array, from 1.
    pub record: u32,
    /// Why.
    pub reason: String,
}

#[cfg(test)]
mod tests;
