//! A relay before a stand-in, which can garble and break off answers.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// What a relay does with a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Does {
    /// Passes everything on, both ways.
    Relays,
    /// Answers with what no protocol says.
    Garbles,
    /// Passes on what is sent, and closes in the middle of the answer.
    ClosesHalfWay,
    /// Closes as soon as it is connected to.
    Closes,
}

/// Stands before a stand-in: does with its first connections what the script says, and relays all others.
pub(super) struct Relay {
    pub(super) address: SocketAddr,
    /// Connections that were made.
    pub(super) connections: Arc<AtomicUsize>,
}

impl Relay {
    pub(super) async fn before(stand_in: SocketAddr, script: &'static [Does]) -> Relay {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let relay = Relay { address: listener.local_addr().unwrap(), connections: Arc::default() };
        let connections = Arc::clone(&relay.connections);
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                let does = script.get(connections.fetch_add(1, Ordering::SeqCst)).copied().unwrap_or(Does::Relays);
                tokio::spawn(relay_one(stream, stand_in, does));
            }
        });
        relay
    }
}

async fn relay_one(mut near: TcpStream, stand_in: SocketAddr, does: Does) -> std::io::Result<()> {
    if does == Does::Closes {
        return Ok(());
    }
    if does == Does::Garbles {
        let _ = near.read(&mut [0; 64]).await?;
        near.write_all(b"gulls \x00\xff and no answer\r\n\r\n{\r\n").await?;
        // Closing with unread bytes makes the system send a reset; so they are read.
        let _ = tokio::time::timeout(Duration::from_millis(50), tokio::io::copy(&mut near, &mut tokio::io::sink())).await;
        return Ok(());
    }
    let mut far = TcpStream::connect(stand_in).await?;
    if does == Does::Relays {
        tokio::io::copy_bidirectional(&mut near, &mut far).await?;
        return Ok(());
    }
    let ((mut from_near, mut to_near), (mut from_far, mut to_far)) = (near.split(), far.split());
    let answer = async {
        let mut some = [0; 12];
        let read = from_far.read(&mut some).await?;
        to_near.write_all(&some[..read]).await
    };
    tokio::select! {
        _ = tokio::io::copy(&mut from_near, &mut to_far) => {}
        _ = answer => {}
    }
    Ok(())
}
