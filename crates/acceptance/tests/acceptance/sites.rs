//! Two sites that forward to each other: everything comes to both once, and nothing goes round.

use crate::harness::{Node, free_ports, lines, post, sum};

fn plan(source: u16, other: u16, forward: &str, folder: &std::path::Path) -> String {
    format!(
        r#"
[source.in]
kind = "http"
listen = "127.0.0.1:{source}"
[destination.other-site]
kind = "http"
endpoints = ["http://127.0.0.1:{other}/in"]
forward = "{forward}"
[destination.vault]
kind = "file"
path = "{}/vault.jsonl"
[[route]]
name = "all"
to = ["other-site", "vault"]
"#,
        folder.display()
    )
}

fn numbers(node: &Node) -> Vec<u64> {
    let mut all: Vec<u64> = lines(&node.path("vault.jsonl")).iter().map(|e| e["n"].as_u64().unwrap()).collect();
    all.sort_unstable();
    all
}

fn body(range: std::ops::Range<usize>) -> String {
    range.map(|n| format!("{{\"n\":{n}}}\n")).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn everything_comes_to_both_once() {
    let [quay, bay] = free_ports();
    let (mut a, mut b) = (Node::start().await, Node::start().await);
    let name = async |node: &Node| node.get("/api/v1/status").await["node"].as_str().unwrap().to_owned();
    let (of_a, of_b) = (name(&a).await, name(&b).await);
    assert_ne!(of_a, of_b);
    // One knows the other's name, the other does not.
    a.apply(&plan(quay, bay, &of_b, a.folder.path()));
    b.apply(&plan(bay, quay, "unknown", b.folder.path()));
    assert_eq!(post(&a.http, quay, body(0..500)).await.status(), 200);
    assert_eq!(post(&b.http, bay, body(500..1_000)).await.status(), 200);
    for _ in 0..3 {
        a.drained().await;
        b.drained().await;
    }
    assert_eq!(numbers(&a), (0..1_000).collect::<Vec<_>>());
    assert_eq!(numbers(&b), (0..1_000).collect::<Vec<_>>());
    let (at_a, at_b) = (a.balanced(), b.balanced());
    // A sends nothing back to B, whose name it knows; what B sends back to A stops there.
    assert_eq!(sum(&at_a, "destination", "other-site", "removed"), 500);
    assert_eq!((sum(&at_b, "destination", "other-site", "removed"), sum(&at_b, "destination", "other-site", "delivered")), (0, 1_000));
    assert_eq!((sum(&at_a, "source", "in", "received"), sum(&at_a, "source", "in", "removed")), (1_500, 500));
    assert_eq!((sum(&at_b, "source", "in", "received"), sum(&at_b, "source", "in", "removed")), (1_000, 0));
    let came_from_a = lines(&b.path("vault.jsonl")).into_iter().find(|e| e["n"] == 7).unwrap();
    assert_eq!(came_from_a["rockrose.passed"], of_a.as_str(), "what came over says where it has been");
    assert!(lines(&a.path("vault.jsonl")).iter().find(|e| e["n"] == 7).unwrap().get("rockrose.passed").is_none(), "what stays is not marked");
    // The name outlives the process.
    a.kill();
    a.begin().await;
    assert_eq!(name(&a).await, of_a);
    a.stop().await;
    b.stop().await;
}
