//! How fast each kind of source takes events: the same lines to a running service by each protocol, against HTTP in the same run.

use std::io::Write;
use std::net::TcpStream;
use std::path::Path;
use std::time::{Duration, Instant};

use rockrose_otlp::{Message, to_request};

use crate::end_to_end::{CONNECTIONS, Served, bodies, free_port, post, start};
use crate::median;
use crate::report::{Goal, Line, Unit};

/// Records of one OTLP request.
const RECORDS: usize = 2_000;
/// How long a turn may take.
const TURN_TIME: Duration = Duration::from_secs(120);

/// Bodies of a megabyte for each kind and round: so many that how soon a new file is looked at is not what is measured.
pub(crate) const BODIES: usize = 80;

/// Rounds in which each kind takes its turn, so that whatever else the machine does meets all of them.
const ROUNDS: usize = 5;

/// The kinds, in the order of their turns.
const KINDS: [&str; 4] = ["http", "otlp", "syslog", "file"];

/// What is sent to each kind in a round, made beforehand: what is measured is the taking.
struct Sent {
    events: usize,
    bodies: Vec<bytes::Bytes>,
    requests: Vec<bytes::Bytes>,
    streams: Vec<bytes::Bytes>,
    files: Vec<bytes::Bytes>,
}

impl Sent {
    fn of(corpus: &[u8], count: usize) -> Sent {
        let bodies = bodies(corpus, count);
        let lines: Vec<&[u8]> = bodies.iter().flat_map(|b| b.split_inclusive(|c| *c == b'\n')).collect();
        let requests = lines.chunks(RECORDS).map(|some| to_request(&some.concat(), &[]).encode_to_vec().into()).collect();
        let mut streams: Vec<Vec<u8>> = vec![Vec::new(); CONNECTIONS];
        for (i, line) in lines.iter().enumerate() {
            let head = "<134>1 2026-11-23T10:00:00Z quay-4 gated 7 - - ";
            let line = line.strip_suffix(b"\n").unwrap_or(line);
            let stream = &mut streams[i % CONNECTIONS];
            stream.extend_from_slice(format!("{} {head}", head.len() + line.len()).as_bytes());
            stream.extend_from_slice(line);
        }
        let files = bodies.chunks(bodies.len().div_ceil(CONNECTIONS)).map(|some| some.concat().into()).collect();
        Sent { events: lines.len(), requests, streams: streams.into_iter().map(Into::into).collect(), files, bodies }
    }
}

/// How many records a source has received.
pub(crate) async fn received(served: &Served, source: &str) -> Option<f64> {
    let ledger = served.ask("ledger").await?;
    let rows = ledger["rows"].as_array()?.iter();
    Some(rows.filter(|r| r["place"] == "source" && r["name"] == source && r["measure"] == "received").filter_map(|r| r["events"].as_f64()).sum())
}

/// What came of one kind's turn.
#[derive(Clone, Copy)]
struct Turn {
    /// Events a second, from the first byte sent until all are durable.
    speed: f64,
    /// Seconds of the service's processor time for a million.
    used: f64,
}

/// One kind's turn.
async fn turn(served: &Served, kind: &'static str, sent: &Sent, ports: [u16; 3], logs: &Path, round: usize) -> Option<Turn> {
    let before = received(served, kind).await?;
    let mut parts = Vec::new();
    if kind == "file" {
        for (i, file) in sent.files.iter().enumerate() {
            // Each has a line of its own, or it would be a copy of the last round's.
            let own = format!("{{\"round\":{round},\"file\":{i}}}\n");
            let part = logs.join(format!("{round}-{i}.part"));
            std::fs::write(&part, [own.as_bytes(), file].concat()).ok()?;
            parts.push(part);
        }
    }
    let (used, begun) = (served.used(), Instant::now());
    match kind {
        "http" => post(&format!("http://127.0.0.1:{}/in", ports[0]), &sent.bodies, CONNECTIONS).await,
        "otlp" => post(&format!("http://127.0.0.1:{}/v1/logs", ports[1]), &sent.requests, CONNECTIONS).await,
        "syslog" => {
            for stream in sent.streams.clone() {
                // Whether all of it came is seen in the ledger.
                std::thread::spawn(move || TcpStream::connect(("127.0.0.1", ports[2])).and_then(|mut s| s.write_all(&stream)));
            }
        }
        _ => {
            for part in parts {
                std::fs::rename(&part, part.with_extension("log")).ok()?;
            }
        }
    }
    while begun.elapsed() < TURN_TIME {
        if received(served, kind).await? >= before + sent.events as f64 {
            let speed = sent.events as f64 / begun.elapsed().as_secs_f64();
            return Some(Turn { speed, used: (served.used() - used) / sent.events as f64 * 1e6 });
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    None
}

/// What came of each round, for each kind.
async fn rounds(corpus: &[u8], count: usize, only: Option<&str>) -> Option<Vec<Vec<Turn>>> {
    let folder = crate::end_to_end::folder()?;
    let ports = [free_port(), free_port(), free_port()];
    let logs = folder.path().join("logs");
    std::fs::create_dir(&logs).ok()?;
    let plan = format!(
        "[source.http]\nkind = \"http\"\nlisten = \"127.0.0.1:{}\"\n[source.otlp]\nkind = \"otlp\"\nlisten = \"127.0.0.1:{}\"\n[source.syslog]\nkind = \"syslog\"\nlisten = \"127.0.0.1:{}\"\nover = \"tcp\"\n[source.file]\nkind = \"file\"\npaths = [\"{}\"]\nbegin_at = \"start\"\n[destination.counted]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"counted\"]\n",
        ports[0],
        ports[1],
        ports[2],
        logs.join("*.log").display()
    );
    let served = start(folder, &plan, ports[0]).await?;
    let sent = Sent::of(corpus, count);
    let mut rounds = Vec::new();
    // The first round only warms up.
    for round in 0..=ROUNDS {
        let mut turns = Vec::new();
        for kind in KINDS.into_iter().filter(|kind| only.is_none_or(|only| only == *kind)) {
            turns.push(turn(&served, kind, &sent, ports, &logs, round).await?);
            // What one kind's events still cost is not to be the next one's.
            served.drained().await?;
        }
        if round > 0 {
            rounds.push(turns);
        }
    }
    Some(rounds)
}

/// Measures, and adds to the table; `only` one kind, for a profiler to look at.
pub(crate) fn measure(corpus: &[u8], count: usize, only: Option<&str>, lines: &mut Vec<Line>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let Some(rounds) = runtime.block_on(rounds(corpus, count, only)) else {
        println!("sources: not measured; build the service first (cargo build --release -p rockrose-cli)\n");
        return;
    };
    let names = [
        ("source http: events a second", "source http: s of CPU a million"),
        ("source otlp: events a second", "source otlp: s of CPU a million"),
        ("source syslog, TCP: events a second", "source syslog, TCP: s of CPU a million"),
        ("source file: events a second", "source file: s of CPU a million"),
    ];
    let kinds = KINDS.iter().zip(names).filter(|(kind, _)| only.is_none_or(|only| only == **kind)).map(|(_, names)| names);
    for (i, (speed, used)) in kinds.enumerate() {
        let of = |each: &dyn Fn(&[Turn]) -> f64| median(rounds.iter().map(|round| each(round)).collect());
        let ratio = of(&|round| round[i].speed / round[0].speed);
        let against = (i > 0).then_some(("source http", ratio, Goal::AtLeast(0.5)));
        lines.push(Line { what: speed, value: of(&|round| round[i].speed), unit: Unit::Each, against });
        lines.push(Line { what: used, value: of(&|round| round[i].used), unit: Unit::Each, against: None });
    }
}
