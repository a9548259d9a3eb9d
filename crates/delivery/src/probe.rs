//! A look at a destination, one step after the other, up to the first that fails: is there such a host, does it answer, is the connection safe, does it take an event.

use std::net::SocketAddr;
use std::path::Path;
use std::time::{Duration, Instant};

use rockrose_event::output::Origin;
use rockrose_plan::{Place, SyslogDestination, SyslogTransport, TlsFiles};
use serde::Serialize;
use tokio::net::TcpStream;

use crate::archive::{ArchiveOutlet, ArchiveSettings};
use crate::http::{HttpOutlet, HttpSettings};
use crate::otlp::GrpcOutlet;
use crate::syslog::SyslogOutlet;
use crate::{Failure, Kind, Outlet, Taken, WorkerSettings, now_ms, tls};

/// How long one step may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// One step of a look.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ProbeStep {
    /// What was tried: `resolve`, `connect`, `secure`, `accept` or `open`.
    pub step: &'static str,
    /// Whether it went well.
    pub good: bool,
    /// How long it took, in milliseconds.
    pub ms: f64,
    /// What was found, or what is wrong, in plain words.
    pub says: String,
}

struct Probe {
    steps: Vec<ProbeStep>,
}

impl Probe {
    /// Tries one step; what it finds goes on to the next.
    async fn step<T>(&mut self, step: &'static str, work: impl Future<Output = Result<(T, String), String>>) -> Option<T> {
        let begun = Instant::now();
        let done = tokio::time::timeout(PATIENCE, work).await.unwrap_or_else(|_| Err(format!("no answer within {} seconds", PATIENCE.as_secs())));
        let ms = begun.elapsed().as_secs_f64() * 1_000.0;
        let (found, good, says) = match done {
            Ok((found, says)) => (Some(found), true, says),
            Err(why) => (None, false, why),
        };
        self.steps.push(ProbeStep { step, good, ms, says });
        found
    }
}

/// Looks at a destination. A marked event is sent to those that take events over a network; of a file it is only seen whether it could be written.
pub async fn probe(settings: &WorkerSettings) -> Vec<ProbeStep> {
    let mut probe = Probe { steps: Vec::new() };
    match &settings.kind {
        Kind::Discard => {
            probe.step("accept", async { Ok(((), "it takes everything and keeps nothing".to_owned())) }).await;
        }
        Kind::File(file) => {
            let path = file.path.clone();
            let opened = tokio::task::spawn_blocking(move || crate::file::could_write(Path::new(&path)));
            probe.step("open", async { opened.await.unwrap_or_else(|_| Err("it could not be looked at".into())).map(|says| ((), says)) }).await;
        }
        Kind::Archive(archive) => archive_steps(&mut probe, archive).await,
        Kind::Syslog(syslog) => syslog_steps(&mut probe, syslog).await,
        Kind::Http(http) | Kind::Grpc(http) => {
            for endpoint in &http.endpoints {
                let before = probe.steps.len();
                let one = HttpSettings { endpoints: vec![endpoint.clone()], ..http.clone() };
                let outlet = match &settings.kind {
                    Kind::Grpc(_) => GrpcOutlet::new(one).map(|o| Outlet::Grpc(Box::new(o))),
                    _ => HttpOutlet::new(one).map(|o| Outlet::Http(Box::new(o))),
                };
                endpoint_steps(&mut probe, endpoint, &http.tls, outlet).await;
                if http.endpoints.len() > 1 {
                    probe.steps[before..].iter_mut().for_each(|s| s.says = format!("{}: {}", shown(endpoint), s.says));
                }
            }
        }
    }
    probe.steps
}

/// An endpoint without its query, which could hold a secret.
fn shown(endpoint: &str) -> &str {
    endpoint.split(['?', '#']).next().unwrap_or_default()
}

async fn syslog_steps(probe: &mut Probe, syslog: &SyslogDestination) {
    let files = (syslog.transport == SyslogTransport::Tls).then_some(&syslog.tls);
    let there = match syslog.transport {
        SyslogTransport::Udp => probe.step("resolve", resolve(&syslog.host, syslog.port)).await.is_some(),
        SyslogTransport::Tcp | SyslogTransport::Tls => way_there(probe, &syslog.host, syslog.port, files).await,
    };
    if !there {
        return;
    }
    let outlet = SyslogOutlet::new(syslog.clone());
    probe
        .step("accept", async {
            outlet?
                .send(marked().as_bytes())
                .await
                .map(|()| ((), "a marked event was sent; this protocol does not say whether it was taken".to_owned()))
                .map_err(Failure::why)
        })
        .await;
}

async fn archive_steps(probe: &mut Probe, archive: &ArchiveSettings) {
    if let Place::Bucket { endpoint: Some(endpoint), .. } = &archive.archive.place {
        let Some((secure, host, port)) = parts(endpoint) else { return };
        if !way_there(probe, &host, port, secure.then_some(&archive.archive.tls)).await {
            return;
        }
    }
    let outlet = ArchiveOutlet::new(archive.clone());
    probe
        .step("accept", async { outlet?.test().await.map(|()| ((), "it took a marked object, and let it be removed".to_owned())).map_err(Failure::why) })
        .await;
}

/// An event that says what it is.
fn marked() -> String {
    format!("{{\"time\":{},\"message\":\"a connection test of Rockrose\",\"rockrose.test\":true}}\n", now_ms())
}

async fn endpoint_steps(probe: &mut Probe, endpoint: &str, files: &TlsFiles, outlet: Result<Outlet, String>) {
    let Some((secure, host, port)) = parts(endpoint) else {
        probe.step::<()>("resolve", async { Err("this is no URL".to_owned()) }).await;
        return;
    };
    if !way_there(probe, &host, port, secure.then_some(files)).await {
        return;
    }
    let origin = Origin { entry: 0, place: now_ms(), route: "test".into(), queued_ms: now_ms() };
    probe
        .step("accept", async {
            let sent = match outlet? {
                Outlet::Http(mut http) => http.send(marked().into_bytes().into(), vec![origin]).await,
                Outlet::Grpc(mut grpc) => grpc.send(marked().into_bytes().into(), 1).await,
                _ => Ok(Taken::all()),
            };
            sent.map(|_| ((), "it took a marked event".to_owned())).map_err(Failure::why)
        })
        .await;
}

async fn resolve(host: &str, port: u16) -> Result<(Vec<SocketAddr>, String), String> {
    let found: Vec<SocketAddr> = tokio::net::lookup_host((host, port)).await.map_err(|e| format!("`{host}` is not known: {e}"))?.collect();
    let list: Vec<String> = found.iter().map(|a| a.ip().to_string()).collect();
    if found.is_empty() { Err(format!("`{host}` has no address")) } else { Ok((found, list.join(", "))) }
}

/// Looks for the host, connects, and makes the connection safe where that is asked. Says whether all of it went well.
async fn way_there(probe: &mut Probe, host: &str, port: u16, files: Option<&TlsFiles>) -> bool {
    let Some(addresses) = probe.step("resolve", resolve(host, port)).await else { return false };
    let stream = probe
        .step("connect", async {
            let mut why = String::new();
            for address in &addresses {
                match TcpStream::connect(address).await {
                    Ok(stream) => return Ok((stream, format!("{address} answers"))),
                    Err(e) => why = format!("{address} does not take the connection: {e}"),
                }
            }
            Err(why)
        })
        .await;
    let Some(stream) = stream else { return false };
    let Some(files) = files else { return true };
    let safe = probe.step("secure", async {
        let stream = tls::secure(files, host, stream).await?;
        let version = stream.get_ref().1.protocol_version().map_or_else(String::new, |v| format!("{v:?}"));
        Ok(((), format!("its certificate is good ({version})")))
    });
    safe.await.is_some()
}

/// Whether an endpoint is safe, its host and its port.
pub(crate) fn parts(endpoint: &str) -> Option<(bool, String, u16)> {
    let url = reqwest::Url::parse(endpoint).ok()?;
    let host = url.host_str()?.trim_start_matches('[').trim_end_matches(']').to_owned();
    Some((url.scheme() == "https", host, url.port_or_known_default()?))
}
