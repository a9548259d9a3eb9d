//! What an agent keeps: who it is, what its host's owner allows, and how it is doing.

use std::collections::BTreeMap;
use std::io::Write;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use anyhow::Context;
use serde::{Deserialize, Serialize};

/// The data folder of an agent.
#[derive(Clone, Debug)]
pub struct Folder(PathBuf);

/// `agent.toml`: what the host's owner says. The centre cannot change it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AgentSettings {
    /// The centre: an https URL.
    pub centre: String,
    /// By which name the agent is known there.
    pub name: String,
    /// Folders whose files may be read; empty: all but the system's own, dot-files and what the agent keeps.
    #[serde(default)]
    pub allow: Vec<PathBuf>,
    /// Whether the centre may say what is collected. If not, the agent goes on with what it has.
    #[serde(default = "yes")]
    pub remote_changes: bool,
    /// Whether the centre may look which of these files there are, and at their first lines.
    #[serde(default = "yes")]
    pub show_files: bool,
    /// Whether the centre is told which programs run here, and at which ports something listens.
    #[serde(default = "yes")]
    pub show_programs: bool,
    /// Whether the centre may give another program.
    #[serde(default = "yes")]
    pub updates: bool,
    /// What else is told of the host: `labels.NAME` in the conditions of assignments.
    #[serde(default)]
    pub labels: BTreeMap<String, String>,
    /// The centre is a server of another make.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub elsewhere: Option<Elsewhere>,
}

fn yes() -> bool {
    true
}

/// A server of another make that manages the agent: it gives whole plans, with their destinations.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Elsewhere {
    /// What is shown there as a bearer token, if anything is.
    #[serde(default)]
    pub bearer: Option<String>,
    /// A file of the certificates (PEM) by which it is known; those of the system, if left out.
    #[serde(default)]
    pub ca: Option<PathBuf>,
}

/// Who an agent is: its id, and the number of its certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Identity {
    /// 16 bytes as hexadecimal digits.
    pub(crate) id: String,
    /// Its certificate is `certificate-N.pem`; 0, before it has one.
    pub(crate) certificate: u32,
}

impl Folder {
    /// The data folder at `path`; it is made if it is not there.
    ///
    /// # Errors
    /// If it cannot be made, or is open to other users.
    pub fn make(path: &Path) -> anyhow::Result<Folder> {
        let folder = Folder(path.to_owned());
        for path in [path.to_owned(), folder.identity_folder()] {
            std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&path).with_context(|| format!("cannot create {}", path.display()))?;
        }
        folder.closed()?;
        Ok(folder)
    }

    /// The data folder at `path`, where an agent has enrolled.
    ///
    /// # Errors
    /// If there is none.
    pub fn open(path: &Path) -> anyhow::Result<Folder> {
        let folder = Folder(path.to_owned());
        anyhow::ensure!(folder.settings_file().exists(), "no agent has enrolled in {}; enrol one with: rockrose agent enrol URL CODE", path.display());
        folder.closed()?;
        Ok(folder)
    }

    fn closed(&self) -> anyhow::Result<()> {
        let mode = std::fs::metadata(&self.0).with_context(|| format!("cannot open {}", self.0.display()))?.permissions().mode() & 0o777;
        anyhow::ensure!(mode & 0o077 == 0, "the folder {0} is open to other users (mode {mode:o}); run: chmod 700 {0}", self.0.display());
        Ok(())
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.0
    }

    pub(crate) fn identity_folder(&self) -> PathBuf {
        self.0.join("identity")
    }

    pub(crate) fn key_file(&self) -> PathBuf {
        self.identity_folder().join("key.pem")
    }

    pub(crate) fn authority_file(&self) -> PathBuf {
        self.identity_folder().join("centre.pem")
    }

    pub(crate) fn certificate_file(&self, number: u32) -> PathBuf {
        self.identity_folder().join(format!("certificate-{number}.pem"))
    }

    fn identity_file(&self) -> PathBuf {
        self.identity_folder().join("identity.json")
    }

    /// `agent.toml`.
    #[must_use]
    pub fn settings_file(&self) -> PathBuf {
        self.0.join("agent.toml")
    }

    pub(crate) fn status_file(&self) -> PathBuf {
        self.0.join("status.json")
    }

    /// Writes a file so that a crash leaves the one before or the new one, whole.
    pub(crate) fn write(&self, path: &Path, bytes: &[u8]) -> anyhow::Result<()> {
        let fresh = path.with_extension("new");
        let write = || {
            let mut file = std::fs::OpenOptions::new().create(true).truncate(true).write(true).mode(0o600).open(&fresh)?;
            file.write_all(bytes)?;
            file.sync_all()?;
            std::fs::rename(&fresh, path)
        };
        write().with_context(|| format!("cannot write {}", path.display()))
    }

    pub(crate) fn identity(&self) -> anyhow::Result<Option<Identity>> {
        let path = self.identity_file();
        match std::fs::read(&path) {
            Ok(text) => Ok(Some(serde_json::from_slice(&text).with_context(|| format!("cannot read {}", path.display()))?)),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e).with_context(|| format!("cannot read {}", path.display())),
        }
    }

    pub(crate) fn keep_identity(&self, identity: &Identity) -> anyhow::Result<()> {
        self.write(&self.identity_file(), &serde_json::to_vec(identity)?)
    }

    /// What the host's owner says.
    ///
    /// # Errors
    /// If `agent.toml` cannot be read.
    pub fn settings(&self) -> anyhow::Result<AgentSettings> {
        let path = self.settings_file();
        let text = std::fs::read_to_string(&path).with_context(|| format!("cannot read {}", path.display()))?;
        toml::from_str(&text).with_context(|| format!("{} has a mistake", path.display()))
    }

    /// Says that the centre is reached at another URL.
    ///
    /// # Errors
    /// If `agent.toml` cannot be read or written.
    pub fn set_centre(&self, url: &str) -> anyhow::Result<()> {
        let settings = self.settings()?;
        if settings.centre == url { Ok(()) } else { self.keep_settings(&AgentSettings { centre: url.to_owned(), ..settings }) }
    }

    pub(crate) fn keep_settings(&self, settings: &AgentSettings) -> anyhow::Result<()> {
        let text = format!(
            "# What this host's owner says; the centre cannot change it. It is read when the agent starts.\n\
             # allow = [\"/var/log\"]      only files below these folders may be read\n\
             # remote_changes = false    the agent goes on with what it collects now\n\
             # show_files = false        the centre may not look which files there are\n\
             # show_programs = false     the centre is not told which programs run here
             # updates = false           the centre may not give another program\n\n{}",
            toml::to_string(settings)?
        );
        self.write(&self.settings_file(), text.as_bytes())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_the_owner_says_reads_as_it_was_written_and_mistakes_are_told() {
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::make(&dir.path().join("agent")).unwrap();
        assert!(Folder::open(folder.path()).unwrap_err().to_string().contains("rockrose agent enrol"));
        let settings = AgentSettings {
            centre: "https://127.0.0.1:8640".into(),
            name: "kiosk-7".into(),
            allow: vec!["/var/log".into()],
            remote_changes: true,
            show_files: true,
            show_programs: true,
            updates: true,
            labels: [("port".to_owned(), "Marrow Bay".to_owned())].into(),
            elsewhere: Some(Elsewhere { bearer: Some("4f02".into()), ca: None }),
        };
        folder.keep_settings(&settings).unwrap();
        assert_eq!(Folder::open(folder.path()).unwrap().settings().unwrap(), settings);
        let text = std::fs::read_to_string(folder.settings_file()).unwrap();
        std::fs::write(folder.settings_file(), text.replace("allow = [\"/var/log\"]\n", "alow = []\n")).unwrap();
        let wrong = format!("{:#}", folder.settings().unwrap_err());
        assert!(wrong.contains("alow"), "{wrong}");
        std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o750)).unwrap();
        assert!(Folder::open(folder.path()).unwrap_err().to_string().contains("chmod 700"));
    }
}
