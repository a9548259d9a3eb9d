//! The console's Events place, in headless Chromium and by keyboard: what is in there is seen, narrowed, condensed and asked why.

use std::fmt::Write;

use serde_json::json;
use thirtyfour::prelude::*;

use crate::browser::Browser;
use crate::harness::{Node, free_ports, post, until};

#[tokio::test(flavor = "multi_thread")]
async fn what_is_in_there_is_seen_narrowed_and_explained_by_keyboard() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("The plan is empty.").await;
    browser.driver.goto(node.url("/events")).await.unwrap();
    browser.sees("There is nothing to look at yet.").await;
    browser.without_violations("no events").await;

    node.apply(&format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.desk]\nkind = \"discard\"\n\
         [[route]]\nname = \"trouble\"\nwhen = 'severity >= warn'\ndo = ['drop gate = 3', 'tag geo.city = \"Lowmere\", geo.latitude = 50.27, geo.longitude = -4.31 when gate > 3', 'tag geo.city = \"Skerry Point\", geo.latitude = 50.19, geo.longitude = -4.44 when gate = 1']\nto = [\"desk\"]\n"
    ));
    let send = async |from: usize| {
        let body = (from..from + 200).fold(String::new(), |mut body, n| {
            let (level, port) = (["error", "info", "info", "info"][n % 4], ["Lowmere", "Lowmere", "Tansy Quay"][n % 3]);
            let message = if n % 4 == 0 { format!("gate {} stuck for {n} s", n % 7) } else { format!("passenger {n} boarded") };
            let _ = writeln!(body, "{{\"level\":\"{level}\",\"port\":\"{port}\",\"gate\":{},\"took\":{n},\"message\":\"{message}\"}}", n % 7);
            body
        });
        assert_eq!(post(&node.http, source, body).await.status(), 200);
    };
    until("the sample holds events", async || {
        send(0).await;
        (node.get("/api/v1/sample?point=source:quays").await["kept"].as_u64() > Some(250)).then_some(())
    })
    .await;

    // Fields as strips, those first that tell the events apart; a chosen segment goes into the sentence.
    browser.driver.goto(node.url("/events?at=source%3Aquays")).await.unwrap();
    browser.sees("What is in there").await;
    browser.find("button[aria-label^='port: Lowmere']").await;
    let first = "return document.querySelector('ul[aria-label=Fields] [data-strip]').getAttribute('aria-label')";
    assert_eq!(browser.script(first).await, json!("gate"));
    browser.without_violations("the events of a source").await;
    browser.tab_to_start("port: Lowmere").await;
    browser.keys(Key::Right + "").await;
    browser.focused_start("port: Tansy Quay").await;
    browser.keys("-").await;
    browser.find("button[aria-label='Edit the condition: not (port = \"Tansy Quay\")']").await;
    browser.tab_to_start("level: info").await;
    browser.keys(Key::Right + "").await;
    browser.focused_start("level: error").await;
    browser.keys(Key::Enter + "").await;
    browser.find("button[aria-label='Edit the condition: not (port = \"Tansy Quay\") and level = \"error\"']").await;
    let url = browser.driver.current_url().await.unwrap();
    assert!(url.query().unwrap().contains("Tansy"), "what is looked at is in the address: {url}");
    until("only those are listed", async || {
        let list = browser.find("ol[aria-label='Events, newest first']").await.text().await.ok()?;
        (list.contains("stuck") && !list.contains("boarded")).then_some(())
    })
    .await;

    // The sentence is edited as sentences are everywhere; a mistake is told.
    browser.tab_to_start("Edit the condition").await;
    browser.keys(Key::Enter + "").await;
    browser.chord(Key::Control, "a").await;
    browser.keys("gate =" + Key::Enter).await;
    browser.sees("the sentence ends too early").await;
    browser.keys(" 3" + Key::Enter).await;
    browser.find("button[aria-label='Edit the condition: gate = 3']").await;

    // An event unfolds in place; a field becomes a column; its whole story opens under it.
    browser.tab_to("Column took").await;
    browser.keys(Key::Enter + "").await;
    browser.find("button[aria-label='More for the column took']").await;
    until("an event that is stuck is listed", async || browser.text().await.contains("stuck").then_some(())).await;
    browser.tab_to_start("▲ error gate 3 stuck").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Why it goes where it goes").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("trouble ✓ takes it").await;
    browser.sees("drop gate = 3").await;
    browser.without_violations("an event unfolded").await;

    // Condensed to patterns, with the sentences that cut one: its trend is kept, and it is removed, in the draft.
    browser.driver.goto(node.url("/events?at=source%3Aquays&view=patterns")).await.unwrap();
    browser.sees("messages are 2 patterns").await;
    browser.tab_to_start("passenger").await;
    browser.keys(Key::Enter + "").await;
    browser.without_violations("the patterns").await;
    browser.tab_to("Add to the draft: Keep its trend as a metric").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✓ in the draft").await;
    browser.tab_to("Add to the draft: Remove it").await;
    browser.keys(Key::Enter + "").await;
    until("both are in the draft", async || {
        let text = node.get("/api/v1/plan/draft").await["text"].as_str()?.to_owned();
        let (count, drop) = (text.find("'count as ")?, text.find("'drop message matches")?);
        (count < drop).then_some(())
    })
    .await;
    browser.tab_to("Open the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Your draft of revision 1: 1 part changed").await;

    // Located ones on a map, as they leave the route's steps; a place goes into the sentence.
    browser.driver.goto(node.url("/events?at=route%3Atrouble&view=map")).await.unwrap();
    browser.sees("No event here has a latitude and a longitude.").await;
    browser.tab_to("Before or after the route’s steps").await;
    browser.keys(Key::Down + "").await;
    browser.sees("of the events are located, at 2 places.").await;
    browser.find("svg[aria-label^='2 places on an outline of the world'] circle").await;
    browser.without_violations("the map").await;
    browser.tab_to("Skerry Point").await;
    browser.keys(Key::Enter + "").await;
    browser.find("button[aria-label='Edit the condition: geo.city = \"Skerry Point\"']").await;
    browser.sees("100 % of the events are located, at one place.").await;

    // Live: events as they pass.
    browser.driver.goto(node.url("/events?at=route%3Atrouble&live=true")).await.unwrap();
    browser.sees("Waiting for the next event here.").await;
    until("an event passes", async || {
        send(1_000).await;
        browser.driver.find(By::XPath("//ol[@aria-label='Events, newest first']//button[contains(., 'stuck')]")).await.ok()
    })
    .await;
    // What cannot be looked at says so.
    browser.driver.goto(node.url("/events?at=source%3Anone")).await.unwrap();
    browser.sees("the running plan has no source none").await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
