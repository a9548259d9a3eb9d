//! The index of an object.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use rockrose_event::field::names_of;
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::scan;
use rockrose_event::usual::Usual;
use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::xxh3_64;

/// Most fields that an index speaks of.
const MAX_FIELDS: usize = 64;
/// Most values of a field that are listed.
const MAX_LISTED: usize = 32;
/// Longest value that is listed, in bytes.
const MAX_VALUE: usize = 128;
/// Most fields that have a filter.
const MAX_FILTERS: usize = 8;
/// Most values in a filter.
const MAX_FILTERED: usize = 20_000;
/// Bits of a filter for each value: one in a hundred values that are not there seems to be.
const BITS: usize = 10;
/// How many bits a value sets.
const HASHES: u32 = 7;
/// Deepest members that are spoken of.
const MAX_DEPTH: usize = 2;

/// What an object has. Written as JSON beside it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Index {
    /// The object's name in its folder.
    pub object: String,
    /// Its format: `json lines` or `parquet`.
    pub format: String,
    /// How many events it has.
    pub events: u64,
    /// Their bytes before compression, line ends included.
    pub bytes: u64,
    /// Its own size in bytes.
    pub size: u64,
    /// The earliest and the latest time of its events, RFC 3339 in UTC; missing if none has a time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub times: Option<(String, String)>,
    /// How many of its events have no time.
    pub without_time: u64,
    /// For JSON lines, parts that can each be decompressed alone.
    pub blocks: Vec<Block>,
    /// Its fields, by their paths. One that is not here may still be in it, if `more_fields` is set.
    pub fields: BTreeMap<String, FieldIndex>,
    /// There were more fields than are listed.
    pub more_fields: bool,
}

/// A part of an object that can be read alone.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Block {
    /// Where it begins in the object, in bytes.
    pub offset: u64,
    /// How long it is there, in bytes.
    pub size: u64,
    /// How many events it has.
    pub events: u64,
    /// The earliest and the latest time of them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub times: Option<(String, String)>,
}

/// What is known of one field's values in an object.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FieldIndex {
    /// All values that the field has in the object.
    Values(BTreeSet<String>),
    /// Which are not among them.
    Filter(Filter),
    /// Nothing: they are too many.
    Many,
}

/// A Bloom filter. Value `v` sets the bits `(h + i · g) mod bits` for `i` below `hashes`, where `h` is the lower half of XXH3-64 of its text and `g` the upper, made odd.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Filter {
    /// How many bits a value sets.
    pub hashes: u32,
    /// The bits, eight to a byte, the lowest first; in base64.
    pub bits: String,
}

impl Filter {
    fn of(values: &HashSet<u64>) -> Filter {
        let mut bits = vec![0u8; (values.len() * BITS).div_ceil(8).max(1)];
        for value in values {
            for at in places(*value, HASHES, bits.len() * 8) {
                bits[at / 8] |= 1 << (at % 8);
            }
        }
        Filter { hashes: HASHES, bits: BASE64_STANDARD.encode(bits) }
    }

    /// Whether `value` may be among the values.
    #[must_use]
    pub fn may_have(&self, value: &str) -> bool {
        // What cannot be read says nothing.
        let Ok(bits) = BASE64_STANDARD.decode(&self.bits) else { return true };
        places(xxh3_64(value.as_bytes()), self.hashes, bits.len() * 8).all(|at| bits.get(at / 8).is_none_or(|b| b >> (at % 8) & 1 == 1))
    }
}

fn places(hash: u64, hashes: u32, bits: usize) -> impl Iterator<Item = usize> {
    let (h, g) = (hash & 0xffff_ffff, (hash >> 32) | 1);
    (0..u64::from(hashes)).map(move |i| (h.wrapping_add(i.wrapping_mul(g)) % bits.max(1) as u64) as usize)
}

impl FieldIndex {
    /// Whether an event with this value of the field may be in the object.
    #[must_use]
    pub fn may_have(&self, value: &str) -> bool {
        match self {
            FieldIndex::Values(values) => values.contains(value),
            FieldIndex::Filter(filter) => filter.may_have(value),
            FieldIndex::Many => true,
        }
    }
}

#[derive(Default)]
struct Field {
    values: BTreeSet<String>,
    hashes: HashSet<u64>,
    /// A value was too long to be listed.
    unlisted: bool,
    many: bool,
}

#[derive(Clone, Copy, Default)]
struct Times {
    earliest: Option<jiff::Timestamp>,
    latest: Option<jiff::Timestamp>,
}

impl Times {
    fn add(&mut self, at: jiff::Timestamp) {
        self.earliest = Some(self.earliest.map_or(at, |t| t.min(at)));
        self.latest = Some(self.latest.map_or(at, |t| t.max(at)));
    }

    fn written(self) -> Option<(String, String)> {
        Some((self.earliest?.to_string(), self.latest?.to_string()))
    }
}

/// Makes the index of one object from its events.
pub struct Indexer {
    usual: Usual,
    index: Index,
    fields: BTreeMap<String, Field>,
    all: Times,
    block: Times,
    in_block: u64,
    /// The names under which messages stand.
    messages: &'static [&'static str],
}

impl Default for Indexer {
    fn default() -> Self {
        Indexer {
            usual: Usual::new(&[]),
            index: Index::default(),
            fields: BTreeMap::new(),
            all: Times::default(),
            block: Times::default(),
            in_block: 0,
            messages: names_of("message"),
        }
    }
}

impl Indexer {
    /// Adds an event; returns its time, if it has one. `now_ms` completes times that name no year.
    pub fn add(&mut self, event: &[u8], now_ms: i64) -> Option<jiff::Timestamp> {
        self.index.events += 1;
        self.index.bytes += event.len() as u64 + 1;
        self.in_block += 1;
        self.usual.read(event);
        let at = self.usual.time(event, now_ms);
        match at {
            Some(at) => {
                self.all.add(at);
                self.block.add(at);
            }
            None => self.index.without_time += 1,
        }
        self.members(event, Span { start: 0, end: event.len() as u32, kind: Kind::Object }, "", MAX_DEPTH);
        at
    }

    fn members(&mut self, event: &[u8], object: Span, prefix: &str, depth: usize) {
        let mut scratch = Vec::new();
        for (key, value) in scan::members(event, object) {
            let mut name = Vec::new();
            json::unescape(&event[key.start as usize + 1..key.end as usize - 1], &mut name);
            let path = format!("{prefix}{}", String::from_utf8_lossy(&name));
            match value.kind {
                Kind::Object if depth > 1 => self.members(event, value, &format!("{path}."), depth - 1),
                Kind::Object | Kind::Array | Kind::Null => {}
                _ => {
                    let text = json::text(event, value, &mut scratch);
                    self.value(&path, text);
                }
            }
        }
    }

    fn value(&mut self, path: &str, text: &[u8]) {
        if !self.fields.contains_key(path) {
            if self.fields.len() >= MAX_FIELDS {
                self.index.more_fields = true;
                return;
            }
            self.fields.insert(path.to_owned(), Field::default());
        }
        let Some(field) = self.fields.get_mut(path).filter(|f| !f.many) else { return };
        if field.values.len() > MAX_LISTED && self.messages.contains(&path) {
            // Messages are searched for words, not for what they are as a whole.
            *field = Field { many: true, ..Field::default() };
            return;
        }
        let text = String::from_utf8_lossy(text);
        if text.len() > MAX_VALUE {
            field.unlisted = true;
        } else if field.values.len() <= MAX_LISTED && !field.values.contains(text.as_ref()) {
            field.values.insert(text.clone().into_owned());
        }
        field.hashes.insert(xxh3_64(text.as_bytes()));
        if field.hashes.len() > MAX_FILTERED {
            *field = Field { many: true, ..Field::default() };
        }
    }

    /// Ends a block that stands at `offset` and is so long in the object.
    pub fn end_block(&mut self, offset: u64, size: u64) {
        let times = std::mem::take(&mut self.block).written();
        self.index.blocks.push(Block { offset, size, events: std::mem::take(&mut self.in_block), times });
    }

    /// The index of the object of this name, format and size.
    #[must_use]
    pub fn finish(mut self, object: &str, format: &str, size: u64) -> Index {
        (self.index.object, self.index.format, self.index.size) = (object.to_owned(), format.to_owned(), size);
        self.index.times = self.all.written();
        let mut filters = 0;
        for (path, field) in self.fields {
            let known = if field.many {
                FieldIndex::Many
            } else if field.values.len() <= MAX_LISTED && !field.unlisted {
                FieldIndex::Values(field.values)
            } else if filters < MAX_FILTERS {
                filters += 1;
                FieldIndex::Filter(Filter::of(&field.hashes))
            } else {
                FieldIndex::Many
            };
            self.index.fields.insert(path, known);
        }
        self.index
    }
}
