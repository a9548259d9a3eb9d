//! Settings of sources that listen at a port, and of those that are sent requests.

use std::net::SocketAddr;

use rockrose_event::address::Network;
use rockrose_language::Mistake;

use super::Guard;
use crate::checker::Checker;
use crate::keys::{Key, Shape, key, needed};
use crate::section::Section;

pub(super) const LISTEN: Key = needed("listen", Shape::Address, "The address it listens on.");
pub(super) const ALLOW: Key = key("allow", Shape::Texts, "The networks that senders may come from, as in \"192.0.2.0/24\". From anywhere, if left out.");

/// Keys of sources that listen at a port.
pub(super) const LISTENING: &[Key] = &[
    LISTEN,
    ALLOW,
    key(
        "certificate",
        Shape::Text,
        "A file with the certificate (PEM) that is shown to senders, with `certificate_key`. Connections must then be made over TLS.",
    ),
    key("certificate_key", Shape::Text, "The file with its private key (PEM)."),
    key("client_ca", Shape::Text, "A file with certificates of authorities (PEM): senders must show a certificate of one of them."),
];

/// The key of sources whose senders show one.
pub(super) const KEYED: &[Key] = &[key(
    "key",
    Shape::Secret,
    "The key senders must show, as a bearer token or, to `http`, as the last part of the URL's path. Needed unless `listen` is a loopback address, or `client_ca` is given.",
)];

/// Keys of sources that are sent requests.
pub(super) const REQUESTS: &[Key] = &[
    key("max_body", Shape::Size, "Largest body that is read, as sent. 16 MB if left out."),
    key("max_unpacked", Shape::Size, "Largest body after decompression. 64 MB if left out."),
    key("max_requests", Shape::Count, "Most requests that are worked on at once. 64 if left out."),
];

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

/// Where a source listens. One that other hosts can reach is guarded.
pub(super) fn address(c: &mut Checker<'_>, section: &Section, guard: Guard, guarded: bool) -> Option<SocketAddr> {
    let listen = section.text("listen")?;
    let Ok(address) = listen.value.parse::<SocketAddr>() else {
        c.mistakes.push(
            Mistake::new(listen.at, format!("`{}` is not an address to listen on", listen.value))
                .expected("an IP address and a port, as in \"127.0.0.1:8610\""),
        );
        return None;
    };
    if !address.ip().is_loopback() && !guarded {
        let name = &section.name.value;
        let (who, expected) = match guard {
            Guard::Key => ("and has no key", "`key = { secret = \"NAME\" }`, or a loopback address such as 127.0.0.1"),
            // It is guarded by itself.
            Guard::Own => return Some(address),
            Guard::Network => (", all of them", "`allow = [\"NETWORK\"]`, `client_ca`, or a loopback address such as 127.0.0.1"),
        };
        let between = if guard == Guard::Key { " " } else { "" };
        let message = format!("the source `{name}` can be reached from other hosts{between}{who}");
        c.mistakes.push(Mistake::new(listen.at, message).expected(expected));
    }
    Some(address)
}

pub(super) fn certificates(c: &mut Checker<'_>, section: &Section) -> Option<SourceCertificates> {
    let of = |key: &str| section.text(key).map(|t| t.value.to_owned());
    match (of("certificate"), of("certificate_key")) {
        (Some(certificate), Some(key)) => Some(SourceCertificates { certificate, key, client_ca: of("client_ca") }),
        (None, None) => {
            if let Some(alone) = section.get("client_ca") {
                c.mistakes
                    .push(Mistake::new(alone.at.clone(), "whoever asks for certificates shows one").expected("`certificate` and `certificate_key` beside it"));
            }
            None
        }
        _ => {
            let at = section.get("certificate").or_else(|| section.get("certificate_key")).map_or(section.name.at.clone(), |t| t.at.clone());
            c.mistakes.push(Mistake::new(at, "a certificate is shown with its key").expected("both `certificate` and `certificate_key`"));
            None
        }
    }
}

pub(super) fn networks(c: &mut Checker<'_>, section: &Section) -> Vec<Network> {
    let mut networks = Vec::new();
    for written in section.texts("allow") {
        match Network::read(&written.value) {
            Some(network) => networks.push(network),
            None => {
                let message = format!("`{}` is no network", written.value);
                c.mistakes.push(Mistake::new(written.at.clone(), message).expected("an address, or a network such as \"192.0.2.0/24\""));
            }
        }
    }
    networks
}
