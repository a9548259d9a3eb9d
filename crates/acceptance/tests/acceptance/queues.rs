//! What an operator does to queues, and what queues do when they are full: over restarts, with the account adding up each time.

use crate::harness::{Node, Running, free_ports, lines, post, spawn, sum, text, until};

fn plan(source: u16, stand_in: u16, folder: &std::path::Path, desk: &str) -> String {
    let folder = folder.display();
    format!(
        r#"
[source.in]
kind = "http"
listen = "127.0.0.1:{source}"
[destination.desk]
kind = "http"
endpoints = ["http://127.0.0.1:{stand_in}/in"]
{desk}
[destination.vault]
kind = "file"
path = "{folder}/vault.jsonl"
[[route]]
name = "all"
to = ["desk"]
[[route]]
name = "kept"
when = 'wanted = true'
to = ["vault"]
"#
    )
}

fn body(range: std::ops::Range<usize>) -> String {
    range.map(|n| format!("{{\"n\":{n},\"message\":\"gate {n} shut at Lowmere\"}}\n")).collect()
}

pub(crate) fn stand_in(node: &Node, port: u16, more: &[&str]) -> Running {
    let (address, into) = (format!("127.0.0.1:{port}"), node.path("desk.jsonl"));
    spawn(&[&["standin", "--listen", &address, "--into", into.to_str().unwrap()], more].concat(), &node.path("standin.log"))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pause_lasts_over_a_kill_and_a_purge_is_accounted_for() {
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    let _desk = stand_in(&node, port, &[]);
    node.apply(&plan(source, port, node.folder.path(), ""));
    assert!(node.client(&["destination", "pause", "desk"]).status.success());
    assert_eq!(post(&node.http, source, body(0..200)).await.status(), 200);
    node.kill();
    node.begin().await;
    let shown = node.json(&["destination", "show", "desk"]);
    assert_eq!((shown["health"]["state"].as_str(), shown["waiting_events"].as_i64()), (Some("paused"), Some(200)));
    assert!(text(&node.client(&["status"]).stdout).contains("paused for"));
    let metrics = node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap();
    for line in [
        "rockrose_destination_paused{destination=\"desk\"} 1",
        "rockrose_destination_paused{destination=\"vault\"} 0",
        "rockrose_destination_full{destination=\"desk\"} 0",
    ] {
        assert!(metrics.lines().any(|l| l == line), "{line} in\n{metrics}");
    }
    assert!(lines(&node.path("desk.jsonl")).is_empty());

    let unasked = node.client(&["destination", "purge", "desk"]);
    assert_eq!(unasked.status.code(), Some(7), "nobody is there to be asked");
    assert_eq!(node.json(&["destination", "purge", "desk", "--yes"])["events"], 200);
    assert_eq!(sum(&node.balanced(), "destination", "desk", "discarded"), 200);
    assert_eq!(post(&node.http, source, body(200..210)).await.status(), 200);
    assert!(node.client(&["destination", "resume", "desk"]).status.success());
    node.drained().await;
    let got: Vec<u64> = lines(&node.path("desk.jsonl")).iter().map(|e| e["n"].as_u64().unwrap()).collect();
    assert_eq!(got, (200..210).collect::<Vec<_>>());
    let metrics = node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap();
    assert!(metrics.lines().any(|l| l == "rockrose_destination_good_answers_ratio{destination=\"desk\"} 1"), "{metrics}");
    assert!(metrics.contains("rockrose_destination_answer_seconds{destination=\"desk\",quantile=\"0.9\"}"), "{metrics}");
    node.balanced();
    for (args, code) in [(["destination", "pause", "nobody"], 1), (["destination", "purge", "nobody"], 1), (["destination", "test", "vault"], 0)] {
        assert_eq!(node.client(&args).status.code(), Some(code), "{args:?}");
    }
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_queue_pushes_back_drops_its_oldest_or_spills() {
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    // Nobody listens at the desk.
    let (bounded, filler) = ("hold_at_most = \"10 KB\"", body(0..300));
    assert!(filler.len() > 10_000);
    node.apply(&plan(source, port, node.folder.path(), bounded));
    assert_eq!(post(&node.http, source, filler.clone()).await.status(), 200, "there was room when it came");
    let refused = post(&node.http, source, body(300..301)).await;
    assert_eq!(refused.status(), 503);
    assert_eq!(refused.json::<serde_json::Value>().await.unwrap()["destination"], "desk");
    until("it is said to be full", async || (node.json(&["destination", "show", "desk"])["health"]["state"] == "full").then_some(())).await;

    // The same queue now lets its oldest go: the new come in, and no more than the bound waits.
    node.apply(&plan(source, port, node.folder.path(), &format!("{bounded}\nwhen_full = \"drop oldest\"")));
    for start in (300..900).step_by(100) {
        assert_eq!(post(&node.http, source, body(start..start + 100)).await.status(), 200);
    }
    let shown = node.json(&["destination", "show", "desk"]);
    assert!(shown["waiting_bytes"].as_i64().unwrap() <= 10_000, "{shown}");
    let ledger = node.balanced();
    let dropped = sum(&ledger, "destination", "desk", "discarded");
    assert_eq!(dropped + shown["waiting_events"].as_i64().unwrap(), 900);

    // Now what finds no room goes to the vault, the rest waits.
    node.apply(&plan(source, port, node.folder.path(), "hold_at_most = \"1 KB\"\nwhen_full = \"spill to vault\""));
    assert_eq!(post(&node.http, source, body(1_000..1_100)).await.status(), 200);
    until("the vault has it", async || (lines(&node.path("vault.jsonl")).len() == 100).then_some(())).await;
    let ledger = node.balanced();
    assert_eq!(sum(&ledger, "destination", "desk", "spilled"), 100);
    assert_eq!(sum(&ledger, "destination", "vault", "offered"), 100);
    assert!(text(&node.client(&["ledger"]).stdout).contains("spilled to another"));
    node.kill();
    node.begin().await;

    // The desk opens: what waited for it comes, and nothing of what was spilled.
    let _desk = stand_in(&node, port, &[]);
    node.drained().await;
    let got = lines(&node.path("desk.jsonl"));
    assert!(got.iter().all(|e| e["n"].as_u64().unwrap() < 1_000) && got.last().unwrap()["n"] == 899, "{}", got.len());
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_refused_is_sent_again_when_asked() {
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    let strict = stand_in(&node, port, &["--refuse", "gate 3 "]);
    node.apply(&plan(source, port, node.folder.path(), ""));
    assert_eq!(post(&node.http, source, body(0..6)).await.status(), 200);
    node.drained().await;
    let aside = node.json(&["quarantine"]);
    let aside = aside.as_array().unwrap();
    assert_eq!((aside.len(), aside[0]["name"].as_str()), (1, Some("desk")));
    assert_eq!(node.client(&["resend"]).status.code(), Some(1), "nobody said what");
    drop(strict);
    let _lax = stand_in(&node, port, &[]);
    assert_eq!(node.json(&["resend", &aside[0]["id"].to_string()])["events"], 1);
    node.drained().await;
    let mut got: Vec<u64> = lines(&node.path("desk.jsonl")).iter().map(|e| e["n"].as_u64().unwrap()).collect();
    got.sort_unstable();
    assert_eq!(got, (0..6).collect::<Vec<_>>());
    let ledger = node.balanced();
    assert_eq!((sum(&ledger, "destination", "desk", "quarantined"), sum(&ledger, "destination", "desk", "delivered")), (0, 6));
    assert_eq!(node.json(&["resend", "--all"])["events"], 0);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_refused_leaves_as_the_mended_steps_make_of_it() {
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    let _desk = stand_in(&node, port, &["--refuse", "secret"]);
    let with = |node: &Node, always: &str| node.apply(&plan(source, port, node.folder.path(), &format!("always = [{always}]")));
    // The steps take the port off, hash the number and add what the destination refuses.
    with(&node, "'remove port', 'redact pass as hash', 'tag mark = \"secret\"'");
    let events = "{\"n\":1,\"pass\":\"p-1\",\"port\":\"Lowmere\"}\n{\"n\":2,\"pass\":\"p-2\",\"port\":\"secret\"}\n{\"n\":3,\"port\":\"Lowmere\"}\n";
    assert_eq!(post(&node.http, source, events).await.status(), 200);
    node.drained().await;
    assert_eq!(node.json(&["quarantine"]).as_array().unwrap().len(), 3);
    node.kill();
    node.begin().await;

    // Mended: the port stays, the pass is hashed once.
    with(&node, "'redact pass as hash', 'drop n = 3'");
    let why = text(&node.client(&["why", "--quarantined", "1"]).stdout);
    for says in [
        "event {\"n\":1,\"pass\":\"p-1\",\"port\":\"Lowmere\"}",
        "came by the route all and was refused by desk",
        "changed      redact pass as hash",
        "no change    drop n = 3",
    ] {
        assert!(why.contains(says), "{says} in\n{why}");
    }
    let said = node.client(&["resend", "--all", "--wait"]);
    let told = text(&said.stdout);
    for says in [
        "1  desk         delivered",
        "2  desk         refused again, now number 4: ",
        "3  desk         removed by drop n = 3",
        "3 events: 1 delivered, 1 refused again, 1 removed.",
    ] {
        assert!(told.contains(says), "{says} in\n{told}");
    }
    assert!(!said.status.success(), "one is not delivered");
    let got = lines(&node.path("desk.jsonl"));
    assert_eq!((got.len(), got[0]["port"].as_str(), got[0].get("mark")), (1, Some("Lowmere"), None), "{got:?}");
    let ledger = node.balanced();
    assert_eq!((sum(&ledger, "destination", "desk", "quarantined"), sum(&ledger, "destination", "desk", "delivered")), (1, 1));

    // A step on the way, for this once: it stands before those of the destination, which cannot be left out.
    let wrong = node.client(&["resend", "4", "--do", "remov port"]);
    assert!(!wrong.status.success() && text(&wrong.stderr).contains("remov"), "{}", text(&wrong.stderr));
    let wrong = node.client(&["resend", "4", "--do", "sample 1 in 2"]);
    assert!(text(&wrong.stderr).contains("is done to each event once"), "{}", text(&wrong.stderr));
    let answer = node.client(&["--json", "resend", "4", "5", "--do", "set pass = \"p-1\"", "--do", "remove port"]);
    let answer: serde_json::Value = serde_json::from_slice(&answer.stdout).unwrap();
    assert_eq!((answer["events"].as_i64(), answer["left"][0].as_str().map(|l| l.starts_with("1 of the numbers"))), (Some(1), Some(true)), "{answer}");
    node.drained().await;
    let got = lines(&node.path("desk.jsonl"));
    assert_eq!((got.len(), got[1]["n"].as_i64(), got[1].get("port")), (2, Some(2), None), "{got:?}");
    assert_eq!(got[0]["pass"], got[1]["pass"], "hashed, each once");
    assert_eq!(sum(&node.balanced(), "destination", "desk", "quarantined"), 0);
    // Removed for good: what is refused again later has a number of its own.
    let gone = node.client(&["why", "--quarantined", "4"]);
    assert!(text(&gone.stderr).contains("quarantine has no record 4"), "{}", text(&gone.stderr));
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_says_what_cannot_be_when_full() {
    let node = Node::start().await;
    let desk = |more: &str| plan(1, 2, node.folder.path(), more);
    for (more, says) in [
        ("when_full = \"give up\"", "`give up` is nothing that can be done"),
        ("when_full = \"drop oldst\"", "did you mean `drop oldest`?"),
        ("when_full = \"spill to valt\"", "did you mean `vault`?"),
        ("when_full = \"spill to desk\"", "comes back to it"),
        ("hold_for = \"3 weeks\"", "`3 weeks` is not a time"),
        ("in_flight = 0", "a whole number of at least 1"),
    ] {
        let refused = node.client(&["check", &node.write("bad.toml", &desk(more))]);
        assert_eq!(refused.status.code(), Some(3), "{more}");
        assert!(text(&refused.stdout).contains(says), "{more}: {}", text(&refused.stdout));
    }
    let strict = desk("when_full = \"spill to vault\"").replace("kind = \"file\"", "kind = \"file\"\nalways = ['redact email']");
    let refused = node.client(&["check", &node.write("bad.toml", &strict)]);
    assert!(text(&refused.stdout).contains("has steps that it does always"), "{}", text(&refused.stdout));
    let circle = desk("when_full = \"spill to vault\"").replace("kind = \"file\"", "kind = \"file\"\nwhen_full = \"spill to desk\"");
    assert!(text(&node.client(&["check", &node.write("bad.toml", &circle)]).stdout).contains("comes back to it"));
    let good = desk("when_full = \"spill to vault\"\nhold_for = \"30 days\"\nin_flight = 1\nmax_rate = \"2 MB\"");
    assert_eq!(node.client(&["check", &node.write("good.toml", &good)]).status.code(), Some(0));
}
