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

#[tokio::test(flavor = "multi_thread")]
async fn what_is_very_full_is_shown_in_part_and_says_so() {
    let [source] = free_ports();
    let mut node = node(source).await;
    // Events of 200 fields, more unreadable records than are listed, and a token of each of 60 programs.
    let wide = |n: usize| {
        format!(
            "{{\"message\":\"{}\",{}}}\n",
            "a long story ".repeat(800),
            (0..200).map(|f| format!("\"reading_{f}\":{}", n * f)).collect::<Vec<_>>().join(",")
        )
    };
    let unreadable = "{\"gate\":\n".repeat(400);
    assert_ne!(post(&node.http, source, unreadable).await.status(), 500);
    until("the sample holds wide events", async || {
        assert_eq!(post(&node.http, source, (0..100).map(wide).collect::<String>()).await.status(), 200);
        let fields = node.get("/api/v1/fields?point=source:quays").await;
        (fields["fields"].as_array()?.len() > 200).then_some(())
    })
    .await;
    for n in 0..60 {
        let made = node.http.post(node.url("/api/v1/tokens")).bearer_auth(node.token()).json(&json!({ "name": format!("kiosk-{n}"), "grants": ["see"] }));
        assert!(made.send().await.unwrap().status().is_success());
    }
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("in quarantine").await;
    browser.driver.goto(node.url("/events?at=source%3Aquays")).await.unwrap();
    browser.sees("Show all 203 fields").await;
    browser.without_violations("events of very many fields").await;
    browser.fits("events of very many fields").await;
    browser.click("Show all 203 fields").await;
    browser.sees("reading_199").await;
    browser.sees("Show the first 14").await;
    browser.driver.goto(node.url("/deliveries")).await.unwrap();
    browser.sees("the text ends too early").await;
    let row = thirtyfour::By::XPath("//button[contains(., 'the text ends too early')]");
    browser.driver.find(row).await.unwrap().click().await.unwrap();
    browser.sees("older ones").await;
    browser.without_violations("a full quarantine").await;
    browser.fits("a full quarantine").await;
    browser.driver.goto(node.url("/people")).await.unwrap();
    browser.sees("kiosk-59").await;
    browser.without_violations("very many tokens").await;
    browser.fits("very many tokens").await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
