//! Installing an agent, so that it starts with its host: a unit of systemd, or, where there is none, a plain script.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use anyhow::Context;

use crate::enrol::{EnrolOptions, enrol};
use crate::folder::Folder;

/// The user as which an installed agent runs.
const USER: &str = "rockrose";
/// Groups that may read the logs of most programs, and the system journal.
const GROUPS: [&str; 2] = ["adm", "systemd-journal"];
/// The unit, in which `@PREFIX@` stands for where the program is.
const UNIT: &str = include_str!("../../../packaging/rockrose-agent.service");
/// The script, where there is no systemd.
const SCRIPT: &str = include_str!("../../../packaging/rockrose-agent.sh");
/// Where the package puts the program, and its unit.
const PACKAGED: (&str, &str) = ("usr/bin/rockrose", "lib/systemd/system/rockrose-agent.service");

/// Where an agent is installed.
#[derive(Clone, Debug)]
pub struct Install {
    /// What stands for `/`: another folder while an image is made, in which nothing is started and no user made.
    pub root: PathBuf,
    /// The program that is installed.
    pub program: PathBuf,
    /// With what it enrols.
    pub enrol: EnrolOptions,
}

/// One thing that is done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Act {
    /// The program is copied.
    Copy,
    /// The user is made.
    AddUser,
    /// The agent enrols.
    Enrol,
    /// Its folder is given to the user.
    GiveFolder,
    /// The unit is written.
    WriteUnit,
    /// It is started, and whenever the host starts.
    Enable,
    /// The script is written.
    WriteScript,
}

/// Runs a program, which must succeed.
fn run(program: &str, args: &[&str]) -> anyhow::Result<()> {
    let output = Command::new(program).args(args).stdin(Stdio::null()).output().with_context(|| format!("cannot run {program}"))?;
    let says = String::from_utf8_lossy(&output.stderr);
    anyhow::ensure!(output.status.success(), "{program} {} failed: {}", args.join(" "), says.trim());
    Ok(())
}

impl Install {
    fn at(&self, path: &str) -> PathBuf {
        self.root.join(path)
    }

    fn is_image(&self) -> bool {
        self.root != Path::new("/")
    }

    /// The folder of the agent.
    #[must_use]
    pub fn data(&self) -> PathBuf {
        self.at("var/lib/rockrose-agent")
    }

    fn is_packaged(&self) -> bool {
        std::fs::canonicalize(self.at(PACKAGED.0)).is_ok_and(|packaged| packaged == self.program) && self.at(PACKAGED.1).exists()
    }

    /// Where the program is to stand.
    fn target(&self) -> PathBuf {
        self.at(if self.is_packaged() { PACKAGED.0 } else { "usr/local/bin/rockrose" })
    }

    fn unit(&self) -> PathBuf {
        self.at("etc/systemd/system/rockrose-agent.service")
    }

    fn script(&self) -> PathBuf {
        self.at("usr/local/sbin/rockrose-agent")
    }

    fn has_systemd(&self) -> bool {
        if self.is_image() {
            self.at("lib/systemd/system").exists() || self.at("usr/lib/systemd/system").exists()
        } else {
            Path::new("/run/systemd/system").exists()
        }
    }

    fn has_user(&self) -> bool {
        std::fs::read_to_string(self.at("etc/passwd")).is_ok_and(|users| users.lines().any(|line| line.split(':').next() == Some(USER)))
    }

    fn groups(&self) -> Vec<&'static str> {
        let known = std::fs::read_to_string(self.at("etc/group")).unwrap_or_default();
        GROUPS.into_iter().filter(|group| known.lines().any(|line| line.split(':').next() == Some(*group))).collect()
    }

    fn acts(&self) -> Vec<Act> {
        let mut acts = Vec::new();
        if !self.is_packaged() {
            acts.push(Act::Copy);
        }
        if !self.is_image() && !self.has_user() {
            acts.push(Act::AddUser);
        }
        if !self.data().join("agent.toml").exists() {
            acts.push(Act::Enrol);
        }
        if !self.is_image() {
            acts.push(Act::GiveFolder);
        }
        match (self.has_systemd(), self.is_packaged()) {
            (true, false) => acts.push(Act::WriteUnit),
            (true, true) => {}
            (false, _) => acts.push(Act::WriteScript),
        }
        if self.has_systemd() && !self.is_image() {
            acts.push(Act::Enable);
        }
        acts
    }

    fn says(&self, act: Act) -> String {
        let name = self.enrol.name.clone().or_else(crate::facts::host_name).unwrap_or_default();
        match act {
            Act::Copy => format!("copy this program to {}", self.target().display()),
            Act::AddUser => match &*self.groups() {
                [] => format!("make the system user {USER}, as which the agent runs"),
                groups => format!("make the system user {USER}, as which the agent runs and reads what the groups {} may read", groups.join(" and ")),
            },
            Act::Enrol => format!("enrol this host as {name} at {}; what it keeps stands in {}", self.enrol.url, self.data().display()),
            Act::GiveFolder => format!("give {} to the user {USER} alone", self.data().display()),
            Act::WriteUnit => format!("write the unit {}", self.unit().display()),
            Act::Enable => "start the agent now, and whenever the host starts (systemctl enable --now rockrose-agent)".to_owned(),
            Act::WriteScript => format!(
                "write the script {}, which runs the agent; there is no systemd here, so it is for you to start it with the host",
                self.script().display()
            ),
        }
    }

    /// What would be done, a sentence each.
    #[must_use]
    pub fn plan(&self) -> Vec<String> {
        self.acts().into_iter().map(|act| self.says(act)).collect()
    }

    /// Does it. What was done before, as by an attempt that broke off, is not done again.
    ///
    /// # Errors
    /// At the first thing that fails, with what it was.
    pub async fn run(&self) -> anyhow::Result<()> {
        for act in self.acts() {
            self.act(act).await.with_context(|| format!("it failed to {}", self.says(act)))?;
        }
        Ok(())
    }

    async fn act(&self, act: Act) -> anyhow::Result<()> {
        match act {
            Act::Copy => {
                let target = self.target();
                if std::fs::canonicalize(&target).is_ok_and(|there| there == self.program) {
                    return Ok(());
                }
                // One that runs is replaced, not written to.
                let fresh = target.with_extension("new");
                write(&fresh, &std::fs::read(&self.program)?, 0o755)?;
                std::fs::rename(&fresh, &target)?;
            }
            Act::AddUser => {
                let groups = self.groups().join(",");
                let mut args = vec!["--system", "--user-group", "--home-dir", "/var/lib/rockrose-agent", "--no-create-home", "--shell", "/usr/sbin/nologin"];
                if !groups.is_empty() {
                    args.extend(["--groups", &groups]);
                }
                args.push(USER);
                let added = run("useradd", &args);
                // The small systems have another program for it.
                if added.is_err() {
                    run("adduser", &["-S", "-D", "-H", "-s", "/sbin/nologin", USER]).or(added)?;
                }
            }
            Act::Enrol => {
                if let Some(parent) = self.data().parent() {
                    std::fs::create_dir_all(parent)?;
                }
                enrol(&self.data(), self.enrol.clone()).await?;
            }
            Act::GiveFolder => {
                Folder::open(&self.data())?;
                run("chown", &["-R", &format!("{USER}:"), &self.data().display().to_string()])?;
            }
            Act::WriteUnit => {
                let groups = format!("SupplementaryGroups={}\n", self.groups().join(" "));
                let line = UNIT.lines().find(|line| line.starts_with("SupplementaryGroups=")).unwrap_or_default();
                // A group that is not there would keep the unit from starting.
                let unit = UNIT.replace("@PREFIX@", "/usr/local").replace(&format!("{line}\n"), &groups);
                write(&self.unit(), unit.as_bytes(), 0o644)?;
            }
            Act::Enable => {
                run("systemctl", &["daemon-reload"])?;
                run("systemctl", &["enable", "rockrose-agent"])?;
                run("systemctl", &["restart", "rockrose-agent"])?;
            }
            Act::WriteScript => {
                let program = Path::new("/").join(self.target().strip_prefix(&self.root)?);
                write(&self.script(), SCRIPT.replace("@PROGRAM@", &program.display().to_string()).as_bytes(), 0o755)?;
            }
        }
        Ok(())
    }

    /// What is still to be done by whoever installs it; nothing, where it runs.
    #[must_use]
    pub fn is_left(&self) -> Option<String> {
        if !self.has_systemd() {
            return Some(format!("Start it now, and with the host: {} &", self.script().display()));
        }
        self.is_image().then(|| "In the image, run: systemctl enable rockrose-agent".to_owned())
    }
}

fn write(path: &Path, bytes: &[u8], mode: u32) -> anyhow::Result<()> {
    let write = || {
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder)?;
        }
        std::fs::write(path, bytes)?;
        std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode))
    };
    write().with_context(|| format!("cannot write {}", path.display()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn install(root: &Path) -> Install {
        let program = root.join("downloaded");
        std::fs::write(&program, "program").unwrap();
        let enrol = EnrolOptions {
            url: "https://127.0.0.1:8640".into(),
            code: "4f".into(),
            name: Some("kiosk-7".into()),
            labels: Default::default(),
            allow: Vec::new(),
            show_programs: true,
            elsewhere: None,
        };
        Install { root: root.to_owned(), program: std::fs::canonicalize(program).unwrap(), enrol }
    }

    #[tokio::test]
    async fn a_unit_is_written_where_there_is_systemd_and_a_script_elsewhere() {
        let root = tempfile::tempdir().unwrap();
        let install = install(root.path());
        let says = install.plan().join("\n");
        assert!(
            says.contains("copy this program to")
                && says.contains("enrol this host as kiosk-7 at https://127.0.0.1:8640")
                && says.contains("there is no systemd here"),
            "{says}"
        );
        install.act(Act::Copy).await.unwrap();
        install.act(Act::WriteScript).await.unwrap();
        let script = std::fs::read_to_string(install.script()).unwrap();
        assert!(script.contains("/usr/local/bin/rockrose agent run") && !script.contains("@PROGRAM@"), "{script}");
        let checked = Command::new("sh").arg("-n").arg(install.script()).status().unwrap();
        assert!(checked.success());
        let mode = |path: &Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
        assert_eq!(
            (mode(&install.script()), mode(&install.target()), std::fs::read_to_string(install.target()).unwrap()),
            (0o755, 0o755, "program".to_owned())
        );

        std::fs::create_dir_all(root.path().join("lib/systemd/system")).unwrap();
        std::fs::create_dir_all(root.path().join("etc")).unwrap();
        std::fs::write(root.path().join("etc/group"), "root:x:0:\nadm:x:4:\n").unwrap();
        assert!(install.plan().iter().any(|says| says.starts_with("write the unit")));
        install.act(Act::WriteUnit).await.unwrap();
        let unit = std::fs::read_to_string(install.unit()).unwrap();
        assert!(unit.contains("ExecStart=/usr/local/bin/rockrose agent run\n") && unit.contains("\nSupplementaryGroups=adm\n"), "{unit}");
        // Once it has enrolled, it does not do so again.
        std::fs::create_dir_all(install.data()).unwrap();
        std::fs::write(install.data().join("agent.toml"), "").unwrap();
        assert!(!install.acts().contains(&Act::Enrol));
        // What the package has installed is used as it is.
        std::fs::create_dir_all(root.path().join("usr/bin")).unwrap();
        std::fs::rename(&install.program, root.path().join(PACKAGED.0)).unwrap();
        std::fs::write(root.path().join(PACKAGED.1), "").unwrap();
        let packaged = Install { program: std::fs::canonicalize(root.path().join(PACKAGED.0)).unwrap(), ..install };
        assert_eq!(packaged.acts(), []);
    }
}
