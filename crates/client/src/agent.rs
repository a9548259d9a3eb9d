//! `agent`, at the centre: which hosts are heard, what each collects and why, and codes with which more enrol.

use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{
    AgentCondition, AgentDetail, AgentLook, AgentLooked, AgentStage, AgentState, AgentUpdate, AgentsAnswer, AgentsSet, MadeEnrolCode, NewEnrolCode,
    RunningPlan, SetAgents, StagePhase, StageRequest, StageStep, UpdateAgents, UpdatedAgents,
};
use rockrose_plan::{CheckedPlan, joined};
use serde_json::{Value, json};

use crate::client::Client;
use crate::format::{self, BAD, GOOD, paint};
use crate::plan::{apply_text, ask, first_hosts, on_hosts, read};
use crate::source::{files_shown, looked_kind};
use crate::{Common, Exit, Failure, Outcome};

/// What is asked of the centre about agents.
#[derive(Subcommand)]
pub enum AgentsCommand {
    /// List the agents, those that need somebody first
    List {
        /// Only those of this group
        #[arg(long)]
        group: Option<String>,
    },
    /// Show an agent: its host's facts, what it collects, and how each part of it is doing
    Show {
        /// The agent's name
        name: String,
    },
    /// Say what a host collects, by which assignment, and why the others are not for it
    Explain {
        /// The agent's name
        name: String,
        /// Print the plan that its agent is given
        #[arg(long)]
        plan: bool,
    },
    /// Ask an agent which log files there are on its host: their kinds, the events they would give, and what to add to the plan
    Look {
        /// The agent's name
        name: String,
        /// Files or patterns of files on its host; all that stand where logs usually do if omitted
        #[arg(value_name = "PATH")]
        paths: Vec<String>,
        /// Patterns of files to leave out
        #[arg(long, value_name = "PATH")]
        exclude: Vec<String>,
        /// Name for what is collected; the agent's group if omitted
        #[arg(long = "as", value_name = "NAME")]
        named: Option<String>,
        /// Assign it to all hosts of the agent's group, not to this one alone
        #[arg(long)]
        group: bool,
    },
    /// Put agents into another group, or give them labels; says first what that changes on their hosts
    Set {
        /// The agents' names
        #[arg(required_unless_present = "when")]
        names: Vec<String>,
        /// Those whose facts meet this condition
        #[arg(long, value_name = "CONDITION")]
        when: Option<String>,
        /// The group that they are to be in
        #[arg(long)]
        group: Option<String>,
        /// A label, as in port=Lowmere, which counts before the host's own; may be repeated. With nothing behind the sign, the host's own counts again
        #[arg(long, value_name = "NAME=VALUE")]
        label: Vec<String>,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
    /// Give agents the program of this service: they check who signed it, try it, and go back by themselves if it does not do
    Update {
        /// The agents' names; with nothing said, it is told how far an update is
        names: Vec<String>,
        /// Those whose facts meet this condition
        #[arg(long, value_name = "CONDITION")]
        when: Option<String>,
        /// These of them first: a share, as in 5%, or a condition on their facts
        #[arg(long, value_name = "HOSTS")]
        first: Option<String>,
        /// How long they have to be well before it goes on to all
        #[arg(long, value_name = "TIME", default_value = "5 minutes", requires = "first")]
        well_for: String,
        /// Only tell which would be given it
        #[arg(long)]
        dry: bool,
        /// Give it to no further agent
        #[arg(long, conflicts_with_all = ["names", "when", "first", "dry"])]
        stop: bool,
    },
    /// Say where the change stands that goes to some hosts first, or move it
    Stage {
        /// `on`: it goes on to all hosts now; `back`: it goes back
        #[arg(value_parser = ["on", "back"])]
        step: Option<String>,
    },
    /// Print assignments of the active plan with what they collect and use, as a file that another plan can take in
    Export {
        /// Names of assignments; all if omitted
        names: Vec<String>,
    },
    /// Add the assignments of a file to the active plan: what that changes, and on which hosts, is shown first
    Import {
        /// The file, as `rockrose agent export` prints it; `-` for standard input
        file: std::path::PathBuf,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
    /// Make a code with which agents enrol, and the line to paste on their hosts
    Code {
        /// The group in which they enrol
        group: String,
        /// How many agents may enrol with it
        #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(i32).range(1..=10_000))]
        uses: i32,
        /// For how many minutes it is good, at most 30 days
        #[arg(long, default_value_t = 60, value_parser = clap::value_parser!(i64).range(1..=43_200))]
        minutes: i64,
        /// The source of kind `agents` at which they enrol, where the plan has several
        #[arg(long)]
        source: Option<String>,
        /// For agents of another make: print the endpoint, the bearer token and the certificate to trust
        #[arg(long)]
        other: bool,
    },
    /// List the codes that are still good, or end one
    Codes {
        /// End the code of this number
        #[arg(long, value_name = "NUMBER")]
        end: Option<i64>,
    },
    /// Forget an agent: nothing more is taken from it, and its name is free
    Retire {
        /// The agent's name
        name: String,
    },
}

/// The word for how an agent is doing.
fn condition(of: AgentCondition) -> String {
    let (word, colour) = match of {
        AgentCondition::Fine => ("fine", GOOD),
        AgentCondition::Stale => ("behind", ""),
        AgentCondition::Silent => ("silent", BAD),
        AgentCondition::Refused => ("refused", BAD),
        AgentCondition::Trouble => ("trouble", BAD),
        AgentCondition::Contradicted => ("contradicted", BAD),
    };
    if colour.is_empty() { word.to_owned() } else { paint(word, colour) }
}

fn remedies<'a>(agents: impl Iterator<Item = &'a AgentState>) -> Option<String> {
    let lines: Vec<String> = agents.filter_map(|agent| Some(format!("{}: {}", agent.name, agent.remedy.as_ref()?))).collect();
    (!lines.is_empty()).then(|| lines.join("\n"))
}

/// Where a change stands that goes to some hosts first.
fn stage(stage: &AgentStage, now_ms: i64) -> String {
    let AgentStage { revision, before, first, hosts, .. } = stage;
    let first = match hosts.as_slice() {
        [] => format!("first on {first}; none of those hosts is left"),
        [one] => format!("first on {one} ({first})"),
        [one, rest @ ..] => format!("first on {one} and {} more ({first})", rest.len()),
    };
    if stage.phase == StagePhase::Back {
        return paint(&format!("Revision {revision}, {first}, went back: {}. All hosts collect by revision {before}.", stage.says), BAD);
    }
    let well = match stage.well_since_ms {
        Some(since) => format!("they have been well for {}, and it goes on once that is", format::age(now_ms - since)),
        None => "they are not all well yet, and it goes on once they have been for".to_owned(),
    };
    format!("Revision {revision} runs {first}, the others collect by revision {before}: {well} {}.", format::age(stage.well_for_s * 1_000))
}

/// How far an update is.
fn update(update: &AgentUpdate) -> String {
    let AgentUpdate { hosts, done, first, stopped } = update;
    let far = format!("{done} of {hosts} agents have the program of this service");
    match (stopped, first.as_slice()) {
        (Some(why), _) => paint(&format!("{far}; it goes no further: {why}."), BAD),
        (None, []) => format!("{far}."),
        (None, first) => format!("{far}; first are {}.", first.join(", ")),
    }
}

fn list(answer: &AgentsAnswer, group: Option<&str>) -> Outcome {
    let shown: Vec<&AgentState> = answer.agents.iter().filter(|agent| group.is_none_or(|group| agent.group == group)).collect();
    if shown.is_empty() {
        let says = match (answer.doors.is_empty(), group) {
            (true, _) => "Agents need a source of kind `agents` in the plan, at which they enrol.".to_owned(),
            (false, Some(group)) => format!("No agent of the group {group} has enrolled. Make a code: rockrose agent code {group}"),
            (false, None) => "No agent has enrolled. Make a code: rockrose agent code GROUP".to_owned(),
        };
        return format::line(&says);
    }
    let row = |a: &&AgentState| {
        let heard = format!("{} ago", format::age(answer.now_ms - a.heard_ms));
        vec![a.name.clone(), a.group.clone(), condition(a.condition), heard, a.version.clone().unwrap_or_default(), a.assignments.join(", "), a.says.clone()]
    };
    let table = format::table(&["agent", "group", "state", "heard", "version", "assignments", ""], &[], shown.iter().map(row).collect());
    let on_its_way = answer.stage.as_ref().map(|of| stage(of, answer.now_ms));
    let blocks: Vec<String> = [on_its_way, answer.update.as_ref().map(update), Some(table), remedies(shown.into_iter())].into_iter().flatten().collect();
    format::blocks(&blocks)
}

/// A fact's value as one reads it.
fn fact(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Array(items) => items.iter().map(fact).collect::<Vec<_>>().join(", "),
        Value::Object(members) => members.iter().map(|(name, value)| format!("{name} = {}", fact(value))).collect::<Vec<_>>().join(", "),
        other => other.to_string(),
    }
}

fn head(detail: &AgentDetail) -> String {
    let agent = &detail.agent;
    let heard = format::age(detail.now_ms - agent.heard_ms);
    let from = agent.from.as_ref().map(|from| format!(" from {from}")).unwrap_or_default();
    let remedy = agent.remedy.as_ref().map(|remedy| format!("\n{remedy}")).unwrap_or_default();
    format!("{} ({}) is {}: {}. Heard {heard} ago{from}.{remedy}", agent.name, agent.group, condition(agent.condition), agent.says)
}

fn show(detail: &AgentDetail) -> Outcome {
    let parts = detail.parts.iter().map(|part| {
        let state = if part.fine { paint("fine", GOOD) } else { paint("trouble", BAD) };
        vec![part.part.clone(), state, part.says.clone(), part.remedy.clone().unwrap_or_default()]
    });
    let parts: Vec<Vec<String>> = parts.collect();
    let parts = (!parts.is_empty()).then(|| format::table(&["part", "state", "", "what helps"], &[], parts));
    let facts = format::table(&["fact", "value"], &[], detail.facts.iter().map(|(name, value)| vec![name.clone(), fact(value)]).collect());
    let error = detail.error.as_ref().map(|error| format!("It could not take its plan:\n{error}"));
    format::blocks(&[Some(head(detail)), error, parts, Some(facts)].into_iter().flatten().collect::<Vec<_>>())
}

fn explain(detail: &AgentDetail) -> Outcome {
    let row = |a: &rockrose_api::AgentAssignment| {
        let why = match (a.applies, &a.when) {
            (true, None) => "it is for every host".to_owned(),
            (true, Some(when)) => when.clone(),
            (false, _) => format!("not met: {}", a.unmet.join(", ")),
        };
        vec![a.name.clone(), if a.applies { paint("yes", GOOD) } else { "no".to_owned() }, a.collect.join(", "), why]
    };
    let table = (!detail.assignments.is_empty())
        .then(|| format::table(&["assignment", "for it", "collects", "why"], &[], detail.assignments.iter().map(row).collect()));
    let none = detail.assignments.is_empty().then(|| {
        "The plan has no assignments. One is a section `[assignment.NAME]` with when = 'CONDITION' on the facts that `rockrose agent show` lists, and collect = [\"NAME\"] of a section `[collect.NAME]`."
            .to_owned()
    });
    let contradictions = (!detail.contradictions.is_empty()).then(|| format!("They contradict each other:\n{}", detail.contradictions.join("\n")));
    format::blocks(&[Some(head(detail)), table, none, contradictions].into_iter().flatten().collect::<Vec<_>>())
}

fn looked(looked: &AgentLooked, group: bool) -> Outcome {
    let mut blocks = vec![files_shown(&looked.files, looked.file_count)];
    if looked.more {
        blocks.push("There are more than are told of; name some of them to see what they are.".to_owned());
    }
    let collected = looked.collected.iter().map(|c| format!("{} by {}", c.file_count, c.by)).collect::<Vec<_>>();
    if !collected.is_empty() {
        blocks.push(format!("Collected already: {}.", collected.join(", ")));
    }
    let (Some(plan), Some(assignment)) = (&looked.plan, if group { &looked.for_group } else { &looked.for_host }) else {
        blocks.push("There is nothing else that can be read.".to_owned());
        return format::blocks(&blocks);
    };
    blocks.extend(looked.kinds.iter().map(|kind| looked_kind(kind, looked.kinds.len() > 1)));
    blocks.push(format!("To collect this, add to the plan:\n\n{}\n\n{}", plan.trim_end(), assignment.trim_end()));
    format::blocks(&blocks)
}

/// Runs a command about agents.
///
/// # Errors
/// If the service cannot be reached, or refuses.
pub async fn agents(common: &Common, command: AgentsCommand) -> Outcome {
    let client = Client::new(common)?;
    let all = async || -> Result<AgentsAnswer, Failure> { client.get("/api/v1/agents").await?.read() };
    let one = async |name: &str| -> Result<AgentDetail, Failure> { client.get(&format!("/api/v1/agents/{name}")).await?.read() };
    match command {
        AgentsCommand::List { group } => {
            let answer = all().await?;
            if common.json { format::print_json(&answer.agents) } else { list(&answer, group.as_deref()) }
        }
        AgentsCommand::Show { name } => {
            let detail = one(&name).await?;
            if common.json { format::print_json(&detail) } else { show(&detail) }
        }
        AgentsCommand::Explain { name, plan } => {
            let detail = one(&name).await?;
            match (common.json, plan) {
                (true, _) => format::print_json(&detail.assignments),
                (false, true) => format::line(detail.plan.trim_end()),
                (false, false) => explain(&detail),
            }
        }
        AgentsCommand::Export { names } => {
            let running: RunningPlan = client.get("/api/v1/plan").await?.read()?;
            let plan = CheckedPlan::read(&running.text).map_err(|_| Failure::new(Exit::BadPlan, "the active plan cannot be read by this client"))?;
            let text = plan.assignments_apart(&names).map_err(|e| Failure::new(Exit::Failed, e.to_string()))?;
            if common.json { format::print_json(&json!({ "text": text })) } else { format::line(text.trim_end()) }
        }
        AgentsCommand::Import { file, yes } => {
            let (parts, name) = read(&file)?;
            let running: RunningPlan = client.get("/api/v1/plan").await?.read()?;
            let with = joined(&running.text, &parts).map_err(|e| Failure::new(Exit::BadPlan, format!("{name}: {e}")))?;
            apply_text(common, with, &format!("the plan with {name}"), &format!("assignments of {name}"), yes, None).await
        }
        AgentsCommand::Update { stop: true, .. } => {
            client.call_bare(Method::DELETE, "/api/v1/agent-update").await?;
            if common.json { format::print_json(&json!({ "stopped": true })) } else { format::line("It is given to no further agent.") }
        }
        AgentsCommand::Update { names, when: None, .. } if names.is_empty() => {
            let answer = all().await?;
            if common.json {
                return format::print_json(&answer.update);
            }
            format::line(&answer.update.as_ref().map_or_else(|| "No agent is given another program.".to_owned(), update))
        }
        AgentsCommand::Update { names, when, first, well_for, dry, .. } => {
            let asked = UpdateAgents { names, when, first: first_hosts(first, &well_for)?, dry };
            let updated: UpdatedAgents = client.call(Method::POST, "/api/v1/agent-update", &asked).await?.read()?;
            if common.json {
                return format::print_json(&updated);
            }
            match updated.names.as_slice() {
                [] => format::line("They have it, or take no programs from here."),
                names if dry => format::line(&format!("It would be given to {}.", names.join(", "))),
                names => format::line(&format!("It is given to {}. How far it is: rockrose agent update", names.join(", "))),
            }
        }
        AgentsCommand::Set { names, when, group, label, yes } => {
            let labels = label.iter().map(|label| {
                let (name, value) = label.split_once('=').ok_or_else(|| Failure::new(Exit::Failed, format!("`{label}` is no label, as in port=Lowmere")))?;
                Ok((name.to_owned(), Some(value.to_owned()).filter(|value| !value.is_empty())))
            });
            let labels = labels.collect::<Result<_, Failure>>()?;
            let mut asked = SetAgents { names, when, group, labels, dry: true };
            let would: AgentsSet = client.call(Method::POST, "/api/v1/agents", &asked).await?.read()?;
            if !common.json {
                let agents = format!("{} {}: {}", would.names.len(), if would.names.len() == 1 { "agent" } else { "agents" }, would.names.join(", "));
                let changes = on_hosts(&would.hosts).unwrap_or_else(|| "It changes nothing of what they collect.".to_owned());
                format::blocks(&[agents, changes])?;
            }
            if !yes && !ask("Do it?")? {
                return Ok(Exit::Declined);
            }
            asked.dry = false;
            let set: AgentsSet = client.call(Method::POST, "/api/v1/agents", &asked).await?.read()?;
            if common.json { format::print_json(&set) } else { format::line("Done.") }
        }
        AgentsCommand::Stage { step: Some(step) } => {
            let asked = StageRequest { step: if step == "on" { StageStep::On } else { StageStep::Back } };
            client.call(Method::POST, "/api/v1/agent-stage", &asked).await?;
            let says = if step == "on" { "It goes on to all hosts." } else { "It goes back: all hosts collect as before." };
            if common.json { format::print_json(&asked) } else { format::line(says) }
        }
        AgentsCommand::Stage { step: None } => {
            let answer = all().await?;
            if common.json {
                return format::print_json(&answer.stage);
            }
            format::line(&answer.stage.as_ref().map_or_else(|| "All hosts have the active plan.".to_owned(), |of| stage(of, answer.now_ms)))
        }
        AgentsCommand::Look { name, paths, exclude, named, group } => {
            let answer = client.call(Method::POST, &format!("/api/v1/agents/{name}/look"), &AgentLook { paths, exclude, name: named }).await?;
            if common.json { answer.print() } else { looked(&answer.read()?, group) }
        }
        AgentsCommand::Code { group, uses, minutes, source, other } => {
            let asked = NewEnrolCode { group, uses, minutes, source };
            let made: MadeEnrolCode = client.call(Method::POST, "/api/v1/enrol-codes", &asked).await?.read()?;
            if common.json {
                return format::print_json(&made);
            }
            if other {
                let ways = format!("endpoint       {}\nauthorization  Bearer {}", made.endpoint, made.bearer);
                return format::blocks(&[
                    "For agents that speak OpAMP over HTTP:".to_owned(),
                    ways,
                    format!("The certificate to trust:\n{}", made.authority.trim_end()),
                ]);
            }
            let hosts = if uses == 1 { "one host".to_owned() } else { format!("{uses} hosts") };
            format::blocks(&[
                format!(
                    "Paste this on {hosts}, within {}; it fetches the program, says what it would do, and installs an agent:",
                    format::age(minutes * 60_000)
                ),
                made.setup_line,
                "Or, where the program is, to run an agent in the foreground:".to_owned(),
                made.line,
            ])
        }
        AgentsCommand::Codes { end: Some(number) } => {
            client.call_bare(Method::DELETE, &format!("/api/v1/enrol-codes/{number}")).await?;
            if common.json { format::print_json(&json!({ "ended": number })) } else { format::line(&format!("The code {number} is good no longer.")) }
        }
        AgentsCommand::Codes { end: None } => {
            let answer = all().await?;
            if common.json {
                return format::print_json(&answer.codes);
            }
            if answer.codes.is_empty() {
                return format::line("No code is good. Make one: rockrose agent code GROUP");
            }
            let row = |c: &rockrose_api::EnrolCode| {
                vec![c.id.to_string(), c.group.clone(), c.uses_left.to_string(), format::age(c.expires_ms - answer.now_ms), c.made_by.clone()]
            };
            format::line(&format::table(&["code", "group", "uses left", "good for", "made by"], &[0, 2], answer.codes.iter().map(row).collect()))
        }
        AgentsCommand::Retire { name } => {
            client.call_bare(Method::DELETE, &format!("/api/v1/agents/{name}")).await?;
            if common.json {
                format::print_json(&json!({ "retired": name }))
            } else {
                format::line(&format!("{name} is retired: nothing more is taken from it."))
            }
        }
    }
}
