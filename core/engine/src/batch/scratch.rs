//! Buffers that are kept from batch to batch.

use rockrose_event::json::Span;
use rockrose_event::scan;

use super::tally::Tallies;
use crate::behind::BehindSteps;
use crate::context::Buffers;
use crate::edit::EditBuffer;
use crate::expression::Memo;
use crate::index::SourceCandidates;

/// Buffers that one thread keeps from batch to batch.
#[derive(Debug, Default)]
pub struct Scratch {
    pub(super) record: Vec<u8>,
    pub(super) guide: scan::Guide,
    pub(super) slots: Vec<Span>,
    pub(super) memo: Memo,
    pub(super) candidates: SourceCandidates,
    /// Room for the lines of the next outcome.
    pub(super) lines: (Vec<u8>, Vec<u32>),
    pub(super) tallies: Tallies,
    pub(super) arrival: EditBuffer,
    pub(super) route: EditBuffer,
    pub(super) always: EditBuffer,
    pub(super) buffers: Buffers,
}

/// Most room for lines that is kept from one batch to the next, in bytes.
const KEPT_ROOM: usize = 8 << 20;

impl Scratch {
    /// From now on some of the events are kept that go on behind each step, each with how many it stands for.
    pub(crate) fn keep_behind(&mut self, behind: BehindSteps) {
        self.buffers.behind = Some(Box::new(behind));
    }

    /// What was kept behind the steps, if that was asked for.
    pub(crate) fn behind(&mut self) -> Option<&mut BehindSteps> {
        self.buffers.behind.as_deref_mut()
    }

    /// Takes back the room of an outcome's lines, so that the next batch need not ask for it again.
    pub fn take_back(&mut self, mut lines: Vec<u8>, mut ends: Vec<u32>) {
        if lines.capacity() <= KEPT_ROOM {
            lines.clear();
            ends.clear();
            self.lines = (lines, ends);
        }
    }
}
