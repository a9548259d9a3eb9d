//! The OTLP source: log records over gRPC, and over HTTP in protobuf or JSON, all at one address.

mod grpc;

use std::net::IpAddr;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::post;
use rockrose_event::buffers;
use rockrose_event::record::{DeclaredFormat, is_blank};
use rockrose_otlp::collector::{ExportLogsPartialSuccess, ExportLogsServiceResponse};
use rockrose_otlp::{JsonError, Lines, Message, NotLines, lines_of, lines_of_json};
use rockrose_plan::OtlpSource;
use tonic::{Code, Status};

use super::{Endpoint, Kind, PasteLine, Start};
use crate::probe::Probe;
use crate::requests::{Shared, content_type, note, peer, too_large, with_body};
use crate::{BodyMetadata, Problem, Receipt, SenderFault, Sink, SourceMonitor, SourceSettings, host};

/// The path of the one method over gRPC.
const EXPORT: &str = "/opentelemetry.proto.collector.logs.v1.LogsService/Export";
const PROTOBUF: &str = "application/x-protobuf";

impl Kind for OtlpSource {
    const ALPN: &'static [&'static [u8]] = host::ALPN;

    async fn run<S: Sink>(self, start: Start<S>) {
        host::run(start, router).await;
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        // A request without records is no event.
        probe.ask("POST", "/v1/logs", "{\"resourceLogs\":[]}", "200").await;
    }

    fn paste_lines(&self, at: &Endpoint) -> Vec<PasteLine> {
        let line = |with, protocol: &str| {
            let (url, key) = (at.url(), at.key(" OTEL_EXPORTER_OTLP_HEADERS='authorization=Bearer%20KEY'"));
            PasteLine::new(with, format!("export OTEL_LOGS_EXPORTER=otlp OTEL_EXPORTER_OTLP_PROTOCOL={protocol} OTEL_EXPORTER_OTLP_ENDPOINT={url}{key}"))
        };
        vec![line("an OpenTelemetry SDK, gRPC", "grpc"), line("an OpenTelemetry SDK, HTTP", "http/protobuf")]
    }

    fn remedy(&self, what: SenderFault) -> Option<&'static str> {
        (what == SenderFault::Format).then_some("send logs as OTLP, over gRPC or to `/v1/logs`; other JSON and lines go to a source of kind `http`")
    }
}

fn router<S: Sink>(shared: Arc<Shared<S>>) -> Router {
    let grpc = Router::new().route(EXPORT, post(grpc::export::<S>)).with_state(Arc::clone(&shared));
    let monitor = Arc::clone(&shared.monitor);
    Router::new()
        .route("/v1/logs", post(take::<S>))
        .with_state(shared)
        .merge(grpc)
        .fallback(move |request: Request| elsewhere(Arc::clone(&monitor), request))
        .method_not_allowed_fallback(|| async {
            Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method-not-allowed", "Method not allowed", "log records must be sent with POST")
        })
}

/// What comes to another path: perhaps another signal, of which it is to be told that nobody takes it here.
async fn elsewhere(monitor: Arc<SourceMonitor>, request: Request) -> Response {
    let path = request.uri().path();
    let says = match path {
        "/v1/traces" | "/v1/metrics" | "/v1development/profiles" => format!("`{path}` was posted to; only logs are accepted here"),
        _ if path.starts_with("/opentelemetry.proto.collector.") => "another signal than logs was sent; only logs are accepted here".to_owned(),
        _ => "log records must be posted to `/v1/logs`".to_owned(),
    };
    monitor.wrong(SenderFault::Format, says.clone(), peer(request.extensions()));
    if request.headers().get(header::CONTENT_TYPE).is_some_and(|v| v.as_bytes().starts_with(b"application/grpc")) {
        return Status::unimplemented(says).into_http::<Body>();
    }
    Problem::not_found(&says).into_response()
}

/// A body that is no request.
fn not_otlp(why: impl Into<String>) -> Problem {
    Problem::new(StatusCode::BAD_REQUEST, "not-otlp", "Not an OTLP request", why)
}

/// Hands records on as events. `read` makes lines of them, of so many bytes at the most, where blocking is allowed.
async fn hand_on<S: Sink>(
    shared: &Shared<S>,
    settings: &SourceSettings,
    read: impl FnOnce(usize) -> Result<Lines, Problem> + Send + 'static,
) -> Result<Receipt, Problem> {
    let max = settings.max_unpacked;
    let lines = tokio::task::spawn_blocking(move || read(max));
    let Lines { text, unreadable } = lines.await.map_err(|_| Problem::internal("the records could not be read"))??;
    if text.is_empty() {
        return Ok(Receipt::default());
    }
    let with = BodyMetadata { unreadable, ..BodyMetadata::default() };
    shared.sink.accept(&settings.name, Arc::new(text.into()), DeclaredFormat::Lines, with).await.map_err(Problem::from)
}

/// The records of a request as lines.
fn read(body: Vec<u8>, json: bool, max: usize) -> Result<Lines, Problem> {
    let lines = if json && is_blank(&body) {
        Ok(Lines::default())
    } else if json {
        lines_of_json(&body, max).map_err(|e| match e {
            JsonError::TooLong(e) => too_large(e.to_string()),
            e => not_otlp(e.to_string()),
        })
    } else {
        lines_of(&body, max).map_err(|e| match e {
            NotLines::Broken(e) => not_otlp(e.to_string()),
            NotLines::TooLong(e) => too_large(e.to_string()),
        })
    };
    buffers::leave(body);
    lines
}

/// What is answered to a request that was taken: with what of it could not be read.
fn response(receipt: &Receipt) -> ExportLogsServiceResponse {
    let refused = (receipt.quarantined > 0).then(|| ExportLogsPartialSuccess {
        rejected_log_records: i64::try_from(receipt.quarantined).unwrap_or(i64::MAX),
        error_message: receipt.unreadable.first().map(|u| u.reason.clone()).unwrap_or_default(),
    });
    ExportLogsServiceResponse { partial_success: refused }
}

async fn take<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    let (head, body) = request.into_parts();
    let from = peer(&head.extensions);
    let kind = content_type(&head.headers);
    let json = kind == "application/json";
    let taken = if json || kind == PROTOBUF {
        try_take(&shared, &head.headers, from, body, json).await
    } else {
        let detail = "log records are sent as `application/x-protobuf` or `application/json`";
        Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "not-otlp", "Not an OTLP request", detail))
    };
    note(&shared.monitor, &taken, from);
    match taken {
        Ok(receipt) if json => axum::Json(response(&receipt)).into_response(),
        Ok(receipt) => ([(header::CONTENT_TYPE, PROTOBUF)], response(&receipt).encode_to_vec()).into_response(),
        Err(problem) => refusal(&problem, json),
    }
}

async fn try_take<S: Sink>(shared: &Shared<S>, headers: &HeaderMap, from: Option<IpAddr>, body: Body, json: bool) -> Result<Receipt, Problem> {
    let settings = shared.admit(None, headers, from)?;
    with_body(shared, &settings, headers, body, async |body| hand_on(shared, &settings, move |max| read(body, json, max)).await).await
}

/// A refusal as the protocol has it: a status, written as the request was.
fn refusal(problem: &Problem, json: bool) -> Response {
    let code = grpc_code(problem.status());
    let status = tonic_types::Status { code: code as i32, message: problem.detail().to_owned(), details: Vec::new() };
    let mut answer = if json {
        (problem.status(), axum::Json(serde_json::json!({ "code": status.code, "message": status.message }))).into_response()
    } else {
        (problem.status(), [(header::CONTENT_TYPE, PROTOBUF)], status.encode_to_vec()).into_response()
    };
    if let Some(seconds) = problem.comes_back_in() {
        answer.headers_mut().insert(header::RETRY_AFTER, seconds.into());
    }
    answer
}

fn grpc_code(status: StatusCode) -> Code {
    match status {
        StatusCode::UNAUTHORIZED => Code::Unauthenticated,
        StatusCode::FORBIDDEN => Code::PermissionDenied,
        StatusCode::PAYLOAD_TOO_LARGE => Code::ResourceExhausted,
        StatusCode::SERVICE_UNAVAILABLE | StatusCode::REQUEST_TIMEOUT | StatusCode::TOO_MANY_REQUESTS => Code::Unavailable,
        s if s.is_client_error() => Code::InvalidArgument,
        _ => Code::Internal,
    }
}
