//! Live tail: events shown as they pass a point of the plan.
//!
//! Nothing is kept for those who are not looking, and nobody who looks can hold up events: what a viewer cannot take in time is skipped and counted.

use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rockrose_engine::{Capture, CompiledPlan, Point, Watch};
use tokio::sync::mpsc;

/// Most viewers at once.
const MAX_VIEWERS: usize = 64;
/// Most events of one batch that are shown at one point.
const PER_BATCH: usize = 100;
/// Events that may wait for a viewer.
const QUEUE: usize = 512;

/// A point by name, as a viewer asks for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum PointName {
    Source(String),
    Route(String),
    Destination(String),
    Remainder,
}

impl PointName {
    /// Reads `source:NAME`, `route:NAME`, `destination:NAME` or `remainder`.
    pub(crate) fn read(text: &str) -> Option<PointName> {
        if text == "remainder" {
            return Some(PointName::Remainder);
        }
        let (kind, name) = text.split_once(':')?;
        let name = name.to_owned();
        match kind {
            "source" => Some(PointName::Source(name)),
            "route" => Some(PointName::Route(name)),
            "destination" => Some(PointName::Destination(name)),
            _ => None,
        }
    }

    /// The point in a compiled plan, if the plan has it.
    pub(crate) fn point(&self, plan: &CompiledPlan) -> Option<Point> {
        match self {
            PointName::Source(name) => plan.source(name).map(Point::Source),
            PointName::Route(name) => plan.route(name).map(Point::Route),
            PointName::Destination(name) => plan.destination(name).map(Point::Destination),
            PointName::Remainder => Some(Point::Remainder),
        }
    }
}

/// An event as shown to a viewer.
#[derive(Clone, Debug)]
pub(crate) struct Shown {
    pub(crate) at_ms: i64,
    pub(crate) capture: Arc<Capture>,
}

struct Viewer {
    number: u64,
    place: PointName,
    to: mpsc::Sender<Shown>,
    skipped: Arc<AtomicU64>,
}

/// All who look.
#[derive(Default)]
pub(crate) struct Hub {
    viewers: Mutex<Vec<Viewer>>,
    count: AtomicUsize,
    numbers: AtomicU64,
}

/// One who looks; stops looking when dropped.
pub(crate) struct View {
    hub: Arc<crate::App>,
    number: u64,
    pub(crate) events: mpsc::Receiver<Shown>,
    pub(crate) skipped: Arc<AtomicU64>,
}

impl Drop for View {
    fn drop(&mut self) {
        let hub = &self.hub.tail;
        let mut viewers = hub.viewers();
        viewers.retain(|v| v.number != self.number);
        hub.count.store(viewers.len(), Ordering::Release);
    }
}

impl Hub {
    fn viewers(&self) -> std::sync::MutexGuard<'_, Vec<Viewer>> {
        self.viewers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to look at `place`; `None` if too many look already.
    pub(crate) fn look(app: &Arc<crate::App>, place: PointName) -> Option<View> {
        let hub = &app.tail;
        let mut viewers = hub.viewers();
        if viewers.len() >= MAX_VIEWERS {
            return None;
        }
        let (to, events) = mpsc::channel(QUEUE);
        let number = hub.numbers.fetch_add(1, Ordering::Relaxed);
        let skipped = Arc::new(AtomicU64::new(0));
        viewers.push(Viewer { number, place, to, skipped: Arc::clone(&skipped) });
        hub.count.store(viewers.len(), Ordering::Release);
        Some(View { hub: Arc::clone(app), number, events, skipped })
    }

    /// What must be captured of the next batch; nothing if nobody looks.
    pub(crate) fn watch(&self, plan: &CompiledPlan) -> Option<Watch> {
        if self.count.load(Ordering::Acquire) == 0 {
            return None;
        }
        let mut points: Vec<Point> = Vec::new();
        for point in self.viewers().iter().filter_map(|v| v.place.point(plan)) {
            if !points.contains(&point) {
                points.push(point);
            }
        }
        Some(Watch::new(points, PER_BATCH))
    }

    /// Shows captures to those who look at their points.
    pub(crate) fn publish(&self, plan: &CompiledPlan, at_ms: i64, captures: Vec<Capture>) {
        if captures.is_empty() {
            return;
        }
        let viewers = self.viewers();
        for capture in captures.into_iter().map(Arc::new) {
            for viewer in viewers.iter().filter(|v| v.place.point(plan) == Some(capture.point)) {
                if viewer.to.try_send(Shown { at_ms, capture: Arc::clone(&capture) }).is_err() {
                    viewer.skipped.fetch_add(1, Ordering::Relaxed);
                }
            }
        }
    }
}
