//! A file that is read: as it stands, or unpacked on the way.

use std::fs::File;
use std::io::{BufReader, ErrorKind, Read, Result};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::Path;

use super::position::MARK;

/// What a file is by its first bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum FileFormat {
    Plain,
    Gzip,
    Zstd,
    /// Text of two bytes a character.
    Utf16,
    Binary,
}

impl FileFormat {
    pub(super) fn of(head: &[u8]) -> FileFormat {
        match head {
            [0x1f, 0x8b, ..] => FileFormat::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] => FileFormat::Zstd,
            [0xff, 0xfe, ..] | [0xfe, 0xff, ..] => FileFormat::Utf16,
            _ if head.contains(&0) => FileFormat::Binary,
            _ => FileFormat::Plain,
        }
    }

    pub(super) fn is_packed(self) -> bool {
        matches!(self, FileFormat::Gzip | FileFormat::Zstd)
    }
}

/// How a file looked when it was opened.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct FileStat {
    pub(super) number: (u64, u64),
    pub(super) size: u64,
    pub(super) changed_ms: i64,
}

impl FileStat {
    pub(super) fn of(about: &std::fs::Metadata) -> FileStat {
        FileStat { number: (about.dev(), about.ino()), size: about.len(), changed_ms: about.mtime() * 1_000 + about.mtime_nsec() / 1_000_000 }
    }
}

/// The first bytes of a file, as it stands.
pub(super) fn head(file: &File) -> Result<Vec<u8>> {
    let mut head = vec![0; 4_096];
    let mut have = 0;
    while have < head.len() {
        match file.read_at(&mut head[have..], have as u64) {
            Ok(0) => break,
            Ok(n) => have += n,
            Err(e) if e.kind() == ErrorKind::Interrupted => {}
            Err(e) => return Err(e),
        }
    }
    head.truncate(have);
    Ok(head)
}

/// A packed file on its way out.
pub(super) struct Unpacking {
    from: Box<dyn Read + Send>,
    /// Bytes that came out, but for those that wait in `kept`.
    at: u64,
    /// The last of what came out before `kept`.
    before: Vec<u8>,
    /// What came out and was not done with.
    kept: Vec<u8>,
    ended: bool,
}

impl Unpacking {
    pub(super) fn new(path: &Path, sort: FileFormat) -> Result<Unpacking> {
        let file = BufReader::with_capacity(64 << 10, File::open(path)?);
        let from: Box<dyn Read + Send> = match sort {
            FileFormat::Zstd => Box::new(zstd::stream::read::Decoder::with_buffer(file)?),
            _ => Box::new(flate2::bufread::MultiGzDecoder::new(file)),
        };
        Ok(Unpacking { from, at: 0, before: Vec::new(), kept: Vec::new(), ended: false })
    }

    /// Goes on to `offset`; returns the bytes right before it. `None`: there are not so many.
    pub(super) fn skip_to(&mut self, offset: u64) -> Result<Option<&[u8]>> {
        while self.at < offset {
            let want = usize::try_from(offset - self.at).unwrap_or(usize::MAX).min(64 << 10);
            let have = self.fill(want)?.len();
            if have == 0 {
                return Ok(None);
            }
            self.done_with(have.min(want));
        }
        Ok(Some(&self.before))
    }

    /// What comes next, at least `want` bytes of it unless it ends before.
    pub(super) fn fill(&mut self, want: usize) -> Result<&[u8]> {
        while self.kept.len() < want && !self.ended {
            let had = self.kept.len();
            self.kept.resize(want, 0);
            let read = self.from.read(&mut self.kept[had..]);
            self.kept.truncate(had + *read.as_ref().unwrap_or(&0));
            self.ended = read? == 0;
        }
        Ok(&self.kept)
    }

    pub(super) fn ended(&self) -> bool {
        self.ended
    }

    pub(super) fn done_with(&mut self, bytes: usize) {
        self.at += bytes as u64;
        let gone: Vec<u8> = self.kept.drain(..bytes).collect();
        self.before.extend_from_slice(&gone[gone.len().saturating_sub(MARK)..]);
        let over = self.before.len().saturating_sub(MARK);
        self.before.drain(..over);
    }

    /// The bytes right before what comes next.
    pub(super) fn before(&self) -> &[u8] {
        &self.before
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn what_is_packed_comes_out_from_any_place() {
        let text: Vec<u8> = (0..20_000u32).flat_map(|n| format!("{n} gate\n").into_bytes()).collect();
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gzip.write_all(&text).unwrap();
        for (packed, sort) in [(gzip.finish().unwrap(), FileFormat::Gzip), (zstd::bulk::compress(&text, 1).unwrap(), FileFormat::Zstd)] {
            assert_eq!(FileFormat::of(&packed), sort);
            let file = tempfile::NamedTempFile::new().unwrap();
            std::fs::write(file.path(), &packed).unwrap();
            let mut unpacking = Unpacking::new(file.path(), sort).unwrap();
            assert_eq!(unpacking.skip_to(100_000).unwrap().unwrap(), &text[100_000 - MARK..100_000]);
            let mut rest = Vec::new();
            loop {
                let some = unpacking.fill(1_000).unwrap().to_vec();
                if some.is_empty() {
                    break;
                }
                unpacking.done_with(some.len());
                rest.extend(some);
            }
            assert!(unpacking.ended() && rest == text[100_000..]);
            assert!(Unpacking::new(file.path(), sort).unwrap().skip_to(1 << 30).unwrap().is_none());
            // One that breaks off is an error, not an end.
            std::fs::write(file.path(), &packed[..packed.len() / 2]).unwrap();
            assert!(Unpacking::new(file.path(), sort).unwrap().skip_to(1 << 30).is_err());
        }
        assert_eq!(
            [FileFormat::of(b"gate"), FileFormat::of(b"\xff\xfea\0"), FileFormat::of(b"a\0b"), FileFormat::of(b"")],
            [FileFormat::Plain, FileFormat::Utf16, FileFormat::Binary, FileFormat::Plain]
        );
    }
}
