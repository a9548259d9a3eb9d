//! `kind = "agents"`: where agents of other hosts are managed, and send what they collect.

use rockrose_language::Mistake;

use super::listening::{ALLOW, LISTEN, REQUESTS};
use super::{Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::{Key, Shape, key};
use crate::section::Section;

/// The door for agents. It is always over TLS, with a certificate of the service's own, which agents know since they enrolled; agents show theirs.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AgentsSource {
    /// The names and addresses by which agents reach it, each with a port if that is another than the one it listens on.
    pub reached_as: Vec<String>,
}

impl PlannedSource for AgentsSource {
    const WORD: &'static str = "agents";
    const EXAMPLE: &'static str = "listen = \"127.0.0.1:8640\"\n\
        # Agents of other hosts can enrol once it listens on 0.0.0.0 and says by which name they reach it:\n\
        # reached_as = [\"logs.ferries.example\"]\n";
    const KEYS: &'static [&'static [Key]] = &[
        &[LISTEN, ALLOW],
        REQUESTS,
        &[key(
            "reached_as",
            Shape::Texts,
            "Names or addresses by which agents reach it, with a port if that is another than the one it listens on. The address it listens on, if left out.",
        )],
    ];
    // Agents show a certificate that they were given.
    const GUARD: Option<Guard> = Some(Guard::Own);

    fn read(c: &mut Checker<'_>, section: &Section, _certificates: Option<&SourceCertificates>) -> Option<AgentsSource> {
        let mut reached_as = Vec::new();
        for written in section.texts("reached_as") {
            let (host, port) = host_and_port(&written.value);
            let plain = !host.is_empty() && host.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b':'));
            if !plain || port.is_some_and(|port| port.parse::<u16>().is_err()) {
                let message = format!("`{}` is not a name or an address", written.value);
                c.mistakes.push(Mistake::new(written.at.clone(), message).expected("as in \"logs.ferries.example\" or \"192.0.2.7:8640\""));
            }
            reached_as.push(written.value.clone());
        }
        Some(AgentsSource { reached_as })
    }
}

/// The host of `host`, `host:port` or `[address]:port`, and the port as it is written.
fn host_and_port(written: &str) -> (&str, Option<&str>) {
    if let Some((host, rest)) = written.strip_prefix('[').and_then(|w| w.split_once(']')) {
        return (host, rest.strip_prefix(':'));
    }
    match written.split_once(':') {
        Some((host, port)) if !port.contains(':') => (host, Some(port)),
        _ => (written, None),
    }
}

impl AgentsSource {
    /// The hosts by which agents reach it, for its certificate.
    pub fn hosts(&self) -> impl Iterator<Item = &str> {
        self.reached_as.iter().map(|written| host_and_port(written).0)
    }

    /// The address that agents are told, when it listens at `listen`: `host:port`.
    #[must_use]
    pub fn address(&self, listen: std::net::SocketAddr) -> String {
        let Some(written) = self.reached_as.first() else { return listen.to_string() };
        let (host, port) = host_and_port(written);
        let port = port.map_or_else(|| listen.port().to_string(), str::to_owned);
        if host.contains(':') { format!("[{host}]:{port}") } else { format!("{host}:{port}") }
    }
}
