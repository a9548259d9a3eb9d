//! The service: wires sources, plan, spool and destinations together, and serves the HTTP API and the console.
//!
//! - [`Service::start`] opens what is kept, binds what listens and delivers what waits.
//! - `engine` holds the running plan and exchanges it without losing an event.
//! - `sink` is what sources hand bodies to: process, make durable, then acknowledge.
//! - `tail` shows events passing a point; `meter` turns the ledger into rates.
//! - `api` is the one HTTP face, for the client, the console and programs.

mod agents;
mod alerts;
mod api;
mod apply;
mod budgets;
mod caller;
mod console;
mod engine;
mod history;
mod journal;
mod kept_samples;
mod meter;
mod names;
mod plan_metrics;
mod queues;
mod resend;
mod samples;
mod sign_in;
mod sink;
mod site;
mod tables;
mod tail;
mod trial;
mod windows;

use std::net::SocketAddr;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use rockrose_intake::BoundedListener;
use rockrose_ledger::{Equation, Measure, Stage};
use rockrose_records::{NewToken, Records, Side, TokenKind};
use rockrose_spool::Spool;
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;

pub use agents::{AGENT_SERVICE, LOOK, LookAsked, LookFound, PACKAGE, RENEW, hash_of as hash_of_file, hex};
pub use api::openapi;

/// Most connections the API holds open.
const API_CONNECTIONS: usize = 512;
/// So many failures to sign in, one after another, cost an address nothing.
const FREE_FAILURES: u32 = 5;
/// Most passwords that are looked at at once: each takes 19 MiB for the while.
const HASHING: usize = 2;
/// How long requests and deliveries under way may take when the service stops.
const PATIENCE: Duration = Duration::from_secs(10);

/// What a service is started with.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The folder for everything that is kept.
    pub data: PathBuf,
    /// Where the API and the console listen; nowhere, for an agent.
    pub listen: Option<SocketAddr>,
    /// The metrics need no token.
    pub open_metrics: bool,
    /// For how many days entries of the journal are kept; for ever, if nothing is said.
    pub journal_days: Option<u32>,
    /// Where browsers reach the console, if not where it listens: `https://logs.ferries.example`.
    pub public_url: Option<String>,
    /// The certificate that the API and the console show, and its key: files in PEM.
    pub certificate: Option<(PathBuf, PathBuf)>,
    /// The file that says through which OpenID Connect provider people sign in.
    pub openid: Option<PathBuf>,
    /// Memory for samples of events, in bytes; 32 MB, if nothing is said.
    pub sample_memory: Option<usize>,
    /// What others reach is behind a proxy that makes connections safe.
    pub behind_proxy: bool,
    /// The folders that a plan may reach; none: all but the system's own, dot-files and what is kept here.
    pub files_under: Vec<PathBuf>,
    /// The folder with what an agent shows of itself: only destinations may name what is in it.
    pub identity: Option<PathBuf>,
    /// The program that agents are given; this one, if nothing is said.
    pub agent_program: Option<PathBuf>,
}

impl Settings {
    /// With nothing said beyond where it keeps its data and listens.
    #[must_use]
    pub fn new(data: PathBuf, listen: SocketAddr) -> Settings {
        Settings {
            data,
            listen: Some(listen),
            open_metrics: false,
            journal_days: None,
            public_url: None,
            certificate: None,
            openid: None,
            sample_memory: None,
            behind_proxy: false,
            files_under: Vec::new(),
            identity: None,
            agent_program: None,
        }
    }
}

/// The account of a service in a few numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AccountSums {
    /// Events that its sources received.
    pub received: i64,
    /// Events that its destinations accepted.
    pub delivered: i64,
    /// Whether all its equations hold.
    pub balanced: bool,
}

/// How a source or a destination is doing.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct PartCondition {
    /// `source:NAME` or `destination:NAME`.
    pub part: String,
    /// Whether it is as it should be.
    pub fine: bool,
    /// How it is doing, in a sentence.
    pub says: String,
    /// What helps; where there is one, a line to paste on this host.
    pub remedy: String,
}

/// What the parts of a service share.
pub(crate) struct App {
    pub(crate) records: Arc<Records>,
    /// The files that plans may reach.
    pub(crate) scope: rockrose_plan::FileScope,
    /// The program that agents are given.
    pub(crate) agent_program: PathBuf,
    pub(crate) spool: Spool,
    pub(crate) engine: engine::Engine,
    pub(crate) tail: tail::Hub,
    pub(crate) samples: samples::Samples,
    /// Where samples are kept over a restart.
    pub(crate) samples_file: PathBuf,
    /// What is known of the events at points that are written about.
    pub(crate) known: api::complete::KnownPoints,
    /// The last hour beside the same hour before.
    pub(crate) before: api::flow::Before,
    pub(crate) meter: meter::Meter,
    /// How the plan's alerts stand.
    pub(crate) alerts: alerts::Alerts,
    /// How much of each budget is used.
    pub(crate) budgets: budgets::Budgets,
    /// The agents of hosts.
    pub(crate) agents: agents::Agents,
    pub(crate) codes: sign_in::Codes,
    pub(crate) openid: Option<api::openid::OpenId>,
    /// Who failed to sign in.
    pub(crate) attempts: rockrose_intake::Attempts,
    /// Places for passwords that are looked at.
    pub(crate) hashing: tokio::sync::Semaphore,
    /// A place for whoever looks into files.
    pub(crate) looking: Arc<tokio::sync::Semaphore>,
    /// A place for a plan that is checked.
    pub(crate) checking: Arc<tokio::sync::Semaphore>,
    /// Tells open streams that what somebody may see has changed.
    pub(crate) access: tokio::sync::watch::Sender<()>,
    pub(crate) looks: journal::Looks,
    pub(crate) journal_days: Option<u32>,
    pub(crate) started_ms: i64,
    pub(crate) address: SocketAddr,
    /// By which names, and over which scheme, it is reached.
    pub(crate) site: site::Site,
    pub(crate) open_metrics: bool,
    pub(crate) stopping: CancellationToken,
    pub(crate) sources: rockrose_intake::Sources,
    pub(crate) tables: tables::Tables,
    pub(crate) names: Arc<names::NameBook>,
    pub(crate) metrics: plan_metrics::PlanMetrics,
    pub(crate) history: history::History,
    /// Places for bodies that are worked on.
    pub(crate) working: tokio::sync::Semaphore,
}

impl App {
    /// Notes in the journal what the service did by itself.
    pub(crate) async fn note(&self, what: &str, subject: &str, result: &str) {
        self.note_by("service", what, subject, result).await;
    }

    /// As [`App::note`], of what somebody did.
    pub(crate) async fn note_by(&self, who: &str, what: &str, subject: &str, result: &str) {
        let action = rockrose_records::Action {
            who: who.to_owned(),
            what: what.to_owned(),
            subject: subject.to_owned(),
            result: result.to_owned(),
            ..rockrose_records::Action::default()
        };
        journal::note(self, None, action).await;
    }

    /// Asks the records aside from the runtime's threads.
    pub(crate) async fn records<T: Send + 'static>(
        &self,
        ask: impl FnOnce(&Records) -> Result<T, rockrose_records::RecordsError> + Send + 'static,
    ) -> Result<T, rockrose_records::RecordsError> {
        let records = Arc::clone(&self.records);
        let asked = tokio::task::spawn_blocking(move || ask(&records)).await;
        asked.map_err(|e| rockrose_records::RecordsError::Storage(e.into()))?
    }
}

/// A running service.
pub struct Service {
    app: Arc<App>,
    api: tokio::task::JoinHandle<()>,
    /// What goes on beside the requests; it ends with the service.
    caretakers: tokio::task::JoinSet<()>,
}

/// Milliseconds since 1970.
pub(crate) fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// Makes the data folder, if it is not there. What is kept holds events, so nobody but its owner may look into it, whatever the process's usual modes are: a folder that is open to others is
/// refused, and the files of the spool and the records are made before anything is written to them.
fn closed_folder(data: &Path) -> anyhow::Result<()> {
    let made = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(data);
    let mode =
        made.and_then(|()| std::fs::metadata(data)).with_context(|| format!("cannot create the data folder {}", data.display()))?.permissions().mode() & 0o777;
    anyhow::ensure!(mode & 0o077 == 0, "the data folder {0} is open to other users (mode {mode:o}); run: chmod 700 {0}", data.display());
    for name in ["spool.db", "records.db", "in-use"] {
        let path = data.join(name);
        let closed = std::fs::OpenOptions::new().create(true).append(true).mode(0o600).open(&path);
        let closed = closed.and_then(|file| file.set_permissions(std::fs::Permissions::from_mode(0o600)));
        closed.with_context(|| format!("cannot write {}", path.display()))?;
    }
    Ok(())
}

/// Which files plans may reach. What is kept in the data folder has a folder for them.
fn file_scope(settings: &Settings) -> anyhow::Result<rockrose_plan::FileScope> {
    let real = |path: &Path| std::fs::canonicalize(path).with_context(|| format!("cannot find the folder {}", path.display()));
    let files = settings.data.join(rockrose_plan::FILES);
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&files).with_context(|| format!("cannot create {}", files.display()))?;
    let under = settings.files_under.iter().map(|path| real(path)).collect::<anyhow::Result<_>>()?;
    let identity = settings.identity.as_deref().map(real).transpose()?;
    Ok(rockrose_plan::FileScope { under, data: Some(real(&settings.data)?), identity })
}

/// The provider that a file tells of. It is not asked yet: the service starts without it.
fn openid(file: &Path) -> anyhow::Result<api::openid::OpenId> {
    let provider = rockrose_openid::Settings::read(file).and_then(rockrose_openid::Provider::new).map_err(anyhow::Error::msg)?;
    Ok(api::openid::OpenId { provider, journeys: rockrose_openid::Journeys::new()? })
}

impl Service {
    /// Opens what is kept in the data folder, takes up the newest revision, and listens. Fails, with the reason, if something cannot be opened or bound.
    pub async fn start(settings: &Settings) -> anyhow::Result<Service> {
        let openid = settings.openid.as_deref().map(openid).transpose()?;
        Service::begin(settings, openid, |app| Some(api::router(app))).await
    }

    /// As [`Service::start`], for an agent: with neither API nor console, whatever the settings say. A program that starts only such a service is linked without them.
    pub async fn start_agent(settings: &Settings) -> anyhow::Result<Service> {
        Service::begin(&Settings { listen: None, ..settings.clone() }, None, |_| None).await
    }

    async fn begin(settings: &Settings, openid: Option<api::openid::OpenId>, router: impl FnOnce(Arc<App>) -> Option<axum::Router>) -> anyhow::Result<Service> {
        closed_folder(&settings.data)?;
        let lock = DataLock::take(&settings.data)?;
        let records = Arc::new(Records::open(&settings.data)?);
        let spool = Spool::open(&settings.data.join("spool.db"))?;
        let acceptor = settings.certificate.as_ref().map(|(certificate, key)| rockrose_intake::acceptor(certificate, key)).transpose()?;
        let listener = match settings.listen {
            None => None,
            Some(listen) => Some(BoundedListener::bind(listen, API_CONNECTIONS, acceptor).await.with_context(|| format!("cannot listen on {listen}"))?),
        };
        let address = match &listener {
            Some(listener) => listener.address()?,
            None => SocketAddr::from(([127, 0, 0, 1], 0)),
        };
        let site = site::Site::new(settings, address)?;
        let scope = file_scope(settings)?;
        let (names, asked) = names::NameBook::new();
        let metrics = plan_metrics::PlanMetrics::of(spool.metrics().await?);
        let enrolled = records.agents()?;
        let app = Arc::new(App {
            engine: engine::Engine::new(records.hash_key(), records.paused(Side::Destination)?, records.paused(Side::Source)?),
            records,
            scope,
            agent_program: agents::program_path(settings.agent_program.as_ref()),
            spool,
            tail: tail::Hub::default(),
            known: api::complete::KnownPoints::default(),
            before: api::flow::Before::default(),
            samples: samples::Samples::new(settings.sample_memory.unwrap_or(samples::BUDGET)),
            samples_file: kept_samples::file(&settings.data),
            meter: meter::Meter::default(),
            alerts: alerts::Alerts::default(),
            budgets: budgets::Budgets::default(),
            agents: agents::Agents::new(enrolled),
            codes: sign_in::Codes::default(),
            openid,
            attempts: rockrose_intake::Attempts::new(FREE_FAILURES),
            hashing: tokio::sync::Semaphore::new(HASHING),
            looking: Arc::new(tokio::sync::Semaphore::new(1)),
            checking: Arc::new(tokio::sync::Semaphore::new(1)),
            access: tokio::sync::watch::Sender::new(()),
            looks: journal::Looks::default(),
            journal_days: settings.journal_days,
            started_ms: now_ms(),
            address,
            site,
            open_metrics: settings.open_metrics,
            stopping: CancellationToken::new(),
            sources: rockrose_intake::Sources::default(),
            tables: tables::Tables::default(),
            names,
            metrics,
            history: history::History::default(),
            working: tokio::sync::Semaphore::new(2 * std::thread::available_parallelism().map_or(2, usize::from)),
        });
        kept_samples::take_back(&app.samples_file, &app.records, &app.samples, now_ms());
        if let Some(revision) = app.records(|r| r.newest_revision()).await? {
            app.agents.take_up_stage(&app, revision.number).await?;
            app.agents.take_up_rollout(&app).await?;
            apply::take_up(&app, revision.number, &revision.text).await.map_err(|e| anyhow::anyhow!("revision {} cannot be taken up: {e}", revision.number))?;
        }
        let mut caretakers = tokio::task::JoinSet::new();
        caretakers.spawn(meter::run(Arc::clone(&app)));
        caretakers.spawn(alerts::run(Arc::clone(&app)));
        caretakers.spawn(budgets::run(Arc::clone(&app)));
        caretakers.spawn(agents::run(Arc::clone(&app)));
        caretakers.spawn(tables::run(Arc::clone(&app)));
        caretakers.spawn(kept_samples::run(Arc::clone(&app)));
        caretakers.spawn(journal::run(Arc::clone(&app)));
        caretakers.spawn(windows::run(Arc::clone(&app)));
        caretakers.spawn(names::run(Arc::clone(&app.names), asked));
        let router = router(Arc::clone(&app));
        let stop = app.stopping.clone();
        let api = tokio::spawn(async move {
            let _held = lock;
            match listener.zip(router) {
                Some((listener, router)) => rockrose_intake::serve(listener, router, None, stop).await,
                None => stop.cancelled().await,
            }
        });
        app.note("start", &format!("version {}", env!("CARGO_PKG_VERSION")), "done").await;
        match settings.listen {
            Some(_) => tracing::info!(%address, data = %settings.data.display(), "ready"),
            None => tracing::info!(data = %settings.data.display(), "ready"),
        }
        Ok(Service { app, api, caretakers })
    }

    /// The URL of the API for clients on this machine.
    #[must_use]
    pub fn local_url(&self) -> String {
        self.app.site.local_url(self.app.address)
    }

    /// The address of the API and the console.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.app.address
    }

    /// Applies a plan. On failure the message says all that is wrong, each at its place in `file`.
    pub async fn apply(&self, text: &str, who: &str, why: &str, file: &str) -> anyhow::Result<Option<i64>> {
        if self.app.engine.running().checked.text == text {
            return Ok(None);
        }
        let applied = apply::apply(&self.app, text, apply::Author { name: who, grants: None }, why, None).await;
        self.app.note("apply plan", file, if applied.is_ok() { "done" } else { "failed" }).await;
        match applied {
            Ok(number) => Ok(Some(number)),
            Err(apply::Refusal::Mistakes(mistakes)) => Err(anyhow::anyhow!("{}", mistakes.iter().map(|m| m.render(file)).collect::<String>())),
            Err(e) => Err(anyhow::anyhow!("{e}")),
        }
    }

    /// Takes the running revision up anew, and with it the files that it names: tables, and the certificates of sources. On failure all stays as it was.
    pub async fn reload(&self) -> anyhow::Result<()> {
        let running = self.app.engine.running();
        if running.revision == 0 {
            return Ok(());
        }
        apply::take_up(&self.app, running.revision, &running.checked.text).await.map_err(|e| anyhow::anyhow!("{e}"))
    }

    /// How the sources and destinations of the plan that runs are doing.
    #[must_use]
    pub fn parts(&self) -> Vec<PartCondition> {
        api::part_conditions(&self.app)
    }

    /// Looks into the files of this host, as far as plans may reach them.
    pub fn look(&self, asked: LookAsked) -> tokio::task::JoinHandle<LookFound> {
        let scope = self.app.scope.clone();
        tokio::task::spawn_blocking(move || agents::look(&asked, &scope))
    }

    /// The revision that runs; 0, if none does.
    #[must_use]
    pub fn revision(&self) -> i64 {
        self.app.engine.running().revision
    }

    /// What its sources received and its destinations delivered since the beginning, and whether its ledger balances.
    ///
    /// # Errors
    /// If the ledger cannot be read.
    pub async fn account(&self) -> anyhow::Result<AccountSums> {
        let rows = self.app.spool.ledger(None, None).await?;
        let sum =
            |stage: Stage, measure: Measure| rows.iter().filter(|r| r.account.stage == stage && r.account.measure == measure).map(|r| r.amount.events).sum();
        let balanced = self.app.spool.balance().await?.iter().all(Equation::holds);
        Ok(AccountSums { received: sum(Stage::Source, Measure::Received), delivered: sum(Stage::Destination, Measure::Delivered), balanced })
    }

    /// What its sources received and its destinations delivered since the beginning, as of a second or two ago.
    #[must_use]
    pub fn sums(&self) -> (i64, i64) {
        let now = self.app.meter.read().now;
        let sum = |stage: Stage, measure: Measure| now.iter().filter(|(a, _)| a.stage == stage && a.measure == measure).map(|(_, amount)| amount.events).sum();
        (sum(Stage::Source, Measure::Received), sum(Stage::Destination, Measure::Delivered))
    }

    /// Events that wait for their destinations, and their bytes.
    #[must_use]
    pub fn waiting(&self) -> (i64, i64) {
        let waiting = self.app.spool.waiting();
        (waiting.values().map(|w| w.amount.events).sum(), waiting.values().map(|w| w.amount.bytes).sum())
    }

    /// Keeps a secret that may be shown to `shown_to`: a host, `source:NAME`, or `anywhere`.
    pub async fn set_secret(&self, name: &str, value: &str, shown_to: &str) -> anyhow::Result<()> {
        let (name, value, shown_to) = (name.to_owned(), rockrose_records::Secret::new(value.to_owned()), shown_to.to_owned());
        Ok(self.app.records(move |r| r.set_secret(&name, &value, Some(&shown_to), now_ms())).await?)
    }

    /// The value of a secret, if it is kept.
    pub async fn secret(&self, name: &str) -> anyhow::Result<Option<rockrose_records::Secret>> {
        let name = name.to_owned();
        Ok(self.app.records(move |r| r.secret(&name)).await?)
    }

    /// The token with which the client called `name` may do everything: `kept`, if that is still one; else a new one, and one that it had before stops working.
    pub async fn client_token(&self, name: &str, kept: Option<&str>) -> anyhow::Result<String> {
        let owner = rockrose_grants::Role::called("owner").map(|role| role.grants("").join("\n")).unwrap_or_default();
        if let Some(kept) = kept {
            let text = kept.to_owned();
            let found = self.app.records(move |r| r.bearer(&text, TokenKind::Client, "", now_ms())).await?;
            if found.is_some_and(|bearer| bearer.name == name) {
                return Ok(kept.to_owned());
            }
        }
        let name = name.to_owned();
        let made: NewToken = self.app.records(move |r| r.renew_token(&name, &owner, now_ms())).await?;
        Ok(made.reveal().to_owned())
    }

    /// The line that enrols one agent in a group at the source called `source`, within an hour.
    ///
    /// # Errors
    /// If the plan that runs has no such source.
    pub async fn enrol_line(&self, group: &str, source: &str) -> anyhow::Result<String> {
        let asked = rockrose_api::NewEnrolCode { group: group.to_owned(), uses: 1, minutes: 60, source: Some(source.to_owned()) };
        let made = api::make_enrol_code(&self.app, asked, "service").await;
        made.map(|made| made.line).map_err(|problem| anyhow::anyhow!("{}", problem.detail()))
    }

    /// A link that signs a browser in, once, within a quarter of an hour, as whoever holds `token`.
    pub async fn sign_in_link(&self, token: &str) -> anyhow::Result<String> {
        let text = token.to_owned();
        let bearer = self.app.records(move |r| r.bearer(&text, TokenKind::Client, "", now_ms())).await?;
        let bearer = bearer.ok_or_else(|| anyhow::anyhow!("the token is unknown"))?;
        let invited = sign_in::Invited { name: bearer.name, holder: rockrose_records::Holder::Token(bearer.id) };
        Ok(self.app.site.url(&format!("/sign-in?code={}", self.app.codes.make(invited, now_ms())?)))
    }

    /// Stops: takes no more events, lets what is under way end, leaves the rest in the spool.
    pub async fn stop(mut self) {
        tracing::info!("stopping");
        self.app.sources.stop(PATIENCE).await;
        self.caretakers.shutdown().await;
        self.app.agents.keep_all(&self.app).await;
        {
            let _alone = self.app.engine.windows.write().await;
            let running = self.app.engine.running();
            if let Err(e) = windows::release_all(&self.app, &running.compiled).await {
                tracing::warn!(error = %e, "what windows hold could not be sent on; it is kept");
            }
        }
        kept_samples::keep(&self.app).await;
        self.app.engine.stop_workers(PATIENCE).await;
        self.app.stopping.cancel();
        let abort = self.api.abort_handle();
        if tokio::time::timeout(PATIENCE, self.api).await.is_err() {
            abort.abort();
        }
        let spool = self.app.spool.clone();
        if tokio::task::spawn_blocking(move || spool.close()).await.is_err() {
            tracing::error!("the spool did not close");
        }
        tracing::info!("stopped");
    }
}

/// How long it is waited for another process to leave a data folder.
const LEAVE_TIME: Duration = Duration::from_secs(30);

/// Waits until no process uses a data folder any more, or for half a minute: one that was asked to end may take some seconds.
pub async fn left_alone(data: &std::path::Path) {
    let begun = std::time::Instant::now();
    while DataLock::take(data).is_err() && begun.elapsed() < LEAVE_TIME {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Keeps a second service from opening the same data folder. The system lets go of it when the process ends, however it ends.
struct DataLock {
    _file: std::fs::File,
}

impl DataLock {
    fn take(data: &std::path::Path) -> anyhow::Result<DataLock> {
        let path = data.join("in-use");
        let file =
            std::fs::OpenOptions::new().create(true).truncate(false).write(true).open(&path).with_context(|| format!("cannot write {}", path.display()))?;
        file.try_lock().map_err(|_| anyhow::anyhow!("another service uses the data folder {}", data.display()))?;
        Ok(DataLock { _file: file })
    }
}

#[cfg(test)]
mod tests;
