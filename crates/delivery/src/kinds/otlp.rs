//! OTLP log records over gRPC. Over HTTP they are posted like other bodies.

use std::ops::ControlFlow;
use std::time::Duration;

use futures_util::future::BoxFuture;
use hyper_util::rt::TokioIo;
use rockrose_otlp::collector::ExportLogsServiceRequest;
use rockrose_otlp::collector::logs_service_client::LogsServiceClient;
use rockrose_otlp::{records, to_request};
use rockrose_plan::Compression;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tonic::codec::CompressionEncoding;
use tonic::metadata::{AsciiMetadataKey, AsciiMetadataValue, MetadataMap};
use tonic::transport::{Channel, Endpoint, Uri};
use tonic::{Code, Status};
use tonic_types::StatusExt;

use super::endpoint::{CONNECT_TIME, EndpointError, EndpointRotation, HttpSettings, MAX_ANSWER, MAX_PAUSE, parts};
use super::otlp_answer::taken;
use crate::kind::{Failure, Kind, Limits, OpenError, Outgoing, Outlet, Taken, all_written, arrivals, deepest};
use crate::probe::Probe;
use crate::tls;

trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<T: AsyncRead + AsyncWrite + Send + Unpin> Stream for T {}

/// OTLP over gRPC, to these endpoints.
#[derive(Clone, PartialEq, Eq)]
pub struct GrpcSettings(pub HttpSettings);

impl Kind for GrpcSettings {
    fn limits(&self) -> Limits<'_> {
        Limits { max_batch: self.0.max_batch, parallel: true, gathers: None, file: None }
    }

    fn open(&self, _reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Ok(Box::new(GrpcOutlet::new(self.0.clone())?))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(probe.endpoints(&self.0, |one| GrpcSettings(one).open(None)))
    }
}

struct GrpcOutlet {
    settings: HttpSettings,
    metadata: MetadataMap,
    /// One for each endpoint; they connect when they are first used.
    clients: Vec<LogsServiceClient<Channel>>,
    turns: EndpointRotation,
}

impl Outlet for GrpcOutlet {
    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(self.try_send(events))
    }
}

impl GrpcOutlet {
    fn new(settings: HttpSettings) -> Result<GrpcOutlet, OpenError> {
        // What is wrong with the files is told at once.
        tls::config(&settings.tls)?;
        let mut metadata = MetadataMap::new();
        let secret = |text: &str, what: &str| {
            let mut value = AsciiMetadataValue::try_from(text).map_err(|_| OpenError::HeaderValue(what.to_owned()))?;
            value.set_sensitive(true);
            Ok::<_, OpenError>(value)
        };
        for (name, value) in &settings.headers {
            let known = AsciiMetadataKey::from_bytes(name.to_ascii_lowercase().as_bytes()).map_err(|_| OpenError::HeaderName(name.clone()))?;
            metadata.append(known, secret(value, &format!("the header `{name}`"))?);
        }
        if let Some(authorization) = &settings.authorization {
            metadata.insert("authorization", secret(authorization, "the token")?);
        }
        let clients = settings.endpoints.iter().map(|endpoint| client(endpoint, &settings)).collect::<Result<_, _>>()?;
        Ok(GrpcOutlet { turns: EndpointRotation::new(&settings), settings, metadata, clients })
    }

    async fn try_send(&mut self, Outgoing { lines, events, origins, .. }: Outgoing<'_>) -> Result<Taken, Failure> {
        let arrived = arrivals(&origins());
        let written = tokio::task::spawn_blocking(move || to_request(&lines, &arrived)).await;
        let request = written.map_err(|_| Failure::later("writing was interrupted"))?;
        all_written(records(&request), events)?;
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

    async fn export(&mut self, at: usize, request: ExportLogsServiceRequest, events: usize) -> Result<Taken, EndpointError> {
        let mut asked = tonic::Request::new(request);
        *asked.metadata_mut() = self.metadata.clone();
        let answered = tokio::time::timeout(self.settings.timeout, self.clients[at].export(asked)).await;
        let answered = answered.map_err(|_| EndpointError::Unreachable("no answer in time".to_owned()))?;
        match answered {
            Ok(response) => taken(response.into_inner(), events, |m| self.settings.words(m.as_bytes())).map_err(EndpointError::Answered),
            Err(status) => Err(self.failed(&status)),
        }
    }

    fn failed(&self, status: &Status) -> EndpointError {
        // What the transport says stands in the cause.
        if let Some(cause) = std::error::Error::source(status) {
            let cause = deepest(cause).to_string();
            return EndpointError::Unreachable(format!("cannot connect, or the connection broke: {}", self.settings.words(cause.as_bytes())));
        }
        let words = self.settings.words(status.message().as_bytes());
        let why = format!("answered {}{}", code(status.code()), if words.is_empty() { String::new() } else { format!(": {words}") });
        let after = status.get_details_retry_info().and_then(|info| info.retry_delay).map(|delay| delay.min(MAX_PAUSE));
        EndpointError::Answered(match status.code() {
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

fn client(endpoint: &str, settings: &HttpSettings) -> Result<LogsServiceClient<Channel>, OpenError> {
    let (secure, host, port) = parts(endpoint).ok_or_else(|| OpenError::Url(endpoint.to_owned()))?;
    let uri: Uri = endpoint.parse().map_err(|_| OpenError::Url(endpoint.to_owned()))?;
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
        .user_agent(agent)?
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
