//! `kind = "syslog"`: events are sent as syslog messages.

use std::time::Duration;

use rockrose_event::output::SyslogFacility;
use rockrose_language::Mistake;

use super::tls::{self, CONNECTED, TlsFiles};
use super::{DestinationSection, PlannedDestination};
use crate::checker::Checker;
use crate::keys::{Key, Shape, key, needed};

/// A destination that takes syslog messages.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SyslogDestination {
    /// How they get there.
    pub transport: SyslogTransport,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The facility that messages are sent under.
    pub facility: SyslogFacility,
    /// Certificates, for TLS.
    pub tls: TlsFiles,
    /// How long connecting and writing may take.
    pub timeout: Duration,
    /// Most bytes sent at once.
    pub max_batch: u64,
}

/// How syslog messages get to a destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SyslogTransport {
    /// TCP, each message after its length (RFC 6587).
    Tcp,
    /// TCP within TLS, each message after its length (RFC 5425).
    Tls,
    /// UDP, a datagram each (RFC 5426).
    Udp,
}

impl PlannedDestination for SyslogDestination {
    const WORD: &'static str = "syslog";
    const EXAMPLE: &'static str = "address = \"tcp://127.0.0.1:6514\"\n\
        # facility = \"local0\"\n";
    const KEYS: &'static [&'static [Key]] = &[
        &[
            needed("address", Shape::Text, "Where messages go: `tcp://HOST:PORT` (octet-counted), `tls://HOST:PORT` or `udp://HOST:PORT`."),
            key("facility", Shape::Word(SyslogFacility::WORDS), "The facility of the messages. `user` if left out."),
        ],
        CONNECTED,
    ];

    fn read(c: &mut Checker<'_>, DestinationSection { section, .. }: DestinationSection<'_>) -> Option<SyslogDestination> {
        let address = section.text("address")?;
        let Some((transport, host, port)) = parts(address.value) else {
            c.mistakes.push(
                Mistake::new(address.at.clone(), format!("`{}` is nowhere that messages go", address.value))
                    .expected("`tcp://HOST:PORT`, `tls://HOST:PORT` or `udp://HOST:PORT`"),
            );
            return None;
        };
        Some(SyslogDestination {
            transport,
            host,
            port,
            facility: section.text("facility").and_then(|f| SyslogFacility::read(f.value)).unwrap_or_default(),
            tls: tls::tls(c, section),
            timeout: tls::timeout(c, section),
            max_batch: tls::max_batch(c, section),
        })
    }

    fn caveat(&self) -> Option<&'static str> {
        match self.transport {
            SyslogTransport::Udp => Some("delivered means sent: nobody answers a datagram, so whether it arrived cannot be known"),
            SyslogTransport::Tcp | SyslogTransport::Tls => {
                Some("delivered means handed to the system: the protocol has no answers, so what is on its way when a connection breaks is lost")
            }
        }
    }

    fn files(&self) -> Vec<&str> {
        self.tls.files()
    }

    fn address(&self) -> String {
        format!("{}:{}", self.host, self.port)
    }
}

/// `tcp://host:port`, in its parts.
fn parts(written: &str) -> Option<(SyslogTransport, String, u16)> {
    let (scheme, rest) = written.split_once("://")?;
    let transport = match scheme {
        "tcp" => SyslogTransport::Tcp,
        "tls" => SyslogTransport::Tls,
        "udp" => SyslogTransport::Udp,
        _ => return None,
    };
    let (host, port) = rest.rsplit_once(':')?;
    let host = host.strip_prefix('[').and_then(|h| h.strip_suffix(']')).unwrap_or(host);
    let good = !host.is_empty() && host.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b':' | b'_'));
    Some((transport, host.to_owned(), port.parse().ok().filter(|p| *p > 0)?)).filter(|_| good)
}
