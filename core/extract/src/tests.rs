//! What each format of `parse` reads, and what it leaves alone.

use rockrose_language::{Operation, Parse, parse_step};

use super::{Buffers, Extractor, Found};

/// 2026-11-23T10:00:00Z.
const NOW: i64 = 1_795_428_000_000;

fn extractor(format: &str) -> Extractor {
    let step = parse_step(&format!("parse message as {format}")).unwrap_or_else(|m| panic!("{format}: {m:?}"));
    match step.operation {
        Operation::Parse(Parse { formats, .. }) => Extractor::new(&formats[0]),
        other => panic!("{other:?}"),
    }
}

/// The pairs as `name=token`, or none.
fn read(format: &str, text: &str) -> Option<String> {
    read_bytes(&extractor(format), text.as_bytes())
}

fn read_bytes(extractor: &Extractor, text: &[u8]) -> Option<String> {
    let mut found = Found::default();
    if !extractor.read(text, NOW, &mut found, &mut Buffers::default()) {
        assert!(found.pairs.is_empty(), "what is not of the format leaves nothing behind");
        return None;
    }
    let names: Vec<Vec<u8>> = extractor.names().iter().map(|n| n.flat().into_bytes()).collect();
    let pair = |(name, value): &(super::Name, std::ops::Range<u32>)| {
        let token = found.value(value);
        let read = serde_json::from_slice::<serde_json::Value>(token);
        // Half a pair of surrogates is JSON, but no text that the library takes.
        let half = token.windows(3).any(|three| three.eq_ignore_ascii_case(b"\\ud"));
        assert!(read.is_ok() || half, "{read:?}: {}", String::from_utf8_lossy(token));
        format!("{}={}", String::from_utf8_lossy(found.name(name, &names)), String::from_utf8_lossy(token))
    };
    Some(found.pairs.iter().map(pair).collect::<Vec<_>>().join(" "))
}

#[test]
fn json_is_one_object_and_nothing_else() {
    for (text, found) in [
        (r#"{"a":1}"#, Some("a=1")),
        ("  {\n \"a\" : [ 1 , 2 ] }\n", Some("a=[1,2]")),
        (r#"{"a":"x \" y","\u0062":null}"#, Some(r#"a="x \" y" b=null"#)),
        ("{}", Some("")),
        (r#"{"a":1} and more"#, None),
        (r#"{"a":1"#, None),
        ("[1]", None),
        ("plain", None),
        ("", None),
    ] {
        assert_eq!(read("json", text).as_deref(), found, "{text}");
    }
    let many = format!("{{{}\"z\":1}}", (0..600).map(|i| format!("\"f{i}\":{i},")).collect::<String>());
    assert_eq!(read("json", &many), None, "more fields than one parse may add");
}

#[test]
fn key_value_pairs_with_what_stands_between() {
    for (text, found) in [
        ("gate=3 port=Lowmere", Some(r#"gate=3 port="Lowmere""#)),
        ("a=1,b=2; c=x", Some(r#"a=1 b=2 c="x""#)),
        ("list=1,2,3 next=x;y", Some(r#"list="1,2,3" next="x;y""#)),
        ("level=warn msg=\"gate jammed, again\" took=1.5", Some(r#"level="warn" msg="gate jammed, again" took=1.5"#)),
        (r#"q="a \"quoted\" \\ word\nline""#, Some(r#"q="a \"quoted\" \\ word\nline""#)),
        ("open=\"never closed", Some(r#"open="never closed""#)),
        ("ok=true no=false none=null empty= last", Some(r#"ok=true no=false none="null" empty="""#)),
        (
            "id=00042 big=1234567890123456 neg=-7 exp=5e-06 hash=1e3 hex=3e27954280 dot=1. plus=+1",
            Some(r#"id="00042" big="1234567890123456" neg=-7 exp=5e-06 hash="1e3" hex="3e27954280" dot="1." plus="+1""#),
        ),
        ("noise key.with.dots=x =y ==z k==v", Some(r#"key.with.dots="x" k="=v""#)),
        ("time=2026-11-23T10:00:00Z\tport=80\r\nnext=1", Some(r#"time="2026-11-23T10:00:00Z" port=80 next=1"#)),
        ("é=ü", Some(r#"é="ü""#)),
        ("nothing here", None),
        ("", None),
    ] {
        assert_eq!(read("key=value", text).as_deref(), found, "{text}");
    }
}

#[test]
fn templates_fit_whole_lines() {
    for (template, text, found) in [
        ("{client:ip} took {ms:integer} ms", "192.0.2.7 took 41 ms", Some(r#"client="192.0.2.7" ms=41"#)),
        ("{client:ip} took {ms:integer} ms", "2001:db8::7 took -3 ms", Some(r#"client="2001:db8::7" ms=-3"#)),
        ("{client:ip} took {ms:integer} ms", "192.0.2.700 took 41 ms", None),
        ("{client:ip} took {ms:integer} ms", "192.0.2.7 took 4.1 ms", None),
        ("{client:ip} took {ms:integer} ms", "192.0.2.7 took 41 ms.", None),
        ("{client:ip} took {ms:integer} ms", "on 192.0.2.7 took 41 ms", None),
        ("[{level:word}] {rest}", "[warn] gangway: stuck", Some(r#"level="warn" rest="gangway: stuck""#)),
        ("[{level:word}] {rest}", "[very warn] x", None),
        ("{a} -> {b} -> {c}", "x -> y -> z -> w", Some(r#"a="x" b="y" c="z -> w""#)),
        ("{n:number}%", "12.50%", Some("n=12.50")),
        ("{n:number}%", "%", None),
        ("{{{x}}}", "{y}", Some(r#"x="y""#)),
        ("{host.name}:{\\\"odd name\\\"}", "quay:1", Some(r#"host.name="quay" odd name="1""#)),
        ("end {x}", "end ", None),
        ("{x}é{y}", "aéb", Some(r#"x="a" y="b""#)),
    ] {
        assert_eq!(read(&format!("\"{template}\""), text).as_deref(), found, "{template} on {text}");
    }
}

#[test]
fn patterns_give_their_named_groups() {
    assert_eq!(read(r"/code=(?<code>\d+)( by (?<who>\w+))?/", "x code=12 by ann").as_deref(), Some(r#"code="12" who="ann""#));
    assert_eq!(read(r"/code=(?<code>\d+)( by (?<who>\w+))?/", "code=12").as_deref(), Some(r#"code="12""#), "a group that took no part is no field");
    assert_eq!(read(r"/code=(?<code>\d+)/", "no code"), None);
    assert_eq!(read(r"/(?<q>.*)/", "say \"hi\"\\").as_deref(), Some(r#"q="say \"hi\"\\""#));
}

#[test]
fn access_logs_common_and_combined() {
    let common = r#"192.0.2.7 - ann [23/Nov/2026:11:00:00 +0100] "GET /quay?x=1 HTTP/1.1" 200 5120"#;
    let fields = r#"client="192.0.2.7" user="ann" time="2026-11-23T10:00:00Z" method="GET" path="/quay?x=1" protocol="HTTP/1.1" status=200 bytes=5120"#;
    assert_eq!(read("access log", common).unwrap(), fields);
    let combined = format!(r#"{common} "https://ferries.example/" "kiosk \"4\" é""#);
    assert_eq!(read("access log", &combined).unwrap(), format!(r#"{fields} referrer="https://ferries.example/" user_agent="kiosk \"4\" é""#));
    let broken = r#"2001:db8::1 - - [23/Nov/2026:10:00:00 +0000] "\x16\x03" 400 - "-" "-" 0.003"#;
    assert_eq!(read("access log", broken).unwrap(), r#"client="2001:db8::1" time="2026-11-23T10:00:00Z" path="\\x16\\x03" status=400"#);
    for none in [
        "",
        "192.0.2.7",
        &common[..40],
        &common.replace("Nov", "Nox"),
        &common.replace("200", "20x"),
        &common.replace("5120", "5k"),
        &common.replace("\"GET", "GET"),
        &format!("{common} \"open"),
    ] {
        assert_eq!(read("access log", none), None, "{none}");
    }
}

#[test]
fn syslog_of_both_ages() {
    let new = "<165>1 2026-11-23T10:00:00.5Z gate-4.ferries.example turnstile 812 ID47 [place@32473 port=\"Lowmere\" note=\"a \\\"b\\\" \\]\"][x y=\"\"] \u{feff}gate jammed";
    assert_eq!(
        read("syslog", new).unwrap(),
        r#"facility="local4" severity="notice" time="2026-11-23T10:00:00.5Z" host="gate-4.ferries.example" app="turnstile" process="812" message_id="ID47" place@32473.port="Lowmere" place@32473.note="a \"b\" ]" x.y="" message="gate jammed""#
    );
    assert_eq!(read("syslog", "<14>1 - - - - - -").unwrap(), r#"facility="user" severity="info""#);
    assert_eq!(
        read("syslog", "<34>Nov 23 09:14:15 kiosk-7 sshd[411]: refused ann").unwrap(),
        r#"facility="auth" severity="critical" time="2026-11-23T09:14:15Z" host="kiosk-7" app="sshd" process="411" message="refused ann""#
    );
    assert_eq!(read("syslog", "Dec  3 09:14:15 kiosk-7 plain words").unwrap(), r#"time="2025-12-03T09:14:15Z" host="kiosk-7" message="plain words""#);
    assert_eq!(
        read("syslog", "<13>2026-11-23T10:00:00+01:00 k app: x").unwrap(),
        r#"facility="user" severity="notice" time="2026-11-23T09:00:00Z" host="k" app="app" message="x""#
    );
    for none in
        ["", "<34>", "<999>Nov 23 09:14:15 k x", "<34>1 soon k a p m - x", "<34>1 - k a p m [x y=1] m", "<34>1 - k a p m [x", "hello there", "{\"a\":1}"]
    {
        assert_eq!(read("syslog", none), None, "{none}");
    }
}

#[test]
fn rows_under_given_names() {
    let csv = "csv(gate, -, note, n, \"odd name\")";
    assert_eq!(read(csv, "G4,x,\"a, \"\"b\"\"\",12,007\r\n").unwrap(), r#"gate="G4" note="a, \"b\"" n=12 odd name="007""#);
    assert_eq!(read(csv, ",,,,").unwrap(), r#"gate="" note="" n="" odd name="""#);
    for none in ["", "a,b,c,d", "a,b,c,d,e,f", "a,b,\"open,d,e", "a,b,\"x\"y,d,e"] {
        assert_eq!(read(csv, none), None, "{none}");
    }
    let w3c = "w3c log(date, time, cs-method, cs(User-Agent), sc-status, -)";
    assert_eq!(
        read(w3c, "2026-11-23 10:00:00 GET \"kiosk \"\"4\"\"\" 200 -").unwrap(),
        r#"date="2026-11-23" time="10:00:00" cs-method="GET" cs(User-Agent)="kiosk \"4\"" sc-status=200"#
    );
    assert_eq!(read(w3c, "2026-11-23\t- - - - x").unwrap(), r#"date="2026-11-23""#);
    for none in ["", "#Fields: date time", "2026-11-23 10:00:00 GET", "a b c d e f g"] {
        assert_eq!(read(w3c, none), None, "{none}");
    }
}

#[test]
fn lines_of_container_runtimes() {
    assert_eq!(
        read("container log", "2026-11-23T10:00:00.123456789Z stderr F gate jammed").unwrap(),
        r#"time="2026-11-23T10:00:00.123456789Z" stream="stderr" message="gate jammed""#
    );
    assert_eq!(
        read("container log", "2026-11-23T10:00:00.1+01:00 stdout P:x half").unwrap(),
        r#"time="2026-11-23T10:00:00.1+01:00" stream="stdout" partial=true message="half""#
    );
    assert_eq!(
        read("container log", r#"{"log":"gate \u0041 jammed\n","stream":"stdout","time":"2026-11-23T10:00:00Z"}"#).unwrap(),
        r#"message="gate A jammed" stream="stdout" time="2026-11-23T10:00:00Z""#
    );
    for none in [
        "",
        "2026-11-23T10:00:00Z stdin F x",
        "2026-11-23T10:00:00Z stdout X x",
        "soon stdout F x",
        "{\"stream\":\"stdout\"}",
        "{\"log\":\"x\"} y",
        "{\"log\":",
    ] {
        assert_eq!(read("container log", none), None, "{none}");
    }
}

#[test]
fn xml_by_paths() {
    let text = r#"<?xml version="1.0"?> <!-- x --> <entry gate='G4' n="12"> <port>Tansy &amp; &#x51;uay</port><note><![CDATA[a < b]]></note><deep><x>1</x></deep><none/><ok>true</ok></entry>"#;
    assert_eq!(read("xml", text).unwrap(), r#"gate="G4" n=12 port="Tansy & Quay" note="a < b" deep.x=1 none="" ok=true"#);
    let event = r#"<Event xmlns='u'><System><Provider Name="Gate"/><Id q="0">7</Id></System><EventData><Data Name="user">ann</Data><Data Name="from"></Data><Data>x</Data></EventData></Event>"#;
    assert_eq!(
        read("xml", event).unwrap(),
        r#"System.Provider.Name="Gate" System.Id=7 System.Id.q=0 EventData.user="ann" EventData.from="" EventData.Data="x""#
    );
    assert_eq!(read("xml", "<e a=\"1\"/>").unwrap(), "a=1");
    for none in
        ["", "plain", "<e/>", "<e a=1/>", "<e a=\"1\">", "<e><a>1</b></e>", "<e a=\"&what;\"/>", "<e a=\"1\"/> more", "<1 a=\"1\"/>", &"<a>".repeat(9_000)]
    {
        assert_eq!(read("xml", none), None, "{none}");
    }
}

#[test]
fn template_types() {
    for (template, text, found) in [
        (
            r#""[{at:time \"%d/%b/%Y:%H:%M:%S %z\"}] {level:word}: {rest}""#,
            "[23/Nov/2026:11:00:00 +0100] warn: ",
            Some(r#"at="2026-11-23T10:00:00Z" level="warn" rest="""#),
        ),
        (r#""{_:word} {n:number}s {what:rest}""#, "took 1.5s for {all}", Some(r#"n=1.5 what="for {all}""#)),
        (r#""{at:time in \"Europe/Lisbon\"};{ip:ip}""#, "2026-07-01 10:00:00;2001:db8::1", Some(r#"at="2026-07-01T09:00:00Z" ip="2001:db8::1""#)),
        (r#""{n:integer}%""#, "08%", None),
        (r#""{n:integer}%""#, "-8%", Some("n=-8")),
        (r#""{n:integer}%""#, "1e3%", None),
    ] {
        assert_eq!(read(template, text).as_deref(), found, "{template} {text}");
    }
}

/// Every format reads any bytes, or leaves them, and what it reads is JSON; seeds beside random cuts and changes of them.
#[test]
fn no_bytes_break_a_format() {
    const FORMATS: &[&str] = &[
        "json",
        "key=value",
        "csv(a, b, c)",
        "tsv(a, b, c)",
        "access log",
        "syslog",
        "w3c log(a, b, c)",
        "container log",
        "timed line",
        "xml",
        "\"{a:ip} {b:time} {c:number}: {rest}\"",
        "/(?<a>.)(?<b>\\d+)?/",
    ];
    const SIGNS: &[u8] = b"\"'\\<>[]{}=,: \n\0\xff";
    let seeds = include_str!("seeds.txt");
    let extractors: Vec<_> = FORMATS.iter().map(|f| extractor(f)).collect();
    let mut state = 0x9e37_79b9_7f4a_7c15u64;
    let mut below = move |n: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state % n.max(1) as u64) as usize
    };
    let rounds: usize = std::env::var("FUZZ_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(40);
    let lines: Vec<&str> = seeds.lines().filter(|l| !l.is_empty()).collect();
    let (mut read, mut left) = (0, 0);
    for line in &lines {
        for round in 0..rounds {
            let mut text = line.as_bytes().to_vec();
            for _ in 0..round.min(4) {
                match below(5) {
                    0 => text.truncate(below(text.len() + 1)),
                    1 if !text.is_empty() => {
                        let at = below(text.len());
                        text[at] = below(256) as u8;
                    }
                    2 => text.insert(below(text.len() + 1), SIGNS[below(SIGNS.len())]),
                    3 => text.extend_from_slice(lines[below(lines.len())].as_bytes()),
                    _ => {
                        let at = below(text.len() + 1);
                        let piece = text[at..(at + below(20)).min(text.len())].to_vec();
                        text.splice(at..at, piece);
                    }
                }
            }
            // Events are UTF-8, and so are their texts.
            let text = String::from_utf8_lossy(&text).into_owned().into_bytes();
            for extractor in &extractors {
                match read_bytes(extractor, &text) {
                    Some(_) => read += 1,
                    None => left += 1,
                }
            }
        }
    }
    assert!(read > lines.len() && left > lines.len(), "{read} read, {left} left");
}
