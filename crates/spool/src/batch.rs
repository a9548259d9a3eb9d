//! What goes to a destination at once, and what became of it.

use std::sync::Arc;

use bytes::{Buf, Bytes};
use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;
use rockrose_event::buffers::{self, Buffer};
use rockrose_event::output::Origin;
use rockrose_ledger::{Amount, Measure, Selection};

use crate::SpoolError;
use crate::packed::checksum;
use crate::schema::{batch, entry};
use crate::unpacked::{Unpacked, UnpackedCache};

/// Fewest queue entries that one parcel may be made of.
const MIN_ENTRIES: i64 = 512;
/// Most of them.
const MAX_ENTRIES: i64 = 32_768;
/// So many of its bytes allow one more.
const BYTES_AN_ENTRY: i64 = 1_000;

/// Events due at one destination, in order, a line each.
#[derive(Debug)]
pub struct DeliveryBatch {
    destination: String,
    lines: Bytes,
    /// Where each line ends, its line end included.
    ends: Vec<usize>,
    pieces: Vec<Piece>,
    /// The frames of Zstandard that hold these very lines, until some of them are settled.
    frames: Option<Vec<Bytes>>,
}

/// The part of a queue entry that a parcel holds: the next `lines` of it.
#[derive(Debug)]
struct Piece {
    entry: i64,
    batch: i64,
    route: String,
    lines: usize,
    /// How many of its lines were settled before.
    done: i64,
    /// Whether the entry has no lines behind these.
    last: bool,
    queued_ms: i64,
}

/// How far one queue entry got.
#[derive(Debug)]
pub(crate) struct Progress {
    pub(crate) entry: i64,
    pub(crate) batch: i64,
    pub(crate) route: String,
    /// How many of its lines must be settled already.
    pub(crate) done: i64,
    pub(crate) lines: usize,
    pub(crate) amount: Amount,
    pub(crate) finished: bool,
}

/// What became of the front of a parcel, to be recorded by [`crate::Spool::settle`].
#[derive(Debug)]
pub struct Settlement {
    pub(crate) destination: String,
    pub(crate) at_ms: i64,
    pub(crate) progress: Vec<Progress>,
    pub(crate) refused: Option<String>,
    /// Of each event that was refused, its line.
    pub(crate) refused_lines: Vec<Bytes>,
    pub(crate) reached: Option<(String, u64)>,
    pub(crate) unnamed: Option<Unnamed>,
}

/// Events among those of a settlement that were refused for good, nobody knows which.
#[derive(Debug)]
pub(crate) struct Unnamed {
    pub(crate) events: i64,
    pub(crate) why: String,
    /// All events of the settlement, or the first of them.
    pub(crate) lines: Bytes,
}

/// Most that is kept of events some of which were refused, in bytes.
const MAX_UNNAMED: usize = 64 << 10;

impl Settlement {
    pub(crate) fn outcome_measure(&self) -> Measure {
        if self.refused.is_some() { Measure::Quarantined } else { Measure::Delivered }
    }

    /// One that covers no events.
    #[must_use]
    pub fn nothing(destination: &str, at_ms: i64) -> Settlement {
        Settlement { destination: destination.to_owned(), at_ms, progress: Vec::new(), refused: None, refused_lines: Vec::new(), reached: None, unnamed: None }
    }

    /// The events it covers.
    #[must_use]
    pub fn amount(&self) -> Amount {
        let mut sum = Amount::default();
        self.progress.iter().for_each(|p| sum += p.amount);
        sum
    }

    /// Notes that so many of these events, which the destination took else, were refused for good without a word on which. `lines` are all of them.
    #[must_use]
    pub fn but_for(mut self, events: u64, why: &str, mut lines: Bytes) -> Settlement {
        let all = self.amount().events;
        if lines.len() > MAX_UNNAMED {
            lines.truncate(memchr::memrchr(b'\n', &lines[..MAX_UNNAMED]).map_or(0, |end| end + 1));
        }
        let why = format!("of these {all} events {events} were refused, it does not say which: {why}");
        self.unnamed = Some(Unnamed { events: i64::try_from(events).unwrap_or(i64::MAX).min(all), why, lines });
        self
    }

    /// Notes how long the destination's file is once these events are in it.
    #[must_use]
    pub fn reaching(mut self, file: &str, length: u64) -> Settlement {
        self.reached = Some((file.to_owned(), length));
        self
    }
}

impl DeliveryBatch {
    /// At most `most` of its first `events`, evenly chosen, without their line ends.
    #[must_use]
    pub fn some(&self, events: usize, most: usize) -> Vec<Bytes> {
        let events = events.min(self.ends.len());
        let line = |at: usize| self.lines.slice(if at == 0 { 0 } else { self.ends[at - 1] }..self.ends[at] - 1);
        (0..most.min(events)).map(|n| line(n * events / most.min(events))).collect()
    }

    /// How many events are left in it.
    #[must_use]
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// The queue entries that it holds some of. Nobody else may take from them while it is under way.
    pub fn entries(&self) -> impl Iterator<Item = i64> + '_ {
        self.pieces.iter().map(|p| p.entry)
    }

    /// Whether all of it is settled.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// The first `events` events, a line each.
    #[must_use]
    pub fn front(&self, events: usize) -> Bytes {
        match events.min(self.ends.len()) {
            0 => Bytes::new(),
            n => self.lines.slice(..self.ends[n - 1]),
        }
    }

    /// The first `events` events as frames of Zstandard, one behind the other, if the queue holds just these so.
    #[must_use]
    pub fn frames(&self, events: usize) -> Option<&[Bytes]> {
        self.frames.as_deref().filter(|_| events == self.ends.len())
    }

    /// Where the first `events` events stand in their queue.
    #[must_use]
    pub fn origins(&self, events: usize) -> Vec<Origin> {
        let each = self
            .pieces
            .iter()
            .flat_map(|p| (0..p.lines as i64).map(|i| Origin { entry: p.entry, place: p.done + i, route: p.route.clone(), queued_ms: p.queued_ms }));
        each.take(events).collect()
    }

    /// Takes the first `events` events out as delivered (`refused` is `None`) or as refused for good, with the reason.
    #[must_use]
    pub fn settle(&mut self, events: usize, refused: Option<String>, at_ms: i64) -> Settlement {
        let events = events.min(self.ends.len());
        if events > 0 {
            self.frames = None;
        }
        let mut progress = Vec::new();
        let mut refused_lines = Vec::new();
        let (mut taken, mut start) = (0, 0);
        while taken < events {
            let piece = &mut self.pieces[0];
            let lines = piece.lines.min(events - taken);
            let mut amount = Amount::default();
            for end in &self.ends[taken..taken + lines] {
                let line = &self.lines[start..end - 1];
                amount.count(line.len());
                if refused.is_some() {
                    refused_lines.push(self.lines.slice(start..end - 1));
                }
                start = *end;
            }
            let finished = lines == piece.lines && piece.last;
            progress.push(Progress { entry: piece.entry, batch: piece.batch, route: piece.route.clone(), done: piece.done, lines, amount, finished });
            piece.lines -= lines;
            piece.done += lines as i64;
            taken += lines;
            if piece.lines == 0 {
                self.pieces.remove(0);
            }
        }
        self.lines.advance(start);
        self.ends.drain(..events);
        self.ends.iter_mut().for_each(|e| *e -= start);
        Settlement { destination: self.destination.clone(), at_ms, progress, refused, refused_lines, reached: None, unnamed: None }
    }
}

type Due = (i64, String, i64, Vec<u8>, i64, i64);

pub(crate) fn next(
    c: &mut SqliteConnection,
    kept: &UnpackedCache,
    destination: &str,
    max_bytes: usize,
    but: &[i64],
) -> Result<Option<DeliveryBatch>, SpoolError> {
    c.transaction(|c| {
        let free = || entry::table.filter(entry::destination.eq(destination).and(entry::id.ne_all(but))).order(entry::id);
        let sizes: Vec<(i64, i64)> =
            free().limit((max_bytes as i64 / BYTES_AN_ENTRY).clamp(MIN_ENTRIES, MAX_ENTRIES)).select((entry::id, entry::bytes + entry::events)).load(c)?;
        // As many as fit whole; but of one that is larger than a parcel, a part.
        let mut room = max_bytes as i64;
        let fit = sizes.iter().take_while(|(_, bytes)| {
            room -= bytes;
            room >= 0
        });
        let Some((last, _)) = sizes.get(fit.count().max(1) - 1).copied() else { return Ok(None) };
        let due: Vec<Due> =
            free().filter(entry::id.le(last)).select((entry::id, entry::route, entry::batch, entry::selection, entry::done, entry::queued_ms)).load(c)?;
        let mut parcel = DeliveryBatch { destination: destination.to_owned(), lines: Bytes::new(), ends: Vec::new(), pieces: Vec::new(), frames: None };
        let mut frames = Some(Vec::new());
        // Their bytes and a line end each; of one that is larger than a parcel, no more than that.
        let size: i64 = sizes.iter().take_while(|(id, _)| *id <= last).map(|(_, bytes)| bytes).sum();
        let mut gathered = Buffer::from(buffers::take((size as usize).min(max_bytes)));
        for (id, route, of, selection, done, queued_ms) in due {
            let unpacked = unpacked(c, kept, of)?;
            let (lines, ends) = (&unpacked.lines, unpacked.ends());
            let mut chosen = Vec::new();
            if !Selection::read(&selection, |l| chosen.push(l as usize)) || chosen.iter().any(|l| *l >= ends.len()) {
                return Err(SpoolError::Damaged(of));
            }
            let rest = chosen.get(done as usize..).unwrap_or_default();
            let is_all = rest.len() == ends.len() && rest.iter().enumerate().all(|(at, line)| at == *line);
            let mut took = 0;
            for &line in rest {
                let start = if line == 0 { 0 } else { ends[line - 1] };
                let text = &lines[start..ends[line]];
                if !parcel.ends.is_empty() && gathered.len() + text.len() > max_bytes {
                    break;
                }
                gathered.extend_from_slice(text);
                parcel.ends.push(gathered.len());
                took += 1;
            }
            if took > 0 {
                parcel.pieces.push(Piece { entry: id, batch: of, route, done, lines: took, last: took == rest.len(), queued_ms });
            }
            match (&mut frames, &unpacked.frame) {
                (Some(frames), Some(frame)) if is_all && took == rest.len() => frames.push(frame.clone()),
                _ if took > 0 => frames = None,
                _ => {}
            }
            if took < rest.len() {
                break;
            }
        }
        parcel.lines = Bytes::from_owner(gathered);
        parcel.frames = frames;
        Ok(if parcel.is_empty() { None } else { Some(parcel) })
    })
}

/// The lines of a batch.
fn unpacked(c: &mut SqliteConnection, kept: &UnpackedCache, of: i64) -> Result<Arc<Unpacked>, SpoolError> {
    if let Some(unpacked) = kept.get(of) {
        return Ok(unpacked);
    }
    type Row = (i32, i64, Vec<u8>, i64);
    let (packing, size, data, sum): Row = batch::table.find(of).select((batch::packing, batch::size, batch::data, batch::checksum)).first(c)?;
    if sum != 0 && sum != checksum(&data) {
        return Err(SpoolError::Damaged(of));
    }
    let (lines, frame) = match packing {
        0 => (data, None),
        1 => {
            let mut lines = buffers::take(size as usize);
            zstd::bulk::Decompressor::new().and_then(|mut d| d.decompress_to_buffer(&data, &mut lines)).map_err(|_| SpoolError::Damaged(of))?;
            (lines, Some(Bytes::from(data)))
        }
        other => return Err(SpoolError::storage(format!("a batch is compressed in an unknown way ({other})"))),
    };
    let unpacked = Arc::new(Unpacked::new(lines, frame));
    kept.put(of, &unpacked);
    Ok(unpacked)
}
