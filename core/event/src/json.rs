//! JSON values as they stand in an event's bytes: their kind and place, and the escapes of strings.
//!
//! Nothing here walks an event: [`crate::scan`] does, and it yields the [`Span`]s that these functions read.

use crate::simd;

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
/// The bytes must have passed [`scan`](crate::scan::scan). Half a surrogate pair becomes U+FFFD.
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
        at = simd::slash(text, at, out);
        let Some(chunk) = simd::chunk::<16>(text, at) else { break };
        let plain = simd::Marks::of(chunk).stops().trailing_zeros() as usize;
        out.extend_from_slice(chunk);
        out.truncate(out.len() - 16 + plain);
        escaped(chunk[plain], out);
        at += plain + 1;
    }
    while at < text.len() {
        let (word, len) = (simd::eight(text, at), (text.len() - at).min(8));
        let plain = simd::plain_of_8(word, len);
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
        let [low, high] = [0, 8].map(|at| simd::eight(text, at));
        let plain = match simd::plain_of_8(low, 8) {
            8 => 8 + simd::plain_of_8(high, 8),
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

/// The text of a value, as a range of the bytes that it stands among: those of the event, or those of `scratch` where it had to be unescaped.
#[inline]
pub fn text_within<'a>(json: &'a [u8], span: Span, scratch: &'a mut Vec<u8>) -> (&'a [u8], usize, usize) {
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
