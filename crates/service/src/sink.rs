//! What sources hand bodies to.

use std::cell::RefCell;
use std::sync::Arc;

use axum::http::StatusCode;
use rockrose_core::engine::{Outcome, Scratch};
use rockrose_core::read::{BodyError, Says, split};
use rockrose_core::room::{self, Buffer};
use rockrose_intake::{NAMED_UNREADABLE, Problem, Receipt, Sink, Unreadable};
use rockrose_spool::{Packed, SpoolError, Unread, pack};

use crate::engine::Running;
use crate::{App, now_ms, queues, windows};

/// Runs bodies through the plan and makes the outcome durable before it is acknowledged.
pub(crate) struct PlanSink {
    app: Arc<App>,
}

impl PlanSink {
    pub(crate) fn new(app: Arc<App>) -> PlanSink {
        PlanSink { app }
    }
}

thread_local! {
    static SCRATCH: RefCell<Scratch> = RefCell::default();
}

struct Worked {
    outcome: Outcome,
    data: Packed,
    unread: Vec<Unread>,
}

enum Unworked {
    Body(BodyError),
    /// The source left the plan while the body was on its way.
    Gone,
    /// The routes' copies of it came to more than one body may become.
    TooManyCopies,
}

fn work(running: &Running, source: &str, body: Vec<u8>, says: Says, now: i64, watch: Option<&rockrose_core::engine::Watch>) -> Result<Worked, Unworked> {
    let number = running.compiled.source(source).ok_or(Unworked::Gone)?;
    let settings = running.checked.sources.iter().find(|s| s.name == source);
    let max_event = settings.map_or(usize::MAX, |s| s.max_event as usize);
    // Both are large, and others can use them when they are done with.
    let body = Buffer::from(body);
    let records = split(&body, says, max_event).map_err(Unworked::Body)?;
    let mut outcome = SCRATCH.with_borrow_mut(|scratch| {
        scratch.take_back(room::take(body.len()), Vec::new());
        running.compiled.process(number, &body, &records, now, watch, scratch)
    });
    if outcome.overflowed {
        return Err(Unworked::TooManyCopies);
    }
    let unread = outcome.quarantined.iter().map(|q| Unread { reason: format!("record {}: {}", q.number, q.reason), data: body[q.range.clone()].to_vec() });
    let unread = unread.collect();
    let lines = std::mem::take(&mut outcome.lines);
    let data = if settings.is_none_or(|s| s.compress) { pack(lines) } else { Packed::plain(lines) };
    Ok(Worked { outcome, data, unread })
}

impl Sink for PlanSink {
    async fn accept(&self, source: &str, body: Vec<u8>, says: Says) -> Result<Receipt, Problem> {
        // A sender that goes away does not stop what has begun: what steps remember must become durable, or be undone.
        let (sink, source) = (PlanSink { app: Arc::clone(&self.app) }, source.to_owned());
        let taking = tokio::spawn(async move { sink.take(&source, body, says).await });
        taking.await.unwrap_or_else(|_| Err(Problem::internal("the body could not be worked on")))
    }
}

impl PlanSink {
    async fn take(&self, source: &str, body: Vec<u8>, says: Says) -> Result<Receipt, Problem> {
        let mut running = self.app.engine.running();
        // What steps hold back is only touched in order, from the work to the commit.
        let mut order = None;
        if running.compiled.holds_back() {
            order = Some(self.app.engine.windows.lock().await);
            running = self.app.engine.running();
        }
        if let Some(number) = running.compiled.source(source) {
            self.room(&running, number)?;
        }
        let watch = self.app.tail.watch(&running.compiled);
        // Only so many bodies are worked on at once, so that their copies do not fill the memory together.
        let place = self.app.working.acquire().await;
        let (asked, name, now) = (Arc::clone(&running), source.to_owned(), now_ms());
        let worked = tokio::task::spawn_blocking(move || work(&asked, &name, body, says, now, watch.as_ref())).await;
        drop(place);
        if order.is_some() && !matches!(worked, Ok(Ok(_))) {
            windows::take_back(&self.app, &running.compiled).await;
        }
        let worked = worked.map_err(|_| Problem::internal("the body could not be worked on"))?.map_err(|e| match e {
            Unworked::TooManyCopies => {
                let detail = "the plan's routes make more than 1 GB of copies of it; send smaller bodies";
                Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "too-many-copies", "The body is too large", detail)
            }
            Unworked::Gone => Problem::unavailable("source-gone", "this source is no longer part of the plan"),
            Unworked::Body(e) => {
                Problem::new(StatusCode::BAD_REQUEST, "not-json", "The body is not JSON", e.to_string()).with("line", e.line).with("column", e.column)
            }
        })?;
        let Worked { mut outcome, data, unread } = worked;
        let receipt = Receipt {
            received: outcome.received.events as u64,
            read: outcome.read.events as u64,
            quarantined: outcome.quarantined.len() as u64,
            unreadable: outcome.quarantined.drain(..).take(NAMED_UNREADABLE).map(|q| Unreadable { record: q.number, reason: q.reason }).collect(),
        };
        let captures = std::mem::take(&mut outcome.captures);
        let kept = windows::store(&self.app, source, now, outcome, data, unread).await;
        if kept.is_err() && order.is_some() {
            windows::take_back(&self.app, &running.compiled).await;
        }
        drop(order);
        kept.map_err(|e| match e {
            SpoolError::Storage(_) => Problem::unavailable("not-durable", "the events could not be made durable, so they were not taken"),
            SpoolError::Closed | SpoolError::Settled | SpoolError::Damaged(_) => Problem::unavailable("stopping", "the service is stopping"),
        })?;
        self.app.tail.publish(&running.compiled, now, captures);
        Ok(receipt)
    }
}

impl PlanSink {
    /// A source is pushed back while a destination that it can reach holds all it may, and wants it so.
    fn room(&self, running: &Running, source: usize) -> Result<(), Problem> {
        for name in running.compiled.reached_from(source) {
            if let Some(full) = queues::pushes_back(&self.app.spool, &running.checked, name) {
                return Err(Problem::unavailable("full", format!("the destination `{full}` holds all it may; its events wait to be delivered"))
                    .with("destination", full));
            }
        }
        Ok(())
    }
}
