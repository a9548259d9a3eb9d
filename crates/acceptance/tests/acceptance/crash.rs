//! Nothing acknowledged is lost: under SIGKILL, with a destination down, and while the plan is exchanged.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use crate::harness::{Node, free_ports, http, lines, post, spawn, sum, until};

fn plan(source: u16, stand_in: u16, folder: &std::path::Path) -> String {
    format!(
        r#"
[source.in]
kind = "http"
listen = "127.0.0.1:{source}"
[destination.out]
kind = "http"
endpoints = ["http://127.0.0.1:{stand_in}/in"]
[destination.vault]
kind = "file"
path = "{}/vault.jsonl"
[[route]]
name = "all"
do = ['tag seen = true', 'redact email']
to = ["out", "vault"]
[[route]]
name = "odd"
when = 'parity = "odd"'
to = ["vault"]
"#,
        folder.display()
    )
}

const BATCH: usize = 200;
const KILLS: usize = 100;
/// Bodies on their way at once to one destination.
const LANES: usize = 4;

fn body(batch: usize) -> String {
    let line = |i: usize| {
        let n = batch * BATCH + i;
        let parity = if n.is_multiple_of(2) { "even" } else { "odd" };
        format!("{{\"n\":{n},\"parity\":\"{parity}\",\"level\":\"info\",\"message\":\"ticket for walker{n}@post.example\",\"port\":\"Lowmere\"}}\n")
    };
    (0..BATCH).map(line).collect()
}

/// How often each number stands in a file, by route.
fn seen(path: &std::path::Path) -> HashMap<(u64, bool), usize> {
    let mut seen = HashMap::new();
    for event in lines(path) {
        *seen.entry((event["n"].as_u64().unwrap(), event.get("seen").is_some())).or_default() += 1;
    }
    seen
}

/// Destinations of four kinds: one over HTTP, one over gRPC that fails half the time, a file, and an archive.
fn plan_of_kinds(source: u16, stand_in: u16, grpc: u16, folder: &std::path::Path) -> String {
    let extra = format!(
        r#"
[destination.records]
kind = "otlp"
transport = "grpc"
endpoints = ["http://127.0.0.1:{grpc}"]
[destination.shelf]
kind = "archive"
store = "{}/shelf"
divide_by = ["date", "parity"]
object_every = "300 ms"
[[route]]
name = "records"
to = ["records", "shelf"]
"#,
        folder.display()
    );
    format!("{}{extra}", plan(source, stand_in, folder))
}

/// How often each number stands in the objects below a folder.
fn shelved(folder: &std::path::Path, seen: &mut HashMap<u64, usize>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().map(Result::unwrap) {
        if entry.file_type().unwrap().is_dir() {
            shelved(&entry.path(), seen);
        } else if entry.path().extension().is_some_and(|e| e == "zst") {
            let lines = zstd::stream::decode_all(std::fs::File::open(entry.path()).unwrap()).unwrap();
            for event in lines.split(|b| *b == b'\n').filter(|l| !l.is_empty()) {
                let event: serde_json::Value = serde_json::from_slice(event).unwrap();
                *seen.entry(event["n"].as_u64().unwrap()).or_default() += 1;
            }
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hundred_kills_lose_nothing_at_destinations_of_four_kinds() {
    let [source, stand_in, grpc] = free_ports();
    let mut node = Node::start().await;
    let (kept, records) = (node.path("out.jsonl"), node.path("records.jsonl"));
    let stand_ins = [
        ("http", stand_in, &kept, vec![]),
        // What fails has taken nothing.
        ("grpc", grpc, &records, vec!["--schedule", "well for 150ms, failing for 150ms"]),
    ];
    let _stand_ins = stand_ins.map(|(speaks, port, into, more)| {
        let listen = format!("127.0.0.1:{port}");
        let args = [vec!["standin", "--as", speaks, "--listen", &listen, "--into", into.to_str().unwrap()], more].concat();
        spawn(&args, &node.path("standin.log"))
    });
    node.apply(&plan_of_kinds(source, stand_in, grpc, node.folder.path()));

    let (acknowledged, stop) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicBool::new(false)));
    let (counted, stopped) = (Arc::clone(&acknowledged), Arc::clone(&stop));
    // An independent client: it posts each batch until it is acknowledged, and remembers which ones it had to send again.
    let poster = tokio::spawn(async move {
        let http = http();
        let mut again = Vec::new();
        while !stopped.load(Ordering::SeqCst) {
            let mut resent = false;
            loop {
                let sent = http.post(format!("http://127.0.0.1:{source}/in")).body(body(again.len())).send().await;
                match sent {
                    Ok(answer) if answer.status().is_success() => break,
                    _ => resent = true,
                }
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
            again.push(resent);
            counted.fetch_add(1, Ordering::SeqCst);
        }
        again
    });
    for kill in 0..KILLS {
        let target = acknowledged.load(Ordering::SeqCst) + 1;
        until("more batches are acknowledged", async || (acknowledged.load(Ordering::SeqCst) >= target).then_some(())).await;
        // At any moment of taking, sending and settling.
        tokio::time::sleep(Duration::from_millis(fastrand::u64(0..150))).await;
        node.kill();
        node.begin().await;
        if kill % 10 == 9 {
            node.balanced();
        }
    }
    stop.store(true, Ordering::SeqCst);
    let again = poster.await.unwrap();
    node.drained().await;

    let (vault, out, records) = (seen(&node.path("vault.jsonl")), seen(&kept), seen(&records));
    let mut shelf = HashMap::new();
    shelved(&node.path("shelf"), &mut shelf);
    let mut doubled = [Vec::new(), Vec::new()];
    for n in 0..(BATCH * again.len()) as u64 {
        let resent = again[n as usize / BATCH];
        // A file and an archive are exact: what stands there twice was acknowledged twice.
        let exact = |times: usize, what: &str| {
            assert!(times >= 1, "event {n} is missing in {what}");
            assert!(times == 1 || resent, "event {n} stands {times} times in {what}, though its batch was acknowledged at once");
        };
        exact(vault.get(&(n, true)).copied().unwrap_or(0), "the vault");
        if n % 2 == 1 {
            exact(vault.get(&(n, false)).copied().unwrap_or(0), "the vault by the second route");
        }
        exact(shelf.get(&n).copied().unwrap_or(0), "the archive");
        // Over a network an answer can be lost to a kill, so a second copy is allowed, but never a missing one.
        for (times, doubled) in [out.get(&(n, true)), records.get(&(n, false))].into_iter().zip(&mut doubled) {
            let times = times.copied().unwrap_or(0);
            assert!(times >= 1, "event {n} is missing at a stand-in");
            if times > 1 {
                doubled.push(n);
            }
        }
    }
    // What comes twice comes in stretches, one for a body whose answer was lost: no more than there are lanes, at each kill.
    let resent = again.iter().filter(|a| **a).count();
    for doubled in doubled {
        let stretches = doubled.windows(2).filter(|two| two[1] != two[0] + 1).count() + 1;
        assert!(stretches <= LANES * KILLS + resent, "{stretches} stretches came twice");
    }
    let (ledger, total) = (node.balanced(), BATCH * again.len());
    let received = sum(&ledger, "source", "in", "received");
    assert!((total as i64..=(total + resent * BATCH * 3) as i64).contains(&received), "{received} of {total}");
    // File and archive have exactly what the ledger says was delivered there.
    assert_eq!(sum(&ledger, "destination", "vault", "delivered"), vault.values().sum::<usize>() as i64);
    assert_eq!(sum(&ledger, "destination", "shelf", "delivered"), shelf.values().sum::<usize>() as i64);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_dead_destination_holds_up_nobody_and_gets_everything_when_it_is_back() {
    let [source, stand_in] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, stand_in, node.folder.path()));
    let http = http();
    for batch in 0..20 {
        assert_eq!(post(&http, source, body(batch)).await.status(), 200);
    }
    // The file has all of it while the other destination is dead.
    until("the file is served", async || (lines_in(&node.path("vault.jsonl")) == 20 * BATCH * 3 / 2).then_some(())).await;
    let flow = node.get("/api/v1/flow").await;
    let out = flow["destinations"].as_array().unwrap().iter().find(|d| d["name"] == "out").unwrap().clone();
    assert_eq!(out["health"]["state"], "failing");
    assert_eq!(out["waiting_events"], (20 * BATCH) as u64);
    assert!(out["health"]["last_error"].as_str().unwrap().contains("cannot connect"), "{out}");
    node.balanced();
    // It outlives a restart.
    node.stop().await;
    node.begin().await;
    let kept = node.path("out.jsonl");
    let _stand_in =
        spawn(&["standin", "--listen", &format!("127.0.0.1:{stand_in}"), "--into", kept.to_str().unwrap(), "--fail-one-in", "3"], &node.path("standin.log"));
    node.drained().await;
    let all = seen(&kept);
    assert_eq!(all.len(), 20 * BATCH);
    assert!(all.values().all(|n| *n == 1));
    node.balanced();
    node.stop().await;
}

fn lines_in(path: &std::path::Path) -> usize {
    std::fs::read(path).map_or(0, |b| b.iter().filter(|b| **b == b'\n').count())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_exchanged_without_losing_an_event() {
    let [source, other] = free_ports();
    let mut node = Node::start().await;
    let file = |port: u16, tag: u32| {
        let folder = node.folder.path().display();
        format!(
            "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{port}\"\n[destination.vault]\nkind = \"file\"\npath = \"{folder}/vault.jsonl\"\n[[route]]\nname = \"all\"\ndo = ['tag plan = {tag}']\nto = [\"vault\"]\n"
        )
    };
    node.apply(&file(source, 0));
    let stop = Arc::new(AtomicBool::new(false));
    let stopped = Arc::clone(&stop);
    let poster = tokio::spawn(async move {
        let http = http();
        let mut sent = 0;
        while !stopped.load(Ordering::SeqCst) {
            // Every post is answered: the listener stays while the plan changes around it.
            assert_eq!(post(&http, source, format!("{{\"n\":{sent}}}")).await.status(), 200);
            sent += 1;
        }
        sent
    });
    for tag in 1..=8 {
        node.apply(&file(source, tag));
    }
    stop.store(true, Ordering::SeqCst);
    let sent: usize = poster.await.unwrap();
    node.drained().await;
    let got = lines(&node.path("vault.jsonl"));
    assert_eq!(got.len(), sent);
    assert!(got.iter().enumerate().all(|(i, e)| e["n"] == i), "each once and in order");
    let plans: Vec<u64> = got.iter().map(|e| e["plan"].as_u64().unwrap()).collect();
    assert!(plans.is_sorted() && plans.first() != plans.last());
    // A source that moves away stops listening; going back brings it back.
    node.apply(&file(other, 9));
    until("the old port is closed", async || http().post(format!("http://127.0.0.1:{source}/in")).body("{}").send().await.is_err().then_some(())).await;
    assert_eq!(post(&http(), other, "{\"n\":0}").await.status(), 200);
    assert!(node.client(&["revert", "9", "--yes"]).status.success());
    assert_eq!(post(&http(), source, "{\"n\":0}").await.status(), 200);
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_queue_pushes_back_and_opens_again() {
    let [source, stand_in] = free_ports();
    let mut node = Node::start().await;
    let bounded = plan(source, stand_in, node.folder.path()).replace("kind = \"http\"\nendpoints", "hold_at_most = \"100 KB\"\nkind = \"http\"\nendpoints");
    node.apply(&bounded);
    let http = http();
    let mut taken = 0;
    let refused = loop {
        let answer = post(&http, source, body(taken)).await;
        if answer.status() != 200 {
            break answer;
        }
        taken += 1;
        assert!(taken < 20, "the bound holds");
    };
    assert_eq!(refused.status(), 503);
    assert!(refused.headers().contains_key("retry-after"));
    let problem: serde_json::Value = refused.json().await.unwrap();
    assert_eq!(problem["destination"], "out");
    let kept = node.path("out.jsonl");
    let _stand_in = spawn(&["standin", "--listen", &format!("127.0.0.1:{stand_in}"), "--into", kept.to_str().unwrap()], &node.path("standin.log"));
    node.drained().await;
    assert_eq!(post(&http, source, body(taken)).await.status(), 200);
    node.drained().await;
    assert_eq!(seen(&kept).len(), (taken + 1) * BATCH);
    node.balanced();
    node.stop().await;
}
