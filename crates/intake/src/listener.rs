//! A listener that holds no more than so many connections at once, turns away those that may not come, and makes the others safe where that is asked.

use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use arc_swap::ArcSwap;
use axum::extract::connect_info::Connected;
use axum::serve::{IncomingStream, Listener};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::task::JoinSet;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls;
use tokio_rustls::server::TlsStream;

use crate::spoken::FIRST;
use crate::{SenderFault, SourceMonitor, SourceSettings};

/// How long making a connection safe may take.
const HANDSHAKE_TIME: Duration = Duration::from_secs(10);

/// A TCP listener with a bound on its open connections; further ones wait in the system's own queue.
pub struct BoundedListener {
    inner: TcpListener,
    permits: Arc<Semaphore>,
    guard: Option<Guard>,
    /// Connections that are being made safe.
    shaking: JoinSet<Option<(Connection, SocketAddr)>>,
}

/// What a source's listener looks at before it hands a connection on.
pub(crate) struct Guard {
    pub(crate) settings: Arc<ArcSwap<SourceSettings>>,
    pub(crate) monitor: Arc<SourceMonitor>,
    pub(crate) acceptor: Option<TlsAcceptor>,
}

impl BoundedListener {
    /// Listens on `address` for at most `connections` connections at once.
    pub async fn bind(address: SocketAddr, connections: usize) -> io::Result<BoundedListener> {
        Ok(BoundedListener::new(TcpListener::bind(address).await?, connections, None))
    }

    pub(crate) fn new(inner: TcpListener, connections: usize, guard: Option<Guard>) -> BoundedListener {
        BoundedListener { inner, permits: Arc::new(Semaphore::new(connections)), guard, shaking: JoinSet::new() }
    }

    /// The address it listens on.
    pub fn address(&self) -> io::Result<SocketAddr> {
        self.inner.local_addr()
    }

    /// The next connection that may come in.
    pub(crate) async fn next(&mut self) -> (Connection, SocketAddr) {
        loop {
            let coming = async {
                // The semaphore is never closed; were it, nothing more could be accepted.
                let Ok(place) = Arc::clone(&self.permits).acquire_owned().await else { std::future::pending().await };
                let (stream, address) = Listener::accept(&mut self.inner).await;
                (stream, address, place)
            };
            let (stream, address, place) = tokio::select! {
                Some(done) = self.shaking.join_next(), if !self.shaking.is_empty() => match done {
                    Ok(Some(safe)) => return safe,
                    _ => continue,
                },
                coming = coming => coming,
            };
            if stream.set_nodelay(true).is_err() {
                continue;
            }
            let Some(guard) = &self.guard else { return (Connection::new(Stream::Plain(stream), place, None), address) };
            if !guard.settings.load().allows(address.ip()) {
                guard.monitor.wrong(SenderFault::Address, format!("{} is not an allowed address", address.ip()), Some(address.ip()));
                continue;
            }
            let monitor = Arc::clone(&guard.monitor);
            match guard.acceptor.clone() {
                None => return (Connection::new(Stream::Plain(stream), place, Some(monitor)), address),
                Some(acceptor) => {
                    self.shaking.spawn(async move {
                        let from = Some(address.ip());
                        // One who looks whether somebody listens, and hangs up, has done nothing wrong.
                        if let Ok(Ok(0)) = tokio::time::timeout(HANDSHAKE_TIME, stream.peek(&mut [0])).await {
                            return None;
                        }
                        match tokio::time::timeout(HANDSHAKE_TIME, acceptor.accept(stream)).await {
                            Ok(Ok(safe)) => return Some((Connection::new(Stream::Safe(Box::new(safe)), place, Some(monitor)), address)),
                            Ok(Err(e)) if e.kind() == io::ErrorKind::UnexpectedEof => {
                                monitor.wrong(SenderFault::Tls, "a sender disconnected during the TLS handshake", from);
                            }
                            Ok(Err(e)) if is_no_tls(&e) => {
                                monitor.wrong(SenderFault::PlainText, "a sender sent plain text to a TLS port", from);
                            }
                            Ok(Err(e)) => monitor.wrong(SenderFault::Tls, format!("the TLS handshake failed: {e}"), from),
                            Err(_) => monitor.wrong(SenderFault::Tls, "a sender did not complete the TLS handshake in time", from),
                        }
                        None
                    });
                }
            }
        }
    }
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
pub struct Connection {
    inner: Stream,
    monitor: Option<Arc<SourceMonitor>>,
    /// What it began with, as far as that came.
    began: FirstBytes,
    /// So many bytes are missing there.
    missing: usize,
    _place: OwnedSemaphorePermit,
}

impl Connection {
    fn new(inner: Stream, place: OwnedSemaphorePermit, monitor: Option<Arc<SourceMonitor>>) -> Connection {
        if let Some(monitor) = &monitor {
            monitor.connected();
        }
        Connection { inner, monitor, began: FirstBytes::default(), missing: FIRST, _place: place }
    }

    /// The first bytes that come, as far as they have.
    pub(crate) fn began(&self) -> FirstBytes {
        self.began.clone()
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

impl Listener for BoundedListener {
    type Io = Connection;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Connection, SocketAddr) {
        self.next().await
    }

    fn local_addr(&self) -> io::Result<SocketAddr> {
        self.inner.local_addr()
    }
}

impl AsyncRead for Connection {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = buf.filled().len();
        let read = self.stream().poll_read(cx, buf);
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
        self.stream().poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream().poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        self.stream().poll_shutdown(cx)
    }

    fn poll_write_vectored(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bufs: &[io::IoSlice<'_>]) -> Poll<io::Result<usize>> {
        self.stream().poll_write_vectored(cx, bufs)
    }

    fn is_write_vectored(&self) -> bool {
        true
    }
}

/// Who is at the other end of a connection.
#[derive(Clone, Copy, Debug)]
pub struct Peer(pub SocketAddr);

impl Connected<IncomingStream<'_, BoundedListener>> for Peer {
    fn connect_info(stream: IncomingStream<'_, BoundedListener>) -> Peer {
        Peer(*stream.remote_addr())
    }
}
