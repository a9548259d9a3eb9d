//! Alerts: somebody is told once when something is wrong, and once when it is over, whatever happens to the service meanwhile.

use diesel::prelude::*;
use serde_json::{Value, json};

use crate::harness::{Node, free_ports, lines, post, text, until};
use crate::queues::stand_in;

const EVENT: &str = "{\"gate\":4}\n";

fn plan(source: u16, desk: u16, folder: &std::path::Path, alerts: &str) -> String {
    format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[source.watch]\nkind = \"alerts\"\n\
         [destination.desk]\nkind = \"http\"\nendpoints = [\"http://127.0.0.1:{desk}/in\"]\n[destination.told]\nkind = \"file\"\npath = \"{}\"\n\
         [[route]]\nname = \"gates\"\nfrom = [\"quays\"]\ndo = ['count as refused when severity >= error']\nto = [\"desk\"]\n[[route]]\nname = \"tell\"\nfrom = [\"watch\"]\nwhen = 'severity >= error'\nto = [\"told\"]\n{alerts}",
        folder.join("told.jsonl").display()
    )
}

async fn stands(node: &Node, name: &str) -> Value {
    node.get("/api/v1/alerts").await["alerts"].as_array().unwrap().iter().find(|a| a["name"] == name).unwrap_or(&Value::Null).clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_told_of_a_failing_destination_is_told_once_over_kills() {
    let [source, desk] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(
        source,
        desk,
        node.folder.path(),
        "[alert.desk-fails]\nwhen = 'destination:desk failing for 1 second'\nfor = \"1 second\"\nseverity = \"error\"\nadvice = \"Call the desk.\"\n\
         [alert.quays-silent]\nwhen = 'source:quays silent for 1 second'\nseverity = \"error\"\n[alert.told-fails]\nwhen = 'destination:told failing for 1 second'\n",
    ));
    let file = node.path("told.jsonl");
    let told = || lines(&file);
    let turns = |told: &[Value]| told.iter().map(|t| format!("{} {}", t["alert"].as_str().unwrap(), t["turn"].as_str().unwrap())).collect::<Vec<_>>();
    until("the alerts are looked at", async || (stands(&node, "desk-fails").await["says"] == "destination:desk is not failing").then_some(())).await;
    assert_eq!(post(&node.http, source, EVENT).await.status(), 200);
    let of = |name: &str| told().into_iter().filter(|t| t["alert"] == name).collect::<Vec<_>>();
    until("both are told", async || (of("desk-fails").len() == 1 && of("quays-silent").len() == 1).then_some(())).await;
    let first = of("desk-fails")[0].clone();
    assert_eq!((&first["turn"], &first["severity"], &first["advice"]), (&json!("began"), &json!("error"), &json!("Call the desk.")), "{first}");
    assert!(first["message"].as_str().unwrap().starts_with("desk-fails: destination:desk has accepted nothing for "), "{first}");

    // Killed and begun again, it knows that it was told. It is found out anew that the destination fails.
    node.kill();
    node.begin().await;
    let on = stands(&node, "desk-fails").await;
    assert_eq!((&on["phase"], &on["acknowledged_by"]), (&json!("on"), &Value::Null), "{on}");
    let listed = text(&node.client(&["alert", "list"]).stdout);
    assert!(listed.contains("desk-fails") && listed.contains("on for") && listed.contains("desk-fails: Call the desk."), "{listed}");
    let metrics = node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap();
    for line in ["rockrose_alert_on{alert=\"desk-fails\",severity=\"error\"} 1", "rockrose_alert_on{alert=\"told-fails\",severity=\"warn\"} 0"] {
        assert!(metrics.lines().any(|l| l == line), "{line} in\n{metrics}");
    }
    let status = text(&node.client(&["status"]).stdout);
    assert!(status.contains("Alerts that are on: desk-fails, quays-silent."), "{status}");
    assert!(node.client(&["alert", "acknowledge", "desk-fails"]).status.success());
    assert!(!text(&node.client(&["status"]).stdout).contains("desk-fails"), "somebody has seen it");
    assert_eq!(stands(&node, "desk-fails").await["acknowledged_by"], "admin");
    let wrong = node.client(&["alert", "acknowledge", "told-fails"]);
    assert!(!wrong.status.success() && text(&wrong.stderr).contains("is not on"), "{wrong:?}");

    let _desk = stand_in(&node, desk, &[]);
    until("it is over", async || (of("desk-fails").len() >= 2).then_some(())).await;
    assert_eq!(turns(&of("desk-fails")), ["desk-fails began", "desk-fails over"]);
    assert_eq!(turns(&of("quays-silent")), ["quays-silent began"], "nothing was heard since, whenever the service began to listen");
    assert_eq!(of("desk-fails")[1]["since"], first["since"], "when it is over, it is said since when it was so");
    let history = text(&node.client(&["alert", "history", "desk-fails"]).stdout);
    assert!(history.contains("is over") && history.contains("began") && !history.contains("told-fails"), "{history}");
    node.drained().await;
    node.balanced();
    let journal = text(&node.client(&["journal"]).stdout);
    assert!(journal.contains("acknowledge alert"), "{journal}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_is_told_by_mail_gets_one_letter_of_what_happens_together() {
    let [source, mail] = free_ports();
    let mut node = Node::start().await;
    let letters = node.path("letters.txt");
    let plan = |sign_in: &str| {
        format!(
            "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[source.watch]\nkind = \"alerts\"\n\
             [destination.duty]\nkind = \"mail\"\nserver = \"smtp://127.0.0.1:{mail}\"\nfrom = \"rockrose@ferries.example\"\nto = [\"duty@ferries.example\"]\ngather_for = \"2 seconds\"\n{sign_in}\n\
             [[route]]\nname = \"tell\"\nfrom = [\"watch\"]\nto = [\"duty\"]\n\
             [alert.a]\nwhen = 'source:quays silent for 1 second'\nadvice = \"Look at the quays.\"\n[alert.b]\nwhen = 'source:quays silent for 1 second'\nseverity = \"error\"\n"
        )
    };
    let wrong = node.client(&["check", &node.write("wrong.toml", &plan("unprotected = true\nuser = \"rockrose\"\npassword = { secret = \"mail\" }"))]);
    assert!(!wrong.status.success() && text(&wrong.stdout).contains("the password would be sent unprotected"), "{wrong:?}");
    node.apply(&plan("unprotected = true"));
    assert_eq!(post(&node.http, source, EVENT).await.status(), 200);
    // What waits for a server that is not there yet goes once it is.
    until("it fails", async || text(&node.client(&["destination", "list"]).stdout).contains("failing").then_some(())).await;
    let _server = crate::harness::spawn(
        &["standin", "--as", "mail", "--listen", &format!("127.0.0.1:{mail}"), "--into", letters.to_str().unwrap()],
        &node.path("mail.log"),
    );
    node.drained().await;
    let got = std::fs::read_to_string(&letters).unwrap();
    assert_eq!(got.matches("Subject: ").count(), 1, "{got}");
    for words in ["To: duty@ferries.example", "Subject: [error] b: nothing was heard from source:quays for ", "(and 1 more)", "    advice: Look at the quays."]
    {
        assert!(got.contains(words), "{words} in\n{got}");
    }
    let tested = text(&node.client(&["destination", "test", "duty"]).stdout);
    assert!(tested.contains("a test letter was accepted"), "{tested}");
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_fills_and_a_token_that_ends_are_told_before_it_is_too_late() {
    let [source, desk] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(
        source,
        desk,
        node.folder.path(),
        "[alert.disk]\nwhen = 'disk >= 1 %'\n[alert.full]\nwhen = 'disk >= 100 %'\n[alert.soon]\nwhen = 'any token ends within 72 hours'\n[alert.later]\nwhen = 'any token ends within 24 hours'\n",
    ));
    until("the disk is looked at", async || (stands(&node, "disk").await["phase"] == "on").then_some(())).await;
    let disk = stands(&node, "disk").await;
    assert!(disk["says"].as_str().unwrap().contains("% of the disk with the data are used, and ") && stands(&node, "full").await["phase"] == "quiet", "{disk}");
    assert_eq!(stands(&node, "soon").await["says"], "no token ends within 72 hours");
    assert!(node.client(&["token", "make", "probe", "--grant", "see", "--days", "2"]).status.success());
    node.kill();
    node.begin().await;
    until("the token is looked at", async || (stands(&node, "soon").await["phase"] == "on").then_some(())).await;
    assert!(stands(&node, "soon").await["says"].as_str().unwrap().starts_with("the token `probe` ends in "));
    assert_eq!(stands(&node, "later").await["phase"], "quiet");
    node.stop().await;
}

/// Counts 600 events at a source and a route in each of the last ten minutes, and one event a week before.
fn with_a_past(node: &Node) {
    let mut spool = diesel::sqlite::SqliteConnection::establish(node.path("data/spool.db").to_str().unwrap()).unwrap();
    let row = |minutes: &str, place: &str, name: &str, measure: &str, events: i64| {
        format!(
            "WITH RECURSIVE back(n) AS ({minutes}) INSERT INTO ledger_minute (minute, place, name, via, position, sentence, measure, events, bytes) \
             SELECT unixepoch() / 60 - n, '{place}', '{name}', '', 0, '', '{measure}', {events}, {events} * 10 FROM back"
        )
    };
    let last = "SELECT 0 UNION ALL SELECT n + 1 FROM back WHERE n < 9";
    let refused = "WITH RECURSIVE back(n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM back WHERE n < 9) INSERT INTO metric_minute (minute, metric, labels, count, content) \
                   SELECT unixepoch() / 60 - n, 'refused', '[]', 30.0, '' FROM back";
    for statement in [
        refused.to_owned(),
        row(last, "route", "gates", "taken", 50),
        row("SELECT 10200", "source", "quays", "received", 1),
        row(last, "source", "quays", "received", 600),
        row(last, "source", "quays", "quarantined", 3),
        row("SELECT n + 90 FROM (WITH RECURSIVE b(n) AS (SELECT 0 UNION ALL SELECT n + 1 FROM b WHERE n < 9) SELECT n FROM b)", "route", "gates", "taken", 50),
    ] {
        diesel::sql_query(statement).execute(&mut spool).unwrap();
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn volumes_are_watched_tried_on_the_past_and_silenced() {
    let [source, desk] = free_ports();
    let mut node = Node::start().await;
    let _desk = stand_in(&node, desk, &[]);
    node.apply(&plan(source, desk, node.folder.path(), ""));
    node.stop().await;
    with_a_past(&node);
    node.begin().await;
    let alert = |name: &str, when: &str| format!("[alert.{name}]\nwhen = '{when}'\nseverity = \"error\"\n");
    let alerts = [
        alert("much", "events at source:quays over 5 minutes > 1000"),
        alert("unreadable", "bytes quarantined at source:quays over 2 minutes > 1 KB"),
        alert("few", "events at source:quays over 5 minutes < 1"),
        alert("unlike", "events at source:quays over 5 minutes > 300 % of yesterday"),
        alert("shares", "metric refused over 5 minutes > 50 % of events at route:gates"),
        alert("quiet", "source:quays silent for 1 hour"),
        alert("piled", "waiting at destination:desk > 0 B").replace("> 0 B", "> 100 events"),
    ];
    let apply = |of: &[String]| node.apply(&plan(source, desk, node.folder.path(), &of.concat()));
    // What is silenced is not told while it is so.
    apply(&alerts[6..]);
    until("it is there", async || (stands(&node, "piled").await["phase"] == "quiet").then_some(())).await;
    apply(&alerts);
    let silence = node.json(&["alert", "silence", "much", "--minutes", "5"]);
    assert_eq!(silence["who"], "admin");
    until("all are looked at", async || stands(&node, "unlike").await["says"].is_string().then_some(())).await;
    let expected = [("unreadable", "quiet"), ("few", "quiet"), ("unlike", "on"), ("shares", "on"), ("quiet", "quiet"), ("piled", "quiet"), ("much", "on")];
    until("each stands as it should", async || {
        let all = node.get("/api/v1/alerts").await;
        let phase = |name: &str| all["alerts"].as_array().unwrap().iter().find(|a| a["name"] == name).unwrap()["phase"].clone();
        expected.iter().all(|(name, is)| phase(name) == *is).then_some(())
    })
    .await;
    assert_eq!(stands(&node, "shares").await["says"], "150 events counted as refused in 5 minutes, against 250 events at route:gates");
    assert_eq!(stands(&node, "unlike").await["says"], "3000 events at source:quays in 5 minutes, against 0 events yesterday");
    let silenced = stands(&node, "much").await;
    let told = || lines(&node.path("told.jsonl")).iter().map(|t| t["alert"].as_str().unwrap().to_owned()).collect::<Vec<_>>();
    until("the others are told", async || told().contains(&"unlike".to_owned()).then_some(())).await;
    if silenced["since_ms"].as_i64() > Some(silence["until_ms"].as_i64().unwrap() - 300_000) {
        assert!(!told().contains(&"much".to_owned()), "it was silenced before it was on");
    }
    assert!(node.client(&["alert", "silence", "much", "--end"]).status.success());
    until("when the silence is over, it is told", async || told().contains(&"much".to_owned()).then_some(())).await;

    // The same sentences, tried on the past: an hour and a half ago, and now.
    let past = node.json(&["alert", "try", "events at route:gates over 1 minute > 40", "--minutes", "240"]);
    let stretch = &past["stretches"][0];
    let minutes = (stretch["until_ms"].as_i64().unwrap() - stretch["from_ms"].as_i64().unwrap()) / 60_000;
    assert_eq!((past["stretches"].as_array().unwrap().len(), minutes, &stretch["says"]), (2, 10, &json!("50 events at route:gates in 1 minute")), "{past}");
    let shares = node.json(&["alert", "try", "metric refused over 1 minute > 50 % of events at route:gates", "--minutes", "60"]);
    assert_eq!(shares["stretches"].as_array().unwrap().len(), 1, "{shares}");
    let printed = text(&node.client(&["alert", "try", "much", "--minutes", "60"]).stdout);
    assert!(printed.contains("it would have been on 1 time in the last"), "{printed}");
    for (wrong, says) in [
        ("source:quays silent for 5 minutes", "only volumes are kept"),
        ("events at quays over 5 minutes > 1", "unexpected `quays`"),
        ("gone", "there is no alert `gone`"),
    ] {
        let refused = node.client(&["alert", "try", wrong]);
        assert!(!refused.status.success() && text(&refused.stderr).contains(says), "{wrong}: {refused:?}");
    }
    let refused = node.http.put(node.url("/api/v1/alerts/much/silence")).bearer_auth(node.token()).json(&json!({ "minutes": 0 })).send().await.unwrap();
    assert_eq!(refused.status(), 400);

    // One that leaves the plan while it is on is told to be over.
    apply(&alerts[3..]);
    until("it is over", async || {
        let told = lines(&node.path("told.jsonl"));
        told.iter().any(|t| t["alert"] == "much" && t["turn"] == "over" && t["message"] == "much is over: it is not watched any more").then_some(())
    })
    .await;
    assert_eq!(stands(&node, "much").await, Value::Null);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn in_the_browser_an_alert_is_added_seen_acknowledged_and_silenced_by_keyboard() {
    use crate::browser::Browser;
    use thirtyfour::prelude::*;

    let [source, desk] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, desk, node.folder.path(), ""));
    assert_eq!(post(&node.http, source, EVENT).await.status(), 200);
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    browser.driver.goto(node.url("/alerts")).await.unwrap();
    browser.sees("The plan has no alerts yet.").await;
    browser.without_violations("no alerts").await;

    // Added by a form; its sentence is then written where it stands, with what may follow.
    browser.tab_to("Add an alert in the plan").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Suggestions").await;
    browser.tab_to("Add an alert").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Its sentence can be changed afterwards").await;
    browser.tab_to("Name").await;
    browser.keys("desk-fails").await;
    browser.tab_to_start("Severity").await;
    browser.keys(Key::Down + "").await;
    browser.without_violations("the form for an alert").await;
    browser.tab_to("Add to the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.find("section[aria-label='alert desk-fails']").await;
    browser.tab_to_start("Edit the condition: destination:desk failing for 2 minutes").await;
    browser.keys(Key::Enter + "").await;
    browser.focused("What it watches").await;
    for _ in 0.."2 minutes".len() {
        browser.keys(Key::Backspace + "").await;
    }
    browser.keys("1 second").await;
    browser.sees("On while destination:desk has accepted nothing for 1 second, although it was sent something.").await;
    browser.without_violations("the sentence of an alert").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to_start("Apply…").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Why, for those who look at it later").await;
    browser.keys("somebody should know").await;
    browser.keys(Key::Enter + "").await;
    until("it is applied", async || (stands(&node, "desk-fails").await["severity"] == "error").then_some(())).await;

    // It is on, and said so on every page; who has seen it says so.
    browser.driver.goto(node.url("/")).await.unwrap();
    browser.sees("▲ 1 alert").await;
    browser.tab_to("▲ 1 alert").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("▲ 1 of 1 is on.").await;
    browser.sees("has accepted nothing for").await;
    browser.without_violations("an alert that is on").await;
    for (width, height) in [(390, 844), (1024, 768)] {
        browser.screen(width, height).await;
        browser.sees("What was told").await;
        browser.fits(&format!("alerts at {width}")).await;
    }
    browser.screen(1280, 800).await;
    browser.tab_to_start("Acknowledge").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Acknowledged by admin").await;
    browser.driver.find(By::Css("select[aria-label='Silence desk-fails']")).await.unwrap().send_keys(Key::Down + "").await.unwrap();
    browser.sees("Silenced by admin for").await;
    browser.tab_to_start("End the silence").await;
    browser.keys(Key::Enter + "").await;
    until("the silence is over", async || stands(&node, "desk-fails").await["silence"].is_null().then_some(())).await;
    let _desk = stand_in(&node, desk, &[]);
    browser.sees("✓ None of 1 is on.").await;
    browser.sees("is over").await;
    let log = node.json(&["journal"]);
    assert!(log.to_string().contains("silence alert"), "{log}");
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_comes_later_than_promised_is_measured_and_told() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.desk]\nkind = \"file\"\npath = \"{}\"\nwithin = \"30 seconds for 90 %\"\n\
         [destination.vault]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"desk\", \"vault\"]\n[alert.desk-late]\nwhen = 'promise of destination:desk used >= 200 %'\n",
        node.path("desk.jsonl").display()
    ));
    // Each with a time of its own: three of four have just happened, the others three minutes ago; some tell no time, and count for nothing.
    let event = |n: i64| {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_millis() as i64;
        format!("{{\"time\":{},\"n\":{n}}}\n", now - if n % 4 == 0 { 180_000 } else { 0 })
    };
    for n in 0..40 {
        let timeless = if n % 10 == 0 { "{\"n\":\"no time\"}\n" } else { "" };
        assert_eq!(post(&node.http, source, event(n) + timeless).await.status(), 200);
        node.drained().await;
    }
    let of = async |name: &str| {
        let flow = node.get("/api/v1/flow").await;
        flow["destinations"].as_array().unwrap().iter().find(|d| d["name"] == name).unwrap()["health"]["event_ages"].clone()
    };
    let ages = of("desk").await;
    assert_eq!(ages["events"], 40, "{ages}");
    let at = |quantile: &str| ages[quantile].as_f64().unwrap();
    assert!(at("p50_ms") < 30_000.0 && (180_000.0..216_000.0).contains(&at("p90_ms")), "{ages}");
    assert_eq!(ages["promise"], json!({ "within_ms": 30_000, "percent": 90.0, "late_percent": 25.0, "used_percent": 250 }));
    assert!(of("vault").await["promise"].is_null());
    let shown = text(&node.client(&["destination", "show", "desk"]).stdout);
    assert!(shown.contains("90 % within 30 s; 25.00 % were late, which uses 250 % of what may be"), "{shown}");
    let says = "250 % of the events that may come late to destination:desk did so in the last hour";
    let is_told = |alert: &Value| alert["phase"] == "on" && alert["says"] == says;
    until("it is told", async || is_told(&stands(&node, "desk-late").await).then_some(())).await;
    let metrics = node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap();
    assert!(metrics.lines().any(|line| line == "rockrose_destination_promise_used_ratio{destination=\"desk\"} 2.5"), "{metrics}");

    // The ready-made alerts leave to the plan what it watches itself.
    let added = text(&node.client(&["kit", "add", "watch", "--yes"]).stdout);
    assert!(added.contains("12 alerts are there."), "{added}");
    let listed = text(&node.client(&["alert", "list"]).stdout);
    assert!(listed.contains("desk-failing") && listed.contains("quays-silent") && !listed.contains("desk-promise"), "{listed}");
    let again = text(&node.client(&["kit", "add", "watch", "--yes"]).stdout);
    assert!(again.contains("The plan watches all of this already."), "{again}");
    node.stop().await;
}
