//! Posts events: as JSON lines, a JSON array or CloudEvents.

use std::io::Write;
use std::ops::ControlFlow;
use std::time::Duration;

use bytes::Bytes;
use reqwest::header::{AUTHORIZATION, CONTENT_ENCODING, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue, RETRY_AFTER};
use reqwest::{Client, StatusCode};
use rockrose_event::output::{Origin, cloud_events, json_array};
use rockrose_otlp::{Message, to_request};
use rockrose_plan::{BodyForm, Compression, TlsFiles};

use crate::{Failure, Taken, deepest, now_ms, one_line, otlp, tls};

/// How long a connection may take to open.
pub(crate) const CONNECT_TIME: Duration = Duration::from_secs(10);
/// Most of a refusal's text that is kept, in characters.
const MAX_WORDS: usize = 200;
/// Most of a refusal's body that is read, in bytes.
pub(crate) const MAX_ANSWER: usize = 64 << 10;
/// Longest pause a destination may ask for.
pub(crate) const MAX_PAUSE: Duration = Duration::from_secs(3_600);

/// What bodies in protobuf are.
const PROTOBUF: &str = "application/x-protobuf";

/// Where events are posted, and how. Never printed: it holds secrets.
#[derive(Clone, PartialEq, Eq)]
pub struct HttpSettings {
    /// URLs, best first.
    pub endpoints: Vec<String>,
    /// Each is used in turn, not only the first that answers.
    pub in_turn: bool,
    /// How events are written.
    pub form: BodyForm,
    /// The value of the `Authorization` header.
    pub authorization: Option<String>,
    /// Further headers.
    pub headers: Vec<(String, String)>,
    /// How bodies are compressed.
    pub compression: Compression,
    /// Certificates, for https.
    pub tls: TlsFiles,
    /// How long an answer may take.
    pub timeout: Duration,
    /// Largest body in bytes, before compression.
    pub max_batch: usize,
    /// What CloudEvents name as their source.
    pub node: String,
}

impl HttpSettings {
    /// JSON lines as gzip to one URL.
    #[must_use]
    pub fn new(endpoint: &str) -> HttpSettings {
        HttpSettings {
            endpoints: vec![endpoint.to_owned()],
            in_turn: false,
            form: BodyForm::JsonLines,
            authorization: None,
            headers: Vec::new(),
            compression: Compression::Gzip,
            tls: TlsFiles::default(),
            timeout: Duration::from_secs(30),
            max_batch: 1_000_000,
            node: "urn:rockrose".to_owned(),
        }
    }

    /// What must not show wherever its words are shown.
    fn secrets(&self) -> impl Iterator<Item = &str> {
        let authorization = self.authorization.iter().flat_map(|a| [Some(a.as_str()), a.split_once(' ').map(|(_, secret)| secret)]).flatten();
        authorization.chain(self.headers.iter().map(|(_, value)| value.as_str())).filter(|s| s.len() > 3)
    }

    /// What the destination said, on one line, without secrets.
    pub(crate) fn words(&self, said: &[u8]) -> String {
        one_line(&String::from_utf8_lossy(said), self.secrets(), MAX_WORDS)
    }
}

pub(crate) struct HttpOutlet {
    client: Client,
    settings: HttpSettings,
    headers: HeaderMap,
    turns: Turns,
}

/// Which of several endpoints is asked.
#[derive(Clone, Copy)]
pub(crate) struct Turns {
    /// The one that is tried first.
    current: usize,
    count: usize,
    /// Each is used in turn, not only the first that answers.
    in_turn: bool,
}

impl Turns {
    pub(crate) fn new(settings: &HttpSettings) -> Turns {
        Turns { current: 0, count: settings.endpoints.len(), in_turn: settings.in_turn }
    }

    /// Their places, the one that is tried first first.
    pub(crate) fn order(self) -> impl Iterator<Item = usize> {
        (0..self.count).map(move |turn| (self.current + turn) % self.count)
    }

    /// What follows from what the one at this place said: that is what is said for all, unless it could not be reached and passes its turn on.
    pub(crate) fn answered(&mut self, at: usize, said: Result<Taken, Reached>) -> ControlFlow<Result<Taken, Failure>, Failure> {
        match said {
            Err(Reached::No(why)) => ControlFlow::Continue(Failure::later(why)),
            Err(Reached::Yes(failure)) => ControlFlow::Break(Err(failure)),
            Ok(taken) => {
                self.current = if self.in_turn { (at + 1) % self.count } else { at };
                ControlFlow::Break(Ok(taken))
            }
        }
    }
}

impl HttpOutlet {
    pub(crate) fn new(settings: HttpSettings) -> Result<HttpOutlet, String> {
        let client = Client::builder()
            .tls_backend_preconfigured(tls::config(&settings.tls)?)
            .timeout(settings.timeout)
            .connect_timeout(CONNECT_TIME.min(settings.timeout))
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .user_agent(concat!("rockrose/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| format!("the HTTP client cannot be set up: {e}"))?;
        let mut headers = HeaderMap::new();
        let secret = |text: &str, what: &str| {
            let mut value = HeaderValue::from_str(text).map_err(|_| format!("{what} has characters that cannot be sent"))?;
            value.set_sensitive(true);
            Ok::<_, String>(value)
        };
        for (name, value) in &settings.headers {
            let known = HeaderName::from_bytes(name.as_bytes()).map_err(|_| format!("`{name}` cannot name a header"))?;
            headers.append(known, secret(value, &format!("the header `{name}`"))?);
        }
        if let Some(authorization) = &settings.authorization {
            headers.insert(AUTHORIZATION, secret(authorization, "the token")?);
        }
        let form = match settings.form {
            BodyForm::JsonLines => "application/x-ndjson",
            BodyForm::JsonArray => "application/json",
            BodyForm::CloudEvents => "application/cloudevents-batch+json",
            BodyForm::Otlp => PROTOBUF,
            BodyForm::OtlpJson => "application/json",
        };
        headers.insert(CONTENT_TYPE, HeaderValue::from_static(form));
        match settings.compression {
            Compression::Plain => None,
            Compression::Gzip => headers.insert(CONTENT_ENCODING, HeaderValue::from_static("gzip")),
            Compression::Zstd => headers.insert(CONTENT_ENCODING, HeaderValue::from_static("zstd")),
        };
        Ok(HttpOutlet { client, turns: Turns::new(&settings), settings, headers })
    }

    pub(crate) fn max_batch(&self) -> usize {
        self.settings.max_batch
    }

    pub(crate) async fn send(&mut self, lines: Bytes, origins: Vec<Origin>) -> Result<Taken, Failure> {
        let events = origins.len();
        let (form, compression, node) = (self.settings.form, self.settings.compression, self.settings.node.clone());
        // What goes as it is needs no work.
        let body = if form == BodyForm::JsonLines && compression == Compression::Plain {
            lines
        } else {
            let written = tokio::task::spawn_blocking(move || pack(write(lines, &origins, form, &node), compression)).await;
            written.map_err(|_| Failure::later("compression was interrupted"))?.map_err(|e| Failure::later(format!("compression failed: {e}")))?
        };
        let mut last = Failure::later("no endpoint is set");
        for at in self.turns.order() {
            let said = self.post(&self.settings.endpoints[at], body.clone(), events).await;
            match self.turns.answered(at, said) {
                ControlFlow::Break(done) => return done,
                ControlFlow::Continue(why) => last = why,
            }
        }
        Err(last)
    }

    async fn post(&self, endpoint: &str, body: Bytes, events: usize) -> Result<Taken, Reached> {
        let request = self.client.post(endpoint).headers(self.headers.clone()).body(body);
        let answer = request.send().await.map_err(|e| Reached::No(say(&e)))?;
        let status = answer.status();
        let after = answer.headers().get(RETRY_AFTER).and_then(|v| v.to_str().ok()?.trim().parse().ok()).map(|s| Duration::from_secs(s).min(MAX_PAUSE));
        let protobuf = answer.headers().get(CONTENT_TYPE).is_some_and(|v| v.as_bytes().starts_with(PROTOBUF.as_bytes()));
        let said = self.said(answer).await;
        if status.is_success() {
            // An answer that breaks off is an answer that was lost.
            let said = said.map_err(Reached::No)?;
            if !protobuf && says_no(&said) {
                return Err(Reached::Yes(Failure::Later { why: format!("answered {status}, but says: {}", self.settings.words(&said)), after }));
            }
            if !matches!(self.settings.form, BodyForm::Otlp | BodyForm::OtlpJson) {
                return Ok(Taken::all());
            }
            let no_answer = || Reached::Yes(Failure::Later { why: format!("answered {status}, but what it says is no OTLP answer"), after });
            let response = otlp::read_answer(&said, !protobuf).ok_or_else(no_answer)?;
            return otlp::taken(response, events, |m| self.settings.words(m.as_bytes())).map_err(Reached::Yes);
        }
        let mut said = said.unwrap_or_default();
        if protobuf && let Some(message) = otlp::status_message(&said) {
            said = message.into_bytes();
        }
        let words = self.settings.words(&said);
        let why = if words.is_empty() { format!("answered {status}") } else { format!("answered {status}: {words}") };
        Err(Reached::Yes(match status {
            StatusCode::PAYLOAD_TOO_LARGE => Failure::TooLarge(why),
            StatusCode::BAD_REQUEST | StatusCode::UNSUPPORTED_MEDIA_TYPE | StatusCode::UNPROCESSABLE_ENTITY => Failure::Refused(why),
            _ => Failure::Later { why, after },
        }))
    }

    /// The beginning of an answer's body.
    async fn said(&self, mut answer: reqwest::Response) -> Result<Vec<u8>, String> {
        let mut bytes = Vec::new();
        while bytes.len() <= MAX_ANSWER {
            match answer.chunk().await {
                Ok(Some(chunk)) => bytes.extend_from_slice(&chunk),
                Ok(None) => break,
                Err(e) => return Err(say(&e)),
            }
        }
        Ok(bytes)
    }
}

/// Whether an answer that is good by its number says in its body that something was not taken: a JSON object whose `error` or `errors` at the top is not empty.
fn says_no(said: &[u8]) -> bool {
    let Ok(serde_json::Value::Object(said)) = serde_json::from_slice(said) else { return false };
    ["error", "errors"].iter().any(|name| match said.get(*name) {
        None | Some(serde_json::Value::Null | serde_json::Value::Bool(false)) => false,
        Some(serde_json::Value::String(text)) => !text.is_empty(),
        Some(serde_json::Value::Array(list)) => !list.is_empty(),
        Some(serde_json::Value::Object(object)) => !object.is_empty(),
        Some(serde_json::Value::Number(n)) => n.as_f64() != Some(0.0),
        Some(serde_json::Value::Bool(true)) => true,
    })
}

fn write(lines: Bytes, origins: &[Origin], form: BodyForm, node: &str) -> Bytes {
    let mut out = Vec::new();
    match form {
        BodyForm::JsonLines => return lines,
        BodyForm::JsonArray => json_array(&lines, &mut out),
        BodyForm::CloudEvents => cloud_events(&lines, origins, node, &mut out),
        BodyForm::Otlp => return to_request(&lines, now_ms()).encode_to_vec().into(),
        BodyForm::OtlpJson => return serde_json::to_vec(&to_request(&lines, now_ms())).unwrap_or_default().into(),
    }
    out.into()
}

fn pack(body: Bytes, compression: Compression) -> std::io::Result<Bytes> {
    match compression {
        Compression::Plain => Ok(body),
        Compression::Gzip => gzip(&body).map(Bytes::from),
        Compression::Zstd => zstd::bulk::compress(&body, 1).map(Bytes::from),
    }
}

pub(crate) enum Reached {
    /// It could not be reached, or what it says was lost; another may be tried.
    No(String),
    /// It has answered.
    Yes(Failure),
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
    let cause = deepest(e);
    let cause = if std::ptr::addr_eq(cause, e) { String::new() } else { format!(": {cause}") };
    format!("{what}{cause}")
}

fn gzip(lines: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::with_capacity(lines.len() / 4), flate2::Compression::fast());
    encoder.write_all(lines)?;
    encoder.finish()
}
