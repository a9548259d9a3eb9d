//! Files of hosts that are looked into from here: what is asked of an agent, and what it answers. Who is on the host says in `agent.toml` which files may be looked at, if any.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use rockrose_intake::{Budget, FileSeen, FileState, Sample};
use rockrose_opamp::CustomMessage;
use rockrose_plan::FileScope;
use serde::{Deserialize, Serialize};
use tokio::sync::oneshot;

use super::lock;

/// The name of what is understood beyond the protocol: an agent is asked which files there are, and what stands in them.
pub const LOOK: &str = "rockrose.look-into-files";
/// Where logs are, unless somebody says otherwise.
const LOGS: &str = "/var/log";
/// What stands there and is no log, or not one of text.
const NO_TEXT: [&str; 8] = ["/var/log/journal/**/*", "README*", "*.gz", "*.xz", "*.zst", "wtmp*", "btmp*", "lastlog"];
/// How long files are looked for, and how many entries of folders are looked through.
const LOOK_TIME: Duration = Duration::from_secs(8);
const LOOK_ENTRIES: usize = 100_000;
/// Most bytes of lines of each family, most paths of each, and most files that are told of.
const LINES: usize = 8 << 10;
const PATHS: usize = 100;
const FILES: usize = 500;
/// Most bytes of an answer: it has to go into one message.
const MOST: usize = 384 << 10;

/// What an agent is asked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LookAsked {
    /// By which the answer is known.
    pub id: u64,
    /// Patterns of files; empty: wherever the host's logs are.
    pub paths: Vec<String>,
    /// Patterns of files that are left out.
    pub exclude: Vec<String>,
}

/// What an agent answers.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LookFound {
    /// Whose answer it is.
    pub id: u64,
    /// The files.
    pub sample: Sample,
}

/// The folder that a pattern begins with, as it is, links followed, as far as it exists.
fn beginning(pattern: &str) -> PathBuf {
    let plain = pattern.split(['*', '?', '[']).next().unwrap_or_default();
    let mut folder = Path::new(plain);
    loop {
        match (std::fs::canonicalize(folder), folder.parent()) {
            (Ok(real), _) => return real,
            (Err(_), Some(parent)) => folder = parent,
            (Err(_), None) => return PathBuf::from("/"),
        }
    }
}

/// Looks into the files of this host, as far as `scope` lets plans reach them: of others not even the names are told. Blocks.
pub(crate) fn look(asked: &LookAsked, scope: &FileScope) -> LookFound {
    let mut exclude = asked.exclude.clone();
    let (mut paths, mut refused) = (Vec::new(), Vec::new());
    if asked.paths.is_empty() {
        exclude.extend(NO_TEXT.iter().map(|&pattern| pattern.to_owned()));
        let folders = if scope.under.is_empty() { vec![PathBuf::from(LOGS)] } else { scope.under.clone() };
        // Signs that would stand for others in a pattern are rare in the names of such folders; who has them names the files.
        paths.extend(folders.iter().map(|folder| format!("{}/**/*", folder.display())));
    }
    for pattern in &asked.paths {
        match scope.refuses_pattern(&beginning(pattern)) {
            None => paths.push(pattern.clone()),
            Some(says) => refused.push(FileSeen { path: pattern.clone(), state: FileState::Denied, says, size: 0, offset: 0 }),
        }
    }
    let mut sample =
        if paths.is_empty() { Sample::default() } else { rockrose_intake::sample(&paths, &exclude, scope, &mut Budget::new(LOOK_ENTRIES, LOOK_TIME)) };
    let is_shown = |path: &str| std::fs::canonicalize(path).map_or(true, |real| scope.refuses(&real).is_none());
    sample.files.retain(|file| !file.path.starts_with('/') || is_shown(&file.path));
    sample.files.extend(refused);
    LookFound { id: asked.id, sample: bounded(sample) }
}

/// As much of a sample as goes into one message.
fn bounded(mut sample: Sample) -> Sample {
    for family in &mut sample.families {
        if family.lines.len() > LINES {
            let end = family.lines.floor_char_boundary(LINES);
            // Whole lines, or what there is of the first.
            let end = family.lines[..end].rfind('\n').map_or(end, |at| at + 1);
            family.lines.truncate(end);
        }
        family.paths.truncate(PATHS);
    }
    sample.more |= sample.files.len() > FILES;
    sample.files.truncate(FILES);
    while serde_json::to_vec(&sample).map_or(0, |text| text.len()) > MOST {
        sample.more = true;
        let half = sample.files.len() / 2;
        sample.files.truncate(half);
        if half == 0 && sample.families.pop().is_none() {
            break;
        }
    }
    sample
}

struct Waiting {
    asked: LookAsked,
    is_sent: bool,
    tell: oneshot::Sender<Sample>,
}

/// What agents are asked at this moment, by their ids.
#[derive(Default)]
pub(super) struct Looks {
    waiting: Mutex<HashMap<String, Waiting>>,
    asked: AtomicU64,
}

/// Somebody who waits for an answer. What was asked is forgotten with it.
pub(crate) struct Look<'a> {
    looks: &'a Looks,
    agent: String,
    id: u64,
    answer: oneshot::Receiver<Sample>,
}

impl Look<'_> {
    /// The answer, once there is one.
    pub(crate) async fn found(&mut self) -> Option<Sample> {
        (&mut self.answer).await.ok()
    }
}

impl Drop for Look<'_> {
    fn drop(&mut self) {
        // Where it was answered, somebody else may wait by now.
        let mut waiting = lock(&self.looks.waiting);
        if waiting.get(&self.agent).is_some_and(|of| of.asked.id == self.id) {
            waiting.remove(&self.agent);
        }
    }
}

impl Looks {
    /// Asks an agent, as soon as it is heard. `None`: somebody else waits for an answer of it.
    pub(super) fn ask(&self, agent: &str, paths: Vec<String>, exclude: Vec<String>) -> Option<Look<'_>> {
        let (tell, answer) = oneshot::channel();
        let mut waiting = lock(&self.waiting);
        if waiting.contains_key(agent) {
            return None;
        }
        let id = self.asked.fetch_add(1, Ordering::Relaxed);
        waiting.insert(agent.to_owned(), Waiting { asked: LookAsked { id, paths, exclude }, is_sent: false, tell });
        Some(Look { looks: self, agent: agent.to_owned(), id, answer })
    }

    /// What is to be asked of an agent now.
    pub(super) fn due(&self, agent: &str) -> Option<CustomMessage> {
        let mut waiting = lock(&self.waiting);
        let of = waiting.get_mut(agent).filter(|of| !of.is_sent)?;
        of.is_sent = true;
        Some(CustomMessage { capability: LOOK.to_owned(), r#type: "ask".to_owned(), data: serde_json::to_vec(&of.asked).ok()? })
    }

    /// Takes an answer.
    pub(super) fn answered(&self, agent: &str, message: &CustomMessage) {
        if message.capability != LOOK {
            return;
        }
        let Ok(found) = serde_json::from_slice::<LookFound>(&message.data) else { return };
        let mut waiting = lock(&self.waiting);
        if waiting.get(agent).is_some_and(|of| of.asked.id == found.id)
            && let Some(of) = waiting.remove(agent)
        {
            let _ = of.tell.send(bounded(found.sample));
        }
    }
}

#[cfg(test)]
mod tests {
    use rockrose_intake::Family;

    use super::*;

    #[test]
    fn only_what_plans_may_reach_is_told_of() {
        let dir = tempfile::Builder::new().prefix("look").tempdir().unwrap();
        let real = dir.path().canonicalize().unwrap();
        let (logs, home) = (real.join("logs"), real.join("home"));
        std::fs::create_dir_all(logs.join("gate")).unwrap();
        std::fs::create_dir_all(&home).unwrap();
        std::fs::write(logs.join("gate/barrier.log"), "barrier opened\n").unwrap();
        std::fs::write(home.join("letters.log"), "dear ann\n").unwrap();
        std::os::unix::fs::symlink(home.join("letters.log"), logs.join("also.log")).unwrap();
        let scope = FileScope { under: vec![logs.clone()], ..FileScope::default() };
        let asked = |paths: &[String]| LookAsked { id: 7, paths: paths.to_vec(), exclude: Vec::new() };
        let all = look(&asked(&[]), &scope);
        let paths: Vec<&str> = all.sample.files.iter().map(|file| file.path.as_str()).collect();
        assert_eq!((all.id, paths), (7, vec![logs.join("gate/barrier.log").to_str().unwrap()]), "neither another folder nor a link into it");
        assert_eq!(all.sample.families[0].lines, "barrier opened\n");
        let elsewhere = look(&asked(&[format!("{}/*", home.display())]), &scope);
        let file = &elsewhere.sample.files[0];
        assert!(file.state == FileState::Denied && file.says.contains("only what is below") && elsewhere.sample.families.is_empty(), "{elsewhere:?}");
        let both = look(&asked(&[format!("{}/*/*.log", real.display())]), &scope);
        assert!(!format!("{both:?}").contains("letters"), "{both:?}");
    }

    #[test]
    fn an_answer_fits_into_a_message_and_goes_to_whoever_asked() {
        let lines = "gate open, as it is every day from six until the last ferry has left\n".repeat(2_000);
        let family = Family { paths: vec!["/var/log/gate.log".into(); 3_000], lines, path: "/var/log/gate.log".into() };
        let file = FileSeen { path: "x".repeat(2_000), state: FileState::Current, says: String::new(), size: 1, offset: 0 };
        let large = bounded(Sample { files: vec![file; 3_000], families: vec![family; 24], more: false });
        assert!(large.more && serde_json::to_vec(&large).unwrap().len() <= MOST && !large.families.is_empty());
        assert!(large.families[0].lines.len() <= LINES && large.families[0].lines.ends_with('\n'));
        let looks = Looks::default();
        let mut look = looks.ask("a", Vec::new(), Vec::new()).unwrap();
        assert!(looks.ask("a", Vec::new(), Vec::new()).is_none() && looks.due("b").is_none());
        let sent: LookAsked = serde_json::from_slice(&looks.due("a").unwrap().data).unwrap();
        assert!(looks.due("a").is_none(), "it is asked once");
        let answer = |id| CustomMessage {
            capability: LOOK.to_owned(),
            r#type: String::new(),
            data: serde_json::to_vec(&LookFound { id, sample: large.clone() }).unwrap(),
        };
        looks.answered("a", &answer(sent.id + 1));
        looks.answered("b", &answer(sent.id));
        assert!(look.answer.try_recv().is_err(), "neither another's answer nor one to another question");
        looks.answered("a", &answer(sent.id));
        assert_eq!(look.answer.try_recv().unwrap(), large);
        let next = looks.ask("a", Vec::new(), Vec::new()).unwrap();
        drop(look);
        assert!(looks.ask("a", Vec::new(), Vec::new()).is_none(), "who asks next still waits");
        drop(next);
        assert!(looks.ask("a", Vec::new(), Vec::new()).is_some());
    }
}
