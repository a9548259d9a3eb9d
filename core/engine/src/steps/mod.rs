//! Steps at work: the list of all of them, and how a list of steps runs over one event.
//!
//! Each step is one file: its compiled form, how it is made from its sentence's tree ([`Compile`]), and its run ([`RunStep`]) against the small
//! [`StepContext`]. To add one, write its file and add a line to the list in [`compile`].

mod aggregate;
mod assign;
mod convert;
mod dedupe;
mod filter;
mod join;
mod limit;
mod locate;
mod look_up;
mod merge;
mod pace;
mod parse;
mod redact;
mod rename;
mod resolve;
mod sample;
mod select;
mod trim;

use std::sync::Arc;

use rockrose_event::field::Path;
use rockrose_language::{Operation, Step};
use rockrose_ledger::Amount;

use crate::by_tag;
use crate::compile_context::{CompileContext, StepList};
use crate::context::{Buffers, EventDraft, ListPlace, Shared, StepContext};
use crate::effect::{Effect, StepTally};
use crate::expression::Expression;
use crate::window::Windows;

/// A step that runs. It may remember things from event to event, behind locks of its own.
pub(crate) trait RunStep: std::fmt::Debug + Send + Sync {
    /// Does its work on one event.
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect;

    /// Of the fields that it should mask, those that no event has had since the plan was applied, and among how many events. Empty, if it masks none.
    fn never_met(&self) -> (u64, Vec<Path>) {
        (0, Vec::new())
    }

    /// The windows in which it holds events back, if it does.
    fn windows(&self) -> Option<&Arc<Windows>> {
        None
    }
}

/// Makes what runs of a step's tree.
pub(crate) trait Compile {
    /// `at` is the list that the step stands in.
    fn compile(&self, c: &mut CompileContext<'_>, at: &mut StepList) -> Box<dyn RunStep>;
}

/// A compiled step.
#[derive(Debug)]
pub(crate) struct CompiledStep {
    pub(crate) step: Box<dyn RunStep>,
    pub(crate) when: Option<Expression>,
    /// Its canonical sentence, under which the ledger counts it.
    pub(crate) sentence: String,
    /// It can change a field by which the account is told apart.
    pub(crate) retags: bool,
}

/// Compiles one step of the list `at`.
pub(crate) fn compile(step: &Step, c: &mut CompileContext<'_>, at: &mut StepList) -> CompiledStep {
    let when = c.condition(step.when.as_ref());
    let run = match &step.operation {
        Operation::Keep(s) => s.compile(c, at),
        Operation::Drop(s) => s.compile(c, at),
        Operation::Sample(s) => s.compile(c, at),
        Operation::Limit(s) => s.compile(c, at),
        Operation::Redact(s) => s.compile(c, at),
        Operation::Tag(s) => s.compile(c, at),
        Operation::Set(s) => s.compile(c, at),
        Operation::Convert(s) => s.compile(c, at),
        Operation::Remove(s) => s.compile(c, at),
        Operation::Retain(s) => s.compile(c, at),
        Operation::Rename(s) => s.compile(c, at),
        Operation::Parse(s) => s.compile(c, at),
        Operation::LookUp(s) => s.compile(c, at),
        Operation::Locate(s) => s.compile(c, at),
        Operation::Resolve(s) => s.compile(c, at),
        Operation::Dedupe(s) => s.compile(c, at),
        Operation::Merge(s) => s.compile(c, at),
        Operation::Join(s) => s.compile(c, at),
        Operation::Trim(s) => s.compile(c, at),
        Operation::Count(s) => s.compile(c, at),
        Operation::Measure(s) => s.compile(c, at),
        Operation::Use(s) => unreachable!("the check puts the steps of the recipe {} in its place", s.recipe),
    };
    let retags = c.account_by.iter().any(|tag| step.operation.can_change(tag));
    CompiledStep { step: run, when, sentence: step.to_string(), retags }
}

/// How far an event came in a list of steps.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Passed {
    Through,
    /// Removed by the step at this place.
    Removed(usize),
    /// Held back by it.
    Held(usize),
}

/// A list of steps, where it stands, and what its steps did in this batch.
pub(crate) struct StepRun<'a> {
    pub(crate) steps: &'a [CompiledStep],
    pub(crate) place: ListPlace<'a>,
    pub(crate) tallies: &'a mut [StepTally],
}

impl StepRun<'_> {
    /// Runs the steps over one event, from the step at `from` on.
    pub(crate) fn run(self, event: &mut EventDraft<'_>, from: usize, shared: &Shared, buffers: &mut Buffers) -> Passed {
        let mut none = StepTally::default();
        buffers.failed = None;
        let mut c = StepContext { shared, buffers, tally: &mut none, place: self.place, position: 0, sentence: "" };
        for (i, (step, tally)) in self.steps.iter().zip(self.tallies).enumerate().skip(from) {
            (c.tally, c.position, c.sentence) = (tally, i, &step.sentence);
            let before = event.view().json.len();
            let began = c.buffers.clock.map(|clock| clock());
            let meets = step.when.as_ref().is_none_or(|when| c.holds(when, event));
            let effect = if meets { step.step.run(event, &mut c) } else { Effect::None };
            if let (Some(clock), Some(began)) = (c.buffers.clock, began) {
                c.tally.timed = (c.tally.timed.0 + 1, c.tally.timed.1 + clock().saturating_sub(began));
            }
            if let Some(behind) = c.buffers.behind.as_mut().filter(|_| !matches!(effect, Effect::Removed | Effect::Held)) {
                behind.see(c.place.stage, c.place.name, i + 1, event.view().json);
            }
            match effect {
                Effect::None => {}
                Effect::Removed => {
                    c.tally.removed.count(before);
                    let account = by_tag::removed(c.place.accounts, i);
                    let (view, amount) = (event.view(), Amount { events: 1, bytes: before as i64 });
                    let mut values = event.values;
                    c.buffers.count_by_tag(shared, account, view, &mut values, amount);
                    return Passed::Removed(i);
                }
                Effect::Held => return Passed::Held(i),
                Effect::Failed => {
                    c.buffers.failed.get_or_insert(i);
                    c.tally.failed.count(before);
                    // It may have been marked, or done in part.
                    let saved = before as i64 - event.view().json.len() as i64;
                    c.count_changed(event, step.retags, Amount { events: i64::from(saved != 0), bytes: saved });
                }
                Effect::Changed => {
                    let saved = before as i64 - event.view().json.len() as i64;
                    c.count_changed(event, step.retags, Amount { events: 1, bytes: saved });
                }
            }
        }
        Passed::Through
    }
}
