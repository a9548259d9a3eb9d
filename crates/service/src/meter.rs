//! Totals and rates, from the ledger itself: the sums since the beginning are looked at once a second, and a rate is the difference over the last few looks.

use std::collections::{HashMap, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rockrose_ledger::{Account, Amount};

use crate::App;

/// How often the ledger is looked at.
const EVERY: Duration = Duration::from_secs(1);
/// Over how many looks a rate is taken.
const LOOKS: usize = 10;

/// The sums at one moment.
pub(crate) type Sums = Arc<HashMap<Account, Amount>>;

/// The last few looks.
#[derive(Default)]
pub(crate) struct Meter {
    looks: Mutex<VecDeque<(Instant, Sums)>>,
}

/// The newest sums, and the older ones that rates are taken against.
pub(crate) struct Reading {
    pub(crate) now: Sums,
    then: Sums,
    seconds: f64,
}

impl Meter {
    fn looks(&self) -> std::sync::MutexGuard<'_, VecDeque<(Instant, Sums)>> {
        self.looks.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(crate) fn add(&self, sums: Sums) {
        let mut looks = self.looks();
        looks.push_back((Instant::now(), sums));
        while looks.len() > LOOKS + 1 {
            looks.pop_front();
        }
    }

    /// What the meter shows.
    pub(crate) fn read(&self) -> Reading {
        let looks = self.looks();
        match (looks.front(), looks.back()) {
            (Some((t0, then)), Some((t1, now))) => Reading { now: Arc::clone(now), then: Arc::clone(then), seconds: (*t1 - *t0).as_secs_f64() },
            _ => Reading { now: Sums::default(), then: Sums::default(), seconds: 0.0 },
        }
    }
}

impl Reading {
    /// Events and bytes a second in `account`; 0 before there are two looks.
    pub(crate) fn rate(&self, account: &Account) -> (f64, f64) {
        if self.seconds <= 0.0 {
            return (0.0, 0.0);
        }
        let of = |sums: &Sums| sums.get(account).copied().unwrap_or_default();
        let moved = of(&self.now) - of(&self.then);
        (moved.events as f64 / self.seconds, moved.bytes as f64 / self.seconds)
    }

    /// Over how many seconds rates are taken.
    pub(crate) fn seconds(&self) -> f64 {
        self.seconds
    }
}

/// Looks at the ledger until the task is ended. While nothing is committed it is not read again.
pub(crate) async fn run(app: Arc<App>) {
    let mut seen = None;
    let mut last = Sums::default();
    let mut tick = tokio::time::interval(EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        tick.tick().await;
        let commits = app.spool.commits();
        if seen != Some(commits) {
            match app.spool.ledger(None, None).await {
                Ok(rows) => {
                    last = Arc::new(rows.into_iter().map(|r| (r.account, r.amount)).collect());
                    seen = Some(commits);
                }
                Err(e) => tracing::warn!(error = %e, "the ledger cannot be read"),
            }
        }
        app.meter.add(Arc::clone(&last));
    }
}
