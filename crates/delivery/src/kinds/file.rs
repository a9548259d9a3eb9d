//! Appends events to a file, synced before they count as delivered.
//!
//! The spool remembers how long the file was at the last settlement. What stands behind that was written but never settled (a crash came between), so it is cut off before
//! writing goes on: no line stands twice, none is half. A file that was moved away or removed is begun anew.
//!
//! A file that has grown large, or whose hour or day is over, is put aside: first it gets its other name, then the spool is told that the new one is empty, and only then is that
//! begun. A crash between any two of these repeats nothing and loses nothing.

use std::fs::{File, OpenOptions, Permissions, TryLockError};
use std::io::{Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

use bytes::Bytes;
use futures_util::future::BoxFuture;
use rockrose_event::output::{CsvRows, LineTemplate, each};
use rockrose_plan::{FileDestination, Layout, plain_path};

use super::rotation;
use crate::kind::{Failure, Kind, Limits, OpenError, Outgoing, Outlet, Taken};
use crate::now_ms;
use crate::probe::Probe;

/// Most bytes written and synced at once.
const MAX_BATCH: usize = 4 << 20;

pub(crate) struct FileOutlet {
    settings: FileDestination,
    /// The length at the last settlement, as remembered by the spool.
    reached: Option<u64>,
    open: Option<Open>,
    /// Nothing was done yet since the service started, so what a crash broke off is still to be finished.
    begins: bool,
}

struct Open {
    file: File,
    writer: Writer,
    device: u64,
    inode: u64,
    settled: u64,
    written: u64,
}

impl Kind for FileDestination {
    fn limits(&self) -> Limits<'_> {
        Limits { max_batch: MAX_BATCH, parallel: false, gathers: None, file: Some(&self.path) }
    }

    fn open(&self, reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Ok(Box::new(FileOutlet::new(self.clone(), reached)))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(async move {
            let path = self.path.clone();
            let opened = tokio::task::spawn_blocking(move || could_write(Path::new(&path)));
            probe.step("open", async { opened.await.unwrap_or_else(|_| Err("it could not be looked at".into())).map(|says| ((), says)) }).await;
        })
    }
}

impl Outlet for FileOutlet {
    fn prepare(&mut self) -> BoxFuture<'_, Result<Option<u64>, Failure>> {
        Box::pin(self.begin())
    }

    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(async move { self.append(events.lines).await.map(|(length, noticed)| Taken { length: Some(length), noticed, ..Taken::all() }) })
    }

    fn settled(&mut self) {
        if let Some(open) = &mut self.open {
            open.settled = open.written;
            self.reached = Some(open.written);
        }
    }
}

impl FileOutlet {
    pub(crate) fn new(settings: FileDestination, reached: Option<u64>) -> FileOutlet {
        FileOutlet { settings, reached, open: None, begins: true }
    }

    /// The length of the file, if the spool does not know it yet: it must, or a crash behind the append would repeat it.
    pub(crate) async fn begin(&mut self) -> Result<Option<u64>, Failure> {
        if std::mem::take(&mut self.begins) {
            let settings = self.settings.clone();
            // Nothing waits for it: all events stand in files, under one name or another.
            tokio::task::spawn_blocking(move || match rotation::finish(&settings) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                    tracing::warn!(file = settings.path, error = %e, "files whose compression a crash interrupted could not be finished");
                }
                _ => {}
            });
        }
        if self.put_aside().await? {
            return Ok(Some(0));
        }
        if self.reached.is_some() {
            return Ok(None);
        }
        let (path, layout, mode) = (PathBuf::from(&self.settings.path), self.settings.layout.clone(), self.settings.mode);
        let opened = tokio::task::spawn_blocking(move || Open::new(&path, None, &layout, mode)).await;
        let opened = opened.map_err(|_| Failure::later("opening was interrupted"))?;
        let opened = opened.map_err(|e| Failure::later(format!("{}: {e}", self.settings.path)))?;
        let length = opened.settled;
        (self.reached, self.open) = (Some(length), Some(opened));
        Ok(Some(length))
    }

    /// Puts the file aside if it is time. Says whether there is none now, while the spool knows of one: then it must be told that the file is empty, before anything is sent.
    async fn put_aside(&mut self) -> Result<bool, Failure> {
        if self.reached.is_some_and(|reached| reached > 0) && !Path::new(&self.settings.path).exists() {
            // Somebody moved it away, or a crash came right behind putting it aside.
            (self.open, self.reached) = (None, Some(0));
            return Ok(true);
        }
        if self.settings.rotate_at.is_none() && self.settings.rotate_every.is_none() {
            return Ok(false);
        }
        let (settings, reached) = (self.settings.clone(), self.reached);
        let done = tokio::task::spawn_blocking(move || rotation::put_aside(&settings, reached, now_ms())).await;
        let aside = done.map_err(|_| Failure::later("rotating the file was interrupted"))?;
        let aside = aside.map_err(|e| Failure::later(format!("{}: {e}", self.settings.path)))?;
        if aside {
            (self.open, self.reached) = (None, Some(0));
        }
        Ok(aside)
    }

    /// Appends events; returns how long the file is then, and what was noticed of it.
    pub(crate) async fn append(&mut self, lines: Bytes) -> Result<(u64, Option<String>), Failure> {
        let (path, layout, mode) = (PathBuf::from(&self.settings.path), self.settings.layout.clone(), self.settings.mode);
        let (reached, open) = (self.reached, self.open.take());
        let done = tokio::task::spawn_blocking(move || {
            let mut open = match open.filter(|o| o.is_at(&path)) {
                Some(open) => open,
                None => Open::new(&path, reached, &layout, mode)?,
            };
            let foreign = open.append(&lines)?;
            Ok::<_, std::io::Error>((open, foreign))
        })
        .await;
        match done {
            Ok(Ok((open, foreign))) => {
                let written = open.written;
                self.open = Some(open);
                let noticed = (foreign > 0).then(|| format!("{}: another process has written {foreign} bytes to it; they are kept", self.settings.path));
                Ok((written, noticed))
            }
            Ok(Err(e)) => Err(Failure::later(format!("{}: {e}", self.settings.path))),
            Err(_) => Err(Failure::later("writing was interrupted")),
        }
    }
}

/// How many bytes of a file, from `at` on, are those of `bytes`.
fn alike(file: &mut File, at: u64, bytes: &[u8]) -> std::io::Result<u64> {
    let (mut alike, mut some) = (0, [0; 8 << 10]);
    file.seek(SeekFrom::Start(at))?;
    loop {
        let rest = &bytes[alike..];
        let most = rest.len().min(some.len());
        let read = file.read(&mut some[..most])?;
        let same = some[..read].iter().zip(rest).take_while(|(a, b)| a == b).count();
        alike += same;
        if read == 0 || same < read {
            return Ok(alike as u64);
        }
    }
}

/// Whether the last byte of a file of that length ends a line.
fn ends_a_line(file: &mut File, length: u64) -> std::io::Result<bool> {
    if length == 0 {
        return Ok(true);
    }
    let mut last = [0];
    file.seek(SeekFrom::Start(length - 1))?;
    file.read_exact(&mut last)?;
    Ok(last == *b"\n")
}

/// The file that a path leads to, links followed as far as there is something.
#[must_use]
pub fn real_path(path: &str) -> PathBuf {
    let mut missing = Vec::new();
    let mut there = Path::new(path);
    loop {
        let looked_at = if there.as_os_str().is_empty() { Path::new(".") } else { there };
        if let Ok(real) = std::fs::canonicalize(looked_at) {
            return missing.iter().rev().fold(real, |real, name| real.join(name));
        }
        let (Some(name), Some(parent)) = (there.file_name(), there.parent()) else { return plain_path(path) };
        missing.push(name);
        there = parent;
    }
}

/// Whether a file could be written, found out without writing it; in words.
fn could_write(path: &Path) -> Result<String, String> {
    let say = |e: std::io::Error| format!("{}: {e}", path.display());
    match std::fs::metadata(path) {
        Ok(about) if about.is_file() => {
            OpenOptions::new().append(true).open(path).map_err(say)?;
            Ok(format!("{} can be written ({} bytes now)", path.display(), about.len()))
        }
        Ok(_) => Err(format!("{}: this is not a regular file", path.display())),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            // The nearest folder there is decides whether the file can be made.
            let folder = path.ancestors().skip(1).find(|f| f.as_os_str().is_empty() || f.exists()).unwrap_or(Path::new("."));
            let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
            let tried = tempfile::Builder::new().prefix(".rockrose-").tempfile_in(folder);
            tried.map_err(|e| format!("{}: {e}", folder.display()))?;
            Ok(format!("{} can be made", path.display()))
        }
        Err(e) => Err(say(e)),
    }
}

impl Open {
    fn new(path: &Path, reached: Option<u64>, layout: &Layout, mode: Option<u32>) -> std::io::Result<Open> {
        let writer = Writer::new(layout)?;
        if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty()) {
            std::fs::create_dir_all(folder)?;
        }
        let mut options = OpenOptions::new();
        // Until its permissions are set, nobody else reads it.
        options.mode(if mode.is_some() { 0o600 } else { 0o666 });
        let mut file = options.read(true).append(true).create(true).open(path)?;
        let about = file.metadata()?;
        if !about.is_file() {
            return Err(std::io::Error::other("this is not a regular file"));
        }
        if let Some(mode) = mode {
            file.set_permissions(Permissions::from_mode(mode))?;
        }
        // One that is put aside or left is let go of with its handle. Where the file system knows no locks, there is none.
        if let Err(TryLockError::WouldBlock) = file.try_lock() {
            return Err(std::io::Error::other("another process, or another destination, writes to this file"));
        }
        let mut length = about.len();
        match reached {
            // What stands behind was never settled; the next append sees whose it is.
            Some(reached) if length >= reached => length = reached,
            // Another file than the one that was written before: whatever is in it stays, but a line begins at its beginning.
            _ => {
                if !ends_a_line(&mut file, length)? {
                    file.write_all(b"\n")?;
                    length += 1;
                }
            }
        }
        file.sync_all()?;
        Ok(Open { device: about.dev(), inode: about.ino(), file, writer, settled: length, written: length })
    }

    /// Whether the path still leads to this file.
    fn is_at(&self, path: &Path) -> bool {
        std::fs::metadata(path).is_ok_and(|m| m.dev() == self.device && m.ino() == self.inode)
    }

    /// Appends events behind what is settled, and behind what somebody else has written; returns how many bytes that is.
    fn append(&mut self, events: &[u8]) -> std::io::Result<u64> {
        let length = self.file.metadata()?.len();
        // Where somebody emptied it, it goes on from there.
        self.settled = self.settled.min(length);
        let mut written = Vec::new();
        let bytes = match &mut self.writer {
            Writer::Plain => events,
            Writer::Text(template) => {
                each(events).for_each(|event| template.write(event, &mut written));
                &written
            }
            Writer::Csv(rows) => {
                if self.settled == 0 {
                    rows.head(&mut written);
                }
                each(events).for_each(|event| rows.write(event, &mut written));
                &written
            }
        };
        // What stands behind what is settled is what a crash, or a settlement that failed, has left of these very events; or somebody else's.
        let behind = length - self.settled;
        let alike = alike(&mut self.file, self.settled, bytes)?;
        let foreign = if alike == behind || alike == bytes.len() as u64 { 0 } else { behind };
        if foreign > 0 {
            self.settled = length;
            if !ends_a_line(&mut self.file, length)? {
                self.file.write_all(b"\n")?;
                self.settled += 1;
            }
            self.file.write_all(bytes)?;
        } else {
            self.file.write_all(&bytes[alike as usize..])?;
        }
        self.file.sync_data()?;
        self.written = self.settled + bytes.len() as u64;
        Ok(foreign)
    }
}

enum Writer {
    Plain,
    Text(LineTemplate),
    Csv(CsvRows),
}

impl Writer {
    fn new(layout: &Layout) -> std::io::Result<Writer> {
        Ok(match layout {
            Layout::JsonLines => Writer::Plain,
            Layout::Text(template) => Writer::Text(LineTemplate::new(template).map_err(|(_, why)| std::io::Error::other(why))?),
            Layout::Csv { columns, formulas } => Writer::Csv(CsvRows::new(columns, *formulas)),
        })
    }
}
