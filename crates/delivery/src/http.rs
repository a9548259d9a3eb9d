//! Posts JSON lines.

use std::io::Write;
use std::time::Duration;

use reqwest::header::{AUTHORIZATION, CONTENT_ENCODING, CONTENT_TYPE, HeaderValue, RETRY_AFTER};
use reqwest::{Client, StatusCode};

use crate::Failure;

/// How long a connection may take to open.
const CONNECT_TIME: Duration = Duration::from_secs(10);
/// Most of a refusal's text that is kept, in characters.
const MAX_WORDS: usize = 200;
/// Most of a refusal's body that is read, in bytes.
const MAX_ANSWER: usize = 64 << 10;
/// Longest pause a destination may ask for.
const MAX_PAUSE: Duration = Duration::from_secs(3_600);

pub(crate) struct HttpOutlet {
    client: Client,
    endpoints: Vec<String>,
    /// The endpoint that answered last.
    current: usize,
    authorization: Option<HeaderValue>,
    gzip: bool,
    max_batch: usize,
}

impl HttpOutlet {
    pub(crate) fn new(endpoints: Vec<String>, token: Option<&str>, gzip: bool, timeout: Duration, max_batch: usize) -> Result<HttpOutlet, String> {
        let client = Client::builder()
            .timeout(timeout)
            .connect_timeout(CONNECT_TIME.min(timeout))
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .user_agent(concat!("rockrose/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| format!("the HTTP client cannot be set up: {e}"))?;
        let authorization = match token {
            None => None,
            Some(token) => {
                let mut value = HeaderValue::from_str(&format!("Bearer {token}")).map_err(|_| "the token has characters that cannot be sent".to_owned())?;
                value.set_sensitive(true);
                Some(value)
            }
        };
        Ok(HttpOutlet { client, endpoints, current: 0, authorization, gzip, max_batch })
    }

    pub(crate) fn max_batch(&self) -> usize {
        self.max_batch
    }

    pub(crate) async fn send(&mut self, lines: Vec<u8>) -> Result<(), Failure> {
        let body = if self.gzip {
            let packed = tokio::task::spawn_blocking(move || gzip(&lines)).await;
            packed.map_err(|_| later("packing was interrupted"))?.map_err(|e| later(&format!("packing failed: {e}")))?
        } else {
            lines
        };
        let body = bytes::Bytes::from(body);
        let mut last = later("no endpoint is set");
        for turn in 0..self.endpoints.len() {
            let at = (self.current + turn) % self.endpoints.len();
            match self.post(&self.endpoints[at], body.clone()).await {
                // Only an endpoint that cannot be reached passes its turn on; what one says, it says for all.
                Err(Reached::No(why)) => last = later(&why),
                Err(Reached::Yes(failure)) => return Err(failure),
                Ok(()) => {
                    self.current = at;
                    return Ok(());
                }
            }
        }
        Err(last)
    }

    async fn post(&self, endpoint: &str, body: bytes::Bytes) -> Result<(), Reached> {
        let mut request = self.client.post(endpoint).header(CONTENT_TYPE, "application/x-ndjson").body(body);
        if self.gzip {
            request = request.header(CONTENT_ENCODING, "gzip");
        }
        if let Some(value) = &self.authorization {
            request = request.header(AUTHORIZATION, value.clone());
        }
        let answer = request.send().await.map_err(|e| Reached::No(say(&e)))?;
        let status = answer.status();
        if status.is_success() {
            return Ok(());
        }
        let after = answer.headers().get(RETRY_AFTER).and_then(|v| v.to_str().ok()?.trim().parse().ok()).map(|s| Duration::from_secs(s).min(MAX_PAUSE));
        let words = self.words(answer).await;
        let why = if words.is_empty() { format!("answered {status}") } else { format!("answered {status}: {words}") };
        Err(Reached::Yes(match status {
            StatusCode::PAYLOAD_TOO_LARGE => Failure::TooLarge(why),
            StatusCode::BAD_REQUEST | StatusCode::UNSUPPORTED_MEDIA_TYPE | StatusCode::UNPROCESSABLE_ENTITY => Failure::Refused(why),
            _ => Failure::Later { why, after },
        }))
    }

    /// The beginning of what the destination said, on one line, without the token.
    async fn words(&self, mut answer: reqwest::Response) -> String {
        let mut bytes = Vec::new();
        while let Ok(Some(chunk)) = answer.chunk().await {
            bytes.extend_from_slice(&chunk);
            if bytes.len() > MAX_ANSWER {
                break;
            }
        }
        let text = String::from_utf8_lossy(&bytes);
        let token = self.authorization.as_ref().and_then(|v| v.to_str().ok()).and_then(|v| v.strip_prefix("Bearer "));
        let text = match token {
            Some(token) if !token.is_empty() => text.replace(token, "***"),
            _ => text.into_owned(),
        };
        let line: Vec<&str> = text.split_whitespace().collect();
        line.join(" ").chars().filter(|c| !c.is_control()).take(MAX_WORDS).collect()
    }
}

enum Reached {
    No(String),
    Yes(Failure),
}

fn later(why: &str) -> Failure {
    Failure::Later { why: why.to_owned(), after: None }
}

/// What went wrong on the way, down to its cause, without the URL (its query could hold a secret).
fn say(e: &reqwest::Error) -> String {
    let what = if e.is_timeout() {
        "no answer in time"
    } else if e.is_connect() {
        "cannot connect"
    } else {
        "the connection broke"
    };
    let mut cause: &dyn std::error::Error = e;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    let cause = if std::ptr::addr_eq(cause, e) { String::new() } else { format!(": {cause}") };
    format!("{what}{cause}")
}

fn gzip(lines: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::with_capacity(lines.len() / 4), flate2::Compression::fast());
    encoder.write_all(lines)?;
    encoder.finish()
}
