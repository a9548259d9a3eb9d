//! A disk that is full: nothing is acknowledged that is not kept, and all is well again when there is room.

use std::process::{Command, Stdio};

use crate::harness::{Node, Running, binary, free_ports, lines, post, sum, until};

fn plan(source: u16, folder: &std::path::Path) -> String {
    format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.vault]\nkind = \"file\"\npath = \"{}/vault.jsonl\"\n[[route]]\nname = \"all\"\nto = [\"vault\"]\n",
        folder.display()
    )
}

/// About 200 KB that do not pack well.
fn body(number: usize) -> String {
    let mut seed = number as u64 + 1;
    let mut noise = || {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        seed
    };
    (0..2_000).map(|i| format!("{{\"n\":{},\"noise\":\"{:016x}{:016x}{:016x}\"}}\n", number * 2_000 + i, noise(), noise(), noise())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_refuses_and_recovers() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, node.folder.path()));
    node.stop().await;

    // The same service with a bound on the size of every file it writes: a write beyond it fails as on a full disk.
    let listen = format!("127.0.0.1:{}", node.port);
    let script = format!("trap '' XFSZ; ulimit -f 3000; exec '{}' serve --data '{}' --listen {listen}", binary().display(), node.path("data").display());
    let log = std::fs::File::create(node.path("full.log")).unwrap();
    let bounded = Command::new("bash").args(["-c", &script]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(log).spawn().unwrap();
    let bounded = Running(bounded);
    until("the bounded service is ready", async || node.http.get(node.url("/readyz")).send().await.is_ok_and(|r| r.status().is_success()).then_some(())).await;
    let mut acknowledged = 0;
    let problem = loop {
        let answer = post(&node.http, source, body(acknowledged)).await;
        if answer.status() != 200 {
            break answer;
        }
        acknowledged += 1;
        assert!(acknowledged < 200, "the disk fills");
    };
    assert_eq!(problem.status(), 503);
    assert!(problem.headers().contains_key("retry-after"));
    let problem: serde_json::Value = problem.json().await.unwrap();
    assert!(problem["type"].as_str().unwrap().ends_with("not-durable"), "{problem}");
    // It goes on answering, and still refuses what it cannot keep.
    assert_eq!(node.http.get(node.url("/healthz")).send().await.unwrap().status(), 200);
    let again = post(&node.http, source, body(acknowledged)).await.status().as_u16();
    assert!(again == 503 || again == 200, "{again}");
    if again == 200 {
        acknowledged += 1;
    }
    drop(bounded);

    // With room again, everything that was acknowledged arrives, once.
    node.begin().await;
    node.drained().await;
    let got = lines(&node.path("vault.jsonl"));
    assert_eq!(got.len(), acknowledged * 2_000);
    assert!(got.iter().enumerate().all(|(i, e)| e["n"] == i));
    assert_eq!(sum(&node.balanced(), "source", "in", "received") as usize, acknowledged * 2_000);
    assert_eq!(post(&node.http, source, body(acknowledged)).await.status(), 200);
    node.drained().await;
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_damaged_or_foreign_data_folder_is_refused_with_the_reason() {
    let mut node = Node::start().await;
    node.stop().await;
    let start = |what: &str| {
        let output = Command::new(binary()).args(["serve", "--listen", "127.0.0.1:0", "--data", node.path("data").to_str().unwrap()]).output().unwrap();
        assert_eq!(output.status.code(), Some(1), "{what}");
        crate::harness::text(&output.stderr)
    };
    let open_to = |mode| std::fs::set_permissions(node.path("data"), <std::fs::Permissions as std::os::unix::fs::PermissionsExt>::from_mode(mode)).unwrap();
    open_to(0o750);
    let told = start("a folder open to a group");
    assert!(told.contains("(mode 750)") && told.contains("run: chmod 700 "), "{told}");
    open_to(0o700);
    let key = node.path("data/records.key");
    let kept = std::fs::read(&key).unwrap();
    std::fs::write(&key, b"short").unwrap();
    assert!(start("a short key").contains("does not hold 32 bytes"));
    std::fs::remove_file(&key).unwrap();
    assert!(start("no key").contains("is missing; the kept secrets cannot be opened without it"));
    std::fs::write(&key, &kept).unwrap();
    assert!(start("a key for all to read").contains("can be read by others"));
    std::fs::set_permissions(&key, <std::fs::Permissions as std::os::unix::fs::PermissionsExt>::from_mode(0o600)).unwrap();
    let spool = node.path("data/spool.db");
    let whole = std::fs::read(&spool).unwrap();
    for file in ["data/spool.db-wal", "data/spool.db-shm"] {
        let _ = std::fs::remove_file(node.path(file));
    }
    std::fs::write(&spool, vec![7; 100_000]).unwrap();
    assert!(start("a damaged spool").contains("the spool cannot be written or read"));
    std::fs::write(&spool, whole).unwrap();
    node.begin().await;
    node.stop().await;
}
