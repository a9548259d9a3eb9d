//! The demo: it starts with one command, says where to look, and stops when asked.

use crate::harness::{Node, free_ports, http, lines, spawn, text, until};

#[test]
fn a_port_that_is_taken_is_told_with_what_helps() {
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    let [console, a, b, c, d, e] = free_ports();
    let held = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let taken = held.local_addr().unwrap().port();
    let demo = |listen: u16, ports: &str| {
        let data = folder.path().join("data").display().to_string();
        let done = std::process::Command::new(crate::harness::binary())
            .args(["demo", "--data", &data, "--listen", &format!("127.0.0.1:{listen}"), "--ports", ports])
            .output()
            .unwrap();
        assert!(!done.status.success());
        text(&done.stderr)
    };
    let said = demo(console, &format!("{a},{b},{taken},{c},{d},{e}"));
    assert!(said.contains(&format!("port {taken} is taken; pass --free-ports")), "{said}");
    let said = demo(taken, &format!("{a},{b},{c},{d},{e},{console}"));
    assert!(said.contains("pass another address for the console"), "{said}");
}

#[tokio::test(flavor = "multi_thread")]
async fn starts_shows_and_stops() {
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    let data = folder.path().join("data");
    let out = folder.path().join("out");
    let [port] = free_ports();
    let mut running = spawn(&["demo", "--data", data.to_str().unwrap(), "--listen", &format!("127.0.0.1:{port}"), "--free-ports", "--rate", "400"], &out);
    let said = until("it says where to look", async || std::fs::read_to_string(&out).ok().filter(|s| s.contains("Ctrl-C stops."))).await;
    assert!(said.contains(&format!("http://127.0.0.1:{port}/sign-in?code=")), "{said}");
    assert_eq!(said.matches("client.toml").count(), 3, "three commands to try: {said}");
    let config = data.join("client.toml");
    let client = |args: &[&str]| {
        let done = std::process::Command::new(crate::harness::binary()).args(["--config", config.to_str().unwrap()]).args(args).output().unwrap();
        assert!(done.status.success(), "{args:?}: {}", text(&done.stderr));
        text(&done.stdout)
    };
    let ledger = until("every step did something", async || {
        let ledger = client(&["ledger"]);
        let all =
            ["drop path starts with", "parse message as", "redact email as hash", "sample 1 in 5", "remove debug.*", "redact passenger.name", "remainder"];
        (all.iter().all(|step| ledger.contains(step)) && lines_of(&data, "desk") > 20 && lines_of(&data, "accounts") > 20).then_some(ledger)
    })
    .await;
    assert!(ledger.contains("balanced: all"), "{ledger}");
    assert!(client(&["status"]).contains("boarding-trouble"));
    until("the four hosts are managed", async || (client(&["agent", "list"]).matches("it runs its plan").count() == 4).then_some(())).await;
    running.signal("INT");
    let status = until("it stops", async || running.0.try_wait().unwrap()).await;
    assert!(status.success(), "{}", std::fs::read_to_string(&out).unwrap());
    // What must never leave has not left.
    for place in ["desk", "accounts", "vault"] {
        let folder = if place == "vault" { data.join("files") } else { data.clone() };
        for event in lines(&folder.join(format!("{place}.jsonl"))) {
            let event = event.to_string();
            // Enough of each made-up card to tell it from the digits of a hash or a trace id.
            for card in ["4111 1111", "5500-0000", "3400000000", "4012888888"] {
                assert!(!event.contains(card), "{place}: {event}");
            }
            assert!(place == "vault" || !event.contains("@post.example"), "{place}: {event}");
        }
    }
    assert!(http().get(format!("http://127.0.0.1:{port}/healthz")).send().await.is_err());
}

fn lines_of(data: &std::path::Path, place: &str) -> usize {
    std::fs::read(data.join(format!("{place}.jsonl"))).map_or(0, |b| b.iter().filter(|b| **b == b'\n').count())
}

#[tokio::test(flavor = "multi_thread")]
async fn its_plan_is_good_and_without_warnings() {
    let mut node = Node::start().await;
    let plan = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/plan.toml");
    let said = node.json(&["check", plan.to_str().unwrap()]);
    assert_eq!((said["good"].as_bool(), said["warnings"].as_array().unwrap().len()), (Some(true), 0));
    node.stop().await;
}
