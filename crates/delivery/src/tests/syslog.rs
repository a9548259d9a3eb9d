//! Syslog messages over TCP, TLS and UDP, to a receiver written for the test and to one that is not ours.

use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};

use rockrose_event::output::SyslogFacility;
use rockrose_plan::{SyslogTransport, TlsFiles};
use tokio::io::{AsyncRead, AsyncReadExt};

use super::*;
use crate::tests::certificates::make;

fn to(transport: SyslogTransport, address: SocketAddr, tls: TlsFiles) -> Target {
    SyslogDestination {
        transport,
        host: if transport == SyslogTransport::Tls { "localhost".into() } else { address.ip().to_string() },
        port: address.port(),
        facility: SyslogFacility::User,
        tls,
        timeout: Duration::from_secs(2),
        max_batch: 10_000,
    }
    .into()
}

type Got = Arc<Mutex<Vec<String>>>;

/// Reads messages, each after its length, until the connection ends or `most` are read.
async fn read_frames(mut stream: impl AsyncRead + Unpin, got: Got, most: usize) {
    let mut bytes = Vec::new();
    let mut read = 0;
    while read < most {
        if let Some(space) = bytes.iter().position(|b| *b == b' ') {
            let len: usize = std::str::from_utf8(&bytes[..space]).unwrap().parse().unwrap();
            if bytes.len() > space + len {
                got.lock().unwrap().push(String::from_utf8(bytes[space + 1..=space + len].to_vec()).unwrap());
                bytes.drain(..=space + len);
                read += 1;
                continue;
            }
        }
        if !matches!(stream.read_buf(&mut bytes).await, Ok(1..)) {
            return;
        }
    }
}

fn messages(range: std::ops::Range<u32>) -> Vec<String> {
    range.map(|n| format!("<14>1 - - - - - [fields@32473 n=\"{n}\"]")).collect()
}

#[tokio::test]
async fn messages_are_framed_over_tcp_and_a_closed_connection_is_noticed() {
    let p = place();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (address, got) = (listener.local_addr().unwrap(), Got::default());
    let kept = Arc::clone(&got);
    let (ended, mut closed) = tokio::sync::mpsc::channel(1);
    tokio::spawn(async move {
        // The first connection is closed after three messages, with nothing under way.
        let (stream, _) = listener.accept().await.unwrap();
        read_frames(stream, Arc::clone(&kept), 3).await;
        ended.send(()).await.unwrap();
        let (stream, _) = listener.accept().await.unwrap();
        read_frames(stream, kept, usize::MAX).await;
    });
    let w = worker(&p, to(SyslogTransport::Tcp, address, TlsFiles::default()));
    queue(&p.spool, "d", &numbered(0..3)).await;
    closed.recv().await.unwrap();
    until("it is drained", || drained(&p.spool, "d")).await;
    queue(&p.spool, "d", &numbered(3..50)).await;
    until("all are there", || got.lock().unwrap().len() == 50).await;
    assert_eq!(*got.lock().unwrap(), messages(0..50));
    assert_eq!(w.health().get().failures, 0);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn messages_go_over_tls_with_certificates_of_ones_own() {
    let p = place();
    let made = make(p.out.parent().unwrap().parent().unwrap(), (2090, 1, 1));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (address, got) = (listener.local_addr().unwrap(), Got::default());
    let (acceptor, kept) = (made.acceptor, Arc::clone(&got));
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            if let Ok(stream) = acceptor.accept(stream).await {
                read_frames(stream, Arc::clone(&kept), usize::MAX).await;
            }
        }
    });
    queue(&p.spool, "d", &numbered(0..20)).await;
    let w = worker(&p, to(SyslogTransport::Tls, address, TlsFiles::default()));
    until("it fails", || w.health().get().last_error.is_some_and(|e| e.contains("TLS handshake failed"))).await;
    w.stop(Duration::from_secs(5)).await;
    let w = worker(&p, to(SyslogTransport::Tls, address, made.files));
    until("all are there", || got.lock().unwrap().len() == 20).await;
    assert_eq!(*got.lock().unwrap(), messages(0..20));
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_datagram_each_and_one_that_does_not_fit_is_set_aside() {
    let p = place();
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let mut lines = numbered(0..5);
    lines.insert(2, format!("{{\"message\":\"{}\"}}", "x".repeat(70_000)));
    queue(&p.spool, "d", &lines).await;
    let w = worker(&p, to(SyslogTransport::Udp, socket.local_addr().unwrap(), TlsFiles::default()));
    until("it is drained", || drained(&p.spool, "d")).await;
    let mut bytes = [0; 70_000];
    let mut got: Vec<String> = Vec::new();
    for _ in 0..5 {
        let read = socket.recv(&mut bytes).unwrap();
        got.push(String::from_utf8(bytes[..read].to_vec()).unwrap());
    }
    got.sort();
    assert_eq!(got, messages(0..5));
    let aside = p.spool.quarantined(10).await.unwrap();
    assert!(aside.len() == 1 && aside[0].reason.contains("does not fit"), "{aside:?}");
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn one_that_does_not_listen_or_does_not_read_waits() {
    let p = place();
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    queue(&p.spool, "d", &numbered(0..5)).await;
    let w = worker(&p, to(SyslogTransport::Tcp, free, TlsFiles::default()));
    until("it fails", || w.health().get().last_error.is_some_and(|e| e.contains("cannot connect"))).await;
    w.stop(Duration::from_secs(5)).await;
    // Takes the connection and nothing more: once the system's buffers are full, it is not waited for.
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let long: Vec<String> = (0..40).map(|n| format!("{{\"n\":{n},\"message\":\"{}\"}}", "x".repeat(900_000))).collect();
    for line in long {
        queue(&p.spool, "d", &[line]).await;
    }
    let w = worker(&p, to(SyslogTransport::Tcp, listener.local_addr().unwrap(), TlsFiles::default()));
    until("it is given up", || w.health().get().last_error.is_some_and(|e| e.contains("accepted nothing within 2 seconds"))).await;
    assert!(p.spool.waiting()["d"].amount.events > 5);
    w.stop(Duration::from_secs(5)).await;
}

struct Python(Child);

impl Drop for Python {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A receiver of the standard library of another language: it knows nothing of us.
const RECEIVER: &str = "
import socketserver, sys
class One(socketserver.StreamRequestHandler):
    def handle(self):
        while True:
            length = b''
            while not length.endswith(b' '):
                byte = self.rfile.read(1)
                if not byte: return
                length += byte
            sys.stdout.write(self.rfile.read(int(length)).decode() + chr(10)); sys.stdout.flush()
server = socketserver.TCPServer(('127.0.0.1', 0), One)
sys.stderr.write(str(server.server_address[1]) + chr(10)); sys.stderr.flush()
server.serve_forever()
";

#[tokio::test]
async fn a_receiver_that_is_not_ours_reads_every_message() {
    use std::io::BufRead;
    let Ok(mut child) = Command::new("python3").args(["-c", RECEIVER]).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn() else {
        // Python comes with the build's own packages; without it there is nothing to ask.
        return;
    };
    let (out, err) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
    let _python = Python(child);
    let mut port = String::new();
    std::io::BufReader::new(err).read_line(&mut port).unwrap();
    let p = place();
    let address = format!("127.0.0.1:{}", port.trim()).parse().unwrap();
    let w = worker(&p, to(SyslogTransport::Tcp, address, TlsFiles::default()));
    queue(&p.spool, "d", &numbered(0..500)).await;
    let got: Vec<String> = tokio::task::spawn_blocking(move || std::io::BufReader::new(out).lines().take(500).map(Result::unwrap).collect()).await.unwrap();
    assert_eq!(got, messages(0..500));
    w.stop(Duration::from_secs(5)).await;
}
