//! A change goes to some hosts first.

use super::*;

/// Applies a plan that goes to some hosts first.
fn first(node: &Node, plan: &str, hosts: &str, well_for: &str) -> Output {
    let file = node.write("next.toml", plan);
    node.client(&["apply", &file, "--yes", "--first", hosts, "--well-for", well_for])
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_goes_to_some_hosts_first_and_then_on_or_back_by_itself() {
    let [port, taken] = free_ports();
    let mut node = Node::start().await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"n\":1}".to_owned()]);
    let plan = |step: &str| door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n{step}", collect("log", log.to_str().unwrap())));
    node.apply(&plan(""));
    let mut hosts = ["kiosk-1", "kiosk-2", "gate-1"].map(|name| Host::join(&node, name, name.split('-').next().unwrap(), &[]));
    for host in &hosts {
        becomes(&node, &host.name, "fine").await;
    }
    let runs = |host: &Host, text: &str| std::fs::read_to_string(host.data.join("assigned.toml")).is_ok_and(|plan| plan.contains(text));

    // On the gate first. It is not given to the others, not even over a restart of the service; then it goes on by hand.
    let refused = first(&node, &plan("do = ['set a = 1']\n"), "group = \"vessel\"", "1 hour");
    assert!(text(&refused.stderr).contains("none of the 3 hosts that it changes meets `group = \"vessel\"`"), "{}", text(&refused.stderr));
    assert!(!first(&node, &plan("do = ['set a = 1']\n"), "0%", "1 hour").status.success());
    assert!(first(&node, &plan("do = ['set a = 1']\n"), "group = \"gate\"", "1 hour").status.success());
    until("the gate has it", async || runs(&hosts[2], "set a = 1").then_some(())).await;
    let shown = until("the gate is well", async || Some(stage(&node).await).filter(|stage| stage["well_since_ms"].is_i64())).await;
    assert_eq!((&shown["revision"], &shown["before"], &shown["hosts"]), (&json!(2), &json!(1), &json!(["gate-1"])));
    node.kill();
    node.begin().await;
    until("the gate is well again", async || Some(stage(&node).await).filter(|stage| stage["well_since_ms"].is_i64())).await;
    assert!(!runs(&hosts[0], "set a = 1") && !runs(&hosts[1], "set a = 1"));
    let listed = text(&node.client(&["agent", "list"]).stdout);
    assert!(listed.contains("Revision 2 runs first on gate-1 (group = \"gate\"), the others collect by revision 1: they have been well for"), "{listed}");
    assert!(node.client(&["agent", "stage", "on"]).status.success());
    until("all have it", async || hosts.iter().all(|host| runs(host, "set a = 1")).then_some(())).await;
    assert_eq!((stage(&node).await, node.client(&["agent", "stage", "back"]).status.success()), (Value::Null, false));

    // On a share, and on by itself.
    assert!(first(&node, &plan("do = ['set b = 1']\n"), "30%", "3 seconds").status.success());
    until("all have it", async || hosts.iter().all(|host| runs(host, "set b = 1")).then_some(())).await;
    assert_eq!(stage(&node).await, Value::Null);

    // What a host cannot run goes back by itself, and the others never had it.
    let _taken = std::net::TcpListener::bind(("127.0.0.1", taken)).unwrap();
    let bad = door(port, &out, &format!("[collect.log]\nkind = \"tcp\"\nlisten = \"127.0.0.1:{taken}\"\n[assignment.all]\ncollect = [\"log\"]\n"));
    assert!(first(&node, &bad, "agent.name = \"kiosk-2\"", "1 hour").status.success());
    let back = until("it goes back", async || Some(stage(&node).await).filter(|stage| stage["phase"] == "back")).await;
    assert!(back["says"].as_str().unwrap().starts_with("kiosk-2 cannot run it: "), "{back}");
    for host in &hosts {
        becomes(&node, &host.name, "fine").await;
        assert!(runs(host, "set b = 1"), "{}", host.name);
    }
    // So does what makes a host ail: here, a file that is not there. Over a restart it stays where it is.
    let missing = door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", "/nowhere/at/all.log")));
    assert!(first(&node, &missing, "40%", "1 hour").status.success());
    let back = until("it goes back", async || Some(stage(&node).await).filter(|stage| stage["phase"] == "back" && stage["revision"] == 5)).await;
    assert!(back["says"].as_str().unwrap().contains("source:log") && back["before"] == 3, "{back}");
    node.kill();
    node.begin().await;
    for host in &mut hosts {
        becomes(&node, &host.name, "fine").await;
        assert!(runs(host, "set b = 1"), "{}", host.name);
    }
    let journal = text(&node.client(&["journal"]).stdout);
    assert!(journal.contains("change goes on to all hosts") && journal.contains("change goes back on all hosts"), "{journal}");
    for host in &mut hosts {
        host.stop().await;
    }
    node.stop().await;
}
