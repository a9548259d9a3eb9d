//! Exchanging the plan: checked, bound, recorded, then run, in that order, so that a plan that cannot run is never recorded.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use arc_swap::ArcSwap;
use rockrose_delivery::{Resolver, WorkerSettings, planned};
use rockrose_engine::{Environment, Names};
use rockrose_intake::{BodyBudget, Certificates, FileSettings, Heard, Protocol, Socket, SourceKey, SourceSettings, check_certificates};
use rockrose_plan::{CheckedPlan, Destination, Report, SecretName, Source, SourceKind, SyslogSource};
use rockrose_records::{RecordsError, Secret};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::sink::PlanSink;
use crate::{App, now_ms, tables, windows};

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
    Listen { source_name: String, address: SocketAddr, why: String },
    #[error("the table `{table}` cannot be read: {why}")]
    Table { table: String, why: String },
    #[error(transparent)]
    Records(#[from] RecordsError),
}

/// Where a source listens, and whether for datagrams.
type Port = (SocketAddr, bool);

/// What listens, by port. A source that changes but stays at its port keeps its listener, or hands its socket on.
#[derive(Default)]
pub(crate) struct Sources {
    open: tokio::sync::Mutex<BTreeMap<Port, OpenSource>>,
    /// What reads files, by the source's name.
    files: tokio::sync::Mutex<BTreeMap<String, OpenFiles>>,
    budget: Arc<BodyBudget>,
    /// What each source hears, by name.
    heard: Mutex<BTreeMap<String, Arc<Heard>>>,
}

/// A source that reads files.
struct OpenFiles {
    settings: FileSettings,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

impl OpenFiles {
    async fn end(self, patience: Duration) {
        self.stop.cancel();
        let abort = self.task.abort_handle();
        if tokio::time::timeout(patience, self.task).await.is_err() {
            abort.abort();
        }
    }
}

struct OpenSource {
    settings: Arc<ArcSwap<SourceSettings>>,
    socket: Socket,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

impl OpenSource {
    async fn end(self, patience: Duration) {
        self.stop.cancel();
        // The port is not held by what is under way.
        drop(self.socket);
        let abort = self.task.abort_handle();
        if tokio::time::timeout(patience, self.task).await.is_err() {
            abort.abort();
        }
    }
}

impl Sources {
    pub(crate) async fn stop(&self, patience: Duration) {
        let all = std::mem::take(&mut *self.open.lock().await);
        let files = std::mem::take(&mut *self.files.lock().await);
        let mut ending = tokio::task::JoinSet::new();
        for source in files.into_values() {
            ending.spawn(source.end(patience));
        }
        for source in all.into_values() {
            ending.spawn(source.end(patience));
        }
        while ending.join_next().await.is_some() {}
    }

    /// What the source called `name` hears.
    pub(crate) fn heard(&self, name: &str) -> Arc<Heard> {
        Arc::clone(self.heard.lock().unwrap_or_else(PoisonError::into_inner).entry(name.to_owned()).or_default())
    }

    /// What listens for the source called `name`.
    pub(crate) async fn settings_of(&self, name: &str) -> Vec<SourceSettings> {
        self.open.lock().await.values().map(|open| open.settings.load_full()).filter(|s| s.name == name).map(|s| (*s).clone()).collect()
    }

    fn forget_all_but(&self, names: &[String]) {
        self.heard.lock().unwrap_or_else(PoisonError::into_inner).retain(|name, _| names.contains(name));
    }
}

/// Checks, records and runs a plan; returns its revision's number.
pub(crate) async fn apply(app: &Arc<App>, text: &str, who: &str, why: &str, expected: Option<i64>) -> Result<i64, Refusal> {
    let _alone = app.engine.applying.lock().await;
    let checked = CheckedPlan::read(text).map_err(Refusal::Mistakes)?;
    let ready = prepare(app, &checked).await?;
    let (who, why, kept) = (who.to_owned(), why.to_owned(), text.to_owned());
    let number = app.records(move |r| r.add_revision(now_ms(), &who, &why, &kept, expected)).await?;
    run(app, number, checked, ready).await;
    Ok(number)
}

/// Runs a revision that is recorded already.
pub(crate) async fn take_up(app: &Arc<App>, number: i64, text: &str) -> Result<(), Refusal> {
    let _alone = app.engine.applying.lock().await;
    let checked = CheckedPlan::read(text).map_err(Refusal::Mistakes)?;
    let ready = prepare(app, &checked).await?;
    run(app, number, checked, ready).await;
    Ok(())
}

/// The secrets of `plan` that are not kept.
pub(crate) async fn missing_secrets(app: &App, plan: &CheckedPlan) -> Result<Vec<String>, RecordsError> {
    let kept = app.records(|r| r.secrets()).await?;
    Ok(plan.secrets().into_iter().filter(|s| kept.iter().all(|k| k.name != s.0)).map(|s| s.0.clone()).collect())
}

/// All that can fail, done before anything changes.
struct Ready {
    sources: Vec<SourceSettings>,
    /// Sockets for those that no open listener serves.
    sockets: Vec<(Port, Socket)>,
    workers: Vec<WorkerSettings>,
    tables: Vec<tables::Open>,
}

async fn prepare(app: &App, plan: &CheckedPlan) -> Result<Ready, Refusal> {
    let missing = missing_secrets(app, plan).await?;
    if !missing.is_empty() {
        return Err(Refusal::Secrets(missing));
    }
    let secrets = secrets(app, plan).await?;
    let tables = tables::open(plan).await.map_err(|(table, why)| Refusal::Table { table, why })?;
    let open = app.sources.open.lock().await;
    let mut ready = Ready { tables, sources: Vec::new(), sockets: Vec::new(), workers: Vec::new() };
    for source in &plan.sources {
        let Some(address) = source.listen else { continue };
        for settings in source_settings(source, address, &secrets) {
            let refused = |why: String| Refusal::Listen { source_name: source.name.clone(), address, why };
            check_certificates(&settings).map_err(refused)?;
            let port = port_of(&settings);
            match open.get(&port) {
                Some(known) if known.settings.load().listens_like(&settings) => {}
                Some(known) => ready.sockets.push((port, known.socket.again().map_err(|e| refused(e.to_string()))?)),
                None => ready.sockets.push((port, bind(&settings).await.map_err(|e| refused(e.to_string()))?)),
            }
            ready.sources.push(settings);
        }
    }
    let node = app.records.node();
    ready.workers = plan.destinations.iter().map(|d| worker_settings(d, &secrets, &node)).collect();
    ready.workers.extend(leaving(app, plan).await?);
    Ok(ready)
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
                found.push(worker_settings(destination, &secrets(app, &before).await?, &app.records.node()));
            }
        }
        sought.retain(|name| before.destinations.iter().all(|d| d.name != *name));
        if sought.is_empty() {
            break;
        }
    }
    Ok(found)
}

fn worker_settings(destination: &Destination, secrets: &BTreeMap<String, Secret>, node: &str) -> WorkerSettings {
    let value = |SecretName(name): &SecretName| secrets.get(name).map(|s| s.reveal().to_owned());
    WorkerSettings {
        in_flight: destination.in_flight as usize,
        rate: destination.max_rate,
        hold_for: destination.hold_for,
        ..WorkerSettings::new(&destination.name, planned(&destination.kind, &Resolver { secrets: &value, node }))
    }
}

/// Binds a source's address. One that another plan has just let go of may take a moment to be free.
async fn bind(settings: &SourceSettings) -> std::io::Result<Socket> {
    let mut tries = 0;
    loop {
        match Socket::open(settings) {
            Err(e) if e.kind() == std::io::ErrorKind::AddrInUse && tries < 20 => {
                tries += 1;
                tokio::time::sleep(Duration::from_millis(25)).await;
            }
            other => return other,
        }
    }
}

fn port_of(settings: &SourceSettings) -> Port {
    (settings.listen, matches!(settings.protocol, Protocol::Syslog { datagrams: true, .. }))
}

/// What is to listen for a source: one, or two where it takes streams and datagrams.
fn source_settings(source: &Source, listen: SocketAddr, secrets: &BTreeMap<String, Secret>) -> Vec<SourceSettings> {
    let protocol = match &source.kind {
        SourceKind::Http(_) => vec![Protocol::Http],
        SourceKind::Otlp(_) => vec![Protocol::Otlp],
        SourceKind::Tcp(_) => vec![Protocol::Lines],
        SourceKind::Syslog(SyslogSource { tcp, udp, zone }) => [(*tcp, false), (*udp, true)]
            .into_iter()
            .filter(|(asked, _)| *asked)
            .map(|(_, datagrams)| Protocol::Syslog { datagrams, zone: zone.clone() })
            .collect(),
        SourceKind::File(_) => Vec::new(),
    };
    let certificates = source.certificates.as_ref().map(|c| Certificates {
        certificate: c.certificate.clone().into(),
        key: c.key.clone().into(),
        client_ca: c.client_ca.clone().map(Into::into),
    });
    let one = |protocol| SourceSettings {
        name: source.name.clone(),
        protocol,
        listen,
        may_set: source.may_set.clone(),
        key: source.key.as_ref().and_then(|k| secrets.get(&k.0)).map(|s| SourceKey::new(s.reveal().to_owned())),
        allow: source.allow.clone(),
        certificates: certificates.clone(),
        max_body: source.max_body as usize,
        max_unpacked: source.max_unpacked as usize,
        max_event: source.max_event as usize,
        max_requests: source.max_requests as usize,
    };
    protocol.into_iter().map(one).collect()
}

async fn run(app: &Arc<App>, number: i64, checked: CheckedPlan, ready: Ready) {
    let names = Some(Arc::clone(&app.names) as Arc<dyn Names>);
    let environment = Environment { tables: tables::slots(&ready.tables), names, node: app.records.node() };
    let compiled = app.engine.compile(&checked, &environment);
    {
        let _alone = app.engine.windows.write().await;
        let before = app.engine.running();
        if let Err(e) = windows::release_all(app, &before.compiled).await {
            tracing::warn!(error = %e, "what windows held could not be sent on by the plan before");
        }
        windows::take_over(app, &compiled).await;
        app.engine.run(number, checked, compiled, environment);
    }
    app.tables.set(ready.tables);
    let mut open = app.sources.open.lock().await;
    let taken_over = |port: &Port| ready.sockets.iter().any(|(p, _)| p == port);
    let gone: Vec<Port> = open.keys().filter(|port| taken_over(port) || ready.sources.iter().all(|s| port_of(s) != **port)).copied().collect();
    for port in gone {
        if let Some(source) = open.remove(&port) {
            // Its requests end in their own time.
            source.stop.cancel();
        }
    }
    for settings in &ready.sources {
        if let Some(known) = open.get(&port_of(settings)) {
            known.settings.store(Arc::new(settings.clone()));
        }
    }
    app.sources.forget_all_but(&app.engine.running().checked.sources.iter().map(|s| s.name.clone()).collect::<Vec<_>>());
    for (port, socket) in ready.sockets {
        let Some(settings) = ready.sources.iter().find(|s| port_of(s) == port) else { continue };
        let heard = app.sources.heard(&settings.name);
        let settings = Arc::new(ArcSwap::from_pointee(settings.clone()));
        let stop = CancellationToken::new();
        let sink = Arc::new(PlanSink::new(Arc::clone(app)));
        let Ok(own) = socket.again() else {
            tracing::error!(address = %port.0, "a source cannot listen: there are too many open files");
            continue;
        };
        let serving = rockrose_intake::serve(Arc::clone(&settings), own, sink, Arc::clone(&app.sources.budget), heard, stop.clone().cancelled_owned());
        let task = tokio::spawn(async move {
            if let Err(e) = serving.await {
                tracing::error!(address = %port.0, error = %e, "a source stopped listening");
            }
        });
        open.insert(port, OpenSource { settings, socket, stop, task });
    }
    drop(open);
    follow_files(app).await;
    app.engine.set_workers(ready.workers, &app.spool, CHANGE_PATIENCE).await;
    tracing::info!(revision = number, "the plan runs");
}

/// Makes those who read files be those of the running plan. One whose settings changed ends before the next begins, so that nothing is read twice.
async fn follow_files(app: &Arc<App>) {
    let running = app.engine.running();
    let wanted: Vec<FileSettings> = running.checked.sources.iter().filter_map(file_settings).collect();
    let mut open = app.sources.files.lock().await;
    let gone: Vec<String> = open.iter().filter(|(_, o)| !wanted.contains(&o.settings)).map(|(name, _)| name.clone()).collect();
    for name in gone {
        if let Some(source) = open.remove(&name) {
            source.end(CHANGE_PATIENCE).await;
        }
    }
    for settings in wanted {
        if open.contains_key(&settings.name) {
            continue;
        }
        let stop = CancellationToken::new();
        let sink = Arc::new(PlanSink::new(Arc::clone(app)));
        let task = tokio::spawn(rockrose_intake::follow(settings.clone(), sink, app.sources.heard(&settings.name), stop.clone()));
        open.insert(settings.name.clone(), OpenFiles { settings, stop, task });
    }
}

fn file_settings(source: &Source) -> Option<FileSettings> {
    let SourceKind::File(files) = &source.kind else { return None };
    Some(FileSettings {
        name: source.name.clone(),
        paths: files.paths.clone(),
        but_not: files.but_not.clone(),
        from_start: files.from_start,
        path_as: files.path_as.clone(),
        max_event: source.max_event as usize,
    })
}

/// What differs between two plans, part by part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Change {
    pub(crate) part: &'static str,
    pub(crate) name: String,
    pub(crate) change: &'static str,
}

/// The parts that were added, removed or changed from `old` to `new`.
pub(crate) fn changes(old: &CheckedPlan, new: &CheckedPlan) -> Vec<Change> {
    fn compare<T: PartialEq>(part: &'static str, old: &[T], new: &[T], name: fn(&T) -> &str, out: &mut Vec<Change>) {
        let find = |list: &[T], n: &str| list.iter().position(|x| name(x) == n);
        for item in new {
            let change = match find(old, name(item)) {
                None => "added",
                Some(at) if old[at] != *item => "changed",
                Some(_) => continue,
            };
            out.push(Change { part, name: name(item).to_owned(), change });
        }
        for item in old.iter().filter(|x| find(new, name(x)).is_none()) {
            out.push(Change { part, name: name(item).to_owned(), change: "removed" });
        }
    }
    let mut out = Vec::new();
    compare("source", &old.sources, &new.sources, |s| &s.name, &mut out);
    compare("table", &old.tables, &new.tables, |t| &t.name, &mut out);
    compare("destination", &old.destinations, &new.destinations, |d| &d.name, &mut out);
    // A route's steps are compared as they run, so a changed recipe shows in the routes that use it.
    let expanded =
        |plan: &CheckedPlan| -> Vec<_> { plan.routes.iter().map(|r| rockrose_plan::Route { steps: plan.expanded(&r.steps), ..r.clone() }).collect() };
    compare("route", &expanded(old), &expanded(new), |r: &rockrose_plan::Route| &r.name, &mut out);
    out
}
