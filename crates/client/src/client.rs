//! Asks the service.

use std::path::{Path, PathBuf};

use bytes::Bytes;
use reqwest::{Method, RequestBuilder, Response, StatusCode};
use rockrose_api::Problem;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::{Common, Exit, Failure, Outcome, format};

/// The client's settings file.
#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Config {
    address: Option<String>,
    token: Option<String>,
    ca: Option<PathBuf>,
}

fn default_config() -> Option<PathBuf> {
    let base = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).or_else(|| std::env::var_os("HOME").map(|h| Path::new(&h).join(".config")))?;
    Some(base.join("rockrose/client.toml"))
}

fn config(given: Option<&Path>) -> Result<Config, Failure> {
    let path = match given {
        Some(path) => path.to_owned(),
        None => match default_config().filter(|p| p.exists()) {
            Some(path) => path,
            None => return Ok(Config::default()),
        },
    };
    let text = std::fs::read_to_string(&path).map_err(|e| Failure::new(Exit::Failed, format!("cannot read {}: {e}", path.display())))?;
    toml::from_str(&text).map_err(|e| Failure::new(Exit::Failed, format!("{} is not a settings file: {}", path.display(), e.message())))
}

/// The service, as one client sees it.
pub struct Client {
    http: reqwest::Client,
    address: String,
    token: Option<String>,
}

/// What sends requests. On a system without any certificates of authorities it still speaks plain HTTP, and trusts nobody over TLS.
///
/// # Errors
/// If TLS cannot be set up at all.
pub fn http(trusted: &[reqwest::Certificate]) -> reqwest::Result<reqwest::Client> {
    let builder = || reqwest::Client::builder().no_proxy();
    builder().tls_certs_merge(trusted.iter().cloned()).build().or_else(|_| builder().tls_certs_only(trusted.iter().cloned()).build())
}

/// The certificates in a file.
fn certificates(path: &Path) -> Result<Vec<reqwest::Certificate>, Failure> {
    let failed = |e: &dyn std::fmt::Display| Failure::new(Exit::Failed, format!("cannot read certificates from {}: {e}", path.display()));
    let pem = std::fs::read(path).map_err(|e| failed(&e))?;
    reqwest::Certificate::from_pem_bundle(&pem).map_err(|e| failed(&e))
}

impl Client {
    /// Address and token from flags, environment or the settings file, in that order.
    pub fn new(common: &Common) -> Result<Client, Failure> {
        let config = config(common.config.as_deref())?;
        let address = common.address.clone().or(config.address).unwrap_or_else(|| "http://127.0.0.1:8600".to_owned());
        let address = if address.contains("://") { address } else { format!("http://{address}") };
        let trusted = common.ca.clone().or(config.ca).map(|path| certificates(&path)).transpose()?.unwrap_or_default();
        let http = http(&trusted).map_err(anyhow::Error::from)?;
        Ok(Client { http, address: address.trim_end_matches('/').to_owned(), token: common.token.clone().or(config.token) })
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        self.signed(self.http.request(method, format!("{}{path}", self.address)))
    }

    /// The request with the client's token, if it has one.
    fn signed(&self, request: RequestBuilder) -> RequestBuilder {
        match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        }
    }

    /// Sends a request; anything but success is a failure with the service's own words.
    pub async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let answer = request.send().await.map_err(|e| self.unreachable(&e))?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let message = match answer.json::<Problem>().await {
            // The one mistake there is may be the detail itself.
            Ok(problem) if problem.mistakes.len() == 1 && problem.detail.contains(&problem.mistakes[0].message) => problem.detail,
            Ok(problem) => problem.mistakes.iter().fold(problem.detail, |all, m| format!("{all}\n  line {}, column {}: {}", m.line, m.column, m.message)),
            Err(_) => format!("the service answered {status}"),
        };
        let exit = match status {
            StatusCode::UNAUTHORIZED => Exit::NotSignedIn,
            StatusCode::UNPROCESSABLE_ENTITY => Exit::BadPlan,
            _ => Exit::Failed,
        };
        Err(Failure::new(exit, message))
    }

    fn unreachable(&self, e: &reqwest::Error) -> Failure {
        let mut cause: &dyn std::error::Error = e;
        while let Some(deeper) = cause.source() {
            cause = deeper;
        }
        Failure::new(Exit::Unreachable, format!("cannot reach the service at {}: {cause}", self.address))
    }

    async fn answer(&self, request: RequestBuilder) -> Result<Answer, Failure> {
        let bytes = self.send(request).await?.bytes().await.map_err(|e| self.unreachable(&e))?;
        Ok(Answer(bytes))
    }

    /// Asks for what stands at a path.
    pub async fn get(&self, path: &str) -> Result<Answer, Failure> {
        self.answer(self.request(Method::GET, path)).await
    }

    /// Asks for a stream.
    pub async fn stream(&self, path: &str, query: &[(&str, &str)]) -> Result<Response, Failure> {
        let mut url = reqwest::Url::parse(&format!("{}{path}", self.address)).map_err(anyhow::Error::from)?;
        url.query_pairs_mut().extend_pairs(query);
        self.send(self.signed(self.http.get(url))).await
    }

    /// Calls with a body of JSON.
    pub async fn call(&self, method: Method, path: &str, body: &impl Serialize) -> Result<Answer, Failure> {
        self.answer(self.request(method, path).json(body)).await
    }

    /// Calls without a body.
    pub async fn call_bare(&self, method: Method, path: &str) -> Result<Answer, Failure> {
        self.answer(self.request(method, path)).await
    }
}

/// What the service answered, as JSON: printed as it came for a program, read as a type of the API for people.
pub struct Answer(Bytes);

impl Answer {
    /// The answer as what the API says it is.
    ///
    /// # Errors
    /// If it is something else, as from a service of another version.
    pub fn read<T: DeserializeOwned>(&self) -> Result<T, Failure> {
        serde_json::from_slice(&self.0).map_err(|e| Failure::new(Exit::Failed, format!("the service's answer cannot be read: {e}")))
    }

    /// Prints the answer for a program.
    pub fn print(&self) -> Outcome {
        format::print_json(&self.read::<Value>()?)
    }
}
