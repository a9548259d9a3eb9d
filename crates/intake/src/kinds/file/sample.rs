//! Looks into files before they are read: which there are, and what stands in those of each name.

use std::io::Result;
use std::os::unix::fs::FileExt;

use rockrose_plan::FileScope;
use serde::{Deserialize, Serialize};

use super::find::{MAX_FILES, find, within};
use super::open::{FileFormat, FileStat, Unpacking, head};
use super::walk::Budget;
use crate::monitor::{FileSeen, FileState};

/// Most bytes of a file that are looked at.
const SAMPLE: usize = 128 << 10;
/// Most lines.
const LINES: usize = 200;

/// Most families whose lines are looked at.
const FAMILIES: usize = 24;

/// Files under patterns, and the first lines of each family of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sample {
    /// The files, and what cannot be read, those in trouble first.
    pub files: Vec<FileSeen>,
    /// Files that can be read and have lines, by the names that they share; the family written last first.
    pub families: Vec<Family>,
    /// There are more families than were looked at.
    pub more: bool,
}

/// Files whose names differ in digits and packing alone, in whatever folders: as those that are rotated, or written by several hosts.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Family {
    /// Their paths, the one written last first.
    pub paths: Vec<String>,
    /// The first lines of the one written last that has any.
    pub lines: String,
    /// The path of that one.
    pub path: String,
}

/// What the names of a family have in common.
fn family_name(path: &std::path::Path) -> String {
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let plain = [".gz", ".zst"].iter().find_map(|ending| name.strip_suffix(ending)).unwrap_or(&name);
    // What a rotation adds behind the name: `.1`, `-20261129`, `.2026-11-29`.
    let head = plain.trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, '-' | '.' | '_'));
    let head = if head.is_empty() { plain } else { head };
    let mut shared = String::new();
    for c in head.chars() {
        match c {
            '0'..='9' if shared.ends_with('0') => {}
            '0'..='9' => shared.push('0'),
            c => shared.push(c),
        }
    }
    shared
}

/// Looks at the files under patterns that are within `scope`, as far as the budget goes. Blocks.
#[must_use]
pub fn sample(paths: &[String], exclude: &[String], scope: &FileScope, budget: &mut Budget) -> Sample {
    let found = find(paths, exclude, budget);
    let mut sample = Sample::default();
    let mut say = |path: String, state: FileState, says: String, size: u64| sample.files.push(FileSeen { path, state, says, size, offset: 0 });
    found.refused.iter().for_each(|(path, e)| say(path.display().to_string(), FileState::of_error(e), e.to_string(), 0));
    found.odd.iter().for_each(|path| say(path.display().to_string(), FileState::Odd, "it is neither a file nor a folder".to_owned(), 0));
    found.own.iter().for_each(|path| say(path.display().to_string(), FileState::Own, "it is this service's own log, and is not read".to_owned(), 0));
    found.empty.iter().for_each(|p| say(p.clone(), FileState::Missing, "no matching files".to_owned(), 0));
    if found.too_many {
        say("…".to_owned(), FileState::TooMany, format!("more than {MAX_FILES} files"), 0);
    }
    let (mut files, mut stopped) = (found.files, found.stopped);
    files.sort_by_key(|(_, look)| std::cmp::Reverse(look.changed_ms));
    let mut families: Vec<(String, Family)> = Vec::new();
    for (path, look) in files {
        stopped = stopped.or_else(|| budget.spend().err());
        if stopped.is_some() {
            break;
        }
        let name = path.display().to_string();
        let shared = family_name(&path);
        let known = families.iter().position(|(of, _)| *of == shared);
        // Lines are read of one file of each family; of the others it is seen what they are.
        let wanted = match known {
            Some(at) => families[at].1.path.is_empty(),
            None => families.len() < FAMILIES,
        };
        match within(scope, &path).and_then(|()| first_lines(&path, look, if wanted { SAMPLE } else { 0 })) {
            Ok((FileFormat::Binary, _)) => say(name, FileState::Binary, "it is not text".to_owned(), look.size),
            Ok((FileFormat::Utf16, _)) => say(name, FileState::Binary, "it is written in UTF-16".to_owned(), look.size),
            Ok((_, lines)) => {
                say(name.clone(), FileState::Current, "can be read".to_owned(), look.size);
                let family = match known {
                    Some(at) => &mut families[at].1,
                    None if families.len() == FAMILIES => {
                        sample.more = true;
                        continue;
                    }
                    None => {
                        families.push((shared, Family::default()));
                        let last = families.len() - 1;
                        &mut families[last].1
                    }
                };
                if wanted && !lines.trim().is_empty() {
                    (family.path, family.lines) = (name.clone(), lines);
                }
                family.paths.push(name);
            }
            Err(e) => say(name, FileState::of_error(&e), e.to_string(), look.size),
        }
    }
    if let Some(stopped) = stopped {
        say("…".to_owned(), FileState::TooMany, stopped.to_string(), 0);
    }
    sample.families = families.into_iter().map(|(_, family)| family).filter(|family| !family.path.is_empty()).collect();
    sample.files.sort_by_key(|f| !f.state.is_trouble());
    sample
}

/// What a file is, and the lines at its beginning, of so many bytes.
fn first_lines(path: &std::path::Path, look: FileStat, most: usize) -> Result<(FileFormat, String)> {
    let file = std::fs::File::open(path)?;
    let sort = FileFormat::of(&head(&file)?);
    let bytes = match sort {
        FileFormat::Binary | FileFormat::Utf16 => return Ok((sort, String::new())),
        _ if most == 0 => return Ok((sort, String::new())),
        FileFormat::Plain => {
            let mut bytes = vec![0; usize::try_from(look.size).unwrap_or(most).min(most)];
            let read = file.read_at(&mut bytes, 0)?;
            bytes.truncate(read);
            bytes
        }
        FileFormat::Gzip | FileFormat::Zstd => Unpacking::new(path, sort)?.fill(most)?.to_vec(),
    };
    // The last line may be cut off, unless that is all there is.
    let whole = if bytes.len() < most { bytes.len() } else { memchr::memrchr(b'\n', &bytes).map_or(bytes.len(), |at| at + 1) };
    let text = String::from_utf8_lossy(&bytes[..whole]);
    let text = text.strip_prefix('\u{feff}').unwrap_or(&text);
    Ok((sort, text.lines().take(LINES).flat_map(|l| [l, "\n"]).collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_file_of_each_name_is_shown() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let lines: String = (0..300).map(|n| format!("gate {n}\n")).collect();
        std::fs::write(at("a.log"), "old\n").unwrap();
        let marked = format!("\u{feff}{lines}");
        std::fs::write(at("b.log.zst"), zstd::bulk::compress(marked.as_bytes(), 1).unwrap()).unwrap();
        std::fs::write(at("c.log"), b"\0\0").unwrap();
        std::fs::write(at("d.log"), "").unwrap();
        let times = |name: &str, seconds: u64| {
            let time = std::time::SystemTime::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
            std::fs::File::options().write(true).open(at(name)).unwrap().set_modified(time).unwrap();
        };
        [("a.log", 1), ("b.log.zst", 2), ("c.log", 3), ("d.log", 4)].into_iter().for_each(|(n, s)| times(n, s));
        std::fs::write(at("b.log"), "new\n").unwrap();
        times("b.log", 0);
        let sample = sample(
            &[at("*.log*").display().to_string(), at("x/*").display().to_string()],
            &[],
            &FileScope { under: vec!["/".into()], ..rockrose_plan::FileScope::default() },
            &mut Budget::default(),
        );
        let paths: Vec<_> = sample.families.iter().map(|f| (f.path.clone(), f.paths.len())).collect();
        assert_eq!(paths, [(at("b.log.zst").display().to_string(), 2), (at("a.log").display().to_string(), 1)]);
        let lines = &sample.families[0].lines;
        assert_eq!((lines.lines().count(), lines.starts_with("gate 0\n")), (LINES, true), "the mark of UTF-8 is none of it");
        let states: Vec<FileState> = sample.files.iter().map(|f| f.state).collect();
        assert_eq!(states, [[FileState::Missing, FileState::Binary].as_slice(), &[FileState::Current; 4]].concat());
    }

    #[test]
    fn names_that_differ_in_digits_and_packing_are_of_one_family() {
        let name = |path: &str| family_name(std::path::Path::new(path));
        for same in ["/a/app.log", "/b/app.log.1", "/b/app.log.12.gz", "app.log-20261129", "app.log.2026-11-29.zst"] {
            assert_eq!(name(same), "app.log", "{same}");
        }
        assert_eq!(name("gate-3.log"), name("gate-14.log"));
        assert_ne!(name("gate-3.log"), name("kiosk-3.log"));
        assert_eq!(name("2026"), "0");
    }
}
