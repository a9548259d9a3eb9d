//! One batch through the plan.

use super::compile::{CompiledPlan, Route, Source};
use super::index::Candidates;
use super::selection::Selection;
use super::steps::{Buffers, Do, Passage, StepTally};
use super::test::{Memo, View};
use super::work::Work;
use crate::json::{self, Span};
use crate::ledger::{Account, Amount, Measure, Place, Posting};
use crate::read::{Form, Record};

/// Buffers that one thread keeps from batch to batch.
#[derive(Debug, Default)]
pub struct Scratch {
    record: Vec<u8>,
    guide: json::Guide,
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
    /// As it went on; `None` if a step removed it.
    pub after: Option<Vec<u8>>,
    /// The sentence of the step that removed it.
    pub removed_by: Option<String>,
}

/// Lines of the batch that are due at one destination by one route.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The destination's name.
    pub destination: String,
    /// The route's name.
    pub route: String,
    /// Which lines.
    pub selection: Selection,
    /// How many events, of how many bytes (line ends not counted).
    pub amount: Amount,
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
}

struct Run<'a> {
    plan: &'a CompiledPlan,
    watch: Option<&'a Watch>,
    out: Outcome,
    /// The whole body is UTF-8, so each record is.
    utf8: bool,
    source: SourceTally,
    tallies: &'a mut Tallies,
}

fn tallies(steps: &[Do]) -> Vec<StepTally> {
    vec![StepTally::default(); steps.len()]
}

impl CompiledPlan {
    /// Runs the records of one body of `source` through its steps, its routes and their destinations' steps.
    #[must_use]
    pub fn process(&self, source: usize, body: &[u8], records: &[Record], watch: Option<&Watch>, scratch: &mut Scratch) -> Outcome {
        let from = &self.sources[source];
        let mut counted = std::mem::take(&mut scratch.tallies);
        counted.begin(self);
        let mut run = Run {
            plan: self,
            watch: watch.filter(|w| !w.points.is_empty()),
            out: Outcome::default(),
            source: SourceTally { steps: tallies(&from.steps), ..SourceTally::default() },
            utf8: simdutf8::basic::from_utf8(body).is_ok(),
            tallies: &mut counted,
        };
        (run.out.lines, run.out.ends) = std::mem::take(&mut scratch.lines);
        run.out.lines.reserve(body.len());
        for record in records {
            let raw = &body[record.start as usize..record.end as usize];
            if run.out.lines.len() > MAX_LINES {
                run.out.overflowed = true;
                break;
            }
            run.out.received.count(raw.len());
            if let Err(reason) = run.event(source, from, body, raw, record, scratch) {
                run.source.quarantined.count(raw.len());
                run.out.quarantined.push(Quarantined { number: record.number, range: record.start as usize..record.end as usize, reason });
            }
        }
        let out = run.finish(from);
        scratch.tallies = counted;
        out
    }
}

impl Run<'_> {
    fn event(&mut self, source: usize, from: &Source, body: &[u8], raw: &[u8], at: &Record, scratch: &mut Scratch) -> Result<(), String> {
        let form = at.form;
        let Scratch { record, guide, slots, memo, candidates, arrival, route, always, buffers, .. } = scratch;
        if let Form::Unreadable(reason) = form {
            return Err(reason.to_owned());
        }
        if !self.utf8
            && let Err(e) = std::str::from_utf8(raw)
        {
            return Err(format!("not UTF-8 at byte {}", e.valid_up_to()));
        }
        let (json, duplicates) = match form {
            Form::Object => {
                let scanned = json::scan_record(body, at.start as usize..at.end as usize, &self.plan.fields, guide, slots).map_err(|e| e.to_string())?;
                if scanned.end != raw.len() {
                    return Err(format!("text after the end of the object at byte {}", scanned.end));
                }
                if scanned.breaks {
                    record.clear();
                    json::minify(raw, record);
                    json::scan(record, &self.plan.fields, slots).map_err(|e| e.to_string())?;
                    (&record[..], scanned.duplicates)
                } else {
                    (raw, scanned.duplicates)
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
                json::scan(record, &self.plan.fields, slots).map_err(|e| e.to_string())?;
                (&record[..], false)
            }
            Form::Unreadable(_) => unreachable!("answered above"),
        };
        self.out.read.count(raw.len());
        if json.len() != raw.len() {
            self.source.rewritten.events += 1;
            self.source.rewritten.bytes += raw.len() as i64 - json.len() as i64;
        }

        let mut passage = Passage { base: View { json, slots }, duplicates, work: arrival, changed: false };
        let removed = passage.run(self.plan, &from.steps, &mut self.source.steps, buffers);
        self.capture(Point::Source(source), json, &passage, removed, &from.steps);
        if removed.is_some() {
            return Ok(());
        }
        let arrived = passage.view();
        let duplicates = duplicates && !passage.changed;
        self.source.passed.count(arrived.json.len());

        memo.next_event(&self.plan.tests);
        let mut shared_line = None;
        self.plan.index.find(&from.rules, arrived, &self.plan.fields, &self.plan.tests, &mut buffers.text, memo, candidates);
        for number in &candidates.routes {
            let number = *number as usize;
            self.take(number, &self.plan.routes[number], arrived, duplicates, &mut shared_line, route, always, buffers);
        }
        if !candidates.routes.is_empty() {
            self.source.routed.count(arrived.json.len());
            return Ok(());
        }
        self.source.remainder.count(arrived.json.len());
        if self.watches(Point::Remainder) {
            self.out.captures.push(Capture { point: Point::Remainder, before: arrived.json.to_vec(), after: Some(arrived.json.to_vec()), removed_by: None });
        }
        for &number in &from.remainder_routes {
            let through = &self.plan.routes[number];
            self.take(number, through, arrived, duplicates, &mut shared_line, route, always, buffers);
        }
        Ok(())
    }

    #[expect(clippy::too_many_arguments, reason = "the buffers are borrowed apart from one another")]
    fn take(
        &mut self,
        number: usize,
        through: &Route,
        arrived: View<'_>,
        duplicates: bool,
        shared: &mut Option<u32>,
        work: &mut Work,
        last: &mut Work,
        buffers: &mut Buffers,
    ) {
        let tally = &mut self.tallies.routes[number];
        if tally.taken.events == 0 {
            self.tallies.touched.push(number as u32);
        }
        tally.taken.count(arrived.json.len());
        let mut passage = Passage { base: arrived, duplicates, work, changed: false };
        let removed = passage.run(self.plan, &through.steps, &mut self.tallies.routes[number].steps, buffers);
        self.capture(Point::Route(number), arrived.json, &passage, removed, &through.steps);
        if removed.is_some() {
            return;
        }
        let shaped = passage.view();
        let duplicates = duplicates && !passage.changed;
        self.tallies.routes[number].out.count(shaped.json.len());
        let mut own_line = None;
        // What no step changed is one line for all routes; what this route changed, one for all its destinations.
        let line = if passage.changed { &mut own_line } else { shared };
        for (i, &to) in through.to.iter().enumerate() {
            let branch = through.branch + i;
            let steps = &self.plan.destinations[to].steps;
            self.tallies.routes[number].copies.count(shaped.json.len());
            self.tallies.branches[branch].offered.count(shaped.json.len());
            let mut passage = Passage { base: shaped, duplicates, work: last, changed: false };
            let removed = passage.run(self.plan, steps, &mut self.tallies.branches[branch].steps, buffers);
            self.capture(Point::Destination(to), shaped.json, &passage, removed, steps);
            if removed.is_some() {
                continue;
            }
            let leaving = passage.view().json;
            let at = if passage.changed { self.out.line(leaving) } else { *line.get_or_insert_with(|| self.out.line(leaving)) };
            let tally = &mut self.tallies.branches[branch];
            tally.enqueued.count(leaving.len());
            tally.selection.push(at);
        }
    }

    fn watches(&self, point: Point) -> bool {
        self.watch.is_some_and(|w| w.points.contains(&point) && self.out.captures.iter().filter(|c| c.point == point).count() < w.most)
    }

    #[inline]
    fn capture(&mut self, point: Point, before: &[u8], passage: &Passage<'_>, removed: Option<usize>, steps: &[Do]) {
        if self.watch.is_some() && self.watches(point) {
            let after = removed.is_none().then(|| passage.view().json.to_vec());
            let removed_by = removed.map(|i| steps[i].sentence.clone());
            self.out.captures.push(Capture { point, before: before.to_vec(), after, removed_by });
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
    fn line(&mut self, json: &[u8]) -> u32 {
        self.lines.extend_from_slice(json);
        self.lines.push(b'\n');
        self.ends.push(self.lines.len() as u32);
        (self.ends.len() - 1) as u32
    }
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
        }
    }
}
