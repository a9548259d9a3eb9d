//! The steps of a look at a destination: is there such a host, does it answer, is the connection safe, does it take an event.

use std::net::SocketAddr;

use rockrose_event::output::Origin;
use rockrose_plan::TlsFiles;
use tokio::net::TcpStream;

use crate::kind::{Failure, OpenError, Outgoing, Outlet, Taken, TlsError};
use crate::probe::{Probe, ProbeStep};
use crate::{WorkerSettings, now_ms, tls};

/// Looks at a destination. A marked event is sent to those that take events over a network; of a file it is only seen whether it could be written.
pub async fn probe(settings: &WorkerSettings) -> Vec<ProbeStep> {
    let mut probe = Probe { steps: Vec::new() };
    settings.target.probe(&mut probe).await;
    probe.steps
}

/// Sends one marked event: it says what it is.
async fn send_marked(outlet: &mut dyn Outlet) -> Result<Taken, Failure> {
    let now = now_ms();
    let line = format!("{{\"time\":{now},\"message\":\"a connection test of Rockrose\",\"rockrose.test\":true}}\n");
    let origins = || vec![Origin { entry: 0, place: now, route: "test".into(), queued_ms: now }];
    outlet.send(Outgoing { lines: line.into(), frames: None, events: 1, origins: &origins }).await
}

impl Probe {
    /// Sends a marked event to what can be opened; `says` is what is said if that goes well.
    pub(crate) async fn accept(&mut self, outlet: Result<Box<dyn Outlet>, OpenError>, says: &str) {
        self.step("accept", async {
            let mut outlet = outlet.map_err(|e| e.to_string())?;
            send_marked(&mut *outlet).await.map(|_| ((), says.to_owned())).map_err(Failure::why)
        })
        .await;
    }

    /// Looks for the host.
    pub(crate) async fn resolve(&mut self, host: &str, port: u16) -> bool {
        self.step("resolve", resolve(host, port)).await.is_some()
    }

    /// Looks for the host, connects, and makes the connection safe where that is asked. Says whether all of it went well.
    pub(crate) async fn way_there(&mut self, host: &str, port: u16, files: Option<&TlsFiles>) -> bool {
        let Some(addresses) = self.step("resolve", resolve(host, port)).await else { return false };
        let stream = self
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
        let safe = self.step("secure", async {
            let stream = tls::secure(files, host, stream).await?;
            let version = stream.get_ref().1.protocol_version().map_or_else(String::new, |v| format!("{v:?}"));
            Ok::<_, TlsError>(((), format!("its certificate is good ({version})")))
        });
        safe.await.is_some()
    }
}

async fn resolve(host: &str, port: u16) -> Result<(Vec<SocketAddr>, String), String> {
    let found: Vec<SocketAddr> = tokio::net::lookup_host((host, port)).await.map_err(|e| format!("`{host}` is not known: {e}"))?.collect();
    let list: Vec<String> = found.iter().map(|a| a.ip().to_string()).collect();
    if found.is_empty() { Err(format!("`{host}` has no address")) } else { Ok((found, list.join(", "))) }
}
