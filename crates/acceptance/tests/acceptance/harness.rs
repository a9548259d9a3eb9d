//! Starts, kills and asks the real binary.

use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

/// How long anything may take before a test gives up on it: two tests run at once, and one of them may have a browser.
pub(crate) const PATIENCE: Duration = Duration::from_secs(120);

/// The binary under test: `ROCKROSE_BIN`, or the one built beside this test.
pub(crate) fn binary() -> PathBuf {
    if let Some(path) = std::env::var_os("ROCKROSE_BIN") {
        return path.into();
    }
    let path = std::env::current_exe().unwrap().parent().unwrap().parent().unwrap().join("rockrose");
    assert!(path.exists(), "build the binary first: cargo build -p rockrose-cli");
    path
}

/// So many ports that are free now.
pub(crate) fn free_ports<const N: usize>() -> [u16; N] {
    let held: Vec<TcpListener> = (0..N).map(|_| TcpListener::bind("127.0.0.1:0").unwrap()).collect();
    std::array::from_fn(|i| held[i].local_addr().unwrap().port())
}

/// Waits until `holds` says something, within bounds.
pub(crate) async fn until<T>(what: &str, mut holds: impl AsyncFnMut() -> Option<T>) -> T {
    let begun = Instant::now();
    loop {
        if let Some(found) = holds().await {
            return found;
        }
        assert!(begun.elapsed() < PATIENCE, "timed out: {what}");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

/// A child process that ends with its test.
pub(crate) struct Running(pub(crate) Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Running {
    pub(crate) fn signal(&self, name: &str) {
        let done = Command::new("kill").args([&format!("-{name}"), &self.0.id().to_string()]).status().unwrap();
        assert!(done.success());
    }
}

pub(crate) fn spawn(args: &[&str], log: &Path) -> Running {
    let log = std::fs::OpenOptions::new().create(true).append(true).open(log).unwrap();
    Running(Command::new(binary()).args(args).stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log).spawn().unwrap())
}

pub(crate) fn http() -> reqwest::Client {
    // A second installation in the same process is refused, and that is fine.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder().no_proxy().timeout(Duration::from_secs(30)).redirect(reqwest::redirect::Policy::none()).build().unwrap()
}

/// A service in a folder of its own.
pub(crate) struct Node {
    pub(crate) folder: tempfile::TempDir,
    pub(crate) port: u16,
    pub(crate) http: reqwest::Client,
    running: Option<Running>,
    /// What `serve` is told besides.
    args: Vec<String>,
}

impl Node {
    /// Starts a service with nothing in it.
    pub(crate) async fn start() -> Node {
        Node::start_with(|_| Vec::new()).await
    }

    /// Starts a service that is told more, which may name files in its folder.
    pub(crate) async fn start_with(more: impl FnOnce(&Path) -> Vec<String>) -> Node {
        let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
        let [port] = free_ports();
        let args = more(folder.path());
        let mut node = Node { folder, port, http: http(), running: None, args };
        node.begin().await;
        node
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn data(&self) -> PathBuf {
        self.path("data")
    }

    /// Starts the process and waits until it is ready.
    pub(crate) async fn begin(&mut self) {
        let listen = format!("127.0.0.1:{}", self.port);
        let data = self.data();
        let mut args = vec!["serve", "--data", data.to_str().unwrap(), "--listen", &listen];
        args.extend(self.args.iter().map(String::as_str));
        self.running = Some(spawn(&args, &self.path("log")));
        let url = self.url("/readyz");
        let ready = async || {
            let up = self.http.get(&url).send().await.is_ok_and(|r| r.status().is_success());
            (up && self.path("data/client.toml").exists()).then_some(())
        };
        until("the service is ready", ready).await;
    }

    /// SIGKILL: nothing of the process has a chance to tidy up.
    pub(crate) fn kill(&mut self) {
        drop(self.running.take());
    }

    /// SIGTERM, and waits for a clean end.
    pub(crate) async fn stop(&mut self) {
        let mut running = self.running.take().unwrap();
        running.signal("TERM");
        let status = until("the service ends", async || running.0.try_wait().unwrap()).await;
        assert!(status.success(), "{status}: {}", self.log());
    }

    pub(crate) fn process(&self) -> u32 {
        self.running.as_ref().unwrap().0.id()
    }

    pub(crate) fn log(&self) -> String {
        std::fs::read_to_string(self.path("log")).unwrap_or_default()
    }

    pub(crate) fn url(&self, path: &str) -> String {
        format!("http://127.0.0.1:{}{path}", self.port)
    }

    pub(crate) fn token(&self) -> String {
        let text = std::fs::read_to_string(self.path("data/client.toml")).unwrap();
        text.lines().find_map(|l| l.strip_prefix("token = \"")).unwrap().trim_end_matches('"').to_owned()
    }

    /// Runs a client command.
    pub(crate) fn client(&self, args: &[&str]) -> Output {
        let config = self.path("data/client.toml");
        Command::new(binary()).args(["--config", config.to_str().unwrap()]).args(args).stdin(Stdio::null()).output().unwrap()
    }

    /// Runs a client command that must succeed, with `--json`.
    pub(crate) fn json(&self, args: &[&str]) -> Value {
        let output = self.client(&[args, &["--json"]].concat());
        assert!(output.status.success(), "{args:?}: {}{}", text(&output.stdout), text(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap()
    }

    pub(crate) fn write(&self, name: &str, content: &str) -> String {
        let path = self.path(name);
        std::fs::write(&path, content).unwrap();
        path.to_str().unwrap().to_owned()
    }

    /// Applies a plan, which must be good.
    pub(crate) fn apply(&self, plan: &str) {
        let path = self.write("plan.toml", plan);
        let output = self.client(&["apply", &path, "--yes"]);
        assert!(output.status.success(), "{}{}", text(&output.stdout), text(&output.stderr));
    }

    pub(crate) async fn get(&self, path: &str) -> Value {
        let answer = self.http.get(self.url(path)).bearer_auth(self.token()).send().await.unwrap();
        assert!(answer.status().is_success(), "{path}: {}", answer.status());
        answer.json().await.unwrap()
    }

    /// Waits until nothing is queued for any destination.
    pub(crate) async fn drained(&self) {
        until("everything is delivered", async || (self.get("/api/v1/status").await["waiting_events"] == 0).then_some(())).await;
    }

    /// The account must balance; returns it.
    pub(crate) fn balanced(&self) -> Value {
        let output = self.client(&["ledger", "--json"]);
        assert!(output.status.success(), "the ledger does not balance: {}", text(&output.stdout));
        serde_json::from_slice(&output.stdout).unwrap()
    }
}

/// The sum of a measure at a place of the account.
pub(crate) fn sum(ledger: &Value, place: &str, name: &str, measure: &str) -> i64 {
    let rows = ledger["rows"].as_array().unwrap().iter();
    rows.filter(|r| r["place"] == place && r["name"] == name && r["measure"] == measure).map(|r| r["events"].as_i64().unwrap()).sum()
}

pub(crate) fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

pub(crate) async fn post(http: &reqwest::Client, port: u16, body: impl Into<reqwest::Body>) -> reqwest::Response {
    http.post(format!("http://127.0.0.1:{port}/in")).body(body).send().await.unwrap()
}

/// The whole lines of a file, as JSON. It may be read while somebody appends to it, so what stands behind the last line end is no line yet.
pub(crate) fn lines(path: &Path) -> Vec<Value> {
    let text = std::fs::read_to_string(path).unwrap_or_default();
    text[..text.rfind('\n').map_or(0, |end| end + 1)]
        .lines()
        .map(|l| serde_json::from_str(l).unwrap_or_else(|e| panic!("{}: {e}: {l}", path.display())))
        .collect()
}
