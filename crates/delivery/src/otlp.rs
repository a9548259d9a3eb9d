//! OTLP log records: what a receiver answers, and the way over gRPC. Over HTTP they are posted like other bodies.

use std::ops::ControlFlow;
use std::time::Duration;

use bytes::Bytes;
use hyper_util::rt::TokioIo;
use rockrose_otlp::collector::logs_service_client::LogsServiceClient;
use rockrose_otlp::collector::{ExportLogsServiceRequest, ExportLogsServiceResponse};
use rockrose_otlp::{Message, to_request};
use rockrose_plan::Compression;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tonic::codec::CompressionEncoding;
use tonic::metadata::{AsciiMetadataKey, AsciiMetadataValue, MetadataMap};
use tonic::transport::{Channel, Endpoint, Uri};
use tonic::{Code, Status};
use tonic_types::StatusExt;

use crate::http::{CONNECT_TIME, HttpSettings, MAX_ANSWER, MAX_PAUSE, Reached, Turns};
use crate::probe::parts;
use crate::{Failure, Taken, deepest, now_ms, tls};

/// What a receiver that took `events` of them says of that.
pub(crate) fn taken(response: ExportLogsServiceResponse, events: usize, words: impl Fn(&str) -> String) -> Result<Taken, Failure> {
    let Some(partial) = response.partial_success else { return Ok(Taken::all()) };
    let refused = usize::try_from(partial.rejected_log_records).unwrap_or(0);
    let why = words(&partial.error_message);
    let why = if why.is_empty() { "it does not say why".to_owned() } else { why };
    match refused {
        0 => Ok(Taken::all()),
        // Nothing was taken, so fewer can be tried without sending any twice.
        all if all >= events => Err(Failure::Refused(why)),
        some => Ok(Taken { refused: Some((some as u64, why)), ..Taken::all() }),
    }
}

/// Reads the answer to a body that was posted; `None` if it is none.
pub(crate) fn read_answer(said: &[u8], json: bool) -> Option<ExportLogsServiceResponse> {
    if !json {
        return ExportLogsServiceResponse::decode(said).ok();
    }
    if said.is_empty() {
        return Some(ExportLogsServiceResponse::default());
    }
    let said: serde_json::Value = serde_json::from_slice(said).ok()?;
    said.as_object()?;
    let mut response = ExportLogsServiceResponse::default();
    if let Some(partial) = said.get("partialSuccess").or_else(|| said.get("partial_success")).and_then(|p| p.as_object()) {
        let of = |names: [&str; 2]| names.iter().find_map(|n| partial.get(*n));
        let rejected = of(["rejectedLogRecords", "rejected_log_records"]);
        let rejected = rejected.and_then(|n| n.as_i64().or_else(|| n.as_str()?.parse().ok())).unwrap_or(0);
        let message = of(["errorMessage", "error_message"]).and_then(|m| m.as_str()).unwrap_or_default();
        response.partial_success =
            Some(rockrose_otlp::collector::ExportLogsPartialSuccess { rejected_log_records: rejected, error_message: message.to_owned() });
    }
    Some(response)
}

/// The message of a refusal that is written in protobuf.
pub(crate) fn status_message(said: &[u8]) -> Option<String> {
    tonic_types::Status::decode(said).ok().map(|status| status.message)
}

trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Stream for T {}

pub(crate) struct GrpcOutlet {
    settings: HttpSettings,
    metadata: MetadataMap,
    /// One for each endpoint; they connect when they are first used.
    clients: Vec<LogsServiceClient<Channel>>,
    turns: Turns,
}

impl GrpcOutlet {
    pub(crate) fn new(settings: HttpSettings) -> Result<GrpcOutlet, String> {
        // What is wrong with the files is told at once.
        tls::config(&settings.tls)?;
        let mut metadata = MetadataMap::new();
        let secret = |text: &str, what: &str| {
            let mut value = AsciiMetadataValue::try_from(text).map_err(|_| format!("{what} has characters that cannot be sent"))?;
            value.set_sensitive(true);
            Ok::<_, String>(value)
        };
        for (name, value) in &settings.headers {
            let known = AsciiMetadataKey::from_bytes(name.to_ascii_lowercase().as_bytes()).map_err(|_| format!("`{name}` cannot name a header"))?;
            metadata.append(known, secret(value, &format!("the header `{name}`"))?);
        }
        if let Some(authorization) = &settings.authorization {
            metadata.insert("authorization", secret(authorization, "the token")?);
        }
        let clients = settings.endpoints.iter().map(|endpoint| client(endpoint, &settings)).collect::<Result<_, _>>()?;
        Ok(GrpcOutlet { turns: Turns::new(&settings), settings, metadata, clients })
    }

    pub(crate) fn max_batch(&self) -> usize {
        self.settings.max_batch
    }

    pub(crate) async fn send(&mut self, lines: Bytes, events: usize) -> Result<Taken, Failure> {
        let written = tokio::task::spawn_blocking(move || to_request(&lines, now_ms())).await;
        let request = written.map_err(|_| Failure::later("writing was interrupted"))?;
        let mut last = Failure::later("no endpoint is set");
        for at in self.turns.order() {
            let said = self.export(at, request.clone(), events).await;
            match self.turns.answered(at, said) {
                ControlFlow::Break(done) => return done,
                ControlFlow::Continue(why) => last = why,
            }
        }
        Err(last)
    }

    async fn export(&mut self, at: usize, request: ExportLogsServiceRequest, events: usize) -> Result<Taken, Reached> {
        let mut asked = tonic::Request::new(request);
        *asked.metadata_mut() = self.metadata.clone();
        let answered = tokio::time::timeout(self.settings.timeout, self.clients[at].export(asked)).await;
        let answered = answered.map_err(|_| Reached::No("no answer in time".to_owned()))?;
        match answered {
            Ok(response) => taken(response.into_inner(), events, |m| self.settings.words(m.as_bytes())).map_err(Reached::Yes),
            Err(status) => Err(self.failed(&status)),
        }
    }

    fn failed(&self, status: &Status) -> Reached {
        // What the transport says stands in the cause.
        if let Some(cause) = std::error::Error::source(status) {
            let cause = deepest(cause).to_string();
            return Reached::No(format!("cannot connect, or the connection broke: {}", self.settings.words(cause.as_bytes())));
        }
        let words = self.settings.words(status.message().as_bytes());
        let why = format!("answered {}{}", code(status.code()), if words.is_empty() { String::new() } else { format!(": {words}") });
        let after = status.get_details_retry_info().and_then(|info| info.retry_delay).map(|delay| delay.min(MAX_PAUSE));
        Reached::Yes(match status.code() {
            Code::InvalidArgument => Failure::Refused(why),
            // Both are said of messages that are too large, but not only of those.
            Code::ResourceExhausted | Code::OutOfRange
                if after.is_none() && ["larger", "too large", "exceeds"].iter().any(|w| status.message().contains(w)) =>
            {
                Failure::TooLarge(why)
            }
            _ => Failure::Later { why, after },
        })
    }
}

/// A status code as the protocol names it.
fn code(code: Code) -> String {
    let name = format!("{code:?}");
    let mut out = String::new();
    for c in name.chars() {
        if c.is_ascii_uppercase() && !out.is_empty() {
            out.push('_');
        }
        out.push(c.to_ascii_uppercase());
    }
    out
}

fn client(endpoint: &str, settings: &HttpSettings) -> Result<LogsServiceClient<Channel>, String> {
    let (secure, host, port) = parts(endpoint).ok_or_else(|| format!("`{endpoint}` is no URL"))?;
    let uri: Uri = endpoint.parse().map_err(|_| format!("`{endpoint}` is no URL"))?;
    let files = settings.tls.clone();
    let connect = tower::service_fn(move |_: Uri| {
        let (host, files) = (host.clone(), files.clone());
        async move {
            let stream = TcpStream::connect((host.as_str(), port)).await?;
            stream.set_nodelay(true)?;
            let stream: Box<dyn Stream> =
                if secure { Box::new(tls::secure_for(&files, &host, stream, &[b"h2"]).await.map_err(std::io::Error::other)?) } else { Box::new(stream) };
            Ok::<_, std::io::Error>(TokioIo::new(stream))
        }
    });
    let agent = concat!("rockrose/", env!("CARGO_PKG_VERSION"));
    let channel = Endpoint::from(uri)
        .user_agent(agent)
        .map_err(|e| e.to_string())?
        .connect_timeout(CONNECT_TIME.min(settings.timeout))
        .http2_keep_alive_interval(Duration::from_secs(30))
        .connect_with_connector_lazy(connect);
    let client = LogsServiceClient::new(channel).max_decoding_message_size(MAX_ANSWER);
    Ok(match settings.compression {
        Compression::Plain => client,
        Compression::Gzip => client.send_compressed(CompressionEncoding::Gzip),
        Compression::Zstd => client.send_compressed(CompressionEncoding::Zstd),
    })
}
