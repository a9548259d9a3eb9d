//! Agents: which hosts are heard, how each is doing, and what it collects.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{FirstHosts, HostChange, LookedKind, SourceFile};

/// The agents that have enrolled, and what is needed to enrol more.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentsAnswer {
    /// When this was so, in milliseconds since 1970.
    pub now_ms: i64,
    /// Those that need somebody first, then by name.
    pub agents: Vec<AgentState>,
    /// The sources of kind `agents`, at which agents enrol.
    pub doors: Vec<AgentDoor>,
    /// Codes with which agents can still enrol, newest first.
    pub codes: Vec<EnrolCode>,
    /// What hosts collect by the active plan goes to some of them first, or went back. Nothing, if all have it.
    pub stage: Option<AgentStage>,
    /// Agents are given this service's program.
    pub update: Option<AgentUpdate>,
}

/// A change of what hosts collect that goes to some of them first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentStage {
    /// The revision with the change.
    pub revision: i64,
    /// By which revision the other hosts go on meanwhile.
    pub before: i64,
    /// Which hosts are first, as it was asked: `5%`, or a condition.
    pub first: String,
    /// Their names.
    pub hosts: Vec<String>,
    /// For how many seconds they have to be well before it goes on.
    pub well_for_s: i64,
    /// Since when they are, in milliseconds since 1970.
    pub well_since_ms: Option<i64>,
    /// When it began, in milliseconds since 1970.
    pub started_ms: i64,
    /// Where it stands.
    pub phase: StagePhase,
    /// Why it went back.
    pub says: String,
}

/// Where a change stands that goes to some hosts first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum StagePhase {
    /// The first hosts have it.
    First,
    /// It went back: all go on by the revision before.
    Back,
}

/// The group and the labels that agents are to have.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct SetAgents {
    /// The agents, by their names.
    #[serde(default)]
    pub names: Vec<String>,
    /// Or those whose facts meet this condition.
    #[serde(default)]
    pub when: Option<String>,
    /// The group that they are to be in; theirs, if left out.
    #[serde(default)]
    pub group: Option<String>,
    /// Labels that they are to have, which count before the host's own; with `null`, the host's own counts again.
    #[serde(default)]
    pub labels: std::collections::BTreeMap<String, Option<String>>,
    /// Only tell what would change.
    #[serde(default)]
    pub dry: bool,
}

/// What is changed where agents are in another group, or have other labels.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentsSet {
    /// The agents, by their names.
    pub names: Vec<String>,
    /// What that changes on which of their hosts.
    pub hosts: Vec<HostChange>,
}

/// That agents are to be given this service's program.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct UpdateAgents {
    /// The agents, by their names.
    #[serde(default)]
    pub names: Vec<String>,
    /// Or those whose facts meet this condition.
    #[serde(default)]
    pub when: Option<String>,
    /// Those that are first; all at once, if left out.
    #[serde(default)]
    pub first: Option<FirstHosts>,
    /// Only tells which would be given it.
    #[serde(default)]
    pub dry: bool,
}

/// Agents that are given this service's program.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentUpdate {
    /// How many are to have it.
    pub hosts: usize,
    /// How many have it.
    pub done: usize,
    /// The names of those that are first; none, once it goes to all.
    pub first: Vec<String>,
    /// Why it goes no further, if it does not.
    pub stopped: Option<String>,
}

/// Agents that will be given this service's program.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UpdatedAgents {
    /// Their names; those that have it, or do not take programs, are not among them.
    pub names: Vec<String>,
}

/// What is to be done by hand with a change that goes to some hosts first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum StageStep {
    /// It goes on to all hosts now.
    On,
    /// It goes back.
    Back,
}

/// What is to be done with the change that is on its way.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct StageRequest {
    /// On, or back.
    pub step: StageStep,
}

/// A source at which agents enrol.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentDoor {
    /// The source.
    pub source: String,
    /// The address by which agents reach it.
    pub address: String,
}

/// How an agent is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum AgentCondition {
    /// Nothing was heard of it for a while.
    Silent,
    /// It does not run by what it was given, since it could not.
    Refused,
    /// Something of what it does is in trouble.
    Trouble,
    /// The assignments that are for it contradict each other.
    Contradicted,
    /// It does not run yet by what it was given.
    Stale,
    /// It runs by what it was given.
    Fine,
}

/// An agent, and how it is doing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentState {
    /// Its name.
    pub name: String,
    /// Its id: 32 hexadecimal digits.
    pub id: String,
    /// The group in which it enrolled.
    pub group: String,
    /// How it is doing.
    pub condition: AgentCondition,
    /// How it is doing, in a sentence.
    pub says: String,
    /// What helps, where something does; a line to paste on the host, where there is one.
    pub remedy: Option<String>,
    /// The version of its program.
    pub version: Option<String>,
    /// Its operating system, in its own words.
    pub os: Option<String>,
    /// When it was heard last, in milliseconds since 1970.
    pub heard_ms: i64,
    /// Whence.
    pub from: Option<String>,
    /// When it enrolled, in milliseconds since 1970.
    pub enrolled_ms: i64,
    /// The assignments that are for it.
    pub assignments: Vec<String>,
}

/// All that is known of an agent.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentDetail {
    /// When this was so, in milliseconds since 1970.
    pub now_ms: i64,
    /// The agent.
    pub agent: AgentState,
    /// What it says of its host, and the group: what the conditions of assignments read.
    #[schema(value_type = Object)]
    pub facts: serde_json::Map<String, serde_json::Value>,
    /// The sources and the destination that it runs, and how each is doing.
    pub parts: Vec<AgentPart>,
    /// Each assignment of the plan, and whether it is for this host.
    pub assignments: Vec<AgentAssignment>,
    /// What the assignments that are for it cannot do together.
    pub contradictions: Vec<String>,
    /// The plan that it is to run by.
    pub plan: String,
    /// Whether it runs by that plan.
    pub current: bool,
    /// Why it does not, in its own words.
    pub error: Option<String>,
    /// Whether it lets the files of its host be looked into.
    pub shows_files: bool,
}

/// A part of an agent.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AgentPart {
    /// `source:NAME` or `destination:NAME`.
    pub part: String,
    /// Whether it is as it should be.
    pub fine: bool,
    /// How it is doing, in a sentence.
    pub says: String,
    /// What helps; a line to paste on the host, where there is one.
    pub remedy: Option<String>,
}

/// Files of an agent's host to look into.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct AgentLook {
    /// Patterns of them. If left out, all logs that are where logs usually are, or where the host's owner lets the agent read.
    #[serde(default)]
    pub paths: Vec<String>,
    /// Patterns of those among them that are left out.
    #[serde(default)]
    pub exclude: Vec<String>,
    /// What is to be collected is named after this. The agent's group, if left out.
    #[serde(default)]
    pub name: Option<String>,
}

/// What was found on an agent's host, and how it would be collected.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentLooked {
    /// The files, and what cannot be read, those in trouble first; at the most 500.
    pub files: Vec<SourceFile>,
    /// How many files were found.
    pub file_count: usize,
    /// There are more files than are told of.
    pub more: bool,
    /// The files that the agent collects already, by what collects them.
    pub collected: Vec<CollectedFiles>,
    /// The other files that can be read, by what they are; those of which there are most first.
    pub kinds: Vec<LookedKind>,
    /// What to add to a plan to collect them: a section `[collect.NAME]` for each kind, and the recipes of the kits that read them.
    pub plan: Option<String>,
    /// The assignment by which this host alone collects them.
    pub for_host: Option<String>,
    /// The assignment by which all hosts of its group do.
    pub for_group: Option<String>,
}

/// Files that are collected already.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CollectedFiles {
    /// What collects them: `NAME` of `[collect.NAME]`.
    pub by: String,
    /// How many they are.
    pub file_count: usize,
}

/// An assignment, as it concerns one host.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AgentAssignment {
    /// Its name.
    pub name: String,
    /// Which hosts it is for; null: all.
    pub when: Option<String>,
    /// Whether it is for this one.
    pub applies: bool,
    /// The parts of its condition that this host does not meet.
    pub unmet: Vec<String>,
    /// What it collects.
    pub collect: Vec<String>,
}

/// A code with which agents can enrol, without its text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EnrolCode {
    /// Its number.
    pub id: i64,
    /// The group in which agents enrol with it.
    pub group: String,
    /// How many more may.
    pub uses_left: i32,
    /// When it was made, in milliseconds since 1970.
    pub made_ms: i64,
    /// Who made it.
    pub made_by: String,
    /// When it ends, in milliseconds since 1970.
    pub expires_ms: i64,
}

/// For whom a code is to be.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NewEnrolCode {
    /// The group in which agents enrol with it: letters, digits, `-` and `_`.
    #[schema(min_length = 1, max_length = 64, pattern = "^[A-Za-z][A-Za-z0-9_-]*$")]
    pub group: String,
    /// How many agents may enrol with it.
    #[schema(minimum = 1, maximum = 10000)]
    pub uses: i32,
    /// For so many minutes, at most 30 days.
    #[schema(minimum = 1, maximum = 43200)]
    pub minutes: i64,
    /// The source at which they enrol; may be left out where the plan has one.
    #[serde(default)]
    pub source: Option<String>,
}

/// A code that was made. This is the only time that its text is told.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeEnrolCode {
    /// Its number.
    pub id: i64,
    /// Its text: what is secret of it, and the fingerprint by which agents know this service.
    pub code: String,
    /// What is pasted on a host that has the program.
    pub line: String,
    /// What is pasted on a host that has nothing yet: it fetches the program from this service, says what it would do, and installs an agent.
    pub setup_line: String,
    /// For agents of another make: where they speak the management protocol.
    pub endpoint: String,
    /// For agents of another make: what they show there as a bearer token, each time.
    pub bearer: String,
    /// For agents of another make: the certificate (PEM) that they are to trust.
    pub authority: String,
    /// When it ends, in milliseconds since 1970.
    pub expires_ms: i64,
}
