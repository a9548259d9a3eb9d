//! Serves HTTP/1.1 and HTTP/2 on a listener; requests whose headers come too slowly are cut off, and so is who sends nothing.

use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::AtomicUsize;
use std::task::{Context, Poll};
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes, HttpBody};
use axum::response::Response;
use hyper::body::{Frame, SizeHint};
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::server::graceful::GracefulShutdown;
use tokio_util::sync::CancellationToken;
use tower::ServiceExt;

use crate::kinds::{Start, Transport};
use crate::places::Busy;
use crate::requests::Shared;
use crate::spoken::{SpokenProtocol, may_become_http};
use crate::{BoundedListener, Peer, SenderFault, Sink, SourceMonitor};

/// How long a connection may be silent at first.
const FIRST_BYTE: Duration = Duration::from_secs(20);
/// How long a request's headers may take to arrive, and a connection wait for the next request.
const HEADER_TIME: Duration = Duration::from_secs(60);
/// How often a silent HTTP/2 connection is asked whether it is still there.
const STILL_THERE: Duration = Duration::from_secs(30);
/// Most requests at once over one HTTP/2 connection.
const STREAMS: u32 = 64;

/// The protocols that are offered while a connection is made safe.
pub(crate) const ALPN: &[&[u8]] = &[b"h2", b"http/1.1"];

/// Serves a source with what `router` makes until it is to stop, then finishes what is under way.
pub(crate) async fn run<S: Sink>(Start { settings, transport, sink, budget, monitor, stop }: Start<S>, router: impl FnOnce(Arc<Shared<S>>) -> Router) {
    let Transport::Streams(listener) = transport else { return };
    let router = router(Arc::new(Shared { settings, sink, budget, monitor: Arc::clone(&monitor), under_way: AtomicUsize::new(0) }));
    serve(listener, router, Some(monitor), stop).await;
}

/// Serves `router` until it is to stop, then finishes what is under way. What senders speak other than HTTP is told to `monitor`.
pub async fn serve(mut listener: BoundedListener, router: Router, monitor: Option<Arc<SourceMonitor>>, stop: CancellationToken) {
    let mut builder = Builder::new(TokioExecutor::new());
    builder.http1().timer(TokioTimer::new()).header_read_timeout(HEADER_TIME);
    builder.http2().timer(TokioTimer::new()).keep_alive_interval(STILL_THERE).max_concurrent_streams(STREAMS);
    let ending = GracefulShutdown::new();
    loop {
        let (connection, address) = tokio::select! {
            () = stop.cancelled() => break,
            next = listener.next() => next,
        };
        let router = router.clone();
        let activity = Arc::clone(connection.activity());
        let shown = connection.certificate();
        let service = hyper::service::service_fn(move |mut request: hyper::Request<hyper::body::Incoming>| {
            request.extensions_mut().insert(Peer(address));
            if let Some(shown) = shown {
                request.extensions_mut().insert(shown);
            }
            // Until the last of the answer has gone.
            let busy = Busy::new(&activity);
            let answer = router.clone().oneshot(request);
            async move { answer.await.map(|answer: Response| answer.map(|body| Body::new(Held { body, _busy: busy }))) }
        });
        let (began, beginning, monitor) = (connection.began(), Arc::clone(connection.activity()), monitor.clone());
        let serving = ending.watch(builder.serve_connection_with_upgrades(TokioIo::new(connection), service).into_owned());
        tokio::spawn(async move {
            let mut serving = std::pin::pin!(serving);
            let served = tokio::select! {
                served = &mut serving => served,
                () = tokio::time::sleep(FIRST_BYTE) => if beginning.is_silent() { return } else { serving.await },
            };
            // A sender that breaks off has no one to tell; one that does not speak HTTP has somebody to be told of.
            if served.is_err()
                && let Some(monitor) = monitor
            {
                let first = began.bytes();
                match SpokenProtocol::of(&first) {
                    Some(SpokenProtocol::Http) => {}
                    None if may_become_http(&first) => {}
                    Some(SpokenProtocol::Tls) => monitor.wrong(SenderFault::Tls, "a sender used TLS on a plain HTTP port", Some(address.ip())),
                    Some(other) => monitor.wrong(SenderFault::Format, format!("a sender sent {} to an HTTP port", other.word()), Some(address.ip())),
                    None => monitor.wrong(SenderFault::Format, "a sender sent something other than HTTP", Some(address.ip())),
                }
            }
        });
    }
    drop(listener);
    ending.shutdown().await;
}

/// The name by which a request asks for a host, without a port and in small letters.
#[must_use]
pub fn host_of<B>(request: &hyper::Request<B>) -> Option<String> {
    let header = || request.headers().get(axum::http::header::HOST).map(|value| value.to_str().unwrap_or("?"));
    request.uri().authority().map(axum::http::uri::Authority::as_str).or_else(header).map(host_name)
}

/// What stands before the port of `host:port`.
pub(crate) fn host_name(written: &str) -> String {
    let end = match written.rfind(']') {
        Some(bracket) => bracket + 1,
        None => written.rfind(':').unwrap_or(written.len()),
    };
    written[..end].trim_end_matches('.').to_ascii_lowercase()
}

/// Whether `name` is this machine by itself: `localhost`, or an address, which no page of another site can have lead here.
#[must_use]
pub fn is_plain_host(name: &str) -> bool {
    let address = name.strip_prefix('[').and_then(|n| n.strip_suffix(']')).unwrap_or(name);
    name == "localhost" || name.ends_with(".localhost") || address.parse::<std::net::IpAddr>().is_ok()
}

/// The body of an answer; its request counts as worked on until it is sent.
struct Held {
    body: Body,
    _busy: Busy,
}

impl HttpBody for Held {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, axum::Error>>> {
        Pin::new(&mut self.body).poll_frame(cx)
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> SizeHint {
        self.body.size_hint()
    }
}
