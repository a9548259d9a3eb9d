//! The program that agents are given: signed by this service's authority, to some of them first, then on to all, or no further.

use std::collections::BTreeSet;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use rcgen::{KeyPair, SigningKey};
use rockrose_agents::{First, Progress, Standing, Verdict};
use rockrose_opamp::{DownloadableFile, PackageAvailable, PackageStatusEnum, PackageType, PackagesAvailable, agent_capabilities};
use rockrose_records::RecordsError;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::{Agent, Agents, SILENT_AFTER, as_event, hex, lock};
use crate::{App, now_ms};

/// What the program of agents is called among the packages of the protocol.
pub const PACKAGE: &str = "rockrose";
/// A host of the first may take so long to fetch and try a program, in milliseconds.
const TAKE_TIME_MS: i64 = 10 * 60_000;

/// A program that can be given.
#[derive(Clone, Debug)]
pub(crate) struct Program {
    /// Its SHA-256.
    hash: [u8; 32],
    /// By the authority, of the hash in hexadecimal digits.
    signature: Vec<u8>,
}

/// To whom a program goes, as it is kept.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Rollout {
    /// Its SHA-256, in hexadecimal digits.
    hash: String,
    /// The ids of those that are to have it.
    pub(crate) hosts: BTreeSet<String>,
    /// Of those that are first; empty, once it goes to all.
    pub(crate) first: BTreeSet<String>,
    well_for_ms: i64,
    /// Why it goes no further, if it does not.
    pub(crate) stopped: Option<String>,
}

/// What is on its way.
#[derive(Default)]
pub(super) struct Updates {
    rollout: Mutex<Rollout>,
    progress: Mutex<Progress>,
    program: tokio::sync::OnceCell<Program>,
}

/// Why no program can be given.
#[derive(Debug, thiserror::Error)]
pub(crate) enum UpdateError {
    #[error("the program cannot be read: {0}")]
    Program(std::io::Error),
    #[error("the program cannot be signed: {0}")]
    Signature(rcgen::Error),
    #[error(transparent)]
    Records(#[from] RecordsError),
}

/// The SHA-256 of a file. Blocks.
///
/// # Errors
/// If it cannot be read.
pub fn hash_of(path: &Path) -> std::io::Result<[u8; 32]> {
    let mut file = std::fs::File::open(path)?;
    let (mut hash, mut piece) = (Sha256::new(), vec![0; 1 << 20]);
    loop {
        match file.read(&mut piece)? {
            0 => return Ok(hash.finalize().into()),
            n => hash.update(&piece[..n]),
        }
    }
}

impl Agents {
    /// The program that is given, hashed and signed once.
    async fn program(&self, app: &App) -> Result<&Program, UpdateError> {
        let make = async || {
            let path = app.agent_program.clone();
            let hash = tokio::task::spawn_blocking(move || hash_of(&path)).await.map_err(std::io::Error::other).and_then(|hash| hash);
            let hash = hash.map_err(UpdateError::Program)?;
            let authority = self.authority(app).await?;
            let sign = || KeyPair::from_pem(&authority.key)?.sign(hex(&hash).as_bytes());
            Ok(Program { hash, signature: sign().map_err(UpdateError::Signature)? })
        };
        self.updates.program.get_or_try_init(make).await
    }

    /// Takes up what was kept.
    pub(crate) async fn take_up_rollout(&self, app: &App) -> Result<(), RecordsError> {
        if let Some(kept) = app.records(|r| r.rollout()).await? {
            self.set_rollout(serde_json::from_str(&kept).unwrap_or_default());
        }
        Ok(())
    }

    fn set_rollout(&self, rollout: Rollout) {
        *lock(&self.updates.progress) = Progress { started_ms: now_ms(), well_for_ms: rollout.well_for_ms, take_ms: TAKE_TIME_MS, ..Progress::default() };
        *lock(&self.updates.rollout) = rollout;
        self.changed.send_replace(());
    }

    async fn keep_rollout(&self, app: &App, rollout: Rollout) -> Result<(), RecordsError> {
        let state = serde_json::to_string(&rollout).unwrap_or_default();
        app.records(move |r| r.keep_rollout(&state)).await?;
        self.set_rollout(rollout);
        Ok(())
    }

    /// Who is given a program, and how far that is; nothing, if nobody is.
    pub(crate) fn rollout(&self) -> Option<Rollout> {
        Some(lock(&self.updates.rollout).clone()).filter(|rollout| !rollout.hosts.is_empty())
    }

    /// How many of those that are given a program have it.
    pub(crate) fn updated(&self, rollout: &Rollout) -> usize {
        let all = lock(&self.all);
        rollout.hosts.iter().filter(|id| all.get(*id).is_some_and(|agent| agent.heard.package.hash == rollout.hash)).count()
    }

    /// Gives the program of this service to agents, to `first` of them before the others; or, if it is `dry`, does nothing. Returns the names of those that can take it.
    pub(crate) async fn update(&self, app: &App, ids: &[String], first: Option<(First, i64)>, dry: bool) -> Result<Vec<String>, UpdateError> {
        let hash = hex(&self.program(app).await?.hash);
        let is_able = |agent: &&Agent| {
            ids.contains(&agent.record.id) && agent.heard.capabilities & agent_capabilities::ACCEPTS_PACKAGES != 0 && agent.heard.package.hash != hash
        };
        let all = self.all();
        let mut able: Vec<&Agent> = all.iter().filter(is_able).collect();
        able.sort_by(|a, b| a.record.name.cmp(&b.record.name));
        let asked: Vec<(String, Vec<u8>)> = able.iter().map(|agent| (agent.record.id.clone(), as_event(&agent.facts))).collect();
        let rollout = Rollout {
            hash,
            hosts: asked.iter().map(|(id, _)| id.clone()).collect(),
            first: first.as_ref().map(|(first, _)| first.choose(&asked).into_iter().collect()).unwrap_or_default(),
            well_for_ms: first.map_or(0, |(_, well_for_ms)| well_for_ms),
            stopped: None,
        };
        let names = able.iter().map(|agent| agent.record.name.clone()).collect();
        if !dry {
            self.keep_rollout(app, rollout).await?;
        }
        Ok(names)
    }

    /// What an agent is offered, if it is to have another program than it has.
    pub(super) fn packages(&self, agent: &Agent) -> Option<PackagesAvailable> {
        let rollout = lock(&self.updates.rollout);
        let id = &agent.record.id;
        let is_its_turn = rollout.stopped.is_none() && rollout.hosts.contains(id) && (rollout.first.is_empty() || rollout.first.contains(id));
        if !is_its_turn || agent.heard.package.hash == rollout.hash {
            return None;
        }
        let program = self.updates.program.get().filter(|program| hex(&program.hash) == rollout.hash)?;
        let hash = program.hash.to_vec();
        let file = DownloadableFile { download_url: String::new(), content_hash: hash.clone(), signature: program.signature.clone(), headers: None };
        let package =
            PackageAvailable { r#type: PackageType::TopLevel as i32, version: env!("CARGO_PKG_VERSION").to_owned(), file: Some(file), hash: hash.clone() };
        Some(PackagesAvailable { packages: [(PACKAGE.to_owned(), package)].into(), all_packages_hash: hash })
    }

    /// Looks how the first hosts do with their new program, and goes on, or no further.
    pub(super) async fn judge_rollout(&self, app: &App) {
        let Some(rollout) = self.rollout().filter(|rollout| rollout.stopped.is_none()) else { return };
        // After a restart of the service with another program, what it was to give is not there any more.
        match self.program(app).await {
            Ok(program) if hex(&program.hash) == rollout.hash => {}
            Ok(_) => return self.end_rollout(app, Rollout { stopped: Some("this service is another program now".to_owned()), ..rollout }, "stopped").await,
            Err(e) => return tracing::warn!(error = %e, "agents cannot be given a program"),
        }
        let now = now_ms();
        let standing = |id: &String| {
            let agent = lock(&self.all).get(id).cloned()?;
            let package = &agent.heard.package;
            let is_of_this = package.offered == rollout.hash;
            let standing = if package.hash == rollout.hash {
                if now - agent.heard_ms > SILENT_AFTER { Standing::Ailing("nothing is heard of it".to_owned()) } else { Standing::Well }
            } else if is_of_this && package.status == PackageStatusEnum::InstallFailed as i32 {
                Standing::Refused(package.error.clone())
            } else {
                Standing::Taking
            };
            Some((agent.record.name, standing))
        };
        let watched = if rollout.first.is_empty() { return } else { &rollout.first };
        let standings: Vec<(String, Standing)> = watched.iter().filter_map(standing).collect();
        let verdict = lock(&self.updates.progress).judge(&standings, now);
        match verdict {
            Verdict::Wait => {}
            Verdict::GoOn => self.end_rollout(app, Rollout { first: BTreeSet::new(), ..rollout }, "goes on to all").await,
            Verdict::GoBack(why) => self.end_rollout(app, Rollout { stopped: Some(why), ..rollout }, "stopped").await,
        }
    }

    async fn end_rollout(&self, app: &App, next: Rollout, how: &str) {
        let why = next.stopped.clone().unwrap_or_else(|| "the first hosts are well".to_owned());
        match self.keep_rollout(app, next).await {
            Ok(()) => app.note(&format!("update of agents {how}"), PACKAGE, &why).await,
            Err(e) => tracing::warn!(error = %e, "what becomes of the update cannot be kept; it is tried again"),
        }
    }

    /// Gives nobody a program any more; who has it keeps it.
    pub(crate) async fn stop_rollout(&self, app: &App) -> Result<(), RecordsError> {
        self.keep_rollout(app, Rollout::default()).await
    }

    /// The program that is given, as a file.
    pub(crate) fn program_file(app: &App) -> PathBuf {
        app.agent_program.clone()
    }
}

/// That may be given, at the start of a service.
pub(crate) fn program_path(asked: Option<&PathBuf>) -> PathBuf {
    let beside = || std::env::current_exe().ok().and_then(|program| small_program(&program));
    // What runs, even if another was put in its place since.
    asked.cloned().or_else(beside).unwrap_or_else(|| PathBuf::from("/proc/self/exe"))
}

/// The agent alone, where it is installed with the service: `lib/rockrose/agent` beside the folder in which that is.
fn small_program(service: &Path) -> Option<PathBuf> {
    let program = service.parent()?.parent()?.join("lib/rockrose/agent");
    program.is_file().then_some(program)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_small_program_is_given_where_it_is_installed() {
        let prefix = tempfile::tempdir().unwrap();
        let (service, small) = (prefix.path().join("bin/rockrose"), prefix.path().join("lib/rockrose/agent"));
        assert_eq!(small_program(&service), None);
        std::fs::create_dir_all(small.parent().unwrap()).unwrap();
        std::fs::write(&small, "").unwrap();
        assert_eq!(small_program(&service), Some(small));
    }

    #[test]
    fn what_is_kept_of_an_update_is_read_again() {
        let rollout = Rollout { hash: "ab".into(), hosts: ["a".to_owned()].into(), well_for_ms: 7, ..Rollout::default() };
        assert_eq!(serde_json::from_str::<Rollout>(&serde_json::to_string(&rollout).unwrap()).unwrap(), rollout);
        assert_eq!(serde_json::from_str::<Rollout>("{}").unwrap(), Rollout::default());
    }
}
