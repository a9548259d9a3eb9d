//! A change of what hosts collect that goes to some of them first: which have it, how they stand, and what becomes of it. The others go on by the revision before until then.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex};

use rockrose_agents::{Assigner, First, HostPlan, Progress, Standing, Verdict};
use rockrose_opamp::{RemoteConfigStatuses, agent_capabilities};
use rockrose_plan::CheckedPlan;
use rockrose_records::RecordsError;
use serde::{Deserialize, Serialize};

use super::{Agent, Agents, SILENT_AFTER, as_event, lock, make};
use crate::apply::aside;
use crate::engine::Running;
use crate::{App, now_ms};

/// That a change is to go to some hosts first.
#[derive(Clone, Debug)]
pub(crate) struct StageAsked {
    /// Which.
    pub(crate) first: First,
    /// How long they have to be well before it goes on, in milliseconds.
    pub(crate) well_for_ms: i64,
}

/// Where a stage stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Phase {
    /// The first hosts have it.
    #[default]
    First,
    /// It went back: no host has it.
    Back,
}

/// A stage, as it is kept.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Stage {
    /// By which revision the other hosts go on.
    pub(crate) before: i64,
    /// Which are first, as it was asked.
    pub(crate) first: String,
    /// Their ids.
    pub(crate) hosts: BTreeSet<String>,
    /// What was wrong with them already: an id and a part each.
    ailing: BTreeSet<(String, String)>,
    /// How long they have to be well, in milliseconds.
    pub(crate) well_for_ms: i64,
    /// When it began, in milliseconds since 1970.
    pub(crate) started_ms: i64,
    pub(crate) phase: Phase,
    /// Why it went back.
    pub(crate) says: String,
}

/// A stage of the plan that runs.
pub(crate) struct Staged {
    pub(crate) revision: i64,
    pub(crate) stage: Stage,
    /// The plan before, compiled.
    before: Arc<(CheckedPlan, Assigner)>,
    progress: Mutex<Progress>,
}

impl Staged {
    fn new(revision: i64, stage: Stage, before: Arc<(CheckedPlan, Assigner)>, now_ms: i64) -> Staged {
        // After a restart, hosts have their time anew.
        let progress = Progress { started_ms: now_ms, well_for_ms: stage.well_for_ms, ..Progress::default() };
        Staged { revision, stage, before, progress: Mutex::new(progress) }
    }

    /// Since when the first hosts are well, in milliseconds since 1970.
    pub(crate) fn well_since_ms(&self) -> Option<i64> {
        lock(&self.progress).well_since_ms
    }
}

/// What is done with a stage by hand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum StageAct {
    /// It goes on to all hosts.
    On,
    /// It goes back.
    Back,
}

impl Agents {
    /// The stage of the plan that runs, if it is in one.
    pub(crate) fn stage(&self, running: &Running) -> Option<Arc<Staged>> {
        lock(&self.staged).clone().filter(|staged| staged.revision == running.revision)
    }

    /// By the plan of which revision a host is told what to collect, and that plan, where it is not the one that runs.
    pub(super) fn plan_before(&self, running: &Running, id: &str) -> Option<(i64, Arc<(CheckedPlan, Assigner)>)> {
        let staged = self.stage(running)?;
        let has_it = staged.stage.phase == Phase::First && staged.stage.hosts.contains(id);
        (!has_it).then(|| (staged.stage.before, Arc::clone(&staged.before)))
    }

    /// The stage with which a plan would begin: nothing, if it changes nothing on any host that is heard. An error: none of those that it changes is first.
    pub(crate) fn begin_stage(&self, running: &Running, plan: &CheckedPlan, asked: &StageAsked) -> Result<Option<Stage>, String> {
        let assigner = Assigner::new(plan);
        let now = now_ms();
        let is_able = |agent: &Agent| now - agent.heard_ms <= SILENT_AFTER && agent.heard.capabilities & agent_capabilities::ACCEPTS_REMOTE_CONFIG != 0;
        let able: Vec<Agent> = self.all().into_iter().filter(is_able).collect();
        let changes = |agent: &Agent| {
            let next = assigner.host(plan, &as_event(&agent.facts), make(&agent.facts));
            self.wanted(running, &agent.record.id).is_some_and(|wanted| !wanted.changes(&next).is_empty())
        };
        let changing: Vec<(String, Vec<u8>)> =
            able.iter().filter(|agent| changes(agent)).map(|agent| (agent.record.id.clone(), as_event(&agent.facts))).collect();
        if changing.is_empty() {
            return Ok(None);
        }
        let hosts: BTreeSet<String> = asked.first.choose(&changing).into_iter().collect();
        if hosts.is_empty() {
            return Err(format!("none of the {} hosts that it changes meets `{}`", changing.len(), asked.first));
        }
        let ailing = able.iter().filter(|agent| hosts.contains(&agent.record.id)).flat_map(|agent| {
            let bad = agent.heard.parts.iter().filter(|part| !part.healthy);
            bad.map(|part| (agent.record.id.clone(), part.part.clone())).collect::<Vec<_>>()
        });
        let before = self.stage(running).map_or(running.revision, |staged| staged.stage.before);
        let stage = Stage {
            before,
            first: asked.first.to_string(),
            ailing: ailing.collect(),
            hosts,
            well_for_ms: asked.well_for_ms,
            started_ms: now,
            ..Stage::default()
        };
        Ok(Some(stage))
    }

    /// From now on, `stage` is that of the revision `number`, in which `running` is followed.
    pub(crate) fn set_stage(&self, running: &Running, number: i64, stage: Option<Stage>) {
        let staged = stage.map(|stage| {
            let before = match self.stage(running) {
                Some(staged) => Arc::clone(&staged.before),
                None => Arc::new((running.checked.clone(), Assigner::new(&running.checked))),
            };
            Arc::new(Staged::new(number, stage, before, now_ms()))
        });
        *lock(&self.staged) = staged;
    }

    /// Takes up the stage that was kept of a revision.
    pub(crate) async fn take_up_stage(&self, app: &App, number: i64) -> Result<(), RecordsError> {
        let Some(kept) = app.records(move |r| r.stage(number)).await? else { return Ok(()) };
        let Ok(stage) = serde_json::from_str::<Stage>(&kept) else { return Ok(()) };
        let before = stage.before;
        let Some(revision) = app.records(move |r| r.revision(before)).await? else { return Ok(()) };
        let read = aside(app, move || {
            CheckedPlan::read(&revision.text).map(|plan| {
                let assigner = Assigner::new(&plan);
                Arc::new((plan, assigner))
            })
        })
        .await;
        match read {
            Ok(before) => *lock(&self.staged) = Some(Arc::new(Staged::new(number, stage, before, now_ms()))),
            // It was applied once; a later version of this program may read it otherwise.
            Err(_) => tracing::warn!(revision = before, "the plan before this stage cannot be read any more: all hosts get the newest"),
        }
        Ok(())
    }

    /// How a host of the first stage stands; nothing, if it is one no longer.
    fn standing(&self, running: &Running, stage: &Stage, id: &str, now: i64) -> Option<(String, Standing)> {
        let wanted: Option<Arc<HostPlan>> = self.wanted(running, id);
        let agent = lock(&self.all).get(id).cloned()?;
        let config = &agent.heard.config;
        let has_it = wanted.is_some_and(|wanted| config.hash == wanted.hash());
        let new_trouble = || agent.heard.parts.iter().find(|part| !part.healthy && !stage.ailing.contains(&(id.to_owned(), part.part.clone())));
        let standing = if now - agent.heard_ms > SILENT_AFTER {
            Standing::Ailing("nothing is heard of it".to_owned())
        } else if has_it && config.status == RemoteConfigStatuses::Failed as i32 {
            Standing::Refused(config.error.clone())
        } else if !has_it || config.status != RemoteConfigStatuses::Applied as i32 {
            Standing::Taking
        } else if let Some(part) = new_trouble() {
            Standing::Ailing(format!("{}: {}", part.part, part.says))
        } else {
            Standing::Well
        };
        Some((agent.record.name, standing))
    }

    /// Looks how the first hosts stand, and goes on or back.
    pub(super) async fn judge_stage(&self, app: &App) {
        let (running, now) = (app.engine.running(), now_ms());
        let Some(staged) = self.stage(&running).filter(|staged| staged.stage.phase == Phase::First) else { return };
        let standings: Vec<(String, Standing)> = staged.stage.hosts.iter().filter_map(|id| self.standing(&running, &staged.stage, id, now)).collect();
        let verdict = lock(&staged.progress).judge(&standings, now);
        let done = match verdict {
            Verdict::Wait => Ok(()),
            Verdict::GoOn => self.end_stage(app, &staged, StageAct::On, "service", "the first hosts are well").await,
            Verdict::GoBack(why) => self.end_stage(app, &staged, StageAct::Back, "service", &why).await,
        };
        if let Err(e) = done {
            tracing::warn!(error = %e, "what becomes of the stage cannot be kept; it is tried again");
        }
    }

    /// Lets a stage go on or back.
    async fn end_stage(&self, app: &App, staged: &Arc<Staged>, act: StageAct, who: &str, why: &str) -> Result<(), RecordsError> {
        let number = staged.revision;
        let next = match act {
            StageAct::On => None,
            StageAct::Back => Some(Stage { phase: Phase::Back, says: why.to_owned(), ..staged.stage.clone() }),
        };
        let state = next.as_ref().map(|stage| serde_json::to_string(stage).unwrap_or_default());
        app.records(move |r| r.set_stage(number, state.as_deref())).await?;
        {
            let mut kept = lock(&self.staged);
            // Another plan may have been applied meanwhile.
            if kept.as_ref().is_some_and(|kept| Arc::ptr_eq(kept, staged)) {
                *kept = next.map(|stage| Arc::new(Staged::new(number, stage, Arc::clone(&staged.before), now_ms())));
            }
        }
        self.changed.send_replace(());
        let what = if act == StageAct::On { "change goes on to all hosts" } else { "change goes back on all hosts" };
        app.note_by(who, what, &format!("revision {number}"), why).await;
        tracing::info!(revision = number, why, "{what}");
        Ok(())
    }

    /// Does by hand what a stage does by itself. `false`: there is none in which this can be done.
    pub(crate) async fn act_on_stage(&self, app: &App, act: StageAct, who: &str) -> Result<bool, RecordsError> {
        let running = app.engine.running();
        let Some(staged) = self.stage(&running).filter(|staged| act == StageAct::On || staged.stage.phase == Phase::First) else { return Ok(false) };
        self.end_stage(app, &staged, act, who, &format!("as {who} says")).await?;
        Ok(true)
    }
}
