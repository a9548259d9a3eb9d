//! Everything a destination over HTTP can do wrong: each has a defined outcome, nothing is lost, and it is served again when it is well.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

use super::*;

/// What a raw server does with its next request.
#[derive(Clone, Copy, Debug)]
enum Does {
    /// Reads it and answers so.
    Answers(&'static str),
    /// Reads it and never answers.
    Hangs,
    /// Closes as soon as it is connected to.
    Closes,
    /// Reads it and closes half-way through its answer.
    ClosesHalfWay,
    /// Resets the connection while the body is still on its way.
    Resets,
}

const OK: &str = "HTTP/1.1 200 OK\r\ncontent-length: 0\r\n\r\n";

/// Reads one request with a content length; returns its body.
async fn request(stream: &mut TcpStream) -> Vec<u8> {
    let mut bytes = Vec::new();
    loop {
        if stream.read_buf(&mut bytes).await.unwrap_or(0) == 0 {
            return Vec::new();
        }
        let Some(end) = bytes.windows(4).position(|w| w == b"\r\n\r\n") else { continue };
        let head = String::from_utf8_lossy(&bytes[..end]).to_lowercase();
        let length: usize = head.lines().find_map(|l| l.strip_prefix("content-length: ")).unwrap().trim().parse().unwrap();
        while bytes.len() < end + 4 + length {
            if stream.read_buf(&mut bytes).await.unwrap_or(0) == 0 {
                return Vec::new();
            }
        }
        return bytes[end + 4..end + 4 + length].to_vec();
    }
}

struct Server {
    address: SocketAddr,
    requests: Arc<AtomicUsize>,
    taken: Arc<std::sync::Mutex<Vec<String>>>,
}

/// A server that does what `script` says, one connection after the other, and then takes everything.
async fn server(script: &'static [Does]) -> Server {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let requests = Arc::new(AtomicUsize::new(0));
    let taken = Arc::new(std::sync::Mutex::new(Vec::new()));
    let (count, kept) = (Arc::clone(&requests), Arc::clone(&taken));
    tokio::spawn(async move {
        let mut hanging = Vec::new();
        while let Ok((mut stream, _)) = listener.accept().await {
            let number = count.fetch_add(1, Ordering::SeqCst);
            match script.get(number).copied().unwrap_or(Does::Answers(OK)) {
                Does::Closes => drop(stream),
                Does::Resets => {
                    // Closing with unread bytes makes the system send a reset.
                    let _ = stream.read(&mut [0; 8]).await;
                    stream.set_zero_linger().unwrap();
                }
                Does::Hangs => {
                    request(&mut stream).await;
                    hanging.push(stream);
                }
                Does::ClosesHalfWay => {
                    request(&mut stream).await;
                    let _ = stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-le").await;
                }
                Does::Answers(text) => {
                    let body = request(&mut stream).await;
                    if text == OK {
                        let lines = String::from_utf8(body).unwrap();
                        kept.lock().unwrap().extend(lines.lines().map(str::to_owned));
                    }
                    let _ = stream.write_all(text.replacen("\r\n", "\r\nconnection: close\r\n", 1).as_bytes()).await;
                }
            }
        }
    });
    Server { address, requests, taken }
}

fn plain(address: SocketAddr) -> HttpSettings {
    HttpSettings {
        compression: rockrose_plan::Compression::Plain,
        authorization: Some("Bearer sandpiper".into()),
        timeout: Duration::from_millis(600),
        max_batch: 100_000,
        ..HttpSettings::new(&format!("http://{address}/in"))
    }
}

/// Sends 20 events to a server with this script; all must arrive once, and the last error must say `says`.
async fn recovers(script: &'static [Does], says: &str) {
    let p = place();
    let s = server(script).await;
    let w = worker(&p, plain(s.address));
    queue(&p.spool, "d", &numbered(0..20)).await;
    until(says, || drained(&p.spool, "d")).await;
    assert_eq!(*s.taken.lock().unwrap(), numbered(0..20), "{says}");
    assert_eq!(s.requests.load(Ordering::SeqCst), script.len() + 1, "{says}");
    // The health is told just after the settlement that empties the queue.
    until("it is healthy again", || w.health().get().state == State::Healthy).await;
    let error = w.health().get().last_error.unwrap();
    assert!(error.contains(says), "{error} should say {says}");
    assert!(!error.contains("sandpiper"), "{error}");
    assert!(p.spool.quarantined(10).await.unwrap().is_empty(), "{says}");
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn connections_that_fail_are_tried_again() {
    recovers(&[Does::Closes], "the connection broke").await;
    recovers(&[Does::Resets, Does::Closes], "the connection broke").await;
    recovers(&[Does::ClosesHalfWay], "the connection broke").await;
    recovers(&[Does::Hangs], "no answer in time").await;
}

#[tokio::test]
async fn answers_that_are_no_answers_are_tried_again() {
    recovers(&[Does::Answers("garbage without end\r\n\r\n")], "the connection broke").await;
    recovers(&[Does::Answers("HTTP/1.1 500 Internal Server Error\r\ncontent-length: 5\r\n\r\nwoe\n!")], "answered 500 Internal Server Error: woe !").await;
    recovers(&[Does::Answers("HTTP/1.1 301 Moved Permanently\r\nlocation: http://elsewhere.example/\r\ncontent-length: 0\r\n\r\n")], "answered 301").await;
    recovers(&[Does::Answers("HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n")], "answered 404").await;
    recovers(&[Does::Answers("HTTP/1.1 403 Forbidden\r\ncontent-length: 25\r\n\r\nnot sandpiper but a tern.")], "answered 403 Forbidden: not *** but a tern.")
        .await;
}

#[tokio::test]
async fn a_pause_that_is_asked_for_is_kept() {
    let p = place();
    let s = server(&[Does::Answers("HTTP/1.1 429 Too Many Requests\r\nretry-after: 1\r\ncontent-length: 0\r\n\r\n")]).await;
    let begun = Instant::now();
    let w = worker(&p, plain(s.address));
    queue(&p.spool, "d", &numbered(0..3)).await;
    until("it is served again", || drained(&p.spool, "d")).await;
    assert!(begun.elapsed() >= Duration::from_secs(1), "{:?}", begun.elapsed());
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn too_large_a_body_is_halved_until_it_fits() {
    const TOO_LARGE: Does = Does::Answers("HTTP/1.1 413 Payload Too Large\r\ncontent-length: 0\r\n\r\n");
    let p = place();
    let s = server(&[TOO_LARGE, TOO_LARGE]).await;
    let w = worker(&p, plain(s.address));
    queue(&p.spool, "d", &numbered(0..20)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    assert_eq!(*s.taken.lock().unwrap(), numbered(0..20));
    // 20, 10, then 5, then what is left, twice as many each time.
    assert_eq!(s.requests.load(Ordering::SeqCst), 5);
    assert!(p.spool.quarantined(10).await.unwrap().is_empty());
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn the_second_endpoint_serves_while_the_first_is_dead() {
    let p = place();
    let s = server(&[]).await;
    let dead = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let settings = plain(s.address);
    let endpoints = vec![format!("http://{dead}/in"), format!("http://{}/in", s.address)];
    let w = worker(&p, HttpSettings { endpoints, ..settings });
    queue(&p.spool, "d", &numbered(0..5)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    assert_eq!(*s.taken.lock().unwrap(), numbered(0..5));
    assert_eq!(w.health().get().failures, 0);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn one_that_hangs_is_cut_off_when_the_service_stops_and_nothing_is_lost() {
    let p = place();
    let s = server(&[Does::Hangs]).await;
    let settings = plain(s.address);
    let kind = |timeout| HttpSettings { timeout, ..settings.clone() };
    let w = worker(&p, kind(Duration::from_secs(300)));
    queue(&p.spool, "d", &numbered(0..5)).await;
    until("it hangs", || s.requests.load(Ordering::SeqCst) == 1).await;
    let begun = Instant::now();
    w.stop(Duration::from_millis(200)).await;
    assert!(begun.elapsed() < Duration::from_secs(5));
    assert_eq!(p.spool.waiting()["d"].amount.events, 5);
    let w = worker(&p, kind(Duration::from_secs(1)));
    until("it is drained", || drained(&p.spool, "d")).await;
    assert_eq!(*s.taken.lock().unwrap(), numbered(0..5));
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn one_that_is_dead_does_not_hold_up_another() {
    let p = place();
    let dead = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let slow = worker(&p, plain(dead));
    let other = Worker::start(WorkerSettings::new("e", plain_file(&p.out)), p.spool.clone(), false);
    for start in (0..200).step_by(20) {
        queue(&p.spool, "d", &numbered(start..start + 20)).await;
        queue(&p.spool, "e", &numbered(start..start + 20)).await;
    }
    until("the other is drained", || drained(&p.spool, "e")).await;
    assert_eq!(lines_of(&p.out), numbered(0..200));
    assert_eq!(p.spool.waiting()["d"].amount.events, 200);
    slow.stop(Duration::from_secs(5)).await;
    other.stop(Duration::from_secs(5)).await;
}
