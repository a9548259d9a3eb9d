//! The HTTP face: who may come in, what it says, and that it is as its document describes.

use std::process::Command;

use futures_util::StreamExt;
use serde_json::{Value, json};

use crate::harness::{Node, binary, free_ports, post, text, until};

fn plan(source: u16) -> String {
    format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.d]\nkind = \"discard\"\nprice = {{ per_gb = 1000000 }}\n[[route]]\nname = \"all\"\ndo = ['tag x = 1']\nto = [\"d\"]\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn only_those_who_are_known_come_in() {
    let mut node = Node::start().await;
    for path in [
        "/api/v1/status",
        "/api/v1/flow",
        "/api/v1/plan",
        "/api/v1/revisions",
        "/api/v1/ledger",
        "/api/v1/tail?point=remainder",
        "/api/v1/secrets",
        "/api/v1/quarantine",
    ] {
        for request in [
            node.http.get(node.url(path)),
            node.http.get(node.url(path)).bearer_auth("guess"),
            node.http.get(node.url(path)).header("cookie", format!("rockrose_session_{}=guess", node.port)),
        ] {
            let answer = request.send().await.unwrap();
            assert_eq!((answer.status().as_u16(), answer.headers()["content-type"].to_str().unwrap()), (401, "application/problem+json"), "{path}");
        }
    }
    let open = async |path: &str| node.http.get(node.url(path)).send().await.unwrap();
    for path in ["/healthz", "/readyz", "/", "/ledger", "/api/v1/openapi.json"] {
        let answer = open(path).await;
        assert_eq!(answer.status(), 200, "{path}");
        assert_eq!(answer.headers()["x-content-type-options"], "nosniff");
        assert!(answer.headers()["content-security-policy"].to_str().unwrap().contains("default-src 'self'"));
    }
    assert_eq!(open("/api/v1/nothing").await.status(), 404);
    // Names show in the metrics, and a proxy on this machine asks for others.
    assert_eq!(open("/metrics").await.status(), 401);
    assert_eq!(node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().status(), 200);
    // A browser signs in by a link, once.
    let link = node.json(&["link"])["url"].as_str().unwrap().to_owned();
    // Whoever only looks at the link does not use it up.
    for _ in 0..2 {
        let page = node.http.get(&link).send().await.unwrap();
        assert!(page.status() == 200 && page.headers().get("set-cookie").is_none());
    }
    let code = json!({ "code": link.split("code=").nth(1).unwrap() });
    let enter = || node.http.post(node.url("/sign-in")).json(&code);
    assert_eq!(enter().send().await.unwrap().status(), 403, "from another site");
    let signed = enter().header("sec-fetch-site", "same-origin").send().await.unwrap();
    let cookie = signed.headers()["set-cookie"].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let again = enter().header("sec-fetch-site", "same-origin").send().await.unwrap();
    assert!(again.status() == 401 && again.headers().get("set-cookie").is_none());
    let session = cookie.split(';').next().unwrap();
    let ask = |r: reqwest::RequestBuilder| r.header("cookie", session).send();
    assert_eq!(ask(node.http.get(node.url("/api/v1/status"))).await.unwrap().status(), 200);
    assert!(session.starts_with(&format!("rockrose_session_{}=", node.port)), "{session}");
    // A session makes no sessions.
    let link = node.http.post(node.url("/api/v1/sign-in-links")).json(&json!({})).header("sec-fetch-site", "same-origin");
    assert_eq!(ask(link).await.unwrap().status(), 403);
    // Another site's page cannot make it change anything.
    let put = || node.http.put(node.url("/api/v1/secrets/a")).json(&json!({ "value": "x", "shown_to": ["anywhere"] }));
    assert_eq!(ask(put()).await.unwrap().status(), 403);
    assert_eq!(ask(put().header("origin", "http://elsewhere.example")).await.unwrap().status(), 403);
    assert_eq!(ask(put().header("sec-fetch-site", "cross-site")).await.unwrap().status(), 403);
    assert_eq!(ask(put().header("origin", format!("http://127.0.0.1:{}", node.port))).await.unwrap().status(), 204);
    let out = || node.http.post(node.url("/sign-out"));
    assert_eq!(ask(out()).await.unwrap().status(), 403);
    assert_eq!(ask(out().header("sec-fetch-site", "same-origin")).await.unwrap().status(), 204);
    assert_eq!(ask(node.http.get(node.url("/api/v1/status"))).await.unwrap().status(), 401);
    // What cannot be read is answered with a problem document too.
    let token = node.token();
    let bad = [
        node.http.get(node.url("/api/v1/tail")),
        node.http.get(node.url("/api/v1/tail?point=nowhere")),
        node.http.get(node.url("/api/v1/revisions/first")),
        node.http.get(node.url("/api/v1/ledger?minutes=many")),
        node.http.post(node.url("/api/v1/plan/check")).header("content-type", "application/json").body("{"),
        node.http.post(node.url("/api/v1/plan/check")).body("text = 1"),
        node.http.put(node.url("/api/v1/secrets/a%20b")).json(&json!({ "value": "x", "shown_to": ["anywhere"] })),
        node.http.put(node.url("/api/v1/secrets/a")).json(&json!({ "value": "line\nline" })),
        node.http.delete(node.url("/api/v1/plan")),
        node.http.get(node.url("/api/v1/no/such/path")),
        // The last: its connection is closed with the body half read, and a client may not know that yet.
        node.http.post(node.url("/api/v1/plan/check")).json(&json!({ "text": "x".repeat(9 << 20) })),
    ];
    for (i, request) in bad.into_iter().enumerate() {
        let answer = request.bearer_auth(&token).send().await.unwrap();
        assert!(answer.status().is_client_error(), "{i}: {}", answer.status());
        assert_eq!(answer.headers()["content-type"], "application/problem+json", "{i}");
    }
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn revisions_conflicts_and_going_back() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let apply = async |text: &str, expected: Value| {
        let body = json!({ "text": text, "why": "w", "expected_revision": expected });
        node.http.post(node.url("/api/v1/revisions")).bearer_auth(node.token()).json(&body).send().await.unwrap()
    };
    assert_eq!(apply(&plan(source), Value::Null).await.status(), 200);
    let second = plan(source).replace("x = 1", "x = 2");
    assert_eq!(apply(&second, json!(1)).await.status(), 200);
    let late = apply("", json!(1)).await;
    assert_eq!(late.status(), 409);
    assert_eq!(late.json::<Value>().await.unwrap()["newest"], 2);
    assert_eq!(node.get("/api/v1/plan").await["text"], second);
    let check = node.http.post(node.url("/api/v1/plan/check")).bearer_auth(node.token()).json(&json!({ "text": plan(source) })).send().await.unwrap();
    let check: Value = check.json().await.unwrap();
    assert_eq!(
        check["changes"],
        json!([{ "part": "route", "name": "all", "change": "changed", "details": ["step removed: tag x = 2", "step added: tag x = 1"] }])
    );
    assert!(check["difference"].as_str().unwrap().contains("-do = ['tag x = 2']"));
    let back = node.http.post(node.url("/api/v1/revisions/1/revert")).bearer_auth(node.token()).json(&json!({})).send().await.unwrap();
    assert_eq!(back.json::<Value>().await.unwrap()["revision"], 3);
    let missing = node.http.post(node.url("/api/v1/revisions/77/revert")).bearer_auth(node.token()).json(&json!({})).send().await.unwrap();
    assert_eq!(missing.status(), 404);
    // The history and the running plan outlive the process.
    node.kill();
    node.begin().await;
    assert_eq!(node.get("/api/v1/plan").await["revision"], 3);
    let numbers: Vec<_> = node.get("/api/v1/revisions").await.as_array().unwrap().iter().map(|r| r["number"].as_i64().unwrap()).collect();
    assert_eq!(numbers, [3, 2, 1]);
    assert_eq!(post(&node.http, source, "{}").await.status(), 200);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_passes_shows_in_flow_metrics_and_tail() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source));
    let request = node.http.get(node.url("/api/v1/tail?point=route:all&when=n%20%3D%207")).bearer_auth(node.token()).send().await.unwrap();
    assert_eq!(request.headers()["content-type"], "text/event-stream");
    let mut stream = request.bytes_stream();
    let body: String = (0..10).map(|n| format!("{{\"n\":{n},\"b\":[1.50]}}\n")).collect();
    assert_eq!(post(&node.http, source, body).await.status(), 200);
    let told = text(&stream.next().await.unwrap().unwrap());
    assert!(told.starts_with("event: grants\ndata: null\n"), "they see all: {told}");
    let chunk = text(&stream.next().await.unwrap().unwrap());
    assert!(chunk.contains("event: event") && chunk.contains(r#""before":{"n":7,"b":[1.50]},"after":{"n":7,"b":[1.50],"x":1}"#), "{chunk}");
    let flow = until("the meter has looked", async || {
        let flow = node.get("/api/v1/flow").await;
        (flow["destinations"][0]["delivered"]["events"] == 10).then_some(flow)
    })
    .await;
    assert_eq!(flow["sources"][0]["received"]["events"], 10);
    assert_eq!(flow["routes"][0]["steps"][0]["sentence"], "tag x = 1");
    assert_eq!(flow["routes"][0]["steps"][0]["changed"]["events"], 10);
    assert_eq!(flow["routes"][0]["taken_from"][0]["from"], "in");
    assert!(flow["destinations"][0]["cost"]["today"].as_f64().unwrap() > 0.0);
    let metrics = node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap();
    assert!(metrics.headers()["content-type"].to_str().unwrap().starts_with("text/plain; version=0.0.4"));
    let metrics = metrics.text().await.unwrap();
    assert!(metrics.contains(r#"rockrose_events_total{measure="delivered",name="d",place="destination",position="0",via="all"} 10"#), "{metrics}");
    for line in metrics.lines().filter(|l| !l.starts_with('#') && !l.is_empty()) {
        assert!(line.rsplit(' ').next().unwrap().parse::<f64>().is_ok(), "{line}");
    }
    let minutes = node.get("/api/v1/ledger/minutes?place=source&name=in").await;
    assert_eq!(minutes.as_array().unwrap().iter().filter(|m| m["row"]["measure"] == "received").map(|m| m["row"]["events"].as_i64().unwrap()).sum::<i64>(), 10);
    // An open stream does not keep the service from stopping.
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_document_describes_the_service_and_the_console_was_made_from_it() {
    let mut node = Node::start().await;
    let served: Value = node.http.get(node.url("/api/v1/openapi.json")).send().await.unwrap().json().await.unwrap();
    let printed: Value = serde_json::from_slice(&Command::new(binary()).arg("openapi").output().unwrap().stdout).unwrap();
    assert_eq!(served, printed);
    assert!(served["openapi"].as_str().unwrap().starts_with("3.1"));
    let kept = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/openapi.json");
    let kept: Value = serde_json::from_slice(&std::fs::read(kept).unwrap()).unwrap();
    assert!(kept == served, "the API changed: `rockrose openapi > console/openapi.json`");
    // Every path that it names is there, and asks who one is.
    for (path, operations) in served["paths"].as_object().unwrap() {
        let path = path.replace("{number}", "1").replace("{name}", "x");
        for method in operations.as_object().unwrap().keys() {
            let method: reqwest::Method = method.to_uppercase().parse().unwrap();
            let answer = node.http.request(method.clone(), node.url(&path)).send().await.unwrap();
            assert_eq!(answer.status(), 401, "{method} {path}");
        }
    }
    node.stop().await;
}
