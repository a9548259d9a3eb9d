//! People and tokens: what each may see and do, and what is noted of it.

use std::time::{Duration, Instant};

use futures_util::{Stream, StreamExt};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::harness::{Node, free_ports, post, text, until};

/// Each call of the API, and who of the ready-made sets of grants may make it: Viewer, Team, Operator, Auditor, oWner. Whoever is granted nothing may make none.
const CALLS: &str = "
VTOAW GET    /api/v1/status
VTOAW GET    /api/v1/flow
VTOAW GET    /api/v1/flow/before
VTOAW GET    /api/v1/agents
VTOAW GET    /api/v1/agents/{name}
....W DELETE /api/v1/agents/{name}
..O.W POST   /api/v1/agents/{name}/look
..O.W POST   /api/v1/agents
....W POST   /api/v1/agent-update
....W DELETE /api/v1/agent-update
..O.W POST   /api/v1/agent-stage
....W POST   /api/v1/enrol-codes
....W DELETE /api/v1/enrol-codes/{id}
VTOAW GET    /api/v1/alerts
..O.W POST   /api/v1/alerts/{name}/acknowledge
..O.W PUT    /api/v1/alerts/{name}/silence
..O.W DELETE /api/v1/alerts/{name}/silence
..O.W PUT    /api/v1/budgets/{name}/lift
..O.W DELETE /api/v1/budgets/{name}/lift
VTOAW POST   /api/v1/alerts/try
VTOAW GET    /api/v1/budgets
VTOAW GET    /api/v1/me
VTOAW PUT    /api/v1/me/password
VTOAW GET    /api/v1/sources
VTOAW GET    /api/v1/sources/{name}/senders
..O.W POST   /api/v1/sources/{name}/pause
..O.W POST   /api/v1/sources/{name}/resume
....W POST   /api/v1/sources/{name}/key
....W DELETE /api/v1/sources/{name}/key
..O.W POST   /api/v1/sources/{name}/test
VTO.W GET    /api/v1/sources/{name}/next
..O.W POST   /api/v1/files/look
VTOAW GET    /api/v1/kits
VTOAW POST   /api/v1/kits/recognise
VTOAW GET    /api/v1/plan
VTOAW GET    /api/v1/plan/first
.TO.W POST   /api/v1/plan/check
VTOAW POST   /api/v1/plan/edit
VTO.W POST   /api/v1/plan/examples
VTO.W POST   /api/v1/plan/examples/make
VTOAW POST   /api/v1/plan/outline
VTOAW GET    /api/v1/plan/draft
.TO.W PUT    /api/v1/plan/draft
.TO.W DELETE /api/v1/plan/draft
.TO.W POST   /api/v1/plan/draft/renew
..O.W POST   /api/v1/plan/test-destination
VTOAW GET    /api/v1/revisions
.TO.W POST   /api/v1/revisions
VTOAW GET    /api/v1/revisions/{number}
.TO.W POST   /api/v1/revisions/{number}/revert
VTOAW GET    /api/v1/ledger
VTOAW GET    /api/v1/ledger/minutes
VTOAW GET    /api/v1/ledger/by-tag
VTO.W GET    /api/v1/quarantine
VTO.W GET    /api/v1/quarantine/{id}/why
..O.W POST   /api/v1/quarantine/resend
..O.W GET    /api/v1/quarantine/resent/{run}
..O.W POST   /api/v1/destinations/{name}/pause
..O.W POST   /api/v1/destinations/{name}/resume
..O.W POST   /api/v1/destinations/{name}/purge
..O.W POST   /api/v1/destinations/{name}/test
VTOAW GET    /api/v1/destinations/{name}/answers
VTO.W GET    /api/v1/tail
VTO.W GET    /api/v1/sample
VTO.W GET    /api/v1/fields
VTO.W GET    /api/v1/patterns
VTOAW POST   /api/v1/complete
..O.W GET    /api/v1/suggestions
.TO.W POST   /api/v1/suggestions/{id}/decline
.TO.W DELETE /api/v1/suggestions/{id}/decline
VTO.W POST   /api/v1/why
VTO.W POST   /api/v1/trial
VTOAW GET    /api/v1/secrets
....W PUT    /api/v1/secrets/{name}
....W DELETE /api/v1/secrets/{name}
VTOAW POST   /api/v1/sign-in-links
VTOAW GET    /api/v1/roles
....W GET    /api/v1/people
....W POST   /api/v1/people
....W PUT    /api/v1/people/{name}/grants
....W PUT    /api/v1/people/{name}/password
....W DELETE /api/v1/people/{name}
....W POST   /api/v1/people/who-sees
....W GET    /api/v1/tokens
....W POST   /api/v1/tokens
....W DELETE /api/v1/tokens/{id}
VTOAW GET    /api/v1/sessions
VTOAW DELETE /api/v1/sessions/{id}
...AW GET    /api/v1/journal
...AW GET    /api/v1/journal/check
";

fn made(node: &Node, name: &str, with: &[&str]) -> String {
    node.json(&[&["token", "make", name], with].concat())["token"].as_str().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_call_is_allowed_or_refused_as_written() {
    let mut node = Node::start().await;
    let table: Vec<(&str, &str, &str)> = CALLS
        .lines()
        .filter_map(|line| {
            let mut words = line.split_whitespace();
            Some((words.next()?, words.next()?, words.next()?))
        })
        .collect();
    // A call without a row, or a row without a call.
    let document = node.get("/api/v1/openapi.json").await;
    let mut calls: Vec<(String, String)> = Vec::new();
    for (path, item) in document["paths"].as_object().unwrap() {
        calls.extend(item.as_object().unwrap().keys().map(|method| (method.to_uppercase(), path.clone())));
    }
    let mut rows: Vec<(String, String)> = table.iter().map(|(_, method, path)| ((*method).to_owned(), (*path).to_owned())).collect();
    calls.sort();
    rows.sort();
    assert_eq!(calls, rows);
    let holders = [
        ('V', made(&node, "viewer", &["--role", "viewer"])),
        ('T', made(&node, "team", &["--role", "team", "--team", "gates"])),
        ('O', made(&node, "operator", &["--role", "operator"])),
        ('A', made(&node, "auditor", &["--role", "auditor"])),
        ('W', made(&node, "owner", &["--role", "owner"])),
    ];
    let nothing = node.http.post(node.url("/api/v1/tokens")).bearer_auth(node.token()).json(&json!({ "name": "nothing", "grants": [] }));
    let nothing = nothing.send().await.unwrap().json::<Value>().await.unwrap()["token"].as_str().unwrap().to_owned();
    for (who, method, path) in &table {
        let at = path.replace("{name}", "none").replace("{number}", "77").replace("{id}", "7777").replace("{run}", "7");
        for (letter, token) in holders.iter().map(|(l, t)| (*l, t)).chain([('-', &nothing)]) {
            let request = node.http.request(Method::from_bytes(method.as_bytes()).unwrap(), node.url(&at)).bearer_auth(token);
            let answer = if *method == "GET" { request } else { request.json(&json!({})) }.send().await.unwrap();
            let refused = answer.status() == StatusCode::FORBIDDEN;
            assert_eq!(!refused, who.contains(letter), "{letter} {method} {path}: {}", answer.status());
        }
        let stranger = node.http.request(Method::from_bytes(method.as_bytes()).unwrap(), node.url(&at)).send().await.unwrap();
        assert_eq!(stranger.status(), 401, "{method} {path}");
    }
    node.stop().await;
}

fn plan(source: u16, dead: u16) -> String {
    format!(
        r#"
[source.quays]
kind = "http"
listen = "127.0.0.1:{source}"
[destination.desk]
kind = "http"
endpoints = ["http://127.0.0.1:{dead}/in"]
always = ['tag seen = "desk"']
[[route]]
name = "all"
do = ['count as lines by team', 'tag more = 1']
to = ["desk"]
"#
    )
}

/// The next of an event stream, as JSON; nothing, if it has ended.
async fn next(stream: &mut (impl Stream<Item = reqwest::Result<impl AsRef<[u8]>>> + Unpin)) -> Option<Value> {
    loop {
        let chunk = tokio::time::timeout(Duration::from_secs(20), stream.next()).await.expect("in time")?.ok()?;
        // Each comes whole; under which grants it is shown is told first.
        let chunk = text(chunk.as_ref());
        let of = |event: &str| event.lines().find_map(|line| line.strip_prefix("data: ")).map(str::to_owned);
        if let Some(data) = chunk.split("\n\n").filter(|event| event.starts_with("event: event")).find_map(of) {
            return Some(serde_json::from_str(&data).unwrap());
        }
    }
}

const EVENTS: &str =
    "{\"team\":\"kiosks\",\"message\":\"first of kiosks\"}\n{\"team\":\"gates\",\"message\":\"ann@post.example at gate 4\"}\n{broken for kiosks\n";

#[tokio::test(flavor = "multi_thread")]
async fn nobody_gets_a_byte_of_an_event_that_they_may_not_see() {
    let [source, refusing] = free_ports();
    let mut node = Node::start().await;
    let _desk = crate::queues::stand_in(&node, refusing, &[]);
    node.apply(&plan(source, refusing));
    let gates = made(&node, "gates", &["--grant", "see when team = \"gates\" after redact email", "--grant", "operate at source:quays", "--days", "1"]);
    let ask = async |path: &str| node.http.get(node.url(path)).bearer_auth(&gates).send().await.unwrap();

    // Live tail and the next records.
    let mut tail = ask("/api/v1/tail?point=route:all").await.bytes_stream();
    let mut probing = ask("/api/v1/tail?point=route:all&when=message%20contains%20%22ann%22").await.bytes_stream();
    let caught = tokio::spawn({
        let request = node.http.get(node.url("/api/v1/sources/quays/next?events=1&wait=20")).bearer_auth(&gates);
        async move { request.send().await.unwrap().json::<Value>().await.unwrap() }
    });
    let status = async || node.get("/api/v1/sources").await;
    until("the request is under way", async || (!status().await[0].is_null()).then_some(())).await;
    let seen = loop {
        assert_eq!(post(&node.http, source, EVENTS).await.status(), 200);
        if caught.is_finished() {
            break caught.await.unwrap();
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    assert_eq!(seen.as_array().unwrap().len(), 1);
    assert_eq!((&seen[0]["read"]["message"], &seen[0]["raw"]), (&json!("*** at gate 4"), &Value::Null));
    let first = next(&mut tail).await.unwrap();
    assert_eq!(first["before"]["message"], "*** at gate 4");
    assert_eq!((&first["after"]["more"], &first["after"]["message"]), (&json!(1), &json!("*** at gate 4")));

    // What stands in quarantine: unreadable records are shown to nobody who sees only some events.
    let entries = ask("/api/v1/quarantine").await.json::<Value>().await.unwrap();
    assert_eq!(entries, json!([]));
    let id = node.get("/api/v1/quarantine").await[0]["id"].as_i64().unwrap();
    assert_eq!(ask(&format!("/api/v1/quarantine/{id}/why")).await.status(), 404);
    // Why.
    let why = async |event: &str| {
        let body = json!({ "source": "quays", "event": event });
        node.http.post(node.url("/api/v1/why")).bearer_auth(&gates).json(&body).send().await.unwrap()
    };
    assert_eq!(why("{\"team\":\"kiosks\"}").await.status(), 403);
    assert_eq!(why("no event").await.status(), 403);
    let told = why("{\"team\":\"gates\",\"message\":\"ann@post.example\"}").await.text().await.unwrap();
    assert!(told.contains("***") && !told.contains("ann@"), "{told}");
    // What the plan counts by fields is for those who see all.
    let metrics = ask("/metrics").await.text().await.unwrap();
    assert!(metrics.contains("rockrose_waiting_events") && !metrics.contains("kiosks"), "{metrics}");
    let all = node.http.get(node.url("/metrics")).bearer_auth(node.token()).send().await.unwrap().text().await.unwrap();
    assert!(all.contains("team=\"kiosks\""), "{all}");
    // Operating is bounded as well.
    let act = async |path: &str| node.http.post(node.url(path)).bearer_auth(&gates).json(&json!({})).send().await.unwrap().status();
    assert_eq!((act("/api/v1/sources/quays/pause").await, act("/api/v1/sources/quays/resume").await), (StatusCode::NO_CONTENT, StatusCode::NO_CONTENT));
    assert_eq!((act("/api/v1/destinations/desk/pause").await, act("/api/v1/quarantine/resend").await), (StatusCode::FORBIDDEN, StatusCode::FORBIDDEN));

    // Who sees it?
    let event = "{\"team\":\"gates\",\"message\":\"ann@post.example\"}";
    let seers = node.json(&["person", "who-sees", "route:all", event]);
    let of = |name: &str| seers.as_array().unwrap().iter().find(|w| w["name"] == name).map(|w| w["event"].as_str().unwrap().to_owned());
    assert_eq!((of("admin").as_deref(), of("gates").as_deref()), (Some(event), Some("{\"team\":\"gates\",\"message\":\"***\"}")));
    let seers = node.json(&["person", "who-sees", "route:all", "{\"team\":\"kiosks\"}"]);
    assert!(seers.as_array().unwrap().iter().all(|w| w["name"] != "gates"), "{seers}");

    // A token that is revoked ends what is open by it, at once. The one that asked for what is masked never got anything.
    node.json(&["token", "revoke", "gates"]);
    let begun = Instant::now();
    assert_eq!(next(&mut probing).await, None);
    while next(&mut tail).await.is_some() {}
    assert!(begun.elapsed() < Duration::from_secs(10), "{:?}", begun.elapsed());
    assert_eq!(ask("/api/v1/status").await.status(), 401);
    node.stop().await;
}

/// A request of a signed-in browser's page.
fn as_page(request: reqwest::RequestBuilder, session: &str) -> reqwest::RequestBuilder {
    request.header("cookie", session).header("sec-fetch-site", "same-origin")
}

#[tokio::test(flavor = "multi_thread")]
async fn people_sign_in_and_out_and_what_they_may_changes_at_once() {
    let [source, dead] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, dead));
    node.json(&["person", "add", "ann", "--role", "team", "--team", "gates"]);
    assert!(!node.client(&["person", "add", "ann", "--role", "viewer"]).status.success(), "the name is taken");
    assert_eq!(node.client(&["person", "add", "bo", "--grant", "sea"]).status.code(), Some(3));
    assert!(text(&node.client(&["person", "add", "bo", "--role", "team"]).stderr).contains("--team NAME"));
    let set = |password: &str| {
        let request = node.http.put(node.url("/api/v1/people/ann/password")).bearer_auth(node.token());
        request.json(&json!({ "password": password })).send()
    };
    assert_eq!(set("short").await.unwrap().status(), 400);
    assert_eq!(set("heron on the mooring").await.unwrap().status(), 204);
    let enter = async |body: Value| node.http.post(node.url("/sign-in")).header("sec-fetch-site", "same-origin").json(&body).send().await.unwrap();
    let session = |answer: &reqwest::Response| answer.headers()["set-cookie"].to_str().unwrap().split(';').next().unwrap().to_owned();
    let in_person = enter(json!({ "name": "ann", "password": "heron on the mooring" })).await;
    assert_eq!(in_person.status(), 204);
    let ann = session(&in_person);
    let me = as_page(node.http.get(node.url("/api/v1/me")), &ann).send().await.unwrap().json::<Value>().await.unwrap();
    assert_eq!((&me["name"], &me["person"], &me["grants"][0]), (&json!("ann"), &json!(true), &json!("see when team = \"gates\"")));

    // What she may change is her team's.
    let apply =
        async |text: String| as_page(node.http.post(node.url("/api/v1/revisions")), &ann).json(&json!({ "text": text, "why": "" })).send().await.unwrap();
    let theirs = plan(source, dead).replace("[[route]]", "[[route]]\nname = \"gates\"\nteam = \"gates\"\nto = [\"desk\"]\n[[route]]");
    assert_eq!(apply(theirs.clone()).await.status(), 200);
    let refused = apply(theirs.replace("'tag more = 1'", "'tag more = 2'")).await;
    assert_eq!(refused.status(), 403);
    let says = refused.json::<Value>().await.unwrap()["detail"].as_str().unwrap().to_owned();
    assert_eq!(says, "ann may not make this change: the route `all` would be changed");

    // Her open stream shows within a second what she may see from now on.
    let mut tail = as_page(node.http.get(node.url("/api/v1/tail?point=source:quays")), &ann).send().await.unwrap().bytes_stream();
    assert_eq!(post(&node.http, source, EVENTS).await.status(), 200);
    assert_eq!(next(&mut tail).await.unwrap()["before"]["team"], "gates");
    node.json(&["person", "grant", "ann", "--grant", "see when team = \"kiosks\""]);
    let begun = Instant::now();
    loop {
        assert_eq!(post(&node.http, source, EVENTS).await.status(), 200);
        if next(&mut tail).await.unwrap()["before"]["team"] == "kiosks" {
            break;
        }
        assert!(begun.elapsed() < Duration::from_secs(1), "the old grant still holds");
    }
    assert_eq!(apply(theirs).await.status(), 403);

    // Signing out ends what is open.
    assert_eq!(as_page(node.http.post(node.url("/sign-out")), &ann).send().await.unwrap().status(), 204);
    while next(&mut tail).await.is_some() {}
    assert_eq!(as_page(node.http.get(node.url("/api/v1/me")), &ann).send().await.unwrap().status(), 401);

    // A link signs a person in; sessions are listed, and ended by those who may.
    let link = node.json(&["link", "--person", "ann"])["url"].as_str().unwrap().to_owned();
    let again = session(&enter(json!({ "code": link.split("code=").nth(1).unwrap() })).await);
    let sessions = node.json(&["session", "list"]);
    assert_eq!((sessions.as_array().unwrap().len(), &sessions[0]["name"]), (1, &json!("ann")));
    node.json(&["session", "end", &sessions[0]["id"].to_string()]);
    assert_eq!(as_page(node.http.get(node.url("/api/v1/me")), &again).send().await.unwrap().status(), 401);
    assert_eq!(node.client(&["link", "--person", "nobody"]).status.code(), Some(1));

    // Whoever guesses waits, with the right password as well.
    for _ in 0..5 {
        assert_eq!(enter(json!({ "name": "ann", "password": "a guess, and no more" })).await.status(), 401);
    }
    let waits = enter(json!({ "name": "ann", "password": "heron on the mooring" })).await;
    assert_eq!(waits.status(), 429);
    assert!(waits.headers()["retry-after"].to_str().unwrap().parse::<u32>().unwrap() >= 1);
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_journal_tells_who_did_what_and_shows_when_it_was_changed() {
    let [source, dead] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, dead));
    let viewer = made(&node, "board", &["--role", "viewer"]);
    let pause = node.http.post(node.url("/api/v1/destinations/desk/pause"));
    assert_eq!(pause.bearer_auth(&viewer).send().await.unwrap().status(), 403);
    node.json(&["destination", "pause", "desk"]);
    for _ in 0..3 {
        node.json(&["quarantine"]);
    }
    let wrong = node.http.post(node.url("/sign-in")).header("sec-fetch-site", "same-origin").json(&json!({ "name": "eve", "password": "let me in, please" }));
    assert_eq!(wrong.send().await.unwrap().status(), 401);
    let entries = node.json(&["journal"]);
    let told: Vec<String> = entries
        .as_array()
        .unwrap()
        .iter()
        .rev()
        .map(|e| {
            let word = |name: &str| e[name].as_str().unwrap().to_owned();
            format!("{} | {} | {} | {}", word("who"), word("action"), word("subject"), word("result"))
        })
        .collect();
    let expected = [
        &format!("service | start | version {} | done", env!("CARGO_PKG_VERSION")),
        "admin | apply plan | revision 1 | done",
        "admin | make token | board: see after redact email, card, iban, phone, name, ip, secret | done",
        "board | pause destination | desk | refused: not-granted",
        "admin | pause destination | desk | done",
        "admin | look at quarantine |  | done",
        "eve | sign in | by password | refused: not-signed-in",
    ];
    assert_eq!(told, expected);
    assert_eq!(entries[0]["address"], "127.0.0.1");
    assert_eq!(node.json(&["journal", "--who", "board"]).as_array().unwrap().len(), 1);
    let checked = node.json(&["journal", "--check"]);
    assert_eq!((&checked["whole"], checked["head"].as_str().unwrap().len()), (&json!(true), 64));
    // It outlives the process, and one who changes the file is found out.
    node.stop().await;
    let journal = std::fs::read(node.path("data/records.db")).unwrap();
    let at = journal.windows(b"board".len() + 9).rposition(|w| w.starts_with(b"board") && w.ends_with(b"127.0.0.1"[..9].as_ref())).unwrap();
    let mut changed = journal;
    changed[at..at + 5].copy_from_slice(b"admin");
    std::fs::write(node.path("data/records.db"), changed).unwrap();
    node.begin().await;
    let output = node.client(&["journal", "--check"]);
    assert_eq!(output.status.code(), Some(6));
    assert!(text(&output.stdout).contains("entry 4 was changed"), "{}", text(&output.stdout));
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn it_answers_to_its_own_names_and_to_pages_of_its_own() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.counted]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"counted\"]\n"
    ));
    for (host, known) in [("localhost", true), ("127.0.0.1:8600", true), ("console.evil.example", false), ("127.0.0.1.evil.example:80", false)] {
        let api = node.http.get(node.url("/api/v1/status")).bearer_auth(node.token()).header("host", host).send().await.unwrap();
        assert_eq!(api.status(), if known { 200 } else { 421 }, "{host}");
        let page = node.http.get(node.url("/")).header("host", host).send().await.unwrap();
        assert_eq!(page.status(), if known { 200 } else { 421 }, "{host}");
        let alive = node.http.get(node.url("/healthz")).header("host", host).send().await.unwrap();
        assert_eq!(alive.status(), 200);
        let sent = node.http.post(format!("http://127.0.0.1:{source}/in")).header("host", host).body("{}").send().await.unwrap();
        assert_eq!(sent.status(), if known { 200 } else { 421 }, "{host}");
    }
    // What a page of another site can make a browser send, without asking first.
    let send = || node.http.post(format!("http://127.0.0.1:{source}/in")).header("content-type", "text/plain").body("{}");
    assert_eq!(send().header("origin", "https://evil.example").send().await.unwrap().status(), 403);
    assert_eq!(send().header("origin", "null").send().await.unwrap().status(), 403);
    assert_eq!(send().header("sec-fetch-site", "cross-site").send().await.unwrap().status(), 403);
    assert_eq!(send().send().await.unwrap().status(), 200);
    let sources = node.get("/api/v1/sources").await;
    assert!(sources[0]["troubles"].to_string().contains("a page of another site may send only to a source with a key"), "{sources}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn it_shows_a_certificate_itself_and_does_not_listen_for_others_without() {
    let folder = tempfile::tempdir().unwrap();
    let made = rcgen::generate_simple_self_signed(vec!["localhost".into()]).unwrap();
    let at = |name: &str| folder.path().join(name).to_str().unwrap().to_owned();
    std::fs::write(at("certificate.pem"), made.cert.pem()).unwrap();
    std::fs::write(at("key.pem"), made.signing_key.serialize_pem()).unwrap();
    let [port] = free_ports();
    let open =
        std::process::Command::new(crate::harness::binary()).args(["serve", "--data", &at("open"), "--listen", &format!("0.0.0.0:{port}")]).output().unwrap();
    assert_eq!(open.status.code(), Some(1));
    assert!(text(&open.stderr).contains("--behind-proxy"), "{}", text(&open.stderr));
    let (listen, url) = (format!("0.0.0.0:{port}"), format!("https://localhost:{port}"));
    let log = folder.path().join("log");
    let (certificate, key) = (at("certificate.pem"), at("key.pem"));
    let args = ["serve", "--data", &at("data"), "--listen", &listen, "--certificate", &certificate, "--key", &key, "--public-url", &url];
    let _running = crate::harness::spawn(&args, &log);
    let client = |args: &[&str]| std::process::Command::new(crate::harness::binary()).args(["--config", &at("data/client.toml")]).args(args).output().unwrap();
    until("it is ready", async || client(&["status"]).status.success().then_some(())).await;
    let link = text(&client(&["link"]).stdout);
    assert!(link.starts_with(&format!("{url}/sign-in?code=")), "{link}");
    let trusting =
        reqwest::Client::builder().no_proxy().add_root_certificate(reqwest::Certificate::from_pem(made.cert.pem().as_bytes()).unwrap()).build().unwrap();
    let body = json!({ "code": link.trim().split("code=").nth(1).unwrap() });
    let entered = trusting.post(format!("{url}/sign-in")).header("sec-fetch-site", "same-origin").json(&body).send().await.unwrap();
    let cookie = entered.headers()["set-cookie"].to_str().unwrap();
    assert!(cookie.ends_with("; Secure"), "{cookie}");
    assert!(reqwest::get(format!("http://localhost:{port}/healthz")).await.is_err(), "nothing is said without TLS");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_reaches_only_what_it_may() {
    let [source, desk] = free_ports();
    let mut node = Node::start().await;
    let plan = |more: &str| format!("[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n{more}[[route]]\nname = \"all\"\nto = [\"out\"]\n");
    let to_file = |path: &str| plan(&format!("[destination.out]\nkind = \"file\"\npath = {path:?}\n"));
    let at = |name: &str| node.path(name).display().to_string();
    std::os::unix::fs::symlink(node.path("data"), node.path("link")).unwrap();
    let applied = |text: &str| {
        let path = node.write("plan.toml", text);
        let output = node.client(&["apply", &path, "--yes"]);
        (output.status.code(), crate::harness::text(&output.stderr))
    };
    for (path, says) in [
        (at("data/records.key"), "the data folder"),
        (at("link/spool.db"), "the data folder"),
        ("/proc/self/mem".to_owned(), "/proc"),
        ("/dev/full".to_owned(), "/dev"),
        (at(".profile"), "begin with a dot"),
    ] {
        let (code, told) = applied(&to_file(&path));
        assert!(code == Some(3) && told.contains(says), "{path}: {told}");
    }
    // Nor does a check tell what stands in such a file.
    node.write(".hidden.csv", "code,berth_of_the_lark,gate\nTQ,4,2\n");
    let asks = |path: &str| {
        let table = format!("[table.berths]\nkind = \"csv\"\npath = {path:?}\nkey = \"code\"\n");
        format!("{table}{}", to_file(&at("out.jsonl"))).replace("to = [", "do = ['look up port in berths as berth = nowhere']\nto = [")
    };
    node.write("open.csv", "code,berth_of_the_lark,gate\nTQ,4,2\n");
    for (path, told) in [(at("open.csv"), true), (at(".hidden.csv"), false)] {
        let check = node.http.post(node.url("/api/v1/plan/check")).bearer_auth(node.token()).json(&json!({ "text": asks(&path) }));
        let answer = check.send().await.unwrap().json::<Value>().await.unwrap();
        assert_eq!((answer["mistakes"].to_string().contains("berth_of_the_lark"), &answer["good"]), (told, &json!(false)), "{answer}");
    }
    assert_eq!(applied(&to_file(&at("data/files/out.jsonl"))).0, Some(0));
    // A link that is put there later leads no further.
    node.write("safe.log", "gate opens\n");
    let logs = format!("[source.logs]\nkind = \"file\"\npaths = [\"{}/*.log\"]\nbegin_at = \"start\"\n", node.folder.path().display());
    node.apply(&format!("{logs}{}", to_file(&at("out.jsonl"))));
    std::os::unix::fs::symlink(node.path("data/client.toml"), node.path("stolen.log")).unwrap();
    let troubled = async || {
        let sources = node.get("/api/v1/sources").await;
        sources.to_string().contains("plans may not reach the data folder").then_some(())
    };
    until("the link is refused", troubled).await;
    node.drained().await;
    let out = std::fs::read_to_string(node.path("out.jsonl")).unwrap();
    assert!(out.contains("gate opens") && !out.contains("token"), "{out}");
    let looked = node.json(&["source", "look", &at("*.log")]);
    assert!(looked.to_string().contains("plans may not reach") && !looked.to_string().contains(&node.token()), "{looked}");

    // A secret goes to those that it was set for.
    assert!(text(&node.client(&["secret", "set", "desk", "--make"]).stderr).contains("--for"));
    node.json(&["secret", "set", "desk", "--make", "--for", "desk.example", "--for", &format!("127.0.0.1:{desk}")]);
    let to = |endpoint: &str| plan(&format!("[destination.out]\nkind = \"http\"\nendpoints = [\"{endpoint}\"]\ntoken = {{ secret = \"desk\" }}\n"));
    let (code, told) = applied(&to("http://127.0.0.1:9/in"));
    assert!(code == Some(3) && told.contains("would show the secret `desk` to 127.0.0.1:9; it may be shown to desk.example, 127.0.0.1:"), "{told}");
    assert_eq!(applied(&to(&format!("http://127.0.0.1:{desk}/in"))).0, Some(0));
    assert_eq!(applied(&to("https://desk.example/in")).0, Some(0));
    let listed = node.json(&["secret", "list"]);
    assert_eq!(listed[0]["shown_to"], json!(["desk.example", format!("127.0.0.1:{desk}")]));
    node.stop().await;

    // Where folders are given, nothing else is reached.
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    let (data, under) = (folder.path().join("data").display().to_string(), folder.path().join("under"));
    std::fs::create_dir(&under).unwrap();
    let [port] = free_ports();
    let args = ["serve", "--data", &data, "--listen", &format!("127.0.0.1:{port}"), "--files-under", under.to_str().unwrap()];
    let _running = crate::harness::spawn(&args, &folder.path().join("log"));
    let config = folder.path().join("data/client.toml").display().to_string();
    let client = |args: &[&str]| std::process::Command::new(crate::harness::binary()).args(["--config", &config]).args(args).output().unwrap();
    until("it is ready", async || client(&["status"]).status.success().then_some(())).await;
    for (path, code) in [(under.join("out.jsonl"), 0), (folder.path().join("out.jsonl"), 3)] {
        let file = folder.path().join("plan.toml");
        std::fs::write(&file, to_file(path.to_str().unwrap())).unwrap();
        let output = client(&["apply", file.to_str().unwrap(), "--yes"]);
        assert_eq!(output.status.code(), Some(code), "{}", text(&output.stderr));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_archive_that_keeps_what_steps_mask_says_so_wherever_it_shows() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.vault]\nkind = \"archive\"\nstore = \"{}/vault\"\nevents = \"as received\"\n[[route]]\nname = \"all\"\ndo = ['redact email']\nto = [\"vault\"]\n",
        node.folder.path().display()
    ));
    assert_eq!(post(&node.http, source, "{}").await.status(), 200);
    let says = "keeps events as they were received, without what `redact email` of the route `all` masks";
    assert_eq!(node.get("/api/v1/flow").await["destinations"][0]["caveat"], says);
    assert_eq!(node.get("/api/v1/ledger").await["caveats"], json!([format!("destination vault {says}")]));
    let shown = async || text(&node.client(&["ledger"]).stdout).contains(says).then_some(());
    until("the ledger says so", shown).await;
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_journal_is_sent_where_the_plan_says_each_entry_once() {
    let mut node = Node::start().await;
    let out = node.path("audit.jsonl");
    node.apply(&format!(
        "[source.audit]\nkind = \"journal\"\non_arrival = ['tag team = \"security\"']\n[destination.kept]\nkind = \"file\"\npath = {:?}\n[[route]]\nname = \"audit\"\nto = [\"kept\"]\n",
        out.display().to_string()
    ));
    let numbers = || crate::harness::lines(&out).iter().map(|e| e["number"].as_i64().unwrap()).collect::<Vec<_>>();
    until("what was there comes", async || (numbers() == [1, 2]).then_some(())).await;
    node.json(&["destination", "pause", "kept"]);
    node.json(&["destination", "resume", "kept"]);
    until("what is done comes", async || (numbers() == [1, 2, 3, 4]).then_some(())).await;
    let paused = crate::harness::lines(&out)[2].clone();
    assert_eq!(
        (&paused["who"], &paused["action"], &paused["subject"], &paused["team"]),
        (&json!("admin"), &json!("pause destination"), &json!("kept"), &json!("security"))
    );
    // A crash repeats nothing.
    node.kill();
    node.begin().await;
    until("the start comes", async || (numbers() == [1, 2, 3, 4, 5]).then_some(())).await;
    assert!(text(&node.client(&["source", "show", "audit"]).stdout).contains("journal"));
    node.drained().await;
    node.balanced();
    node.stop().await;
}

/// A service whose people sign in through a stand-in for a provider.
pub(crate) async fn with_provider() -> (Node, crate::harness::Running) {
    let [port] = free_ports();
    let issuer = format!("http://127.0.0.1:{port}");
    let node = Node::start_with(|folder| {
        let file = folder.join("openid.toml");
        let settings = format!("issuer = \"{issuer}\"\nclient = \"rockrose\"\nlabel = \"Saltmarsh Ferries\"\nsecret_file = \"openid-secret\"\n");
        std::fs::write(&file, settings).unwrap();
        std::fs::write(folder.join("openid-secret"), "tern\n").unwrap();
        vec!["--openid".to_owned(), file.display().to_string()]
    });
    let node = node.await;
    let args = ["standin", "--as", "openid", "--listen", &format!("127.0.0.1:{port}"), "--want-token", "tern"];
    let provider = crate::harness::spawn(&args, &node.path("provider.log"));
    until("the provider is there", async || reqwest::get(&issuer).await.ok()).await;
    (node, provider)
}

fn header<'a>(answer: &'a reqwest::Response, name: &str) -> &'a str {
    answer.headers()[name].to_str().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn people_sign_in_through_their_companys_provider() {
    let (mut node, provider) = with_provider().await;
    node.json(&["person", "add", "ann@ferries.example", "--role", "auditor"]);
    let ways = node.http.get(node.url("/sign-in/ways")).send().await.unwrap().json::<Value>().await.unwrap();
    assert_eq!(ways, json!({ "openid": "Saltmarsh Ferries" }));
    // Goes to the provider, and chooses an account there: what the browser carries, and the way back.
    let goes = async |account: &str| {
        let sent = node.http.get(node.url("/sign-in/openid")).send().await.unwrap();
        let carried = header(&sent, "set-cookie").split(';').next().unwrap().to_owned();
        assert!(header(&sent, "set-cookie").contains("HttpOnly; SameSite=Lax"), "{}", header(&sent, "set-cookie"));
        let to = header(&sent, "location");
        assert!(to.contains("code_challenge_method=S256") && to.contains("nonce=") && to.contains("scope=openid+email"), "{to}");
        let chosen = node.http.get(format!("{}&account={account}", to.replace("/authorize", "/enter"))).send().await.unwrap();
        (carried, header(&chosen, "location").to_owned())
    };
    let comes = async |carried: &str, back: &str| node.http.get(back).header("cookie", carried).send().await.unwrap();
    let (carried, back) = goes("ann@ferries.example").await;
    for (wrong, why) in [
        (comes("", &back).await, "journey"),
        (comes(&goes("ann@ferries.example").await.0, &back).await, "journey"),
        (comes(&carried, &back.replace("code=", "code=x")).await, "answer"),
        (comes(&carried, &format!("{}&error=access_denied", back.replace("code=", "no="))).await, "declined"),
    ] {
        assert_eq!(header(&wrong, "location"), format!("/sign-in?wrong={why}"));
        assert!(!header(&wrong, "set-cookie").contains("session"), "{why}");
    }
    let entered = comes(&carried, &back).await;
    assert_eq!((entered.status().as_u16(), header(&entered, "location")), (303, "/"));
    let cookies: Vec<&str> = entered.headers().get_all("set-cookie").iter().map(|v| v.to_str().unwrap()).collect();
    assert!(cookies[0].starts_with("rockrose_session_") && cookies[0].contains("SameSite=Strict") && cookies[1].contains("Max-Age=0"), "{cookies:?}");
    let me = node.http.get(node.url("/api/v1/me")).header("cookie", cookies[0].split(';').next().unwrap()).send().await.unwrap();
    let me = me.json::<Value>().await.unwrap();
    assert_eq!((&me["name"], &me["person"], &me["password"]), (&json!("ann@ferries.example"), &json!(true), &json!(false)));
    // A code is good once, and whoever was not added stays out.
    assert_eq!(header(&comes(&carried, &back).await, "location"), "/sign-in?wrong=answer");
    let (carried, back) = goes("bo@ferries.example").await;
    assert_eq!(header(&comes(&carried, &back).await, "location"), "/sign-in?wrong=unknown");
    // The name is there, but it is the other account's by now.
    let person = node.json(&["person", "list"])[0].clone();
    assert_eq!((&person["account"], &person["password"]), (&json!(true), &json!(false)));
    let journal = node.json(&["journal", "--action", "sign in"]);
    let entries: Vec<(&str, &str)> = journal.as_array().unwrap().iter().map(|e| (e["who"].as_str().unwrap(), e["result"].as_str().unwrap())).collect();
    assert_eq!((entries[0], entries[2]), (("bo@ferries.example", "refused: unknown"), ("ann@ferries.example", "done")), "{journal}");
    assert!(!node.log().contains("words of the provider") && !journal.to_string().contains("words of the provider"));
    // Failures in a row make an address wait, before the provider is asked.
    let (carried, back) = goes("ann@ferries.example").await;
    for _ in 0..4 {
        comes("", &back).await;
    }
    assert_eq!(header(&comes(&carried, &back).await, "location"), "/sign-in?wrong=wait");
    drop(provider);
    node.stop().await;
    node.begin().await;
    let sent = node.http.get(node.url("/sign-in/openid")).send().await.unwrap();
    assert_eq!(header(&sent, "location"), "/sign-in?wrong=provider", "the service runs without its provider");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_changes_ones_own_password_by_the_one_until_now() {
    let mut node = Node::start().await;
    node.json(&["person", "add", "ann", "--role", "viewer"]);
    let set = async |password: Value| {
        let request = node.http.put(node.url("/api/v1/people/ann/password")).bearer_auth(node.token());
        assert_eq!(request.json(&json!({ "password": password })).send().await.unwrap().status(), 204);
    };
    let enters = async |body: Value| {
        let answer = node.http.post(node.url("/sign-in")).header("sec-fetch-site", "same-origin").json(&body).send().await.unwrap();
        answer.headers().get("set-cookie").map(|v| v.to_str().unwrap().split(';').next().unwrap().to_owned())
    };
    let changes = async |cookie: &str, current: &str, new: &str| {
        let request = node.http.put(node.url("/api/v1/me/password")).header("cookie", cookie).header("sec-fetch-site", "same-origin");
        request.json(&json!({ "current": current, "new": new })).send().await.unwrap().status().as_u16()
    };
    let link = node.json(&["link", "--person", "ann"])["url"].as_str().unwrap().to_owned();
    let by_link = enters(json!({ "code": link.split("code=").nth(1).unwrap() })).await.unwrap();
    assert_eq!(changes(&by_link, "", "plover on the shingle").await, 409, "a session gives itself no password");
    set(json!("heron on the mooring")).await;
    let with = |password: &str| json!({ "name": "ann", "password": password });
    let (one, other) = (enters(with("heron on the mooring")).await.unwrap(), enters(with("heron on the mooring")).await.unwrap());
    for (current, new, status) in [
        ("plover on the shingle", "plover on the shingle", 403),
        ("heron on the mooring", "plover", 400),
        ("heron on the mooring", "plover on the shingle", 204),
    ] {
        assert_eq!(changes(&one, current, new).await, status, "{current} {new}");
    }
    let known = async |cookie: &str| node.http.get(node.url("/api/v1/me")).header("cookie", cookie).send().await.unwrap().status().as_u16();
    assert_eq!((known(&one).await, known(&other).await), (200, 401));
    assert!(enters(with("heron on the mooring")).await.is_none() && enters(with("plover on the shingle")).await.is_some());
    let by_token = node.http.put(node.url("/api/v1/me/password")).bearer_auth(node.token()).json(&json!({ "current": "a", "new": "plover on the shingle" }));
    assert_eq!(by_token.send().await.unwrap().status(), 409);
    assert_eq!(node.json(&["journal", "--action", "change own password"]).as_array().unwrap().len(), 5);
    // Guessing is slow here too.
    let guessed = async || (changes(&one, "wrong", "plover on the shingle").await == 429).then_some(());
    until("guesses must wait", guessed).await;
    node.stop().await;
}

/// A destination that refuses everything for now, in words that hold what it was sent.
fn talkative(port: u16) {
    let listener = std::net::TcpListener::bind(("127.0.0.1", port)).unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            use std::io::{Read, Write};
            let Ok(mut stream) = stream else { return };
            let _ = stream.read(&mut [0; 4_096]);
            let says = "you sent ann@post.example";
            let _ = write!(stream, "HTTP/1.1 500 Oh\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{says}", says.len());
        }
    });
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_destination_answers_is_for_those_who_see_all_and_not_for_the_log() {
    let [source, dead] = free_ports();
    talkative(dead);
    let mut node = Node::start().await;
    node.apply(&plan(source, dead));
    let bounded = made(&node, "bounded", &["--grant", "see when team = \"gates\"", "--grant", "operate"]);
    assert_eq!(post(&node.http, source, "{\"team\":\"kiosks\"}").await.status(), 200);
    let says = "you sent ann@post.example";
    until("the answer is known", async || node.get("/api/v1/flow").await.to_string().contains(says).then_some(())).await;
    let event = json!({ "source": "quays", "event": "{\"team\":\"gates\"}" });
    let tested = async |token: &str| {
        let ask = |method: Method, path: &str| node.http.request(method, node.url(path)).bearer_auth(token);
        let asks = [
            ask(Method::GET, "/api/v1/flow"),
            ask(Method::GET, "/api/v1/ledger"),
            ask(Method::GET, "/api/v1/status"),
            ask(Method::GET, "/metrics"),
            ask(Method::POST, "/api/v1/why").json(&event),
            ask(Method::POST, "/api/v1/destinations/desk/test").json(&json!({})),
        ];
        let mut told = String::new();
        for ask in asks {
            let answer = ask.send().await.unwrap();
            assert_eq!(answer.status(), 200, "{}", answer.url());
            told.push_str(&answer.text().await.unwrap());
        }
        told
    };
    let (all, some) = (tested(&node.token()).await, tested(&bounded).await);
    assert!(all.contains(says) && !some.contains("you sent") && some.contains("answered 500"), "{some}");
    assert!(node.log().contains("answered 500") && !node.log().contains("you sent"), "{}", node.log());
    node.kill();
}
