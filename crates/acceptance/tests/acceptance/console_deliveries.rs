//! The console's Deliveries place, in headless Chromium and by keyboard: what fails is seen, mended and sent again; a destination is added, tested before it is saved.

use serde_json::json;
use thirtyfour::prelude::*;

use crate::browser::Browser;
use crate::harness::{Node, free_ports, post, until};
use crate::queues::stand_in;

fn plan(source: u16, desk: u16) -> String {
    format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n\
         [destination.desk]\nkind = \"http\"\nendpoints = [\"http://127.0.0.1:{desk}/in\"]\nalways = ['redact email']\nprice = {{ per_gb = 2.40, currency = \"EUR\" }}\n\
         [[route]]\nname = \"trouble\"\nto = [\"desk\"]\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_refused_is_explained_mended_and_sent_again_by_keyboard() {
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, port));
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    let send = async |body: &str| assert_eq!(post(&node.http, source, body.to_owned()).await.status(), 200);
    send("{\"msg\":\"gangway stuck, tell ann@post.example\"}\n{broken\n").await;

    // Nobody answers: since when, what waits, and when it is tried again.
    browser.driver.goto(node.url("/deliveries")).await.unwrap();
    for shown in ["1 of 1 is in trouble", "failing", "cannot connect", "1 event,", "next try in"] {
        browser.sees(shown).await;
    }
    browser.without_violations("a destination that fails").await;
    // What cannot be read is in quarantine, by its reason.
    browser.tab_to_start("1 source quays").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("{broken").await;

    // It refuses for good: why is told, and a step mends it.
    let refusing = stand_in(&node, port, &["--refuse", "gangway"]);
    browser.sees("✓ The destination is in order").await;
    browser.sees("answered 422").await;
    browser.find("article[aria-label='Destination desk'] [role='img'][aria-label*='answers in the last day'] canvas").await;
    browser.tab_to_start("1 destination desk").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Why?").await;
    browser.keys(Key::Enter + "").await;
    for shown in ["was refused", "before the steps", "redact email"] {
        browser.sees(shown).await;
    }
    browser.keys(Key::Escape + "").await;
    browser.tab_to("Mend by a step").await;
    browser.keys(Key::Enter + "").await;
    browser.keys("redact /gangway/ with \"ramp\"" + Key::Enter).await;
    browser.find("button[aria-label^='Leave out: redact']").await;
    browser.without_violations("an event that is mended").await;
    browser.tab_to("Send it again").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("delivered to desk").await;
    let got = std::fs::read_to_string(node.path("desk.jsonl")).unwrap();
    assert!(got.contains("ramp stuck, tell ***") && !got.contains("gangway"), "{got}");

    // It is held back and let go by keyboard, and what would be thrown away is said first.
    browser.tab_to("Pause").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("paused by admin").await;
    send("{\"msg\":\"one more\"}\n").await;
    browser.sees("1 event,").await;
    browser.tab_to("Empty…").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("will never be delivered").await;
    browser.without_violations("what emptying does").await;
    browser.tab_to("Let them go").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Resume").await;
    browser.keys(Key::Enter + "").await;
    until("it is let go", async || (node.get("/api/v1/flow").await["destinations"][0]["health"]["state"] != "paused").then_some(())).await;
    drop(refusing);
    browser.driver.clone().quit().await.unwrap();
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_destination_is_tested_before_it_is_saved_and_its_key_is_never_shown() {
    let [source, port, other] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, port));
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    browser.driver.goto(node.url("/deliveries")).await.unwrap();
    browser.tab_to("Add a destination").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Name").await;
    browser.keys("insurers").await;
    browser.tab_to_start("As it stands in the plan").await;
    browser.chord(Key::Control, "a").await;
    let part =
        format!("[destination.insurers]\nkind = \"http\"\nendpoints = [\"http://127.0.0.1:{other}/in\"]\ntoken = {{ secret = \"insurers-key\" }}\nwrong = 1\n");
    browser.keys(part.as_str()).await;
    browser.sees("wrong").await;
    browser.keys(Key::Up + "").await;
    browser.chord(Key::Shift, Key::End + "").await;
    browser.keys(Key::Backspace + "").await;
    browser.sees("The secret insurers-key is not kept yet.").await;
    browser.without_violations("a new destination").await;
    browser.tab_to("Value").await;
    browser.keys("heron-and-tern").await;
    browser.tab_to_start("May be shown to").await;
    browser.chord(Key::Control, "a").await;
    browser.keys("127.0.0.1" + Key::Enter).await;

    // Nobody answers there yet: where it fails is told, and nothing is saved.
    browser.tab_to("Test it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✗ connect").await;
    assert!(!node.get("/api/v1/plan/draft").await["text"].as_str().unwrap().contains("insurers"));
    let _insurers = stand_in(&node, other, &["--token", "heron-and-tern"]);
    until("it takes a marked event", async || {
        browser.click("Test it").await;
        tokio::time::timeout(std::time::Duration::from_secs(3), browser.sees("✓ accept")).await.ok()
    })
    .await;
    browser.tab_to("Add to the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Your draft of revision 1: 1 part changed").await;
    browser.sees("added in this draft").await;
    assert_eq!(node.get("/api/v1/plan").await["revision"], 1, "nothing is applied yet");

    // Errors are led to it by a route whose condition is built from drop-downs.
    browser.tab_to("Add a route").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Name").await;
    browser.keys("claims").await;
    browser.tab_to("insurers").await;
    browser.keys(" ").await;
    browser.tab_to("Add to the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.find("nav[aria-label='Parts of the plan'] a[href*='claims']").await;
    until("the sample holds errors", async || {
        assert_eq!(post(&node.http, source, "{\"severity\":\"error\",\"msg\":\"bow thruster\"}\n{\"severity\":\"info\"}\n".repeat(40)).await.status(), 200);
        (node.get("/api/v1/sample?point=source:quays").await["kept"].as_u64() > Some(20)).then_some(())
    })
    .await;
    browser.tab_to("every event: write a condition").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Build").await;
    browser.keys(" ").await;
    browser.tab_to("Field").await;
    browser.keys("severity").await;
    browser.tab_to("Value").await;
    browser.chord(Key::Control, "a").await;
    browser.keys("error").await;
    browser.tab_to("Write it").await;
    browser.keys(" ").await;
    browser.value_of("Condition", "severity = error").await;
    browser.back_to("Keep").await;
    browser.keys(" ").await;
    browser.find("button[aria-label='Edit the condition: severity = error']").await;
    browser.tab_to("Apply…").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("added route claims").await;
    browser.tab_to("Apply it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✓ Revision 2 is active.").await;
    assert_eq!(post(&node.http, source, "{\"severity\":\"error\",\"msg\":\"bow thruster at last\"}\n").await.status(), 200);
    until("it gets the error", async || std::fs::read_to_string(node.path("desk.jsonl")).ok()?.contains("at last").then_some(())).await;

    // The key is kept, replaced, and never shown.
    browser.driver.goto(node.url("/deliveries")).await.unwrap();
    browser.sees("insurers-key").await;
    browser.tab_to("Replace insurers-key").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Value").await;
    browser.keys("curlew-and-dunlin" + Key::Enter).await;
    browser.sees("✓ kept").await;
    let page = browser.script("return document.documentElement.outerHTML").await;
    assert!(!page.as_str().unwrap().contains("heron-and-tern"), "the secret is not in the page");
    let secrets = node.get("/api/v1/secrets").await;
    assert_eq!((&secrets[0]["name"], &secrets[0]["shown_to"]), (&json!("insurers-key"), &json!(["127.0.0.1"])));
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_fits_a_phone_a_zoomed_window_and_a_wide_screen() {
    let [source, desk] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, desk));
    let _desk = stand_in(&node, desk, &[]);
    let event = "{\"level\":\"error\",\"port\":\"Tansy Quay\",\"message\":\"a gate that opens and shuts, and opens again, until somebody comes to see what it is that it wants\"}\n";
    until("the sample holds events", async || {
        assert_eq!(post(&node.http, source, event.repeat(50)).await.status(), 200);
        (node.get("/api/v1/sample?point=source:quays").await["kept"].as_u64() > Some(0)).then_some(())
    })
    .await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    for (width, height) in [(390, 844), (640, 400), (1024, 768), (1920, 1080)] {
        browser.screen(width, height).await;
        for (page, shown) in [
            ("/", "Remainder"),
            ("/sources", "arriving?"),
            ("/events", "What is in there"),
            ("/plan", "What becomes of real events"),
            ("/plan/suggestions", "None is ever applied by itself."),
            ("/plan/examples", "The plan has no examples yet."),
            ("/plan/revisions", "no reason was given"),
            ("/ledger", "costs, at 2.40 EUR a GB"),
            ("/deliveries", "% accepted; response time"),
            ("/people", "Journal"),
        ] {
            browser.driver.goto(node.url(page)).await.unwrap();
            browser.sees(shown).await;
            browser.fits(&format!("{page} at {width}")).await;
        }
    }
    // On a phone, a destination is paused.
    browser.screen(390, 844).await;
    browser.driver.goto(node.url("/deliveries")).await.unwrap();
    browser.click("Pause").await;
    browser.sees("paused by admin").await;
    browser.fits("a paused destination at 390").await;
    // What waits there is told in full, and keeps to its place.
    assert_eq!(post(&node.http, source, event.repeat(2_000)).await.status(), 200);
    browser.screen(1024, 768).await;
    browser.sees("the oldest for").await;
    browser.fits("a paused destination at 1024").await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
