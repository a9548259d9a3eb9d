//! A plan with each kind of mistake: each error points at its place, in the client and in the API.

use serde_json::{Value, json};

use crate::harness::{Node, text};

const BAD: &str = r#"[source.kiosks]
kind = "http"
listen = "127.0.0.1:99999"
on_arrival = ['tag line "kiosk"']

[destination.desk]
kind = "htp"
endpoints = ["http://127.0.0.1:1/in"]

[destination.vault]
kind = "file"

[[route]]
name = "trouble"
from = ["kiosk"]
when = 'severity >= wran and message contains "x"'
do = ['redact emial', 'sample 1 in 0', 'trim message to 2 XB', 'use nothing']
to = ["vault", "dsk"]

[[route]]
name = "trouble"
when = 'a in 9..1'
to = []
"#;

/// Line, column and nearest word of every mistake in BAD.
const PLACES: [(u64, u64, Option<&str>); 13] = [
    (3, 10, None),
    (4, 25, None),
    (7, 8, Some("http")),
    (10, 14, None),
    (15, 9, Some("kiosks")),
    (16, 21, Some("warn")),
    (17, 15, Some("email")),
    (17, 36, None),
    (17, 59, Some("B")),
    (17, 69, None),
    (18, 16, Some("desk")),
    (21, 8, None),
    (22, 14, None),
];

fn places(mistakes: &Value) -> Vec<(u64, u64, Option<&str>)> {
    let place = |m: &'_ Value| (m["line"].as_u64().unwrap(), m["column"].as_u64().unwrap());
    mistakes.as_array().unwrap().iter().map(|m| (place(m).0, place(m).1, m["nearest"].as_str())).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_mistake_at_its_place() {
    let mut node = Node::start().await;
    let path = node.write("bad.toml", BAD);
    let output = node.client(&["check", &path, "--json"]);
    assert_eq!(output.status.code(), Some(3));
    let said: Value = serde_json::from_slice(&output.stdout).unwrap();
    let found = places(&said["mistakes"]);
    // The last route's list of destinations is on the last line.
    let mut expected: Vec<_> = PLACES.to_vec();
    expected.push((23, 6, None));
    expected.retain(|p| *p != (21, 8, None) || found.contains(p));
    assert_eq!(found, expected, "{said:#}");
    let shown = text(&node.client(&["check", &path]).stdout);
    assert!(shown.contains(&format!("{path}:16:21: unexpected `wran`\n 16 | when = 'severity >= wran and message contains \"x\"'\n    |                     ^^^^\n    = did you mean `warn`?\n    = expected a level")), "{shown}");
    let answer = node.http.post(node.url("/api/v1/plan/check")).bearer_auth(node.token()).json(&json!({ "text": BAD })).send().await.unwrap();
    let answer: Value = answer.json().await.unwrap();
    assert_eq!(places(&answer["mistakes"]), found);
    // It is never applied.
    let refused = node.http.post(node.url("/api/v1/revisions")).bearer_auth(node.token()).json(&json!({ "text": BAD })).send().await.unwrap();
    assert_eq!(refused.status(), 422);
    assert_eq!(node.get("/api/v1/plan").await["revision"], 0);
    // One that is whole but cannot listen is not recorded either.
    let busy = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let plan = format!("[source.a]\nkind = \"http\"\nlisten = \"{}\"\n", busy.local_addr().unwrap());
    let refused = node.http.post(node.url("/api/v1/revisions")).bearer_auth(node.token()).json(&json!({ "text": plan })).send().await.unwrap();
    assert_eq!(refused.status(), 422);
    let problem: Value = refused.json().await.unwrap();
    assert!(problem["detail"].as_str().unwrap().contains("cannot listen"), "{problem}");
    assert!(node.get("/api/v1/revisions").await.as_array().unwrap().is_empty());
    node.stop().await;
}
