//! What hosts collect, by what the plan and their owners say; and that nothing is lost or comes twice.

use super::*;

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
    // When it was heard last is known over a restart, though it was said only then.
    host.stop().await;
    let heard = agent(&node, "gate-1").await["heard_ms"].clone();
    node.stop().await;
    node.begin().await;
    assert_eq!(agent(&node, "gate-1").await["heard_ms"], heard);
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
