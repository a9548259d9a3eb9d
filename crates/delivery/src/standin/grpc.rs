//! OTLP log records over gRPC.

use std::sync::Arc;

use rockrose_otlp::collector::logs_service_server::{LogsService, LogsServiceServer};
use rockrose_otlp::collector::{ExportLogsServiceRequest, ExportLogsServiceResponse};
use rockrose_otlp::to_lines;
use tokio::net::TcpListener;
use tonic::codec::CompressionEncoding;
use tonic::transport::Server;
use tonic::transport::server::TcpIncoming;
use tonic::{Request, Response, Status};

use super::{Mood, REFUSAL, Shared, TOO_MUCH, hang};

/// Largest request, in bytes.
const MAX_REQUEST: usize = 128 << 20;

struct Records(Arc<Shared>);

#[tonic::async_trait]
impl LogsService for Records {
    async fn export(&self, request: Request<ExportLogsServiceRequest>) -> Result<Response<ExportLogsServiceResponse>, Status> {
        let shared = &self.0;
        match shared.mood() {
            Mood::Well => {}
            Mood::Slow(time) => tokio::time::sleep(time).await,
            Mood::Refusing => return Err(Status::invalid_argument(REFUSAL)),
            Mood::Failing => return Err(Status::unavailable("not now")),
            Mood::Hanging => hang().await,
            // As one that goes away while it works.
            Mood::Closing => return Err(Status::aborted("closing")),
        }
        let shown = request.metadata().get("authorization").and_then(|v| v.to_str().ok());
        if shared.settings.token.as_ref().is_some_and(|token| shown != Some(&format!("Bearer {token}"))) {
            return Err(Status::unauthenticated("wrong token"));
        }
        let lines = to_lines(request.get_ref(), MAX_REQUEST).map_err(|e| Status::out_of_range(e.to_string()))?;
        if shared.refuses(&lines) {
            return Err(Status::invalid_argument(REFUSAL));
        }
        let events = memchr::memchr_iter(b'\n', &lines).count();
        if shared.is_too_much(events) {
            return Err(Status::resource_exhausted(TOO_MUCH));
        }
        shared.keep(events, &lines).map_err(|_| Status::unavailable("cannot keep it"))?;
        Ok(Response::new(ExportLogsServiceResponse::default()))
    }
}

pub(super) async fn serve(shared: Arc<Shared>, listener: TcpListener, stop: impl Future<Output = ()> + Send + 'static) -> std::io::Result<()> {
    let service = LogsServiceServer::new(Records(shared)).max_decoding_message_size(MAX_REQUEST);
    let service = service.accept_compressed(CompressionEncoding::Gzip).accept_compressed(CompressionEncoding::Zstd);
    Server::builder().add_service(service).serve_with_incoming_shutdown(TcpIncoming::from(listener), stop).await.map_err(std::io::Error::other)
}
