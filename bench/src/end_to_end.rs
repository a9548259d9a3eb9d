//! The whole service against the sum of its parts: processor time for a GB of input, and many small bodies that share commits.
//!
//! The service runs as a process of its own, posted to by this one; what it posts goes to a bare server, a process of its own too. Processor time is read from the system, for each
//! process apart. The parts are measured alone in the same run: a bare server that reads the same bodies, the core's pass, compressing, the spool's commits, decompressing, posting.

use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use rockrose_engine::{CompiledPlan, Scratch};
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;
use rockrose_spool::{Arrival, Spool, pack};

use crate::report::{Goal, Line, Unit};
use crate::seconds;

/// Size of a body, in bytes.
const BODY: usize = 1 << 20;
/// Connections that large bodies are posted over.
pub(crate) const CONNECTIONS: usize = 4;
/// Connections that small bodies are posted over.
const MANY: usize = 64;

/// How long it is watched doing nothing.
const IDLE: Duration = Duration::from_secs(10);

/// A process that ends with the bench.
pub(crate) struct Process(pub(crate) Child);

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Process {
    /// Processor time it has used, in seconds.
    pub(crate) fn used(&self) -> f64 {
        let stat = std::fs::read_to_string(format!("/proc/{}/stat", self.0.id())).unwrap_or_default();
        // Behind the name in parentheses: user time is the 12th field, system time the 13th, in hundredths of a second.
        let fields: Vec<f64> = stat.rsplit(')').next().unwrap_or_default().split_whitespace().map(|f| f.parse().unwrap_or(0.0)).collect();
        (fields.get(11).unwrap_or(&0.0) + fields.get(12).unwrap_or(&0.0)) / 100.0
    }

    /// Keeps all its threads on one processor, and says whether that was done.
    pub(crate) fn keep_on(&self, processor: usize) -> bool {
        let pid = self.0.id().to_string();
        let told = Command::new("taskset").args(["-a", "-c", "-p", &processor.to_string(), &pid]).stdout(Stdio::null()).status();
        told.is_ok_and(|status| status.success())
    }

    /// Resident memory, in MB.
    fn resident(&self) -> f64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.0.id())).unwrap_or_default();
        let line = status.lines().find_map(|l| l.strip_prefix("VmRSS:")).unwrap_or_default();
        line.trim().trim_end_matches(" kB").parse::<f64>().unwrap_or(0.0) / 1_000.0
    }
}

/// Serves `POST /in`, reads what comes and forgets it: what this program does when it is called with `sink`.
pub(crate) fn sink() {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    runtime.block_on(async {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a free port");
        println!("{}", listener.local_addr().expect("an address").port());
        let take = |body: axum::body::Bytes| async move { std::hint::black_box(body.len()).to_string() };
        let router = axum::Router::new().route("/in", axum::routing::post(take)).layer(axum::extract::DefaultBodyLimit::max(64 << 20));
        let _ = axum::serve(listener, router).await;
    });
}

fn start_sink() -> Option<(Process, u16)> {
    let mut child = Command::new(std::env::current_exe().ok()?).arg("sink").stdout(Stdio::piped()).spawn().ok()?;
    let mut line = String::new();
    BufReader::new(child.stdout.take()?).read_line(&mut line).ok()?;
    Some((Process(child), line.trim().parse().ok()?))
}

fn client() -> reqwest::Client {
    reqwest::Client::builder().no_proxy().pool_max_idle_per_host(MANY).build().expect("a client")
}

/// Posts all bodies over so many connections; each must be taken.
pub(crate) async fn post(url: &str, bodies: &[bytes::Bytes], connections: usize) {
    let client = client();
    let mut running = tokio::task::JoinSet::new();
    for lane in 0..connections {
        let (client, url) = (client.clone(), url.to_owned());
        let mine: Vec<bytes::Bytes> = bodies.iter().skip(lane).step_by(connections).cloned().collect();
        running.spawn(async move {
            for body in mine {
                loop {
                    match client
                        .post(&url)
                        .header("content-type", if url.ends_with("/logs") { "application/x-protobuf" } else { "application/x-ndjson" })
                        .body(body.clone())
                        .send()
                        .await
                    {
                        Ok(answer) if answer.status().is_success() => break,
                        // Pushed back: it is asked again.
                        Ok(answer) if answer.status().as_u16() == 503 => tokio::time::sleep(Duration::from_millis(20)).await,
                        other => panic!("a body was not taken: {other:?}"),
                    }
                }
            }
        });
    }
    while let Some(done) = running.join_next().await {
        done.expect("a lane");
    }
}

const ROUTES: &str = "[[route]]\nname = \"trouble\"\nwhen = 'severity >= warn'\ndo = ['redact email in message', 'tag team = \"quays\"']\nto = [\"desk\"]\n[[route]]\nname = \"crew\"\nwhen = 'service = \"crew\"'\nto = [\"desk\"]\n[[route]]\nname = \"all\"\nto = [\"vault\"]\n";

/// The service, started on a plan of three routes, a file and the sink.
pub(crate) struct Served {
    process: Process,
    client: reqwest::Client,
    folder: tempfile::TempDir,
    api: u16,
    source: u16,
    ready: Duration,
}

pub(crate) fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).map_or(0, |a| a.port())
}

/// A folder of one's own, of a name that plans may reach: not one that begins with a dot.
pub(crate) fn folder() -> Option<tempfile::TempDir> {
    tempfile::Builder::new().prefix("rockrose-bench-").tempdir().ok()
}

async fn serve(sink: u16) -> Option<Served> {
    let folder = folder()?;
    start_on(folder, sink, "4 GB", "vault").await
}

/// Starts the service on what is in `folder`; its HTTP destination is at port `sink` and may hold `hold`, and the last route goes to `last`.
async fn start_on(folder: tempfile::TempDir, sink: u16, hold: &str, last: &str) -> Option<Served> {
    let source = free_port();
    let plan = format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.desk]\nkind = \"http\"\nendpoints = [\"http://127.0.0.1:{sink}/in\"]\nhold_at_most = \"{hold}\"\ncompress = \"none\"\n[destination.vault]\nkind = \"file\"\npath = \"{}\"\n{}",
        folder.path().join("vault.jsonl").display(),
        ROUTES.replace("[\"vault\"]", &format!("[\"{last}\"]"))
    );
    start(folder, &plan, source).await
}

/// Starts the service on what is in `folder` with this plan, whose source `in` is at port `source`.
pub(crate) async fn start(folder: tempfile::TempDir, plan: &str, source: u16) -> Option<Served> {
    std::fs::write(folder.path().join("plan.toml"), plan).ok()?;
    launch(folder, free_port(), source).await
}

/// Starts the service on what is in `folder`, its plan among that.
async fn launch(folder: tempfile::TempDir, api: u16, source: u16) -> Option<Served> {
    let program = std::env::current_exe().ok()?.with_file_name("rockrose");
    if !program.exists() {
        return None;
    }
    let path = folder.path().join("plan.toml");
    let log = std::fs::File::create(folder.path().join("log")).ok()?;
    let begun = Instant::now();
    let child = Command::new(program)
        .args(["serve", "--data", folder.path().join("data").to_str()?, "--listen", &format!("127.0.0.1:{api}"), "--plan", path.to_str()?])
        .stdout(log.try_clone().ok()?)
        .stderr(log)
        .spawn()
        .ok()?;
    let process = Process(child);
    let client = client();
    let url = format!("http://127.0.0.1:{api}/readyz");
    while begun.elapsed() < Duration::from_secs(20) {
        let up = client.get(&url).send().await.is_ok_and(|r| r.status().is_success());
        if up && tokio::net::TcpStream::connect(("127.0.0.1", source)).await.is_ok() {
            return Some(Served { process, client, folder, api, source, ready: begun.elapsed() });
        }
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    None
}

impl Served {
    /// The service itself.
    pub(crate) fn process(&self) -> &Process {
        &self.process
    }

    /// Processor time the service has used, in seconds.
    pub(crate) fn used(&self) -> f64 {
        self.process.used()
    }

    /// Resident memory, in MB.
    pub(crate) fn resident(&self) -> f64 {
        self.process.resident()
    }

    /// The service, killed and started again on the same folder and ports.
    pub(crate) async fn again(self) -> Option<Served> {
        let Served { process, folder, api, source, .. } = self;
        drop(process);
        launch(folder, api, source).await
    }

    /// Posts to the API, and returns what it answers.
    pub(crate) async fn tell(&self, path: &str, body: &serde_json::Value) -> Option<serde_json::Value> {
        let url = format!("http://127.0.0.1:{}/api/v1/{path}", self.api);
        let answer = self.client.post(&url).bearer_auth(self.token()?).json(body).send().await.ok()?;
        answer.status().is_success().then_some(())?;
        answer.json().await.ok()
    }

    fn token(&self) -> Option<String> {
        let text = std::fs::read_to_string(self.folder.path().join("data/client.toml")).ok()?;
        Some(text.lines().find_map(|l| l.strip_prefix("token = \""))?.trim_end_matches('"').to_owned())
    }

    /// What the API says at a path.
    pub(crate) async fn ask(&self, path: &str) -> Option<serde_json::Value> {
        let url = format!("http://127.0.0.1:{}/api/v1/{path}", self.api);
        self.client.get(&url).bearer_auth(self.token()?).send().await.ok()?.json().await.ok()
    }

    /// How many bytes wait for all destinations together.
    async fn waiting(&self) -> Option<f64> {
        let flow = self.ask("flow").await?;
        Some(flow["destinations"].as_array()?.iter().filter_map(|d| d["waiting_bytes"].as_f64()).sum())
    }

    /// Waits until nothing queued for any destination.
    pub(crate) async fn drained(&self) -> Option<()> {
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(120) {
            if self.ask("status").await?["waiting_events"] == 0 {
                return Some(());
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        None
    }
}

/// Bodies of about a MiB out of the corpus, over and over.
pub(crate) fn bodies(corpus: &[u8], count: usize) -> Vec<bytes::Bytes> {
    let mut cut = Vec::new();
    let mut start = 0;
    while start < corpus.len() {
        let reach = (start + BODY).min(corpus.len());
        let end = corpus[..reach].iter().rposition(|b| *b == b'\n').map_or(reach, |n| n + 1);
        cut.push(bytes::Bytes::copy_from_slice(&corpus[start..end]));
        start = end;
    }
    (0..count).map(|i| cut[i % cut.len()].clone()).collect()
}

/// The parts alone, in seconds of processor time for a GB of input.
async fn parts(bodies: &[bytes::Bytes]) -> Option<Vec<(&'static str, f64)>> {
    let gigabytes = bodies.iter().map(bytes::Bytes::len).sum::<usize>() as f64 / 1e9;
    let (sink, port) = start_sink()?;
    let own = || {
        let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
        time.tv_sec as f64 + time.tv_nsec as f64 / 1e9
    };
    let before = (sink.used(), own());
    post(&format!("http://127.0.0.1:{port}/in"), bodies, CONNECTIONS).await;
    let (read, posted) = (sink.used() - before.0, own() - before.1);
    let plan = format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.desk]\nkind = \"discard\"\n[destination.vault]\nkind = \"discard\"\n{ROUTES}"
    );
    let plan = CompiledPlan::new(&CheckedPlan::read(&plan).ok()?, HashKey::new([0; 32]));
    let mut scratch = Scratch::default();
    let mut outcomes = Vec::new();
    let core = seconds(&mut || {
        for body in bodies {
            let records = split(body, DeclaredFormat::Lines, 1 << 20).unwrap_or_default();
            outcomes.push(plan.process(0, body, &records, 0, None, &mut scratch));
        }
    });
    let lines: Vec<Vec<u8>> = outcomes.iter_mut().map(|o| std::mem::take(&mut o.lines)).collect();
    let mut compressed = Vec::new();
    let compress = seconds(&mut || compressed = lines.iter().map(|l| zstd::bulk::compress(l, 1).unwrap_or_default()).collect());
    let decompress = seconds(&mut || {
        for (packed, plain) in compressed.iter().zip(&lines) {
            std::hint::black_box(zstd::bulk::decompress(packed, plain.len()).map(|p| p.len()).unwrap_or(0));
        }
    });
    let folder = folder()?;
    let spool = Spool::open(&folder.path().join("spool.db")).ok()?;
    let arrivals: Vec<Arrival> = outcomes
        .into_iter()
        .zip(lines)
        .map(|(o, lines)| Arrival {
            source: "in".into(),
            arrived_ms: 0,
            data: pack(lines),
            entries: o.entries,
            postings: o.postings,
            tags: o.tags,
            unread: Vec::new(),
            held: Vec::new(),
            metrics: Vec::new(),
            extras: rockrose_spool::CommitExtras::default(),
        })
        .collect();
    let before = own();
    for arrival in arrivals {
        spool.store(arrival).await.ok()?;
    }
    let commits = own() - before;
    let each = [("bare read", read), ("core", core), ("zstd 1", compress), ("spool append", commits), ("decompress", decompress), ("post", posted)];
    Some(each.into_iter().map(|(part, used)| (part, used / gigabytes)).collect())
}

/// What the service is like with much waiting.
struct Backlog {
    gigabytes: f64,
    /// On the disk, in MB.
    spool: f64,
    /// Resident right behind the load, in MB.
    resident: f64,
    /// From the start after a kill until it takes events.
    ready: Duration,
    /// Resident some seconds later, in MB.
    resident_after: f64,
    /// Share of a core it uses with nothing to do but to try again.
    idle: f64,
}

/// Fills the queue of a destination that is not there, kills the service and starts it again.
async fn backlog(bodies: &[bytes::Bytes], gigabytes: f64) -> Option<Backlog> {
    let dead = free_port();
    let mut served = start_on(folder()?, dead, "100 GB", "desk").await?;
    let size: usize = bodies.iter().map(bytes::Bytes::len).sum();
    let mut posted = 0.0;
    while served.waiting().await.unwrap_or(0.0) < gigabytes * 1e9 {
        post(&format!("http://127.0.0.1:{}/in", served.source), bodies, CONNECTIONS).await;
        posted += size as f64 / 1e9;
        if posted > 20.0 * gigabytes {
            return None;
        }
    }
    let waiting = served.waiting().await?;
    let resident = served.process.resident();
    let _ = served.process.0.kill();
    let _ = served.process.0.wait();
    let spool = std::fs::metadata(served.folder.path().join("data/spool.db")).ok()?.len() as f64 / 1e6;
    let served = start_on(served.folder, dead, "100 GB", "desk").await?;
    tokio::time::sleep(Duration::from_secs(3)).await;
    let used = served.process.used();
    tokio::time::sleep(IDLE).await;
    let idle = (served.process.used() - used) / IDLE.as_secs_f64();
    Some(Backlog { gigabytes: waiting / 1e9, spool, resident, ready: served.ready, resident_after: served.process.resident(), idle })
}

/// Measures, and adds to the table. Without the service's binary beside this one there is nothing to measure.
pub(crate) fn measure(corpus: &[u8], large: usize, small: usize, waiting: f64, lines: &mut Vec<Line>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let measured = runtime.block_on(async {
        let bodies = bodies(corpus, large);
        let gigabytes = bodies.iter().map(bytes::Bytes::len).sum::<usize>() as f64 / 1e9;
        let before = parts(&bodies).await?;
        let (_sink, port) = start_sink()?;
        let served = serve(port).await?;
        let idle = served.process.resident();
        let url = format!("http://127.0.0.1:{}/in", served.source);
        let used = served.process.used();
        let begun = Instant::now();
        post(&url, &bodies, CONNECTIONS).await;
        let taken = begun.elapsed().as_secs_f64();
        served.drained().await?;
        let whole = (served.process.used() - used) / gigabytes;
        let busy = served.process.resident();
        // The processor's clock moves: the parts are what they were before and behind the whole, on the mean.
        let behind = parts(&bodies).await?;
        let parts: Vec<(&str, f64)> = before.into_iter().zip(behind).map(|((part, a), (_, b))| (part, (a + b) / 2.0)).collect();
        // Small bodies: one after the other, each its own commit; and many at once.
        let line = &corpus[..corpus.iter().take(1_200).rposition(|b| *b == b'\n').map_or(0, |n| n + 1)];
        let body = bytes::Bytes::copy_from_slice(line);
        let rate = async |count: usize, connections: usize| {
            let begun = Instant::now();
            post(&url, &vec![body.clone(); count], connections).await;
            count as f64 / begun.elapsed().as_secs_f64()
        };
        let alone = rate(small / 16, 1).await;
        let together = rate(small, MANY).await;
        let ready = served.ready;
        drop(served);
        let backlog = backlog(&bodies, waiting).await?;
        Some((parts, whole, gigabytes / taken, alone, together, idle, busy, ready, backlog))
    });
    let Some((parts, whole, speed, alone, together, idle, busy, ready, backlog)) = measured else {
        println!("end to end: not measured; build the service first (cargo build --release -p rockrose-cli)\n");
        return;
    };
    let sum: f64 = parts.iter().map(|(_, used)| used).sum();
    let plain = |what, value, unit| Line { what, value, unit, against: None };
    for (part, used) in parts {
        let what = match part {
            "bare read" => "part: bare read, s of CPU a GB",
            "core" => "part: core, s of CPU a GB",
            "zstd 1" => "part: zstd 1, s of CPU a GB",
            "spool append" => "part: spool append, s of CPU a GB",
            "decompress" => "part: decompress, s of CPU a GB",
            _ => "part: post, s of CPU a GB",
        };
        lines.push(plain(what, used, Unit::Each));
    }
    lines.push(plain("end to end: acknowledged", speed * 1_000.0, Unit::MegabytesPerSecond));
    lines.push(Line {
        what: "end to end: s of CPU a GB",
        value: whole,
        unit: Unit::Each,
        against: Some(("sum of the parts", whole / sum, Goal::CostAtMost(1.5))),
    });
    lines.push(plain("small bodies, one commit each: a second", alone, Unit::Each));
    lines.push(Line {
        what: "small bodies, 64 connections: a second",
        value: together,
        unit: Unit::Each,
        against: Some(("one commit each", together / alone, Goal::AtLeast(10.0))),
    });
    lines.push(Line { what: "resident when idle, MB", value: idle, unit: Unit::Each, against: Some(("", idle, Goal::Under(50.0))) });
    lines.push(Line { what: "resident after the load, MB", value: busy, unit: Unit::Each, against: Some(("", busy, Goal::Under(300.0))) });
    let ready = ready.as_secs_f64() * 1_000.0;
    lines.push(Line { what: "ready after the start, ms", value: ready, unit: Unit::Each, against: Some(("", ready, Goal::Under(500.0))) });
    lines.push(plain("waiting for a dead destination, GB", backlog.gigabytes, Unit::Each));
    lines.push(plain("the spool's file then, MB", backlog.spool, Unit::Each));
    let mut under = |what, value, most| lines.push(Line { what, value, unit: Unit::Each, against: Some(("", value, Goal::Under(most))) });
    under("resident then, MB", backlog.resident, 300.0);
    under("ready after SIGKILL with that, ms", backlog.ready.as_secs_f64() * 1_000.0, 500.0);
    under("resident after that, MB", backlog.resident_after, 300.0);
    under("processor used when idle, % of a core", backlog.idle * 100.0, 1.0);
}
