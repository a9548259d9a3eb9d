//! What steps hold back, over the life of the service: let go when it is due, kept in the spool, taken up again after a crash.
//!
//! Whatever touches windows does so under one lock, from the work to the commit. So the spool holds what the memory does, and where a commit fails, the memory goes back to what the spool holds.

use std::sync::Arc;
use std::time::Duration;

use rockrose_engine::{CompiledPlan, Outcome, Scratch};
use rockrose_ledger::{Account, Amount, Measure, Posting, WindowChange, WindowState};
use rockrose_spool::{Arrival, Beside, SpoolError, Unread, pack};

use crate::{App, now_ms, queues};

/// How often windows are looked at.
const LOOK_EVERY: Duration = Duration::from_millis(250);

/// Makes an outcome durable; what it added to metrics shows from then on.
pub(crate) async fn store(
    app: &App,
    source: &str,
    now: i64,
    mut outcome: Outcome,
    data: rockrose_spool::Packed,
    unread: Vec<Unread>,
    beside: Beside,
) -> Result<(), SpoolError> {
    let metrics = std::mem::take(&mut outcome.metrics);
    let running = app.engine.running();
    queues::spill(&app.spool, &running.checked, &mut outcome);
    let arrival = Arrival {
        source: source.to_owned(),
        arrived_ms: now,
        data,
        entries: outcome.entries,
        postings: outcome.postings,
        unread,
        held: outcome.held,
        metrics: metrics.clone(),
        beside,
    };
    app.spool.store(arrival).await?;
    app.metrics.add(metrics);
    queues::make_room(app, &running.checked).await;
    Ok(())
}

/// Lets go what is due (with `all`, everything). The caller holds the windows' lock.
pub(crate) async fn release(app: &App, compiled: &CompiledPlan, all: bool) -> Result<(), SpoolError> {
    let now = now_ms();
    for (source, mut outcome) in compiled.release(now, all, &mut Scratch::default()) {
        let data = pack(std::mem::take(&mut outcome.lines));
        if let Err(e) = store(app, &source, now, outcome, data, Vec::new(), Beside::default()).await {
            take_back(app, compiled).await;
            return Err(e);
        }
    }
    Ok(())
}

/// Makes the windows of a plan hold what the spool holds. What has no step any more goes to quarantine. The caller holds the windows' lock.
pub(crate) async fn take_back(app: &App, compiled: &CompiledPlan) {
    let kept = match app.spool.held().await {
        Ok(kept) => kept,
        Err(e) => {
            tracing::error!(error = %e, "what windows held cannot be read");
            return;
        }
    };
    for (id, held) in compiled.restore(kept) {
        if let Err(e) = set_aside(app, id, held).await {
            tracing::error!(error = %e, "what a window held cannot be put to quarantine");
        }
    }
}

async fn set_aside(app: &App, id: u128, held: WindowState) -> Result<(), SpoolError> {
    if held.is_mark() {
        let gone = Outcome { held: vec![WindowChange { id, held: None }], ..Outcome::default() };
        return store(app, &held.stand.source, now_ms(), gone, pack(Vec::new()), Vec::new(), Beside::default()).await;
    }
    let stand = held.stand;
    let post = |measure: Measure, amount: Amount| Posting {
        account: Account {
            place: stand.place,
            name: stand.name.clone(),
            via: stand.via.clone(),
            position: stand.position,
            sentence: stand.sentence.clone(),
            measure,
        },
        amount,
    };
    let gone = Amount { events: held.events, bytes: held.bytes };
    let outcome = Outcome {
        postings: vec![post(Measure::Held, Amount { events: -gone.events, bytes: -gone.bytes }), post(Measure::Removed, gone)],
        held: vec![WindowChange { id, held: None }],
        ..Outcome::default()
    };
    let reason = format!("held back by a step that is no longer part of the plan: {}", stand.sentence);
    let data = held.text.unwrap_or(held.json).into_bytes();
    store(app, &stand.source, now_ms(), outcome, pack(Vec::new()), vec![Unread { reason, data }], Beside::default()).await
}

/// A clock that moved otherwise than time did, by more than this, was set. In milliseconds.
const SET_BY: i64 = 5_000;

/// Notices that the clock was set.
struct SetClock {
    begun: std::time::Instant,
    /// The clock less the time since the beginning.
    offset_ms: i64,
}

impl SetClock {
    fn new(now_ms: i64) -> SetClock {
        SetClock { begun: std::time::Instant::now(), offset_ms: now_ms }
    }

    /// By how much it was set since the last look, in milliseconds, if it was.
    fn set_by(&mut self, now_ms: i64) -> Option<i64> {
        let offset_ms = now_ms - i64::try_from(self.begun.elapsed().as_millis()).unwrap_or(0);
        let by = offset_ms - self.offset_ms;
        if by.abs() < SET_BY {
            return None;
        }
        self.offset_ms = offset_ms;
        Some(by)
    }
}

/// Looks after the windows for as long as the service runs.
pub(crate) async fn run(app: Arc<App>) {
    let mut tick = tokio::time::interval(LOOK_EVERY);
    let mut clock = SetClock::new(now_ms());
    loop {
        tick.tick().await;
        // What was to be let go by a clock that was set would wait too long, or not long enough: all of it goes now.
        let set = clock.set_by(now_ms());
        if let Some(by) = set {
            tracing::warn!(seconds = by / 1_000, "the clock was set; what windows hold is let go");
        }
        if !app.engine.running().compiled.holds_back() {
            continue;
        }
        let _order = app.engine.windows.lock().await;
        let running = app.engine.running();
        if let Err(e) = release(&app, &running.compiled, set.is_some()).await {
            tracing::warn!(error = %e, "what windows held could not be sent on; it is tried again");
        }
    }
}
