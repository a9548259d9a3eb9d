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
        scratch.read(json, &self.fields)
            && self.tests.holds(&self.expression, EventView { json, slots: &scratch.slots, arrived_ms }, &self.fields, &mut Vec::new(), &mut None)
    }
}

impl MatcherScratch {
    /// Whether `json` is an event: one object in UTF-8 and nothing else. A matcher says so as well, of what meets its condition.
    #[must_use]
    pub fn is_event(&mut self, json: &[u8]) -> bool {
        // What steps have made of an event may be larger than what arrives.
        self.read(json, FieldTable::none())
            || simdutf8::basic::from_utf8(json).is_ok()
                && scan::scan_edited(json, FieldTable::none(), &mut self.slots).is_ok_and(|scanned| is_blank(&json[scanned.end..]))
    }

    fn read(&mut self, json: &[u8], fields: &FieldTable) -> bool {
        simdutf8::basic::from_utf8(json).is_ok()
            && scan::scan_record(json, 0..json.len(), fields, &mut self.guide, &mut self.slots).is_ok_and(|scanned| is_blank(&json[scanned.end..]))
    }
}

fn is_blank(rest: &[u8]) -> bool {
    rest.trim_ascii().is_empty()
}

#[cfg(test)]
mod tests {
    use rockrose_language::parse_condition;

    use super::*;

    #[test]
    fn what_is_no_event_meets_no_condition() {
        let exists = Matcher::new(&parse_condition("not (a exists)").unwrap());
        let mut scratch = MatcherScratch::default();
        let deep = format!("{}1{}", "{\"b\":".repeat(200), "}".repeat(200));
        for (json, is_event, meets) in [
            ("{}", true, true),
            (" {\"b\":1}\n", true, true),
            ("{\"a\":1}", true, false),
            ("{\"b\":1} {\"a\":1}", false, false),
            ("{\"b\":1}x", false, false),
            ("{\"b\":1", false, false),
            ("[{}]", false, false),
            ("", false, false),
            // Deeper than what arrives may be.
            (&deep, true, false),
        ] {
            assert_eq!((scratch.is_event(json.as_bytes()), exists.meets(json.as_bytes(), 0)), (is_event, meets), "{json}");
        }
        assert!(!scratch.is_event(b"{\"b\":\"\xff\"}") && !exists.meets(b"{\"b\":\"\xff\"}", 0));
    }
}
