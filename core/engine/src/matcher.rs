//! One condition, compiled on its own.

use rockrose_event::field::FieldTable;
use rockrose_event::json::Span;
use rockrose_event::scan;
use rockrose_language::Condition;

use crate::expression::{Expression, Tests};
use crate::view::EventView;

/// What a matcher needs while it looks at an event, kept for the next. Each matcher has one of its own.
#[derive(Debug, Default)]
pub struct MatcherScratch {
    guide: scan::Guide,
    slots: Vec<Span>,
}

/// Asks one condition of single events. A plan's own conditions are compiled with the plan.
#[derive(Debug)]
pub struct Matcher {
    fields: FieldTable,
    tests: Tests,
    expression: Expression,
}

impl Matcher {
    /// Compiles `condition`.
    #[must_use]
    pub fn new(condition: &Condition) -> Matcher {
        let (mut fields, mut tests) = (FieldTable::with_resource(), Tests::default());
        let expression = tests.compile(condition, &mut fields);
        Matcher { fields, tests, expression }
    }

    /// Whether the event `json` (one object), which arrived at `arrived_ms` (milliseconds since 1970), meets the condition. What is not an event meets none.
    #[must_use]
    pub fn meets(&self, json: &[u8], arrived_ms: i64) -> bool {
        self.meets_next(json, arrived_ms, &mut MatcherScratch::default())
    }

    /// As [`Matcher::meets`], for one event after another: what `scratch` keeps makes the next one quicker, and changes nothing else.
    #[must_use]
    pub fn meets_next(&self, json: &[u8], arrived_ms: i64, scratch: &mut MatcherScratch) -> bool {
        let MatcherScratch { guide, slots } = scratch;
        if simdutf8::basic::from_utf8(json).is_err() || scan::scan_record(json, 0..json.len(), &self.fields, guide, slots).is_err() {
            return false;
        }
        self.tests.holds(&self.expression, EventView { json, slots, arrived_ms }, &self.fields, &mut Vec::new(), &mut None)
    }
}
