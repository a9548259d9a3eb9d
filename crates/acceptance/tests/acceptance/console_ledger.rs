//! What passed set against what passed before, and the account: of any span, by team, and followed from one end to the other, in headless Chromium and by keyboard.

use diesel::prelude::*;
use serde_json::{Value, json};
use thirtyfour::prelude::*;

use crate::browser::Browser;
use crate::harness::{Node, free_ports, post, sum};

/// Moves what was counted in the last minutes into the last hour, and counts half as much yesterday and thrice as much a week ago.
fn with_a_past(node: &Node) {
    let mut spool = diesel::sqlite::SqliteConnection::establish(node.path("data/spool.db").to_str().unwrap()).unwrap();
    let copy = |back: i64, part: &str| {
        format!(
            "INSERT INTO ledger_minute (minute, place, name, via, position, sentence, measure, events, bytes) \
             SELECT minute - {back}, place, name, via, position, sentence, measure, events * {part}, bytes * {part} FROM ledger_minute WHERE minute > unixepoch() / 60 - 30"
        )
    };
    for statement in [
        // What is counted in a past that was summed up already would not be seen.
        "UPDATE rolled SET until = 0".to_owned(),
        "DELETE FROM ledger_hour".to_owned(),
        "DELETE FROM ledger_day".to_owned(),
        "UPDATE ledger_minute SET minute = minute - 10".to_owned(),
        copy(1_440, "1 / 2"),
        copy(10_080, "3"),
        // The ledger begins before the hour a week ago.
        "INSERT INTO ledger_minute (minute, place, name, via, position, sentence, measure, events, bytes) \
         VALUES (unixepoch() / 60 - 10200, 'source', 'quays', '', 0, '', 'received', 1, 1)"
            .to_owned(),
    ] {
        diesel::sql_query(statement).execute(&mut spool).unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_hour_is_set_against_yesterday_and_a_sum_followed_through_the_account() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let route = |name: &str, team: &str, when: &str| {
        format!("[[route]]\nname = \"{name}\"\nteam = \"{team}\"\nwhen = 'gate {when}'\ndo = ['remove debug']\nto = [\"desk\"]\n")
    };
    node.apply(&format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.desk]\nkind = \"discard\"\nprice = {{ per_gb = 900.0, per_million = 0.5, per_month = 30, currency = \"EUR\" }}\n{}{}",
        route("boarding", "gates", "< 5"),
        route("fares", "money", ">= 5")
    ));
    for gate in 0..10 {
        assert_eq!(post(&node.http, source, format!("{{\"gate\":{gate},\"debug\":\"none\"}}\n").repeat(1_000)).await.status(), 200);
    }
    node.drained().await;
    let before = node.get("/api/v1/flow/before").await;
    assert_eq!(
        (&before["places"][0]["point"], &before["places"][0]["yesterday"]),
        (&json!("source:quays"), &Value::Null),
        "nothing is known of a time before the first event"
    );
    node.stop().await;
    with_a_past(&node);
    node.begin().await;
    let before = node.get("/api/v1/flow/before").await;
    let of = |point: &str| before["places"].as_array().unwrap().iter().find(|p| p["point"] == point).unwrap().clone();
    for (point, events) in [("source:quays", 10_000), ("route:boarding", 5_000), ("destination:desk", 10_000)] {
        let told = of(point);
        assert_eq!([&told["now"]["events"], &told["yesterday"]["events"], &told["last_week"]["events"]], [events, events / 2, events * 3], "{told}");
    }

    // A span of the account counts its minutes, and no others.
    let now = before["until_ms"].as_i64().unwrap();
    let ledger = async |query: &str| node.get(&format!("/api/v1/ledger?{query}")).await;
    let yesterday = ledger(&format!("from_ms={}&to_ms={}", now - 25 * 3_600_000, now - 24 * 3_600_000)).await;
    assert_eq!(sum(&yesterday, "source", "quays", "received"), 5_000, "{yesterday}");
    assert_eq!(sum(&ledger(&format!("to_ms={}", now - 48 * 3_600_000)).await, "source", "quays", "received"), 30_001);
    for wrong in ["minutes=5&from_ms=1", "from_ms=120000&to_ms=60000"] {
        let answer = node.http.get(node.url(&format!("/api/v1/ledger?{wrong}"))).bearer_auth(node.token()).send().await.unwrap();
        assert_eq!(answer.status(), 400, "{wrong}");
    }
    let printed = node.client(&["ledger", "--to", "2026-01-01T00:00:00Z"]);
    assert!(String::from_utf8_lossy(&printed.stdout).contains("Nothing was counted in this time."), "{printed:?}");

    // What it costs, exactly, however it is told apart.
    let whole = node.get("/api/v1/ledger").await;
    let queued =
        |measure: &str| whole["rows"].as_array().unwrap().iter().filter(|r| r["measure"] == "enqueued").map(|r| r[measure].as_i64().unwrap()).sum::<i64>();
    let (events, bytes) = (queued("events"), queued("bytes"));
    // In parts of 10⁻⁹: a byte costs 900 of them, an event 500.
    let nano = 900 * bytes + 500 * events;
    let expected = format!("{}.{:09}", nano / 1_000_000_000, nano % 1_000_000_000);
    let expected = expected.trim_end_matches('0');
    assert_eq!((whole["costs"][0]["sent"].as_str(), &whole["costs"][0]["standing"], events), (Some(expected), &Value::Null, 10_000), "{whole}");
    for by in ["destination", "route", "team"] {
        let cost = node.json(&["cost", "--by", by]);
        assert_eq!(
            (cost["totals"][0]["money"].as_str(), cost["rows"].as_array().unwrap().len()),
            (Some(expected), if by == "destination" { 1 } else { 2 }),
            "{cost}"
        );
    }
    // What the step saved is what it took off, at the destination where that would have gone.
    let taken_off = |measure: &str| {
        whole["rows"].as_array().unwrap().iter().filter(|r| r["measure"] == measure && r["place"] == "route").map(|r| r["bytes"].as_i64().unwrap()).sum::<i64>()
    };
    let saved = 900 * (taken_off("taken") - taken_off("out"));
    let told = node.json(&["cost", "--saved"]);
    let sum: f64 = told["rows"].as_array().unwrap().iter().map(|r| r["money"].as_str().unwrap().parse::<f64>().unwrap()).sum();
    assert!(saved > 0 && (sum * 1e9 - saved as f64).abs() < 1e-3 && told["rows"][0]["step"] == "remove debug", "{saved} {told}");
    let day = node.json(&["cost", "--minutes", "1440", "--by", "team"]);
    let names: Vec<&str> = day["rows"].as_array().unwrap().iter().map(|r| r["name"].as_str().unwrap()).collect();
    let standing = day["standing"][0]["money"].as_str().unwrap().parse::<f64>().unwrap();
    assert!(names == ["gates", "money"] && (0.99..=1.0).contains(&standing), "{day}");
    let printed = String::from_utf8_lossy(&node.client(&["cost"]).stdout).into_owned();
    assert!(printed.contains("desk bills 900.00 EUR a GB, 0.50 EUR a million events and 30.00 EUR a month."), "{printed}");

    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("+100 % on yesterday").await;
    browser.sees("−67 % on last week").await;
    browser.without_violations("the flow with what passed before").await;

    // A sum is followed from where it arrived to where it went.
    browser.driver.goto(node.url("/ledger")).await.unwrap();
    browser.tab_to_start("taken by routes").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("by route fares").await;
    browser.keys(Key::Enter + "").await;
    browser.focused("The account of route fares").await;
    browser.tab_to_start("= out").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("to destination desk").await;
    browser.keys(Key::Enter + "").await;
    browser.focused("The account of destination desk").await;
    browser.tab_to_start("offered by routes").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("by route boarding").await;
    browser.without_violations("sums that are followed").await;

    // What a step has saved, and by what.
    browser.tab_to_start("What steps have saved:").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("bytes taken off").await;
    browser.without_violations("what steps have saved").await;

    // By team, with what each costs; and of any span.
    browser.tab_to_start("added up by").await;
    browser.keys(Key::Down + "").await;
    let told = browser.find("section[aria-label='By team']").await.text().await.unwrap();
    let line = |team: &str| told.lines().find(|l| l.starts_with(team)).unwrap_or_else(|| panic!("{team}: {told}")).to_owned();
    assert!(line("team gates").contains("boarding") && line("team money").contains("fares") && told.matches('€').count() == 2, "{told}");
    browser.back_to("Since the beginning").await;
    browser.keys(Key::Left + "").await;
    browser.focused("Any span").await;
    browser.keys(" ").await;
    browser.tab_to("from").await;
    browser.without_violations("the account of a span").await;
    // A month earlier: what was counted a week ago and yesterday is in it.
    browser.keys(Key::Down + "").await;
    browser.sees("45\u{202f}001").await;
    browser.driver.clone().quit().await.unwrap();
    node.balanced();
    node.stop().await;
}
