//! A plan, or one step more, tried on real events before it is applied.

use std::fmt::Write as _;

use serde_json::{Value, json};

use crate::harness::{Node, free_ports, post, sum, text, until};

fn plan(source: u16, route: &str) -> String {
    format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\non_arrival = ['tag line = \"quay\"']\n[source.spare]\nkind = \"http\"\nlisten = \"127.0.0.1:0\"\n\
         [destination.desk]\nkind = \"discard\"\nalways = ['redact email']\nprice = {{ per_gb = 2.00 }}\n[destination.vault]\nkind = \"discard\"\n{route}"
    )
}

const ROUTE: &str = "# What goes wrong.\n[[route]]\nname = \"trouble\"\nwhen = 'severity >= warn'\ndo = ['remove debug']\nto = [\"desk\"]\n";

fn events(from: usize, count: usize) -> String {
    (from..from + count).fold(String::new(), |mut body, n| {
        let level = ["error", "warn", "warn", "info"][n % 4];
        let _ = writeln!(
            body,
            "{{\"level\":\"{level}\",\"message\":\"gate {n} stuck for ann{n}@post.example\",\"gate\":{},\"team\":\"quays\",\"debug\":{{\"heap\":7}}}}",
            n % 10
        );
        body
    })
}

/// A node whose sample stands for all that it was sent: how many events that is.
async fn node(source: u16) -> (Node, i64) {
    let node = Node::start().await;
    node.apply(&plan(source, ROUTE));
    let mut sent = 0;
    let all_there = async || {
        assert_eq!(post(&node.http, source, events(sent, 200)).await.status(), 200);
        sent += 200;
        let looked = node.get("/api/v1/sample?point=source:quays").await["stands_for"].as_u64().unwrap();
        (sent >= 1_000 && looked == sent as u64).then_some(())
    };
    until("the sample stands for all", all_there).await;
    (node, sent as i64)
}

fn part<'a>(answer: &'a Value, part: &str, name: &str) -> &'a Value {
    answer["parts"].as_array().unwrap().iter().find(|p| p["part"] == part && p["name"] == name).unwrap_or_else(|| panic!("{part} {name} in {answer}"))
}

fn destination<'a>(answer: &'a Value, name: &str) -> &'a Value {
    answer["destinations"].as_array().unwrap().iter().find(|d| d["name"] == name).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_step_is_tried_on_the_samples_and_nothing_is_sent_or_counted() {
    let [source] = free_ports();
    let (mut node, sent) = node(source).await;
    let before = node.json(&["ledger"]);
    let taken = sent * 3 / 4;
    let answer = node.json(&["try", "--step", "drop severity <= warn", "--at", "route:trouble", "--show", "removed", "--most", "5"]);
    let route = part(&answer, "route", "trouble");
    let is_about = |told: &Value, expected: i64| (told.as_f64().unwrap() / expected as f64 - 1.0).abs() < 0.25;
    assert!(answer["stands_for"] == sent && is_about(&route["came"]["events"], taken) && is_about(&route["went"]["events"], sent / 4), "{answer}");
    let came = &route["came"]["events"];
    assert_eq!((&route["went_now"]["events"], &route["steps"][0]["changed"]), (came, came));
    assert_eq!(route["steps"][1]["removed"].as_i64().unwrap() + route["went"]["events"].as_i64().unwrap(), came.as_i64().unwrap());
    assert!(route["steps"].as_array().unwrap().iter().all(|s| s["nanos"].as_u64().unwrap() > 0), "{route}");
    // A month of what came: a third of the events is left, and of the money.
    let desk = destination(&answer, "desk");
    let (now, then) = (desk["now"]["events"].as_f64().unwrap(), desk["then"]["events"].as_f64().unwrap());
    assert!(now > 1_000_000.0 && (then / now - 1.0 / 3.0).abs() < 0.1, "{desk}");
    let (now, then, bytes) = (desk["money"]["now"].as_f64().unwrap(), desk["money"]["then"].as_f64().unwrap(), desk["now"]["bytes"].as_f64().unwrap());
    assert!((now - bytes / 1e9 * 2.0).abs() < 1e-9 && (then / now - 1.0 / 3.0).abs() < 0.1 && desk["money"]["currency"] == "EUR", "{desk}");
    // The events that are shown are those of which that becomes, with what decided.
    let shown = answer["shown"].as_array().unwrap();
    let removed = |e: &Value| e["routes"][0]["passage"]["outcome"] == "removed" && e["routes"][0]["passage"]["step"] == "drop severity <= warn";
    assert!(shown.len() == 5 && shown.iter().all(removed), "{answer}");
    let not = node.json(&["try", "--route", "trouble", "--show", "not-taken", "--most", "1"]);
    assert_eq!(
        not["shown"][0]["routes"][0]["parts"][0],
        json!({ "sentence": "severity >= warn", "holds": false, "seen": [{ "field": "severity", "value": "\"info\"" }] })
    );
    // How an event leaves, and what was done to it.
    let changed = node.json(&["try", "--route", "trouble", "--show", "changed", "--most", "1"]);
    let at_desk = &changed["shown"][0]["routes"][0]["destinations"][0]["passage"];
    assert!(at_desk["differences"][0]["field"] == "message" && at_desk["after"]["message"].as_str().unwrap().ends_with("for ***"), "{changed}");
    // What personal data is left behind each step.
    let masked = &["--step", "redact email in message", "--at", "route:trouble"];
    let tried = node.json(&[&["try", "--route", "trouble"], &masked[..]].concat());
    let left: Vec<&Value> = part(&tried, "route", "trouble")["steps"].as_array().unwrap().iter().map(|step| &step["personal"]).collect();
    assert!(left[0][0]["field"] == "message" && left[0][0]["found"][0]["detector"] == "email" && *left[1] == json!([]), "{left:?}");
    let told = text(&node.client(&[&["try", "--route", "trouble"], &masked[..]].concat()).stdout);
    assert!(told.contains("personal data left") && told.contains("message (email)"), "{told}");
    // A plan from a file; a destination that gets what it did not get is said.
    let more = node.write("more.toml", &plan(source, &format!("{ROUTE}[[route]]\nname = \"all\"\ndo = ['limit 5 per minute by gate']\nto = [\"vault\"]\n")));
    let answer = node.json(&["try", &more]);
    assert_eq!(destination(&answer, "vault")["new_personal"], json!(["message"]));
    let told = text(&node.client(&["try", &more]).stdout);
    for says in ["vault would get personal data that it does not get now, in message.", "limit 5 per minute by gate", "A month, estimated from the last"] {
        assert!(told.contains(says), "{says} in {told}");
    }
    // Nothing of it was counted, and no plan applied.
    let after = node.json(&["ledger"]);
    assert_eq!((sum(&before, "source", "quays", "received"), sum(&before, "destination", "desk", "enqueued")), (sent, taken));
    assert_eq!(before["rows"], after["rows"]);
    assert_eq!(node.get("/api/v1/plan").await["revision"], 1);
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn given_events_are_tried_from_their_source_on_and_mistakes_are_told() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, ROUTE));
    let file = node.write("events.jsonl", &format!("{}{{\"level\":\ntide is high\n", events(0, 400)));
    let answer = node.json(&["try", "--on", &file, "--source", "quays", "--step", "merge repeats within 10 seconds by gate", "--at", "route:trouble"]);
    let (at_source, route) = (part(&answer, "source", "quays"), part(&answer, "route", "trouble"));
    assert_eq!((&answer["events"], &answer["unreadable"], &at_source["steps"][0]["changed"]), (&json!(402), &json!(1), &json!(401)));
    assert_eq!((&route["came"]["events"], &route["steps"][1]["held"], &route["steps"][1]["removed"]), (&json!(300), &json!(10), &json!(290)));
    assert_eq!((&answer["cannot_tell"], &answer["estimated_from_ms"]), (&json!([]), &Value::Null));
    for (args, code, says) in [
        (vec!["try", "--on", &file], 1, "say by which source the events come: `quays`, `spare`"),
        (vec!["try", "--on", &file, "--source", "none"], 1, "no source `none`"),
        (vec!["try", "--route", "none"], 1, "no route `none`"),
        (vec!["try", "--show", "eaten"], 1, "`eaten` is none of `not taken`"),
        (vec!["try", "--step", "drop gate =", "--at", "route:trouble"], 1, "there is 1 mistake in it"),
        (vec!["try", "--step", "drop gate = 1", "--at", "route:none"], 1, "the plan has no route `none`"),
        (vec!["try", "--step", "drop gate = 1"], 2, "--at"),
        (vec!["try", "/none/such.toml"], 1, "cannot read"),
    ] {
        let output = node.client(&args);
        assert!(!output.status.success() && text(&output.stderr).contains(says), "{args:?} ({code}): {}", text(&output.stderr));
    }
    // A sample that is no text, and an event of 256 KB.
    let noise: Vec<u8> = (0..200_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 11) as u8).collect();
    std::fs::write(node.path("noise"), noise).unwrap();
    std::fs::write(node.path("large"), format!("{{\"level\":\"error\",\"message\":\"{}\"}}\n", "x".repeat(256 << 10))).unwrap();
    for odd in ["noise", "large"] {
        let output = node.client(&["try", "--on", node.path(odd).to_str().unwrap(), "--source", "quays"]);
        assert!(output.status.success(), "{odd}: {}", text(&output.stderr));
    }
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_shows_nobody_more_than_they_may_see() {
    let [source] = free_ports();
    let (mut node, sent) = node(source).await;
    let made = |name: &str, grants: &[&str]| {
        let grants: Vec<&str> = grants.iter().flat_map(|grant| ["--grant", grant]).collect();
        node.json(&[&["token", "make", name][..], &grants].concat())["token"].as_str().unwrap().to_owned()
    };
    let ask = async |token: &str, request: Value| {
        let answer = node.http.post(node.url("/api/v1/trial")).bearer_auth(token).json(&request).send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    };
    // Some events of a source only, and those redacted.
    let bounded = made("bounded", &["see when gate = 4 after redact message"]);
    let (status, told) = ask(&bounded, json!({ "most": 500, "route": "trouble" })).await;
    let answer: Value = serde_json::from_str(&told).unwrap();
    assert!(status == 200 && !told.contains("@post") && !told.contains("stuck"), "{told}");
    assert!((sent / 20..sent / 5).contains(&answer["stands_for"].as_i64().unwrap()), "{answer}");
    assert_eq!(answer["bounds"], json!(["see when gate = 4 after redact message"]));
    assert!(answer["shown"].as_array().unwrap().iter().all(|e| e["event"].as_str().unwrap().contains("\"gate\":4")) && answer["estimated_from_ms"].is_null());
    // Through a plan of their own they could ask tables and hashes.
    let edit = json!([{ "edit": "add_step", "part": "route:trouble", "step": "redact gate as hash" }]);
    assert_eq!(ask(&bounded, json!({ "edits": edit })).await.0, 403);
    // At a route and nowhere else: only that route, on what it takes.
    let at_route = made("at-route", &["see at route:trouble"]);
    assert_eq!(ask(&at_route, json!({})).await.0, 403);
    let (status, told) = ask(&at_route, json!({ "route": "trouble" })).await;
    let answer: Value = serde_json::from_str(&told).unwrap();
    assert_eq!((status, answer["parts"].as_array().unwrap().len()), (200, 5), "{told}");
    assert!((answer["stands_for"].as_f64().unwrap() / sent as f64 - 0.75).abs() < 0.15, "{told}");
    // Who may not see events may not try.
    let blind = made("blind", &["operate"]);
    assert_eq!(ask(&blind, json!({})).await.0, 403);
    // The journal says who looked.
    let journal = node.json(&["journal"]);
    assert!(journal.to_string().contains("try plan"), "{journal}");
    // A plan's text is edited with its comments.
    let edited = node.http.post(node.url("/api/v1/plan/edit")).bearer_auth(&bounded).json(&json!({ "edits": edit })).send().await.unwrap();
    let edited: Value = edited.json().await.unwrap();
    assert!(edited["text"].as_str().unwrap().contains("# What goes wrong.\n[[route]]"), "{edited}");
    assert!(edited["difference"].as_str().unwrap().contains("+do = ['remove debug', 'redact gate as hash']"), "{edited}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_says_what_it_changes_before_it_is_applied_and_what_was_predicted_is_kept() {
    let [source] = free_ports();
    let (mut node, _) = node(source).await;
    let cut = plan(source, &ROUTE.replace("'remove debug'", "'remove debug', 'drop gate < 5'"));
    let more = format!(
        "{cut}[[route]]\nname = \"none\"\nwhen = 'gaet = 4'\nto = [\"vault\"]\n[[route]]\nname = \"twice\"\nwhen = 'severity >= error'\nto = [\"desk\"]\n"
    );
    // In words, with what each destination would get, and with what is odd.
    let told = text(&node.client(&["apply", &node.write("more.toml", &more), "--yes"]).stdout);
    for says in [
        "changed  route trouble",
        "step added: drop gate < 5",
        "A month, estimated from the last",
        "It saves",
        "the route `none` takes none of the",
        "asks for the field `gaet`, which none of the",
        "the nearest that they have is `gate`",
        "the routes `twice` and `trouble` send the same events to `desk`",
    ] {
        assert!(told.contains(says), "{says} in {told}");
    }
    // What was predicted stands with the revision, and what really came beside it.
    let kept = async || {
        let shown = node.get("/api/v1/revisions/2").await;
        (!shown["forecast"].is_null()).then_some(shown)
    };
    let shown = until("the forecast is kept", kept).await;
    let desk = shown["forecast"]["destinations"].as_array().unwrap().iter().find(|d| d["name"] == "desk").unwrap();
    assert!(desk["then"]["events"].as_i64() < desk["now"]["events"].as_i64() && desk["money"]["then"].as_f64() < desk["money"]["now"].as_f64(), "{desk}");
    let told = text(&node.client(&["revisions", "show", "2"]).stdout);
    assert!(told.contains("A month, as predicted when it was applied") && text(&node.client(&["revisions", "2"]).stdout).contains("as predicted"), "{told}");
    // Two revisions, in words and lines; a step applied by itself; a revert that keeps to what one has seen.
    let diff = node.json(&["diff", "1", "2"]);
    assert_eq!((&diff["changes"][0]["name"], &diff["changes"][0]["details"]), (&json!("trouble"), &json!(["step added: drop gate < 5"])));
    assert!(text(&node.client(&["diff", "1"]).stdout).contains("From revision 1 to 2:"));
    assert_eq!(node.json(&["apply", "--step", "tag seen = 1", "--at", "route:trouble", "--yes"])["revision"], 3);
    let running = node.get("/api/v1/plan").await["text"].as_str().unwrap().to_owned();
    assert!(running.contains("# What goes wrong.") && running.contains("'drop gate < 5', 'tag seen = 1'"), "{running}");
    let stale = json!({ "expected_revision": 2 });
    let answer = node.http.post(node.url("/api/v1/revisions/1/revert")).bearer_auth(node.token()).json(&stale).send().await.unwrap();
    assert_eq!(answer.status(), 409);
    // Whoever does not see all events is told no volumes of conditions of their own.
    let made = node.json(&["token", "make", "changes", "--grant", "change", "--grant", "see when gate = 4"]);
    let check = node.http.post(node.url("/api/v1/plan/check")).bearer_auth(made["token"].as_str().unwrap()).json(&json!({ "text": cut })).send().await.unwrap();
    let check: Value = check.json().await.unwrap();
    assert!(check["good"] == true && check["forecast"].is_null(), "{check}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_example_that_fails_keeps_a_plan_from_being_applied() {
    let [source] = free_ports();
    let (mut node, _) = node(source).await;
    // One made of a real event holds, and says what becomes of it.
    let made = node.json(&["example", "add", "--source", "quays", "--when", "severity = error", "--says", "an error reaches the desk", "--yes"]);
    let example = made["example"].as_str().unwrap();
    assert!(
        example.contains("says = 'an error reaches the desk'")
            && example.contains("not (debug exists)")
            && example.contains("for ***\"")
            && example.contains("vault = 'not sent'"),
        "{example}"
    );
    assert_eq!(made["revision"], 2);
    let running = node.get("/api/v1/plan").await["text"].as_str().unwrap().to_owned();
    assert!(running.contains("[[example]]") && running.starts_with(plan(source, ROUTE).trim_end()), "{running}");
    // A plan that breaks it: checked with and without the service, and refused.
    let broken = node.write("broken.toml", &running.replace("'remove debug'", "'drop severity = error'"));
    for args in [vec!["check", broken.as_str()], vec!["apply", broken.as_str(), "--yes"]] {
        let output = node.client(&args);
        let told = format!("{}{}", text(&output.stdout), text(&output.stderr));
        assert_eq!(output.status.code(), Some(3), "{args:?}: {told}");
        assert!(told.contains("the example \"an error reaches the desk\" fails at `desk`: `drop severity = error` removes it"), "{told}");
    }
    let refused = node.http.post(node.url("/api/v1/revisions")).bearer_auth(node.token()).json(&json!({ "text": std::fs::read_to_string(&broken).unwrap() }));
    assert_eq!(refused.send().await.unwrap().status(), 422);
    assert_eq!(node.get("/api/v1/plan").await["revision"], 2);
    // Those who may change what is a team's may not take an example away.
    let team = node.json(&["token", "make", "team", "--grant", "change team \"quays\""])["token"].as_str().unwrap().to_owned();
    let without = json!({ "text": plan(source, ROUTE) });
    let answer = node.http.post(node.url("/api/v1/revisions")).bearer_auth(team).json(&without).send().await.unwrap();
    let (status, told) = (answer.status(), answer.text().await.unwrap());
    assert!(status == 403 && told.contains("the example `an error reaches the desk` would be changed"), "{status} {told}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn suggestions_are_measured_declined_and_never_applied_by_themselves() {
    let [source] = free_ports();
    let (mut node, _) = node(source).await;
    let wide = (0..400).fold(String::new(), |mut body, n| {
        let _ = writeln!(body, "{{\"level\":\"warn\",\"message\":\"gate {n} is slow\",\"gate\":{},\"dump\":\"{}\"}}", n % 10, "x".repeat(400));
        body
    });
    let found = async || {
        assert_eq!(post(&node.http, source, wide.clone()).await.status(), 200);
        let found = node.json(&["suggest"]);
        let all = found["suggestions"].as_array().unwrap().clone();
        all.iter().any(|s| s["step"] == "remove dump" && s["part"] == "route:trouble").then_some(all)
    };
    let all = until("the wide field is found", found).await;
    let dump = all.iter().find(|s| s["step"] == "remove dump").unwrap();
    assert!(dump["reason"] == "unread field" && dump["share"].as_f64().unwrap() > 0.3 && dump["money"][0]["amount"].as_f64().unwrap() > 0.0, "{dump}");
    // What it says is what a trial of it says, where both are of the same whole minutes.
    let agreed = async || {
        let all = node.json(&["suggest"])["suggestions"].as_array().unwrap().clone();
        let saves = all.iter().find(|s| s["id"] == dump["id"])?["saves"]["bytes"].as_f64()?;
        let tried = node.json(&["try", "--step", "remove dump", "--at", "route:trouble"]);
        let desk = destination(&tried, "desk");
        let saved = desk["now"]["bytes"].as_f64().unwrap() - desk["then"]["bytes"].as_f64().unwrap();
        ((saves / saved - 1.0).abs() < 0.02).then_some(())
    };
    until("the suggestion and the trial agree", agreed).await;
    assert!(text(&node.client(&["suggest", "route:trouble"]).stdout).contains("remove dump"));
    assert!(!text(&node.client(&["suggest", "destination:vault"]).stdout).contains("remove dump"));
    // Declined, it is not made again, until it is.
    let id = dump["id"].as_str().unwrap();
    assert_eq!(node.json(&["suggest", "--decline", id])["declined"], true);
    let left = node.json(&["suggest"]);
    assert!(!left.to_string().contains(id) && left["declined"] == 1, "{left}");
    assert_eq!(node.json(&["suggest", "--restore", id])["declined"], false);
    assert!(node.json(&["suggest"]).to_string().contains(id));
    assert_eq!(node.get("/api/v1/plan").await["revision"], 1);
    // Of a file, without a service.
    let file = node.write("wide.jsonl", &wide);
    let told = text(&std::process::Command::new(crate::harness::binary()).args(["suggest", &file]).output().unwrap().stdout);
    assert!(told.contains("remove dump") && told.contains("no condition or step reads `dump`"), "{told}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sentence_goes_on_with_what_is_in_the_stream() {
    let [source] = free_ports();
    let (mut node, _) = node(source).await;
    let made = node.json(&["token", "make", "bounded", "--grant", "see at route:trouble when gate = 4 after redact level"]);
    let bounded = made["token"].as_str().unwrap().to_owned();
    let ask = async |token: &str, kind: &str, text: &str, point: Option<&str>| {
        let request = json!({ "kind": kind, "text": text, "point": point });
        let whole = async || {
            let answer = node.http.post(node.url("/api/v1/complete")).bearer_auth(token).json(&request).send().await.unwrap();
            let (status, told) = (answer.status().as_u16(), answer.json::<Value>().await.unwrap());
            (told["partial"] != true).then_some((status, told))
        };
        until("the sample is looked at", whole).await
    };
    let offered = |answer: &Value| answer["proposals"].as_array().unwrap().iter().map(|p| p["text"].as_str().unwrap().to_owned()).collect::<Vec<_>>();
    let owner = node.token();
    let (status, told) = ask(&owner, "step", "drop ga", Some("source:quays")).await;
    assert_eq!((status, offered(&told), &told["from"], &told["proposals"][0]["share"]), (200, vec!["gate".to_owned()], &json!(5), &json!(1.0)));
    let (_, told) = ask(&owner, "condition", "level = \"", Some("source:quays")).await;
    assert!(offered(&told)[0] == "\"warn\"" && (0.3..0.7).contains(&told["proposals"][0]["share"].as_f64().unwrap()), "{told}");
    // Without a point only the language and the plan are known.
    let (_, told) = ask(&owner, "step", "keep severity >= ", None).await;
    assert!(offered(&told).contains(&"warn".to_owned()) && !told.to_string().contains("gate"), "{told}");
    let (_, told) = ask(&owner, "condition", "gate = = 4 an", None).await;
    assert!(offered(&told).is_empty() && told["mistake"]["column"] == 8, "{told}");
    assert_eq!((ask(&owner, "essay", "", None).await.0, ask(&owner, "step", "", Some("route:none")).await.0), (400, 404));
    // Nobody is offered a value that they may not see.
    assert_eq!(ask(&bounded, "step", "drop ga", Some("source:quays")).await.0, 403);
    let (_, told) = ask(&bounded, "condition", "gate = ", Some("route:trouble")).await;
    assert!(offered(&told).contains(&"4".to_owned()) && !offered(&told).contains(&"5".to_owned()), "{told}");
    let (_, told) = ask(&bounded, "condition", "level = ", Some("route:trouble")).await;
    assert!(!told.to_string().contains("warn"), "{told}");
    node.stop().await;
}
