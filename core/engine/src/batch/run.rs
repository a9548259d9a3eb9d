//! One batch on its way through a plan.

use std::sync::Arc;

use rockrose_event::record::{Form, Record};
use rockrose_event::{json, scan};
use rockrose_ledger::{Amount, Entry, Measure, Stage, WindowState};

use super::outcome::{Capture, MAX_LINES, Outcome, Point, Quarantined, Watched};
use super::scratch::Scratch;
use super::tally::{Posts, SourceTally, Tallies};
use crate::by_tag::{self, TagTally, TagValues};
use crate::compile::{CompiledPlan, Source};
use crate::context::{EventDraft, ListPlace};
use crate::edit::EditBuffer;
use crate::effect::StepTally;
use crate::steps::{CompiledStep, Passed, StepRun};
use crate::view::EventView;
use crate::window;

pub(super) struct Run<'a> {
    pub(super) plan: &'a CompiledPlan,
    /// The source whose batch it is, and its number.
    pub(super) from: &'a Source,
    pub(super) number: usize,
    /// Where somebody looks, in order, with how many events are still wanted there; nothing, once nobody does.
    pub(super) watch: Option<Vec<Watched>>,
    pub(super) out: Outcome,
    /// The whole body is UTF-8, so each record is.
    pub(super) utf8: bool,
    pub(super) source: SourceTally,
    pub(super) tallies: &'a mut Tallies,
    /// The event as it was received, where that is asked for, unless it is one that a step put together.
    pub(super) received: Option<Vec<u8>>,
    /// Its line, once it has one.
    pub(super) received_line: Option<u32>,
    /// The record that is worked on, from 1; 0 while windows let go.
    pub(super) record: u32,
    /// When each record of the body came, where they did not come together.
    pub(super) times: Option<&'a [i64]>,
}

/// An event that comes to a list of steps.
#[derive(Clone, Copy)]
struct Coming<'a> {
    view: EventView<'a>,
    /// Some name stands in it twice.
    duplicates: bool,
    /// The step that it comes to, from 0: behind the one that held it, where one did.
    step: usize,
    /// Its values of the tags, as far as somebody has looked.
    values: TagValues,
}

impl<'a> Coming<'a> {
    /// The draft that the steps of a list work on, in `copy`.
    fn draft<'d>(self, copy: &'d mut EditBuffer) -> EventDraft<'d>
    where
        'a: 'd,
    {
        EventDraft { base: self.view, duplicates: self.duplicates, copy, changed: false, values: self.values }
    }
}

/// What is seen of an event at a list of steps.
#[derive(Clone, Copy)]
struct Seen {
    point: Point,
    /// At a destination, the route that it came by.
    route: Option<u32>,
    passed: Passed,
    failed: Option<usize>,
}

impl Run<'_> {
    /// All records of a body.
    pub(super) fn body(&mut self, body: &[u8], records: &[Record], scratch: &mut Scratch) {
        self.utf8 = simdutf8::basic::from_utf8(body).is_ok();
        self.out.lines.reserve(body.len());
        for (at, record) in records.iter().enumerate() {
            if let Some(time) = self.times.and_then(|times| times.get(at)) {
                scratch.buffers.now_ms = *time;
                scratch.buffers.now_text.clear();
            }
            let raw = &body[record.start as usize..record.end as usize];
            if self.out.lines.len() > MAX_LINES {
                self.out.overflowed = true;
                break;
            }
            self.out.received.count(raw.len());
            self.out.under_way.pass(&self.from.meters, raw.len());
            if let Err(reason) = self.event(body, raw, record, scratch) {
                self.source.quarantined.count(raw.len());
                self.out.quarantined.push(Quarantined { number: record.number, range: record.start as usize..record.end as usize, reason });
            }
            self.go_on(scratch);
        }
    }

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
                let scanned = scan::scan_record(body, at.start as usize..at.end as usize, &self.plan.shared.fields, guide, slots).map_err(|e| e.to_string())?;
                if scanned.end != raw.len() {
                    return Err(format!("text after the end of the object at byte {}", scanned.end));
                }
                if scanned.breaks {
                    record.clear();
                    scan::minify(raw, record);
                    scan::scan(record, &self.plan.shared.fields, slots).map_err(|e| e.to_string())?;
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
                scan::scan(record, &self.plan.shared.fields, slots).map_err(|e| e.to_string())?;
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
        self.arrive(
            Coming { view: EventView { json, slots: &slot_buffer, arrived_ms: scratch.buffers.now_ms }, duplicates, step: 0, values: TagValues::UNKNOWN },
            scratch,
        );
        (scratch.record, scratch.slots) = (json_buffer, slot_buffer);
        Ok(())
    }

    /// Sends on what the windows of that number held, which are closed.
    pub(super) fn let_go(&mut self, windows: u32, held: Vec<(u128, WindowState)>, scratch: &mut Scratch) {
        for (id, state) in held {
            scratch.buffers.touched.push((windows, id));
            if state.is_mark() {
                continue;
            }
            let (position, amount) = (state.location.position as usize - 1, state.amount());
            if let Some(tally) = self.steps_of(&state).and_then(|steps| steps.get_mut(position)) {
                tally.held += Amount { events: -amount.events, bytes: -amount.bytes };
            }
            scratch.buffers.released.push(state);
            self.go_on(scratch);
        }
    }

    /// Sends on what windows let go, each from the step behind the one that held it. What it meets on its way may let go more.
    fn go_on(&mut self, scratch: &mut Scratch) {
        self.received = None;
        self.record = 0;
        while let Some(state) = scratch.buffers.released.pop() {
            let json = window::as_event(&state);
            let mut slots = Vec::new();
            let Ok(scanned) = scan::scan_edited(&json, &self.plan.shared.fields, &mut slots) else {
                // What was held is an event, and so is what became of it.
                debug_assert!(false, "held events are JSON");
                continue;
            };
            let (at, amount) = (&state.location, state.amount());
            let position = at.position as usize;
            let view = EventView { json: &json, slots: &slots, arrived_ms: scratch.buffers.now_ms };
            let mut values = TagValues::UNKNOWN;
            let accounts = self.accounts_of(&state);
            if let Some(tally) = self.steps_of(&state).and_then(|steps| steps.get_mut(position - 1)) {
                // The others of it are gone into this one.
                let gone = Amount { events: amount.events - 1, bytes: 0 };
                let saved = amount.bytes - json.len() as i64;
                let saved = Amount { events: i64::from(saved != 0), bytes: saved };
                tally.removed += gone;
                tally.changed += saved;
                for (account, amount) in [(by_tag::removed(accounts, position - 1), gone), (by_tag::changed(accounts, position - 1), saved)] {
                    scratch.buffers.count_by_tag(&self.plan.shared, account, view, &mut values, amount);
                }
            }
            // A name that stood twice still does: steps behind must reduce it as any other.
            let coming = Coming { view, duplicates: scanned.duplicates, step: position, values };
            let (route, destination) = (self.plan.route(&at.name), self.plan.destination(&at.name));
            match (at.stage, route, destination) {
                (Stage::Source, ..) => self.arrive(coming, scratch),
                (Stage::Route, Some(number), _) => self.take(number, coming, &mut None, scratch),
                (Stage::Destination, _, Some(to)) => {
                    if let Some((number, place)) = self.branch(&at.via, to) {
                        self.leave(number, place, coming, &mut None, scratch);
                    }
                }
                // A window is only opened and restored where its step stands.
                _ => debug_assert!(false, "a window without its step"),
            }
        }
    }

    /// The route called `via`, and the place of the destination `to` among those that it goes to.
    fn branch(&self, via: &str, to: usize) -> Option<(usize, usize)> {
        let route = self.plan.route(via)?;
        Some((route, self.plan.routes[route].to.iter().position(|t| *t == to)?))
    }

    /// Where the accounts begin of the list in which a held event's step stands.
    fn accounts_of(&self, state: &WindowState) -> u32 {
        let at = &state.location;
        let number = match at.stage {
            Stage::Source => return self.from.accounts,
            Stage::Route => return self.plan.route(&at.name).map_or(0, |number| self.plan.routes[number].accounts),
            Stage::Destination => self.plan.destination(&at.name).and_then(|to| self.branch(&at.via, to)),
        };
        number.map_or(0, |(route, place)| self.plan.branch_accounts[self.plan.routes[route].branch + place])
    }

    /// What the steps did in whose list a held event's step stands.
    fn steps_of(&mut self, state: &WindowState) -> Option<&mut [StepTally]> {
        let at = &state.location;
        match at.stage {
            Stage::Source => Some(&mut self.source.steps),
            Stage::Route => {
                let number = self.plan.route(&at.name)?;
                self.tallies.touch(number);
                Some(&mut self.tallies.routes[number].steps)
            }
            Stage::Destination => {
                let (number, place) = self.branch(&at.via, self.plan.destination(&at.name)?)?;
                self.tallies.touch(number);
                Some(&mut self.tallies.branches[self.plan.routes[number].branch + place].steps)
            }
        }
    }

    /// An event through its source's steps, and through its routes.
    fn arrive(&mut self, coming: Coming<'_>, scratch: &mut Scratch) {
        // Once all is seen that was asked for, the rest goes on as if nobody looked.
        if self.watch.as_ref().is_some_and(|watch| watch.iter().all(|watched| watched.most == 0)) {
            self.watch = None;
        }
        if self.from.steps.is_empty() && self.watch.is_none() {
            self.route(coming, scratch);
            return;
        }
        let mut copy = std::mem::take(&mut scratch.arrival);
        let mut draft = coming.draft(&mut copy);
        let place = ListPlace { source: &self.from.name, stage: Stage::Source, name: &self.from.name, via: "", accounts: self.from.accounts };
        let steps = StepRun { steps: &self.from.steps, place, tallies: &mut self.source.steps };
        let passed = steps.run(&mut draft, coming.step, &self.plan.shared, &mut scratch.buffers);
        let seen = Seen { point: Point::Source(self.number), route: None, passed, failed: scratch.buffers.failed };
        self.capture(&seen, coming.view.json, &draft, &self.from.steps);
        if passed == Passed::Through {
            let duplicates = coming.duplicates && !draft.changed;
            self.route(Coming { view: draft.view(), duplicates, step: 0, values: draft.values }, scratch);
        }
        scratch.arrival = copy;
    }

    /// An event that came through its source's steps, to the routes that take it.
    fn route(&mut self, mut coming: Coming<'_>, scratch: &mut Scratch) {
        let arrived = coming.view;
        self.source.passed.count(arrived.json.len());
        self.leaves(self.from.accounts, arrived, arrived.json.len(), &mut coming.values, scratch);
        let Scratch { memo, candidates, buffers, .. } = scratch;
        memo.next_event(&self.plan.shared.tests);
        self.plan.indexes.find(&self.from.scope, arrived, &self.plan.shared, &mut buffers.text, memo, candidates);
        let mut shared_line = None;
        let routes = std::mem::take(&mut candidates.routes);
        for number in &routes {
            self.take(*number as usize, coming, &mut shared_line, scratch);
        }
        let taken = !routes.is_empty();
        scratch.candidates.routes = routes;
        if taken {
            self.source.routed.count(arrived.json.len());
            return;
        }
        self.source.remainder.count(arrived.json.len());
        if self.watches(Point::Remainder) {
            self.captured(Capture {
                point: Point::Remainder,
                before: arrived.json.to_vec(),
                after: Some(arrived.json.to_vec()),
                removed_by: None,
                held_by: None,
                failed_by: None,
                route: None,
                record: self.record,
            });
        }
        for &number in &self.from.remainder_routes {
            self.take(number, coming, &mut shared_line, scratch);
        }
    }

    /// An event through a route's steps, and to its destinations.
    fn take(&mut self, number: usize, coming: Coming<'_>, shared: &mut Option<u32>, scratch: &mut Scratch) {
        let plan = self.plan;
        let through = &plan.routes[number];
        self.tallies.touch(number);
        if coming.step == 0 {
            self.tallies.routes[number].taken.count(coming.view.json.len());
        }
        if through.steps.is_empty() && self.watch.is_none() {
            self.send(number, coming, shared, scratch);
            return;
        }
        if through.direct && self.watch.is_none() {
            self.take_directly(number, coming, shared, scratch);
            return;
        }
        let mut copy = std::mem::take(&mut scratch.route);
        let mut draft = coming.draft(&mut copy);
        let place = ListPlace { source: &self.from.name, stage: Stage::Route, name: &through.name, via: &self.from.name, accounts: through.accounts };
        let steps = StepRun { steps: &through.steps, place, tallies: &mut self.tallies.routes[number].steps };
        let passed = steps.run(&mut draft, coming.step, &plan.shared, &mut scratch.buffers);
        let seen = Seen { point: Point::Route(number), route: None, passed, failed: scratch.buffers.failed };
        self.capture(&seen, coming.view.json, &draft, &through.steps);
        if passed == Passed::Through {
            let duplicates = coming.duplicates && !draft.changed;
            let mut own_line = None;
            // What no step changed is one line for all routes; what this route changed, one for all its destinations.
            let line = if draft.changed { &mut own_line } else { shared };
            self.send(number, Coming { view: draft.view(), duplicates, step: 0, values: draft.values }, line, scratch);
        }
        scratch.route = copy;
    }

    /// An event through the steps of a route whose destinations have no steps of their own: what it changes is edited where it leaves.
    fn take_directly(&mut self, number: usize, coming: Coming<'_>, shared: &mut Option<u32>, scratch: &mut Scratch) {
        let plan = self.plan;
        let through = &plan.routes[number];
        let copy = &mut scratch.route;
        copy.begin_behind(&mut self.out.lines);
        let mut draft = coming.draft(copy);
        let place = ListPlace { source: &self.from.name, stage: Stage::Route, name: &through.name, via: &self.from.name, accounts: through.accounts };
        let steps = StepRun { steps: &through.steps, place, tallies: &mut self.tallies.routes[number].steps };
        let passed = steps.run(&mut draft, coming.step, &plan.shared, &mut scratch.buffers);
        let changed = draft.changed;
        if passed == Passed::Through {
            // While the event is at hand: it counts for each destination.
            let (view, mut values) = (draft.view(), draft.values);
            let amount = Amount { events: 1, bytes: view.json.len() as i64 };
            for accounts in &plan.branch_accounts[through.branch..through.branch + through.to.len()] {
                scratch.buffers.count_by_tag(&plan.shared, by_tag::leaves(*accounts), view, &mut values, amount);
            }
        }
        let len = scratch.route.give_back(&mut self.out.lines, passed == Passed::Through && changed);
        if passed != Passed::Through {
            return;
        }
        let json = coming.view.json;
        let (line, len) = if changed { (self.out.line_ended(), len) } else { (*shared.get_or_insert_with(|| self.out.line(json)), json.len()) };
        let tally = &mut self.tallies.routes[number];
        tally.out.count(len);
        self.out.under_way.pass(&through.meters, len);
        for (branch, to) in self.tallies.branches[through.branch..].iter_mut().zip(&through.to) {
            tally.copies.count(len);
            self.out.under_way.pass(&plan.destinations[*to].meters, len);
            branch.offered.count(len);
            branch.enqueued.count(len);
            branch.selection.push(line);
        }
    }

    /// An event that a route has done with, to each of its destinations.
    fn send(&mut self, number: usize, coming: Coming<'_>, line: &mut Option<u32>, scratch: &mut Scratch) {
        let Coming { view: shaped, mut values, .. } = coming;
        let plan = self.plan;
        let through = &plan.routes[number];
        self.tallies.routes[number].out.count(shaped.json.len());
        self.out.under_way.pass(&through.meters, shaped.json.len());
        for (place, to) in through.to.iter().enumerate() {
            let destination = &plan.destinations[*to];
            if destination.as_received && self.received.is_some() {
                self.keep_as_received(number, place, Coming { values, ..coming }, line, scratch);
                continue;
            }
            self.tallies.routes[number].copies.count(shaped.json.len());
            let branch = &mut self.tallies.branches[through.branch + place];
            branch.offered.count(shaped.json.len());
            if destination.steps.is_empty() && self.watch.is_none() {
                let at = *line.get_or_insert_with(|| self.out.line(shaped.json));
                self.out.under_way.pass(&destination.meters, shaped.json.len());
                branch.enqueued.count(shaped.json.len());
                branch.selection.push(at);
                self.leaves(plan.branch_accounts[through.branch + place], shaped, shaped.json.len(), &mut values, scratch);
            }
        }
        for (place, to) in through.to.iter().enumerate() {
            let destination = &plan.destinations[*to];
            let done = destination.as_received && self.received.is_some();
            if !done && (!destination.steps.is_empty() || self.watch.is_some()) {
                self.leave(number, place, Coming { step: 0, values, ..coming }, line, scratch);
            }
        }
    }

    /// An event to a destination that gets it as it was received, whatever steps made of it.
    fn keep_as_received(&mut self, number: usize, place: usize, coming: Coming<'_>, line: &mut Option<u32>, scratch: &mut Scratch) {
        let Coming { view: shaped, mut values, .. } = coming;
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
        self.out.under_way.pass(&self.plan.destinations[through.to[place]].meters, received.len());
        branch.selection.push(at);
        // Its tags are those that the steps gave it.
        self.leaves(self.plan.branch_accounts[through.branch + place], shaped, received.len(), &mut values, scratch);
        let point = Point::Destination(through.to[place]);
        if self.watches(point) {
            self.captured(Capture {
                point,
                before: received.clone(),
                after: Some(received.clone()),
                removed_by: None,
                held_by: None,
                failed_by: None,
                route: Some(number as u32),
                record: self.record,
            });
        }
        self.received = Some(received);
    }

    /// An event through the steps of a route's destination, and into its queue.
    fn leave(&mut self, number: usize, place: usize, coming: Coming<'_>, line: &mut Option<u32>, scratch: &mut Scratch) {
        let plan = self.plan;
        let through = &plan.routes[number];
        let (to, branch) = (through.to[place], through.branch + place);
        self.tallies.touch(number);
        let destination = &plan.destinations[to];
        let mut draft = coming.draft(&mut scratch.always);
        let at = ListPlace {
            source: &self.from.name,
            stage: Stage::Destination,
            name: &destination.name,
            via: &through.name,
            accounts: plan.branch_accounts[branch],
        };
        let (all, tallies) = (&destination.steps, &mut self.tallies.branches[branch].steps);
        // Up to where they can be done anew, and from there.
        let mut passed = Passed::Through;
        if coming.step < destination.anew {
            let once = StepRun { steps: &all[..destination.anew], place: at, tallies };
            passed = once.run(&mut draft, coming.step, &plan.shared, &mut scratch.buffers);
        }
        let mut earlier = None;
        let failed = if coming.step < destination.anew { scratch.buffers.failed } else { None };
        if passed == Passed::Through {
            earlier = draft.changed.then(|| draft.view().json.to_vec());
            let anew = StepRun { steps: all, place: at, tallies };
            passed = anew.run(&mut draft, coming.step.max(destination.anew), &plan.shared, &mut scratch.buffers);
        }
        let failed = failed.or(scratch.buffers.failed);
        self.capture(&Seen { point: Point::Destination(to), route: Some(number as u32), passed, failed }, coming.view.json, &draft, all);
        if passed != Passed::Through {
            return;
        }
        let leaving = draft.view().json;
        let at = if draft.changed { self.out.line(leaving) } else { *line.get_or_insert_with(|| self.out.line(leaving)) };
        let tally = &mut self.tallies.branches[branch];
        tally.enqueued.count(leaving.len());
        self.out.under_way.pass(&destination.meters, leaving.len());
        tally.selection.push(at);
        if !all.is_empty() {
            tally.earlier.push(earlier.as_deref().unwrap_or(coming.view.json), leaving);
        }
        let amount = Amount { events: 1, bytes: leaving.len() as i64 };
        let mut values = draft.values;
        scratch.buffers.count_by_tag(&plan.shared, by_tag::leaves(plan.branch_accounts[branch]), draft.view(), &mut values, amount);
    }

    /// Counts an event that leaves a list of steps in so many bytes by its tags.
    #[inline]
    fn leaves(&self, accounts: u32, view: EventView<'_>, bytes: usize, values: &mut TagValues, scratch: &mut Scratch) {
        let amount = Amount { events: 1, bytes: bytes as i64 };
        scratch.buffers.count_by_tag(&self.plan.shared, by_tag::leaves(accounts), view, values, amount);
    }

    fn captured(&mut self, capture: Capture) {
        let point = capture.point;
        let at = |watch: &[Watched]| watch.binary_search_by_key(&point, |watched| watched.point);
        if let Some(watched) = self.watch.as_mut().and_then(|watch| at(watch).ok().map(|at| &mut watch[at])) {
            watched.most = watched.most.saturating_sub(1);
        }
        self.out.captures.push(capture);
    }

    fn watches(&self, point: Point) -> bool {
        let wants = |watched: &Watched| watched.most > 0 && self.record >= watched.from;
        self.watch.as_ref().is_some_and(|watch| watch.binary_search_by_key(&point, |watched| watched.point).is_ok_and(|at| wants(&watch[at])))
    }

    #[inline]
    fn capture(&mut self, seen: &Seen, before: &[u8], draft: &EventDraft<'_>, steps: &[CompiledStep]) {
        let Seen { point, route, passed, failed } = *seen;
        if self.watch.is_some() && self.watches(point) {
            let after = (passed == Passed::Through).then(|| draft.view().json.to_vec());
            let sentence = |i: usize| steps[i].sentence.clone();
            let (removed_by, held_by) = match passed {
                Passed::Through => (None, None),
                Passed::Removed(i) => (Some(sentence(i)), None),
                Passed::Held(i) => (None, Some(sentence(i))),
            };
            let failed_by = failed.map(sentence);
            self.captured(Capture { point, before: before.to_vec(), after, removed_by, held_by, failed_by, route, record: self.record });
        }
    }

    pub(super) fn finish(self, from: &Source, by_tag: &mut TagTally) -> Outcome {
        let Run { plan, mut out, mut source, tallies, .. } = self;
        out.tags = Arc::clone(&plan.shared.tags.names);
        let by_tag = by_tag.take();
        let mut post = Posts { postings: Vec::new(), times: Vec::new(), stage: Stage::Source, name: &from.name, via: "", accounts: from.accounts, by_tag };
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
            (post.stage, post.name, post.via, post.accounts) = (Stage::Route, &route.name, &from.name, route.accounts);
            post.add(Measure::Taken, std::mem::take(&mut tally.taken));
            post.steps(&route.steps, &mut tally.steps);
            post.add(Measure::Out, std::mem::take(&mut tally.out));
            post.add(Measure::Copies, std::mem::take(&mut tally.copies));
        }
        for number in &tallies.touched {
            let route = &plan.routes[*number as usize];
            let branches = tallies.branches[route.branch..].iter_mut().zip(&plan.branch_accounts[route.branch..]);
            for (to, (tally, accounts)) in route.to.iter().zip(branches) {
                let destination = &plan.destinations[*to];
                (post.stage, post.name, post.via, post.accounts) = (Stage::Destination, &destination.name, &route.name, *accounts);
                post.add(Measure::Offered, std::mem::take(&mut tally.offered));
                post.steps(&destination.steps, &mut tally.steps);
                let enqueued = std::mem::take(&mut tally.enqueued);
                post.add(Measure::Enqueued, enqueued);
                let (selection, earlier) = (std::mem::take(&mut tally.selection), std::mem::take(&mut tally.earlier));
                if !selection.is_empty() {
                    out.entries.push(Entry { destination: destination.name.clone(), route: route.name.clone(), selection, earlier, amount: enqueued });
                }
            }
        }
        (out.postings, out.times) = (post.postings, post.times);
        out
    }
}
