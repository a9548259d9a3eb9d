//! What an agent says of its host.

use std::path::Path;

use rockrose_opamp::{AgentDescription, KeyValue};

use crate::folder::AgentSettings;

/// Most folders of logs that are told.
const FOLDERS: usize = 100;
/// Most programs, and most ports, that are told.
const PROGRAMS: usize = 200;
/// A program that has run for so long, in seconds, is told of: one that comes and goes is not what a host is for.
const RUNS_FOR: f64 = 60.0;
/// Sockets by which container runtimes are known.
const RUNTIMES: [(&str, &str); 4] = [
    ("/run/docker.sock", "docker"),
    ("/run/containerd/containerd.sock", "containerd"),
    ("/run/crio/crio.sock", "cri-o"),
    ("/run/podman/podman.sock", "podman"),
];

fn line(path: &str) -> Option<String> {
    line_of(Path::new(path))
}

fn line_of(path: &Path) -> Option<String> {
    let text = std::fs::read_to_string(path).ok()?;
    Some(text.lines().next()?.trim().to_owned()).filter(|line| !line.is_empty())
}

/// The name of this host.
pub(crate) fn host_name() -> Option<String> {
    line("/proc/sys/kernel/hostname")
}

/// A value of `/etc/os-release`.
fn release(text: &str, key: &str) -> Option<String> {
    let value = text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('='))?;
    Some(value.trim().trim_matches('"').to_owned()).filter(|value| !value.is_empty())
}

/// The processor, in the words of the OpenTelemetry conventions.
fn arch() -> &'static str {
    match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        "x86" => "x86",
        "arm" => "arm32",
        "powerpc64" => "ppc64",
        other => other,
    }
}

fn addresses() -> Vec<String> {
    let all = nix::ifaddrs::getifaddrs().into_iter().flatten();
    let mut found: Vec<String> = all
        .filter_map(|interface| {
            let address = interface.address?;
            let ip =
                address.as_sockaddr_in().map(|a| std::net::IpAddr::V4(a.ip())).or_else(|| address.as_sockaddr_in6().map(|a| std::net::IpAddr::V6(a.ip())))?;
            let is_local = ip.is_loopback() || matches!(ip, std::net::IpAddr::V6(v6) if v6.is_unicast_link_local());
            (!is_local).then(|| ip.to_string())
        })
        .collect();
    found.sort();
    found.dedup();
    found
}

/// Folders in which logs are known to be.
fn log_folders(root: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(root).into_iter().flatten().flatten();
    let mut found: Vec<String> = entries.filter(|entry| entry.path().is_dir()).map(|entry| entry.path().display().to_string()).collect();
    found.sort();
    found.truncate(FOLDERS);
    found
}

/// The names of the programs that have run for a while, by what the kernel tells below `proc`; those of the kernel itself are not among them.
fn programs(proc: &Path) -> Vec<String> {
    /// Ticks in a second of the clock by which the kernel tells programs times.
    const TICKS_A_SECOND: f64 = 100.0;
    let up: f64 = line_of(&proc.join("uptime")).and_then(|line| line.split(' ').next()?.parse().ok()).unwrap_or(0.0);
    let entries = std::fs::read_dir(proc).into_iter().flatten().flatten();
    let name = |folder: std::path::PathBuf| {
        folder.file_name()?.to_str()?.parse::<u32>().ok()?;
        // A thread of the kernel has no arguments, not even its name.
        let arguments = std::fs::read(folder.join("cmdline")).ok().filter(|arguments| !arguments.is_empty())?;
        let stat = line_of(&folder.join("stat"))?;
        // Behind the name in parentheses, the start is the twentieth.
        let begun: f64 = stat.rsplit(')').next()?.split_whitespace().nth(19)?.parse().ok()?;
        if up - begun / TICKS_A_SECOND < RUNS_FOR {
            return None;
        }
        // The kernel keeps 15 bytes of a name; the first argument has all of it, unless the program has changed that.
        let short = line_of(&folder.join("comm"))?;
        let first = String::from_utf8_lossy(arguments.split(|byte| *byte == 0).next()?).into_owned();
        let long = first.rsplit('/').next().unwrap_or_default();
        Some(if long.starts_with(&short) && !long.contains(' ') { long.to_owned() } else { short })
    };
    let found: std::collections::BTreeSet<String> = entries.filter_map(|entry| name(entry.path())).collect();
    found.into_iter().take(PROGRAMS).collect()
}

/// The TCP ports at which something listens, by what the kernel tells below `proc`.
fn listening_ports(proc: &Path) -> Vec<String> {
    /// How the kernel writes that a socket listens.
    const LISTENS: &str = "0A";
    let text = |name: &str| std::fs::read_to_string(proc.join("net").join(name)).unwrap_or_default();
    let port = |line: &str| {
        let mut fields = line.split_whitespace().skip(1);
        let (local, state) = (fields.next()?, fields.nth(1)?);
        (state == LISTENS).then(|| u16::from_str_radix(local.rsplit(':').next()?, 16).ok())?
    };
    let all = [text("tcp"), text("tcp6")].concat();
    let found: std::collections::BTreeSet<u16> = all.lines().filter_map(port).collect();
    found.into_iter().take(PROGRAMS).map(|port| port.to_string()).collect()
}

/// What is said of this host, under the names of the OpenTelemetry conventions, where there are such.
pub(crate) fn describe(id: &str, settings: &AgentSettings) -> AgentDescription {
    let os = std::fs::read_to_string("/etc/os-release").unwrap_or_default();
    let mut more = vec![
        KeyValue::text("host.name", &host_name().unwrap_or_else(|| settings.name.clone())),
        KeyValue::text("host.arch", arch()),
        KeyValue::texts("host.ip", &addresses()),
        KeyValue::text("os.type", std::env::consts::OS),
        KeyValue::texts("log.folders", &log_folders(Path::new("/var/log"))),
    ];
    let known = [("os.description", release(&os, "PRETTY_NAME")), ("os.name", release(&os, "ID")), ("os.version", release(&os, "VERSION_ID"))];
    let kernel = [("os.kernel", line("/proc/sys/kernel/osrelease"))];
    more.extend(known.into_iter().chain(kernel).filter_map(|(name, value)| Some(KeyValue::text(name, &value?))));
    if settings.show_programs {
        let proc = Path::new("/proc");
        more.extend([KeyValue::texts("programs", &programs(proc)), KeyValue::texts("listening.ports", &listening_ports(proc))]);
    }
    if let Some((_, runtime)) = RUNTIMES.iter().find(|(socket, _)| Path::new(socket).exists()) {
        more.push(KeyValue::text("container.runtime", runtime));
    }
    more.extend(settings.labels.iter().map(|(name, value)| KeyValue::text(&format!("labels.{name}"), value)));
    AgentDescription {
        identifying_attributes: vec![
            KeyValue::text("service.name", rockrose_service::AGENT_SERVICE),
            KeyValue::text("service.version", env!("CARGO_PKG_VERSION")),
            KeyValue::text("service.instance.id", id),
            KeyValue::text("agent.name", &settings.name),
        ],
        non_identifying_attributes: more,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_release_is_read_with_and_without_quotes() {
        let text = "PRETTY_NAME=\"Debian GNU/Linux 12\"\nID=debian\nVERSION_ID=\"12\"\nIDLIKE=x\nEMPTY=\n";
        assert_eq!(release(text, "PRETTY_NAME").as_deref(), Some("Debian GNU/Linux 12"));
        assert_eq!((release(text, "ID").as_deref(), release(text, "VERSION_ID").as_deref()), (Some("debian"), Some("12")));
        assert_eq!((release(text, "EMPTY"), release(text, "NONE")), (None, None));
    }

    #[test]
    fn programs_that_have_run_for_a_while_are_told_by_their_whole_names() {
        let proc = tempfile::tempdir().unwrap();
        let write = |path: &str, text: &str| {
            let path = proc.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        };
        write("uptime", "1000.5 1900.0\n");
        write("net/tcp", "  sl  local_address rem_address   st\n   0: 0100007F:1538 00000000:0000 0A x\n   1: 0100007F:1539 0100007F:0050 01 x\n");
        write("net/tcp6", "  sl  local_address rem_address   st\n   0: 00000000000000000000000001000000:0050 00000000000000000000000000000000:0000 0A x\n");
        // So many ticks after the start of the host, of which a second has 100.
        let run = |pid: u32, comm: &str, arguments: &str, begun: u64| {
            write(&format!("{pid}/comm"), &format!("{comm}\n"));
            write(&format!("{pid}/cmdline"), arguments);
            write(&format!("{pid}/stat"), &format!("{pid} ({comm}) S {} {begun} 0\n", "0 ".repeat(18).trim_end()));
        };
        run(1, "ferry-timetable", "/usr/lib/ferry-timetables\0--port\0", 100);
        run(2, "postgres", "postgres: writer\0", 90_000);
        run(3, "postgres", "/usr/lib/postgresql/postgres\0-D\0", 90_000);
        run(4, "odd (name)", "/opt/odd (name)\0", 100);
        run(5, "kworker/0:1", "", 100);
        run(6, "sleep", "sleep\x005\x00", 99_000);
        write("7/comm", "gone\n");
        assert_eq!(programs(proc.path()), ["ferry-timetables", "odd (name)", "postgres"]);
        assert_eq!(listening_ports(proc.path()), ["80", "5432"]);
        assert!(programs(&proc.path().join("none")).is_empty());
    }

    #[test]
    fn folders_of_logs_are_told_in_order_and_files_are_not() {
        let dir = tempfile::tempdir().unwrap();
        for folder in ["web", "kiosk"] {
            std::fs::create_dir(dir.path().join(folder)).unwrap();
        }
        std::fs::write(dir.path().join("syslog"), "").unwrap();
        let found = log_folders(dir.path());
        assert_eq!(found.iter().map(|path| path.rsplit('/').next().unwrap()).collect::<Vec<_>>(), ["kiosk", "web"]);
        assert!(log_folders(&dir.path().join("nowhere")).is_empty());
    }
}
