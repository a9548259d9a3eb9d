//! JSON text as bytes: one validating pass that pulls chosen fields, and string escapes.
//!
//! The model: an event is *the bytes of one JSON object* (RFC 8259). [`scan`] walks those bytes once,
//! checks that every one of them is valid, and records where the wanted members stand
//! as [`Span`]s into the same bytes. Nothing is copied and no tree is built. The caller owns the bytes
//! and the slots; the slots are reused from event to event.

use crate::field::FieldTable;

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

/// Why bytes could not be read as an event, and at which byte.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{reason} at byte {at}")]
pub struct Unreadable {
    /// Offset of the offending byte, from the start of the record.
    pub at: usize,
    /// What is wrong there, in words; never the content itself.
    pub reason: &'static str,
}

/// What a successful [`scan`] found besides the fields.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Scanned {
    /// One past the closing brace.
    pub end: usize,
    /// A wanted field stood there more than once; the slots hold the last.
    pub duplicates: bool,
    /// There is a line break or tab between tokens, so the object is not one line as it stands.
    pub breaks: bool,
}

/// Reads one JSON object at the start of `json` (which must be valid UTF-8) and fills `slots`, one for each
/// slot of `fields`. Bytes after the closing brace are left to the caller.
///
/// A member that stands twice counts as its last occurrence, as most readers have it, and the
/// result says so. Fails with the offset and reason of the first byte that is not JSON, on more than
/// [`MAX_DEPTH`] levels and on more than [`MAX_MEMBERS`] members.
pub fn scan(json: &[u8], fields: &FieldTable, slots: &mut Vec<Span>) -> Result<Scanned, Unreadable> {
    slots.clear();
    slots.resize(fields.slots(), Span::MISSING);
    Scanner::strict(json, 0, fields).event(slots)
}

/// The same for an event that steps have edited, with the bounds for those.
pub(crate) fn scan_edited(json: &[u8], fields: &FieldTable, slots: &mut Vec<Span>) -> Result<Scanned, Unreadable> {
    slots.clear();
    slots.resize(fields.slots(), Span::MISSING);
    Scanner::relaxed(json, 0, fields).event(slots)
}

/// How many levels of objects and arrays the valid value `token` has.
pub(crate) fn depth(token: &[u8]) -> usize {
    let (mut deepest, mut now, mut at) = (0usize, 0usize, 0);
    while let Some(b) = token.get(at) {
        match b {
            b'"' => {
                // Past the string, its escaped quotes included.
                at += 1;
                while let Some(c) = token.get(at).filter(|c| **c != b'"') {
                    at += if *c == b'\\' { 2 } else { 1 };
                }
            }
            b'{' | b'[' => {
                now += 1;
                deepest = deepest.max(now);
            }
            b'}' | b']' => now = now.saturating_sub(1),
            _ => {}
        }
        at += 1;
    }
    deepest
}

/// Checks one JSON value of any kind at the start of `json` and returns its span; leading white space is skipped.
pub fn value_at(json: &[u8], at: usize) -> Result<Span, Unreadable> {
    let none = FieldTable::default();
    let mut s = Scanner::strict(json, at, &none);
    s.space();
    s.value(None, &mut [], 0)
}

struct Scanner<'a> {
    json: &'a [u8],
    at: usize,
    members: usize,
    duplicates: bool,
    breaks: bool,
    fields: &'a FieldTable,
    max_depth: usize,
    max_members: usize,
}

const ONES: u64 = 0x0101_0101_0101_0101;
const HIGH: u64 = 0x8080_8080_8080_8080;

/// Bytes of `word` that end a plain run inside a string: quote, backslash, control. High bit of each.
#[inline]
fn stops(word: u64) -> u64 {
    let quote = word ^ (ONES * b'"' as u64);
    let slash = word ^ (ONES * b'\\' as u64);
    let zero = |x: u64| x.wrapping_sub(ONES) & !x;
    // A false hit is only possible above a true one, so the lowest set bit is always right.
    (zero(quote) | zero(slash) | (word.wrapping_sub(ONES * 0x20) & !word)) & HIGH
}

impl<'a> Scanner<'a> {
    /// With the bounds for what arrives.
    fn strict(json: &'a [u8], at: usize, fields: &'a FieldTable) -> Scanner<'a> {
        Scanner { json, at, members: 0, duplicates: false, breaks: false, fields, max_depth: MAX_DEPTH, max_members: MAX_MEMBERS }
    }

    /// With the bounds for what was edited.
    fn relaxed(json: &'a [u8], at: usize, fields: &'a FieldTable) -> Scanner<'a> {
        Scanner { max_depth: EDITED_DEPTH, max_members: usize::MAX, ..Scanner::strict(json, at, fields) }
    }

    fn event(mut self, slots: &mut [Span]) -> Result<Scanned, Unreadable> {
        self.space();
        if self.peek() != Some(b'{') {
            return self.fail("expected an object");
        }
        self.object(Some(0), slots, 1)?;
        Ok(Scanned { end: self.at, duplicates: self.duplicates, breaks: self.breaks })
    }

    #[inline]
    fn peek(&self) -> Option<u8> {
        self.json.get(self.at).copied()
    }

    fn fail<T>(&self, reason: &'static str) -> Result<T, Unreadable> {
        let reason = if self.at >= self.json.len() { "the text ends too early" } else { reason };
        Err(Unreadable { at: self.at, reason })
    }

    #[inline]
    fn space(&mut self) {
        while let Some(b) = self.peek() {
            match b {
                b' ' => {}
                b'\n' | b'\r' | b'\t' => self.breaks = true,
                _ => return,
            }
            self.at += 1;
        }
    }

    /// Reads a string whose opening quote stands at `self.at`; leaves `at` behind the closing one.
    #[inline]
    fn string(&mut self) -> Result<Span, Unreadable> {
        let start = self.at;
        self.at += 1;
        let mut kind = Kind::Text;
        loop {
            while let Some(chunk) = self.json.get(self.at..self.at + 8) {
                let mut word = [0u8; 8];
                word.copy_from_slice(chunk);
                let hit = stops(u64::from_le_bytes(word));
                if hit != 0 {
                    self.at += (hit.trailing_zeros() / 8) as usize;
                    break;
                }
                self.at += 8;
            }
            match self.peek() {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(Span { start: start as u32, end: self.at as u32, kind });
                }
                Some(b'\\') => {
                    kind = Kind::EscapedText;
                    self.escape()?;
                }
                Some(b) if b < 0x20 => return self.fail("a control character inside a string"),
                Some(_) => self.at += 1,
                None => return self.fail("a string that does not end"),
            }
        }
    }

    fn escape(&mut self) -> Result<(), Unreadable> {
        match self.json.get(self.at + 1) {
            Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => {
                self.at += 2;
                Ok(())
            }
            Some(b'u') => {
                let digits = self.json.get(self.at + 2..self.at + 6);
                if digits.is_some_and(|d| d.iter().all(u8::is_ascii_hexdigit)) {
                    self.at += 6;
                    Ok(())
                } else {
                    self.fail("a \\u escape without four hex digits")
                }
            }
            _ => self.fail("an unknown escape"),
        }
    }

    #[inline]
    fn number(&mut self) -> Result<Span, Unreadable> {
        let start = self.at;
        if self.peek() == Some(b'-') {
            self.at += 1;
        }
        match self.peek() {
            Some(b'0') => self.at += 1,
            Some(b'1'..=b'9') => self.digits(),
            _ => return self.fail("a number without digits"),
        }
        if self.peek() == Some(b'.') {
            self.at += 1;
            if !self.peek().is_some_and(|b| b.is_ascii_digit()) {
                return self.fail("a decimal point without digits");
            }
            self.digits();
        }
        if matches!(self.peek(), Some(b'e' | b'E')) {
            self.at += 1;
            if matches!(self.peek(), Some(b'+' | b'-')) {
                self.at += 1;
            }
            if !self.peek().is_some_and(|b| b.is_ascii_digit()) {
                return self.fail("an exponent without digits");
            }
            self.digits();
        }
        Ok(Span { start: start as u32, end: self.at as u32, kind: Kind::Number })
    }

    #[inline]
    fn digits(&mut self) {
        while self.peek().is_some_and(|b| b.is_ascii_digit()) {
            self.at += 1;
        }
    }

    fn word(&mut self, word: &'static [u8], kind: Kind) -> Result<Span, Unreadable> {
        let start = self.at;
        if self.json[start..].starts_with(word) {
            self.at += word.len();
            Ok(Span { start: start as u32, end: self.at as u32, kind })
        } else {
            self.fail("an unknown word")
        }
    }

    fn value(&mut self, node: Option<u16>, slots: &mut [Span], depth: usize) -> Result<Span, Unreadable> {
        match self.peek() {
            Some(b'"') => self.string(),
            Some(b'-' | b'0'..=b'9') => self.number(),
            Some(b'{') => self.object(node, slots, depth + 1),
            Some(b'[') => self.array(depth + 1),
            Some(b't') => self.word(b"true", Kind::True),
            Some(b'f') => self.word(b"false", Kind::False),
            Some(b'n') => self.word(b"null", Kind::Null),
            _ => self.fail("expected a value"),
        }
    }

    fn object(&mut self, node: Option<u16>, slots: &mut [Span], depth: usize) -> Result<Span, Unreadable> {
        let start = self.at;
        if depth > self.max_depth {
            return self.fail("nested more than 64 levels deep");
        }
        self.at += 1;
        self.space();
        if self.peek() == Some(b'}') {
            self.at += 1;
            return Ok(Span { start: start as u32, end: self.at as u32, kind: Kind::Object });
        }
        loop {
            if self.peek() != Some(b'"') {
                return self.fail("expected a member name in quotes");
            }
            self.members += 1;
            if self.members > self.max_members {
                return self.fail("more than 4096 members");
            }
            let key = self.string()?;
            self.space();
            if self.peek() != Some(b':') {
                return self.fail("expected `:` after a member name");
            }
            self.at += 1;
            self.space();
            let edge = node.and_then(|n| self.lookup(n, key));
            let mut child = None;
            if let Some((slot, below)) = edge {
                child = below;
                if slots[slot as usize].present() {
                    self.duplicates = true;
                    if let Some(below) = below {
                        self.fields.each_below(below, &mut |s| slots[s as usize] = Span::MISSING);
                    }
                }
            }
            let value = self.value(child, slots, depth)?;
            if let Some((slot, _)) = edge {
                slots[slot as usize] = value;
            }
            self.space();
            match self.peek() {
                Some(b',') => {
                    self.at += 1;
                    self.space();
                }
                Some(b'}') => {
                    self.at += 1;
                    return Ok(Span { start: start as u32, end: self.at as u32, kind: Kind::Object });
                }
                _ => return self.fail("expected `,` or `}`"),
            }
        }
    }

    #[inline]
    fn lookup(&self, node: u16, key: Span) -> Option<(u16, Option<u16>)> {
        let inner = &self.json[key.start as usize + 1..key.end as usize - 1];
        if key.kind == Kind::Text {
            self.fields.edge(node, inner)
        } else {
            let mut name = Vec::new();
            unescape(inner, &mut name);
            self.fields.edge(node, &name)
        }
    }

    fn array(&mut self, depth: usize) -> Result<Span, Unreadable> {
        let start = self.at;
        if depth > self.max_depth {
            return self.fail("nested more than 64 levels deep");
        }
        self.at += 1;
        self.space();
        if self.peek() == Some(b']') {
            self.at += 1;
            return Ok(Span { start: start as u32, end: self.at as u32, kind: Kind::Array });
        }
        loop {
            self.value(None, &mut [], depth)?;
            self.space();
            match self.peek() {
                Some(b',') => {
                    self.at += 1;
                    self.space();
                }
                Some(b']') => {
                    self.at += 1;
                    return Ok(Span { start: start as u32, end: self.at as u32, kind: Kind::Array });
                }
                _ => return self.fail("expected `,` or `]`"),
            }
        }
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
    const HEX: &[u8; 16] = b"0123456789abcdef";
    for &b in text {
        match b {
            b'"' => out.extend_from_slice(b"\\\""),
            b'\\' => out.extend_from_slice(b"\\\\"),
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            b'\t' => out.extend_from_slice(b"\\t"),
            0..0x20 => out.extend_from_slice(&[b'\\', b'u', b'0', b'0', HEX[(b >> 4) as usize], HEX[(b & 15) as usize]]),
            _ => out.push(b),
        }
    }
}

/// Appends `text` to `out` as a whole JSON string, quotes included.
pub fn quote(text: &[u8], out: &mut Vec<u8>) {
    out.push(b'"');
    escape(text, out);
    out.push(b'"');
}

/// The value under `span` as text: a string's content (unescaped into `scratch` if it must be), or a
/// number's, word's, object's or array's own writing.
#[inline]
pub fn text<'a>(json: &'a [u8], span: Span, scratch: &'a mut Vec<u8>) -> &'a [u8] {
    match span.kind {
        Kind::Text => &json[span.start as usize + 1..span.end as usize - 1],
        Kind::EscapedText => {
            scratch.clear();
            unescape(&json[span.start as usize + 1..span.end as usize - 1], scratch);
            scratch
        }
        _ => span.of(json),
    }
}

/// Walks the members of the valid object at `object`: for each, the span of its key (quotes included) and of its value.
pub fn members(json: &[u8], object: Span) -> Vec<(Span, Span)> {
    let none = FieldTable::default();
    let mut s = Scanner::relaxed(json, object.start as usize + 1, &none);
    let mut found = Vec::new();
    loop {
        s.space();
        match s.peek() {
            Some(b'"') => {}
            Some(b',') => {
                s.at += 1;
                continue;
            }
            _ => return found,
        }
        let Ok(key) = s.string() else { return found };
        s.space();
        s.at += 1;
        s.space();
        let Ok(value) = s.value(None, &mut [], 0) else { return found };
        found.push((key, value));
    }
}

/// Every string and number token inside `within` (which covers valid JSON), in order; `true` for a member's name.
pub fn tokens(json: &[u8], within: Span, mut each: impl FnMut(Span, bool)) {
    let none = FieldTable::default();
    let mut s = Scanner::relaxed(json, within.start as usize, &none);
    while s.at < within.end as usize {
        match json[s.at] {
            b'"' => {
                let Ok(span) = s.string() else { return };
                let mut next = s.at;
                while matches!(json.get(next), Some(b' ' | b'\t' | b'\n' | b'\r')) {
                    next += 1;
                }
                each(span, json.get(next) == Some(&b':') && next < within.end as usize);
            }
            b'-' | b'0'..=b'9' => {
                let Ok(span) = s.number() else { return };
                each(span, false);
            }
            _ => s.at += 1,
        }
    }
}

/// Appends the valid JSON in `json` to `out` without the white space between its tokens, so that it is one line.
pub fn minify(json: &[u8], out: &mut Vec<u8>) {
    let none = FieldTable::default();
    let mut s = Scanner::relaxed(json, 0, &none);
    while let Some(b) = s.peek() {
        match b {
            b'"' => {
                let from = s.at;
                if s.string().is_err() {
                    return;
                }
                out.extend_from_slice(&json[from..s.at]);
            }
            b' ' | b'\n' | b'\r' | b'\t' => s.at += 1,
            _ => {
                out.push(b);
                s.at += 1;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
