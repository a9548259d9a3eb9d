//! `demo`: the service with the plan, the events and the outside destinations of a made-up ferry line.

use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::time::Duration;

use anyhow::Context;
use rockrose_delivery::standin::{self, StandIn};
use rockrose_event::address::Network;
use rockrose_service::{Service, Settings};
use rockrose_tables::{Located, database};
use tokio_util::sync::CancellationToken;

use crate::generator::Generator;
use crate::hosts;
use crate::log::log;
use crate::serve::client_settings;
use rockrose_client::{End, Exit, Outcome, format};
use rockrose_plan::FILES;

const PLAN: &str = include_str!("../../../demo/plan.toml");
const TABLE: &str = include_str!("../../../demo/ports.csv");
/// The ports that the plan is written with.
const PORTS: [u16; 6] = [8610, 8611, 8612, 9410, 9411, 8640];
/// How often made-up events are posted.
const EVERY: Duration = Duration::from_millis(500);

pub(crate) struct DemoSettings {
    pub(crate) data: PathBuf,
    pub(crate) listen: SocketAddr,
    pub(crate) free_ports: bool,
    /// Those of the sources and stand-ins, six of them or none.
    pub(crate) ports: Vec<u16>,
    pub(crate) rate: u32,
    pub(crate) seed: u64,
    pub(crate) json: bool,
}

/// The plan, with its ports and with its files in the data folder.
fn plan(settings: &DemoSettings) -> anyhow::Result<(String, [u16; 6])> {
    let taken = |address: SocketAddr| TcpListener::bind(address).is_err_and(|e| e.kind() == std::io::ErrorKind::AddrInUse);
    if taken(settings.listen) {
        anyhow::bail!("{} is taken; pass another address for the console, as in --listen 127.0.0.1:8700", settings.listen);
    }
    let mut ports = match &settings.ports[..] {
        [] => PORTS,
        given => <[u16; 6]>::try_from(given)
            .map_err(|_| anyhow::anyhow!("--ports takes six, separated by commas: kiosks, gates, payments, the two stand-ins and the agents"))?,
    };
    if settings.free_ports {
        // All are held until all are chosen, so that no two are the same.
        let held = (0..ports.len()).map(|_| TcpListener::bind("127.0.0.1:0")).collect::<Result<Vec<_>, _>>()?;
        for (port, listener) in ports.iter_mut().zip(&held) {
            *port = listener.local_addr()?.port();
        }
    } else {
        let all = ports.iter().map(|port| SocketAddr::from(([127, 0, 0, 1], *port)));
        if let Some(port) = all.filter(|address| taken(*address)).map(|address| address.port()).next() {
            anyhow::bail!("port {port} is taken; pass --free-ports, or six ports that are free: --ports 18610,18611,18612,19410,19411,18640");
        }
    }
    let mut text = PLAN.to_owned();
    for file in ["vault.jsonl", "duty.jsonl", "ports.csv", "places.mmdb"] {
        text = text.replace(&format!("path = \"{file}\""), &format!("path = {:?}", settings.data.join(FILES).join(file).display().to_string()));
    }
    text = text.replace("\"hosts/", &format!("\"{}/", hosts::logs(&settings.data.join(FILES)).display()));
    for (from, to) in PORTS.iter().zip(ports) {
        text = text.replace(&format!("127.0.0.1:{from}"), &format!("127.0.0.1:{to}"));
    }
    Ok((text, ports))
}

/// Puts the tables' files where the plan has them. The database of places is made up, for the addresses that documentation uses.
fn tables(settings: &DemoSettings) -> anyhow::Result<()> {
    const TOWNS: [(&str, f64, f64); 4] =
        [("Tansy Quay", 50.31, -4.02), ("Marrow Bay", 50.22, -4.18), ("Lowmere", 50.27, -4.31), ("Skerry Point", 50.19, -4.44)];
    let quarter = |n: usize, (town, latitude, longitude): (&str, f64, f64)| {
        let network = Network { base: std::net::Ipv4Addr::new(192, 0, 2, 64 * n as u8).into(), prefix: 26 };
        let place = Located { country: Some("ZZ".into()), city: Some(town.into()), latitude: Some(latitude), longitude: Some(longitude), ..Located::default() };
        (network, place)
    };
    let places: Vec<_> = TOWNS.into_iter().enumerate().map(|(n, town)| quarter(n, town)).collect();
    let files = settings.data.join(FILES);
    std::fs::write(files.join("ports.csv"), TABLE)?;
    std::fs::write(files.join("places.mmdb"), database(&places, 1_795_428_000))?;
    Ok(())
}

/// A secret that may be shown to `shown_to`; it is made where there is none.
async fn kept_secret(service: &Service, name: &str, shown_to: &str) -> anyhow::Result<String> {
    if let Some(secret) = service.secret(name).await? {
        return Ok(secret.reveal().to_owned());
    }
    let mut bytes = [0u8; 16];
    getrandom::fill(&mut bytes).map_err(|e| anyhow::anyhow!("no random numbers: {e}"))?;
    let value: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
    service.set_secret(name, &value, shown_to).await?;
    Ok(value)
}

pub(crate) async fn demo(settings: DemoSettings) -> Outcome {
    if std::env::var_os("ROCKROSE_LOG").is_none() {
        // Only what is wrong: the demo's own words are for its user.
        tracing_subscriber::fmt().with_max_level(tracing::Level::ERROR).with_writer(std::io::stderr).with_target(false).init();
    } else {
        log();
    }
    let mut end = End::listen()?;
    let (text, ports) = plan(&settings)?;
    let service = Service::start(&Settings::new(settings.data.clone(), settings.listen)).await?;
    let stop = CancellationToken::new();
    let run = run(&settings, &service, &text, ports, &stop, &mut end).await;
    stop.cancel();
    if run.is_ok() {
        eprintln!("Stopping: what is under way ends, the rest waits in {}.", settings.data.display());
    }
    service.stop().await;
    run.map(|()| Exit::Done).map_err(Into::into)
}

async fn run(settings: &DemoSettings, service: &Service, text: &str, ports: [u16; 6], stop: &CancellationToken, end: &mut End) -> anyhow::Result<()> {
    let [kiosks, gates, payments, desk, accounts, _] = ports;
    let desk_token = kept_secret(service, "desk-token", "127.0.0.1").await?;
    let payments_key = kept_secret(service, "payments-key", "source:payments").await?;
    for (name, port, token) in [("desk", desk, Some(desk_token)), ("accounts", accounts, None)] {
        let stand_in = StandIn { into: Some(settings.data.join(format!("{name}.jsonl"))), token, ..StandIn::default() };
        let listener =
            standin::bind(SocketAddr::from(([127, 0, 0, 1], port))).await.with_context(|| format!("the stand-in for `{name}` cannot listen on port {port}"))?;
        let ended = stop.clone().cancelled_owned();
        tokio::spawn(async move {
            if let Err(e) = standin::serve(stand_in, listener, ended).await {
                eprintln!("rockrose: a stand-in ended: {e}");
            }
        });
    }
    tables(settings).context("the demo's tables cannot be written")?;
    service.apply(text, "demo", "the demo's plan", "demo/plan.toml").await?;
    hosts::run(service, &settings.data, stop).await?;
    let (client, link) = client_settings(service, &settings.data, None).await?;
    let me = std::env::current_exe().map_or_else(|_| "rockrose".into(), |p| p.display().to_string());
    // Shown as it is typed from here, where that is shorter.
    let me = std::env::current_dir().ok().and_then(|d| me.strip_prefix(&format!("{}/", d.display())).map(str::to_owned)).unwrap_or(me);
    let config = client.display();
    let said = if settings.json {
        let commands = ["status", "ledger", "tail route:boarding-trouble --side both"].map(|c| format!("{me} --config {config} {c}"));
        format::print_json(&serde_json::json!({ "console": link, "config": client, "commands": commands }))
    } else {
        format::line(&format!(
            "Saltmarsh Ferries is running: kiosks, boarding gates and payments send about {} events a second, and four hosts have agents.\n\n\
             Console, by a link that opens once:\n  {link}\n\n\
             From another terminal:\n  {me} --config {config} status\n  {me} --config {config} ledger\n  {me} --config {config} tail route:boarding-trouble --side both\n\n\
             What the outside destinations got is in {}. Ctrl-C stops.",
            settings.rate,
            settings.data.display()
        ))
    };
    said.map_err(|f| anyhow::anyhow!(f.message))?;
    let urls = [("kiosks", kiosks, None), ("gates", gates, None), ("payments", payments, Some(payments_key))];
    tokio::select! {
        () = end.asked() => Ok(()),
        never = generate(settings, &urls) => never,
    }
}

/// Posts made-up events to the sources, for ever.
async fn generate(settings: &DemoSettings, sources: &[(&str, u16, Option<String>); 3]) -> anyhow::Result<()> {
    let http = rockrose_client::http(&[])?;
    let mut generator = Generator::new(settings.seed);
    let mut rng = fastrand::Rng::with_seed(settings.seed);
    let mut tick = tokio::time::interval(EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut owed = 0.0;
    loop {
        tick.tick().await;
        owed += f64::from(settings.rate) * EVERY.as_secs_f64();
        let events = owed as u32;
        owed -= f64::from(events);
        let now = jiff::Timestamp::now().strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string();
        hosts::write(&settings.data.join(FILES), &mut rng, &now).context("the hosts' logs cannot be written")?;
        for body in generator.bodies(events, &now) {
            let Some((_, port, key)) = sources.iter().find(|(name, ..)| *name == body.source) else { continue };
            let mut request = http
                .post(format!("http://127.0.0.1:{port}/in"))
                .header("content-type", "application/x-ndjson")
                .timeout(Duration::from_secs(10))
                .body(body.text);
            if let Some(key) = key {
                request = request.bearer_auth(key);
            }
            // A source that the user took out of the plan, or that pushes back, costs the demo some events and nothing more.
            drop(request.send().await);
        }
    }
}
