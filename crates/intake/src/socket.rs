//! The sockets that sources listen at.

use std::io::Result;
use std::net::SocketAddr;

use socket2::{Domain, Type};

/// Room that the system is asked to have for datagrams that wait to be read, in bytes. It may give less.
const DATAGRAM_ROOM: usize = 8 << 20;
/// Most connections that wait in the system's queue.
const BACKLOG: i32 = 1_024;

/// A source's socket.
#[derive(Debug)]
pub(crate) enum Socket {
    /// For connections.
    Streams(std::net::TcpListener),
    /// For datagrams.
    Datagrams(std::net::UdpSocket),
}

impl Socket {
    /// Opens a socket for connections.
    pub(crate) fn streams(address: SocketAddr) -> Result<Socket> {
        let socket = socket2::Socket::new(Domain::for_address(address), Type::STREAM, None)?;
        socket.set_reuse_address(true)?;
        socket.set_nonblocking(true)?;
        socket.bind(&address.into())?;
        socket.listen(BACKLOG)?;
        Ok(Socket::Streams(socket.into()))
    }

    /// Opens a socket for datagrams.
    pub(crate) fn datagrams(address: SocketAddr) -> Result<Socket> {
        let socket = socket2::Socket::new(Domain::for_address(address), Type::DGRAM, None)?;
        let _ = socket.set_recv_buffer_size(DATAGRAM_ROOM);
        socket.set_nonblocking(true)?;
        socket.bind(&address.into())?;
        Ok(Socket::Datagrams(socket.into()))
    }

    /// Room that the system has for datagrams that wait to be read, in bytes.
    pub(crate) fn room(socket: &impl std::os::fd::AsFd) -> Result<usize> {
        // The system counts as much again for what it keeps beside them (socket(7)).
        Ok(socket2::SockRef::from(socket).recv_buffer_size()? / 2)
    }

    /// Another handle on the same socket, so that one who listens can take over from another without a gap.
    pub(crate) fn again(&self) -> Result<Socket> {
        match self {
            Socket::Streams(listener) => listener.try_clone().map(Socket::Streams),
            Socket::Datagrams(socket) => socket.try_clone().map(Socket::Datagrams),
        }
    }
}
