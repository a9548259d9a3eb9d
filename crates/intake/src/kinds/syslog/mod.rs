//! The source of syslog messages: over TCP and TLS with lengths before them or one to a line, and over UDP a datagram each.

mod datagrams;

use rockrose_plan::{SourceKind, SyslogSource};

use super::{Endpoint, Kind, PasteLine, Start, Transport};
use crate::messages::Framing;
use crate::probe::Probe;
use crate::{SenderFault, Sink, SourceSettings, stream};

impl Kind for SyslogSource {
    async fn run<S: Sink>(self, start: Start<S>) {
        match start.transport {
            Transport::Datagrams(_) => datagrams::run(start).await,
            _ => stream::run(start, |settings| Framing::Syslog { zone: zone(settings) }).await,
        }
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        if self.tcp {
            probe.connect().await;
        }
        if self.udp {
            probe.datagrams();
        }
    }

    fn paste_lines(&self, at: &Endpoint) -> Vec<PasteLine> {
        let Endpoint { host, port, over_tls, .. } = at;
        let mut lines = Vec::new();
        if self.udp {
            lines.push(PasteLine::new("logger, UDP", format!("logger --udp --server {host} --port {port} --rfc5424 hello")));
        }
        if self.tcp && !over_tls {
            lines.push(PasteLine::new("logger, TCP", format!("logger --tcp --octet-count --server {host} --port {port} --rfc5424 hello")));
        }
        let protocol = match (self.tcp, over_tls) {
            (true, true) => "TLS",
            (true, false) => "TCP",
            (false, _) => "UDP",
        };
        let framing = if self.tcp { ", framing octet-counted or by lines" } else { "" };
        lines.push(PasteLine::new("a syslog daemon", format!("protocol {protocol}, host {host}, port {port}, RFC 5424 or RFC 3164{framing}")));
        if !over_tls {
            let address = if self.tcp { "tcp" } else { "udp" };
            let options = format!("--log-opt syslog-address={address}://{host}:{port} --log-opt syslog-format=rfc5424micro");
            lines.push(PasteLine::new("a container runtime", format!("--log-driver syslog {options}")));
        }
        lines
    }

    fn remedy(&self, what: SenderFault) -> Option<&'static str> {
        match what {
            SenderFault::Clock => Some("set the source's `zone` to the senders' time zone, or correct their clocks"),
            SenderFault::Format => Some("send whole messages, RFC 5424 or RFC 3164; lines go to a source of kind `tcp`, HTTP to one of kind `http`"),
            _ => None,
        }
    }
}

/// The zone of times that name none, as the settings have it now.
fn zone(settings: &SourceSettings) -> Option<String> {
    if let SourceKind::Syslog(SyslogSource { zone, .. }) = &settings.kind { zone.clone() } else { None }
}
