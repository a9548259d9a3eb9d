//! Runs a list of steps over one event.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use rockrose_event::address::address;
use rockrose_event::field::FieldId;
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::{scan, time};
use rockrose_extract::{Extractor, Found, Name};
use rockrose_language::{Conversion, Mask};
use rockrose_ledger::{Added, Amount, Place, Series, StepLocation, WindowState, bucket};
use rockrose_tables::{Table, TableSlot};

use super::compile::CompiledPlan;
use super::metric::{Sets, label};
use super::pace::{Buckets, Targets};
use super::redaction::Target;
use super::shape::{Chosen, Renamed};
use super::test::{Expression, View, number};
use super::value::{Written, has_text};
use super::window::{self, MAX_JOINED, Open};
use super::work::Work;
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
    Sample { sampler: Sampler, weight: f64, targets: Option<Targets>, by: Vec<FieldId>, unless: Option<Expression>, mark: FieldId },
    Limit { buckets: Buckets, by: Vec<FieldId>, unless: Option<Expression> },
    Redact { targets: Vec<(Target, Mask)>, within: Vec<FieldId> },
    Set(Vec<(FieldId, Written)>),
    Convert(Vec<(FieldId, Conversion, time::Reader)>),
    Remove(Vec<Chosen>),
    Retain(Vec<Chosen>),
    Rename(Vec<Renamed>),
    Parse { extractors: Vec<(Extractor, Vec<FieldId>)>, field: FieldId, name: Vec<u8>, mark: FieldId },
    LookUp { field: FieldId, table: Arc<TableSlot>, outputs: Vec<(FieldId, String)> },
    Locate { field: FieldId, table: Arc<TableSlot>, into: [FieldId; 7] },
    Resolve { field: FieldId, into: FieldId },
    Dedupe { window: usize, within_ms: i64, by: Vec<FieldId>, prefer: Option<String> },
    Merge { window: usize, within_ms: i64, by: Vec<FieldId>, time: FieldId },
    Join { window: usize, how: Joined, within_ms: i64, by: Vec<FieldId>, message: FieldId },
    Trim { field: FieldId, bytes: usize },
    Count { name: String, field: Option<FieldId>, sets: Arc<Sets>, labels: Vec<(String, FieldId)>, mark: FieldId },
}

#[derive(Debug)]
pub(super) enum Joined {
    Starting(regex::bytes::Regex),
    Continued(regex::bytes::Regex),
    Going(regex::bytes::Regex),
    Indented,
    Timeless,
}

/// What a step did to the events of a batch.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct StepTally {
    pub(super) removed: Amount,
    /// Bytes are what was saved.
    pub(super) changed: Amount,
    pub(super) failed: Amount,
    /// What its windows took in, less what they gave out.
    pub(super) held: Amount,
}

/// An event on its way through one list of steps: the bytes it came as, and a copy once it was changed.
pub(super) struct Passage<'a> {
    pub(super) base: View<'a>,
    pub(super) duplicates: bool,
    pub(super) work: &'a mut Work,
    pub(super) changed: bool,
}

/// How far an event came in a list of steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Passed {
    Through,
    /// Removed by the step at this place.
    Removed(usize),
    /// Held back by it.
    Held(usize),
}

/// A token that is to be replaced: where it stands, and where its replacement stands in [`Buffers::token`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Edit {
    pub(super) start: usize,
    pub(super) end: usize,
    pub(super) token: (usize, usize),
}

/// Buffers that steps reuse, and what they leave for the batch.
#[derive(Debug, Default)]
pub(super) struct Buffers {
    pub(super) text: Vec<u8>,
    pub(super) other: Vec<u8>,
    pub(super) token: Vec<u8>,
    pub(super) edits: Vec<Edit>,
    pub(super) masked: Vec<u8>,
    found: Found,
    room: rockrose_extract::Buffers,
    /// When the batch came, in milliseconds since 1970.
    pub(super) now_ms: i64,
    /// Windows that this batch closed: their events go on once the present one is done.
    pub(super) released: Vec<WindowState>,
    /// How windows stand now.
    pub(super) windows: BTreeMap<u128, Option<WindowState>>,
    pub(super) metrics: HashMap<Series, Added>,
}

/// Where a list of steps stands, for those that hold events back.
#[derive(Clone, Copy)]
pub(super) struct At<'a> {
    pub(super) source: &'a str,
    pub(super) place: Place,
    pub(super) name: &'a str,
    pub(super) via: &'a str,
}

impl At<'_> {
    fn stand(&self, position: usize, sentence: &str) -> StepLocation {
        let own = str::to_owned;
        StepLocation {
            source: own(self.source),
            place: self.place,
            name: own(self.name),
            via: own(self.via),
            position: position as i32 + 1,
            sentence: own(sentence),
        }
    }
}

#[derive(Clone, Copy)]
pub(super) enum Effect {
    None,
    Changed,
    Failed,
    Removed,
    Held,
}

impl<'a> Passage<'a> {
    pub(super) fn view(&self) -> View<'_> {
        if self.changed { View { json: self.work.json(), slots: &self.work.slots } } else { self.base }
    }

    pub(super) fn own(&mut self, plan: &CompiledPlan) -> &mut Work {
        if !self.changed {
            self.work.load(self.base.json, self.base.slots, self.duplicates, &plan.fields);
            self.changed = true;
        }
        self.work
    }

    /// Runs the steps from place `from` on.
    pub(super) fn run(&mut self, plan: &CompiledPlan, steps: &[Do], from: usize, at: At<'_>, tallies: &mut [StepTally], buffers: &mut Buffers) -> Passed {
        for (i, (step, tally)) in steps.iter().zip(tallies).enumerate().skip(from) {
            if let Some(when) = &step.when
                && !self.holds(plan, when, buffers)
            {
                continue;
            }
            let before = self.view().json.len();
            match self.step(plan, step, i, at, tally, buffers) {
                Effect::None => {}
                Effect::Removed => {
                    tally.removed.count(before);
                    return Passed::Removed(i);
                }
                Effect::Held => return Passed::Held(i),
                Effect::Failed => {
                    tally.failed.count(before);
                    // It may have been marked, or done in part.
                    let saved = before as i64 - self.view().json.len() as i64;
                    tally.changed += Amount { events: i64::from(saved != 0), bytes: saved };
                }
                Effect::Changed => {
                    tally.changed.events += 1;
                    tally.changed.bytes += before as i64 - self.view().json.len() as i64;
                }
            }
        }
        Passed::Through
    }

    fn holds(&self, plan: &CompiledPlan, expression: &Expression, buffers: &mut Buffers) -> bool {
        plan.tests.holds(expression, self.view(), &plan.fields, &mut buffers.text, &mut None)
    }

    fn step(&mut self, plan: &CompiledPlan, step: &Do, position: usize, at: At<'_>, tally: &mut StepTally, buffers: &mut Buffers) -> Effect {
        let removed = |gone: bool| if gone { Effect::Removed } else { Effect::None };
        match &step.operation {
            Operation::Keep(c) => removed(!self.holds(plan, c, buffers)),
            Operation::Drop(c) => removed(self.holds(plan, c, buffers)),
            Operation::Sample { sampler, weight, targets, by, unless, mark } => {
                if unless.as_ref().is_some_and(|c| self.holds(plan, c, buffers)) {
                    return Effect::None;
                }
                self.sample(plan, sampler, *weight, targets.as_ref(), by, *mark, buffers)
            }
            Operation::Limit { buckets, by, unless } => {
                if unless.as_ref().is_some_and(|c| self.holds(plan, c, buffers)) {
                    return Effect::None;
                }
                self.key(plan, by, buffers);
                removed(!buckets.pass(&buffers.other, buffers.now_ms))
            }
            Operation::Redact { targets, within } => self.redact(plan, targets, within, buffers),
            Operation::Set(pairs) => self.set(plan, pairs, buffers),
            Operation::Convert(pairs) => self.convert(plan, pairs, buffers),
            Operation::Remove(chosen) => self.remove(plan, chosen),
            Operation::Retain(chosen) => self.retain(plan, chosen),
            Operation::Rename(pairs) => self.rename(plan, pairs),
            Operation::Parse { extractors, field, name, mark } => self.parse(plan, extractors, *field, name, *mark, buffers),
            Operation::LookUp { field, table, outputs } => self.look_up(plan, *field, table, outputs, buffers),
            Operation::Locate { field, table, into } => self.locate(plan, *field, table, into, buffers),
            Operation::Resolve { field, into } => self.resolve(plan, *field, *into, buffers),
            Operation::Dedupe { window, within_ms, by, prefer } => {
                let is_preferred = prefer.as_ref().is_none_or(|source| source == at.source);
                self.dedupe(plan, *window, *within_ms, by, is_preferred, &at.stand(position, &step.sentence), tally, buffers)
            }
            Operation::Merge { window, within_ms, by, time } => {
                self.merge(plan, *window, *within_ms, by, *time, &at.stand(position, &step.sentence), tally, buffers)
            }
            Operation::Join { window, how, within_ms, by, message } => {
                self.join(plan, *window, how, *within_ms, by, *message, &at.stand(position, &step.sentence), tally, buffers)
            }
            Operation::Trim { field, bytes } => self.trim(plan, *field, *bytes, buffers),
            Operation::Count { name, field, sets, labels, mark } => self.count(plan, name, *field, sets, labels, *mark, buffers),
        }
    }

    /// Edits the copy if `edit` finds something to do; else the event stays shared.
    pub(super) fn own_if(&mut self, plan: &CompiledPlan, edit: impl FnOnce(&mut Work) -> bool) -> bool {
        let was = self.changed;
        let done = edit(self.own(plan));
        self.changed = was || done;
        done
    }

    /// Writes the values of `by` to `buffers.other`, told apart; says whether the event has any of them.
    fn key(&self, plan: &CompiledPlan, by: &[FieldId], buffers: &mut Buffers) -> bool {
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
        buffers.other.pop();
        any
    }

    /// How many events this one stands for.
    fn weight(&self, plan: &CompiledPlan, mark: FieldId, buffers: &mut Buffers) -> f64 {
        let weight = self.view().text(&plan.fields, mark, &mut buffers.text).and_then(|t| std::str::from_utf8(t).ok()?.parse::<f64>().ok());
        weight.filter(|w| w.is_finite() && *w >= 1.0).unwrap_or(1.0)
    }

    #[expect(clippy::too_many_arguments, reason = "a step's parts, borrowed apart from it")]
    fn sample(
        &mut self,
        plan: &CompiledPlan,
        sampler: &Sampler,
        weight: f64,
        targets: Option<&Targets>,
        by: &[FieldId],
        mark: FieldId,
        buffers: &mut Buffers,
    ) -> Effect {
        let any = self.key(plan, by, buffers);
        let (kept, weight) = match targets {
            // What share of a key is kept depends on how fast it comes; which events, on what they hold.
            Some(targets) => {
                let weight = targets.weight(&buffers.other, buffers.now_ms);
                (sampler.keeps_one_in(weight, self.view().json), weight)
            }
            // An event without the key stands for itself.
            None => (sampler.keeps(if any { &buffers.other } else { self.view().json }), weight),
        };
        if !kept {
            return Effect::Removed;
        }
        if targets.is_some() && weight <= 1.0 {
            return Effect::None;
        }
        let token = (self.weight(plan, mark, buffers) * weight).to_string();
        self.own(plan).set(&plan.fields, mark, token.as_bytes());
        Effect::Changed
    }

    /// Writes `token` as the field's value, unless that is what stands there. Says what came of it.
    pub(super) fn write(&mut self, plan: &CompiledPlan, field: FieldId, token: &[u8]) -> Effect {
        let view = self.view();
        let span = plan.fields.find(field, view.slots);
        if span.present() && span.of(view.json) == token {
            Effect::None
        } else if self.own(plan).set(&plan.fields, field, token) {
            Effect::Changed
        } else {
            Effect::Failed
        }
    }

    fn set(&mut self, plan: &CompiledPlan, pairs: &[(FieldId, Written)], buffers: &mut Buffers) -> Effect {
        let mut sum = Sum::default();
        for (field, value) in pairs {
            if let Written::Token(token) = value {
                sum.add(self.write(plan, *field, token));
                continue;
            }
            let mut token = std::mem::take(&mut buffers.token);
            token.clear();
            if value.write(self.view(), &plan.fields, &mut buffers.text, &mut token).is_some() {
                sum.add(self.write(plan, *field, &token));
            }
            buffers.token = token;
        }
        sum.effect()
    }

    fn convert(&mut self, plan: &CompiledPlan, pairs: &[(FieldId, Conversion, time::Reader)], buffers: &mut Buffers) -> Effect {
        let mut sum = Sum::default();
        for (field, to, reader) in pairs {
            let view = self.view();
            let span = plan.fields.find(*field, view.slots);
            if !has_text(span.kind) {
                continue;
            }
            let text = json::text(view.json, span, &mut buffers.text);
            let mut token = std::mem::take(&mut buffers.token);
            token.clear();
            sum.add(match converted(text, span.kind, to, reader, buffers.now_ms, &mut token) {
                Some(()) => self.write(plan, *field, &token),
                None => Effect::Failed,
            });
            buffers.token = token;
        }
        sum.effect()
    }

    fn parse(
        &mut self,
        plan: &CompiledPlan,
        extractors: &[(Extractor, Vec<FieldId>)],
        field: FieldId,
        name: &[u8],
        mark: FieldId,
        buffers: &mut Buffers,
    ) -> Effect {
        let Buffers { text, found, room, now_ms, .. } = buffers;
        let read = self.view().text(&plan.fields, field, text).and_then(|text| extractors.iter().find(|(e, _)| e.read(text, *now_ms, found, room)));
        let Some((_, names)) = read else {
            // The event stays as it was, but for the mark.
            self.write(plan, mark, name);
            return Effect::Failed;
        };
        if found.pairs.is_empty() {
            return Effect::None;
        }
        let work = self.own(plan);
        let mut free = Vec::new();
        let mut whole = true;
        for (name, value) in &found.pairs {
            let token = found.value(value);
            match name {
                Name::Known(number) => whole &= work.set(&plan.fields, names[*number as usize], token),
                Name::Free(_) => free.push((found.name(name, &[]).to_vec(), token.to_vec())),
            }
        }
        if !free.is_empty() {
            work.merge(&plan.fields, &free);
        }
        if whole { Effect::Changed } else { Effect::Failed }
    }

    fn look_up(&mut self, plan: &CompiledPlan, field: FieldId, table: &TableSlot, outputs: &[(FieldId, String)], buffers: &mut Buffers) -> Effect {
        let Some(text) = self.view().text(&plan.fields, field, &mut buffers.text) else { return Effect::None };
        let table = table.get();
        let Some(Table::Rows(rows)) = table.as_deref() else { return Effect::Failed };
        // A value that the table does not have is no failure: it says nothing of it.
        let Some(row) = rows.find(text) else { return Effect::None };
        let mut sum = Sum::default();
        if outputs.is_empty() {
            let pairs: Vec<_> = rows.columns.iter().zip(row).map(|(name, value)| (name.clone().into_bytes(), value.clone())).collect();
            self.own(plan).merge(&plan.fields, &pairs);
            return Effect::Changed;
        }
        for (field, column) in outputs {
            // A table of one column needs no name.
            let place = rows.columns.iter().position(|c| c == column).or((rows.columns.len() == 1).then_some(0));
            sum.add(match place {
                Some(place) => self.write(plan, *field, &row[place]),
                None => Effect::Failed,
            });
        }
        sum.effect()
    }

    fn locate(&mut self, plan: &CompiledPlan, field: FieldId, table: &TableSlot, into: &[FieldId; 7], buffers: &mut Buffers) -> Effect {
        let Some(text) = self.view().text(&plan.fields, field, &mut buffers.text) else { return Effect::None };
        let Some(ip) = address(text) else { return Effect::Failed };
        let table = table.get();
        let Some(Table::Places(places)) = table.as_deref() else { return Effect::Failed };
        let Some(located) = places.find(ip) else { return Effect::None };
        let text = |text: Option<String>| {
            text.map(|t| {
                let mut token = Vec::new();
                json::quote(t.as_bytes(), &mut token);
                token
            })
        };
        let degrees = |n: Option<f64>| n.filter(|n| n.is_finite()).map(|n| n.to_string().into_bytes());
        let values = [
            text(located.country),
            text(located.region),
            text(located.city),
            degrees(located.latitude),
            degrees(located.longitude),
            located.network.map(|n| n.to_string().into_bytes()),
            text(located.network_name),
        ];
        let mut sum = Sum::default();
        for (field, token) in into.iter().zip(values) {
            if let Some(token) = token {
                sum.add(self.write(plan, *field, &token));
            }
        }
        sum.effect()
    }

    fn resolve(&mut self, plan: &CompiledPlan, field: FieldId, into: FieldId, buffers: &mut Buffers) -> Effect {
        let Some(text) = self.view().text(&plan.fields, field, &mut buffers.text) else { return Effect::None };
        let Some(ip) = address(text) else { return Effect::Failed };
        match plan.names.as_ref().and_then(|names| names.name(ip)) {
            Some(Some(name)) => {
                let mut token = Vec::new();
                json::quote(name.as_bytes(), &mut token);
                self.write(plan, into, &token)
            }
            Some(None) => Effect::None,
            // Not known (yet): the batch does not wait.
            None => Effect::Failed,
        }
    }

    #[expect(clippy::too_many_arguments, reason = "a step's parts, borrowed apart from it")]
    fn dedupe(
        &mut self,
        plan: &CompiledPlan,
        window: usize,
        within_ms: i64,
        by: &[FieldId],
        is_preferred: bool,
        stand: &StepLocation,
        tally: &mut StepTally,
        buffers: &mut Buffers,
    ) -> Effect {
        if by.is_empty() {
            buffers.other.clear();
            buffers.other.extend_from_slice(self.view().json);
        } else if !self.key(plan, by, buffers) {
            // Nothing by which it could be a copy.
            return Effect::None;
        }
        let id = window::id_of_any_source(stand, &buffers.other);
        let view = self.view();
        let mut open = plan.windows[window].lock();
        let known = open.get_mut(id).filter(|known| known.due_ms > buffers.now_ms).map(|known| known.amount());
        match known {
            None => {
                // One that waited long enough goes on; a mark is gone.
                if open.get_mut(id).is_some_and(|held| held.is_mark()) {
                    open.close(id);
                } else {
                    let_go(&mut open, id, tally, buffers);
                }
            }
            // The preferred copy takes the place of the one that waits for it.
            Some(waits) if waits.events > 0 && is_preferred => {
                open.close(id);
                tally.held += Amount { events: -waits.events, bytes: -waits.bytes };
                tally.removed += waits;
            }
            Some(_) => return Effect::Removed,
        }
        let due_ms = buffers.now_ms + within_ms;
        let mark = WindowState {
            stand: stand.clone(),
            json: String::new(),
            text: None,
            events: 0,
            bytes: 0,
            count: 0,
            first: String::new(),
            last: String::new(),
            due_ms,
        };
        if is_preferred {
            return match hold(&mut open, id, mark, tally, buffers) {
                Effect::Held => Effect::None,
                full => full,
            };
        }
        let held = WindowState { json: String::from_utf8_lossy(view.json).into_owned(), events: 1, bytes: view.json.len() as i64, count: 1, ..mark };
        hold(&mut open, id, held, tally, buffers)
    }

    #[expect(clippy::too_many_arguments, reason = "a step's parts, borrowed apart from it")]
    fn merge(
        &mut self,
        plan: &CompiledPlan,
        window: usize,
        within_ms: i64,
        by: &[FieldId],
        time: FieldId,
        stand: &StepLocation,
        tally: &mut StepTally,
        buffers: &mut Buffers,
    ) -> Effect {
        self.key(plan, by, buffers);
        let id = window::id(stand, &buffers.other);
        let view = self.view();
        let at = view.text(&plan.fields, time, &mut buffers.text).map(|t| String::from_utf8_lossy(t).into_owned());
        let at = at.unwrap_or_else(|| jiff::Timestamp::from_millisecond(buffers.now_ms).unwrap_or_default().to_string());
        let mut open = plan.windows[window].lock();
        if let Some(held) = open.get_mut(id)
            && held.due_ms > buffers.now_ms
        {
            held.count += 1;
            held.last = at;
            buffers.windows.insert(id, Some(held.clone()));
            return Effect::Removed;
        }
        let_go(&mut open, id, tally, buffers);
        let held = WindowState {
            stand: stand.clone(),
            json: String::from_utf8_lossy(view.json).into_owned(),
            text: None,
            events: 1,
            bytes: view.json.len() as i64,
            count: 1,
            first: at.clone(),
            last: at,
            due_ms: buffers.now_ms + within_ms,
        };
        hold(&mut open, id, held, tally, buffers)
    }

    #[expect(clippy::too_many_arguments, reason = "a step's parts, borrowed apart from it")]
    fn join(
        &mut self,
        plan: &CompiledPlan,
        window: usize,
        how: &Joined,
        within_ms: i64,
        by: &[FieldId],
        message: FieldId,
        stand: &StepLocation,
        tally: &mut StepTally,
        buffers: &mut Buffers,
    ) -> Effect {
        self.key(plan, by, buffers);
        let id = window::id(stand, &buffers.other);
        let view = self.view();
        let Some(line) = view.text(&plan.fields, message, &mut buffers.text) else { return Effect::None };
        let line = String::from_utf8_lossy(line).into_owned();
        let bytes = view.json.len() as i64;
        let mut open = plan.windows[window].lock();
        let due_ms = buffers.now_ms + within_ms;
        let waiting = open.get_mut(id);
        let belongs = match (&waiting, how) {
            (None, _) => false,
            (Some(_), Joined::Starting(start)) => !start.is_match(line.as_bytes()),
            (Some(_), Joined::Going(on)) => on.is_match(line.as_bytes()),
            (Some(_), Joined::Indented) => line.starts_with([' ', '\t']),
            (Some(_), Joined::Timeless) => !rockrose_extract::tells_its_time(line.as_bytes(), &mut buffers.other),
            (Some(_), Joined::Continued(_)) => true,
        };
        let room = waiting.as_ref().is_none_or(|held| held.text.as_ref().map_or(0, String::len) + line.len() < MAX_JOINED);
        let more = if let Joined::Continued(on) = how { on.is_match(line.as_bytes()) } else { true };
        if let Some(held) = waiting.filter(|_| belongs && room) {
            if let Some(text) = &mut held.text {
                text.push('\n');
                text.push_str(&line);
            }
            held.events += 1;
            held.bytes += bytes;
            held.count += 1;
            held.due_ms = due_ms;
            tally.held += Amount { events: 1, bytes };
            if more {
                buffers.windows.insert(id, Some(held.clone()));
            } else {
                let_go(&mut open, id, tally, buffers);
            }
            return Effect::Held;
        }
        let_go(&mut open, id, tally, buffers);
        if !more {
            return Effect::None;
        }
        let held = WindowState {
            stand: stand.clone(),
            json: String::from_utf8_lossy(view.json).into_owned(),
            text: Some(line),
            events: 1,
            bytes,
            count: 1,
            first: String::new(),
            last: String::new(),
            due_ms,
        };
        hold(&mut open, id, held, tally, buffers)
    }

    #[expect(clippy::too_many_arguments, reason = "a step's parts, borrowed apart from it")]
    fn count(
        &self,
        plan: &CompiledPlan,
        name: &str,
        field: Option<FieldId>,
        sets: &Sets,
        labels: &[(String, FieldId)],
        mark: FieldId,
        buffers: &mut Buffers,
    ) -> Effect {
        let view = self.view();
        let weight = self.weight(plan, mark, buffers);
        let value = match field {
            None => None,
            Some(field) => match view.text(&plan.fields, field, &mut buffers.text).map(number) {
                None => return Effect::None,
                Some(None) => return Effect::Failed,
                Some(value) => value,
            },
        };
        let values = labels.iter().map(|(_, field)| view.text(&plan.fields, *field, &mut buffers.text).map(label).unwrap_or_default());
        let values = sets.admit(values.collect());
        let labels = labels.iter().map(|(name, _)| name.clone()).zip(values).collect();
        let added = buffers.metrics.entry(Series { metric: name.to_owned(), labels }).or_default();
        added.add(&Added { count: weight, values: value.map(|v| (v * weight, BTreeMap::from([(bucket(v), weight)]))) });
        Effect::None
    }
}

/// Closes a window, if it is open: what it held goes on once the present event is done.
fn let_go(open: &mut Open, id: u128, tally: &mut StepTally, buffers: &mut Buffers) {
    if let Some(held) = open.close(id) {
        tally.held += Amount { events: -held.events, bytes: -held.bytes };
        buffers.released.push(held);
        buffers.windows.insert(id, None);
    }
}

/// Opens a window; where there is no room for another, the event goes on by itself.
fn hold(open: &mut Open, id: u128, held: WindowState, tally: &mut StepTally, buffers: &mut Buffers) -> Effect {
    if !open.open(id, held.clone()) {
        return Effect::Failed;
    }
    tally.held += held.amount();
    buffers.windows.insert(id, Some(held));
    Effect::Held
}

/// What several writings of one step came to.
#[derive(Default)]
struct Sum {
    changed: bool,
    failed: bool,
}

impl Sum {
    fn add(&mut self, effect: Effect) {
        self.changed |= matches!(effect, Effect::Changed);
        self.failed |= matches!(effect, Effect::Failed);
    }

    fn effect(self) -> Effect {
        match self {
            Sum { failed: true, .. } => Effect::Failed,
            Sum { changed: true, .. } => Effect::Changed,
            Sum { .. } => Effect::None,
        }
    }
}

/// Appends a value in another type, as JSON; nothing if it cannot be that.
fn converted(text: &[u8], kind: Kind, to: &Conversion, reader: &time::Reader, now_ms: i64, out: &mut Vec<u8>) -> Option<()> {
    let trimmed = text.trim_ascii();
    let is_number = || scan::value_at(trimmed, 0).is_ok_and(|s: Span| s.kind == Kind::Number && s.start == 0 && s.end as usize == trimmed.len());
    match to {
        Conversion::Text => json::quote(text, out),
        Conversion::Number if is_number() => out.extend_from_slice(trimmed),
        Conversion::Integer if is_number() && !trimmed.iter().any(|b| matches!(b, b'.' | b'e' | b'E')) => out.extend_from_slice(trimmed),
        Conversion::Number | Conversion::Integer => {
            let n = match kind {
                Kind::True => 1.0,
                Kind::False => 0.0,
                _ => number(trimmed)?,
            };
            let n = if *to == Conversion::Integer { n.trunc() } else { n };
            // Past this, whole numbers have lost digits.
            if *to == Conversion::Integer && n.abs() > 9_007_199_254_740_992.0 {
                return None;
            }
            out.extend_from_slice((n + 0.0).to_string().as_bytes());
        }
        Conversion::Boolean => {
            let is = |words: &[&str]| words.iter().any(|w| trimmed.eq_ignore_ascii_case(w.as_bytes()));
            let value = if is(&["true", "yes", "on", "1", "t", "y"]) {
                "true"
            } else if is(&["false", "no", "off", "0", "f", "n"]) {
                "false"
            } else {
                return None;
            };
            out.extend_from_slice(value.as_bytes());
        }
        Conversion::Time(_) => {
            let at = reader.read(trimmed, now_ms)?;
            out.push(b'"');
            time::write(at, out);
            out.push(b'"');
        }
    }
    Some(())
}
