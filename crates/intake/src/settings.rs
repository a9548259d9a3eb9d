//! What a source is set to.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use rockrose_event::address::Network;

/// The protocol that a source speaks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Protocol {
    /// HTTP: a POST is a body of events.
    Http,
    /// OTLP log records, over gRPC and over HTTP.
    Otlp,
    /// Syslog messages, with the zone of times that name none.
    Syslog {
        /// Over datagrams, not streams.
        datagrams: bool,
        /// An IANA name or an offset.
        zone: Option<String>,
    },
    /// Lines over TCP: JSON or text.
    Lines,
}

/// The certificate that a source shows, and whose certificates it asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificates {
    /// Its own, and those between it and an authority (PEM).
    pub certificate: PathBuf,
    /// Its private key (PEM).
    pub key: PathBuf,
    /// Senders must show a certificate of one of these authorities (PEM).
    pub client_ca: Option<PathBuf>,
}

/// The key that senders must show. It has no printed form.
#[derive(Clone, PartialEq, Eq)]
pub struct SourceKey(String);

impl SourceKey {
    /// Wraps a key.
    #[must_use]
    pub fn new(key: String) -> SourceKey {
        SourceKey(key)
    }

    /// The key, for one who shows it.
    pub(crate) fn shown(&self) -> &str {
        &self.0
    }

    /// Whether `shown` is the key; takes the same time wherever they differ.
    pub(crate) fn is(&self, shown: &str) -> bool {
        let (a, b) = (self.0.as_bytes(), shown.as_bytes());
        a.len() == b.len() && a.iter().zip(b).fold(0, |d, (x, y)| d | (x ^ y)) == 0
    }
}

impl std::fmt::Debug for SourceKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SourceKey(…)")
    }
}

/// What a source is set to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceSettings {
    /// Its name.
    pub name: String,
    /// The protocol that it speaks.
    pub protocol: Protocol,
    /// Where it listens.
    pub listen: SocketAddr,
    /// The key senders must show, as a bearer token or, over HTTP, at the end of the path; none: it is open.
    pub key: Option<SourceKey>,
    /// Fields that a request may set for all its events.
    pub may_set: Vec<String>,
    /// Whence senders may come; empty: from anywhere.
    pub allow: Vec<Network>,
    /// What makes its connections safe.
    pub certificates: Option<Certificates>,
    /// Largest body as sent, in bytes.
    pub max_body: usize,
    /// Largest body after decompression, in bytes.
    pub max_unpacked: usize,
    /// Largest event, in bytes.
    pub max_event: usize,
    /// Most requests that are worked on at once; further ones are told to come back.
    pub max_requests: usize,
}

impl SourceSettings {
    /// Whether a sender may come from there.
    #[must_use]
    pub fn allows(&self, from: IpAddr) -> bool {
        let from = from.to_canonical();
        self.allow.is_empty() || self.allow.iter().any(|network| network.contains(from))
    }

    /// Whether a listener that was opened for `other` serves this as well.
    #[must_use]
    pub fn listens_like(&self, other: &SourceSettings) -> bool {
        let same_speech = std::mem::discriminant(&self.protocol) == std::mem::discriminant(&other.protocol);
        same_speech
            && self.name == other.name
            && self.listen == other.listen
            && self.certificates == other.certificates
            && self.max_unpacked == other.max_unpacked
    }
}
