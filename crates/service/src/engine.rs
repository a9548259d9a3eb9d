//! The plan that runs, and the workers that deliver.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use arc_swap::ArcSwap;
use rockrose_core::engine::{CompiledPlan, Surroundings};
use rockrose_core::plan::CheckedPlan;
use rockrose_core::redact::HashKey;
use rockrose_delivery::{Health, Worker, WorkerSettings};
use rockrose_spool::Spool;

/// A plan that runs, with its revision's number (0: none was applied yet).
pub(crate) struct Running {
    pub(crate) revision: i64,
    pub(crate) checked: CheckedPlan,
    pub(crate) compiled: CompiledPlan,
}

/// Holds the running plan and the workers.
pub(crate) struct Engine {
    running: ArcSwap<Running>,
    key: HashKey,
    workers: Mutex<BTreeMap<String, Worker>>,
    /// Held by whoever touches what steps hold back, from the work to the commit.
    pub(crate) windows: tokio::sync::Mutex<()>,
    /// Held by whoever applies a plan.
    pub(crate) applying: tokio::sync::Mutex<()>,
}

fn empty_plan() -> CheckedPlan {
    match CheckedPlan::read("") {
        Ok(plan) => plan,
        Err(_) => unreachable!("an empty document is a plan of nothing"),
    }
}

impl Engine {
    pub(crate) fn new(key: [u8; 32]) -> Engine {
        let key = HashKey::new(key);
        let checked = empty_plan();
        let running = Running { revision: 0, compiled: CompiledPlan::new(&checked, key.clone()), checked };
        Engine {
            running: ArcSwap::from_pointee(running),
            key,
            workers: Mutex::default(),
            windows: tokio::sync::Mutex::new(()),
            applying: tokio::sync::Mutex::new(()),
        }
    }

    pub(crate) fn running(&self) -> Arc<Running> {
        self.running.load_full()
    }

    pub(crate) fn compile(&self, checked: &CheckedPlan, surroundings: &Surroundings) -> CompiledPlan {
        CompiledPlan::within(checked, self.key.clone(), surroundings)
    }

    /// From now on events are processed by this plan. Bodies under way end with the one they began with.
    pub(crate) fn run(&self, revision: i64, checked: CheckedPlan, compiled: CompiledPlan) {
        self.running.store(Arc::new(Running { revision, checked, compiled }));
    }

    fn workers(&self) -> std::sync::MutexGuard<'_, BTreeMap<String, Worker>> {
        self.workers.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Makes the workers be those of `wanted`: new ones start, changed ones end and start anew, others end. What waits stays in the spool.
    pub(crate) async fn set_workers(&self, wanted: Vec<WorkerSettings>, spool: &Spool, patience: Duration) {
        let gone: Vec<Worker> = {
            let mut workers = self.workers();
            let names: Vec<String> = workers.iter().filter(|(_, w)| !wanted.contains(w.settings())).map(|(n, _)| n.clone()).collect();
            names.iter().filter_map(|n| workers.remove(n)).collect()
        };
        // A destination has one worker at a time, so that nothing is sent twice.
        for worker in gone {
            worker.stop(patience).await;
        }
        let mut workers = self.workers();
        for settings in wanted {
            workers.entry(settings.name.clone()).or_insert_with(|| Worker::start(settings, spool.clone()));
        }
    }

    pub(crate) async fn stop_workers(&self, patience: Duration) {
        let all = std::mem::take(&mut *self.workers());
        let mut stopping = tokio::task::JoinSet::new();
        for worker in all.into_values() {
            stopping.spawn(worker.stop(patience));
        }
        while stopping.join_next().await.is_some() {}
    }

    pub(crate) fn health(&self, destination: &str) -> Option<Health> {
        self.workers().get(destination).map(|w| w.health().get())
    }
}
