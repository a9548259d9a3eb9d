//! What a scan remembers of the records before.
//!
//! Senders write the same members in the same order, so what stands between two values (a comma, the next member's name, its colon, and whatever blanks the
//! sender's writer puts there) is nearly always known from the record before, and one comparison tells all of it.

use crate::field::{FieldTable, NONE};
use crate::json::Span;
use crate::simd;

/// Most bytes between two values that a guide remembers.
const GUIDED: usize = 32;
/// Most of them that a guide remembers; past that it begins anew.
const GUIDED_STEPS: usize = 512;
/// How many different ones it remembers to have followed one.
const WAYS: usize = 4;

/// Which member followed which in the records before: a memory that one thread keeps from record to record.
#[derive(Debug, Default)]
pub struct Guide {
    /// The table whose slots it remembers.
    table: u64,
    steps: Vec<Step>,
    /// Open-addressed, by bytes and place: number in `steps` plus one; 0 is free.
    index: Vec<u16>,
    /// What was read last; its `next` is what is expected now.
    pub(super) last: usize,
}

/// What stood between two values, what it means, and what came after it.
#[derive(Clone, Copy, Debug)]
#[repr(align(64))]
pub(super) struct Step {
    /// From the end of the value before (or the object's brace) to the beginning of the next (or behind the closing brace); zeros behind.
    bytes: [u8; GUIDED],
    pub(super) len: u8,
    /// It closes the object.
    pub(super) closes: bool,
    /// Where it was read, as [`place`] has it.
    place: u32,
    /// What the member fills, and the node below it; [`NONE`] for neither.
    pub(super) slot: u16,
    pub(super) below: u16,
    /// The step before it, if it closes an object: every object has an end of its own, so that what comes after it is known.
    after: u16,
    /// What came after it, the latest first; 0 is nothing.
    next: [u16; WAYS],
}

/// Where something between two values may stand: below which node ([`NONE`] in an object of which nothing is wanted), and whether it opens the object.
#[inline(always)]
pub(super) fn place(node: u16, first: bool) -> u32 {
    u32::from(node) | u32::from(first) << 16
}

/// Before the first member of all; nothing is read there.
const BEFORE: u32 = u32::MAX;

impl Guide {
    /// Makes ready for a record that is read by `fields`.
    #[inline]
    pub(super) fn begin(&mut self, fields: &FieldTable) {
        if self.steps.is_empty() || self.table != fields.stamp() {
            self.table = fields.stamp();
            // The first entry stands before the first member.
            self.steps.clear();
            self.steps.push(Step { bytes: [0; GUIDED], len: 0, closes: false, place: BEFORE, slot: NONE, below: NONE, after: 0, next: [0; WAYS] });
            self.index.clear();
            self.index.resize(2 * GUIDED_STEPS, 0);
        }
        self.last = 0;
    }

    /// The step expected after `last`, if it is what stands at `at`; `last` becomes it then.
    #[inline(always)]
    pub(super) fn expected(&self, last: &mut usize, json: &[u8], at: usize, place: u32) -> Option<&Step> {
        let chunk = simd::chunk::<GUIDED>(json, at)?;
        let before = self.steps.get(*last)?;
        for next in before.next {
            let step = self.steps.get(next as usize)?;
            if step.place == place && simd::begins_with(chunk, &step.bytes, step.len) {
                *last = next as usize;
                return Some(step);
            }
            if next == 0 {
                return None;
            }
        }
        None
    }

    /// Remembers that `json[between]` was read at `place` and leads to the member that fills `slot`, or closes the object.
    #[inline(never)]
    pub(super) fn learn(&mut self, json: &[u8], between: Span, place: u32, member: Option<(u16, u16)>) {
        let text = between.of(json);
        // A line break there is something that the scan reports, each time anew.
        if self.steps.is_empty() || text.len() > GUIDED || text.iter().any(|b| *b < b' ') {
            return;
        }
        let mut bytes = [0; GUIDED];
        bytes[..text.len()].copy_from_slice(text);
        let after = if member.is_none() { self.last as u16 } else { 0 };
        let words = [0, 8, 16, 24].map(|at| simd::eight(&bytes, at));
        let mixed =
            words.iter().fold(u64::from(place) << 16 | u64::from(after), |mixed, word| (mixed.rotate_left(23) ^ word).wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let mut at = (mixed >> 40) as usize;
        let mask = self.index.len() - 1;
        let step = loop {
            at &= mask;
            match self.index[at] {
                0 => {
                    if self.steps.len() == GUIDED_STEPS {
                        self.steps.clear();
                        return;
                    }
                    let (slot, below) = member.unwrap_or((NONE, NONE));
                    self.steps.push(Step { bytes, len: text.len() as u8, closes: member.is_none(), place, slot, below, after, next: [0; WAYS] });
                    self.index[at] = self.steps.len() as u16;
                    break self.steps.len() - 1;
                }
                known => {
                    let step = &self.steps[known as usize - 1];
                    if step.place == place && step.after == after && step.bytes == bytes {
                        break known as usize - 1;
                    }
                }
            }
            at += 1;
        };
        let next = &mut self.steps[self.last].next;
        next.copy_within(..WAYS - 1, 1);
        next[0] = step as u16;
        self.last = step;
    }
}
