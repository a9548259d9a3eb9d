//! Held back, paced, aged, in one lane or several; and looked at.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use super::*;
use crate::probe;

fn with(p: &Place, paused: bool, set: impl FnOnce(&mut WorkerSettings), kind: Target) -> Worker {
    let mut settings = WorkerSettings::new("d", kind);
    set(&mut settings);
    Worker::start(settings, p.spool.clone(), paused)
}

fn kept(p: &Place) -> PathBuf {
    let kept = p.out.with_file_name("kept.jsonl");
    std::fs::create_dir_all(kept.parent().unwrap()).unwrap();
    kept
}

#[tokio::test]
async fn a_paused_worker_sends_nothing_until_it_is_resumed() {
    let p = place();
    let kept = kept(&p);
    let (address, _stop) = stand_in(standin::StandIn { into: Some(kept.clone()), ..Default::default() }, "127.0.0.1:0").await;
    let w = with(&p, true, |_| {}, http(address, None));
    queue(&p.spool, "d", &numbered(0..50)).await;
    until("it says so", || w.health().get().state == State::Paused).await;
    assert_eq!(p.spool.waiting()["d"].amount.events, 50);
    w.pause(false);
    until("it is drained", || drained(&p.spool, "d")).await;
    until("it is healthy", || w.health().get().state == State::Healthy).await;
    w.pause(true);
    until("it says so again", || w.health().get().state == State::Paused).await;
    queue(&p.spool, "d", &numbered(50..60)).await;
    w.pause(false);
    until("it is drained again", || drained(&p.spool, "d")).await;
    assert_eq!(lines_of(&kept), numbered(0..60));
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_pause_reaches_one_that_waits_for_its_next_try() {
    let p = place();
    let address = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let w = with(&p, false, |_| {}, http(address, None));
    queue(&p.spool, "d", &numbered(0..3)).await;
    until("it backs off", || w.health().get().failures >= 4).await;
    w.pause(true);
    until("it is paused", || w.health().get().state == State::Paused).await;
    assert_eq!(p.spool.waiting()["d"].amount.events, 3);
    let begun = Instant::now();
    w.stop(Duration::from_secs(5)).await;
    assert!(begun.elapsed() < Duration::from_secs(2));
}

/// Takes bodies over HTTP by hand, so that it can be seen how many are there at once.
async fn counting(delay: Duration) -> (SocketAddr, Arc<AtomicUsize>, Arc<AtomicUsize>) {
    let (now, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let (theirs, top) = (Arc::clone(&now), Arc::clone(&most));
    let taken = Arc::new(AtomicUsize::new(0));
    let count = Arc::clone(&taken);
    let take = move |body: axum::body::Bytes| {
        let (now, most, count) = (Arc::clone(&theirs), Arc::clone(&top), Arc::clone(&count));
        async move {
            most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
            tokio::time::sleep(delay).await;
            now.fetch_sub(1, Ordering::SeqCst);
            count.fetch_add(body.iter().filter(|b| **b == b'\n').count(), Ordering::SeqCst);
        }
    };
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, axum::Router::new().route("/in", axum::routing::post(take))).await });
    (address, most, taken)
}

fn plain(address: SocketAddr) -> Target {
    HttpSettings { compression: rockrose_plan::Compression::Plain, max_batch: 100, ..HttpSettings::new(&format!("http://{address}/in")) }.into()
}

#[tokio::test]
async fn as_many_bodies_are_on_their_way_as_are_allowed_and_no_event_twice() {
    for (in_flight, expected) in [(1, 1), (4, 4)] {
        let p = place();
        let (address, most, taken) = counting(Duration::from_millis(20)).await;
        for start in (0..600).step_by(10) {
            queue(&p.spool, "d", &numbered(start..start + 10)).await;
        }
        let w = with(&p, false, |s| s.in_flight = in_flight, plain(address));
        until("it is drained", || drained(&p.spool, "d")).await;
        assert_eq!(most.load(Ordering::SeqCst), expected);
        assert_eq!(taken.load(Ordering::SeqCst), 600);
        w.stop(Duration::from_secs(5)).await;
    }
}

#[tokio::test]
async fn what_was_read_ahead_does_not_overtake_what_is_left() {
    let p = place();
    let (good, order) = (Arc::new(std::sync::atomic::AtomicBool::new(false)), Arc::new(std::sync::Mutex::new(String::new())));
    let (is_good, came) = (Arc::clone(&good), Arc::clone(&order));
    let take = move |body: axum::body::Bytes| async move {
        if !is_good.load(Ordering::SeqCst) {
            return axum::http::StatusCode::SERVICE_UNAVAILABLE;
        }
        came.lock().unwrap().push_str(std::str::from_utf8(&body).unwrap());
        axum::http::StatusCode::OK
    };
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, axum::Router::new().route("/in", axum::routing::post(take))).await });
    for start in (0..600).step_by(10) {
        queue(&p.spool, "d", &numbered(start..start + 10)).await;
    }
    let w = with(&p, false, |_| {}, plain(address));
    for _ in 0..3 {
        until("it fails", || w.health().get().state == crate::State::Failing).await;
        // The batch that is on its way goes back to the queue, and so must the one behind it.
        w.pause(true);
        until("it is paused", || w.health().get().state == crate::State::Paused).await;
        w.pause(false);
    }
    good.store(true, Ordering::SeqCst);
    until("it is drained", || drained(&p.spool, "d")).await;
    let expected: String = numbered(0..600).iter().map(|line| format!("{line}\n")).collect();
    assert_eq!(*order.lock().unwrap(), expected, "in order, each once");
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn bytes_are_paced() {
    let p = place();
    let (address, _, taken) = counting(Duration::ZERO).await;
    queue(&p.spool, "d", &numbered(0..100)).await;
    let bytes: usize = numbered(0..100).iter().map(|l| l.len() + 1).sum();
    let begun = Instant::now();
    let w = with(&p, false, |s| s.rate = Some(bytes as u64), plain(address));
    until("it is drained", || drained(&p.spool, "d")).await;
    // The first body goes at once; all behind it wait for their turn.
    assert!(begun.elapsed() > Duration::from_millis(700), "{:?}", begun.elapsed());
    assert_eq!(taken.load(Ordering::SeqCst), 100);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn what_waits_too_long_is_let_go_and_counted() {
    let p = place();
    let address = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    // These tests queue as of 1970.
    queue(&p.spool, "d", &numbered(0..7)).await;
    let w = with(&p, false, |s| s.hold_for = Some(Duration::from_secs(60)), http(address, None));
    until("they are gone", || drained(&p.spool, "d")).await;
    let rows = p.spool.ledger(None, None).await.unwrap();
    let discarded: i64 = rows.iter().filter(|r| r.account.measure == rockrose_ledger::Measure::Discarded).map(|r| r.amount.events).sum();
    assert_eq!(discarded, 7);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn answers_are_counted_and_timed() {
    let p = place();
    let (address, _stop) = stand_in(standin::StandIn { delay: Duration::from_millis(30), fail_one_in: 4, ..Default::default() }, "127.0.0.1:0").await;
    let w = with(&p, false, |_| {}, http(address, None));
    for n in 0..12 {
        queue(&p.spool, "d", &numbered(n..n + 1)).await;
        until("it is drained", || drained(&p.spool, "d")).await;
    }
    let answers = w.health().get().answers;
    assert!(answers.count >= 12 && answers.good > 0.6 && answers.good < 0.95, "{answers:?}");
    assert!(answers.p50_ms >= 30.0 && answers.p50_ms <= answers.p90_ms && answers.p90_ms <= answers.p99_ms, "{answers:?}");
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_look_stops_at_the_first_thing_that_fails() {
    let p = place();
    let look = async |kind: Target| probe(&WorkerSettings::new("d", kind)).await;
    let names = |steps: &[crate::ProbeStep]| steps.iter().map(|s| (s.step, s.good)).collect::<Vec<_>>();
    let url = |url: &str| {
        let authorization = Some("Bearer sandpiper".to_owned());
        HttpSettings { authorization, timeout: Duration::from_secs(2), ..HttpSettings::new(url) }.into()
    };

    let kept = kept(&p);
    let (address, _stop) = stand_in(standin::StandIn { into: Some(kept.clone()), token: Some("sandpiper".into()), ..Default::default() }, "127.0.0.1:0").await;
    let good = look(url(&format!("http://{address}/in?key=q"))).await;
    assert_eq!(names(&good), [("resolve", true), ("connect", true), ("accept", true)]);
    assert!(lines_of(&kept)[0].contains("\"rockrose.test\":true"));

    let (address, _stop) = stand_in(standin::StandIn { token: Some("other".into()), ..Default::default() }, "127.0.0.1:0").await;
    let unknown = look(url(&format!("http://{address}/in"))).await;
    assert_eq!(names(&unknown), [("resolve", true), ("connect", true), ("accept", false)]);
    assert!(unknown[2].says.contains("401") && !unknown[2].says.contains("sandpiper"), "{}", unknown[2].says);

    let not_safe = look(url(&format!("https://{address}/in"))).await;
    assert_eq!(names(&not_safe), [("resolve", true), ("connect", true), ("secure", false)]);

    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let dead = look(url(&format!("http://{free}/in"))).await;
    assert_eq!(names(&dead), [("resolve", true), ("connect", false)]);
    assert_eq!(names(&look(url("http://no-such-host.invalid/in")).await), [("resolve", false)]);

    assert_eq!(names(&look(Discard.into()).await), [("accept", true)]);
    assert_eq!(names(&look(plain_file(&p.out).into()).await), [("open", true)], "its folder is made when it is written");
    let folder = p.out.parent().unwrap().to_owned();
    assert_eq!(names(&look(plain_file(&folder).into()).await), [("open", false)]);
    assert_eq!(names(&look(plain_file(&kept.join("in-a-file.jsonl")).into()).await), [("open", false)]);
    assert!(!p.out.exists(), "a look leaves nothing behind");
}
