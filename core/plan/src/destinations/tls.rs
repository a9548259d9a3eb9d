//! Settings of destinations at the other end of a network: certificates, patience, how much at once.

use std::time::Duration;

use rockrose_language::Mistake;

use crate::checker::{Checker, MB};
use crate::keys::{Key, Shape, key};
use crate::section::{At, Raw, Section};

pub(super) const CA: Key = key("ca", Shape::Text, "A file of certificates (PEM) that are trusted besides the system's.");
pub(super) const TIMEOUT: Key = key("timeout", Shape::Duration, "How long an answer may take. 30 seconds if left out.");
pub(super) const USER: Key = key("user", Shape::Text, "Who signs in, with `password`: by basic authentication, or to the mail server.");
pub(super) const PASSWORD: Key = key("password", Shape::Secret, "The secret with the password.");
/// Keys of destinations that a connection is opened to.
pub(super) const CONNECTED: &[Key] = &[
    CA,
    key("client_certificate", Shape::Text, "A file with the certificate (PEM) that is shown, with `client_key`."),
    key("client_key", Shape::Text, "The file with its private key (PEM)."),
    key("ca_only", Shape::Truth, "Whether only the certificates in `ca` are trusted, and none of the system's."),
    TIMEOUT,
    key("max_batch", Shape::Size, "Most bytes that are sent at once, before compression. 1 MB if left out."),
];

/// How long an answer may take, where nothing is said.
const PATIENCE: Duration = Duration::from_secs(30);

/// Certificates beyond the system's, in files.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TlsFiles {
    /// Certificates that are trusted as well.
    pub ca: Option<String>,
    /// Whether none else are.
    pub ca_only: bool,
    /// The certificate that is shown, and its key.
    pub client: Option<(String, String)>,
}

impl TlsFiles {
    /// The paths of all of them.
    pub(crate) fn files(&self) -> Vec<&str> {
        let client = self.client.iter().flat_map(|(certificate, key)| [certificate, key]);
        self.ca.iter().chain(client).map(String::as_str).collect()
    }
}

pub(super) fn tls(c: &mut Checker<'_>, section: &Section) -> TlsFiles {
    let of = |key: &str| section.text(key).map(|t| t.value.to_owned());
    let client = match (of("client_certificate"), of("client_key")) {
        (Some(certificate), Some(key)) => Some((certificate, key)),
        (None, None) => None,
        _ => {
            let at = section.get("client_certificate").or_else(|| section.get("client_key")).map_or(section.name.at.clone(), |t| t.at.clone());
            c.mistakes.push(Mistake::new(at, "a certificate is shown with its key").expected("both `client_certificate` and `client_key`"));
            None
        }
    };
    let (ca, mut ca_only) = (of("ca"), false);
    if let Some(At { value: Raw::Truth(true), at }) = section.get("ca_only") {
        ca_only = true;
        if ca.is_none() {
            c.mistakes.push(Mistake::new(at.clone(), "`ca_only` trusts nobody without `ca`").expected("`ca`, a file of certificates"));
        }
    }
    TlsFiles { ca, ca_only, client }
}

/// How long an answer may take.
pub(super) fn timeout(c: &mut Checker<'_>, section: &Section) -> Duration {
    c.duration(section, "timeout", PATIENCE)
}

/// Most bytes that are sent at once.
pub(super) fn max_batch(c: &mut Checker<'_>, section: &Section) -> u64 {
    c.size(section, "max_batch", MB, 100 * MB)
}
