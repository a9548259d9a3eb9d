//! A host that has nothing yet.

use super::*;

/// Does what `curl` does with a line of the centre, in a shell.
fn shell(line: &str) -> Output {
    Command::new("sh").args(["-c", line]).stdin(Stdio::null()).output().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_that_has_nothing_yet_fetches_the_program_and_installs_its_agent() {
    let [port, other] = free_ports();
    let mut node = Node::start().await;
    let (out, log, root) = (node.path("out.jsonl"), node.path("app.log"), node.path("image"));
    node.apply(&door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", log.to_str().unwrap()))));
    append(&log, ["{\"first\":1}".to_owned()]);
    let made = node.json(&["agent", "code", "kiosks"]);
    let fetch = made["setup_line"].as_str().unwrap().strip_suffix(" | sudo sh").unwrap().to_owned();
    std::fs::create_dir(&root).unwrap();

    // It says what it would do, and asks before it does anything.
    let image = format!("--root '{}' --name kiosk-7", root.display());
    let dry = shell(&format!("{fetch} | sh -s -- --dry {image}"));
    let says = text(&dry.stdout);
    assert!(dry.status.success() && says.contains("enrol this host as kiosk-7") && says.contains("write the script"), "{says}{}", text(&dry.stderr));
    // No terminal: nobody can be asked.
    let unasked = shell(&format!("{fetch} | setsid sh -s -- {image}"));
    assert!(!unasked.status.success() && text(&unasked.stderr).contains("pass --yes"), "{}", text(&unasked.stderr));
    assert_eq!(std::fs::read_dir(&root).unwrap().count(), 0);
    let installed = shell(&format!("{fetch} | sh -s -- --yes --label port=Lowmere {image}"));
    assert!(installed.status.success(), "{}{}", text(&installed.stdout), text(&installed.stderr));
    assert!(root.join("usr/local/sbin/rockrose-agent").exists());
    let program = root.join("usr/local/bin/rockrose");
    assert_eq!(std::fs::metadata(&program).unwrap().len(), std::fs::metadata(binary()).unwrap().len());
    let mut host = Host { name: "kiosk-7".into(), data: root.join("var/lib/rockrose-agent"), running: None };
    host.begin();
    until("its first event is there", async || lines(&out).iter().any(|l| l["first"] == 1 && l["agent.name"] == "kiosk-7").then_some(())).await;
    becomes(&node, "kiosk-7", "fine").await;

    // The code is used up: neither the script nor the program is given out any more. Another server is not taken for this one.
    let used = shell(&fetch);
    assert!(!used.status.success() && text(&used.stderr).contains("401"), "{}", text(&used.stderr));
    assert!(!shell(&fetch.replace("/agent/setup", "/agent/rockrose")).status.success());
    let fresh = node.json(&["agent", "code", "kiosks"])["setup_line"].as_str().unwrap().strip_suffix(" | sudo sh").unwrap().to_owned();
    let mut stranger = Node::start().await;
    stranger.apply(&door(other, &stranger.path("out.jsonl"), ""));
    let elsewhere = shell(&fresh.replace(&format!(":{port}/"), &format!(":{other}/")));
    assert_eq!(elsewhere.status.code(), Some(90), "curl says that the key is another: {}", text(&elsewhere.stderr));
    stranger.stop().await;
    // The line is good over a restart: the key of the source stays.
    node.kill();
    node.begin().await;
    let again = until("the source listens again", async || Some(shell(&fresh)).filter(|script| script.status.code() != Some(7))).await;
    assert!(again.status.success() && text(&again.stdout).starts_with("#!/bin/sh"), "{}", text(&again.stderr));
    host.stop().await;
    node.stop().await;
}
