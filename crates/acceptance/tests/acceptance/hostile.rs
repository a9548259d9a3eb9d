//! Bad input gets a clear answer and harms nothing else.

use std::io::Write;

use crate::harness::{Node, free_ports, http, sum};

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut e = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    e.write_all(bytes).unwrap();
    e.finish().unwrap()
}

/// What must become of a payload.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Fate {
    /// Refused with this status and a problem document.
    Refused(u16),
    /// Taken, with nothing of it readable.
    NothingRead,
    /// Taken, with so many records set aside as unreadable and so many read.
    Aside(u64, u64),
}
use Fate::{Aside, NothingRead, Refused};

struct Payload {
    what: &'static str,
    body: Vec<u8>,
    kind: &'static str,
    encoding: &'static str,
    fate: Fate,
}

fn payloads() -> Vec<Payload> {
    const LINES: &str = "application/x-ndjson";
    const JSON: &str = "application/json";
    let mut all = Vec::new();
    let mut add = |what, body: Vec<u8>, kind, encoding, fate| all.push(Payload { what, body, kind, encoding, fate });
    // Broken JSON, as lines: set aside, the good line beside it is taken.
    for (what, line) in [
        ("unclosed object", r#"{"a":1"#),
        ("unclosed string", r#"{"a":"b"#),
        ("trailing comma", r#"{"a":1,}"#),
        ("no value", r#"{"a":}"#),
        ("no colon", r#"{"a" 1}"#),
        ("bare name", r#"{a:1}"#),
        ("single quotes", r#"{'a':1}"#),
        ("comment", r#"{"a":1/*x*/}"#),
        ("two objects", r#"{"a":1}{"b":2}"#),
        ("text behind", r#"{"a":1} trailing"#),
        ("NaN", r#"{"a":NaN}"#),
        ("Infinity", r#"{"a":-Infinity}"#),
        ("leading zero", r#"{"a":01}"#),
        ("plus sign", r#"{"a":+1}"#),
        ("hex number", r#"{"a":0x1f}"#),
        ("lonely minus", r#"{"a":-}"#),
        ("half exponent", r#"{"a":1e}"#),
        ("bad escape", r#"{"a":"\q"}"#),
        ("short unicode escape", r#"{"a":"\u12"}"#),
        ("wrong bracket", r#"{"a":[1}"#),
        ("word cut off", r#"{"a":tru}"#),
        ("brace only", "{"),
        ("deep nesting", ""),
        ("deep arrays", ""),
        ("too many members", ""),
        ("over the line limit", ""),
    ] {
        let line = match what {
            "deep nesting" => format!("{}1{}", r#"{"a":"#.repeat(50_000), "}".repeat(50_000)),
            "deep arrays" => format!("{{\"a\":{}", "[".repeat(100_000)),
            "too many members" => format!("{{{}\"z\":0}}", "\"a\":0,".repeat(5_000)),
            "over the line limit" => format!("{{\"a\":\"{}\"}}", "x".repeat(300_000)),
            _ => line.to_owned(),
        };
        add(what, format!("{line}\n{{\"good\":1}}\n").into_bytes(), LINES, "", Aside(1, 1));
    }
    for (what, line) in [
        ("lone continuation byte", &b"{\"a\":\"\x80\"}"[..]),
        ("overlong slash", b"{\"a\":\"\xc0\xaf\"}"),
        ("surrogate in UTF-8", b"{\"a\":\"\xed\xa0\x80\"}"),
        ("cut off character", b"{\"a\":\"\xe2\x82\"}"),
        ("beyond Unicode", b"{\"a\":\"\xf5\x80\x80\x80\"}"),
        ("binary line", b"\xff\xfe\x00\x01\x02"),
        ("raw NUL in a string", b"{\"a\":\"\x00\"}"),
        ("raw tab in a string", b"{\"a\":\"\x09\"}"),
        ("NUL between tokens", b"{\x00\"a\":1}"),
        ("escape character in a string", b"{\"a\":\"\x1b[31m\"}"),
    ] {
        add(what, [line, b"\n{\"good\":1}\n"].concat(), LINES, "", Aside(1, 1));
    }
    // Odd, but nothing is refused for its shape alone.
    add("plain text", b"gate open\n".to_vec(), "text/plain", "", Aside(0, 1));
    add("text with NULs", b"gate\x00open\n".to_vec(), LINES, "", Aside(0, 1));
    add("terminal codes in text", b"\x1b[31mred\x1b[0m\n".to_vec(), LINES, "", Aside(0, 1));
    add("an array as a line", b"[1,2,3]\n".to_vec(), LINES, "", Aside(0, 1));
    add("same name twice", br#"{"a":1,"a":{"b":2}}"#.to_vec(), LINES, "", Aside(0, 1));
    add("huge number", br#"{"a":123456789012345678901234567890e999}"#.to_vec(), LINES, "", Aside(0, 1));
    add("half a surrogate pair", br#"{"a":"\ud800"}"#.to_vec(), LINES, "", Aside(0, 1));
    add("empty names", br#"{"":{"":""}}"#.to_vec(), LINES, "", Aside(0, 1));
    add("wrong types everywhere", br#"{"message":{"x":[]},"severity":[1],"time":{},"trace_id":false}"#.to_vec(), LINES, "", Aside(0, 1));
    add("array of the wrong things", br#"[1,null,true,"text",[{}],{"good":1}]"#.to_vec(), JSON, "", Aside(4, 2));
    add("a hundred thousand empty lines", b"\n".repeat(100_000), LINES, "", Aside(0, 0));
    // Bodies that say they are JSON and are not are refused whole, with the place.
    for (what, body) in [
        ("unclosed array", &br#"[{"a":1}"#[..]),
        ("array with a broken element", br#"[{"a":1},{"b":}]"#),
        ("text behind the array", br#"[{"a":1}] x"#),
        ("a bare number", b"42"),
        ("a word", b"hello"),
        ("broken object", br#"{"a":"#),
        ("UTF-16", b"\xff\xfe{\x00}\x00"),
    ] {
        add(what, body.to_vec(), JSON, "", Refused(400));
    }
    add("deep array as JSON", "[".repeat(500_000).into_bytes(), JSON, "", Refused(400));
    add("nothing at all", Vec::new(), JSON, "", Refused(400));
    // Lying compression.
    add("says gzip, is plain", br#"{"a":1}"#.to_vec(), LINES, "gzip", Refused(400));
    add("says zstd, is gzip", gzip(b"{}"), LINES, "zstd", Refused(400));
    add("gzip cut off", gzip(&b"{\"a\":1}\n".repeat(1_000))[..30].to_vec(), LINES, "gzip", Refused(400));
    add("gzip bomb", gzip(&vec![b' '; 200 << 20]), LINES, "gzip", Refused(413));
    add("zstd bomb", zstd::bulk::compress(&vec![b' '; 200 << 20], 19).unwrap(), LINES, "zstd", Refused(413));
    add("bomb in a bomb", gzip(&gzip(&vec![b' '; 50 << 20])), LINES, "gzip", NothingRead);
    add("unknown encoding", b"{}".to_vec(), LINES, "br", Refused(415));
    add("two encodings", gzip(b"{}"), LINES, "gzip, gzip", Refused(415));
    add("too large a body", vec![b'x'; 17_000_000], LINES, "", Refused(413));
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn sixty_hostile_payloads() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    node.apply(&format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.vault]\nkind = \"file\"\npath = \"{}/vault.jsonl\"\n\
         [[route]]\nname = \"all\"\ndo = ['redact email, card', 'parse message as json', 'parse message as key=value', 'trim message to 1 KB']\nto = [\"vault\"]\n",
        node.folder.path().display()
    ));
    let all = payloads();
    assert!(all.len() >= 60, "{} payloads", all.len());
    let http = http();
    let (mut aside, mut read) = (0, 0);
    for p in all {
        let mut request = http.post(format!("http://127.0.0.1:{source}/in")).header("content-type", p.kind).body(p.body);
        if !p.encoding.is_empty() {
            request = request.header("content-encoding", p.encoding);
        }
        let answer = request.send().await;
        // A body that is refused by its announced length may be cut off before it is sent whole.
        let Ok(answer) = answer else {
            assert_eq!(p.fate, Refused(413), "{}", p.what);
            continue;
        };
        let (status, kind) = (answer.status().as_u16(), answer.headers()["content-type"].to_str().unwrap().to_owned());
        let said: serde_json::Value = answer.json().await.unwrap();
        match p.fate {
            Refused(expected) => {
                assert_eq!(status, expected, "{}: {said}", p.what);
                assert_eq!(kind, "application/problem+json", "{}", p.what);
                assert!(said["detail"].as_str().is_some_and(|d| !d.is_empty()), "{}: {said}", p.what);
            }
            NothingRead => {
                assert_eq!((status, said["read"].as_u64()), (200, Some(0)), "{}: {said}", p.what);
                aside += said["quarantined"].as_i64().unwrap();
            }
            Aside(bad, good) => {
                assert_eq!(status, 200, "{}: {said}", p.what);
                assert_eq!((said["quarantined"].as_u64(), said["read"].as_u64()), (Some(bad), Some(good)), "{}: {said}", p.what);
                assert!(bad == 0 || said["unreadable"][0]["reason"].as_str().is_some_and(|r| !r.is_empty()), "{}: {said}", p.what);
                aside += bad as i64;
                read += good as i64;
            }
        }
    }
    // It is alive, it kept what it said, its account balances, and it did not take much memory.
    node.drained().await;
    let ledger = node.balanced();
    assert_eq!((sum(&ledger, "source", "in", "quarantined"), sum(&ledger, "source", "in", "read")), (aside, read));
    // Counted, not parsed: numbers beyond what a float holds are JSON all the same.
    assert_eq!(std::fs::read(node.path("vault.jsonl")).unwrap().iter().filter(|b| **b == b'\n').count() as i64, read);
    assert_eq!(node.json(&["quarantine", "--most", "1000"]).as_array().unwrap().len() as i64, aside);
    let status = std::fs::read_to_string(format!("/proc/{}/status", node.process())).unwrap();
    let peak: u64 = status.lines().find_map(|l| l.strip_prefix("VmHWM:")).unwrap().trim().trim_end_matches(" kB").parse().unwrap();
    assert!(peak < 400_000, "{peak} kB at the peak");
    // None of what was sent shows in the log.
    let log = node.log();
    assert!(!log.contains("good") && !log.contains("panicked"), "{log}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_paths_and_methods() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let plan = format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\nkey = {{ secret = \"in-key\" }}\n[destination.d]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"d\"]\n"
    );
    let path = node.write("plan.toml", &plan);
    let refused = node.client(&["apply", &path, "--yes"]);
    assert_eq!(refused.status.code(), Some(3));
    assert!(crate::harness::text(&refused.stderr).contains("rockrose secret set in-key"));
    let key = node.json(&["secret", "set", "in-key", "--make"])["value"].as_str().unwrap().to_owned();
    node.apply(&plan);
    let http = http();
    let url = |path: &str| format!("http://127.0.0.1:{source}{path}");
    let status = async |r: reqwest::RequestBuilder| r.body("{}").send().await.unwrap().status().as_u16();
    assert_eq!(status(http.post(url("/in"))).await, 401);
    assert_eq!(status(http.post(url("/in")).bearer_auth("guess")).await, 401);
    assert_eq!(status(http.post(url("/in/guess"))).await, 401);
    assert_eq!(status(http.post(url("/in")).bearer_auth(&key)).await, 200);
    assert_eq!(status(http.post(url(&format!("/in/{key}")))).await, 200);
    assert_eq!(status(http.get(url("/in"))).await, 405);
    assert_eq!(status(http.post(url("/elsewhere"))).await, 404);
    // A changed key holds from the next request on.
    let fresh = node.json(&["secret", "set", "in-key", "--make"])["value"].as_str().unwrap().to_owned();
    assert_eq!(status(http.post(url("/in")).bearer_auth(&key)).await, 401);
    assert_eq!(status(http.post(url("/in")).bearer_auth(&fresh)).await, 200);
    // Neither key nor token stands in anything that is kept, but for the client's own file.
    node.stop().await;
    let token = node.token();
    for entry in std::fs::read_dir(node.path("data")).unwrap().map(|e| e.unwrap().path()).filter(|p| !p.ends_with("client.toml")) {
        let bytes = std::fs::read(&entry).unwrap();
        for secret in [&key, &fresh, &token] {
            assert!(!bytes.windows(secret.len()).any(|w| w == secret.as_bytes()), "{}", entry.display());
        }
    }
    assert!(!node.log().contains(&fresh) && !node.log().contains(&token));
}
