//! What became of a batch, and who looks at it meanwhile.

use std::sync::Arc;

use rockrose_ledger::{Account, Added, Amount, Earlier, Entry, Measure, Posting, Series, Stage, WindowChange};

use crate::budget::UnderWay;

/// Where in the plan events can be looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
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

/// A point that somebody is looking at.
#[derive(Clone, Copy, Debug)]
pub(super) struct Watched {
    pub(super) point: Point,
    /// How many events are wanted there.
    pub(super) most: usize,
    /// The first record of a body that is wanted.
    pub(super) from: u32,
}

/// Which points somebody is looking at.
#[derive(Clone, Debug, Default)]
pub struct Watch {
    /// In order.
    pub(super) points: Vec<Watched>,
    pub(super) clock: Option<fn() -> u64>,
}

impl Watch {
    /// Looks at another point as well, at the most `most` events of one batch.
    #[must_use]
    pub fn also(self, point: Point, most: usize) -> Watch {
        self.also_from(point, most, 0)
    }

    /// Looks at another point as well, at the most `most` events of one batch, from the record of that number on.
    #[must_use]
    pub fn also_from(mut self, point: Point, most: usize, from: u32) -> Watch {
        match self.points.binary_search_by_key(&point, |watched| watched.point) {
            Ok(at) => {
                let watched = &mut self.points[at];
                (watched.most, watched.from) = (watched.most.max(most), watched.from.min(from));
            }
            Err(at) => self.points.insert(at, Watched { point, most, from }),
        }
        self
    }

    /// Looks at `points`, at the most `most` events of one batch at each.
    #[must_use]
    pub fn new(points: Vec<Point>, most: usize) -> Watch {
        let mut points: Vec<Watched> = points.into_iter().map(|point| Watched { point, most, from: 0 }).collect();
        points.sort_unstable_by_key(|watched| watched.point);
        points.dedup_by_key(|watched| watched.point);
        Watch { points, clock: None }
    }

    /// Times the steps as well, by a clock that tells nanoseconds.
    #[must_use]
    pub fn timed(mut self, clock: fn() -> u64) -> Watch {
        self.clock = Some(clock);
        self
    }
}

/// An event seen at a point.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Capture {
    /// The point of the plan that the event was seen at.
    pub point: Point,
    /// As it came there.
    pub before: Vec<u8>,
    /// As it went on; `None` if a step removed it or holds it back.
    pub after: Option<Vec<u8>>,
    /// The sentence of the step that removed it.
    pub removed_by: Option<String>,
    /// The sentence of the step that holds it back.
    pub held_by: Option<String>,
    /// The sentence of the first step that could not do its work on it.
    pub failed_by: Option<String>,
    /// At a destination, the number of the route that it came by.
    pub route: Option<u32>,
    /// The record of the body that it is, from 1; 0 of one that a window let go.
    pub record: u32,
}

/// How long a step worked, where that was asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StepTime {
    /// The stage whose list of steps it stands in.
    pub stage: Stage,
    /// The name of the source, route or destination.
    pub name: String,
    /// Its place in the list, from 1.
    pub position: usize,
    /// On so many events.
    pub events: u64,
    /// So long on all of them, in nanoseconds.
    pub nanos: u64,
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
#[derive(Debug, Default)]
pub struct Outcome {
    /// The distinct events that leave, a line each.
    pub lines: Vec<u8>,
    /// Where each line ends in `lines`, its line end included.
    pub ends: Vec<u32>,
    /// What is due where.
    pub entries: Vec<Entry>,
    /// The account of it all.
    pub postings: Vec<Posting>,
    /// The tags by which it is told apart.
    pub tags: Arc<[Arc<str>]>,
    /// What could not be read.
    pub quarantined: Vec<Quarantined>,
    /// Records that came.
    pub received: Amount,
    /// Records that were read.
    pub read: Amount,
    /// What was seen at the watched points.
    pub captures: Vec<Capture>,
    /// How the windows stand that the batch touched. To be kept with the rest.
    pub windows: Vec<WindowChange>,
    /// What is to be added to metrics.
    pub metrics: Vec<(Series, Added)>,
    /// What counts for budgets until it is known what became of the batch.
    pub under_way: UnderWay,
    /// How long the steps worked, if they were timed.
    pub times: Vec<StepTime>,
    /// The copies that routes made of this body came to more than [`MAX_LINES`]; the rest of it was not looked at, and nothing of it may be kept.
    pub overflowed: bool,
}

/// Most bytes of distinct lines that one body may become: 1 GB. Many routes that each change every event multiply a body.
pub const MAX_LINES: usize = 1_000_000_000;

impl Outcome {
    /// Sends what is due at the destination `from` to `to` instead, and accounts for it at both. At `to` it counts as come from [`spilled_from`] it.
    pub fn spill(&mut self, from: &str, to: &str) {
        let via = spilled_from(from);
        for entry in self.entries.iter_mut().filter(|e| e.destination == from) {
            let queued = Account::at_destination(from, &entry.route, Measure::Enqueued);
            let by_tag = self.postings.iter().find(|posting| posting.account == queued).map(|posting| posting.by_tag.clone()).unwrap_or_default();
            let offered = Account::at_destination(to, &via, Measure::Offered);
            self.postings.push(Posting::new(offered, entry.amount));
            let moved = [Account { measure: Measure::Spilled, ..queued }, Account::at_destination(to, &via, Measure::Enqueued)];
            self.postings.extend(moved.map(|account| Posting { account, amount: entry.amount, by_tag: by_tag.clone() }));
            (entry.destination, entry.route) = (to.to_owned(), via.clone());
            // What the steps of the one did is no work of the other's.
            entry.earlier = Earlier::default();
        }
    }

    /// Adds a line, and says which it is.
    pub(super) fn line(&mut self, json: &[u8]) -> u32 {
        self.lines.extend_from_slice(json);
        self.lines.push(b'\n');
        self.line_ended()
    }

    /// What stands behind the last line is one now.
    pub(super) fn line_ended(&mut self) -> u32 {
        self.ends.push(self.lines.len() as u32);
        (self.ends.len() - 1) as u32
    }
}

/// What events that a destination spilled count as come from, in place of a route. No route can have such a name.
#[must_use]
pub fn spilled_from(destination: &str) -> String {
    format!("spilled by {destination}")
}
