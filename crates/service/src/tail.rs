//! Live tail: events shown as they pass a point of the plan.
//!
//! Nothing is kept for those who are not looking, and nobody who looks can hold up events: what a viewer cannot take in time is skipped and counted.

use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use rockrose_engine::{Capture, CompiledPlan, Point, Watch};
use rockrose_language::Place;
use tokio::sync::mpsc;

/// Most viewers at once.
const MAX_VIEWERS: usize = 64;
/// Most events of one batch that are shown at one point.
const PER_BATCH: usize = 100;
/// Events that may wait for a viewer.
const QUEUE: usize = 512;
/// Bytes of events that may wait for a viewer; one event may always wait.
const QUEUE_BYTES: usize = 4 << 20;

/// The point of a compiled plan that is at a place, if the plan has it.
pub(crate) fn point(place: &Place, plan: &CompiledPlan) -> Option<Point> {
    match place {
        Place::Source(name) => plan.source(name).map(Point::Source),
        Place::Route(name) => plan.route(name).map(Point::Route),
        Place::Destination(name) => plan.destination(name).map(Point::Destination),
        Place::Remainder => Some(Point::Remainder),
    }
}

/// An event as shown to a viewer.
#[derive(Clone, Debug)]
pub(crate) struct Shown {
    pub(crate) at_ms: i64,
    pub(crate) capture: Arc<Capture>,
}

impl Shown {
    fn bytes(&self) -> usize {
        self.capture.before.len() + self.capture.after.as_ref().map_or(0, Vec::len)
    }
}

struct Viewer {
    number: u64,
    place: Place,
    to: mpsc::Sender<Shown>,
    skipped: Arc<AtomicU64>,
    /// Bytes that wait.
    waiting: Arc<AtomicUsize>,
}

impl Viewer {
    /// Shows an event, if there is room for it.
    fn show(&self, shown: Shown) {
        let bytes = shown.bytes();
        let before = self.waiting.fetch_add(bytes, Ordering::AcqRel);
        let has_room = before == 0 || before + bytes <= QUEUE_BYTES;
        if !has_room || self.to.try_send(shown).is_err() {
            self.waiting.fetch_sub(bytes, Ordering::AcqRel);
            self.skipped.fetch_add(1, Ordering::Relaxed);
        }
    }
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
    events: mpsc::Receiver<Shown>,
    pub(crate) skipped: Arc<AtomicU64>,
    waiting: Arc<AtomicUsize>,
}

impl View {
    /// The next event; nothing, once there can be none.
    pub(crate) async fn next(&mut self) -> Option<Shown> {
        let shown = self.events.recv().await?;
        self.waiting.fetch_sub(shown.bytes(), Ordering::AcqRel);
        Some(shown)
    }
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
    pub(crate) fn look(app: &Arc<crate::App>, place: Place) -> Option<View> {
        let hub = &app.tail;
        let mut viewers = hub.viewers();
        if viewers.len() >= MAX_VIEWERS {
            return None;
        }
        let (to, events) = mpsc::channel(QUEUE);
        let number = hub.numbers.fetch_add(1, Ordering::Relaxed);
        let skipped = Arc::new(AtomicU64::new(0));
        let waiting = Arc::new(AtomicUsize::new(0));
        viewers.push(Viewer { number, place, to, skipped: Arc::clone(&skipped), waiting: Arc::clone(&waiting) });
        hub.count.store(viewers.len(), Ordering::Release);
        Some(View { hub: Arc::clone(app), number, events, skipped, waiting })
    }

    /// What must be captured of the next batch; nothing if nobody looks.
    pub(crate) fn watch(&self, plan: &CompiledPlan) -> Option<Watch> {
        if self.count.load(Ordering::Acquire) == 0 {
            return None;
        }
        let mut points: Vec<Point> = Vec::new();
        for point in self.viewers().iter().filter_map(|v| point(&v.place, plan)) {
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
            for viewer in viewers.iter().filter(|v| point(&v.place, plan) == Some(capture.point)) {
                viewer.show(Shown { at_ms, capture: Arc::clone(&capture) });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_waits_for_a_viewer_is_bounded_in_bytes() {
        let (to, events) = mpsc::channel(QUEUE);
        let viewer = Viewer { number: 0, place: Place::Remainder, to, skipped: Arc::default(), waiting: Arc::default() };
        let shown = |bytes: usize| {
            let capture = Capture {
                point: Point::Remainder,
                before: vec![0; bytes],
                after: Some(Vec::new()),
                removed_by: None,
                held_by: None,
                failed_by: None,
                route: None,
                record: 1,
            };
            Shown { at_ms: 0, capture: Arc::new(capture) }
        };
        // However large, one may wait.
        viewer.show(shown(2 * QUEUE_BYTES));
        viewer.show(shown(1));
        assert_eq!((events.len(), viewer.skipped.load(Ordering::Relaxed)), (1, 1));
        let mut view = (events, Arc::clone(&viewer.waiting));
        let first = view.0.try_recv().unwrap();
        view.1.fetch_sub(first.bytes(), Ordering::AcqRel);
        for _ in 0..100 {
            viewer.show(shown(QUEUE_BYTES / 10));
        }
        assert_eq!((view.0.len(), viewer.skipped.load(Ordering::Relaxed)), (10, 91));
    }
}
