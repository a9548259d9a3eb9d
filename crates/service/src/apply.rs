//! Exchanging the plan: checked, bound, recorded, then run, in that order, so that a plan that cannot run is never recorded.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use rockrose_delivery::{Resolver, WorkerSettings, planned, real_path};
use rockrose_engine::{CompiledPlan, Environment, Names};
use rockrose_grants::Grants;
use rockrose_intake::{SourceSettings, StartError};
use rockrose_plan::{CheckedPlan, Destination, Report, SecretName};
use rockrose_records::{RecordsError, Secret};
use rockrose_tables::TableSlot;

use crate::agents::StageAsked;
use crate::caller::Caller;
use crate::engine::Running;
use crate::sink::PlanSink;
use crate::trial::snapshot;
use crate::{App, kept_samples, now_ms, tables, trial, windows};

/// How long a changed destination's delivery under way may take to end.
const CHANGE_PATIENCE: Duration = Duration::from_secs(5);

/// How many revisions are looked through for a destination that left the plan.
const REVISIONS_BACK: i64 = 100;

/// Why a plan was not applied. Nothing was changed.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refusal {
    #[error("the plan has mistakes")]
    Mistakes(Vec<Report>),
    #[error("these secrets are not set: {}", .0.join(", "))]
    Secrets(Vec<String>),
    #[error("the source `{source_name}` cannot listen on {address}: {why}")]
    Listen { source_name: String, address: String, why: StartError },
    #[error("the table `{table}` cannot be read: {why}")]
    Table { table: String, why: tables::OpenError },
    #[error("{} (files are allowed by `rockrose serve --files-under FOLDER`)", .0.join("; "))]
    OutOfReach(Vec<String>),
    #[error("{0}")]
    NoFirst(String),
    #[error("{who} may not make this change: {why}")]
    NotGranted { who: String, why: String },
    #[error(transparent)]
    Records(#[from] RecordsError),
}

/// Who applies a plan.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Author<'a> {
    pub(crate) name: &'a str,
    /// What they may change; nothing is said where whoever runs the service applies it.
    pub(crate) grants: Option<&'a Grants>,
}

impl<'a> From<&'a Caller> for Author<'a> {
    fn from(caller: &'a Caller) -> Author<'a> {
        Author { name: &caller.name, grants: Some(&caller.grants) }
    }
}

/// Checks, records and runs a plan; returns its revision's number.
pub(crate) async fn apply(app: &Arc<App>, text: &str, by: Author<'_>, why: &str, expected: Option<i64>) -> Result<i64, Refusal> {
    apply_first(app, text, by, why, expected, None).await
}

/// As [`apply`]; with `first`, what it changes on hosts goes to some of them first.
pub(crate) async fn apply_first(
    app: &Arc<App>,
    text: &str,
    by: Author<'_>,
    why: &str,
    expected: Option<i64>,
    first: Option<StageAsked>,
) -> Result<i64, Refusal> {
    let _alone = app.engine.applying.lock().await;
    let checked = checked(app, text).await.map_err(Refusal::Mistakes)?;
    if let Some(grants) = by.grants {
        let allowed = grants.change(&app.engine.running().checked, &checked);
        allowed.map_err(|why| Refusal::NotGranted { who: by.name.to_owned(), why })?;
    }
    let ready = prepare(app, &checked).await?;
    let environment = environment(app, tables::slots(&ready.tables));
    let mut failing = failing_examples(app, &checked, &environment).await;
    failing.extend(app.agents.contradictions(&checked));
    if !failing.is_empty() {
        return Err(Refusal::Mistakes(failing));
    }
    let running = app.engine.running();
    let stage = match &first {
        Some(asked) => app.agents.begin_stage(&running, &checked, asked).map_err(Refusal::NoFirst)?,
        None => None,
    };
    let state = stage.as_ref().map(|stage| serde_json::to_string(stage).unwrap_or_default());
    let snapshot = snapshot(app).await;
    let (who, why, kept) = (by.name.to_owned(), why.to_owned(), text.to_owned());
    let number = app.records(move |r| r.add_revision(now_ms(), &who, &why, &kept, expected, state.as_deref())).await?;
    // Before it runs, so that no host gets it that is not to have it yet.
    app.agents.set_stage(&running, number, stage);
    let plan = checked.clone();
    run(app, number, checked, ready).await;
    app.agents.changed.send_replace(());
    // Nobody waits for what was predicted.
    tokio::spawn(trial::keep(Arc::clone(app), number, snapshot, plan, environment));
    Ok(number)
}

/// Checks a plan as it would run here: aside from the threads that take events in, one plan at a time.
pub(crate) async fn checked(app: &App, text: &str) -> Result<CheckedPlan, Vec<Report>> {
    let text = text.to_owned();
    let scope = app.scope.clone();
    let beginning = move |path: &str| scope.refuses(&real_path(path)).is_none().then(|| tables::beginning(path)).flatten();
    aside(app, move || CheckedPlan::read_where(&text, real_path, beginning)).await
}

/// What the steps of a plan with these tables ask beyond the events.
fn environment(app: &App, tables: HashMap<String, Arc<TableSlot>>) -> Environment {
    Environment { tables, names: Some(Arc::clone(&app.names) as Arc<dyn Names>), budgets: app.budgets.gauges(false), node: app.records.node() }
}

/// What the steps of a plan ask that does not run. Tables are only read where they are others than those of the `running` one.
///
/// # Errors
/// The name of a table that cannot be read, and why.
pub(crate) async fn environment_of(app: &App, running: &Running, plan: &CheckedPlan) -> Result<Environment, (String, tables::OpenError)> {
    let tables = if plan.tables == running.checked.tables { running.environment.tables.clone() } else { tables::slots(&tables::open(plan).await?) };
    Ok(environment(app, tables))
}

/// The examples of a plan that fail here, each as a mistake at its place.
pub(crate) async fn failing_examples(app: &App, plan: &CheckedPlan, environment: &Environment) -> Vec<Report> {
    if plan.examples.is_empty() {
        return Vec::new();
    }
    let (plan, environment, key) = (plan.clone(), environment.clone(), app.engine.key());
    aside(app, move || rockrose_engine::trial::failing_examples(&plan, &key, &environment, now_ms())).await
}

/// Does work on a plan on a thread of its own, one at a time.
pub(crate) async fn aside<T: Send + 'static>(app: &App, work: impl FnOnce() -> T + Send + 'static) -> T {
    // The semaphore is never closed.
    let place = Arc::clone(&app.checking).acquire_owned().await;
    let work = move || {
        let _place = place;
        work()
    };
    on_its_own_thread(work).await
}

/// Does work on a thread of its own: nothing waits for it meanwhile, and its memory is that thread's.
pub(crate) async fn on_its_own_thread<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    let (tell, told) = tokio::sync::oneshot::channel();
    std::thread::spawn(move || {
        let _ = tell.send(work());
    });
    told.await.unwrap_or_else(|_| unreachable!("a plan is read and compiled without a panic"))
}

/// Runs a revision that is recorded already.
pub(crate) async fn take_up(app: &Arc<App>, number: i64, text: &str) -> Result<(), Refusal> {
    let _alone = app.engine.applying.lock().await;
    let known = text.to_owned();
    let checked = aside(app, move || CheckedPlan::read(&known)).await.map_err(Refusal::Mistakes)?;
    let ready = prepare(app, &checked).await?;
    run(app, number, checked, ready).await;
    Ok(())
}

/// The secrets of `plan` that are not kept.
pub(crate) async fn missing_secrets(app: &App, plan: &CheckedPlan) -> Result<Vec<String>, RecordsError> {
    let kept = app.records(|r| r.secrets()).await?;
    Ok(plan.secrets().into_iter().filter(|s| kept.iter().all(|k| k.name != s.0)).map(|s| s.0.clone()).collect())
}

/// What of a plan reaches for files that plans may not reach, or shows secrets to those who may not have them, in sentences.
pub(crate) async fn out_of_reach(app: &App, plan: &CheckedPlan) -> Result<Vec<String>, RecordsError> {
    let mut beyond = plan.out_of(&app.scope, real_path);
    let kept = app.records(|r| r.secrets()).await?;
    for shown in plan.shown_secrets() {
        let allowed = kept.iter().find(|k| k.name == shown.secret.0).map(|k| k.shown_to.lines().map(str::to_owned).collect::<Vec<_>>());
        if let Some(allowed) = allowed.filter(|allowed| !shown.may(allowed)) {
            let (name, by, to) = (&shown.secret.0, &shown.by, &shown.to);
            beyond
                .push(format!("{by} would show the secret `{name}` to {to}; it may be shown to {} (`rockrose secret set {name} --for …`)", allowed.join(", ")));
        }
    }
    Ok(beyond)
}

/// Refuses a plan that refers to secrets that are not kept, or reaches for what it may not.
async fn has_what_it_needs(app: &App, plan: &CheckedPlan) -> Result<(), Refusal> {
    let missing = missing_secrets(app, plan).await?;
    if !missing.is_empty() {
        return Err(Refusal::Secrets(missing));
    }
    let beyond = out_of_reach(app, plan).await?;
    if beyond.is_empty() { Ok(()) } else { Err(Refusal::OutOfReach(beyond)) }
}

/// All that can fail, done before anything changes.
struct Ready {
    sources: rockrose_intake::Prepared,
    workers: Vec<WorkerSettings>,
    tables: Vec<tables::Open>,
}

async fn prepare(app: &App, plan: &CheckedPlan) -> Result<Ready, Refusal> {
    has_what_it_needs(app, plan).await?;
    let secrets = secrets(app, plan).await?;
    let tables = tables::open(plan).await.map_err(|(table, why)| Refusal::Table { table, why })?;
    let mut planned = Vec::new();
    for source in &plan.sources {
        let door = app.agents.door(app, source).await?;
        planned.push(SourceSettings { door, ..SourceSettings::planned(source, &app.scope, |name| value(&secrets, name)) });
    }
    let sources = app.sources.prepare(planned).await;
    let sources = sources.map_err(|(source, why)| {
        let address = source.listen.map_or_else(String::new, |address| address.to_string());
        Refusal::Listen { source_name: source.name, address, why }
    })?;
    let mut workers: Vec<WorkerSettings> = plan.destinations.iter().map(|d| worker_settings(app, d, &secrets)).collect();
    workers.extend(leaving(app, plan).await?);
    Ok(Ready { sources, workers, tables })
}

/// What the worker of a destination of a plan would be set to; nothing, if the plan has none of that name.
pub(crate) async fn settings_of(app: &App, plan: &CheckedPlan, name: &str) -> Result<Option<WorkerSettings>, Refusal> {
    let Some(destination) = plan.destinations.iter().find(|d| d.name == name) else { return Ok(None) };
    has_what_it_needs(app, plan).await?;
    Ok(Some(worker_settings(app, destination, &secrets(app, plan).await?)))
}

/// The secrets that a plan refers to and that are kept.
async fn secrets(app: &App, plan: &CheckedPlan) -> Result<BTreeMap<String, Secret>, RecordsError> {
    let mut secrets: BTreeMap<String, Secret> = BTreeMap::new();
    for SecretName(name) in plan.secrets() {
        let asked = name.clone();
        if let Some(secret) = app.records(move |r| r.secret(&asked)).await? {
            secrets.insert(name.clone(), secret);
        }
    }
    Ok(secrets)
}

/// Destinations that events still wait for, though `plan` has them no more, and that are to be drained: as the newest revision that has them says.
async fn leaving(app: &App, plan: &CheckedPlan) -> Result<Vec<WorkerSettings>, RecordsError> {
    let waiting = app.spool.waiting();
    let mut sought: Vec<String> = waiting.into_iter().filter(|(_, w)| w.amount.events > 0).map(|(name, _)| name).collect();
    sought.retain(|name| plan.destinations.iter().all(|d| d.name != *name));
    let mut found = Vec::new();
    if sought.is_empty() {
        return Ok(found);
    }
    for revision in app.records(|r| r.revisions(REVISIONS_BACK)).await? {
        let Ok(before) = CheckedPlan::read(&revision.text) else { continue };
        for destination in before.destinations.iter().filter(|d| sought.contains(&d.name)) {
            if destination.drains {
                found.push(worker_settings(app, destination, &secrets(app, &before).await?));
            }
        }
        sought.retain(|name| before.destinations.iter().all(|d| d.name != *name));
        if sought.is_empty() {
            break;
        }
    }
    Ok(found)
}

/// The value of a kept secret.
fn value(secrets: &BTreeMap<String, Secret>, SecretName(name): &SecretName) -> Option<String> {
    secrets.get(name).map(|secret| secret.reveal().to_owned())
}

fn worker_settings(app: &App, destination: &Destination, secrets: &BTreeMap<String, Secret>) -> WorkerSettings {
    let queue = format!("{}/{}", app.spool.name(), destination.name);
    let value = |name: &SecretName| value(secrets, name);
    WorkerSettings {
        in_flight: destination.in_flight as usize,
        rate: destination.max_rate,
        hold_for: destination.hold_for,
        within: destination.within.map(|promise| promise.within),
        ..WorkerSettings::new(&destination.name, planned(&destination.kind, &Resolver { secrets: &value, node: &app.records.node(), queue: &queue }))
    }
}

/// Compiles a plan on a thread of its own: nothing waits for it meanwhile, and since all of a large plan's memory is that thread's, it is given back once the plan is gone.
async fn compiled(app: &Arc<App>, checked: CheckedPlan, environment: Environment) -> (CheckedPlan, CompiledPlan) {
    let app = Arc::clone(app);
    let compile = move || {
        let compiled = app.engine.compile(&checked, &environment);
        (checked, compiled)
    };
    on_its_own_thread(compile).await
}

/// Whether the plan that runs has a source whose events are not to be sampled.
fn has_unsampled(app: &App) -> bool {
    app.engine.running().checked.sources.iter().any(|source| !source.sampled)
}

async fn run(app: &Arc<App>, number: i64, checked: CheckedPlan, ready: Ready) {
    app.budgets.keep(app, &checked).await;
    // What is tried by it later meets the budgets as they stand, and counts for none.
    let tried = environment(app, tables::slots(&ready.tables));
    let live = Environment { budgets: app.budgets.gauges(true), ..tried.clone() };
    let (checked, compiled) = compiled(app, checked, live).await;
    {
        let _alone = app.engine.windows.write().await;
        let before = app.engine.running();
        if let Err(e) = windows::release_all(app, &before.compiled).await {
            tracing::warn!(error = %e, "what windows held could not be sent on by the plan before");
        }
        windows::take_over(app, &compiled).await;
        app.samples.keep_only(&checked);
        app.engine.run(number, checked, compiled, tried);
    }
    if has_unsampled(app) {
        // What is not to be sampled any more is not to be kept either.
        kept_samples::keep(app).await;
    }
    app.tables.set(ready.tables);
    app.sources.exchange(ready.sources, &Arc::new(PlanSink::new(Arc::clone(app))), CHANGE_PATIENCE).await;
    app.engine.set_workers(ready.workers, &app.spool, CHANGE_PATIENCE).await;
    tracing::info!(revision = number, "the plan runs");
}
