//! Files that grow, are rotated and packed while the service is killed; files looked into before they are read; kits.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::PathBuf;
use std::process::Command;

use crate::harness::{Node, free_ports, lines, post, sum, text, until};

/// The tests write and move files quickly; what follows them looks four times a second.
const ROUNDS: usize = 12;
const PER_ROUND: usize = 2_000;

fn plan(node: &Node, source: &str) -> String {
    let vault = node.path("vault.jsonl");
    format!("{source}[destination.vault]\nkind = \"file\"\npath = \"{}\"\n[[route]]\nname = \"all\"\nto = [\"vault\"]\n", vault.display())
}

fn append(path: &PathBuf, numbers: std::ops::Range<usize>) {
    let text: String = numbers.map(|n| format!("2026-11-23T10:00:00Z gate open {n}\n")).collect();
    OpenOptions::new().append(true).create(true).open(path).unwrap().write_all(text.as_bytes()).unwrap();
}

fn numbers(node: &Node) -> Vec<usize> {
    lines(&node.path("vault.jsonl")).iter().filter_map(|e| e["message"].as_str()?.rsplit(' ').next()?.parse().ok()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_line_comes_once_over_rotation_and_kills() {
    let mut node = Node::start().await;
    std::fs::create_dir(node.path("logs")).unwrap();
    let at = |name: &str| node.path(&format!("logs/{name}"));
    let (log, all) = (at("gate.log"), at("*.log*"));
    append(&log, 0..PER_ROUND);
    let source = format!("[source.gates]\nkind = \"file\"\npaths = [\"{}\"]\nbegin_at = \"start\"\npath_as = \"log.file.path\"\n", all.display());
    node.apply(&plan(&node, &source));
    let gzip = |from: &PathBuf| assert!(Command::new("gzip").arg(from).status().unwrap().success());
    for round in 1..ROUNDS {
        append(&log, round * PER_ROUND..(round + 1) * PER_ROUND - PER_ROUND / 2);
        // Killed in the midst of it, and what happens to the file happens while nobody looks, or while somebody does.
        if round % 2 == 0 {
            until("it has begun", async || (numbers(&node).len() > round * PER_ROUND / 2).then_some(())).await;
            node.kill();
        }
        let old = node.path(&format!("logs/gate.log.{round}"));
        match round % 3 {
            0 => std::fs::rename(&log, &old).unwrap(),
            1 => {
                std::fs::rename(&log, &old).unwrap();
                append(&log, 0..0);
                gzip(&old);
            }
            // Copied and emptied; what is written in between would be lost by whoever does that, so nothing is.
            _ => {
                std::fs::copy(&log, &old).unwrap();
                OpenOptions::new().write(true).truncate(true).open(&log).unwrap();
            }
        }
        append(&log, (round + 1) * PER_ROUND - PER_ROUND / 2..(round + 1) * PER_ROUND);
        if round % 2 == 0 {
            node.begin().await;
        }
    }
    let expected = ROUNDS * PER_ROUND;
    until("all are there", async || (numbers(&node).len() >= expected).then_some(())).await;
    node.drained().await;
    let mut have = numbers(&node);
    have.sort_unstable();
    assert!(have.iter().copied().eq(0..expected), "{} lines of {expected}", have.len());
    let ledger = node.balanced();
    assert_eq!(sum(&ledger, "source", "gates", "received"), expected as i64);
    let shown = node.json(&["source", "show", "gates"]);
    assert!(shown["files"].as_array().unwrap().iter().all(|f| f["state"] == "current"), "{shown}");
    assert!(lines(&node.path("vault.jsonl"))[0]["log.file.path"].as_str().unwrap().ends_with("logs/gate.log"));
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_looked_into_then_read_as_shown() {
    let mut node = Node::start().await;
    let java = "2026-11-23 10:00:00,5 ERROR no berth\ncom.ferries.FullException: Lowmere\n\tat com.ferries.Booking.book(Booking.java:17)\n";
    let log: String = (0..30).map(|n| format!("2026-11-23 10:00:{n:02},123 INFO [gate-{n}] open\n{}", if n % 5 == 0 { java } else { "" })).collect();
    let path = node.write("app.log", &log);
    std::fs::write(node.path("picture.log"), b"\0\0\0").unwrap();
    let pattern = node.path("*.log");
    let looked = node.json(&["source", "look", pattern.to_str().unwrap(), "--name", "bookings"]);
    let kind = &looked["kinds"][0];
    assert_eq!((kind["path"].as_str(), &kind["recognised"]["kits"]), (Some(path.as_str()), &serde_json::json!(["trace-java", "app-text"])));
    assert!(looked["files"].as_array().unwrap().iter().any(|f| f["state"] == "binary"), "{looked}");
    let told = text(&node.client(&["source", "look", pattern.to_str().unwrap()]).stdout);
    assert!(told.contains("100% of the events have a timestamp; the first is 2026-11-23T10:00:00.123Z"), "{told}");
    // What it says is what the plan takes, and what comes.
    let source = looked["plan"].as_str().unwrap().replacen("kind = \"file\"", "kind = \"file\"\nbegin_at = \"start\"", 1);
    node.apply(&plan(&node, &format!("{source}\n")));
    let arrived = until("all events", async || Some(lines(&node.path("vault.jsonl"))).filter(|l| l.len() == 36)).await;
    let trace = arrived.iter().find(|e| e["exception.type"] == "com.ferries.FullException").unwrap();
    assert_eq!((trace["severity"].as_str(), trace["time"].as_str()), (Some("ERROR"), Some("2026-11-23T10:00:00.5Z")));
    let shown = node.json(&["source", "show", "bookings"]);
    assert!(shown["troubles"].as_array().unwrap().iter().any(|t| t["says"].as_str().unwrap().contains("picture.log: it is not text")), "{shown}");
    let tested = node.client(&["source", "test", "bookings"]);
    assert!(!tested.status.success() && text(&tested.stdout).contains("leave it out with `exclude`"), "{}", text(&tested.stdout));
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn each_kind_of_file_is_looked_into_and_what_the_service_writes_is_not_read() {
    let mut node = Node::start().await;
    let folder = node.path("logs");
    std::fs::create_dir(&folder).unwrap();
    let access = |n: usize| format!("192.0.2.7 - - [23/Nov/2026:10:00:{n:02} +0000] \"GET /berths/{n} HTTP/1.1\" 200 512\n");
    std::fs::write(folder.join("web.log"), (0..20).map(access).collect::<String>()).unwrap();
    std::fs::write(folder.join("web.log.1"), (20..40).map(access).collect::<String>()).unwrap();
    // What was rotated away is older, however quickly both were written here.
    let before = std::time::SystemTime::now() - std::time::Duration::from_secs(60);
    std::fs::File::options().write(true).open(folder.join("web.log.1")).unwrap().set_modified(before).unwrap();
    let text_line = |n: usize| format!("2026-11-23 10:00:{n:02},123 WARN [gate-{n}] open\n");
    std::fs::write(folder.join("gates.log"), (0..20).map(text_line).collect::<String>()).unwrap();
    // The service's own log, and the file of a destination, are under the pattern as well.
    let own = node.path("log");
    let pattern = folder.join("*").display().to_string();
    let said = node.client(&["source", "look", &pattern, own.to_str().unwrap(), "--name", "quay"]);
    let told = text(&said.stdout);
    for says in [
        "it is this service's own log, and is not read",
        "web.log and 1 other file: ",
        "[source.quay-access-log]",
        "[source.quay-app-text]",
        "Lines that are there already are skipped",
    ] {
        assert!(told.contains(says), "{says} in\n{told}");
    }
    let looked = node.json(&["source", "look", &pattern, own.to_str().unwrap(), &node.path("vault.jsonl").display().to_string(), "--name", "quay"]);
    let sources = looked["plan"].as_str().unwrap().replace("kind = \"file\"", "kind = \"file\"\nbegin_at = \"start\"");
    let written = plan(&node, &format!("{sources}\n"));
    let asked = node.http.post(node.url("/api/v1/plan/check")).bearer_auth(node.token()).json(&serde_json::json!({ "text": written }));
    let checked: serde_json::Value = asked.send().await.unwrap().json().await.unwrap();
    let warnings: Vec<&str> = checked["warnings"].as_array().unwrap().iter().filter_map(|w| w["message"].as_str()).collect();
    for path in [own.display().to_string(), node.path("vault.jsonl").display().to_string()] {
        assert!(warnings.iter().any(|w| w.contains(&path) && w.contains("it would feed on itself")), "{path} in {warnings:?}");
    }
    // Without its own output it is read, each file by the source of its kind.
    let patterns = format!(", \"{}\"", node.path("vault.jsonl").display());
    node.apply(&written.replace(&patterns, ""));
    let arrived = until("all lines", async || Some(lines(&node.path("vault.jsonl"))).filter(|l| l.len() >= 60)).await;
    assert_eq!(arrived.len(), 60);
    assert_eq!(arrived.iter().filter(|e| e["severity"] == "WARN").count(), 20);
    assert_eq!(arrived.iter().filter(|e| e["http.response.status_code"] == 200 || e["status"] == 200).count(), 40, "{:?}", arrived[0]);
    let shown = node.json(&["source", "show", "quay-access-log"]);
    assert!(shown["troubles"].to_string().contains("own log"), "{shown}");
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn kits_are_shown_tried_and_added() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(&node, &format!("[source.web]\nkind = \"http\"\nlisten = \"127.0.0.1:{port}\"\n")));
    let kits = node.json(&["kit", "list"]);
    for kit in kits.as_array().unwrap().iter().map(|k| k["name"].as_str().unwrap()) {
        assert!(node.json(&["kit", "try", kit])["wrong"].as_array().unwrap().is_empty(), "{kit}");
    }
    assert!(text(&node.client(&["kit", "show", "access-log"]).stdout).contains("goes on   {"));
    // With its table, to the active plan; not twice.
    node.json(&["kit", "add", "firewall", "--yes"]);
    let again = node.client(&["kit", "add", "firewall", "--yes"]);
    assert_eq!(again.status.code(), Some(3), "{}", text(&again.stderr));
    let running = node.get("/api/v1/plan").await["text"].as_str().unwrap().to_owned();
    node.apply(&running.replacen("\n[destination", "\non_arrival = ['use firewall']\n[destination", 1));
    assert_eq!(post(&node.http, port, "action=Permit src=192.0.2.7 dst=198.51.100.1\nact=DROP src=192.0.2.8 dst=198.51.100.1\n").await.status(), 200);
    let arrived = until("both", async || Some(lines(&node.path("vault.jsonl"))).filter(|l| l.len() == 2)).await;
    assert_eq!([&arrived[0]["verdict"], &arrived[1]["verdict"]], ["allowed", "blocked"]);
    // One's own, and a file's plan.
    let own = node.write("berths.toml", "says = 'Berths'\nsteps = ['parse message as csv(berth, port)']\nfits = 'berth exists'\n[[example]]\nlines = ['B4,Lowmere']\ngives = { port = 'Lowmere' }\n");
    assert!(node.json(&["kit", "try", &own])["wrong"].as_array().unwrap().is_empty());
    let file = node.write("other.toml", "# of its own\n");
    node.json(&["kit", "add", &own, "--plan", &file, "--yes"]);
    assert!(std::fs::read_to_string(&file).unwrap().starts_with("# of its own\n\n# Berths.\n[recipe.berths]"));
    let wrong = node.write("wrong.toml", "says = 'x'\nsteps = ['drop true']\nfits = 'true'\n[[example]]\nlines = ['a']\ngives = {}\n");
    assert!(text(&node.client(&["kit", "try", &wrong]).stderr).contains("0 events come of it"));
    node.stop().await;
}
