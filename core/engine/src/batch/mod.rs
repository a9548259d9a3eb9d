//! Batches through a plan: one body's records, or what windows let go.

mod outcome;
mod run;
mod scratch;
mod tally;

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU64, Ordering};

use rockrose_event::record::Record;
use rockrose_ledger::{Stage, WindowChange, WindowState};

pub use outcome::{Capture, MAX_LINES, Outcome, Point, Quarantined, StepTime, Watch, spilled_from};
pub use scratch::Scratch;

use crate::compile::CompiledPlan;
use run::Run;
use tally::{SourceTally, tallies};

/// Where and when the events of a batch came.
struct Came<'a> {
    source: usize,
    now_ms: i64,
    /// Of each of its records, where they did not come together.
    times: Option<&'a [i64]>,
}

impl CompiledPlan {
    /// Runs the records of one body of `source`, which came at `now_ms` (milliseconds since 1970), through its steps, its routes and their destinations' steps.
    ///
    /// Where [`CompiledPlan::windows_of`] the source are any, nobody else may touch those windows from this call until its outcome is durable, or undone by
    /// [`CompiledPlan::restore`].
    #[must_use]
    pub fn process(&self, source: usize, body: &[u8], records: &[Record], now_ms: i64, watch: Option<&Watch>, scratch: &mut Scratch) -> Outcome {
        self.batch(&Came { source, now_ms, times: None }, watch, scratch, |run, scratch| run.body(body, records, scratch))
    }

    /// As [`CompiledPlan::process`], for records that did not come together: `times_ms` has the time of each.
    #[must_use]
    pub fn process_timed(&self, source: usize, body: &[u8], records: &[Record], times_ms: &[i64], watch: Option<&Watch>, scratch: &mut Scratch) -> Outcome {
        let came = Came { source, now_ms: times_ms.first().copied().unwrap_or(0), times: Some(times_ms) };
        self.batch(&came, watch, scratch, |run, scratch| run.body(body, records, scratch))
    }

    /// Whether any step holds events back.
    #[must_use]
    pub fn holds_back(&self) -> bool {
        !self.windows.is_empty()
    }

    /// How many steps hold events back; their windows are numbered from 0, in the order of an event's way.
    #[must_use]
    pub fn window_count(&self) -> usize {
        self.windows.len()
    }

    /// The numbers of the windows that events of `source` can reach, rising.
    #[must_use]
    pub fn windows_of(&self, source: usize) -> &[usize] {
        &self.sources[source].windows
    }

    /// The numbers of the windows that may be touched when those of number `windows` let go, rising, its own among them.
    #[must_use]
    pub fn windows_from(&self, windows: usize) -> Vec<usize> {
        let reaching = self.sources.iter().filter(|source| source.windows.contains(&windows));
        let mut behind: Vec<usize> = reaching.flat_map(|source| source.windows.iter().copied()).filter(|w| *w >= windows).collect();
        behind.sort_unstable();
        behind.dedup();
        behind
    }

    /// Whether any of the windows of number `windows` is due at `now_ms`; without a time, whether they hold anything.
    #[must_use]
    pub fn any_due(&self, windows: usize, now_ms: Option<i64>) -> bool {
        self.windows[windows].lock().any_due(now_ms)
    }

    /// Closes the windows of all steps that are due at `now_ms` (all of them, with `all`) and sends on what they held; outcomes in the order in which they are
    /// to be kept, each with its source. Nobody else may touch any windows meanwhile; see [`CompiledPlan::release_windows`] for those of one step.
    #[must_use]
    pub fn release(&self, now_ms: i64, all: bool, scratch: &mut Scratch) -> Vec<(String, Outcome)> {
        // What one lets go may go into one further on its way, and must go on from there as well.
        (0..self.windows.len()).flat_map(|windows| self.release_windows(windows, now_ms, all, scratch)).collect()
    }

    /// Closes those of the windows of number `windows` that are due at `now_ms` (all of them, with `all`) and sends on what they held; outcomes in the order
    /// in which they are to be kept, each with its source.
    ///
    /// What they let go may go into windows further on its way, and is let go there by a later call. Nobody else may touch [`CompiledPlan::windows_from`]
    /// these from this call until all its outcomes are durable, or undone.
    #[must_use]
    pub fn release_windows(&self, windows: usize, now_ms: i64, all: bool, scratch: &mut Scratch) -> Vec<(String, Outcome)> {
        let mut by_source: BTreeMap<usize, Vec<(u128, WindowState)>> = BTreeMap::new();
        for (id, state) in self.windows[windows].lock().due((!all).then_some(now_ms)) {
            // Windows are opened and restored under sources of this plan only.
            if let Some(source) = self.source(&state.location.source) {
                by_source.entry(source).or_default().push((id, state));
            }
        }
        let number = windows as u32;
        let send_on = |(source, held): (usize, Vec<(u128, WindowState)>)| {
            let outcome = self.batch(&Came { source, now_ms, times: None }, None, scratch, |run, scratch| run.let_go(number, held, scratch));
            (self.sources[source].name.clone(), outcome)
        };
        by_source.into_iter().map(send_on).collect()
    }

    /// Makes the windows of all steps hold what was kept before a restart, and nothing else. Returns what has no step in this plan any more.
    #[must_use]
    pub fn restore(&self, kept: Vec<(u128, WindowState)>) -> Vec<(u128, WindowState)> {
        self.windows.iter().for_each(|windows| windows.lock().clear());
        let mut strangers = Vec::new();
        for (id, state) in kept {
            match self.window_of(&state) {
                Some(number) => self.windows[number].lock().restore(id, state),
                None => strangers.push((id, state)),
            }
        }
        strangers
    }

    /// Makes the windows numbered in `windows` hold what was kept before a failed commit, and nothing else. What is kept of other windows is left alone.
    pub fn restore_windows(&self, windows: &[usize], kept: Vec<(u128, WindowState)>) {
        windows.iter().for_each(|number| self.windows[*number].lock().clear());
        for (id, state) in kept {
            if let Some(number) = self.window_of(&state).filter(|number| windows.contains(number)) {
                self.windows[number].lock().restore(id, state);
            }
        }
    }

    /// The number of the windows that a state belongs to, if its step is still part of the plan.
    fn window_of(&self, state: &WindowState) -> Option<usize> {
        let at = &state.location;
        self.source(&at.source)?;
        let steps = match at.stage {
            Stage::Source => &self.sources[self.source(&at.name)?].steps,
            Stage::Route => &self.routes[self.route(&at.name)?].steps,
            Stage::Destination => {
                let (route, to) = (self.route(&at.via)?, self.destination(&at.name)?);
                self.routes[route].to.iter().find(|t| **t == to)?;
                &self.destinations[to].steps
            }
        };
        let step = steps.get(usize::try_from(at.position - 1).ok()?).filter(|step| step.sentence == at.sentence)?;
        step.step.windows().map(|windows| windows.number())
    }

    /// One batch: what `work` does with a run, accounted for.
    fn batch<'a>(&'a self, came: &Came<'a>, watch: Option<&'a Watch>, scratch: &mut Scratch, work: impl FnOnce(&mut Run<'_>, &mut Scratch)) -> Outcome {
        let Came { source, now_ms, times } = *came;
        static BATCHES: AtomicU64 = AtomicU64::new(1);
        let from = &self.sources[source];
        let mut tallies = std::mem::take(&mut scratch.tallies);
        tallies.begin(self);
        scratch.buffers.batch = BATCHES.fetch_add(1, Ordering::Relaxed);
        scratch.buffers.now_ms = now_ms;
        scratch.buffers.now_text.clear();
        scratch.buffers.by_tag.begin(&self.shared, scratch.buffers.batch + 1);
        scratch.buffers.clock = watch.and_then(|watch| watch.clock);
        let mut run = Run {
            plan: self,
            from,
            number: source,
            watch: watch.filter(|w| !w.points.is_empty()).map(|w| w.points.clone()),
            out: Outcome::default(),
            source: SourceTally { steps: self::tallies(&from.steps), ..SourceTally::default() },
            utf8: false,
            tallies: &mut tallies,
            received: None,
            received_line: None,
            record: 0,
            times,
        };
        (run.out.lines, run.out.ends) = std::mem::take(&mut scratch.lines);
        work(&mut run, scratch);
        let mut out = run.finish(from, &mut scratch.buffers.by_tag);
        out.windows = self.touched(&mut scratch.buffers.touched);
        out.metrics = scratch.buffers.metrics.drain().collect();
        out.metrics.sort_by(|(a, _), (b, _)| a.cmp(b));
        scratch.tallies = tallies;
        out
    }

    /// How the windows stand that a batch touched, each copied once.
    fn touched(&self, touched: &mut Vec<(u32, u128)>) -> Vec<WindowChange> {
        touched.sort_unstable();
        touched.dedup();
        touched.drain(..).map(|(windows, id)| WindowChange { id, state: self.windows[windows as usize].lock().get(id).cloned() }).collect()
    }
}
