//! Budgets: what passes stays within them to the event, what is exempt passes, and all of it stands in the account, over kills.

use serde_json::{Value, json};

use crate::browser::Browser;
use crate::harness::{Node, free_ports, lines, post, text, until};

/// Events of 100 bytes, line ends left out: every tenth is an error.
fn body(from: usize, count: usize) -> String {
    let one = |n: usize| {
        let level = if n.is_multiple_of(10) { "error" } else { "debug" };
        let head = format!("{{\"n\":{n},\"level\":\"{level}\",\"message\":\"");
        format!("{head}{}\"}}\n", "x".repeat(100 - head.len() - 2))
    };
    (from..from + count).map(one).collect()
}

fn plan(node: &Node, source: u16, budget: &str) -> String {
    let path = |name: &str| node.folder.path().join(name).display().to_string();
    format!(
        "[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[source.watch]\nkind = \"alerts\"\n\
         [destination.desk]\nkind = \"file\"\npath = \"{}\"\nalways = ['drop severity < error when budget:desk-day >= 100 %']\nprice = {{ per_gb = 1000 }}\n\
         [destination.vault]\nkind = \"file\"\npath = \"{}\"\n[destination.told]\nkind = \"file\"\npath = \"{}\"\n\
         [[route]]\nname = \"web\"\nfrom = [\"gates\"]\nto = [\"desk\", \"vault\"]\n[[route]]\nname = \"tell\"\nfrom = [\"watch\"]\nto = [\"told\"]\n\
         [budget.desk-day]\n{budget}\nadvice = \"Ask the desk for more.\"\n",
        path("desk.jsonl"),
        path("vault.jsonl"),
        path("told.jsonl")
    )
}

async fn stands(node: &Node, name: &str) -> Value {
    node.get("/api/v1/budgets").await["budgets"].as_array().unwrap().iter().find(|b| b["name"] == name).unwrap_or(&Value::Null).clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_flood_stays_within_its_budget_and_all_that_is_exempt_passes_over_kills() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(&node, source, "allows = '400 KB a day at destination:desk'"));
    // Ten times as much as may pass, in bodies that come at once, with two kills between.
    let (mut sent, bodies, each) = (0, 40, 1_000);
    for burst in 0..4 {
        let posts = (0..bodies / 4).map(|n| {
            let (node, from) = (&node, sent + n * each);
            async move { assert_eq!(post(&node.http, source, body(from, each)).await.status(), 200) }
        });
        futures_util::future::join_all(posts).await;
        sent += bodies / 4 * each;
        if burst % 2 == 0 {
            node.kill();
            node.begin().await;
        }
    }
    node.drained().await;
    node.balanced();
    let desk = lines(&node.path("desk.jsonl"));
    assert_eq!(lines(&node.path("vault.jsonl")).len(), sent);
    let errors = desk.iter().filter(|e| e["level"] == "error").count();
    assert_eq!(errors, sent / 10, "all that is exempt left");
    // What is not exempt left until the budget was used up: by then, errors had used a tenth of it.
    let others = (desk.len() - errors) * 100;
    assert!((others as f64 / 360_000.0 - 1.0).abs() < 0.01, "{others} bytes that are not exempt");
    let state = stands(&node, "desk-day").await;
    assert_eq!(
        (state["used"].as_str().unwrap(), state["most"].as_str().unwrap(), &state["unit"]),
        ((desk.len() * 100).to_string().as_str(), "400000", &json!("bytes"))
    );
    let act = &state["acts"][0];
    assert_eq!((&act["at"], &act["acts"], &act["from_percent"]), (&json!("destination:desk"), &json!(true), &json!(100)), "{state}");
    assert_eq!(act["events"], sent - desk.len(), "what did not leave is said to have been removed");
    let saved = text(&node.client(&["cost", "--saved"]).stdout);
    assert!(saved.contains("drop severity < error when budget:desk-day >= 100 %"), "{saved}");

    // A report has the same account, whole.
    let report = node.client(&["report", "--as", "csv"]);
    let (events, bytes) = (desk.len(), desk.len() * 100);
    let went = format!("Where it went,desk,{events},{bytes},{events},,,0.");
    let report = text(&report.stdout);
    assert!(report.lines().any(|line| line.starts_with(&went) && line.ends_with(" EUR,")), "{went} in\n{report}");
    assert!(report.contains(&format!("Who sent,gates,{sent},")) && report.contains("\"Budgets, as they stand\",desk-day,"), "{report}");
    let page = node.path("report.html");
    assert!(node.client(&["report", "--as", "html", "--output", page.to_str().unwrap()]).status.success());
    let page = std::fs::read_to_string(page).unwrap();
    assert!(page.starts_with("<!doctype html>") && page.contains("<td>desk</td>") && page.contains("severity &lt; error"), "{page}");
    let before = text(&node.client(&["report", "--month", "2020-02"]).stdout);
    assert!(before.contains("Nothing was received.") && !before.contains("Budgets"), "{before}");

    // Each share is told once, whatever happened meanwhile.
    let told = || lines(&node.path("told.jsonl"));
    until("both shares are told", async || (told().len() >= 2).then_some(())).await;
    let mut names: Vec<String> =
        told().iter().map(|t| format!("{} {} {}", t["alert"].as_str().unwrap(), t["turn"].as_str().unwrap(), t["severity"].as_str().unwrap())).collect();
    names.sort_unstable();
    assert_eq!(names, ["desk-day-100 began error", "desk-day-80 began warn"]);
    let of = told().into_iter().find(|t| t["alert"] == "desk-day-100").unwrap();
    assert!(of["message"].as_str().unwrap().contains("% of 400 KB a day at destination:desk are used") && of["advice"] == "Ask the desk for more.", "{of}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_budget_is_lifted_until_its_period_is_over_and_changed_without_losing_count() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    // 100 bytes at 1000 EUR a GB are a ten-thousandth of one.
    node.apply(&plan(&node, source, "allows = '0.005 EUR a day at destination:desk'\ntell = [\"100 %\"]"));
    let post = async |from: usize, count: usize| assert_eq!(post(&node.http, source, body(from, count)).await.status(), 200);
    let used = async || stands(&node, "desk-day").await["used"].as_str().unwrap().to_owned();
    post(0, 100).await;
    // Fifty events use it up; five of the other fifty are errors.
    assert_eq!(used().await, "0.0055");
    let listed = text(&node.client(&["budget", "list"]).stdout);
    for words in ["desk-day", "0.005 EUR a day at destination:desk", "110 %", "used up", "acts now; 45 events"] {
        assert!(listed.contains(words), "{words} in\n{listed}");
    }
    let why = text(&node.client(&["why", &node.write("event.json", "{\"level\":\"debug\",\"message\":\"a\"}"), "--source", "gates"]).stdout);
    assert!(why.contains("drop severity < error when budget:desk-day >= 100 %"), "{why}");
    assert_eq!(used().await, "0.0055", "what is only tried counts for nothing");

    let lifted = text(&node.client(&["budget", "lift", "desk-day"]).stdout);
    assert!(lifted.contains("Nothing is done by `desk-day` until "), "{lifted}");
    post(100, 100).await;
    assert_eq!(used().await, "0.0155", "all of it passed and is counted");
    node.kill();
    node.begin().await;
    post_again(&node, source, 200).await;
    assert_eq!(stands(&node, "desk-day").await["lift"]["who"], "admin", "also after a restart");
    assert_eq!(stands(&node, "desk-day").await["used"], "0.0165");
    assert!(node.client(&["budget", "lift", "desk-day", "--end"]).status.success());
    post_again(&node, source, 210).await;
    assert_eq!(stands(&node, "desk-day").await["used"], "0.0166", "only what is exempt passes again");
    let unknown = node.client(&["budget", "lift", "dusk-day"]);
    assert!(!unknown.status.success() && text(&unknown.stderr).contains("has no budget `dusk-day`"), "{unknown:?}");

    // A larger one counts what was used before it.
    node.apply(&plan(&node, source, "allows = '5 EUR a month at route:web'"));
    let state = stands(&node, "desk-day").await;
    assert_eq!((&state["used"], &state["percent"]), (&json!("0.0166"), &json!(0)), "{state}");
    let metrics = node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap();
    assert!(metrics.lines().any(|l| l.starts_with("rockrose_budget_used_ratio{budget=\"desk-day\"} 0.0033")), "{metrics}");
    for (wrong, says) in [
        ("allows = '5 USD a month at route:web'", "bills in EUR, not in USD"),
        ("allows = '-1 EUR a month at route:web'", "a budget allows more than nothing"),
        ("allows = '5 EUR a month at destination:vault'", "can never be used"),
    ] {
        let refused = node.client(&["check", &node.write("wrong.toml", &plan(&node, source, wrong))]);
        assert!(!refused.status.success() && text(&refused.stdout).contains(says), "{wrong}: {refused:?}");
    }
    node.drained().await;
    node.balanced();
    node.stop().await;
}

async fn post_again(node: &Node, source: u16, from: usize) {
    assert_eq!(post(&node.http, source, body(from, 10)).await.status(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_shows_budgets_lifts_them_and_adds_them() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(&node, source, "allows = '5 KB a day at destination:desk'"));
    assert_eq!(post(&node.http, source, body(0, 100)).await.status(), 200);
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("ledger balanced").await;
    browser.driver.goto(node.url("/ledger")).await.unwrap();
    for words in ["used up", "5.5 kB of 5.0 kB, 110 %", "Ask the desk for more.", "acts at"] {
        browser.sees(words).await;
    }
    browser.without_violations("ledger with budgets").await;
    browser.click("Lift desk-day until its period ends").await;
    browser.sees("Lifted by ").await;
    assert_eq!(stands(&node, "desk-day").await["lift"]["who"], "admin");
    browser.click("Let steps act by desk-day again").await;
    until("it acts again", async || stands(&node, "desk-day").await["lift"].is_null().then_some(())).await;

    browser.driver.goto(node.url("/plan")).await.unwrap();
    browser.click("Add a budget").await;
    browser.tab_to("Name").await;
    browser.keys("gates-month").await;
    browser.click("Add to the draft").await;
    browser.sees("allows = '40 GB a day at destination:desk'").await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
