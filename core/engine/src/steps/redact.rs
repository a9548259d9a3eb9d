//! `redact`: finds what must not be seen in an event's texts, and masks it.

use std::sync::atomic::Ordering::Relaxed;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize};

use regex::bytes::Regex;
use rockrose_event::field::{FieldId, FieldTable, Path};
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::scan;
use rockrose_language::{self as language, Detector, Mask, What};
use rockrose_redact::{self as redact, Features, HashKey};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{Buffers, Edit, EventDraft, StepContext};
use crate::effect::Effect;
use crate::view::EventView;

/// Deepest JSON inside a text inside JSON that is looked into.
const MAX_INNER: usize = 4;

#[derive(Debug)]
struct Redact {
    targets: Vec<(Target, Mask)>,
    /// Where to look; empty: everywhere.
    within: Vec<FieldId>,
    /// Those of them that may be reached by other ways than a field has.
    within_parts: Vec<FieldId>,
    met: Met,
}

/// Which of the fields that a redaction names it has met yet. One that never comes may be written wrong, and then what it should mask goes on as it is.
#[derive(Debug, Default)]
struct Met {
    /// The fields, and whether an event had them.
    fields: Vec<(FieldId, Path, AtomicBool)>,
    /// How many of them are still to come.
    missing: AtomicUsize,
    /// Events looked at while any was.
    events: AtomicU64,
}

impl Met {
    fn new<'a>(fields: impl Iterator<Item = (FieldId, &'a Path)>) -> Met {
        let fields: Vec<_> = fields.map(|(field, path)| (field, path.clone(), AtomicBool::new(false))).collect();
        Met { missing: AtomicUsize::new(fields.len()), events: AtomicU64::new(0), fields }
    }

    #[inline]
    fn look(&self, view: EventView<'_>, fields: &FieldTable) {
        if self.missing.load(Relaxed) > 0 {
            self.look_at(view, fields);
        }
    }

    #[inline(never)]
    fn look_at(&self, view: EventView<'_>, fields: &FieldTable) {
        self.events.fetch_add(1, Relaxed);
        for (field, _, met) in self.fields.iter().filter(|(.., met)| !met.load(Relaxed)) {
            let there = fields.all_slots(*field).iter().any(|slot| view.slots[*slot as usize].present()) || !reached(view, *field, fields).is_empty();
            if there && !met.swap(true, Relaxed) {
                self.missing.fetch_sub(1, Relaxed);
            }
        }
    }
}

/// What is looked for.
#[derive(Debug)]
enum Target {
    Detector(Detector),
    Pattern(Regex),
    Field(FieldId),
}

impl Compile for language::Redact {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let targets = self.what.iter().filter_map(|r| {
            let target = match &r.what {
                What::Detector(d) => Target::Detector(*d),
                What::Pattern(p) => Target::Pattern(p.compile().ok()?),
                What::Field(path) => Target::Field(c.field(path)),
            };
            Some((target, r.mask.clone()))
        });
        let targets: Vec<_> = targets.collect();
        let within = c.fields(&self.fields);
        let named = self.what.iter().filter_map(|r| if let What::Field(path) = &r.what { Some(path) } else { None });
        let named: Vec<_> = named.chain(&self.fields).map(|path| (c.field(path), path)).collect();
        let within_parts = self.fields.iter().zip(&within).filter(|(path, _)| path.segments().len() > 1).map(|(_, field)| *field).collect();
        Box::new(Redact { targets, within, within_parts, met: Met::new(named.into_iter()) })
    }
}

impl RunStep for Redact {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let Redact { targets, within, within_parts, met } = self;
        let (fields, key, buffers) = (&c.shared.fields, &c.shared.key, &mut *c.buffers);
        if event.duplicates && !event.changed {
            // Every occurrence of a name must be looked at, so the event is reduced to one of each first.
            event.edit(fields);
        }
        met.look(event.view(), fields);
        let mut changed = false;
        for (target, mask) in targets {
            let Target::Field(field) = target else { continue };
            // All places a field may stand in, not only the best one: nothing may be left behind.
            for slot in fields.all_slots(*field).iter().copied() {
                let view = event.view();
                let span = view.slots[slot as usize];
                if !span.present() || span.kind == Kind::Null {
                    continue;
                }
                let value = json::text(view.json, span, &mut buffers.text);
                buffers.masked.clear();
                redact::mask(mask, value, key, &mut buffers.masked);
                buffers.token.clear();
                json::quote(&buffers.masked, &mut buffers.token);
                if span.of(view.json) == &buffers.token[..] {
                    continue;
                }
                let token = std::mem::take(&mut buffers.token);
                let structured = matches!(span.kind, Kind::Object | Kind::Array);
                let copy = event.edit(fields);
                copy.replace(span.start as usize, span.end as usize, &token);
                if structured {
                    copy.rescan(fields);
                }
                buffers.token = token;
                changed = true;
            }
            changed |= mask_reached(event, *field, mask, key, fields, buffers);
        }
        let mut found = std::mem::take(&mut buffers.edits);
        found.clear();
        buffers.token.clear();
        {
            let view = event.view();
            if within.is_empty() {
                if could_find(targets, view.json) {
                    let whole = Span { start: 0, end: view.json.len() as u32, kind: Kind::Object };
                    look(view.json, whole, key, targets, buffers, &mut found);
                }
            } else {
                for slot in within.iter().flat_map(|f| fields.all_slots(*f)) {
                    let span = view.slots[*slot as usize];
                    if span.present() && could_find(targets, span.of(view.json)) {
                        look(view.json, span, key, targets, buffers, &mut found);
                    }
                }
                for field in within_parts {
                    for span in reached(view, *field, fields) {
                        if could_find(targets, span.of(view.json)) {
                            look(view.json, span, key, targets, buffers, &mut found);
                        }
                    }
                }
                // The same place may be reached by two names.
                found.sort_unstable();
                found.dedup_by_key(|e| e.start);
            }
        }
        if !found.is_empty() {
            changed = true;
            let tokens = std::mem::take(&mut buffers.token);
            let copy = event.edit(fields);
            let mut names = false;
            for edit in found.iter().rev() {
                names |= copy.json()[edit.end..].iter().find(|b| !b.is_ascii_whitespace()) == Some(&b':');
                copy.replace(edit.start, edit.end, &tokens[edit.token.0..edit.token.1]);
            }
            if names {
                copy.rescan(fields);
            }
            buffers.token = tokens;
        }
        buffers.edits = found;
        Effect::changed(changed)
    }

    fn never_met(&self) -> (u64, Vec<Path>) {
        let missing = self.met.fields.iter().filter(|(.., met)| !met.load(Relaxed));
        (self.met.events.load(Relaxed), missing.map(|(_, path, _)| path.clone()).collect())
    }
}

/// The values that a field's path leads to by other ways than a field has: through lists, and by members whose names have dots in between. Few events have any.
fn reached(event: EventView<'_>, field: FieldId, fields: &FieldTable) -> Vec<Span> {
    let path = fields.path(field).segments();
    let last = path.last().map_or("", String::as_str).as_bytes();
    // Without the last name, there is none; a name may be written with escapes.
    if path.len() < 2 || (memchr::memmem::find(event.json, last).is_none() && memchr::memchr(b'\\', event.json).is_none()) {
        return Vec::new();
    }
    let mut found = Vec::new();
    let whole = Span { start: 0, end: event.json.len() as u32, kind: Kind::Object };
    scan::reach(event.json, whole, path, &mut found);
    let known: Vec<u32> = fields.all_slots(field).iter().map(|slot| event.slots[*slot as usize]).filter(|s| s.present()).map(|s| s.start).collect();
    found.retain(|span| !known.contains(&span.start) && span.kind != Kind::Null);
    found
}

/// Masks the values that a field's path leads to by other ways than a field has.
fn mask_reached(event: &mut EventDraft<'_>, field: FieldId, mask: &Mask, key: &HashKey, fields: &FieldTable, buffers: &mut Buffers) -> bool {
    let spans = reached(event.view(), field, fields);
    for span in spans.iter().rev() {
        let view = event.view();
        let value = json::text(view.json, *span, &mut buffers.text);
        buffers.masked.clear();
        redact::mask(mask, value, key, &mut buffers.masked);
        buffers.token.clear();
        json::quote(&buffers.masked, &mut buffers.token);
        event.edit(fields).replace(span.start as usize, span.end as usize, &buffers.token);
    }
    if !spans.is_empty() {
        event.edit(fields).rescan(fields);
    }
    !spans.is_empty()
}

/// Whether any target could be in raw JSON at all: a cheap test that never misses.
#[inline]
fn could_find(targets: &[(Target, Mask)], json: &[u8]) -> bool {
    targets.iter().any(|(t, _)| match t {
        Target::Detector(d) => redact::possible(*d, json),
        Target::Pattern(_) => true,
        Target::Field(_) => false,
    })
}

/// Looks for `targets` in all texts, names and numbers inside `within`. For each token that must change, pushes an edit whose
/// replacement is appended to `buffers.token`.
fn look(json: &[u8], within: Span, key: &HashKey, targets: &[(Target, Mask)], buffers: &mut Buffers, found: &mut Vec<Edit>) {
    let Buffers { text, key: other, token, masked, findings, .. } = buffers;
    let by_name = targets.iter().find(|(t, _)| matches!(t, Target::Detector(Detector::Secret)));
    let mut secret_name = false;
    // All that stands before this place is beneath a name of a secret.
    let mut beneath = 0;
    let mut each = |span: Span, name: bool| {
        text.clear();
        let content: &[u8] = match span.kind {
            Kind::Text => &json[span.start as usize + 1..span.end as usize - 1],
            Kind::EscapedText => {
                json::unescape(&json[span.start as usize + 1..span.end as usize - 1], text);
                text
            }
            _ => span.of(json),
        };
        // The value of a member that is called `password` is one, whatever it looks like.
        let whole = std::mem::take(&mut secret_name) && content.len() >= 4 || span.end <= beneath && !content.is_empty();
        let hit = if let Some((_, mask)) = by_name.filter(|_| whole && !name) {
            other.clear();
            redact::mask(mask, content, key, other);
            true
        } else {
            mask_text(content, targets, key, &mut MaskRoom { out: &mut *other, spare: &mut *masked, findings: &mut *findings }, 0)
        };
        secret_name = name && by_name.is_some() && redact::names_a_secret(content);
        if secret_name {
            beneath = beneath.max(end_of_parts(json, span.end as usize));
        }
        if hit {
            let from = token.len();
            match std::str::from_utf8(other) {
                Ok(_) => json::quote(other, token),
                // A byte pattern cut a character in two.
                Err(_) => json::quote(String::from_utf8_lossy(other).as_bytes(), token),
            }
            if token[from..] == *span.of(json) {
                token.truncate(from);
            } else {
                found.push(Edit { start: span.start as usize, end: span.end as usize, token: (from, token.len()) });
            }
        }
    };
    if within.is_text() { each(within, false) } else { scan::tokens(json, within, each) }
}

/// Where the object or list that is the value of a member ends, whose name ends at `at`; 0 where its value is neither.
fn end_of_parts(json: &[u8], at: usize) -> u32 {
    let blanks = |at: usize| at + json[at..].iter().take_while(|b| b.is_ascii_whitespace()).count();
    let value = blanks(blanks(at) + 1);
    if !matches!(json.get(value), Some(b'{' | b'[')) {
        return 0;
    }
    scan::value_at(json, value).map_or(0, |parts| parts.end)
}

/// What a target has found in a text: where it begins and ends, and the target's number.
type Finding = (usize, usize, usize);

/// Masks all that `targets` find in `content`; the result is in `out`. Says whether there was anything. Where findings overlap, all of what they cover is masked, as the most protective
/// of their masks has it, in whatever order the targets stand.
fn mask_text(content: &[u8], targets: &[(Target, Mask)], key: &HashKey, room: &mut MaskRoom<'_>, depth: usize) -> bool {
    let MaskRoom { out, spare, findings } = room;
    let mut hit = false;
    // A text that is JSON itself may hide in escapes of its own what it holds.
    if depth < MAX_INNER
        && matches!(content.first(), Some(b'{' | b'['))
        && memchr::memchr(b'\\', content).is_some()
        && let Some(inner) = mask_inner(content, targets, key, depth)
    {
        **out = inner;
        hit = true;
    }
    let current: &[u8] = if hit { out } else { content };
    findings.clear();
    // One detector looks for itself as quickly as its bytes could be counted.
    let features = if targets.len() > 1 { Features::of(content) } else { Features::ANY };
    for (number, (target, _)) in targets.iter().enumerate() {
        match target {
            Target::Field(_) => {}
            Target::Detector(detector) => {
                let mut from = 0;
                while let Some(range) = features.allow(*detector).then(|| redact::find(*detector, current, from)).flatten() {
                    findings.push((range.start, range.end, number));
                    from = range.end;
                }
            }
            Target::Pattern(regex) if regex.captures_len() > 1 => {
                for captures in regex.captures_iter(current) {
                    findings.extend(captures.iter().skip(1).flatten().filter(|m| !m.is_empty()).map(|m| (m.start(), m.end(), number)));
                }
            }
            Target::Pattern(regex) => findings.extend(regex.find_iter(current).filter(|m| !m.is_empty()).map(|m| (m.start(), m.end(), number))),
        }
    }
    if findings.is_empty() {
        return hit;
    }
    findings.sort_unstable();
    spare.clear();
    let (mut done, mut rest) = (0, &findings[..]);
    while let [(start, first_end, first), others @ ..] = rest {
        let (mut end, mut mask) = (*first_end, &targets[*first].1);
        let overlapping = others.iter().take_while(|(next, to, number)| {
            let overlaps = *next < end;
            if overlaps {
                end = end.max(*to);
                let other = &targets[*number].1;
                mask = if redact::shows(other) < redact::shows(mask) { other } else { mask };
            }
            overlaps
        });
        rest = &others[overlapping.count()..];
        spare.extend_from_slice(&current[done..*start]);
        redact::mask(mask, &current[*start..end], key, spare);
        done = end;
    }
    spare.extend_from_slice(&current[done..]);
    if spare[..] != *current {
        std::mem::swap(*out, *spare);
        hit = true;
    }
    hit
}

/// Buffers that masking needs, and where its result is.
struct MaskRoom<'a> {
    out: &'a mut Vec<u8>,
    spare: &'a mut Vec<u8>,
    findings: &'a mut Vec<Finding>,
}

/// Masks what is found in the strings of a text that is JSON itself; `None` if it is no JSON, or if nothing was found.
#[cold]
fn mask_inner(content: &[u8], targets: &[(Target, Mask)], key: &HashKey, depth: usize) -> Option<Vec<u8>> {
    let whole = scan::value_at(content, 0).ok()?;
    if !content[whole.end as usize..].iter().all(u8::is_ascii_whitespace) {
        return None;
    }
    let (mut edited, mut done) = (Vec::with_capacity(content.len()), 0);
    let (mut text, mut out, mut spare, mut findings) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    scan::tokens(content, whole, |span, _| {
        text.clear();
        if span.is_text() {
            json::unescape(&content[span.start as usize + 1..span.end as usize - 1], &mut text);
        } else {
            text.extend_from_slice(span.of(content));
        }
        let mut room = MaskRoom { out: &mut out, spare: &mut spare, findings: &mut findings };
        if mask_text(&text, targets, key, &mut room, depth + 1) {
            edited.extend_from_slice(&content[done..span.start as usize]);
            json::quote(String::from_utf8_lossy(&out).as_bytes(), &mut edited);
            done = span.end as usize;
        }
    });
    if done == 0 {
        return None;
    }
    edited.extend_from_slice(&content[done..]);
    Some(edited)
}
