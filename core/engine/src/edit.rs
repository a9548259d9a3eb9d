//! A route's own copy of an event, and edits by splice.
//!
//! Edits of a value (`set`, `redact`, `trim`, `tag`) splice the bytes and move the known field spans along. Edits of
//! the structure (`remove`, `retain`, `rename`, `parse`) rebuild the object from slices and scan it again.

use std::collections::{HashMap, HashSet};

use rockrose_event::field::{FieldId, FieldTable};
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::scan;

/// An event that may be edited. Its buffers are reused from event to event.
#[derive(Debug, Default)]
pub(crate) struct EditBuffer {
    /// The event, behind `from` bytes of others that leave before it.
    lines: Vec<u8>,
    from: usize,
    pub(crate) slots: Vec<Span>,
    spare: Vec<u8>,
}

/// What becomes of a member when an object is rebuilt.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Fate {
    /// It stays as it is.
    Keep,
    /// It goes.
    Drop,
    /// Its own members decide, if it is an object; else it stays.
    Descend,
    /// Its own members decide, if it is an object; else it goes.
    DescendOrDrop,
}

impl EditBuffer {
    /// Takes a copy of an event. One with a name twice is reduced to its last occurrences first, so that an edit cannot miss one.
    pub(crate) fn load(&mut self, json: &[u8], slots: &[Span], duplicates: bool, fields: &FieldTable) {
        self.lines.truncate(self.from);
        if duplicates {
            without_duplicates(json, &mut self.lines);
            self.rescan(fields);
        } else {
            self.lines.extend_from_slice(json);
            self.slots.clear();
            self.slots.extend_from_slice(slots);
        }
    }

    /// The event as it is now.
    #[inline(always)]
    pub(crate) fn json(&self) -> &[u8] {
        &self.lines[self.from..]
    }

    /// From now on events are edited where they leave, behind those in `lines`.
    pub(crate) fn begin_behind(&mut self, lines: &mut Vec<u8>) {
        std::mem::swap(&mut self.lines, lines);
        self.from = self.lines.len();
    }

    /// Gives the lines back: with the event and a line end, if it is `taken`, of whose length it tells; else as they were.
    pub(crate) fn give_back(&mut self, lines: &mut Vec<u8>, taken: bool) -> usize {
        let len = self.json().len();
        if taken {
            self.lines.push(b'\n');
        } else {
            self.lines.truncate(self.from);
        }
        std::mem::swap(&mut self.lines, lines);
        self.lines.clear();
        self.from = 0;
        len
    }

    /// Puts what was written to the spare room in the event's place.
    fn take_spare(&mut self, fields: &FieldTable) {
        self.lines.truncate(self.from);
        self.lines.extend_from_slice(&self.spare);
        self.rescan(fields);
    }

    fn whole(&self) -> Span {
        Span { start: 0, end: self.json().len() as u32, kind: Kind::Object }
    }

    /// Finds all fields again, after an edit that may have added or hidden some.
    pub(crate) fn rescan(&mut self, fields: &FieldTable) {
        let EditBuffer { lines, from, slots, .. } = self;
        let scanned = scan::scan_edited(&lines[*from..], fields, slots);
        assert!(scanned.is_ok(), "an edited event is still a JSON object");
    }

    /// Replaces the bytes `start..end` and moves the spans behind along; spans inside become missing.
    pub(crate) fn splice(&mut self, start: usize, end: usize, with: &[u8]) {
        let delta = with.len() as i64 - (end - start) as i64;
        let (first, last, old) = (self.from + start, self.from + end, self.lines.len());
        let behind = first + with.len();
        if delta > 0 {
            self.lines.resize(old + delta as usize, 0);
        }
        self.lines.copy_within(last..old, behind);
        self.lines.truncate(behind + old - last);
        self.lines[first..behind].copy_from_slice(with);
        let moved = |at: u32| (i64::from(at) + delta) as u32;
        for slot in self.slots.iter_mut().filter(|s| s.present()) {
            let (from, to) = (slot.start as usize, slot.end as usize);
            if from >= end {
                slot.start = moved(slot.start);
                slot.end = moved(slot.end);
            } else if from < start && to > end || from <= start && to >= end {
                slot.end = moved(slot.end);
            } else if from >= start && to <= end {
                *slot = Span::MISSING;
            }
        }
    }

    /// Replaces the whole value at `start..end` by another, which may be of another kind but is neither object nor array.
    pub(crate) fn replace(&mut self, start: usize, end: usize, token: &[u8]) {
        self.splice(start, end, token);
        for slot in self.slots.iter_mut().filter(|s| s.present() && s.start as usize == start && s.end as usize == start + token.len()) {
            slot.kind = kind_of(token);
        }
    }

    /// Writes `token` (one JSON value) as the field's value: in its place, or as a new attribute at the end. Says whether it could:
    /// a value that would nest the event too deep is not written.
    pub(crate) fn set(&mut self, fields: &FieldTable, field: FieldId, token: &[u8]) -> bool {
        let kind = kind_of(token);
        if matches!(kind, Kind::Object | Kind::Array) && scan::depth(token) + fields.path(field).segments().len() > scan::EDITED_DEPTH {
            return false;
        }
        let (slot, start) = match fields.find_slot(field, &self.slots) {
            Some(slot) => {
                let span = self.slots[slot as usize];
                let (start, end) = (span.start as usize, span.end as usize);
                let structured = matches!(span.kind, Kind::Object | Kind::Array) || matches!(kind, Kind::Object | Kind::Array);
                self.splice(start, end, token);
                if structured {
                    self.rescan(fields);
                    return true;
                }
                (slot, start)
            }
            None => {
                let at = self.append(fields.name(field), token);
                if matches!(kind, Kind::Object | Kind::Array) {
                    self.rescan(fields);
                    return true;
                }
                (fields.first_slot(field), at)
            }
        };
        self.slots[slot as usize] = Span { start: start as u32, end: (start + token.len()) as u32, kind };
        true
    }

    /// Adds a member (`name` in quotes, with its colon) at the end of the object; returns where its value starts. The caller knows that there is none of that name.
    fn append(&mut self, name: &[u8], token: &[u8]) -> usize {
        let closed = self.lines.pop();
        debug_assert_eq!(closed, Some(b'}'), "an event ends with its brace");
        while self.lines.last().is_some_and(u8::is_ascii_whitespace) {
            self.lines.pop();
        }
        self.lines.reserve(name.len() + token.len() + 2);
        if self.lines.last() != Some(&b'{') {
            self.lines.push(b',');
        }
        self.lines.extend_from_slice(name);
        let at = self.lines.len() - self.from;
        self.lines.extend_from_slice(token);
        self.lines.push(b'}');
        at
    }

    /// Rebuilds the event without the members whose flat name (`outer.inner`) `fate` drops. Says whether any went.
    pub(crate) fn filter(&mut self, fields: &FieldTable, fate: &dyn Fn(&str) -> Fate) -> bool {
        let whole = self.whole();
        self.spare.clear();
        let (_, dropped) = filtered(&self.lines[self.from..], whole, "", fate, &mut self.spare);
        if dropped {
            self.take_spare(fields);
        }
        dropped
    }

    /// Gives the member under `field` another name; one that already has that name goes. Says whether the field was there.
    pub(crate) fn rename(&mut self, fields: &FieldTable, field: FieldId, name: &str) -> bool {
        let span = fields.find(field, &self.slots);
        if !span.present() {
            return false;
        }
        let json = &self.lines[self.from..];
        let members = scan::members(json, self.whole());
        let mut quoted = Vec::new();
        json::quote(name.as_bytes(), &mut quoted);
        if let Some((key, _)) = members.iter().find(|(_, value)| value.start == span.start) {
            if name_of(json, *key) == name.as_bytes() {
                return true;
            }
            let kept = members.iter().filter(|(k, v)| v.start == span.start || name_of(json, *k) != name.as_bytes());
            self.spare.clear();
            write_members(kept.map(|(k, v)| (if k == key { &quoted[..] } else { k.of(json) }, v.of(json))), &mut self.spare);
            self.take_spare(fields);
            return true;
        }
        // It stands deeper: it moves to the top.
        let token = span.of(json).to_vec();
        let flat = fields.path(field).flat();
        self.filter(fields, &|n| {
            let within = fields.called(n);
            if within == flat {
                Fate::Drop
            } else if fields.looks_in(n) || flat.starts_with(within) && flat[within.len()..].starts_with('.') {
                Fate::Descend
            } else {
                Fate::Keep
            }
        });
        self.merge(fields, &[(name.as_bytes().to_vec(), token)]);
        true
    }

    /// Gives the members at the top the names that `rename` has for them; one that already has such a name goes. Says whether any was renamed.
    pub(crate) fn rename_members(&mut self, fields: &FieldTable, rename: &mut dyn FnMut(&str) -> Option<String>) -> bool {
        let json = &self.lines[self.from..];
        let members = scan::members(json, self.whole());
        let names: Vec<String> = members.iter().map(|(k, _)| String::from_utf8_lossy(&name_of(json, *k)).into_owned()).collect();
        let fresh: Vec<Option<String>> = names.iter().map(|n| rename(n).filter(|f| f != n && !f.is_empty())).collect();
        if fresh.iter().all(Option::is_none) {
            return false;
        }
        // Of several that come to one name the last counts, and none of them beside one that had it before.
        let mut last: HashMap<&str, usize> = HashMap::new();
        for (i, name) in fresh.iter().enumerate() {
            if let Some(name) = name {
                last.insert(name, i);
            }
        }
        let quoted: Vec<Option<Vec<u8>>> = fresh
            .iter()
            .map(|name| {
                name.as_ref().map(|name| {
                    let mut q = Vec::new();
                    json::quote(name.as_bytes(), &mut q);
                    q
                })
            })
            .collect();
        let kept = members.iter().enumerate().filter(|(i, _)| match &fresh[*i] {
            Some(name) => last[name.as_str()] == *i,
            None => !last.contains_key(names[*i].as_str()),
        });
        let kept = kept.map(|(i, (k, v))| (quoted[i].as_deref().unwrap_or_else(|| k.of(json)), v.of(json)));
        self.spare.clear();
        write_members(kept, &mut self.spare);
        self.take_spare(fields);
        true
    }

    /// Writes several members at the top, by name; one that is there is replaced.
    pub(crate) fn merge(&mut self, fields: &FieldTable, pairs: &[(Vec<u8>, Vec<u8>)]) {
        let json = &self.lines[self.from..];
        let members = scan::members(json, self.whole());
        let names: Vec<Vec<u8>> = members.iter().map(|(k, _)| name_of(json, *k)).collect();
        let known: HashSet<&[u8]> = names.iter().map(Vec::as_slice).collect();
        // Of a name that is given twice the last counts.
        let given: HashMap<&[u8], usize> = pairs.iter().enumerate().map(|(i, (name, _))| (name.as_slice(), i)).collect();
        let quoted: Vec<Vec<u8>> = pairs
            .iter()
            .map(|(name, _)| {
                let mut q = Vec::new();
                json::quote(name, &mut q);
                q
            })
            .collect();
        let token = |name: &[u8]| given.get(name).map(|i| pairs[*i].1.as_slice());
        let old = members.iter().zip(&names).map(|((k, v), name)| (k.of(json), token(name).unwrap_or_else(|| v.of(json))));
        let fresh = pairs.iter().enumerate().filter(|(i, (name, _))| !known.contains(name.as_slice()) && given.get(name.as_slice()) == Some(i));
        let fresh = fresh.map(|(i, (_, token))| (&quoted[i][..], &token[..]));
        self.spare.clear();
        write_members(old.chain(fresh), &mut self.spare);
        self.take_spare(fields);
    }
}

fn kind_of(token: &[u8]) -> Kind {
    match token.first() {
        Some(b'"') if memchr::memchr(b'\\', token).is_some() => Kind::EscapedText,
        Some(b'"') => Kind::Text,
        Some(b'{') => Kind::Object,
        Some(b'[') => Kind::Array,
        Some(b't') => Kind::True,
        Some(b'f') => Kind::False,
        Some(b'n') => Kind::Null,
        _ => Kind::Number,
    }
}

/// A member's name, escapes resolved.
pub(crate) fn name_of(json: &[u8], key: Span) -> Vec<u8> {
    let mut name = Vec::new();
    json::unescape(&json[key.start as usize + 1..key.end as usize - 1], &mut name);
    name
}

fn write_members<'a>(members: impl Iterator<Item = (&'a [u8], &'a [u8])>, out: &mut Vec<u8>) {
    out.push(b'{');
    for (i, (key, value)) in members.enumerate() {
        if i > 0 {
            out.push(b',');
        }
        out.extend_from_slice(key);
        out.push(b':');
        out.extend_from_slice(value);
    }
    out.push(b'}');
}

/// Writes `object` without what `fate` drops; returns how many members stayed and whether any went.
fn filtered(json: &[u8], object: Span, prefix: &str, fate: &dyn Fn(&str) -> Fate, out: &mut Vec<u8>) -> (usize, bool) {
    out.push(b'{');
    let (mut stayed, mut dropped) = (0, false);
    for (key, value) in scan::members(json, object) {
        let name = name_of(json, key);
        let flat = format!("{prefix}{}", String::from_utf8_lossy(&name));
        let fate_of = match fate(&flat) {
            Fate::Descend if value.kind != Kind::Object => Fate::Keep,
            Fate::DescendOrDrop if value.kind != Kind::Object => Fate::Drop,
            Fate::DescendOrDrop => Fate::Descend,
            other => other,
        };
        if fate_of == Fate::Drop {
            dropped = true;
            continue;
        }
        let mark = out.len();
        if stayed > 0 {
            out.push(b',');
        }
        out.extend_from_slice(key.of(json));
        out.push(b':');
        if fate_of == Fate::Descend {
            let (inside, gone) = filtered(json, value, &format!("{flat}."), fate, out);
            dropped |= gone;
            if gone && inside == 0 {
                // An object that was emptied goes with its members.
                out.truncate(mark);
                continue;
            }
        } else {
            out.extend_from_slice(value.of(json));
        }
        stayed += 1;
    }
    out.push(b'}');
    (stayed, dropped)
}

/// Writes the value with, in every object, only the last member of each name.
fn without_duplicates(json: &[u8], out: &mut Vec<u8>) {
    fn object(json: &[u8], span: Span, out: &mut Vec<u8>) {
        let members = scan::members(json, span);
        let names: Vec<Vec<u8>> = members.iter().map(|(k, _)| name_of(json, *k)).collect();
        let last: HashMap<&[u8], usize> = names.iter().enumerate().map(|(i, n)| (n.as_slice(), i)).collect();
        out.push(b'{');
        let mut first = true;
        for (i, (key, value)) in members.iter().enumerate() {
            if last[names[i].as_slice()] != i {
                continue;
            }
            if !std::mem::take(&mut first) {
                out.push(b',');
            }
            out.extend_from_slice(key.of(json));
            out.push(b':');
            if value.kind == Kind::Object { object(json, *value, out) } else { out.extend_from_slice(value.of(json)) }
        }
        out.push(b'}');
    }
    object(json, Span { start: 0, end: json.len() as u32, kind: Kind::Object }, out);
}
