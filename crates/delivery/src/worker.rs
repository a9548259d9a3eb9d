//! One destination's worker: takes, sends, retries, settles.
//!
//! A worker runs one or more *lanes*. Each takes queue entries that no other has, sends them, and settles them; so lanes never wait for one another, and what was taken is settled
//! whatever becomes of the rest. A destination that must get its events in order has one lane; else there are as many as its answers allow.

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rockrose_spool::{DeliveryBatch, Discard, GiveUp, Settlement, Spool, SpoolError, Which};
use tokio::sync::watch;
use tokio::task::{JoinHandle, JoinSet};
use tokio_util::sync::CancellationToken;

use crate::concurrency::ConcurrencyLimit;
use crate::kind::{Failure, Gathering, OpenError, Outgoing, Outlet, Taken, Target};
use crate::words::without_words;
use crate::{HealthHandle, now_ms};

/// First pause after a failure; each further one is twice as long.
const FIRST_PAUSE: Duration = Duration::from_millis(250);
/// Longest pause between tries, unless the destination asks for a longer one.
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// Pause when the spool itself cannot be read or written.
const SPOOL_PAUSE: Duration = Duration::from_secs(1);
/// So many events refused one by one, with none taken between: the fault is not theirs, and they wait instead of being set aside.
const REFUSALS_IN_A_ROW: u32 = 50;
/// How often what waits too long is looked for.
const AGE_EVERY: Duration = Duration::from_secs(5);

/// What a worker is set to.
#[derive(Clone, PartialEq, Eq)]
pub struct WorkerSettings {
    /// The destination's name.
    pub name: String,
    /// What it is.
    pub target: Target,
    /// Most bodies on their way at once; 1 keeps the order.
    pub in_flight: usize,
    /// Most bytes in a second.
    pub rate: Option<u64>,
    /// What waits longer is let go.
    pub hold_for: Option<Duration>,
    /// How soon after its own time an event is to be accepted.
    pub within: Option<Duration>,
}

impl WorkerSettings {
    /// One lane, no bound on rate or age.
    #[must_use]
    pub fn new(name: &str, target: impl Into<Target>) -> WorkerSettings {
        WorkerSettings { name: name.to_owned(), target: target.into(), in_flight: 1, rate: None, hold_for: None, within: None }
    }
}

/// A running worker.
pub struct Worker {
    settings: WorkerSettings,
    health: HealthHandle,
    paused: watch::Sender<bool>,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

impl Worker {
    /// Starts to deliver what waits, and will wait, for the destination; or, `paused`, to hold it until it is resumed.
    #[must_use]
    pub fn start(settings: WorkerSettings, spool: Spool, paused: bool) -> Worker {
        let health = HealthHandle::promising(now_ms(), settings.within);
        let stop = CancellationToken::new();
        let paused = watch::channel(paused).0;
        let concurrency = ConcurrencyLimit::new(if settings.target.limits().parallel { settings.in_flight.max(1) } else { 1 });
        let shared = Arc::new(Shared {
            settings: settings.clone(),
            spool,
            health: health.clone(),
            stop: stop.clone(),
            paused: paused.subscribe(),
            concurrency,
            claimed: Mutex::default(),
            next_free: Mutex::new(Instant::now()),
            refusals: Mutex::new(0),
            begun: Instant::now(),
            begun_ms: now_ms(),
            gathers_since: Mutex::default(),
        });
        Worker { settings, health, paused, stop, task: tokio::spawn(dispatch(shared)) }
    }

    /// What it is set to.
    #[must_use]
    pub fn settings(&self) -> &WorkerSettings {
        &self.settings
    }

    /// How the destination is doing.
    #[must_use]
    pub fn health(&self) -> &HealthHandle {
        &self.health
    }

    /// Begins no further try while paused; what is on its way ends.
    pub fn pause(&self, paused: bool) {
        self.paused.send_replace(paused);
    }

    /// Begins no further try; returns when those under way have ended, or after `patience`, when they are cut off.
    pub async fn stop(self, patience: Duration) {
        self.stop.cancel();
        let abort = self.task.abort_handle();
        if tokio::time::timeout(patience, self.task).await.is_err() {
            abort.abort();
        }
    }
}

/// Why a worker cannot open the way to its destination.
#[derive(Debug, thiserror::Error)]
enum CannotOpen {
    #[error(transparent)]
    Spool(#[from] SpoolError),
    #[error(transparent)]
    Destination(#[from] OpenError),
}

/// What the lanes of one worker share.
struct Shared {
    settings: WorkerSettings,
    spool: Spool,
    health: HealthHandle,
    stop: CancellationToken,
    paused: watch::Receiver<bool>,
    concurrency: ConcurrencyLimit,
    /// Queue entries that a lane has.
    claimed: Mutex<HashSet<i64>>,
    /// When the next bytes may go, where there is a bound on them.
    next_free: Mutex<Instant>,
    refusals: Mutex<u32>,
    /// When the worker began, by two clocks.
    begun: Instant,
    begun_ms: i64,
    /// For one that gathers, when the oldest that waits was queued, and since when that is known.
    gathers_since: Mutex<Option<(i64, Instant)>>,
}

/// What a lane leaves behind.
struct Ended {
    outlet: Box<dyn Outlet>,
    /// Whether all of its batch is settled.
    all: bool,
}

/// Gives lanes work, as many as the destination's answers allow.
async fn dispatch(shared: Arc<Shared>) {
    let mut arrivals = shared.spool.arrivals();
    let mut paused = shared.paused.clone();
    let mut running: JoinSet<Ended> = JoinSet::new();
    let mut idle: Vec<Box<dyn Outlet>> = Vec::new();
    let mut ahead: Option<DeliveryBatch> = None;
    let mut looked: Option<Instant> = None;
    while !shared.stop.is_cancelled() {
        arrivals.mark_unchanged();
        if looked.is_none_or(|at| at.elapsed() >= AGE_EVERY) {
            looked = Some(Instant::now());
            shared.let_go_what_is_too_old().await;
        }
        let halted = *paused.borrow_and_update();
        if halted {
            shared.let_go(ahead.take());
            shared.health.paused(now_ms());
        } else {
            shared.health.resumed(now_ms());
        }
        let mut empty = halted;
        let mut looks_again = AGE_EVERY;
        while !empty && running.len() < shared.concurrency.allowed() && !shared.stop.is_cancelled() {
            let outlet = match idle.pop() {
                Some(outlet) => outlet,
                None => match shared.open().await {
                    Some(outlet) => outlet,
                    None => break,
                },
            };
            if let Some(wait) = shared.gathers() {
                looks_again = looks_again.min(wait);
                idle.push(outlet);
                empty = true;
                continue;
            }
            let next = match ahead.take() {
                Some(batch) => Some(batch),
                None => shared.take(shared.settings.target.limits().max_batch).await,
            };
            match next {
                Some(batch) => {
                    let lane = Arc::clone(&shared);
                    running.spawn(async move { lane.run(outlet, batch).await });
                }
                None => {
                    idle.push(outlet);
                    empty = true;
                }
            }
        }
        shared.concurrency.busy(running.len(), empty);
        if ahead.is_none() && !running.is_empty() && shared.takes_ahead() {
            ahead = shared.take(shared.settings.target.limits().max_batch).await;
        }
        tokio::select! {
            () = shared.stop.cancelled() => {}
            Some(ended) = running.join_next(), if !running.is_empty() => {
                let ended = ended.ok();
                // What comes behind what is left of a batch must not go before it.
                if ended.as_ref().is_none_or(|ended| !ended.all) {
                    shared.let_go(ahead.take());
                }
                idle.extend(ended.map(|ended| ended.outlet));
            }
            changed = arrivals.changed(), if empty && !halted => if changed.is_err() { break },
            changed = paused.changed() => if changed.is_err() { break },
            () = tokio::time::sleep(looks_again) => {}
        }
    }
    while running.join_next().await.is_some() {}
    shared.health.stopped(now_ms());
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Shared {
    fn name(&self) -> &str {
        &self.settings.name
    }

    fn halted(&self) -> bool {
        self.stop.is_cancelled() || *self.paused.borrow()
    }

    async fn open(&self) -> Option<Box<dyn Outlet>> {
        let mut pause = FIRST_PAUSE;
        loop {
            match self.try_open().await {
                Ok(outlet) => return Some(outlet),
                Err(why) => self.pause(&why.to_string(), pause).await,
            }
            pause = (pause * 2).min(LONGEST_PAUSE);
            if self.halted() {
                return None;
            }
        }
    }

    /// Opens the way to the destination.
    async fn try_open(&self) -> Result<Box<dyn Outlet>, CannotOpen> {
        let reached = match self.settings.target.limits().file {
            Some(path) => self.spool.reached(self.name(), path).await?,
            None => None,
        };
        Ok(self.settings.target.open(reached)?)
    }

    /// For a destination that gets much at once: how long it may be until enough waits, or what waits has waited long enough. `None`: now is the time.
    fn gathers(&self) -> Option<Duration> {
        let Gathering { bytes, every } = self.settings.target.limits().gathers?;
        let waiting = self.spool.waiting_for(self.name());
        if waiting.amount.events == 0 {
            return Some(AGE_EVERY);
        }
        if waiting.amount.bytes as u64 >= bytes {
            return None;
        }
        let age = Duration::from_millis(u64::try_from(now_ms() - waiting.oldest_ms).unwrap_or(0));
        // A clock that was set back makes what waits look young; so it is also seen since when it waits here.
        let mut since = lock(&self.gathers_since);
        let seen = match *since {
            Some((oldest, at)) if oldest == waiting.oldest_ms => at.elapsed(),
            _ => since.insert((waiting.oldest_ms, Instant::now())).1.elapsed(),
        };
        every.checked_sub(age.max(seen)).filter(|left| !left.is_zero())
    }

    /// The next events that no lane has. What is damaged on the disk is given up, so that it does not hold up the rest.
    async fn take(&self, max_bytes: usize) -> Option<DeliveryBatch> {
        loop {
            let claimed: Vec<i64> = lock(&self.claimed).iter().copied().collect();
            match self.spool.next_but(self.name(), max_bytes, claimed).await {
                Ok(batch) => {
                    lock(&self.claimed).extend(batch.iter().flat_map(DeliveryBatch::entries));
                    return batch;
                }
                Err(SpoolError::Damaged(batch)) => match self.spool.give_up(GiveUp { batch, at_ms: now_ms() }).await {
                    Ok(gone) => {
                        tracing::error!(destination = self.name(), events = gone.events, "queued events are damaged on disk and were given up");
                        self.health.refused(now_ms(), &format!("{} queued events are damaged on disk and were given up", gone.events));
                    }
                    Err(e) => return self.cannot_read(&e).await,
                },
                Err(e) => return self.cannot_read(&e).await,
            }
        }
    }

    /// Whether the next batch is read while one is on its way: where there is one lane and so much waits that it would be a whole one anyway.
    fn takes_ahead(&self) -> bool {
        let limits = self.settings.target.limits();
        let one_lane = self.settings.in_flight <= 1 || !limits.parallel;
        one_lane && limits.gathers.is_none() && !self.halted() && self.spool.waiting_for(self.name()).amount.bytes as u64 >= 2 * limits.max_batch as u64
    }

    /// Gives what was read ahead back to the queue.
    fn let_go(&self, batch: Option<DeliveryBatch>) {
        if let Some(batch) = batch {
            self.release(&batch.entries().collect::<Vec<_>>());
        }
    }

    /// No lane has these entries any more.
    fn release(&self, entries: &[i64]) {
        lock(&self.claimed).retain(|claimed| !entries.contains(claimed));
    }

    async fn cannot_read(&self, e: &SpoolError) -> Option<DeliveryBatch> {
        tracing::error!(destination = self.name(), error = %e, "cannot read the queue");
        self.pause(&e.to_string(), SPOOL_PAUSE).await;
        None
    }

    async fn let_go_what_is_too_old(&self) {
        let Some(hold_for) = self.settings.hold_for else { return };
        // By a clock that is not set while the service runs: one that is set far forward must not make everything old.
        let now = self.begun_ms + i64::try_from(self.begun.elapsed().as_millis()).unwrap_or(i64::MAX);
        let before = now - i64::try_from(hold_for.as_millis()).unwrap_or(i64::MAX);
        let waiting = self.spool.waiting_for(self.name());
        if waiting.amount.events == 0 || waiting.oldest_ms >= before {
            return;
        }
        let discard = Discard { destination: self.name().to_owned(), which: Which::QueuedBefore(before), at_ms: now };
        match self.spool.discard(discard).await {
            Ok(gone) => tracing::warn!(destination = self.name(), events = gone.events, "waited too long and were discarded"),
            Err(e) => tracing::error!(destination = self.name(), error = %e, "cannot discard events that waited too long"),
        }
    }

    /// Waits, or until the worker is stopped or paused; the health says why and until when.
    async fn pause(&self, why: &str, pause: Duration) {
        let now = now_ms();
        self.health.failed(now, why, now + pause.as_millis() as i64);
        let mut paused = self.paused.clone();
        tokio::select! {
            () = self.stop.cancelled() => {}
            _ = paused.wait_for(|paused| *paused) => {}
            () = tokio::time::sleep(pause) => {}
        }
    }

    /// Waits until so many bytes may go. Says whether they may.
    async fn paced(&self, bytes: usize) -> bool {
        let Some(rate) = self.settings.rate else { return true };
        let start = {
            let mut next = lock(&self.next_free);
            let start = (*next).max(Instant::now());
            *next = start + Duration::from_secs_f64(bytes as f64 / rate.max(1) as f64);
            start
        };
        let mut paused = self.paused.clone();
        tokio::select! {
            () = self.stop.cancelled() => false,
            _ = paused.wait_for(|paused| *paused) => false,
            () = tokio::time::sleep_until(start.into()) => true,
        }
    }

    /// One lane: delivers a batch, and gives back its outlet.
    async fn run(self: Arc<Self>, mut outlet: Box<dyn Outlet>, mut batch: DeliveryBatch) -> Ended {
        let entries: Vec<i64> = batch.entries().collect();
        self.deliver(&mut outlet, &mut batch).await;
        self.release(&entries);
        Ended { outlet, all: batch.is_empty() }
    }

    /// Sends all of a batch, front first. What was taken or refused is settled at once, so that nothing is sent twice.
    async fn deliver(&self, outlet: &mut Box<dyn Outlet>, batch: &mut DeliveryBatch) {
        let file = self.settings.target.limits().file;
        let mut at_once = batch.len();
        let mut failures = 0u32;
        while !batch.is_empty() && !self.halted() {
            at_once = at_once.clamp(1, batch.len());
            if !self.paced(batch.front(at_once).len()).await {
                return;
            }
            let prepared = outlet.prepare().await;
            if let (Ok(Some(length)), Some(path)) = (&prepared, file)
                && !self.settle(Settlement::nothing(self.name(), now_ms()).reaching(path, *length)).await
            {
                return;
            }
            let begun = Instant::now();
            let sent = match prepared {
                Ok(_) => {
                    outlet
                        .send(Outgoing { lines: batch.front(at_once), frames: batch.frames(at_once), events: at_once, origins: &|| batch.origins(at_once) })
                        .await
                }
                Err(failure) => Err(failure),
            };
            self.health.answered(now_ms(), begun.elapsed(), sent.is_ok());
            match sent {
                Ok(taken) => {
                    failures = 0;
                    if !self.took(batch, at_once, taken).await {
                        return;
                    }
                    outlet.settled();
                    self.health.took(now_ms());
                    at_once = at_once.saturating_mul(2);
                }
                Err(Failure::TooLarge(_) | Failure::Refused(_)) if at_once > 1 => at_once /= 2,
                Err(Failure::TooLarge(why) | Failure::Refused(why)) => {
                    let refusals = {
                        let mut refusals = lock(&self.refusals);
                        *refusals += 1;
                        *refusals
                    };
                    if refusals > REFUSALS_IN_A_ROW {
                        self.pause(&format!("refuses everything, so it waits: {why}"), LONGEST_PAUSE).await;
                        continue;
                    }
                    self.health.refused(now_ms(), &why);
                    let settlement = batch.settle(1, Some(why), now_ms());
                    if !self.settle(settlement).await {
                        return;
                    }
                    at_once = 1;
                }
                Err(Failure::Later { why, after }) => {
                    let pause = after.unwrap_or_else(|| back_off(failures));
                    if failures == 0 {
                        tracing::warn!(destination = self.name(), why = without_words(&why), "delivery failed; it is tried again");
                    }
                    failures = failures.saturating_add(1);
                    let too_many = self.concurrency.failed();
                    self.pause(&why, pause).await;
                    // There are more lanes than it bears: what this one has goes back to the queue.
                    if too_many {
                        return;
                    }
                    // Opened anew now and then, so that certificates that were renewed are taken up.
                    if failures.is_multiple_of(8)
                        && file.is_none()
                        && let Ok(fresh) = self.try_open().await
                    {
                        *outlet = fresh;
                    }
                }
            }
        }
    }

    /// Settles the first events of a batch, which were taken but for those that were refused. `false`: it could not be recorded.
    async fn took(&self, batch: &mut DeliveryBatch, events: usize, Taken { length, refused, noticed }: Taken) -> bool {
        if let Some(noticed) = noticed {
            self.health.noticed(now_ms(), &noticed);
        }
        *lock(&self.refusals) = 0;
        self.concurrency.took();
        let front = refused.is_some().then(|| batch.front(events));
        let ages = crate::freshness::ages(batch, events, now_ms());
        let mut settlement = batch.settle(events, None, now_ms());
        if let (Some(length), Some(path)) = (length, self.settings.target.limits().file) {
            settlement = settlement.reaching(path, length);
        }
        if let (Some((events, why)), Some(front)) = (refused, front) {
            self.health.refused(now_ms(), &why);
            settlement = settlement.but_for(events, &why, front);
        }
        let kept = self.settle(settlement).await;
        if kept {
            self.health.accepted(now_ms(), &ages);
        }
        kept
    }

    /// Records a settlement. If the spool cannot, the batch is given up: it will be read anew, as the spool knows it.
    async fn settle(&self, settlement: Settlement) -> bool {
        match self.spool.settle(settlement).await {
            Ok(()) => true,
            // An operator let it go while it was on its way.
            Err(SpoolError::Settled) => false,
            Err(e) => {
                tracing::error!(destination = self.name(), error = %e, "cannot record what was delivered; it may be sent again");
                self.pause(&e.to_string(), SPOOL_PAUSE).await;
                false
            }
        }
    }
}

/// The pause after `failures` failures before this one: doubling, bounded, and anywhere in its upper half so that many workers do not come back together.
fn back_off(failures: u32) -> Duration {
    let full = FIRST_PAUSE.saturating_mul(1 << failures.min(10)).min(LONGEST_PAUSE);
    full.mul_f64(0.5 + fastrand::f64() / 2.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_a_bound_and_vary() {
        for (failures, full) in [(0, 250), (1, 500), (3, 2_000), (7, 30_000), (200, 30_000)] {
            let pauses: Vec<u128> = (0..50).map(|_| back_off(failures).as_millis()).collect();
            assert!(pauses.iter().all(|p| (full / 2..=full).contains(p)), "{failures}: {pauses:?}");
            assert!(pauses.iter().any(|p| *p != pauses[0]));
        }
    }
}
