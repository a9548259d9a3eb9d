//! Every client command, as it is typed.

use std::process::{Command, Stdio};

use serde_json::Value;

use crate::harness::{Node, binary, free_ports, post, spawn, text, until};

fn plan(source: u16, folder: &std::path::Path, step: &str) -> String {
    format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.vault]\nkind = \"file\"\npath = \"{}/vault.jsonl\"\n[[route]]\nname = \"warnings\"\nwhen = 'severity >= warn'\ndo = ['{step}']\nto = [\"vault\"]\n",
        folder.display()
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_working_day() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    assert!(text(&node.client(&["status"]).stdout).contains("The plan is empty"));
    assert!(text(&node.client(&["revisions"]).stdout).contains("No plan has been applied yet"));

    let path = node.write("plan.toml", &plan(source, node.folder.path(), "tag kept = true"));
    assert!(text(&node.client(&["check", &path]).stdout).contains("good (1 source, 1 route, 1 destination)"));
    // There is nobody to ask.
    assert_eq!(node.client(&["apply", &path]).status.code(), Some(7));
    let applied = node.client(&["apply", &path, "--yes", "--why", "first try"]);
    let said = text(&applied.stdout);
    assert!(said.contains("+[source.in]") && said.contains("added    route warnings") && said.contains("Revision 1 is active."), "{said}");
    assert!(text(&node.client(&["apply", &path, "--yes"]).stdout).contains("already has this plan"));

    let events = node.write("events.jsonl", "{\"level\":\"warn\",\"n\":1}\n{\"level\":\"info\",\"n\":2}\n{broken\nplain text\n{\"level\":\"error\",\"n\":3}");
    let sent = node.json(&["send", &events, "--source", "in", "--gzip"]);
    assert_eq!((sent["received"].as_u64(), sent["read"].as_u64(), sent["quarantined"].as_u64()), (Some(5), Some(4), Some(1)));
    let unknown = node.client(&["send", &events, "--source", "nope"]);
    assert!(!unknown.status.success() && text(&unknown.stderr).contains("it has: in"));
    node.drained().await;
    assert!(text(&node.client(&["quarantine"]).stdout).contains("{broken"));

    let ledger = text(&node.client(&["ledger"]).stdout);
    for line in [
        "source in",
        "received",
        "unreadable, in quarantine",
        "= passed on",
        "remainder, taken by none",
        "route warnings",
        "tag kept = true",
        "= out",
        "destination vault",
        "delivered",
        "balanced: all",
    ] {
        assert!(ledger.contains(line), "{line} in {ledger}");
    }
    assert!(!ledger.contains('\x1b'), "no colour when it is piped");
    assert_eq!(node.json(&["ledger", "--minutes", "5"])["balanced"], true);
    until("the meter has looked", async || text(&node.client(&["status"]).stdout).contains("2  tag kept = true").then_some(())).await;

    let second = node.write("plan.toml", &plan(source, node.folder.path(), "tag kept = false"));
    let said = text(&node.client(&["apply", &second, "--yes"]).stdout);
    assert!(said.contains("-do = ['tag kept = true']") && said.contains("changed  route warnings"), "{said}");
    assert!(text(&node.client(&["revert", "1", "--yes"]).stdout).contains("Revision 3 is active; it restores revision 1."));
    let revisions = node.json(&["revisions"]);
    assert_eq!(revisions.as_array().unwrap().len(), 3);
    assert_eq!((revisions[0]["running"].as_bool(), revisions[2]["why"].as_str()), (Some(true), Some("first try")));
    assert!(text(&node.client(&["revisions", "2"]).stdout).contains("tag kept = false"));
    assert!(node.client(&["revisions", "9"]).status.code() == Some(1));

    assert!(text(&node.client(&["secret", "list"]).stdout).contains("No secret"));
    assert!(text(&node.client(&["link"]).stdout).starts_with("http://127.0.0.1:"));
    node.stop().await;
    let gone = node.client(&["status"]);
    assert_eq!(gone.status.code(), Some(4));
    assert!(text(&gone.stderr).contains("cannot reach the service"));
}

#[tokio::test(flavor = "multi_thread")]
async fn tail_shows_both_sides_of_every_point() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, node.folder.path(), "drop n = 2"));
    let config = node.path("data/client.toml");
    let look = |args: &[&str], out: &str| {
        let file = node.path(out);
        let all = [&["--config", config.to_str().unwrap(), "tail"][..], args].concat();
        (spawn(&all, &file), file)
    };
    let looking = [
        look(&["source:in", "--most", "3", "--json"], "a"),
        look(&["route:warnings", "--side", "both", "--most", "2"], "b"),
        look(&["destination:vault", "--when", "n > 2", "--most", "1"], "c"),
        look(&["remainder", "--most", "1"], "d"),
    ];
    let mut seen = [const { None }; 4];
    // Viewers take a moment to be there, so events are sent until each has seen enough.
    until("all have seen enough", async || {
        crate::harness::post(
            &node.http,
            source,
            "{\"level\":\"warn\",\"n\":2}\n{\"level\":\"warn\",\"n\":3,\"big\":12345678901234567890}\n{\"level\":\"info\",\"n\":4}\n",
        )
        .await;
        for (i, (running, file)) in looking.iter().enumerate() {
            let ended = !std::path::Path::new(&format!("/proc/{}/fd/0", running.0.id())).exists();
            if ended {
                seen[i] = Some(std::fs::read_to_string(file).unwrap());
            }
        }
        seen.iter().all(Option::is_some).then_some(())
    })
    .await;
    let [a, b, c, d] = seen.map(Option::unwrap);
    assert!(a.lines().all(|l| serde_json::from_str::<Value>(l).is_ok_and(|v| v["before"].is_object())), "{a}");
    assert!(b.contains("removed") && b.contains("drop n = 2") && b.contains("as it came") && b.contains("12345678901234567890"), "{b}");
    assert!(c.contains("\"n\":3") && c.lines().count() == 1, "{c}");
    assert!(d.contains("\"n\":4"), "{d}");
    let wrong = node.client(&["tail", "route:warnings", "--when", "n >"]);
    assert!(!wrong.status.success() && text(&wrong.stderr).contains("column 4"), "{}", text(&wrong.stderr));
    assert_eq!(node.client(&["tail", "nowhere"]).status.code(), Some(1));
    node.stop().await;
}

#[test]
fn what_needs_no_service() {
    let run = |args: &[&str]| Command::new(binary()).args(args).env_clear().env("HOME", "/nonexistent").stdin(Stdio::null()).output().unwrap();
    let schema: Value = serde_json::from_slice(&run(&["schema"]).stdout).unwrap();
    assert!(schema["properties"]["source"].is_object());
    for shell in ["bash", "zsh", "fish"] {
        assert!(text(&run(&["completions", shell]).stdout).contains("rockrose"), "{shell}");
    }
    assert!(text(&run(&["--help"]).stdout).contains("Exit codes"));
    assert_eq!(run(&["no-such-command"]).status.code(), Some(2));
    assert_eq!(run(&["check", "/nonexistent/plan.toml"]).status.code(), Some(1));
    assert_eq!(run(&["--address", "127.0.0.1:1", "status"]).status.code(), Some(4));
}

/// Whatever comes, a terminal only shows it.
#[tokio::test(flavor = "multi_thread")]
async fn nothing_that_comes_makes_the_operators_terminal_act() {
    const ACTS: &str = "{broken \u{1b}]0;owned\u{7}\u{9b}2J\u{202e}evil";
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, node.folder.path(), "tag kept = true"));
    assert_eq!(post(&node.http, source, format!("{ACTS}\n")).await.status(), 200);
    let file = node.write("odd.log", &format!("2026-11-23 10:00:00 {}\n", &ACTS[1..]));
    for command in [
        &["quarantine"][..],
        &["--json", "quarantine"],
        &["why", "--source", "in", &ACTS[1..]],
        &["source", "look", &file],
        &["explain", ACTS],
        &["source", "show", "in"],
    ] {
        let output = node.client(command);
        for said in [text(&output.stdout), text(&output.stderr)] {
            let acts = |c: char| c.is_control() && !matches!(c, '\n' | '\t') || c == '\u{202e}';
            assert!(!said.contains(acts), "{command:?}: {said:?}");
        }
    }
    let kept: serde_json::Value = serde_json::from_slice(&node.client(&["--json", "quarantine"]).stdout).unwrap();
    assert_eq!(kept[0]["data"], ACTS, "a program gets it as it came");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_service_cannot_have_the_same_folder() {
    let mut node = Node::start().await;
    let output = Command::new(binary()).args(["serve", "--listen", "127.0.0.1:0", "--data", node.path("data").to_str().unwrap()]).output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    assert!(text(&output.stderr).contains("another service uses"), "{}", text(&output.stderr));
    let wrong = node.client(&["--token", "guess", "status"]);
    assert_eq!(wrong.status.code(), Some(5));
    // A restart keeps the client's token; a lost settings file is made anew, with a token that opens.
    let token = node.token();
    node.kill();
    node.begin().await;
    assert_eq!(node.token(), token);
    node.stop().await;
    std::fs::remove_file(node.path("data/client.toml")).unwrap();
    node.begin().await;
    assert_ne!(node.token(), token);
    assert!(node.client(&["status"]).status.success());
    assert_eq!(node.client(&["--token", &token, "status"]).status.code(), Some(5), "the lost one is worth nothing");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(node.path("data/client.toml")).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    node.stop().await;
}
