//! What a step sees: the event, and the little of the plan and the batch that it may need.

use std::collections::HashMap;

use rockrose_event::field::{FieldId, FieldTable};
use rockrose_event::scan;
use rockrose_extract::Found;
use rockrose_ledger::{Added, Amount, Series, Stage, StepLocation, WindowState};
use rockrose_redact::HashKey;

use crate::behind::BehindSteps;
use crate::by_tag::{self, TagTally, TagValues, Tags};
use crate::edit::EditBuffer;
use crate::effect::{Effect, StepTally};
use crate::expression::{Expression, Tests};
use crate::view::EventView;

/// What all steps of a plan share.
#[derive(Debug)]
pub(crate) struct Shared {
    /// The fields that any sentence of the plan needs.
    pub(crate) fields: FieldTable,
    /// All distinct tests of the plan.
    pub(crate) tests: Tests,
    /// What is redacted `as hash` is hashed with this.
    pub(crate) key: HashKey,
    /// What the account is told apart by.
    pub(crate) tags: Tags,
}

/// An event on its way through one list of steps: the bytes that it came as, and a copy once a step changed it.
pub(crate) struct EventDraft<'a> {
    pub(crate) base: EventView<'a>,
    /// Some name stands in it twice.
    pub(crate) duplicates: bool,
    pub(crate) copy: &'a mut EditBuffer,
    pub(crate) changed: bool,
    /// Its values of the tags, as far as somebody has looked.
    pub(crate) values: TagValues,
}

impl EventDraft<'_> {
    /// The event as it is now.
    #[inline]
    pub(crate) fn view(&self) -> EventView<'_> {
        if self.changed { EventView { json: self.copy.json(), slots: &self.copy.slots, arrived_ms: self.base.arrived_ms } } else { self.base }
    }

    /// The copy, to be edited.
    pub(crate) fn edit(&mut self, fields: &FieldTable) -> &mut EditBuffer {
        if !self.changed {
            self.copy.load(self.base.json, self.base.slots, self.duplicates, fields);
            self.changed = true;
        }
        self.copy
    }

    /// Edits the copy if `edit` finds something to do; else the event stays shared.
    pub(crate) fn edit_if(&mut self, fields: &FieldTable, edit: impl FnOnce(&mut EditBuffer) -> bool) -> bool {
        let was = self.changed;
        let done = edit(self.edit(fields));
        self.changed = was || done;
        done
    }

    /// Writes `token` (one JSON value) as the field's value, unless that is what stands there.
    pub(crate) fn write(&mut self, fields: &FieldTable, field: FieldId, token: &[u8]) -> Effect {
        let view = self.view();
        let span = fields.find(field, view.slots);
        if span.present() && span.of(view.json) == token {
            Effect::None
        } else if self.edit(fields).set(fields, field, token) {
            Effect::Changed
        } else {
            Effect::Failed
        }
    }
}

/// A token that is to be replaced: where it stands, and where its replacement stands in [`Buffers::token`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Edit {
    pub(crate) start: usize,
    pub(crate) end: usize,
    pub(crate) token: (usize, usize),
}

/// Buffers that steps reuse from event to event, and what they leave for the batch.
#[derive(Debug, Default)]
pub(crate) struct Buffers {
    /// For texts that must be unescaped.
    pub(crate) text: Vec<u8>,
    /// The key that [`StepContext::key`] writes.
    pub(crate) key: Vec<u8>,
    /// JSON that is to be written.
    pub(crate) token: Vec<u8>,
    pub(crate) edits: Vec<Edit>,
    pub(crate) masked: Vec<u8>,
    /// What is found in a text that is to be masked: where it begins and ends, and what found it.
    pub(crate) findings: Vec<(usize, usize, usize)>,
    pub(crate) found: Found,
    pub(crate) extract: rockrose_extract::Buffers,
    /// For what a window's id is made of.
    pub(crate) window: Vec<u8>,
    /// When the batch came, in milliseconds since 1970, and the same as RFC 3339 once somebody asked.
    pub(crate) now_ms: i64,
    pub(crate) now_text: String,
    /// The number of this batch, which no other has.
    pub(crate) batch: u64,
    /// What windows let go in this batch: it goes on once the present event is done.
    pub(crate) released: Vec<WindowState>,
    /// The windows that this batch touched: the number of the step's windows, and the window's id. Some may stand there twice.
    pub(crate) touched: Vec<(u32, u128)>,
    pub(crate) metrics: HashMap<Series, Added>,
    /// The first step of the present list that could not do its work on the present event, from 0.
    pub(crate) failed: Option<usize>,
    /// Tells nanoseconds, if steps are to be timed.
    pub(crate) clock: Option<fn() -> u64>,
    /// What the batch did, by the values of tags.
    pub(crate) by_tag: TagTally,
    /// Keeps some of what goes on behind each step, in a trial that asks for it.
    pub(crate) behind: Option<Box<BehindSteps>>,
}

/// Where a list of steps stands.
#[derive(Clone, Copy)]
pub(crate) struct ListPlace<'a> {
    /// The source whose batch it is.
    pub(crate) source: &'a str,
    pub(crate) stage: Stage,
    /// The name of the source, route or destination.
    pub(crate) name: &'a str,
    /// At a route, the source that the event came from; at a destination, the route.
    pub(crate) via: &'a str,
    /// Where its accounts begin in the [`TagTally`].
    pub(crate) accounts: u32,
}

/// What one step may look at and use while it runs.
pub(crate) struct StepContext<'a> {
    pub(crate) shared: &'a Shared,
    pub(crate) buffers: &'a mut Buffers,
    pub(crate) tally: &'a mut StepTally,
    pub(crate) place: ListPlace<'a>,
    /// Its place in its list, from 0.
    pub(crate) position: usize,
    pub(crate) sentence: &'a str,
}

impl Buffers {
    /// Counts an amount at an account by the values that an event has of the tags now.
    #[inline]
    pub(crate) fn count_by_tag(&mut self, shared: &Shared, account: u32, view: EventView<'_>, values: &mut TagValues, amount: Amount) {
        if !shared.tags.fields.is_empty() {
            if !values.are_known() {
                self.by_tag.look(shared, view, &mut self.text, values);
            }
            self.by_tag.count(account, *values, amount);
        }
    }
}

impl StepContext<'_> {
    /// Counts what the step did to the event at hand: the bytes that it saved.
    pub(crate) fn count_changed(&mut self, event: &mut EventDraft<'_>, retags: bool, amount: Amount) {
        self.tally.changed += amount;
        if retags {
            event.values.forget();
        }
        if self.shared.tags.fields.is_empty() {
            return;
        }
        if !event.values.are_known() {
            let mut values = event.values;
            self.buffers.by_tag.look(self.shared, event.view(), &mut self.buffers.text, &mut values);
            event.values = values;
        }
        self.buffers.by_tag.count(by_tag::changed(self.place.accounts, self.position), event.values, amount);
    }

    /// Counts what the step removes, an event that is no longer at hand: its JSON.
    pub(crate) fn count_removed(&mut self, json: &[u8], amount: Amount) {
        self.tally.removed += amount;
        let mut slots = Vec::new();
        if !self.shared.tags.fields.is_empty() && scan::scan_edited(json, &self.shared.fields, &mut slots).is_ok() {
            let view = EventView { json, slots: &slots, arrived_ms: self.buffers.now_ms };
            let account = by_tag::removed(self.place.accounts, self.position);
            self.buffers.count_by_tag(self.shared, account, view, &mut TagValues::UNKNOWN.clone(), amount);
        }
    }

    /// Whether `expression` holds of the event.
    pub(crate) fn holds(&mut self, expression: &Expression, event: &EventDraft<'_>) -> bool {
        self.shared.tests.holds(expression, event.view(), &self.shared.fields, &mut self.buffers.text, &mut None)
    }

    /// Writes the values of `by` to `buffers.key`, told apart; says whether the event has any of them.
    pub(crate) fn key(&mut self, by: &[FieldId], event: &EventDraft<'_>) -> bool {
        let view = event.view();
        let Buffers { key, text, .. } = &mut *self.buffers;
        key.clear();
        let mut any = false;
        for field in by {
            if let Some(value) = view.text(&self.shared.fields, *field, text) {
                key.extend_from_slice(value);
                any = true;
            }
            key.push(0x1f);
        }
        key.pop();
        any
    }

    /// How many events this one stands for.
    pub(crate) fn weight(&mut self, mark: FieldId, event: &EventDraft<'_>) -> f64 {
        let weight = event.view().text(&self.shared.fields, mark, &mut self.buffers.text);
        let weight = weight.and_then(|t| std::str::from_utf8(t).ok()?.parse::<f64>().ok());
        weight.filter(|w| w.is_finite() && *w >= 1.0).unwrap_or(1.0)
    }

    /// Where the step stands, for what must be found again after a restart.
    pub(crate) fn location(&self) -> StepLocation {
        let own = str::to_owned;
        let ListPlace { source, stage, name, via, .. } = self.place;
        StepLocation { source: own(source), stage, name: own(name), via: own(via), position: self.position as i32 + 1, sentence: own(self.sentence) }
    }
}
