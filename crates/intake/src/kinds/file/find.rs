//! Finds the files that patterns name.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use super::open::FileStat;

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
    /// Patterns under which nothing stands.
    pub(super) empty: Vec<String>,
    /// There were more than [`MAX_FILES`].
    pub(super) too_many: bool,
}

pub(super) fn find(paths: &[String], exclude: &[String]) -> Found {
    let left_out: Vec<glob::Pattern> = exclude.iter().filter_map(|p| glob::Pattern::new(p).ok()).collect();
    let left_out = |path: &Path| {
        left_out.iter().any(|p| {
            // One without a folder is of the file's name.
            let name = if p.as_str().contains('/') { path.to_str() } else { path.file_name().and_then(|n| n.to_str()) };
            name.is_some_and(|name| p.matches(name))
        })
    };
    let (mut found, mut seen) = (Found::default(), HashSet::new());
    for pattern in paths {
        let before = (found.files.len(), found.refused.len(), seen.len());
        let Ok(matches) = glob::glob(pattern) else { continue };
        for entry in matches {
            let path = match entry {
                Ok(path) => path,
                Err(e) => {
                    found.refused.push((e.path().to_owned(), std::io::Error::from(e.error().kind())));
                    continue;
                }
            };
            if left_out(&path) {
                continue;
            }
            match std::fs::metadata(&path) {
                Ok(about) if about.is_dir() => {}
                Ok(about) if !about.is_file() => found.odd.push(path),
                Ok(about) => {
                    let look = FileStat::of(&about);
                    if !seen.insert(look.number) {
                        continue;
                    }
                    if found.files.len() == MAX_FILES {
                        found.too_many = true;
                        return found;
                    }
                    found.files.push((path, look));
                }
                // It went away in between, or is a link to nothing.
                Err(e) => found.refused.push((path, e)),
            }
        }
        if (found.files.len(), found.refused.len(), seen.len()) == before {
            found.empty.push(pattern.clone());
        }
    }
    found
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
    files.sort_by_key(|(_, look)| std::cmp::Reverse(look.changed_ms));
    files.truncate(MAX_BESIDE);
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
        let found = find(&[at("**/*.log"), at("a/*.log"), at("*.gone")], &["t*.log".to_owned()]);
        assert_eq!(names(&found), ["a/current.log"], "two paths lead to one file, and exclude leaves out names");
        assert_eq!((found.odd, found.empty, found.refused.len()), (vec![at("a/odd.log").into(), at("a/odd.log").into()], vec![at("*.gone")], 2));
        assert_eq!(names(&find(&[at("a/**/*.log")], &[at("a/[co]*")])), ["a/b/three.log", "a/two.log"]);
    }
}
