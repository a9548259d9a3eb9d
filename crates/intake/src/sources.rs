//! All that takes events in for a plan, and how it becomes what takes them in for the next plan.
//!
//! First all that can fail is done ([`Sources::prepare`]: addresses are bound, certificates are read), then nothing fails ([`Sources::exchange`]). A source that changes but stays where it
//! listens keeps its listener, or hands its socket on, so that no sender meets a closed port.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use arc_swap::ArcSwap;
use tokio::task::{JoinHandle, JoinSet};
use tokio_util::sync::CancellationToken;

use crate::kinds::{self, Start, Transport};
use crate::listener::{self, BoundedListener};
use crate::probe::ProbeStep;
use crate::requests::BodyBudget;
use crate::socket::Socket;
use crate::{CertificateError, Sink, SourceMonitor, SourceSettings, tls};

/// Most connections that one source holds open.
const MAX_CONNECTIONS: usize = 2_048;
/// Most that one for agents does: each agent has two, for as long as it runs.
const MAX_OF_AGENTS: usize = 32_768;

/// Where a source takes events in: what no two running sources share.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Inlet {
    Streams(SocketAddr),
    Datagrams(SocketAddr),
    /// What it opens itself, by its name.
    Own(String),
}

impl Inlet {
    fn all_of(settings: &SourceSettings) -> Vec<Inlet> {
        let Some(address) = settings.listen else { return vec![Inlet::Own(settings.name.clone())] };
        let (streams, datagrams) = settings.kind.takes();
        let inlets = [streams.then_some(Inlet::Streams(address)), datagrams.then_some(Inlet::Datagrams(address))];
        inlets.into_iter().flatten().collect()
    }

    /// Opens it, if there is something to open. An address that another plan has just let go of may take a moment to be free.
    async fn open(&self) -> std::io::Result<Option<Socket>> {
        let mut tries = 0;
        loop {
            let opened = match self {
                Inlet::Streams(address) => Socket::streams(*address),
                Inlet::Datagrams(address) => Socket::datagrams(*address),
                Inlet::Own(_) => return Ok(None),
            };
            match opened {
                Err(e) if e.kind() == std::io::ErrorKind::AddrInUse && tries < 20 => {
                    tries += 1;
                    tokio::time::sleep(Duration::from_millis(25)).await;
                }
                other => return other.map(Some),
            }
        }
    }
}

/// Why a source cannot be started.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    /// Its address cannot be listened on.
    #[error(transparent)]
    Socket(#[from] std::io::Error),
    /// Its certificates cannot be used.
    #[error(transparent)]
    Certificates(#[from] CertificateError),
}

/// A source that takes events in; it goes on when this is dropped.
pub(crate) struct Running {
    pub(crate) settings: Arc<ArcSwap<SourceSettings>>,
    pub(crate) socket: Option<Socket>,
    pub(crate) stop: CancellationToken,
    pub(crate) task: JoinHandle<()>,
}

impl Running {
    /// Ends it, and waits so long for what is under way.
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

/// Starts a source at an open socket, if it has one.
pub(crate) fn start<S: Sink>(
    settings: SourceSettings,
    socket: Option<Socket>,
    sink: Arc<S>,
    budget: Arc<BodyBudget>,
    monitor: Arc<SourceMonitor>,
) -> Result<Running, StartError> {
    let kept = socket.as_ref().map(Socket::again).transpose()?;
    let acceptor = tls::of_source(&settings).transpose()?;
    let settings = Arc::new(ArcSwap::from_pointee(settings));
    let transport = match socket {
        None => Transport::Own,
        Some(Socket::Datagrams(socket)) => Transport::Datagrams(tokio::net::UdpSocket::from_std(socket)?),
        Some(Socket::Streams(listener)) => {
            let most = if settings.load().door.is_some() { MAX_OF_AGENTS } else { MAX_CONNECTIONS };
            let guard = listener::Guard { settings: Arc::clone(&settings), monitor: Arc::clone(&monitor) };
            Transport::Streams(BoundedListener::new(tokio::net::TcpListener::from_std(listener)?, most, acceptor, Some(guard)))
        }
    };
    let stop = CancellationToken::new();
    let task = tokio::spawn(kinds::run(Start { settings: Arc::clone(&settings), transport, sink, budget, monitor, stop: stop.clone() }));
    Ok(Running { settings, socket: kept, stop, task })
}

/// What is ready to be exchanged for what runs. See [`Sources::prepare`].
#[derive(Debug)]
pub struct Prepared {
    wanted: Vec<(Inlet, SourceSettings)>,
    /// What is opened for those that are to be started.
    opened: Vec<(Inlet, Option<Socket>)>,
}

/// The sources of the active plan.
#[derive(Default)]
pub struct Sources {
    running: tokio::sync::Mutex<BTreeMap<Inlet, Running>>,
    budget: Arc<BodyBudget>,
    /// What each source hears, by name.
    monitors: Mutex<BTreeMap<String, Arc<SourceMonitor>>>,
}

impl Sources {
    /// Opens what the sources of another plan need beyond what runs.
    ///
    /// # Errors
    /// The source that cannot be started, and why. Nothing has changed then.
    pub async fn prepare(&self, sources: Vec<SourceSettings>) -> Result<Prepared, (SourceSettings, StartError)> {
        let running = self.running.lock().await;
        let mut prepared = Prepared { wanted: Vec::new(), opened: Vec::new() };
        for settings in sources {
            if let Some(Err(e)) = tls::of_source(&settings) {
                return Err((settings, e.into()));
            }
            for inlet in Inlet::all_of(&settings) {
                let opened = match running.get(&inlet) {
                    Some(known) if settings.goes_on_from(&known.settings.load()) => None,
                    Some(Running { socket: Some(socket), .. }) => Some(socket.again().map(Some)),
                    _ => Some(inlet.open().await),
                };
                match opened {
                    None => {}
                    Some(Ok(socket)) => prepared.opened.push((inlet.clone(), socket)),
                    Some(Err(e)) => return Err((settings, e.into())),
                }
                prepared.wanted.push((inlet, settings.clone()));
            }
        }
        Ok(prepared)
    }

    /// Makes the sources that run be those that were prepared. What is under way at those that are left ends in its own time; one that opens what it reads itself has ended, or has
    /// had `patience` for it, before another reads the same.
    pub async fn exchange<S: Sink>(&self, prepared: Prepared, sink: &Arc<S>, patience: Duration) {
        let mut running = self.running.lock().await;
        let Prepared { wanted, opened } = prepared;
        let is_left = |inlet: &Inlet| opened.iter().any(|(p, _)| p == inlet) || wanted.iter().all(|(p, _)| p != inlet);
        let left: Vec<Inlet> = running.keys().filter(|inlet| is_left(inlet)).cloned().collect();
        let mut ending = JoinSet::new();
        for inlet in left {
            match (running.remove(&inlet), inlet) {
                (Some(source), Inlet::Own(_)) => {
                    ending.spawn(source.end(patience));
                }
                (Some(source), _) => source.stop.cancel(),
                (None, _) => {}
            }
        }
        for (inlet, settings) in &wanted {
            if let Some(known) = running.get(inlet) {
                known.settings.store(Arc::new(settings.clone()));
            }
        }
        self.monitors.lock().unwrap_or_else(PoisonError::into_inner).retain(|name, _| wanted.iter().any(|(_, s)| s.name == *name));
        // Those that listen come first, so that nobody waits for those that end.
        let mut opened = opened;
        opened.sort_by(|(a, _), (b, _)| a.cmp(b));
        for (inlet, socket) in opened {
            if let Inlet::Own(_) = inlet {
                while ending.join_next().await.is_some() {}
            }
            let Some((_, settings)) = wanted.iter().find(|(p, _)| *p == inlet) else { continue };
            match start(settings.clone(), socket, Arc::clone(sink), Arc::clone(&self.budget), self.monitor(&settings.name)) {
                Ok(source) => {
                    running.insert(inlet, source);
                }
                Err(e) => tracing::error!(source = settings.name, error = %e, "a source cannot be started"),
            }
        }
        while ending.join_next().await.is_some() {}
    }

    /// Ends all of them; what is under way has `patience` to end.
    pub async fn stop(&self, patience: Duration) {
        let mut ending = JoinSet::new();
        for source in std::mem::take(&mut *self.running.lock().await).into_values() {
            ending.spawn(source.end(patience));
        }
        while ending.join_next().await.is_some() {}
    }

    /// What the source called `name` hears.
    pub fn monitor(&self, name: &str) -> Arc<SourceMonitor> {
        Arc::clone(self.monitors.lock().unwrap_or_else(PoisonError::into_inner).entry(name.to_owned()).or_default())
    }

    /// Looks at a source that runs as its senders would, without sending an event, up to the first step that fails.
    pub async fn probe(&self, name: &str) -> Vec<ProbeStep> {
        let settings = self.running.lock().await.values().map(|source| source.settings.load_full()).find(|settings| settings.name == name);
        match settings {
            Some(settings) => kinds::probe(&settings, &self.monitor(name)).await,
            None => Vec::new(),
        }
    }
}
