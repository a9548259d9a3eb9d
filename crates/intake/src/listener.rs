//! A listener that holds no more than so many connections at once, turns away those that may not come, and makes the others safe where that is asked.

use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use arc_swap::ArcSwap;
use sha2::{Digest, Sha256};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls;
use tokio_rustls::server::TlsStream;

use crate::places::{Activity, NoRoom, Place, Places, Room};
use crate::spoken::FIRST;
use crate::{Fingerprint, SenderFault, SourceMonitor, SourceSettings, now_ms};

/// How long making a connection safe may take.
const HANDSHAKE_TIME: Duration = Duration::from_secs(10);
/// A peer that is silent for so long is asked whether it is still there, and so often again; after so many questions without an answer it is gone.
const STILL_THERE: (Duration, Duration, u32) = (Duration::from_secs(60), Duration::from_secs(15), 4);
/// How long nothing is accepted when there are no descriptors.
const NO_DESCRIPTORS: Duration = Duration::from_millis(100);

/// When file descriptors last ran out, in milliseconds since 1970.
static RAN_OUT: AtomicI64 = AtomicI64::new(i64::MIN);
/// So long it is told that they did, in milliseconds.
const TOLD: i64 = 30_000;

/// Whether connections could not be accepted a short while ago, since the process has as many files and connections open as it may.
#[must_use]
pub fn out_of_descriptors() -> bool {
    now_ms().saturating_sub(RAN_OUT.load(Ordering::Relaxed)) < TOLD
}

/// A TCP listener with a bound on its open connections.
pub struct BoundedListener {
    inner: TcpListener,
    places: Arc<Places>,
    guard: Option<Guard>,
    /// What makes connections safe.
    acceptor: Option<TlsAcceptor>,
    /// A connection that waits for a place.
    waiting: Option<(TcpStream, SocketAddr)>,
    /// Connections that are being made safe.
    shaking: JoinSet<Option<(Connection, SocketAddr)>>,
}

/// What a source's listener looks at before it hands a connection on.
pub(crate) struct Guard {
    pub(crate) settings: Arc<ArcSwap<SourceSettings>>,
    pub(crate) monitor: Arc<SourceMonitor>,
}

impl BoundedListener {
    /// Listens on `address` for at most `connections` connections at once, over TLS where it has an `acceptor`.
    pub async fn bind(address: SocketAddr, connections: usize, acceptor: Option<TlsAcceptor>) -> io::Result<BoundedListener> {
        Ok(BoundedListener::new(TcpListener::bind(address).await?, connections, acceptor, None))
    }

    pub(crate) fn new(inner: TcpListener, connections: usize, acceptor: Option<TlsAcceptor>, guard: Option<Guard>) -> BoundedListener {
        BoundedListener { inner, places: Arc::new(Places::new(connections)), acceptor, guard, waiting: None, shaking: JoinSet::new() }
    }

    /// The address it listens on.
    pub fn address(&self) -> io::Result<SocketAddr> {
        self.inner.local_addr()
    }

    /// The next connection, whoever made it, with a place. Nothing is lost if this is not waited for to the end.
    async fn accept(
        inner: &TcpListener,
        waiting: &mut Option<(TcpStream, SocketAddr)>,
        places: &Arc<Places>,
        guard: Option<&Guard>,
    ) -> (TcpStream, SocketAddr, Place) {
        loop {
            if waiting.is_none() {
                match inner.accept().await {
                    Ok(accepted) => *waiting = Some(accepted),
                    // One who hung up before.
                    Err(e) if matches!(e.kind(), io::ErrorKind::ConnectionAborted | io::ErrorKind::ConnectionReset | io::ErrorKind::ConnectionRefused) => {}
                    Err(e) => {
                        if !out_of_descriptors() {
                            tracing::error!(error = %e, "connections cannot be accepted; idle ones are closed to make room");
                        }
                        RAN_OUT.store(now_ms(), Ordering::Relaxed);
                        places.close_idlest();
                        tokio::time::sleep(NO_DESCRIPTORS).await;
                    }
                }
            }
            let Some(address) = waiting.as_ref().map(|(_, address)| *address) else { continue };
            let crowded = |says: String| {
                if let Some(guard) = guard {
                    guard.monitor.wrong(SenderFault::Crowded, says, Some(address.ip()));
                }
            };
            match places.take(address.ip()) {
                Ok((place, room)) => {
                    if room == Room::Made {
                        crowded(format!("so many connections are open (at most {}) that idle ones are closed", places.most()));
                    }
                    if let Some((stream, address)) = waiting.take() {
                        return (stream, address, place);
                    }
                }
                Err(NoRoom::Address) => {
                    crowded(format!("{} holds as many connections as one address may", address.ip()));
                    *waiting = None;
                }
                Err(NoRoom::All) => {
                    crowded(format!("{} connections are open, and none of them is idle; others wait", places.most()));
                    places.freed().await;
                }
            }
        }
    }

    /// The next connection that may come in.
    pub(crate) async fn next(&mut self) -> (Connection, SocketAddr) {
        loop {
            let (stream, address, place) = tokio::select! {
                Some(done) = self.shaking.join_next(), if !self.shaking.is_empty() => match done {
                    Ok(Some(safe)) => return safe,
                    _ => continue,
                },
                coming = BoundedListener::accept(&self.inner, &mut self.waiting, &self.places, self.guard.as_ref()) => coming,
            };
            if prepared(&stream).is_err() {
                continue;
            }
            let from = Some(address.ip());
            if let Some(guard) = self.guard.as_ref().filter(|guard| !guard.settings.load().allows(address.ip())) {
                guard.monitor.wrong(SenderFault::Address, format!("{} is not an allowed address", address.ip()), from);
                continue;
            }
            let monitor = self.guard.as_ref().map(|guard| Arc::clone(&guard.monitor));
            match self.acceptor.clone() {
                None => return (Connection::new(Stream::Plain(stream), place, monitor), address),
                Some(acceptor) => {
                    self.shaking.spawn(async move {
                        let wrong = |what: SenderFault, says: String| monitor.iter().for_each(|monitor| monitor.wrong(what, says.clone(), from));
                        // One who looks whether somebody listens, and hangs up, has done nothing wrong.
                        if let Ok(Ok(0)) = tokio::time::timeout(HANDSHAKE_TIME, stream.peek(&mut [0])).await {
                            return None;
                        }
                        match tokio::time::timeout(HANDSHAKE_TIME, acceptor.accept(stream)).await {
                            Ok(Ok(safe)) => return Some((Connection::new(Stream::Safe(Box::new(safe)), place, monitor), address)),
                            Ok(Err(e)) if e.kind() == io::ErrorKind::UnexpectedEof => {
                                wrong(SenderFault::Tls, "a sender disconnected during the TLS handshake".to_owned());
                            }
                            Ok(Err(e)) if is_no_tls(&e) => wrong(SenderFault::PlainText, "a sender sent plain text to a TLS port".to_owned()),
                            Ok(Err(e)) => wrong(SenderFault::Tls, format!("the TLS handshake failed: {e}")),
                            Err(_) => wrong(SenderFault::Tls, "a sender did not complete the TLS handshake in time".to_owned()),
                        }
                        None
                    });
                }
            }
        }
    }
}

/// Small answers go at once, and a peer that is gone without a word is found out.
fn prepared(stream: &TcpStream) -> io::Result<()> {
    stream.set_nodelay(true)?;
    let (after, every, times) = STILL_THERE;
    let asked = socket2::TcpKeepalive::new().with_time(after).with_interval(every).with_retries(times);
    socket2::SockRef::from(stream).set_tcp_keepalive(&asked)
}

/// Whether what came was no TLS at all, not TLS with something wrong.
fn is_no_tls(e: &io::Error) -> bool {
    e.get_ref().and_then(|cause| cause.downcast_ref()).is_some_and(|cause| matches!(cause, rustls::Error::InvalidMessage(_)))
}

/// A connection's first bytes, for somebody who asks once it is over.
#[derive(Clone, Debug, Default)]
pub(crate) struct FirstBytes(Arc<Mutex<Vec<u8>>>);

impl FirstBytes {
    fn add(&self, bytes: &[u8]) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
    }

    pub(crate) fn bytes(&self) -> Vec<u8> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

enum Stream {
    Plain(TcpStream),
    Safe(Box<TlsStream<TcpStream>>),
}

/// A connection that gives its place back when it closes.
pub(crate) struct Connection {
    inner: Stream,
    monitor: Option<Arc<SourceMonitor>>,
    /// What it began with, as far as that came.
    began: FirstBytes,
    /// So many bytes are missing there.
    missing: usize,
    place: Place,
}

impl Connection {
    fn new(inner: Stream, place: Place, monitor: Option<Arc<SourceMonitor>>) -> Connection {
        if let Some(monitor) = &monitor {
            monitor.connected();
        }
        Connection { inner, monitor, began: FirstBytes::default(), missing: FIRST, place }
    }

    /// The first bytes that come, as far as they have.
    pub(crate) fn began(&self) -> FirstBytes {
        self.began.clone()
    }

    /// The certificate that the other end has shown, by its SHA-256.
    pub(crate) fn certificate(&self) -> Option<ShownCertificate> {
        let Stream::Safe(stream) = &self.inner else { return None };
        let shown = stream.get_ref().1.peer_certificates()?.first()?;
        Some(ShownCertificate(Sha256::digest(shown).into()))
    }

    /// Its socket, if it is not over TLS.
    #[cfg(test)]
    pub(crate) fn plain(&self) -> Option<&TcpStream> {
        match &self.inner {
            Stream::Plain(stream) => Some(stream),
            Stream::Safe(_) => None,
        }
    }

    /// What it is doing.
    pub(crate) fn activity(&self) -> &Arc<Activity> {
        &self.place.activity
    }

    /// An error, if it is to make room for another.
    fn still_open(&self, cx: &Context<'_>) -> io::Result<()> {
        if self.place.activity.is_closed(cx.waker()) { Err(io::ErrorKind::ConnectionAborted.into()) } else { Ok(()) }
    }

    fn stream(&mut self) -> Pin<&mut (dyn Duplex + Unpin)> {
        match &mut self.inner {
            Stream::Plain(stream) => Pin::new(stream),
            Stream::Safe(stream) => Pin::new(stream.as_mut()),
        }
    }
}

/// A connection, to read from and write to.
pub(crate) trait Duplex: AsyncRead + AsyncWrite {}
impl<T: AsyncRead + AsyncWrite> Duplex for T {}

impl Drop for Connection {
    fn drop(&mut self) {
        if let Some(monitor) = &self.monitor {
            monitor.disconnected();
        }
    }
}

impl AsyncRead for Connection {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        self.still_open(cx)?;
        let before = buf.filled().len();
        let read = self.stream().poll_read(cx, buf);
        if buf.filled().len() > before {
            self.place.activity.moved();
        }
        if self.missing > 0 {
            let new = &buf.filled()[before..];
            let new = &new[..new.len().min(self.missing)];
            self.missing -= new.len();
            self.began.add(new);
        }
        read
    }
}

impl AsyncWrite for Connection {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        self.still_open(cx)?;
        let written = self.stream().poll_write(cx, buf);
        if written.is_ready() {
            self.place.activity.moved();
        }
        written
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream().poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream().poll_shutdown(cx)
    }

    fn poll_write_vectored(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bufs: &[io::IoSlice<'_>]) -> Poll<io::Result<usize>> {
        self.still_open(cx)?;
        let written = self.stream().poll_write_vectored(cx, bufs);
        if written.is_ready() {
            self.place.activity.moved();
        }
        written
    }

    fn is_write_vectored(&self) -> bool {
        true
    }
}

/// The certificate that the other end of a connection has shown.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ShownCertificate(pub(crate) Fingerprint);

/// Who is at the other end of a connection.
#[derive(Clone, Copy, Debug)]
pub struct Peer(pub SocketAddr);
