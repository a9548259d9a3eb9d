//! Samples of what the sources take, for whoever wants to know what is in there.
//!
//! A few times a second, some events of a body are captured where they leave the source's own steps. The sample is fed once the body is acknowledged, so that nobody waits for it.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use rockrose_engine::{Capture, CompiledPlan, Point, Scratch, Watch};
use rockrose_event::buffers::Buffer;
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_event::usual::Usual;
use rockrose_language::Place;
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;
use rockrose_survey::{Sample, Sampled};

/// Memory that all samples take together if nothing else is said, in bytes.
pub(crate) const BUDGET: usize = 32 << 20;
/// A body of a source is looked into so often, in milliseconds.
const EVERY: i64 = 200;
/// So many events of it at the most.
pub(crate) const OF_BODY: usize = 24;
/// So many events run through the plan at once, where it is asked which a route takes.
const AT_ONCE: usize = 500;

/// Events are forgotten after so long, in milliseconds: a day.
const FORGOTTEN: i64 = 24 * 3_600 * 1000;
/// It is looked so often which are that old, in milliseconds.
const LOOKED_AGAIN: i64 = 60_000;

struct Source {
    sample: Sample,
    forgot_ms: i64,
    looked_ms: i64,
    /// Events that came since, for which those of the next body will stand.
    waiting: u64,
}

/// The samples of all sources.
pub(crate) struct Samples {
    sources: Mutex<HashMap<String, Source>>,
    budget: usize,
}

impl Samples {
    pub(crate) fn new(budget: usize) -> Samples {
        Samples { sources: Mutex::default(), budget }
    }

    fn sources(&self) -> std::sync::MutexGuard<'_, HashMap<String, Source>> {
        self.sources.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether the body that a source has now is to be looked into.
    pub(crate) fn is_due(&self, source: &str, now: i64) -> bool {
        if self.budget == 0 {
            return false;
        }
        let mut sources = self.sources();
        if !sources.contains_key(source) {
            // An equal share for each.
            let budget = self.budget / (sources.len() + 1);
            sources.values_mut().for_each(|s| s.sample.set_budget(budget));
            sources.insert(source.to_owned(), Source { sample: Sample::new(budget), forgot_ms: now, looked_ms: i64::MIN, waiting: 0 });
        }
        let Some(of) = sources.get_mut(source) else { return false };
        let is_due = now.saturating_sub(of.looked_ms) >= EVERY || now < of.looked_ms;
        if is_due {
            of.looked_ms = now;
        }
        is_due
    }

    /// Forgets what the plan has no source for any more.
    pub(crate) fn keep_only(&self, plan: &CheckedPlan) {
        self.sources().retain(|name, _| plan.sources.iter().any(|source| source.name == *name));
    }

    /// A body of so many events was taken, and some of them were captured as they left the source's steps.
    pub(crate) fn took(&self, source: &str, events: u64, captures: &[&Capture], now: i64) {
        let mut sources = self.sources();
        let Some(of) = sources.get_mut(source) else { return };
        of.waiting += events;
        if now - of.forgot_ms >= LOOKED_AGAIN {
            of.forgot_ms = now;
            of.sample.forget_before(now - FORGOTTEN);
        }
        // What a step has removed or holds back stands for itself and is not shown.
        let captured = captures.len() as u64;
        if captured == 0 {
            return;
        }
        let mut usual = Usual::new(&[]);
        let (each, mut left) = (of.waiting / captured, of.waiting % captured);
        of.waiting = 0;
        for capture in captures {
            let times = each + u64::from(left > 0);
            left = left.saturating_sub(1);
            let Some(event) = &capture.after else { continue };
            // On one line each; a line break can only stand between its parts.
            let event: Vec<u8> = event.iter().map(|b| if matches!(b, b'\n' | b'\r') { b' ' } else { *b }).collect();
            usual.read(&event);
            let message = usual.message(&event).unwrap_or_default().to_vec();
            of.sample.add(&event, &message, now, times.max(1));
        }
    }

    /// The sample of a source.
    fn of(&self, source: &str) -> Vec<Sampled> {
        self.sources().get(source).map(|of| of.sample.events()).unwrap_or_default()
    }

    /// The events of the samples that are at a place of the plan, each with the source that it came by; nothing, if the place keeps none. Of a route or the remainder these are those that
    /// the plan gives it, of the samples of all sources.
    pub(crate) fn at(
        &self,
        place: &Place,
        plan: &CheckedPlan,
        key: HashKey,
        environment: &rockrose_engine::Environment,
        now: i64,
    ) -> Option<Vec<(String, Sampled)>> {
        if let Place::Source(name) = place {
            return Some(self.of(name).into_iter().map(|sampled| (name.clone(), sampled)).collect());
        }
        // They have left the sources' own steps.
        let mut plan = plan.clone();
        plan.sources.iter_mut().for_each(|source| source.on_arrival.clear());
        let compiled = CompiledPlan::within(&plan, key, environment);
        let point = match place {
            Place::Route(name) => Point::Route(compiled.route(name)?),
            Place::Remainder => Point::Remainder,
            _ => return None,
        };
        let watch = Watch::new(vec![point], AT_ONCE);
        let (mut scratch, mut found) = (Scratch::default(), Vec::new());
        for source in &plan.sources {
            let Some(number) = compiled.source(&source.name) else { continue };
            for some in self.of(&source.name).chunks(AT_ONCE) {
                let body = Buffer::from(some.iter().flat_map(|s| s.event.iter().copied().chain([b'\n'])).collect::<Vec<u8>>());
                let Ok(records) = split(&body, DeclaredFormat::Lines, usize::MAX) else { continue };
                // One line each, unless a sender writes line breaks into events.
                if records.len() != some.len() {
                    continue;
                }
                let outcome = compiled.process(number, &body, &records, now, Some(&watch), &mut scratch);
                for capture in outcome.captures.into_iter().filter(|capture| capture.point == point && capture.record > 0) {
                    if let Some(sampled) = some.get(capture.record as usize - 1) {
                        found.push((source.name.clone(), sampled.with(capture.before)));
                    }
                }
                scratch.take_back(outcome.lines, outcome.ends);
            }
        }
        Some(found)
    }
}
