//! Counts messages by their skeletons: what is left of a message when all that shows by itself that it varies is left out.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, Hasher};

use crate::pattern::{self, Pattern};
use crate::pieces::{Kind, LONGEST, Piece, cut};
use crate::settle::{Group, settle};
use crate::trend::Trend;

/// Memory that a miner takes if nothing else is said, in bytes.
pub const BUDGET: usize = 8 << 20;
/// Most writings of one skeleton that are told apart.
const MOST_SHAPES: usize = 8;
/// Longest example that is kept, in bytes.
const LONGEST_EXAMPLE: usize = 1_024;
/// Most origins that are told apart in one skeleton.
const MOST_ORIGINS: usize = 16;
/// What an entry takes beside its examples, in bytes, roughly.
const ENTRY: usize = 700;
/// Times are kept within this, in milliseconds around 1970: some 285 000 years.
const FAR: i64 = 1 << 53;

/// How grave a message is, for counting: unknown, or one of the six ranges of the OpenTelemetry log data model from trace to fatal.
pub const SEVERITIES: usize = 7;

/// Where a message came from, as a miner numbers it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Origin(u16);

/// A message to be counted.
#[derive(Clone, Copy, Debug)]
pub struct Line<'a> {
    /// The message itself.
    pub text: &'a [u8],
    /// When, in milliseconds since 1970.
    pub at_ms: i64,
    /// How many messages it stands for.
    pub times: u64,
    /// How grave it is: 0 for unknown, 1 to 6 from trace to fatal.
    pub severity: u8,
    /// Where it came from.
    pub from: Origin,
}

/// What was counted of messages that are alike.
#[derive(Clone, Debug)]
pub(crate) struct Tally {
    pub(crate) times: u64,
    pub(crate) bytes: u64,
    pub(crate) first_ms: i64,
    pub(crate) last_ms: i64,
    pub(crate) severities: [u64; SEVERITIES],
    pub(crate) origins: Vec<(u16, u64)>,
    pub(crate) trend: Trend,
}

impl Tally {
    fn new(line: &Line<'_>) -> Tally {
        let mut severities = [0; SEVERITIES];
        severities[usize::from(line.severity).min(SEVERITIES - 1)] = line.times;
        Tally {
            times: line.times,
            bytes: line.times * line.text.len() as u64,
            first_ms: line.at_ms,
            last_ms: line.at_ms,
            severities,
            origins: vec![(line.from.0, line.times)],
            trend: Trend::new(line.at_ms, line.times),
        }
    }

    fn add(&mut self, line: &Line<'_>) {
        self.times += line.times;
        self.bytes += line.times * line.text.len() as u64;
        self.first_ms = self.first_ms.min(line.at_ms);
        self.last_ms = self.last_ms.max(line.at_ms);
        self.severities[usize::from(line.severity).min(SEVERITIES - 1)] += line.times;
        self.came_from(line.from.0, line.times);
        self.trend.add(line.at_ms, line.times);
    }

    fn came_from(&mut self, from: u16, times: u64) {
        if let Some((_, count)) = self.origins.iter_mut().find(|(origin, _)| *origin == from) {
            *count += times;
        } else if self.origins.len() < MOST_ORIGINS {
            self.origins.push((from, times));
        }
    }

    pub(crate) fn merge(&mut self, other: &Tally) {
        self.times += other.times;
        self.bytes += other.bytes;
        self.first_ms = self.first_ms.min(other.first_ms);
        self.last_ms = self.last_ms.max(other.last_ms);
        for (mine, theirs) in self.severities.iter_mut().zip(other.severities) {
            *mine += theirs;
        }
        other.origins.iter().for_each(|(from, times)| self.came_from(*from, *times));
        self.trend.merge(&other.trend);
    }
}

/// One writing of a skeleton: with this white space, these units.
#[derive(Clone, Debug)]
pub(crate) struct Shape {
    hash: u64,
    /// The writing with each of a list's members by itself.
    full: u64,
    /// Whether all had as many members.
    pub(crate) is_even: bool,
    pub(crate) times: u64,
    pub(crate) example: Box<[u8]>,
    /// For each element that varies by itself, what it was made of: a bit for each sort.
    pub(crate) sorts: Box<[u16]>,
}

impl Shape {
    /// Whether the example is the beginning of a longer message.
    pub(crate) fn is_cut(&self) -> bool {
        self.example.len() >= LONGEST_EXAMPLE
    }
}

/// A skeleton, and what was counted of it.
#[derive(Clone, Debug)]
pub(crate) struct Skeleton {
    pub(crate) tally: Tally,
    pub(crate) shapes: Vec<Shape>,
    /// The elements that were found to vary before, by comparing it with others.
    pub(crate) wild: Vec<u16>,
    /// All that was left of it is one stretch from this element on.
    pub(crate) rest: Option<u16>,
}

impl Skeleton {
    pub(crate) fn example(&self) -> &[u8] {
        self.shapes.first().map_or(&[], |shape| &shape.example)
    }

    fn size(&self) -> usize {
        ENTRY + self.shapes.iter().map(|shape| shape.example.len() + 64).sum::<usize>()
    }

    fn write(&mut self, shape: Shape) {
        if let Some(known) = self.shapes.iter_mut().find(|known| known.hash == shape.hash) {
            known.times += shape.times;
            known.is_even &= shape.is_even && known.full == shape.full;
            known.sorts.iter_mut().zip(&shape.sorts).for_each(|(mine, theirs)| *mine |= theirs);
        } else if self.shapes.len() < MOST_SHAPES {
            self.shapes.push(shape);
        }
    }
}

/// A hash that is one already.
#[derive(Default)]
struct AsItIs(u64);

impl Hasher for AsItIs {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, _: &[u8]) {}

    fn write_u64(&mut self, hash: u64) {
        self.0 = hash;
    }
}

/// Finds the patterns of messages, in bounded memory.
pub struct Miner {
    skeletons: HashMap<u64, Skeleton, BuildHasherDefault<AsItIs>>,
    origins: Vec<String>,
    pieces: Vec<Piece>,
    /// What each element that varies is made of, of the message at hand.
    sorts: Vec<u16>,
    size: usize,
    budget: usize,
    /// What was counted of skeletons that there was no room for.
    others: (u64, u64),
}

impl Miner {
    /// One that takes about `budget` bytes of memory.
    #[must_use]
    pub fn new(budget: usize) -> Miner {
        Miner {
            skeletons: HashMap::default(),
            origins: Vec::new(),
            pieces: Vec::new(),
            sorts: Vec::new(),
            size: 0,
            budget: budget.max(64 << 10),
            others: (0, 0),
        }
    }

    /// The number of a place that messages come from.
    pub fn origin(&mut self, name: &str) -> Origin {
        let known = self.origins.iter().position(|origin| origin == name).unwrap_or_else(|| {
            self.origins.push(name.to_owned());
            self.origins.len() - 1
        });
        Origin(known.min(usize::from(u16::MAX)) as u16)
    }

    /// Counts a message.
    pub fn add(&mut self, line: &Line<'_>) {
        let line = Line { at_ms: line.at_ms.clamp(-FAR, FAR), ..*line };
        cut(line.text, &mut self.pieces);
        let hashes = hashes(line.text, &self.pieces, &mut self.sorts);
        if let Some(known) = self.skeletons.get_mut(&hashes.key) {
            known.tally.add(&line);
            // Most are written as the one before.
            if let Some(shape) = known.shapes.iter_mut().find(|shape| shape.hash == hashes.shape) {
                shape.times += line.times;
                shape.is_even &= shape.full == hashes.full;
                shape.sorts.iter_mut().zip(&self.sorts).for_each(|(mine, theirs)| *mine |= theirs);
                return;
            }
            let before = known.size();
            known.write(shape(&line, &hashes, &self.sorts));
            self.size += known.size() - before;
        } else {
            let skeleton = Skeleton { tally: Tally::new(&line), shapes: vec![shape(&line, &hashes, &self.sorts)], wild: Vec::new(), rest: None };
            self.size += skeleton.size();
            self.skeletons.insert(hashes.key, skeleton);
        }
        if self.size > self.budget {
            self.compact();
        }
    }

    /// Adds what another miner has counted.
    pub fn merge(&mut self, other: &Miner) {
        let origins: Vec<u16> = other.origins.iter().map(|name| self.origin(name).0).collect();
        for (key, theirs) in &other.skeletons {
            let mut theirs = theirs.clone();
            theirs.tally.origins.iter_mut().for_each(|(from, _)| *from = origins.get(usize::from(*from)).copied().unwrap_or(*from));
            self.put(*key, theirs);
        }
        self.others = (self.others.0 + other.others.0, self.others.1 + other.others.1);
        if self.size > self.budget {
            self.compact();
        }
    }

    fn put(&mut self, key: u64, theirs: Skeleton) {
        match self.skeletons.entry(key) {
            std::collections::hash_map::Entry::Vacant(room) => {
                self.size += theirs.size();
                room.insert(theirs);
            }
            std::collections::hash_map::Entry::Occupied(mut mine) => {
                let mine = mine.get_mut();
                let before = mine.size();
                mine.tally.merge(&theirs.tally);
                theirs.shapes.into_iter().for_each(|shape| mine.write(shape));
                mine.wild.extend(theirs.wild);
                mine.wild.sort_unstable();
                mine.wild.dedup();
                mine.rest = match (mine.rest, theirs.rest) {
                    (Some(a), Some(b)) => Some(a.min(b)),
                    (a, b) => a.or(b),
                };
                self.size += mine.size() - before;
            }
        }
    }

    /// Puts together what belongs to one pattern; what is rarest goes, if that is not enough.
    fn compact(&mut self) {
        let settled = settle(&self.in_order());
        let mut all = std::mem::take(&mut self.skeletons);
        self.size = 0;
        for group in settled {
            let mut members = group.members.iter().filter_map(|key| all.remove(key));
            let Some(mut whole) = members.next() else { continue };
            for member in members {
                whole.tally.merge(&member.tally);
                let room = MOST_SHAPES.saturating_sub(whole.shapes.len());
                whole.shapes.extend(member.shapes.into_iter().take(room));
            }
            whole.wild = group.wild;
            whole.rest = group.rest;
            self.put(group.members[0], whole);
        }
        if self.size > self.budget / 2 {
            let mut rarest: Vec<(u64, i64, u64)> = self.skeletons.iter().map(|(key, s)| (s.tally.times, s.tally.last_ms, *key)).collect();
            rarest.sort_unstable();
            for (_, _, key) in rarest {
                if self.size <= self.budget / 2 {
                    break;
                }
                if let Some(gone) = self.skeletons.remove(&key) {
                    self.size -= gone.size();
                    self.others = (self.others.0 + gone.tally.times, self.others.1 + gone.tally.bytes);
                }
            }
        }
    }

    /// All skeletons, in an order that does not depend on the one in which they came.
    fn in_order(&self) -> Vec<(u64, &Skeleton)> {
        let mut all: Vec<(u64, &Skeleton)> = self.skeletons.iter().map(|(key, skeleton)| (*key, skeleton)).collect();
        all.sort_unstable_by_key(|(key, _)| *key);
        all
    }

    /// The patterns of what was counted, the most frequent first.
    #[must_use]
    pub fn patterns(&self) -> Patterns {
        let of = |group: Group| (pattern::build(&group, |key| &self.skeletons[&key], &self.origins), group.members);
        let mut all: Vec<(Pattern, Vec<u64>)> = settle(&self.in_order()).into_iter().map(of).collect();
        all.sort_by(|(a, _), (b, _)| b.times.cmp(&a.times).then_with(|| a.id.cmp(&b.id)));
        let by_skeleton = all.iter().enumerate().flat_map(|(at, (_, members))| members.iter().map(move |key| (*key, at))).collect();
        Patterns { list: all.into_iter().map(|(pattern, _)| pattern).collect(), by_skeleton }
    }

    /// Messages and bytes that were counted and belong to no pattern, since there was no room for theirs.
    #[must_use]
    pub fn others(&self) -> (u64, u64) {
        self.others
    }

    /// About how much memory is taken, in bytes.
    #[must_use]
    pub fn size(&self) -> usize {
        self.size
    }
}

/// The patterns that a miner has found.
#[derive(Clone, Debug)]
pub struct Patterns {
    /// The most frequent first.
    pub list: Vec<Pattern>,
    by_skeleton: HashMap<u64, usize, BuildHasherDefault<AsItIs>>,
}

impl Patterns {
    /// Which of them a message is of, by its place in the list; nothing, if the miner has not seen its like, or had no room for it.
    #[must_use]
    pub fn of(&self, text: &[u8]) -> Option<usize> {
        let (mut pieces, mut sorts) = (Vec::new(), Vec::new());
        cut(text, &mut pieces);
        self.by_skeleton.get(&hashes(text, &pieces, &mut sorts).key).copied()
    }
}

fn shape(line: &Line<'_>, hashes: &Hashes, sorts: &[u16]) -> Shape {
    let example = &line.text[..line.text.len().min(LONGEST_EXAMPLE).min(LONGEST)];
    Shape { hash: hashes.shape, full: hashes.full, is_even: true, times: line.times, example: example.into(), sorts: sorts.into() }
}

/// What messages of one skeleton have in common.
pub(crate) fn key_of(text: &[u8]) -> u64 {
    thread_local! {
        static ROOM: std::cell::RefCell<(Vec<Piece>, Vec<u16>)> = std::cell::RefCell::default();
    }
    ROOM.with_borrow_mut(|(pieces, sorts)| {
        cut(text, pieces);
        hashes(text, pieces, sorts).key
    })
}

/// What a message is known by.
struct Hashes {
    /// Its skeleton.
    key: u64,
    /// How that is written.
    shape: u64,
    /// The same with each of a list's members.
    full: u64,
}

fn mix(hash: u64, with: u64) -> u64 {
    (hash.rotate_left(5) ^ with).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}

fn of_word(word: &[u8]) -> u64 {
    let eight = |at: usize| word.get(at..at + 8).and_then(|b| b.try_into().ok()).map_or(0, u64::from_le_bytes);
    let four = |at: usize| u64::from(word.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_le_bytes));
    let length = word.len();
    let mut hash = length as u64;
    match length {
        0 => {}
        1..4 => hash = mix(hash, u64::from(word[0]) | u64::from(word[length / 2]) << 8 | u64::from(word[length - 1]) << 16),
        4..8 => hash = mix(hash, four(0) | four(length - 4) << 32),
        _ => {
            let mut at = 0;
            while at + 8 < length {
                hash = mix(hash, eight(at));
                at += 8;
            }
            // The last eight, which may be looked at twice.
            hash = mix(hash, eight(length - 8));
        }
    }
    hash
}

/// Of what an element that varies is made, beside its sorts: one piece, two, three, or more.
pub(crate) const ONE: u16 = 1 << 12;
pub(crate) const MANY: u16 = 1 << 15;

const VAR: u64 = 1;
const COMMA: u64 = 2 + b',' as u64;

fn hashes(text: &[u8], pieces: &[Piece], sorts: &mut Vec<u16>) -> Hashes {
    sorts.clear();
    let (mut key, mut shape, mut full) = (0x51, 0x52, 0x53);
    let mut end = 0;
    // Whether what came last varies, and a comma stands behind it.
    let (mut in_var, mut comma) = (false, false);
    for piece in pieces {
        let gap = u64::from(piece.start - end);
        end = piece.end;
        let code = match piece.kind {
            Kind::Var(_) => VAR,
            Kind::Mark(mark) => 2 + u64::from(mark),
            Kind::Word | Kind::Unit => of_word(piece.of(text)),
        };
        full = mix(mix(full, gap), code);
        match piece.kind {
            Kind::Var(sort) if in_var => {
                if let Some(last) = sorts.last_mut() {
                    let had = (*last & !(ONE - 1)) << 1;
                    *last = *last & (ONE - 1) | 1 << sort as u16 | if had == 0 { MANY } else { had };
                }
                comma = false;
                continue;
            }
            Kind::Mark(b',') if in_var && !comma => {
                comma = true;
                continue;
            }
            Kind::Var(sort) => sorts.push(ONE | 1 << sort as u16),
            Kind::Unit => {
                shape = mix(mix(shape, gap), code);
                continue;
            }
            _ => {}
        }
        if comma {
            key = mix(key, COMMA);
            shape = mix(shape, COMMA);
            comma = false;
        }
        key = mix(key, code);
        shape = mix(mix(shape, gap), code);
        in_var = code == VAR;
    }
    if comma {
        key = mix(key, COMMA);
        shape = mix(shape, COMMA);
    }
    Hashes { key: key ^ key >> 32, shape, full }
}

/// An element of a skeleton: where it stands among the pieces, and what it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Element {
    pub(crate) first: u16,
    /// One behind its last piece.
    pub(crate) end: u16,
    pub(crate) is_var: bool,
}

/// The elements of a skeleton: its pieces, but that what varies is one with what varies beside it. It must be as [`hashes`] has it.
pub(crate) fn elements(pieces: &[Piece]) -> Vec<Element> {
    let mut elements: Vec<Element> = Vec::new();
    let mut comma: Option<u16> = None;
    for (i, piece) in pieces.iter().enumerate() {
        let i = i as u16;
        let in_var = elements.last().is_some_and(|e| e.is_var);
        match piece.kind {
            Kind::Var(_) if in_var => {
                comma = None;
                if let Some(last) = elements.last_mut() {
                    last.end = i + 1;
                }
                continue;
            }
            Kind::Mark(b',') if in_var && comma.is_none() => {
                comma = Some(i);
                continue;
            }
            Kind::Unit => continue,
            _ => {}
        }
        if let Some(at) = comma.take() {
            elements.push(Element { first: at, end: at + 1, is_var: false });
        }
        elements.push(Element { first: i, end: i + 1, is_var: matches!(piece.kind, Kind::Var(_)) });
    }
    if let Some(at) = comma {
        elements.push(Element { first: at, end: at + 1, is_var: false });
    }
    elements
}
