//! The hosts of the demo: each has a folder of made-up logs and an agent of its own.

use std::collections::BTreeMap;
use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};

use anyhow::Context;
use fastrand::Rng;
use rockrose_agent::{EnrolOptions, Folder};
use rockrose_service::Service;
use tokio_util::sync::CancellationToken;

/// A log is begun anew once it is so long, in bytes.
const LOG: u64 = 1_000_000;

/// One host.
struct Host {
    name: &'static str,
    group: &'static str,
    port: &'static str,
    /// The log that it writes.
    log: &'static str,
}

const HOSTS: [Host; 4] = [
    Host { name: "kiosk-lowmere-3", group: "kiosks", port: "Lowmere", log: "screen.log" },
    Host { name: "gate-lowmere-1", group: "gates", port: "Lowmere", log: "barrier.log" },
    Host { name: "gate-skerry-2", group: "gates", port: "Skerry Point", log: "turnstile.log" },
    Host { name: "booking-1", group: "booking", port: "Tansy Quay", log: "web.log" },
];

/// The folder of the hosts' logs, which the demo's plan calls `hosts`.
pub(crate) fn logs(files: &Path) -> PathBuf {
    files.join("hosts")
}

/// Enrols those that have not, and runs all of them until `stop`.
pub(crate) async fn run(service: &Service, data: &Path, stop: &CancellationToken) -> anyhow::Result<()> {
    for host in &HOSTS {
        std::fs::create_dir_all(logs(&data.join(rockrose_plan::FILES)).join(host.name))?;
        let folder = data.join("agents").join(host.name);
        let line = service.enrol_line(host.group, "hosts").await?;
        let (url, code) =
            line.strip_prefix("rockrose agent enrol ").and_then(|line| line.split_once(' ')).context("a line that enrols has a URL and a code")?;
        if folder.join("agent.toml").exists() {
            // It may listen elsewhere than it did the last time.
            Folder::open(&folder)?.set_centre(url)?;
        } else {
            let labels = BTreeMap::from([("port".to_owned(), host.port.to_owned())]);
            let options = EnrolOptions {
                url: url.to_owned(),
                code: code.to_owned(),
                name: Some(host.name.to_owned()),
                labels,
                allow: vec![logs(&data.join(rockrose_plan::FILES)).join(host.name)],
                // What runs on this machine is not what would run on made-up hosts.
                show_programs: false,
                elsewhere: None,
            };
            rockrose_agent::enrol(&folder, options).await.with_context(|| format!("the agent of {} cannot enrol", host.name))?;
        }
        let ended = stop.clone().cancelled_owned();
        tokio::spawn(async move {
            if let Err(e) = rockrose_agent::run(&folder, ended).await {
                eprintln!("rockrose: an agent ended: {e:#}");
            }
        });
    }
    Ok(())
}

/// Writes some lines to the log of each host.
pub(crate) fn write(files: &Path, rng: &mut Rng, now: &str) -> std::io::Result<()> {
    for host in &HOSTS {
        let path = logs(files).join(host.name).join(host.log);
        if std::fs::metadata(&path).is_ok_and(|about| about.len() > LOG) {
            std::fs::rename(&path, path.with_extension("log.1"))?;
        }
        let lines: String = (0..rng.u32(0..3)).map(|_| line(host, rng, now)).collect();
        OpenOptions::new().create(true).append(true).open(&path)?.write_all(lines.as_bytes())?;
        if host.group == "booking" && rng.u32(0..5) == 0 {
            // Nobody collects it yet: it is there to be found.
            let path = path.with_file_name("tickets.log");
            let line = match rng.u32(0..8) {
                0 => format!("{now} ERROR printer does not answer\njava.net.ConnectException: refused\n\tat example.ferries.Printer.open(Printer.java:41)\n"),
                n => format!("{now} INFO {n} tickets issued\n"),
            };
            OpenOptions::new().create(true).append(true).open(&path)?.write_all(line.as_bytes())?;
        }
    }
    Ok(())
}

fn line(host: &Host, rng: &mut Rng, now: &str) -> String {
    let port = host.port;
    match host.group {
        "kiosks" => {
            let (level, message) = match rng.u32(0..10) {
                0 => ("error", "printer does not answer".to_owned()),
                1..6 => ("debug", format!("frame drawn in {} ms", rng.u32(4..40))),
                n => ("info", format!("page {n} shown")),
            };
            format!("{{\"time\":\"{now}\",\"level\":\"{level}\",\"service\":\"kiosk-screen\",\"port\":\"{port}\",\"message\":\"{message}\"}}\n")
        }
        "gates" => {
            let (level, message) = if rng.u32(0..12) == 0 { ("warn", "barrier moved by hand") } else { ("info", "barrier opened") };
            format!("time={now} level={level} service=barrier port=\"{port}\" gate={} msg=\"{message}\"\n", rng.u32(1..5))
        }
        _ => {
            let (status, path) = match rng.u32(0..20) {
                0 => (502, "/book/pay"),
                1..6 => (200, "/health"),
                n => (200, if n % 2 == 0 { "/book/crossings" } else { "/book/seats" }),
            };
            format!("192.0.2.{} - - [{now}] \"GET {path} HTTP/1.1\" {status} {} ada.pell@post.example\n", rng.u32(1..250), rng.u32(200..9_000))
        }
    }
}
