//! Goes through folders after a pattern, step by step, so that it can be stopped.

use std::io;
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

/// Somebody who waits for a look is told after so many entries that others work meanwhile.
const BREATH: usize = 1_024;

/// How much may be looked through.
#[derive(Clone, Debug, Default)]
pub struct Budget {
    /// Most entries of folders; none: as many as there are.
    entries: Option<usize>,
    /// Until when; none: as long as it takes.
    until: Option<Instant>,
    cancelled: Arc<AtomicBool>,
    looked: usize,
}

/// Why not all was looked through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Stopped {
    /// There were more entries than may be looked at.
    Entries(usize),
    /// The time was over.
    Time,
    /// Nobody waits for it any more.
    Cancelled,
}

impl std::fmt::Display for Stopped {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Stopped::Entries(most) => write!(f, "more than {most} files and folders would have to be looked through; name the folders more exactly"),
            Stopped::Time => f.write_str("it took too long to look through the folders; name them more exactly"),
            Stopped::Cancelled => f.write_str("nobody waits for it any more"),
        }
    }
}

impl Budget {
    /// So many entries of folders, and so much time from now on.
    #[must_use]
    pub fn new(entries: usize, time: Duration) -> Budget {
        Budget { entries: Some(entries), until: Some(Instant::now() + time), ..Budget::default() }
    }

    /// Is to be set once nobody waits for the look any more.
    #[must_use]
    pub fn cancelled(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.cancelled)
    }

    /// Counts something that is looked at.
    ///
    /// # Errors
    /// If no more may be.
    pub(super) fn spend(&mut self) -> Result<(), Stopped> {
        self.looked += 1;
        if let Some(most) = self.entries.filter(|most| self.looked > *most) {
            return Err(Stopped::Entries(most));
        }
        if self.looked.is_multiple_of(BREATH) && self.until.is_some() {
            // Those who take events in come first.
            std::thread::sleep(Duration::from_millis(1));
        }
        if self.cancelled.load(Ordering::Acquire) {
            return Err(Stopped::Cancelled);
        }
        if self.until.is_some_and(|until| Instant::now() >= until) {
            return Err(Stopped::Time);
        }
        Ok(())
    }
}

/// One part of a pattern, between slashes.
enum Part {
    /// A name as it stands.
    Name(String),
    /// Names that meet a pattern.
    Names(glob::Pattern),
    /// Any folders, one in another, or none: `**`.
    Folders,
}

/// Goes through what meets a pattern.
pub(super) struct Walk<'a> {
    parts: Vec<Part>,
    budget: &'a mut Budget,
    /// What is told of each path, or of one that cannot be looked into.
    found: &'a mut dyn FnMut(PathBuf, Option<io::Error>),
}

impl<'a> Walk<'a> {
    /// Calls `found` for each path that meets `pattern`, in the order of their names, and for each folder that cannot be looked into, with the reason. A pattern that is none meets nothing.
    ///
    /// # Errors
    /// If it was stopped.
    pub(super) fn run(pattern: &str, budget: &'a mut Budget, found: &'a mut dyn FnMut(PathBuf, Option<io::Error>)) -> Result<(), Stopped> {
        if glob::Pattern::new(pattern).is_err() {
            return Ok(());
        }
        let (mut base, mut parts) = (PathBuf::new(), Vec::new());
        for component in Path::new(pattern).components() {
            match component {
                Component::Normal(name) => {
                    let name = name.to_string_lossy().into_owned();
                    parts.push(match glob::Pattern::new(&name) {
                        _ if name == "**" => Part::Folders,
                        _ if !name.contains(['*', '?', '[']) => Part::Name(name),
                        Ok(pattern) => Part::Names(pattern),
                        Err(_) => return Ok(()),
                    });
                }
                other if parts.is_empty() => base.push(other),
                other => parts.push(Part::Name(other.as_os_str().to_string_lossy().into_owned())),
            }
        }
        Walk { parts, budget, found }.at(&base, 0)
    }

    /// What meets the parts from `next` on, below `folder`.
    fn at(&mut self, folder: &Path, next: usize) -> Result<(), Stopped> {
        match self.parts.get(next) {
            None => (self.found)(folder.to_owned(), None),
            Some(Part::Name(name)) => {
                let path = folder.join(name);
                self.budget.spend()?;
                if next + 1 < self.parts.len() {
                    return self.at(&path, next + 1);
                }
                // A link to nothing is there as well.
                match std::fs::symlink_metadata(&path) {
                    Ok(_) => (self.found)(path, None),
                    Err(e) if e.kind() == io::ErrorKind::PermissionDenied => (self.found)(path, Some(e)),
                    Err(_) => {}
                }
            }
            Some(Part::Names(_)) => {
                let Some(names) = self.names(folder)? else { return Ok(()) };
                for (name, _) in names {
                    let meets = matches!(&self.parts[next], Part::Names(pattern) if pattern.matches(&name));
                    if !meets {
                        continue;
                    }
                    let path = folder.join(&name);
                    if next + 1 == self.parts.len() {
                        (self.found)(path, None);
                    } else if std::fs::metadata(&path).is_ok_and(|about| about.is_dir()) {
                        self.at(&path, next + 1)?;
                    }
                }
            }
            Some(Part::Folders) => {
                self.at(folder, next + 1)?;
                let Some(names) = self.names(folder)? else { return Ok(()) };
                // Folders that are links are not gone into: they may lead back.
                for (name, _) in names.into_iter().filter(|(_, is_folder)| *is_folder) {
                    self.at(&folder.join(name), next)?;
                }
            }
        }
        Ok(())
    }

    /// The names in a folder, in order, and which are folders; nothing, if there is none.
    fn names(&mut self, folder: &Path) -> Result<Option<Vec<(String, bool)>>, Stopped> {
        let here = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        let entries = match std::fs::read_dir(here) {
            Ok(entries) => entries,
            Err(e) => {
                if !matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) {
                    (self.found)(folder.to_owned(), Some(e));
                }
                return Ok(None);
            }
        };
        let mut names = Vec::new();
        for entry in entries {
            self.budget.spend()?;
            if let Ok(entry) = entry {
                names.push((entry.file_name().to_string_lossy().into_owned(), entry.file_type().is_ok_and(|kind| kind.is_dir())));
            }
        }
        names.sort_unstable();
        Ok(Some(names))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(pattern: &str, budget: &mut Budget) -> (Vec<String>, Result<(), Stopped>) {
        let mut paths = Vec::new();
        let done = Walk::run(pattern, budget, &mut |path, error| {
            assert!(error.is_none(), "{error:?}");
            paths.push(path.display().to_string());
        });
        (paths, done)
    }

    #[test]
    fn it_finds_what_the_library_for_patterns_finds() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for name in ["a/b/c", "a/d[1]", "e", "a/b/.hidden"] {
            std::fs::create_dir_all(at(name)).unwrap();
        }
        for name in ["one.log", "a/two.log", "a/b/three.log", "a/b/c/four.log", "a/d[1]/five.log", "a/b/.hidden/six.log", "e/.seven.log", "a/two.log.1"] {
            std::fs::write(at(name), "x").unwrap();
        }
        std::os::unix::fs::symlink(at("nowhere"), at("lost.log")).unwrap();
        std::os::unix::fs::symlink(at("a/two.log"), at("link.log")).unwrap();
        for pattern in [
            "*.log",
            "*/*.log",
            "**/*.log",
            "a/**/*.log",
            "**/c/*",
            "a/d[[]1[]]/*",
            "a/d?1?/*.log",
            "one.log",
            "lost.log",
            "none.log",
            "a/tw[op].log*",
            "none/*",
            "one.log/*",
            "**/three.log",
            "*/b/c/*",
            "a/*/c/../*.log",
        ] {
            let whole = at(pattern).display().to_string();
            let mut theirs: Vec<String> = glob::glob(&whole).unwrap().map(|p| p.unwrap().display().to_string()).collect();
            let (mut ours, done) = found(&whole, &mut Budget::default());
            assert_eq!(done, Ok(()));
            theirs.sort();
            theirs.dedup();
            ours.sort();
            ours.dedup();
            assert_eq!(ours, theirs, "{pattern}");
        }
        assert_eq!(found("[", &mut Budget::default()), (Vec::new(), Ok(())));
    }

    #[test]
    fn it_stops_when_it_is_to() {
        let folder = tempfile::tempdir().unwrap();
        for n in 0..100 {
            std::fs::create_dir_all(folder.path().join(format!("{n}/{n}"))).unwrap();
        }
        let pattern = format!("{}/**/nothing", folder.path().display());
        assert_eq!(found(&pattern, &mut Budget::default()).1, Ok(()));
        assert_eq!(found(&pattern, &mut Budget { entries: Some(50), ..Budget::default() }).1, Err(Stopped::Entries(50)));
        assert_eq!(found(&pattern, &mut Budget { until: Some(Instant::now()), ..Budget::default() }).1, Err(Stopped::Time));
        let gone = Budget { cancelled: Arc::new(AtomicBool::new(true)), ..Budget::default() };
        assert_eq!(found(&pattern, &mut gone.clone()).1, Err(Stopped::Cancelled));
    }
}
