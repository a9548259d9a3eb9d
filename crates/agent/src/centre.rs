//! Asking the centre: OpAMP over HTTPS.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use reqwest::header::{AUTHORIZATION, CONTENT_TYPE};
use rockrose_opamp::{AgentToServer, Message, PATH, ServerToAgent};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore};

use crate::folder::{Elsewhere, Folder, Identity};
use crate::pin::Pinned;

/// How long an answer may take.
const TIMEOUT: Duration = Duration::from_secs(20);
/// Largest answer, in bytes.
const MOST: usize = 8 << 20;
/// How long a program may take to come, and how many bytes it may have.
const FETCH_TIME: Duration = Duration::from_secs(600);
const MOST_PROGRAM: u64 = 1 << 30;

/// Why the centre did not answer, or does not know this agent.
#[derive(Debug, thiserror::Error)]
pub(crate) enum AskError {
    /// It cannot be reached, or is another.
    #[error("the centre cannot be reached: {0}")]
    Unreachable(String),
    /// It does not know this agent, or the code.
    #[error("the centre refuses this agent: {0}")]
    Stranger(String),
    /// It answers with something else.
    #[error("the centre answered {0}")]
    Answered(String),
}

/// The centre, and how it is asked.
pub(crate) struct Centre {
    client: reqwest::Client,
    url: String,
    code: Option<String>,
}

fn client(config: ClientConfig) -> anyhow::Result<reqwest::Client> {
    bounded(reqwest::Client::builder().tls_backend_preconfigured(config))
}

fn bounded(builder: reqwest::ClientBuilder) -> anyhow::Result<reqwest::Client> {
    let client = builder
        // A word each few seconds costs the centre half as much as with frames of HTTP/2.
        .http1_only()
        .timeout(TIMEOUT)
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .user_agent(concat!("rockrose-agent/", env!("CARGO_PKG_VERSION")))
        .build()?;
    Ok(client)
}

fn certificates(path: &Path) -> anyhow::Result<Vec<CertificateDer<'static>>> {
    CertificateDer::pem_file_iter(path).and_then(Iterator::collect).map_err(|e| anyhow::anyhow!("{}: {e}", path.display()))
}

/// Those that are trusted, out of a file.
fn roots(path: &Path) -> anyhow::Result<RootCertStore> {
    let mut roots = RootCertStore::empty();
    for certificate in certificates(path)? {
        roots.add(certificate)?;
    }
    Ok(roots)
}

impl Centre {
    /// The centre as one that knows only its fingerprint meets it, with a code.
    pub(crate) fn unknown(url: &str, code: &str, pinned: Arc<Pinned>) -> anyhow::Result<Centre> {
        let config = ClientConfig::builder().dangerous().with_custom_certificate_verifier(pinned).with_no_client_auth();
        Ok(Centre { client: client(config)?, url: format!("{url}{PATH}"), code: Some(code.to_owned()) })
    }

    /// The centre as an agent that has enrolled meets it.
    pub(crate) fn known(url: &str, folder: &Folder, identity: &Identity) -> anyhow::Result<Centre> {
        let roots = roots(&folder.authority_file())?;
        let key = folder.key_file();
        let key = PrivateKeyDer::from_pem_file(&key).with_context(|| format!("cannot read {}", key.display()))?;
        let own = certificates(&folder.certificate_file(identity.certificate))?;
        let config = ClientConfig::builder().with_root_certificates(roots).with_client_auth_cert(own, key)?;
        Ok(Centre { client: client(config)?, url: format!("{url}{PATH}"), code: None })
    }

    /// A server of another make, whose endpoint is `url`.
    pub(crate) fn elsewhere(url: &str, elsewhere: &Elsewhere) -> anyhow::Result<Centre> {
        let client = match &elsewhere.ca {
            None => bounded(reqwest::Client::builder())?,
            Some(path) => client(ClientConfig::builder().with_root_certificates(roots(path)?).with_no_client_auth())?,
        };
        Ok(Centre { client, url: url.to_owned(), code: elsewhere.bearer.clone() })
    }

    /// Fetches a program into a file, of at most so many bytes.
    ///
    /// # Errors
    /// If the centre does not give it, or it cannot be kept.
    pub(crate) async fn fetch(client: reqwest::Client, url: String, into: PathBuf) -> anyhow::Result<()> {
        use tokio::io::AsyncWriteExt;
        let mut answer = client.get(url).timeout(FETCH_TIME).send().await.map_err(|e| AskError::Unreachable(deepest(&e)))?;
        anyhow::ensure!(answer.status().is_success(), "the centre answered {}", answer.status());
        let mut file = tokio::fs::File::create(&into).await.with_context(|| format!("cannot write {}", into.display()))?;
        let mut size = 0;
        while let Some(piece) = answer.chunk().await.map_err(|e| AskError::Unreachable(deepest(&e)))? {
            size += piece.len() as u64;
            anyhow::ensure!(size <= MOST_PROGRAM, "the program has more than {MOST_PROGRAM} bytes");
            file.write_all(&piece).await?;
        }
        file.sync_all().await?;
        Ok(())
    }

    /// With which it is asked, for what takes longer.
    pub(crate) fn client(&self) -> reqwest::Client {
        self.client.clone()
    }

    /// Says something, and returns what is answered.
    pub(crate) async fn ask(&self, says: &AgentToServer) -> Result<ServerToAgent, AskError> {
        let mut request = self.client.post(&self.url).header(CONTENT_TYPE, rockrose_opamp::CONTENT_TYPE);
        if let Some(code) = &self.code {
            request = request.header(AUTHORIZATION, format!("Bearer {code}"));
        }
        let answer = request.body(says.encode_to_vec()).send().await.map_err(|e| AskError::Unreachable(deepest(&e)))?;
        let status = answer.status();
        let is_message = answer.headers().get(CONTENT_TYPE).is_some_and(|kind| kind.as_bytes().starts_with(rockrose_opamp::CONTENT_TYPE.as_bytes()));
        let body = body(answer).await?;
        if status.is_success() && is_message {
            return ServerToAgent::decode(&*body).map_err(|e| AskError::Answered(format!("{status}, but with something else than a message: {e}")));
        }
        let problem: serde_json::Value = serde_json::from_slice(&body).unwrap_or_default();
        let detail = problem.get("detail").and_then(|detail| detail.as_str()).unwrap_or_default();
        let detail: String = detail.chars().filter(|c| !c.is_control()).take(300).collect();
        if status == reqwest::StatusCode::UNAUTHORIZED {
            return Err(AskError::Stranger(detail));
        }
        Err(AskError::Answered(if detail.is_empty() { status.to_string() } else { format!("{status}: {detail}") }))
    }
}

async fn body(mut answer: reqwest::Response) -> Result<Vec<u8>, AskError> {
    let mut bytes = Vec::new();
    while let Some(chunk) = answer.chunk().await.map_err(|e| AskError::Unreachable(deepest(&e)))? {
        if bytes.len() + chunk.len() > MOST {
            return Err(AskError::Answered(format!("with more than {MOST} bytes")));
        }
        bytes.extend_from_slice(&chunk);
    }
    Ok(bytes)
}

/// The first cause of a failure, in words that say what to do where that is known.
fn deepest(e: &reqwest::Error) -> String {
    if e.is_timeout() {
        return "no answer in time".to_owned();
    }
    let mut cause: &dyn std::error::Error = e;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    let says = cause.to_string();
    if says.contains("UnknownIssuer") {
        return "it shows another certificate than the one that this agent knows: it is another service, or somebody is in between".to_owned();
    }
    if says.contains("not valid for name") || says.contains("NotValidForName") {
        return format!("its certificate is for other names; add the one that is used here to `reached_as` of its source of kind `agents` ({says})");
    }
    says
}
