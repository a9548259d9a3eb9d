//! Secrets never show, and the service's own log lines never hold event contents.

use serde_json::json;

use crate::harness::{Node, free_ports, http, post, spawn, text, until};

const KEY: &str = "plover-sandpiper-1881";
const TOKEN: &str = "turnstone-whimbrel-2772";
const PERSON: &str = "edda.rusk@post.example";

#[tokio::test(flavor = "multi_thread")]
async fn nowhere_but_where_they_belong() {
    let [source, open, stand_in] = free_ports();
    let mut node = Node::start().await;
    let put = async |name: &str, value: &str| {
        let answer = node
            .http
            .put(node.url(&format!("/api/v1/secrets/{name}")))
            .bearer_auth(node.token())
            .json(&json!({ "value": value, "shown_to": ["anywhere"] }))
            .send()
            .await
            .unwrap();
        assert_eq!(answer.status(), 204);
    };
    put("in-key", KEY).await;
    put("out-token", TOKEN).await;
    node.apply(&format!(
        r#"
[source.keyed]
kind = "http"
listen = "127.0.0.1:{source}"
key = {{ secret = "in-key" }}
[source.open]
kind = "http"
listen = "127.0.0.1:{open}"
[destination.out]
kind = "http"
endpoints = ["http://127.0.0.1:{stand_in}/in"]
token = {{ secret = "out-token" }}
[[route]]
name = "all"
do = ['parse message as json', 'redact email as hash']
to = ["out"]
"#
    ));
    let http = http();
    let event = format!("{{\"message\":\"ticket for {PERSON}\"}}\n{{broken {PERSON}\n");
    assert_eq!(post(&http, open, event.clone()).await.status(), 200);
    assert_eq!(http.post(format!("http://127.0.0.1:{source}/in/{KEY}")).body(event.clone()).send().await.unwrap().status(), 200);
    assert_eq!(http.post(format!("http://127.0.0.1:{source}/in/{KEY}x")).body(event).send().await.unwrap().status(), 401);
    // A destination that throws the token back in its refusal.
    let _wrong = spawn(&["standin", "--listen", &format!("127.0.0.1:{stand_in}"), "--want-token", "another"], &node.path("standin.log"));
    until("the destination refuses the token", async || {
        let flow = node.get("/api/v1/flow").await;
        flow["destinations"][0]["health"]["last_error"].as_str().is_some_and(|e| e.contains("401")).then_some(())
    })
    .await;

    let mut said = String::new();
    for path in ["/api/v1/flow", "/api/v1/status", "/api/v1/plan", "/api/v1/revisions", "/api/v1/revisions/1", "/api/v1/secrets", "/api/v1/ledger"] {
        said.push_str(&node.get(path).await.to_string());
    }
    said.push_str(&node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap());
    for args in [&["status"][..], &["ledger"], &["secret", "list"], &["revisions", "1"]] {
        let output = node.client(args);
        said.push_str(&text(&output.stdout));
        said.push_str(&text(&output.stderr));
    }
    assert!(said.contains("in-key") && said.contains("out-token"), "their names may be seen");
    for secret in [KEY, TOKEN, node.token().as_str()] {
        assert!(!said.contains(secret), "{secret}");
    }
    assert!(!said.contains(PERSON), "what was in an event");
    let in_use = node.http.delete(node.url("/api/v1/secrets/in-key")).bearer_auth(node.token()).send().await.unwrap();
    assert_eq!(in_use.status(), 409);
    node.stop().await;
    let log = node.log();
    for secret in [KEY, TOKEN, node.token().as_str(), PERSON, "ticket", "broken"] {
        assert!(!log.contains(secret), "{secret} in {log}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn the_client_takes_address_and_token_from_flags_then_environment_then_file() {
    let mut node = Node::start().await;
    let (address, token) = (format!("http://127.0.0.1:{}", node.port), node.token());
    let home = node.path("home");
    std::fs::create_dir_all(home.join(".config/rockrose")).unwrap();
    let run = |args: &[&str], environment: &[(&str, &str)]| {
        let mut command = std::process::Command::new(crate::harness::binary());
        command.args(args).arg("status").env_clear().env("HOME", &home).envs(environment.iter().copied());
        command.output().unwrap().status.code().unwrap()
    };
    let file = |address: &str, token: &str| {
        std::fs::write(home.join(".config/rockrose/client.toml"), format!("address = \"{address}\"\ntoken = \"{token}\"\n")).unwrap();
    };
    file(&address, &token);
    assert_eq!(run(&[], &[]), 0, "the file alone");
    assert_eq!(run(&[], &[("ROCKROSE_TOKEN", "wrong")]), 5, "the environment wins over the file");
    assert_eq!(run(&["--token", &token], &[("ROCKROSE_TOKEN", "wrong")]), 0, "a flag wins over the environment");
    file("http://127.0.0.1:1", "wrong");
    assert_eq!(run(&[], &[]), 4);
    assert_eq!(run(&[], &[("ROCKROSE_ADDRESS", &address), ("ROCKROSE_TOKEN", &token)]), 0);
    assert_eq!(run(&["--address", &address[7..], "--token", &token], &[]), 0, "an address without its scheme");
    let other = node.write("other.toml", &format!("address = \"{address}\"\ntoken = \"{token}\"\n"));
    assert_eq!(run(&["--config", &other], &[]), 0);
    assert_eq!(run(&[], &[("ROCKROSE_CONFIG", &other)]), 0);
    let odd = node.write("odd.toml", "adress = \"x\"\n");
    assert_eq!(run(&["--config", &odd], &[]), 1);
    assert_eq!(run(&["--config", "/nonexistent"], &[]), 1);
    node.stop().await;
}
