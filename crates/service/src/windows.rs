//! What steps hold back, over the life of the service: let go when it is due, kept in the spool, taken up again after a crash.
//!
//! Whoever touches windows of a step holds their [`Order`] from the work to the commit. So the spool holds what the memory does, and where a commit fails, the
//! memory goes back to what the spool holds. Each step's windows have an order of their own: bodies wait for one another only where their sources can reach
//! the same step. A plan is exchanged while nobody holds any.

use std::sync::Arc;
use std::time::Duration;

use rockrose_engine::{CompiledPlan, Outcome, Scratch};
use rockrose_ledger::{Account, Amount, Measure, Posting, WindowChange, WindowState};
use rockrose_spool::{Arrival, CommitExtras, SpoolError, Unread, pack};
use tokio::sync::{Mutex, OwnedMutexGuard};

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
    extras: CommitExtras,
) -> Result<(), SpoolError> {
    let metrics = std::mem::take(&mut outcome.metrics);
    let running = app.engine.running();
    queues::spill(&app.spool, &running.checked, &mut outcome);
    let mut under_way = std::mem::take(&mut outcome.under_way);
    let committing = app.budgets.committing(&outcome.postings, now);
    let arrival = Arrival {
        source: source.to_owned(),
        arrived_ms: now,
        data,
        entries: outcome.entries,
        postings: outcome.postings,
        tags: outcome.tags,
        unread,
        held: outcome.windows,
        metrics: metrics.clone(),
        extras,
    };
    // What passed counts for budgets until it is known what became of it; then, what the account says.
    let stored = app.spool.store(arrival).await;
    if stored.is_ok() {
        committing.done(&mut under_way);
    }
    drop(under_way);
    stored?;
    app.metrics.add(metrics);
    queues::make_room(app, &running.checked).await;
    Ok(())
}

/// Who may touch which windows. Part of the running plan, since the windows are.
#[derive(Debug, Default)]
pub(crate) struct Order {
    /// One for each step that holds events back.
    steps: Vec<Arc<Mutex<()>>>,
}

/// The right to touch some windows.
pub(crate) struct WindowsGuard {
    _steps: Vec<OwnedMutexGuard<()>>,
}

impl Order {
    pub(crate) fn of(compiled: &CompiledPlan) -> Order {
        Order { steps: (0..compiled.window_count()).map(|_| Arc::default()).collect() }
    }

    /// Waits until nobody else touches the windows of these numbers, which rise, so that no two wait for each other.
    pub(crate) async fn turn(&self, windows: &[usize]) -> WindowsGuard {
        let mut steps = Vec::with_capacity(windows.len());
        for number in windows {
            steps.push(Arc::clone(&self.steps[*number]).lock_owned().await);
        }
        WindowsGuard { _steps: steps }
    }
}

/// Lets go all that the windows of a plan hold. The caller has the windows to itself.
pub(crate) async fn release_all(app: &App, compiled: &CompiledPlan) -> Result<(), SpoolError> {
    for number in 0..compiled.window_count() {
        release(app, compiled, number, true).await?;
    }
    Ok(())
}

/// Lets go what is due (with `all`, everything) in the windows of one step. The caller has the turn of all windows that this may touch.
async fn release(app: &App, compiled: &CompiledPlan, number: usize, all: bool) -> Result<(), SpoolError> {
    let now = now_ms();
    for (source, mut outcome) in compiled.release_windows(number, now, all, &mut Scratch::default()) {
        let data = pack(std::mem::take(&mut outcome.lines));
        if let Err(e) = store(app, &source, now, outcome, data, Vec::new(), CommitExtras::default()).await {
            take_back(app, compiled, &compiled.windows_from(number)).await;
            return Err(e);
        }
    }
    Ok(())
}

/// Makes the windows of these numbers hold what the spool holds, after a commit failed. The caller has their turn.
pub(crate) async fn take_back(app: &App, compiled: &CompiledPlan, windows: &[usize]) {
    if let Some(kept) = kept(app).await {
        compiled.restore_windows(windows, kept);
    }
}

/// Makes all windows of a plan hold what the spool holds. What has no step any more goes to quarantine. The caller has the windows to itself.
pub(crate) async fn take_over(app: &App, compiled: &CompiledPlan) {
    for (id, state) in compiled.restore(kept(app).await.unwrap_or_default()) {
        if let Err(e) = set_aside(app, compiled, id, state).await {
            tracing::error!(error = %e, "what a window held cannot be put to quarantine");
        }
    }
}

async fn kept(app: &App) -> Option<Vec<(u128, WindowState)>> {
    app.spool.held().await.inspect_err(|e| tracing::error!(error = %e, "what windows held cannot be read")).ok()
}

async fn set_aside(app: &App, compiled: &CompiledPlan, id: u128, state: WindowState) -> Result<(), SpoolError> {
    if state.is_mark() {
        let gone = Outcome { windows: vec![WindowChange { id, state: None }], ..Outcome::default() };
        return store(app, &state.location.source, now_ms(), gone, pack(Vec::new()), Vec::new(), CommitExtras::default()).await;
    }
    let at = Arc::clone(&state.location);
    let account = |measure: Measure| Account {
        stage: at.stage,
        name: at.name.clone(),
        via: at.via.clone(),
        position: at.position,
        sentence: at.sentence.clone(),
        measure,
    };
    let gone = Amount { events: state.events, bytes: state.bytes };
    let held = Posting::new(account(Measure::Held), Amount { events: -gone.events, bytes: -gone.bytes });
    let removed = Posting { account: account(Measure::Removed), amount: gone, by_tag: compiled.by_tag(state.json.as_bytes(), gone) };
    let outcome =
        Outcome { postings: vec![held, removed], tags: Arc::clone(compiled.tags()), windows: vec![WindowChange { id, state: None }], ..Outcome::default() };
    let reason = format!("held back by a step that is no longer part of the plan: {}", at.sentence);
    let data = state.text.unwrap_or(state.json).into_bytes();
    store(app, &at.source, now_ms(), outcome, pack(Vec::new()), vec![Unread { reason, size: data.len(), data }], CommitExtras::default()).await
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
        let _unchanged = app.engine.windows.read().await;
        let running = app.engine.running();
        let (now, all) = (now_ms(), set.is_some());
        // What one lets go may go into one further on its way, and may be due there as well.
        for number in 0..running.compiled.window_count() {
            if !running.compiled.any_due(number, (!all).then_some(now)) {
                continue;
            }
            let _turn = running.order.turn(&running.compiled.windows_from(number)).await;
            if let Err(e) = release(&app, &running.compiled, number, all).await {
                tracing::warn!(error = %e, "what windows held could not be sent on; it is tried again");
            }
        }
    }
}
