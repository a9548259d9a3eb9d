//! The journal of the host's system. `journalctl` reads it, follows it and says where it is; how far it was read moves with the events, so that each entry comes once, whatever is killed.

use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use rockrose_event::buffers::Buffer;
use rockrose_event::record::DeclaredFormat;
use rockrose_extract::{SystemEntry, read_system_entry};
use rockrose_plan::SystemJournal;
use tokio::io::{AsyncRead, AsyncReadExt};
use tokio::process::{Child, Command};

use super::{Endpoint, Kind, PasteLine, Start, rests};
use crate::monitor::{FileSeen, FileState};
use crate::probe::Probe;
use crate::{BodyMetadata, Position, SenderFault, Sink, SourceMonitor};

/// The program that reads journals.
const PROGRAM: &str = "journalctl";
/// Where the host's own journal is: kept on disk, or in memory.
const FOLDERS: [&str; 2] = ["/var/log/journal", "/run/log/journal"];
/// The name of the place in the journal.
const CURSOR: &str = "cursor";
/// So many bytes of entries are handed on at once.
const BATCH: usize = 1 << 20;
/// Most bytes of one entry that are looked at; what is longer is passed over.
const LONGEST_ENTRY: usize = 8 << 20;
/// What comes within this time of the last goes along with it.
const GATHER: Duration = Duration::from_millis(100);
/// First and longest pause before the program is started again.
const PAUSES: (Duration, Duration) = (Duration::from_millis(250), Duration::from_secs(10));
/// Most bytes that are kept of what the program complains of.
const COMPLAINT: usize = 4 << 10;

/// Why the journal is not read.
#[derive(Debug, thiserror::Error)]
enum JournalError {
    #[error("`{PROGRAM}` is not on this host")]
    NoProgram,
    #[error("`{PROGRAM}` cannot be started: {0}")]
    NotStarted(std::io::Error),
    #[error("the journal in {} may not be read", .0.display())]
    Denied(PathBuf),
    #[error("there is no journal in {}", .0.display())]
    NoJournal(PathBuf),
    #[error("`{PROGRAM}` ended: {0}")]
    Ended(String),
}

impl JournalError {
    fn state(&self) -> FileState {
        match self {
            JournalError::NoProgram | JournalError::NoJournal(_) => FileState::NoJournal,
            JournalError::Denied(_) => FileState::JournalDenied,
            JournalError::NotStarted(_) | JournalError::Ended(_) => FileState::Damaged,
        }
    }
}

/// The folders of a journal.
fn folders(journal: &SystemJournal) -> Vec<PathBuf> {
    journal.folder.as_ref().map_or_else(|| FOLDERS.iter().map(PathBuf::from).collect(), |folder| vec![PathBuf::from(folder)])
}

/// Sees that the journal's files may be read: `journalctl` says nothing where it may read only some of them, such as the user's own.
fn look(journal: &SystemJournal) -> Result<(), JournalError> {
    look_by(folders(journal), |path| std::fs::File::open(path).map(|_| ()))
}

/// As [`look`], with a way to open a file.
fn look_by(folders: Vec<PathBuf>, open: impl Fn(&Path) -> std::io::Result<()>) -> Result<(), JournalError> {
    let (mut denied, mut is_read) = (None, false);
    let mut stack = folders;
    let first = stack[0].clone();
    while let Some(folder) = stack.pop() {
        let entries = match std::fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(e) => {
                if e.kind() == std::io::ErrorKind::PermissionDenied {
                    denied = Some(folder);
                }
                continue;
            }
        };
        for path in entries.flatten().map(|entry| entry.path()) {
            if path.is_dir() {
                stack.push(path);
            } else if path.extension().is_some_and(|extension| extension == "journal") {
                match open(&path) {
                    Ok(()) => is_read = true,
                    Err(e) if e.kind() == std::io::ErrorKind::PermissionDenied => denied = Some(folder.clone()),
                    Err(_) => {}
                }
            }
        }
    }
    match denied {
        Some(folder) => Err(JournalError::Denied(folder)),
        None if is_read => Ok(()),
        None => Err(JournalError::NoJournal(first)),
    }
}

/// `journalctl` for a journal, with what is common to all uses of it.
fn program(journal: &SystemJournal) -> Command {
    let mut command = Command::new(PROGRAM);
    command.args(["--no-pager", "--quiet", "--all", "--output=json"]);
    if let Some(folder) = &journal.folder {
        command.arg(format!("--directory={folder}"));
    }
    // Other languages would not change the JSON, but what it complains of.
    command.env("LC_ALL", "C").env_remove("SYSTEMD_PAGER").stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).kill_on_drop(true);
    command
}

fn started(mut command: Command) -> Result<Child, JournalError> {
    command.spawn().map_err(|e| if e.kind() == std::io::ErrorKind::NotFound { JournalError::NoProgram } else { JournalError::NotStarted(e) })
}

/// The end of the journal, behind which everything is new; nothing, if it is empty.
async fn end(journal: &SystemJournal) -> Result<Option<String>, JournalError> {
    let mut command = program(journal);
    command.args(["--lines=1"]);
    let output = started(command)?.wait_with_output().await.map_err(JournalError::NotStarted)?;
    if !output.status.success() {
        return Err(JournalError::Ended(first_line(&output.stderr)));
    }
    let last = output.stdout.split(|byte| *byte == b'\n').rfind(|line| !line.is_empty());
    Ok(last.and_then(|line| read_system_entry(line, &[], 0, &mut Vec::new())).map(|entry| entry.cursor))
}

fn first_line(complaint: &[u8]) -> String {
    let text = String::from_utf8_lossy(complaint);
    let line = text.lines().find(|line| !line.trim().is_empty()).unwrap_or("it says nothing");
    line.chars().filter(|c| !c.is_control()).take(300).collect()
}

/// What was read of the journal and is to be handed on.
#[derive(Default)]
struct Batch {
    lines: Vec<u8>,
    raw: Vec<Vec<u8>>,
    cursor: Option<String>,
    cut: u64,
}

/// Cuts what `journalctl` writes into entries.
struct Entries<'a> {
    journal: &'a SystemJournal,
    max_event: usize,
    /// An entry without its end.
    begun: Vec<u8>,
    /// The rest of an entry that is too long.
    passing: bool,
}

impl Entries<'_> {
    /// Takes some bytes; `raw` says that entries are kept as they came, too.
    fn take(&mut self, bytes: &[u8], raw: bool, batch: &mut Batch, monitor: &SourceMonitor) {
        let mut rest = bytes;
        while let Some(end) = memchr::memchr(b'\n', rest) {
            let (line, behind) = (&rest[..end], &rest[end + 1..]);
            rest = behind;
            if std::mem::take(&mut self.passing) {
                continue;
            }
            if self.begun.is_empty() {
                self.entry(line, raw, batch, monitor);
            } else {
                let mut whole = std::mem::take(&mut self.begun);
                whole.extend_from_slice(line);
                self.entry(&whole, raw, batch, monitor);
            }
        }
        if !self.passing {
            self.begun.extend_from_slice(rest);
            if self.begun.len() > LONGEST_ENTRY {
                (self.begun, self.passing) = (Vec::new(), true);
                monitor.wrong(SenderFault::TooLarge, format!("an entry of more than {LONGEST_ENTRY} bytes was passed over"), None);
            }
        }
    }

    fn entry(&self, line: &[u8], raw: bool, batch: &mut Batch, monitor: &SourceMonitor) {
        if line.is_empty() {
            return;
        }
        let Some(SystemEntry { cursor, is_cut }) = read_system_entry(line, &self.journal.fields, self.max_event, &mut batch.lines) else {
            monitor.broken(1, "not an entry of a journal", None);
            return;
        };
        if raw {
            batch.raw.push(line.to_vec());
        }
        batch.cut += u64::from(is_cut);
        batch.cursor = Some(cursor);
    }
}

/// Reads the journal until the program that reads it ends, or the source is to stop. `read` is how far it was read: nothing, before it was looked at; an empty text, if from its beginning.
async fn follow<S: Sink>(journal: &SystemJournal, read: &mut Option<String>, start: &Start<S>) -> Result<(), JournalError> {
    look(journal)?;
    let from = match read {
        Some(cursor) => cursor.clone(),
        None => {
            let from = if journal.from_start { String::new() } else { end(journal).await?.unwrap_or_default() };
            // Kept before anything is read: what is written from now on is read, even if it is only after a restart.
            if !hand_on(&mut Batch { cursor: Some(from.clone()), ..Batch::default() }, start).await {
                return Ok(());
            }
            *read = Some(from.clone());
            from
        }
    };
    let mut command = program(journal);
    command.args(["--follow", "--no-tail"]);
    command.args(journal.units.iter().map(|unit| format!("--unit={unit}")));
    if !from.is_empty() {
        command.arg(format!("--after-cursor={from}"));
    }
    let mut child = started(command)?;
    let (Some(mut out), Some(complaints)) = (child.stdout.take(), child.stderr.take()) else { return Ok(()) };
    let complaint = Arc::new(Mutex::new(Vec::new()));
    let listening = tokio::spawn(listen(complaints, Arc::clone(&complaint)));
    let settings = start.settings.load();
    let mut entries = Entries { journal, max_event: settings.max_event, begun: Vec::new(), passing: false };
    let (mut bytes, mut batch) = (vec![0; 64 << 10], Batch::default());
    start.monitor.set_files(vec![seen(journal, FileState::Current, "it is followed".to_owned())]);
    let mut due = None;
    let ended = loop {
        let patience = async {
            match due {
                Some(due) => tokio::time::sleep_until(due).await,
                None => std::future::pending().await,
            }
        };
        let full = tokio::select! {
            () = start.stop.cancelled() => break Ok(()),
            () = patience => true,
            got = out.read(&mut bytes) => match got {
                Ok(0) | Err(_) => {
                    let _ = tokio::time::timeout(PAUSES.0, listening).await;
                    break Err(JournalError::Ended(first_line(&complaint.lock().unwrap_or_else(PoisonError::into_inner))));
                }
                Ok(n) => {
                    entries.take(&bytes[..n], start.monitor.is_caught(), &mut batch, &start.monitor);
                    if batch.cursor.is_some() {
                        due.get_or_insert_with(|| tokio::time::Instant::now() + GATHER);
                    }
                    batch.lines.len() >= BATCH
                }
            },
        };
        if full {
            due = None;
            let cursor = batch.cursor.clone();
            if !hand_on(&mut batch, start).await {
                return Ok(());
            }
            *read = cursor.or(read.take());
        }
    };
    // What was read whole goes on before the source ends.
    if batch.cursor.is_some() {
        let cursor = batch.cursor.clone();
        if hand_on(&mut batch, start).await {
            *read = cursor;
        }
    }
    ended
}

async fn listen(mut complaints: impl AsyncRead + Unpin, kept: Arc<Mutex<Vec<u8>>>) {
    let mut bytes = [0; 1024];
    while let Ok(n @ 1..) = complaints.read(&mut bytes).await {
        let mut kept = kept.lock().unwrap_or_else(PoisonError::into_inner);
        let room = COMPLAINT.saturating_sub(kept.len());
        kept.extend_from_slice(&bytes[..n.min(room)]);
    }
}

/// Hands entries on until they are durable, and how far they reach with them. `false`: the source is to stop before they are.
async fn hand_on<S: Sink>(batch: &mut Batch, start: &Start<S>) -> bool {
    let Start { settings, sink, monitor, stop, .. } = start;
    let Batch { lines, raw, cursor, cut } = std::mem::take(batch);
    let name = settings.load().name.clone();
    let body = Arc::new(Buffer::from(lines));
    let positions: Vec<Position> = vec![Position { id: CURSOR.to_owned(), content: cursor }];
    let mut pause = PAUSES.0;
    loop {
        let with = BodyMetadata { positions: positions.clone(), raw: raw.clone(), bounded: true, ..BodyMetadata::default() };
        match sink.accept(&name, Arc::clone(&body), DeclaredFormat::Lines, with).await {
            Ok(receipt) => {
                monitor.receipt(&receipt, None);
                if cut > 0 {
                    monitor.wrong_times(SenderFault::TooLarge, cut, "messages were longer than the limit for one event, and were cut", None);
                }
                return true;
            }
            Err(refusal) if refusal.is_temporary() => monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None),
            // A batch is far smaller than what is refused for its size: it goes by itself, and is told of.
            Err(refusal) => {
                monitor.wrong(SenderFault::TooLarge, refusal.to_string(), None);
                let with = BodyMetadata { positions: positions.clone(), ..BodyMetadata::default() };
                if sink.accept(&name, Arc::default(), DeclaredFormat::Lines, with).await.is_ok() {
                    return true;
                }
            }
        }
        if rests(stop, pause).await {
            return false;
        }
        pause = (pause * 2).min(PAUSES.1);
    }
}

/// How the journal is doing, as its only file.
fn seen(journal: &SystemJournal, state: FileState, says: String) -> FileSeen {
    FileSeen { path: journal.folder.clone().unwrap_or_else(|| "system journal".to_owned()), state, says, size: 0, offset: 0 }
}

impl Kind for SystemJournal {
    async fn run<S: Sink>(self, start: Start<S>) {
        let (mut read, mut pause): (Option<String>, Duration) = (None, PAUSES.0);
        let mut is_known = false;
        while !start.stop.is_cancelled() {
            if !is_known {
                let name = start.settings.load().name.clone();
                match start.sink.positions(&name).await {
                    Ok(kept) => {
                        read = kept.into_iter().find(|position| position.id == CURSOR).and_then(|position| position.content);
                        is_known = true;
                    }
                    Err(refusal) => start.monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None),
                }
            }
            let before = read.clone();
            if is_known && let Err(e) = follow(&self, &mut read, &start).await {
                start.monitor.set_files(vec![seen(&self, e.state(), e.to_string())]);
            }
            pause = if read == before { (pause * 2).min(PAUSES.1) } else { PAUSES.0 };
            rests(&start.stop, pause).await;
        }
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        match look(self) {
            Err(e) => probe.say("journal", false, format!("{e}; {}", e.state().remedy())),
            Ok(()) => match end(self).await {
                Err(e) => probe.say("journal", false, e.to_string()),
                Ok(_) => probe.say("journal", true, format!("{} can be read", self.folder.as_deref().unwrap_or("the system journal"))),
            },
        }
    }

    fn paste_lines(&self, _at: &Endpoint) -> Vec<PasteLine> {
        if self.folder.is_none() && self.units.is_empty() { vec![PasteLine::new("bash", "logger hello".to_owned())] } else { Vec::new() }
    }

    fn remedy(&self, what: SenderFault) -> Option<&'static str> {
        (what == SenderFault::TooLarge).then_some("raise the source's `max_event`")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_journal_of_which_only_a_part_may_be_read_is_told_of() {
        let folder = tempfile::tempdir().unwrap();
        let machine = folder.path().join("0123");
        std::fs::create_dir(&machine).unwrap();
        let look = |denied: &str| {
            let open = |path: &Path| if path.ends_with(denied) { Err(std::io::ErrorKind::PermissionDenied.into()) } else { Ok(()) };
            look_by(vec![folder.path().to_owned()], open)
        };
        assert!(matches!(look(""), Err(JournalError::NoJournal(_))));
        std::fs::write(machine.join("user-1000.journal"), "").unwrap();
        assert!(look("system.journal").is_ok());
        std::fs::write(machine.join("system.journal"), "").unwrap();
        let denied = look("system.journal").unwrap_err();
        assert!(matches!(&denied, JournalError::Denied(folder) if *folder == machine) && denied.state() == FileState::JournalDenied, "{denied}");
        assert!(look("other").is_ok());
    }
}
