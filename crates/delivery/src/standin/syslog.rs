//! Syslog messages over TCP (RFC 6587, each after its length) and UDP.

use std::sync::Arc;
use std::time::Duration;

use tokio::io::AsyncReadExt;
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::task::JoinSet;

use super::{Mood, Shared};

/// Longest message, in bytes.
const MAX_MESSAGE: usize = 1 << 20;
/// How often it is looked whether a mood has changed.
const LOOK_AGAIN: Duration = Duration::from_millis(50);

pub(super) async fn serve(shared: Arc<Shared>, listener: TcpListener, stop: impl Future<Output = ()>) -> std::io::Result<()> {
    let datagrams = UdpSocket::bind(listener.local_addr()?).await?;
    let mut connections = JoinSet::new();
    let mut datagram = vec![0; 65_536];
    tokio::pin!(stop);
    loop {
        tokio::select! {
            () = &mut stop => return Ok(()),
            Ok((stream, _)) = listener.accept() => {
                connections.spawn(read(Arc::clone(&shared), stream));
            }
            Ok((length, _)) = datagrams.recv_from(&mut datagram) => {
                if matches!(shared.mood(), Mood::Well | Mood::Slow(_)) {
                    let _ = keep(&shared, &datagram[..length]);
                }
            }
            Some(_) = connections.join_next(), if !connections.is_empty() => {}
        }
    }
}

/// Keeps a message as a line.
fn keep(shared: &Shared, message: &[u8]) -> std::io::Result<()> {
    let mut line = message.to_vec();
    line.iter_mut().filter(|b| **b == b'\n').for_each(|b| *b = b' ');
    line.push(b'\n');
    shared.keep(1, &line)
}

/// Reads one connection to its end, or until the mood is to close it.
async fn read(shared: Arc<Shared>, mut stream: TcpStream) {
    let mut bytes = Vec::new();
    loop {
        match shared.mood() {
            Mood::Well => {}
            Mood::Slow(time) => tokio::time::sleep(time).await,
            Mood::Hanging => {
                tokio::time::sleep(LOOK_AGAIN).await;
                continue;
            }
            Mood::Refusing | Mood::Failing | Mood::Closing => return,
        }
        let Ok(read) = tokio::time::timeout(LOOK_AGAIN, stream.read_buf(&mut bytes)).await else { continue };
        if read.unwrap_or(0) == 0 {
            return;
        }
        while let Some((message, rest)) = frame(&bytes) {
            if message.len() > MAX_MESSAGE || keep(&shared, message).is_err() {
                return;
            }
            let gone = bytes.len() - rest.len();
            bytes.drain(..gone);
        }
        if bytes.len() > MAX_MESSAGE {
            return;
        }
    }
}

/// The first whole message, and what is behind it.
fn frame(bytes: &[u8]) -> Option<(&[u8], &[u8])> {
    let blank = bytes.iter().position(|b| *b == b' ')?;
    let length: usize = std::str::from_utf8(&bytes[..blank]).ok()?.parse().ok()?;
    let rest = &bytes[blank + 1..];
    (rest.len() >= length).then(|| rest.split_at(length))
}
