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

use super::{grpc_code, hand_on, response};
use crate::requests::{self, Shared, note, peer};
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

/// Takes a request: who may not send is refused by the headers alone, and the body is read within the source's bounds, before anything is unpacked.
pub(super) async fn export<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    let (head, body) = request.into_parts();
    let from = peer(&head.extensions);
    let mut held = Vec::new();
    let read = async {
        let settings = shared.admit(None, &head.headers, from)?;
        let body = requests::read(body, &head.headers, settings.max_body, &shared.budget.bytes, &mut held).await?;
        let place = shared.place(&settings).await?;
        Ok((settings, place, body))
    };
    let (settings, _place, body) = match read.await {
        Ok(read) => read,
        Err(problem) => {
            let status = refused(&problem);
            note(&shared.monitor, &Err(problem), from);
            return status.into_http();
        }
    };
    // Only so many are unpacked at once. The semaphore is never closed.
    let _unpacking = shared.budget.grpc.acquire().await;
    let mut packed = EnabledCompressionEncodings::default();
    [CompressionEncoding::Gzip, CompressionEncoding::Zstd, CompressionEncoding::Deflate].into_iter().for_each(|encoding| packed.enable(encoding));
    let max = settings.max_unpacked;
    let mut grpc = Grpc::new(Unread).apply_compression_config(packed, EnabledCompressionEncodings::default()).apply_max_message_size_config(Some(max), None);
    let taking = Arc::clone(&shared);
    let take = tower::service_fn(move |request: tonic::Request<Vec<u8>>| {
        let (shared, settings) = (Arc::clone(&taking), Arc::clone(&settings));
        async move {
            let body = request.into_inner();
            let taken = hand_on(&shared, &settings, move |max| super::read(body, false, max)).await;
            note(&shared.monitor, &taken, from);
            taken.map(|receipt| tonic::Response::new(response(&receipt))).map_err(|problem| refused(&problem))
        }
    });
    grpc.unary(take, Request::from_parts(head, Body::from(body))).await.map(Body::new)
}

fn refused(problem: &Problem) -> Status {
    let code: Code = grpc_code(problem.status());
    let mut details = ErrorDetails::new();
    if let Some(seconds) = problem.comes_back_in() {
        details.set_retry_info(Some(Duration::from_secs(u64::from(seconds))));
    }
    Status::with_error_details(code, problem.detail(), details)
}
