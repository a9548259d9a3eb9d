//! Documents that must be read and documents that must not (RFC 8259), each held against a well-kept reader as well.

use crate::field::FieldTable;
use crate::json;

/// Whether `bytes`, as the value of the one member of an object, are read.
fn reads(bytes: &[u8]) -> bool {
    let line = [b"{\"v\":", bytes, b"}"].concat();
    if std::str::from_utf8(&line).is_err() {
        return false;
    }
    json::scan(&line, &FieldTable::default(), &mut Vec::new()).is_ok_and(|s| s.end == line.len())
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
        assert!(json::scan(cut, &FieldTable::default(), &mut Vec::new()).is_err(), "{:?}", &whole[..end]);
    }
}

#[test]
fn a_wrong_byte_anywhere_is_refused_as_the_peer_refuses_it() {
    let whole = br#"{"a":[1,-2.5e3,"x\u00e9"],"b":{"c":true}}"#;
    for at in 0..whole.len() {
        for wrong in [b'"', b'\\', b'{', b'}', b'[', b']', b',', b':', b'0', b'e', b'.', b'-', b't', b' ', b'\n', 0x01] {
            let mut line = whole.to_vec();
            line[at] = wrong;
            let mine = json::scan(&line, &FieldTable::default(), &mut Vec::new()).is_ok_and(|s| s.end == line.len());
            let theirs = serde_json::from_slice::<&serde_json::value::RawValue>(&line).is_ok_and(|v| v.get().starts_with('{') && v.get().len() == line.len());
            assert_eq!(mine, theirs, "{:?}", String::from_utf8_lossy(&line));
        }
    }
}
