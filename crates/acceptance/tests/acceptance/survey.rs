//! What is in a stream: samples, fields and patterns, at points of a running plan and in files.

use std::fmt::Write as _;

use serde_json::{Value, json};

use crate::harness::{Node, free_ports, post, text, until};

fn plan(source: u16) -> String {
    format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\non_arrival = ['redact email', 'drop quiet = true']\n[destination.counted]\nkind = \"discard\"\n\
         [[route]]\nname = \"trouble\"\nwhen = 'severity >= warn'\ndo = ['tag seen = 1']\nto = [\"counted\"]\n"
    )
}

fn events(from: usize, count: usize) -> String {
    (from..from + count).fold(String::new(), |mut body, n| {
        let (level, message) = match n % 10 {
            0 => ("error", format!("payment {n} declined (code {})", n % 7)),
            1..=3 => ("warn", format!("gate {n} stuck for ann{n}@post.example")),
            _ => ("info", format!("ticket {n} printed")),
        };
        let _ = writeln!(body, "{{\"level\":\"{level}\",\"message\":\"{message}\",\"port\":\"{}\",\"took\":{}}}", ["Lowmere", "Tansy Quay"][n % 2], n % 100);
        body
    })
}

#[tokio::test(flavor = "multi_thread")]
async fn a_running_plan_tells_what_is_in_its_streams() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source));
    // A body is looked into a few times a second; what comes between is stood for by the next.
    let mut sent = 0;
    let stands_for = async |point: &str| node.get(&format!("/api/v1/sample?point={point}")).await["stands_for"].as_u64().unwrap();
    let all_there = async || {
        assert_eq!(post(&node.http, source, events(sent, 200)).await.status(), 200);
        sent += 200;
        let looked = stands_for("source:quays").await;
        (sent >= 3_000 && looked == sent as u64).then_some(())
    };
    until("the sample stands for all", all_there).await;
    let patterns = node.json(&["patterns", "source:quays"]);
    let of = |patterns: &Value, text: &str| patterns["patterns"].as_array().unwrap().iter().find(|p| p["text"].as_str().unwrap().starts_with(text)).cloned();
    assert_eq!((patterns["events"].as_u64(), patterns["patterns"].as_array().unwrap().len()), (Some(sent as u64), 3), "{patterns}");
    let printed = of(&patterns, "ticket {ticket} printed").unwrap();
    assert!((0.5..0.7).contains(&printed["share"].as_f64().unwrap()), "{printed}");
    assert_eq!((&printed["severities"][0]["what"], &printed["from"][0]["what"]), (&json!("info"), &json!("source:quays")));
    // What the source's own steps redact and remove is not kept.
    let stuck = of(&patterns, "gate").unwrap();
    assert!(!patterns.to_string().contains("@post") && stuck["text"] == "gate {gate} stuck for {for_name}", "{stuck}");
    assert_eq!(post(&node.http, source, "{\"quiet\":true,\"message\":\"nothing\"}").await.status(), 200);
    // A pattern's sentence can be used as it is.
    let sentence = printed["sentences"]["drop"].as_str().unwrap();
    assert_eq!(node.client(&["explain", sentence]).status.code(), Some(0), "{sentence}");
    let met = node.json(&["match", printed["condition"].as_str().unwrap(), "--on", "source:quays", "--most", "1"]);
    assert_eq!((&met["met"], met["shown"].as_array().unwrap().len()), (&printed["events"], 1), "{met}");
    // What a route takes, and what none takes.
    let taken = node.json(&["patterns", "route:trouble"]);
    assert!(of(&taken, "ticket").is_none() && of(&taken, "payment").is_some(), "{taken}");
    assert_eq!(stands_for("route:trouble").await + stands_for("remainder").await, stands_for("source:quays").await);
    let fields = node.json(&["fields", "route:trouble", "--when", "port = \"Lowmere\""]);
    let names: Vec<&str> = fields["fields"].as_array().unwrap().iter().map(|f| f["name"].as_str().unwrap()).collect();
    assert_eq!(names[0], "message");
    let port = fields["fields"].as_array().unwrap().iter().find(|f| f["name"] == "port").unwrap();
    assert_eq!((&port["distinct"], &port["top"][0]["what"], &port["share"]), (&json!(1), &json!("Lowmere"), &json!(1.0)));
    // As they leave the route's steps.
    let leaving = node.json(&["fields", "route:trouble", "--leaving"]);
    let share = |fields: &Value| fields["fields"].as_array().unwrap().iter().find(|f| f["name"] == "seen").map(|f| f["share"].clone());
    assert_eq!((share(&leaving), share(&fields)), (Some(json!(1.0)), None));
    assert_eq!(node.json(&["match", "seen = 1", "--on", "route:trouble", "--leaving", "--most", "1"])["met"], leaving["events"]);
    assert_eq!(node.json(&["match", "seen = 1", "--on", "route:trouble"])["met"], 0);
    // Which parts of the plan read a field; what is new beside what has come for a while.
    let of_source = node.json(&["fields", "source:quays"]);
    let read = |name: &str| of_source["fields"].as_array().unwrap().iter().find(|f| f["name"] == name).unwrap()["read_by"].clone();
    assert_eq!((read("level"), read("port")), (json!([]), json!([])));
    assert!(text(&node.client(&["fields", "source:quays", "--field", "port"]).stdout).contains("read by   no condition or step"));
    assert_eq!(node.json(&["patterns", "source:quays", "--minutes", "60"])["patterns"], json!([]));
    // Whoever sees only some of it is told of no more.
    let made = node.json(&["token", "make", "bounded", "--grant", "see at route:trouble when port = \"Lowmere\""]);
    let token = made["token"].as_str().unwrap();
    let ask = async |path: &str| node.http.get(node.url(path)).bearer_auth(token).send().await.unwrap();
    assert_eq!(ask("/api/v1/fields?point=source:quays").await.status(), 403);
    let told = ask("/api/v1/fields?point=route:trouble").await.text().await.unwrap();
    assert!(told.contains("Lowmere") && !told.contains("Tansy"), "{told}");
    let told = ask("/api/v1/sample?point=route:trouble&most=1000").await.text().await.unwrap();
    assert!(told.contains("Lowmere") && !told.contains("Tansy"), "{told}");
    let told = ask("/api/v1/patterns?point=route:trouble&field=port").await.text().await.unwrap();
    assert!(told.contains("Lowmere") && !told.contains("Tansy"), "{told}");
    for (path, status) in [
        ("fields?point=route:none", 404),
        ("fields?point=destination:counted", 400),
        ("patterns?point=remainder&when=a+%3D", 400),
        ("sample?point=nowhere", 400),
    ] {
        assert_eq!(node.http.get(node.url(&format!("/api/v1/{path}"))).bearer_auth(node.token()).send().await.unwrap().status(), status, "{path}");
    }
    // After a restart it is still there, and what is kept of it can be read by nobody else.
    let before = stands_for("source:quays").await;
    node.stop().await;
    let sealed = std::fs::read(node.path("data/samples.sealed")).unwrap();
    assert!(sealed.len() > 10_000 && !sealed.windows(6).any(|w| w == b"ticket"));
    node.begin().await;
    assert_eq!(node.get("/api/v1/sample?point=source:quays").await["stands_for"].as_u64().unwrap(), before);
    let stands_for = async |point: &str| node.get(&format!("/api/v1/sample?point={point}")).await["stands_for"].as_u64().unwrap();
    // A source that is not to be sampled is not, from the moment on at which the plan says so.
    node.apply(&plan(source).replace("on_arrival", "sample = \"off\"\non_arrival"));
    assert_eq!(post(&node.http, source, events(0, 200)).await.status(), 200);
    assert_eq!(stands_for("source:quays").await, 0);
    assert!(!node.path("data/samples.sealed").exists());
    let tried = node.json(&["try"]);
    assert_eq!((&tried["events"], &tried["stretch_ms"], &tried["cannot_tell"]), (&json!(0), &Value::Null, &json!(["the samples hold no events yet"])));
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_tells_what_is_in_it_without_a_service() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).display().to_string();
    std::fs::write(at("events.jsonl"), events(0, 1_000)).unwrap();
    let run = |args: &[&str]| std::process::Command::new(crate::harness::binary()).args(args).output().unwrap();
    let json = |args: &[&str]| {
        let output = run(&[args, &["--json"]].concat());
        assert!(output.status.success(), "{}", text(&output.stderr));
        serde_json::from_slice::<Value>(&output.stdout).unwrap()
    };
    let patterns = json(&["patterns", &at("events.jsonl")]);
    assert_eq!(patterns["patterns"].as_array().unwrap().iter().map(|p| p["events"].as_u64().unwrap()).collect::<Vec<_>>(), [600, 300, 100]);
    let id = patterns["patterns"][2]["id"].as_str().unwrap();
    let shown = text(&run(&["patterns", &at("events.jsonl"), "--show", &id[..8]]).stdout);
    assert!(
        shown.contains("parse message as \"payment {payment:integer} declined (code {code:integer})\"") && shown.contains("drop message matches"),
        "{shown}"
    );
    let ids = text(&run(&["patterns", &at("events.jsonl"), "--each"]).stdout);
    assert_eq!((ids.lines().count(), ids.lines().filter(|line| *line == id).count()), (1_000, 100));
    // Personal data is named, and not shown.
    let fields = text(&run(&["fields", &at("events.jsonl"), "--field", "message"]).stdout);
    assert!(fields.contains("email") && !fields.contains("@post"), "{fields}");
    let table = text(&run(&["fields", &at("events.jsonl")]).stdout);
    assert!(table.contains("took") && table.contains("Lowmere 50.0 %") && !table.contains("@post"), "{table}");
    // What came up in the last minutes of a file, and what came no more.
    let at_minute = |minute: usize, message: &str| format!("{{\"time\":\"2026-11-30T10:{minute:02}:00Z\",\"message\":\"{message}\"}}\n");
    let mut news = String::new();
    for minute in 0..60 {
        let messages = [Some("tide is high"), (minute < 20).then_some("fog at the quay"), (minute > 50).then_some("gale warning")];
        messages.into_iter().flatten().for_each(|message| news.push_str(&at_minute(minute, message)));
    }
    std::fs::write(at("news.jsonl"), news).unwrap();
    let found = json(&["patterns", &at("news.jsonl"), "--minutes", "30"]);
    let mut told: Vec<String> =
        found["patterns"].as_array().unwrap().iter().map(|p| format!("{} {}", p["news"].as_str().unwrap(), p["text"].as_str().unwrap())).collect();
    told.sort();
    assert_eq!(told, ["gone fog at the quay", "new gale warning"]);
    assert_eq!(json(&["match", "severity >= error", "--on", &at("events.jsonl")])["met"], 100);
    // What cannot be: told, with nothing else harmed.
    let noise: Vec<u8> = (0..300_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 11) as u8).collect();
    std::fs::write(at("noise"), noise).unwrap();
    std::fs::write(at("large"), format!("{{\"message\":\"{}\"}}\n", "x".repeat(256 << 10))).unwrap();
    for odd in ["noise", "large"] {
        assert!(run(&["patterns", &at(odd)]).status.success() && run(&["fields", &at(odd)]).status.success(), "{odd}");
    }
    for (args, says) in [
        (vec!["patterns", "/none/such"], "cannot open"),
        (vec!["fields", "noise-not-here", "--when", "a ="], "the condition"),
        (vec!["match", "a = 1", "--on", "route:x", "--address", "127.0.0.1:9"], ""),
    ] {
        let output = run(&args);
        assert!(!output.status.success() && text(&output.stderr).contains(says), "{args:?}: {}", text(&output.stderr));
    }
}
