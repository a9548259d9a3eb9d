//! What steps hold back: repeats that are being merged, lines that are being joined, copies that are known.
//!
//! A [`Windows`] belongs to one step of a running plan. It notes which windows a batch touched, and once the batch is done each of them is copied, so that the
//! caller can keep it in the same transaction as the rest; what was kept is given back with `restore` after a crash. Windows close when they are due, when
//! the plan is exchanged and when the service stops: then what they hold goes on from the step behind.
//!
//! Between the work on a batch and its commit, nobody else may touch the windows that the batch can reach: the caller sees to that order, for each step's
//! windows by themselves.

use std::collections::HashMap;
use std::io::Write;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rockrose_event::field::{FieldTable, Path};
use rockrose_event::{json, scan};
use rockrose_ledger::{Amount, Stage, StepLocation, WindowState};
use xxhash_rust::xxh3::xxh3_128;

use crate::context::StepContext;
use crate::edit::EditBuffer;
use crate::effect::Effect;

/// The attributes that say how often a merged event came, and the times of its first and last occurrence.
const MERGED_COUNT: &str = "merged.count";
const MERGED_FIRST: &str = "merged.first";
const MERGED_LAST: &str = "merged.last";

/// Most windows that one step holds open. What comes past it goes on unmerged.
const MAX_WINDOWS: usize = 50_000;
/// Most that one step holds open, those included that hold nothing.
const MAX_MARKS: usize = 200_000;
/// Most bytes that all windows of one step hold, joined text and times included.
pub(crate) const MAX_BYTES: usize = 64 << 20;
/// Most bytes of joined text in one window.
const MAX_JOINED: usize = 256_000;
/// Most bytes of a time as its sender wrote it.
const MAX_TIME: usize = 64;

/// What goes on when the window closes: the event, with the text of all its lines, or with how often it came.
pub(crate) fn as_event(held: &WindowState) -> Vec<u8> {
    let json = held.json.as_bytes();
    let mut table = FieldTable::default();
    let names = ["message", MERGED_COUNT, MERGED_FIRST, MERGED_LAST].map(|name| table.want(&Path::name(name)));
    let mut slots = Vec::new();
    if held.count < 2 || scan::scan_edited(json, &table, &mut slots).is_err() {
        return json.to_vec();
    }
    let mut copy = EditBuffer::default();
    copy.load(json, &slots, false, &table);
    let quoted = |text: &str| {
        let mut token = Vec::new();
        json::quote(text.as_bytes(), &mut token);
        token
    };
    match &held.text {
        Some(text) => {
            copy.set(&table, names[0], &quoted(text));
        }
        None => {
            copy.set(&table, names[1], held.count.to_string().as_bytes());
            copy.set(&table, names[2], &quoted(&held.first));
            copy.set(&table, names[3], &quoted(&held.last));
        }
    }
    copy.json().to_vec()
}

/// The open windows of one step.
#[derive(Debug, Default)]
pub(crate) struct Windows {
    /// Its number among those of the plan, in the order of an event's way.
    number: u32,
    open: Mutex<OpenWindows>,
}

impl Windows {
    pub(crate) fn new(number: u32) -> Windows {
        Windows { number, open: Mutex::default() }
    }

    pub(crate) fn number(&self) -> usize {
        self.number as usize
    }

    pub(crate) fn lock(&self) -> MutexGuard<'_, OpenWindows> {
        self.open.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[derive(Debug)]
struct Slot {
    /// Its place in the order in which windows were opened.
    order: u64,
    /// The last batch that touched it.
    batch: u64,
    state: WindowState,
}

#[derive(Debug, Default)]
pub(crate) struct OpenWindows {
    slots: HashMap<u128, Slot>,
    opened: u64,
    /// The size of all states together.
    bytes: usize,
    /// Where the step stands, for each way by which events come to it.
    locations: Vec<Arc<StepLocation>>,
}

impl OpenWindows {
    /// What a window holds, if it is open.
    pub(crate) fn get(&self, id: u128) -> Option<&WindowState> {
        self.slots.get(&id).map(|slot| &slot.state)
    }

    /// Closes the windows that are due at `now_ms`; without a time, all that hold something. The one that is due first comes first.
    pub(crate) fn due(&mut self, now_ms: Option<i64>) -> Vec<(u128, WindowState)> {
        let mut due: Vec<(i64, u64, u128)> =
            self.slots.iter().filter(|(_, slot)| is_due(&slot.state, now_ms)).map(|(id, slot)| (slot.state.due_ms, slot.order, *id)).collect();
        due.sort_unstable();
        due.into_iter().filter_map(|(.., id)| Some((id, self.close(id)?.state))).collect()
    }

    /// Whether any window is due.
    pub(crate) fn any_due(&self, now_ms: Option<i64>) -> bool {
        self.slots.values().any(|slot| is_due(&slot.state, now_ms))
    }

    /// Takes back what a window held.
    pub(crate) fn restore(&mut self, id: u128, state: WindowState) {
        self.insert(id, state, 0);
    }

    pub(crate) fn clear(&mut self) {
        *self = OpenWindows::default();
    }

    fn insert(&mut self, id: u128, state: WindowState, batch: u64) {
        self.bytes += state.size();
        self.opened += 1;
        let slot = Slot { order: self.opened, batch, state };
        if let Some(before) = self.slots.insert(id, slot) {
            self.bytes -= before.state.size();
        }
    }

    fn has_room_for(&self, state: &WindowState) -> bool {
        let most = if state.is_mark() { MAX_MARKS } else { MAX_WINDOWS };
        self.slots.len() < most && self.bytes + state.size() <= MAX_BYTES
    }

    fn close(&mut self, id: u128) -> Option<Slot> {
        let slot = self.slots.remove(&id)?;
        self.bytes -= slot.state.size();
        Some(slot)
    }

    /// Where the step stands, for events that come as the present one does.
    fn location(&mut self, c: &StepContext<'_>) -> Arc<StepLocation> {
        let known = self.locations.iter().find(|l| l.source == c.place.source && l.via == c.place.via);
        if let Some(known) = known {
            return Arc::clone(known);
        }
        let fresh = Arc::new(c.location());
        self.locations.push(Arc::clone(&fresh));
        fresh
    }
}

fn is_due(state: &WindowState, now_ms: Option<i64>) -> bool {
    now_ms.map_or(!state.is_mark(), |now| state.due_ms <= now)
}

/// How one step uses its windows while it works on one event.
pub(crate) struct OpenStep<'w, 'c, 'p> {
    windows: MutexGuard<'w, OpenWindows>,
    number: u32,
    id: u128,
    pub(crate) c: &'c mut StepContext<'p>,
}

impl<'w, 'c, 'p> OpenStep<'w, 'c, 'p> {
    /// The window of the key in `c.buffers.key`. With `any_source`, events of all sources share their windows.
    pub(crate) fn new(windows: &'w Windows, any_source: bool, c: &'c mut StepContext<'p>) -> OpenStep<'w, 'c, 'p> {
        let id = id(any_source, c);
        OpenStep { windows: windows.lock(), number: windows.number, id, c }
    }

    /// What the window holds, if it is open.
    pub(crate) fn state(&self) -> Option<&WindowState> {
        self.windows.get(self.id)
    }

    /// Changes what the open window holds.
    fn update(&mut self, change: impl FnOnce(&mut WindowState)) {
        let OpenWindows { slots, bytes, .. } = &mut *self.windows;
        let Some(slot) = slots.get_mut(&self.id) else { return };
        let before = slot.state.size();
        change(&mut slot.state);
        *bytes = *bytes + slot.state.size() - before;
        if slot.batch != self.c.buffers.batch {
            slot.batch = self.c.buffers.batch;
            self.c.buffers.touched.push((self.number, self.id));
        }
    }

    /// Counts one more occurrence, the last one so far.
    pub(crate) fn count_repeat(&mut self, time: &str) {
        self.update(|state| {
            state.count += 1;
            state.last.clear();
            state.last.push_str(cut(time));
        });
    }

    /// Whether `line` can still be added to the text.
    pub(crate) fn has_room_for_line(&self, line: &[u8]) -> bool {
        let text = self.state().and_then(|state| state.text.as_ref()).map_or(0, String::len);
        text + line.len() < MAX_JOINED && self.windows.bytes + line.len() < MAX_BYTES
    }

    /// Adds a line of an event of so many bytes to the text, behind what stands between two.
    pub(crate) fn add_line(&mut self, between: &str, line: &str, event_bytes: usize, due_ms: i64) {
        self.update(|state| {
            if let Some(text) = &mut state.text {
                text.push_str(between);
                text.push_str(line);
            }
            state.events += 1;
            state.bytes += event_bytes as i64;
            state.count += 1;
            state.due_ms = due_ms;
        });
        self.c.tally.held.count(event_bytes);
    }

    /// Closes the window, if it is open, and returns what it held. What it held is not let go.
    pub(crate) fn close(&mut self) -> Option<WindowState> {
        let slot = self.windows.close(self.id)?;
        if slot.batch != self.c.buffers.batch {
            self.c.buffers.touched.push((self.number, self.id));
        }
        let amount = slot.state.amount();
        self.c.tally.held += Amount { events: -amount.events, bytes: -amount.bytes };
        Some(slot.state)
    }

    /// Closes the window, if it is open: what it held goes on once the present event is done.
    pub(crate) fn let_go(&mut self) {
        if let Some(state) = self.close()
            && !state.is_mark()
        {
            self.c.buffers.released.push(state);
        }
    }

    /// Opens the window as a mark: nothing is held, and what comes later is known to be a copy.
    pub(crate) fn open_mark(&mut self, due_ms: i64) -> Effect {
        let state = WindowState::mark(self.windows.location(self.c), due_ms);
        match self.open(state) {
            Effect::Held => Effect::None,
            full => full,
        }
    }

    /// Opens the window with an event, given as JSON, and what `more` adds to it.
    pub(crate) fn open_with(&mut self, json: &[u8], due_ms: i64, more: impl FnOnce(&mut WindowState)) -> Effect {
        let mut state = WindowState::of(self.windows.location(self.c), json, due_ms);
        more(&mut state);
        self.open(state)
    }

    /// Opens the window; where there is no room for another, the event goes on by itself.
    fn open(&mut self, state: WindowState) -> Effect {
        if !self.windows.has_room_for(&state) {
            return Effect::Failed;
        }
        self.c.tally.held += state.amount();
        self.windows.insert(self.id, state, self.c.buffers.batch);
        self.c.buffers.touched.push((self.number, self.id));
        Effect::Held
    }
}

/// A time as it is kept, of at most [`MAX_TIME`] bytes.
pub(crate) fn cut(time: &str) -> &str {
    let mut end = time.len().min(MAX_TIME);
    while !time.is_char_boundary(end) {
        end -= 1;
    }
    &time[..end]
}

/// The id of the window of a step and a key. It is kept with the window, so it must stay as it is from version to version.
fn id(any_source: bool, c: &mut StepContext<'_>) -> u128 {
    // At a route, events come by their source.
    let via = if any_source && c.place.stage == Stage::Route { "" } else { c.place.via };
    let source = if any_source { "" } else { c.place.source };
    let (stage, name, sentence, position) = (c.place.stage.word(), c.place.name, c.sentence, c.position + 1);
    let text = &mut c.buffers.window;
    text.clear();
    for part in [source, stage, name, via] {
        text.extend_from_slice(part.as_bytes());
        text.push(0x1f);
    }
    // Writing to memory does not fail.
    let _ = write!(text, "{position}\u{1f}{sentence}\u{1f}");
    text.extend_from_slice(&c.buffers.key);
    xxh3_128(text)
}
