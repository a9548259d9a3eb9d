//! Which steps the active plan has, and which revision was the last to have one that it has not: the ledger remembers steps that were edited away.

use std::collections::HashMap;
use std::sync::Arc;

use rockrose_ledger::{Account, Stage};
use rockrose_plan::CheckedPlan;
use rockrose_records::RecordsError;
use tokio::sync::Mutex;

use crate::App;

/// So many revisions are gone through, newest first.
const REVISIONS: usize = 50;
/// And so many bytes of plans: a large plan takes a while to read.
const MAX_READ: usize = 4 << 20;

/// A step's place: the stage, its name, its place in its list from 1, and its sentence.
type StepKey = (Stage, String, i32, String);

/// Each step of the last revisions, and the newest of them that has it.
pub(crate) type LastRevisions = HashMap<StepKey, i64>;

/// The steps of the last revisions, kept for as long as one revision is active.
#[derive(Default)]
pub(crate) struct History {
    known: Mutex<Option<(i64, Arc<LastRevisions>)>>,
}

/// Every step of a plan, as the ledger names it.
fn steps_of(plan: &CheckedPlan) -> impl Iterator<Item = StepKey> + '_ {
    let lists = plan.lists().filter_map(|(part, steps)| Some((Stage::read(part.kind)?, part.name, steps)));
    lists.flat_map(|(stage, name, steps)| steps.into_iter().zip(1..).map(move |(step, position)| (stage, name.clone(), position, step.to_string())))
}

impl History {
    /// The steps that are known now.
    pub(crate) async fn steps(app: &App) -> Result<(i64, Arc<LastRevisions>), RecordsError> {
        let running = app.engine.running();
        let active = running.revision;
        // Only one goes through them; others wait for what it finds.
        let mut known = app.history.known.lock().await;
        if let Some(known) = known.as_ref().filter(|(revision, _)| *revision == active) {
            return Ok(known.clone());
        }
        let found = app.records(move |records| {
            let mut last = LastRevisions::new();
            let mut read = 0;
            for number in (1..active).rev().take(REVISIONS) {
                let Some(revision) = records.revision(number)? else { continue };
                read += revision.text.len();
                if read > MAX_READ {
                    break;
                }
                // One that an older version wrote may not be readable any more.
                let Ok(plan) = CheckedPlan::read(&revision.text) else { continue };
                for step in steps_of(&plan) {
                    last.entry(step).or_insert(revision.number);
                }
            }
            Ok(last)
        });
        let mut last = found.await?;
        // What runs is what counts, even where it is not the newest that was kept.
        last.extend(steps_of(&running.checked).map(|step| (step, active)));
        let found = (active, Arc::new(last));
        *known = Some(found.clone());
        Ok(found)
    }
}

/// The last revision that had the step of an account, if it is known; `None` as well for accounts of no step.
pub(crate) fn last_revision(steps: &LastRevisions, account: &Account) -> Option<i64> {
    let key = (account.stage, account.name.clone(), account.position, account.sentence.clone());
    steps.get(&key).copied().filter(|_| account.position > 0)
}
