//! What steps hold back: repeats that are being merged, lines that are being joined.
//!
//! A [`Windows`] belongs to one step of a running plan. Each batch says how its windows changed ([`WindowChange`]), so that the caller can keep them in the same
//! transaction as the rest; what was kept is given back with `restore` after a crash. Windows close when they are due, when the plan is exchanged and when the service stops: then
//! what they hold goes on from the step behind.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use rockrose_event::field::{FieldTable, Path};
use rockrose_event::{json, scan};
use rockrose_ledger::{Place, StepLocation, WindowState};
use xxhash_rust::xxh3::xxh3_128;

use super::work::Work;

/// The attributes that say how often a merged event came, and the times of its first and last occurrence.
const MERGED_COUNT: &str = "merged.count";
const MERGED_FIRST: &str = "merged.first";
const MERGED_LAST: &str = "merged.last";

/// Most windows one step holds open. What comes past it goes on unmerged.
const MAX_WINDOWS: usize = 50_000;
/// Most that one step holds open, those included that hold nothing.
const MAX_MARKS: usize = 200_000;
/// Most bytes that all windows of one step hold.
const MAX_BYTES: usize = 64 << 20;
/// Most bytes of joined text.
pub(super) const MAX_JOINED: usize = 256_000;

/// What goes on when the window closes: the event, with the text of all its lines, or with how often it came.
pub(super) fn as_event(held: &WindowState) -> Vec<u8> {
    let json = held.json.as_bytes();
    let mut table = FieldTable::default();
    let names = ["message", MERGED_COUNT, MERGED_FIRST, MERGED_LAST].map(|name| table.want(&Path::name(name)));
    let mut slots = Vec::new();
    if held.count < 2 || scan::scan_edited(json, &table, &mut slots).is_err() {
        return json.to_vec();
    }
    let mut work = Work::default();
    work.load(json, &slots, false, &table);
    let quoted = |text: &str| {
        let mut token = Vec::new();
        json::quote(text.as_bytes(), &mut token);
        token
    };
    match &held.text {
        Some(text) => {
            work.set(&table, names[0], &quoted(text));
        }
        None => {
            work.set(&table, names[1], held.count.to_string().as_bytes());
            work.set(&table, names[2], &quoted(&held.first));
            work.set(&table, names[3], &quoted(&held.last));
        }
    }
    work.json().to_vec()
}

/// The open windows of one step.
#[derive(Debug, Default)]
pub(super) struct Windows {
    open: Mutex<Open>,
}

#[derive(Debug, Default)]
pub(super) struct Open {
    /// Each with its place in the order in which they were opened.
    windows: HashMap<u128, (u64, WindowState)>,
    opened: u64,
    bytes: usize,
}

/// The window of a step and a key.
pub(super) fn id(stand: &StepLocation, key: &[u8]) -> u128 {
    let mut text = Vec::with_capacity(key.len() + 200);
    for part in [stand.source.as_str(), stand.place.word(), &stand.name, &stand.via, &stand.position.to_string(), &stand.sentence] {
        text.extend_from_slice(part.as_bytes());
        text.push(0x1f);
    }
    text.extend_from_slice(key);
    xxh3_128(&text)
}

/// The same for a step that takes events of all sources for one stream.
pub(super) fn id_of_any_source(stand: &StepLocation, key: &[u8]) -> u128 {
    // At a route, events come by their source.
    let via = if stand.place == Place::Route { String::new() } else { stand.via.clone() };
    id(&StepLocation { source: String::new(), via, ..stand.clone() }, key)
}

impl Windows {
    pub(super) fn lock(&self) -> MutexGuard<'_, Open> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Open {
    pub(super) fn get_mut(&mut self, id: u128) -> Option<&mut WindowState> {
        self.windows.get_mut(&id).map(|(_, held)| held)
    }

    /// Opens a window, if there is room for one more.
    pub(super) fn open(&mut self, id: u128, held: WindowState) -> bool {
        let most = if held.is_mark() { MAX_MARKS } else { MAX_WINDOWS };
        if self.windows.len() >= most || self.bytes + held.json.len() > MAX_BYTES {
            return false;
        }
        self.restore(id, held);
        true
    }

    pub(super) fn close(&mut self, id: u128) -> Option<WindowState> {
        let (_, held) = self.windows.remove(&id)?;
        self.bytes = self.bytes.saturating_sub(held.json.len());
        Some(held)
    }

    /// Closes the windows that are due at `now_ms`; without a time, all that hold something. The one due first comes first.
    pub(super) fn due(&mut self, now_ms: Option<i64>) -> Vec<(u128, WindowState)> {
        let is_due = |held: &WindowState| now_ms.map_or(!held.is_mark(), |now| held.due_ms <= now);
        let mut due: Vec<(i64, u64, u128)> = self.windows.iter().filter(|(_, (_, h))| is_due(h)).map(|(id, (order, h))| (h.due_ms, *order, *id)).collect();
        due.sort_unstable();
        due.into_iter().filter_map(|(.., id)| Some((id, self.close(id)?))).collect()
    }

    pub(super) fn restore(&mut self, id: u128, held: WindowState) {
        self.bytes += held.json.len();
        self.opened += 1;
        self.windows.insert(id, (self.opened, held));
    }

    pub(super) fn clear(&mut self) {
        *self = Open::default();
    }
}
