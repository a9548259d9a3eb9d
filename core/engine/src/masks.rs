//! Steps that are done to single events, aside from any plan: what is hidden from somebody before it is shown to them.

use rockrose_event::record::{DeclaredFormat, split};
use rockrose_language::Step;
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;

use crate::{CompiledPlan, Point, Scratch, Watch};

/// Steps that are done to one event at a time.
pub struct Masks {
    /// A plan with a source whose steps they are; nothing, if there can be none.
    plan: Option<CompiledPlan>,
    watch: Watch,
    scratch: Scratch,
}

impl Masks {
    /// Compiles `steps`; hashes are made under `key`.
    #[must_use]
    pub fn new(steps: &[Step], key: HashKey) -> Masks {
        let plan = CheckedPlan::on_arrival(steps).map(|plan| CompiledPlan::new(&plan, key));
        Masks { plan, watch: Watch::new(vec![Point::Source(0)], 1), scratch: Scratch::default() }
    }

    /// The event `json` (one object) as the steps leave it; nothing, if one removes it, or if it is no event.
    #[must_use]
    pub fn done_to(&mut self, json: &[u8], now_ms: i64) -> Option<Vec<u8>> {
        let records = split(json, DeclaredFormat::Json, usize::MAX).ok()?;
        let [one] = records.as_slice() else { return None };
        let outcome = self.plan.as_ref()?.process(0, json, std::slice::from_ref(one), now_ms, Some(&self.watch), &mut self.scratch);
        outcome.captures.into_iter().next()?.after
    }
}
