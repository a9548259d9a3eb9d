//! A file that is known, and how it is read on.

use std::fs::File;
use std::io::Result;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use rockrose_event::buffers;

use super::cut;
use super::open::{FileFormat, FileStat, Unpacking};
use super::position::{MARK, MARKED_ENOUGH, ReadPosition, sum};
use crate::monitor::{FileSeen, FileState};
use crate::now_ms;

/// Most bytes that are handed on at once.
const CHUNK: usize = 1 << 20;
/// Fewest.
const SMALLEST_CHUNK: usize = 4 << 10;
/// A line without its end is taken as it is when its file has not grown for so long.
const LINE_PATIENCE_MS: i64 = 30_000;
/// For so long it is said that a file went away while nothing read it.
const SAY_GONE_MS: i64 = 86_400_000;
/// A line without its end is taken as it is when its file was moved, removed or packed for so long.
const LEFT_PATIENCE_MS: i64 = 2_000;

/// A file that is known, and what is needed to read on.
pub(super) struct TrackedFile {
    pub(super) place: ReadPosition,
    pub(super) sort: FileFormat,
    /// How it looked last, and since when it looks so.
    look: Option<FileStat>,
    pub(super) same_since_ms: i64,
    /// It is kept open, so that it can be read to its end wherever it goes.
    pub(super) plain: Option<Arc<File>>,
    packed: Option<Unpacking>,
    /// It was found at the last look.
    pub(super) found: bool,
    /// It has the same to say as this one, which is still there.
    pub(super) copy_of: Option<String>,
    /// What keeps it from being read, until it changes.
    pub(super) trouble: Option<(FileState, String)>,
    /// Its place was not kept yet.
    pub(super) unnoted: bool,
    /// The largest size that it was seen with.
    largest: u64,
    /// Bytes that were not read before the file at its path was emptied, and stand nowhere else.
    pub(super) missed: u64,
    /// The size at which it ended within a line.
    stopped_at: u64,
    /// Most bytes to read at once.
    chunk: usize,
    /// A line at a time, since no more were taken at once.
    one_by_one: bool,
}

/// What was read.
pub(super) struct Chunk {
    /// Whole lines.
    pub(super) body: Vec<u8>,
    /// Where reading goes on once they are durable.
    pub(super) next: ReadPosition,
    /// How many bytes that is.
    pub(super) used: usize,
    /// Lines that were cut.
    pub(super) too_long: u64,
}

/// Whether a file is a copy of one that was read, packed or not.
pub(super) fn is_copy(other: &ReadPosition, file: &File, path: &Path, sort: FileFormat, size: u64) -> bool {
    if other.offset < MARKED_ENOUGH || other.head.0 < MARK as u64 || other.done.is_some() {
        return false;
    }
    if !sort.is_packed() {
        return other.is_in(file, size).unwrap_or(false);
    }
    let same = || -> Result<bool> {
        let mut unpacking = Unpacking::new(path, sort)?;
        let begins_like = other.begins_like(unpacking.fill(MARK)?);
        Ok(begins_like && unpacking.skip_to(other.offset)?.is_some_and(|before| sum(before) == other.tail))
    };
    same().unwrap_or(false)
}

/// Puts the place behind all that is in a file.
pub(super) fn skip(place: &mut ReadPosition, file: &File, sort: FileFormat, size: u64) {
    if sort.is_packed() {
        place.done = Some(size);
        return;
    }
    // Behind the last whole line, so that one that is being written is read whole.
    let mut bytes = vec![0; usize::try_from(size).unwrap_or(usize::MAX).min(64 << 10)];
    let from = size - bytes.len() as u64;
    if file.read_exact_at(&mut bytes, from).is_ok() && place.learn_head(file, size).is_ok() {
        let end = memchr::memrchr(b'\n', &bytes).map_or(0, |at| at + 1);
        place.passing = end == 0 && from > 0;
        let end = if place.passing { bytes.len() } else { end };
        place.reach(from + end as u64, &bytes[..end]);
    }
}

impl TrackedFile {
    pub(super) fn new(place: ReadPosition, sort: FileFormat) -> TrackedFile {
        TrackedFile {
            place,
            sort,
            look: None,
            same_since_ms: now_ms(),
            plain: None,
            packed: None,
            found: true,
            copy_of: None,
            trouble: None,
            unnoted: false,
            largest: 0,
            missed: 0,
            stopped_at: 0,
            chunk: CHUNK,
            one_by_one: false,
        }
    }

    /// One that was read before a restart; what sort it is, is seen when it is found.
    pub(super) fn kept(place: ReadPosition) -> TrackedFile {
        TrackedFile { found: false, ..TrackedFile::new(place, FileFormat::Plain) }
    }

    /// Whether it may not be read.
    pub(super) fn is_denied(&self) -> bool {
        matches!(self.trouble, Some((FileState::Denied, _)))
    }

    pub(super) fn saw(&mut self, look: FileStat, now: i64) {
        if self.look != Some(look) {
            (self.look, self.same_since_ms, self.trouble) = (Some(look), now, None);
            // A packed file that changed is gone through anew.
            self.packed = None;
        }
        self.largest = self.largest.max(look.size);
        self.place.seen_ms = now;
        self.place.left = false;
        self.found = true;
    }

    /// How many bytes were not read of it, as far as is known, once something else stands at its path.
    pub(super) fn left_unread(&self) -> u64 {
        if self.sort.is_packed() { 0 } else { self.largest.saturating_sub(self.place.offset) }
    }

    /// Looks again at a copy that stands under none of the patterns.
    pub(super) fn look_beside(&mut self, now: i64) {
        let look = std::fs::metadata(&self.place.path).map(|about| FileStat::of(&about)).ok().filter(|look| look.number == self.place.number);
        if let Some(look) = look
            && self.is_still(look).unwrap_or(false)
        {
            self.saw(look, now);
        }
    }

    /// Whether the file at its path still is the one that was read. Opens it, if need be.
    pub(super) fn is_still(&mut self, look: FileStat) -> Result<bool> {
        if self.look == Some(look) {
            return Ok(true);
        }
        if self.plain.is_none() {
            let file = File::open(&self.place.path)?;
            let sort = FileFormat::of(&super::open::head(&file)?);
            if self.look.is_some() && sort != self.sort {
                return Ok(false);
            }
            self.sort = sort;
            if sort.is_packed() {
                return Ok(true);
            }
            if sort != FileFormat::Plain {
                return Ok(false);
            }
            self.plain = Some(Arc::new(file));
        }
        self.plain.as_ref().map_or(Ok(true), |file| self.place.is_in(file, look.size))
    }

    /// One that is no longer under its patterns is read to its end as long as it is open.
    pub(super) fn look_at_what_is_left(&mut self, now: i64) {
        if self.found {
            return;
        }
        if let Some(Ok(about)) = self.plain.as_ref().map(|file| file.metadata()) {
            let look = FileStat::of(&about);
            if self.look != Some(look) {
                (self.look, self.same_since_ms) = (Some(look), now);
            }
            if look.size <= self.place.offset && now - self.same_since_ms >= LEFT_PATIENCE_MS {
                self.plain = None;
            }
        }
        if self.plain.is_none() && self.look.is_some_and(|look| self.unread(look) == 0) && !self.place.left {
            // Kept, so that it is not missed after a restart.
            (self.place.left, self.unnoted) = (true, true);
        }
    }

    /// How many bytes are not read yet, as far as is known.
    fn unread(&self, look: FileStat) -> u64 {
        match self.place.done {
            Some(_) => 0,
            // Of a packed one it is not known.
            None if self.sort.is_packed() => 1,
            None => look.size.saturating_sub(self.place.offset),
        }
    }

    fn patience_is_over(&self, now: i64) -> bool {
        now - self.same_since_ms >= if self.found { LINE_PATIENCE_MS } else { LEFT_PATIENCE_MS }
    }

    /// Whether there is something to read.
    pub(super) fn is_behind(&self, now: i64) -> bool {
        let Some(look) = self.look else { return false };
        if self.trouble.is_some() || self.copy_of.is_some() {
            return false;
        }
        if self.sort.is_packed() {
            return self.found && self.place.done != Some(look.size);
        }
        let reachable = self.found || self.plain.is_some();
        reachable && look.size > self.place.offset && (look.size != self.stopped_at || self.patience_is_over(now))
    }

    /// What comes next, if a whole line does.
    pub(super) fn next(&mut self, max_event: usize, now: i64) -> Result<Option<Chunk>> {
        if self.sort.is_packed() { self.next_packed(max_event) } else { self.next_plain(max_event, now) }
    }

    fn next_plain(&mut self, max_event: usize, now: i64) -> Result<Option<Chunk>> {
        let file = match &self.plain {
            Some(file) => Arc::clone(file),
            None => Arc::new(File::open(&self.place.path)?),
        };
        let about = file.metadata()?;
        // Another file stands there by now, or it was emptied: the next look sees to it.
        if FileStat::of(&about).number != self.place.number || !self.place.is_in(&file, about.len())? {
            self.look = None;
            return Ok(None);
        }
        self.place.learn_head(&file, about.len())?;
        let left = about.len() - self.place.offset;
        let mut want = self.chunk;
        loop {
            let take = usize::try_from(left).unwrap_or(usize::MAX).min(want);
            let mut bytes = buffers::take(take);
            bytes.resize(take, 0);
            file.read_exact_at(&mut bytes, self.place.offset)?;
            bytes.truncate(self.end_of_first(&bytes));
            let last = bytes.len() as u64 == left && self.patience_is_over(now);
            let mut next = self.place.clone();
            let mut body = buffers::take(take);
            let cut = cut::lines(&bytes, last, max_event, &mut next.passing, &mut body);
            if cut.used == 0 {
                buffers::leave(bytes);
                // A line that is longer than a chunk.
                if take == want && want <= max_event {
                    want = max_event + 1;
                    continue;
                }
                self.stopped_at = about.len();
                return Ok(None);
            }
            let offset = self.place.offset + cut.used as u64;
            if cut.used >= MARK {
                next.reach(offset, &bytes[..cut.used]);
            } else {
                let mut before = vec![0; MARK.min(usize::try_from(offset).unwrap_or(MARK))];
                let from = offset - before.len() as u64;
                file.read_exact_at(&mut before, from)?;
                next.reach(offset, &before);
            }
            buffers::leave(bytes);
            return Ok(Some(Chunk { body, next, used: cut.used, too_long: cut.too_long }));
        }
    }

    fn next_packed(&mut self, max_event: usize) -> Result<Option<Chunk>> {
        let mut packed = match self.packed.take() {
            Some(packed) => packed,
            None => {
                let mut packed = Unpacking::new(&self.place.path, self.sort)?;
                if packed.skip_to(self.place.offset)?.is_none_or(|before| sum(before) != self.place.tail) {
                    return Err(std::io::Error::other("it is another file than the one that was read"));
                }
                packed
            }
        };
        let mut next = self.place.clone();
        let mut want = self.chunk;
        let chunk = loop {
            let bytes = packed.fill(want)?;
            let bytes = &bytes[..bytes.len().min(want)];
            if next.offset == 0 {
                let first = &bytes[..bytes.len().min(MARK)];
                next.head = (first.len() as u64, sum(first));
            }
            let (read, bytes) = (bytes.len(), bytes[..self.end_of_first(bytes)].to_vec());
            let have = bytes.len();
            let last = packed.ended() && read < want && have == read;
            let mut body = buffers::take(have);
            let cut = cut::lines(&bytes, last, max_event, &mut next.passing, &mut body);
            if cut.used == 0 && !last {
                want = want.max(max_event + 1) + SMALLEST_CHUNK;
                continue;
            }
            let mut before = packed.before().to_vec();
            before.extend_from_slice(&bytes[..cut.used]);
            next.reach(self.place.offset + cut.used as u64, &before);
            if last {
                next.done = self.look.map(|l| l.size);
            }
            break Chunk { body, next, used: cut.used, too_long: cut.too_long };
        };
        self.packed = Some(packed);
        Ok(Some(chunk))
    }

    /// What was read is durable.
    pub(super) fn took(&mut self, next: ReadPosition, used: usize) {
        if let Some(packed) = &mut self.packed {
            packed.done_with(used);
        }
        self.place = ReadPosition { seen_ms: self.place.seen_ms, ..next };
        if self.place.done.is_some() {
            self.packed = None;
        }
        (self.chunk, self.one_by_one) = (CHUNK, false);
    }

    /// A chunk was refused for its size: less at once, and in the end one line.
    pub(super) fn read_less(&mut self) {
        self.one_by_one = self.chunk == SMALLEST_CHUNK;
        self.chunk = (self.chunk / 4).max(SMALLEST_CHUNK);
    }

    /// Where what was read is to be cut off, if only one line is to be handed on.
    fn end_of_first(&self, bytes: &[u8]) -> usize {
        if self.one_by_one { memchr::memchr(b'\n', bytes).map_or(bytes.len(), |end| end + 1) } else { bytes.len() }
    }

    /// How it is doing. Nothing is to be said of one that is gone and was read.
    pub(super) fn report(&self, now: i64, name: impl Fn(&String) -> String) -> Option<FileSeen> {
        let size = self.look.map_or(0, |l| l.size);
        let (state, says) = match (&self.trouble, &self.copy_of) {
            (Some((state, says)), _) => (*state, says.clone()),
            (None, Some(of)) => (FileState::Copy, format!("has the same as {}; it is read once that is gone", name(of))),
            (None, None) if self.sort.is_packed() && self.place.done.is_some() => (FileState::Current, "read to its end".to_owned()),
            (None, None) if !self.found && self.plain.is_none() => match self.look.map(|look| self.unread(look)) {
                Some(0) => return None,
                Some(_) if self.sort.is_packed() => (FileState::Gone, "it was removed before it was read to its end".to_owned()),
                Some(unread) => (FileState::Gone, format!("it was removed with {unread} bytes unread")),
                None if self.place.left || self.place.done.is_some() || now - self.same_since_ms > SAY_GONE_MS => return None,
                // One of which nothing was read is not known again under another name, or packed: there it is read whole.
                None if self.place.offset == 0 => return None,
                None => (FileState::Gone, format!("it was removed while it was not watched; what followed its first {} bytes was not read", self.place.offset)),
            },
            (None, None) if self.is_behind(now) => (FileState::Behind, "being read".to_owned()),
            (None, None) if size > self.place.offset => (FileState::Current, "waits for the end of its last line".to_owned()),
            (None, None) if !self.found => (FileState::Current, "read to the end; it was moved or removed".to_owned()),
            (None, None) => (FileState::Current, "read to its end".to_owned()),
        };
        let says = match self.missed {
            0 => says,
            missed => format!("{says}; it was truncated with {missed} bytes unread, and no copy of it was found"),
        };
        Some(FileSeen { path: self.place.path.display().to_string(), state, says, size, offset: self.place.offset })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_that_went_away_before_it_was_read_says_how_much_was_left() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.log");
        std::fs::write(&path, "gate open\n").unwrap();
        let look = FileStat::of(&std::fs::metadata(&path).unwrap());
        let mut known = TrackedFile::new(ReadPosition::new(path, look.number, 0), FileFormat::Plain);
        known.saw(look, 0);
        let report = |known: &TrackedFile| known.report(0, String::clone).map(|r| (r.state, r.says));
        assert_eq!(report(&known).unwrap().0, FileState::Behind);
        // Open, it would be read to its end wherever it went.
        known.found = false;
        known.plain = Some(Arc::new(File::open(&known.place.path).unwrap()));
        assert_eq!(report(&known).unwrap().0, FileState::Behind);
        known.plain = None;
        assert_eq!(report(&known), Some((FileState::Gone, "it was removed with 10 bytes unread".to_owned())));
        known.place.offset = 10;
        assert_eq!(report(&known), None, "nothing is to be said of one that was read");
        // Over a restart that is only known of one whose place says so.
        let mut again = TrackedFile::kept(known.place.clone());
        assert!(report(&again).unwrap().1.contains("followed its first 10 bytes"), "{:?}", report(&again));
        again.same_since_ms = -2 * SAY_GONE_MS;
        assert_eq!(report(&again), None, "not for ever");
        assert_eq!(report(&TrackedFile::kept(ReadPosition::new("b.log".into(), (1, 2), 0))), None, "it may be read under another name");
        known.look_at_what_is_left(0);
        assert!(known.unnoted);
        assert_eq!(report(&TrackedFile::kept(known.place.clone())), None);
        let states =
            [std::io::ErrorKind::PermissionDenied, std::io::ErrorKind::NotFound, std::io::ErrorKind::InvalidData].map(|k| FileState::of_error(&k.into()));
        assert_eq!(states, [FileState::Denied, FileState::Gone, FileState::Damaged]);
    }
}
