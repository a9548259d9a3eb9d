//! The service under a service manager: it tells when it is ready, reads its files again when told to, and ends.

use std::os::unix::net::UnixDatagram;
use std::process::{Command, Stdio};

use crate::harness::{Running, binary, free_ports, http, until};

fn plan(port: u16, table: &str, tag: &str) -> String {
    format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{port}\"\non_arrival = ['tag quay = \"{tag}\"']\n[destination.out]\nkind = \"discard\"\n[[route]]\nname = \"all\"\ndo = ['look up gate in gates as quay']\nto = [\"out\"]\n[table.gates]\nkind = \"csv\"\nkey = \"gate\"\npath = \"{table}\"\n"
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_manager_is_told_and_a_reload_reads_the_plan_again() {
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).display().to_string();
    let [listen, port] = free_ports();
    std::fs::write(at("gates.csv"), "gate,quay\n4,Lowmere\n").unwrap();
    std::fs::write(at("plan.toml"), plan(port, &at("gates.csv"), "one")).unwrap();
    let told = UnixDatagram::bind(at("notify")).unwrap();
    told.set_nonblocking(true).unwrap();
    let next = async |word: &str| {
        until(word, async || {
            let mut text = [0; 1_024];
            let len = told.recv(&mut text).ok()?;
            let text = String::from_utf8_lossy(&text[..len]).into_owned();
            text.lines().any(|line| line == word).then_some(text)
        })
        .await
    };
    let log = std::fs::File::create(at("log")).unwrap();
    let mut service = Command::new(binary());
    service.args(["serve"]).env("ROCKROSE_DATA", at("data")).env("ROCKROSE_LISTEN", format!("127.0.0.1:{listen}")).env("ROCKROSE_PLAN", at("plan.toml"));
    service.env("NOTIFY_SOCKET", at("notify")).env("WATCHDOG_USEC", "400000");
    service.stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log);
    let mut service = Running(service.spawn().unwrap());
    next("READY=1").await;
    next("WATCHDOG=1").await;
    // What is told is so: the service answers.
    let http = http();
    let ready = http.get(format!("http://127.0.0.1:{listen}/readyz")).send().await.unwrap();
    assert!(ready.status().is_success());
    let settings = std::fs::read_to_string(at("data/client.toml")).unwrap();
    let token = settings.lines().find_map(|line| line.strip_prefix("token = \"")?.strip_suffix('"')).unwrap();
    let running = async || -> serde_json::Value {
        let asked = http.get(format!("http://127.0.0.1:{listen}/api/v1/plan")).bearer_auth(token);
        asked.send().await.unwrap().json().await.unwrap()
    };
    assert_eq!(running().await["revision"], 1);

    std::fs::write(at("plan.toml"), plan(port, &at("gates.csv"), "two")).unwrap();
    service.signal("HUP");
    assert!(next("RELOADING=1").await.contains("MONOTONIC_USEC="));
    next("READY=1").await;
    let now = running().await;
    assert!(now["revision"] == 2 && now["text"].as_str().unwrap().contains("\"two\""), "{now}");

    // A plan that is wrong, or gone, changes nothing.
    for broken in [Some("[source.in]\nkind = \"htp\"\n"), None] {
        match broken {
            Some(text) => std::fs::write(at("plan.toml"), text).unwrap(),
            None => std::fs::remove_file(at("plan.toml")).unwrap(),
        }
        service.signal("HUP");
        next("READY=1").await;
        assert_eq!(running().await["revision"], 2);
    }
    let said = std::fs::read_to_string(at("log")).unwrap();
    assert!(said.contains("not read again") && said.contains("did you mean `http`"), "{said}");

    // The same plan again is no new revision.
    std::fs::write(at("plan.toml"), plan(port, &at("gates.csv"), "two")).unwrap();
    service.signal("HUP");
    next("READY=1").await;
    assert_eq!(running().await["revision"], 2);
    service.signal("TERM");
    next("STOPPING=1").await;
    let status = until("the service ends", async || service.0.try_wait().unwrap()).await;
    assert!(status.success());
}
