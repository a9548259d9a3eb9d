//! The program that an agent runs: the one that was installed, or one that the centre has given since. One that does not do is gone back from by itself.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::process::Stdio;
use std::time::{Duration, Instant};

use anyhow::Context;
use nix::sys::signal::Signal;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde::{Deserialize, Serialize};
use tokio::process::{Child, Command};

use crate::folder::Folder;
use crate::run::{RunEnd, run_supervised};

/// Set where the program was started by the one that was installed.
const STARTED: &str = "ROCKROSE_AGENT_STARTED";
/// With this status a program ends that has fetched another.
const UPDATE: i32 = 75;
/// The centre has to answer a new program within this time.
const TRIAL: Duration = Duration::from_secs(60);
/// A program that ends sooner than this is not started again.
const SOON: Duration = Duration::from_secs(60);
/// Most programs of which it is kept that they did not do.
const REFUSED: usize = 16;

/// Which programs there are; hashes are SHA-256 in hexadecimal digits.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Programs {
    /// The one that was installed, and starts the others.
    installed: String,
    /// The one that runs, if it is another.
    current: Option<String>,
    /// One that is to be tried.
    trial: Option<String>,
    /// Those that did not do, and why.
    refused: Vec<(String, String)>,
}

fn program_folder(folder: &Folder) -> PathBuf {
    folder.path().join("program")
}

impl Programs {
    pub(crate) fn read(folder: &Folder) -> Programs {
        std::fs::read(program_folder(folder).join("programs.json")).ok().and_then(|text| serde_json::from_slice(&text).ok()).unwrap_or_default()
    }

    fn keep(&self, folder: &Folder) -> anyhow::Result<()> {
        std::fs::create_dir_all(program_folder(folder))?;
        folder.write(&program_folder(folder).join("programs.json"), &serde_json::to_vec(self)?)
    }

    /// Why a program did not do, if it was tried.
    pub(crate) fn refusal(&self, hash: &str) -> Option<&str> {
        self.refused.iter().find(|(refused, _)| refused == hash).map(|(_, why)| why.as_str())
    }

    fn refuse(&mut self, hash: &str, why: String) {
        self.refused.retain(|(refused, _)| refused != hash);
        self.refused.push((hash.to_owned(), why));
        let over = self.refused.len().saturating_sub(REFUSED);
        self.refused.drain(..over);
        self.trial = None;
        if self.current.as_deref() == Some(hash) {
            self.current = None;
        }
    }

    /// The one that is to run, if it is not the one that was installed.
    fn next(&self) -> Option<&String> {
        self.trial.as_ref().or(self.current.as_ref()).filter(|hash| **hash != self.installed)
    }
}

/// The SHA-256 of a file, in hexadecimal digits. Blocks.
fn hash_of(path: &Path) -> anyhow::Result<String> {
    let hash = rockrose_service::hash_of_file(path).with_context(|| format!("cannot read {}", path.display()))?;
    Ok(rockrose_service::hex(&hash))
}

/// The hash of the program that runs.
pub(crate) async fn own_hash() -> anyhow::Result<String> {
    tokio::task::spawn_blocking(|| hash_of(Path::new("/proc/self/exe"))).await?
}

/// Puts a program beside the others that is to be tried next. It has to be the one that was offered, and signed by the centre's authority. Blocks.
///
/// # Errors
/// If it is neither, or cannot be kept.
pub(crate) fn take(folder: &Folder, fetched: &Path, hash: &str, signature: &[u8]) -> anyhow::Result<()> {
    anyhow::ensure!(hash_of(fetched)? == hash, "what was fetched is not what was offered");
    signed(folder, hash, signature)?;
    std::fs::set_permissions(fetched, std::fs::Permissions::from_mode(0o700))?;
    std::fs::rename(fetched, program_folder(folder).join(hash))?;
    let mut programs = Programs::read(folder);
    programs.trial = Some(hash.to_owned());
    programs.keep(folder)
}

/// Where a program is fetched to.
pub(crate) fn fetched(folder: &Folder) -> anyhow::Result<PathBuf> {
    std::fs::create_dir_all(program_folder(folder))?;
    Ok(program_folder(folder).join("fetched"))
}

/// Sees that the centre's authority has signed a hash.
fn signed(folder: &Folder, hash: &str, signature: &[u8]) -> anyhow::Result<()> {
    let authority = CertificateDer::from_pem_file(folder.authority_file()).map_err(|e| anyhow::anyhow!("the centre's authority cannot be read: {e}"))?;
    let authority = webpki::EndEntityCert::try_from(&authority).map_err(|e| anyhow::anyhow!("the centre's authority cannot be read: {e}"))?;
    authority.verify_signature(webpki::ring::ECDSA_P256_SHA256, hash.as_bytes(), signature).map_err(|_| anyhow::anyhow!("it is not signed by the centre"))
}

/// The centre has answered this program: it stays.
pub(crate) fn confirm(folder: &Folder, own: &str) -> anyhow::Result<()> {
    let mut programs = Programs::read(folder);
    if programs.trial.as_deref() != Some(own) {
        return Ok(());
    }
    let before = programs.current.replace(own.to_owned());
    programs.trial = None;
    programs.keep(folder)?;
    tracing::info!(program = own, "the new program stays");
    if let Some(before) = before.filter(|before| before != own) {
        let _ = std::fs::remove_file(program_folder(folder).join(before));
    }
    Ok(())
}

/// How a program ended that was started.
enum ChildEnd {
    /// It was asked to.
    Asked,
    /// It ended by itself, after some time.
    Later,
    /// It has fetched another.
    Update,
    /// It does not do.
    Failed(String),
}

fn ask_to_end(child: &Child) {
    if let Some(id) = child.id().and_then(|id| i32::try_from(id).ok()) {
        let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(id), Signal::SIGTERM);
    }
}

/// Runs another program for the agent until it ends, or `end`.
async fn run_child(folder: &Folder, hash: &str, mut end: Pin<&mut impl Future<Output = ()>>) -> anyhow::Result<ChildEnd> {
    let program = program_folder(folder).join(hash);
    let begun = Instant::now();
    let data = folder.path();
    let mut child = match Command::new(&program).args(["agent", "run", "--data"]).arg(data).env(STARTED, "1").stdin(Stdio::null()).kill_on_drop(true).spawn() {
        Ok(child) => child,
        Err(e) => return Ok(ChildEnd::Failed(format!("it cannot be started: {e}"))),
    };
    let mut tick = tokio::time::interval(Duration::from_millis(500));
    loop {
        tokio::select! {
            () = &mut end => {
                ask_to_end(&child);
                let _ = child.wait().await;
                return Ok(ChildEnd::Asked);
            }
            status = child.wait() => {
                let status = status?;
                let is_tried = Programs::read(folder).trial.as_deref() == Some(hash);
                return Ok(match status.code() {
                    Some(UPDATE) => ChildEnd::Update,
                    _ if !is_tried && begun.elapsed() >= SOON => ChildEnd::Later,
                    _ => ChildEnd::Failed(format!("it ended at once ({status})")),
                });
            }
            _ = tick.tick() => {
                let is_tried = || Programs::read(folder).trial.as_deref() == Some(hash);
                if begun.elapsed() >= TRIAL && is_tried() {
                    child.kill().await?;
                    return Ok(ChildEnd::Failed("the centre was not heard by it within a minute".to_owned()));
                }
            }
        }
    }
}

/// Runs the agent whose data folder is `path` until `end`, by the program that was installed or one that the centre has given since. The one that was installed stays and watches: a program
/// that ends at once, or that the centre has not answered within a minute, is not used any more.
///
/// # Errors
/// If no agent has enrolled there, or what it keeps cannot be opened.
pub async fn supervise(path: &Path, end: impl Future<Output = ()>) -> anyhow::Result<()> {
    let folder = Folder::open(&std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned()))?;
    let own = own_hash().await?;
    let mut end = std::pin::pin!(end);
    if std::env::var_os(STARTED).is_some() {
        // It ends with the one that started it, whatever ends that.
        nix::sys::prctl::set_pdeathsig(Signal::SIGTERM)?;
        return match run_supervised(&folder, &own, end).await? {
            RunEnd::Asked => Ok(()),
            RunEnd::Update => std::process::exit(UPDATE),
        };
    }
    loop {
        // A program that was started by one that was killed ends as well, which may take a moment.
        rockrose_service::left_alone(folder.path()).await;
        let mut programs = Programs::read(&folder);
        if programs.installed != own {
            // Another was installed by hand: it counts.
            programs = Programs { installed: own.clone(), refused: programs.refused, ..Programs::default() };
            programs.keep(&folder)?;
        }
        let Some(hash) = programs.next().cloned() else {
            if programs.trial.is_some() || programs.current.is_some() {
                // Back to what was installed.
                (programs.trial, programs.current) = (None, None);
                programs.keep(&folder)?;
            }
            match run_supervised(&folder, &own, end.as_mut()).await? {
                RunEnd::Asked => return Ok(()),
                RunEnd::Update => continue,
            }
        };
        tracing::info!(program = hash, "the agent goes on with the program that the centre has given");
        match run_child(&folder, &hash, end.as_mut()).await? {
            ChildEnd::Asked => return Ok(()),
            ChildEnd::Update | ChildEnd::Later => {}
            ChildEnd::Failed(why) => {
                tracing::warn!(program = hash, why, "the program that the centre has given does not do; the one before goes on");
                let mut programs = Programs::read(&folder);
                programs.refuse(&hash, why);
                programs.keep(&folder)?;
                let _ = std::fs::remove_file(program_folder(&folder).join(&hash));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_that_does_not_do_is_gone_back_from() {
        let mut programs = Programs { installed: "a".into(), current: Some("b".into()), trial: Some("c".into()), ..Programs::default() };
        assert_eq!(programs.next().unwrap(), "c");
        programs.refuse("c", "it ended at once".into());
        assert_eq!((programs.next().unwrap().as_str(), programs.refusal("c")), ("b", Some("it ended at once")));
        programs.refuse("b", "it ended at once".into());
        assert_eq!(programs.next(), None);
        programs.trial = Some("a".into());
        assert_eq!(programs.next(), None, "that is the one that was installed");
        for n in 0..40 {
            programs.refuse(&n.to_string(), String::new());
        }
        assert_eq!(programs.refused.len(), REFUSED);
    }

    #[test]
    fn only_what_was_offered_and_the_centre_has_signed_is_taken() {
        use rcgen::{CertificateParams, KeyPair, SigningKey};
        let dir = tempfile::tempdir().unwrap();
        let folder = Folder::make(&dir.path().join("agent")).unwrap();
        let (key, other) = (KeyPair::generate().unwrap(), KeyPair::generate().unwrap());
        std::fs::write(folder.authority_file(), CertificateParams::default().self_signed(&key).unwrap().pem()).unwrap();
        let fetched = fetched(&folder).unwrap();
        let hash = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08";
        let write = || std::fs::write(&fetched, "test").unwrap();
        write();
        let signature = key.sign(hash.as_bytes()).unwrap();
        assert!(take(&folder, &fetched, &hash.replace('9', "8"), &signature).unwrap_err().to_string().contains("not what was offered"));
        assert!(take(&folder, &fetched, hash, &other.sign(hash.as_bytes()).unwrap()).unwrap_err().to_string().contains("not signed"));
        assert!(take(&folder, &fetched, hash, b"").is_err());
        assert_eq!(Programs::read(&folder), Programs::default(), "nothing has changed");
        take(&folder, &fetched, hash, &signature).unwrap();
        assert_eq!(Programs::read(&folder).trial.as_deref(), Some(hash));
        confirm(&folder, "another").unwrap();
        confirm(&folder, hash).unwrap();
        assert_eq!((Programs::read(&folder).current.as_deref(), Programs::read(&folder).trial), (Some(hash), None));
    }
}
