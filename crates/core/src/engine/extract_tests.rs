//! What each format of `parse` reads, and what it leaves alone.

use super::extract::Extractor;
use crate::lang::{Format, Operation, parse_step};

fn extractor(format: &str) -> Extractor {
    let step = parse_step(&format!("parse message as {format}")).unwrap_or_else(|m| panic!("{format}: {m:?}"));
    match step.operation {
        Operation::Parse { format: Format::Json, .. } => Extractor::Json,
        Operation::Parse { format: Format::KeyValue, .. } => Extractor::KeyValue,
        Operation::Parse { format: Format::Template(t), .. } => Extractor::Template(t.parts),
        Operation::Parse { format: Format::Pattern(p), .. } => {
            let regex = p.compile().unwrap();
            let groups = regex.capture_names().enumerate().filter_map(|(i, n)| Some((i, n?.to_owned()))).collect();
            Extractor::Pattern(regex, groups)
        }
        other => panic!("{other:?}"),
    }
}

/// The pairs as `name=token`, or none.
fn read(format: &str, text: &str) -> Option<String> {
    let pairs = extractor(format).read(text.as_bytes())?;
    let pair = |(name, token): (Vec<u8>, Vec<u8>)| {
        serde_json::from_slice::<serde_json::Value>(&token).unwrap_or_else(|e| panic!("{e}: {}", String::from_utf8_lossy(&token)));
        format!("{}={}", String::from_utf8(name).unwrap(), String::from_utf8(token).unwrap())
    };
    Some(pairs.into_iter().map(pair).collect::<Vec<_>>().join(" "))
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
        ("a=1,b=2; c=x", Some(r#"a="1,b=2" c="x""#)),
        ("level=warn msg=\"gate jammed, again\" took=1.5", Some(r#"level="warn" msg="gate jammed, again" took=1.5"#)),
        (r#"q="a \"quoted\" \\ word\nline""#, Some(r#"q="a \"quoted\" \\ word\nline""#)),
        ("open=\"never closed", Some(r#"open="never closed""#)),
        ("ok=true no=false none=null empty= last", Some(r#"ok=true no=false none="null" empty="""#)),
        ("id=00042 big=1234567890123456 neg=-7 exp=1e3 dot=1. plus=+1", Some(r#"id="00042" big="1234567890123456" neg=-7 exp=1e3 dot="1." plus="+1""#)),
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
