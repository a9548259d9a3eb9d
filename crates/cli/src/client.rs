//! Asks the service.

use std::path::{Path, PathBuf};

use reqwest::{Method, RequestBuilder, Response, StatusCode};
use serde::Deserialize;
use serde_json::Value;

use crate::{Common, Exit, Failure};

/// The client's settings file.
#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Config {
    address: Option<String>,
    token: Option<String>,
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
    toml::from_str(&text).map_err(|e| Failure::new(Exit::Failed, format!("{} is not a client's settings: {}", path.display(), e.message())))
}

/// The service, as one client sees it.
pub(crate) struct Client {
    http: reqwest::Client,
    address: String,
    token: Option<String>,
}

impl Client {
    /// Address and token from flags, environment or the settings file, in that order.
    pub(crate) fn new(common: &Common) -> Result<Client, Failure> {
        let config = config(common.config.as_deref())?;
        let address = common.address.clone().or(config.address).unwrap_or_else(|| "http://127.0.0.1:8600".to_owned());
        let address = if address.contains("://") { address } else { format!("http://{address}") };
        let http = reqwest::Client::builder().no_proxy().build().map_err(anyhow::Error::from)?;
        Ok(Client { http, address: address.trim_end_matches('/').to_owned(), token: common.token.clone().or(config.token) })
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}{path}", self.address));
        match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        }
    }

    /// Sends a request; anything but success is a failure with the service's own words.
    pub(crate) async fn send(&self, request: RequestBuilder) -> Result<Response, Failure> {
        let answer = request.send().await.map_err(|e| self.unreachable(&e))?;
        if answer.status().is_success() {
            return Ok(answer);
        }
        let status = answer.status();
        let problem: Value = answer.json().await.unwrap_or_default();
        let mut message = problem["detail"].as_str().map_or_else(|| format!("the service answered {status}"), str::to_owned);
        for mistake in problem["mistakes"].as_array().into_iter().flatten() {
            message.push_str(&format!("\n  line {}, column {}: {}", mistake["line"], mistake["column"], mistake["message"].as_str().unwrap_or_default()));
        }
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

    /// Asks for JSON.
    pub(crate) async fn get(&self, path: &str) -> Result<Value, Failure> {
        let answer = self.send(self.request(Method::GET, path)).await?;
        answer.json().await.map_err(|e| self.unreachable(&e))
    }

    /// Asks for a stream.
    pub(crate) async fn stream(&self, path: &str, query: &[(&str, &str)]) -> Result<Response, Failure> {
        let mut url = reqwest::Url::parse(&format!("{}{path}", self.address)).map_err(anyhow::Error::from)?;
        url.query_pairs_mut().extend_pairs(query);
        let request = self.http.get(url);
        let request = match &self.token {
            Some(token) => request.bearer_auth(token),
            None => request,
        };
        self.send(request).await
    }

    /// Sends JSON and reads JSON; an empty answer is null.
    pub(crate) async fn call(&self, method: Method, path: &str, body: Option<&Value>) -> Result<Value, Failure> {
        let request = self.request(method, path);
        let request = match body {
            Some(body) => request.json(body),
            None => request,
        };
        let bytes = self.send(request).await?.bytes().await.map_err(|e| self.unreachable(&e))?;
        if bytes.is_empty() {
            return Ok(Value::Null);
        }
        serde_json::from_slice(&bytes).map_err(|e| Failure::new(Exit::Failed, format!("the service's answer cannot be read: {e}")))
    }
}
