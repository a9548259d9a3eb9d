use super::*;
use crate::json::quote;

fn accepts(text: &str) -> bool {
    let table = FieldTable::default();
    let mut slots = Vec::new();
    scan(text.as_bytes(), &table, &mut slots).is_ok_and(|s| text[s.end..].trim().is_empty())
}

#[test]
fn accepts_and_rejects_what_rfc_8259_says() {
    for good in [
        "{}",
        r#" { "a" : [ ] , "b" : { } } "#,
        r#"{"a":-0.5e+10,"b":1E3,"c":0}"#,
        r#"{"":null,"é":"\u00e9\ud83d\ude00"}"#,
        r#"{"a":"\"\\\/\b\f\n\r\t"}"#,
        r#"{"a":true,"a":false}"#,
        r#"{"long":"0123456789abcdef0123456789"}"#,
    ] {
        assert!(accepts(good), "{good}");
        assert!(serde_json::from_str::<serde_json::Value>(good).is_ok(), "{good}");
    }
    for bad in [
        "",
        "{",
        "[]",
        "{]",
        r#"{"a"}"#,
        r#"{"a":}"#,
        r#"{"a":1,}"#,
        r#"{,"a":1}"#,
        r#"{a:1}"#,
        r#"{"a":01}"#,
        r#"{"a":1.}"#,
        r#"{"a":.5}"#,
        r#"{"a":+1}"#,
        r#"{"a":-}"#,
        r#"{"a":1e}"#,
        r#"{"a":"\x"}"#,
        r#"{"a":"\u12g4"}"#,
        "{\"a\":\"\n\"}",
        "{\"a\":\"12345678\u{1}\"}",
        r#"{"a":tru}"#,
        r#"{"a":nul}"#,
        r#"{"a":[1,]}"#,
        r#"{"a":[1 2]}"#,
        r#"{"a":1 "b":2}"#,
        r#"{"a":'b'}"#,
        r#"{"a":"b}"#,
        r#"{"a":NaN}"#,
        r#"{"a":1}{"#,
        r#"{"a":1}}"#,
    ] {
        assert!(!accepts(bad), "{bad}");
    }
}

#[test]
fn depth_and_members_are_bounded() {
    let nested = |n: usize| format!("{}1{}", r#"{"a":"#.repeat(n), "}".repeat(n));
    assert!(accepts(&nested(MAX_DEPTH)));
    assert!(!accepts(&nested(MAX_DEPTH + 1)));
    assert!(!accepts(&nested(200_000)));
    let wide = format!("{{{}\"z\":1}}", r#""a":1,"#.repeat(MAX_MEMBERS));
    assert!(!accepts(&wide));
}

#[test]
fn escapes_resolve_and_round_trip() {
    let mut out = Vec::new();
    unescape(br"a\u0040b \ud83d\ude00 \ud83d x\n", &mut out);
    assert_eq!(String::from_utf8(out).unwrap(), "a@b 😀 \u{fffd} x\n");
    let nasty = "quote \" slash \\ nul \u{0} tab \t é 😀";
    let mut quoted = Vec::new();
    quote(nasty.as_bytes(), &mut quoted);
    assert_eq!(serde_json::from_slice::<String>(&quoted).unwrap(), nasty);
    let mut back = Vec::new();
    unescape(&quoted[1..quoted.len() - 1], &mut back);
    assert_eq!(back, nasty.as_bytes());
}

#[test]
fn each_byte_is_escaped_wherever_it_stands() {
    for byte in 0..128u8 {
        for len in 1..40 {
            for at in 0..len {
                let mut text = b"Tansy Quay, Marrow Bay, Lowmere and Skerry".repeat(2)[..len].to_vec();
                text[at] = byte;
                let mut out = Vec::new();
                quote(&text, &mut out);
                assert_eq!(serde_json::from_slice::<String>(&out).unwrap().as_bytes(), text, "{byte} at {at} of {len}");
                let more = out.len() - 2 - len;
                assert_eq!(more, if byte < 0x20 && !b"\n\r\t".contains(&byte) { 5 } else { usize::from(byte < 0x20 || b"\"\\".contains(&byte)) });
            }
        }
    }
}

proptest::proptest! {
    #[test]
    fn whatever_is_quoted_is_read_again(text in "[a-c\"\\\\\n\u{1}é]{0,80}") {
        let mut quoted = Vec::new();
        quote(text.as_bytes(), &mut quoted);
        proptest::prop_assert_eq!(&serde_json::from_slice::<String>(&quoted).unwrap(), &text);
        let event = [b"{\"a\":", &quoted[..], b"}"].concat();
        proptest::prop_assert!(accepts(std::str::from_utf8(&event).unwrap()));
    }

    #[test]
    fn strings_are_accepted_as_the_library_does(inside in "([a-c]{0,9}|\"|\\\\{1,3}|\\\\\"|\\\\n|\\\\u00e9|u00|\u{1}|é){0,30}") {
        let event = format!("{{\"a\":\"{inside}\"}}");
        proptest::prop_assert_eq!(accepts(&event), serde_json::from_str::<serde_json::Value>(&event).is_ok(), "{}", event);
    }
}

#[test]
fn tokens_tell_names_from_values() {
    let json = br#"{"a": "x", "b":[12,"y"]}"#;
    let whole = value_at(json, 0).unwrap();
    let mut seen = Vec::new();
    tokens(json, whole, |s, name| seen.push((String::from_utf8_lossy(s.of(json)).into_owned(), name)));
    let expected = [("\"a\"", true), ("\"x\"", false), ("\"b\"", true), ("12", false), ("\"y\"", false)];
    assert_eq!(seen, expected.map(|(t, n)| (t.to_owned(), n)));
}

#[test]
fn minify_keeps_white_space_inside_strings() {
    let mut out = Vec::new();
    minify(b"{ \"a b\" :\n [1, \"c \\\" d\"] }", &mut out);
    assert_eq!(out, br#"{"a b":[1,"c \" d"]}"#);
}
