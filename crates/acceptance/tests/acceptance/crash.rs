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

const BATCH: usize = 500;
const BATCHES: usize = 400;
const KILLS: usize = 10;

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

#[tokio::test(flavor = "multi_thread")]
async fn two_hundred_thousand_events_and_ten_kills() {
    let [source, stand_in] = free_ports();
    let mut node = Node::start().await;
    let kept = node.path("out.jsonl");
    let _stand_in = spawn(&["standin", "--listen", &format!("127.0.0.1:{stand_in}"), "--into", kept.to_str().unwrap()], &node.path("standin.log"));
    node.apply(&plan(source, stand_in, node.folder.path()));

    let acknowledged = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&acknowledged);
    // An independent client: it posts each batch until it is acknowledged, and remembers which ones it had to send again.
    let poster = tokio::spawn(async move {
        let http = http();
        let mut again = vec![false; BATCHES];
        for (batch, again) in again.iter_mut().enumerate() {
            loop {
                let sent = http.post(format!("http://127.0.0.1:{source}/in")).body(body(batch)).send().await;
                match sent {
                    Ok(answer) if answer.status().is_success() => break,
                    _ => *again = true,
                }
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
            counted.fetch_add(1, Ordering::SeqCst);
        }
        again
    });
    for kill in 0..KILLS {
        let target = (kill + 1) * BATCHES / (KILLS + 1);
        until("more batches are acknowledged", async || (acknowledged.load(Ordering::SeqCst) >= target).then_some(())).await;
        node.kill();
        node.begin().await;
    }
    let again = poster.await.unwrap();
    node.drained().await;

    let (vault, out) = (seen(&node.path("vault.jsonl")), seen(&kept));
    let mut doubled = 0;
    for n in 0..(BATCH * BATCHES) as u64 {
        let resent = again[n as usize / BATCH];
        let check = |times: usize, what: &str| {
            assert!(times >= 1, "event {n} is missing in {what}");
            assert!(times == 1 || resent, "event {n} stands {times} times in {what}, though its batch was acknowledged at once");
        };
        check(vault.get(&(n, true)).copied().unwrap_or(0), "the vault");
        if n % 2 == 1 {
            check(vault.get(&(n, false)).copied().unwrap_or(0), "the vault by the second route");
        }
        // Over HTTP an answer can be lost to a kill, so a second copy is allowed, but never a missing one.
        let times = out.get(&(n, true)).copied().unwrap_or(0);
        assert!(times >= 1, "event {n} is missing at the stand-in");
        doubled += usize::from(times > 1);
    }
    // At most one parcel is under way at each kill.
    assert!(doubled <= (KILLS + again.iter().filter(|a| **a).count()) * 20_000, "{doubled} events came twice");
    let ledger = node.balanced();
    let resent = again.iter().filter(|a| **a).count() as i64;
    let received = sum(&ledger, "source", "in", "received");
    let total = (BATCH * BATCHES) as i64;
    assert!((total..=total + resent * BATCH as i64).contains(&received), "{received}");
    // The file has exactly what the ledger says was delivered there.
    assert_eq!(sum(&ledger, "destination", "vault", "delivered"), vault.values().sum::<usize>() as i64);
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
