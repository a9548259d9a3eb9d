//! Finds the files that patterns name.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use rockrose_plan::FileScope;

use super::open::FileStat;
use super::walk::{Budget, Stopped, Walk};

/// Most files of one source.
pub(super) const MAX_FILES: usize = 10_000;

/// What stands under a pattern.
#[derive(Debug, Default)]
pub(super) struct Found {
    /// Files, each once, though several paths may lead to it.
    pub(super) files: Vec<(PathBuf, FileStat)>,
    /// What could not be looked at, and why.
    pub(super) refused: Vec<(PathBuf, std::io::Error)>,
    /// Neither files nor folders.
    pub(super) odd: Vec<PathBuf>,
    /// Where this service writes its own log: reading that would make it longer for ever.
    pub(super) own: Vec<PathBuf>,
    /// Patterns under which nothing stands.
    pub(super) empty: Vec<String>,
    /// There were more than [`MAX_FILES`].
    pub(super) too_many: bool,
    /// Why not all was looked through.
    pub(super) stopped: Option<Stopped>,
}

/// Whether one of the patterns meets `path`.
fn meets(patterns: &[glob::Pattern], path: &Path) -> bool {
    patterns.iter().any(|p| {
        // One without a folder is of the file's name.
        let name = if p.as_str().contains('/') { path.to_str() } else { path.file_name().and_then(|n| n.to_str()) };
        name.is_some_and(|name| p.matches(name))
    })
}

fn patterns(written: &[String]) -> Vec<glob::Pattern> {
    written.iter().filter_map(|p| glob::Pattern::new(p).ok()).collect()
}

/// Whether a source that reads `paths` but not `exclude` would read the file at `path`, whether it is there or not.
#[must_use]
pub fn would_read(paths: &[String], exclude: &[String], path: &Path) -> bool {
    // As files are looked for: `*` is within a name.
    let within_names = glob::MatchOptions { require_literal_separator: true, ..glob::MatchOptions::default() };
    let reads = patterns(paths).iter().any(|pattern| pattern.matches_path_with(path, within_names));
    reads && !meets(&patterns(exclude), path)
}

/// The files that this service's output and errors, and so its log, are led to.
#[must_use]
pub fn own_logs() -> Vec<PathBuf> {
    let led_to = ["/proc/self/fd/1", "/proc/self/fd/2"].into_iter().filter_map(|fd| {
        let about = std::fs::metadata(fd).ok().filter(std::fs::Metadata::is_file)?;
        let path = std::fs::read_link(fd).ok()?;
        // A file that was moved or removed meanwhile has another name, or none.
        let is_there = std::fs::metadata(&path).is_ok_and(|there| FileStat::of(&there).number == FileStat::of(&about).number);
        is_there.then_some(path)
    });
    let mut all: Vec<PathBuf> = led_to.collect();
    all.dedup();
    all
}

pub(super) fn find(paths: &[String], exclude: &[String], budget: &mut Budget) -> Found {
    let left_out = patterns(exclude);
    let own: Vec<(u64, u64)> = own_logs().iter().filter_map(|path| std::fs::metadata(path).ok()).map(|about| FileStat::of(&about).number).collect();
    let (mut found, mut seen) = (Found::default(), HashSet::new());
    for pattern in paths {
        let before = (found.files.len(), found.refused.len(), seen.len());
        let walked = Walk::run(pattern, budget, &mut |path, refused| {
            if let Some(e) = refused {
                found.refused.push((path, e));
                return;
            }
            if meets(&left_out, &path) {
                return;
            }
            match std::fs::metadata(&path) {
                Ok(about) if about.is_dir() => {}
                Ok(about) if !about.is_file() => found.odd.push(path),
                Ok(about) => {
                    let look = FileStat::of(&about);
                    if !seen.insert(look.number) {
                    } else if own.contains(&look.number) {
                        found.own.push(path);
                    } else if found.files.len() == MAX_FILES {
                        found.too_many = true;
                    } else {
                        found.files.push((path, look));
                    }
                }
                // It went away in between, or is a link to nothing.
                Err(e) => found.refused.push((path, e)),
            }
        });
        if let Err(stopped) = walked {
            found.stopped = Some(stopped);
            return found;
        }
        if found.too_many {
            return found;
        }
        if (found.files.len(), found.refused.len(), seen.len()) == before {
            found.empty.push(pattern.clone());
        }
    }
    found
}

/// Whether a file may be read, wherever its path leads.
///
/// # Errors
/// If not, and why.
pub(super) fn within(scope: &FileScope, path: &Path) -> std::io::Result<()> {
    match scope.refuses(&std::fs::canonicalize(path)?) {
        None => Ok(()),
        Some(why) => Err(std::io::Error::new(std::io::ErrorKind::PermissionDenied, why)),
    }
}

/// Most files of a folder that are looked at for a copy.
const MAX_BESIDE: usize = 200;

/// The other files in the folder of `path` that are not `known`, those that were written last first.
pub(super) fn beside(path: &Path, known: impl Fn(&FileStat) -> bool) -> Vec<(PathBuf, FileStat)> {
    let Some(Ok(entries)) = path.parent().map(std::fs::read_dir) else { return Vec::new() };
    let files = entries.filter_map(|entry| {
        let entry = entry.ok()?;
        let about = entry.metadata().ok().filter(std::fs::Metadata::is_file)?;
        let look = FileStat::of(&about);
        (look.size > 0 && !known(&look)).then(|| (entry.path(), look))
    });
    let mut files: Vec<(PathBuf, FileStat)> = files.collect();
    let newest_first = |(_, look): &(PathBuf, FileStat)| std::cmp::Reverse(look.changed_ms);
    if files.len() > MAX_BESIDE {
        files.select_nth_unstable_by_key(MAX_BESIDE, newest_first);
        files.truncate(MAX_BESIDE);
    }
    files.sort_by_key(newest_first);
    files
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_find_each_file_once_and_say_what_is_not_there() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name).display().to_string();
        std::fs::create_dir_all(at("a/b")).unwrap();
        for name in ["a/one.log", "a/two.log", "a/two.log.tmp", "a/b/three.log"] {
            std::fs::write(at(name), "x\n").unwrap();
        }
        std::os::unix::fs::symlink(at("a/one.log"), at("a/current.log")).unwrap();
        std::os::unix::fs::symlink(at("nowhere"), at("a/lost.log")).unwrap();
        let _listener = std::os::unix::net::UnixListener::bind(at("a/odd.log")).unwrap();
        let names = |found: &Found| {
            let mut names: Vec<_> = found.files.iter().map(|(p, _)| p.strip_prefix(folder.path()).unwrap().display().to_string()).collect();
            names.sort();
            names
        };
        let found = find(&[at("**/*.log"), at("a/*.log"), at("*.gone")], &["t*.log".to_owned()], &mut Budget::default());
        assert_eq!(names(&found), ["a/current.log"], "two paths lead to one file, and exclude leaves out names");
        assert_eq!((found.odd, found.empty, found.refused.len()), (vec![at("a/odd.log").into(), at("a/odd.log").into()], vec![at("*.gone")], 2));
        assert_eq!(names(&find(&[at("a/**/*.log")], &[at("a/[co]*")], &mut Budget::default())), ["a/b/three.log", "a/two.log"]);
        let would =
            |paths: &[String], exclude: &[&str]| would_read(paths, &exclude.iter().map(|&e| e.to_owned()).collect::<Vec<_>>(), Path::new(&at("a/new.log")));
        assert!(would(&[at("a/*.log")], &[]) && !would(&[at("a/*.log")], &["new.*"]) && !would(&[at("b/*.log")], &[]));
    }
}
