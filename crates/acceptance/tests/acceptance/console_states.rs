//! What every page of the console says where there is nothing to show: to somebody whose grants show little, and while the service is away; in headless Chromium.

use serde_json::{Value, json};

use crate::browser::Browser;
use crate::harness::{Node, free_ports, post, until};

async fn node(source: u16) -> Node {
    let node = Node::start().await;
    node.apply(&format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.desk]\nkind = \"discard\"\n\
         [[route]]\nname = \"trouble\"\nwhen = 'severity >= warn'\nto = [\"desk\"]\n"
    ));
    let body = (0..100).map(|n| format!("{{\"level\":\"error\",\"gate\":{},\"message\":\"gate {n} stuck\"}}\n", n % 5)).collect::<String>();
    until("the sample holds events", async || {
        assert_eq!(post(&node.http, source, body.clone()).await.status(), 200);
        (node.get("/api/v1/sample?point=route:trouble").await["kept"].as_u64() > Some(50)).then_some(())
    })
    .await;
    node
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_sees_little_is_told_so_on_every_page() {
    let [source] = free_ports();
    let mut node = node(source).await;
    let token =
        node.json(&["token", "make", "bounded", "--grant", "see at route:trouble when gate = 4 after redact level"])["token"].as_str().unwrap().to_owned();
    let link = node.http.post(node.url("/api/v1/sign-in-links")).bearer_auth(token).json(&json!({})).send().await.unwrap();
    let link = link.json::<Value>().await.unwrap()["url"].as_str().unwrap().to_owned();
    let browser = Browser::start().await;
    browser.driver.goto(&link).await.unwrap();
    browser.click("Sign in to this console").await;
    for (page, shown, not) in [
        ("/", "trouble", ""),
        ("/?at=source%3Aquays", "may see no events at", "gate 3 stuck"),
        ("/sources", "arriving", "Connect something"),
        ("/events?at=source%3Aquays", "bounded may see no events at source:quays", "stuck"),
        ("/events?at=route%3Atrouble", "gate 4 stuck", "gate 3 stuck"),
        ("/plan", "Your grants do not let you change it.", "Add a step"),
        ("/plan/suggestions", "bounded", "Add to the draft"),
        ("/plan/examples", "The plan has no examples yet.", "Make an example"),
        ("/plan/revisions", "no reason was given", "Apply it again"),
        ("/ledger", "Balanced.", ""),
        ("/deliveries", "desk", "Add a destination"),
        ("/people", "You are signed in as bounded", "Journal"),
    ] {
        browser.driver.goto(node.url(page)).await.unwrap();
        browser.sees(shown).await;
        browser.without_violations(page).await;
        let text = browser.text().await;
        assert!(not.is_empty() || !text.contains(not), "{page} shows {not:?}:\n{text}");
    }
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn while_the_service_is_away_every_page_says_so_and_heals() {
    let [source] = free_ports();
    let mut node = node(source).await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("trouble").await;
    let away = "the service does not answer";
    let places = ["Sources", "Events", "Plan", "Ledger", "Deliveries", "People"];
    // A page whose part of the console was never fetched cannot be shown, and comes by itself when the service is back.
    node.kill();
    browser.follow("Ledger").await;
    browser.sees("The page cannot be loaded: the service does not answer.").await;
    browser.without_violations("a page that cannot be fetched").await;
    node.begin().await;
    browser.sees("Balanced.").await;
    // One that was visited before says what fails.
    for place in places {
        browser.follow(place).await;
        until(place, async || {
            let title = browser.find("main h1").await.text().await.ok()?;
            (title == place).then_some(())
        })
        .await;
    }
    node.kill();
    browser.sees(away).await;
    for place in places {
        browser.follow(place).await;
        browser.sees(away).await;
        browser.without_violations(&format!("{place} while the service is away")).await;
    }
    node.begin().await;
    for place in places {
        browser.follow(place).await;
        until("the page has healed", async || (!browser.text().await.contains(away)).then_some(())).await;
    }
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
