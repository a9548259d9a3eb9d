//! The page Agents, by keyboard.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn in_the_browser_a_host_is_enrolled_seen_and_told_what_to_collect_by_keyboard() {
    use thirtyfour::prelude::*;

    use crate::browser::Browser;

    let [port] = free_ports();
    let mut node = with_another_program().await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"message\":\"ticket for bo@quay.example\"}".to_owned()]);
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("Deliveries").await;
    browser.driver.goto(node.url("/agents")).await.unwrap();
    browser.sees("The plan has no source for agents.").await;
    node.apply(&door(
        port,
        &out,
        &format!(
            "{}[assignment.kiosks]\nwhen = 'group = \"kiosks\"'\ncollect = [\"log\"]\n[assignment.gates]\nwhen = 'group = \"gates\"'\ncollect = [\"log\"]\n",
            collect("log", log.to_str().unwrap())
        ),
    ));
    browser.sees("No host has enrolled yet.").await;
    browser.without_violations("no agents").await;

    browser.tab_to("Enrol hosts").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Make a line, paste it on the hosts").await;
    browser.tab_to("Group").await;
    browser.keys("kiosks").await;
    browser.tab_to("Make the line").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("No host has come yet.").await;
    browser.without_violations("the line for hosts").await;
    let fetches = browser.find("[role=dialog] pre").await.text().await.unwrap();
    assert!(fetches.starts_with("curl -fsSk --pinnedpubkey 'sha256//") && fetches.ends_with("/agent/setup' | sudo sh"), "{fetches}");
    browser.tab_to("Where the program is, and the agent is to run in the foreground").await;
    browser.keys(Key::Enter + "").await;
    let line = browser.find("[role=dialog] details[open] pre").await.text().await.unwrap();
    let mut host = Host::new(&node, "kiosk-7");
    let enrolled = host.enrol(&line, &["--label", "port=Lowmere"]);
    assert!(enrolled.status.success(), "{}", text(&enrolled.stderr));
    host.begin();
    browser.sees("kiosk-7 has enrolled: it runs its plan.").await;
    until("its first event is there", async || (lines(&out).len() == 1).then_some(())).await;
    browser.keys(Key::Escape + "").await;
    browser.sees("✓ None of 1 needs attention.").await;
    for says in ["events flow", "✓ for it:", "not for it:", "here it does not hold that", "port = Lowmere"] {
        browser.sees(says).await;
    }
    browser.without_violations("an agent").await;
    for (width, height) in [(390, 844), (1024, 768), (1920, 1080)] {
        browser.screen(width, height).await;
        browser.sees("What it says of its host").await;
        browser.fits(&format!("agents at {width}")).await;
    }
    browser.screen(1280, 800).await;

    // Which log files are there is found from here, and goes into the draft.
    append(&node.path("more.log"), ["2026-11-23 10:00:00 WARN low ink".to_owned()]);
    browser.tab_to("Look for log files").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Patterns of the files, one on each line; none to look where logs usually are").await;
    browser.keys(&format!("{}/*.log", node.folder.path().display())).await;
    browser.tab_to("Look").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("1 file by log.").await;
    browser.sees("low ink").await;
    browser.without_violations("the files of a host").await;
    browser.tab_to("Collect it, in the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.find("section[aria-label='assignment kiosk-7']").await;
    browser.sees("agent.name = \"kiosk-7\"").await;
    browser.tab_to("Discard").await;
    browser.keys(Key::Enter + "").await;
    browser.keys(Key::Enter + "").await;
    browser.driver.goto(node.url("/agents?host=kiosk-7")).await.unwrap();
    browser.sees("it runs its plan").await;

    // What leaves the host is changed where the assignment stands in the plan.
    browser.tab_to("kiosks").await;
    browser.keys(Key::Enter + "").await;
    browser.find("section[aria-label='assignment kiosks']").await;
    browser.tab_to("Add a step").await;
    browser.keys(Key::Enter + "").await;
    browser.keys("redact email").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to_start("Apply…").await;
    browser.keys(Key::Enter + "").await;
    // First on this host, then on all.
    browser.tab_to("all at once").await;
    browser.keys(Key::Down + "").await;
    browser.sees("If one is not, it goes back by itself.").await;
    browser.without_violations("some hosts first").await;
    browser.tab_to("Why, for those who look at it later").await;
    browser.keys("no addresses leave the kiosks").await;
    browser.keys(Key::Enter + "").await;
    until("the host has it", async || std::fs::read_to_string(host.data.join("assigned.toml")).is_ok_and(|plan| plan.contains("redact email")).then_some(()))
        .await;
    append(&log, ["{\"message\":\"another for bo@quay.example\"}".to_owned()]);
    let second = until("the second event is there", async || lines(&out).get(1).cloned()).await;
    assert_eq!(second["message"], "another for ***", "{second}");
    browser.driver.goto(node.url("/agents?host=kiosk-7")).await.unwrap();
    browser.sees("it runs its plan").await;
    browser.sees("is first on kiosk-7").await;
    browser.without_violations("a change on its way").await;
    browser.tab_to("On to all hosts").await;
    browser.keys(Key::Enter + "").await;
    browser.keys(Key::Enter + "").await;
    until("all hosts have it", async || stage(&node).await.is_null().then_some(())).await;

    // Another group, with what that changes before it is so.
    browser.tab_to("Group and labels").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Labels, one on each line").await;
    browser.keys("line=north").await;
    browser.tab_to("See what changes").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("It changes nothing of what the host collects.").await;
    browser.without_violations("the group of a host").await;
    browser.tab_to("Set it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("line = north").await;

    // Another program, with who would get it before it is given.
    browser.tab_to("Update agents").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("See which would get it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("1 agent gets it: kiosk-7.").await;
    browser.without_violations("an update of agents").await;
    browser.tab_to("Give it to this agent").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("1 of 1 agents have the program of this service.").await;
    browser.driver.clone().quit().await.unwrap();
    host.stop().await;
    node.stop().await;
}
