//! The file source: follows files as they grow, are rotated, packed, emptied and removed.
//!
//! Once in a while all patterns are looked through, and each file found is either known (then it is read from its place), new (then from its beginning), or a copy of one that is known
//! (then from where that one was read to, once that one is gone). What is read goes on a chunk at a time, and the place moves in the same commit as the events; so after a crash each
//! line is there once. Several files are read beside one another, each in order.

mod cut;
mod find;
mod open;
mod position;
mod sample;
mod tracked;
mod walk;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use rockrose_event::record::DeclaredFormat;
use rockrose_event::stamp::Stamp;
use rockrose_plan::{FileScope, Files};
use tokio::task::JoinSet;
use tokio_util::sync::CancellationToken;

pub(crate) use cut::shortened;
pub use find::{own_logs, would_read};
use open::{FileFormat, FileStat, head};
use position::ReadPosition;
pub use sample::{Family, Sample, sample};
use tracked::{Chunk, TrackedFile};
pub use walk::Budget;

use super::{Endpoint, Kind, PasteLine, Start, rests};
use crate::monitor::{FileSeen, FileState};
use crate::probe::Probe;
use crate::{BodyMetadata, Position, SenderFault, Sink, SourceMonitor, now_ms};

/// Most files that are read beside one another.
const LANES: usize = 4;
/// Most chunks of one file before others have their turn.
const TURN: usize = 16;
/// How often files are looked at; less often where looking takes longer than a twentieth of it.
const LOOK_EVERY: Duration = Duration::from_millis(250);
/// Files in which nothing was written for so long are looked at only so often, and a look may take a two-hundredth of the time.
const QUIET: (Duration, Duration) = (Duration::from_secs(60), Duration::from_secs(1));
/// And at least so often, however long looking takes.
const LOOK_AT_LEAST_EVERY: Duration = Duration::from_secs(10);
/// Most files that are kept open, so that what was written right before they are removed is read.
const KEPT_OPEN: usize = 256;
/// The place of a file that was not seen for so long is forgotten: a week.
const FORGET_AFTER_MS: i64 = 7 * 86_400_000;
/// First and longest pause while there is no room.
const PAUSES: (Duration, Duration) = (Duration::from_millis(100), Duration::from_secs(2));
/// The position that says that the source has begun.
const BEGUN: &str = "";

/// What the files of a source are read by.
#[derive(Clone)]
struct FileSettings {
    name: String,
    files: Files,
    /// Largest event, in bytes.
    max_event: usize,
    /// The files that it may read.
    scope: FileScope,
}

impl Kind for Files {
    async fn run<S: Sink>(self, Start { settings, sink, monitor, stop, .. }: Start<S>) {
        let settings = settings.load();
        let settings = FileSettings { name: settings.name.clone(), files: self, max_event: settings.max_event, scope: settings.scope.clone() };
        follow(settings, sink, monitor, stop).await;
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        let hearing = probe.monitor.get();
        match hearing.bad_files() {
            Some((bad, says)) => probe.say("files", false, format!("{says}; {}", bad.state.remedy())),
            None => {
                let size: u64 = hearing.files.iter().map(|f| f.size).sum();
                probe.say("files", !hearing.files.is_empty(), format!("{} files, {size} bytes", hearing.files.len()));
            }
        }
    }

    fn paste_lines(&self, _at: &Endpoint) -> Vec<PasteLine> {
        let path = self.paths.first().map_or("", String::as_str);
        let shown = if path.contains(['*', '?', '[']) { "FILE" } else { path };
        vec![PasteLine::new("bash", format!("echo hello >> {shown}"))]
    }

    fn remedy(&self, what: SenderFault) -> Option<&'static str> {
        match what {
            SenderFault::TooLarge => Some("raise the source's `max_event`"),
            SenderFault::Lost => Some("let `paths` match the copies that are made before files are truncated, or rename files instead of truncating them"),
            _ => None,
        }
    }
}

/// How long it is until files are looked at again, after a look that took so long, where nothing was read for a while.
fn pause(took: Duration, nothing_for: Duration) -> Duration {
    let (times, least) = if nothing_for < QUIET.0 { (20, LOOK_EVERY) } else { (200, QUIET.1) };
    (took * times).clamp(least, LOOK_AT_LEAST_EVERY)
}

/// Follows the files of a source until `stop` is cancelled.
async fn follow<S: Sink>(settings: FileSettings, sink: Arc<S>, monitor: Arc<SourceMonitor>, stop: CancellationToken) {
    let shared = Arc::new(Shared { sink, monitor, stop });
    let settings = Arc::new(settings);
    while !shared.stop.is_cancelled() {
        let Some(kept) = kept(&settings, &shared).await else { return };
        let mut follower = Follower {
            at: BTreeMap::new(),
            seen: Vec::new(),
            forgotten: Vec::new(),
            missed: Vec::new(),
            begins: kept.is_empty(),
            settings: Arc::clone(&settings),
        };
        for position in kept {
            if let Some(place) = position.content.and_then(|c| serde_json::from_str::<ReadPosition>(&c).ok()) {
                follower.at.insert(place.id.clone(), TrackedFile::kept(place));
            }
        }
        if follower.run(&shared).await.is_err() {
            tracing::error!(source = settings.name, "reading files was interrupted; it resumes from the recorded positions");
            rests(&shared.stop, PAUSES.1).await;
        }
    }
}

/// The places that were kept, as soon as they can be read.
async fn kept<S: Sink>(settings: &FileSettings, shared: &Shared<S>) -> Option<Vec<Position>> {
    let mut pause = PAUSES.0;
    loop {
        match shared.sink.positions(&settings.name).await {
            Ok(kept) => return Some(kept),
            Err(refusal) => shared.monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None),
        }
        if rests(&shared.stop, pause).await {
            return None;
        }
        pause = (pause * 2).min(PAUSES.1);
    }
}

struct Shared<S> {
    sink: Arc<S>,
    monitor: Arc<SourceMonitor>,
    stop: CancellationToken,
}

/// What came of reading on in all files.
struct Turn {
    /// Something was there to be read.
    read: bool,
    /// There is more.
    more: bool,
}

struct Follower {
    settings: Arc<FileSettings>,
    /// Files by the names of their places.
    at: BTreeMap<String, TrackedFile>,
    /// What cannot be read at all, as of the last look.
    seen: Vec<FileSeen>,
    /// Places to forget.
    forgotten: Vec<String>,
    /// Files that were emptied before they were read to their end, and how many bytes that cost; not told yet.
    missed: Vec<(PathBuf, u64)>,
    /// Nothing was ever looked at.
    begins: bool,
}

impl Follower {
    /// Looks and reads until it is time to stop. An error: what is known of the files was lost on the way.
    async fn run<S: Sink>(mut self, shared: &Arc<Shared<S>>) -> Result<(), tokio::task::JoinError> {
        let mut last_read = Instant::now();
        while !shared.stop.is_cancelled() {
            let begun = Instant::now();
            self = tokio::task::spawn_blocking(move || {
                self.look(now_ms());
                self
            })
            .await?;
            for (path, bytes) in self.missed.drain(..) {
                let says = format!("{} was truncated with {bytes} bytes unread, and no copy of it was found beside it", path.display());
                shared.monitor.wrong(SenderFault::Lost, says, None);
            }
            let took = begun.elapsed();
            self.note_places(shared).await;
            let Turn { read, more } = self.read(shared).await?;
            shared.monitor.set_files(self.report(now_ms()));
            if read {
                last_read = Instant::now();
            }
            if !more {
                rests(&shared.stop, pause(took, last_read.elapsed())).await;
            }
        }
        Ok(())
    }

    /// Looks through all patterns and finds out which file is which.
    fn look(&mut self, now: i64) {
        let found = find::find(&self.settings.files.paths, &self.settings.files.exclude, &mut Budget::default());
        self.seen.clear();
        let mut say =
            |path: &Path, state: FileState, says: String| self.seen.push(FileSeen { path: path.display().to_string(), state, says, size: 0, offset: 0 });
        found.refused.iter().for_each(|(path, e)| say(path, FileState::of_error(e), e.to_string()));
        found.odd.iter().for_each(|path| say(path, FileState::Odd, "it is neither a file nor a folder".to_owned()));
        found.own.iter().for_each(|path| say(path, FileState::Own, "it is this service's own log, and is not read".to_owned()));
        found.empty.iter().for_each(|p| say(Path::new(p), FileState::Missing, "no matching files".to_owned()));
        if found.too_many {
            say(Path::new("…"), FileState::TooMany, format!("more than {} files; the rest is not read", find::MAX_FILES));
        }
        self.at.values_mut().for_each(|k| k.found = false);
        let by_number: HashMap<(u64, u64), String> = self.at.iter().map(|(id, k)| (k.place.number, id.clone())).collect();
        // What was emptied or replaced: its place may go on in a copy.
        let (mut left, mut unread): (Vec<ReadPosition>, HashMap<String, u64>) = Default::default();
        let mut new = Vec::new();
        for (path, look) in found.files {
            let Some(known) = by_number.get(&look.number).and_then(|id| self.at.get_mut(id)) else {
                new.push((path, look));
                continue;
            };
            known.place.path.clone_from(&path);
            // That it may be read by now does not show in how it looks.
            if known.is_denied() && find::within(&self.settings.scope, &path).and_then(|()| File::open(&path)).is_ok() {
                if known.place.is_unread() {
                    let id = known.place.id.clone();
                    self.at.remove(&id);
                    new.push((path, look));
                    continue;
                }
                known.trouble = None;
            }
            match known.is_still(look) {
                Ok(true) => known.saw(look, now),
                Ok(false) => {
                    let id = known.place.id.clone();
                    unread.insert(id.clone(), known.left_unread());
                    left.extend(self.at.remove(&id).map(|k| k.place));
                    new.push((path, look));
                }
                Err(e) => {
                    known.saw(look, now);
                    known.trouble = Some((FileState::of_error(&e), e.to_string()));
                }
            }
        }
        for (path, look) in new {
            let begun = self.begin(path, look, &mut left, now);
            self.at.insert(begun.place.id.clone(), begun);
        }
        self.take_over_copies(&left, now);
        self.at.values_mut().filter(|k| k.place.beside && !k.found).for_each(|k| k.look_beside(now));
        for place in left.iter().filter(|place| !place.beside) {
            if !self.at.contains_key(&place.id) && !self.go_on_beside(place, now) {
                self.miss(&place.path, unread.get(&place.id).copied().unwrap_or(0));
            }
        }
        self.forgotten.extend(left.into_iter().map(|place| place.id).filter(|id| !self.at.contains_key(id)));
        self.begins = false;
        self.at.values_mut().for_each(|k| k.look_at_what_is_left(now));
        let old: Vec<String> =
            self.at.iter().filter(|(_, k)| !k.found && k.plain.is_none() && now - k.place.seen_ms > FORGET_AFTER_MS).map(|(id, _)| id.clone()).collect();
        for id in old {
            self.at.remove(&id);
            self.forgotten.push(id);
        }
        self.close_the_oldest(now);
    }

    /// A file that was not known by its number.
    fn begin(&mut self, path: PathBuf, look: FileStat, left: &mut Vec<ReadPosition>, now: i64) -> TrackedFile {
        let mut place = ReadPosition::new(path, look.number, now);
        let opened = find::within(&self.settings.scope, &place.path).and_then(|()| File::open(&place.path)).and_then(|f| head(&f).map(|h| (f, h)));
        let (file, first) = match opened {
            Ok(opened) => opened,
            Err(e) => {
                let mut known = TrackedFile::new(place, FileFormat::Plain);
                known.saw(look, now);
                known.trouble = Some((FileState::of_error(&e), e.to_string()));
                return known;
            }
        };
        let sort = FileFormat::of(&first);
        let twin = left.iter().chain(self.at.values().map(|k| &k.place)).find(|other| tracked::is_copy(other, &file, &place.path, sort, look.size)).cloned();
        let mut copy_of = None;
        match twin {
            // The one it was made from is still there, and has the same to say.
            Some(twin) if self.at.get(&twin.id).is_some_and(|k| k.found) => copy_of = Some(twin.id),
            Some(twin) => {
                self.at.remove(&twin.id);
                left.retain(|l| l.id != twin.id);
                place = ReadPosition { path: place.path, number: look.number, ..twin };
            }
            None if self.begins && !self.settings.files.from_start => tracked::skip(&mut place, &file, sort, look.size),
            None => {}
        }
        let mut known = TrackedFile::new(place, sort);
        known.unnoted = true;
        known.copy_of = copy_of;
        known.saw(look, now);
        known.trouble = match sort {
            FileFormat::Binary => Some((FileState::Binary, "it is not text".to_owned())),
            FileFormat::Utf16 => Some((FileState::Binary, "it is written in UTF-16".to_owned())),
            _ => None,
        };
        if sort == FileFormat::Plain {
            known.plain = Some(Arc::new(file));
        }
        known
    }

    /// Copies of files that are gone go on from where those were read to.
    fn take_over_copies(&mut self, left: &[ReadPosition], now: i64) {
        let waiting: Vec<(String, String)> = self.at.iter().filter_map(|(id, k)| Some((id.clone(), k.copy_of.clone()?))).collect();
        for (id, of) in waiting {
            let gone = match self.at.get(&of) {
                Some(original) if original.found => continue,
                Some(original) => Some(original.place.clone()),
                None => left.iter().find(|l| l.id == of).cloned(),
            };
            let Some(mut copy) = self.at.remove(&id) else { continue };
            copy.copy_of = None;
            if let Some(gone) = gone {
                self.at.remove(&of);
                self.forgotten.push(id);
                copy.place = ReadPosition { path: copy.place.path, number: copy.place.number, seen_ms: now, ..gone };
            }
            copy.unnoted = true;
            self.at.insert(copy.place.id.clone(), copy);
        }
    }

    /// Reads on in the copy of a file that was emptied, where one stands in its folder under none of the patterns. Says whether there is one.
    fn go_on_beside(&mut self, place: &ReadPosition, now: i64) -> bool {
        let known: HashSet<(u64, u64)> = self.at.values().map(|k| k.place.number).collect();
        let Some((path, look, file, sort)) = find::beside(&place.path, |look| known.contains(&look.number)).into_iter().find_map(|(path, look)| {
            let file = File::open(&path).ok()?;
            let sort = FileFormat::of(&head(&file).ok()?);
            tracked::is_copy(place, &file, &path, sort, look.size).then_some((path, look, file, sort))
        }) else {
            return false;
        };
        let mut copy = TrackedFile::new(ReadPosition { path, number: look.number, beside: true, ..place.clone() }, sort);
        copy.plain = (sort == FileFormat::Plain).then(|| Arc::new(file));
        copy.unnoted = true;
        copy.saw(look, now);
        self.at.insert(place.id.clone(), copy);
        true
    }

    /// Notes that the file at `path` was emptied with so many bytes unread.
    fn miss(&mut self, path: &Path, bytes: u64) {
        if bytes > 0 {
            self.missed.push((path.to_owned(), bytes));
            self.at.values_mut().filter(|k| k.place.path == path).for_each(|k| k.missed += bytes);
        }
    }

    fn close_the_oldest(&mut self, now: i64) {
        let mut open: Vec<&mut TrackedFile> = self.at.values_mut().filter(|k| k.plain.is_some()).collect();
        if open.len() > KEPT_OPEN {
            open.sort_by_key(|k| (k.is_behind(now), k.same_since_ms));
            let over = open.len() - KEPT_OPEN;
            open.into_iter().take(over).for_each(|k| k.plain = None);
        }
    }

    /// Keeps the places of files that were found, taken over or forgotten, before anything is read of them.
    async fn note_places<S: Sink>(&mut self, shared: &Shared<S>) {
        let of = |k: &TrackedFile| Position { id: k.place.id.clone(), content: serde_json::to_string(&k.place).ok() };
        let mut positions: Vec<Position> = self.at.values().filter(|k| k.unnoted && k.copy_of.is_none() && k.trouble.is_none()).map(of).collect();
        positions.extend(self.forgotten.iter().filter(|id| !self.at.contains_key(*id)).map(|id| Position { id: id.clone(), content: None }));
        if positions.is_empty() {
            return;
        }
        positions.push(Position { id: BEGUN.to_owned(), content: Some("{}".to_owned()) });
        let with = BodyMetadata { positions, ..BodyMetadata::default() };
        match shared.sink.accept(&self.settings.name, Arc::default(), DeclaredFormat::Lines, with).await {
            Ok(_) => {
                self.at.values_mut().filter(|k| k.copy_of.is_none() && k.trouble.is_none()).for_each(|k| k.unnoted = false);
                self.forgotten.clear();
            }
            Err(refusal) => shared.monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None),
        }
    }

    /// Gives each file that has something to read a turn. Says whether there is more.
    async fn read<S: Sink>(&mut self, shared: &Arc<Shared<S>>) -> Result<Turn, tokio::task::JoinError> {
        let now = now_ms();
        let mut due: Vec<String> = self.at.iter().filter(|(_, k)| !k.unnoted && k.is_behind(now)).map(|(id, _)| id.clone()).collect();
        let mut reading: JoinSet<(TrackedFile, bool)> = JoinSet::new();
        let mut outcome = Turn { read: !due.is_empty(), more: false };
        loop {
            while reading.len() < LANES
                && !shared.stop.is_cancelled()
                && let Some(known) = due.pop().and_then(|id| self.at.remove(&id))
            {
                reading.spawn(turn(known, Arc::clone(&self.settings), Arc::clone(shared)));
            }
            match reading.join_next().await {
                Some(turned) => {
                    let (known, again) = turned?;
                    outcome.more |= again;
                    self.at.insert(known.place.id.clone(), known);
                }
                None => return Ok(outcome),
            }
        }
    }

    /// How the files are doing, those in trouble first.
    fn report(&self, now: i64) -> Vec<FileSeen> {
        let name = |id: &String| self.at.get(id).map_or_else(String::new, |k| k.place.path.display().to_string());
        let mut all: Vec<FileSeen> = self.seen.iter().cloned().chain(self.at.values().filter_map(|k| k.report(now, name))).collect();
        all.sort_by(|a, b| b.state.is_trouble().cmp(&a.state.is_trouble()).then_with(|| a.path.cmp(&b.path)));
        all
    }
}

/// Reads on in one file. Says whether there is more.
async fn turn<S: Sink>(mut known: TrackedFile, settings: Arc<FileSettings>, shared: Arc<Shared<S>>) -> (TrackedFile, bool) {
    let (mut pause, mut chunks) = (PAUSES.0, 0);
    while chunks < TURN && !shared.stop.is_cancelled() {
        let max = settings.max_event;
        let read = tokio::task::spawn_blocking(move || {
            let chunk = known.next(max, now_ms());
            (known, chunk)
        });
        let Ok((back, chunk)) = read.await else { unreachable!("reading a file does not panic") };
        known = back;
        let Chunk { body, next, used, too_long } = match chunk {
            Ok(Some(chunk)) => chunk,
            Ok(None) => return (known, false),
            Err(e) => {
                known.trouble = Some((FileState::of_error(&e), e.to_string()));
                return (known, false);
            }
        };
        let stamps = settings.files.path_as.iter().filter_map(|field| Stamp::new(field, &next.called.display().to_string(), now_ms()).ok()).collect();
        let position = Position { id: next.id.clone(), content: serde_json::to_string(&next).ok() };
        let lines = memchr::memchr_iter(b'\n', &body).count();
        match shared
            .sink
            .accept(
                &settings.name,
                Arc::new(body.into()),
                DeclaredFormat::Lines,
                BodyMetadata { stamps, positions: vec![position], bounded: true, ..BodyMetadata::default() },
            )
            .await
        {
            Ok(receipt) => {
                shared.monitor.receipt(&receipt, None);
                if too_long > 0 {
                    shared.monitor.wrong_times(SenderFault::TooLarge, too_long, "lines were longer than the limit for one event, and were cut", None);
                }
                known.took(next, used);
                pause = PAUSES.0;
                chunks += 1;
            }
            Err(refusal) if refusal.is_temporary() => {
                shared.monitor.wrong(SenderFault::PushedBack, refusal.to_string(), None);
                rests(&shared.stop, pause).await;
                pause = (pause * 2).min(PAUSES.1);
            }
            // Fewer at once may be taken; one that cannot be taken alone is passed over, and said.
            Err(refusal) => {
                shared.monitor.wrong(SenderFault::TooLarge, refusal.to_string(), None);
                if lines > 1 {
                    known.read_less();
                    continue;
                }
                let position = Position { id: next.id.clone(), content: serde_json::to_string(&next).ok() };
                let with = BodyMetadata { positions: vec![position], ..BodyMetadata::default() };
                if shared.sink.accept(&settings.name, Arc::default(), DeclaredFormat::Lines, with).await.is_ok() {
                    known.took(next, used);
                }
            }
        }
    }
    (known, !shared.stop.is_cancelled())
}

#[cfg(test)]
mod tests;
