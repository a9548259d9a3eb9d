//! The OTLP source, over gRPC and over HTTP in both writings, at one address.

use rockrose_otlp::collector::logs_service_client::LogsServiceClient;
use rockrose_otlp::collector::{ExportLogsServiceRequest, ExportLogsServiceResponse};
use rockrose_otlp::{Message, to_request};
use tonic::codec::CompressionEncoding;
use tonic_types::StatusExt;

use super::*;

fn request(range: std::ops::Range<u32>) -> ExportLogsServiceRequest {
    let lines: String = range.map(|n| format!("{{\"n\":{n},\"message\":\"gate {n}\",\"resource\":{{\"service.name\":\"boarding\"}}}}\n")).collect();
    to_request(lines.as_bytes(), &[])
}

async fn client(s: &Source) -> LogsServiceClient<tonic::transport::Channel> {
    LogsServiceClient::connect(format!("http://{}", s.address)).await.unwrap()
}

fn lines(s: &Source) -> Vec<Value> {
    let bodies = s.sink.bodies.lock().unwrap();
    bodies.iter().flat_map(|(_, b, _)| b.split(|b| *b == b'\n')).filter(|l| !l.is_empty()).map(|l| serde_json::from_slice(l).unwrap()).collect()
}

/// Sends raw bytes and reads the answer's status, content type and body.
async fn raw(s: &Source, kind: &str, more: &str, body: &[u8]) -> (u16, String, Vec<u8>) {
    let mut stream = TcpStream::connect(s.address).await.unwrap();
    let _ = stream.write_all(&post("/v1/logs", &format!("content-type: {kind}\r\n{more}"), body)).await;
    let mut bytes = Vec::new();
    let _ = stream.read_to_end(&mut bytes).await;
    let end = bytes.windows(4).position(|w| w == b"\r\n\r\n").unwrap();
    let head = String::from_utf8_lossy(&bytes[..end]).to_lowercase();
    let status = head.split(' ').nth(1).unwrap().parse().unwrap();
    let kind = head.lines().find_map(|l| l.strip_prefix("content-type: ")).unwrap_or_default().to_owned();
    (status, kind, bytes[end + 4..].to_vec())
}

#[tokio::test]
async fn records_come_over_grpc_packed_or_not() {
    let s = source(|x| (x.kind, x.key) = (otlp(), Some(SourceKey::new("tern".into())))).await;
    let show = |request| {
        let mut request = tonic::Request::new(request);
        request.metadata_mut().insert("authorization", "Bearer tern".parse().unwrap());
        request
    };
    let plain = client(&s).await;
    let packed = [CompressionEncoding::Gzip, CompressionEncoding::Zstd, CompressionEncoding::Deflate].map(|encoding| plain.clone().send_compressed(encoding));
    for client in [plain.clone()].into_iter().chain(packed) {
        let answer = client.clone().export(show(request(0..20))).await.unwrap().into_inner();
        assert_eq!(answer, ExportLogsServiceResponse::default());
    }
    let all = lines(&s);
    assert_eq!((all.len(), &all[7]["n"], &all[7]["resource"]["service.name"]), (80, &7.into(), &"boarding".into()));
    // Without the key, and with more than it takes at once.
    let refused = plain.clone().export(request(0..1)).await.unwrap_err();
    assert_eq!(refused.code(), tonic::Code::Unauthenticated);
    let large = plain.clone().export(show(request(0..2_000))).await.unwrap_err();
    assert!(matches!(large.code(), tonic::Code::OutOfRange | tonic::Code::ResourceExhausted), "{large}");
    // No room: it is told when to come back.
    s.sink.refuse(Some(full()));
    let full = plain.clone().export(show(request(0..1))).await.unwrap_err();
    assert_eq!((full.code(), full.get_details_retry_info().and_then(|i| i.retry_delay)), (tonic::Code::Unavailable, Some(Duration::from_secs(5))));
    let told: Vec<SenderFault> = s.monitor.get().troubles.iter().map(|t| t.what).collect();
    assert!(told.contains(&SenderFault::Key) && told.contains(&SenderFault::PushedBack), "{told:?}");
    assert!(s.monitor.get().last_from.is_some());
    assert_eq!(lines(&s).len(), 80);
    s.sink.refuse(None);
    assert_eq!(plain.clone().export(show(request(0..0))).await.unwrap().into_inner(), ExportLogsServiceResponse::default(), "an empty request is one");
}

/// Who shows no key is refused by the headers alone, and requests that never send their bodies keep nobody else out.
#[tokio::test]
async fn what_is_not_let_in_is_not_read_and_idle_requests_stop_nobody() {
    let s = source(|x| (x.kind, x.key, x.max_requests) = (otlp(), Some(SourceKey::new("tern".into())), 64)).await;
    let grpc = async || {
        let mut grpc = tonic::client::Grpc::new(tonic::transport::Channel::from_shared(format!("http://{}", s.address)).unwrap().connect().await.unwrap());
        grpc.ready().await.unwrap();
        grpc
    };
    let path = || tonic::codegen::http::uri::PathAndQuery::from_static("/opentelemetry.proto.collector.logs.v1.LogsService/Export");
    let idle = |key: Option<&str>| {
        let mut request = tonic::Request::new(tonic::codegen::tokio_stream::pending::<Vec<u8>>());
        key.into_iter().for_each(|key| drop(request.metadata_mut().insert("authorization", format!("Bearer {key}").parse().unwrap())));
        request
    };
    for key in [None, Some("gull")] {
        let answer = tokio::time::timeout(Duration::from_secs(20), grpc().await.client_streaming(idle(key), path(), AsBytes)).await.expect("answered at once");
        assert_eq!(answer.map(|_: tonic::Response<ExportLogsServiceResponse>| ()).unwrap_err().code(), tonic::Code::Unauthenticated);
    }
    // More of them than are unpacked at once.
    let mut waiting = tokio::task::JoinSet::new();
    for _ in 0..12 {
        let (mut grpc, request, path) = (grpc().await, idle(Some("tern")), path());
        waiting.spawn(async move { grpc.client_streaming(request, path, AsBytes).await.map(|_: tonic::Response<ExportLogsServiceResponse>| ()) });
    }
    let mut request = tonic::Request::new(request(0..3));
    request.metadata_mut().insert("authorization", "Bearer tern".parse().unwrap());
    let taken = tokio::time::timeout(Duration::from_secs(20), client(&s).await.export(request)).await.expect("nobody stands in the way");
    assert_eq!(taken.unwrap().into_inner(), ExportLogsServiceResponse::default());
    assert_eq!(lines(&s).len(), 3);
}

/// A request of three records over every transport, of which the second cannot be read.
#[tokio::test]
async fn a_record_that_cannot_be_read_is_told_and_the_others_are_taken() {
    let s = source(|x| x.kind = otlp()).await;
    let mut protobuf = request(0..3).encode_to_vec();
    let at = protobuf.windows(6).position(|w| w == b"gate 1").unwrap();
    protobuf[at] = 0xff;
    let mut json = serde_json::to_value(request(0..3)).unwrap();
    json["resourceLogs"][0]["scopeLogs"][0]["logRecords"][1]["traceId"] = "12".into();
    assert_eq!(raw(&s, "application/x-protobuf", "", &protobuf).await.0, 200);
    assert_eq!(raw(&s, "application/json", "", json.to_string().as_bytes()).await.0, 200);
    let mut grpc = tonic::client::Grpc::new(tonic::transport::Channel::from_shared(format!("http://{}", s.address)).unwrap().connect().await.unwrap());
    grpc.ready().await.unwrap();
    let path = "/opentelemetry.proto.collector.logs.v1.LogsService/Export".parse().unwrap();
    let answer: tonic::Response<ExportLogsServiceResponse> = grpc.unary(tonic::Request::new(protobuf), path, AsBytes).await.unwrap();
    assert_eq!(answer.into_inner(), ExportLogsServiceResponse::default(), "what was quarantined is for the sink to say");
    let (bodies, with) = (s.sink.bodies.lock().unwrap(), s.sink.with.lock().unwrap());
    assert_eq!((bodies.len(), with.len()), (3, 3));
    for ((_, body, _), with) in bodies.iter().zip(&*with) {
        let texts: Vec<&[u8]> = body.split_inclusive(|b| *b == b'\n').collect();
        let number = |line: &[u8]| serde_json::from_slice::<Value>(line).unwrap()["n"].clone();
        assert_eq!((texts.len(), number(texts[0]), number(texts[2])), (3, 0.into(), 2.into()));
        assert!(matches!(&with.unreadable[..], [(2, why)] if why.contains("UTF-8") || why.contains("traceId")), "{:?}", with.unreadable);
    }
}

/// Requests that are bytes already.
struct AsBytes;

impl tonic::codec::Codec for AsBytes {
    type Encode = Vec<u8>;
    type Decode = ExportLogsServiceResponse;
    type Encoder = AsBytes;
    type Decoder = AsBytes;

    fn encoder(&mut self) -> AsBytes {
        AsBytes
    }

    fn decoder(&mut self) -> AsBytes {
        AsBytes
    }
}

impl tonic::codec::Encoder for AsBytes {
    type Item = Vec<u8>;
    type Error = tonic::Status;

    fn encode(&mut self, item: Vec<u8>, out: &mut tonic::codec::EncodeBuf<'_>) -> Result<(), tonic::Status> {
        bytes::BufMut::put_slice(out, &item);
        Ok(())
    }
}

impl tonic::codec::Decoder for AsBytes {
    type Item = ExportLogsServiceResponse;
    type Error = tonic::Status;

    fn decode(&mut self, from: &mut tonic::codec::DecodeBuf<'_>) -> Result<Option<ExportLogsServiceResponse>, tonic::Status> {
        ExportLogsServiceResponse::decode(from).map(Some).map_err(|e| tonic::Status::internal(e.to_string()))
    }
}

#[tokio::test]
async fn records_come_over_http_in_both_writings() {
    let s = source(|x| x.kind = otlp()).await;
    let protobuf = request(0..20).encode_to_vec();
    let (status, kind, answer) = raw(&s, "application/x-protobuf", "", &protobuf).await;
    assert_eq!((status, kind.as_str(), answer.len()), (200, "application/x-protobuf", 0));
    let gzip = {
        let mut e = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
        std::io::Write::write_all(&mut e, &protobuf).unwrap();
        e.finish().unwrap()
    };
    assert_eq!(raw(&s, "application/x-protobuf", "content-encoding: gzip\r\n", &gzip).await.0, 200);
    let json = serde_json::to_vec(&request(0..20)).unwrap();
    let (status, _, answer) = raw(&s, "application/json; charset=utf-8", "", &json).await;
    assert_eq!(status, 200);
    assert!(serde_json::from_slice::<Value>(&answer).unwrap().is_object());
    assert_eq!(lines(&s).len(), 60);
    assert_eq!(lines(&s)[0], lines(&s)[40], "the same however it is written");
}

#[tokio::test]
async fn what_is_no_request_is_said_in_the_writing_it_came_in() {
    let s = source(|x| x.kind = otlp()).await;
    let (status, kind, answer) = raw(&s, "application/x-protobuf", "", &[0xff; 20]).await;
    assert_eq!((status, kind.as_str()), (400, "application/x-protobuf"));
    assert_eq!(tonic_types::Status::decode(&answer[..]).unwrap().code, tonic::Code::InvalidArgument as i32);
    let (status, _, answer) = raw(&s, "application/json", "", b"{\"resource_spans\":[]}").await;
    assert!(status == 400 && String::from_utf8_lossy(&answer).contains("resourceLogs"));
    assert_eq!(raw(&s, "text/plain", "", b"words").await.0, 415);
    for (kind, nothing) in
        [("application/json", &b"{\"resourceLogs\":[]}"[..]), ("application/json", b" {}\n"), ("application/json", b""), ("application/x-protobuf", b"")]
    {
        assert_eq!(raw(&s, kind, "", nothing).await.0, 200, "nothing is something that can be sent");
    }
    // Another signal.
    let answer = exchange(s.address, &post("/v1/traces", "content-type: application/json\r\n", b"{}")).await;
    assert_eq!(answer.status, 404);
    assert!(s.monitor.get().troubles.iter().any(|t| t.what == SenderFault::Format && t.says.contains("only logs")), "{:?}", s.monitor.get());
    assert!(lines(&s).is_empty());
}
