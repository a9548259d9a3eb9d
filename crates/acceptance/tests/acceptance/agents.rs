//! Agents: a host enrols with one line, collects what the plan says by its facts, and loses nothing; who is not who they say they are changes nothing.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use diesel::prelude::*;
use rockrose_opamp::{
    AgentConfigFile, AgentConfigMap, AgentDescription, AgentRemoteConfig, AgentToServer, ComponentHealth, KeyValue, Message, RemoteConfigStatus,
    RemoteConfigStatuses, ServerToAgent, agent_capabilities, server_to_agent_flags,
};
use rockrose_opamp::{framed, unframed};
use serde_json::{Value, json};

use crate::harness::{Node, Running, binary, free_ports, lines, spawn, sum, text, until};

/// An agent on this machine, in a folder of the service's.
struct Host {
    name: String,
    data: PathBuf,
    running: Option<Running>,
}

impl Host {
    /// A host that has not enrolled.
    fn new(node: &Node, name: &str) -> Host {
        Host { name: name.to_owned(), data: node.path(name), running: None }
    }

    /// Enrols with the line that was made, and with `more`; does not run.
    fn enrol(&self, line: &str, more: &[&str]) -> Output {
        let args = line.strip_prefix("rockrose ").unwrap().split(' ');
        let data = self.data.to_str().unwrap();
        Command::new(binary()).args(args).args(["--data", data, "--name", &self.name, "--only"]).args(more).stdin(Stdio::null()).output().unwrap()
    }

    /// Enrols, which must succeed, and runs.
    fn join(node: &Node, name: &str, group: &str, more: &[&str]) -> Host {
        let mut host = Host::new(node, name);
        let enrolled = host.enrol(&code(node, group), more);
        assert!(enrolled.status.success(), "{}", text(&enrolled.stderr));
        host.begin();
        host
    }

    fn begin(&mut self) {
        self.running = Some(spawn(&["agent", "run", "--data", self.data.to_str().unwrap()], &self.data.with_extension("log")));
    }

    fn kill(&mut self) {
        drop(self.running.take());
    }

    async fn stop(&mut self) {
        let mut running = self.running.take().unwrap();
        running.signal("TERM");
        assert!(until("the agent ends", async || running.0.try_wait().unwrap()).await.success());
    }

    /// What `agent status` prints.
    fn status(&self) -> String {
        let output = Command::new(binary()).args(["agent", "status", "--data", self.data.to_str().unwrap()]).output().unwrap();
        format!("{}{}", text(&output.stdout), text(&output.stderr))
    }

    fn json_status(&self) -> Value {
        let output = Command::new(binary()).args(["agent", "status", "--json", "--data", self.data.to_str().unwrap()]).output().unwrap();
        serde_json::from_slice(&output.stdout).unwrap()
    }

    fn log(&self) -> String {
        std::fs::read_to_string(self.data.with_extension("log")).unwrap_or_default()
    }
}

/// A line that enrols one host.
fn code(node: &Node, group: &str) -> String {
    node.json(&["agent", "code", group])["line"].as_str().unwrap().to_owned()
}

pub(crate) fn door(port: u16, out: &Path, more: &str) -> String {
    let out = out.display();
    format!(
        "[source.hosts]\nkind = \"agents\"\nlisten = \"127.0.0.1:{port}\"\n[destination.out]\nkind = \"file\"\npath = \"{out}\"\n[[route]]\nname = \"all\"\nto = [\"out\"]\n{more}"
    )
}

pub(crate) fn collect(name: &str, paths: &str) -> String {
    format!("[collect.{name}]\nkind = \"file\"\npaths = [\"{paths}\"]\nbegin_at = \"start\"\n")
}

async fn agent(node: &Node, name: &str) -> Value {
    node.get("/api/v1/agents").await["agents"].as_array().unwrap().iter().find(|a| a["name"] == name).unwrap_or(&Value::Null).clone()
}

async fn becomes(node: &Node, name: &str, condition: &str) -> Value {
    until(&format!("{name} is {condition}"), async || Some(agent(node, name).await).filter(|a| a["condition"] == condition)).await
}

fn append(path: &Path, lines: impl IntoIterator<Item = String>) {
    let mut file = std::fs::OpenOptions::new().create(true).append(true).open(path).unwrap();
    lines.into_iter().for_each(|line| file.write_all(format!("{line}\n").as_bytes()).unwrap());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_enrols_with_one_line_and_is_told_by_its_facts_what_to_collect() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let none = text(&node.client(&["agent", "list"]).stdout);
    assert!(none.contains("a source of kind `agents`"), "{none}");
    let (out, logs) = (node.path("out.jsonl"), node.path("logs"));
    std::fs::create_dir(&logs).unwrap();
    let kiosk = collect("kiosk-log", &format!("{}/*.log", logs.display()));
    let by_port = "[assignment.lowmere]\nwhen = 'group = \"kiosks\" and labels.port = \"Lowmere\"'\ncollect = [\"kiosk-log\"]\ndo = ['redact email']\n";
    node.apply(&door(port, &out, &format!("{kiosk}{by_port}")));
    append(&logs.join("app.log"), ["{\"message\":\"ticket 1 for bo@quay.example\",\"agent.name\":\"owner\"}".to_owned()]);

    let line = code(&node, "kiosks");
    let mut host = Host::new(&node, "kiosk-7");
    let enrolled = host.enrol(&line, &["--label", "port=Lowmere"]);
    assert!(enrolled.status.success() && text(&enrolled.stdout).contains("kiosk-7 has enrolled"), "{}", text(&enrolled.stderr));
    host.begin();
    let first = until("the first event is there", async || lines(&out).first().cloned()).await;
    let told = |event: &Value| ["agent.name", "agent.group", "agent.collect", "agent.assignment"].map(|f| event[f].as_str().unwrap_or_default().to_owned());
    assert_eq!((first["message"].as_str(), told(&first)), (Some("ticket 1 for ***"), ["kiosk-7", "kiosks", "kiosk-log", "lowmere"].map(str::to_owned)));
    becomes(&node, "kiosk-7", "fine").await;
    let shown = text(&node.client(&["agent", "show", "kiosk-7"]).stdout);
    for says in ["source:kiosk-log", "events flow", "os.type", "linux", "port = Lowmere"] {
        assert!(shown.contains(says), "{says}: {shown}");
    }

    // A stolen code is used up; a name that is taken is not given away; an id is its key's.
    let again = Host::new(&node, "kiosk-8").enrol(&line, &[]);
    assert!(!again.status.success() && text(&again.stderr).contains("was used as often as it may be"), "{}", text(&again.stderr));
    let fresh = code(&node, "kiosks");
    let claims = Host { name: "kiosk-7".into(), ..Host::new(&node, "claims") }.enrol(&fresh, &[]);
    assert!(text(&claims.stderr).contains("an agent called `kiosk-7` has enrolled already"), "{}", text(&claims.stderr));
    // A server with another certificate is not taken for this one, and learns no code.
    let (shown_pin, other_pin) = (fresh.rsplit('.').next().unwrap(), "A".repeat(43));
    let other = Host::new(&node, "other").enrol(&fresh.replace(shown_pin, &other_pin), &[]);
    assert!(text(&other.stderr).contains("it is another service, or somebody is in between"), "{}", text(&other.stderr));
    let codes = node.json(&["agent", "codes"]);
    assert_eq!((codes.as_array().unwrap().len(), &codes[0]["uses_left"]), (1, &json!(1)), "the code is not used up by those who were refused");
    assert!(node.client(&["agent", "codes", "--end", &codes[0]["id"].to_string()]).status.success());
    assert!(!Host::new(&node, "late").enrol(&fresh, &[]).status.success(), "a code that was ended");

    // Another group collects nothing of this, and is told why.
    let mut gate = Host::join(&node, "gate-1", "gates", &[]);
    becomes(&node, "gate-1", "fine").await;
    let explained = text(&node.client(&["agent", "explain", "gate-1"]).stdout);
    assert!(explained.contains("no assignment is for it") && explained.contains("not met: group = \"kiosks\", labels.port = \"Lowmere\""), "{explained}");

    // What is collected changes from the centre, and on which hosts is said before.
    let more = "[assignment.gates]\nwhen = 'group = \"gates\"'\ncollect = [\"gate-log\"]\ndo = ['drop level = \"debug\"']\n[alert.gone]\nwhen = 'any agent of group kiosks silent for 20 seconds'\n";
    let gates = collect("gate-log", &format!("{}/*.gate", logs.display()));
    let next = node.write("next.toml", &door(port, &out, &format!("{kiosk}{by_port}{gates}{more}")));
    let asked = text(&node.client(&["apply", &next, "--yes"]).stdout);
    assert!(asked.contains("On 1 host:\n  gate-1: collects gate-log as well; the assignment gates is for it"), "{asked}");
    append(&logs.join("a.gate"), ["{\"gate\":1,\"level\":\"debug\"}".to_owned(), "{\"gate\":2}".to_owned()]);
    let second = until("the gate's event is there", async || lines(&out).get(1).cloned()).await;
    assert_eq!((&second["gate"], told(&second)), (&json!(2), ["gate-1", "gates", "gate-log", "gates"].map(str::to_owned)));

    // What contradicts on a host is a mistake, told with the host before anything is applied.
    let twice = "[assignment.twice]\nwhen = 'host.arch exists'\ncollect = [\"gate-log\"]\n";
    let wrong = node.write("wrong.toml", &door(port, &out, &format!("{kiosk}{by_port}{gates}{more}{twice}")));
    let refused = node.client(&["apply", &wrong, "--yes"]);
    assert!(text(&refused.stderr).contains("`gates` and `twice` are for the host gate-1: both collect `gate-log`"), "{}", text(&refused.stderr));

    // Who is retired sends nothing more; what it collects waits on its host.
    assert!(node.client(&["agent", "retire", "gate-1"]).status.success());
    append(&logs.join("a.gate"), ["{\"gate\":3}".to_owned()]);
    until("the retired agent knows", async || gate.status().contains("it was retired").then_some(())).await;
    until("its event waits", async || gate.status().contains("1 event waits to be sent").then_some(())).await;
    assert_eq!(agent(&node, "gate-1").await, Value::Null);
    assert_eq!(lines(&out).len(), 2);
    gate.stop().await;
    host.stop().await;
    becomes(&node, "kiosk-7", "silent").await;
    let listed = text(&node.client(&["agent", "list"]).stdout);
    assert!(listed.contains("nothing was heard of it for") && listed.contains("kiosk-7: look at `rockrose agent status` on the host"), "{listed}");
    let gone = node.get("/api/v1/alerts").await["alerts"][0].clone();
    assert_eq!((&gone["name"], &gone["phase"]), (&json!("gone"), &json!("on")), "{gone}");
    assert!(gone["says"].as_str().unwrap().starts_with("nothing was heard from the agent kiosk-7 for "), "{gone}");
    let journal = text(&node.client(&["journal"]).stdout);
    for what in ["make code for agents", "enrol agent", "retire agent", "end code for agents"] {
        assert!(journal.contains(what), "{what}: {journal}");
    }
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_keeps_what_its_owner_says_and_its_last_good_plan() {
    let [port, taken] = free_ports();
    let mut node = Node::start().await;
    let (out, logs, other) = (node.path("out.jsonl"), node.path("logs"), node.path("private"));
    std::fs::create_dir(&logs).unwrap();
    std::fs::create_dir(&other).unwrap();
    append(&other.join("a.log"), ["{\"private\":1}".to_owned()]);
    append(&logs.join("app.log"), ["{\"first\":1}".to_owned()]);
    let assigned = "[assignment.all]\ncollect = [\"log\"]\n";
    let good = format!("{}{assigned}", collect("log", &format!("{}/*.log", logs.display())));
    node.apply(&door(port, &out, &good));
    let mut host = Host::join(&node, "kiosk-1", "kiosks", &["--allow", logs.to_str().unwrap()]);
    becomes(&node, "kiosk-1", "fine").await;

    // A folder that the owner does not allow, what the agent keeps for itself, and a port that is taken on the host: told, and the plan before goes on.
    let _taken = std::net::TcpListener::bind(("127.0.0.1", taken)).unwrap();
    let key = host.data.join("identity");
    for (what, says) in [
        (collect("log", &format!("{}/*.log", other.display())), "plans may reach only what is below"),
        (collect("log", &format!("{}/*.pem", key.display())), "plans may not reach what the service shows of itself"),
        (format!("[collect.log]\nkind = \"tcp\"\nlisten = \"127.0.0.1:{taken}\"\n"), "cannot listen"),
    ] {
        node.apply(&door(port, &out, &format!("{what}{assigned}")));
        let refused = becomes(&node, "kiosk-1", "refused").await;
        assert!(refused["says"].as_str().unwrap().contains(says), "{refused}");
        until("the host says so as well", async || host.status().contains("cannot be run; the one before goes on").then_some(())).await;
        append(&logs.join("app.log"), [format!("{{\"after\":\"{says}\"}}")]);
        until("the plan before goes on", async || lines(&out).iter().any(|l| l["after"] == says).then_some(())).await;
        node.apply(&door(port, &out, &good));
        becomes(&node, "kiosk-1", "fine").await;
    }
    assert!(!lines(&out).iter().any(|l| l["private"] == 1));

    // The owner forbids changes: the agent goes on with what it has, over a restart, and says nothing of taking what it is given.
    host.stop().await;
    let settings = host.data.join("agent.toml");
    let text = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, text.replace("remote_changes = true", "remote_changes = false")).unwrap();
    host.begin();
    becomes(&node, "kiosk-1", "fine").await;
    node.apply(&door(
        port,
        &out,
        &format!("{}[assignment.all]\ncollect = [\"log\"]\ndo = ['set changed = 1']\n", collect("log", &format!("{}/*.log", logs.display()))),
    ));
    let is_told = async || agent(&node, "kiosk-1").await["says"].as_str().unwrap().starts_with("its owner does not let it be changed from here").then_some(());
    until("it is said who does not let it be changed", is_told).await;
    assert_eq!(agent(&node, "kiosk-1").await["condition"], "stale");
    append(&logs.join("app.log"), ["{\"last\":1}".to_owned()]);
    let last = until("it goes on as before", async || lines(&out).into_iter().find(|l| l["last"] == 1)).await;
    assert_eq!(last["changed"], Value::Null, "{last}");
    host.stop().await;
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn groups_and_labels_are_given_from_the_centre_and_hosts_are_bounded() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"n\":1}".to_owned()]);
    let assignments = "[assignment.gates]\nwhen = 'group = \"gates\" and labels.port = \"Skerry Point\"'\ncollect = [\"log\"]\nmax_rate = \"2 KB\"\nhold_at_most = \"300 MB\"\n";
    node.apply(&door(port, &out, &format!("{}{assignments}", collect("log", log.to_str().unwrap()))));
    let mut host = Host::join(&node, "gate-1", "kiosks", &["--label", "port=Lowmere"]);
    becomes(&node, "gate-1", "fine").await;
    assert!(lines(&out).is_empty(), "it is in another group");

    // What changes is said before, and nothing is changed by asking.
    let unasked = node.client(&["agent", "set", "--when", "group = \"kiosks\"", "--group", "gates", "--label", "port=Skerry Point"]);
    assert!(!unasked.status.success() && text(&unasked.stdout).contains("gate-1: collects log as well"), "{}{}", text(&unasked.stdout), text(&unasked.stderr));
    assert_eq!(agent(&node, "gate-1").await["group"], "kiosks");
    for wrong in [
        &["nobody", "--group", "gates"][..],
        &["gate-1", "--group", "9"],
        &["gate-1"],
        &["--when", "group =", "--group", "gates"],
        &["gate-1", "--label", "port"],
    ] {
        assert!(!node.client(&[&["agent", "set", "--yes"], wrong].concat()).status.success(), "{wrong:?}");
    }
    assert!(node.client(&["agent", "set", "gate-1", "--group", "gates", "--label", "port=Skerry Point", "--label", "line=north", "--yes"]).status.success());
    let first = until("its event is there", async || lines(&out).first().cloned()).await;
    assert_eq!(first["agent.group"], "gates");
    let shown = text(&node.client(&["agent", "show", "gate-1"]).stdout);
    assert!(shown.contains("port = Skerry Point") && shown.contains("line = north"), "{shown}");

    // It sends no faster than it may: after 10 KB, what comes next has to wait for five seconds.
    append(&log, (0..80).map(|n| format!("{{\"n\":{n},\"padding\":\"{}\"}}", "x".repeat(100))));
    until("many are there", async || (lines(&out).len() == 81).then_some(())).await;
    let begun = std::time::Instant::now();
    append(&log, ["{\"last\":1}".to_owned()]);
    until("the last is there", async || lines(&out).iter().any(|l| l["last"] == 1).then_some(())).await;
    assert!(begun.elapsed().as_millis() > 2_000, "it came after {:?}", begun.elapsed());
    let given = std::fs::read_to_string(host.data.join("assigned.toml")).unwrap();
    assert!(given.ends_with("[destination.centre]\nmax_rate = \"2000 B\"\nhold_at_most = \"300000000 B\"\n"), "{given}");

    // What the centre says stays over restarts of either; taken back, the host's own counts again.
    host.stop().await;
    node.kill();
    node.begin().await;
    host.begin();
    becomes(&node, "gate-1", "fine").await;
    assert_eq!(node.get("/api/v1/agents/gate-1").await["facts"]["labels"], json!({ "port": "Skerry Point", "line": "north" }));
    assert!(node.client(&["agent", "set", "gate-1", "--label", "port=", "--yes"]).status.success());
    until("the host's own label counts", async || (node.get("/api/v1/agents/gate-1").await["facts"]["labels"]["port"] == "Lowmere").then_some(())).await;
    until("it collects nothing of this any more", async || agent(&node, "gate-1").await["assignments"].as_array().unwrap().is_empty().then_some(())).await;
    assert!(text(&node.client(&["journal"]).stdout).contains("set agents"));
    host.stop().await;
    node.stop().await;
}

/// The change that is on its way to hosts.
async fn stage(node: &Node) -> Value {
    node.get("/api/v1/agents").await["stage"].clone()
}

/// Applies a plan that goes to some hosts first.
fn first(node: &Node, plan: &str, hosts: &str, well_for: &str) -> Output {
    let file = node.write("next.toml", plan);
    node.client(&["apply", &file, "--yes", "--first", hosts, "--well-for", well_for])
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_goes_to_some_hosts_first_and_then_on_or_back_by_itself() {
    let [port, taken] = free_ports();
    let mut node = Node::start().await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"n\":1}".to_owned()]);
    let plan = |step: &str| door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n{step}", collect("log", log.to_str().unwrap())));
    node.apply(&plan(""));
    let mut hosts = ["kiosk-1", "kiosk-2", "gate-1"].map(|name| Host::join(&node, name, name.split('-').next().unwrap(), &[]));
    for host in &hosts {
        becomes(&node, &host.name, "fine").await;
    }
    let runs = |host: &Host, text: &str| std::fs::read_to_string(host.data.join("assigned.toml")).is_ok_and(|plan| plan.contains(text));

    // On the gate first. It is not given to the others, not even over a restart of the service; then it goes on by hand.
    let refused = first(&node, &plan("do = ['set a = 1']\n"), "group = \"vessel\"", "1 hour");
    assert!(text(&refused.stderr).contains("none of the 3 hosts that it changes meets `group = \"vessel\"`"), "{}", text(&refused.stderr));
    assert!(!first(&node, &plan("do = ['set a = 1']\n"), "0%", "1 hour").status.success());
    assert!(first(&node, &plan("do = ['set a = 1']\n"), "group = \"gate\"", "1 hour").status.success());
    until("the gate has it", async || runs(&hosts[2], "set a = 1").then_some(())).await;
    let shown = until("the gate is well", async || Some(stage(&node).await).filter(|stage| stage["well_since_ms"].is_i64())).await;
    assert_eq!((&shown["revision"], &shown["before"], &shown["hosts"]), (&json!(2), &json!(1), &json!(["gate-1"])));
    node.kill();
    node.begin().await;
    until("the gate is well again", async || Some(stage(&node).await).filter(|stage| stage["well_since_ms"].is_i64())).await;
    assert!(!runs(&hosts[0], "set a = 1") && !runs(&hosts[1], "set a = 1"));
    let listed = text(&node.client(&["agent", "list"]).stdout);
    assert!(listed.contains("Revision 2 runs first on gate-1 (group = \"gate\"), the others collect by revision 1: they have been well for"), "{listed}");
    assert!(node.client(&["agent", "stage", "on"]).status.success());
    until("all have it", async || hosts.iter().all(|host| runs(host, "set a = 1")).then_some(())).await;
    assert_eq!((stage(&node).await, node.client(&["agent", "stage", "back"]).status.success()), (Value::Null, false));

    // On a share, and on by itself.
    assert!(first(&node, &plan("do = ['set b = 1']\n"), "30%", "3 seconds").status.success());
    until("all have it", async || hosts.iter().all(|host| runs(host, "set b = 1")).then_some(())).await;
    assert_eq!(stage(&node).await, Value::Null);

    // What a host cannot run goes back by itself, and the others never had it.
    let _taken = std::net::TcpListener::bind(("127.0.0.1", taken)).unwrap();
    let bad = door(port, &out, &format!("[collect.log]\nkind = \"tcp\"\nlisten = \"127.0.0.1:{taken}\"\n[assignment.all]\ncollect = [\"log\"]\n"));
    assert!(first(&node, &bad, "agent.name = \"kiosk-2\"", "1 hour").status.success());
    let back = until("it goes back", async || Some(stage(&node).await).filter(|stage| stage["phase"] == "back")).await;
    assert!(back["says"].as_str().unwrap().starts_with("kiosk-2 cannot run it: "), "{back}");
    for host in &hosts {
        becomes(&node, &host.name, "fine").await;
        assert!(runs(host, "set b = 1"), "{}", host.name);
    }
    // So does what makes a host ail: here, a file that is not there. Over a restart it stays where it is.
    let missing = door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", "/nowhere/at/all.log")));
    assert!(first(&node, &missing, "40%", "1 hour").status.success());
    let back = until("it goes back", async || Some(stage(&node).await).filter(|stage| stage["phase"] == "back" && stage["revision"] == 5)).await;
    assert!(back["says"].as_str().unwrap().contains("source:log") && back["before"] == 3, "{back}");
    node.kill();
    node.begin().await;
    for host in &mut hosts {
        becomes(&node, &host.name, "fine").await;
        assert!(runs(host, "set b = 1"), "{}", host.name);
    }
    let journal = text(&node.client(&["journal"]).stdout);
    assert!(journal.contains("change goes on to all hosts") && journal.contains("change goes back on all hosts"), "{journal}");
    for host in &mut hosts {
        host.stop().await;
    }
    node.stop().await;
}

/// Does what `curl` does with a line of the centre, in a shell.
fn shell(line: &str) -> Output {
    Command::new("sh").args(["-c", line]).stdin(Stdio::null()).output().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_that_has_nothing_yet_fetches_the_program_and_installs_its_agent() {
    let [port, other] = free_ports();
    let mut node = Node::start().await;
    let (out, log, root) = (node.path("out.jsonl"), node.path("app.log"), node.path("image"));
    node.apply(&door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", log.to_str().unwrap()))));
    append(&log, ["{\"first\":1}".to_owned()]);
    let made = node.json(&["agent", "code", "kiosks"]);
    let fetch = made["setup_line"].as_str().unwrap().strip_suffix(" | sudo sh").unwrap().to_owned();
    std::fs::create_dir(&root).unwrap();

    // It says what it would do, and asks before it does anything.
    let image = format!("--root '{}' --name kiosk-7", root.display());
    let dry = shell(&format!("{fetch} | sh -s -- --dry {image}"));
    let says = text(&dry.stdout);
    assert!(dry.status.success() && says.contains("enrol this host as kiosk-7") && says.contains("write the script"), "{says}{}", text(&dry.stderr));
    // No terminal: nobody can be asked.
    let unasked = shell(&format!("{fetch} | setsid sh -s -- {image}"));
    assert!(!unasked.status.success() && text(&unasked.stderr).contains("pass --yes"), "{}", text(&unasked.stderr));
    assert_eq!(std::fs::read_dir(&root).unwrap().count(), 0);
    let installed = shell(&format!("{fetch} | sh -s -- --yes --label port=Lowmere {image}"));
    assert!(installed.status.success(), "{}{}", text(&installed.stdout), text(&installed.stderr));
    assert!(root.join("usr/local/sbin/rockrose-agent").exists());
    let program = root.join("usr/local/bin/rockrose");
    assert_eq!(std::fs::metadata(&program).unwrap().len(), std::fs::metadata(binary()).unwrap().len());
    let mut host = Host { name: "kiosk-7".into(), data: root.join("var/lib/rockrose-agent"), running: None };
    host.begin();
    until("its first event is there", async || lines(&out).iter().any(|l| l["first"] == 1 && l["agent.name"] == "kiosk-7").then_some(())).await;
    becomes(&node, "kiosk-7", "fine").await;

    // The code is used up: neither the script nor the program is given out any more. Another server is not taken for this one.
    let used = shell(&fetch);
    assert!(!used.status.success() && text(&used.stderr).contains("401"), "{}", text(&used.stderr));
    assert!(!shell(&fetch.replace("/agent/setup", "/agent/rockrose")).status.success());
    let fresh = node.json(&["agent", "code", "kiosks"])["setup_line"].as_str().unwrap().strip_suffix(" | sudo sh").unwrap().to_owned();
    let mut stranger = Node::start().await;
    stranger.apply(&door(other, &stranger.path("out.jsonl"), ""));
    let elsewhere = shell(&fresh.replace(&format!(":{port}/"), &format!(":{other}/")));
    assert_eq!(elsewhere.status.code(), Some(90), "curl says that the key is another: {}", text(&elsewhere.stderr));
    stranger.stop().await;
    // The line is good over a restart: the key of the source stays.
    node.kill();
    node.begin().await;
    let again = until("the source listens again", async || Some(shell(&fresh)).filter(|script| script.status.code() != Some(7))).await;
    assert!(again.status.success() && text(&again.stdout).starts_with("#!/bin/sh"), "{}", text(&again.stderr));
    host.stop().await;
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_log_files_of_a_host_are_found_from_the_centre_and_collected() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let (out, logs, private) = (node.path("out.jsonl"), node.path("logs"), node.path("private"));
    std::fs::create_dir_all(logs.join("web")).unwrap();
    std::fs::create_dir(&private).unwrap();
    append(&private.join("letters.log"), ["dear ann".to_owned()]);
    append(&logs.join("app.log"), ["{\"known\":1}".to_owned()]);
    let visit = |path: &str| format!("192.0.2.7 - - [23/Nov/2026:10:00:00 +0000] \"GET {path} HTTP/1.1\" 200 512");
    append(&logs.join("web/access.log"), ["/berths", "/seats"].map(visit));
    let known = format!("{}[assignment.app]\ncollect = [\"app\"]\n", collect("app", &format!("{}/*.log", logs.display())));
    node.apply(&door(port, &out, &known));
    let mut host = Host::join(&node, "booking-1", "booking", &["--allow", logs.to_str().unwrap()]);
    becomes(&node, "booking-1", "fine").await;

    // Without patterns, what its owner allows is looked through; what is collected is told of, the rest is read by the kit that fits.
    let found = node.json(&["agent", "look", "booking-1"]);
    assert_eq!((&found["file_count"], &found["collected"]), (&json!(2), &json!([{ "by": "app", "file_count": 1 }])), "{found}");
    let kind = &found["kinds"][0];
    assert_eq!((&kind["recognised"]["kits"], &kind["recognised"]["events"][0]["path"]), (&json!(["access-log"]), &json!("/berths")), "{found}");
    let printed = text(&node.client(&["agent", "look", "booking-1", "--group"]).stdout);
    assert!(printed.contains("Collected already: 1 by app.") && printed.contains("when = 'group = \"booking\"'"), "{printed}");
    // What is said goes into the plan as it is, and is collected.
    let text_of = |member: &str| found[member].as_str().unwrap().to_owned();
    node.apply(&door(port, &out, &format!("{known}{}\n{}", text_of("plan"), text_of("for_host"))));
    becomes(&node, "booking-1", "fine").await;
    until("the files are followed", async || {
        node.json(&["agent", "show", "booking-1"])["parts"].as_array().unwrap().iter().any(|p| p["part"] == "source:booking").then_some(())
    })
    .await;
    until("a visit is collected", async || {
        append(&logs.join("web/access.log"), [visit("/pay")]);
        lines(&out).into_iter().find(|l| l["path"] == "/pay" && l["status"] == 200 && l["agent.collect"] == "booking")
    })
    .await;
    let nothing_new = node.json(&["agent", "look", "booking-1"]);
    assert_eq!((&nothing_new["kinds"], &nothing_new["plan"]), (&json!([]), &Value::Null), "{nothing_new}");

    // Of what its owner does not allow, not even the names are told.
    for pattern in [format!("{}/*", private.display()), format!("{}/../private/*", logs.display()), "/etc/*".to_owned()] {
        let refused = node.json(&["agent", "look", "booking-1", &pattern]);
        let file = &refused["files"][0];
        assert!(file["says"].as_str().unwrap().contains("only what is below") && refused["files"].as_array().unwrap().len() == 1, "{refused}");
    }
    host.stop().await;
    let settings = host.data.join("agent.toml");
    let written = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, written.replace("show_files = true", "show_files = false")).unwrap();
    host.begin();
    until("it is told who does not let them be looked at", async || {
        let refused = node.client(&["agent", "look", "booking-1"]);
        text(&refused.stderr).contains("the owner of booking-1 does not let its files be looked into").then_some(())
    })
    .await;
    assert!(text(&node.client(&["journal"]).stdout).contains("look into files of agent"));
    host.stop().await;
    node.balanced();
    node.stop().await;
}

/// Writes a journal file of one entry for each message, as `systemd-journald` would.
fn write_journal(path: &Path, first: usize, messages: &[String]) {
    let entry = |(number, message): (usize, &String)| {
        format!(
            "__REALTIME_TIMESTAMP={}\n__MONOTONIC_TIMESTAMP={number}\n_BOOT_ID=0123456789abcdef0123456789abcdef\nPRIORITY=4\nSYSLOG_IDENTIFIER=gated\n_SYSTEMD_UNIT=gated.service\nMESSAGE={message}\n\n",
            1_792_000_000_000_000_usize + number
        )
    };
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    let export = path.with_extension("export");
    std::fs::write(&export, (first..).zip(messages).map(entry).collect::<String>()).unwrap();
    let made = path.with_extension("made.journal");
    let written = Command::new("/lib/systemd/systemd-journal-remote").arg("-o").arg(&made).arg(&export).output().unwrap();
    assert!(written.status.success(), "{}", text(&written.stderr));
    std::fs::rename(&made, path).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn the_journal_of_a_host_arrives_once_through_kills() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let (out, journal) = (node.path("out.jsonl"), node.path("journal"));
    let collect =
        format!("[collect.journal]\nkind = \"system_journal\"\nfolder = \"{}\"\nunits = [\"gated.service\"]\nbegin_at = \"start\"\n", journal.display());
    node.apply(&door(port, &out, &format!("{collect}[assignment.all]\ncollect = [\"journal\"]\ndo = ['drop message contains \"debug\"']\n")));
    let mut host = Host::join(&node, "gate-1", "gates", &[]);
    let trouble = becomes(&node, "gate-1", "trouble").await;
    assert!(trouble["says"].as_str().unwrap().contains("there is no journal in"), "{trouble}");
    let entries = |file: usize| (0..50).map(|n| format!("barrier {} opened{}", 50 * file + n, if n % 5 == 0 { ", debug" } else { "" })).collect::<Vec<_>>();
    for file in 0..6 {
        write_journal(&node.path(&format!("stage/{file}.journal")), 50 * file, &entries(file));
        std::fs::create_dir_all(&journal).unwrap();
        std::fs::rename(node.path(&format!("stage/{file}.journal")), journal.join(format!("{file}.journal"))).unwrap();
        tokio::time::sleep(std::time::Duration::from_millis(fastrand::u64(0..600))).await;
        host.kill();
        host.begin();
    }
    until("all are there", async || (lines(&out).len() >= 240).then_some(())).await;
    becomes(&node, "gate-1", "fine").await;
    let mut messages: Vec<String> = lines(&out).iter().map(|l| l["message"].as_str().unwrap().to_owned()).collect();
    messages.sort();
    messages.dedup();
    assert_eq!((lines(&out).len(), messages.len()), (240, 240), "each once, and what was dropped there did not come");
    let one = &lines(&out)[0];
    assert_eq!(["severity", "app", "systemd.unit"].map(|f| one[f].as_str().unwrap()), ["warning", "gated", "gated.service"]);
    host.stop().await;
    node.balanced();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_line_arrives_once_through_kills_of_agents_and_the_service() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let out = node.path("out.jsonl");
    let (names, mut plan) = (["kiosk-1", "gate-1"], String::new());
    for name in names {
        std::fs::create_dir(node.path(&format!("logs-{name}"))).unwrap();
        let paths = format!("{}/*.log", node.path(&format!("logs-{name}")).display());
        plan += &format!("{}[assignment.{name}]\nwhen = 'agent.name = \"{name}\"'\ncollect = [\"{name}-log\"]\n", collect(&format!("{name}-log"), &paths));
    }
    node.apply(&door(port, &out, &plan));
    let mut hosts = names.map(|name| Host::join(&node, name, "all", &[]));
    let mut written = 0;
    // A longer trial by hand: ROCKROSE_KILL_ROUNDS=300.
    let rounds = std::env::var("ROCKROSE_KILL_ROUNDS").ok().and_then(|rounds| rounds.parse().ok()).unwrap_or(24);
    for round in 0..rounds {
        for name in names {
            append(&node.path(&format!("logs-{name}/app.log")), (0..200).map(|n| format!("{{\"host\":\"{name}\",\"n\":{}}}", written + n)));
        }
        written += 200;
        // Somewhere on the way of what was just written.
        tokio::time::sleep(std::time::Duration::from_millis(fastrand::u64(0..400))).await;
        match round % 3 {
            0 => {
                hosts[round % 2].kill();
                hosts[round % 2].begin();
            }
            1 => {
                node.kill();
                node.begin().await;
            }
            _ => {
                node.kill();
                hosts.iter_mut().for_each(Host::kill);
                hosts.iter_mut().for_each(Host::begin);
                node.begin().await;
            }
        }
    }
    let expected = written as usize * names.len();
    until("all have arrived", async || (lines(&out).len() >= expected).then_some(())).await;
    node.drained().await;
    let mut each: Vec<(String, i64)> = lines(&out).iter().map(|l| (l["host"].as_str().unwrap().to_owned(), l["n"].as_i64().unwrap())).collect();
    each.sort();
    let mut once = each.clone();
    once.dedup();
    assert_eq!((each.len(), once.len()), (expected, expected), "each line once");
    let ledger = node.balanced();
    assert_eq!(sum(&ledger, "source", "hosts", "received"), expected as i64);
    for host in &mut hosts {
        until("the agent knows that all was taken", async || host.status().contains("Nothing waits").then_some(())).await;
        host.stop().await;
        let status = host.json_status();
        assert_eq!([&status["collected"], &status["sent"], &status["balanced"]], [&json!(written), &json!(written), &json!(true)], "{}", host.log());
    }
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn certificates_are_renewed_while_events_flow() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    node.apply(&door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", log.to_str().unwrap()))));
    append(&log, ["{\"first\":1}".to_owned()]);
    let mut host = Host::join(&node, "kiosk-1", "kiosks", &[]);
    becomes(&node, "kiosk-1", "fine").await;
    node.stop().await;
    let mut records = diesel::sqlite::SqliteConnection::establish(node.path("data/records.db").to_str().unwrap()).unwrap();
    diesel::sql_query("UPDATE agent SET signed_ms = signed_ms - 40 * 86400000").execute(&mut records).unwrap();
    node.begin().await;
    let certificate = |n: u32| host.data.join(format!("identity/certificate-{n}.pem"));
    until("the certificate is renewed", async || (certificate(2).exists() && !certificate(1).exists()).then_some(())).await;
    append(&log, ["{\"renewed\":1}".to_owned()]);
    until("events flow with the new one", async || lines(&out).iter().any(|l| l["renewed"] == 1).then_some(())).await;
    let is_forgotten = |records: &mut SqliteConnection| {
        let kept: Vec<Option<Vec<u8>>> =
            diesel::sql_query("SELECT previous FROM agent").load::<Previous>(records).unwrap().into_iter().map(|p| p.previous).collect();
        kept == [None]
    };
    until("the one before is good no longer", async || is_forgotten(&mut records).then_some(())).await;
    becomes(&node, "kiosk-1", "fine").await;
    host.stop().await;
    node.stop().await;
}

#[derive(diesel::QueryableByName)]
struct Previous {
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::Binary>)]
    previous: Option<Vec<u8>>,
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_may_not_be_read_is_told_with_the_line_that_mends_it() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let (out, logs) = (node.path("out.jsonl"), node.path("logs"));
    std::fs::create_dir(&logs).unwrap();
    let log = logs.join("app.log");
    append(&log, ["{\"n\":1}".to_owned()]);
    node.apply(&door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", &format!("{}/*.log", logs.display())))));
    let enrolled = code(&node, "kiosks");
    let mut host = Host::new(&node, "kiosk-1");
    // Whoever may read everything cannot be denied anything: then the agent runs as nobody.
    let open = |path: &Path, mode: u32| std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
    open(&log, 0o000);
    let is_root = std::fs::File::open(&log).is_ok();
    let nobody = 65_534;
    let program = if is_root {
        open(node.folder.path(), 0o755);
        std::fs::create_dir(&host.data).unwrap();
        std::os::unix::fs::chown(&host.data, Some(nobody), Some(nobody)).unwrap();
        let copy = node.path("rockrose");
        std::fs::copy(binary(), &copy).unwrap();
        copy
    } else {
        binary()
    };
    if is_root {
        open(&host.data, 0o700);
    }
    let command = |args: &[&str]| {
        let mut command = if is_root {
            let mut command = Command::new("setpriv");
            command.args(["--reuid=65534", "--regid=65534", "--clear-groups"]).arg(&program);
            command
        } else {
            Command::new(&program)
        };
        let log = std::fs::OpenOptions::new().create(true).append(true).open(node.path("kiosk-1.log")).unwrap();
        command.args(args).args(["--data", host.data.to_str().unwrap()]).stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log);
        command
    };
    let args: Vec<&str> = enrolled.strip_prefix("rockrose ").unwrap().split(' ').chain(["--name", "kiosk-1"]).collect();
    let running = Some(Running(command(&args).spawn().unwrap()));
    let trouble = becomes(&node, "kiosk-1", "trouble").await;
    let user = if is_root { nobody } else { std::os::unix::fs::MetadataExt::uid(&std::fs::metadata("/proc/self").unwrap()) };
    let line = format!("setfacl -m u:{user}:r {}", log.display());
    assert!(trouble["says"].as_str().unwrap().contains("Permission denied") && trouble["remedy"] == line.as_str(), "{trouble}");
    until("the host says so as well", async || host.status().contains(&line).then_some(())).await;
    open(&log, 0o644);
    until("its events flow", async || (lines(&out).len() == 1).then_some(())).await;
    becomes(&node, "kiosk-1", "fine").await;
    host.running = running;
    host.stop().await;
    node.stop().await;
}

/// An agent of another make, which speaks the open protocol with a code.
struct Other {
    http: reqwest::Client,
    endpoint: String,
    bearer: String,
}

impl Other {
    fn new(node: &Node) -> Other {
        let made = node.json(&["agent", "code", "sdk"]);
        let of = |member: &str| made[member].as_str().unwrap().to_owned();
        let authority = reqwest::Certificate::from_pem(of("authority").as_bytes()).unwrap();
        // Only what was given is trusted, and nothing of the system.
        let http = reqwest::Client::builder().no_proxy().tls_certs_only([authority]).build().unwrap();
        Other { http, endpoint: of("endpoint"), bearer: of("bearer") }
    }

    async fn post(&self, bearer: Option<&str>, body: Vec<u8>) -> reqwest::Response {
        let request = self.http.post(&self.endpoint).header("content-type", "application/x-protobuf").body(body);
        bearer.into_iter().fold(request, |request, bearer| request.bearer_auth(bearer)).send().await.unwrap()
    }

    async fn says(&self, message: &AgentToServer) -> ServerToAgent {
        let answer = self.post(Some(&self.bearer), message.encode_to_vec()).await;
        assert_eq!(answer.status(), 200);
        ServerToAgent::decode(&*answer.bytes().await.unwrap()).unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn agents_of_another_make_are_managed_by_the_open_protocol_and_strangers_change_nothing() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let text_of =
        |content: &str| format!("[assignment.sdk]\nwhen = 'service.name = \"booking-site\"'\ntext = '{content}'\ncontent_type = \"application/json\"\n");
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("{\"sampling\":1}")));
    let other = Other::new(&node);
    let description = AgentDescription {
        identifying_attributes: vec![KeyValue::text("service.name", "booking-site"), KeyValue::text("host.name", "booking-3")],
        ..AgentDescription::default()
    };
    let full = AgentToServer {
        instance_uid: vec![7; 16],
        agent_description: Some(description.clone()),
        capabilities: agent_capabilities::REPORTS_STATUS | agent_capabilities::ACCEPTS_REMOTE_CONFIG,
        ..AgentToServer::default()
    };
    let bare = |sequence_num: u64| AgentToServer { instance_uid: vec![7; 16], sequence_num, capabilities: full.capabilities, ..AgentToServer::default() };

    // Whoever shows nothing, or another code, is a stranger.
    assert_eq!(other.post(None, full.encode_to_vec()).await.status(), 401);
    assert_eq!(other.post(Some("4f02"), full.encode_to_vec()).await.status(), 401);
    assert_eq!(other.post(Some(&other.bearer), vec![0xff; 40]).await.status(), 400, "not a message");
    // Too much to be one is answered before it was sent, or cut off.
    let large =
        other.http.post(&other.endpoint).header("content-type", "application/x-protobuf").bearer_auth(&other.bearer).body(vec![0; 600_000]).send().await;
    assert!(large.map_or(true, |answer| answer.status() == 413));
    assert_eq!(agent(&node, "booking-3").await, Value::Null);

    let answer = other.says(&full).await;
    let given = answer.remote_config.expect("what is assigned");
    let files = given.config.unwrap().config_map;
    assert_eq!((files["sdk"].body.as_slice(), files["sdk"].content_type.as_str()), (&b"{\"sampling\":1}"[..], "application/json"));
    let status = |hash: &[u8], status: RemoteConfigStatuses, error: &str| {
        Some(RemoteConfigStatus { last_remote_config_hash: hash.to_vec(), status: status as i32, error_message: error.to_owned() })
    };
    let applied = AgentToServer { remote_config_status: status(&given.config_hash, RemoteConfigStatuses::Applied, ""), ..bare(1) };
    let answer = other.says(&applied).await;
    assert!(answer.remote_config.is_none() && answer.flags == 0, "it has it: {answer:?}");
    becomes(&node, "booking-3", "fine").await;
    assert_eq!(other.says(&bare(2)).await.flags, 0);
    // It does not show files; and it may be unwell as a whole.
    let unseen = node.client(&["agent", "look", "booking-3"]);
    assert!(text(&unseen.stderr).contains("or it is an agent of another make"), "{}", text(&unseen.stderr));
    let health = |healthy: bool, last_error: &str| Some(ComponentHealth { healthy, last_error: last_error.to_owned(), ..ComponentHealth::default() });
    other.says(&AgentToServer { health: health(false, "no berth for its exporter"), ..bare(3) }).await;
    assert_eq!(becomes(&node, "booking-3", "trouble").await["says"], "no berth for its exporter");
    other.says(&AgentToServer { health: health(true, ""), ..bare(4) }).await;
    becomes(&node, "booking-3", "fine").await;
    assert_eq!(other.says(&bare(9)).await.flags, server_to_agent_flags::REPORT_FULL_STATE, "some words were lost");

    // It cannot take what it is given next, and says why. It is not given it again and again.
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("{\"sampling\":7}")));
    let given = other.says(&bare(10)).await.remote_config.expect("what is assigned now");
    let failed: AgentToServer =
        AgentToServer { remote_config_status: status(&given.config_hash, RemoteConfigStatuses::Failed, "sampling is at most 1"), ..bare(11) };
    assert!(other.says(&failed).await.remote_config.is_none());
    let refused = becomes(&node, "booking-3", "refused").await;
    assert!(refused["says"].as_str().unwrap().contains("sampling is at most 1"), "{refused}");

    // It is known after a restart of the service, and by its code and id together.
    node.kill();
    node.begin().await;
    let answer = other.says(&bare(12)).await;
    assert!(
        answer.remote_config.is_none() && answer.flags == server_to_agent_flags::REPORT_FULL_STATE,
        "nothing is given before it is known for whom: {answer:?}"
    );
    let again = AgentToServer { sequence_num: 13, agent_description: Some(description.clone()), ..failed };
    assert!(other.says(&again).await.remote_config.is_none());
    let claims = AgentToServer { instance_uid: vec![8; 16], ..full.clone() };
    assert_eq!(other.post(Some(&other.bearer), claims.encode_to_vec()).await.status(), 401, "the code is used up");
    // Facts without end are refused, and those of before stay.
    let large = AgentDescription { non_identifying_attributes: vec![KeyValue::text("os.type", &"x".repeat(200_000))], ..description };
    let answer = other.says(&AgentToServer { agent_description: Some(large), ..bare(14) }).await;
    assert!(answer.error_response.unwrap().error_message.contains("more than 65536"));
    assert_eq!(node.get("/api/v1/agents/booking-3").await["facts"]["os.type"], Value::Null);
    // Events are taken only from those that show a certificate.
    let posted = other.http.post(format!("https://127.0.0.1:{port}/in")).bearer_auth(&other.bearer).body("{}").send().await.unwrap();
    assert_eq!(posted.status(), 401);
    // Who guesses codes has to wait.
    let mut guesses = 0;
    while other.post(Some(&format!("guess{guesses}")), full.encode_to_vec()).await.status() != 429 {
        guesses += 1;
        assert!(guesses < 100);
    }
    node.stop().await;
}

/// Another program that does the same: the one that is tested, with something behind it that nobody reads.
fn another_program(path: &Path, mark: &str) {
    std::fs::copy(binary(), path).unwrap();
    let mut file = std::fs::OpenOptions::new().append(true).open(path).unwrap();
    file.write_all(mark.as_bytes()).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn agents_take_a_program_of_the_centre_and_go_back_from_one_that_does_not_do() {
    let [port] = free_ports();
    let mut node = Node::start_with(|folder| {
        let program = folder.join("given");
        another_program(&program, "second");
        vec!["--agent-program".to_owned(), program.display().to_string()]
    })
    .await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"n\":1}".to_owned()]);
    node.apply(&door(port, &out, &format!("{}[assignment.all]\ncollect = [\"log\"]\n", collect("log", log.to_str().unwrap()))));
    let mut host = Host::join(&node, "kiosk-1", "kiosks", &[]);
    let mut other = Host::join(&node, "kiosk-2", "kiosks", &[]);
    becomes(&node, "kiosk-2", "fine").await;
    other.stop().await;
    let settings = other.data.join("agent.toml");
    let written = std::fs::read_to_string(&settings).unwrap();
    std::fs::write(&settings, written.replace("updates = true", "updates = false").replace("remote_changes = true", "remote_changes = false")).unwrap();
    other.begin();
    becomes(&node, "kiosk-1", "fine").await;
    until("the other takes no programs", async || {
        let updated = node.json(&["agent", "update", "kiosk-1", "kiosk-2"]);
        (updated["names"] == json!(["kiosk-1"])).then_some(())
    })
    .await;
    // It fetches it, tries it, and the centre hears of it.
    let update = async |node: &Node| node.get("/api/v1/agents").await["update"].clone();
    until("it has the program", async || (update(&node).await["done"] == 1).then_some(())).await;
    let programs = |host: &Host| -> Value { serde_json::from_slice(&std::fs::read(host.data.join("program/programs.json")).unwrap()).unwrap() };
    let current = until("it stays", async || programs(&host)["current"].as_str().map(str::to_owned)).await;
    assert!(host.data.join("program").join(&current).exists());
    append(&log, ["{\"n\":2}".to_owned()]);
    until("events flow", async || lines(&out).iter().any(|l| l["n"] == 2).then_some(())).await;
    // Stopped and started, it goes on with it; killed, nothing of it is left to be in its way.
    host.stop().await;
    host.begin();
    becomes(&node, "kiosk-1", "fine").await;
    host.kill();
    host.begin();
    append(&log, ["{\"n\":3}".to_owned()]);
    until("events flow again", async || lines(&out).iter().any(|l| l["n"] == 3).then_some(())).await;
    assert_eq!(programs(&host)["current"], json!(current));

    // One that ends at once: it is told, and the one before goes on.
    node.stop().await;
    std::fs::write(node.path("given"), "#!/bin/sh\nexit 3\n").unwrap();
    node.begin().await;
    becomes(&node, "kiosk-1", "fine").await;
    assert!(node.client(&["agent", "update", "--when", "group = \"kiosks\"", "--first", "50%", "--well-for", "1 hour"]).status.success());
    let told = until("it is told that it does not do", async || Some(update(&node).await).filter(|update| update["stopped"].is_string())).await;
    assert!(told["stopped"].as_str().unwrap().contains("kiosk-1 cannot run it: it ended at once"), "{told}");
    let trouble = becomes(&node, "kiosk-1", "trouble").await;
    assert!(trouble["says"].as_str().unwrap().contains("could not take the program that it was offered"), "{trouble}");
    assert_eq!(programs(&host)["current"], json!(current));
    append(&log, ["{\"n\":4}".to_owned()]);
    until("events flow by the one before", async || lines(&out).iter().any(|l| l["n"] == 4).then_some(())).await;
    let said = text(&node.client(&["agent", "update"]).stdout);
    assert!(said.contains("0 of 1 agents have the program of this service; it goes no further"), "{said}");
    assert!(node.client(&["agent", "update", "--stop"]).status.success());
    let journal = text(&node.client(&["journal"]).stdout);
    assert!(journal.contains("update agents") && journal.contains("update of agents stopped"), "{journal}");
    for host in [&mut host, &mut other] {
        host.stop().await;
    }
    node.balanced();
    node.stop().await;
}

/// A small server of another make, which manages our agent: what it gives next, and what it was told.
#[derive(Default)]
struct Manager {
    gives: std::sync::Mutex<Option<(Vec<u8>, String)>>,
    told: std::sync::Mutex<Vec<AgentToServer>>,
}

impl Manager {
    /// Begins to listen with a certificate of its own, which is returned.
    async fn start() -> (std::sync::Arc<Manager>, u16, String) {
        use tokio_rustls::rustls::ServerConfig;
        use tokio_rustls::rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};

        let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned()]).unwrap();
        let key = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
        let _ = tokio_rustls::rustls::crypto::ring::default_provider().install_default();
        let config = ServerConfig::builder().with_no_client_auth().with_single_cert(vec![made.cert.der().clone()], key).unwrap();
        let acceptor = tokio_rustls::TlsAcceptor::from(std::sync::Arc::new(config));
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let manager = std::sync::Arc::new(Manager::default());
        let serving = std::sync::Arc::clone(&manager);
        tokio::spawn(async move {
            while let Ok((tcp, _)) = listener.accept().await {
                let (acceptor, manager) = (acceptor.clone(), std::sync::Arc::clone(&serving));
                tokio::spawn(async move {
                    let Ok(mut tls) = acceptor.accept(tcp).await else { return };
                    while manager.exchange(&mut tls).await.is_some() {}
                });
            }
        });
        (manager, port, made.cert.pem())
    }

    /// Answers one request over a connection.
    async fn exchange(&self, stream: &mut (impl tokio::io::AsyncRead + tokio::io::AsyncWrite + Unpin)) -> Option<()> {
        use tokio::io::{AsyncReadExt, AsyncWriteExt};

        let mut bytes = Vec::new();
        let head = loop {
            let mut piece = [0; 4_096];
            let n = stream.read(&mut piece).await.ok().filter(|n| *n > 0)?;
            bytes.extend_from_slice(&piece[..n]);
            if let Some(end) = bytes.windows(4).position(|w| w == b"\r\n\r\n") {
                break end + 4;
            }
        };
        let header = String::from_utf8_lossy(&bytes[..head]).to_ascii_lowercase();
        let of = |name: &str| header.lines().find_map(|line| line.strip_prefix(&format!("{name}: ")).map(str::to_owned));
        let length: usize = of("content-length").unwrap().parse().unwrap();
        while bytes.len() < head + length {
            let mut piece = [0; 4_096];
            let n = stream.read(&mut piece).await.ok().filter(|n| *n > 0)?;
            bytes.extend_from_slice(&piece[..n]);
        }
        if of("authorization").as_deref() != Some("bearer harbour") {
            stream.write_all(b"HTTP/1.1 401 Unauthorized\r\ncontent-length: 0\r\n\r\n").await.ok()?;
            return Some(());
        }
        let says = AgentToServer::decode(&bytes[head..head + length]).unwrap();
        let has = says.remote_config_status.as_ref().map(|status| status.last_remote_config_hash.clone()).unwrap_or_default();
        let gives = self.gives.lock().unwrap().clone().filter(|(hash, _)| *hash != has);
        let file = |text: String| AgentConfigFile { body: text.into_bytes(), content_type: "application/toml".to_owned() };
        let remote_config = gives
            .map(|(hash, text)| AgentRemoteConfig { config_hash: hash, config: Some(AgentConfigMap { config_map: [("plan".to_owned(), file(text))].into() }) });
        let answer = ServerToAgent { instance_uid: says.instance_uid.clone(), remote_config, ..ServerToAgent::default() }.encode_to_vec();
        self.told.lock().unwrap().push(says);
        let head = format!("HTTP/1.1 200 OK\r\ncontent-type: application/x-protobuf\r\ncontent-length: {}\r\n\r\n", answer.len());
        stream.write_all(&[head.as_bytes(), &answer].concat()).await.ok()
    }

    /// Gives a plan; returns what became of it, and the words of that.
    async fn gives(&self, hash: &[u8], plan: String) -> (RemoteConfigStatuses, String) {
        *self.gives.lock().unwrap() = Some((hash.to_vec(), plan));
        until("the agent says what became of it", async || {
            let told = self.told.lock().unwrap();
            let status = told.last()?.remote_config_status.clone().filter(|status| status.last_remote_config_hash == hash)?;
            Some((status.status(), status.error_message))
        })
        .await
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_agent_is_managed_by_a_server_of_another_make() {
    let node = Node::start().await;
    let (manager, port, certificate) = Manager::start().await;
    let (ca, out, log) = (node.write("other.pem", &certificate), node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"n\":1}".to_owned()]);
    let url = format!("https://127.0.0.1:{port}/v1/opamp");
    let mut host = Host::new(&node, "gate-1");
    let line = |code: &str| format!("rockrose agent enrol {url} {code} --elsewhere");
    // A token that is none, and a certificate that is not known.
    let refused = host.enrol(&line("4f02"), &["--ca", &ca]);
    assert!(!refused.status.success() && text(&refused.stderr).contains("refuses this agent"), "{}", text(&refused.stderr));
    assert!(!host.enrol(&line("harbour"), &[]).status.success());
    let enrolled = host.enrol(&line("harbour"), &["--ca", &ca]);
    assert!(enrolled.status.success(), "{}", text(&enrolled.stderr));
    host.begin();
    let plan = |collects: &str| {
        format!(
            "[source.log]\nkind = \"file\"\npaths = [\"{collects}\"]\nbegin_at = \"start\"\n[destination.out]\nkind = \"file\"\npath = \"{}\"\n[[route]]\nname = \"all\"\nto = [\"out\"]\n",
            out.display()
        )
    };
    assert_eq!(manager.gives(b"one", plan(log.to_str().unwrap())).await, (RemoteConfigStatuses::Applied, String::new()));
    until("the first event is there", async || (lines(&out).len() == 1).then_some(())).await;
    // A bad one is told back, and the one before goes on; over a restart the agent knows what it runs, and by which id.
    let (status, why) = manager.gives(b"two", plan(log.to_str().unwrap()).replace("\"file\"", "\"pigeon\"")).await;
    assert!(status == RemoteConfigStatuses::Failed && why.contains("pigeon"), "{why}");
    append(&log, ["{\"n\":2}".to_owned()]);
    until("the second event is there", async || (lines(&out).len() == 2).then_some(())).await;
    assert_eq!(manager.gives(b"three", plan(log.to_str().unwrap()).replace("to = ", "do = ['set three = 3']\nto = ")).await.0, RemoteConfigStatuses::Applied);
    host.stop().await;
    manager.told.lock().unwrap().clear();
    host.begin();
    let first = until("it says who it is", async || manager.told.lock().unwrap().first().cloned()).await;
    assert_eq!(first.remote_config_status.unwrap().last_remote_config_hash, b"three");
    let said = first.agent_description.unwrap().identifying_attributes;
    assert!(said.iter().any(|attribute| *attribute == KeyValue::text("agent.name", "gate-1")), "{said:?}");
    append(&log, ["{\"n\":3}".to_owned()]);
    until("the third event is there, shaped anew", async || lines(&out).iter().any(|l| l["n"] == 3 && l["three"] == 3).then_some(())).await;
    assert!(
        until("it is healthy", async || manager.told.lock().unwrap().last().and_then(|told| told.health.clone()).filter(|health| health.healthy)).await.healthy
    );
    host.stop().await;
}

type Socket = tokio_tungstenite::WebSocketStream<tokio_rustls::client::TlsStream<tokio::net::TcpStream>>;

/// A WebSocket to the source for agents, as an agent of another make opens it; or the status with which it is refused.
async fn connect(port: u16, authority: &str, bearer: Option<&str>) -> Result<Socket, u16> {
    use tokio_rustls::rustls::pki_types::pem::PemObject;
    use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName};
    use tokio_rustls::rustls::{ClientConfig, RootCertStore};

    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(authority.as_bytes()).unwrap()).unwrap();
    let _ = tokio_rustls::rustls::crypto::ring::default_provider().install_default();
    let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    let tcp = tokio::net::TcpStream::connect(("127.0.0.1", port)).await.unwrap();
    let tls = tokio_rustls::TlsConnector::from(std::sync::Arc::new(config)).connect(ServerName::try_from("127.0.0.1").unwrap(), tcp).await.unwrap();
    let mut request = tokio_tungstenite::tungstenite::client::IntoClientRequest::into_client_request(format!("wss://127.0.0.1:{port}/v1/opamp")).unwrap();
    if let Some(bearer) = bearer {
        request.headers_mut().insert("authorization", format!("Bearer {bearer}").parse().unwrap());
    }
    match tokio_tungstenite::client_async(request, tls).await {
        Ok((socket, _)) => Ok(socket),
        Err(tokio_tungstenite::tungstenite::Error::Http(answer)) => Err(answer.status().as_u16()),
        Err(e) => panic!("{e}"),
    }
}

async fn tell(socket: &mut Socket, message: &AgentToServer) {
    use futures_util::SinkExt;
    socket.send(tokio_tungstenite::tungstenite::Message::Binary(framed(message).into())).await.unwrap();
}

/// The next message of the server; why it ended the connection, if it did.
async fn told(socket: &mut Socket) -> Result<ServerToAgent, String> {
    use futures_util::StreamExt;
    use tokio_tungstenite::tungstenite::Message as Frame;
    loop {
        let frame = tokio::time::timeout(std::time::Duration::from_secs(20), socket.next()).await.expect("an answer in time");
        match frame {
            Some(Ok(Frame::Binary(bytes))) => return Ok(unframed(&bytes).unwrap()),
            Some(Ok(Frame::Close(frame))) => return Err(frame.map(|frame| frame.reason.to_string()).unwrap_or_default()),
            Some(Ok(_)) => {}
            Some(Err(_)) | None => return Err("it is closed".to_owned()),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn over_a_websocket_agents_are_told_at_once_and_strangers_nothing() {
    let [port] = free_ports();
    let mut node = Node::start().await;
    let text_of =
        |content: &str| format!("[assignment.sdk]\nwhen = 'service.name = \"booking-site\"'\ntext = '{content}'\ncontent_type = \"application/json\"\n");
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("1")));
    let made = node.json(&["agent", "code", "sdk"]);
    let (authority, bearer) = (made["authority"].as_str().unwrap(), made["bearer"].as_str().unwrap());
    let description = AgentDescription {
        identifying_attributes: vec![KeyValue::text("service.name", "booking-site"), KeyValue::text("host.name", "booking-4")],
        ..AgentDescription::default()
    };
    let full = AgentToServer {
        instance_uid: vec![9; 16],
        agent_description: Some(description),
        capabilities: agent_capabilities::REPORTS_STATUS | agent_capabilities::ACCEPTS_REMOTE_CONFIG,
        ..AgentToServer::default()
    };
    // Whoever shows nothing gets no socket; who shows a code that is none, or says what is no message, is told why it ends.
    assert_eq!(connect(port, authority, None).await.unwrap_err(), 401);
    let mut stranger = connect(port, authority, Some("4f02")).await.unwrap();
    tell(&mut stranger, &full).await;
    assert!(told(&mut stranger).await.unwrap_err().contains("the code is unknown"));
    let mut garbled = connect(port, authority, Some(bearer)).await.unwrap();
    futures_util::SinkExt::send(&mut garbled, tokio_tungstenite::tungstenite::Message::Binary(vec![0xff; 40].into())).await.unwrap();
    assert!(told(&mut garbled).await.is_err());
    assert_eq!(agent(&node, "booking-4").await, Value::Null);

    let mut socket = connect(port, authority, Some(bearer)).await.unwrap();
    tell(&mut socket, &full).await;
    let given = told(&mut socket).await.unwrap().remote_config.expect("what is assigned");
    assert_eq!(given.config.unwrap().config_map["sdk"].body, b"1");
    let applied = |hash: &[u8], sequence_num| AgentToServer {
        instance_uid: vec![9; 16],
        sequence_num,
        capabilities: full.capabilities,
        remote_config_status: Some(RemoteConfigStatus {
            last_remote_config_hash: hash.to_vec(),
            status: RemoteConfigStatuses::Applied as i32,
            error_message: String::new(),
        }),
        ..AgentToServer::default()
    };
    tell(&mut socket, &applied(&given.config_hash, 1)).await;
    assert!(told(&mut socket).await.unwrap().remote_config.is_none());
    becomes(&node, "booking-4", "fine").await;
    // A new plan comes without being asked for; and who says nothing but is there is not silent.
    node.apply(&door(port, &node.path("out.jsonl"), &text_of("2")));
    let given = told(&mut socket).await.unwrap().remote_config.expect("what is assigned now");
    assert_eq!(given.config.as_ref().unwrap().config_map["sdk"].body, b"2");
    tell(&mut socket, &applied(&given.config_hash, 2)).await;
    assert!(told(&mut socket).await.unwrap().remote_config.is_none());
    let before = agent(&node, "booking-4").await["heard_ms"].as_i64().unwrap();
    let silent = tokio::spawn(async move {
        let said = tokio::time::timeout(std::time::Duration::from_secs(13), told(&mut socket)).await;
        (socket, said.is_err())
    });
    until("it is heard by its answers to pings", async || (agent(&node, "booking-4").await["heard_ms"].as_i64().unwrap() > before).then_some(())).await;
    assert_eq!(agent(&node, "booking-4").await["condition"], "fine");
    let (mut socket, was_silent) = silent.await.unwrap();
    assert!(was_silent, "there was nothing to tell");
    assert!(node.client(&["agent", "retire", "booking-4"]).status.success());
    tell(&mut socket, &applied(&given.config_hash, 3)).await;
    assert_eq!(told(&mut socket).await.unwrap().flags, server_to_agent_flags::REPORT_FULL_STATE, "who is it?");
    tell(&mut socket, &full).await;
    assert!(told(&mut socket).await.unwrap_err().contains("the code is unknown, has ended or was used"), "it is nobody any more");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn in_the_browser_a_host_is_enrolled_seen_and_told_what_to_collect_by_keyboard() {
    use thirtyfour::prelude::*;

    use crate::browser::Browser;

    let [port] = free_ports();
    let mut node = Node::start_with(|folder| {
        let program = folder.join("given");
        another_program(&program, "second");
        vec!["--agent-program".to_owned(), program.display().to_string()]
    })
    .await;
    let (out, log) = (node.path("out.jsonl"), node.path("app.log"));
    append(&log, ["{\"message\":\"ticket for bo@quay.example\"}".to_owned()]);
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("Deliveries").await;
    browser.driver.goto(node.url("/agents")).await.unwrap();
    browser.sees("The plan has no source for agents.").await;
    node.apply(&door(
        port,
        &out,
        &format!(
            "{}[assignment.kiosks]\nwhen = 'group = \"kiosks\"'\ncollect = [\"log\"]\n[assignment.gates]\nwhen = 'group = \"gates\"'\ncollect = [\"log\"]\n",
            collect("log", log.to_str().unwrap())
        ),
    ));
    browser.sees("No host has enrolled yet.").await;
    browser.without_violations("no agents").await;

    browser.tab_to("Enrol hosts").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Make a line, paste it on the hosts").await;
    browser.tab_to("Group").await;
    browser.keys("kiosks").await;
    browser.tab_to("Make the line").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("No host has come yet.").await;
    browser.without_violations("the line for hosts").await;
    let fetches = browser.find("[role=dialog] pre").await.text().await.unwrap();
    assert!(fetches.starts_with("curl -fsSk --pinnedpubkey 'sha256//") && fetches.ends_with("/agent/setup' | sudo sh"), "{fetches}");
    browser.tab_to("Where the program is, and the agent is to run in the foreground").await;
    browser.keys(Key::Enter + "").await;
    let line = browser.find("[role=dialog] details[open] pre").await.text().await.unwrap();
    let mut host = Host::new(&node, "kiosk-7");
    let enrolled = host.enrol(&line, &["--label", "port=Lowmere"]);
    assert!(enrolled.status.success(), "{}", text(&enrolled.stderr));
    host.begin();
    browser.sees("kiosk-7 has enrolled: it runs its plan.").await;
    until("its first event is there", async || (lines(&out).len() == 1).then_some(())).await;
    browser.keys(Key::Escape + "").await;
    browser.sees("✓ None of 1 needs attention.").await;
    for says in ["events flow", "✓ for it:", "not for it:", "here it does not hold that", "port = Lowmere"] {
        browser.sees(says).await;
    }
    browser.without_violations("an agent").await;
    for (width, height) in [(390, 844), (1024, 768), (1920, 1080)] {
        browser.screen(width, height).await;
        browser.sees("What it says of its host").await;
        browser.fits(&format!("agents at {width}")).await;
    }
    browser.screen(1280, 800).await;

    // Which log files are there is found from here, and goes into the draft.
    append(&node.path("more.log"), ["2026-11-23 10:00:00 WARN low ink".to_owned()]);
    browser.tab_to("Look for log files").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Patterns of the files, one on each line; none to look where logs usually are").await;
    browser.keys(&format!("{}/*.log", node.folder.path().display())).await;
    browser.tab_to("Look").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("1 file by log.").await;
    browser.sees("low ink").await;
    browser.without_violations("the files of a host").await;
    browser.tab_to("Collect it, in the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.find("section[aria-label='assignment kiosk-7']").await;
    browser.sees("agent.name = \"kiosk-7\"").await;
    browser.tab_to("Discard").await;
    browser.keys(Key::Enter + "").await;
    browser.keys(Key::Enter + "").await;
    browser.driver.goto(node.url("/agents?host=kiosk-7")).await.unwrap();
    browser.sees("it runs its plan").await;

    // What leaves the host is changed where the assignment stands in the plan.
    browser.tab_to("kiosks").await;
    browser.keys(Key::Enter + "").await;
    browser.find("section[aria-label='assignment kiosks']").await;
    browser.tab_to("Add a step").await;
    browser.keys(Key::Enter + "").await;
    browser.keys("redact email").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to_start("Apply…").await;
    browser.keys(Key::Enter + "").await;
    // First on this host, then on all.
    browser.tab_to("all at once").await;
    browser.keys(Key::Down + "").await;
    browser.sees("If one is not, it goes back by itself.").await;
    browser.without_violations("some hosts first").await;
    browser.tab_to("Why, for those who look at it later").await;
    browser.keys("no addresses leave the kiosks").await;
    browser.keys(Key::Enter + "").await;
    until("the host has it", async || std::fs::read_to_string(host.data.join("assigned.toml")).is_ok_and(|plan| plan.contains("redact email")).then_some(()))
        .await;
    append(&log, ["{\"message\":\"another for bo@quay.example\"}".to_owned()]);
    let second = until("the second event is there", async || lines(&out).get(1).cloned()).await;
    assert_eq!(second["message"], "another for ***", "{second}");
    browser.driver.goto(node.url("/agents?host=kiosk-7")).await.unwrap();
    browser.sees("it runs its plan").await;
    browser.sees("is first on kiosk-7").await;
    browser.without_violations("a change on its way").await;
    browser.tab_to("On to all hosts").await;
    browser.keys(Key::Enter + "").await;
    browser.keys(Key::Enter + "").await;
    until("all hosts have it", async || stage(&node).await.is_null().then_some(())).await;

    // Another group, with what that changes before it is so.
    browser.tab_to("Group and labels").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Labels, one on each line").await;
    browser.keys("line=north").await;
    browser.tab_to("See what changes").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("It changes nothing of what the host collects.").await;
    browser.without_violations("the group of a host").await;
    browser.tab_to("Set it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("line = north").await;

    // Another program, with who would get it before it is given.
    browser.tab_to("Update agents").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("See which would get it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("1 agent gets it: kiosk-7.").await;
    browser.without_violations("an update of agents").await;
    browser.tab_to("Give it to this agent").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("1 of 1 agents have the program of this service.").await;
    browser.driver.clone().quit().await.unwrap();
    host.stop().await;
    node.stop().await;
}
