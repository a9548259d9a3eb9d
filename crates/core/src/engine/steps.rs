//! Runs a list of steps over one event.

use super::compile::CompiledPlan;
use super::extract::Extractor;
use super::test::{Expression, View};
use super::work::{Fate, Work};
use crate::field::{FieldId, WEIGHT};
use crate::json::{self, Kind, Span};
use crate::lang::{Detector, Mask};
use crate::ledger::Amount;
use crate::redact;
use crate::sample::Sampler;

/// A compiled step.
#[derive(Debug)]
pub(super) struct Do {
    pub(super) operation: Operation,
    pub(super) when: Option<Expression>,
    /// Its canonical sentence, under which the ledger counts it.
    pub(super) sentence: String,
}

#[derive(Debug)]
pub(super) enum Operation {
    Keep(Expression),
    Drop(Expression),
    Sample { sampler: Sampler, weight: f64, by: Vec<FieldId>, unless: Option<Expression>, mark: FieldId },
    Redact { targets: Vec<(Target, Mask)>, within: Vec<FieldId> },
    Set(Vec<(FieldId, Written)>),
    Remove(Vec<(Option<FieldId>, String)>),
    Retain(Vec<(Option<FieldId>, String)>),
    Rename(Vec<(FieldId, String)>),
    Parse { field: FieldId, extractor: Extractor },
    Trim { field: FieldId, bytes: usize },
}

#[derive(Debug)]
pub(super) enum Target {
    Detector(Detector),
    Pattern(regex::bytes::Regex),
    Field(FieldId),
}

#[derive(Debug)]
pub(super) enum Written {
    Token(Vec<u8>),
    Copy(FieldId),
}

/// What a step did to the events of a batch.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct StepTally {
    pub(super) removed: Amount,
    /// Bytes are what was saved.
    pub(super) changed: Amount,
    pub(super) failed: Amount,
}

/// An event on its way through one list of steps: the bytes it came as, and a copy once it was changed.
pub(super) struct Passage<'a> {
    pub(super) base: View<'a>,
    pub(super) duplicates: bool,
    pub(super) work: &'a mut Work,
    pub(super) changed: bool,
}

/// A token that is to be replaced: where it stands, and where its replacement stands in [`Buffers::token`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Edit {
    start: usize,
    end: usize,
    token: (usize, usize),
}

/// Buffers that steps reuse.
#[derive(Debug, Default)]
pub(super) struct Buffers {
    pub(super) text: Vec<u8>,
    other: Vec<u8>,
    token: Vec<u8>,
    edits: Vec<Edit>,
    masked: Vec<u8>,
}

impl<'a> Passage<'a> {
    pub(super) fn view(&self) -> View<'_> {
        if self.changed { View { json: &self.work.json, slots: &self.work.slots } } else { self.base }
    }

    fn own(&mut self, plan: &CompiledPlan) -> &mut Work {
        if !self.changed {
            self.work.load(self.base.json, self.base.slots, self.duplicates, &plan.fields);
            self.changed = true;
        }
        self.work
    }

    /// Runs `steps`; returns the place of the step that removed the event, if one did.
    pub(super) fn run(&mut self, plan: &CompiledPlan, steps: &[Do], tallies: &mut [StepTally], buffers: &mut Buffers) -> Option<usize> {
        for (i, (step, tally)) in steps.iter().zip(tallies).enumerate() {
            let before = self.view().json.len();
            match self.step(plan, step, buffers) {
                Effect::None => {}
                Effect::Removed => {
                    tally.removed.count(before);
                    return Some(i);
                }
                Effect::Failed => tally.failed.count(before),
                Effect::Changed => {
                    tally.changed.events += 1;
                    tally.changed.bytes += before as i64 - self.view().json.len() as i64;
                }
            }
        }
        None
    }

    fn holds(&self, plan: &CompiledPlan, expression: &Expression, buffers: &mut Buffers) -> bool {
        plan.tests.holds(expression, self.view(), &plan.fields, &mut buffers.text, &mut None)
    }

    fn step(&mut self, plan: &CompiledPlan, step: &Do, buffers: &mut Buffers) -> Effect {
        if let Some(when) = &step.when
            && !self.holds(plan, when, buffers)
        {
            return Effect::None;
        }
        let removed = |gone: bool| if gone { Effect::Removed } else { Effect::None };
        match &step.operation {
            Operation::Keep(c) => removed(!self.holds(plan, c, buffers)),
            Operation::Drop(c) => removed(self.holds(plan, c, buffers)),
            Operation::Sample { sampler, weight, by, unless, mark } => {
                if unless.as_ref().is_some_and(|c| self.holds(plan, c, buffers)) {
                    return Effect::None;
                }
                self.sample(plan, sampler, *weight, by, *mark, buffers)
            }
            Operation::Redact { targets, within } => self.redact(plan, targets, within, buffers),
            Operation::Set(pairs) => self.set(plan, pairs, buffers),
            Operation::Remove(selectors) => {
                let names = self.selected(plan, selectors);
                let deeper = |n: &str| names.iter().any(|(name, _)| name.len() > n.len() && name.starts_with(n) && name[n.len()..].starts_with('.'));
                let gone = self.own_if(plan, |work| {
                    work.filter(&plan.fields, &|n| {
                        let hit = names.iter().any(|(name, prefix)| if *prefix { n.starts_with(name.as_str()) } else { n == name });
                        if hit {
                            Fate::Drop
                        } else if deeper(n) {
                            Fate::Descend
                        } else {
                            Fate::Keep
                        }
                    })
                });
                if gone { Effect::Changed } else { Effect::None }
            }
            Operation::Retain(selectors) => {
                let names = self.selected(plan, selectors);
                let below = |outer: &str, inner: &str| inner.len() > outer.len() && inner.starts_with(outer) && inner[outer.len()..].starts_with('.');
                let gone = self.own_if(plan, |work| {
                    work.filter(&plan.fields, &|n| {
                        if n == WEIGHT || names.iter().any(|(name, prefix)| if *prefix { n.starts_with(name.as_str()) } else { n == name }) {
                            Fate::Keep
                        } else if names.iter().any(|(name, _)| below(n, name)) || n == "sampled" {
                            Fate::Descend
                        } else {
                            Fate::Drop
                        }
                    })
                });
                if gone { Effect::Changed } else { Effect::None }
            }
            Operation::Rename(pairs) => {
                let any = pairs.iter().any(|(from, _)| plan.fields.find(*from, self.view().slots).present());
                if !any {
                    return Effect::None;
                }
                let work = self.own(plan);
                for (from, to) in pairs {
                    work.rename(&plan.fields, *from, to);
                }
                Effect::Changed
            }
            Operation::Parse { field, extractor } => {
                let Some(text) = self.view().text(&plan.fields, *field, &mut buffers.text) else { return Effect::Failed };
                match extractor.read(text) {
                    Some(pairs) => {
                        self.own(plan).merge(&plan.fields, &pairs);
                        Effect::Changed
                    }
                    None => Effect::Failed,
                }
            }
            Operation::Trim { field, bytes } => self.trim(plan, *field, *bytes, buffers),
        }
    }

    /// Edits the copy if `edit` finds something to do; else the event stays shared.
    fn own_if(&mut self, plan: &CompiledPlan, edit: impl FnOnce(&mut Work) -> bool) -> bool {
        let was = self.changed;
        let done = edit(self.own(plan));
        self.changed = was || done;
        done
    }

    /// The names that selectors mean in this event: of a view, the usual name that is there.
    fn selected(&self, plan: &CompiledPlan, selectors: &[(Option<FieldId>, String)]) -> Vec<(String, bool)> {
        let slots = self.view().slots;
        let name = |(field, flat): &(Option<FieldId>, String)| match field {
            None => (flat.clone(), true),
            Some(field) => (plan.fields.usual_name(*field, slots).unwrap_or(flat).to_owned(), false),
        };
        selectors.iter().map(name).collect()
    }

    fn sample(&mut self, plan: &CompiledPlan, sampler: &Sampler, weight: f64, by: &[FieldId], mark: FieldId, buffers: &mut Buffers) -> Effect {
        let view = self.view();
        buffers.other.clear();
        let mut any = false;
        for field in by {
            if let Some(text) = view.text(&plan.fields, *field, &mut buffers.text) {
                buffers.other.extend_from_slice(text);
                any = true;
            }
            buffers.other.push(0x1f);
        }
        // An event without the key stands for itself.
        let key = if any { &buffers.other[..buffers.other.len() - 1] } else { view.json };
        if !sampler.keeps(key) {
            return Effect::Removed;
        }
        let so_far = view.text(&plan.fields, mark, &mut buffers.text).and_then(|t| std::str::from_utf8(t).ok()?.parse::<f64>().ok());
        let so_far = so_far.filter(|w| w.is_finite() && *w >= 1.0).unwrap_or(1.0);
        let token = (so_far * weight).to_string();
        self.own(plan).set(&plan.fields, mark, token.as_bytes());
        Effect::Changed
    }

    fn set(&mut self, plan: &CompiledPlan, pairs: &[(FieldId, Written)], buffers: &mut Buffers) -> Effect {
        let (mut changed, mut failed) = (false, false);
        for (field, value) in pairs {
            let token: &[u8] = match value {
                Written::Token(token) => token,
                Written::Copy(from) => {
                    let view = self.view();
                    let span = plan.fields.find(*from, view.slots);
                    if !span.present() {
                        continue;
                    }
                    buffers.token.clear();
                    buffers.token.extend_from_slice(span.of(view.json));
                    &buffers.token
                }
            };
            let view = self.view();
            let span = plan.fields.find(*field, view.slots);
            if span.present() && span.of(view.json) == token {
                continue;
            }
            if self.own(plan).set(&plan.fields, *field, token) {
                changed = true;
            } else {
                failed = true;
            }
        }
        match (changed, failed) {
            (true, _) => Effect::Changed,
            (false, true) => Effect::Failed,
            (false, false) => Effect::None,
        }
    }

    fn trim(&mut self, plan: &CompiledPlan, field: FieldId, bytes: usize, buffers: &mut Buffers) -> Effect {
        const MARK: &str = "…";
        let view = self.view();
        let span = plan.fields.find(field, view.slots);
        if !span.is_text() {
            return Effect::None;
        }
        let text = json::text(view.json, span, &mut buffers.text);
        if text.len() <= bytes {
            return Effect::None;
        }
        let mut end = bytes.saturating_sub(MARK.len());
        while end > 0 && text[end] & 0xc0 == 0x80 {
            end -= 1;
        }
        buffers.token.clear();
        buffers.token.push(b'"');
        json::escape(&text[..end], &mut buffers.token);
        if bytes >= MARK.len() {
            buffers.token.extend_from_slice(MARK.as_bytes());
        }
        buffers.token.push(b'"');
        let token = std::mem::take(&mut buffers.token);
        self.own(plan).replace(span.start as usize, span.end as usize, &token);
        buffers.token = token;
        Effect::Changed
    }

    fn redact(&mut self, plan: &CompiledPlan, targets: &[(Target, Mask)], within: &[FieldId], buffers: &mut Buffers) -> Effect {
        if self.duplicates && !self.changed {
            // Every occurrence of a name must be looked at, so the event is reduced to one of each first.
            self.own(plan);
        }
        let mut changed = false;
        for (target, mask) in targets {
            let Target::Field(field) = target else { continue };
            // All places a field may stand in, not only the best one: nothing may be left behind.
            for slot in plan.fields.all_slots(*field).iter().copied() {
                let view = self.view();
                let span = view.slots[slot as usize];
                if !span.present() || span.kind == Kind::Null {
                    continue;
                }
                let value = json::text(view.json, span, &mut buffers.text);
                buffers.masked.clear();
                redact::mask(mask, value, &plan.key, &mut buffers.masked);
                buffers.token.clear();
                json::quote(&buffers.masked, &mut buffers.token);
                if span.of(view.json) == &buffers.token[..] {
                    continue;
                }
                let token = std::mem::take(&mut buffers.token);
                let structured = matches!(span.kind, Kind::Object | Kind::Array);
                let work = self.own(plan);
                work.replace(span.start as usize, span.end as usize, &token);
                if structured {
                    work.rescan(&plan.fields);
                }
                buffers.token = token;
                changed = true;
            }
        }
        let mut found = std::mem::take(&mut buffers.edits);
        found.clear();
        buffers.token.clear();
        {
            let view = self.view();
            if within.is_empty() {
                let detectors_possible = targets.iter().any(|(t, _)| match t {
                    Target::Detector(d) => redact::possible(*d, view.json),
                    Target::Pattern(_) => true,
                    Target::Field(_) => false,
                });
                if detectors_possible {
                    let whole = Span { start: 0, end: view.json.len() as u32, kind: Kind::Object };
                    look(view.json, whole, plan, targets, buffers, &mut found);
                }
            } else {
                for slot in within.iter().flat_map(|f| plan.fields.all_slots(*f)) {
                    let span = view.slots[*slot as usize];
                    if span.present() {
                        look(view.json, span, plan, targets, buffers, &mut found);
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
            let work = self.own(plan);
            let mut names = false;
            for edit in found.iter().rev() {
                names |= work.json[edit.end..].iter().find(|b| !b.is_ascii_whitespace()) == Some(&b':');
                work.replace(edit.start, edit.end, &tokens[edit.token.0..edit.token.1]);
            }
            if names {
                work.rescan(&plan.fields);
            }
            buffers.token = tokens;
        }
        buffers.edits = found;
        if changed { Effect::Changed } else { Effect::None }
    }
}

/// Looks for `targets` in all texts, names and numbers inside `within`. For each token that must change, pushes an edit whose
/// replacement is appended to `buffers.token`.
fn look(json: &[u8], within: Span, plan: &CompiledPlan, targets: &[(Target, Mask)], buffers: &mut Buffers, found: &mut Vec<Edit>) {
    let Buffers { text, other, token, masked, .. } = buffers;
    let mut each = |span: Span| {
        text.clear();
        let content: &[u8] = match span.kind {
            Kind::Text => &json[span.start as usize + 1..span.end as usize - 1],
            Kind::EscapedText => {
                json::unescape(&json[span.start as usize + 1..span.end as usize - 1], text);
                text
            }
            _ => span.of(json),
        };
        let mut hit = false;
        for (target, mask) in targets {
            let current: &[u8] = if hit { other } else { content };
            masked.clear();
            let mut done = 0;
            let mut put = |from: usize, to: usize, masked: &mut Vec<u8>| {
                masked.extend_from_slice(&current[done..from]);
                redact::mask(mask, &current[from..to], &plan.key, masked);
                done = to;
            };
            match target {
                Target::Field(_) => continue,
                Target::Detector(detector) => {
                    let mut from = 0;
                    while let Some(range) = redact::find(*detector, current, from) {
                        put(range.start, range.end, masked);
                        from = range.end;
                    }
                }
                Target::Pattern(regex) => {
                    if regex.captures_len() > 1 {
                        for captures in regex.captures_iter(current) {
                            let mut groups: Vec<_> = captures.iter().skip(1).flatten().map(|m| m.range()).filter(|r| !r.is_empty()).collect();
                            groups.sort_unstable_by_key(|r| r.start);
                            let mut reached = 0;
                            for group in groups {
                                if group.start >= reached {
                                    put(group.start, group.end, masked);
                                    reached = group.end;
                                }
                            }
                        }
                    } else {
                        for m in regex.find_iter(current).filter(|m| !m.is_empty()) {
                            put(m.start(), m.end(), masked);
                        }
                    }
                }
            }
            if done > 0 {
                masked.extend_from_slice(&current[done..]);
                if masked[..] != *current {
                    std::mem::swap(other, masked);
                    hit = true;
                }
            }
        }
        if hit {
            let from = token.len();
            match std::str::from_utf8(other) {
                Ok(_) => json::quote(other, token),
                // A byte pattern cut a character in two.
                Err(_) => json::quote(String::from_utf8_lossy(other).as_bytes(), token),
            }
            found.push(Edit { start: span.start as usize, end: span.end as usize, token: (from, token.len()) });
        }
    };
    if within.is_text() { each(within) } else { json::tokens(json, within, |span, _| each(span)) }
}

enum Effect {
    None,
    Changed,
    Failed,
    Removed,
}
