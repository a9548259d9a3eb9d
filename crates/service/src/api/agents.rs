//! Agents: which hosts are heard, how each is doing and what it collects; codes with which they enrol.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_agents::HostPlan;
use rockrose_engine::{Matcher, parts};
use rockrose_intake::Problem;
use rockrose_language::parse_condition;
use rockrose_opamp::{PackageStatusEnum, RemoteConfigStatuses, agent_capabilities};
use rockrose_plan::is_name;

use super::extract::{Body, Part};
use super::plan::first_asked;
use super::records_problem;
use super::types::{
    self, AgentAssignment, AgentCondition, AgentDetail, AgentDoor, AgentPart, AgentStage, AgentState, AgentUpdate, AgentsAnswer, AgentsSet, EnrolCode,
    MadeEnrolCode, NewEnrolCode, SetAgents, StagePhase, StageRequest, StageStep, UpdateAgents, UpdatedAgents,
};
use crate::agents::{Agent, Phase, SILENT_AFTER, StageAct, Staged, as_event, doors, fingerprint, setup_line};
use crate::caller::Caller;
use crate::engine::Running;
use crate::{App, now_ms};

/// Longest time for which a code is good, in minutes: 30 days.
const LONGEST_CODE: i64 = 30 * 24 * 60;
/// Most agents that enrol with one code.
const MOST_USES: i32 = 10_000;
/// An agent may take so long to run by a new plan before it is said to be late, in milliseconds.
const PATIENCE: i64 = 15_000;

/// The agents that have enrolled, and what is needed to enrol more.
#[utoipa::path(get, path = "/api/v1/agents", tag = "agents", responses((status = 200, body = AgentsAnswer), (status = 401, body = types::Problem)))]
pub(crate) async fn agents(State(app): State<Arc<App>>) -> Result<Json<AgentsAnswer>, Problem> {
    let (running, now) = (app.engine.running(), now_ms());
    let codes = app.records(move |r| r.codes(now)).await.map_err(|e| records_problem(&e))?;
    let mut agents: Vec<AgentState> = app.agents.all().iter().map(|agent| state(&app, &running, agent, now)).collect();
    agents.sort_by(|a, b| (a.condition, &a.name).cmp(&(b.condition, &b.name)));
    let doors = doors(&running.checked).map(|(source, kind, listen)| AgentDoor { source: source.name.clone(), address: kind.address(listen) }).collect();
    let codes = codes.into_iter().map(|code| EnrolCode {
        id: code.id,
        group: code.group,
        uses_left: code.uses_left,
        made_ms: code.made_ms,
        made_by: code.made_by,
        expires_ms: code.expires_ms,
    });
    let stage = app.agents.stage(&running).map(|staged| stage_shown(&app, &staged));
    let update = app.agents.rollout().map(|rollout| {
        let mut first: Vec<String> =
            app.agents.all().into_iter().filter(|agent| rollout.first.contains(&agent.record.id)).map(|agent| agent.record.name).collect();
        first.sort();
        AgentUpdate { hosts: rollout.hosts.len(), done: app.agents.updated(&rollout), first, stopped: rollout.stopped }
    });
    Ok(Json(AgentsAnswer { now_ms: now, agents, doors, codes: codes.collect(), stage, update }))
}

/// Gives agents this service's program, signed by its authority. They fetch it, try it, and go back by themselves if this service does not hear of it within a minute.
#[utoipa::path(post, path = "/api/v1/agent-update", tag = "agents", request_body = UpdateAgents,
    responses((status = 200, body = UpdatedAgents), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn update_agents(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(asked): Body<UpdateAgents>,
) -> Result<Json<UpdatedAgents>, Problem> {
    let meant = meant(&app, &asked.names, asked.when.as_deref())?;
    let ids: Vec<String> = meant.into_iter().map(|agent| agent.record.id).collect();
    let first = asked.first.as_ref().map(first_asked).transpose()?.map(|asked| (asked.first, asked.well_for_ms));
    let names = app.agents.update(&app, &ids, first, asked.dry).await.map_err(|e| Problem::internal(e.to_string()))?;
    if !asked.dry {
        app.note_by(&caller.name, "update agents", &names.join(", "), "done").await;
    }
    Ok(Json(UpdatedAgents { names }))
}

/// Gives no further agent this service's program. Those that have it keep it.
#[utoipa::path(delete, path = "/api/v1/agent-update", tag = "agents", responses((status = 204), (status = 401, body = types::Problem)))]
pub(crate) async fn stop_update(State(app): State<Arc<App>>) -> Result<StatusCode, Problem> {
    app.agents.stop_rollout(&app).await.map_err(|e| records_problem(&e))?;
    Ok(StatusCode::NO_CONTENT)
}

/// The agents that are named, or meet a condition on their facts, by name.
fn meant(app: &App, names: &[String], when: Option<&str>) -> Result<Vec<Agent>, Problem> {
    let bad = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "bad-agents", "It is not said which agents", detail);
    let matcher = match when {
        None => None,
        Some(when) => Some(Matcher::new(&parse_condition(when).map_err(|mistake| bad(mistake.message))?)),
    };
    let all = app.agents.all();
    if let Some(name) = names.iter().find(|name| !all.iter().any(|agent| agent.record.name == **name)) {
        return Err(unknown(name));
    }
    let now = now_ms();
    let is_meant = |agent: &Agent| names.contains(&agent.record.name) || matcher.as_ref().is_some_and(|matcher| matcher.meets(&as_event(&agent.facts), now));
    let mut meant: Vec<Agent> = all.into_iter().filter(is_meant).collect();
    meant.sort_by(|a, b| a.record.name.cmp(&b.record.name));
    if meant.is_empty() { Err(bad("no agent is named, or meets the condition".to_owned())) } else { Ok(meant) }
}

fn stage_shown(app: &App, staged: &Staged) -> AgentStage {
    let stage = &staged.stage;
    let mut hosts: Vec<String> = app.agents.all().into_iter().filter(|agent| stage.hosts.contains(&agent.record.id)).map(|agent| agent.record.name).collect();
    hosts.sort();
    AgentStage {
        revision: staged.revision,
        before: stage.before,
        first: stage.first.clone(),
        hosts,
        well_for_s: stage.well_for_ms / 1_000,
        well_since_ms: staged.well_since_ms(),
        started_ms: stage.started_ms,
        phase: match stage.phase {
            Phase::First => StagePhase::First,
            Phase::Back => StagePhase::Back,
        },
        says: stage.says.clone(),
    }
}

/// Lets the change that goes to some hosts first go on to all now, or back.
#[utoipa::path(post, path = "/api/v1/agent-stage", tag = "agents", request_body = StageRequest,
    responses((status = 204), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn move_stage(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(asked): Body<StageRequest>,
) -> Result<StatusCode, Problem> {
    let act = match asked.step {
        StageStep::On => StageAct::On,
        StageStep::Back => StageAct::Back,
    };
    if app.agents.act_on_stage(&app, act, &caller.name).await.map_err(|e| records_problem(&e))? {
        return Ok(StatusCode::NO_CONTENT);
    }
    Err(Problem::new(StatusCode::CONFLICT, "no-stage", "Nothing is on its way", "all hosts have the active plan, or it went back already"))
}

pub(super) fn unknown(name: &str) -> Problem {
    Problem::new(StatusCode::NOT_FOUND, "no-agent", "No such agent", format!("no agent called `{name}` has enrolled"))
}

/// So many milliseconds, in words.
fn lasting(ms: i64) -> String {
    match ms / 1_000 {
        seconds if seconds < 120 => format!("{seconds} s"),
        seconds if seconds < 7_200 => format!("{} min", seconds / 60),
        seconds if seconds < 172_800 => format!("{} h", seconds / 3_600),
        seconds => format!("{} days", seconds / 86_400),
    }
}

/// How an agent is doing: the gravest that is known of it.
fn state(app: &App, running: &Running, agent: &Agent, now: i64) -> AgentState {
    let wanted = app.agents.wanted(running, &agent.record.id);
    let (condition, says, remedy) = condition(agent, wanted.as_deref(), now);
    let fact = |name: &str| agent.facts.get(name).and_then(|value| value.as_str()).map(str::to_owned);
    AgentState {
        name: agent.record.name.clone(),
        id: agent.record.id.clone(),
        group: agent.record.group.clone(),
        condition,
        says,
        remedy,
        version: fact("service.version"),
        os: fact("os.description").or_else(|| fact("os.type")),
        heard_ms: agent.heard_ms,
        from: agent.from.map(|from| from.to_string()),
        enrolled_ms: agent.record.enrolled_ms,
        assignments: wanted.map(|wanted| wanted.assignments.clone()).unwrap_or_default(),
    }
}

fn condition(agent: &Agent, wanted: Option<&HostPlan>, now: i64) -> (AgentCondition, String, Option<String>) {
    let silent = now - agent.heard_ms;
    if silent > SILENT_AFTER {
        let remedy = "look at `rockrose agent status` on the host".to_owned();
        return (AgentCondition::Silent, format!("nothing was heard of it for {}", lasting(silent)), Some(remedy));
    }
    let current = wanted.is_some_and(|wanted| agent.heard.config.hash == wanted.hash());
    if current && agent.heard.config.status == RemoteConfigStatuses::Failed as i32 {
        return (AgentCondition::Refused, format!("it keeps the plan that it had: {}", agent.heard.config.error), None);
    }
    if let Some(bad) = agent.heard.parts.iter().find(|part| !part.healthy) {
        let more = agent.heard.parts.iter().filter(|part| !part.healthy).count() - 1;
        let more = if more == 0 { String::new() } else { format!("; {more} more") };
        return (AgentCondition::Trouble, format!("{}: {}{more}", bad.part, bad.says), bad.remedy.clone());
    }
    if agent.heard.package.status == PackageStatusEnum::InstallFailed as i32 {
        let says = format!("it could not take the program that it was offered, and goes on with its own: {}", agent.heard.package.error);
        return (AgentCondition::Trouble, says, None);
    }
    // One of another make may be unwell as a whole.
    if !agent.heard.healthy && !agent.heard.says.is_empty() {
        return (AgentCondition::Trouble, agent.heard.says.clone(), None);
    }
    let ahead = agent.heard.clock_ahead_min;
    if ahead != 0 {
        let side = if ahead > 0 { "ahead" } else { "behind" };
        let remedy = "set the host's clock: timedatectl set-ntp true".to_owned();
        return (AgentCondition::Trouble, format!("its host's clock is {} {side}", lasting(ahead.abs() * 60_000)), Some(remedy));
    }
    if let Some(contradiction) = wanted.and_then(|wanted| wanted.contradictions.first()) {
        let says = format!("{} contradict each other: {}", contradiction.assignments.join(" and "), contradiction.says);
        return (AgentCondition::Contradicted, says, Some("change the conditions of the assignments".to_owned()));
    }
    if !current || agent.heard.config.status != RemoteConfigStatuses::Applied as i32 {
        if agent.heard.capabilities & agent_capabilities::ACCEPTS_REMOTE_CONFIG == 0 {
            return (AgentCondition::Stale, "its owner does not let it be changed from here; it goes on with what it has".to_owned(), None);
        }
        let since = agent.differs_since.map_or(0, |since| now - since);
        let says = if since < PATIENCE { "it is taking a new plan".to_owned() } else { format!("it has not taken its new plan for {}", lasting(since)) };
        return (AgentCondition::Stale, says, None);
    }
    let says = if wanted.is_some_and(|wanted| wanted.assignments.is_empty()) { "no assignment is for it: it collects nothing" } else { "it runs its plan" };
    (AgentCondition::Fine, says.to_owned(), None)
}

/// All that is known of an agent: its host's facts, what it collects and why, and how each part of it is doing.
#[utoipa::path(get, path = "/api/v1/agents/{name}", tag = "agents", params(("name" = String, Path)),
    responses((status = 200, body = AgentDetail), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn agent(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<Json<AgentDetail>, Problem> {
    let (running, now) = (app.engine.running(), now_ms());
    let agent = app.agents.called(&name).ok_or_else(|| unknown(&name))?;
    let wanted = app.agents.wanted(&running, &agent.record.id);
    let event = as_event(&agent.facts);
    let of = |assignment: &rockrose_plan::Assignment| {
        let parts = assignment.when.as_ref().map(|when| parts(when, &event, now)).unwrap_or_default();
        AgentAssignment {
            name: assignment.name.clone(),
            when: assignment.when.as_ref().map(ToString::to_string),
            applies: wanted.as_ref().is_some_and(|wanted| wanted.assignments.contains(&assignment.name)),
            unmet: parts.into_iter().filter(|part| !part.holds).map(|part| part.sentence).collect(),
            collect: assignment.collect.clone(),
        }
    };
    let part =
        |part: &crate::agents::PartHeard| AgentPart { part: part.part.clone(), fine: part.healthy, says: part.says.clone(), remedy: part.remedy.clone() };
    let config = &agent.heard.config;
    Ok(Json(AgentDetail {
        now_ms: now,
        agent: state(&app, &running, &agent, now),
        facts: (*agent.facts).clone(),
        parts: agent.heard.parts.iter().map(part).collect(),
        assignments: running.checked.assignments.iter().map(of).collect(),
        contradictions: wanted.iter().flat_map(|wanted| &wanted.contradictions).map(|contradiction| contradiction.says.clone()).collect(),
        current: wanted.as_ref().is_some_and(|wanted| wanted.hash() == *config.hash) && config.status == RemoteConfigStatuses::Applied as i32,
        plan: wanted.map(|wanted| wanted.files.iter().map(|file| file.text.as_str()).collect::<Vec<_>>().join("\n")).unwrap_or_default(),
        error: Some(config.error.clone()).filter(|error| !error.is_empty()),
        shows_files: agent.heard.shows_files,
    }))
}

/// Most labels that are given at once, and most characters of one.
const LABELS: (usize, usize) = (64, 256);

/// Puts agents into another group, or gives them labels. What that changes on their hosts is told; with `dry`, nothing is changed.
#[utoipa::path(post, path = "/api/v1/agents", tag = "agents", request_body = SetAgents,
    responses((status = 200, body = AgentsSet), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn set_agents(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(asked): Body<SetAgents>,
) -> Result<Json<AgentsSet>, Problem> {
    let bad = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "bad-agents", "It is not said which agents, or what they are to have", detail);
    if let Some(group) = asked.group.as_ref().filter(|group| !is_name(group)) {
        return Err(bad(format!("`{group}` cannot name a group: letters, digits, `-` and `_`, a letter first, at most 64")));
    }
    let is_label = |(name, value): (&String, &Option<String>)| is_name(name) && value.as_ref().is_none_or(|value| value.chars().count() <= LABELS.1);
    if asked.labels.len() > LABELS.0 || !asked.labels.iter().all(is_label) {
        return Err(bad(format!("at most {} labels are given at once: names as of a group, and values of at most {} characters", LABELS.0, LABELS.1)));
    }
    if asked.group.is_none() && asked.labels.is_empty() {
        return Err(bad("neither a group nor a label is given".to_owned()));
    }
    let meant = meant(&app, &asked.names, asked.when.as_deref())?;
    let (ids, names): (Vec<String>, Vec<String>) = meant.into_iter().map(|agent| (agent.record.id, agent.record.name)).unzip();
    let given = asked.labels.into_iter().map(|(name, value)| (name, value.map_or(serde_json::Value::Null, Into::into))).collect();
    let running = app.engine.running();
    let (next, hosts) = app.agents.set_otherwise(&running, &ids, asked.group.as_deref(), &given);
    if !asked.dry {
        app.agents.set(&app, next).await.map_err(|e| records_problem(&e))?;
        let what = asked.group.map_or_else(|| "other labels".to_owned(), |group| format!("group {group}"));
        app.note_by(&caller.name, "set agents", &format!("{} ({what})", names.join(", ")), "done").await;
    }
    Ok(Json(AgentsSet { names, hosts }))
}

/// Forgets an agent: nothing more is taken from it, and its name is free.
#[utoipa::path(delete, path = "/api/v1/agents/{name}", tag = "agents", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn retire(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    if app.agents.retire(&app, &name).await.map_err(|e| records_problem(&e))? { Ok(StatusCode::NO_CONTENT) } else { Err(unknown(&name)) }
}

/// Makes a code with which agents enrol in a group, and the line that is pasted on their hosts. The code is told this once.
#[utoipa::path(post, path = "/api/v1/enrol-codes", tag = "agents", request_body = NewEnrolCode,
    responses((status = 200, body = MadeEnrolCode), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn make_code(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(asked): Body<NewEnrolCode>,
) -> Result<Json<MadeEnrolCode>, Problem> {
    make_enrol_code(&app, asked, &caller.name).await.map(Json)
}

/// Makes a code, and the line that is pasted.
pub(crate) async fn make_enrol_code(app: &App, asked: NewEnrolCode, who: &str) -> Result<MadeEnrolCode, Problem> {
    let NewEnrolCode { group, uses, minutes, source } = asked;
    let bad = |detail: String| Problem::new(StatusCode::BAD_REQUEST, "bad-code", "No such code", detail);
    if !is_name(&group) {
        return Err(bad(format!("`{group}` cannot name a group: letters, digits, `-` and `_`, a letter first, at most 64")));
    }
    if !(1..=MOST_USES).contains(&uses) || !(1..=LONGEST_CODE).contains(&minutes) {
        return Err(bad(format!("a code is for 1 to {MOST_USES} agents, and lasts from 1 minute to 30 days (43200 minutes)")));
    }
    let running = app.engine.running();
    let mut at = doors(&running.checked).filter(|(of, ..)| source.as_ref().is_none_or(|name| *name == of.name));
    let no_door = |detail: &str| Problem::new(StatusCode::CONFLICT, "no-door", "Agents cannot enrol", detail);
    let (_, kind, listen) = at.next().ok_or_else(|| no_door("the active plan has no such source of kind `agents`, at which agents enrol"))?;
    if at.next().is_some() {
        return Err(no_door("the active plan has several sources of kind `agents`: say at which of them"));
    }
    let address = kind.address(listen);
    let authority = app.agents.authority(app).await.map_err(|e| records_problem(&e))?;
    let pin = fingerprint(&authority).ok_or_else(|| Problem::internal("the authority's certificate cannot be read"))?;
    let now = now_ms();
    let (expires_ms, who) = (now + minutes * 60_000, who.to_owned());
    let (id, secret) = app.records(move |r| r.make_code(&group, uses, &who, now, expires_ms)).await.map_err(|e| records_problem(&e))?;
    let code = format!("{}.{pin}", secret.reveal());
    let (bearer, endpoint) = (secret.reveal().to_owned(), format!("https://{address}{}", rockrose_opamp::PATH));
    let key_pin = app.agents.key_pin(app).await.map_err(|e| records_problem(&e))?;
    Ok(MadeEnrolCode {
        id,
        setup_line: setup_line(&format!("https://{address}"), &bearer, &key_pin),
        line: format!("rockrose agent enrol https://{address} {code}"),
        code,
        endpoint,
        bearer,
        authority: authority.certificate,
        expires_ms,
    })
}

/// Ends a code: no further agent enrols with it.
#[utoipa::path(delete, path = "/api/v1/enrol-codes/{id}", tag = "agents", params(("id" = i64, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn end_code(State(app): State<Arc<App>>, Part(id): Part<i64>) -> Result<StatusCode, Problem> {
    if app.records(move |r| r.end_code(id)).await.map_err(|e| records_problem(&e))? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::new(StatusCode::NOT_FOUND, "no-code", "No such code", format!("there is no code of number {id}")))
    }
}
