//! A listener that holds no more than so many connections at once.

use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use axum::extract::connect_info::Connected;
use axum::serve::{IncomingStream, Listener};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// A TCP listener with a bound on its open connections; further ones wait in the system's own queue.
#[derive(Debug)]
pub struct BoundedListener {
    inner: TcpListener,
    permits: Arc<Semaphore>,
}

impl BoundedListener {
    /// Listens on `address` for at most `connections` connections at once.
    pub async fn bind(address: SocketAddr, connections: usize) -> io::Result<BoundedListener> {
        Ok(BoundedListener { inner: TcpListener::bind(address).await?, permits: Arc::new(Semaphore::new(connections)) })
    }

    /// The address it listens on.
    pub fn address(&self) -> io::Result<SocketAddr> {
        self.inner.local_addr()
    }
}

/// A connection that gives its place back when it closes.
#[derive(Debug)]
pub struct Connection {
    inner: TcpStream,
    _place: OwnedSemaphorePermit,
}

impl Listener for BoundedListener {
    type Io = Connection;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Connection, SocketAddr) {
        loop {
            // The semaphore is never closed; were it, nothing more could be accepted.
            let Ok(place) = Arc::clone(&self.permits).acquire_owned().await else { std::future::pending().await };
            let (inner, address) = Listener::accept(&mut self.inner).await;
            if inner.set_nodelay(true).is_ok() {
                return (Connection { inner, _place: place }, address);
            }
        }
    }

    fn local_addr(&self) -> io::Result<SocketAddr> {
        self.inner.local_addr()
    }
}

impl AsyncRead for Connection {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_read(cx, buf)
    }
}

impl AsyncWrite for Connection {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }

    fn poll_write_vectored(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bufs: &[io::IoSlice<'_>]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write_vectored(cx, bufs)
    }

    fn is_write_vectored(&self) -> bool {
        self.inner.is_write_vectored()
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
