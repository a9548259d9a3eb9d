//! Clients that others wrote, as they are: `logger` in its ways, Python's own handlers, curl. And what is said of a source that hears nothing, or the wrong thing.

use std::io::Write;
use std::net::TcpStream;
use std::process::{Command, Stdio};

use crate::harness::{Node, free_ports, lines, post, sum, text, until};

const MANY: usize = 100_000;

fn plan(sources: &str, folder: &std::path::Path) -> String {
    format!("{sources}\n[destination.vault]\nkind = \"file\"\npath = \"{}/vault.jsonl\"\n[[route]]\nname = \"all\"\nto = [\"vault\"]\n", folder.display())
}

fn source(name: &str, kind: &str, port: u16, more: &str) -> String {
    format!("[source.{name}]\nkind = \"{kind}\"\nlisten = \"127.0.0.1:{port}\"\n{more}\n")
}

/// The numbers at the end of the messages that arrived.
fn numbers(node: &Node) -> Vec<usize> {
    let number = |e: &serde_json::Value| e["message"].as_str().and_then(|m| m.rsplit(' ').next()?.parse().ok());
    lines(&node.path("vault.jsonl")).iter().filter_map(number).collect()
}

/// How many datagrams a source says were lost.
fn lost(node: &Node, source: &str) -> usize {
    let shown = node.json(&["source", "show", source]);
    let lost = shown["troubles"].as_array().unwrap().iter().filter(|t| t["what"] == "lost");
    lost.map(|t| t["times"].as_u64().unwrap() as usize).sum()
}

/// Runs a client with `input`; it must end well.
fn run(program: &str, args: &[&str], input: &[u8]) {
    let mut child = Command::new(program).args(args).stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap_or_else(|e| panic!("{program}: {e}"));
    child.stdin.take().unwrap().write_all(input).unwrap();
    assert!(child.wait().unwrap().success(), "{program} {args:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn logger_sends_in_all_its_ways() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(&source("system", "syslog", port, ""), node.folder.path()));
    let port = port.to_string();
    let input: String = (0..MANY).map(|n| format!("ticket read {n}\n")).collect();
    let mut expected = 0;
    for framing in [&["--tcp", "--octet-count"][..], &["--tcp"]] {
        for format in ["--rfc5424", "--rfc3164"] {
            let args = [framing, &["--server", "127.0.0.1", "--port", &port, format, "--tag", "gates", "--priority", "local3.warning"]].concat();
            // One of the four in full, the others with a tenth.
            let much = if expected == 0 { &input[..] } else { &input[..input.match_indices('\n').nth(MANY / 10 - 1).unwrap().0 + 1] };
            run("logger", &args, much.as_bytes());
            expected += much.lines().count();
            until("all are there", async || (numbers(&node).len() >= expected).then_some(())).await;
        }
    }
    let all = numbers(&node);
    assert_eq!(all.len(), expected);
    assert!(all[..MANY].iter().enumerate().all(|(i, n)| i == *n), "each once and in order");
    // Datagrams can be lost, but then it is known how many.
    let few: String = (0..2_000).map(|n| format!("datagram {n}\n")).collect();
    run("logger", &["--udp", "--server", "127.0.0.1", "--port", &port, "--rfc5424"], few.as_bytes());
    until("all came or are counted", async || (numbers(&node).len() + lost(&node, "system") >= expected + 2_000).then_some(())).await;
    let event = &lines(&node.path("vault.jsonl"))[0];
    assert_eq!((event["severity"].as_str(), event["facility"].as_str(), event["app"].as_str()), (Some("warning"), Some("local3"), Some("gates")));
    assert!(event.get("syslog.broken").is_none(), "{event}");
    assert_eq!(node.json(&["source", "show", "system"])["state"], "flowing");
    node.balanced();
    node.stop().await;
}

/// Sends numbered records by Python's own handlers.
const HANDLERS: &str = r#"
import logging, logging.handlers, socket, sys
way, port, count = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
if way == "http":
    class Handler(logging.handlers.HTTPHandler):
        def mapLogRecord(self, record):
            return {"message": record.getMessage(), "level": record.levelname.lower()}
    handler = Handler("127.0.0.1:%d" % port, "/in", method="POST")
else:
    kind = socket.SOCK_STREAM if way == "tcp" else socket.SOCK_DGRAM
    handler = logging.handlers.SysLogHandler(("127.0.0.1", port), socktype=kind)
log = logging.getLogger("gates")
log.setLevel(logging.INFO)
log.addHandler(handler)
for n in range(count):
    log.warning("ticket read %d", n)
handler.close()
"#;

#[tokio::test(flavor = "multi_thread")]
async fn pythons_handlers_and_curl_send_as_they_do() {
    let [system, web, raw] = free_ports();
    let mut node = Node::start().await;
    let sources = [source("system", "syslog", system, ""), source("web", "http", web, ""), source("raw", "tcp", raw, "")].concat();
    node.apply(&plan(&sources, node.folder.path()));
    let script = node.write("handlers.py", HANDLERS);
    run("python3", &[&script, "tcp", &system.to_string(), &MANY.to_string()], b"");
    until("all are there", async || (numbers(&node).len() >= MANY).then_some(())).await;
    run("python3", &[&script, "udp", &system.to_string(), "10000"], b"");
    until("datagrams came, or are counted", async || (numbers(&node).len() + lost(&node, "system") >= MANY + 10_000).then_some(())).await;
    assert!(numbers(&node).len() > MANY + 1_500, "a sender that is no faster than a script loses few: {}", numbers(&node).len());
    let unmarked = lines(&node.path("vault.jsonl")).iter().filter(|e| e.get("syslog.broken").is_some()).count();
    assert_eq!(unmarked, 0, "Python's messages are whole");
    // Its HTTP handler posts forms, whose fields become those of the events.
    let before = numbers(&node).len();
    run("python3", &[&script, "http", &web.to_string(), "50"], b"");
    until("what was posted came", async || (numbers(&node).len() >= before + 50).then_some(())).await;
    assert_eq!(numbers(&node)[before..], (0..50).collect::<Vec<_>>());
    assert_eq!(lines(&node.path("vault.jsonl"))[before], serde_json::json!({ "message": "ticket read 0", "level": "warning" }));
    assert_eq!(sum(&node.balanced(), "source", "web", "read"), 50);
    let url = format!("http://127.0.0.1:{web}/in");
    let body: String = (0..MANY).map(|n| format!("{{\"message\":\"ticket read {n}\"}}\n")).collect();
    let file = node.write("events.jsonl", &body);
    run("curl", &["--silent", "--fail", "--data-binary", &format!("@{file}"), &url], b"");
    // What is shown to paste does what it says.
    for (name, with) in [("web", "curl, one event"), ("raw", "bash"), ("system", "logger, TCP")] {
        let shown = node.json(&["source", "show", name]);
        let line = shown["send"].as_array().unwrap().iter().find(|l| l["with"] == with).unwrap()["line"].as_str().unwrap().to_owned();
        let before = shown["events"].as_u64().unwrap();
        run("bash", &["-c", &line], b"");
        until(&line, async || (node.json(&["source", "show", name])["events"].as_u64().unwrap() == before + 1).then_some(())).await;
    }
    node.drained().await;
    assert_eq!(lines(&node.path("vault.jsonl")).iter().filter(|e| e["message"] == "hello").count(), 3);
    assert!(numbers(&node).len() + lost(&node, "system") >= 2 * MANY + 10_000);
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_source_that_hears_nothing_or_the_wrong_thing_says_why() {
    let [web, system, otlp] = free_ports();
    let mut node = Node::start().await;
    let secret = Command::new(crate::harness::binary())
        .args(["--config", node.path("data/client.toml").to_str().unwrap(), "secret", "set", "k", "--for", "anywhere"])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .and_then(|mut c| {
            c.stdin.take().unwrap().write_all(b"sandpiper")?;
            c.wait()
        });
    assert!(secret.unwrap().success());
    let sources = [
        source("web", "http", web, "key = { secret = \"k\" }"),
        source("system", "syslog", system, "over = \"tcp\"\nallow = [\"192.0.2.0/24\"]"),
        source("records", "otlp", otlp, ""),
    ];
    node.apply(&plan(&sources.concat(), node.folder.path()));
    let shown = |name: &str| node.json(&["source", "show", name]);
    assert_eq!((shown("web")["state"].as_str(), shown("web")["says"].as_str()), (Some("unheard"), Some("no events received yet")));
    assert_eq!(post(&node.http, web, "{}").await.status(), 401);
    let _ = TcpStream::connect(("127.0.0.1", system)).unwrap();
    let answer = node.http.post(format!("http://127.0.0.1:{otlp}/v1/traces")).body("{}").send().await.unwrap();
    assert_eq!(answer.status(), 404);
    for (name, what, says) in
        [("web", "key", "needs its key"), ("system", "address", "127.0.0.1 is not an allowed address"), ("records", "format", "only logs are accepted")]
    {
        let shown = until(name, async || Some(node.json(&["source", "show", name])).filter(|s| s["state"] == "troubled")).await;
        assert_eq!(shown["troubles"][0]["what"], what);
        assert!(shown["says"].as_str().unwrap().contains(says), "{shown}");
    }
    let told = text(&node.client(&["source", "show", "web"]).stdout);
    assert!(told.contains("troubled") && told.contains("Authorization: Bearer KEY") && !told.contains("sandpiper"), "{told}");
    assert!(text(&node.client(&["source", "list"]).stdout).contains("records"));
    // Heard at last.
    let sent = node.http.post(format!("http://127.0.0.1:{web}/in")).bearer_auth("sandpiper").body("{}").send().await.unwrap();
    assert_eq!(sent.status(), 200);
    assert_eq!(shown("web")["state"], "flowing");
    // A port may change what it speaks, or its certificate, without being let go.
    let swapped = sources.concat().replace("kind = \"otlp\"", "kind = \"http\"");
    node.apply(&plan(&swapped, node.folder.path()));
    assert_eq!(post(&node.http, otlp, "{}").await.status(), 200);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn why_tells_of_an_event_and_touches_nothing() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let routes = "[[route]]\nname = \"trouble\"\nwhen = 'gate = 4 and severity >= warn'\ndo = ['limit 1 per minute', 'redact email']\nto = [\"vault\"]\n";
    node.apply(&(plan(&source("gates", "http", port, ""), node.folder.path()).replace("name = \"all\"", "name = \"all\"\nwhen = 'gate = 5'") + routes));
    let event = r#"{"gate":4,"level":"error","message":"ann@post.example"}"#;
    // Asked again and again, a limit is as it was.
    for _ in 0..3 {
        let why = node.json(&["why", event]);
        let trouble = &why["routes"][1];
        assert_eq!((trouble["taken"].as_bool(), trouble["destinations"][0]["sent"].as_bool()), (Some(true), Some(true)), "{why}");
    }
    let told = text(&node.client(&["why", event]).stdout);
    for line in [
        "route all does not take it",
        "fails: gate = 5  (gate is 4)",
        "holds: severity >= warn  (severity is \"error\")",
        "changed      redact email",
        "is sent to vault",
    ] {
        assert!(told.contains(line), "{line} in\n{told}");
    }
    assert_eq!(node.json(&["ledger"])["rows"].as_array().unwrap().len(), 0, "nothing is counted");
    // One in quarantine is asked of by its number.
    assert_eq!(post(&node.http, port, "{\"broken\"\n").await.status(), 200);
    let number = node.json(&["quarantine"])[0]["id"].to_string();
    let told = text(&node.client(&["why", "--quarantined", &number]).stdout);
    assert!(told.starts_with("event {") && told.contains("cannot be read"), "it is said of which event: {told}");
    assert!(!node.client(&["why", "--source", "nowhere", "{}"]).status.success());
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_body_sent_again_is_acknowledged_and_not_counted_twice() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(&source("gates", "http", port, "may_set = [\"port\", \"host\", \"time\"]"), node.folder.path()));
    let send = async |node: &Node, key: &str, query: &str, body: &'static str| {
        let url = format!("http://127.0.0.1:{port}/in{query}");
        let answer = node.http.post(url).header("idempotency-key", key).header("field-port", "Lowmere").body(body).send().await.unwrap();
        (answer.status().as_u16(), answer.json::<serde_json::Value>().await.unwrap())
    };
    let two = "{\"n\":1,\"host\":\"a\"}\n{\"n\":2}\n{broken\n";
    let (status, first) = send(&node, "\"k-1\"", "?host=gate-4&time=1795428000", two).await;
    assert_eq!((status, first["read"].as_u64(), first.get("repeated")), (200, Some(2), None), "{first}");
    // Over a kill: the key became durable with the events.
    node.kill();
    node.begin().await;
    for _ in 0..3 {
        let (status, again) = send(&node, "k-1", "?host=gate-4&time=1795428000", two).await;
        assert_eq!((status, &again["repeated"], &again["read"], &again["unreadable"]), (200, &true.into(), &first["read"], &first["unreadable"]), "{again}");
    }
    assert_eq!(send(&node, "k-1", "", "{\"other\":1}").await.0, 422);
    assert_eq!(send(&node, "k-2", "", "{\"n\":3}").await.0, 200);
    // The same at once, over many connections: one is taken.
    let mut many = tokio::task::JoinSet::new();
    for _ in 0..20 {
        let request = node.http.post(format!("http://127.0.0.1:{port}/in")).header("idempotency-key", "k-3").body("{\"n\":4}");
        many.spawn(async move { request.send().await.unwrap().json::<serde_json::Value>().await.unwrap() });
    }
    let answers = many.join_all().await;
    assert_eq!(answers.iter().filter(|a| a.get("repeated").is_none()).count(), 1, "{answers:?}");
    node.drained().await;
    let arrived = lines(&node.path("vault.jsonl"));
    assert_eq!(arrived.len(), 4, "{arrived:?}");
    assert_eq!(arrived[0], serde_json::json!({ "n": 1, "host": "gate-4", "time": "2026-11-23T10:00:00Z", "port": "Lowmere" }));
    assert_eq!(sum(&node.balanced(), "source", "gates", "received"), 5);
    for (query, says) in [("?vessel=x", "port, host, time, not `vessel`"), ("?time=soon", "`soon` is not a time"), ("?port=x", "`port` is set twice")] {
        let (status, problem) = send(&node, "k-9", query, "{}").await;
        assert!(status == 400 && problem["detail"].as_str().unwrap().contains(says), "{problem}");
    }
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn sources_pause_get_new_keys_are_tested_and_show_what_comes() {
    let [web, system, records] = free_ports();
    let node = Node::start().await;
    let secret = |value: &[u8]| {
        let config = node.path("data/client.toml");
        run(crate::harness::binary().to_str().unwrap(), &["--config", config.to_str().unwrap(), "secret", "set", "k", "--for", "anywhere"], value);
    };
    secret(b"sandpiper");
    let sources = [
        source("web", "http", web, "key = { secret = \"k\" }\non_arrival = ['drop level = \"debug\"', 'tag line = \"kiosk\"']"),
        source("system", "syslog", system, ""),
        source("records", "otlp", records, ""),
    ];
    node.apply(&plan(&sources.concat(), node.folder.path()));
    let send =
        async |key: &str, body: &'static str| node.http.post(format!("http://127.0.0.1:{web}/in/{key}")).body(body).send().await.unwrap().status().as_u16();
    // What is wrong is what the sender would meet; nobody has sent anything by looking.
    for name in ["web", "system", "records"] {
        let tested = node.client(&["source", "test", name, "--json"]);
        let steps: serde_json::Value = serde_json::from_slice(&tested.stdout).unwrap();
        let bad: Vec<&str> = steps["steps"].as_array().unwrap().iter().filter(|s| s["good"] == false).map(|s| s["step"].as_str().unwrap()).collect();
        assert_eq!(bad, ["heard"], "{steps}");
        assert!(node.json(&["source", "show", name])["troubles"].as_array().unwrap().is_empty(), "{name}");
    }
    // What comes, raw beside as read.
    let watching = std::thread::scope(|threads| {
        let next = |name: &'static str, most: &'static str| {
            let node = &node;
            threads.spawn(move || node.json(&["source", "next", name, "--events", most, "--wait", "20"]))
        };
        let (web_next, system_next) = (next("web", "3"), next("system", "1"));
        let runtime = tokio::runtime::Handle::current();
        while !web_next.is_finished() || !system_next.is_finished() {
            tokio::task::block_in_place(|| runtime.block_on(send("sandpiper", "{\"level\":\"debug\"}\nplain \"text\"\n{oops\n")));
            TcpStream::connect(("127.0.0.1", system)).unwrap().write_all(b"<34>Nov 23 10:00:00 quay-4 gated[7]: shut\n").unwrap();
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        (web_next.join().unwrap(), system_next.join().unwrap())
    });
    let (web_saw, system_saw) = watching;
    let saw = |i: usize, field: &str| web_saw[i][field].clone();
    assert_eq!(
        (saw(0, "raw"), saw(0, "stopped_by"), saw(0, "after")),
        ("{\"level\":\"debug\"}".into(), "drop level = \"debug\"".into(), serde_json::Value::Null)
    );
    assert_eq!((saw(1, "raw"), &saw(1, "read")["message"], &saw(1, "after")["line"]), ("plain \"text\"".into(), &"plain \"text\"".into(), &"kiosk".into()));
    assert!(saw(2, "raw") == "{oops" && saw(2, "read").is_null() && saw(2, "unreadable").is_string(), "{web_saw}");
    assert_eq!((system_saw[0]["raw"].as_str(), system_saw[0]["read"]["app"].as_str()), (Some("<34>Nov 23 10:00:00 quay-4 gated[7]: shut"), Some("gated")));
    // A new key, at once; then none.
    let made = node.json(&["source", "key", "web", "new", "--yes"]);
    let key = made["key"].as_str().unwrap();
    assert_eq!((send("sandpiper", "{}").await, send(key, "{}").await), (401, 200));
    assert_eq!(made["url"], format!("http://127.0.0.1:{web}/in/{key}"));
    node.json(&["source", "key", "web", "revoke", "--yes"]);
    assert_eq!(send(key, "{}").await, 401);
    assert!(!node.client(&["source", "key", "system", "new", "--yes"]).status.success());
    // Paused, over a restart: requests are told to wait, streams are not read on.
    node.json(&["source", "pause", "system"]);
    let before = sum(&node.balanced(), "source", "system", "received");
    TcpStream::connect(("127.0.0.1", system)).unwrap().write_all(b"<34>Nov 23 10:00:00 quay-4 gated[7]: waits\n").unwrap();
    let mut node = node;
    node.stop().await;
    node.begin().await;
    let mut stream = TcpStream::connect(("127.0.0.1", system)).unwrap();
    stream.write_all(b"<34>Nov 23 10:00:00 quay-4 gated[7]: waits\n").unwrap();
    until("it is held back", async || {
        let shown = node.json(&["source", "show", "system"]);
        (shown["state"] == "paused" && shown["troubles"].as_array().unwrap().iter().any(|t| t["what"] == "pushed back")).then_some(())
    })
    .await;
    assert_eq!(sum(&node.balanced(), "source", "system", "received"), before);
    node.json(&["source", "resume", "system"]);
    until("it goes on", async || (sum(&node.balanced(), "source", "system", "received") > before).then_some(())).await;
    drop(stream);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn clocks_that_are_off_and_copies_by_two_ways_are_noticed() {
    let [first, second] = free_ports();
    let mut node = Node::start().await;
    let both = [source("first", "http", first, ""), source("second", "http", second, "")].concat();
    let plan = plan(&both, node.folder.path()).replace("name = \"all\"", "name = \"all\"\ndo = ['dedupe by n within 1 minute preferring second']");
    node.apply(&plan);
    let now = jiff_now();
    let body = |by: &str, hours: i64| (0..40).map(|n| format!("{{\"n\":{n},\"by\":\"{by}\",\"time\":{}}}\n", now - hours * 3_600)).collect::<String>();
    assert_eq!(post(&node.http, first, body("first", 2)).await.status(), 200);
    // Killed between the two: what waits for the preferred copy is kept.
    node.kill();
    node.begin().await;
    assert_eq!(post(&node.http, second, body("second", 0)).await.status(), 200);
    assert_eq!(post(&node.http, first, body("first", 2)).await.status(), 200);
    until("the preferred ones", async || (lines(&node.path("vault.jsonl")).len() == 40).then_some(())).await;
    assert!(lines(&node.path("vault.jsonl")).iter().all(|e| e["by"] == "second"));
    let ledger = node.balanced();
    assert_eq!((sum(&ledger, "route", "all", "taken"), sum(&ledger, "route", "all", "out"), sum(&ledger, "route", "all", "held")), (120, 40, 0));
    // Those that were removed told no time at their destination; one that goes on does.
    node.apply(&plan.replace("dedupe by n within 1 minute preferring second", "tag seen = true"));
    assert_eq!(post(&node.http, first, body("first", 2)).await.status(), 200);
    for _ in 0..10 {
        assert_eq!(post(&node.http, first, body("first", 2)).await.status(), 200);
    }
    let shown = node.json(&["source", "show", "first"]);
    assert!(shown["troubles"][0]["what"] == "clock" && shown["says"].as_str().unwrap().contains("2 h in the past"), "{shown}");
    assert!((7_200_000..7_300_000).contains(&shown["freshness"]["half_ms"].as_i64().unwrap()), "{shown}");
    // It is still seen where most senders' clocks are right, and told whose is not.
    let right = reqwest::Client::builder().local_address(Some("127.0.0.2".parse().unwrap())).build().unwrap();
    for _ in 0..140 {
        assert_eq!(post(&right, first, body("first", 0)).await.status(), 200);
    }
    let shown = node.json(&["source", "show", "first"]);
    assert!(shown["freshness"]["half_ms"].as_i64().unwrap() < 60_000, "{shown}");
    // Who sends: each with its share, and with what is wrong with its clock.
    assert_eq!(post(&right, first, "{broken\n").await.status(), 200);
    let senders = node.json(&["source", "senders", "first"]);
    let told = |n: usize| senders["senders"][n].clone();
    assert_eq!((senders["senders"].as_array().unwrap().len(), senders["others"].as_u64()), (2, Some(0)), "{senders}");
    assert_eq!(
        (&told(0)["from"], &told(0)["events"], &told(0)["unreadable"], &told(0)["clock"]),
        (&"127.0.0.2".into(), &5_600.into(), &1.into(), &serde_json::Value::Null)
    );
    assert!(told(1)["from"] == "127.0.0.1" && told(1)["clock"].as_str().unwrap().contains("2 h in the past"), "{senders}");
    assert!((told(0)["share"].as_f64().unwrap() + told(1)["share"].as_f64().unwrap() - 1.0).abs() < 1e-9 && told(0)["share"].as_f64() > Some(0.8), "{senders}");
    let printed = text(&node.client(&["source", "senders", "first"]).stdout);
    assert!(printed.contains("127.0.0.2") && printed.contains("its clock is behind"), "{printed}");
    assert_eq!(node.client(&["source", "senders", "none"]).status.code(), Some(1));
    assert!(shown["troubles"][0]["from"] == "127.0.0.1" && shown["says"].as_str().unwrap().contains("events of 127.0.0.1 all have timestamps"), "{shown}");
    node.stop().await;
}

fn jiff_now() -> i64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() as i64
}
