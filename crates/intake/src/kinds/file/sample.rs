//! Looks into files before they are read: which there are, and what stands in the newest.

use std::io::Result;
use std::os::unix::fs::FileExt;

use super::find::{MAX_FILES, find};
use super::open::{FileFormat, FileStat, Unpacking, head};
use crate::monitor::{FileSeen, FileState};

/// Most bytes of a file that are looked at.
const SAMPLE: usize = 128 << 10;
/// Most lines.
const LINES: usize = 200;

/// Files under patterns, and the first lines of the one that was written last.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sample {
    /// The files, and what cannot be read, those in trouble first.
    pub files: Vec<FileSeen>,
    /// The file whose lines these are.
    pub path: Option<String>,
    /// Its first lines.
    pub lines: String,
}

/// Looks at the files under patterns. Blocks.
#[must_use]
pub fn sample(paths: &[String], exclude: &[String]) -> Sample {
    let found = find(paths, exclude);
    let mut sample = Sample::default();
    let mut say = |path: String, state: FileState, says: String, size: u64| sample.files.push(FileSeen { path, state, says, size, offset: 0 });
    found.refused.iter().for_each(|(path, e)| say(path.display().to_string(), FileState::of_error(e), e.to_string(), 0));
    found.odd.iter().for_each(|path| say(path.display().to_string(), FileState::Odd, "it is neither a file nor a folder".to_owned(), 0));
    found.empty.iter().for_each(|p| say(p.clone(), FileState::Missing, "no matching files".to_owned(), 0));
    if found.too_many {
        say("…".to_owned(), FileState::TooMany, format!("more than {MAX_FILES} files"), 0);
    }
    let mut files = found.files;
    files.sort_by_key(|(_, look)| std::cmp::Reverse(look.changed_ms));
    for (path, look) in files {
        let name = path.display().to_string();
        match first_lines(&path, look) {
            Ok((FileFormat::Binary, _)) => say(name, FileState::Binary, "it is not text".to_owned(), look.size),
            Ok((FileFormat::Utf16, _)) => say(name, FileState::Binary, "it is written in UTF-16".to_owned(), look.size),
            Ok((_, lines)) => {
                say(name.clone(), FileState::Current, "can be read".to_owned(), look.size);
                if sample.path.is_none() && !lines.trim().is_empty() {
                    (sample.path, sample.lines) = (Some(name), lines);
                }
            }
            Err(e) => say(name, FileState::of_error(&e), e.to_string(), look.size),
        }
    }
    sample.files.sort_by_key(|f| !f.state.is_trouble());
    sample
}

fn first_lines(path: &std::path::Path, look: FileStat) -> Result<(FileFormat, String)> {
    let file = std::fs::File::open(path)?;
    let sort = FileFormat::of(&head(&file)?);
    let bytes = match sort {
        FileFormat::Binary | FileFormat::Utf16 => return Ok((sort, String::new())),
        FileFormat::Plain => {
            let mut bytes = vec![0; usize::try_from(look.size).unwrap_or(SAMPLE).min(SAMPLE)];
            let read = file.read_at(&mut bytes, 0)?;
            bytes.truncate(read);
            bytes
        }
        FileFormat::Gzip | FileFormat::Zstd => Unpacking::new(path, sort)?.fill(SAMPLE)?.to_vec(),
    };
    // The last line may be cut off, unless that is all there is.
    let whole = if bytes.len() < SAMPLE { bytes.len() } else { memchr::memrchr(b'\n', &bytes).map_or(bytes.len(), |at| at + 1) };
    let text = String::from_utf8_lossy(&bytes[..whole]);
    let text = text.strip_prefix('\u{feff}').unwrap_or(&text);
    Ok((sort, text.lines().take(LINES).flat_map(|l| [l, "\n"]).collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_newest_file_that_can_be_read_is_shown() {
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
        let sample = sample(&[at("*.log*").display().to_string(), at("x/*").display().to_string()], &[]);
        assert_eq!(sample.path, Some(at("b.log.zst").display().to_string()));
        assert_eq!(sample.lines.lines().count(), LINES);
        assert!(sample.lines.starts_with("gate 0\n"), "the mark of UTF-8 is none of it");
        let states: Vec<FileState> = sample.files.iter().map(|f| f.state).collect();
        assert_eq!(states, [FileState::Missing, FileState::Binary, FileState::Current, FileState::Current, FileState::Current]);
    }
}
