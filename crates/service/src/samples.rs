//! Samples of what the sources take, for whoever wants to know what is in there.
//!
//! A few times a second, some events of a body are captured where they leave the source's own steps. The sample is fed once the body is acknowledged, so that nobody waits for it.
//!
//! Beside that, now and then, all events of all sources are kept for up to a minute: what a step does that looks at the events around one can only be tried on such a stretch.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use rockrose_engine::{Capture, CompiledPlan, Point, Scratch, Watch};
use rockrose_event::buffers::Buffer;
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_event::usual::Usual;
use rockrose_language::{Place, Step};
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;
use rockrose_survey::{Sample, Sampled};

use crate::kept_samples::KeptEvent;

/// Memory that all samples take together if nothing else is said, in bytes.
pub(crate) const BUDGET: usize = 32 << 20;
/// A body of a source is looked into so often, in milliseconds.
const EVERY: i64 = 200;
/// So many events of it at the most.
const OF_BODY: usize = 96;
/// They are drawn of so many events behind one another, which stand anywhere in the body.
pub(crate) const LOOKED_AT: usize = 4 * OF_BODY;
/// So many events run through the plan at once, where it is asked which a route takes.
const AT_ONCE: usize = 500;

/// Events are forgotten after so long, in milliseconds: a day.
const FORGOTTEN: i64 = 24 * 3_600 * 1000;
/// It is looked so often which are that old, in milliseconds.
const LOOKED_AGAIN: i64 = 60_000;

/// What stretches take of the memory of samples: the one that is kept, and the one that is being gathered.
const SHARE_OF_STRETCHES: usize = 4;
/// A stretch is so long at the most, in milliseconds.
const STRETCH: i64 = 60_000;
/// The next one is begun so long after it, in milliseconds.
const BETWEEN: i64 = 60_000;

/// What of a body is wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    Nothing,
    Some,
    All,
}

/// An event of a stretch.
#[derive(Clone, Debug)]
pub(crate) struct Consecutive {
    pub(crate) source: String,
    pub(crate) event: Box<[u8]>,
    pub(crate) at_ms: i64,
}

/// All events of all sources from one moment to another, as they left the sources' steps.
#[derive(Clone, Debug, Default)]
pub(crate) struct Stretch {
    pub(crate) since_ms: i64,
    pub(crate) until_ms: i64,
    pub(crate) events: Vec<Consecutive>,
    bytes: usize,
}

#[derive(Default)]
struct Stretches {
    kept: Option<Arc<Stretch>>,
    gathered: Option<Stretch>,
}

impl Stretches {
    /// The stretch that is being gathered is over; one in which nothing came is none.
    fn end(&mut self, until_ms: i64) {
        if let Some(mut done) = self.gathered.take() {
            done.until_ms = until_ms;
            if !done.events.is_empty() || self.kept.is_none() {
                done.events.sort_by_key(|event| event.at_ms);
                self.kept = Some(Arc::new(done));
            }
        }
    }

    /// Whether a body that comes now is to be kept whole.
    fn wants(&mut self, now: i64) -> bool {
        if self.gathered.as_ref().is_some_and(|s| now - s.since_ms >= STRETCH || now < s.since_ms) {
            self.end(now);
        }
        if self.gathered.is_none() && self.kept.as_ref().is_none_or(|s| now - s.until_ms >= BETWEEN || now < s.since_ms) {
            self.gathered = Some(Stretch { since_ms: now, until_ms: now, ..Stretch::default() });
        }
        self.gathered.is_some()
    }

    fn add(&mut self, source: &str, captures: &[&Capture], now: i64, most: usize) {
        let Some(stretch) = self.gathered.as_mut().filter(|stretch| stretch.since_ms <= now) else { return };
        for event in captures.iter().filter_map(|capture| capture.after.as_ref()) {
            stretch.bytes += event.len() + BESIDE;
            stretch.events.push(Consecutive { source: source.to_owned(), event: on_one_line(event).into(), at_ms: now });
        }
        if stretch.bytes >= most {
            self.end(now);
        }
    }
}

/// What an event of a stretch takes beside its bytes, roughly.
const BESIDE: usize = 64;

/// An event on one line; a line break can only stand between its parts.
fn on_one_line(event: &[u8]) -> Vec<u8> {
    event.iter().map(|b| if matches!(b, b'\n' | b'\r') { b' ' } else { *b }).collect()
}

struct Source {
    sample: Sample,
    forgot_ms: i64,
    looked_ms: i64,
    /// Events that came since, for which those of the next body will stand.
    waiting: u64,
    /// How many were drawn.
    drawn: u64,
}

/// The samples of all sources.
pub(crate) struct Samples {
    sources: Mutex<HashMap<String, Source>>,
    stretches: Mutex<Stretches>,
    budget: usize,
}

/// At most as many as are taken of a body, from all over it: of each part of it one by chance, so that no regular order of events keeps in step with the choice.
fn drawn<'a>(captures: &[&'a Capture], seed: u64) -> Vec<&'a Capture> {
    let count = captures.len().min(OF_BODY);
    let part = |n: usize| {
        let (start, end) = (n * captures.len() / count, (n + 1) * captures.len() / count);
        captures[start + below(seed.wrapping_add(n as u64), end - start)]
    };
    (0..count).map(part).collect()
}

/// A number below `most`, by chance: the same for the same seed.
pub(crate) fn below(seed: u64, most: usize) -> usize {
    (xxhash_rust::xxh3::xxh3_64(&seed.to_le_bytes()) % most.max(1) as u64) as usize
}

impl Samples {
    pub(crate) fn new(budget: usize) -> Samples {
        Samples { sources: Mutex::default(), stretches: Mutex::default(), budget }
    }

    /// The memory for what is kept of single events.
    fn budget(&self) -> usize {
        self.budget - self.budget / SHARE_OF_STRETCHES
    }

    fn stretches(&self) -> std::sync::MutexGuard<'_, Stretches> {
        self.stretches.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The newest stretch of consecutive events: one that is over, unless there is none yet.
    pub(crate) fn stretch(&self, now: i64) -> Option<Arc<Stretch>> {
        let mut stretches = self.stretches();
        if self.budget > 0 {
            stretches.wants(now);
        }
        let gathered = || stretches.gathered.as_ref().filter(|s| !s.events.is_empty()).map(|s| Arc::new(Stretch { until_ms: now, ..s.clone() }));
        stretches.kept.clone().filter(|s| !s.events.is_empty()).or_else(gathered)
    }

    fn sources(&self) -> std::sync::MutexGuard<'_, HashMap<String, Source>> {
        self.sources.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A sample for a source that has none yet: an equal share of the memory for each.
    fn make_room(&self, sources: &mut HashMap<String, Source>, source: &str, now: i64) {
        if !sources.contains_key(source) {
            let budget = self.budget() / (sources.len() + 1);
            sources.values_mut().for_each(|s| s.sample.set_budget(budget));
            sources.insert(source.to_owned(), Source { sample: Sample::new(budget), forgot_ms: now, looked_ms: i64::MIN, waiting: 0, drawn: 0 });
        }
    }

    /// What is wanted of the body that a source has now.
    pub(crate) fn wanted(&self, source: &str, now: i64) -> Wanted {
        if self.budget == 0 {
            return Wanted::Nothing;
        }
        let is_due = self.is_due(source, now);
        match (self.stretches().wants(now), is_due) {
            (true, _) => Wanted::All,
            (false, true) => Wanted::Some,
            (false, false) => Wanted::Nothing,
        }
    }

    fn is_due(&self, source: &str, now: i64) -> bool {
        let mut sources = self.sources();
        self.make_room(&mut sources, source, now);
        let Some(of) = sources.get_mut(source) else { return false };
        let is_due = now.saturating_sub(of.looked_ms) >= EVERY || now < of.looked_ms;
        if is_due {
            of.looked_ms = now;
        }
        is_due
    }

    /// All of it, as it is kept over a restart: before each event a line that tells of it. Nothing, if there is none.
    pub(crate) fn kept(&self) -> Vec<u8> {
        let mut out = Vec::new();
        let mut add = |source: &str, at_ms: i64, times: u64, event: &[u8]| {
            // Writing to memory does not fail.
            let _ = serde_json::to_writer(&mut out, &KeptEvent { source: source.into(), at_ms, times });
            out.push(b'\n');
            out.extend_from_slice(event);
            out.push(b'\n');
        };
        let names: Vec<String> = self.sources().keys().cloned().collect();
        for name in names {
            self.of(&name).iter().for_each(|sampled| add(&name, sampled.at_ms, sampled.times, &sampled.event));
        }
        if let Some(stretch) = self.stretches().kept.clone() {
            stretch.events.iter().for_each(|event| add(&event.source, event.at_ms, 0, &event.event));
        }
        out
    }

    /// Takes back what was kept. What is too old is forgotten.
    pub(crate) fn take_back(&self, kept: &[u8], now: i64) {
        if self.budget == 0 {
            return;
        }
        let (mut usual, mut stretch) = (Usual::new(&[]), Stretch::default());
        let mut lines = kept.split(|b| *b == b'\n');
        while let (Some(head), Some(event)) = (lines.next(), lines.next()) {
            let Ok(KeptEvent { source, at_ms, times }) = serde_json::from_slice::<KeptEvent<'_>>(head) else { return };
            if at_ms < now - FORGOTTEN {
                continue;
            }
            if times == 0 {
                stretch.bytes += event.len() + BESIDE;
                stretch.events.push(Consecutive { source: source.into_owned(), event: event.into(), at_ms });
                continue;
            }
            self.make_room(&mut self.sources(), &source, now);
            usual.read(event);
            let message = usual.message(event).unwrap_or_default().to_vec();
            if let Some(of) = self.sources().get_mut(source.as_ref()) {
                of.sample.add(event, &message, at_ms, times);
            }
        }
        if let (Some(first), Some(last)) = (stretch.events.first(), stretch.events.last()) {
            (stretch.since_ms, stretch.until_ms) = (first.at_ms, last.at_ms);
            self.stretches().kept = Some(Arc::new(stretch));
        }
    }

    /// Forgets what the plan has no source for any more.
    pub(crate) fn keep_only(&self, plan: &CheckedPlan) {
        let is_sampled = |name: &str| plan.sources.iter().any(|source| source.sampled && source.name == name);
        self.sources().retain(|name, _| is_sampled(name));
        // What comes through other steps from now on is no continuation.
        let mut stretches = self.stretches();
        stretches.gathered = None;
        let all_sampled = |stretch: &Arc<Stretch>| stretch.events.iter().all(|event| is_sampled(&event.source));
        stretches.kept = stretches.kept.take().filter(all_sampled);
    }

    /// A body of so many events was taken, and some of them were captured as they left the source's steps.
    pub(crate) fn took(&self, source: &str, events: u64, wanted: Wanted, captures: &[&Capture], now: i64) {
        if wanted == Wanted::All {
            self.stretches().add(source, captures, now, self.budget / SHARE_OF_STRETCHES / 2);
        }
        let mut sources = self.sources();
        let Some(of) = sources.get_mut(source) else { return };
        of.waiting += events;
        if now.saturating_sub(of.forgot_ms) >= LOOKED_AGAIN {
            of.forgot_ms = now;
            of.sample.forget_before(now - FORGOTTEN);
        }
        // What a step has removed or holds back stands for itself and is not shown.
        let captures = drawn(captures, of.drawn);
        let captured = captures.len() as u64;
        if captured == 0 {
            return;
        }
        of.drawn = of.drawn.wrapping_add(OF_BODY as u64);
        let mut usual = Usual::new(&[]);
        let (each, mut left) = (of.waiting / captured, of.waiting % captured);
        of.waiting = 0;
        for capture in captures {
            let times = each + u64::from(left > 0);
            left = left.saturating_sub(1);
            let Some(event) = &capture.after else { continue };
            let event = on_one_line(event);
            usual.read(&event);
            let message = usual.message(&event).unwrap_or_default().to_vec();
            of.sample.add(&event, &message, now, times.max(1));
        }
    }

    /// The sample of a source.
    pub(crate) fn of(&self, source: &str) -> Vec<Sampled> {
        self.sources().get(source).map(|of| of.sample.events()).unwrap_or_default()
    }

    /// The events of the samples that are at a place of the plan, each with the source that it came by; nothing, if the place keeps none. Of a route or the remainder these are those that
    /// the plan gives it, of the samples of all sources; `leaving`, those that come through the route's steps, as they leave them. Steps whose work depends on the events between
    /// ([`depends_on_pace`](rockrose_engine::trial::depends_on_pace)), which are not in the sample, are passed over.
    pub(crate) fn at(
        &self,
        place: &Place,
        leaving: bool,
        plan: &CheckedPlan,
        key: HashKey,
        environment: &rockrose_engine::Environment,
        now: i64,
    ) -> Option<Vec<(String, Sampled)>> {
        if let Place::Source(name) = place {
            return Some(self.of(name).into_iter().map(|sampled| (name.clone(), sampled)).collect());
        }
        let mut plan = rockrose_engine::trial::behind_arrival(plan);
        if leaving {
            let with_gaps = |steps: &[Step]| plan.expanded(steps).into_iter().filter(|step| !rockrose_engine::trial::depends_on_pace(step)).collect();
            let of_route: Vec<Vec<Step>> = plan.routes.iter().map(|route| with_gaps(&route.steps)).collect();
            plan.routes.iter_mut().zip(of_route).for_each(|(route, steps)| route.steps = steps);
        }
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
                    let event = if leaving { capture.after } else { Some(capture.before) };
                    if let (Some(sampled), Some(event)) = (some.get(capture.record as usize - 1), event) {
                        found.push((source.name.clone(), sampled.with(event)));
                    }
                }
                scratch.take_back(outcome.lines, outcome.ends);
            }
        }
        Some(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn capture(n: usize) -> Capture {
        let event = format!("{{\"message\":\"gate {n} opens\"}}").into_bytes();
        Capture {
            point: Point::Source(0),
            before: event.clone(),
            after: Some(event),
            removed_by: None,
            held_by: None,
            failed_by: None,
            route: None,
            record: n as u32 + 1,
        }
    }

    #[test]
    fn what_was_kept_is_taken_back_and_the_old_is_forgotten() {
        let samples = Samples::new(1 << 20);
        let captures: Vec<Capture> = (0..40).map(capture).collect();
        let all: Vec<&Capture> = captures.iter().collect();
        let wanted = samples.wanted("gates", 1_000);
        assert_eq!(wanted, Wanted::All);
        samples.took("gates", 80, wanted, &all, 1_000);
        samples.wanted("gates", 1_000 + STRETCH);
        assert_eq!(samples.stretch(1_000 + STRETCH).map(|s| s.events.len()), Some(40));
        let kept = samples.kept();
        let again = Samples::new(1 << 20);
        again.take_back(&kept, 70_000);
        assert_eq!((again.of("gates").len(), again.of("gates").iter().map(|s| s.times).sum::<u64>()), (40, 80));
        assert_eq!(again.stretch(70_000).map(|s| s.events.len()), Some(40));
        assert_eq!(again.kept().len(), kept.len());
        let late = Samples::new(1 << 20);
        late.take_back(&kept, 2_000 + FORGOTTEN);
        assert!(late.of("gates").is_empty() && late.kept().is_empty());
        let off = Samples::new(0);
        off.take_back(&kept, 70_000);
        assert!(off.kept().is_empty() && off.wanted("gates", 0) == Wanted::Nothing);
        // What comes afterwards is added to it, and what was taken back is forgotten in its time.
        again.took("gates", 40, Wanted::Some, &all, 80_000);
        assert_eq!(again.of("gates").iter().map(|s| s.times).sum::<u64>(), 120);
        let later = 70_000 + FORGOTTEN;
        again.took("gates", 40, Wanted::Some, &all, later);
        assert!(again.of("gates").iter().all(|s| s.at_ms >= 80_000), "{:?}", again.of("gates"));
        // What is no sample is none.
        let again = Samples::new(1 << 20);
        again.take_back(&kept, 70_000);
        again.take_back(b"{\"source\":4}\nnothing", 70_000);
        assert_eq!(again.of("gates").len(), 40);
    }

    #[test]
    fn no_regular_order_of_events_keeps_in_step_with_the_choice() {
        let captures: Vec<Capture> = (0..LOOKED_AT).map(capture).collect();
        let all: Vec<&Capture> = captures.iter().collect();
        let mut counts = [0; 4];
        for seed in 0..50 {
            let some = drawn(&all, seed * OF_BODY as u64);
            assert_eq!(some.len(), OF_BODY);
            some.iter().for_each(|c| counts[c.record as usize % 4] += 1);
        }
        // Five standard deviations of draws that know nothing of one another, with n = 4 800 and p = 1/4.
        assert!(counts.iter().all(|n| (1_050..1_350).contains(n)), "{counts:?}");
    }
}
