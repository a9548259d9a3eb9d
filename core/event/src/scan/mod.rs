//! The validating pass over an event's bytes, and walks over bytes that passed it.
//!
//! The model: an event is *the bytes of one JSON object* (RFC 8259). [`scan`] walks those bytes once, checks that every one of them is valid, and records
//! where the wanted members stand as [`Span`]s into the same bytes. Nothing is copied and no tree is built. The caller owns the bytes and the slots; the
//! slots are reused from event to event.
//!
//! The pass goes from left to right, without an index of structural bytes. It is fast because senders write the same members in the same order: a [`Guide`]
//! remembers which member followed which, so that a member's name is one comparison with what is expected there, and neither its end nor its meaning has to
//! be found again. A name that is not as expected is read and looked up the long way, with the same result.

mod guide;
mod number;
mod walk;

use crate::field::{FieldTable, NONE};
use crate::json::{Kind, Span, unescape};
use crate::simd;
use guide::place;
use number::number_end;

pub use guide::Guide;
pub use walk::{depth, members, minify, reach, tokens};

/// Deepest nesting that is read. Deeper input is refused before it can cost a stack.
pub const MAX_DEPTH: usize = 64;
/// Most members (at all levels together) that one event may have.
pub const MAX_MEMBERS: usize = 4_096;
/// Deepest nesting that an event may come to by edits. What arrives is held to [`MAX_DEPTH`]; steps may nest further, and must not fail on what they made.
pub const EDITED_DEPTH: usize = 400;

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
    fresh(slots, fields);
    Scanner::strict(json, 0, fields, &mut Guide::default()).event(slots)
}

/// Scans the record `body[record]` as [`scan`] does. What stands behind it is not read, but lets the scan look further at a time. Spans count from the record's start.
/// The guide makes the next record of the same sender quicker; it changes nothing else.
#[inline]
pub fn scan_record(body: &[u8], record: std::ops::Range<usize>, fields: &FieldTable, guide: &mut Guide, slots: &mut Vec<Span>) -> Result<Scanned, Unreadable> {
    fresh(slots, fields);
    guide.begin(fields);
    let limit = record.len();
    Scanner { limit, ..Scanner::strict(&body[record.start..], 0, fields, guide) }.event(slots)
}

/// Scans an event that steps have edited as [`scan`] does, within the wider bounds that hold for those.
pub fn scan_edited(json: &[u8], fields: &FieldTable, slots: &mut Vec<Span>) -> Result<Scanned, Unreadable> {
    fresh(slots, fields);
    Scanner::relaxed(json, 0, fields, &mut Guide::default()).event(slots)
}

#[inline]
fn fresh(slots: &mut Vec<Span>, fields: &FieldTable) {
    slots.clear();
    slots.resize(fields.slots(), Span::MISSING);
}

/// Checks one JSON value of any kind at the start of `json` and returns its span; leading white space is skipped.
pub fn value_at(json: &[u8], at: usize) -> Result<Span, Unreadable> {
    let mut guide = Guide::default();
    let mut s = Scanner::strict(json, at, FieldTable::none(), &mut guide);
    s.space();
    let start = s.at as u32;
    match s.value(NONE, &mut [], 0) {
        Ok(kind) => Ok(Span { start, end: s.at as u32, kind }),
        Err(failed) => Err(s.unreadable(failed)),
    }
}

/// It could not be read; where and why is kept by the scanner, so that what succeeds is handed on in a register.
#[derive(Debug)]
pub(super) struct Failed;

pub(super) struct Scanner<'a> {
    json: &'a [u8],
    /// Where the record ends. The bytes behind it are another's; they are there so that a wide look never meets an edge.
    limit: usize,
    pub(super) at: usize,
    members: usize,
    duplicates: bool,
    breaks: bool,
    fields: &'a FieldTable,
    guide: &'a mut Guide,
    max_depth: usize,
    max_members: usize,
    reason: &'static str,
}

impl<'a> Scanner<'a> {
    /// With the bounds for what arrives.
    fn strict(json: &'a [u8], at: usize, fields: &'a FieldTable, guide: &'a mut Guide) -> Scanner<'a> {
        Scanner {
            json,
            limit: json.len(),
            at,
            members: 0,
            duplicates: false,
            breaks: false,
            fields,
            guide,
            max_depth: MAX_DEPTH,
            max_members: MAX_MEMBERS,
            reason: "",
        }
    }

    /// With the bounds for what was edited.
    pub(super) fn relaxed(json: &'a [u8], at: usize, fields: &'a FieldTable, guide: &'a mut Guide) -> Scanner<'a> {
        Scanner { max_depth: EDITED_DEPTH, max_members: usize::MAX, ..Scanner::strict(json, at, fields, guide) }
    }

    fn event(mut self, slots: &mut [Span]) -> Result<Scanned, Unreadable> {
        match self.top(slots) {
            Ok(_) => Ok(Scanned { end: self.at, duplicates: self.duplicates, breaks: self.breaks }),
            Err(failed) => Err(self.unreadable(failed)),
        }
    }

    fn top(&mut self, slots: &mut [Span]) -> Result<Kind, Failed> {
        self.space();
        if self.peek() != Some(b'{') {
            return self.fail("expected an object");
        }
        let kind = self.object(0, slots, 1)?;
        if self.at > self.limit { self.fail("the text ends too early") } else { Ok(kind) }
    }

    #[inline(always)]
    pub(super) fn peek(&self) -> Option<u8> {
        self.json.get(self.at).copied()
    }

    #[cold]
    #[inline(never)]
    fn fail<T>(&mut self, reason: &'static str) -> Result<T, Failed> {
        self.reason = if self.at >= self.limit { "the text ends too early" } else { reason };
        Err(Failed)
    }

    fn unreadable(&self, _: Failed) -> Unreadable {
        Unreadable { at: self.at.min(self.limit), reason: self.reason }
    }

    #[inline(always)]
    pub(super) fn space(&mut self) {
        if self.json.get(self.at).is_some_and(|b| *b <= b' ') {
            self.spaces();
        }
    }

    #[inline(never)]
    fn spaces(&mut self) {
        // What lies behind the record is another's, line ends included.
        while self.at < self.limit {
            match self.json[self.at] {
                b' ' => {}
                b'\n' | b'\r' | b'\t' => self.breaks = true,
                _ => return,
            }
            self.at += 1;
        }
    }

    /// Reads a string whose opening quote stands at `self.at`; leaves `at` behind the closing one.
    #[inline]
    pub(super) fn string(&mut self) -> Result<Kind, Failed> {
        self.at = simd::string_stop(self.json, self.at + 1);
        if self.peek() == Some(b'"') {
            self.at += 1;
            return Ok(Kind::Text);
        }
        self.string_with_escapes()
    }

    /// The rest of a string in which something other than the closing quote stands at `self.at`.
    #[inline(never)]
    fn string_with_escapes(&mut self) -> Result<Kind, Failed> {
        loop {
            // Where nothing but quotes is escaped, sixteen bytes at once; one with a backslash at their end is left to the next.
            while let Some(chunk) = simd::chunk::<16>(self.json, self.at) {
                let marks = simd::Marks::of(chunk);
                let slashes = marks.slashes & 0x7fff;
                let escaped = slashes << 1;
                if marks.controls != 0 || slashes & escaped != 0 || escaped & !marks.quotes != 0 {
                    break;
                }
                let ends = marks.quotes & !escaped;
                if ends != 0 {
                    self.at += ends.trailing_zeros() as usize + 1;
                    return Ok(Kind::EscapedText);
                }
                self.at += 16 - (marks.slashes >> 15) as usize;
            }
            self.at = simd::string_stop(self.json, self.at);
            match self.peek() {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(Kind::EscapedText);
                }
                Some(b'\\') => self.escape()?,
                Some(_) => return self.fail("a control character inside a string"),
                None => return self.fail("a string that does not end"),
            }
        }
    }

    fn escape(&mut self) -> Result<(), Failed> {
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
    pub(super) fn number(&mut self) -> Result<Kind, Failed> {
        match number_end(self.json, self.at) {
            Ok(end) => {
                self.at = end;
                Ok(Kind::Number)
            }
            Err((at, reason)) => {
                self.at = at;
                self.fail(reason)
            }
        }
    }

    fn word(&mut self, word: &'static [u8], kind: Kind) -> Result<Kind, Failed> {
        if self.json[self.at..].starts_with(word) {
            self.at += word.len();
            Ok(kind)
        } else {
            self.fail("an unknown word")
        }
    }

    /// Reads a value of any kind.
    pub(super) fn value(&mut self, node: u16, slots: &mut [Span], depth: usize) -> Result<Kind, Failed> {
        match self.peek() {
            Some(b'"') => self.string(),
            Some(b'-' | b'0'..=b'9') => self.number(),
            _ => self.other_value(node, slots, depth),
        }
    }

    #[inline(never)]
    fn other_value(&mut self, node: u16, slots: &mut [Span], depth: usize) -> Result<Kind, Failed> {
        match self.peek() {
            Some(b'{') => self.object(node, slots, depth + 1),
            Some(b'[') => self.array(slots, depth + 1),
            Some(b't') => self.word(b"true", Kind::True),
            Some(b'f') => self.word(b"false", Kind::False),
            Some(b'n') => self.word(b"null", Kind::Null),
            _ => self.fail("expected a value"),
        }
    }

    /// Reads what stands between two values the long way: all up to the next member's value, of which it returns what it fills and the node below it; or, with no
    /// member, the object's end.
    #[inline(never)]
    fn unexpected(&mut self, node: u16, first: bool) -> Result<Option<(u16, u16)>, Failed> {
        let from = self.at as u32;
        if first {
            self.at += 1;
        }
        self.space();
        match self.peek() {
            Some(b'}') => {
                self.at += 1;
                self.guide.learn(self.json, Span { start: from, end: self.at as u32, kind: Kind::Missing }, place(node, first), None);
                return Ok(None);
            }
            _ if first => {}
            Some(b',') => {
                self.at += 1;
                self.space();
            }
            _ => return self.fail("expected `,` or `}`"),
        }
        if self.peek() != Some(b'"') {
            return self.fail("expected a member name in quotes");
        }
        let start = self.at + 1;
        let plain = self.string()? == Kind::Text;
        let end = self.at - 1;
        let member = if node == NONE {
            (NONE, NONE)
        } else if plain {
            self.fields.edge(node, self.json, start, end)
        } else {
            let mut name = Vec::new();
            unescape(&self.json[start..end], &mut name);
            self.fields.edge(node, &name, 0, name.len())
        };
        self.space();
        if self.peek() != Some(b':') {
            return self.fail("expected `:` after a member name");
        }
        self.at += 1;
        self.space();
        if self.at <= self.limit {
            self.guide.learn(self.json, Span { start: from, end: self.at as u32, kind: Kind::Missing }, place(node, first), Some(member));
        }
        Ok(Some(member))
    }

    /// Reads an object whose brace stands at `self.at`.
    fn object(&mut self, node: u16, slots: &mut [Span], depth: usize) -> Result<Kind, Failed> {
        if depth > self.max_depth {
            return self.fail("nested more than 64 levels deep");
        }
        // The place is kept in a variable of its own: through `self` every step would wait for the one before.
        let json = self.json;
        let mut at = self.at;
        let mut last = self.guide.last;
        let mut first = true;
        macro_rules! by_self {
            ($work:expr) => {{
                (self.at, self.guide.last) = (at, last);
                let done = $work;
                (at, last) = (self.at, self.guide.last);
                done
            }};
        }
        loop {
            let (slot, below) = match self.guide.expected(&mut last, json, at, place(node, first)) {
                Some(step) => {
                    at += step.len as usize;
                    if step.closes {
                        (self.at, self.guide.last) = (at, last);
                        return Ok(Kind::Object);
                    }
                    (step.slot, step.below)
                }
                None => match by_self!(self.unexpected(node, first))? {
                    Some(member) => member,
                    None => return Ok(Kind::Object),
                },
            };
            first = false;
            self.members += 1;
            if self.members > self.max_members {
                self.at = at;
                return self.fail("more than 4096 members");
            }
            if slot != NONE && slots[slot as usize].present() {
                self.again(below, slots);
            }
            let mut start = at;
            let kind = match json.get(at) {
                Some(b'"') => {
                    at = simd::string_stop(json, at + 1);
                    if json.get(at) == Some(&b'"') {
                        at += 1;
                        Kind::Text
                    } else {
                        by_self!(self.string_with_escapes())?
                    }
                }
                Some(b'-' | b'0'..=b'9') => match number_end(json, at) {
                    Ok(end) => {
                        at = end;
                        Kind::Number
                    }
                    Err((wrong, reason)) => {
                        self.at = wrong;
                        return self.fail(reason);
                    }
                },
                _ => {
                    // Another sender's writer may have no blank there.
                    by_self!(self.space());
                    start = at;
                    by_self!(self.value(below, slots, depth))?
                }
            };
            if slot != NONE {
                slots[slot as usize] = Span { start: start as u32, end: at as u32, kind };
            }
        }
    }

    /// A wanted member stands there once more: what was known below the first is forgotten.
    #[cold]
    fn again(&mut self, below: u16, slots: &mut [Span]) {
        self.duplicates = true;
        if below != NONE {
            self.fields.each_below(below, &mut |s| slots[s as usize] = Span::MISSING);
        }
    }

    fn array(&mut self, slots: &mut [Span], depth: usize) -> Result<Kind, Failed> {
        if depth > self.max_depth {
            return self.fail("nested more than 64 levels deep");
        }
        self.at += 1;
        self.space();
        if self.peek() == Some(b']') {
            self.at += 1;
            return Ok(Kind::Array);
        }
        loop {
            self.value(NONE, slots, depth)?;
            self.space();
            match self.peek() {
                Some(b',') => {
                    self.at += 1;
                    self.space();
                }
                Some(b']') => {
                    self.at += 1;
                    return Ok(Kind::Array);
                }
                _ => return self.fail("expected `,` or `]`"),
            }
        }
    }
}

#[cfg(test)]
mod conformance_tests;
#[cfg(test)]
mod tests;
