//! OTLP log records over HTTP and gRPC, to receivers made from the protocol's own definitions, and to the stand-in.

use std::sync::{Arc, Mutex};

use axum::body::Bytes;
use axum::http::{HeaderMap, StatusCode};
use axum::response::IntoResponse;
use rockrose_otlp::Message;
use rockrose_otlp::collector::logs_service_server::{LogsService, LogsServiceServer};
use rockrose_otlp::collector::{ExportLogsPartialSuccess, ExportLogsServiceRequest, ExportLogsServiceResponse};
use rockrose_plan::BodyForm;
use tonic::codec::CompressionEncoding;
use tonic::metadata::MetadataMap;
use tonic::transport::server::TcpIncoming;
use tonic_types::{ErrorDetails, StatusExt};

use super::*;
use crate::tests::certificates::make;

/// What a receiver says to a request.
type DeclaredFormat = fn(u32, &[i64]) -> Result<ExportLogsServiceResponse, tonic::Status>;

struct Receiver {
    says: DeclaredFormat,
    seen: Seen,
}

/// The numbers of the events in a request.
fn numbers(request: &ExportLogsServiceRequest) -> Vec<i64> {
    let records = request.resource_logs.iter().flat_map(|r| &r.scope_logs).flat_map(|s| &s.log_records);
    let number = |attributes: &[_]| -> i64 {
        let text = format!("{attributes:?}");
        text.split("IntValue(").nth(1).and_then(|rest| rest.split(')').next()?.parse().ok()).unwrap_or(-1)
    };
    records.map(|r| number(&r.attributes.iter().filter(|a| a.key == "n").collect::<Vec<_>>())).collect()
}

#[tonic::async_trait]
impl LogsService for Receiver {
    async fn export(&self, request: tonic::Request<ExportLogsServiceRequest>) -> Result<tonic::Response<ExportLogsServiceResponse>, tonic::Status> {
        let (about, _, request) = request.into_parts();
        let numbers = numbers(&request);
        let count = self.seen.lock().unwrap().len() as u32;
        let answer = (self.says)(count, &numbers);
        let kept = if answer.is_ok() { numbers } else { Vec::new() };
        self.seen.lock().unwrap().push((about, kept));
        answer.map(tonic::Response::new)
    }
}

type Seen = Arc<Mutex<Vec<(MetadataMap, Vec<i64>)>>>;

async fn receiver(says: DeclaredFormat) -> (SocketAddr, Seen) {
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let (address, seen) = (listener.local_addr().unwrap(), Seen::default());
    let service = LogsServiceServer::new(Receiver { says, seen: Arc::clone(&seen) });
    let service = service.accept_compressed(CompressionEncoding::Gzip).accept_compressed(CompressionEncoding::Zstd);
    tokio::spawn(tonic::transport::Server::builder().add_service(service).serve_with_incoming(TcpIncoming::from(listener)));
    (address, seen)
}

fn grpc(address: SocketAddr) -> HttpSettings {
    HttpSettings {
        authorization: Some("Bearer sandpiper".into()),
        headers: vec![("X-Team".into(), "quays".into())],
        timeout: Duration::from_secs(2),
        max_batch: 2_000,
        ..HttpSettings::new(&format!("http://{address}"))
    }
}

fn all(seen: &Seen) -> Vec<i64> {
    seen.lock().unwrap().iter().flat_map(|(_, n)| n.clone()).collect()
}

fn fine(_: u32, _: &[i64]) -> Result<ExportLogsServiceResponse, tonic::Status> {
    Ok(ExportLogsServiceResponse::default())
}

fn partly(refused: i64, why: &str) -> Result<ExportLogsServiceResponse, tonic::Status> {
    Ok(ExportLogsServiceResponse { partial_success: Some(ExportLogsPartialSuccess { rejected_log_records: refused, error_message: why.into() }) })
}

/// Delivers `events` numbered events; returns what the worker's health was last.
async fn delivered(p: &Place, kind: Target, events: u32) -> Health {
    queue(&p.spool, "d", &numbered(0..events)).await;
    let w = worker(p, kind);
    until("it is drained", || drained(&p.spool, "d")).await;
    until("it is healthy", || w.health().get().state == State::Healthy).await;
    let health = w.health().get();
    w.stop(Duration::from_secs(5)).await;
    health
}

#[tokio::test]
async fn grpc_delivers_everything_once_with_what_is_shown() {
    for compression in [Compression::Plain, Compression::Gzip, Compression::Zstd] {
        let p = place();
        let (address, seen) = receiver(fine).await;
        delivered(&p, GrpcSettings(HttpSettings { compression, ..grpc(address) }).into(), 500).await;
        assert_eq!(all(&seen), (0..500).collect::<Vec<i64>>(), "{compression:?}");
        let seen = seen.lock().unwrap();
        assert!(seen.len() > 1);
        assert!(seen[0].0.get("authorization").unwrap() == "Bearer sandpiper" && seen[0].0.get("x-team").unwrap() == "quays");
    }
}

#[tokio::test]
async fn a_refusal_over_grpc_is_halved_until_one_is_left() {
    let p = place();
    let (address, seen) = receiver(|_, n| if n.contains(&37) { Err(tonic::Status::invalid_argument("no sandpiper here")) } else { fine(0, n) }).await;
    delivered(&p, GrpcSettings(grpc(address)).into(), 100).await;
    assert_eq!(all(&seen), (0..100).filter(|n| *n != 37).collect::<Vec<i64>>());
    let aside = p.spool.quarantined(10).await.unwrap();
    assert_eq!((aside.len(), &aside[0].data[..], aside[0].reason.as_str()), (1, &b"{\"n\":37}"[..], "answered INVALID_ARGUMENT: no *** here"));
}

#[tokio::test]
async fn a_pause_that_is_asked_for_over_grpc_is_kept() {
    let p = place();
    let says: DeclaredFormat = |count, n| {
        let mut details = ErrorDetails::new();
        details.set_retry_info(Some(Duration::from_millis(900)));
        if count == 0 { Err(tonic::Status::with_error_details(tonic::Code::Unavailable, "busy", details)) } else { fine(0, n) }
    };
    let (address, seen) = receiver(says).await;
    let begun = Instant::now();
    let health = delivered(&p, GrpcSettings(grpc(address)).into(), 3).await;
    assert!(begun.elapsed() >= Duration::from_millis(900), "{:?}", begun.elapsed());
    assert_eq!((all(&seen), health.last_error.unwrap().as_str()), (vec![0, 1, 2], "answered UNAVAILABLE: busy"));
}

#[tokio::test]
async fn too_large_a_request_over_grpc_is_halved() {
    let p = place();
    let (address, seen) =
        receiver(|_, n| if n.len() > 40 { Err(tonic::Status::resource_exhausted("received message larger than max")) } else { fine(0, n) }).await;
    delivered(&p, GrpcSettings(grpc(address)).into(), 100).await;
    assert_eq!(all(&seen), (0..100).collect::<Vec<i64>>());
    assert!(p.spool.quarantined(1).await.unwrap().is_empty());
}

#[tokio::test]
async fn what_was_refused_without_saying_which_is_counted_and_never_sent_twice() {
    let p = place();
    let (address, seen) = receiver(|_, _| partly(3, "three were too old")).await;
    let health = delivered(&p, GrpcSettings(grpc(address)).into(), 100).await;
    assert_eq!(all(&seen), (0..100).collect::<Vec<i64>>());
    assert_eq!(health.last_error.unwrap(), "three were too old");
    let aside = p.spool.quarantined(10).await.unwrap();
    assert_eq!(aside.len(), 1);
    assert_eq!(aside[0].reason, "of these 100 events 3 were refused, it does not say which: three were too old");
    assert_eq!(aside[0].data.split(|b| *b == b'\n').filter(|l| !l.is_empty()).count(), 100);
    // The account knows of three.
    let ledger = p.spool.ledger(None, None).await.unwrap();
    let of = |measure| ledger.iter().filter(|r| r.account.measure == measure).map(|r| r.amount.events).sum::<i64>();
    assert_eq!((of(rockrose_ledger::Measure::Delivered), of(rockrose_ledger::Measure::Quarantined)), (97, 3));
    // The 97 must not be sent again.
    assert_eq!(p.spool.refused(rockrose_spool::Refused::default(), 10, 1 << 20).await.unwrap(), []);
}

#[tokio::test]
async fn a_batch_refused_whole_is_halved_and_a_warning_is_no_refusal() {
    let p = place();
    let (address, seen) = receiver(|_, n| if n.contains(&5) { partly(n.len() as i64, "not 5") } else { partly(0, "slow down, please") }).await;
    delivered(&p, GrpcSettings(grpc(address)).into(), 10).await;
    let mut taken = all(&seen);
    taken.dedup();
    assert!((0..10).all(|n| taken.contains(&n)));
    let aside = p.spool.quarantined(10).await.unwrap();
    assert_eq!((aside.len(), &aside[0].data[..], aside[0].reason.as_str()), (1, &b"{\"n\":5}"[..], "not 5"));
}

#[tokio::test]
async fn grpc_that_is_down_hangs_or_is_something_else_is_tried_again() {
    let p = place();
    // Nobody is there; then something that is no gRPC; then one that never answers; then one that does.
    let address = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let w = worker(&p, GrpcSettings(HttpSettings { timeout: Duration::from_millis(300), ..grpc(address) }));
    queue(&p.spool, "d", &numbered(0..10)).await;
    until("nobody is there", || w.health().get().last_error.is_some_and(|e| e.contains("Connection refused"))).await;
    let (_, other) = stand_in(standin::StandIn::default(), &address.to_string()).await;
    until("it speaks something else", || w.health().get().last_error.is_some_and(|e| !e.contains("Connection refused"))).await;
    other.cancel();
    tokio::time::sleep(Duration::from_millis(50)).await;
    let kept = p.out.with_file_name("kept.jsonl");
    std::fs::create_dir_all(kept.parent().unwrap()).unwrap();
    let schedule = standin::Schedule::read("hanging for 1s, closing for 1s, failing for 500ms, well for 1m").unwrap();
    let settings =
        standin::StandIn { speaks: standin::Speaks::Grpc, into: Some(kept.clone()), token: Some("sandpiper".into()), schedule, ..Default::default() };
    let (_, _stop) = stand_in(settings, &address.to_string()).await;
    until("it does not answer", || w.health().get().last_error.is_some_and(|e| e.contains("no answer in time"))).await;
    until("it is drained", || drained(&p.spool, "d")).await;
    let observed: Vec<String> = numbered(0..10).into_iter().map(|line| line.replace('{', "{\"observed\":\"1970-01-01T00:00:00.001Z\",")).collect();
    assert_eq!(lines_of(&kept), observed, "each says when it arrived");
    // With the patience that one has who looks.
    let patient = WorkerSettings::new("d", GrpcSettings(grpc(address)));
    let looked = probe(&patient).await;
    assert!(looked.iter().all(|step| step.good), "{looked:?}");
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn grpc_goes_through_tls_with_certificates_of_ones_own() {
    let p = place();
    let folder = tempfile::tempdir().unwrap();
    let made = make(folder.path(), (2090, 1, 1));
    let (inner, seen) = receiver(fine).await;
    // What ends TLS, and passes on what is in it.
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let acceptor = made.acceptor.clone();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            if let Ok(mut safe) = acceptor.accept(stream).await {
                let mut on = tokio::net::TcpStream::connect(inner).await.unwrap();
                tokio::spawn(async move { tokio::io::copy_bidirectional(&mut safe, &mut on).await });
            }
        }
    });
    let settings = HttpSettings { endpoints: vec![format!("https://localhost:{port}")], tls: made.files.clone(), ..grpc(inner) };
    delivered(&p, GrpcSettings(settings.clone()).into(), 20).await;
    assert_eq!(all(&seen), (0..20).collect::<Vec<i64>>());
    // Without them it is not trusted.
    let w = worker(&p, GrpcSettings(HttpSettings { tls: rockrose_plan::TlsFiles::default(), ..settings }));
    queue(&p.spool, "d", &numbered(0..1)).await;
    until("it is not trusted", || w.health().get().last_error.is_some_and(|e| e.contains("certificate"))).await;
    w.stop(Duration::from_secs(5)).await;
}

type Posted = Arc<Mutex<Vec<(String, Vec<i64>)>>>;

/// A receiver over HTTP that answers with `says`: content type and body.
async fn over_http(says: fn(usize) -> (StatusCode, &'static str, Vec<u8>)) -> (SocketAddr, Posted) {
    let seen = Posted::default();
    let kept = Arc::clone(&seen);
    let take = move |headers: HeaderMap, body: Bytes| {
        let form = headers["content-type"].to_str().unwrap().to_owned();
        let request = match form.as_str() {
            "application/json" => serde_json::from_slice(&body).unwrap(),
            _ => ExportLogsServiceRequest::decode(&body[..]).unwrap(),
        };
        let mut kept = kept.lock().unwrap();
        let (status, written, answer) = says(kept.len());
        kept.push((form, if status.is_success() { numbers(&request) } else { Vec::new() }));
        async move { (status, [("content-type", written)], answer).into_response() }
    };
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, axum::Router::new().route("/v1/logs", axum::routing::post(take))).await });
    (address, seen)
}

fn posted(address: SocketAddr, form: BodyForm) -> Target {
    HttpSettings { form, compression: Compression::Plain, max_batch: 2_000, ..HttpSettings::new(&format!("http://{address}/v1/logs")) }.into()
}

#[tokio::test]
async fn records_are_posted_in_protobuf_and_in_json() {
    for (form, written) in [(BodyForm::Otlp, "application/x-protobuf"), (BodyForm::OtlpJson, "application/json")] {
        let p = place();
        let (address, seen) = match form {
            BodyForm::Otlp => over_http(|_| (StatusCode::OK, "application/x-protobuf", Vec::new())).await,
            _ => over_http(|_| (StatusCode::OK, "application/json", b"{\"partialSuccess\":{}}".to_vec())).await,
        };
        delivered(&p, posted(address, form), 300).await;
        let seen = seen.lock().unwrap();
        assert_eq!(seen.iter().flat_map(|(_, n)| n.clone()).collect::<Vec<_>>(), (0..300).collect::<Vec<i64>>());
        assert!(seen.iter().all(|(form, _)| form == written));
    }
}

#[tokio::test]
async fn partial_success_over_http_is_understood_in_both_forms() {
    let p = place();
    let (address, _) =
        over_http(|_| (StatusCode::OK, "application/json", br#"{"partialSuccess":{"rejectedLogRecords":"2","errorMessage":"two too old"}}"#.to_vec())).await;
    assert_eq!(delivered(&p, posted(address, BodyForm::OtlpJson), 10).await.last_error.unwrap(), "two too old");
    let (address, _) = over_http(|_| (StatusCode::OK, "application/x-protobuf", partly(1, "one too new").unwrap().encode_to_vec())).await;
    assert_eq!(delivered(&p, posted(address, BodyForm::Otlp), 10).await.last_error.unwrap(), "one too new");
    assert_eq!(p.spool.quarantined(10).await.unwrap().len(), 2);
}

#[tokio::test]
async fn answers_over_http_that_are_none_are_tried_again() {
    let p = place();
    let (address, seen) = over_http(|count| match count {
        0 => (StatusCode::OK, "text/html", b"<html>sign in</html>".to_vec()),
        1 => (StatusCode::OK, "application/x-protobuf", vec![0xff; 9]),
        2 => (
            StatusCode::SERVICE_UNAVAILABLE,
            "application/x-protobuf",
            tonic_types::Status { code: 14, message: "tide is out".into(), details: Vec::new() }.encode_to_vec(),
        ),
        _ => (StatusCode::OK, "application/x-protobuf", Vec::new()),
    })
    .await;
    let health = delivered(&p, posted(address, BodyForm::Otlp), 10).await;
    assert_eq!(health.last_error.unwrap(), "answered 503 Service Unavailable: tide is out");
    assert_eq!(seen.lock().unwrap().len(), 4);
}
