//! The console's Sources place, in headless Chromium and by keyboard: something is connected, its first event is seen, and read by the kit that fits.

use serde_json::Value;
use thirtyfour::prelude::*;

use crate::browser::Browser;
use crate::harness::{Node, free_ports, until};

#[tokio::test(flavor = "multi_thread")]
async fn a_source_is_connected_and_its_first_event_read_by_a_kit() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("The plan is empty.").await;
    browser.driver.goto(node.url("/sources")).await.unwrap();
    browser.sees("Nothing is connected yet.").await;
    browser.without_violations("no sources").await;

    // By what one has: something that can POST, with a key.
    browser.tab_to("Connect something").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("What the source is to be called").await;
    browser.keys("booking").await;
    browser.sees("[source.booking]").await;
    browser.tab_to_start("As it stands in the plan").await;
    browser.chord(Key::Control, "a").await;
    browser.keys(format!("[source.booking]\nkind = \"http\"\nlisten = \"127.0.0.1:{port}\"\nkey = {{ secret = \"booking-key\" }}\ntypo = 1").as_str()).await;
    browser.tab_to("Listen from now on").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("typo").await;
    assert_eq!(node.get("/api/v1/plan").await["revision"], 0, "what is wrong is not applied");
    browser.back_to_start("As it stands in the plan").await;
    browser.chord(Key::Control, Key::End + "").await;
    browser.chord(Key::Shift, Key::Home + "").await;
    browser.keys(Key::Backspace + "").await;
    browser.without_violations("a source to be connected").await;
    browser.tab_to("Listen from now on").await;
    browser.keys(Key::Enter + "").await;

    // The address, the key and the line to paste, with the right values; and it waits.
    browser.sees("Its key, shown this once").await;
    browser.sees("Nothing has come yet.").await;
    let key = browser.find("[role='dialog'] code").await.text().await.unwrap();
    let lines = browser.find("[role='dialog'] ul[aria-label='To send to booking']").await.text().await.unwrap();
    assert!(key.len() == 48 && lines.contains(&key) && lines.contains(&format!(":{port}")) && !lines.contains("KEY"), "{lines}");
    browser.without_violations("the wait for the first event").await;
    // A wrong key is named.
    let send = async |key: &str| {
        let line = "192.0.2.7 - - [30/Nov/2026:10:00:00 +0000] \"GET /timetable?port=lowmere HTTP/1.1\" 200 512 \"-\" \"ferry/1.0\"\n";
        let request = node.http.post(format!("http://127.0.0.1:{port}/in")).bearer_auth(key).body(line.repeat(5));
        request.send().await.unwrap().status()
    };
    assert_eq!(send("wrong").await, 401);
    browser.sees("key").await;
    until("the wrong key is told", async || browser.text().await.contains("▲").then_some(())).await;

    // The page turns when the first events come: raw, as read, and by which kit.
    until("the first events show", async || {
        assert_eq!(send(&key).await, 200);
        browser.text().await.contains("✓ The first events came").then_some(())
    })
    .await;
    browser.sees("GET /timetable?port=lowmere").await;
    browser.sees("use access-log").await;
    browser.without_violations("the first events").await;
    browser.tab_to("Read it so, in the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Your draft of revision 1").await;
    browser.sees("changed in this draft").await;
    browser.sees("use access-log").await;
    let draft = node.get("/api/v1/plan/draft").await["text"].as_str().unwrap().to_owned();
    assert!(draft.contains("[recipe.access-log]") && draft.contains("use access-log"), "{draft}");
    // Applied, it reads them.
    browser.tab_to("Apply…").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("step added: use access-log").await;
    browser.tab_to("Apply it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✓ Revision 2 is active.").await;
    let read = async || {
        assert_eq!(send(&key).await, 200);
        let sample = node.get("/api/v1/sample?point=source:booking&most=5").await;
        sample["events"].as_array()?.iter().any(|e| e["event"]["http"]["response"]["status_code"] == 200 || e["event"]["status"] == 200).then_some(sample)
    };
    until("events are read by the kit", read).await;

    // Paused and looked at on its page; a new key ends the old one.
    browser.driver.goto(node.url("/sources")).await.unwrap();
    browser.sees("arriving?").await;
    browser.sees("✓ all of it").await;
    browser.tab_to("Who sends").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("127.0.0.1").await;
    browser.sees("share of bytes").await;
    browser.sees("100 %").await;
    browser.without_violations("the sources").await;
    browser.tab_to("New key").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("The old one stops working.").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("The new key, shown this once").await;
    until("the old key is refused", async || (send(&key).await == 401).then_some(())).await;
    let sources: Value = node.get("/api/v1/sources").await;
    assert_eq!(sources[0]["name"], "booking");
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_looked_into_before_they_are_read() {
    let mut node = Node::start().await;
    let folder = tempfile::Builder::new().prefix("logs").tempdir_in(node.folder.path()).unwrap();
    let line = "192.0.2.7 - - [30/Nov/2026:10:00:00 +0000] \"GET /fares HTTP/1.1\" 200 512 \"-\" \"ferry/1.0\"\n";
    std::fs::write(folder.path().join("web.log"), line.repeat(20)).unwrap();
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("The plan is empty.").await;
    browser.driver.goto(node.url("/sources")).await.unwrap();
    browser.tab_to("Connect something").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("something that can POST").await;
    for _ in 0..4 {
        browser.keys(Key::Down + "").await;
    }
    browser.sees("Patterns of the files").await;
    browser.tab_to_start("Patterns of the files").await;
    browser.keys(format!("{}/*.log", folder.path().display()).as_str()).await;
    browser.tab_to("Look into them").await;
    browser.keys(Key::Enter + "").await;
    for shown in ["1 file.", "web.log", "GET /fares", "use access-log", "[source.file-in]"] {
        browser.sees(shown).await;
    }
    browser.without_violations("files that were looked into").await;
    assert_eq!(node.get("/api/v1/plan").await["revision"], 0, "nothing is added before it is asked for");
    browser.tab_to("Read them from now on").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Source file-in").await;
    until("it is read from now on", async || {
        std::fs::OpenOptions::new()
            .append(true)
            .open(folder.path().join("web.log"))
            .and_then(|mut f| std::io::Write::write_all(&mut f, line.as_bytes()))
            .unwrap();
        browser.text().await.contains("✓ The first events came").then_some(())
    })
    .await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
