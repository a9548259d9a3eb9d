//! What many agents cost the service that manages them: simulated by this process over loopback, with the real protocol and real TLS, each with a key, a certificate and a connection of its own.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use rcgen::{CertificateParams, KeyPair};
use rockrose_opamp::{
    AgentDescription, AgentToServer, CertificateRequest, ConnectionSettingsRequest, KeyValue, Message, OpAmpConnectionSettingsRequest, RemoteConfigStatus,
    RemoteConfigStatuses, ServerToAgent, agent_capabilities, server_to_agent_flags,
};
use serde_json::json;

use crate::end_to_end::{Process, Served, bodies, folder, free_port, start};
use crate::sources::received;

/// How often an agent is heard, until it is told otherwise.
const HEARTBEAT: Duration = Duration::from_secs(5);
/// For how long the quiet service is looked at.
const QUIET: Duration = Duration::from_secs(30);
/// So many enrol at once.
const LANES: usize = 32;

fn plan(port: u16, path: &str) -> String {
    format!(
        "[source.hosts]\nkind = \"agents\"\nlisten = \"127.0.0.1:{port}\"\n[destination.counted]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"counted\"]\n\
         [collect.log]\nkind = \"file\"\npaths = [\"{path}\"]\n[assignment.all]\nwhen = 'os.type = \"linux\"'\ncollect = [\"log\"]\n"
    )
}

/// What all agents know.
struct Known {
    endpoint: String,
    bearer: String,
    authority: reqwest::Certificate,
    /// How many have what they were given last.
    taken: AtomicUsize,
    /// How often the service was started.
    starts: AtomicUsize,
    /// How many were heard since it was started last.
    heard: AtomicUsize,
    /// Why an agent was not answered last.
    last_failure: std::sync::Mutex<String>,
}

struct Agent {
    id: Vec<u8>,
    key: KeyPair,
    client: reqwest::Client,
    sequence: u64,
    hash: Vec<u8>,
}

fn client(known: &Known, identity: Option<reqwest::Identity>) -> Option<reqwest::Client> {
    let builder = reqwest::Client::builder().http1_only().no_proxy().timeout(Duration::from_secs(60)).tls_certs_only([known.authority.clone()]);
    identity.into_iter().fold(builder, |builder, identity| builder.identity(identity)).build().ok()
}

impl Agent {
    fn message(&self, full: bool) -> AgentToServer {
        let description = AgentDescription {
            identifying_attributes: vec![
                KeyValue::text("service.name", "rockrose-agent"),
                KeyValue::text("agent.name", &format!("host-{}", u16::from_le_bytes([self.id[0], self.id[1]]))),
            ],
            non_identifying_attributes: vec![KeyValue::text("os.type", "linux"), KeyValue::text("host.arch", "amd64")],
        };
        AgentToServer {
            instance_uid: self.id.clone(),
            sequence_num: self.sequence,
            agent_description: full.then_some(description),
            capabilities: agent_capabilities::REPORTS_STATUS
                | agent_capabilities::ACCEPTS_REMOTE_CONFIG
                | agent_capabilities::ACCEPTS_OPAMP_CONNECTION_SETTINGS,
            remote_config_status: Some(RemoteConfigStatus {
                last_remote_config_hash: self.hash.clone(),
                status: if self.hash.is_empty() { RemoteConfigStatuses::Unset } else { RemoteConfigStatuses::Applied } as i32,
                error_message: String::new(),
            }),
            ..AgentToServer::default()
        }
    }

    async fn ask(&mut self, known: &Known, message: &AgentToServer, bearer: bool) -> Option<ServerToAgent> {
        self.sequence += 1;
        let request = self.client.post(&known.endpoint).header("content-type", rockrose_opamp::CONTENT_TYPE).body(message.encode_to_vec());
        let request = if bearer { request.bearer_auth(&known.bearer) } else { request };
        let answer = match request.send().await {
            Ok(answer) if answer.status().is_success() => answer,
            other => {
                *known.last_failure.lock().ok()? = format!("{other:?}");
                return None;
            }
        };
        ServerToAgent::decode(&*answer.bytes().await.ok()?).ok()
    }

    async fn enrol(known: &Known, number: u16) -> Option<Agent> {
        let id = [&number.to_le_bytes()[..], &[7; 14]].concat();
        let mut agent = Agent { id, key: KeyPair::generate().ok()?, client: client(known, None)?, sequence: 0, hash: Vec::new() };
        let csr = CertificateParams::default().serialize_request(&agent.key).ok()?.pem().ok()?.into_bytes();
        let request = ConnectionSettingsRequest { opamp: Some(OpAmpConnectionSettingsRequest { certificate_request: Some(CertificateRequest { csr }) }) };
        let message = AgentToServer { connection_settings_request: Some(request), ..agent.message(true) };
        let answer = agent.ask(known, &message, true).await?;
        let certificate = answer.connection_settings?.opamp?.certificate?.cert;
        let identity = [agent.key.serialize_pem().into_bytes(), certificate].concat();
        agent.client = client(known, Some(reqwest::Identity::from_pem(&identity).ok()?))?;
        Some(agent)
    }

    /// Is heard again and again.
    async fn live(mut self, known: Arc<Known>, first: Duration) {
        tokio::time::sleep(first).await;
        let (mut full, mut start, mut pace) = (true, 0, HEARTBEAT);
        loop {
            let message = self.message(full);
            if let Some(answer) = self.ask(&known, &message, false).await {
                full = answer.flags & server_to_agent_flags::REPORT_FULL_STATE != 0;
                let now = known.starts.load(Ordering::Relaxed);
                if now != start {
                    known.heard.fetch_add(1, Ordering::Relaxed);
                }
                start = now;
                let told = answer.connection_settings.and_then(|settings| Some(settings.opamp?.heartbeat_interval_seconds)).filter(|seconds| *seconds > 0);
                pace = told.map_or(pace, Duration::from_secs);
                if let Some(config) = answer.remote_config {
                    self.hash = config.config_hash;
                    known.taken.fetch_add(1, Ordering::Relaxed);
                    continue;
                }
                if full {
                    continue;
                }
            }
            tokio::time::sleep(pace).await;
        }
    }
}

async fn until(count: &AtomicUsize, all: usize) -> f64 {
    let begun = Instant::now();
    while count.load(Ordering::Relaxed) < all && begun.elapsed() < Duration::from_secs(120) {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    begun.elapsed().as_secs_f64()
}

async fn run(agents: u16) -> Option<()> {
    let port = free_port();
    let served: Served = start(folder()?, &plan(port, "/var/log/a.log"), port).await?;
    let before = served.resident();
    let made = served.tell("enrol-codes", &json!({ "group": "hosts", "uses": agents, "minutes": 60 })).await?;
    let of = |member: &str| Some(made[member].as_str()?.to_owned());
    let authority = reqwest::Certificate::from_pem(of("authority")?.as_bytes()).ok()?;
    let known = Arc::new(Known {
        endpoint: of("endpoint")?,
        bearer: of("bearer")?,
        authority,
        taken: AtomicUsize::new(0),
        starts: AtomicUsize::new(0),
        heard: AtomicUsize::new(0),
        last_failure: std::sync::Mutex::default(),
    });
    let all = usize::from(agents);

    let (begun, used) = (Instant::now(), served.used());
    let mut lanes = tokio::task::JoinSet::new();
    for lane in 0..LANES {
        let known = Arc::clone(&known);
        lanes.spawn(async move {
            let mut mine = Vec::new();
            for number in (lane..all).step_by(LANES) {
                mine.push(Agent::enrol(&known, number as u16).await?);
            }
            Some(mine)
        });
    }
    let mut enrolled = Vec::new();
    while let Some(mine) = lanes.join_next().await {
        let Some(mine) = mine.ok()? else {
            println!("an agent could not enrol: {}", known.last_failure.lock().ok()?);
            return None;
        };
        enrolled.extend(mine);
    }
    println!("{} agents enrolled in {:.1} s; the service used {:.1} s of a processor", enrolled.len(), begun.elapsed().as_secs_f64(), served.used() - used);

    for (number, agent) in enrolled.into_iter().enumerate() {
        tokio::spawn(agent.live(Arc::clone(&known), HEARTBEAT.mul_f64(number as f64 / all as f64)));
    }
    println!("all run their first plan after {:.1} s", until(&known.taken, all).await);
    tokio::time::sleep(2 * HEARTBEAT).await;
    let (begun, used) = (Instant::now(), served.used());
    tokio::time::sleep(QUIET).await;
    let share = (served.used() - used) / begun.elapsed().as_secs_f64();
    println!("quiet: {:.1} % of a processor, {:.0} MB resident ({before:.0} MB before they came)", share * 100.0, served.resident());

    known.taken.store(0, Ordering::Relaxed);
    served.tell("revisions", &json!({ "text": plan(port, "/var/log/b.log"), "why": "a new plan" })).await?;
    println!("a new plan was taken by all after {:.1} s", until(&known.taken, all).await);

    let served = served.again().await?;
    known.starts.fetch_add(1, Ordering::Relaxed);
    println!("after the service was killed and started again, all were heard after {:.1} s", until(&known.heard, all).await);
    println!("then: {:.0} MB resident", served.resident());
    Some(())
}

/// Bodies of a megabyte in each round, and how many rounds.
const SHIPPED: (usize, usize) = (120, 5);

/// How fast one agent reads files and ships them, beside how fast the service reads such files itself, in turn. Each of the two has one processor of this machine, as if the
/// agent's host were another.
async fn ship(corpus: &[u8]) -> Option<()> {
    let (port, files) = (free_port(), folder()?);
    let (here, there) = (files.path().join("here"), files.path().join("there"));
    for folder in [&here, &there] {
        std::fs::create_dir(folder).ok()?;
        // A pattern that meets no file is in trouble.
        std::fs::write(folder.join("first.log"), "{\"first\":1}\n").ok()?;
    }
    let plan = format!(
        "[source.hosts]\nkind = \"agents\"\nlisten = \"127.0.0.1:{port}\"\n[source.file]\nkind = \"file\"\npaths = [\"{}/*.log\"]\nbegin_at = \"start\"\n[destination.counted]\nkind = \"discard\"\n\
         [[route]]\nname = \"all\"\nto = [\"counted\"]\n[collect.log]\nkind = \"file\"\npaths = [\"{}/*.log\"]\nbegin_at = \"start\"\n[assignment.all]\ncollect = [\"log\"]\n",
        here.display(),
        there.display()
    );
    let served: Served = start(folder()?, &plan, port).await?;
    let made = served.tell("enrol-codes", &json!({ "group": "hosts", "uses": 1, "minutes": 60 })).await?;
    let program = std::env::current_exe().ok()?.with_file_name("rockrose");
    let data = files.path().join("agent");
    let line: Vec<&str> = made["line"].as_str()?.split(' ').skip(1).collect();
    let log = || std::fs::File::create(files.path().join("agent.log"));
    let mut enrol = std::process::Command::new(&program);
    enrol.args(line).args(["--name", "host-1", "--only", "--data"]).arg(&data).stdout(log().ok()?).stderr(log().ok()?);
    enrol.status().ok()?.success().then_some(())?;
    let mut run = std::process::Command::new(&program);
    let agent = Process(run.args(["agent", "run", "--data"]).arg(&data).stdout(log().ok()?).stderr(log().ok()?).spawn().ok()?);
    let begun = Instant::now();
    while served.ask("agents").await?["agents"][0]["condition"] != "fine" {
        (begun.elapsed() < Duration::from_secs(60)).then_some(())?;
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    if !(served.process().keep_on(0) && agent.keep_on(1)) {
        println!("the two cannot be kept on a processor each; `taskset` of util-linux is needed");
        return None;
    }
    let bodies = bodies(corpus, SHIPPED.0);
    let part: Vec<u8> = bodies.concat();
    let events = part.iter().filter(|b| **b == b'\n').count() as f64 + 1.0;
    let (mut itself, mut shipped) = (Vec::new(), Vec::new());
    let mut costs = [0.0; 3];
    for round in 0..SHIPPED.1 {
        for (source, folder, speeds) in [("file", &here, &mut itself), ("hosts", &there, &mut shipped)] {
            let before = received(&served, source).await?;
            let path = folder.join(format!("{round}.part"));
            // A line of its own, or it would be a copy of the last round's.
            std::fs::write(&path, [format!("{{\"round\":{round}}}\n").as_bytes(), &part].concat()).ok()?;
            let (begun, used) = (Instant::now(), (served.used(), agent.used()));
            std::fs::rename(&path, path.with_extension("log")).ok()?;
            while received(&served, source).await? < before + events {
                (begun.elapsed() < Duration::from_secs(120)).then_some(())?;
                tokio::time::sleep(Duration::from_millis(10)).await;
            }
            speeds.push(events / begun.elapsed().as_secs_f64());
            let (service, host) = (served.used() - used.0, agent.used() - used.1);
            if source == "file" {
                costs[0] += service;
            } else {
                costs[1] += service;
                costs[2] += host;
            }
        }
    }
    let (itself, shipped) = (crate::median(itself), crate::median(shipped));
    println!(
        "one agent reads and ships {shipped:.0} events a second; the service's own file source reads {itself:.0}: {:.2} of that, each with one processor",
        shipped / itself
    );
    let [alone, service, host] = costs.map(|seconds| seconds * 1e6 / (events * SHIPPED.1 as f64));
    println!("an event read by the service's file source costs it {alone:.1} µs; one of an agent costs the service {service:.1} µs and the agent {host:.1} µs");
    Some(())
}

/// Measures with so many agents, and prints what was found.
pub(crate) fn measure(agents: u16) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    if agents > 0 && runtime.block_on(run(agents)).is_none() || runtime.block_on(ship(&crate::corpus::corpus(60_000, 7))).is_none() {
        println!("the service could not be measured; build it beside this: cargo build --release -p rockrose-cli");
    }
    runtime.shutdown_background();
}
