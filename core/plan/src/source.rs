//! Sources, checked.

use std::net::SocketAddr;

use rockrose_event::address::Network;
use rockrose_language::{Mistake, Step};

use super::check::{Checker, MB, SecretName};
use super::keys::SOURCE;
use super::parse::{At, Raw, Section};

/// A source.
#[derive(Clone, Debug, PartialEq)]
pub struct Source {
    /// Its name.
    pub name: String,
    /// What it speaks.
    pub kind: SourceKind,
    /// Where it listens, if it is one that does.
    pub listen: Option<SocketAddr>,
    /// Whence senders may come; empty: from anywhere.
    pub allow: Vec<Network>,
    /// The certificate it shows, in files.
    pub certificates: Option<SourceCertificates>,
    /// The key senders must show.
    pub key: Option<SecretName>,
    /// Fields that a request may set for all its events.
    pub may_set: Vec<String>,
    /// Steps done to every event.
    pub on_arrival: Vec<Step>,
    /// Largest body as sent, in bytes.
    pub max_body: u64,
    /// Largest body after decompression, in bytes.
    pub max_unpacked: u64,
    /// Largest event, in bytes.
    pub max_event: u64,
    /// Most requests at once.
    pub max_requests: u64,
    /// Whether its events are compressed while they wait.
    pub compress: bool,
}

/// What a source speaks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SourceKind {
    /// HTTP: a POST is a body of events.
    Http,
    /// OTLP log records, over gRPC and HTTP.
    Otlp,
    /// Syslog messages.
    Syslog {
        /// Over TCP or TLS.
        tcp: bool,
        /// Over UDP.
        udp: bool,
        /// The zone of times that name none.
        zone: Option<String>,
    },
    /// Lines over TCP.
    Tcp,
    /// Files, followed as they grow.
    File(Files),
}

/// The files of a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Files {
    /// Patterns of those that are read.
    pub paths: Vec<String>,
    /// Patterns of those among them that are not.
    pub but_not: Vec<String>,
    /// Whether files that are there already are read from their beginning, not their end.
    pub from_start: bool,
    /// The field that tells each event's file.
    pub path_as: Option<String>,
}

impl Source {
    /// Where its events come in: an address, or patterns of files.
    #[must_use]
    pub fn place(&self) -> String {
        match (&self.kind, self.listen) {
            (SourceKind::File(files), _) => files.paths.join(", "),
            (_, Some(address)) => address.to_string(),
            (_, None) => String::new(),
        }
    }
}

impl SourceKind {
    /// The word for it in a plan.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            SourceKind::Http => "http",
            SourceKind::Otlp => "otlp",
            SourceKind::Syslog { .. } => "syslog",
            SourceKind::Tcp => "tcp",
            SourceKind::File(_) => "file",
        }
    }

    /// Whether both would listen at the same port.
    pub(super) fn meets(&self, other: &SourceKind) -> bool {
        let ((streams, datagrams), (others, other_datagrams)) = (self.takes(), other.takes());
        streams && others || datagrams && other_datagrams
    }

    /// Whether it takes streams at its port, and whether datagrams.
    #[must_use]
    pub fn takes(&self) -> (bool, bool) {
        match self {
            SourceKind::Syslog { tcp, udp, .. } => (*tcp, *udp),
            SourceKind::File(_) => (false, false),
            _ => (true, false),
        }
    }
}

/// The certificate that a source shows, and whose it asks for, in files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceCertificates {
    /// Its own.
    pub certificate: String,
    /// Its private key.
    pub key: String,
    /// Senders must show one of these authorities'.
    pub client_ca: Option<String>,
}

/// Says what is wrong with a pattern of files, if anything is.
fn wrong_with_pattern(pattern: &str) -> Option<String> {
    let folders = pattern.split('/');
    if folders.clone().any(|part| part.contains("**") && part != "**") {
        return Some("`**` stands for folders, between slashes".to_owned());
    }
    let mut rest = pattern;
    while let Some(open) = rest.find('[') {
        // A bracket right behind the opening one, or behind `[!`, is one of the signs.
        let inside = &rest[open + 1..];
        let skip = usize::from(inside.starts_with('!'));
        let Some(close) = inside.get(skip + 1..).and_then(|i| i.find(']')) else { return Some("`[` is not closed".to_owned()) };
        rest = &inside[skip + 1 + close + 1..];
    }
    None
}

impl Checker<'_> {
    pub(super) fn source(&mut self, section: &Section) -> Option<Source> {
        self.name(&section.name, "source");
        self.keys(section, SOURCE, "source");
        let key = self.secret(section, "key");
        let on_arrival = self.steps(section.texts("on_arrival"));
        let (max_body, max_unpacked) = (self.size(section, "max_body", 16 * MB, 1_000 * MB), self.size(section, "max_unpacked", 64 * MB, 1_000 * MB));
        let max_event = self.size(section, "max_event", 256_000, 64 * MB);
        let compress = section.text("compress").is_none_or(|c| c.value != "none");
        let max_requests = if let Some(At { value: Raw::Count(n), .. }) = section.get("max_requests") { *n } else { 64 };
        let kind = section.text("kind")?;
        let certificates = self.certificates(section);
        let kind = match kind.value {
            "http" => SourceKind::Http,
            "otlp" => SourceKind::Otlp,
            "tcp" => SourceKind::Tcp,
            "file" => SourceKind::File(self.files(section)?),
            _ => {
                let over = section.text("over").map(|o| o.value);
                if let (Some("udp"), Some(_), Some(written)) = (over, &certificates, section.get("certificate")) {
                    self.mistakes
                        .push(Mistake::new(written.at.clone(), "datagrams are not made safe by a certificate").expected("`over = \"tcp\"`, or no certificate"));
                }
                let zone = section.text("zone");
                if let Some(zone) = zone.as_ref().filter(|z| !rockrose_event::time::zone_is_known(z.value)) {
                    let message = format!("`{}` is no time zone", zone.value);
                    self.mistakes.push(Mistake::new(zone.at.clone(), message).expected("a name such as \"Europe/Berlin\", or an offset such as \"+01:00\""));
                }
                let zone = zone.map(|z| z.value.to_owned());
                SourceKind::Syslog { tcp: over != Some("udp"), udp: over != Some("tcp") && certificates.is_none(), zone }
            }
        };
        let allow = self.networks(section);
        let listen = match &kind {
            SourceKind::File(_) => None,
            kind => Some(self.listens(section, kind, key.is_some(), &certificates, &allow)?),
        };
        let may_set = self.may_set(section);
        let name = section.name.value.clone();
        Some(Source { name, kind, listen, allow, certificates, key, may_set, on_arrival, max_body, max_unpacked, max_event, max_requests, compress })
    }

    /// Where a source listens. One that other hosts can reach is guarded.
    fn listens(
        &mut self,
        section: &Section,
        kind: &SourceKind,
        keyed: bool,
        certificates: &Option<SourceCertificates>,
        allow: &[Network],
    ) -> Option<SocketAddr> {
        let listen = section.text("listen")?;
        let Ok(address) = listen.value.parse::<SocketAddr>() else {
            self.mistakes.push(
                Mistake::new(listen.at, format!("`{}` is not an address to listen on", listen.value))
                    .expected("an IP address and a port, as in \"127.0.0.1:8610\""),
            );
            return None;
        };
        let asks = certificates.as_ref().is_some_and(|c| c.client_ca.is_some());
        if !address.ip().is_loopback() && !keyed && !asks {
            let name = &section.name.value;
            // A protocol that can show no key is guarded by where its senders are.
            match kind {
                SourceKind::Http | SourceKind::Otlp => {
                    let message = format!("the source `{name}` can be reached from other hosts and has no key");
                    self.mistakes.push(Mistake::new(listen.at, message).expected("`key = { secret = \"NAME\" }`, or a loopback address such as 127.0.0.1"));
                }
                _ if allow.is_empty() => {
                    let message = format!("the source `{name}` can be reached from other hosts, all of them");
                    let expected = "`allow = [\"NETWORK\"]`, `client_ca`, or a loopback address such as 127.0.0.1";
                    self.mistakes.push(Mistake::new(listen.at, message).expected(expected));
                }
                _ => {}
            }
        }
        Some(address)
    }

    /// The files of a source that reads files.
    fn files(&mut self, section: &Section) -> Option<Files> {
        let mut patterns = |key: &str| -> Vec<String> {
            let written = section.texts(key);
            for pattern in written {
                let wrong = if pattern.value.is_empty() { Some("it is empty".to_owned()) } else { wrong_with_pattern(&pattern.value) };
                if let Some(why) = wrong {
                    let message = format!("`{}` is not a pattern of files: {why}", pattern.value);
                    self.mistakes
                        .push(Mistake::new(pattern.at.clone(), message).expected("a path in which `*`, `?`, `[…]` and, for folders, `**` stand for others"));
                }
            }
            written.iter().map(|p| p.value.clone()).collect()
        };
        let (paths, but_not) = (patterns("paths"), patterns("but_not"));
        if paths.is_empty() {
            let at = section.get("paths")?.at.clone();
            self.mistakes.push(Mistake::new(at, "`paths` is empty").expected("at least one pattern, as in \"/var/log/kiosk/*.log\""));
        }
        let from_start = section.text("begin_at").is_some_and(|b| b.value == "start");
        Some(Files { paths, but_not, from_start, path_as: section.text("path_as").map(|p| p.value.to_owned()) })
    }

    /// The fields that a request may set.
    fn may_set(&mut self, section: &Section) -> Vec<String> {
        for field in section.texts("may_set") {
            let plain = !field.value.is_empty() && field.value.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'_' | b'-'));
            if !plain {
                let message = format!("`{}` is not a field that a request can set", field.value);
                self.mistakes.push(Mistake::new(field.at.clone(), message).expected("letters, digits, `.`, `_` and `-`"));
            }
        }
        section.texts("may_set").iter().map(|f| f.value.clone()).collect()
    }

    fn certificates(&mut self, section: &Section) -> Option<SourceCertificates> {
        let of = |key: &str| section.text(key).map(|t| t.value.to_owned());
        match (of("certificate"), of("certificate_key")) {
            (Some(certificate), Some(key)) => Some(SourceCertificates { certificate, key, client_ca: of("client_ca") }),
            (None, None) => {
                if let Some(alone) = section.get("client_ca") {
                    self.mistakes.push(
                        Mistake::new(alone.at.clone(), "whoever asks for certificates shows one").expected("`certificate` and `certificate_key` beside it"),
                    );
                }
                None
            }
            _ => {
                let at = section.get("certificate").or_else(|| section.get("certificate_key")).map_or(section.name.at.clone(), |t| t.at.clone());
                self.mistakes.push(Mistake::new(at, "a certificate is shown with its key").expected("both `certificate` and `certificate_key`"));
                None
            }
        }
    }

    fn networks(&mut self, section: &Section) -> Vec<Network> {
        let mut networks = Vec::new();
        for written in section.texts("allow") {
            match Network::read(&written.value) {
                Some(network) => networks.push(network),
                None => {
                    let message = format!("`{}` is no network", written.value);
                    self.mistakes.push(Mistake::new(written.at.clone(), message).expected("an address, or a network such as \"192.0.2.0/24\""));
                }
            }
        }
        networks
    }
}
