//! Which file is which, and how far each is read.
//!
//! A file is not its path: logs are renamed, copied and emptied, compressed, removed, and the system gives a number of a removed file to the next. So a file is known by the number the
//! system gives it, by how it begins, and by what stands right before the place up to which it is read. A copy, packed or not, has both in common with the file it was made from.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// How many bytes a file's beginning, and what stands before a place, are known by.
pub(super) const MARK: usize = 256;
/// From so many on, two files that have them in common are one and its copy, not two that happen to begin alike.
pub(super) const MARKED_ENOUGH: u64 = 256;

/// How far a file is read. Kept with the events that were read, in one commit.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct ReadPosition {
    /// Its own name among the source's files.
    pub(super) id: String,
    /// Where it was seen first: what it is called, however it is moved.
    pub(super) called: PathBuf,
    /// Where it was seen last.
    pub(super) path: PathBuf,
    /// What the system knows it by.
    pub(super) number: (u64, u64),
    /// How many bytes of its beginning are known, and their sum.
    pub(super) head: (u64, u64),
    /// Bytes that are read; of a packed file, unpacked.
    pub(super) offset: u64,
    /// The sum of the bytes before that, [`MARK`] of them where there are so many.
    pub(super) tail: u64,
    /// The rest of a line is passed over, because it was too long.
    pub(super) passing: bool,
    /// A packed file that is read whole, with its size then.
    pub(super) done: Option<u64>,
    /// When it was seen last, in milliseconds since 1970.
    pub(super) seen_ms: i64,
    /// It went away, and was read to its end.
    #[serde(default)]
    pub(super) left: bool,
    /// It stands under none of the patterns, and is read because it is a copy of one that did, made before that was emptied.
    #[serde(default)]
    pub(super) beside: bool,
}

pub(super) fn sum(bytes: &[u8]) -> u64 {
    xxhash_rust::xxh3::xxh3_64(bytes)
}

impl ReadPosition {
    /// A file that nothing was read of.
    pub(super) fn new(path: PathBuf, number: (u64, u64), now_ms: i64) -> ReadPosition {
        let id = format!("{:x}-{:x}-{now_ms:x}", number.0, number.1);
        ReadPosition {
            id,
            called: path.clone(),
            path,
            number,
            head: (0, sum(&[])),
            offset: 0,
            tail: sum(&[]),
            passing: false,
            done: None,
            seen_ms: now_ms,
            left: false,
            beside: false,
        }
    }

    /// Whether nothing was read of it.
    pub(super) fn is_unread(&self) -> bool {
        self.offset == 0 && self.head.0 == 0 && self.done.is_none()
    }

    /// Moves on to `offset`, behind the bytes `before`, of which the last are the mark.
    pub(super) fn reach(&mut self, offset: u64, before: &[u8]) {
        self.offset = offset;
        self.tail = sum(&before[before.len().saturating_sub(MARK)..]);
    }

    /// Whether a text that begins with `head` begins as this file does.
    pub(super) fn begins_like(&self, head: &[u8]) -> bool {
        usize::try_from(self.head.0).is_ok_and(|known| known <= head.len() && sum(&head[..known]) == self.head.1)
    }

    /// Whether the file still is what was read: it begins so, is long enough, and has the same before the place. Anything else was emptied, or is another file.
    pub(super) fn is_in(&self, file: &File, size: u64) -> std::io::Result<bool> {
        if size < self.offset || size < self.head.0 {
            return Ok(false);
        }
        let mut bytes = [0; MARK];
        let head = usize::try_from(self.head.0).unwrap_or(0).min(MARK);
        file.read_exact_at(&mut bytes[..head], 0)?;
        if sum(&bytes[..head]) != self.head.1 {
            return Ok(false);
        }
        let before = MARK.min(usize::try_from(self.offset).unwrap_or(MARK));
        file.read_exact_at(&mut bytes[..before], self.offset - before as u64)?;
        Ok(sum(&bytes[..before]) == self.tail)
    }

    /// Learns how the file begins, as far as that is not known yet.
    pub(super) fn learn_head(&mut self, file: &File, size: u64) -> std::io::Result<()> {
        if self.head.0 >= MARK as u64 || size <= self.head.0 {
            return Ok(());
        }
        let mut bytes = [0; MARK];
        let head = MARK.min(usize::try_from(size).unwrap_or(MARK));
        file.read_exact_at(&mut bytes[..head], 0)?;
        self.head = (head as u64, sum(&bytes[..head]));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn a_file_is_known_by_its_beginning_and_by_what_was_read_last() {
        let mut named = tempfile::NamedTempFile::new().unwrap();
        let line = |n: u32| format!("{n:05} gate open at the quay\n");
        let text: String = (0..40).map(line).collect();
        named.write_all(text.as_bytes()).unwrap();
        let size = text.len() as u64;
        let mut place = ReadPosition::new("x".into(), (1, 2), 0);
        assert!(place.is_in(named.as_file(), size).unwrap(), "nothing is known about it yet");
        place.learn_head(named.as_file(), size).unwrap();
        place.reach(size, text.as_bytes());
        assert!(place.is_in(named.as_file(), size).unwrap());
        assert!(place.begins_like(text.as_bytes()) && !place.begins_like(&text.as_bytes()[1..]) && !place.begins_like(b"0"));
        // Emptied; emptied and written anew, longer than before, with the same beginning.
        assert!(!place.is_in(named.as_file(), 10).unwrap());
        let other: String = (0..20).map(line).chain((100..200).map(line)).collect();
        std::fs::write(named.path(), &other).unwrap();
        assert!(!place.is_in(named.as_file(), other.len() as u64).unwrap());
        // It goes on.
        std::fs::write(named.path(), text.clone() + &line(41)).unwrap();
        assert!(place.is_in(named.as_file(), size + 29).unwrap());
        let kept: ReadPosition = serde_json::from_str(&serde_json::to_string(&place).unwrap()).unwrap();
        assert_eq!(kept, place);
    }
}
