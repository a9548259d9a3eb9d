//! What a plan reaches: the files that it names, and the hosts that its secrets are shown to.

use std::path::{Path, PathBuf};

use crate::checker::SecretName;
use crate::sources::SourceKind;
use crate::{CheckedPlan, plain_path};

/// Folders whose files are no files.
const SYSTEM: [&str; 3] = ["/proc", "/sys", "/dev"];
/// The folder in the data folder that plans may use.
pub const FILES: &str = "files";

/// Which files plans may reach. By itself: all but the system's own, dot-files and what the service keeps.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileScope {
    /// Only what is below these, links followed; empty: as above.
    pub under: Vec<PathBuf>,
    /// The service's data folder, links followed.
    pub data: Option<PathBuf>,
    /// The folder with what the service shows of itself, links followed: only destinations may name what is in it, to show it.
    pub identity: Option<PathBuf>,
}

impl FileScope {
    /// Why a file may not be reached; nothing, if it may. `real` is its path with links followed.
    #[must_use]
    pub fn refuses(&self, real: &Path) -> Option<String> {
        if self.identity.as_ref().is_some_and(|identity| real.starts_with(identity)) {
            return Some("plans may not reach what the service shows of itself".to_owned());
        }
        if !self.under.is_empty() {
            let listed = || self.under.iter().map(|u| u.display().to_string()).collect::<Vec<_>>().join(", ");
            return (!self.under.iter().any(|u| real.starts_with(u))).then(|| format!("plans may reach only what is below {}", listed()));
        }
        if let Some(folder) = SYSTEM.iter().find(|folder| real.starts_with(folder)) {
            return Some(format!("plans may not reach what is below {folder}"));
        }
        if let Some(data) = self.data.as_ref().filter(|data| real.starts_with(data) && !real.starts_with(data.join(FILES))) {
            return Some(format!("plans may not reach the data folder, but for {}", data.join(FILES).display()));
        }
        let hidden = real.components().any(|part| part.as_os_str().as_encoded_bytes().starts_with(b"."));
        hidden.then(|| "plans may not reach files and folders whose names begin with a dot".to_owned())
    }

    /// As [`FileScope::refuses`], for the folder that a pattern begins with: what it meets there is asked one by one.
    #[must_use]
    pub fn refuses_pattern(&self, real: &Path) -> Option<String> {
        if self.under.iter().any(|u| u.starts_with(real)) { None } else { self.refuses(real) }
    }
}

/// A file that a plan names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NamedFile<'a> {
    /// What names it, in words.
    pub by: String,
    /// Its path as written; of a pattern, the folder that it begins with.
    pub path: &'a str,
    /// Whether it stands for a pattern.
    pub is_pattern: bool,
    /// Whether it is shown to the other end of a connection.
    pub is_shown: bool,
}

/// A secret, and to whom the plan shows it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ShownSecret<'a> {
    /// The secret.
    pub secret: &'a SecretName,
    /// What shows it, in words.
    pub by: String,
    /// A host with its port, or `source:NAME`: those who send to that source show it.
    pub to: String,
}

impl ShownSecret<'_> {
    /// Whether a secret that may be shown to `allowed` (hosts, with or without a port; `source:NAME`; `anywhere`) may be shown so.
    #[must_use]
    pub fn may(&self, allowed: &[String]) -> bool {
        let host = self.to.rsplit_once(':').map_or(self.to.as_str(), |(host, _)| host);
        let is_source = self.to.starts_with("source:");
        allowed.iter().any(|a| a == "anywhere" || a.eq_ignore_ascii_case(&self.to) || (!is_source && a.eq_ignore_ascii_case(host)))
    }
}

/// The folder that a pattern begins with.
fn beginning(pattern: &str) -> &str {
    match pattern.find(['*', '?', '[']) {
        None => pattern,
        Some(at) => &pattern[..pattern[..at].rfind('/').map_or(0, |slash| slash.max(1))],
    }
}

/// The host and port that a URL leads to.
pub(crate) fn host_and_port(url: &str) -> String {
    let (scheme, rest) = url.split_once("://").unwrap_or(("", url));
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
    let has_port = host.rsplit_once(':').is_some_and(|(_, port)| !port.is_empty() && port.bytes().all(|b| b.is_ascii_digit()));
    if has_port { host.to_ascii_lowercase() } else { format!("{}:{}", host.to_ascii_lowercase(), if scheme == "https" { 443 } else { 80 }) }
}

impl CheckedPlan {
    /// All files that it names.
    #[must_use]
    pub fn files(&self) -> Vec<NamedFile<'_>> {
        let file = |by: &str, path| NamedFile { by: by.to_owned(), path, is_pattern: false, is_shown: false };
        let mut all = Vec::new();
        for source in &self.sources {
            let by = format!("the source `{}`", source.name);
            if let Some(files) = &source.certificates {
                all.extend([&files.certificate, &files.key].into_iter().chain(&files.client_ca).map(|path| file(&by, path)));
            }
            let pattern = |path| NamedFile { by: by.clone(), path, is_pattern: true, is_shown: false };
            match &source.kind {
                SourceKind::File(files) => all.extend(files.paths.iter().map(|path| pattern(beginning(path)))),
                SourceKind::SystemJournal(journal) => all.push(NamedFile { is_pattern: false, ..pattern(journal.reads_folder()) }),
                _ => {}
            }
        }
        all.extend(self.tables.iter().filter(|table| table.text.is_none()).map(|table| file(&format!("the table `{}`", table.name), &table.path)));
        for destination in &self.destinations {
            let is_shown = destination.kind.file().is_none();
            let named = |path| NamedFile { is_shown, ..file(&format!("the destination `{}`", destination.name), path) };
            all.extend(destination.kind.files().into_iter().map(named));
        }
        all
    }

    /// What of the files that it names may not be reached, in sentences. `real` says which file a path leads to, links followed.
    #[must_use]
    pub fn out_of(&self, scope: &FileScope, real: impl Fn(&str) -> PathBuf) -> Vec<String> {
        let absolute = |path: &str| std::path::absolute(plain_path(path)).map_or_else(|_| real(path), |path| real(&path.display().to_string()));
        let refused = |file: &NamedFile<'_>| {
            let path = absolute(if file.path.is_empty() { "." } else { file.path });
            if file.is_shown && scope.identity.as_ref().is_some_and(|identity| path.starts_with(identity)) {
                return None;
            }
            let why = if file.is_pattern { scope.refuses_pattern(&path) } else { scope.refuses(&path) };
            why.map(|why| format!("{} names {}: {why}", file.by, file.path))
        };
        self.files().iter().filter_map(refused).collect()
    }

    /// All secrets that it shows to somebody.
    #[must_use]
    pub fn shown_secrets(&self) -> Vec<ShownSecret<'_>> {
        let keys = self.sources.iter().filter_map(|source| {
            let secret = source.key.as_ref()?;
            Some(ShownSecret { secret, by: format!("the source `{}`", source.name), to: format!("source:{}", source.name) })
        });
        let mut all: Vec<ShownSecret<'_>> = keys.collect();
        for destination in &self.destinations {
            let hosts = destination.kind.hosts();
            for secret in destination.kind.secrets() {
                let by = || format!("the destination `{}`", destination.name);
                all.extend(hosts.iter().map(|to| ShownSecret { secret, by: by(), to: to.clone() }));
            }
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = r#"
[source.kiosks]
kind = "http"
listen = "127.0.0.1:1"
key = { secret = "in" }
certificate = "/etc/tls/c.pem"
certificate_key = "/etc/tls/k.pem"
[source.logs]
kind = "file"
paths = ["/var/log/gates/*.log", "relative/?.log", "/var/log/one.log"]
[table.ports]
kind = "csv"
path = "ports.csv"
key = "code"
[table.short]
kind = "csv"
text = "code\nTQ\n"
key = "code"
[destination.desk]
kind = "http"
endpoints = ["https://Desk.example/in", "http://[2001:db8::1]:9410/in?x"]
token = { secret = "desk" }
headers = { x-key = { secret = "more" } }
ca = "/etc/ca.pem"
[destination.kept]
kind = "archive"
store = "s3://vault/x"
endpoint = "http://store.example:9000"
region = "eu"
access_key = "k"
access_secret = { secret = "store" }
[destination.folder]
kind = "archive"
store = "/srv/archive"
[destination.lines]
kind = "file"
path = "/srv/out.jsonl"
[[route]]
name = "all"
to = ["desk", "kept", "folder", "lines"]
"#;

    #[test]
    fn every_file_and_every_secret_that_is_shown_is_named() {
        let plan = CheckedPlan::read(PLAN).unwrap_or_else(|m| panic!("{m:?}"));
        let files: Vec<(&str, bool)> = plan.files().iter().map(|f| (f.path, f.is_pattern)).collect();
        let expected = [
            ("/etc/tls/c.pem", false),
            ("/etc/tls/k.pem", false),
            ("/var/log/gates", true),
            ("relative", true),
            ("/var/log/one.log", true),
            ("ports.csv", false),
            ("/etc/ca.pem", false),
            ("/srv/archive", false),
            ("/srv/out.jsonl", false),
        ];
        assert_eq!(files, expected);
        let shown: Vec<(&str, String)> = plan.shown_secrets().into_iter().map(|s| (s.secret.0.as_str(), s.to)).collect();
        let to = |secret, to: &str| (secret, to.to_owned());
        let expected = [
            to("in", "source:kiosks"),
            to("desk", "desk.example:443"),
            to("desk", "[2001:db8::1]:9410"),
            to("more", "desk.example:443"),
            to("more", "[2001:db8::1]:9410"),
            to("store", "store.example:9000"),
        ];
        assert_eq!(shown, expected);
    }

    #[test]
    fn a_secret_goes_where_it_was_said_to_go() {
        let name = SecretName("a".into());
        let may = |to: &str, allowed: &[&str]| {
            let allowed: Vec<String> = allowed.iter().map(|a| (*a).to_owned()).collect();
            ShownSecret { secret: &name, by: String::new(), to: to.into() }.may(&allowed)
        };
        assert!(may("desk.example:443", &["Desk.example"]) && may("desk.example:443", &["other", "desk.example:443"]) && may("x:1", &["anywhere"]));
        assert!(may("[2001:db8::1]:9410", &["[2001:db8::1]"]) && may("source:in", &["source:in"]));
        assert!(!may("desk.example:443", &["desk.example:444"]) && !may("evil.example:443", &["desk.example"]) && !may("desk.example:443", &[]));
        assert!(!may("source:in", &["source"]) && !may("source:in", &["source:out"]));
    }

    #[test]
    fn files_are_reached_within_their_bounds() {
        let data = FileScope { under: Vec::new(), data: Some("/var/lib/rockrose".into()), identity: None };
        for (path, refused) in [
            ("/var/log/app.log", false),
            ("/var/lib/rockrose/spool.db", true),
            ("/var/lib/rockrose", true),
            ("/var/lib/rockrose/files/out.jsonl", false),
            ("/var/lib/rockrose-2/x", false),
            ("/proc/self/environ", true),
            ("/sys/kernel", true),
            ("/dev/zero", true),
            ("/devices/a", false),
            ("/home/ann/.ssh/id", true),
            ("/srv/.hidden", true),
        ] {
            assert_eq!(data.refuses(Path::new(path)).is_some(), refused, "{path}");
        }
        let under = FileScope { under: vec!["/srv/in".into(), "/var/log".into()], ..FileScope::default() };
        for (path, refused) in [("/srv/in/a", false), ("/var/log/.x", false), ("/srv/inside", true), ("/etc/passwd", true)] {
            assert_eq!(under.refuses(Path::new(path)).is_some(), refused, "{path}");
        }
        assert!(under.refuses_pattern(Path::new("/var")).is_none() && under.refuses_pattern(Path::new("/")).is_none());
        assert!(under.refuses_pattern(Path::new("/etc")).is_some());
        let plan = CheckedPlan::read(PLAN).unwrap_or_else(|m| panic!("{m:?}"));
        let scope = FileScope { under: vec!["/srv".into(), "/var/log".into(), "/etc".into()], ..FileScope::default() };
        let out = plan.out_of(&scope, |path| PathBuf::from(path));
        assert_eq!(out.len(), 2, "{out:?}");
        assert!(out[0].starts_with("the source `logs` names relative: ") && out[1].starts_with("the table `ports` names ports.csv: plans may reach only"));
    }
}
