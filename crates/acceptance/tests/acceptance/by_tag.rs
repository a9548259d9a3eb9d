//! The account by tags: what a brute-force count of every event says, over kills in the midst of bodies and over changes of the plan.

use std::collections::BTreeMap;
use std::time::Duration;

use serde_json::{Value, json};

use crate::browser::Browser;
use crate::harness::{Node, free_ports, lines, post, text, until};

const PORTS: [&str; 4] = ["Tansy Quay", "Marrow Bay", "Lowmere", "Skerry Point"];

const LEVELS: [&str; 4] = ["debug", "info", "warn", "error"];

/// The level and the port of an event; one in five has no port.
fn level_and_port(n: usize) -> (&'static str, &'static str) {
    (LEVELS[n / 3 % 4], PORTS.get(n % 5).copied().unwrap_or_default())
}

fn body(from: usize, count: usize) -> String {
    let one = |n: usize| {
        let (level, port) = level_and_port(n);
        let port = if port.is_empty() { String::new() } else { format!(",\"port\":\"{port}\"") };
        format!("{{\"n\":{n},\"m\":{},\"level\":\"{level}\"{port},\"message\":\"{}\"}}\n", n % 11, "x".repeat(n % 90))
    };
    (from..from + count).map(one).collect()
}

/// A plan as chance will have it: which steps there are, at what prices.
#[derive(Default)]
struct Drawn {
    /// The levels that are dropped on arrival, by the route `web`, and by the desk.
    drops: [Option<&'static str>; 3],
    /// The port that the route `web` drops.
    no_port: Option<&'static str>,
    /// Whether the desk is sent errors by a second route.
    is_twice: bool,
    /// In millionths of a euro, for a GB and for a million events.
    price: [u64; 2],
}

impl Drawn {
    fn new(rng: &mut fastrand::Rng) -> Drawn {
        let drops = [0; 3].map(|_| LEVELS.get(rng.usize(..7)).copied());
        let price = [0; 2].map(|_| rng.u64(1..2_000_000_000));
        Drawn { drops, no_port: PORTS.get(rng.usize(..8)).copied(), is_twice: rng.bool(), price }
    }

    fn plan(&self, node: &Node, source: u16, top: &str) -> String {
        let path = |name: &str| node.folder.path().join(name).display().to_string();
        let drop = |level: Option<&str>| level.map_or(String::new(), |level| format!("'drop level = \"{level}\"', "));
        let [per_gb, per_million] = self.price.map(|micro| format!("{}.{:06}", micro / 1_000_000, micro % 1_000_000));
        let no_port = self.no_port.map_or(String::new(), |port| format!("'drop port = \"{port}\"'"));
        let twice = if self.is_twice { "[[route]]\nname = \"trouble\"\nwhen = 'level = \"error\"'\nto = [\"desk\"]\n" } else { "" };
        let [on_arrival, by_web, at_desk] = self.drops.map(drop);
        format!(
            "{top}\n[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\non_arrival = [{on_arrival}'tag team = \"quays\" when m < 4', 'tag team = \"money\" when m > 7']\n\
             [destination.desk]\nkind = \"file\"\npath = \"{}\"\nalways = [{at_desk}'remove message']\nprice = {{ per_gb = {per_gb}, per_million = {per_million} }}\n\
             [destination.vault]\nkind = \"file\"\npath = \"{}\"\n[[route]]\nname = \"web\"\ndo = [{by_web}{no_port}]\nto = [\"desk\", \"vault\"]\n{twice}",
            path("desk.jsonl"),
            path("vault.jsonl"),
        )
    }

    /// How often steps remove an event of this level and port.
    fn removals(&self, level: &str, port: &str) -> i64 {
        if self.drops[0] == Some(level) {
            return 1;
        }
        let by_web = self.drops[1] == Some(level) || self.no_port == Some(port);
        let offered = i64::from(!by_web) + i64::from(self.is_twice && level == "error");
        i64::from(by_web) + if self.drops[2] == Some(level) { offered } else { 0 }
    }

    /// What so much costs at the desk, to the last place.
    fn costs(&self, (events, bytes): (i64, i64)) -> String {
        let parts = i128::from(bytes) * i128::from(self.price[0]) + i128::from(events) * i128::from(self.price[1]) * 1_000;
        let (whole, rest) = (parts / 1_000_000_000_000_000, format!("{:015}", parts % 1_000_000_000_000_000));
        format!("{whole}.{}", &rest[..rest.trim_end_matches('0').len().max(2)])
    }
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
            tokio::task::yield_now().await;
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

/// Plans, prices and traffic by chance, with a kill in the midst of each round. A longer trial by hand: ROCKROSE_KILL_ROUNDS=100.
#[tokio::test(flavor = "multi_thread")]
async fn the_account_by_tags_is_what_every_event_adds_up_to_over_kills() {
    let rounds = std::env::var("ROCKROSE_KILL_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(6);
    let [source] = free_ports();
    let mut node = Node::start().await;
    let mut rng = fastrand::Rng::with_seed(11);
    let (each, mut all) = (40, 0);
    let mut removed: BTreeMap<String, i64> = BTreeMap::new();
    let mut drawn = Drawn::default();
    for _ in 0..rounds {
        drawn = Drawn::new(&mut rng);
        node.apply(&drawn.plan(&node, source, "account_by = [\"port\", \"team\"]"));
        let bodies: Vec<(usize, usize)> = (0..6).map(|n| (all + n * each, each)).collect();
        over_a_kill(&mut node, source, &bodies).await;
        for n in all..all + 6 * each {
            let (level, port) = level_and_port(n);
            *removed.entry(port.to_owned()).or_default() += drawn.removals(level, port);
        }
        all += 6 * each;
    }
    node.drained().await;
    node.balanced();
    for tag in ["port", "team"] {
        for destination in ["desk", "vault"] {
            let (told, money) = sent(&node, tag, destination).await;
            let expected = counted(&node.path(&format!("{destination}.jsonl")), tag);
            assert_eq!(told, expected, "{tag} at {destination}");
            for (value, money) in money.iter().filter(|_| destination == "desk") {
                assert_eq!(*money, drawn.costs(expected[value]), "{value}");
            }
        }
    }
    // What steps removed, by the values and step by step.
    let account = node.get("/api/v1/ledger/by-tag?tag=port").await;
    let values = account["values"].as_array().unwrap();
    let told: BTreeMap<String, i64> =
        values.iter().map(|share| (share["value"].as_str().unwrap().to_owned(), share["removed_events"].as_i64().unwrap())).collect();
    assert_eq!(told, removed);
    let ledger = node.get("/api/v1/ledger").await;
    let rows = ledger["rows"].as_array().unwrap();
    let by_step = rows.iter().filter(|row| row["measure"] == "removed").map(|row| row["events"].as_i64().unwrap());
    assert_eq!(by_step.sum::<i64>(), removed.values().sum::<i64>());
    // By route and by value it costs what it does by destination.
    let cost = |row: &Value| row["money"].as_str().map_or(0, parts);
    let by_row: i128 = rows.iter().map(cost).sum();
    let by_value: i128 = values.iter().flat_map(|share| share["sent"].as_array().unwrap()).map(cost).sum();
    let in_all = parts(ledger["costs"][0]["sent"].as_str().unwrap());
    assert_eq!((by_row, by_value), (in_all, in_all));
    let says = |equation: &&Value| equation["says"] == "counted = counted by port" && equation["holds"] == true;
    assert!(ledger["equations"].as_array().unwrap().iter().filter(says).count() >= 4, "a source, a route and two destinations");
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

/// A decimal number in parts of 10⁻¹⁵.
fn parts(money: &str) -> i128 {
    let (whole, rest) = money.split_once('.').unwrap();
    whole.parse::<i128>().unwrap() * 1_000_000_000_000_000 + format!("{rest:0<15}").parse::<i128>().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tag_that_comes_and_goes_leaves_the_account_whole_and_the_console_shows_it() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let send = async |node: &Node, from: usize| assert_eq!(post(&node.http, source, body(from, 60)).await.status(), 200);
    let mut from = 0;
    for top in ["", "account_by = [\"port\"]", "account_by = [\"team\"]", "account_by = [\"port\", \"team\"]"] {
        node.apply(&Drawn::default().plan(&node, source, top));
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
