//! How an agent is doing, for whoever is on the host.

use rockrose_service::PartCondition;
use serde::{Deserialize, Serialize};

use crate::folder::Folder;
use crate::now_ms;

/// An agent that has not said how it is doing for so long does not run, in milliseconds.
const STALE: i64 = 20_000;

/// How an agent is doing.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Status {
    /// Its name.
    pub name: String,
    /// The centre.
    pub centre: String,
    /// Its version.
    pub version: String,
    /// When this was written, in milliseconds since 1970.
    pub written_ms: i64,
    /// When the centre answered last, in milliseconds since 1970.
    pub heard_ms: Option<i64>,
    /// Why it does not answer, if it does not.
    pub error: Option<String>,
    /// Why the plan that the centre gave last is not run; then the one before goes on.
    pub plan_error: Option<String>,
    /// Whether it was given a plan yet.
    pub has_plan: bool,
    /// Events that wait to be sent.
    pub waiting_events: i64,
    /// Their bytes.
    pub waiting_bytes: i64,
    /// Events that were collected since it enrolled.
    pub collected: i64,
    /// Events that the centre accepted since it enrolled.
    pub sent: i64,
    /// Whether its ledger balances; nothing, before it was looked at.
    pub balanced: Option<bool>,
    /// Its sources and its destination.
    pub parts: Vec<PartCondition>,
}

impl Status {
    /// How the agent in a folder is doing, as it said last.
    ///
    /// # Errors
    /// If it never said.
    pub fn read(folder: &Folder) -> anyhow::Result<Status> {
        let path = folder.status_file();
        let text = std::fs::read(&path)
            .map_err(|_| anyhow::anyhow!("the agent has not run yet; start it with: rockrose agent run --data {}", folder.path().display()))?;
        serde_json::from_slice(&text).map_err(|e| anyhow::anyhow!("{}: {e}", path.display()))
    }

    /// Whether the agent runs, as far as that can be told.
    #[must_use]
    pub fn is_running(&self) -> bool {
        now_ms() - self.written_ms < STALE
    }

    /// Whether somebody has to do something.
    #[must_use]
    pub fn is_well(&self) -> bool {
        self.is_running() && self.error.is_none() && self.plan_error.is_none() && self.balanced != Some(false) && self.parts.iter().all(|part| part.fine)
    }

    pub(crate) fn keep(&self, folder: &Folder) {
        let kept = serde_json::to_vec_pretty(self).map_err(anyhow::Error::from).and_then(|text| folder.write(&folder.status_file(), &text));
        if let Err(e) = kept {
            tracing::warn!(error = %e, "how the agent is doing could not be written");
        }
    }
}
