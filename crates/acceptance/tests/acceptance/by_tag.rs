//! The account by tags: what a brute-force count of every event says, over kills in the midst of bodies and over changes of the plan.

use std::collections::BTreeMap;
use std::time::Duration;

use serde_json::{Value, json};

use crate::browser::Browser;
use crate::harness::{Node, free_ports, lines, post, text, until};

const PORTS: [&str; 4] = ["Tansy Quay", "Marrow Bay", "Lowmere", "Skerry Point"];

/// Events of several ports, some without one; each third is to be removed.
fn body(from: usize, count: usize) -> String {
    let one = |n: usize| {
        let port = PORTS.get(n % 5).map_or(String::new(), |port| format!(",\"port\":\"{port}\""));
        let level = if n.is_multiple_of(3) { "debug" } else { "info" };
        format!("{{\"n\":{n},\"level\":\"{level}\"{port},\"message\":\"{}\"}}\n", "x".repeat(n % 90))
    };
    (from..from + count).map(one).collect()
}

fn plan(node: &Node, source: u16, top: &str) -> String {
    let path = |name: &str| node.folder.path().join(name).display().to_string();
    format!(
        "{top}\n[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\non_arrival = ['tag team = \"quays\" when n < 700', 'tag team = \"money\" when n >= 1400']\n\
         [destination.desk]\nkind = \"file\"\npath = \"{}\"\nalways = ['remove level']\nprice = {{ per_gb = 1234.567891 }}\n[destination.vault]\nkind = \"file\"\npath = \"{}\"\n\
         [[route]]\nname = \"web\"\ndo = ['drop level = \"debug\"']\nto = [\"desk\", \"vault\"]\n",
        path("desk.jsonl"),
        path("vault.jsonl"),
    )
}

/// Events and bytes by the value of a field.
type Sums = BTreeMap<String, (i64, i64)>;

/// What a file holds, counted line by line.
fn counted(file: &std::path::Path, field: &str) -> Sums {
    let mut sums = Sums::new();
    for line in std::fs::read_to_string(file).unwrap().lines() {
        let event: Value = serde_json::from_str(line).unwrap();
        let sum = sums.entry(event[field].as_str().unwrap_or_default().to_owned()).or_default();
        *sum = (sum.0 + 1, sum.1 + line.len() as i64);
    }
    sums
}

/// What the account says was sent to a destination, by the values of a tag.
async fn sent(node: &Node, tag: &str, destination: &str) -> (Sums, BTreeMap<String, String>) {
    let account = node.get(&format!("/api/v1/ledger/by-tag?tag={tag}")).await;
    let (mut sums, mut money) = (Sums::new(), BTreeMap::new());
    for share in account["values"].as_array().unwrap().iter().filter(|share| share["of"] != "before") {
        let value = share["value"].as_str().unwrap().to_owned();
        for sent in share["sent"].as_array().unwrap().iter().filter(|sent| sent["destination"] == destination) {
            sums.insert(value.clone(), (sent["events"].as_i64().unwrap(), sent["bytes"].as_i64().unwrap()));
            money.insert(value.clone(), sent["money"].as_str().unwrap_or_default().to_owned());
        }
    }
    (sums, money)
}

/// Posts bodies at once; those that are not acknowledged, since the node is killed meanwhile, are sent again under the same names once it is back.
async fn over_a_kill(node: &mut Node, source: u16, bodies: &[(usize, usize)]) {
    let http = node.http.clone();
    let send = move |from: usize, count: usize| {
        let request = http.post(format!("http://127.0.0.1:{source}/in")).header("Idempotency-Key", format!("body-{from}")).body(body(from, count));
        async move { request.send().await.is_ok_and(|answer| answer.status() == 200) }
    };
    let posts: Vec<_> = bodies.iter().map(|(from, count)| tokio::spawn(send(*from, *count))).collect();
    // Some of them are acknowledged by then, others are under way.
    tokio::time::timeout(Duration::from_secs(20), async {
        while !posts.iter().any(|post| post.is_finished()) {
            tokio::task::yield_now().await
        }
    })
    .await
    .unwrap();
    node.kill();
    node.begin().await;
    for (post, (from, count)) in posts.into_iter().zip(bodies) {
        if !post.await.unwrap() {
            until("the body is taken", async || send(*from, *count).await.then_some(())).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_account_by_tags_is_what_every_event_adds_up_to_over_kills() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(&node, source, "account_by = [\"port\", \"team\"]"));
    let each = 50;
    for round in 0..8 {
        let bodies: Vec<(usize, usize)> = (0..6).map(|n| ((round * 6 + n) * each, each)).collect();
        over_a_kill(&mut node, source, &bodies).await;
    }
    let all = 48 * each;
    node.drained().await;
    node.balanced();
    for tag in ["port", "team"] {
        for destination in ["desk", "vault"] {
            let (told, money) = sent(&node, tag, destination).await;
            let expected = counted(&node.path(&format!("{destination}.jsonl")), tag);
            assert_eq!(told, expected, "{tag} at {destination}");
            assert_eq!(expected.values().map(|sum| sum.0).sum::<i64>(), (all - all.div_ceil(3)) as i64);
            for (value, money) in money.iter().filter(|_| destination == "desk") {
                // A price of six decimal places for 10⁹ bytes: exact to fifteen.
                let exact = i128::from(expected[value].1) * 1_234_567_891;
                let exact = format!("{}.{:015}", exact / 1_000_000_000_000_000, exact % 1_000_000_000_000_000);
                assert_eq!(*money, exact.trim_end_matches('0'), "{value}");
            }
        }
    }
    // What steps removed, by the same values.
    let account = node.get("/api/v1/ledger/by-tag?tag=port").await;
    let removed: BTreeMap<&str, i64> =
        account["values"].as_array().unwrap().iter().map(|share| (share["value"].as_str().unwrap(), share["removed_events"].as_i64().unwrap())).collect();
    let of = |port: usize| (0..all).filter(|n| n % 3 == 0 && n % 5 == port).count() as i64;
    assert_eq!(removed, BTreeMap::from([("", of(4)), ("Tansy Quay", of(0)), ("Marrow Bay", of(1)), ("Lowmere", of(2)), ("Skerry Point", of(3))]));
    let ledger = node.get("/api/v1/ledger").await;
    let says = |equation: &&Value| equation["says"] == "counted = counted by port" && equation["holds"] == true;
    assert_eq!(ledger["equations"].as_array().unwrap().iter().filter(says).count(), 4, "a source, a route and two destinations");
    assert_eq!(ledger["tags"], json!(["port", "team"]));
    let table = text(&node.client(&["cost", "--tag", "port"]).stdout);
    for words in ["Tansy Quay", "(without port)", "in all", "saved by steps"] {
        assert!(table.contains(words), "{words} in\n{table}");
    }
    assert!(text(&node.client(&["report"]).stdout).contains("By team\n"));
    let wrong = node.client(&["cost", "--tag", "vessel"]);
    assert!(text(&wrong.stderr).contains("the account was never told apart by `vessel`; the plan does so by `port` and `team`"), "{}", text(&wrong.stderr));
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tag_that_comes_and_goes_leaves_the_account_whole_and_the_console_shows_it() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let send = async |node: &Node, from: usize| assert_eq!(post(&node.http, source, body(from, 60)).await.status(), 200);
    let mut from = 0;
    for top in ["", "account_by = [\"port\"]", "account_by = [\"team\"]", "account_by = [\"port\", \"team\"]"] {
        node.apply(&plan(&node, source, top));
        send(&node, from).await;
        from += 60;
    }
    node.drained().await;
    node.balanced();
    // Only what came while the tag was told apart is under its values; the rest is there as well.
    let port = |line: &Value| (60..120).contains(&line["n"].as_u64().unwrap()) || line["n"].as_u64().unwrap() >= 180;
    let expected = lines(&node.path("vault.jsonl")).iter().filter(|line| port(line)).count() as i64;
    assert_eq!(sent(&node, "port", "vault").await.0.values().map(|sum| sum.0).sum::<i64>(), expected);
    let account = node.get("/api/v1/ledger/by-tag").await;
    assert_eq!(account["tag"], "port");
    let in_all: i64 = account["values"].as_array().unwrap().iter().map(|share| share["arrived_events"].as_i64().unwrap()).sum();
    assert_eq!(in_all, 240);
    assert_eq!(account["values"].as_array().unwrap().last().unwrap()["of"], "before");
    // Of one part of the time, too.
    let minutes = node.get("/api/v1/ledger/by-tag?tag=team&minutes=60").await;
    let in_all: i64 = minutes["values"].as_array().unwrap().iter().map(|share| share["arrived_events"].as_i64().unwrap()).sum();
    assert_eq!(in_all, 240);

    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("ledger balanced").await;
    browser.driver.goto(node.url("/ledger")).await.unwrap();
    browser.sees("added up by").await;
    browser.find("main select").await.send_keys("the port").await.unwrap();
    for words in ["Tansy Quay", "without port", "while it was not told apart", "Take port along as CSV"] {
        browser.sees(words).await;
    }
    browser.without_violations("ledger by a tag").await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
