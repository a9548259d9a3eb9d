//! JSON text as bytes: one validating pass that pulls chosen fields, and string escapes.
//!
//! The model: an event is *the bytes of one JSON object* (RFC 8259). [`scan`] walks those bytes once,
//! checks that every one of them is valid, and records where the wanted members stand
//! as [`Span`]s into the same bytes. Nothing is copied and no tree is built. The caller owns the bytes
//! and the slots; the slots are reused from event to event. `scan` reads, `walk` goes through what was read.

mod guide;
mod scan;
mod walk;

use crate::wide;

pub use guide::Guide;
pub(crate) use scan::scan_edited;
pub use scan::{Scanned, Unreadable, scan, scan_record, value_at};
pub(crate) use walk::depth;
pub use walk::{members, minify, tokens};

/// Deepest nesting that is read. Deeper input is refused before it can cost a stack.
pub const MAX_DEPTH: usize = 64;
/// Most members (at all levels together) that one event may have.
pub const MAX_MEMBERS: usize = 4_096;
/// Deepest nesting that an event may come to by edits. What arrives is held to [`MAX_DEPTH`]; steps may nest further, and must not fail on what they made.
pub(crate) const EDITED_DEPTH: usize = 400;

/// What sort of JSON value a [`Span`] covers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// The field is not in the event.
    Missing,
    /// A string with no backslash: its content can be read in place.
    Text,
    /// A string with at least one escape: it must be unescaped to be read.
    EscapedText,
    /// A number, in the sender's own writing.
    Number,
    /// `true`
    True,
    /// `false`
    False,
    /// `null`
    Null,
    /// An object, braces included.
    Object,
    /// An array, brackets included.
    Array,
}

/// Where a value stands in the bytes of its event: `start..end`, quotes and brackets included.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Span {
    /// First byte of the value.
    pub start: u32,
    /// One past its last byte.
    pub end: u32,
    /// What it is.
    pub kind: Kind,
}

impl Span {
    /// A field that is not there.
    pub const MISSING: Span = Span { start: 0, end: 0, kind: Kind::Missing };

    /// Whether the field is there at all (a `null` is).
    #[inline]
    #[must_use]
    pub fn present(self) -> bool {
        self.kind != Kind::Missing
    }

    /// The value's own bytes in `json`, quotes included.
    #[inline]
    #[must_use]
    pub fn of(self, json: &[u8]) -> &[u8] {
        &json[self.start as usize..self.end as usize]
    }

    /// Whether it is a string of either sort.
    #[inline]
    #[must_use]
    pub fn is_text(self) -> bool {
        matches!(self.kind, Kind::Text | Kind::EscapedText)
    }
}

/// Appends the content of a string (the bytes between its quotes) to `out`, escapes resolved.
/// The bytes must have passed [`scan`]. Half a surrogate pair becomes U+FFFD.
pub fn unescape(inner: &[u8], out: &mut Vec<u8>) {
    let mut at = 0;
    while let Some(step) = memchr::memchr(b'\\', &inner[at..]) {
        out.extend_from_slice(&inner[at..at + step]);
        at += step;
        let (plain, used) = match inner.get(at + 1) {
            Some(b'n') => ('\n', 2),
            Some(b't') => ('\t', 2),
            Some(b'r') => ('\r', 2),
            Some(b'b') => ('\u{8}', 2),
            Some(b'f') => ('\u{c}', 2),
            Some(b'u') => unicode_escape(&inner[at..]),
            Some(&other) => (other as char, 2),
            None => ('\u{fffd}', 1),
        };
        let mut utf8 = [0; 4];
        out.extend_from_slice(plain.encode_utf8(&mut utf8).as_bytes());
        at += used;
    }
    out.extend_from_slice(&inner[at.min(inner.len())..]);
}

fn unicode_escape(text: &[u8]) -> (char, usize) {
    let hex = |from: usize| {
        let digits = std::str::from_utf8(text.get(from..from + 4)?).ok()?;
        u32::from_str_radix(digits, 16).ok()
    };
    let Some(first) = hex(2) else { return ('\u{fffd}', text.len().min(6)) };
    if (0xd800..0xdc00).contains(&first)
        && text.get(6..8) == Some(b"\\u")
        && let Some(second @ 0xdc00..0xe000) = hex(8)
    {
        let code = 0x10000 + ((first - 0xd800) << 10) + (second - 0xdc00);
        return (char::from_u32(code).unwrap_or('\u{fffd}'), 12);
    }
    (char::from_u32(first).unwrap_or('\u{fffd}'), 6)
}

/// Appends `text` (valid UTF-8) to `out` as the inside of a JSON string, without the quotes.
pub fn escape(text: &[u8], out: &mut Vec<u8>) {
    out.reserve(text.len() + 16);
    let mut at = 0;
    // As many bytes as are looked at are copied at once, and those behind the first that must be written otherwise taken back: cheaper than copying just so many.
    loop {
        at = wide::slash(text, at, out);
        let Some(chunk) = wide::chunk::<16>(text, at) else { break };
        let plain = wide::Marks::of(chunk).stops().trailing_zeros() as usize;
        out.extend_from_slice(chunk);
        out.truncate(out.len() - 16 + plain);
        escaped(chunk[plain], out);
        at += plain + 1;
    }
    while at < text.len() {
        let (word, len) = (wide::eight(text, at), (text.len() - at).min(8));
        let plain = wide::plain_of_8(word, len);
        out.extend_from_slice(&word.to_le_bytes());
        out.truncate(out.len() - 8 + plain);
        at += plain;
        if plain < len {
            escaped(text[at], out);
            at += 1;
        }
    }
}

/// Appends the escape of a byte that cannot stand in a string as it is.
#[inline]
fn escaped(byte: u8, out: &mut Vec<u8>) {
    const HEX: &[u8; 16] = b"0123456789abcdef";
    match byte {
        b'"' | b'\\' => out.extend_from_slice(&[b'\\', byte]),
        b'\n' => out.extend_from_slice(b"\\n"),
        b'\r' => out.extend_from_slice(b"\\r"),
        b'\t' => out.extend_from_slice(b"\\t"),
        _ => out.extend_from_slice(&[b'\\', b'u', b'0', b'0', HEX[(byte >> 4) as usize], HEX[(byte & 15) as usize]]),
    }
}

/// Appends `text` to `out` as a whole JSON string, quotes included.
pub fn quote(text: &[u8], out: &mut Vec<u8>) {
    if text.len() <= 16 {
        let [low, high] = [0, 8].map(|at| wide::eight(text, at));
        let plain = match wide::plain_of_8(low, 8) {
            8 => 8 + wide::plain_of_8(high, 8),
            less => less,
        };
        if plain >= text.len() {
            // Short and nothing to escape, as most are: all at once, and what is too much taken back.
            let mut quoted = [b'"'; 18];
            quoted[1..9].copy_from_slice(&low.to_le_bytes());
            quoted[9..17].copy_from_slice(&high.to_le_bytes());
            quoted[text.len() + 1] = b'"';
            let end = out.len() + text.len() + 2;
            out.extend_from_slice(&quoted);
            out.truncate(end);
            return;
        }
    }
    out.reserve(text.len() + 18);
    out.push(b'"');
    escape(text, out);
    out.push(b'"');
}

/// The value under `span` as text: a string's content (unescaped into `scratch` if it must be), or a
/// number's, word's, object's or array's own writing.
#[inline]
pub fn text<'a>(json: &'a [u8], span: Span, scratch: &'a mut Vec<u8>) -> &'a [u8] {
    let (around, start, end) = text_within(json, span, scratch);
    &around[start..end]
}

/// The same, as a range of the bytes that it stands among.
#[inline]
pub(crate) fn text_within<'a>(json: &'a [u8], span: Span, scratch: &'a mut Vec<u8>) -> (&'a [u8], usize, usize) {
    let (start, end) = (span.start as usize, span.end as usize);
    match span.kind {
        Kind::Text => (json, start + 1, end - 1),
        Kind::EscapedText => {
            scratch.clear();
            unescape(&json[start + 1..end - 1], scratch);
            let len = scratch.len();
            (scratch, 0, len)
        }
        _ => (json, start, end),
    }
}

#[cfg(test)]
mod conformance_tests;
#[cfg(test)]
mod tests {
    use super::*;
    use crate::field::FieldTable;

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
}
