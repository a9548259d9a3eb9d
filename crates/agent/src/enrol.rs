//! Enrolling: an identity is made on this host, and the centre signs its certificate.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::Context;
use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use rcgen::{CertificateParams, KeyPair};
use rockrose_opamp::{
    AgentToServer, CertificateRequest, ConnectionSettingsRequest, OpAmpConnectionSettingsRequest, ServerToAgent, TlsCertificate, agent_capabilities,
};

use crate::centre::Centre;
use crate::facts::{describe, host_name};
use crate::folder::{AgentSettings, Elsewhere, Folder, Identity};
use crate::pin::Pinned;

/// What an agent enrols with.
#[derive(Clone, Debug)]
pub struct EnrolOptions {
    /// The centre: an https URL.
    pub url: String,
    /// The code that was made there.
    pub code: String,
    /// By which name it is to be known; the host's name, if nothing is said.
    pub name: Option<String>,
    /// What else is told of the host.
    pub labels: BTreeMap<String, String>,
    /// Folders whose files may be read; empty: all but the system's own.
    pub allow: Vec<PathBuf>,
    /// Whether the centre is told which programs run here.
    pub show_programs: bool,
    /// The URL is the endpoint of a server of another make, and the code what is shown there as a bearer token, if it is not empty. By these certificates it is known, or by the system's.
    pub elsewhere: Option<Option<PathBuf>>,
}

/// Whether a URL may be asked: over TLS, or on this host.
fn is_safe(url: &str) -> bool {
    let on_this_host = |rest: &str| {
        ["127.0.0.1", "localhost", "[::1]"].iter().any(|host| rest.strip_prefix(host).is_some_and(|rest| rest.starts_with([':', '/']) || rest.is_empty()))
    };
    !url.contains('@') && (url.starts_with("https://") || url.strip_prefix("http://").is_some_and(on_this_host))
}

/// An agent that has enrolled.
#[derive(Clone, Debug)]
pub struct Enrolled {
    /// Its name.
    pub name: String,
    /// Its data folder.
    pub folder: PathBuf,
    /// What the host's owner may change.
    pub settings: PathBuf,
}

/// The secret of a code, and the SHA-256 by which the centre is known.
fn parts(code: &str) -> Option<(&str, [u8; 32])> {
    let (secret, pin) = code.split_once('.')?;
    let fingerprint = BASE64_URL_SAFE_NO_PAD.decode(pin).ok()?.try_into().ok()?;
    (!secret.is_empty()).then_some((secret, fingerprint))
}

/// Asks for a certificate for the key in `folder`.
pub(crate) fn request(folder: &Folder) -> anyhow::Result<ConnectionSettingsRequest> {
    let path = folder.key_file();
    let key = std::fs::read_to_string(&path).with_context(|| format!("cannot read {}", path.display()))?;
    let csr = CertificateParams::default().serialize_request(&KeyPair::from_pem(&key)?)?.pem()?.into_bytes();
    let certificate_request = Some(CertificateRequest { csr });
    Ok(ConnectionSettingsRequest { opamp: Some(OpAmpConnectionSettingsRequest { certificate_request }) })
}

/// The certificate in an answer, and whose it is signed by.
pub(crate) fn given(answer: &ServerToAgent) -> Option<TlsCertificate> {
    answer.connection_settings.as_ref()?.opamp.as_ref()?.certificate.clone().filter(|tls| !tls.cert.is_empty())
}

/// What an agent of this program can do.
pub(crate) const CAPABILITIES: u64 = agent_capabilities::REPORTS_STATUS
    | agent_capabilities::ACCEPTS_REMOTE_CONFIG
    | agent_capabilities::REPORTS_EFFECTIVE_CONFIG
    | agent_capabilities::REPORTS_REMOTE_CONFIG
    | agent_capabilities::REPORTS_HEALTH
    | agent_capabilities::REPORTS_HEARTBEAT
    | agent_capabilities::ACCEPTS_OPAMP_CONNECTION_SETTINGS;

/// The bytes of an id.
pub(crate) fn uid(id: &str) -> Vec<u8> {
    (0..id.len() / 2).filter_map(|n| u8::from_str_radix(id.get(2 * n..2 * n + 2)?, 16).ok()).collect()
}

/// Enrols an agent whose data folder is `path`. Where the answer was lost, it may be asked again: key and id stay, so it is no further use of the code.
///
/// # Errors
/// If the centre cannot be reached, is another than the code says, or refuses; or if an agent has enrolled there already.
pub async fn enrol(path: &Path, options: EnrolOptions) -> anyhow::Result<Enrolled> {
    let url = options.url.trim_end_matches('/').to_owned();
    let is_elsewhere = options.elsewhere.is_some();
    anyhow::ensure!(url.starts_with("https://") || is_elsewhere && is_safe(&url), "`{url}` is not an https URL");
    let code = match options.elsewhere {
        Some(_) => None,
        None => Some(parts(&options.code).context("this is not a code: it is made by `rockrose agent code GROUP`, and is pasted whole")?),
    };
    let folder = Folder::make(path)?;
    anyhow::ensure!(
        !folder.settings_file().exists(),
        "an agent has enrolled in {0} already; for another, pass another --data, or remove {0} once what waits there is delivered",
        path.display()
    );
    let identity = match folder.identity()? {
        Some(identity) => identity,
        None => {
            let mut id = [0; 16];
            getrandom::fill(&mut id).map_err(|e| anyhow::anyhow!("no random numbers: {e}"))?;
            folder.write(&folder.key_file(), KeyPair::generate()?.serialize_pem().as_bytes())?;
            let identity = Identity { id: rockrose_service::hex(&id), certificate: 0 };
            folder.keep_identity(&identity)?;
            identity
        }
    };
    let name = options.name.or_else(host_name).context("this host has no name; pass one with --name")?;
    let elsewhere = options.elsewhere.map(|ca| Elsewhere { bearer: Some(options.code.clone()).filter(|bearer| !bearer.is_empty()), ca });
    let settings = AgentSettings {
        centre: url.clone(),
        name,
        allow: options.allow,
        remote_changes: true,
        show_files: !is_elsewhere,
        show_programs: options.show_programs,
        updates: !is_elsewhere,
        labels: options.labels,
        elsewhere,
    };
    let Some((secret, fingerprint)) = code else { return enrol_elsewhere(&folder, &identity, settings).await };
    let pinned = Arc::new(Pinned::new(fingerprint));
    let says = AgentToServer {
        instance_uid: uid(&identity.id),
        agent_description: Some(describe(&identity.id, &settings)),
        capabilities: CAPABILITIES,
        connection_settings_request: Some(request(&folder)?),
        ..AgentToServer::default()
    };
    let answer = Centre::unknown(&url, secret, Arc::clone(&pinned))?.ask(&says).await?;
    if let Some(error) = &answer.error_response {
        anyhow::bail!("the centre refuses: {}", error.error_message);
    }
    let tls = given(&answer).context("the centre gave no certificate")?;
    let authority = pinned.authority().context("the centre showed no authority")?;
    folder.write(&folder.authority_file(), pem(&authority).as_bytes())?;
    folder.write(&folder.certificate_file(1), &tls.cert)?;
    folder.keep_identity(&Identity { certificate: 1, ..identity })?;
    // The last: from here on it has enrolled.
    folder.keep_settings(&settings)?;
    Ok(Enrolled { name: settings.name, folder: path.to_owned(), settings: folder.settings_file() })
}

/// Says to a server of another make who this is; that is all that it asks for.
async fn enrol_elsewhere(folder: &Folder, identity: &Identity, settings: AgentSettings) -> anyhow::Result<Enrolled> {
    let says = AgentToServer {
        instance_uid: uid(&identity.id),
        agent_description: Some(describe(&identity.id, &settings)),
        capabilities: CAPABILITIES & !agent_capabilities::ACCEPTS_OPAMP_CONNECTION_SETTINGS,
        ..AgentToServer::default()
    };
    let elsewhere = settings.elsewhere.clone().unwrap_or_default();
    let answer = Centre::elsewhere(&settings.centre, &elsewhere)?.ask(&says).await?;
    if let Some(error) = &answer.error_response {
        anyhow::bail!("the server refuses: {}", error.error_message);
    }
    folder.keep_settings(&settings)?;
    Ok(Enrolled { name: settings.name, folder: folder.path().to_owned(), settings: folder.settings_file() })
}

/// A certificate as PEM.
fn pem(certificate: &[u8]) -> String {
    let text = base64::prelude::BASE64_STANDARD.encode(certificate);
    let lines: Vec<&str> = text.as_bytes().chunks(64).filter_map(|line| std::str::from_utf8(line).ok()).collect();
    format!("-----BEGIN CERTIFICATE-----\n{}\n-----END CERTIFICATE-----\n", lines.join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_has_a_secret_and_a_fingerprint() {
        let pin = BASE64_URL_SAFE_NO_PAD.encode([7; 32]);
        assert_eq!(parts(&format!("4f02.{pin}")), Some(("4f02", [7; 32])));
        for wrong in ["", "4f02", "4f02.", ".AAAA", "4f02.AAAA", &format!(".{pin}")] {
            assert_eq!(parts(wrong), None, "{wrong}");
        }
        assert_eq!(uid("00ff10"), [0, 255, 16]);
        for (url, safe) in [
            ("https://a.example/v1/opamp", true),
            ("http://127.0.0.1:4320/v1/opamp", true),
            ("http://127.0.0.1.a.example/", false),
            ("http://a.example", false),
            ("http://127.0.0.1:1@a.example/", false),
        ] {
            assert_eq!(is_safe(url), safe, "{url}");
        }
    }
}
