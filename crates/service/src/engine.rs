//! The active plan, and the workers that deliver.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use arc_swap::ArcSwap;
use rockrose_delivery::{AnswersThen, Health, Worker, WorkerSettings};
use rockrose_engine::{CompiledPlan, Environment};
use rockrose_plan::CheckedPlan;
use rockrose_records::{Paused, Side};
use rockrose_redact::HashKey;
use rockrose_spool::Spool;

use crate::windows::Order;

/// A plan that runs, with its revision's number (0: none was applied yet).
pub(crate) struct Running {
    pub(crate) revision: i64,
    pub(crate) checked: CheckedPlan,
    pub(crate) compiled: CompiledPlan,
    /// Who may touch what its steps hold back.
    pub(crate) order: Order,
    /// What its steps ask beyond the events.
    pub(crate) environment: Environment,
}

impl Running {
    /// The numbers of the windows that events of the source called `source` can reach.
    pub(crate) fn windows_of(&self, source: &str) -> &[usize] {
        self.compiled.source(source).map_or(&[], |number| self.compiled.windows_of(number))
    }
}

/// Holds the running plan and the workers.
pub(crate) struct Engine {
    running: ArcSwap<Running>,
    key: HashKey,
    workers: Mutex<BTreeMap<String, Worker>>,
    paused: Mutex<BTreeMap<String, Paused>>,
    paused_sources: Mutex<BTreeMap<String, Paused>>,
    /// Read by whoever touches what steps hold back, from the work to the commit, so that the plan stays; written by whoever exchanges the plan.
    pub(crate) windows: tokio::sync::RwLock<()>,
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
    pub(crate) fn new(key: [u8; 32], paused: Vec<Paused>, paused_sources: Vec<Paused>) -> Engine {
        let by_name = |all: Vec<Paused>| Mutex::new(all.into_iter().map(|p| (p.name.clone(), p)).collect());
        let key = HashKey::new(key);
        let checked = empty_plan();
        let compiled = CompiledPlan::new(&checked, key.clone());
        let running = Running { revision: 0, order: Order::of(&compiled), compiled, checked, environment: Environment::default() };
        Engine {
            running: ArcSwap::from_pointee(running),
            key,
            workers: Mutex::default(),
            paused: by_name(paused),
            paused_sources: by_name(paused_sources),
            windows: tokio::sync::RwLock::new(()),
            applying: tokio::sync::Mutex::new(()),
        }
    }

    pub(crate) fn running(&self) -> Arc<Running> {
        self.running.load_full()
    }

    pub(crate) fn compile(&self, checked: &CheckedPlan, environment: &Environment) -> CompiledPlan {
        CompiledPlan::within(checked, self.key.clone(), environment)
    }

    /// What is redacted `as hash` is hashed with this.
    pub(crate) fn key(&self) -> HashKey {
        self.key.clone()
    }

    /// From now on events are processed by this plan. Bodies under way end with the one they began with.
    pub(crate) fn run(&self, revision: i64, checked: CheckedPlan, compiled: CompiledPlan, environment: Environment) {
        self.running.store(Arc::new(Running { revision, checked, order: Order::of(&compiled), compiled, environment }));
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
            let paused = self.paused(Side::Destination, &settings.name).is_some();
            workers.entry(settings.name.clone()).or_insert_with(|| Worker::start(settings, spool.clone(), paused));
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

    fn all_paused(&self, side: Side) -> std::sync::MutexGuard<'_, BTreeMap<String, Paused>> {
        let all = match side {
            Side::Source => &self.paused_sources,
            Side::Destination => &self.paused,
        };
        all.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Since when and by whom something is paused, if it is.
    pub(crate) fn paused(&self, side: Side, name: &str) -> Option<Paused> {
        self.all_paused(side).get(name).cloned()
    }

    /// Notes that something is paused, or is not; a destination's worker is told.
    pub(crate) fn set_paused(&self, side: Side, name: &str, paused: Option<Paused>) {
        let pause = paused.is_some();
        match paused {
            Some(paused) => self.all_paused(side).insert(name.to_owned(), paused),
            None => self.all_paused(side).remove(name),
        };
        if side == Side::Destination
            && let Some(worker) = self.workers().get(name)
        {
            worker.pause(pause);
        }
    }

    /// What a destination's worker is set to.
    pub(crate) fn settings(&self, destination: &str) -> Option<WorkerSettings> {
        self.workers().get(destination).map(|w| w.settings().clone())
    }

    /// A destination's answers over the last day.
    pub(crate) fn day(&self, destination: &str) -> Option<Vec<AnswersThen>> {
        self.workers().get(destination).map(|w| w.health().day())
    }

    pub(crate) fn health(&self, destination: &str) -> Option<Health> {
        self.workers().get(destination).map(|w| w.health().get())
    }
}
