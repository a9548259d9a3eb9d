//! One batch through the plan.

use std::collections::BTreeMap;

use rockrose_event::json::{self, Span};
use rockrose_event::record::{Form, Record};
use rockrose_event::scan;
use rockrose_ledger::{Account, Added, Amount, Entry, Measure, Place, Posting, Selection, Series, WindowChange, WindowState};

use super::compile::{CompiledPlan, Source};
use super::index::Candidates;
use super::steps::{At, Buffers, Do, Operation, Passage, Passed, StepTally};
use super::test::{Memo, View};
use super::window;
use super::work::Work;

/// Buffers that one thread keeps from batch to batch.
#[derive(Debug, Default)]
pub struct Scratch {
    record: Vec<u8>,
    guide: scan::Guide,
    slots: Vec<Span>,
    memo: Memo,
    candidates: Candidates,
    /// Room for the lines of the next outcome.
    lines: (Vec<u8>, Vec<u32>),
    tallies: Tallies,
    arrival: Work,
    route: Work,
    always: Work,
    buffers: Buffers,
}

/// Most room for lines that is kept from one batch to the next, in bytes.
const KEPT_ROOM: usize = 8 << 20;

impl Scratch {
    /// Takes back the room of an outcome's lines, so that the next batch need not ask for it again.
    pub fn take_back(&mut self, mut lines: Vec<u8>, mut ends: Vec<u32>) {
        if lines.capacity() <= KEPT_ROOM {
            lines.clear();
            ends.clear();
            self.lines = (lines, ends);
        }
    }
}

/// Where in the plan events can be looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Point {
    /// A source, by number: before and after its `on_arrival` steps.
    Source(usize),
    /// A route, by number: before and after its `do` steps.
    Route(usize),
    /// A destination, by number: before and after its `always` steps.
    Destination(usize),
    /// What no route took.
    Remainder,
}

/// Which points somebody is looking at.
#[derive(Clone, Debug, Default)]
pub struct Watch {
    points: Vec<Point>,
    most: usize,
}

impl Watch {
    /// Looks at another point as well.
    #[must_use]
    pub fn also(mut self, point: Point, most: usize) -> Watch {
        if !self.points.contains(&point) {
            self.points.push(point);
        }
        self.most = self.most.max(most);
        self
    }

    /// Looks at `points`, at the most `most` events of one batch at each.
    #[must_use]
    pub fn new(points: Vec<Point>, most: usize) -> Watch {
        Watch { points, most }
    }
}

/// An event seen at a point.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Capture {
    /// Where.
    pub point: Point,
    /// As it came there.
    pub before: Vec<u8>,
    /// As it went on; `None` if a step removed it or holds it back.
    pub after: Option<Vec<u8>>,
    /// The sentence of the step that removed it.
    pub removed_by: Option<String>,
    /// The sentence of the step that holds it back.
    pub held_by: Option<String>,
    /// The record of the body that it is, from 1; 0 of one that a window let go.
    pub record: u32,
}

/// A record that could not be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Quarantined {
    /// Which record of the body, from 1.
    pub number: u32,
    /// Where it stands in the body.
    pub range: std::ops::Range<usize>,
    /// Why: `reason at byte N`.
    pub reason: String,
}

/// What became of a batch. All of it is to be made durable together.
#[derive(Clone, Debug, Default)]
pub struct Outcome {
    /// The distinct events that leave, a line each.
    pub lines: Vec<u8>,
    /// Where each line ends in `lines`, its line end included.
    pub ends: Vec<u32>,
    /// What is due where.
    pub entries: Vec<Entry>,
    /// The account of it all.
    pub postings: Vec<Posting>,
    /// What could not be read.
    pub quarantined: Vec<Quarantined>,
    /// Records that came.
    pub received: Amount,
    /// Records that were read.
    pub read: Amount,
    /// What was seen at the watched points.
    pub captures: Vec<Capture>,
    /// How the windows stand that the batch touched. To be kept with the rest.
    pub held: Vec<WindowChange>,
    /// What is to be added to metrics.
    pub metrics: Vec<(Series, Added)>,
    /// The copies that routes made of this body came to more than [`MAX_LINES`]; the rest of it was not looked at, and nothing of it may be kept.
    pub overflowed: bool,
}

/// Most bytes of distinct lines that one body may become: 1 GB. Many routes that each change every event multiply a body.
pub const MAX_LINES: usize = 1_000_000_000;

#[derive(Debug, Default)]
struct SourceTally {
    rewritten: Amount,
    quarantined: Amount,
    passed: Amount,
    routed: Amount,
    remainder: Amount,
    steps: Vec<StepTally>,
}

#[derive(Debug, Default)]
struct RouteTally {
    touched: bool,
    taken: Amount,
    out: Amount,
    copies: Amount,
    steps: Vec<StepTally>,
}

#[derive(Debug, Default)]
struct BranchTally {
    offered: Amount,
    enqueued: Amount,
    selection: Selection,
    steps: Vec<StepTally>,
}

/// What a batch did at each route and branch. Kept from batch to batch, so that a plan of many routes costs a batch only those it touched.
#[derive(Debug, Default)]
struct Tallies {
    /// The plan they are for.
    plan: u64,
    routes: Vec<RouteTally>,
    branches: Vec<BranchTally>,
    touched: Vec<u32>,
}

impl Tallies {
    fn begin(&mut self, plan: &CompiledPlan) {
        if self.plan != plan.fields.stamp() || self.routes.len() != plan.routes.len() {
            self.plan = plan.fields.stamp();
            self.routes = plan.routes.iter().map(|r| RouteTally { steps: tallies(&r.steps), ..RouteTally::default() }).collect();
            let steps = |(route, place): &(usize, usize)| &plan.destinations[plan.routes[*route].to[*place]].steps;
            self.branches = plan.branches.iter().map(|b| BranchTally { steps: tallies(steps(b)), ..BranchTally::default() }).collect();
        }
        self.touched.clear();
    }

    /// Notes that something is to be posted for a route.
    fn touch(&mut self, number: usize) {
        if !std::mem::replace(&mut self.routes[number].touched, true) {
            self.touched.push(number as u32);
        }
    }
}

struct Run<'a> {
    plan: &'a CompiledPlan,
    /// The source whose batch it is, and its number.
    from: &'a Source,
    number: usize,
    watch: Option<&'a Watch>,
    out: Outcome,
    /// The whole body is UTF-8, so each record is.
    utf8: bool,
    source: SourceTally,
    tallies: &'a mut Tallies,
    /// The event as it was received, where that is asked for, unless it is one that a step put together.
    received: Option<Vec<u8>>,
    /// Its line, once it has one.
    received_line: Option<u32>,
    /// The record that is worked on, from 1; 0 while windows let go.
    record: u32,
}

fn tallies(steps: &[Do]) -> Vec<StepTally> {
    vec![StepTally::default(); steps.len()]
}

impl CompiledPlan {
    /// Runs the records of one body of `source`, which came at `now_ms` (milliseconds since 1970), through its steps, its routes and their destinations' steps.
    #[must_use]
    pub fn process(&self, source: usize, body: &[u8], records: &[Record], now_ms: i64, watch: Option<&Watch>, scratch: &mut Scratch) -> Outcome {
        self.batch(source, now_ms, watch, scratch, |run, scratch| {
            run.utf8 = simdutf8::basic::from_utf8(body).is_ok();
            run.out.lines.reserve(body.len());
            for record in records {
                let raw = &body[record.start as usize..record.end as usize];
                if run.out.lines.len() > MAX_LINES {
                    run.out.overflowed = true;
                    break;
                }
                run.out.received.count(raw.len());
                if let Err(reason) = run.event(body, raw, record, scratch) {
                    run.source.quarantined.count(raw.len());
                    run.out.quarantined.push(Quarantined { number: record.number, range: record.start as usize..record.end as usize, reason });
                }
                run.go_on(scratch);
            }
        })
    }

    /// Whether any step holds events back.
    #[must_use]
    pub fn holds_back(&self) -> bool {
        !self.windows.is_empty()
    }

    /// Closes the windows that are due at `now_ms` (all of them, with `all`) and sends on what they held; outcomes in the order in which they are to be kept, each with its source.
    #[must_use]
    pub fn release(&self, now_ms: i64, all: bool, scratch: &mut Scratch) -> Vec<(String, Outcome)> {
        let mut outcomes = Vec::new();
        // What one lets go may go into one further on its way, and must go on from there as well.
        for windows in &self.windows {
            let mut by_source: BTreeMap<usize, Vec<(u128, WindowState)>> = BTreeMap::new();
            for (id, held) in windows.lock().due((!all).then_some(now_ms)) {
                // Windows are opened and restored under sources of this plan only.
                if let Some(source) = self.source(&held.stand.source) {
                    by_source.entry(source).or_default().push((id, held));
                }
            }
            for (source, held) in by_source {
                let outcome = self.batch(source, now_ms, None, scratch, |run, scratch| run.let_go(held, scratch));
                outcomes.push((self.sources[source].name.clone(), outcome));
            }
        }
        outcomes
    }

    /// Takes back what windows held before a restart or a failed commit; forgets what they hold now. Returns what has no step in this plan any more.
    #[must_use]
    pub fn restore(&self, kept: Vec<(u128, WindowState)>) -> Vec<(u128, WindowState)> {
        self.windows.iter().for_each(|w| w.lock().clear());
        let mut strangers = Vec::new();
        for (id, held) in kept {
            match self.window_of(&held) {
                Some(window) => self.windows[window].lock().restore(id, held),
                None => strangers.push((id, held)),
            }
        }
        strangers
    }

    fn window_of(&self, held: &WindowState) -> Option<usize> {
        let stand = &held.stand;
        self.source(&stand.source)?;
        let steps = match stand.place {
            Place::Source => &self.sources[self.source(&stand.name)?].steps,
            Place::Route => &self.routes[self.route(&stand.name)?].steps,
            Place::Destination => {
                let (route, to) = (self.route(&stand.via)?, self.destination(&stand.name)?);
                self.routes[route].to.iter().find(|t| **t == to)?;
                &self.destinations[to].steps
            }
        };
        let step = steps.get(usize::try_from(stand.position - 1).ok()?).filter(|step| step.sentence == stand.sentence)?;
        match &step.operation {
            Operation::Merge { window, .. } | Operation::Join { window, .. } | Operation::Dedupe { window, .. } => Some(*window),
            _ => None,
        }
    }

    /// One batch: what `work` does with a run, accounted for.
    fn batch<'a>(
        &'a self,
        source: usize,
        now_ms: i64,
        watch: Option<&'a Watch>,
        scratch: &mut Scratch,
        work: impl FnOnce(&mut Run<'_>, &mut Scratch),
    ) -> Outcome {
        let from = &self.sources[source];
        let mut tallies = std::mem::take(&mut scratch.tallies);
        tallies.begin(self);
        scratch.buffers.now_ms = now_ms;
        let mut run = Run {
            plan: self,
            from,
            number: source,
            watch: watch.filter(|w| !w.points.is_empty()),
            out: Outcome::default(),
            source: SourceTally { steps: self::tallies(&from.steps), ..SourceTally::default() },
            utf8: false,
            tallies: &mut tallies,
            received: None,
            received_line: None,
            record: 0,
        };
        (run.out.lines, run.out.ends) = std::mem::take(&mut scratch.lines);
        work(&mut run, scratch);
        let mut out = run.finish(from);
        out.held = std::mem::take(&mut scratch.buffers.windows).into_iter().map(|(id, held)| WindowChange { id, held }).collect();
        out.metrics = scratch.buffers.metrics.drain().collect();
        out.metrics.sort_by(|(a, _), (b, _)| a.cmp(b));
        scratch.tallies = tallies;
        out
    }
}

impl Run<'_> {
    fn event(&mut self, body: &[u8], raw: &[u8], at: &Record, scratch: &mut Scratch) -> Result<(), String> {
        let form = at.form;
        self.record = at.number;
        let Scratch { record, guide, slots, .. } = scratch;
        if let Form::Unreadable(reason) = form {
            return Err(reason.to_owned());
        }
        if !self.utf8
            && let Err(e) = std::str::from_utf8(raw)
        {
            return Err(format!("not UTF-8 at byte {}", e.valid_up_to()));
        }
        let (is_record, duplicates) = match form {
            Form::Object => {
                let scanned = scan::scan_record(body, at.start as usize..at.end as usize, &self.plan.fields, guide, slots).map_err(|e| e.to_string())?;
                if scanned.end != raw.len() {
                    return Err(format!("text after the end of the object at byte {}", scanned.end));
                }
                if scanned.breaks {
                    record.clear();
                    scan::minify(raw, record);
                    scan::scan(record, &self.plan.fields, slots).map_err(|e| e.to_string())?;
                    (true, scanned.duplicates)
                } else {
                    (false, scanned.duplicates)
                }
            }
            Form::Text | Form::QuotedText => {
                record.clear();
                record.extend_from_slice(b"{\"message\":");
                if form == Form::Text {
                    json::quote(raw, record);
                } else {
                    record.extend_from_slice(raw);
                }
                record.push(b'}');
                scan::scan(record, &self.plan.fields, slots).map_err(|e| e.to_string())?;
                (true, false)
            }
            Form::Unreadable(_) => unreachable!("answered above"),
        };
        self.out.read.count(raw.len());
        let len = if is_record { record.len() } else { raw.len() };
        if len != raw.len() {
            self.source.rewritten.events += 1;
            self.source.rewritten.bytes += raw.len() as i64 - len as i64;
        }

        let (json_buffer, slot_buffer) = (std::mem::take(record), std::mem::take(slots));
        let json = if is_record { &json_buffer[..] } else { raw };
        if self.plan.keeps_received {
            (self.received, self.received_line) = (Some(json.to_vec()), None);
        }
        self.arrive(View { json, slots: &slot_buffer }, duplicates, 0, scratch);
        (scratch.record, scratch.slots) = (json_buffer, slot_buffer);
        Ok(())
    }

    /// Closes windows, and sends on what they held.
    fn let_go(&mut self, held: Vec<(u128, WindowState)>, scratch: &mut Scratch) {
        for (id, held) in held {
            scratch.buffers.windows.insert(id, None);
            if held.is_mark() {
                continue;
            }
            let (position, amount) = (held.stand.position as usize - 1, held.amount());
            if let Some(tally) = self.steps_of(&held).and_then(|steps| steps.get_mut(position)) {
                tally.held += Amount { events: -amount.events, bytes: -amount.bytes };
            }
            scratch.buffers.released.push(held);
            self.go_on(scratch);
        }
    }

    /// Sends on what windows let go, each from the step behind the one that held it. What it meets on its way may let go more.
    fn go_on(&mut self, scratch: &mut Scratch) {
        self.received = None;
        self.record = 0;
        while let Some(held) = scratch.buffers.released.pop() {
            let json = window::as_event(&held);
            let mut slots = Vec::new();
            let Ok(scanned) = scan::scan_edited(&json, &self.plan.fields, &mut slots) else {
                // What was held is an event, and so is what became of it.
                debug_assert!(false, "held events are JSON");
                continue;
            };
            // A name that stood twice still does: steps behind must reduce it as any other.
            let duplicates = scanned.duplicates;
            let (position, amount) = (held.stand.position as usize, held.amount());
            if let Some(tally) = self.steps_of(&held).and_then(|steps| steps.get_mut(position - 1)) {
                // The others of it are gone into this one.
                tally.removed += Amount { events: amount.events - 1, bytes: 0 };
                let saved = amount.bytes - json.len() as i64;
                tally.changed += Amount { events: i64::from(saved != 0), bytes: saved };
            }
            let view = View { json: &json, slots: &slots };
            let (route, destination) = (self.plan.route(&held.stand.name), self.plan.destination(&held.stand.name));
            match (held.stand.place, route, destination) {
                (Place::Source, ..) => self.arrive(view, duplicates, position, scratch),
                (Place::Route, Some(number), _) => self.take(number, view, duplicates, position, &mut None, scratch),
                (Place::Destination, _, Some(to)) => {
                    let place = self.plan.route(&held.stand.via).and_then(|r| Some((r, self.plan.routes[r].to.iter().position(|t| *t == to)?)));
                    if let Some((number, place)) = place {
                        self.leave(number, place, view, duplicates, position, &mut None, scratch);
                    }
                }
                // A window is only opened and restored where its step stands.
                _ => debug_assert!(false, "a window without its step"),
            }
        }
    }

    /// What the steps did in whose list a held event's step stands.
    fn steps_of(&mut self, held: &WindowState) -> Option<&mut [StepTally]> {
        match held.stand.place {
            Place::Source => Some(&mut self.source.steps),
            Place::Route => {
                let number = self.plan.route(&held.stand.name)?;
                self.tallies.touch(number);
                Some(&mut self.tallies.routes[number].steps)
            }
            Place::Destination => {
                let (number, to) = (self.plan.route(&held.stand.via)?, self.plan.destination(&held.stand.name)?);
                let route = &self.plan.routes[number];
                self.tallies.touch(number);
                Some(&mut self.tallies.branches[route.branch + route.to.iter().position(|t| *t == to)?].steps)
            }
        }
    }

    /// An event through its source's steps from place `from` on, and through its routes.
    fn arrive(&mut self, view: View<'_>, duplicates: bool, from: usize, scratch: &mut Scratch) {
        if self.from.steps.is_empty() && self.watch.is_none() {
            self.route(view, duplicates, scratch);
            return;
        }
        let mut arrival = std::mem::take(&mut scratch.arrival);
        let mut passage = Passage { base: view, duplicates, work: &mut arrival, changed: false };
        let at = At { source: &self.from.name, place: Place::Source, name: &self.from.name, via: "" };
        let passed = passage.run(self.plan, &self.from.steps, from, at, &mut self.source.steps, &mut scratch.buffers);
        self.capture(Point::Source(self.number), view.json, &passage, passed, &self.from.steps);
        if passed == Passed::Through {
            let duplicates = duplicates && !passage.changed;
            self.route(passage.view(), duplicates, scratch);
        }
        scratch.arrival = arrival;
    }

    fn route(&mut self, arrived: View<'_>, duplicates: bool, scratch: &mut Scratch) {
        self.source.passed.count(arrived.json.len());
        let Scratch { memo, candidates, buffers, .. } = scratch;
        memo.next_event(&self.plan.tests);
        self.plan.index.find(&self.from.rules, arrived, &self.plan.fields, &self.plan.tests, &mut buffers.text, memo, candidates);
        let mut shared_line = None;
        let routes = std::mem::take(&mut candidates.routes);
        for number in &routes {
            self.take(*number as usize, arrived, duplicates, 0, &mut shared_line, scratch);
        }
        let taken = !routes.is_empty();
        scratch.candidates.routes = routes;
        if taken {
            self.source.routed.count(arrived.json.len());
            return;
        }
        self.source.remainder.count(arrived.json.len());
        if self.watches(Point::Remainder) {
            self.out.captures.push(Capture {
                point: Point::Remainder,
                before: arrived.json.to_vec(),
                after: Some(arrived.json.to_vec()),
                removed_by: None,
                held_by: None,
                record: self.record,
            });
        }
        for &number in &self.from.remainder_routes {
            self.take(number, arrived, duplicates, 0, &mut shared_line, scratch);
        }
    }

    /// An event through a route's steps from place `from` on, and to its destinations.
    fn take(&mut self, number: usize, arrived: View<'_>, duplicates: bool, from: usize, shared: &mut Option<u32>, scratch: &mut Scratch) {
        let plan = self.plan;
        let through = &plan.routes[number];
        self.tallies.touch(number);
        if from == 0 {
            self.tallies.routes[number].taken.count(arrived.json.len());
        }
        if through.steps.is_empty() && self.watch.is_none() {
            self.send(number, arrived, duplicates, shared, scratch);
            return;
        }
        if through.direct && self.watch.is_none() {
            self.take_directly(number, arrived, duplicates, from, shared, scratch);
            return;
        }
        let mut work = std::mem::take(&mut scratch.route);
        let mut passage = Passage { base: arrived, duplicates, work: &mut work, changed: false };
        let at = At { source: &self.from.name, place: Place::Route, name: &through.name, via: &self.from.name };
        let passed = passage.run(plan, &through.steps, from, at, &mut self.tallies.routes[number].steps, &mut scratch.buffers);
        self.capture(Point::Route(number), arrived.json, &passage, passed, &through.steps);
        if passed == Passed::Through {
            let shaped = passage.view();
            let duplicates = duplicates && !passage.changed;
            let mut own_line = None;
            // What no step changed is one line for all routes; what this route changed, one for all its destinations.
            let line = if passage.changed { &mut own_line } else { shared };
            self.send(number, shaped, duplicates, line, scratch);
        }
        scratch.route = work;
    }

    /// The same for a route whose destinations have no steps of their own: what it changes is edited where it leaves.
    fn take_directly(&mut self, number: usize, arrived: View<'_>, duplicates: bool, from: usize, shared: &mut Option<u32>, scratch: &mut Scratch) {
        let plan = self.plan;
        let through = &plan.routes[number];
        let work = &mut scratch.route;
        work.begin_behind(&mut self.out.lines);
        let mut passage = Passage { base: arrived, duplicates, work, changed: false };
        let at = At { source: &self.from.name, place: Place::Route, name: &through.name, via: &self.from.name };
        let passed = passage.run(plan, &through.steps, from, at, &mut self.tallies.routes[number].steps, &mut scratch.buffers);
        let changed = passage.changed;
        let len = scratch.route.give_back(&mut self.out.lines, passed == Passed::Through && changed);
        if passed != Passed::Through {
            return;
        }
        let (line, len) = if changed { (self.out.line_ended(), len) } else { (*shared.get_or_insert_with(|| self.out.line(arrived.json)), arrived.json.len()) };
        let tally = &mut self.tallies.routes[number];
        tally.out.count(len);
        for branch in &mut self.tallies.branches[through.branch..through.branch + through.to.len()] {
            tally.copies.count(len);
            branch.offered.count(len);
            branch.enqueued.count(len);
            branch.selection.push(line);
        }
    }

    /// An event that a route has done with, to each of its destinations.
    fn send(&mut self, number: usize, shaped: View<'_>, duplicates: bool, line: &mut Option<u32>, scratch: &mut Scratch) {
        let plan = self.plan;
        let through = &plan.routes[number];
        self.tallies.routes[number].out.count(shaped.json.len());
        for (place, to) in through.to.iter().enumerate() {
            let destination = &plan.destinations[*to];
            if destination.as_received && self.received.is_some() {
                self.keep_as_received(number, place, shaped, line);
                continue;
            }
            self.tallies.routes[number].copies.count(shaped.json.len());
            let branch = &mut self.tallies.branches[through.branch + place];
            branch.offered.count(shaped.json.len());
            if destination.steps.is_empty() && self.watch.is_none() {
                let at = *line.get_or_insert_with(|| self.out.line(shaped.json));
                branch.enqueued.count(shaped.json.len());
                branch.selection.push(at);
            }
        }
        for (place, to) in through.to.iter().enumerate() {
            let destination = &plan.destinations[*to];
            let done = destination.as_received && self.received.is_some();
            if !done && (!destination.steps.is_empty() || self.watch.is_some()) {
                self.leave(number, place, shaped, duplicates, 0, line, scratch);
            }
        }
    }

    /// An event to a destination that gets it as it was received, whatever steps made of it.
    fn keep_as_received(&mut self, number: usize, place: usize, shaped: View<'_>, line: &mut Option<u32>) {
        let through = &self.plan.routes[number];
        let Some(received) = self.received.take() else { return };
        // What no step changed is the line that others get.
        let unchanged = received == shaped.json;
        let known = self.received_line.or(if unchanged { *line } else { None });
        let at = known.unwrap_or_else(|| self.out.line(&received));
        self.received_line = Some(at);
        if unchanged {
            *line = Some(at);
        }
        self.tallies.routes[number].copies.count(received.len());
        let branch = &mut self.tallies.branches[through.branch + place];
        branch.offered.count(received.len());
        branch.enqueued.count(received.len());
        branch.selection.push(at);
        let point = Point::Destination(through.to[place]);
        if self.watches(point) {
            self.out.captures.push(Capture {
                point,
                before: received.clone(),
                after: Some(received.clone()),
                removed_by: None,
                held_by: None,
                record: self.record,
            });
        }
        self.received = Some(received);
    }

    /// An event through the steps of a route's destination from place `from` on, and into its queue.
    #[expect(clippy::too_many_arguments, reason = "an event and where it is on its way")]
    fn leave(&mut self, number: usize, place: usize, shaped: View<'_>, duplicates: bool, from: usize, line: &mut Option<u32>, scratch: &mut Scratch) {
        let plan = self.plan;
        let through = &plan.routes[number];
        let (to, branch) = (through.to[place], through.branch + place);
        self.tallies.touch(number);
        let destination = &plan.destinations[to];
        let mut passage = Passage { base: shaped, duplicates, work: &mut scratch.always, changed: false };
        let at = At { source: &self.from.name, place: Place::Destination, name: &destination.name, via: &through.name };
        let passed = passage.run(plan, &destination.steps, from, at, &mut self.tallies.branches[branch].steps, &mut scratch.buffers);
        self.capture(Point::Destination(to), shaped.json, &passage, passed, &destination.steps);
        if passed != Passed::Through {
            return;
        }
        let leaving = passage.view().json;
        let at = if passage.changed { self.out.line(leaving) } else { *line.get_or_insert_with(|| self.out.line(leaving)) };
        let tally = &mut self.tallies.branches[branch];
        tally.enqueued.count(leaving.len());
        tally.selection.push(at);
    }

    fn watches(&self, point: Point) -> bool {
        self.watch.is_some_and(|w| w.points.contains(&point) && self.out.captures.iter().filter(|c| c.point == point).count() < w.most)
    }

    #[inline]
    fn capture(&mut self, point: Point, before: &[u8], passage: &Passage<'_>, passed: Passed, steps: &[Do]) {
        if self.watch.is_some() && self.watches(point) {
            let after = (passed == Passed::Through).then(|| passage.view().json.to_vec());
            let (removed_by, held_by) = match passed {
                Passed::Through => (None, None),
                Passed::Removed(i) => (Some(steps[i].sentence.clone()), None),
                Passed::Held(i) => (None, Some(steps[i].sentence.clone())),
            };
            self.out.captures.push(Capture { point, before: before.to_vec(), after, removed_by, held_by, record: self.record });
        }
    }

    fn finish(self, from: &Source) -> Outcome {
        let Run { plan, mut out, mut source, tallies, .. } = self;
        let mut post = Posts { postings: Vec::new(), place: Place::Source, name: &from.name, via: "" };
        post.add(Measure::Received, out.received);
        post.add(Measure::Read, out.read);
        post.add(Measure::Quarantined, source.quarantined);
        post.add(Measure::Rewritten, source.rewritten);
        post.steps(&from.steps, &mut source.steps);
        post.add(Measure::Passed, source.passed);
        post.add(Measure::Routed, source.routed);
        post.add(Measure::Remainder, source.remainder);
        tallies.touched.sort_unstable();
        for number in &tallies.touched {
            let (route, tally) = (&plan.routes[*number as usize], &mut tallies.routes[*number as usize]);
            tally.touched = false;
            (post.place, post.name, post.via) = (Place::Route, &route.name, &from.name);
            post.add(Measure::Taken, std::mem::take(&mut tally.taken));
            post.steps(&route.steps, &mut tally.steps);
            post.add(Measure::Out, std::mem::take(&mut tally.out));
            post.add(Measure::Copies, std::mem::take(&mut tally.copies));
        }
        for number in &tallies.touched {
            let route = &plan.routes[*number as usize];
            for (to, tally) in route.to.iter().zip(&mut tallies.branches[route.branch..]) {
                let destination = &plan.destinations[*to];
                (post.place, post.name, post.via) = (Place::Destination, &destination.name, &route.name);
                post.add(Measure::Offered, std::mem::take(&mut tally.offered));
                post.steps(&destination.steps, &mut tally.steps);
                let enqueued = std::mem::take(&mut tally.enqueued);
                post.add(Measure::Enqueued, enqueued);
                let selection = std::mem::take(&mut tally.selection);
                if !selection.is_empty() {
                    out.entries.push(Entry { destination: destination.name.clone(), route: route.name.clone(), selection, amount: enqueued });
                }
            }
        }
        out.postings = post.postings;
        out
    }
}

impl Outcome {
    /// Sends what is due at the destination `from` to `to` instead, and accounts for it at both. At `to` it counts as come from [`spilled_from`] it.
    pub fn spill(&mut self, from: &str, to: &str) {
        let via = spilled_from(from);
        for entry in self.entries.iter_mut().filter(|e| e.destination == from) {
            let spilled = Account::at_destination(from, &entry.route, Measure::Spilled);
            let came = [Measure::Offered, Measure::Enqueued].map(|measure| Account::at_destination(to, &via, measure));
            self.postings.extend([spilled].into_iter().chain(came).map(|account| Posting { account, amount: entry.amount }));
            (entry.destination, entry.route) = (to.to_owned(), via.clone());
        }
    }

    fn line(&mut self, json: &[u8]) -> u32 {
        self.lines.extend_from_slice(json);
        self.lines.push(b'\n');
        self.line_ended()
    }

    /// What stands behind the last line is one now.
    fn line_ended(&mut self) -> u32 {
        self.ends.push(self.lines.len() as u32);
        (self.ends.len() - 1) as u32
    }
}

/// What events that a destination spilled count as come from, in place of a route. No route can have such a name.
#[must_use]
pub fn spilled_from(destination: &str) -> String {
    format!("spilled by {destination}")
}

struct Posts<'a> {
    postings: Vec<Posting>,
    place: Place,
    name: &'a str,
    via: &'a str,
}

impl Posts<'_> {
    fn post(&mut self, position: usize, sentence: &str, measure: Measure, amount: Amount) {
        if !amount.is_zero() {
            let account = Account {
                place: self.place,
                name: self.name.to_owned(),
                via: self.via.to_owned(),
                position: position as i32,
                sentence: sentence.to_owned(),
                measure,
            };
            self.postings.push(Posting { account, amount });
        }
    }

    fn add(&mut self, measure: Measure, amount: Amount) {
        self.post(0, "", measure, amount);
    }

    /// Posts what the steps did, and forgets it.
    fn steps(&mut self, steps: &[Do], tallies: &mut [StepTally]) {
        for (i, (step, tally)) in steps.iter().zip(tallies).enumerate() {
            let tally = std::mem::take(tally);
            self.post(i + 1, &step.sentence, Measure::Removed, tally.removed);
            self.post(i + 1, &step.sentence, Measure::Changed, tally.changed);
            self.post(i + 1, &step.sentence, Measure::Failed, tally.failed);
            self.post(i + 1, &step.sentence, Measure::Held, tally.held);
        }
    }
}
