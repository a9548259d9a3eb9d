//! The one method over gRPC. Its requests are taken as they were sent, and read as those over HTTP are: so a record that cannot be read harms no other.

use std::sync::Arc;
use std::time::Duration;

use axum::body::Body;
use axum::extract::{Request, State};
use axum::response::Response;
use hyper::body::Buf;
use rockrose_otlp::Message;
use rockrose_otlp::collector::ExportLogsServiceResponse;
use tonic::codec::{Codec, CompressionEncoding, DecodeBuf, Decoder, EnabledCompressionEncodings, EncodeBuf, Encoder};
use tonic::server::Grpc;
use tonic::{Code, Status};
use tonic_types::{ErrorDetails, StatusExt};

use super::{grpc_code, hand_on, read, response};
use crate::requests::{Shared, note};
use crate::{Problem, Sink};

/// Requests as their bytes, answers in protobuf.
#[derive(Clone, Copy, Default)]
struct Unread;

impl Codec for Unread {
    type Encode = ExportLogsServiceResponse;
    type Decode = Vec<u8>;
    type Encoder = Unread;
    type Decoder = Unread;

    fn encoder(&mut self) -> Unread {
        Unread
    }

    fn decoder(&mut self) -> Unread {
        Unread
    }
}

impl Encoder for Unread {
    type Item = ExportLogsServiceResponse;
    type Error = Status;

    fn encode(&mut self, item: Self::Item, out: &mut EncodeBuf<'_>) -> Result<(), Status> {
        item.encode(out).map_err(|e| Status::internal(e.to_string()))
    }
}

impl Decoder for Unread {
    type Item = Vec<u8>;
    type Error = Status;

    fn decode(&mut self, from: &mut DecodeBuf<'_>) -> Result<Option<Vec<u8>>, Status> {
        let mut bytes = rockrose_event::buffers::take(from.remaining());
        while from.has_remaining() {
            let chunk = from.chunk();
            bytes.extend_from_slice(chunk);
            let taken = chunk.len();
            from.advance(taken);
        }
        Ok(Some(bytes))
    }
}

pub(super) async fn export<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    // Only so many are read at once: their bodies are whole in memory before they are looked at. The semaphore is never closed.
    let place = Arc::clone(&shared);
    let _place = place.budget.grpc.acquire().await;
    let mut packed = EnabledCompressionEncodings::default();
    [CompressionEncoding::Gzip, CompressionEncoding::Zstd, CompressionEncoding::Deflate].into_iter().for_each(|encoding| packed.enable(encoding));
    let max = shared.settings.load().max_unpacked;
    let mut grpc = Grpc::new(Unread).apply_compression_config(packed, EnabledCompressionEncodings::default()).apply_max_message_size_config(Some(max), None);
    let take = tower::service_fn(move |request: tonic::Request<Vec<u8>>| {
        let shared = Arc::clone(&shared);
        async move { take(&shared, request).await }
    });
    grpc.unary(take, request).await.map(Body::new)
}

async fn take<S: Sink>(shared: &Shared<S>, request: tonic::Request<Vec<u8>>) -> Result<tonic::Response<ExportLogsServiceResponse>, Status> {
    let (about, extensions, body) = request.into_parts();
    let from = extensions.get::<crate::Peer>().map(|p| p.0.ip());
    let taken = async {
        let (settings, _place) = shared.admit(None, &about.into_headers())?;
        hand_on(shared, &settings, move |max| read(body, false, max)).await
    };
    let taken = taken.await;
    note(&shared.monitor, &taken, from);
    taken.map(|receipt| tonic::Response::new(response(&receipt))).map_err(|problem| refused(&problem))
}

fn refused(problem: &Problem) -> Status {
    let code: Code = grpc_code(problem.status());
    let mut details = ErrorDetails::new();
    if let Some(seconds) = problem.comes_back_in() {
        details.set_retry_info(Some(Duration::from_secs(u64::from(seconds))));
    }
    Status::with_error_details(code, problem.detail(), details)
}
