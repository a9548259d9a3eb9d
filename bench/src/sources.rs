//! How fast each kind of source takes events: the same lines to a running service by each protocol, against HTTP in the same run.

use std::io::Write;
use std::time::Instant;

use rockrose_otlp::{Message, to_request};

use crate::end_to_end::{CONNECTIONS, Served, bodies, free_port, post, start};
use crate::report::{Goal, Line, Unit};

/// Records of one OTLP request.
const RECORDS: usize = 2_000;

/// What was taken by each kind, in events a second.
struct Taken {
    http: f64,
    otlp: f64,
    syslog: f64,
    file: f64,
}

/// Waits until a source has received so many records, from when it was begun; events a second.
async fn until(served: &Served, source: &str, events: usize, begun: Instant) -> Option<f64> {
    while begun.elapsed().as_secs() < 120 {
        let ledger = served.ask("ledger").await?;
        let rows = ledger["rows"].as_array()?.iter();
        let received: f64 =
            rows.filter(|r| r["place"] == "source" && r["name"] == source && r["measure"] == "received").filter_map(|r| r["events"].as_f64()).sum();
        if received >= events as f64 {
            return Some(events as f64 / begun.elapsed().as_secs_f64());
        }
        tokio::time::sleep(std::time::Duration::from_millis(5)).await;
    }
    None
}

async fn taken(corpus: &[u8], count: usize) -> Option<Taken> {
    let bodies = bodies(corpus, count);
    let events: usize = bodies.iter().map(|b| memchr::memchr_iter(b'\n', b).count()).sum();
    let folder = tempfile::tempdir().ok()?;
    let ports = [free_port(), free_port(), free_port()];
    let logs = folder.path().join("logs");
    std::fs::create_dir(&logs).ok()?;
    let plan = format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{}\"\n[source.records]\nkind = \"otlp\"\nlisten = \"127.0.0.1:{}\"\n[source.system]\nkind = \"syslog\"\nlisten = \"127.0.0.1:{}\"\nover = \"tcp\"\n[source.logs]\nkind = \"file\"\npaths = [\"{}\"]\nbegin_at = \"start\"\n[destination.counted]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"counted\"]\n",
        ports[0],
        ports[1],
        ports[2],
        logs.join("*.log").display()
    );
    let served = start(folder, &plan, ports[0]).await?;
    let begun = Instant::now();
    post(&format!("http://127.0.0.1:{}/in", ports[0]), &bodies, CONNECTIONS).await;
    let http = until(&served, "in", events, begun).await?;
    // Made beforehand: what is measured is the taking.
    let lines: Vec<&[u8]> = bodies.iter().flat_map(|b| b.split_inclusive(|c| *c == b'\n')).collect();
    let requests: Vec<bytes::Bytes> = lines.chunks(RECORDS).map(|some| to_request(&some.concat(), 0).encode_to_vec().into()).collect();
    let begun = Instant::now();
    post(&format!("http://127.0.0.1:{}/v1/logs", ports[1]), &requests, CONNECTIONS).await;
    let otlp = until(&served, "records", events, begun).await?;
    let mut streams: Vec<Vec<u8>> = vec![Vec::new(); CONNECTIONS];
    for (i, line) in lines.iter().enumerate() {
        let head = "<134>1 2026-11-23T10:00:00Z quay-4 gated 7 - - ";
        let line = line.strip_suffix(b"\n").unwrap_or(line);
        let stream = &mut streams[i % CONNECTIONS];
        stream.extend_from_slice(format!("{} {head}", head.len() + line.len()).as_bytes());
        stream.extend_from_slice(line);
    }
    let begun = Instant::now();
    let senders: Vec<_> = streams
        .into_iter()
        .map(|bytes| std::thread::spawn(move || std::net::TcpStream::connect(("127.0.0.1", ports[2])).and_then(|mut s| s.write_all(&bytes))))
        .collect();
    let syslog = until(&served, "system", events, begun).await?;
    for sender in senders {
        sender.join().ok()?.ok()?;
    }
    let begun = Instant::now();
    for (i, bodies) in bodies.chunks(bodies.len().div_ceil(CONNECTIONS)).enumerate() {
        // Under its own name at once, so that it is not read while it is copied.
        let written = logs.join(format!("{i}.part"));
        std::fs::write(&written, bodies.concat()).ok()?;
        std::fs::rename(&written, logs.join(format!("{i}.log"))).ok()?;
    }
    let file = until(&served, "logs", events, begun).await?;
    Some(Taken { http, otlp, syslog, file })
}

/// Measures, and adds to the table.
pub(crate) fn measure(corpus: &[u8], count: usize, lines: &mut Vec<Line>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let Some(taken) = runtime.block_on(taken(corpus, count)) else {
        println!("sources: not measured; build the service first (cargo build --release -p rockrose-cli)\n");
        return;
    };
    lines.push(Line { what: "source http: events a second", value: taken.http, unit: Unit::Each, against: None });
    let mut half = |what, value| lines.push(Line { what, value, unit: Unit::Each, against: Some(("source http", value / taken.http, Goal::AtLeast(0.5))) });
    half("source otlp: events a second", taken.otlp);
    half("source syslog, TCP: events a second", taken.syslog);
    half("source file: events a second", taken.file);
}
