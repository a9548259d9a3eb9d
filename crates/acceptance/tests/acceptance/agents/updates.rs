//! Agents are given another program.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn agents_take_a_program_of_the_centre_and_go_back_from_one_that_does_not_do() {
    let [port] = free_ports();
    let mut node = with_another_program().await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"n\":1}".to_owned()]);
    node.apply(&door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", log.to_str().unwrap()))));
    let mut host = Host::join(&node, "kiosk-1", "kiosks", &[]);
    let mut other = Host::join(&node, "kiosk-2", "kiosks", &[]);
    becomes(&node, "kiosk-2", "fine").await;
    other.stop().await;
    let settings = other.data.join("agent.toml");
    let written = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, written.replace("updates = true", "updates = false").replace("remote_changes = true", "remote_changes = false")).unwrap();
    other.begin();
    becomes(&node, "kiosk-1", "fine").await;
    until("the other takes no programs", async || {
        let updated = node.json(&["agent", "update", "kiosk-1", "kiosk-2"]);
        (updated["names"] == json!(["kiosk-1"])).then_some(())
    })
    .await;
    // It fetches it, tries it, and the centre hears of it.
    let update = async |node: &Node| node.get("/api/v1/agents").await["update"].clone();
    until("it has the program", async || (update(&node).await["done"] == 1).then_some(())).await;
    let programs = |host: &Host| -> Value { serde_json::from_slice(&std::fs::read(host.data.join("program/programs.json")).unwrap()).unwrap() };
    let current = until("it stays", async || programs(&host)["current"].as_str().map(str::to_owned)).await;
    assert!(host.data.join("program").join(&current).exists());
    append(&log, ["{\"n\":2}".to_owned()]);
    until("events flow", async || lines(&out).iter().any(|l| l["n"] == 2).then_some(())).await;
    // Stopped and started, it goes on with it; killed, nothing of it is left to be in its way.
    host.stop().await;
    host.begin();
    becomes(&node, "kiosk-1", "fine").await;
    host.kill();
    host.begin();
    append(&log, ["{\"n\":3}".to_owned()]);
    until("events flow again", async || lines(&out).iter().any(|l| l["n"] == 3).then_some(())).await;
    assert_eq!(programs(&host)["current"], json!(current));

    // One that ends at once: it is told, and the one before goes on.
    node.stop().await;
    std::fs::write(node.path("given"), "#!/bin/sh\nexit 3\n").unwrap();
    node.begin().await;
    becomes(&node, "kiosk-1", "fine").await;
    assert!(node.client(&["agent", "update", "--when", "group = \"kiosks\"", "--first", "50%", "--well-for", "1 hour"]).status.success());
    let told = until("it is told that it does not do", async || Some(update(&node).await).filter(|update| update["stopped"].is_string())).await;
    assert!(told["stopped"].as_str().unwrap().contains("kiosk-1 cannot run it: it ended at once"), "{told}");
    let trouble = becomes(&node, "kiosk-1", "trouble").await;
    assert!(trouble["says"].as_str().unwrap().contains("could not take the program that it was offered"), "{trouble}");
    assert_eq!(programs(&host)["current"], json!(current));
    append(&log, ["{\"n\":4}".to_owned()]);
    until("events flow by the one before", async || lines(&out).iter().any(|l| l["n"] == 4).then_some(())).await;
    let said = text(&node.client(&["agent", "update"]).stdout);
    assert!(said.contains("0 of 1 agents have the program of this service; it goes no further"), "{said}");
    assert!(node.client(&["agent", "update", "--stop"]).status.success());
    let journal = text(&node.client(&["journal"]).stdout);
    assert!(journal.contains("update agents") && journal.contains("update of agents stopped"), "{journal}");
    for host in [&mut host, &mut other] {
        host.stop().await;
    }
    node.balanced();
    node.stop().await;
}
