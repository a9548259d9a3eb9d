//! Steps that hold events back, look things up and count: through kills, plan changes and file changes.

use std::time::Duration;

use crate::harness::{Node, free_ports, lines, post, sum, until};

fn plan(source: u16, folder: &std::path::Path, merge: &str) -> String {
    let folder = folder.display();
    format!(
        r#"
[source.in]
kind = "http"
listen = "127.0.0.1:{source}"
[destination.vault]
kind = "file"
path = "{folder}/vault.jsonl"
[table.ports]
kind = "csv"
path = "{folder}/ports.csv"
key = "code"
[[route]]
name = "all"
do = ['look up at in ports as port', 'count as gate_events by gate', 'measure ms as gate_time', {merge}]
to = ["vault"]
"#
    )
}

const MERGE: &str = "'merge repeats within 2 hours by gate'";

/// Forty events of four gates.
fn body(batch: usize) -> String {
    (0..40).map(|i| format!("{{\"gate\":\"g{}\",\"at\":\"TQ\",\"ms\":{},\"n\":{}}}\n", i % 4, i + 1, batch * 40 + i)).collect()
}

/// What the vault's lines stand for: merged ones for all they took in.
fn stands_for(node: &Node) -> u64 {
    lines(&node.path("vault.jsonl")).iter().map(|e| e["merged.count"].as_u64().unwrap_or(1)).sum()
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_held_back_survives_kills_and_goes_on_when_the_plan_changes_or_the_service_stops() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.write("ports.csv", "code,port\nTQ,Tansy Quay\n");
    node.apply(&plan(source, node.folder.path(), MERGE));
    let mut acknowledged = 0;
    for round in 0..6 {
        for batch in 0..5 {
            if post(&node.http, source, body(round * 5 + batch)).await.status() == 200 {
                acknowledged += 40;
            }
        }
        // One more is under way when the process dies: it is kept or it is not, whole.
        let (http, late) = (node.http.clone(), body(1_000 + round));
        let sending = tokio::spawn(async move { http.post(format!("http://127.0.0.1:{source}/in")).body(late).send().await.is_ok_and(|r| r.status() == 200) });
        tokio::time::sleep(Duration::from_millis(round as u64)).await;
        node.kill();
        if sending.await.unwrap() {
            acknowledged += 40;
        }
        node.begin().await;
    }
    assert_eq!(acknowledged % 40, 0);
    let ledger = node.balanced();
    let received = sum(&ledger, "source", "in", "received") as u64;
    assert!(received >= acknowledged && received <= acknowledged + 6 * 40, "{received} kept of {acknowledged} acknowledged");
    assert_eq!(sum(&ledger, "route", "all", "held"), 4, "a window for each gate");
    assert_eq!(stands_for(&node), 0, "all of it is held back");

    // Another plan lets go what the one before held.
    node.apply(&plan(source, node.folder.path(), "'tag second = true', 'merge repeats within 1 hour by n'"));
    node.drained().await;
    let merged = lines(&node.path("vault.jsonl"));
    assert_eq!(merged.len(), 4);
    assert_eq!(stands_for(&node), received);
    assert!(merged.iter().all(|e| e["port"] == "Tansy Quay" && e["merged.first"].is_string() && e.get("second").is_none()), "{merged:?}");
    assert_eq!(sum(&node.balanced(), "route", "all", "held"), 0);

    // So does a service that stops.
    assert_eq!(post(&node.http, source, body(7)).await.status(), 200);
    assert_eq!(sum(&node.balanced(), "route", "all", "held"), 40);
    node.stop().await;
    node.begin().await;
    node.drained().await;
    assert_eq!(stands_for(&node), received + 40);
    assert_eq!(sum(&node.balanced(), "route", "all", "held"), 0);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn windows_close_in_time_and_lines_are_joined() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.write("ports.csv", "code,port\nTQ,Tansy Quay\n");
    node.apply(&plan(source, node.folder.path(), "'join lines indented by gate within 1 second'"));
    for line in ["stopped", "  at the quay", "  of Lowmere"] {
        assert_eq!(post(&node.http, source, format!("{{\"gate\":1,\"message\":\"{line}\"}}\n")).await.status(), 200);
    }
    node.drained().await;
    let joined = until("the lines are one event", async || lines(&node.path("vault.jsonl")).pop()).await;
    assert_eq!(joined["message"], "stopped\n  at the quay\n  of Lowmere");
    let ledger = node.balanced();
    assert_eq!((sum(&ledger, "route", "all", "held"), sum(&ledger, "route", "all", "removed")), (0, 2));
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_follow_their_files_and_metrics_outlive_the_process() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let refused = node.client(&["apply", "--yes", &node.write("plan.toml", &plan(source, node.folder.path(), "'drop n < 0'"))]);
    assert_eq!(refused.status.code(), Some(3), "a plan whose table is missing is not applied");
    assert!(String::from_utf8_lossy(&refused.stderr).contains("ports.csv"), "{refused:?}");
    node.write("ports.csv", "code,port\nTQ,Tansy Quay\n");
    node.apply(&plan(source, node.folder.path(), "'drop n < 0'"));
    let send = async |node: &Node| assert_eq!(post(&node.http, source, body(0)).await.status(), 200);
    send(&node).await;
    node.drained().await;
    assert!(lines(&node.path("vault.jsonl")).iter().all(|e| e["port"] == "Tansy Quay"));
    // A wrong file changes nothing; a right one is taken up.
    node.write("ports.csv", "nothing,of,the,sort\n");
    until("the wrong file is told of", async || node.log().contains("cannot be read").then_some(())).await;
    node.write("ports.csv", "code,port,berths\nTQ,Tansy Quay (East),4\n");
    until("the new table is asked", async || {
        send(&node).await;
        node.drained().await;
        lines(&node.path("vault.jsonl")).last().is_some_and(|e| e["port"] == "Tansy Quay (East)").then_some(())
    })
    .await;
    let metrics = async |node: &Node| node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap();
    let before = metrics(&node).await;
    let of = |text: &str, begins: &str| {
        text.lines().find_map(|l| l.strip_prefix(begins)?.trim().parse::<f64>().ok()).unwrap_or_else(|| panic!("{begins} in\n{text}"))
    };
    let counted = of(&before, "gate_events_total{gate=\"g1\"}");
    assert!(counted >= 20.0 && counted % 10.0 == 0.0);
    assert_eq!(of(&before, "gate_time_count"), counted * 4.0);
    assert_eq!(of(&before, "gate_time_bucket{le=\"+Inf\"}"), counted * 4.0);
    assert_eq!(of(&before, "gate_time_sum"), counted / 10.0 * 820.0);
    node.kill();
    node.begin().await;
    assert_eq!(of(&metrics(&node).await, "gate_events_total{gate=\"g1\"}"), counted);
    node.stop().await;
}

#[tokio::test]
async fn plans_are_formatted_and_sentences_explained() {
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    let path = folder.path().join("plan.toml");
    let run = |args: &[&str]| std::process::Command::new(crate::harness::binary()).args(args).output().unwrap();
    let path_text = path.to_str().unwrap().to_owned();
    let rough = "\n\n# the quays\n[source.in]\nkind=\"http\"\nlisten   = \"127.0.0.1:1\"   \n[destination.out]\nkind = \"discard\"\n\n\n\n[recipe.hide]\nparameters = [\"field\"]\nsteps = ['redact  email in  $field']\n[[route]]\nname = \"r\" # all\nwhen = 'not a=1 or  b>=2.50'\ndo=['sample   1 in 10  by  a','drop message contains \"it\\'s\"'.replace]\nto = [\"out\"]\n"
        .replace("'drop message contains \"it\\'s\"'.replace", "\"drop  message contains \\\"it's\\\"\", 'use hide( field = note )'");
    std::fs::write(&path, &rough).unwrap();
    assert_eq!(run(&["fmt", "--check", &path_text]).status.code(), Some(3));
    let shown = run(&["fmt", &path_text]);
    assert_eq!(run(&["fmt", "--write", &path_text]).status.code(), Some(0));
    let written = std::fs::read_to_string(&path).unwrap();
    assert_eq!(String::from_utf8(shown.stdout).unwrap(), written);
    assert_eq!(run(&["fmt", "--check", &path_text]).status.code(), Some(0), "what is canonical stays as it is");
    for line in ["# the quays", "kind = \"http\"", "name = \"r\" # all", "when = 'not (a = 1) or b >= 2.5'", "steps = ['redact  email in  $field']"] {
        assert!(written.lines().any(|l| l == line), "{line} in\n{written}");
    }
    assert!(written.contains("do = ['sample 1 in 10 by a', \"drop message contains \\\"it's\\\"\", 'use hide(field = note)']"), "{written}");
    let said = run(&["explain", "drop severity = debug when kiosk exists"]);
    let said = String::from_utf8(said.stdout).unwrap();
    assert!(said.contains("Removes every event of which this holds: severity is debug.") && said.contains("It looks at: kiosk, severity."), "{said}");
    let wrong = run(&["explain", "drop severity = debg"]);
    assert_eq!(wrong.status.code(), Some(3));
    assert!(String::from_utf8(wrong.stdout).unwrap().contains("did you mean `debug`?"));
}
