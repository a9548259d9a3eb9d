//! What a posted body looks like, who it says it is from, and where it goes.

use std::sync::{Arc, Mutex};

use axum::body::Bytes;
use axum::http::{HeaderMap, StatusCode};
use axum::response::IntoResponse;
use rockrose_plan::{BodyForm, Compression, TlsFiles};
use serde_json::Value;

use super::*;
use crate::tests::certificates::make;

type Seen = Arc<Mutex<Vec<(HeaderMap, Vec<u8>)>>>;

/// Keeps what is posted; answers with `says`.
async fn listening(says: &'static str) -> (SocketAddr, Seen) {
    let seen = Seen::default();
    let kept = Arc::clone(&seen);
    let take = move |headers: HeaderMap, body: Bytes| {
        kept.lock().unwrap().push((headers, body.to_vec()));
        async move { (StatusCode::OK, says) }
    };
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, axum::Router::new().route("/in", axum::routing::post(take))).await });
    (address, seen)
}

/// Delivers three events with these settings, and returns what was posted.
async fn posted(set: impl FnOnce(&mut HttpSettings)) -> Vec<(HeaderMap, Vec<u8>)> {
    let p = place();
    let (address, seen) = listening("{\"error\":null,\"errors\":false}").await;
    let mut settings = HttpSettings { compression: Compression::Plain, ..HttpSettings::new(&format!("http://{address}/in")) };
    set(&mut settings);
    queue(&p.spool, "d", &numbered(0..3)).await;
    let w = worker(&p, settings);
    until("it is drained", || drained(&p.spool, "d")).await;
    w.stop(Duration::from_secs(5)).await;
    let seen = seen.lock().unwrap();
    seen.clone()
}

fn header<'a>(headers: &'a HeaderMap, name: &str) -> &'a str {
    headers.get(name).map_or("", |v| v.to_str().unwrap())
}

#[tokio::test]
async fn bodies_are_written_as_asked() {
    let (headers, body) = posted(|_| ()).await.remove(0);
    assert_eq!((header(&headers, "content-type"), &body[..]), ("application/x-ndjson", &b"{\"n\":0}\n{\"n\":1}\n{\"n\":2}\n"[..]));
    let (headers, body) = posted(|s| s.form = BodyForm::JsonArray).await.remove(0);
    assert_eq!((header(&headers, "content-type"), &body[..]), ("application/json", &b"[{\"n\":0},{\"n\":1},{\"n\":2}]"[..]));
    let (headers, body) = posted(|s| s.form = BodyForm::CloudEvents).await.remove(0);
    assert_eq!(header(&headers, "content-type"), "application/cloudevents-batch+json");
    let batch: Vec<Value> = serde_json::from_slice(&body).unwrap();
    assert_eq!(batch.iter().map(|e| e["data"]["n"].as_u64().unwrap()).collect::<Vec<_>>(), [0, 1, 2]);
    let mut ids: Vec<&str> = batch.iter().map(|e| e["id"].as_str().unwrap()).collect();
    ids.dedup();
    assert_eq!(ids.len(), 3);
    let (headers, body) = posted(|s| s.compression = Compression::Zstd).await.remove(0);
    assert_eq!(header(&headers, "content-encoding"), "zstd");
    assert_eq!(zstd::bulk::decompress(&body, 1_000).unwrap(), b"{\"n\":0}\n{\"n\":1}\n{\"n\":2}\n");
}

/// What is posted of so many batches that the spool keeps packed, in bodies of Zstandard.
async fn posted_of_packed(batches: u32, numbers: Option<&str>) -> Vec<Vec<u8>> {
    let p = place();
    let (address, seen) = listening("").await;
    for n in 0..batches {
        queue(&p.spool, "d", &numbered(n * 100..(n + 1) * 100)).await;
    }
    let url = format!("http://{address}/in");
    let w = worker(&p, HttpSettings { compression: Compression::Zstd, numbered: numbers.map(str::to_owned), ..HttpSettings::new(&url) });
    until("it is drained", || drained(&p.spool, "d")).await;
    w.stop(Duration::from_secs(5)).await;
    let seen = seen.lock().unwrap();
    seen.iter().map(|(_, body)| body.clone()).collect()
}

#[tokio::test]
async fn what_is_kept_packed_is_sent_so_and_in_several_frames_only_to_those_who_know() {
    let lines = |range| numbered(range).iter().map(|line| format!("{line}\n")).collect::<String>();
    let read = |body: &[u8]| String::from_utf8(zstd::stream::decode_all(body).unwrap()).unwrap();
    let first = |body: &[u8]| zstd::zstd_safe::find_frame_compressed_size(body).unwrap();
    for (batches, numbers, is_one) in [(1, None, true), (3, None, true), (3, Some("agent"), false)] {
        let bodies = posted_of_packed(batches, numbers).await;
        assert_eq!(bodies.iter().map(|body| read(body)).collect::<String>(), lines(0..batches * 100), "{batches} {numbers:?}");
        assert_eq!(bodies.iter().all(|body| first(body) == body.len()), is_one, "{batches} {numbers:?}");
    }
}

#[tokio::test]
async fn an_event_that_is_sent_again_has_the_id_it_had() {
    let p = place();
    let (address, seen) = listening("{\"error\":\"the disk is full\"}").await;
    queue(&p.spool, "d", &numbered(0..2)).await;
    let w = worker(&p, HttpSettings { form: BodyForm::CloudEvents, compression: Compression::Plain, ..HttpSettings::new(&format!("http://{address}/in")) });
    until("it is tried again", || seen.lock().unwrap().len() >= 3).await;
    assert!(w.health().get().last_error.unwrap().contains("answered 200 OK, but says: {\"error\":\"the disk is full\"}"));
    w.stop(Duration::from_secs(5)).await;
    let seen = seen.lock().unwrap();
    assert!(seen.windows(2).all(|two| two[0].1 == two[1].1));
    assert_eq!(p.spool.waiting()["d"].amount.events, 2);
}

#[tokio::test]
async fn headers_and_sign_ins_are_sent_and_never_shown() {
    let settings = |s: &mut HttpSettings| {
        s.authorization = Some("Basic YW5uOnRpZGU3".into());
        s.headers = vec![("x-team".into(), "quays".into()), ("x-key".into(), "sandpiper".into())];
    };
    let (headers, _) = posted(settings).await.remove(0);
    assert_eq!((header(&headers, "authorization"), header(&headers, "x-team"), header(&headers, "x-key")), ("Basic YW5uOnRpZGU3", "quays", "sandpiper"));
    // One that repeats what it was shown.
    let p = place();
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    let echo = |headers: HeaderMap| async move { (StatusCode::FORBIDDEN, format!("no: {headers:?} {}", header(&headers, "authorization"))) };
    tokio::spawn(async move { axum::serve(listener, axum::Router::new().route("/in", axum::routing::post(echo))).await });
    let mut shown = HttpSettings::new(&format!("http://{address}/in"));
    settings(&mut shown);
    queue(&p.spool, "d", &numbered(0..1)).await;
    let w = worker(&p, shown);
    until("it is refused", || w.health().get().last_error.is_some()).await;
    let said = w.health().get().last_error.unwrap();
    assert!(said.contains("403") && !said.contains("sandpiper") && !said.contains("YW5u"), "{said}");
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn endpoints_take_turns_and_a_dead_one_is_passed_over() {
    let p = place();
    let (one, other) = (listening("").await, listening("").await);
    let dead = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let endpoints = [one.0, dead, other.0].iter().map(|a| format!("http://{a}/in")).collect();
    let w = worker(&p, HttpSettings { endpoints, in_turn: true, ..HttpSettings::new("") });
    for n in 0..12 {
        queue(&p.spool, "d", &numbered(n..n + 1)).await;
        until("it is drained", || drained(&p.spool, "d")).await;
    }
    assert_eq!((one.1.lock().unwrap().len(), other.1.lock().unwrap().len()), (6, 6));
    assert_eq!(w.health().get().failures, 0);
    w.stop(Duration::from_secs(5)).await;
}

/// A server behind TLS: answers every request with 200 and nothing.
async fn safe(acceptor: tokio_rustls::TlsAcceptor) -> (SocketAddr, Arc<Mutex<Vec<u8>>>) {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (address, got) = (listener.local_addr().unwrap(), Arc::new(Mutex::new(Vec::new())));
    let kept = Arc::clone(&got);
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let (acceptor, kept) = (acceptor.clone(), Arc::clone(&kept));
            tokio::spawn(async move {
                let Ok(mut stream) = acceptor.accept(stream).await else { return };
                let mut bytes = [0; 4096];
                while let Ok(read @ 1..) = stream.read(&mut bytes).await {
                    kept.lock().unwrap().extend_from_slice(&bytes[..read]);
                    if bytes[..read].ends_with(b"}\n") {
                        let _ = stream.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 0\r\n\r\n").await;
                    }
                }
            });
        }
    });
    (address, got)
}

#[tokio::test]
async fn certificates_of_ones_own_are_trusted_and_shown() {
    let p = place();
    let made = make(p.out.parent().unwrap().parent().unwrap(), (2090, 1, 1));
    let (address, got) = safe(made.acceptor).await;
    let at = |tls: TlsFiles| {
        let endpoint = format!("https://localhost:{}/in", address.port());
        HttpSettings { tls, compression: Compression::Plain, timeout: Duration::from_secs(3), ..HttpSettings::new(&endpoint) }
    };
    queue(&p.spool, "d", &numbered(0..2)).await;
    for (tls, says) in [
        (TlsFiles::default(), "certificate"),
        (TlsFiles { client: None, ..made.files.clone() }, "certificate"),
        (TlsFiles { ca: Some("/nowhere/ca.pem".into()), ..TlsFiles::default() }, "/nowhere/ca.pem"),
    ] {
        let w = worker(&p, at(tls));
        until("it fails", || w.health().get().last_error.is_some()).await;
        let said = w.health().get().last_error.unwrap();
        assert!(said.to_lowercase().contains(says), "{said}");
        w.stop(Duration::from_secs(5)).await;
    }
    let w = worker(&p, at(made.files.clone()));
    until("it is drained", || drained(&p.spool, "d")).await;
    assert!(String::from_utf8_lossy(&got.lock().unwrap()).contains("{\"n\":0}\n{\"n\":1}\n"));
    w.stop(Duration::from_secs(5)).await;
    let steps = crate::probe(&WorkerSettings::new("d", at(made.files))).await;
    assert_eq!(
        steps.iter().map(|s| (s.step, s.good)).collect::<Vec<_>>(),
        [("resolve", true), ("connect", true), ("secure", true), ("accept", true)],
        "{steps:?}"
    );
}

#[tokio::test]
async fn an_expired_certificate_is_said_to_be() {
    let p = place();
    let made = make(p.out.parent().unwrap().parent().unwrap(), (2021, 1, 1));
    let (address, _) = safe(made.acceptor).await;
    queue(&p.spool, "d", &numbered(0..2)).await;
    let w = worker(&p, HttpSettings { tls: made.files, ..HttpSettings::new(&format!("https://localhost:{}/in", address.port())) });
    until("it fails", || w.health().get().last_error.is_some()).await;
    let said = w.health().get().last_error.unwrap();
    assert!(said.to_lowercase().contains("expired"), "{said}");
    assert_eq!(p.spool.waiting()["d"].amount.events, 2);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn what_is_posted_is_signed_over_what_is_sent() {
    use base64::Engine;
    use hmac::Mac;
    use sha2::Digest;
    let (headers, body) = posted(|s| (s.sign, s.compression) = (Some("kept apart".to_owned()), Compression::Zstd)).await.remove(0);
    let base64 = base64::prelude::BASE64_STANDARD;
    let digest = format!("sha-256=:{}:", base64.encode(sha2::Sha256::digest(&body)));
    assert_eq!(header(&headers, "content-digest"), digest, "of the bytes that are sent, compressed as they are");
    let input = header(&headers, "signature-input").strip_prefix("rockrose=").unwrap();
    // As its receiver looks at it.
    let base = format!(
        "\"@method\": POST\n\"@authority\": {}\n\"@path\": /in\n\"content-digest\": {digest}\n\"@signature-params\": {input}",
        header(&headers, "host")
    );
    let mut mac = hmac::Hmac::<sha2::Sha256>::new_from_slice(b"kept apart").unwrap();
    mac.update(base.as_bytes());
    let signature = header(&headers, "signature").strip_prefix("rockrose=:").unwrap().strip_suffix(':').unwrap();
    mac.verify_slice(&base64.decode(signature).unwrap()).unwrap();
    assert!(posted(|_| ()).await.remove(0).0.get("signature").is_none());
}

#[tokio::test]
async fn of_a_stretch_that_was_partly_taken_only_the_rest_is_sent_again() {
    use rockrose_event::output::{QueuePlace, Stretch};

    let p = place();
    let seen = Seen::default();
    let kept = Arc::clone(&seen);
    // Takes nothing at first, and says that it has the first two events, as one does whose answer was lost.
    let take = move |headers: HeaderMap, body: Bytes| {
        let stretch: Stretch = header(&headers, Stretch::HEADER).parse().unwrap();
        let mut kept = kept.lock().unwrap();
        kept.push((headers, body.to_vec()));
        let had = QueuePlace { place: stretch.first.place + 1, ..stretch.first };
        let first = kept.len() == 1;
        async move { if first { (StatusCode::CONFLICT, [(QueuePlace::HEADER, had.to_string())], "").into_response() } else { "{}".into_response() } }
    };
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, axum::Router::new().route("/in", axum::routing::post(take))).await });
    queue(&p.spool, "d", &numbered(0..5)).await;
    let queue_name = Some("4f02/d".to_owned());
    let w = worker(&p, HttpSettings { numbered: queue_name, compression: Compression::Plain, ..HttpSettings::new(&format!("http://{address}/in")) });
    until("it is drained", || drained(&p.spool, "d")).await;
    w.stop(Duration::from_secs(5)).await;
    let seen = seen.lock().unwrap();
    let bodies: Vec<Vec<u8>> = seen.iter().map(|(_, body)| body.clone()).collect();
    assert_eq!(bodies, [(numbered(0..5).join("\n") + "\n").into_bytes(), (numbered(2..5).join("\n") + "\n").into_bytes()]);
    let stretches: Vec<Stretch> = seen.iter().map(|(headers, _)| header(headers, Stretch::HEADER).parse().unwrap()).collect();
    assert_eq!((stretches[0].queue.as_str(), stretches[1].last), ("4f02/d", stretches[0].last));
    assert!(stretches[1].first > stretches[0].first);
}
