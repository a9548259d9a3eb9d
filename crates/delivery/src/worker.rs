//! One destination's worker: takes, sends, retries, settles.

use std::time::Duration;

use rockrose_spool::{Parcel, Spool};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::file::FileOutlet;
use crate::http::HttpOutlet;
use crate::{Failure, HealthHandle, Kind, Outlet, discard, now_ms};

/// First pause after a failure; each further one is twice as long.
const FIRST_PAUSE: Duration = Duration::from_millis(250);
/// Longest pause between tries, unless the destination asks for a longer one.
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// Pause when the spool itself cannot be read or written.
const SPOOL_PAUSE: Duration = Duration::from_secs(1);
/// So many events refused one by one, with none taken between: the fault is not theirs, and they wait instead of being set aside.
const REFUSALS_IN_A_ROW: u32 = 50;

/// What a worker is set to.
#[derive(Clone, PartialEq, Eq)]
pub struct WorkerSettings {
    /// The destination's name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
}

/// A running worker.
pub struct Worker {
    settings: WorkerSettings,
    health: HealthHandle,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

impl Worker {
    /// Starts to deliver what waits, and will wait, for the destination.
    #[must_use]
    pub fn start(settings: WorkerSettings, spool: Spool) -> Worker {
        let health = HealthHandle::new(now_ms());
        let stop = CancellationToken::new();
        let run = Run { settings: settings.clone(), spool, health: health.clone(), stop: stop.clone(), refusals: 0 };
        Worker { settings, health, stop, task: tokio::spawn(run.run()) }
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

    /// Begins no further try; returns when the one under way has ended, or after `patience`, when it is cut off.
    pub async fn stop(self, patience: Duration) {
        self.stop.cancel();
        let abort = self.task.abort_handle();
        if tokio::time::timeout(patience, self.task).await.is_err() {
            abort.abort();
        }
    }
}

struct Run {
    settings: WorkerSettings,
    spool: Spool,
    health: HealthHandle,
    stop: CancellationToken,
    refusals: u32,
}

impl Run {
    async fn run(mut self) {
        let name = self.settings.name.clone();
        let mut arrivals = self.spool.arrivals();
        let Some(mut outlet) = self.open().await else { return };
        while !self.stop.is_cancelled() {
            arrivals.mark_unchanged();
            match self.spool.next(&name, outlet.max_batch()).await {
                Ok(Some(parcel)) => self.deliver(&mut outlet, parcel).await,
                Ok(None) => {
                    tokio::select! {
                        () = self.stop.cancelled() => {}
                        changed = arrivals.changed() => if changed.is_err() { break },
                    }
                }
                Err(e) => {
                    tracing::error!(destination = name, error = %e, "cannot read what waits");
                    self.pause(&e.to_string(), SPOOL_PAUSE).await;
                }
            }
        }
        self.health.stopped(now_ms());
    }

    async fn open(&self) -> Option<Outlet> {
        loop {
            let opened = match &self.settings.kind {
                Kind::File { path } => {
                    let file = path.to_string_lossy();
                    self.spool
                        .reached(&self.settings.name, &file)
                        .await
                        .map(|reached| Outlet::File(FileOutlet::new(path.clone(), reached)))
                        .map_err(|e| e.to_string())
                }
                Kind::Http { endpoints, token, gzip, timeout, max_batch } => {
                    HttpOutlet::new(endpoints.clone(), token.as_deref(), *gzip, *timeout, *max_batch).map(|o| Outlet::Http(Box::new(o)))
                }
                Kind::Discard => Ok(Outlet::Discard(discard::DiscardOutlet)),
            };
            match opened {
                Ok(outlet) => return Some(outlet),
                Err(why) => self.pause(&why, LONGEST_PAUSE).await,
            }
            if self.stop.is_cancelled() {
                return None;
            }
        }
    }

    /// Waits, or until the worker is stopped; the health says why and until when.
    async fn pause(&self, why: &str, pause: Duration) {
        let now = now_ms();
        self.health.failed(now, why, now + pause.as_millis() as i64);
        tokio::select! {
            () = self.stop.cancelled() => {}
            () = tokio::time::sleep(pause) => {}
        }
    }

    /// Sends all of a parcel, front first. What was taken or refused is settled at once, so that nothing is sent twice.
    async fn deliver(&mut self, outlet: &mut Outlet, mut parcel: Parcel) {
        let mut at_once = parcel.len();
        let mut failures = 0u32;
        while !parcel.is_empty() && !self.stop.is_cancelled() {
            at_once = at_once.clamp(1, parcel.len());
            match outlet.send(parcel.front(at_once).to_vec()).await {
                Ok(length) => {
                    self.refusals = 0;
                    failures = 0;
                    let mut settlement = parcel.settle(at_once, None, now_ms());
                    if let (Some(length), Kind::File { path }) = (length, &self.settings.kind) {
                        settlement = settlement.reaching(&path.to_string_lossy(), length);
                    }
                    if !self.settle(settlement).await {
                        return;
                    }
                    outlet.settled();
                    self.health.took(now_ms());
                    at_once = at_once.saturating_mul(2);
                }
                Err(Failure::TooLarge(_) | Failure::Refused(_)) if at_once > 1 => at_once /= 2,
                Err(Failure::TooLarge(why) | Failure::Refused(why)) => {
                    self.refusals += 1;
                    if self.refusals > REFUSALS_IN_A_ROW {
                        self.pause(&format!("refuses everything, so it waits: {why}"), LONGEST_PAUSE).await;
                        continue;
                    }
                    self.health.refused(now_ms(), &why);
                    let settlement = parcel.settle(1, Some(why), now_ms());
                    if !self.settle(settlement).await {
                        return;
                    }
                    at_once = 1;
                }
                Err(Failure::Later { why, after }) => {
                    let pause = after.unwrap_or_else(|| back_off(failures));
                    if failures == 0 {
                        tracing::warn!(destination = self.settings.name, why, "delivery failed; it is tried again");
                    }
                    failures = failures.saturating_add(1);
                    self.pause(&why, pause).await;
                }
            }
        }
    }

    /// Records a settlement. If the spool cannot, the parcel is given up: it will be read anew, as the spool knows it.
    async fn settle(&self, settlement: rockrose_spool::Settlement) -> bool {
        match self.spool.settle(settlement).await {
            Ok(()) => true,
            Err(e) => {
                tracing::error!(destination = self.settings.name, error = %e, "cannot record what was delivered; it may be sent again");
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
