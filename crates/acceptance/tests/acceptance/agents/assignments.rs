//! Assignments as files: taken out of one service's plan, and put into another's.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn assignments_go_as_files_from_one_service_to_another() {
    let [port, other_port] = free_ports();
    let mut node = Node::start().await;
    let mut other = Node::start().await;
    let parts = format!(
        "[recipe.quiet]\nsteps = ['drop severity = debug']\n# What gates write.\n{}on_arrival = ['use quiet']\n[assignment.gates]\nwhen = 'group = \"gates\"'\ncollect = [\"barrier\"]\n\
         {}[assignment.kiosks]\ncollect = [\"screen\"]\n",
        collect("barrier", "/var/log/barrier.log"),
        collect("screen", "/var/log/screen.log")
    );
    node.apply(&door(port, &node.path("out.jsonl"), &parts));
    other.apply(&door(other_port, &other.path("out.jsonl"), ""));

    let exported = node.client(&["agent", "export", "gates"]);
    assert!(exported.status.success());
    let text = String::from_utf8(exported.stdout).unwrap();
    assert!(text.contains("# What gates write.") && text.contains("[recipe.quiet]") && !text.contains("screen"), "{text}");
    let file = node.path("gates.toml");
    std::fs::write(&file, &text).unwrap();
    let imported = other.client(&["agent", "import", file.to_str().unwrap(), "--yes"]);
    let said = String::from_utf8_lossy(&imported.stdout).into_owned();
    assert!(imported.status.success() && said.contains("is active."), "{said}{}", String::from_utf8_lossy(&imported.stderr));
    let running = other.get("/api/v1/plan").await["text"].as_str().unwrap().to_owned();
    assert!(running.contains("[assignment.gates]") && running.contains("# What gates write."), "{running}");

    // Once more it changes nothing; what is another by the same name is said, and nothing is done.
    assert!(other.client(&["agent", "import", file.to_str().unwrap(), "--yes"]).status.success());
    assert_eq!(other.get("/api/v1/plan").await["text"], running.as_str());
    std::fs::write(&file, text.replace("barrier.log", "gate.log")).unwrap();
    let refused = other.client(&["agent", "import", file.to_str().unwrap(), "--yes"]);
    let why = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(refused.status.code() == Some(3) && why.contains("the plan has a collect `barrier` already"), "{why}");
    let none = node.client(&["agent", "export", "vessels"]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("the plan has no assignment `vessels`"));
    node.stop().await;
    other.stop().await;
}
