//! Posts events: as JSON lines, a JSON array or CloudEvents.

use std::io::Write;
use std::ops::ControlFlow;
use std::time::Duration;

use bytes::Bytes;
use futures_util::future::BoxFuture;
use reqwest::header::{AUTHORIZATION, CONTENT_ENCODING, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue, RETRY_AFTER};
use reqwest::{Client, StatusCode, Url};
use rockrose_event::output::{Origin, QueuePlace, Stretch, cloud_events, json_array};
use rockrose_otlp::{Message, records, to_request};
use rockrose_plan::{BodyForm, Compression};

use super::endpoint::{CONNECT_TIME, EndpointError, EndpointRotation, HttpSettings, MAX_ANSWER, MAX_PAUSE};
use super::{otlp_answer, signature};
use crate::kind::{Failure, Kind, Limits, OpenError, Outgoing, Outlet, Taken, all_written, arrivals, deepest};
use crate::probe::Probe;
use crate::tls;

/// What bodies in protobuf are.
const PROTOBUF: &str = "application/x-protobuf";

struct HttpOutlet {
    client: Client,
    settings: HttpSettings,
    headers: HeaderMap,
    turns: EndpointRotation,
}

impl Kind for HttpSettings {
    fn limits(&self) -> Limits<'_> {
        Limits { max_batch: self.max_batch, parallel: true, gathers: None, file: None }
    }

    fn open(&self, _reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Ok(Box::new(HttpOutlet::new(self.clone())?))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(probe.endpoints(self, |one| one.open(None)))
    }
}

impl Outlet for HttpOutlet {
    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(self.try_send(events))
    }
}

impl HttpOutlet {
    fn new(settings: HttpSettings) -> Result<HttpOutlet, OpenError> {
        let client = Client::builder()
            .tls_backend_preconfigured(tls::config(&settings.tls)?)
            .timeout(settings.timeout)
            .connect_timeout(CONNECT_TIME.min(settings.timeout))
            .redirect(reqwest::redirect::Policy::none())
            .no_proxy()
            .user_agent(concat!("rockrose/", env!("CARGO_PKG_VERSION")))
            .build()?;
        let mut headers = HeaderMap::new();
        let secret = |text: &str, what: &str| {
            let mut value = HeaderValue::from_str(text).map_err(|_| OpenError::HeaderValue(what.to_owned()))?;
            value.set_sensitive(true);
            Ok::<_, OpenError>(value)
        };
        for (name, value) in &settings.headers {
            let known = HeaderName::from_bytes(name.as_bytes()).map_err(|_| OpenError::HeaderName(name.clone()))?;
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
        Ok(HttpOutlet { client, turns: EndpointRotation::new(&settings), settings, headers })
    }

    async fn try_send(&mut self, Outgoing { lines, frames, events, origins }: Outgoing<'_>) -> Result<Taken, Failure> {
        let (form, compression) = (self.settings.form, self.settings.compression);
        // What is at hand in the very form need not be packed again. Not everybody reads on behind the first of several frames; who knows of stretches does.
        let fits = |frames: &&[Bytes]| frames.len() == 1 || self.settings.numbered.is_some();
        let packed = frames.filter(|_| form == BodyForm::JsonLines && compression == Compression::Zstd).filter(fits).map(joined);
        let body = match packed {
            Some(packed) => packed,
            None if matches!(form, BodyForm::JsonLines | BodyForm::JsonArray) => self.written(lines.clone(), events, Vec::new()).await?,
            None => self.written(lines.clone(), events, origins()).await?,
        };
        if let Some(queue) = self.settings.numbered.clone() {
            return self.send_numbered(&queue, lines, body, &origins()).await;
        }
        let mut last = Failure::later("no endpoint is set");
        for at in self.turns.order() {
            let said = self.post(&self.settings.endpoints[at], body.clone(), events, None).await;
            match self.turns.answered(at, said) {
                ControlFlow::Break(done) => return done,
                ControlFlow::Continue(why) => last = why,
            }
        }
        Err(last)
    }

    /// So many events as a body, in the form and with the compression that are set.
    async fn written(&self, lines: Bytes, events: usize, origins: Vec<Origin>) -> Result<Bytes, Failure> {
        let (form, compression, node) = (self.settings.form, self.settings.compression, self.settings.node.clone());
        // What goes as it is needs no work.
        if form == BodyForm::JsonLines && compression == Compression::Plain {
            return Ok(lines);
        }
        let written = tokio::task::spawn_blocking(move || {
            let body = write(lines, events, &origins, form, &node)?;
            pack(body, compression).map_err(|e| Failure::later(format!("compression failed: {e}")))
        });
        written.await.map_err(|_| Failure::later("writing was interrupted"))?
    }

    /// Sends JSON lines, of which `body` is made, with the stretch of the queue that they are. What the other end has of them already, since its answer was lost, is not sent again.
    async fn send_numbered(&mut self, queue: &str, lines: Bytes, body: Bytes, origins: &[Origin]) -> Result<Taken, Failure> {
        let mut last = Failure::later("no endpoint is set");
        for at in self.turns.order() {
            let endpoint = self.settings.endpoints[at].clone();
            let mut said = self.post_stretch(&endpoint, queue, body.clone(), origins).await;
            if let Err(EndpointError::Has(place)) = &said {
                let had = origins.iter().take_while(|origin| QueuePlace::of(origin) <= *place).count();
                if had > 0 && had < origins.len() {
                    let begin = memchr::memchr_iter(b'\n', &lines).nth(had - 1).map_or(lines.len(), |end| end + 1);
                    let rest = self.written(lines.slice(begin..), origins.len() - had, Vec::new()).await?;
                    said = self.post_stretch(&endpoint, queue, rest, &origins[had..]).await;
                }
            }
            match self.turns.answered(at, said) {
                ControlFlow::Break(done) => return done,
                ControlFlow::Continue(why) => last = why,
            }
        }
        Err(last)
    }

    async fn post_stretch(&self, endpoint: &str, queue: &str, body: Bytes, origins: &[Origin]) -> Result<Taken, EndpointError> {
        let (Some(first), Some(end)) = (origins.first(), origins.last()) else { return Ok(Taken::all()) };
        let stretch = Stretch { queue: queue.to_owned(), first: QueuePlace::of(first), last: QueuePlace::of(end) };
        self.post(endpoint, body, origins.len(), Some(&stretch)).await
    }

    async fn post(&self, endpoint: &str, body: Bytes, events: usize, stretch: Option<&Stretch>) -> Result<Taken, EndpointError> {
        let mut request = self.client.post(endpoint).headers(self.headers.clone());
        if let Some(stretch) = stretch {
            request = request.header(Stretch::HEADER, stretch.to_string());
        }
        if let (Some(key), Ok(url)) = (&self.settings.sign, Url::parse(endpoint)) {
            let signed = signature::headers(key.as_bytes(), &url, &body, jiff::Timestamp::now().as_second());
            request = signed.into_iter().fold(request, |request, (name, value)| request.header(name, value));
        }
        let request = request.body(body);
        let answer = request.send().await.map_err(|e| EndpointError::Unreachable(say(&e)))?;
        let status = answer.status();
        let after = answer.headers().get(RETRY_AFTER).and_then(|v| v.to_str().ok()?.trim().parse().ok()).map(|s| Duration::from_secs(s).min(MAX_PAUSE));
        let protobuf = answer.headers().get(CONTENT_TYPE).is_some_and(|v| v.as_bytes().starts_with(PROTOBUF.as_bytes()));
        let has = answer.headers().get(QueuePlace::HEADER).and_then(|value| value.to_str().ok()?.parse().ok());
        if let (StatusCode::CONFLICT, Some(place), Some(_)) = (status, has, stretch) {
            return Err(EndpointError::Has(place));
        }
        let said = self.said(answer).await;
        if status.is_success() {
            // An answer that breaks off is an answer that was lost.
            let said = said.map_err(|e| EndpointError::Unreachable(say(&e)))?;
            if !protobuf && says_no(&said) {
                return Err(EndpointError::Answered(Failure::Later { why: format!("answered {status}, but says: {}", self.settings.words(&said)), after }));
            }
            if !matches!(self.settings.form, BodyForm::Otlp | BodyForm::OtlpJson) {
                return Ok(Taken::all());
            }
            let no_answer =
                || EndpointError::Answered(Failure::Later { why: format!("answered {status}, but with something other than an OTLP response"), after });
            let response = otlp_answer::read_answer(&said, !protobuf).ok_or_else(no_answer)?;
            return otlp_answer::taken(response, events, |m| self.settings.words(m.as_bytes())).map_err(EndpointError::Answered);
        }
        let mut said = said.unwrap_or_default();
        if protobuf && let Some(message) = otlp_answer::status_message(&said) {
            said = message.into_bytes();
        }
        let words = self.settings.words(&said);
        let why = if words.is_empty() { format!("answered {status}") } else { format!("answered {status}: {words}") };
        Err(EndpointError::Answered(match status {
            StatusCode::PAYLOAD_TOO_LARGE => Failure::TooLarge(why),
            StatusCode::BAD_REQUEST | StatusCode::UNSUPPORTED_MEDIA_TYPE | StatusCode::UNPROCESSABLE_ENTITY => Failure::Refused(why),
            _ => Failure::Later { why, after },
        }))
    }

    /// The beginning of an answer's body.
    async fn said(&self, mut answer: reqwest::Response) -> Result<Vec<u8>, reqwest::Error> {
        let mut bytes = Vec::new();
        while bytes.len() <= MAX_ANSWER {
            match answer.chunk().await? {
                Some(chunk) => bytes.extend_from_slice(&chunk),
                None => break,
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

/// So many events as a body of one form.
fn write(lines: Bytes, events: usize, origins: &[Origin], form: BodyForm, node: &str) -> Result<Bytes, Failure> {
    let mut out = Vec::new();
    let written = match form {
        BodyForm::JsonLines => return Ok(lines),
        BodyForm::JsonArray => json_array(&lines, &mut out),
        BodyForm::CloudEvents => cloud_events(&lines, origins, node, &mut out),
        BodyForm::Otlp | BodyForm::OtlpJson => {
            let request = to_request(&lines, &arrivals(origins));
            out = match form {
                BodyForm::Otlp => request.encode_to_vec(),
                _ => serde_json::to_vec(&request).map_err(|e| Failure::Refused(format!("it cannot be written as JSON: {e}")))?,
            };
            records(&request)
        }
    };
    all_written(written, events)?;
    Ok(out.into())
}

/// Frames, one behind the other.
fn joined(frames: &[Bytes]) -> Bytes {
    match frames {
        [one] => one.clone(),
        several => several.concat().into(),
    }
}

fn pack(body: Bytes, compression: Compression) -> std::io::Result<Bytes> {
    match compression {
        Compression::Plain => Ok(body),
        Compression::Gzip => gzip(&body).map(Bytes::from),
        Compression::Zstd => zstd::bulk::compress(&body, 1).map(Bytes::from),
    }
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
