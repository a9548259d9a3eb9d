//! The validating pass over an event's bytes.
//!
//! It walks the bytes once, left to right, without an index of them. What makes it quick is that senders write the same members in the same order:
//! a [`Guide`] remembers which member followed which, so that a member's name is one comparison with what is expected there, and neither its end nor what it
//! means has to be found again. A name that is not as expected is read and looked up the long way; the result is the same.

use super::{EDITED_DEPTH, Kind, MAX_DEPTH, MAX_MEMBERS, Span, unescape};
use crate::field::{FieldTable, NONE};
use crate::wide;

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

/// The same for the record `body[record]`: what stands behind it is not read, but lets the scan look further at a time. Spans count from the record's start.
/// The guide makes the next record of the same sender quicker; it changes nothing else.
#[inline]
pub fn scan_record(body: &[u8], record: std::ops::Range<usize>, fields: &FieldTable, guide: &mut Guide, slots: &mut Vec<Span>) -> Result<Scanned, Unreadable> {
    fresh(slots, fields);
    guide.begin(fields);
    let limit = record.len();
    Scanner { limit, ..Scanner::strict(&body[record.start..], 0, fields, guide) }.event(slots)
}

/// The same for an event that steps have edited, with the bounds for those.
pub(crate) fn scan_edited(json: &[u8], fields: &FieldTable, slots: &mut Vec<Span>) -> Result<Scanned, Unreadable> {
    fresh(slots, fields);
    Scanner::relaxed(json, 0, fields, &mut Guide::default()).event(slots)
}

fn fresh(slots: &mut Vec<Span>, fields: &FieldTable) {
    slots.clear();
    slots.resize(fields.slots(), Span::MISSING);
}

/// Checks one JSON value of any kind at the start of `json` and returns its span; leading white space is skipped.
pub fn value_at(json: &[u8], at: usize) -> Result<Span, Unreadable> {
    let none = FieldTable::default();
    let mut guide = Guide::default();
    let mut s = Scanner::strict(json, at, &none, &mut guide);
    s.space();
    s.value(NONE, &mut [], 0)
}

/// Most bytes of a member's name, its quotes and colon included, that a guide remembers.
const GUIDED_NAME: usize = 32;
/// Most names a guide remembers; past that it begins anew.
const GUIDED_NAMES: usize = 512;

/// Which member followed which in the records before: a memory that one thread keeps from record to record.
#[derive(Debug, Default)]
pub struct Guide {
    /// The table whose slots it remembers.
    table: u64,
    steps: Vec<Step>,
    /// Open-addressed, by name and node: place in `steps` plus one; 0 is free.
    index: Vec<u16>,
    /// The member that was read last; its `next` is what is expected now.
    last: usize,
}

/// A member's name where it stood, with what it means and what came after it.
#[derive(Clone, Copy, Debug)]
struct Step {
    /// `"name":`, zeros behind.
    bytes: [u8; GUIDED_NAME],
    len: u8,
    /// The node it was read below; [`NONE`] in an object of which nothing is wanted.
    node: u16,
    /// What it fills, and the node below it; [`NONE`] for neither.
    slot: u16,
    below: u16,
    /// What came after it the last time, and before that.
    next: u16,
    other: u16,
}

impl Guide {
    /// Makes ready for a record that is read by `fields`.
    fn begin(&mut self, fields: &FieldTable) {
        if self.steps.is_empty() || self.table != fields.stamp() {
            self.table = fields.stamp();
            // The first entry stands before the first member.
            self.steps.clear();
            self.steps.push(Step { bytes: [0; GUIDED_NAME], len: 0, node: NONE - 1, slot: NONE, below: NONE, next: 0, other: 0 });
            self.index.clear();
            self.index.resize(2 * GUIDED_NAMES, 0);
        }
        self.last = 0;
    }

    /// The expected member, if it is what stands at `at`.
    #[inline(always)]
    fn expected(&mut self, json: &[u8], at: usize, node: u16) -> Option<&Step> {
        let chunk = json.get(at..at + GUIDED_NAME).and_then(|c| <&[u8; GUIDED_NAME]>::try_from(c).ok())?;
        let last = self.steps.get(self.last)?;
        let (next, other) = (last.next as usize, last.other as usize);
        for place in [next, other] {
            let step = &self.steps[place];
            if step.node == node && wide::begins_with(chunk, &step.bytes, step.len) {
                self.last = place;
                return Some(&self.steps[place]);
            }
        }
        None
    }

    /// Remembers that the member `json[key]` (a colon right behind it) was read below `node`.
    #[inline(never)]
    fn learn(&mut self, json: &[u8], key: Span, node: u16, slot: u16, below: u16) {
        let len = (key.end - key.start) as usize + 1;
        if self.steps.is_empty() || len > GUIDED_NAME || json.get(key.end as usize) != Some(&b':') {
            return;
        }
        let mut bytes = [0; GUIDED_NAME];
        bytes[..len].copy_from_slice(&json[key.start as usize..key.start as usize + len]);
        let mut at = (wide::eight(&bytes, 1) ^ wide::eight(&bytes, 8).rotate_left(29) ^ (len as u64) << 32 ^ u64::from(node))
            .wrapping_mul(0x9e37_79b9_7f4a_7c15) as usize
            >> 40;
        let mask = self.index.len() - 1;
        let place = loop {
            at &= mask;
            match self.index[at] {
                0 => {
                    if self.steps.len() == GUIDED_NAMES {
                        self.steps.clear();
                        return;
                    }
                    self.steps.push(Step { bytes, len: len as u8, node, slot, below, next: 0, other: 0 });
                    self.index[at] = self.steps.len() as u16;
                    break self.steps.len() - 1;
                }
                known => {
                    let step = &self.steps[known as usize - 1];
                    if step.node == node && step.bytes == bytes {
                        break known as usize - 1;
                    }
                }
            }
            at += 1;
        };
        let last = &mut self.steps[self.last];
        last.other = last.next;
        last.next = place as u16;
        self.last = place;
    }
}

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
}

impl<'a> Scanner<'a> {
    /// With the bounds for what arrives.
    fn strict(json: &'a [u8], at: usize, fields: &'a FieldTable, guide: &'a mut Guide) -> Scanner<'a> {
        Scanner { json, limit: json.len(), at, members: 0, duplicates: false, breaks: false, fields, guide, max_depth: MAX_DEPTH, max_members: MAX_MEMBERS }
    }

    /// With the bounds for what was edited.
    pub(super) fn relaxed(json: &'a [u8], at: usize, fields: &'a FieldTable, guide: &'a mut Guide) -> Scanner<'a> {
        Scanner { max_depth: EDITED_DEPTH, max_members: usize::MAX, ..Scanner::strict(json, at, fields, guide) }
    }

    fn event(mut self, slots: &mut [Span]) -> Result<Scanned, Unreadable> {
        self.space();
        if self.peek() != Some(b'{') {
            return self.fail("expected an object");
        }
        self.object(0, slots, 1)?;
        if self.at > self.limit {
            return self.fail("the text ends too early");
        }
        Ok(Scanned { end: self.at, duplicates: self.duplicates, breaks: self.breaks })
    }

    #[inline(always)]
    pub(super) fn peek(&self) -> Option<u8> {
        self.json.get(self.at).copied()
    }

    fn fail<T>(&self, reason: &'static str) -> Result<T, Unreadable> {
        Err(self.unreadable(reason))
    }

    #[cold]
    #[inline(never)]
    fn unreadable(&self, reason: &'static str) -> Unreadable {
        let reason = if self.at >= self.limit { "the text ends too early" } else { reason };
        Unreadable { at: self.at.min(self.limit), reason }
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
    #[inline(always)]
    pub(super) fn string(&mut self) -> Result<Span, Unreadable> {
        let start = self.at;
        self.at = wide::string_stop(self.json, start + 1);
        if self.peek() == Some(b'"') {
            self.at += 1;
            return Ok(Span { start: start as u32, end: self.at as u32, kind: Kind::Text });
        }
        self.string_with_escapes(start)
    }

    /// The rest of a string in which something other than the closing quote stands at `self.at`.
    #[inline(never)]
    fn string_with_escapes(&mut self, start: usize) -> Result<Span, Unreadable> {
        loop {
            match self.peek() {
                Some(b'"') => {
                    self.at += 1;
                    return Ok(Span { start: start as u32, end: self.at as u32, kind: Kind::EscapedText });
                }
                Some(b'\\') => self.escape()?,
                Some(_) => return self.fail("a control character inside a string"),
                None => return self.fail("a string that does not end"),
            }
            self.at = wide::string_stop(self.json, self.at);
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

    #[inline(always)]
    pub(super) fn number(&mut self) -> Result<Span, Unreadable> {
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

    #[inline(always)]
    fn digits(&mut self) {
        loop {
            let count = wide::digits(wide::eight(self.json, self.at));
            self.at += count;
            if count < 8 {
                return;
            }
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

    #[inline(always)]
    pub(super) fn value(&mut self, node: u16, slots: &mut [Span], depth: usize) -> Result<Span, Unreadable> {
        match self.peek() {
            Some(b'"') => self.string(),
            Some(b'-' | b'0'..=b'9') => self.number(),
            _ => self.other_value(node, slots, depth),
        }
    }

    #[inline(never)]
    fn other_value(&mut self, node: u16, slots: &mut [Span], depth: usize) -> Result<Span, Unreadable> {
        match self.peek() {
            Some(b'{') => self.object(node, slots, depth + 1),
            Some(b'[') => self.array(slots, depth + 1),
            Some(b't') => self.word(b"true", Kind::True),
            Some(b'f') => self.word(b"false", Kind::False),
            Some(b'n') => self.word(b"null", Kind::Null),
            _ => self.fail("expected a value"),
        }
    }

    /// Reads a member's name and its colon; returns what it fills and the node below it.
    #[inline(always)]
    fn name(&mut self, node: u16) -> Result<(u16, u16), Unreadable> {
        if let Some(step) = self.guide.expected(self.json, self.at, node) {
            self.at += step.len as usize;
            return Ok((step.slot, step.below));
        }
        self.unexpected_name(node)
    }

    #[inline(never)]
    fn unexpected_name(&mut self, node: u16) -> Result<(u16, u16), Unreadable> {
        if self.peek() != Some(b'"') {
            return self.fail("expected a member name in quotes");
        }
        let key = self.string()?;
        let (slot, below) = if node == NONE {
            (NONE, NONE)
        } else if key.kind == Kind::Text {
            self.fields.edge(node, self.json, key.start as usize + 1, key.end as usize - 1)
        } else {
            let mut name = Vec::new();
            unescape(&self.json[key.start as usize + 1..key.end as usize - 1], &mut name);
            self.fields.edge(node, &name, 0, name.len())
        };
        if key.kind == Kind::Text {
            self.guide.learn(self.json, key, node, slot, below);
        }
        self.space();
        if self.peek() != Some(b':') {
            return self.fail("expected `:` after a member name");
        }
        self.at += 1;
        Ok((slot, below))
    }

    fn object(&mut self, node: u16, slots: &mut [Span], depth: usize) -> Result<Span, Unreadable> {
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
            self.members += 1;
            if self.members > self.max_members {
                return self.fail("more than 4096 members");
            }
            let (slot, below) = self.name(node)?;
            self.space();
            if slot != NONE && slots[slot as usize].present() {
                self.again(below, slots);
            }
            let value = self.value(below, slots, depth)?;
            if slot != NONE {
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

    /// A wanted member stands there once more: what was known below the first is forgotten.
    #[cold]
    fn again(&mut self, below: u16, slots: &mut [Span]) {
        self.duplicates = true;
        if below != NONE {
            self.fields.each_below(below, &mut |s| slots[s as usize] = Span::MISSING);
        }
    }

    fn array(&mut self, slots: &mut [Span], depth: usize) -> Result<Span, Unreadable> {
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
            self.value(NONE, slots, depth)?;
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
