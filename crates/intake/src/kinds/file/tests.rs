//! Files as programs and rotation treat them: every line arrives once, whatever happens to its file, and over restarts.

use std::collections::BTreeMap;
use std::fs::OpenOptions;
use std::io::Write;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};

use rockrose_event::buffers::Buffer;

use super::*;
use crate::{Receipt, Refusal};

#[test]
fn quiet_files_are_looked_at_less_often() {
    let ms = Duration::from_millis;
    let (busy, quiet) = (ms(5_000), ms(60_000));
    assert_eq!([pause(ms(2), busy), pause(ms(30), busy), pause(ms(900), busy)], [ms(250), ms(600), ms(10_000)]);
    assert_eq!([pause(ms(2), quiet), pause(ms(20), quiet), pause(ms(900), quiet)], [ms(1_000), ms(4_000), ms(10_000)]);
}

/// Keeps lines and positions together, as a commit would.
#[derive(Default)]
struct Kept {
    lines: Mutex<Vec<String>>,
    positions: Mutex<BTreeMap<String, String>>,
    refusing: AtomicBool,
    refused: AtomicUsize,
    /// Bodies longer than this are too large.
    most: AtomicUsize,
}

impl Sink for Kept {
    async fn accept(&self, _: &str, body: Arc<Buffer>, _: DeclaredFormat, with: BodyMetadata) -> Result<Receipt, Refusal> {
        let most = self.most.load(Ordering::SeqCst);
        if self.refusing.load(Ordering::SeqCst) && !body.is_empty() {
            self.refused.fetch_add(1, Ordering::SeqCst);
            return Err(Refusal::Full { destination: "desk".into() });
        }
        if most > 0 && body.len() > most {
            return Err(Refusal::TooLarge);
        }
        let mut positions = self.positions.lock().unwrap();
        for position in with.positions {
            match position.content {
                Some(content) => positions.insert(position.id, content),
                None => positions.remove(&position.id),
            };
        }
        let mut lines = self.lines.lock().unwrap();
        let new: Vec<String> = String::from_utf8(body.to_vec()).unwrap().lines().map(str::to_owned).collect();
        let stamped = with.stamps.len();
        let count = new.len() as u64;
        lines.extend(new.into_iter().map(|l| if stamped > 0 { format!("{l}+{}", with.stamps[0].name()) } else { l }));
        Ok(Receipt { received: count, read: count, ..Receipt::default() })
    }

    async fn lost(&self, _: &str, _: u64, _: u64) {}

    async fn positions(&self, _: &str) -> Result<Vec<Position>, Refusal> {
        Ok(self.positions.lock().unwrap().iter().map(|(id, content)| Position { id: id.clone(), content: Some(content.clone()) }).collect())
    }
}

struct Bench {
    folder: tempfile::TempDir,
    sink: Arc<Kept>,
    monitor: Arc<SourceMonitor>,
    running: Option<(CancellationToken, tokio::task::JoinHandle<()>)>,
    settings: FileSettings,
}

impl Bench {
    fn new() -> Bench {
        let folder = tempfile::tempdir().unwrap();
        let settings = FileSettings {
            name: "quays".into(),
            files: Files { paths: vec![folder.path().join("*.log*").display().to_string()], exclude: vec!["*.tmp".into()], from_start: true, path_as: None },
            scope: rockrose_plan::FileScope { under: vec!["/".into()], ..rockrose_plan::FileScope::default() },
            max_event: 1_000,
        };
        Bench { folder, sink: Arc::default(), monitor: Arc::default(), running: None, settings }
    }

    fn at(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn start(&mut self) {
        let stop = CancellationToken::new();
        let following = follow(self.settings.clone(), Arc::clone(&self.sink), Arc::clone(&self.monitor), stop.clone());
        self.running = Some((stop, tokio::spawn(following)));
    }

    async fn stop(&mut self) {
        let (stop, task) = self.running.take().unwrap();
        stop.cancel();
        task.await.unwrap();
    }

    fn append(&self, name: &str, text: &str) {
        OpenOptions::new().append(true).create(true).open(self.at(name)).unwrap().write_all(text.as_bytes()).unwrap();
    }

    /// Numbered lines, long enough that some of them tell one file from another.
    fn write(&self, name: &str, numbers: std::ops::Range<u32>) {
        self.append(name, &lines(numbers));
    }

    async fn until(&self, what: &str, met: impl Fn(&Bench) -> bool) {
        for _ in 0..2_400 {
            if met(self) {
                return;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        let files = self.monitor.get().files;
        panic!("{what}: {} lines, {files:#?}", self.sink.lines.lock().unwrap().len());
    }

    /// Waits until just these lines are there, in whatever order; nothing twice, nothing lost.
    async fn has(&self, what: &str, numbers: std::ops::Range<u32>) {
        let expected: Vec<String> = lines(numbers).lines().map(str::to_owned).collect();
        self.until(what, |b| b.sink.lines.lock().unwrap().len() >= expected.len()).await;
        let mut have = self.sink.lines.lock().unwrap().clone();
        have.sort();
        assert!(have == expected, "{what}: {} lines of {}; first {:?}", have.len(), expected.len(), have.iter().zip(&expected).find(|(a, b)| a != b));
    }

    fn state(&self, name: &str) -> Option<FileState> {
        let path = self.at(name).display().to_string();
        self.monitor.get().files.iter().find(|f| f.path == path).map(|f| f.state)
    }

    async fn comes_to(&self, name: &str, state: FileState) {
        self.until(&format!("{name} {state:?}"), |b| b.state(name) == Some(state)).await;
    }
}

fn lines(numbers: std::ops::Range<u32>) -> String {
    numbers.map(|n| format!("{n:08} gate open at Tansy Quay\n")).collect()
}

fn gzip(text: &[u8]) -> Vec<u8> {
    let mut e = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    e.write_all(text).unwrap();
    e.finish().unwrap()
}

#[tokio::test]
async fn lines_come_once_as_the_file_grows_and_over_restarts() {
    let mut b = Bench::new();
    b.write("a.log", 0..100);
    b.start();
    b.has("what was there", 0..100).await;
    b.write("a.log", 100..150);
    b.has("what was added", 0..150).await;
    b.stop().await;
    b.write("a.log", 150..200);
    b.write("b.log", 200..250);
    b.start();
    b.has("what came while it was away", 0..250).await;
    // Half a line waits for its other half.
    b.append("a.log", "00000250 gate open");
    b.comes_to("a.log", FileState::Current).await;
    b.append("a.log", " at Tansy Quay\n");
    b.has("the other half", 0..251).await;
    assert!(b.monitor.get().files.iter().all(|f| f.size == f.offset), "{:?}", b.monitor.get().files);
    b.stop().await;
}

#[tokio::test]
async fn from_the_end_means_what_was_there_at_the_very_first() {
    let mut b = Bench::new();
    b.settings.files.from_start = false;
    b.write("old.log", 900..1_000);
    std::fs::write(b.at("old.log.1.gz"), gzip(b"a line\n")).unwrap();
    b.start();
    b.comes_to("old.log", FileState::Current).await;
    b.stop().await;
    b.write("old.log", 0..10);
    b.write("later.log", 10..20);
    b.start();
    b.has("only what is new", 0..20).await;
    b.stop().await;
}

#[tokio::test]
async fn rotation_by_rename_loses_nothing() {
    let mut b = Bench::new();
    // The name it is rotated to is outside the patterns: only the open file leads to it.
    b.settings.files.paths = vec![b.at("a.log").display().to_string()];
    b.write("a.log", 0..100);
    b.start();
    b.has("at first", 0..100).await;
    b.sink.refusing.store(true, Ordering::SeqCst);
    b.write("a.log", 100..150);
    b.until("pushed back", |b| b.sink.refused.load(Ordering::SeqCst) > 0).await;
    std::fs::rename(b.at("a.log"), b.at("a.old")).unwrap();
    b.append("a.old", "00000150 gate open at Tansy Quay");
    b.write("a.log", 151..200);
    b.sink.refusing.store(false, Ordering::SeqCst);
    b.has("both files, and the last line without its end", 0..200).await;
    b.stop().await;
}

#[tokio::test]
async fn names_that_move_on_are_the_same_files() {
    let mut b = Bench::new();
    b.write("a.log", 0..100);
    b.start();
    b.has("at first", 0..100).await;
    b.stop().await;
    b.write("a.log", 100..150);
    std::fs::rename(b.at("a.log"), b.at("a.log.1")).unwrap();
    b.write("a.log", 150..200);
    b.start();
    b.has("read on under another name", 0..200).await;
    std::fs::rename(b.at("a.log.1"), b.at("a.log.2")).unwrap();
    std::fs::rename(b.at("a.log"), b.at("a.log.1")).unwrap();
    b.write("a.log", 200..210);
    b.has("all moved on", 0..210).await;
    b.stop().await;
}

#[tokio::test]
async fn rotation_by_copy_and_truncation_reads_each_line_once() {
    let mut b = Bench::new();
    b.write("a.log", 0..100);
    b.start();
    b.has("at first", 0..100).await;
    b.sink.refusing.store(true, Ordering::SeqCst);
    b.write("a.log", 100..120);
    b.until("pushed back", |b| b.sink.refused.load(Ordering::SeqCst) > 0).await;
    // The copy is there before the file is emptied.
    std::fs::copy(b.at("a.log"), b.at("a.log.1")).unwrap();
    b.stop().await;
    b.sink.refusing.store(false, Ordering::SeqCst);
    std::fs::write(b.at("a.log"), lines(120..150)).unwrap();
    b.start();
    b.has("the rest from the copy, the new from the file", 0..150).await;
    // The same while it runs; the emptied file grows beyond its old length at once.
    std::fs::copy(b.at("a.log"), b.at("a.log.2")).unwrap();
    b.comes_to("a.log.2", FileState::Copy).await;
    std::fs::write(b.at("a.log"), lines(150..400)).unwrap();
    b.has("emptied and written anew", 0..400).await;
    b.stop().await;
}

#[tokio::test]
async fn an_emptied_file_is_read_on_in_its_copy_wherever_that_stands_beside_it() {
    for packed in [false, true] {
        let mut b = Bench::new();
        b.write("a.log", 0..100);
        b.write("b.txt", 900..1_000);
        b.start();
        b.has("at first", 0..100).await;
        b.sink.refusing.store(true, Ordering::SeqCst);
        b.write("a.log", 100..120);
        b.until("pushed back", |b| b.sink.refused.load(Ordering::SeqCst) > 0).await;
        // The patterns do not meet the copy, and it is finished over a restart as well.
        let copy = std::fs::read(b.at("a.log")).unwrap();
        std::fs::write(b.at("a-copy.old"), if packed { gzip(&copy) } else { copy }).unwrap();
        std::fs::write(b.at("a.log"), lines(120..150)).unwrap();
        b.stop().await;
        b.sink.refusing.store(false, Ordering::SeqCst);
        b.start();
        b.has("the rest from the copy, the new from the file", 0..150).await;
        assert_eq!(b.monitor.get().troubles.iter().filter(|t| t.what == SenderFault::Lost).count(), 0);
        if packed {
            b.stop().await;
            continue;
        }
        // Once more while it runs, now that the copy is known from before.
        let refused = b.sink.refused.load(Ordering::SeqCst);
        b.sink.refusing.store(true, Ordering::SeqCst);
        b.write("a.log", 150..160);
        b.until("pushed back", |b| b.sink.refused.load(Ordering::SeqCst) > refused).await;
        b.write("a.log", 160..200);
        std::fs::copy(b.at("a.log"), b.at("a-copy.older")).unwrap();
        std::fs::write(b.at("a.log"), lines(200..210)).unwrap();
        b.sink.refusing.store(false, Ordering::SeqCst);
        b.has("what was written behind what was read", 0..210).await;
        // Without a copy it is said how much was missed: all but the part that was read already.
        let refused = b.sink.refused.load(Ordering::SeqCst);
        b.sink.refusing.store(true, Ordering::SeqCst);
        b.write("a.log", 1_000..61_000);
        b.until("pushed back", |b| b.sink.refused.load(Ordering::SeqCst) > refused).await;
        std::fs::write(b.at("a.log"), "").unwrap();
        b.sink.refusing.store(false, Ordering::SeqCst);
        let lost = |b: &Bench| b.monitor.get().troubles.into_iter().find(|t| t.what == SenderFault::Lost).map(|t| t.says);
        b.until("it is said", |b| lost(b).is_some()).await;
        let read: usize = b.sink.lines.lock().unwrap().iter().map(|line| line.len() + 1).sum::<usize>() - lines(0..200).len();
        let missed = lines(200..210).len() + lines(1_000..61_000).len() - read;
        assert!(missed > 500_000 && lost(&b).unwrap().contains(&format!(" {missed} bytes unread")), "{missed}: {:?}", lost(&b));
        b.until("the file says so", |b| b.monitor.get().files.iter().any(|f| f.says.contains("no copy of it was found"))).await;
        b.stop().await;
    }
}

#[tokio::test]
async fn a_packed_copy_is_not_read_again_and_old_packed_files_are_read() {
    let mut b = Bench::new();
    b.write("a.log.1", 0..100);
    b.start();
    b.has("at first", 0..100).await;
    b.sink.refusing.store(true, Ordering::SeqCst);
    b.write("a.log.1", 100..130);
    b.until("pushed back", |b| b.sink.refused.load(Ordering::SeqCst) > 0).await;
    b.stop().await;
    // While it is packed both are there, and the packed one is not whole.
    let whole = gzip(lines(0..130).as_bytes());
    std::fs::write(b.at("a.log.1.gz"), &whole[..whole.len() - 20]).unwrap();
    b.sink.refusing.store(false, Ordering::SeqCst);
    std::fs::remove_file(b.at("a.log.1")).unwrap();
    b.start();
    b.comes_to("a.log.1.gz", FileState::Damaged).await;
    std::fs::write(b.at("a.log.1.gz"), &whole).unwrap();
    b.has("the rest from the packed copy", 0..130).await;
    // One that nobody has read before; without an end of its last line.
    std::fs::write(b.at("older.log.zst"), zstd::bulk::compress(lines(130..50_000).trim_end().as_bytes(), 1).unwrap()).unwrap();
    b.has("an old packed file", 0..50_000).await;
    b.comes_to("older.log.zst", FileState::Current).await;
    b.stop().await;
    b.start();
    b.comes_to("older.log.zst", FileState::Current).await;
    b.has("nothing twice after a restart", 0..50_000).await;
    b.stop().await;
}

#[tokio::test]
async fn what_cannot_be_read_is_said_and_taken_up_when_it_can() {
    let mut b = Bench::new();
    b.settings.files.paths.push(b.at("nowhere/*.txt").display().to_string());
    std::fs::write(b.at("image.log"), b"\x89PNG\0\0\0").unwrap();
    std::fs::write(b.at("wide.log"), b"\xff\xfeg\0a\0").unwrap();
    std::fs::write(b.at("part.log.gz"), &gzip(lines(0..50).as_bytes())[..40]).unwrap();
    b.write("left.log.tmp", 0..10);
    b.start();
    for (name, state) in
        [("image.log", FileState::Binary), ("wide.log", FileState::Binary), ("part.log.gz", FileState::Damaged), ("nowhere/*.txt", FileState::Missing)]
    {
        b.comes_to(name, state).await;
    }
    assert_eq!(b.state("left.log.tmp"), None);
    std::fs::write(b.at("part.log.gz"), gzip(lines(0..50).as_bytes())).unwrap();
    std::fs::create_dir(b.at("nowhere")).unwrap();
    b.write("nowhere/x.txt", 50..60);
    b.has("once it can be read", 0..60).await;
    // It goes away within a line that nobody will end, while nothing is taken.
    b.sink.refusing.store(true, Ordering::SeqCst);
    b.write("nowhere/x.txt", 60..70);
    b.until("pushed back", |b| b.sink.refused.load(Ordering::SeqCst) > 0).await;
    b.stop().await;
    std::fs::remove_file(b.at("nowhere/x.txt")).unwrap();
    b.sink.refusing.store(false, Ordering::SeqCst);
    b.start();
    b.comes_to("nowhere/*.txt", FileState::Missing).await;
    b.comes_to("nowhere/x.txt", FileState::Gone).await;
    // One that goes away after it was read is not missed, nor after a restart.
    b.write("y.log", 70..80);
    b.until("y is read", |b| b.sink.lines.lock().unwrap().len() == 70).await;
    std::fs::remove_file(b.at("y.log")).unwrap();
    b.until("its place says so", |b| b.sink.positions.lock().unwrap().values().any(|p| p.contains("y.log") && p.contains("\"left\":true"))).await;
    b.stop().await;
    b.start();
    b.write("z.log", 80..90);
    b.comes_to("z.log", FileState::Current).await;
    assert_eq!(b.state("y.log"), None);
    b.stop().await;
}

#[tokio::test]
async fn long_lines_are_cut_and_large_bodies_go_in_parts() {
    let mut b = Bench::new();
    b.sink.most.store(20_000, Ordering::SeqCst);
    b.settings.files.path_as = Some("log.file.path".into());
    b.append("a.log", &format!("{}\nshort\n", "x".repeat(3_000_000)));
    b.append("a.log", &"0123456789\n".repeat(20_000));
    b.start();
    b.until("all of it", |b| b.sink.lines.lock().unwrap().len() == 20_002).await;
    let lines = b.sink.lines.lock().unwrap().clone();
    assert!(lines[0].starts_with("{\"message\":\"xxx") && lines[0].ends_with(",\"cut\":true}+log.file.path") && lines[0].len() < 1_100);
    assert_eq!((&lines[1][..], &lines[20_001][..]), ("short+log.file.path", "0123456789+log.file.path"));
    assert!(b.monitor.get().troubles.iter().any(|t| t.what == SenderFault::TooLarge));
    b.stop().await;
}

#[tokio::test]
async fn many_files_are_read_beside_one_another() {
    let mut b = Bench::new();
    for file in 0..400u32 {
        b.write(&format!("{file}.log"), file * 10..file * 10 + 10);
    }
    b.start();
    b.has("four hundred files", 0..4_000).await;
    for file in 0..400u32 {
        b.write(&format!("{file}.log"), 4_000 + file..4_001 + file);
    }
    b.has("a line more in each", 0..4_400).await;
    b.stop().await;
}
