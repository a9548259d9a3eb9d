//! What a source is set to.

use std::net::{IpAddr, SocketAddr};

use std::sync::Arc;

use crate::DoorCertificates;
use rockrose_event::address::Network;
use rockrose_plan::{FileScope, SecretName, Source, SourceCertificates, SourceKind};

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
    /// What it is, with what only that kind has.
    pub kind: SourceKind,
    /// Where it listens, if it is one that does.
    pub listen: Option<SocketAddr>,
    /// The key senders must show, as a bearer token or, over HTTP, at the end of the path; none: it is open.
    pub key: Option<SourceKey>,
    /// Fields that a request may set for all its events.
    pub may_set: Vec<String>,
    /// Whence senders may come; empty: from anywhere.
    pub allow: Vec<Network>,
    /// The certificate that it shows, in files, and whose certificates it asks for.
    pub certificates: Option<SourceCertificates>,
    /// The certificate that a source for agents shows, and whose it knows.
    pub door: Option<Arc<DoorCertificates>>,
    /// Largest body as sent, in bytes.
    pub max_body: usize,
    /// Largest body after decompression, in bytes.
    pub max_unpacked: usize,
    /// Largest event, in bytes.
    pub max_event: usize,
    /// Most requests that are worked on at once; further ones are told to come back.
    pub max_requests: usize,
    /// The files that it may read.
    pub scope: FileScope,
}

impl SourceSettings {
    /// The settings of a source of a plan that may reach what is in `scope`. `secret` gives the value of a secret that is kept.
    pub fn planned(source: &Source, scope: &FileScope, secret: impl Fn(&SecretName) -> Option<String>) -> SourceSettings {
        SourceSettings {
            name: source.name.clone(),
            kind: source.kind.clone(),
            listen: source.listen,
            key: source.key.as_ref().and_then(secret).map(SourceKey::new),
            may_set: source.may_set.clone(),
            allow: source.allow.clone(),
            certificates: source.certificates.clone(),
            door: None,
            max_body: source.max_body as usize,
            max_unpacked: source.max_unpacked as usize,
            max_event: source.max_event as usize,
            max_requests: source.max_requests as usize,
            scope: scope.clone(),
        }
    }

    /// Whether a sender may come from there.
    #[must_use]
    pub fn allows(&self, from: IpAddr) -> bool {
        let from = from.to_canonical();
        self.allow.is_empty() || self.allow.iter().any(|network| network.contains(from))
    }

    /// Whether what was started with `other` can go on with these settings. What listens nowhere is started anew whenever anything changes.
    #[must_use]
    pub(crate) fn goes_on_from(&self, other: &SourceSettings) -> bool {
        let is_of_one_kind = std::mem::discriminant(&self.kind) == std::mem::discriminant(&other.kind);
        match self.listen {
            None => self == other,
            Some(_) => {
                is_of_one_kind
                    && self.name == other.name
                    && self.listen == other.listen
                    && self.certificates == other.certificates
                    && self.door == other.door
                    && self.max_unpacked == other.max_unpacked
            }
        }
    }
}
