//! Runs an agent: what the centre says it is to collect, and what it tells the centre.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::Context;
use rockrose_opamp::{
    AgentConfigFile, AgentConfigMap, AgentDescription, AgentToServer, ComponentHealth, CustomCapabilities, CustomMessage, EffectiveConfig, PackageStatus,
    PackageStatusEnum, PackageStatuses, PackagesAvailable, RemoteConfigStatus, RemoteConfigStatuses, ServerToAgent, agent_capabilities, server_to_agent_flags,
};
use rockrose_plan::{CENTRE, CENTRE_HEADER, CheckedPlan};
use rockrose_service::{LOOK, LookFound, PACKAGE, PartCondition, RENEW, Service, Settings, hex};
use sha2::{Digest, Sha256};
use tokio::task::JoinHandle;

use crate::centre::{AskError, Centre};
use crate::enrol::{CAPABILITIES, given, request, uid};
use crate::facts::describe;
use crate::folder::{AgentSettings, Folder, Identity};
use crate::now_ms;
use crate::program::Programs;
use crate::status::Status;

/// How often the centre is told how the agent is doing, unless it says otherwise.
const HEARTBEAT: Duration = Duration::from_secs(5);
/// How often the centre may ask to be told, in seconds.
const PACES: (u64, u64) = (1, 15);
/// After an answer that changes something, the next word follows so soon.
const SOON: Duration = Duration::from_millis(200);
/// How often it is looked whether the host has changed.
const FACTS_EVERY: Duration = Duration::from_secs(60);
/// How often the ledger is looked at.
const COUNT_EVERY: Duration = Duration::from_secs(60);

/// What the centre gave, and what became of it.
struct Given {
    /// The text that runs, as the centre gave it; nothing, before the first.
    runs: Option<String>,
    /// What it gave last.
    hash: Vec<u8>,
    /// Why that does not run.
    error: Option<String>,
}

struct Agent {
    folder: Folder,
    settings: AgentSettings,
    identity: Identity,
    service: Service,
    centre: Centre,
    given: Given,
    sequence: u64,
    /// What was told of the host, and when it was looked at.
    described: Option<(AgentDescription, std::time::Instant)>,
    /// What is to be told again.
    full: bool,
    status: Status,
    /// When the ledger was looked at.
    counted: Option<std::time::Instant>,
    /// How often the centre is told.
    pace: Duration,
    /// The centre asks for a request for another certificate.
    renew: bool,
    /// The centre has asked for files, which are looked for.
    looking: Option<JoinHandle<LookFound>>,
    /// What was found, until the centre has it.
    found: Option<LookFound>,
    /// The program that runs, and the one that the centre offers; nothing, where it cannot be exchanged.
    program: Option<Offer>,
}

/// A program that is offered.
struct Offer {
    /// What runs.
    own: String,
    /// What was offered last, its hash and version.
    offered: Option<(String, String)>,
    /// What was offered and is fetched.
    fetching: Option<JoinHandle<anyhow::Result<()>>>,
    /// Why it could not be fetched.
    error: Option<String>,
    /// The centre has answered this program.
    is_confirmed: bool,
}

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum RunEnd {
    /// It was asked to.
    Asked,
    /// Another program is to go on.
    Update,
}

/// The file with the plan that the centre gave and that runs.
fn assigned_file(folder: &Folder) -> PathBuf {
    folder.path().join("assigned.toml")
}

/// The file with what a server of another make calls the plan that runs.
fn hash_file(folder: &Folder) -> PathBuf {
    folder.path().join("assigned.hash")
}

/// Whoever manages the agent.
fn centre(settings: &AgentSettings, folder: &Folder, identity: &Identity) -> anyhow::Result<Centre> {
    match &settings.elsewhere {
        Some(elsewhere) => Centre::elsewhere(&settings.centre, elsewhere),
        None => Centre::known(&settings.centre, folder, identity),
    }
}

/// Runs the agent whose data folder is `path` until `end`, by this program.
///
/// # Errors
/// If no agent has enrolled there, or what it keeps cannot be opened.
pub async fn run(path: &Path, end: impl Future<Output = ()>) -> anyhow::Result<()> {
    // Paths stand in its plan, so they do not depend on where it was started.
    let folder = Folder::open(&std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned()))?;
    run_agent(folder, None, end).await.map(|_| ())
}

/// As [`run`], by a program (`own` is its hash) that may give way to another.
pub(crate) async fn run_supervised(folder: &Folder, own: &str, end: impl Future<Output = ()>) -> anyhow::Result<RunEnd> {
    run_agent(folder.clone(), Some(own), end).await
}

async fn run_agent(folder: Folder, own: Option<&str>, end: impl Future<Output = ()>) -> anyhow::Result<RunEnd> {
    let settings = folder.settings()?;
    let identity = folder.identity()?.context("the agent's identity is missing; enrol it anew in another folder")?;
    let service = Service::start_agent(&Settings {
        listen: None,
        files_under: settings.allow.clone(),
        identity: Some(folder.identity_folder()),
        sample_memory: Some(0),
        ..Settings::new(folder.path().to_owned(), ([127, 0, 0, 1], 0).into())
    })
    .await?;
    let centre = centre(&settings, &folder, &identity)?;
    let runs = std::fs::read_to_string(assigned_file(&folder)).ok();
    // What another server calls a plan is its own affair.
    let kept = std::fs::read_to_string(hash_file(&folder)).ok().filter(|_| settings.elsewhere.is_some()).map(|hash| uid(hash.trim()));
    let hash = kept.or_else(|| runs.as_ref().map(|text| Sha256::digest(text.as_bytes()).to_vec())).unwrap_or_default();
    let status = Status { name: settings.name.clone(), centre: settings.centre.clone(), version: env!("CARGO_PKG_VERSION").to_owned(), ..Status::default() };
    let given = Given { runs, hash, error: None };
    let mut agent = Agent {
        folder,
        settings,
        identity,
        service,
        centre,
        given,
        sequence: 0,
        described: None,
        full: true,
        status,
        counted: None,
        pace: HEARTBEAT,
        renew: false,
        looking: None,
        found: None,
        program: None,
    };
    if agent.settings.updates && agent.settings.elsewhere.is_none() {
        agent.program = own.map(|own| Offer { own: own.to_owned(), offered: None, fetching: None, error: None, is_confirmed: false });
    }
    // Where the folder was moved or the certificate renewed, the plan names other files.
    if let Some(text) = agent.given.runs.clone() {
        agent.take(&text).await.unwrap_or_else(|e| tracing::warn!(error = %e, "the plan of before is kept as it was"));
    }
    tracing::info!(name = agent.settings.name, centre = agent.settings.centre, "the agent runs");
    tokio::pin!(end);
    let ended = loop {
        let again = agent.turn().await;
        let wait = if again { SOON } else { agent.pace };
        tokio::select! {
            () = &mut end => break RunEnd::Asked,
            () = tokio::time::sleep(wait) => {}
            found = looked(&mut agent.looking) => agent.found = found,
            fetched = fetched(&mut agent.program) => match fetched {
                Ok(()) => break RunEnd::Update,
                Err(e) => {
                    tracing::warn!(error = %format!("{e:#}"), "the program that the centre offers cannot be taken");
                    if let Some(program) = &mut agent.program {
                        program.error = Some(format!("{e:#}"));
                    }
                }
            },
        }
    };
    agent.count().await;
    agent.status.keep(&agent.folder);
    agent.service.stop().await;
    Ok(ended)
}

/// What was found once the files were looked for; for ever, if nobody has asked.
async fn looked(looking: &mut Option<JoinHandle<LookFound>>) -> Option<LookFound> {
    let Some(task) = looking.as_mut() else { return std::future::pending().await };
    let found = task.await.ok();
    *looking = None;
    found
}

/// What became of the program that is fetched; for ever, if none is.
async fn fetched(program: &mut Option<Offer>) -> anyhow::Result<()> {
    let Some(task) = program.as_mut().and_then(|program| program.fetching.as_mut()) else { return std::future::pending().await };
    let done = task.await;
    if let Some(program) = program {
        program.fetching = None;
    }
    done?
}

impl Agent {
    /// Begins to fetch the program that the centre offers, unless it runs or did not do before.
    fn offered(&mut self, packages: &PackagesAvailable) {
        let Some(program) = &mut self.program else { return };
        let Some((package, file)) = packages.packages.get(PACKAGE).and_then(|package| Some((package, package.file.clone()?))) else { return };
        let hash = hex(&file.content_hash);
        let is_new = program.offered.as_ref().is_none_or(|(offered, _)| *offered != hash);
        program.offered = Some((hash.clone(), package.version.clone()));
        if hash == program.own || !is_new || program.fetching.is_some() || Programs::read(&self.folder).refusal(&hash).is_some() {
            return;
        }
        program.error = None;
        let (folder, client, url) = (self.folder.clone(), self.centre.client(), format!("{}/agent/rockrose", self.settings.centre));
        tracing::info!(version = package.version, "the centre offers another program, which is fetched");
        program.fetching = Some(tokio::spawn(async move {
            let into = crate::program::fetched(&folder)?;
            Centre::fetch(client, url, into.clone()).await?;
            tokio::task::spawn_blocking(move || crate::program::take(&folder, &into, &hash, &file.signature)).await?
        }));
    }

    /// What runs, and what became of what was offered.
    fn packages(&self) -> Option<PackageStatuses> {
        let program = self.program.as_ref()?;
        let (offered, version) = program.offered.clone().unwrap_or_default();
        let is_another = !offered.is_empty() && offered != program.own;
        let refused = || Programs::read(&self.folder).refusal(&offered).map(str::to_owned).or_else(|| program.error.clone());
        let refused = if is_another { refused() } else { None };
        let status = match (&refused, program.fetching.is_some()) {
            _ if !is_another => PackageStatusEnum::Installed,
            (Some(_), _) => PackageStatusEnum::InstallFailed,
            (None, true) => PackageStatusEnum::Downloading,
            (None, false) => PackageStatusEnum::InstallPending,
        };
        let package = PackageStatus {
            name: PACKAGE.to_owned(),
            agent_has_version: env!("CARGO_PKG_VERSION").to_owned(),
            agent_has_hash: uid(&program.own),
            server_offered_version: version,
            server_offered_hash: uid(&offered),
            status: status as i32,
            error_message: refused.unwrap_or_default(),
            ..PackageStatus::default()
        };
        Some(PackageStatuses { packages: [(PACKAGE.to_owned(), package)].into(), ..PackageStatuses::default() })
    }

    /// Tells the centre how the agent is doing, and does what it answers. Says whether there is more to tell at once.
    async fn turn(&mut self) -> bool {
        let parts = self.service.parts();
        let says = self.says(&parts);
        let answer = self.centre.ask(&says).await;
        let again = match answer {
            Ok(answer) => {
                if self.status.error.take().is_some() {
                    tracing::info!("the centre answers again");
                }
                self.status.heard_ms = Some(now_ms());
                if let Some(program) = self.program.as_mut().filter(|program| !program.is_confirmed && answer.error_response.is_none()) {
                    match crate::program::confirm(&self.folder, &program.own) {
                        Ok(()) => program.is_confirmed = true,
                        Err(e) => tracing::warn!(error = %format!("{e:#}"), "that the new program stays cannot be kept"),
                    }
                }
                (self.full, self.found) = (false, None);
                self.answered(answer).await
            }
            Err(e) => {
                let says = e.to_string();
                if self.status.error.as_ref() != Some(&says) {
                    tracing::warn!(error = says, "not managed for now; what is collected goes on");
                }
                self.status.error = Some(says);
                // What was said may be lost.
                self.full = true;
                if matches!(e, AskError::Unreachable(_)) {
                    self.reopen();
                }
                false
            }
        };
        let (waiting_events, waiting_bytes) = self.service.waiting();
        if self.counted.is_none_or(|at| at.elapsed() >= COUNT_EVERY) {
            self.count().await;
        } else {
            let (collected, sent) = self.service.sums();
            (self.status.collected, self.status.sent) = (collected.max(self.status.collected), sent.max(self.status.sent));
        }
        self.status = Status {
            written_ms: now_ms(),
            plan_error: self.given.error.clone(),
            has_plan: self.given.runs.is_some(),
            waiting_events,
            waiting_bytes,
            parts,
            ..self.status.clone()
        };
        self.status.keep(&self.folder);
        again
    }

    /// Looks at the ledger.
    async fn count(&mut self) {
        self.counted = Some(std::time::Instant::now());
        match self.service.account().await {
            Ok(sums) => (self.status.collected, self.status.sent, self.status.balanced) = (sums.received, sums.delivered, Some(sums.balanced)),
            Err(e) => tracing::warn!(error = %e, "the ledger could not be looked at"),
        }
    }

    /// Opens the way to the centre anew: a certificate may have been renewed by hand, an address have changed.
    fn reopen(&mut self) {
        if let Ok(centre) = centre(&self.settings, &self.folder, &self.identity) {
            self.centre = centre;
        }
    }

    fn says(&mut self, parts: &[PartCondition]) -> AgentToServer {
        self.sequence += 1;
        let looked = self.described.as_ref().is_none_or(|(_, at)| at.elapsed() >= FACTS_EVERY);
        let mut description = None;
        if looked || self.full {
            let new = describe(&self.identity.id, &self.settings);
            let is_new = self.described.as_ref().is_none_or(|(before, _)| *before != new);
            description = (is_new || self.full).then(|| new.clone());
            self.described = Some((new, std::time::Instant::now()));
        }
        let status = match (&self.given.error, self.given.hash.is_empty()) {
            (Some(_), _) => RemoteConfigStatuses::Failed,
            (None, true) => RemoteConfigStatuses::Unset,
            (None, false) => RemoteConfigStatuses::Applied,
        };
        let custom = if self.settings.show_files { vec![LOOK.to_owned()] } else { Vec::new() };
        let custom_message = self.found.as_ref().and_then(|found| serde_json::to_vec(found).ok());
        let able = match self.settings.elsewhere {
            Some(_) => CAPABILITIES & !agent_capabilities::ACCEPTS_OPAMP_CONNECTION_SETTINGS,
            None => CAPABILITIES,
        };
        let able = if self.program.is_some() { able | agent_capabilities::ACCEPTS_PACKAGES | agent_capabilities::REPORTS_PACKAGE_STATUSES } else { able };
        let remote = if self.settings.remote_changes { able } else { able & !agent_capabilities::ACCEPTS_REMOTE_CONFIG };
        AgentToServer {
            instance_uid: uid(&self.identity.id),
            sequence_num: self.sequence,
            agent_description: description,
            capabilities: remote,
            health: Some(health(parts)),
            effective_config: self.given.runs.as_ref().filter(|_| self.full).map(|text| EffectiveConfig {
                config_map: Some(AgentConfigMap {
                    config_map: HashMap::from([(
                        "plan.toml".to_owned(),
                        AgentConfigFile { body: text.clone().into_bytes(), content_type: "application/toml".to_owned() },
                    )]),
                }),
            }),
            remote_config_status: Some(RemoteConfigStatus {
                last_remote_config_hash: self.given.hash.clone(),
                status: status as i32,
                error_message: self.given.error.clone().unwrap_or_default(),
            }),
            custom_capabilities: self.full.then_some(CustomCapabilities { capabilities: custom }),
            custom_message: custom_message.map(|data| CustomMessage { capability: LOOK.to_owned(), r#type: "found".to_owned(), data }),
            package_statuses: self.packages(),
            connection_settings_request: if self.renew { request(&self.folder).ok() } else { None },
            ..AgentToServer::default()
        }
    }

    /// Does what the centre answers. Says whether there is more to tell at once.
    async fn answered(&mut self, answer: ServerToAgent) -> bool {
        if let Some(error) = &answer.error_response {
            self.status.error = Some(format!("the centre cannot do what it was asked: {}", error.error_message));
            return false;
        }
        let mut again = false;
        if answer.flags & server_to_agent_flags::REPORT_FULL_STATE != 0 {
            self.full = true;
            again = true;
        }
        self.renew = answer.custom_message.as_ref().is_some_and(|message| message.capability == RENEW);
        if let Some(message) = answer.custom_message.as_ref().filter(|message| message.capability == LOOK && self.settings.show_files) {
            match serde_json::from_slice(&message.data) {
                // One at a time; the centre asks no other before it has an answer, or nobody waits for it any more.
                Ok(asked) => self.looking = Some(self.service.look(asked)),
                Err(e) => tracing::warn!(error = %e, "what the centre asks is not understood"),
            }
        }
        if let Some(packages) = &answer.packages_available {
            self.offered(packages);
        }
        let pace = answer.connection_settings.as_ref().and_then(|settings| Some(settings.opamp.as_ref()?.heartbeat_interval_seconds)).unwrap_or(0);
        if pace > 0 {
            self.pace = Duration::from_secs(pace.clamp(PACES.0, PACES.1));
        }
        if let Some(id) = answer.agent_identification.as_ref().map(|new| &new.new_instance_uid).filter(|id| id.len() == 16 && self.settings.elsewhere.is_some())
        {
            let identity = Identity { id: hex(id), ..self.identity.clone() };
            match self.folder.keep_identity(&identity) {
                Ok(()) => (self.identity, self.full, again) = (identity, true, true),
                Err(e) => tracing::warn!(error = %format!("{e:#}"), "the new id cannot be kept"),
            }
        }
        if let Some(tls) = given(&answer).filter(|_| self.settings.elsewhere.is_none()) {
            match self.renewed(&tls.cert).await {
                Ok(()) => again = true,
                Err(e) => tracing::warn!(error = %format!("{e:#}"), "the new certificate cannot be used"),
            }
        }
        if let Some(remote) = answer.remote_config.filter(|_| self.settings.remote_changes) {
            self.given.hash = remote.config_hash;
            let file = remote.config.and_then(|config| config.config_map.into_values().next()).unwrap_or_default();
            let taken = match String::from_utf8(file.body) {
                Ok(text) => self.take(&text).await,
                Err(_) => Err(anyhow::anyhow!("the plan is not text")),
            };
            self.given.error = taken.err().map(|e| format!("{e:#}"));
            match &self.given.error {
                None => tracing::info!("a new plan of the centre runs"),
                Some(error) => tracing::warn!(error, "a plan of the centre cannot be run; the one before goes on"),
            }
            again = true;
        }
        again
    }

    /// Runs a plan that the centre gave.
    async fn take(&mut self, text: &str) -> anyhow::Result<()> {
        // Where the centre bounds what is sent, the section is begun already.
        let is_begun = text.lines().any(|line| line == CENTRE_HEADER);
        let header = if is_begun { "" } else { CENTRE_HEADER };
        let whole = match &self.settings.elsewhere {
            None => format!("{text}{header}\n{}", self.destination()),
            Some(_) => text.to_owned(),
        };
        let file = "plan.toml";
        let checked = CheckedPlan::read(&whole)
            .map_err(|mistakes| anyhow::anyhow!("{}", mistakes.iter().map(|m| m.render(file)).collect::<String>().trim_end().to_owned()))?;
        anyhow::ensure!(self.settings.elsewhere.is_some() || checked.destinations.len() == 1, "a plan for an agent has no destinations of its own");
        self.service.apply(&whole, CENTRE, "as assigned", file).await?;
        if self.given.runs.as_deref() != Some(text) {
            self.folder.write(&assigned_file(&self.folder), text.as_bytes())?;
            if self.settings.elsewhere.is_some() {
                let hash = hex(&self.given.hash);
                self.folder.write(&hash_file(&self.folder), hash.as_bytes())?;
            }
            self.given.runs = Some(text.to_owned());
        }
        Ok(())
    }

    /// The destination to which everything leads.
    fn destination(&self) -> String {
        let path = |path: PathBuf| format!("{:?}", path.display().to_string());
        format!(
            "kind = \"http\"\nendpoints = [{:?}]\nnumbered = true\ncompress = \"zstd\"\nmax_batch = \"4 MB\"\nca = {}\nca_only = true\nclient_certificate = {}\nclient_key = {}\n",
            format!("{}/in", self.settings.centre),
            path(self.folder.authority_file()),
            path(self.folder.certificate_file(self.identity.certificate)),
            path(self.folder.key_file()),
        )
    }

    /// Uses a new certificate from now on.
    async fn renewed(&mut self, certificate: &[u8]) -> anyhow::Result<()> {
        let before = self.identity.clone();
        let next = Identity { certificate: before.certificate + 1, ..before.clone() };
        self.folder.write(&self.folder.certificate_file(next.certificate), certificate)?;
        let centre = Centre::known(&self.settings.centre, &self.folder, &next)?;
        self.folder.keep_identity(&next)?;
        (self.centre, self.identity) = (centre, next);
        if let Some(text) = self.given.runs.clone() {
            self.take(&text).await?;
        }
        let _ = std::fs::remove_file(self.folder.certificate_file(before.certificate));
        tracing::info!("the certificate is renewed");
        Ok(())
    }
}

/// How the agent and its parts are doing. What helps stands behind the first line of what is wrong.
fn health(parts: &[PartCondition]) -> ComponentHealth {
    let now = u64::try_from(now_ms()).unwrap_or(0) * 1_000_000;
    let one = |part: &PartCondition| {
        let error = if part.fine { String::new() } else { format!("{}\n{}", part.says, part.remedy) };
        let health =
            ComponentHealth { healthy: part.fine, last_error: error, status: part.says.clone(), status_time_unix_nano: now, ..ComponentHealth::default() };
        (part.part.clone(), health)
    };
    let bad = parts.iter().filter(|part| !part.fine).count();
    ComponentHealth {
        healthy: bad == 0,
        last_error: if bad == 0 { String::new() } else { format!("{bad} of {} parts are in trouble", parts.len()) },
        status: "runs".to_owned(),
        status_time_unix_nano: now,
        component_health_map: parts.iter().map(one).collect(),
        ..ComponentHealth::default()
    }
}
