//! What a step did: to one event, and to all of a batch.

use rockrose_ledger::Amount;

/// What a step did to one event.
#[derive(Clone, Copy)]
pub(crate) enum Effect {
    None,
    Changed,
    /// It could not do its work; the event goes on, perhaps changed in part.
    Failed,
    Removed,
    Held,
}

impl Effect {
    /// [`Effect::Removed`], if the event is gone.
    pub(crate) fn removed(gone: bool) -> Effect {
        if gone { Effect::Removed } else { Effect::None }
    }

    /// [`Effect::Changed`], if the event was changed.
    pub(crate) fn changed(changed: bool) -> Effect {
        if changed { Effect::Changed } else { Effect::None }
    }
}

/// What several writings of one step came to.
#[derive(Default)]
pub(crate) struct EffectSum {
    changed: bool,
    failed: bool,
}

impl EffectSum {
    pub(crate) fn add(&mut self, effect: Effect) {
        self.changed |= matches!(effect, Effect::Changed);
        self.failed |= matches!(effect, Effect::Failed);
    }

    pub(crate) fn effect(self) -> Effect {
        match self {
            EffectSum { failed: true, .. } => Effect::Failed,
            EffectSum { changed: true, .. } => Effect::Changed,
            EffectSum { .. } => Effect::None,
        }
    }
}

/// What a step did to the events of a batch.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct StepTally {
    pub(crate) removed: Amount,
    /// Bytes are what was saved.
    pub(crate) changed: Amount,
    pub(crate) failed: Amount,
    /// What its windows took in, less what they gave out.
    pub(crate) held: Amount,
    /// How many events were timed, and how long it worked on them, in nanoseconds.
    pub(crate) timed: (u64, u64),
}
