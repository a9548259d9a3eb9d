//! Events to look at: those of a file, packed or not, or of standard input.

use std::io::Read;
use std::path::Path;

use anyhow::Context;
use rockrose_engine::Masks;
use rockrose_event::json;
use rockrose_event::record::{DeclaredFormat, Form, split};
use rockrose_language::parse_step;
use rockrose_redact::HashKey;

use crate::{Exit, Failure};

/// Most bytes that are looked at, unpacked.
const MOST: u64 = 256 << 20;
/// How the names of files of events end.
const ENDINGS: &[&str] = &[".jsonl", ".json", ".ndjson", ".log", ".txt", ".jsonl.gz", ".jsonl.zst", ".log.gz", ".log.zst"];
/// Longest event.
const MAX_EVENT: usize = 1 << 20;

/// What was read.
pub(crate) struct Sample {
    body: Vec<u8>,
    /// Whether there is more.
    pub(crate) is_cut: bool,
}

impl Sample {
    /// Reads a file, or standard input if it is `-`; of a folder, such as an archive, the files of events in it and below, by their names. What is packed with gzip or Zstandard is unpacked.
    pub(crate) fn read(path: &Path) -> Result<Sample, Failure> {
        if path.is_dir() {
            return Sample::folder(path);
        }
        let name = path.display().to_string();
        let mut body = Vec::new();
        let source: Box<dyn Read> = match name.as_str() {
            "-" => Box::new(std::io::stdin().lock()),
            _ => Box::new(std::fs::File::open(path).with_context(|| format!("cannot open {name}"))?),
        };
        let mut source = std::io::BufReader::new(source);
        let head = std::io::BufRead::fill_buf(&mut source).with_context(|| format!("cannot read {name}"))?;
        let unpacked: Box<dyn Read + '_> = match head {
            [0x1f, 0x8b, ..] => Box::new(flate2::bufread::MultiGzDecoder::new(source)),
            [0x28, 0xb5, 0x2f, 0xfd, ..] => Box::new(zstd::stream::read::Decoder::with_buffer(source).with_context(|| format!("cannot unpack {name}"))?),
            _ => Box::new(source),
        };
        unpacked.take(MOST + 1).read_to_end(&mut body).with_context(|| format!("cannot read {name}"))?;
        let is_cut = body.len() as u64 > MOST;
        if is_cut {
            // To the end of a line.
            body.truncate(MOST as usize);
            body.truncate(body.iter().rposition(|b| *b == b'\n').map_or(MOST as usize, |end| end + 1));
        }
        Ok(Sample { body, is_cut })
    }

    fn folder(path: &Path) -> Result<Sample, Failure> {
        let mut whole = Sample { body: Vec::new(), is_cut: false };
        let mut folders = vec![path.to_owned()];
        let mut files = Vec::new();
        while let Some(folder) = folders.pop() {
            for entry in std::fs::read_dir(&folder).with_context(|| format!("cannot read {}", folder.display()))? {
                let entry = entry.with_context(|| format!("cannot read {}", folder.display()))?;
                let (kind, path) = (entry.file_type().with_context(|| format!("cannot read {}", folder.display()))?, entry.path());
                if kind.is_dir() {
                    folders.push(path);
                } else if kind.is_file() && ENDINGS.iter().any(|ending| path.to_string_lossy().ends_with(ending)) {
                    files.push(path);
                }
            }
        }
        files.sort();
        for file in &files {
            let one = Sample::read(file)?;
            if whole.is_cut || whole.body.len() + one.body.len() > MOST as usize {
                whole.is_cut = true;
                break;
            }
            whole.body.extend_from_slice(&one.body);
            if !whole.body.ends_with(b"\n") {
                whole.body.push(b'\n');
            }
            whole.is_cut |= one.is_cut;
        }
        if files.is_empty() {
            return Err(Failure::new(Exit::Failed, format!("there are no files of events in {} ({})", path.display(), ENDINGS.join(", "))));
        }
        Ok(whole)
    }

    /// Its text, of the first `most` bytes whole lines only, and whether there is more.
    pub(crate) fn text(&self, most: usize) -> (String, bool) {
        let end = match self.body.len() {
            all if all <= most => all,
            _ => self.body[..most].iter().rposition(|b| *b == b'\n').map_or(most, |end| end + 1),
        };
        (String::from_utf8_lossy(&self.body[..end]).into_owned(), self.is_cut || end < self.body.len())
    }

    /// Hands each event on, as JSON. A line of text becomes one whose message it is; where it tells its time, that and its level are read from it. Returns how many records could not be read.
    pub(crate) fn each(&self, now_ms: i64, mut event: impl FnMut(&[u8])) -> Result<u64, Failure> {
        let records = split(&self.body, DeclaredFormat::Unknown, MAX_EVENT).map_err(|e| Failure::new(Exit::Failed, e.to_string()))?;
        // What is made of lines does not depend on a key.
        let timed = parse_step("parse message as timed line").map_err(|m| Failure::new(Exit::Failed, m.message))?;
        let mut timed = Masks::new(std::slice::from_ref(&timed), HashKey::new([0; 32]));
        let (mut unreadable, mut line, mut room) = (0, Vec::new(), Vec::new());
        for record in records {
            let bytes = &self.body[record.start as usize..record.end as usize];
            match record.form {
                Form::Object if std::str::from_utf8(bytes).is_ok() => event(bytes),
                Form::QuotedText | Form::Text => {
                    line.clear();
                    line.extend_from_slice(b"{\"message\":");
                    match record.form {
                        Form::QuotedText => line.extend_from_slice(bytes),
                        _ => json::quote(String::from_utf8_lossy(bytes).as_bytes(), &mut line),
                    }
                    line.push(b'}');
                    let read = rockrose_extract::tells_its_time(bytes, &mut room).then(|| timed.done_to(&line, now_ms)).flatten();
                    event(read.as_deref().unwrap_or(&line));
                }
                Form::Object | Form::Unreadable(_) => unreadable += 1,
            }
        }
        Ok(unreadable)
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    fn read(content: &[u8]) -> (Vec<String>, u64) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("sample");
        std::fs::write(&path, content).unwrap();
        let mut events = Vec::new();
        let unreadable =
            Sample::read(&path).unwrap_or_else(|e| panic!("{}", e.message)).each(0, |event| events.push(String::from_utf8_lossy(event).into_owned()));
        (events, unreadable.unwrap_or_else(|e| panic!("{}", e.message)))
    }

    #[test]
    fn a_file_is_read_whatever_it_holds() {
        let lines = b"{\"a\":1}\ngate \"4\" opens\n2026-11-30 10:00:00 WARN tide is high\n";
        let (events, unreadable) = read(lines);
        assert_eq!(events[..2], ["{\"a\":1}", "{\"message\":\"gate \\\"4\\\" opens\"}"]);
        assert!(events[2].contains("\"message\":\"tide is high\"") && events[2].contains("\"severity\":\"WARN\"") && unreadable == 0, "{}", events[2]);
        let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        gzip.write_all(lines).unwrap();
        assert_eq!(read(&gzip.finish().unwrap()).0, events);
        assert_eq!(read(&zstd::bulk::compress(lines, 1).unwrap()).0, events);
        assert_eq!(read(b"[{\"a\":1},{\"b\":2}]").0, ["{\"a\":1}", "{\"b\":2}"]);
        assert_eq!(read(b""), (Vec::new(), 0));
        // A folder, such as an archive: all files of events in it, in the order of their names.
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("hour=11")).unwrap();
        std::fs::write(folder.path().join("hour=11/b.jsonl.zst"), zstd::bulk::compress(b"{\"b\":2}", 1).unwrap()).unwrap();
        std::fs::write(folder.path().join("a.jsonl"), b"{\"a\":1}").unwrap();
        std::fs::write(folder.path().join("index.bin"), b"no events").unwrap();
        let mut all = Vec::new();
        Sample::read(folder.path()).unwrap_or_else(|e| panic!("{}", e.message)).each(0, |e| all.push(String::from_utf8_lossy(e).into_owned())).unwrap_or(9);
        assert_eq!(all, ["{\"a\":1}", "{\"b\":2}"]);
        // Bytes without sense are events without sense, or none.
        let noise: Vec<u8> = (0..20_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        assert!(read(&noise).0.iter().all(|event| event.starts_with('{')));
    }
}
