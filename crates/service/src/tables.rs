//! The tables of the running plan: read before it is applied, and again whenever their files change.

use std::collections::HashMap;
use std::fs::File;
use std::io::Read;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use rockrose_plan::{CheckedPlan, TableFile};
use rockrose_tables::{Table, TableError, TableSlot};

use crate::App;

/// Largest table file, in bytes.
const MAX_FILE: u64 = 512 << 20;
/// How often files are looked at.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// What a file looked like when it was read.
type Seen = (Option<SystemTime>, u64);

pub(crate) struct Open {
    file: TableFile,
    slot: Arc<TableSlot>,
    seen: Seen,
}

/// The tables of the active plan.
#[derive(Default)]
pub(crate) struct Tables {
    open: Mutex<Vec<Open>>,
}

fn seen(path: &str) -> std::io::Result<Seen> {
    let about = std::fs::metadata(path)?;
    Ok((about.modified().ok(), about.len()))
}

/// Why a table's file cannot be read.
#[derive(Debug, thiserror::Error)]
pub(crate) enum OpenError {
    #[error("{path}: {source}")]
    File { path: String, source: std::io::Error },
    #[error("{path}: larger than 512 MiB")]
    TooLarge { path: String },
    #[error("{path}: {source}")]
    Content { path: String, source: TableError },
    /// The text of a table that stands in the plan.
    #[error(transparent)]
    Text(TableError),
    #[error(transparent)]
    Interrupted(#[from] tokio::task::JoinError),
}

/// A file to be read, if it is one: a pipe would never end, and a device may have no end.
fn regular(path: &str) -> std::io::Result<File> {
    // Before it is opened: to open a pipe is to wait for its other end.
    if !std::fs::metadata(path)?.is_file() {
        return Err(std::io::Error::new(std::io::ErrorKind::InvalidInput, "not a regular file"));
    }
    File::open(path)
}

fn read(file: &TableFile) -> Result<(Table, Seen), OpenError> {
    let path = || file.path.clone();
    if let Some(text) = &file.text {
        return file.kind.read(text.clone().into_bytes()).map(|table| (table, (None, 0))).map_err(OpenError::Text);
    }
    let seen = seen(&file.path).map_err(|source| OpenError::File { path: path(), source })?;
    if seen.1 > MAX_FILE {
        return Err(OpenError::TooLarge { path: path() });
    }
    let mut bytes = Vec::new();
    // It may grow while it is read.
    let read = regular(&file.path).and_then(|open| open.take(MAX_FILE + 1).read_to_end(&mut bytes));
    read.map_err(|source| OpenError::File { path: path(), source })?;
    if bytes.len() as u64 > MAX_FILE {
        return Err(OpenError::TooLarge { path: path() });
    }
    let table = file.kind.read(bytes);
    table.map(|table| (table, seen)).map_err(|source| OpenError::Content { path: path(), source })
}

/// The first bytes of a table's file, among which its columns stand.
pub(crate) fn beginning(path: &str) -> Option<Vec<u8>> {
    // The line that names the columns is within them, or is none.
    const MOST: u64 = 64 << 10;
    let mut beginning = Vec::new();
    regular(path).ok()?.take(MOST).read_to_end(&mut beginning).ok()?;
    Some(beginning)
}

/// Reads all tables of a plan. Fails with the table's name and what is wrong with its file.
pub(crate) async fn open(plan: &CheckedPlan) -> Result<Vec<Open>, (String, OpenError)> {
    let files = plan.tables.clone();
    let opened = tokio::task::spawn_blocking(move || {
        files
            .into_iter()
            .map(|file| match read(&file) {
                Ok((table, seen)) => Ok(Open { slot: Arc::new(TableSlot::of(table)), seen, file }),
                Err(why) => Err((file.name, why)),
            })
            .collect()
    });
    opened.await.unwrap_or_else(|e| Err((String::new(), e.into())))
}

/// The slots by name, for the plan that is to be compiled.
pub(crate) fn slots(open: &[Open]) -> HashMap<String, Arc<TableSlot>> {
    open.iter().map(|o| (o.file.name.clone(), Arc::clone(&o.slot))).collect()
}

impl Tables {
    pub(crate) fn set(&self, open: Vec<Open>) {
        *self.open.lock().unwrap_or_else(PoisonError::into_inner) = open;
    }

    /// Reads again what has changed. A file that is wrong or gone leaves the table as it was.
    fn refresh(&self) {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        for table in open.iter_mut() {
            let Ok(now) = seen(&table.file.path) else { continue };
            if now == table.seen {
                continue;
            }
            // Once for each state of the file, whatever comes of it.
            table.seen = now;
            match read(&table.file) {
                Ok((fresh, _)) => {
                    table.slot.set(fresh);
                    tracing::info!(table = table.file.name, "the table's file has changed and was read again");
                }
                Err(why) => tracing::warn!(table = table.file.name, %why, "the table's file has changed and cannot be read; the table stays as it was"),
            }
        }
    }
}

/// Looks after the tables for as long as the service runs.
pub(crate) async fn run(app: Arc<App>) {
    let mut tick = tokio::time::interval(LOOK_EVERY);
    loop {
        tick.tick().await;
        let app = Arc::clone(&app);
        // A panic there would have been told already.
        let _ = tokio::task::spawn_blocking(move || app.tables.refresh()).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A pipe without another end, and a device without an end, keep nobody waiting.
    #[test]
    fn what_is_no_regular_file_is_not_read() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join("ports.csv");
        assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
        let pipe = pipe.to_str().unwrap().to_owned();
        let (done, all_done) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            for path in [pipe.as_str(), "/dev/zero", folder.path().to_str().unwrap()] {
                let kind = rockrose_plan::TableKind::Csv { key: "code".to_owned(), how: rockrose_tables::Match::Exact };
                let file = TableFile { name: "ports".to_owned(), path: path.to_owned(), text: None, kind };
                let told = read(&file).map(|_| ()).unwrap_err().to_string();
                let _ = done.send((beginning(path).is_none(), told));
            }
        });
        for _ in 0..3 {
            let (unread, told) = all_done.recv_timeout(Duration::from_secs(20)).expect("answered at once");
            assert!(unread && told.contains("not a regular file"), "{told}");
        }
    }
}
