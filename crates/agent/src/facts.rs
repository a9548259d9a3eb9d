//! What an agent says of its host.

use std::path::Path;

use rockrose_opamp::{AgentDescription, KeyValue};

use crate::folder::AgentSettings;

/// Most folders of logs that are told.
const FOLDERS: usize = 100;
/// Sockets by which container runtimes are known.
const RUNTIMES: [(&str, &str); 4] = [
    ("/run/docker.sock", "docker"),
    ("/run/containerd/containerd.sock", "containerd"),
    ("/run/crio/crio.sock", "cri-o"),
    ("/run/podman/podman.sock", "podman"),
];

fn line(path: &str) -> Option<String> {
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
