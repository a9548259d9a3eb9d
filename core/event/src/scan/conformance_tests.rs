//! Documents that must be read and documents that must not (RFC 8259), each held against a well-kept reader as well.

use crate::field::{FieldTable, Path};
use crate::scan;

/// Whether `bytes`, as the value of the one member of an object, are read.
fn reads(bytes: &[u8]) -> bool {
    let line = [b"{\"v\":", bytes, b"}"].concat();
    if std::str::from_utf8(&line).is_err() {
        return false;
    }
    scan::scan(&line, &FieldTable::default(), &mut Vec::new()).is_ok_and(|s| s.end == line.len())
}

fn peer_reads(bytes: &[u8]) -> bool {
    let line = [b"{\"v\":", bytes, b"}"].concat();
    serde_json::from_slice::<&serde_json::value::RawValue>(&line).is_ok()
}

const GOOD: &[&str] = &[
    "0",
    "-0",
    "1",
    "-1",
    "10",
    "1234567890",
    "0.0",
    "-0.0",
    "0.5",
    "10.25",
    "1e0",
    "1E0",
    "1e+0",
    "1e-0",
    "0e1",
    "0E+1",
    "-1.5e-10",
    "1e400",
    "-1e-400",
    "123456789012345678901234567890",
    "0.10000000000000000000000000000001",
    "\"\"",
    "\"a\"",
    "\" \"",
    "\"\\\"\"",
    "\"\\\\\"",
    "\"\\/\"",
    "\"/\"",
    "\"\\b\\f\\n\\r\\t\"",
    "\"\\u0000\"",
    "\"\\u001f\"",
    "\"\\u0041\\u00e9\\u4e2d\"",
    "\"\\uD83D\\uDE00\"",
    "\"\\uABCD\\uabcd\\uAbCd\"",
    "\"\\uD800\"",
    "\"\\uDC00x\"",
    "\"\u{7f}\"",
    "\"\u{80}\"",
    "\"é中😀\"",
    "\"\u{2028}\u{2029}\"",
    "\"\u{feff}\"",
    "\"0123456\"",
    "\"01234567\"",
    "\"012345678\"",
    "\"0123456789abcde\"",
    "\"0123456789abcdef\"",
    "\"0123456\\n\"",
    "\"01234567\\n\"",
    "true",
    "false",
    "null",
    "[]",
    "[ ]",
    "[1]",
    "[1,2]",
    "[1, 2 ,3 ]",
    "[[],[[]]]",
    "[null,true,false]",
    "[\"]\"]",
    "{}",
    "{ }",
    "{\"a\":{}}",
    "{\"\":0}",
    "{\"a\":1,\"a\":2}",
    "{\"a\\u0062\":1}",
    "{\"}\":\"{\"}",
    " 1",
    "1 ",
    "\t1",
    "\n1\r\n",
    "[\n\t1\r]",
    "{\n\"a\"\t:\r1 }",
    "{\"a\":[{\"b\":[{}]}]}",
];

const BAD: &[&str] = &[
    "",
    " ",
    "00",
    "01",
    "-01",
    "-",
    "--1",
    "+1",
    ".5",
    "-.5",
    "1.",
    "1.e1",
    "1..2",
    "1e",
    "1E+",
    "1e1.5",
    "1ee1",
    "0x10",
    "1_000",
    "1,000",
    "NaN",
    "nan",
    "Infinity",
    "-Infinity",
    "inf",
    "1a",
    "1 2",
    "\"",
    "\"\\\"",
    "\"a",
    "a\"",
    "'a'",
    "\"\\a\"",
    "\"\\0\"",
    "\"\\x41\"",
    "\"\\u\"",
    "\"\\u1\"",
    "\"\\u12\"",
    "\"\\u123\"",
    "\"\\u123g\"",
    "\"\\U0041\"",
    "\"\\ \"",
    "\"\\\n\"",
    "\"\n\"",
    "\"\t\"",
    "\"\u{0}\"",
    "\"\u{1f}\"",
    "\"0123456\u{1}\"",
    "\"01234567\u{1}\"",
    "\"012345678\u{1f}\"",
    "tru",
    "True",
    "TRUE",
    "truee",
    "fals",
    "nul",
    "NULL",
    "undefined",
    "none",
    "[",
    "]",
    "[1",
    "[1,",
    "[1,]",
    "[,1]",
    "[,]",
    "[1 2]",
    "[1;2]",
    "[}",
    "[1}",
    "{",
    "}",
    "{]",
    "{\"a\"",
    "{\"a\":",
    "{\"a\":1",
    "{\"a\":1,",
    "{\"a\":1,}",
    "{,}",
    "{,\"a\":1}",
    "{\"a\"}",
    "{\"a\",1}",
    "{\"a\":1 \"b\":2}",
    "{\"a\"::1}",
    "{\"a\":1:2}",
    "{a:1}",
    "{1:1}",
    "{null:1}",
    "{\"a\":1}}",
    "[1]]",
    "//1",
    "/*1*/1",
    "1//",
    "#1",
    "1;",
    "\u{feff}1",
    "\u{a0}1",
    "\u{b}1",
    "\u{c}1",
    "\u{85}1",
    "<1>",
    "(1)",
    "`1`",
    "$",
    "*",
    "\u{0}",
    "1\u{0}",
];

#[test]
fn documents_that_must_be_read() {
    for text in GOOD {
        assert!(reads(text.as_bytes()), "{text:?}");
        assert!(peer_reads(text.as_bytes()) || text.contains("\\uD800") || text.contains("\\uDC00"), "the peer differs on {text:?}");
    }
}

#[test]
fn documents_that_must_not() {
    for text in BAD {
        assert!(!reads(text.as_bytes()), "{text:?}");
        assert!(!peer_reads(text.as_bytes()), "the peer differs on {text:?}");
    }
    for bytes in [&b"\"\x80\""[..], b"\"\xc0\x80\"", b"\"\xe0\x80\x80\"", b"\"\xed\xa0\x80\"", b"\"\xf4\x90\x80\x80\"", b"\"\xf8\"", b"\"\xc3\"", b"\xff"] {
        assert!(!reads(bytes), "{bytes:?}");
    }
}

#[test]
fn every_cut_of_a_good_document_is_refused() {
    let whole = r#"{"a":[1,-2.5e+3,"x\u00e9\n",true,false,null,{"b":{}}],"c":"d"}"#;
    for end in 0..whole.len() {
        let cut = &whole.as_bytes()[..end];
        assert!(scan::scan(cut, &FieldTable::default(), &mut Vec::new()).is_err(), "{:?}", &whole[..end]);
    }
}

#[test]
fn a_wrong_byte_anywhere_is_refused_as_the_peer_refuses_it() {
    let whole = br#"{"a":[1,-2.5e3,"x\u00e9"],"b":{"c":true}}"#;
    for at in 0..whole.len() {
        for wrong in [b'"', b'\\', b'{', b'}', b'[', b']', b',', b':', b'0', b'e', b'.', b'-', b't', b' ', b'\n', 0x01] {
            let mut line = whole.to_vec();
            line[at] = wrong;
            let mine = scan::scan(&line, &FieldTable::default(), &mut Vec::new()).is_ok_and(|s| s.end == line.len());
            let theirs = serde_json::from_slice::<&serde_json::value::RawValue>(&line).is_ok_and(|v| v.get().starts_with('{') && v.get().len() == line.len());
            assert_eq!(mine, theirs, "{:?}", String::from_utf8_lossy(&line));
        }
    }
}

/// Lines of several senders through one guide, cut, changed and mixed: the answers are those of a scan without one, and of a peer.
#[test]
fn a_guide_changes_nothing_but_the_time() {
    let seeds = include_str!("seeds.txt");
    let lines: Vec<&str> = seeds.lines().collect();
    let mut table = FieldTable::default();
    for path in [&["a"][..], &["b", "c"], &["b.c"], &["message"], &["long_name_of_more_than_thirty_bytes_in_all"], &["time"]] {
        table.want(&Path::of(path.iter().map(|s| (*s).to_owned()).collect()));
    }
    let mut state = 0x1234_5678_9abc_def1u64;
    let mut below = move |n: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state % n.max(1) as u64) as usize
    };
    let rounds: usize = std::env::var("FUZZ_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(20_000);
    let (mut guide, mut guided, mut plain) = (scan::Guide::default(), Vec::new(), Vec::new());
    let (mut good, mut bad) = (0, 0);
    for _ in 0..rounds {
        // Three lines to a body, so that what stands behind a record is another.
        let mut body = Vec::new();
        let mut records = Vec::new();
        for _ in 0..3 {
            let mut line = lines[below(lines.len())].as_bytes().to_vec();
            for _ in 0..below(3) {
                match below(4) {
                    0 => line.truncate(below(line.len() + 1)),
                    1 if !line.is_empty() => {
                        let at = below(line.len());
                        line[at] = b"\"\\{}[]:,0e.-t x"[below(15)];
                    }
                    2 => {
                        let at = below(line.len() + 1);
                        let piece = line[at..(at + below(30)).min(line.len())].to_vec();
                        line.splice(at..at, piece);
                    }
                    _ => line.insert(below(line.len() + 1), b"\"\\,:} "[below(6)]),
                }
            }
            if std::str::from_utf8(&line).is_err() {
                continue;
            }
            records.push(body.len()..body.len() + line.len());
            body.extend_from_slice(&line);
            body.push(b'\n');
        }
        for record in records {
            let line = &body[record.clone()];
            let with = scan::scan_record(&body, record.clone(), &table, &mut guide, &mut guided);
            let without = scan::scan(line, &table, &mut plain);
            assert_eq!(with, without, "{}", String::from_utf8_lossy(line));
            let whole = with.as_ref().is_ok_and(|s| line[s.end..].iter().all(u8::is_ascii_whitespace));
            if with.is_ok() {
                assert_eq!(guided, plain, "{}", String::from_utf8_lossy(line));
            }
            let theirs = line.trim_ascii_start().first() == Some(&b'{') && serde_json::from_slice::<&serde_json::value::RawValue>(line).is_ok();
            assert_eq!(whole, theirs, "{}", String::from_utf8_lossy(line));
            if whole { good += 1 } else { bad += 1 }
        }
    }
    assert!(good > rounds / 2 && bad > rounds / 2, "{good} good, {bad} bad");
}
