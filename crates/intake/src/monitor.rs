//! What a source has heard lately, and what went wrong with its senders: so that one that is silent can be told why.

use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Serialize};
use tokio::sync::mpsc;

use crate::senders::{Ages, ClockOff, Senders, SendersSeen};
use crate::{Receipt, now_ms};

/// Something that went wrong between a source and its senders.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SenderFault {
    /// A key was needed, and none or another was shown.
    Key,
    /// The sender's address is none of those that are allowed.
    Address,
    /// What came to a port for TLS was no TLS.
    PlainText,
    /// A connection could not be made safe.
    Tls,
    /// What came is not what the source speaks.
    Format,
    /// A body or a message was larger than it may be.
    TooLarge,
    /// Records could not be read.
    Unreadable,
    /// There was no room, so the sender was told to wait.
    PushedBack,
    /// More requests came at once than are worked on, or bodies came too slowly.
    Busy,
    /// More connections were made than are held open.
    Crowded,
    /// Datagrams came faster than they could be taken.
    Lost,
    /// What events say of when they happened cannot be.
    Clock,
}

impl SenderFault {
    /// A word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            SenderFault::Key => "key",
            SenderFault::Address => "address",
            SenderFault::PlainText => "plain text",
            SenderFault::Tls => "tls",
            SenderFault::Format => "format",
            SenderFault::TooLarge => "too large",
            SenderFault::Unreadable => "unreadable",
            SenderFault::PushedBack => "pushed back",
            SenderFault::Busy => "busy",
            SenderFault::Crowded => "crowded",
            SenderFault::Lost => "lost",
            SenderFault::Clock => "clock",
        }
    }
}

/// How a file is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileState {
    /// It is read as far as it goes.
    Current,
    /// There is more to read.
    Behind,
    /// It says the same as another that is read.
    Copy,
    /// It may not be read.
    Denied,
    /// It is not text.
    Binary,
    /// It cannot be decompressed, or read.
    Damaged,
    /// It went away before it was read to its end.
    Gone,
    /// It is neither a file nor a folder.
    Odd,
    /// Nothing stands under the pattern.
    Missing,
    /// There are more than are read.
    TooMany,
    /// This service writes its own log there.
    Own,
    /// It is a journal that may not be read.
    JournalDenied,
    /// There is no journal, or nothing that reads it.
    NoJournal,
}

impl FileState {
    pub(crate) fn of_error(e: &std::io::Error) -> FileState {
        match e.kind() {
            std::io::ErrorKind::PermissionDenied => FileState::Denied,
            std::io::ErrorKind::NotFound => FileState::Gone,
            _ => FileState::Damaged,
        }
    }

    /// Whether somebody has to do something.
    #[must_use]
    pub fn is_trouble(self) -> bool {
        !matches!(self, FileState::Current | FileState::Behind | FileState::Copy)
    }

    /// A word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            FileState::Current => "current",
            FileState::Behind => "behind",
            FileState::Copy => "copy",
            FileState::Denied => "denied",
            FileState::Binary => "binary",
            FileState::Damaged => "damaged",
            FileState::Gone => "gone",
            FileState::Odd => "odd",
            FileState::Missing => "missing",
            FileState::TooMany => "too many",
            FileState::Own => "own log",
            FileState::JournalDenied => "denied",
            FileState::NoJournal => "missing",
        }
    }

    /// What helps against it; empty where nothing has to be done.
    #[must_use]
    pub fn remedy(self) -> &'static str {
        match self {
            FileState::Denied => "give the service's user read access to it and its folders, by group or access list",
            FileState::Binary => "leave it out with `exclude`, or have it written as UTF-8",
            FileState::Damaged => "check whether it is still being compressed or copied; it is read again when it changes",
            FileState::Gone => "keep rotated files until they are read: let `paths` match their names as well",
            FileState::Odd => "let `paths` match files only",
            FileState::Missing => "check the path and its folder; files are picked up as soon as they appear",
            FileState::TooMany => "divide them among several sources, or narrow `paths`",
            FileState::Own => "leave it out with `exclude`, or have the service log to another place",
            FileState::JournalDenied => "add the service's user to the group systemd-journal, and start the service again",
            FileState::NoJournal => "check that systemd-journald runs on this host and that `journalctl` shows entries",
            FileState::Current | FileState::Behind | FileState::Copy => "",
        }
    }
}

/// A file, or a pattern under which nothing stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileSeen {
    /// The path of the file, or the pattern.
    pub path: String,
    /// How it is doing.
    pub state: FileState,
    /// How it is doing, in a sentence.
    pub says: String,
    /// Its size in bytes, packed if it is.
    pub size: u64,
    /// Bytes that are read of it, unpacked.
    pub offset: u64,
}

impl FileSeen {
    /// What helps against what is wrong with it; where one line on this host does, that line. Looks at the folders on its way.
    #[must_use]
    pub fn remedy(&self) -> String {
        if !matches!(self.state, FileState::Denied | FileState::JournalDenied) {
            return self.state.remedy().to_owned();
        }
        let Ok(user) = std::fs::metadata("/proc/self").map(|process| std::os::unix::fs::MetadataExt::uid(&process)) else {
            return self.state.remedy().to_owned();
        };
        if self.state == FileState::JournalDenied {
            // Each file of the journal is given anew to the group that may read it; who is in a group is settled when a process starts.
            return format!("usermod -aG systemd-journal \"$(id -nu {user})\", then start this service again");
        }
        let path = std::path::Path::new(&self.path);
        let is_closed = |folder: &&std::path::Path| {
            let entered = std::fs::metadata(folder.join("."));
            entered.is_err_and(|e| e.kind() == std::io::ErrorKind::PermissionDenied)
        };
        let mut folders: Vec<&std::path::Path> = path.ancestors().skip(1).collect();
        folders.reverse();
        let (rights, what) = match folders.into_iter().find(is_closed) {
            Some(folder) => ("rx", folder),
            None if path.is_dir() => ("rx", path),
            None => ("r", path),
        };
        format!("setfacl -m u:{user}:{rights} {}", quoted(&what.display().to_string()))
    }
}

/// A path as a shell reads it.
fn quoted(path: &str) -> String {
    let plain = path.bytes().all(|b| b.is_ascii_alphanumeric() || b"/._-".contains(&b));
    if plain { path.to_owned() } else { format!("'{}'", path.replace('\'', "'\\''")) }
}

/// A record as it came, and what was made of it, for somebody who looks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Caught {
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// Its bytes.
    pub raw: Vec<u8>,
    /// As it was read; or why it could not be.
    pub read: Result<Vec<u8>, String>,
    /// As it went on from the source; none: a step removed it, or holds it back.
    pub after: Option<Vec<u8>>,
    /// The sentence of the step that removed it or holds it back.
    pub stopped_by: Option<String>,
}

/// How often something went wrong, and the last time it did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trouble {
    /// What went wrong.
    pub what: SenderFault,
    /// In words, without anything out of events.
    pub says: String,
    /// Whence the last came, where that is known.
    pub from: Option<IpAddr>,
    /// How often since the start.
    pub times: u64,
    /// When last, in milliseconds since 1970.
    pub last_ms: i64,
}

/// What a source has heard since it began to listen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourceStatus {
    /// Events that were taken.
    pub events: u64,
    /// When the last came, in milliseconds since 1970.
    pub last_event_ms: Option<i64>,
    /// Whence it came.
    pub last_from: Option<IpAddr>,
    /// Connections that are open.
    pub connections: usize,
    /// Records that could not be read.
    pub unreadable: u64,
    /// How old the last events were when they came.
    pub ages: Ages,
    /// Room that the system has for datagrams that wait to be read, in bytes; none where a source takes no datagrams.
    pub receive_buffer: Option<usize>,
    /// Its files, those in trouble first.
    pub files: Vec<FileSeen>,
    /// What went wrong, the latest first.
    pub troubles: Vec<Trouble>,
}

impl SourceStatus {
    /// The first file that is in trouble, and how many are, in words.
    #[must_use]
    pub fn bad_files(&self) -> Option<(&FileSeen, String)> {
        let bad = self.files.iter().find(|f| f.state.is_trouble())?;
        let count = self.files.iter().filter(|f| f.state.is_trouble()).count();
        let of = if self.files.len() == 1 { String::new() } else { format!("{count} of {} files cannot be read; ", self.files.len()) };
        Some((bad, format!("{of}{}: {}", bad.path, bad.says)))
    }
}

/// Most that look at once at what a source is sent.
const MOST_CATCHING: usize = 16;
/// What may wait for one of them.
const CAUGHT_WAITING: usize = 256;

/// Keeps what a source hears. Shared by all that listens for it.
#[derive(Debug, Default)]
pub struct SourceMonitor {
    hearing: Mutex<SourceStatus>,
    senders: Mutex<Senders>,
    connections: AtomicUsize,
    events: AtomicU64,
    catching: Mutex<Vec<mpsc::Sender<Caught>>>,
    /// Whether anybody is.
    caught: AtomicBool,
}

impl SourceMonitor {
    fn hearing(&self) -> std::sync::MutexGuard<'_, SourceStatus> {
        self.hearing.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn senders(&self) -> std::sync::MutexGuard<'_, Senders> {
        self.senders.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What was heard by now.
    #[must_use]
    pub fn get(&self) -> SourceStatus {
        let mut hearing = self.hearing().clone();
        hearing.connections = self.connections.load(Ordering::Relaxed);
        hearing.events = self.events.load(Ordering::Relaxed);
        let senders = self.senders();
        hearing.ages = senders.all.clone();
        if let Some(ClockOff { from, says, senders, last_ms }) = senders.clock_off() {
            hearing.troubles.push(Trouble { what: SenderFault::Clock, says, from, times: senders, last_ms });
        }
        hearing.troubles.sort_by_key(|t| std::cmp::Reverse(t.last_ms));
        hearing
    }

    /// Who sent to the source by now.
    #[must_use]
    pub fn who_sends(&self) -> SendersSeen {
        self.senders().seen()
    }

    fn took(&self, events: u64, from: Option<IpAddr>) {
        if events > 0 {
            self.events.fetch_add(events, Ordering::Relaxed);
            let mut hearing = self.hearing();
            hearing.last_event_ms = Some(now_ms());
            hearing.last_from = from.or(hearing.last_from);
        }
    }

    /// Notes what became of records that were taken.
    pub(crate) fn receipt(&self, receipt: &Receipt, from: Option<IpAddr>) {
        self.took(receipt.read, from);
        if receipt.received > 0 && !receipt.repeated {
            self.senders().add(from, receipt, now_ms());
        }
        if receipt.quarantined > 0 {
            let first = receipt.unreadable.first().map_or("", |u| &u.reason);
            self.hearing().unreadable += receipt.quarantined;
            self.wrong_times(SenderFault::Unreadable, receipt.quarantined, format!("records that cannot be read: {first}"), from);
        }
    }

    /// Notes messages of syslog that are none.
    pub(crate) fn broken(&self, times: u64, why: &str, from: Option<IpAddr>) {
        self.wrong_times(SenderFault::Format, times, format!("messages arrived that are {why}; they are marked, and read as far as possible"), from);
    }

    /// Notes what went wrong.
    pub(crate) fn wrong(&self, what: SenderFault, says: impl Into<String>, from: Option<IpAddr>) {
        self.wrong_times(what, 1, says, from);
    }

    pub(crate) fn wrong_times(&self, what: SenderFault, times: u64, says: impl Into<String>, from: Option<IpAddr>) {
        let mut hearing = self.hearing();
        let says = says.into();
        let last_ms = now_ms();
        match hearing.troubles.iter_mut().find(|t| t.what == what) {
            Some(known) => (known.says, known.from, known.times, known.last_ms) = (says, from, known.times + times, last_ms),
            None => hearing.troubles.push(Trouble { what, says, from, times, last_ms }),
        }
    }

    /// Notes how much room the system has for datagrams.
    pub(crate) fn set_receive_buffer(&self, bytes: usize) {
        self.hearing().receive_buffer = Some(bytes);
    }

    /// Notes how the source's files are doing.
    pub(crate) fn set_files(&self, files: Vec<FileSeen>) {
        self.hearing().files = files;
    }

    /// Looks at what is sent from now on, until what is returned is dropped. `None`: too many look already.
    #[must_use]
    pub fn catch(&self) -> Option<mpsc::Receiver<Caught>> {
        let mut catching = self.catching.lock().unwrap_or_else(PoisonError::into_inner);
        catching.retain(|c| !c.is_closed());
        if catching.len() >= MOST_CATCHING {
            return None;
        }
        let (to, caught) = mpsc::channel(CAUGHT_WAITING);
        catching.push(to);
        self.caught.store(true, Ordering::Release);
        Some(caught)
    }

    /// Whether anybody looks at what is sent.
    #[must_use]
    pub fn is_caught(&self) -> bool {
        self.caught.load(Ordering::Acquire)
    }

    /// Shows what was sent to those who look. Who does not keep up misses some.
    pub fn show(&self, records: Vec<Caught>) {
        let mut catching = self.catching.lock().unwrap_or_else(PoisonError::into_inner);
        catching.retain(|c| !c.is_closed());
        for record in records {
            for to in catching.iter() {
                let _ = to.try_send(record.clone());
            }
        }
        self.caught.store(!catching.is_empty(), Ordering::Release);
    }

    pub(crate) fn connected(&self) {
        self.connections.fetch_add(1, Ordering::Relaxed);
    }

    pub(crate) fn disconnected(&self) {
        self.connections.fetch_sub(1, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_in_trouble_has_a_remedy_and_one_that_is_well_has_none() {
        use FileState::*;
        for state in [Current, Behind, Copy, Denied, Binary, Damaged, Gone, Odd, Missing, TooMany, Own] {
            assert_eq!(state.is_trouble(), !state.remedy().is_empty(), "{state:?}");
        }
    }
}
