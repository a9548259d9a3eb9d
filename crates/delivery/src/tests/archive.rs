//! Objects in a folder, in a store that others wrote, and in the stand-in: whole, once, where they belong, and told by their index.

use rockrose_archive::{FieldIndex, Index, Part};
use rockrose_plan::{ArchiveDestination, Objects, StoreLocation as Where, TlsFiles};

use super::*;
use ::parquet::file::reader::{FileReader, SerializedFileReader};
use ::parquet::record::RowAccessor;

fn archive(store: Where, objects: Objects, divide_by: &[&str]) -> ArchiveSettings {
    let divide_by = divide_by.iter().map(|p| Part::read(p).unwrap()).collect();
    let (object_at, object_every) = (32_000_000, Duration::from_millis(1));
    let (tls, timeout) = (TlsFiles::default(), Duration::from_secs(3));
    let archive =
        ArchiveDestination { store, access_secret: None, objects, as_received: false, divide_by, object_at, object_every, tls, timeout, mode: Some(0o640) };
    ArchiveSettings { archive, access_secret: Some("sandpiper".into()), node: "0123456789abcdef".into() }
}

fn bucket(endpoint: SocketAddr) -> Where {
    let endpoint = Some(format!("http://{endpoint}"));
    Where::Bucket { bucket: "vault".into(), prefix: "logs/north".into(), endpoint, region: "us-east-1".into(), access_key: Some("quay".into()) }
}

fn events(range: std::ops::Range<u32>) -> Vec<String> {
    range.map(|n| format!("{{\"time\":\"2026-11-23T{:02}:00:00Z\",\"service\":\"s{}\",\"n\":{n}}}", n % 2 + 8, n % 3)).collect()
}

/// The files below a folder, by their paths in it.
fn files(folder: &Path) -> Vec<String> {
    fn walk(folder: &Path, prefix: &str, found: &mut Vec<String>) {
        for entry in std::fs::read_dir(folder).into_iter().flatten().map(Result::unwrap) {
            let name = format!("{prefix}{}", entry.file_name().to_string_lossy());
            if entry.file_type().unwrap().is_dir() { walk(&entry.path(), &format!("{name}/"), found) } else { found.push(name) }
        }
    }
    let mut found = Vec::new();
    walk(folder, "", &mut found);
    found.sort();
    found
}

/// The events of all JSON lines below a folder, sorted; each index is asked whether it tells the truth.
fn kept(folder: &Path) -> Vec<String> {
    let mut all = Vec::new();
    for file in files(folder).into_iter().filter(|f| f.ends_with(".jsonl.zst")) {
        let packed = std::fs::read(folder.join(&file)).unwrap();
        let lines = String::from_utf8(zstd::stream::decode_all(&packed[..]).unwrap()).unwrap();
        let index: Index = serde_json::from_slice(&std::fs::read(folder.join(format!("{file}.index.json"))).unwrap()).unwrap();
        assert_eq!((index.events, index.bytes, index.size), (lines.lines().count() as u64, lines.len() as u64, packed.len() as u64), "{file}");
        let mut apart = String::new();
        for block in &index.blocks {
            let part = &packed[block.offset as usize..(block.offset + block.size) as usize];
            apart += std::str::from_utf8(&zstd::stream::decode_all(part).unwrap()).unwrap();
        }
        assert_eq!(apart, lines, "{file}");
        all.extend(lines.lines().map(str::to_owned));
    }
    all.sort();
    all
}

fn sorted(mut lines: Vec<String>) -> Vec<String> {
    lines.sort();
    lines
}

/// Delivers all that is queued, and ends.
async fn deliver(p: &Place, settings: ArchiveSettings) {
    let w = worker(p, settings);
    until("it is drained", || drained(&p.spool, "d")).await;
    // On a busy machine an answer may take its time.
    until("it is well", || matches!(w.health().get().state, State::Healthy | State::Slow)).await;
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_folder_is_laid_out_as_asked() {
    let p = place();
    queue(&p.spool, "d", &events(0..600)).await;
    deliver(&p, archive(Where::Folder(p.out.to_str().unwrap().into()), Objects::JsonLines, &["date", "hour", "service"])).await;
    assert_eq!(kept(&p.out), sorted(events(0..600)));
    let found = files(&p.out);
    assert_eq!(found.len(), 12, "{found:?}");
    let mode = |name: &String| std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(p.out.join(name)).unwrap().permissions()) & 0o777;
    assert!(found.iter().all(|name| mode(name) == 0o640));
    assert!(found[0].starts_with("date=2026-11-23/hour=08/service=s0/19700101T000000.001-0123456789abcdef-1-0.jsonl.zst"), "{found:?}");
    let index: Index = serde_json::from_slice(&std::fs::read(p.out.join(&found[1])).unwrap()).unwrap();
    assert_eq!(index.fields["service"], FieldIndex::Values(["s0".to_owned()].into()));
    assert_eq!(index.times, Some(("2026-11-23T08:00:00Z".into(), "2026-11-23T08:00:00Z".into())));
}

#[tokio::test]
async fn parquet_is_read_by_its_own_reader() {
    let p = place();
    let lines = vec![r#"{"ts":1795420800.5,"level":"warn","msg":"stuck \"here\"","n":1}"#.to_owned(), r#"{"n":2}"#.to_owned()];
    queue(&p.spool, "d", &lines).await;
    deliver(&p, archive(Where::Folder(p.out.to_str().unwrap().into()), Objects::Parquet, &[])).await;
    let file = files(&p.out).into_iter().find(|f| f.ends_with(".parquet")).unwrap();
    let reader = SerializedFileReader::new(std::fs::File::open(p.out.join(file)).unwrap()).unwrap();
    let rows: Vec<_> = reader.get_row_iter(None).unwrap().map(Result::unwrap).collect();
    assert_eq!(rows.len(), 2);
    assert_eq!(rows[0].get_timestamp_micros(0).unwrap(), 1_795_420_800_500_000);
    assert_eq!((rows[0].get_string(1).unwrap().as_str(), rows[0].get_string(2).unwrap().as_str()), ("warn", "stuck \"here\""));
    assert_eq!((rows[0].get_string(3).unwrap(), rows[1].get_string(3).unwrap()), (&lines[0], &lines[1]));
    assert!(rows[1].get_timestamp_micros(0).is_err() && rows[1].get_string(2).is_err());
}

/// A store that others wrote, with its objects in `folder`.
async fn real_store(folder: &Path) -> SocketAddr {
    std::fs::create_dir_all(folder.join("vault")).unwrap();
    let mut builder = s3s::service::S3ServiceBuilder::new(s3s_fs::FileSystem::new(folder).unwrap());
    builder.set_auth(s3s::auth::SimpleAuth::from_single("quay", "sandpiper"));
    let service = builder.build();
    let listener = standin::bind("127.0.0.1:0".parse().unwrap()).await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let service = service.clone();
            let serving = hyper_util::server::conn::auto::Builder::new(hyper_util::rt::TokioExecutor::new());
            tokio::spawn(async move {
                let _ = serving.serve_connection(hyper_util::rt::TokioIo::new(stream), service).await;
            });
        }
    });
    address
}

/// Lines that do not compress, of so many bytes together.
fn noise(bytes: usize) -> Vec<String> {
    let line = |n: usize| {
        let text: String = (0..5_000).map(|_| fastrand::alphanumeric()).collect();
        format!("{{\"n\":{n},\"message\":\"{text}\"}}")
    };
    (0..bytes / 5_000).map(line).collect()
}

#[tokio::test]
async fn a_store_that_others_wrote_takes_objects_small_and_in_pieces() {
    let p = place();
    let address = real_store(&p.out).await;
    queue(&p.spool, "d", &events(0..100)).await;
    deliver(&p, archive(bucket(address), Objects::JsonLines, &["date"])).await;
    let folder = p.out.join("vault/logs/north");
    assert_eq!(kept(&folder), sorted(events(0..100)));
    let large = noise(14_000_000);
    queue(&p.spool, "d", &large).await;
    deliver(&p, archive(bucket(address), Objects::JsonLines, &[])).await;
    let found = files(&folder);
    let object = found.iter().find(|f| !f.contains('/') && f.ends_with(".zst")).unwrap();
    assert!(std::fs::metadata(folder.join(object)).unwrap().len() > 8 << 20, "more than one piece");
    assert_eq!(kept(&folder), sorted(events(0..100).into_iter().chain(large).collect()));
}

#[tokio::test]
async fn a_wrong_secret_waits_and_is_never_shown() {
    let p = place();
    let address = real_store(&p.out).await;
    queue(&p.spool, "d", &events(0..3)).await;
    let w = worker(&p, ArchiveSettings { access_secret: Some("turnstone".into()), ..archive(bucket(address), Objects::JsonLines, &[]) });
    until("it fails", || w.health().get().failures >= 1).await;
    let error = w.health().get().last_error.unwrap();
    assert!(error.starts_with("answered 403 Forbidden: SignatureDoesNotMatch") && !error.contains("turnstone"), "{error}");
    w.stop(Duration::from_secs(5)).await;
    assert_eq!(p.spool.waiting()["d"].amount.events, 3);
}

#[tokio::test]
async fn what_was_written_but_never_settled_is_replaced() {
    let p = place();
    let settings = || archive(Where::Folder(p.out.to_str().unwrap().into()), Objects::JsonLines, &["service"]);
    queue(&p.spool, "d", &events(0..30)).await;
    // Written by one that died before it could say so.
    let batch = p.spool.next("d", 1 << 20).await.unwrap().unwrap();
    let mut outlet = crate::kinds::ArchiveOutlet::new(settings()).unwrap();
    outlet.write(batch.front(30), batch.origins(30)).await.unwrap();
    assert_eq!(kept(&p.out).len(), 30);
    // By now there is more.
    queue(&p.spool, "d", &events(30..60)).await;
    deliver(&p, settings()).await;
    assert_eq!(kept(&p.out), sorted(events(0..60)));
}

#[tokio::test]
async fn it_gathers_until_there_is_enough_or_it_has_waited_long() {
    let p = place();
    let settings = |every| {
        let mut settings = archive(Where::Folder(p.out.to_str().unwrap().into()), Objects::JsonLines, &[]);
        (settings.archive.object_at, settings.archive.object_every) = (20_000, every);
        settings
    };
    // What was queued in 1970 has waited long; so it is asked to wait longer than that.
    let long = Duration::from_secs(100 * 365 * 86_400);
    let w = worker(&p, settings(long));
    for start in 0..10 {
        queue(&p.spool, "d", &events(start * 30..start * 30 + 30)).await;
    }
    assert!(files(&p.out).is_empty());
    assert_eq!(p.spool.waiting()["d"].amount.events, 300);
    queue(&p.spool, "d", &events(300..400)).await;
    until("an object is written", || !files(&p.out).is_empty()).await;
    w.stop(Duration::from_secs(5)).await;
    deliver(&p, settings(Duration::from_millis(1))).await;
    assert_eq!(kept(&p.out), sorted(events(0..400)));
    assert!(files(&p.out).len() <= 4, "few objects: {:?}", files(&p.out));
}

#[tokio::test]
async fn the_stand_in_for_a_store_is_one_in_all_moods() {
    let p = place();
    let large = noise(12_000_000);
    let schedule = standin::Schedule::read("failing for 300ms, closing for 300ms, refusing for 300ms, well for 1m").unwrap();
    let settings = standin::StandIn { speaks: standin::Speaks::Store, into: Some(p.out.clone()), token: Some("quay".into()), schedule, ..Default::default() };
    let (address, _stop) = stand_in(settings, "127.0.0.1:0").await;
    queue(&p.spool, "d", &large).await;
    let w = worker(&p, archive(bucket(address), Objects::JsonLines, &[]));
    until("it is drained", || drained(&p.spool, "d")).await;
    assert!(w.health().get().last_error.is_some());
    assert_eq!(kept(&p.out.join("vault")), sorted(large));
    assert!(p.spool.quarantined(1).await.unwrap().is_empty());
    let looked = probe(w.settings()).await;
    assert!(looked.iter().all(|step| step.good) && looked.last().unwrap().step == "accept", "{looked:?}");
    w.stop(Duration::from_secs(5)).await;
    assert!(!files(&p.out).iter().any(|f| f.contains("rockrose-test")));
}

#[tokio::test]
async fn a_folder_that_cannot_be_written_waits_with_the_reason() {
    let p = place();
    std::fs::create_dir_all(p.out.parent().unwrap()).unwrap();
    std::fs::write(&p.out, "a file").unwrap();
    queue(&p.spool, "d", &events(0..3)).await;
    let w = worker(&p, archive(Where::Folder(p.out.to_str().unwrap().into()), Objects::JsonLines, &[]));
    until("it fails", || w.health().get().failures >= 1).await;
    assert!(w.health().get().last_error.unwrap().contains("out.jsonl"));
    w.stop(Duration::from_secs(5)).await;
}
