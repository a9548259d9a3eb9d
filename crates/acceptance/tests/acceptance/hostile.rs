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
    add("a hundred thousand empty lines", b"\n".repeat(100_000), LINES, "", Refused(400));
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
    assert!(peak(node.process()) < 400 << 20, "{} bytes at the peak", peak(node.process()));
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
    let key = node.json(&["secret", "set", "in-key", "--make", "--for", "source:in"])["value"].as_str().unwrap().to_owned();
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
    let fresh = node.json(&["secret", "set", "in-key", "--make", "--for", "source:in"])["value"].as_str().unwrap().to_owned();
    assert_eq!(status(http.post(url("/in")).bearer_auth(&key)).await, 401);
    assert_eq!(status(http.post(url("/in")).bearer_auth(&fresh)).await, 200);
    // Neither key nor token stands in anything that is kept, but for the client's own file.
    node.stop().await;
    let token = node.token();
    for entry in std::fs::read_dir(node.path("data")).unwrap().map(|e| e.unwrap().path()).filter(|p| p.is_file() && !p.ends_with("client.toml")) {
        let bytes = std::fs::read(&entry).unwrap();
        for secret in [&key, &fresh, &token] {
            assert!(!bytes.windows(secret.len()).any(|w| w == secret.as_bytes()), "{}", entry.display());
        }
    }
    assert!(!node.log().contains(&fresh) && !node.log().contains(&token));
}

/// Noise that differs from call to call, and not from run to run.
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state as u8
    };
    (0..length).map(|_| next()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_port_bears_whatever_comes() {
    use std::net::{TcpStream, UdpSocket};
    use std::time::Duration;
    let [web, records, system, lines, safe] = free_ports();
    let mut node = Node::start().await;
    let key = rcgen::generate_simple_self_signed(vec!["localhost".into()]).unwrap();
    let (cert, key) = (node.write("cert.pem", &key.cert.pem()), node.write("key.pem", &key.signing_key.serialize_pem()));
    let source = |name: &str, kind: &str, port: u16, more: &str| {
        format!("[source.{name}]\nkind = \"{kind}\"\nlisten = \"127.0.0.1:{port}\"\nmax_event = \"64 KB\"\n{more}\n")
    };
    let plan = [
        source("web", "http", web, ""),
        source("records", "otlp", records, ""),
        source("system", "syslog", system, ""),
        source("lines", "tcp", lines, ""),
        source("safe", "tcp", safe, &format!("certificate = \"{cert}\"\ncertificate_key = \"{key}\"")),
        "[destination.d]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"d\"]\n".to_owned(),
    ];
    node.apply(&plan.concat());
    let ports = [web, records, system, lines, safe];
    let preface = b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n";
    let post = b"POST /in HTTP/1.1\r\nhost: localhost\r\ncontent-length: ";
    let scripts: Vec<Vec<u8>> = vec![
        vec![0; 300_000],
        b"\n".repeat(200_000),
        b"9999999 <34>1 - - - - - -".to_vec(),
        b"0 0 0 0 0 0 0 0 <".repeat(1_000),
        b"<999999>9 x".to_vec(),
        [&preface[..], &[0xff; 4_000][..]].concat(),
        [&preface[..], &noise(7, 4_000)[..]].concat(),
        [&post[..], b"999999999999999999999\r\n\r\nx"].concat(),
        [&post[..], b"-1\r\n\r\nx"].concat(),
        [&post[..], b"10\r\ntransfer-encoding: chunked\r\n\r\nffffffffffffffff\r\nx"].concat(),
        [b"POST /in HTTP/1.1\r\n".to_vec(), b"a: b\r\n".repeat(20_000)].concat(),
        b"\x16\x03\x01\x40\x00\x01\x00\x3f\xfc\x03\x03".to_vec(),
        "\u{0}\u{7f}\u{2028}é".repeat(2_000).into_bytes(),
        format!("{{\"a\":{}", "[".repeat(60_000)).into_bytes(),
        (0..20).flat_map(|n| noise(n, 20_000)).collect(),
    ];
    let mut open = Vec::new();
    for port in ports {
        for script in &scripts {
            let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
            stream.set_write_timeout(Some(Duration::from_secs(2))).unwrap();
            // It may be cut off in the midst of it.
            let _ = stream.write_all(script);
        }
        // Those that write a little and then nothing, or ask on and on and never read an answer.
        for _ in 0..20 {
            let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
            let _ = stream.write_all(b"P");
            open.push(stream);
        }
        let mut deaf = TcpStream::connect(("127.0.0.1", port)).unwrap();
        deaf.set_write_timeout(Some(Duration::from_millis(500))).unwrap();
        for _ in 0..5_000 {
            if deaf.write_all(b"POST /in HTTP/1.1\r\nhost: localhost\r\ncontent-length: 2\r\n\r\n{}").is_err() {
                break;
            }
        }
        open.push(deaf);
    }
    let datagrams = UdpSocket::bind("127.0.0.1:0").unwrap();
    for n in 0..200 {
        let _ = datagrams.send_to(&noise(n, (n as usize * 331) % 60_000), ("127.0.0.1", system));
    }
    // Each still takes what is right, and is told of as one that hears the wrong thing too.
    let good = |mut stream: TcpStream, bytes: &[u8]| stream.write_all(bytes).unwrap();
    assert_eq!(crate::harness::post(&node.http, web, "{}").await.status(), 200);
    let request = node.http.post(format!("http://127.0.0.1:{records}/v1/logs")).header("content-type", "application/json");
    let body = r#"{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"gate open"}}]}]}]}"#;
    assert_eq!(request.body(body).send().await.unwrap().status(), 200);
    let received = async |name: &'static str| sum(&node.get("/api/v1/ledger").await, "source", name, "received");
    for (name, port, bytes) in [("system", system, &b"<34>1 - - gated - - - gate open\n"[..]), ("lines", lines, b"gate open\n")] {
        let before = received(name).await;
        good(TcpStream::connect(("127.0.0.1", port)).unwrap(), bytes);
        crate::harness::until(name, async || (received(name).await > before).then_some(())).await;
    }
    let troubles = node.json(&["source", "show", "safe"])["troubles"].clone();
    assert!(troubles.as_array().unwrap().iter().any(|t| t["what"] == "plain text"), "{troubles}");
    drop(open);
    node.balanced();
    assert!(peak(node.process()) < 400 << 20, "{} bytes at the peak", peak(node.process()));
    assert!(!node.log().contains("panicked"), "{}", node.log());
    node.stop().await;
}

/// Where a hostile input goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Port {
    Http,
    Otlp,
    Syslog,
    Lines,
    Api,
}

/// What is sent where, before it is spoilt: the method and path with the content's type and encoding, or nothing for a stream.
struct Seed {
    port: Port,
    method: &'static str,
    path: &'static str,
    kind: &'static str,
    encoding: &'static str,
    body: Vec<u8>,
}

fn seeds() -> Vec<Seed> {
    const JSON: &str = "application/json";
    let seed = |port, method, path, kind, encoding, body: &[u8]| Seed { port, method, path, kind, encoding, body: body.to_vec() };
    let lines = b"{\"level\":\"warn\",\"message\":\"gate 4 opens for ann@post.example\",\"n\":12.5e3,\"a\":{\"b\":[1,null,true]}}\n{\"message\":\"\\u00e9\"}\n";
    let record = br#"{"resourceLogs":[{"resource":{"attributes":[{"key":"a","value":{"intValue":"7"}}]},"scopeLogs":[{"logRecords":[{"timeUnixNano":"1","body":{"stringValue":"x"}}]}]}]}"#;
    // One record whose body is `gate open`, as the protocol's messages nest.
    let message = b"\x0a\x11\x12\x0f\x12\x0d\x2a\x0b\x0a\x09gate open";
    let plan = br#"{"text":"[source.a]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[[route]]\nname = \"r\"\nwhen = 'a matches /^x+$/ and b > 3'\ndo = ['redact email', 'parse message as template \"{a} {b}\"']\nto = []\n"}"#;
    vec![
        seed(Port::Http, "POST", "/in", "application/x-ndjson", "", lines),
        seed(Port::Http, "POST", "/in", JSON, "", br#"[{"a":1},{"b":"two"}]"#),
        seed(Port::Http, "POST", "/in", "application/x-ndjson", "gzip", &gzip(lines)),
        seed(Port::Http, "POST", "/in", "application/x-www-form-urlencoded", "", b"payload=%7B%22a%22%3A1%7D&b=c"),
        seed(Port::Otlp, "POST", "/v1/logs", JSON, "", record),
        seed(Port::Otlp, "POST", "/v1/logs", "application/x-protobuf", "", message),
        seed(Port::Otlp, "POST", "/v1/logs", "application/x-protobuf", "gzip", &gzip(message)),
        seed(
            Port::Otlp,
            "POST",
            "/opentelemetry.proto.collector.logs.v1.LogsService/Export",
            "application/grpc",
            "",
            &[b"\0\0\0\0\x13", &message[..]].concat(),
        ),
        seed(
            Port::Syslog,
            "",
            "",
            "",
            "",
            b"<34>1 2026-11-30T09:00:00Z gate app 12 ID [a@1 b=\"c\"] gate open\n57 <34>1 - - gated - - - gate open and shut and open once more\n",
        ),
        seed(Port::Lines, "", "", "", "", lines),
        seed(Port::Api, "POST", "/api/v1/plan/check", JSON, "", plan),
        seed(Port::Api, "POST", "/api/v1/why", JSON, "", br#"{"source":"http","event":"{\"a\":1,\"b\":\"two\"}"}"#),
        seed(Port::Api, "POST", "/api/v1/people", JSON, "", br#"{"name":"ann","grants":["see at route:all when a = 1 after redact email"]}"#),
        seed(Port::Api, "POST", "/api/v1/files/look", JSON, "", br#"{"paths":["/var/log/*.log"],"exclude":[]}"#),
        seed(Port::Api, "POST", "/sign-in", JSON, "", br#"{"name":"ann","password":"heron on the mooring"}"#),
    ]
}

/// A body spoilt in a way that depends on the seed alone.
fn spoilt(mut body: Vec<u8>, random: &mut fastrand::Rng) -> Vec<u8> {
    let tokens: [&[u8]; 14] = [
        b"\0",
        b"\xff\xfe",
        b"\"",
        b"}",
        b"]",
        b",",
        b"\\u0000",
        b"\x1b[31m",
        b"1e999999",
        b"-",
        b"\xe2\x80\xae",
        b"\r\n\r\n",
        b"999999999999 ",
        b"\x80\x80\x80\x80\x80\x80\x80\x80\x80\x80",
    ];
    for _ in 0..random.usize(1..5) {
        let at = random.usize(0..=body.len());
        let to = (at + random.usize(0..40)).min(body.len());
        match random.u8(0..7) {
            0 => body.truncate(at),
            1 => drop(body.drain(at..to)),
            2 if at < body.len() => body[at] ^= 1 << random.u8(0..8),
            3 => drop(body.splice(at..at, body[at..to].repeat(random.usize(1..300)))),
            4 => drop(body.splice(at..at, b"[".repeat(random.usize(1..5_000)))),
            5 => drop(body.splice(at..at, b"{\"a\":".repeat(random.usize(1..2_000)))),
            _ => drop(body.splice(at..at, tokens[random.usize(0..tokens.len())].iter().copied())),
        }
    }
    body
}

/// As many connections as this process may have: what a test needs, or what the system allows.
fn descriptors(wanted: u64) -> u64 {
    use nix::sys::resource::{Resource, getrlimit, setrlimit};
    let (soft, hard) = getrlimit(Resource::RLIMIT_NOFILE).unwrap();
    let most = hard.min(wanted.max(soft));
    setrlimit(Resource::RLIMIT_NOFILE, most, hard).unwrap();
    most
}

/// The most memory that a process has had resident, in bytes.
fn peak(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find(|l| l.starts_with("VmHWM:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() * 1024
}

#[tokio::test(flavor = "multi_thread")]
async fn hostile_inputs_and_idle_and_dripping_connections_hold_up_nobody() {
    const INPUTS: usize = 1_100;
    let [http, otlp, syslog, lines] = free_ports();
    let mut node = Node::start().await;
    let source = |name: &str, kind: &str, port: u16| format!("[source.{name}]\nkind = \"{kind}\"\nlisten = \"127.0.0.1:{port}\"\n");
    node.apply(&format!(
        "{}{}{}{}[destination.counted]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"counted\"]\n",
        source("http", "http", http),
        source("otlp", "otlp", otlp),
        source("syslog", "syslog", syslog),
        source("lines", "tcp", lines)
    ));
    let ports = [http, otlp, syslog, lines, node.port];
    let each = ((descriptors(12_000) - 200) / ports.len() as u64).min(2_200) as usize;
    let (mut idle, mut dripping) = (Vec::new(), Vec::new());
    let connect = async |port: u16| tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
    for port in ports {
        for _ in 0..each.min(200) {
            let mut stream = connect(port).await;
            let begin = if port == syslog || port == lines { "<34>1 - - g" } else { "POST /in HTTP/1.1\r\nhost: localhost\r\ncontent-length: 1000\r\n\r\n{" };
            tokio::io::AsyncWriteExt::write_all(&mut stream, begin.as_bytes()).await.unwrap();
            dripping.push(stream);
        }
        for _ in 200..each {
            idle.push(connect(port).await);
        }
    }
    let record = r#"{"resourceLogs":[{"scopeLogs":[{"logRecords":[{"body":{"stringValue":"x"}}]}]}]}"#;
    let of = move |port: Port, api: u16| match port {
        Port::Http => http,
        Port::Otlp => otlp,
        Port::Syslog => syslog,
        Port::Lines => lines,
        Port::Api => api,
    };
    // Four send spoilt inputs one after the other, meanwhile.
    let (api, token, sent) = (node.port, node.token(), std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0)));
    let hostile: Vec<_> = (0..4)
        .map(|worker| {
            let (sent, token) = (std::sync::Arc::clone(&sent), token.clone());
            tokio::spawn(async move {
                let (seeds, sender) = (seeds(), crate::harness::http());
                for number in (worker..INPUTS).step_by(4) {
                    let mut random = fastrand::Rng::with_seed(number as u64);
                    let seed = &seeds[number % seeds.len()];
                    let (port, body) = (of(seed.port, api), spoilt(seed.body.clone(), &mut random));
                    if seed.method.is_empty() {
                        let mut stream = connect(port).await;
                        let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, &body).await;
                    } else {
                        let method = reqwest::Method::from_bytes(seed.method.as_bytes()).unwrap();
                        let mut request = sender.request(method, format!("http://127.0.0.1:{port}{}", seed.path)).header("content-type", seed.kind).body(body);
                        if !seed.encoding.is_empty() {
                            request = request.header("content-encoding", seed.encoding);
                        }
                        if seed.port == Port::Api {
                            request = request.bearer_auth(&token).header("sec-fetch-site", "same-origin");
                        }
                        let answer = request.send().await.unwrap_or_else(|e| panic!("input {number}: {e:?}"));
                        let (status, told) = (answer.status().as_u16(), answer.text().await.unwrap_or_default());
                        // One looks into files at a time: a pattern that meets the whole disk lets the next wait until it is told to come again.
                        let is_to_wait = status == 503 && seed.path == "/api/v1/files/look" && told.contains("urn:rockrose:problem:busy");
                        assert!(status < 500 || is_to_wait, "input {number}: {status} {told}");
                    }
                    sent.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                }
            })
        })
        .collect();
    // Each as a client that comes anew.
    let mut round = 0;
    while round < 3 || hostile.iter().any(|task| !task.is_finished()) {
        round += 1;
        for stream in &mut dripping {
            let _ = tokio::io::AsyncWriteExt::write_all(stream, b" ").await;
        }
        let anew = || crate::harness::http();
        let asks = [
            anew().post(format!("http://127.0.0.1:{http}/in")).body("{}"),
            anew().post(format!("http://127.0.0.1:{otlp}/v1/logs")).header("content-type", "application/json").body(record),
            anew().get(node.url("/api/v1/status")).bearer_auth(node.token()),
        ];
        for ask in asks {
            let begun = std::time::Instant::now();
            let answer = ask.send().await.unwrap();
            assert_eq!(answer.status(), 200, "{}", answer.url());
            assert!(begun.elapsed() < std::time::Duration::from_secs(1), "{}: {:?}", answer.url(), begun.elapsed());
        }
        for port in [syslog, lines] {
            tokio::io::AsyncWriteExt::write_all(&mut connect(port).await, b"<34>1 - - gated - - - open\n").await.unwrap();
        }
        let taken = async || {
            let ledger = node.get("/api/v1/ledger").await;
            ["syslog", "lines"].iter().all(|name| sum(&ledger, "source", name, "read") >= round).then_some(())
        };
        crate::harness::until("streams are read", taken).await;
    }
    for task in hostile {
        task.await.unwrap();
    }
    assert_eq!(sent.load(std::sync::atomic::Ordering::Relaxed), INPUTS);
    assert!(peak(node.process()) < 400 << 20, "{} bytes at the peak", peak(node.process()));
    assert!(!node.log().contains("panicked"), "{}", node.log());
    let sources = node.get("/api/v1/sources").await;
    let crowded = sources.as_array().unwrap().iter().filter(|s| s["troubles"].to_string().contains("idle ones are closed")).count();
    assert!(each < 2_200 || crowded == 4, "{sources}");
    node.balanced();
    drop((idle, dripping));
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn wide_looks_into_files_and_large_plans_hold_up_nobody() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    node.apply(&format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{port}\"\n[destination.counted]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"counted\"]\n"
    ));
    let look = |pattern: &str| {
        let request = node.http.post(node.url("/api/v1/files/look")).bearer_auth(node.token());
        request.json(&serde_json::json!({ "paths": [pattern], "exclude": [] }))
    };
    let looks: Vec<_> = (0..16).map(|_| tokio::spawn(look("/**/*/**/no-such-name").send())).collect();
    let route = |n: usize| format!("[[route]]\nname = \"r{n}\"\nwhen = 'message matches /gate {n} (opens|shuts)/'\nto = [\"d\"]\n");
    let plan = format!("[destination.d]\nkind = \"discard\"\n{}", (0..9_000).map(route).collect::<String>());
    let check = || node.http.post(node.url("/api/v1/plan/check")).bearer_auth(node.token()).json(&serde_json::json!({ "text": plan }));
    let checks: Vec<_> = (0..4).map(|_| tokio::spawn(check().send())).collect();
    for _ in 0..20 {
        let begun = std::time::Instant::now();
        assert_eq!(crate::harness::post(&node.http, port, "{}").await.status(), 200);
        assert!(begun.elapsed() < std::time::Duration::from_secs(1), "{:?}", begun.elapsed());
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    // Whoever goes away leaves nothing behind that others would wait for.
    looks.iter().for_each(tokio::task::JoinHandle::abort);
    checks.iter().for_each(tokio::task::JoinHandle::abort);
    node.write("one.log", "gate opens\n");
    let begun = std::time::Instant::now();
    let answer = look(&node.path("*.log").display().to_string()).send().await.unwrap();
    assert_eq!(answer.status(), 200);
    assert_eq!(answer.json::<serde_json::Value>().await.unwrap()["file_count"], 1);
    assert!(begun.elapsed() < std::time::Duration::from_secs(5), "{:?}", begun.elapsed());
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn running_out_of_descriptors_is_said_once_and_ends() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    node.apply(&format!(
        "[source.lines]\nkind = \"tcp\"\nlisten = \"127.0.0.1:{port}\"\n[destination.counted]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"counted\"]\n"
    ));
    let open = std::fs::read_dir(format!("/proc/{}/fd", node.process())).unwrap().count();
    let limit = std::process::Command::new("prlimit").args(["--pid", &node.process().to_string(), &format!("--nofile={}", open + 40)]).status();
    assert!(limit.unwrap().success());
    let mut idle = Vec::new();
    let ready = async || node.http.get(node.url("/readyz")).send().await.ok();
    // More connections than it has descriptors for, again and again until it is noticed.
    let noticed = async || {
        for _ in 0..60 {
            idle.extend(tokio::net::TcpStream::connect(("127.0.0.1", port)).await.ok());
        }
        let answer = ready().await?;
        (answer.status() == 503).then_some(answer.text().await.unwrap())
    };
    let says = crate::harness::until("it says so", noticed).await;
    assert!(says.contains("file descriptors have run out"), "{says}");
    // Meanwhile somebody who has something to say comes in, and afterwards all is well.
    let mut sender = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
    tokio::io::AsyncWriteExt::write_all(&mut sender, b"gate open\n").await.unwrap();
    let read = async || {
        // As long as descriptors are short, the ledger may be out of reach as well.
        let answer = node.http.get(node.url("/api/v1/ledger")).bearer_auth(node.token()).send().await.ok()?;
        let ledger = if answer.status() == 200 { answer.json().await.ok()? } else { return None };
        (sum(&ledger, "source", "lines", "read") == 1).then_some(())
    };
    crate::harness::until("it is read", read).await;
    drop(idle);
    crate::harness::until("it is ready again", async || ready().await.filter(|answer| answer.status() == 200)).await;
    let log = node.log();
    assert_eq!(log.matches("connections cannot be accepted").count(), 1, "{log}");
    node.balanced();
    node.stop().await;
}
