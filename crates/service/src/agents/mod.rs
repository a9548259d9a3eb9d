//! The agents of hosts: who they are, what they say, and what each is to collect.

mod authority;
mod heard;
mod look;
mod setup;
mod stage;
mod update;

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use rockrose_agents::{Assigner, HostPlan, MOST_FACTS, Make, facts};
use rockrose_api::HostChange;
use rockrose_intake::{AgentMessage, AgentRefusal, DoorCertificates, Fingerprint, KnownAgent};
use rockrose_opamp::{
    AgentConfigFile, AgentConfigMap, AgentRemoteConfig, AgentToServer, ConnectionSettingsOffers, OpAmpConnectionSettings, RemoteConfigStatuses,
    ServerErrorResponse, ServerErrorResponseType, ServerToAgent, TlsCertificate, agent_capabilities, server_capabilities, server_to_agent_flags,
};
use rockrose_plan::{AgentsSource, CheckedPlan, Report, Source, SourceKind};
use rockrose_records::{AgentRecord, Authority, EnrolRefusal, NewAgent, RecordsError};
use serde_json::{Map, Value};
use sha2::{Digest, Sha256};

use crate::engine::Running;
use crate::{App, now_ms};

pub(crate) use authority::fingerprint;
pub(crate) use heard::{Heard, PartHeard};
pub use look::{LOOK, LookAsked, LookFound};
pub(crate) use look::{Look, look};
pub(crate) use setup::line as setup_line;
pub(crate) use stage::{Phase, StageAct, StageAsked, Staged};
pub(crate) use update::program_path;
pub use update::{PACKAGE, hash_of};

/// How often an agent is to be heard, and how often where there are many.
const HEARTBEAT: (Duration, Duration) = (Duration::from_secs(5), Duration::from_secs(13));
/// More agents than this are many.
const MANY: usize = 1_000;
/// An agent that was not heard for so long is silent, in milliseconds.
pub(crate) const SILENT_AFTER: i64 = 30_000;
/// An agent whose certificate was signed so long ago is to ask for another, in milliseconds: 30 days.
const RENEW_AFTER: i64 = 30 * 86_400_000;
/// How often what agents said is kept.
const KEEP_EVERY: Duration = Duration::from_secs(5);
/// That an agent was heard, and nothing else is new, is kept after so long, in milliseconds, and when the service stops.
const SEEN_AGAIN: i64 = 10 * 60_000;
/// The name of what is understood beyond the protocol: an agent is told that it is to ask for another certificate.
pub const RENEW: &str = "rockrose.renew-certificate";
/// What this server does.
const CAPABILITIES: u64 = server_capabilities::ACCEPTS_STATUS
    | server_capabilities::OFFERS_REMOTE_CONFIG
    | server_capabilities::ACCEPTS_EFFECTIVE_CONFIG
    | server_capabilities::OFFERS_PACKAGES
    | server_capabilities::ACCEPTS_PACKAGES_STATUS
    | server_capabilities::OFFERS_CONNECTION_SETTINGS
    | server_capabilities::ACCEPTS_CONNECTION_SETTINGS_REQUEST;
/// What agents of this make call their service.
pub const AGENT_SERVICE: &str = "rockrose-agent";

/// An agent, with what it said.
#[derive(Clone)]
pub(crate) struct Agent {
    pub(crate) record: AgentRecord,
    /// What it says of its host, and the group.
    pub(crate) facts: Arc<Map<String, Value>>,
    /// What else it said.
    pub(crate) heard: Heard,
    /// When it was heard last, in milliseconds since 1970.
    pub(crate) heard_ms: i64,
    /// Whence.
    pub(crate) from: Option<IpAddr>,
    /// Whether it has said since the start what its host is. Before, it is given nothing: what is kept may be older than what it was given last.
    is_described: bool,
    /// The number of its last message since the start.
    sequence: Option<u64>,
    /// What it is to collect, by the plan of this revision and these facts.
    wanted: Option<(i64, Arc<HostPlan>)>,
    /// Since when that differs from what it runs by, in milliseconds since 1970.
    pub(crate) differs_since: Option<i64>,
    /// How often it was told to be heard.
    pace: Option<Duration>,
    /// It is not kept as it is.
    is_new: bool,
}

impl Agent {
    fn of(record: AgentRecord) -> Agent {
        let said: Map<String, Value> = serde_json::from_str(&record.facts).unwrap_or_default();
        let heard = serde_json::from_str(&record.said).unwrap_or_default();
        let given = labels(&record);
        let facts = Arc::new(facts(&record.group, &given, flat(said)));
        let heard_ms = record.seen_ms;
        Agent { record, facts, heard, heard_ms, from: None, is_described: false, sequence: None, wanted: None, differs_since: None, pace: None, is_new: false }
    }
}

/// All that is known of agents.
#[derive(Default)]
pub(crate) struct Agents {
    all: Mutex<HashMap<String, Agent>>,
    /// Whose a certificate is, by its SHA-256.
    shown: Mutex<HashMap<Fingerprint, String>>,
    authority: Mutex<Option<Authority>>,
    /// The certificates of sources, by the hosts that they are for.
    doors: Mutex<HashMap<Vec<String>, Arc<DoorCertificates>>>,
    /// The conditions of the plan that runs.
    assigner: Mutex<Option<(i64, Arc<Assigner>)>>,
    /// What agents are asked at this moment.
    looks: look::Looks,
    /// The plan that runs goes to some hosts first.
    staged: Mutex<Option<Arc<stage::Staged>>>,
    /// The program that agents are given.
    updates: update::Updates,
    /// Sent to when agents may have to be told something.
    pub(crate) changed: tokio::sync::watch::Sender<()>,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn not_kept(e: impl std::fmt::Display) -> AgentRefusal {
    AgentRefusal::NotKept(e.to_string())
}

/// An id or a hash, in hexadecimal digits.
#[must_use]
pub fn hex(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len() * 2);
    for digit in bytes.iter().flat_map(|byte| [byte >> 4, byte & 15]) {
        text.extend(char::from_digit(u32::from(digit), 16));
    }
    text
}

fn fingerprint_of(bytes: &[u8]) -> Option<Fingerprint> {
    bytes.try_into().ok()
}

/// A refusal that is told in the protocol's own form.
fn refused(uid: Vec<u8>, says: impl Into<String>) -> ServerToAgent {
    let error = ServerErrorResponse { r#type: ServerErrorResponseType::BadRequest as i32, error_message: says.into(), details: None };
    ServerToAgent { instance_uid: uid, error_response: Some(error), ..ServerToAgent::default() }
}

impl Agents {
    /// Those that have enrolled.
    pub(crate) fn new(records: Vec<AgentRecord>) -> Agents {
        let agents = Agents::default();
        for record in records {
            agents.know(Agent::of(record));
        }
        agents
    }

    fn know(&self, agent: Agent) {
        let mut shown = lock(&self.shown);
        shown.retain(|_, id| *id != agent.record.id);
        for certificate in [Some(&agent.record.certificate), agent.record.previous.as_ref()].into_iter().flatten() {
            if let Some(fingerprint) = fingerprint_of(certificate) {
                shown.insert(fingerprint, agent.record.id.clone());
            }
        }
        lock(&self.all).insert(agent.record.id.clone(), agent);
    }

    /// All of them.
    pub(crate) fn all(&self) -> Vec<Agent> {
        lock(&self.all).values().cloned().collect()
    }

    /// The one of this name.
    pub(crate) fn called(&self, name: &str) -> Option<Agent> {
        lock(&self.all).values().find(|agent| agent.record.name == name).cloned()
    }

    /// The name and group of each, and when it was heard. Of one that was not heard since `started_ms`, when the service began to listen, nothing more is known.
    pub(crate) fn heard(&self, started_ms: i64) -> Vec<(String, String, rockrose_alerts::Heard)> {
        let heard = |agent: &Agent| {
            let heard = match agent.heard_ms {
                at if at >= started_ms => rockrose_alerts::Heard::At(at),
                _ => rockrose_alerts::Heard::NothingSince(started_ms),
            };
            (agent.record.name.clone(), agent.record.group.clone(), heard)
        };
        lock(&self.all).values().map(heard).collect()
    }

    /// Whose a certificate is.
    pub(crate) fn showing(&self, certificate: &Fingerprint) -> Option<KnownAgent> {
        let id = lock(&self.shown).get(certificate).cloned()?;
        let all = lock(&self.all);
        let record = &all.get(&id)?.record;
        Some(KnownAgent { id, name: record.name.clone(), group: record.group.clone() })
    }

    /// What an agent is to collect by the plan that runs.
    pub(crate) fn wanted(&self, running: &Running, id: &str) -> Option<Arc<HostPlan>> {
        let before = self.plan_before(running, id);
        let of = before.as_ref().map_or(running.revision, |(revision, _)| *revision);
        let facts = {
            let all = lock(&self.all);
            let agent = all.get(id)?;
            if let Some((revision, wanted)) = &agent.wanted
                && *revision == of
            {
                return Some(Arc::clone(wanted));
            }
            Arc::clone(&agent.facts)
        };
        let wanted = Arc::new(match &before {
            Some((_, before)) => before.1.host(&before.0, &as_event(&facts), make(&facts)),
            None => self.assigner(running).host(&running.checked, &as_event(&facts), make(&facts)),
        });
        let mut all = lock(&self.all);
        let agent = all.get_mut(id)?;
        if Arc::ptr_eq(&agent.facts, &facts) {
            agent.wanted = Some((of, Arc::clone(&wanted)));
        }
        Some(wanted)
    }

    fn assigner(&self, running: &Running) -> Arc<Assigner> {
        let mut kept = lock(&self.assigner);
        match &*kept {
            Some((revision, assigner)) if *revision == running.revision => Arc::clone(assigner),
            _ => {
                let assigner = Arc::new(Assigner::new(&running.checked));
                *kept = Some((running.revision, Arc::clone(&assigner)));
                assigner
            }
        }
    }

    /// What the assignments of a plan that is about to run contradict each other in, each with a host for which it is so.
    pub(crate) fn contradictions(&self, plan: &CheckedPlan) -> Vec<Report> {
        if plan.assignments.len() < 2 {
            return Vec::new();
        }
        let assigner = Assigner::new(plan);
        let mut hosts: Vec<(String, Arc<Map<String, Value>>)> = lock(&self.all).values().map(|a| (a.record.name.clone(), Arc::clone(&a.facts))).collect();
        hosts.sort_by(|(a, _), (b, _)| a.cmp(b));
        let mut told: Vec<rockrose_plan::Contradiction> = Vec::new();
        let mut found = Vec::new();
        for (host, facts) in hosts.into_iter().filter(|(_, facts)| make(facts) == Make::Ours) {
            for contradiction in plan.contradictions(&assigner.meeting(plan, &as_event(&facts))) {
                if !told.contains(&contradiction) {
                    found.extend(plan.contradicted(&contradiction, &host));
                    told.push(contradiction);
                }
            }
        }
        found
    }

    /// What would change on which hosts, by name, if `plan` ran.
    pub(crate) fn changes(&self, running: &Running, plan: &CheckedPlan) -> Vec<HostChange> {
        let assigner = Assigner::new(plan);
        let hosts: Vec<_> =
            lock(&self.all).values().map(|a| (a.record.id.clone(), a.record.name.clone(), a.record.group.clone(), Arc::clone(&a.facts))).collect();
        let change = |(id, name, group, facts): (String, String, String, Arc<Map<String, Value>>)| {
            let before = self.wanted(running, &id)?;
            let changes = before.changes(&assigner.host(plan, &as_event(&facts), make(&facts)));
            (!changes.is_empty()).then_some(HostChange { name, group, changes })
        };
        let mut found: Vec<HostChange> = hosts.into_iter().filter_map(change).collect();
        found.sort_by(|a, b| a.name.cmp(&b.name));
        found
    }

    /// The authority of this service; it is made when it is first needed.
    pub(crate) async fn authority(&self, app: &App) -> Result<Authority, RecordsError> {
        if let Some(known) = lock(&self.authority).clone() {
            return Ok(known);
        }
        let node = app.records.node();
        let kept = app.records(move |r| match r.authority()? {
            Some(authority) => Ok(authority),
            None => r.keep_authority(&authority::new_authority(&node).map_err(|e| RecordsError::Storage(e.into()))?),
        });
        let authority = kept.await?;
        *lock(&self.authority) = Some(authority.clone());
        Ok(authority)
    }

    /// The key of the sources for agents: the same for all, and for as long as this service lives.
    async fn door_key(&self, app: &App) -> Result<String, RecordsError> {
        self.authority(app).await?;
        let new = authority::new_door_key().map_err(|e| RecordsError::Storage(e.into()))?;
        app.records(move |r| r.door_key(&new)).await
    }

    /// By what `curl` knows the sources for agents.
    pub(crate) async fn key_pin(&self, app: &App) -> Result<String, RecordsError> {
        authority::key_pin(&self.door_key(app).await?).map_err(|e| RecordsError::Storage(e.into()))
    }

    /// What puts an agent on a host that has nothing yet: a script, for whoever shows a code that is good.
    pub(crate) async fn setup(&self, app: &App, source: &str, code: &str) -> Result<String, AgentRefusal> {
        let shown = code.to_owned();
        if !app.records(move |r| r.is_good_code(&shown, now_ms())).await.map_err(not_kept)? {
            return Err(AgentRefusal::Stranger(EnrolRefusal::Code.to_string()));
        }
        let running = app.engine.running();
        let Some((_, kind, listen)) = doors(&running.checked).find(|(of, ..)| of.name == source) else {
            return Err(AgentRefusal::Stranger("this source takes no agents any more".to_owned()));
        };
        let authority = self.authority(app).await.map_err(not_kept)?;
        let pin = fingerprint(&authority).ok_or_else(|| not_kept("the authority's certificate cannot be read"))?;
        let url = format!("https://{}", kind.address(listen));
        Ok(setup::script(&url, code, &pin, &self.key_pin(app).await.map_err(not_kept)?))
    }

    /// The certificate that a source for agents shows.
    pub(crate) async fn door(&self, app: &App, source: &Source) -> Result<Option<Arc<DoorCertificates>>, RecordsError> {
        let (SourceKind::Agents(kind), Some(listen)) = (&source.kind, source.listen) else { return Ok(None) };
        let mut hosts: Vec<String> = kind.hosts().map(str::to_owned).collect();
        if !listen.ip().is_unspecified() {
            hosts.push(listen.ip().to_string());
        }
        hosts.sort_unstable();
        hosts.dedup();
        if let Some(known) = lock(&self.doors).get(&hosts) {
            return Ok(Some(Arc::clone(known)));
        }
        let (authority, key) = (self.authority(app).await?, self.door_key(app).await?);
        let door = Arc::new(authority::door(&authority, &key, &hosts).map_err(|e| RecordsError::Storage(e.into()))?);
        lock(&self.doors).insert(hosts, Arc::clone(&door));
        Ok(Some(door))
    }

    /// Asks an agent which files there are under patterns on its host, as soon as it is heard; without patterns, wherever its logs are. `None`: somebody else asks it.
    pub(crate) fn look(&self, id: &str, paths: Vec<String>, exclude: Vec<String>) -> Option<Look<'_>> {
        let asked = self.looks.ask(id, paths, exclude);
        self.changed.send_replace(());
        asked
    }

    /// What would be of these agents, by their ids, with another group or other labels (with nothing: those of the host itself count again), and what would change on which of them.
    pub(crate) fn set_otherwise(&self, running: &Running, ids: &[String], group: Option<&str>, given: &Map<String, Value>) -> (Vec<Agent>, Vec<HostChange>) {
        let known: Vec<Agent> = ids.iter().filter_map(|id| lock(&self.all).get(id).cloned()).collect();
        let (mut next, mut changes) = (Vec::new(), Vec::new());
        for mut agent in known {
            let before = self.wanted(running, &agent.record.id);
            let mut own = labels(&agent.record);
            let mut said = flat((*agent.facts).clone());
            for (label, value) in given {
                if value.is_null() {
                    own.remove(label);
                    // What the host itself says is asked of it again.
                    said.retain(|(name, _)| name.strip_prefix("labels.") != Some(label));
                    agent.sequence = None;
                } else {
                    own.insert(label.clone(), value.clone());
                }
            }
            if let Some(group) = group {
                group.clone_into(&mut agent.record.group);
            }
            agent.record.labels = serde_json::to_string(&own).unwrap_or_default();
            agent.facts = Arc::new(facts(&agent.record.group, &own, said));
            (agent.wanted, agent.is_new) = (None, true);
            let after = match self.plan_before(running, &agent.record.id) {
                Some((_, before)) => before.1.host(&before.0, &as_event(&agent.facts), make(&agent.facts)),
                None => self.assigner(running).host(&running.checked, &as_event(&agent.facts), make(&agent.facts)),
            };
            let found = before.map(|before| before.changes(&after)).unwrap_or_default();
            if !found.is_empty() {
                changes.push(HostChange { name: agent.record.name.clone(), group: agent.record.group.clone(), changes: found });
            }
            next.push(agent);
        }
        changes.sort_by(|a, b| a.name.cmp(&b.name));
        (next, changes)
    }

    /// Keeps what was told of agents with [`Agents::set_otherwise`].
    pub(crate) async fn set(&self, app: &App, next: Vec<Agent>) -> Result<(), RecordsError> {
        let rows: Vec<(String, String, String)> = next.iter().map(|a| (a.record.id.clone(), a.record.group.clone(), a.record.labels.clone())).collect();
        app.records(move |r| r.set_agents(&rows)).await?;
        let mut all = lock(&self.all);
        for agent in next {
            // What it said meanwhile stays.
            if let Some(known) = all.get_mut(&agent.record.id) {
                (known.record.group, known.record.labels) = (agent.record.group, agent.record.labels);
                (known.facts, known.sequence, known.wanted, known.is_new) = (agent.facts, agent.sequence, None, true);
            }
        }
        drop(all);
        self.changed.send_replace(());
        Ok(())
    }

    /// How often agents are to be heard.
    fn pace(&self) -> Duration {
        pace(lock(&self.all).len())
    }

    /// Forgets an agent. Says whether there was one of that name.
    pub(crate) async fn retire(&self, app: &App, name: &str) -> Result<bool, RecordsError> {
        let Some(agent) = self.called(name) else { return Ok(false) };
        let id = agent.record.id.clone();
        let asked = id.clone();
        app.records(move |r| r.retire_agent(&asked)).await?;
        lock(&self.shown).retain(|_, of| *of != id);
        lock(&self.all).remove(&id);
        Ok(true)
    }

    /// Answers a message.
    pub(crate) async fn says(&self, app: &App, message: AgentMessage) -> Result<ServerToAgent, AgentRefusal> {
        let AgentMessage { certificate, code, from, says, source } = message;
        let uid = says.instance_uid.clone();
        let id = hex(&uid);
        // What stands behind the point is for the agent: by what it knows this service.
        let code = code.as_deref().map(|code| code.split('.').next().unwrap_or_default());
        let certificate = match (certificate, code) {
            (Some(certificate), _) => certificate,
            (None, None) => {
                return Err(AgentRefusal::Stranger("whoever enrols shows a code, and agents that have enrolled show their certificate".to_owned()));
            }
            // Agents of another make need not ask for a certificate: they go on showing the code.
            (None, Some(code)) if self.showing(&by_code(code, &id)).is_some() => by_code(code, &id),
            (None, Some(code)) => return self.enrol(app, code, &source, from, says).await,
        };
        let Some(known) = self.showing(&certificate) else {
            return Err(AgentRefusal::Stranger("this agent is not known any more: it was retired".to_owned()));
        };
        if known.id != id {
            return Ok(refused(uid, "the certificate that is shown was given to an agent of another id"));
        }
        self.renewed(app, &known, &certificate).await?;
        match self.hear(&id, from, &says) {
            Ok(()) => self.answer(app, &id, Some(certificate), &says).await,
            Err(why) => Ok(refused(uid, why)),
        }
    }

    /// Once an agent shows its new certificate, the one before is good no longer.
    async fn renewed(&self, app: &App, known: &KnownAgent, shown: &Fingerprint) -> Result<(), AgentRefusal> {
        let agent = lock(&self.all).get(&known.id).filter(|agent| agent.record.previous.is_some() && agent.record.certificate == shown).cloned();
        let Some(mut agent) = agent else { return Ok(()) };
        let id = known.id.clone();
        app.records(move |r| r.agent_renewed(&id)).await.map_err(not_kept)?;
        agent.record.previous = None;
        self.know(agent);
        Ok(())
    }

    /// Takes note of what an agent says; what of it cannot be taken, in a sentence.
    fn hear(&self, id: &str, from: Option<IpAddr>, says: &AgentToServer) -> Result<(), String> {
        let described = says.agent_description.as_ref().map(heard::facts_of);
        if let Some(described) = &described {
            let bytes = serde_json::to_vec(described).map_or(usize::MAX, |text| text.len());
            if bytes > MOST_FACTS {
                return Err(format!("the facts take {bytes} bytes, more than {MOST_FACTS}"));
            }
        }
        if let Some(message) = &says.custom_message {
            self.looks.answered(id, message);
        }
        let mut all = lock(&self.all);
        let Some(agent) = all.get_mut(id) else { return Ok(()) };
        let now = now_ms();
        if let Some(described) = described {
            agent.is_described = true;
            let told = facts(&agent.record.group, &labels(&agent.record), described);
            if told != *agent.facts {
                agent.facts = Arc::new(told);
                agent.wanted = None;
                agent.is_new = true;
            }
        }
        agent.is_new |= agent.heard.hear(says, now) || now - agent.record.seen_ms >= SEEN_AGAIN;
        (agent.heard_ms, agent.from) = (now, from.or(agent.from));
        Ok(())
    }

    /// What an agent is told.
    async fn answer(&self, app: &App, id: &str, shown: Option<Fingerprint>, says: &AgentToServer) -> Result<ServerToAgent, AgentRefusal> {
        let now = now_ms();
        let running = app.engine.running();
        let wanted = self.wanted(&running, id);
        let offers = match requested(says).zip(shown) {
            None => None,
            Some((request, shown)) => match self.renew(app, id, shown, request, now).await? {
                Ok(offers) => Some(offers),
                Err(why) => return Ok(refused(says.instance_uid.clone(), why)),
            },
        };
        let mut all = lock(&self.all);
        let pace = pace(all.len());
        let Some(agent) = all.get_mut(id) else {
            return Err(AgentRefusal::Stranger("this agent is not known any more: it was retired".to_owned()));
        };
        let takes_settings = agent.heard.capabilities & agent_capabilities::ACCEPTS_OPAMP_CONNECTION_SETTINGS != 0;
        let offers = offers.or_else(|| (takes_settings && agent.pace != Some(pace)).then(|| paced(pace)));
        agent.pace = Some(pace);
        let follows = agent.sequence.is_some_and(|last| says.sequence_num == last.wrapping_add(1));
        agent.sequence = Some(says.sequence_num);
        let flags = if (follows && agent.is_described) || says.agent_description.is_some() { 0 } else { server_to_agent_flags::REPORT_FULL_STATE };
        let remote_config = remote_config(agent, wanted, now);
        let packages_available = self.packages(agent);
        let is_old = now - agent.record.signed_ms >= RENEW_AFTER && requested(says).is_none() && make(&agent.facts) == Make::Ours;
        let renew = is_old.then(|| rockrose_opamp::CustomMessage { capability: RENEW.to_owned(), r#type: "renew".to_owned(), data: Vec::new() });
        Ok(ServerToAgent {
            instance_uid: says.instance_uid.clone(),
            flags,
            capabilities: CAPABILITIES,
            remote_config,
            connection_settings: offers,
            custom_message: self.looks.due(id).or(renew),
            packages_available,
            ..ServerToAgent::default()
        })
    }

    /// What an agent that is connected is to be told, though it has said nothing. It counts as heard.
    pub(crate) fn due(&self, app: &App, uid: &[u8]) -> Option<ServerToAgent> {
        let (id, now) = (hex(uid), now_ms());
        let wanted = self.wanted(&app.engine.running(), &id);
        let mut all = lock(&self.all);
        let agent = all.get_mut(&id)?;
        agent.heard_ms = now;
        let (remote_config, custom_message) = (remote_config(agent, wanted, now), self.looks.due(&id));
        (remote_config.is_some() || custom_message.is_some()).then(|| ServerToAgent {
            instance_uid: uid.to_vec(),
            capabilities: CAPABILITIES,
            remote_config,
            custom_message,
            ..ServerToAgent::default()
        })
    }

    /// Enrols an agent.
    async fn enrol(&self, app: &App, code: &str, source: &str, from: Option<IpAddr>, says: AgentToServer) -> Result<ServerToAgent, AgentRefusal> {
        let uid = says.instance_uid.clone();
        let bad = |why: &str| Ok(refused(uid.clone(), why));
        if uid.len() != 16 {
            return bad("an agent is known by an id of 16 bytes");
        }
        let Some(described) = says.agent_description.as_ref().map(heard::facts_of) else {
            // One that was retired, or that this service does not know any more: it is to say who it is.
            return Ok(ServerToAgent { instance_uid: uid, flags: server_to_agent_flags::REPORT_FULL_STATE, ..ServerToAgent::default() });
        };
        let told = |fact: &str| described.iter().find(|(name, _)| name == fact)?.1.as_str().map(str::to_owned);
        let id = hex(&uid);
        let of_service = || Some(format!("{}-{}", told("service.name")?, &id[..8]));
        let name = told("agent.name").or_else(|| told("host.name")).or_else(of_service);
        let Some(name) = name.filter(|name| is_agent_name(name)) else {
            return bad("an agent says by which name it is to be known: letters, digits, `.`, `-` and `_`, at most 128");
        };
        let authority = self.authority(app).await.map_err(not_kept)?;
        let now = now_ms();
        let signed = match requested(&says).map(|request| authority::sign(&authority, &id, request, now)) {
            None => None,
            Some(Ok(signed)) => Some(signed),
            Some(Err(why)) => return bad(&why.to_string()),
        };
        let (key, certificate) = signed.as_ref().map_or_else(|| (by_code(code, &id), by_code(code, &id)), |signed| (signed.key, signed.fingerprint));
        let new = NewAgent { id: id.clone(), name: name.clone(), key: key.to_vec(), certificate: certificate.to_vec() };
        let shown = code.to_owned();
        let enrolled = app.records(move |r| Ok(r.enrol(&shown, &new, now))).await.map_err(not_kept)?;
        let record = match enrolled {
            Ok(record) => record,
            Err(why @ EnrolRefusal::Code) => return Err(AgentRefusal::Stranger(why.to_string())),
            Err(why @ EnrolRefusal::Name(_)) => return bad(&format!("{why}; retire that first (`rockrose agent retire {name}`), or enrol with `--name`")),
            Err(why @ EnrolRefusal::Id) => return bad(&why.to_string()),
            Err(EnrolRefusal::Records(e)) => return Err(not_kept(e)),
        };
        app.note("enrol agent", &format!("{name} ({}) at {source}", record.group), "done").await;
        tracing::info!(agent = name, group = record.group, "an agent has enrolled");
        self.know(Agent::of(record));
        if let Err(why) = self.hear(&id, from, &says) {
            return bad(&why);
        }
        let mut answer = self.answer(app, &id, None, &says).await?;
        answer.connection_settings = signed.map(|signed| offers(&signed.certificate, &authority, self.pace()));
        Ok(answer)
    }

    /// Gives an agent a new certificate; or says why not.
    async fn renew(&self, app: &App, id: &str, shown: Fingerprint, request: &[u8], now: i64) -> Result<Result<ConnectionSettingsOffers, String>, AgentRefusal> {
        let authority = self.authority(app).await.map_err(not_kept)?;
        let signed = match authority::sign(&authority, id, request, now) {
            Ok(signed) => signed,
            Err(why) => return Ok(Err(why.to_string())),
        };
        let (asked, fingerprint) = (id.to_owned(), signed.fingerprint);
        app.records(move |r| r.renew_agent(&asked, &shown, &fingerprint, now)).await.map_err(not_kept)?;
        let agent = lock(&self.all).get(id).cloned();
        if let Some(mut agent) = agent {
            (agent.record.previous, agent.record.certificate) = (Some(shown.to_vec()), fingerprint.to_vec());
            agent.record.signed_ms = now;
            self.know(agent);
        }
        Ok(Ok(offers(&signed.certificate, &authority, self.pace())))
    }

    /// Keeps all that agents said, and when they were heard last.
    pub(crate) async fn keep_all(&self, app: &App) {
        lock(&self.all).values_mut().for_each(|agent| agent.is_new |= agent.heard_ms > agent.record.seen_ms);
        self.keep(app).await;
    }

    /// Keeps what agents said since it was kept last.
    async fn keep(&self, app: &App) {
        let said: Vec<(String, i64, String, String)> = {
            let mut all = lock(&self.all);
            let new = all.values_mut().filter(|agent| agent.is_new);
            let row = |agent: &mut Agent| {
                agent.is_new = false;
                agent.record.seen_ms = agent.heard_ms;
                let facts = serde_json::to_string(&*agent.facts).unwrap_or_default();
                (agent.record.id.clone(), agent.heard_ms, facts, serde_json::to_string(&agent.heard).unwrap_or_default())
            };
            new.map(row).collect()
        };
        if said.is_empty() {
            return;
        }
        let ids: Vec<String> = said.iter().map(|(id, ..)| id.clone()).collect();
        if let Err(e) = app.records(move |r| r.note_agents(&said)).await {
            tracing::warn!(error = %e, "what agents said could not be kept");
            let mut all = lock(&self.all);
            for id in ids {
                if let Some(agent) = all.get_mut(&id) {
                    agent.is_new = true;
                }
            }
        }
    }
}

/// What an agent is to run by, where that differs from what it was given, and it takes it.
fn remote_config(agent: &mut Agent, wanted: Option<Arc<HostPlan>>, now: i64) -> Option<AgentRemoteConfig> {
    let takes_plans = agent.heard.capabilities & agent_capabilities::ACCEPTS_REMOTE_CONFIG != 0;
    let differs = wanted.as_ref().is_some_and(|wanted| wanted.contradictions.is_empty() && agent.heard.config.hash != wanted.hash());
    agent.differs_since = if differs || agent.heard.config.status != RemoteConfigStatuses::Applied as i32 { agent.differs_since.or(Some(now)) } else { None };
    let wanted = wanted.filter(|_| differs && takes_plans && agent.is_described)?;
    let file = |file: &rockrose_agents::HostFile| {
        (file.name.clone(), AgentConfigFile { body: file.text.clone().into_bytes(), content_type: file.content_type.clone() })
    };
    let config_map = wanted.files.iter().map(file).collect();
    Some(AgentRemoteConfig { config_hash: wanted.hash().to_vec(), config: Some(AgentConfigMap { config_map }) })
}

/// The labels that the centre gives an agent.
fn labels(record: &AgentRecord) -> Map<String, Value> {
    serde_json::from_str(&record.labels).unwrap_or_default()
}

/// Facts as an agent says them: its labels beside the others.
fn flat(facts: Map<String, Value>) -> Vec<(String, Value)> {
    facts
        .into_iter()
        .flat_map(|(name, value)| match value {
            Value::Object(labels) if name == "labels" => labels.into_iter().map(|(label, value)| (format!("labels.{label}"), value)).collect(),
            value => vec![(name, value)],
        })
        .collect()
}

/// Of which make an agent is, by what it says.
fn make(facts: &Map<String, Value>) -> Make {
    if facts.get("service.name").and_then(Value::as_str) == Some(AGENT_SERVICE) { Make::Ours } else { Make::Other }
}

/// How an agent is known that has no certificate: by the code with which it enrolled, and its id.
fn by_code(code: &str, id: &str) -> Fingerprint {
    Sha256::new().chain_update(code).chain_update(" ").chain_update(id).finalize().into()
}

/// Facts as the engine reads them.
pub(crate) fn as_event(facts: &Map<String, Value>) -> Vec<u8> {
    serde_json::to_vec(facts).unwrap_or_default()
}

/// The request for a certificate in a message.
fn requested(says: &AgentToServer) -> Option<&[u8]> {
    Some(&says.connection_settings_request.as_ref()?.opamp.as_ref()?.certificate_request.as_ref()?.csr)
}

/// How often each of so many agents is to be heard.
fn pace(agents: usize) -> Duration {
    if agents > MANY { HEARTBEAT.1 } else { HEARTBEAT.0 }
}

/// That an agent is to be heard so often.
fn paced(pace: Duration) -> ConnectionSettingsOffers {
    let opamp = OpAmpConnectionSettings { heartbeat_interval_seconds: pace.as_secs(), ..OpAmpConnectionSettings::default() };
    ConnectionSettingsOffers { hash: pace.as_secs().to_be_bytes().to_vec(), opamp: Some(opamp), ..ConnectionSettingsOffers::default() }
}

fn offers(certificate: &str, authority: &Authority, pace: Duration) -> ConnectionSettingsOffers {
    let tls = TlsCertificate { cert: certificate.as_bytes().to_vec(), private_key: Vec::new(), ca_cert: authority.certificate.as_bytes().to_vec() };
    let opamp = OpAmpConnectionSettings { certificate: Some(tls), heartbeat_interval_seconds: pace.as_secs(), ..OpAmpConnectionSettings::default() };
    ConnectionSettingsOffers { hash: certificate.as_bytes().to_vec(), opamp: Some(opamp), ..ConnectionSettingsOffers::default() }
}

fn is_agent_name(name: &str) -> bool {
    !name.is_empty() && name.len() <= 128 && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_'))
}

/// The sources of a plan at which agents enrol.
pub(crate) fn doors(plan: &CheckedPlan) -> impl Iterator<Item = (&Source, &AgentsSource, std::net::SocketAddr)> {
    plan.sources.iter().filter_map(|source| match (&source.kind, source.listen) {
        (SourceKind::Agents(kind), Some(listen)) => Some((source, kind, listen)),
        _ => None,
    })
}

/// Looks after what agents said for as long as the service runs.
pub(crate) async fn run(app: Arc<App>) {
    let mut tick = tokio::time::interval(KEEP_EVERY);
    loop {
        tick.tick().await;
        app.agents.keep(&app).await;
        app.agents.judge_stage(&app).await;
        app.agents.judge_rollout(&app).await;
    }
}
