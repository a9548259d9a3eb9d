//! What else can go wrong with a machine: a disk that cannot be written, a clock that is set, a name that is not known. Each has an outcome that can be seen, and nothing is lost.

use std::process::{Command, Stdio};

use crate::harness::{Node, binary, free_ports, lines, post, spawn, sum, text, until};

fn plan(source: u16, destination: &str, steps: &str) -> String {
    format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.out]\n{destination}\n[[route]]\nname = \"all\"\ndo = [{steps}]\nto = [\"out\"]\n"
    )
}

fn body(range: std::ops::Range<usize>) -> String {
    range.map(|n| format!("{{\"n\":{n},\"gate\":\"Lowmere\"}}\n")).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_is_not_known_is_said_and_waited_for() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    for kind in [
        "kind = \"http\"\nendpoints = [\"http://quay.invalid/in\"]",
        "kind = \"otlp\"\ntransport = \"grpc\"\nendpoints = [\"http://quay.invalid:4317\"]",
        "kind = \"syslog\"\naddress = \"tcp://quay.invalid:6514\"",
        "kind = \"archive\"\nstore = \"s3://vault\"\nendpoint = \"http://quay.invalid\"\nobject_every = \"100 ms\"",
    ] {
        node.apply(&plan(source, kind, ""));
        assert_eq!(post(&node.http, source, body(0..5)).await.status(), 200);
        let failing = async || {
            let shown = node.json(&["destination", "show", "out"]);
            let error = shown["health"]["last_error"].as_str().unwrap_or_default().to_owned();
            (shown["health"]["state"] == "failing" && (error.contains("lookup") || error.contains("not known") || error.contains("dns"))).then_some(error)
        };
        until(kind, failing).await;
        // The test of a destination stops at the step that fails, and says so.
        let tested = node.client(&["destination", "test", "out"]);
        assert!(!tested.status.success());
        assert!(text(&tested.stdout).contains("resolve") && !text(&tested.stdout).contains("accept"), "{kind}: {}", text(&tested.stdout));
    }
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_destination_that_leaves_the_plan_drains_or_is_kept_as_asked() {
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    let to = |more: &str| format!("kind = \"http\"\nendpoints = [\"http://127.0.0.1:{port}/in\"]\n{more}");
    let elsewhere = plan(source, "kind = \"discard\"", "").replace("destination.out", "destination.elsewhere").replace("\"out\"", "\"elsewhere\"");
    let waits = async |node: &Node| node.get("/api/v1/status").await["waiting_events"].as_i64().unwrap();
    // Nobody is there when it leaves.
    node.apply(&plan(source, &to(""), ""));
    assert_eq!(post(&node.http, source, body(0..30)).await.status(), 200);
    node.apply(&elsewhere);
    let kept = node.path("out.jsonl");
    let stand_in = |node: &Node| spawn(&["standin", "--listen", &format!("127.0.0.1:{port}"), "--into", kept.to_str().unwrap()], &node.path("standin.log"));
    let there = stand_in(&node);
    node.kill();
    node.begin().await;
    assert_eq!(waits(&node).await, 30, "kept until it is purged or back");
    assert!(lines(&kept).is_empty());
    // Back, and away again with the wish to drain, over a kill.
    drop(there);
    node.apply(&plan(source, &to("when_removed = \"drain\""), ""));
    assert_eq!(post(&node.http, source, body(30..600)).await.status(), 200);
    node.apply(&elsewhere);
    assert_eq!(waits(&node).await, 600);
    node.kill();
    node.begin().await;
    let _there = stand_in(&node);
    node.drained().await;
    let mut numbers: Vec<u64> = lines(&kept).iter().map(|e| e["n"].as_u64().unwrap()).collect();
    numbers.sort_unstable();
    numbers.dedup();
    assert_eq!(numbers, (0..600).collect::<Vec<u64>>());
    node.balanced();
    node.stop().await;
}

/// The service in a place of its own where `folder` cannot be written.
fn read_only(folder: &std::path::Path, rest: &str) -> Command {
    let mut command = Command::new("unshare");
    let script = format!("mount --bind {0} {0} && mount -o remount,bind,ro {0} && exec {rest}", folder.display());
    command.args(["--map-root-user", "--mount", "sh", "-c", &script]).stdin(Stdio::null());
    command
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_cannot_be_written_is_said_and_waited_for() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let vault = node.path("vault");
    std::fs::create_dir_all(&vault).unwrap();
    let file = vault.join("out.jsonl");
    node.apply(&plan(source, &format!("kind = \"file\"\npath = \"{}\"", file.display()), ""));
    node.stop().await;
    if !read_only(&vault, "true").status().is_ok_and(|s| s.success()) {
        // Some containers forbid it; nothing else makes a disk that root cannot write to.
        eprintln!("not tested: this system does not let a process have mounts of its own");
        return;
    }
    // Its data on it: it does not start, and says why.
    let data = node.path("data");
    let serve = format!("{} serve --data {} --listen 127.0.0.1:{}", binary().display(), data.display(), node.port);
    let output = read_only(&data, &serve).output().unwrap();
    assert!(!output.status.success());
    assert!(text(&output.stderr).to_lowercase().contains("read-only"), "{}", text(&output.stderr));
    // A destination on it: events wait, and it says why.
    let log = std::fs::File::create(node.path("read-only.log")).unwrap();
    let mut running = crate::harness::Running(read_only(&vault, &serve).stdout(log.try_clone().unwrap()).stderr(log).spawn().unwrap());
    until("it is ready", async || node.http.get(node.url("/readyz")).send().await.is_ok_and(|r| r.status().is_success()).then_some(())).await;
    assert_eq!(post(&node.http, source, body(0..10)).await.status(), 200);
    let said = async || node.json(&["destination", "show", "out"])["health"]["last_error"].as_str().filter(|e| e.contains("Read-only")).map(str::to_owned);
    until("it says why", said).await;
    running.signal("TERM");
    until("it ends", async || running.0.try_wait().unwrap()).await;
    node.begin().await;
    node.drained().await;
    assert_eq!(lines(&file).len(), 10);
    node.balanced();
    node.stop().await;
}

/// The library by which a process sees another clock than the machine's.
fn faketime() -> Option<std::path::PathBuf> {
    let folders = ["/usr/lib/x86_64-linux-gnu/faketime", "/usr/lib/aarch64-linux-gnu/faketime", "/usr/lib/faketime"];
    folders.iter().map(|f| std::path::Path::new(f).join("libfaketimeMT.so.1")).find(|p| p.exists())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clock_that_is_set_far_loses_nothing_and_holds_nothing_back() {
    let library = faketime().expect("install Debian's package faketime");
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    let to = format!("kind = \"http\"\nendpoints = [\"http://127.0.0.1:{port}/in\"]\nhold_for = \"1 hour\"");
    node.apply(&plan(source, &to, "'merge repeats within 1 hour by gate when n >= 1000'"));
    node.stop().await;
    let offset = node.path("offset");
    std::fs::write(&offset, "+0").unwrap();
    let log = std::fs::File::create(node.path("clock.log")).unwrap();
    let mut running = crate::harness::Running(
        Command::new(binary())
            .args(["serve", "--data", node.path("data").to_str().unwrap(), "--listen", &format!("127.0.0.1:{}", node.port)])
            .env("LD_PRELOAD", library)
            .env("FAKETIME_TIMESTAMP_FILE", &offset)
            .env("FAKETIME_NO_CACHE", "1")
            .env("FAKETIME_DONT_FAKE_MONOTONIC", "1")
            .stdin(Stdio::null())
            .stdout(log.try_clone().unwrap())
            .stderr(log)
            .spawn()
            .unwrap(),
    );
    until("it is ready", async || node.http.get(node.url("/readyz")).send().await.is_ok_and(|r| r.status().is_success()).then_some(())).await;
    let set = |by: &str| std::fs::write(&offset, by).unwrap();
    let held =
        async || node.balanced()["rows"].as_array().unwrap().iter().filter(|r| r["measure"] == "held").map(|r| r["events"].as_i64().unwrap()).sum::<i64>();
    let mut sent = 0;
    // Nobody is there to deliver to, while the clock goes forward a year, back to where it was, and back ten days.
    for by in ["+0", "+365d", "+0", "-10d"] {
        set(by);
        assert_eq!(post(&node.http, source, body(sent..sent + 20)).await.status(), 200);
        sent += 20;
        assert_eq!(post(&node.http, source, "{\"n\":1000,\"gate\":\"Tansy Quay\"}").await.status(), 200);
        if by != "+0" {
            // What a window was to hold for an hour by the clock before does not wait for that.
            until("the clock's setting is noticed", async || text(&std::fs::read(node.path("clock.log")).unwrap()).contains("the clock was set").then_some(()))
                .await;
        }
    }
    set("+0");
    until("no window waits for another time", async || (held().await == 0).then_some(())).await;
    // Longer than ages are looked at: nothing was let go as too old, though by the clock it was.
    let _stand_in =
        spawn(&["standin", "--listen", &format!("127.0.0.1:{port}"), "--into", node.path("out.jsonl").to_str().unwrap()], &node.path("standin.log"));
    node.drained().await;
    let numbers: Vec<u64> = lines(&node.path("out.jsonl")).iter().map(|e| e["n"].as_u64().unwrap()).filter(|n| *n < 1_000).collect();
    assert_eq!(numbers.len(), sent);
    assert_eq!(sum(&node.balanced(), "destination", "out", "discarded"), 0);
    running.signal("TERM");
    until("it ends", async || running.0.try_wait().unwrap()).await;
}
