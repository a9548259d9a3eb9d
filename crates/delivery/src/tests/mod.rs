//! One suite that every kind of destination passes, and what is particular to each.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rockrose_ledger::{Amount, Earlier, Entry, Selection};
use rockrose_plan::{Compression, FileDestination, Layout, SyslogDestination};
use rockrose_spool::{Arrival, pack};

mod archive;
mod certificates;
mod control;
mod faults;
mod files;
mod http_forms;
mod mail;
mod otlp;
mod suite;
mod syslog;

use super::*;

async fn queue(spool: &Spool, destination: &str, lines: &[String]) {
    let mut selection = Selection::default();
    let mut amount = Amount::default();
    for (i, line) in lines.iter().enumerate() {
        selection.push(i as u32);
        amount.count(line.len());
    }
    let data = lines.iter().map(|l| format!("{l}\n")).collect::<String>().into_bytes();
    let entries = vec![Entry { destination: destination.into(), route: "r".into(), selection, earlier: Earlier::default(), amount }];
    spool
        .store(Arrival {
            source: "s".into(),
            arrived_ms: 1,
            data: pack(data),
            entries,
            postings: Vec::new(),
            tags: std::sync::Arc::default(),
            unread: Vec::new(),
            held: Vec::new(),
            metrics: Vec::new(),
            extras: rockrose_spool::CommitExtras::default(),
        })
        .await
        .unwrap();
}

use rockrose_spool::Spool;

fn numbered(range: std::ops::Range<u32>) -> Vec<String> {
    range.map(|n| format!("{{\"n\":{n}}}")).collect()
}

async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(20), "timed out: {what}");
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

fn drained(spool: &Spool, destination: &str) -> bool {
    spool.waiting().get(destination).is_some_and(|w| w.amount.events == 0)
}

fn lines_of(path: &Path) -> Vec<String> {
    std::fs::read_to_string(path).unwrap_or_default().lines().map(str::to_owned).collect()
}

struct Place {
    _dir: tempfile::TempDir,
    spool: Spool,
    out: PathBuf,
}

fn place() -> Place {
    // A second installation in the same process is refused, and that is fine.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let dir = tempfile::tempdir().unwrap();
    let spool = Spool::open(&dir.path().join("spool.db")).unwrap();
    Place { out: dir.path().join("deep/out.jsonl"), _dir: dir, spool }
}

async fn stand_in(settings: standin::StandIn, address: &str) -> (SocketAddr, CancellationToken) {
    let listener = standin::bind(address.parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    let stop = CancellationToken::new();
    tokio::spawn(standin::serve(settings, listener, stop.clone().cancelled_owned()));
    (address, stop)
}

use tokio_util::sync::CancellationToken;

fn http(address: SocketAddr, token: Option<&str>) -> Target {
    HttpSettings {
        authorization: token.map(|t| format!("Bearer {t}")),
        timeout: Duration::from_secs(2),
        max_batch: 1_000,
        ..HttpSettings::new(&format!("http://{address}/in"))
    }
    .into()
}

/// JSON lines in one file for ever.
fn plain_file(path: &Path) -> FileDestination {
    FileDestination {
        path: path.to_str().unwrap().to_owned(),
        layout: Layout::JsonLines,
        rotate_at: None,
        rotate_every: None,
        keep_files: None,
        compression: Compression::Plain,
        mode: None,
    }
}

fn worker(p: &Place, kind: impl Into<Target>) -> Worker {
    Worker::start(WorkerSettings::new("d", kind), p.spool.clone(), false)
}

#[tokio::test]
async fn a_dead_endpoint_is_tried_until_it_is_back() {
    let p = place();
    let kept = p.out.with_file_name("kept.jsonl");
    std::fs::create_dir_all(kept.parent().unwrap()).unwrap();
    // A port that was just free.
    let address = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let w = worker(&p, http(address, None));
    queue(&p.spool, "d", &numbered(0..10)).await;
    until("it fails", || w.health().get().failures >= 2).await;
    let health = w.health().get();
    assert_eq!(health.state, State::Failing);
    assert!(health.last_error.unwrap().contains("cannot connect") && health.next_try_ms.is_some());
    let (_, _stop) = stand_in(standin::StandIn { into: Some(kept.clone()), fail_one_in: 2, ..Default::default() }, &address.to_string()).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    assert_eq!(lines_of(&kept), numbered(0..10));
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn one_that_refuses_everything_keeps_its_events_waiting() {
    let p = place();
    let (address, _stop) = stand_in(standin::StandIn { refuse_text: Some("n".into()), ..Default::default() }, "127.0.0.1:0").await;
    let w = worker(&p, http(address, None));
    queue(&p.spool, "d", &numbered(0..200)).await;
    until("it gives up refusing", || w.health().get().last_error.is_some_and(|e| e.contains("refuses everything"))).await;
    assert_eq!(p.spool.waiting()["d"].amount.events, 150);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_wrong_token_waits_and_never_shows_it() {
    let p = place();
    let (address, _stop) = stand_in(standin::StandIn { token: Some("right".into()), ..Default::default() }, "127.0.0.1:0").await;
    let w = worker(&p, http(address, Some("sandpiper")));
    queue(&p.spool, "d", &numbered(0..3)).await;
    until("it fails", || w.health().get().failures >= 1).await;
    let error = w.health().get().last_error.unwrap();
    assert!(error.contains("401") && !error.contains("sandpiper"), "{error}");
    assert_eq!(p.spool.waiting()["d"].amount.events, 3);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn what_a_crash_left_behind_the_settled_length_is_cut_off() {
    let p = place();
    let kind: Target = plain_file(&p.out).into();
    let w = worker(&p, kind.clone());
    queue(&p.spool, "d", &numbered(0..5)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    w.stop(Duration::from_secs(5)).await;
    // Written, but the settlement never came; and half a line.
    let mut file = std::fs::OpenOptions::new().append(true).open(&p.out).unwrap();
    std::io::Write::write_all(&mut file, b"{\"n\":5}\n{\"n\":").unwrap();
    queue(&p.spool, "d", &numbered(5..8)).await;
    let w = worker(&p, kind.clone());
    until("it is drained", || drained(&p.spool, "d")).await;
    assert_eq!(lines_of(&p.out), numbered(0..8));
    // Moved away while open: a new file is begun.
    std::fs::rename(&p.out, p.out.with_extension("old")).unwrap();
    queue(&p.spool, "d", &numbered(8..9)).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    assert_eq!(lines_of(&p.out), numbered(8..9));
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_file_that_cannot_be_written_waits_with_the_reason() {
    let p = place();
    std::fs::create_dir_all(&p.out).unwrap();
    let w = worker(&p, plain_file(&p.out));
    queue(&p.spool, "d", &numbered(0..2)).await;
    until("it fails", || w.health().get().failures >= 1).await;
    assert!(w.health().get().last_error.unwrap().contains("out.jsonl"));
    std::fs::remove_dir(&p.out).unwrap();
    until("it is drained", || drained(&p.spool, "d")).await;
    assert_eq!(lines_of(&p.out), numbered(0..2));
    w.stop(Duration::from_secs(5)).await;
}
