//! What a batch did, told apart by the values of the tags that the plan accounts by.
//!
//! Each account of a list of steps has a place of its own in the tally: what leaves the list first, then for each step what it removed and what it changed. An event's values are numbers
//! while the batch is worked on, so that counting one is a look at a small table, and become texts where its postings are made.

use std::collections::HashMap;
use std::sync::Arc;

use rockrose_event::field::FieldId;
use rockrose_event::scan;
use rockrose_ledger::{Amount, OTHER, TagAmount, WITHOUT};
use rockrose_plan::MAX_TAGS;
use xxhash_rust::xxh3::xxh3_64;

use crate::compile::CompiledPlan;
use crate::context::Shared;
use crate::view::EventView;

/// The longest value that is told apart, in bytes; longer ones count under [`OTHER`].
const MAX_VALUE: usize = 128;
/// Most values of one tag that one batch tells apart.
const MAX_VALUES: usize = 4_096;
/// So many values a row has room for at first.
const WIDTH: usize = 64;
/// So many values are remembered from one batch to the next.
const KEPT_VALUES: usize = 1_024;

/// The tags that a plan accounts by.
#[derive(Debug, Default)]
pub(crate) struct Tags {
    pub(crate) names: Arc<[Arc<str>]>,
    pub(crate) fields: Vec<FieldId>,
}

/// The values that an event has of each tag, as numbers of a [`TagTally`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct TagValues {
    numbers: [u32; MAX_TAGS],
    /// They are the event's; else those that it had, which are most often the same.
    is_known: bool,
}

impl TagValues {
    /// Nobody has looked yet.
    pub(crate) const UNKNOWN: TagValues = TagValues { numbers: [Values::WITHOUT; MAX_TAGS], is_known: false };

    /// Whether they are the event's.
    #[inline]
    pub(crate) fn are_known(&self) -> bool {
        self.is_known
    }

    /// Some of them may have changed.
    pub(crate) fn forget(&mut self) {
        self.is_known = false;
    }
}

/// A value that was met, and the number that it has in the present batch.
#[derive(Debug)]
struct Known {
    text: Arc<str>,
    batch: u64,
    number: u32,
}

/// The values of one tag. They are remembered from batch to batch, and numbered anew in each, so that a small batch has small numbers.
#[derive(Debug)]
struct Values {
    known: Vec<Known>,
    /// Places in `known`, by the hashes of their texts.
    table: Vec<u32>,
    batch: u64,
    /// Places in `known`, by the numbers of the present batch.
    numbered: Vec<u32>,
}

/// No place.
const EMPTY: u32 = u32::MAX;

impl Values {
    /// The numbers of what an event does not have, and of what is not told apart.
    const WITHOUT: u32 = 0;
    const OTHER: u32 = 1;

    fn new() -> Values {
        let mut values = Values { known: Vec::new(), table: vec![EMPTY; 4 * MAX_VALUES], batch: 0, numbered: Vec::new() };
        values.begin(1);
        values
    }

    fn begin(&mut self, batch: u64) {
        self.batch = batch;
        self.numbered.clear();
        // The numbers of these two are the same in every batch.
        self.number(WITHOUT.as_bytes());
        self.number(OTHER.as_bytes());
    }

    #[inline]
    fn is(&self, number: u32, value: &[u8]) -> bool {
        number > Values::OTHER && self.numbered.get(number as usize).is_some_and(|at| self.known[*at as usize].text.as_bytes() == value)
    }

    fn number(&mut self, value: &[u8]) -> u32 {
        if value.len() > MAX_VALUE {
            return Values::OTHER;
        }
        let mask = self.table.len() - 1;
        let mut at = xxh3_64(value) as usize & mask;
        let known = loop {
            match self.table[at] {
                EMPTY => break None,
                place if self.known[place as usize].text.as_bytes() == value => break Some(place),
                _ => at = (at + 1) & mask,
            }
        };
        let place = match known {
            Some(place) => place,
            None => {
                // Events are UTF-8, and so are their texts.
                let Some(text) = std::str::from_utf8(value).ok().filter(|_| self.known.len() < MAX_VALUES) else { return Values::OTHER };
                let place = self.known.len() as u32;
                self.known.push(Known { text: Arc::from(text), batch: 0, number: 0 });
                self.table[at] = place;
                place
            }
        };
        let known = &mut self.known[place as usize];
        if known.batch != self.batch {
            (known.batch, known.number) = (self.batch, self.numbered.len() as u32);
            self.numbered.push(place);
        }
        known.number
    }
}

/// What a batch did so far, by place and value.
#[derive(Debug, Default)]
pub(crate) struct TagTally {
    /// The plan it is for.
    plan: u64,
    tags: Vec<Values>,
    /// The rows of the places that the batch came to; [`EMPTY`], where it did not.
    rows: Vec<u32>,
    /// These places, by their rows.
    places: Vec<u32>,
    /// Row by row, and in each value by value, the amounts of each tag.
    amounts: Vec<Amount>,
    /// How many values a row has room for.
    width: usize,
}

/// The place of the account of what leaves a list of steps that begins at `list`.
pub(crate) fn leaves(list: u32) -> u32 {
    list
}

/// Of what the step at `position`, from 0, removes.
pub(crate) fn removed(list: u32, position: usize) -> u32 {
    list + 1 + 2 * position as u32
}

/// Of what it changes.
pub(crate) fn changed(list: u32, position: usize) -> u32 {
    removed(list, position) + 1
}

/// How many places the accounts of a list of so many steps need.
pub(crate) fn places(steps: usize) -> u32 {
    1 + 2 * steps as u32
}

impl TagTally {
    /// Begins a batch.
    pub(crate) fn begin(&mut self, shared: &Shared, batch: u64) {
        let count = shared.tags.fields.len();
        if self.plan != shared.fields.stamp() || self.tags.len() != count {
            self.plan = shared.fields.stamp();
            self.tags = (0..count).map(|_| Values::new()).collect();
            self.rows.clear();
            self.places.clear();
        }
        // As wide as the batch before needed it: one that met very many values must not cost all that follow.
        let most = self.tags.iter().map(|values| values.numbered.len()).max().unwrap_or(0);
        self.width = most.next_power_of_two().max(WIDTH);
        for values in &mut self.tags {
            if values.known.len() > KEPT_VALUES {
                *values = Values::new();
            }
            values.begin(batch);
        }
        // What a batch left that did not come to its end.
        self.clear();
    }

    /// Forgets what was counted.
    fn clear(&mut self) {
        for place in self.places.drain(..) {
            self.rows[place as usize] = EMPTY;
        }
        self.amounts.clear();
    }

    /// Looks which values an event has; `found` are those that it had.
    pub(crate) fn look(&mut self, shared: &Shared, view: EventView<'_>, text: &mut Vec<u8>, found: &mut TagValues) {
        found.is_known = true;
        for ((field, values), number) in shared.tags.fields.iter().zip(&mut self.tags).zip(&mut found.numbers) {
            *number = match view.text(&shared.fields, *field, text) {
                None => Values::WITHOUT,
                Some(value) if values.is(*number, value) => *number,
                Some(value) => values.number(value),
            };
        }
        let largest = found.numbers.into_iter().fold(0, u32::max);
        if largest as usize >= self.width {
            self.widen(largest);
        }
    }

    /// Counts an amount of events of these values at the account of that place.
    #[inline]
    pub(crate) fn count(&mut self, place: u32, values: TagValues, amount: Amount) {
        let row = match self.rows.get(place as usize) {
            Some(row) if *row != EMPTY => *row,
            _ => self.begin_row(place),
        };
        let (row, tags) = (row as usize * self.width, self.tags.len());
        for (tag, value) in values.numbers[..tags].iter().enumerate() {
            self.amounts[(row + *value as usize) * tags + tag] += amount;
        }
    }

    #[cold]
    fn begin_row(&mut self, place: u32) -> u32 {
        if self.rows.len() <= place as usize {
            self.rows.resize(place as usize + 1, EMPTY);
        }
        let row = self.places.len() as u32;
        self.places.push(place);
        self.rows[place as usize] = row;
        self.amounts.resize(self.places.len() * self.width * self.tags.len(), Amount::default());
        row
    }

    /// Makes the rows wide enough for a value.
    #[cold]
    fn widen(&mut self, value: u32) {
        let (width, tags) = ((value as usize + 1).next_power_of_two(), self.tags.len());
        let mut wide = vec![Amount::default(); self.places.len() * width * tags];
        for (wide, narrow) in wide.chunks_mut(width * tags).zip(self.amounts.chunks(self.width * tags)) {
            wide[..narrow.len()].copy_from_slice(narrow);
        }
        self.amounts = wide;
        self.width = width;
    }

    /// All that was counted, by the places of the accounts.
    pub(crate) fn take(&mut self) -> HashMap<u32, Vec<TagAmount>> {
        let mut by_place: HashMap<u32, Vec<TagAmount>> = HashMap::new();
        let tags = self.tags.len();
        if tags == 0 {
            return by_place;
        }
        for (place, row) in self.places.iter().zip(self.amounts.chunks(self.width * tags)) {
            let of = by_place.entry(*place).or_default();
            for (tag, values) in self.tags.iter().enumerate() {
                let counted = row.iter().skip(tag).step_by(tags).zip(&values.numbered).filter(|(amount, _)| !amount.is_zero());
                of.extend(counted.map(|(amount, at)| TagAmount { tag, value: Arc::clone(&values.known[*at as usize].text), amount: *amount }));
            }
        }
        self.clear();
        by_place
    }
}

impl CompiledPlan {
    /// The tags that it accounts by.
    #[must_use]
    pub fn tags(&self) -> &Arc<[Arc<str>]> {
        &self.shared.tags.names
    }

    /// An amount by the values that an event, given as JSON, has of the tags.
    #[must_use]
    pub fn by_tag(&self, json: &[u8], amount: Amount) -> Vec<TagAmount> {
        let (mut tally, mut slots) = (TagTally::default(), Vec::new());
        tally.begin(&self.shared, 2);
        let mut values = TagValues { is_known: true, ..TagValues::UNKNOWN };
        if scan::scan_edited(json, &self.shared.fields, &mut slots).is_ok() {
            let view = EventView { json, slots: &slots, arrived_ms: 0 };
            tally.look(&self.shared, view, &mut Vec::new(), &mut values);
        }
        tally.count(0, values, amount);
        tally.take().remove(&0).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;
    use rockrose_event::record::{DeclaredFormat, split};
    use rockrose_ledger::{Measure, Posting, Stage};
    use rockrose_plan::CheckedPlan;
    use rockrose_redact::HashKey;

    use super::*;
    use crate::{Outcome, Scratch};

    const PLAN: &str = r#"
account_by = ["team", "at.port"]
[source.gates]
kind = "http"
listen = "127.0.0.1:1"
on_arrival = ['drop n = 7', 'tag team = "desk" when n < 3', 'set seen = true when n > 5']
[destination.vault]
kind = "discard"
always = ['sample 1 in 2 by n', 'set kept = "yes"']
[destination.desk]
kind = "discard"
[[route]]
name = "some"
when = "n >= 1"
do = ['remove at.port when n = 2', 'merge repeats within 1 second by n']
to = ["vault", "desk"]
[[route]]
name = "rest"
when = "n < 5"
do = ['tag team = "late" when n = 4', 'drop n = 1']
to = ["desk"]
"#;

    fn compiled(plan: &str) -> CompiledPlan {
        CompiledPlan::new(&CheckedPlan::read(plan).unwrap(), HashKey::new([0; 32]))
    }

    fn body(plan: &CompiledPlan, lines: &[String], now_ms: i64, scratch: &mut Scratch) -> Outcome {
        let body = lines.join("\n").into_bytes();
        plan.process(0, &body, &split(&body, DeclaredFormat::Lines, usize::MAX).unwrap(), now_ms, None, scratch)
    }

    /// Of each tag, all of what is told apart is under some value, and nothing else is told.
    fn adds_up(outcome: &Outcome) {
        for posting in &outcome.postings {
            let mut sums: BTreeMap<&str, Amount> = BTreeMap::new();
            for one in &posting.by_tag {
                *sums.entry(&*outcome.tags[one.tag]).or_default() += one.amount;
            }
            let expected: BTreeMap<&str, Amount> =
                if posting.account.is_by_tag() { outcome.tags.iter().map(|tag| (&**tag, posting.amount)).collect() } else { BTreeMap::new() };
            assert_eq!(sums, expected, "{:?}", posting.account);
        }
    }

    fn of<'a>(outcome: &'a Outcome, stage: Stage, name: &str, via: &str, measure: Measure) -> Vec<(&'a str, &'a str, i64)> {
        let wanted = |p: &&Posting| p.account.stage == stage && p.account.name == name && p.account.via == via && p.account.measure == measure;
        let all = outcome.postings.iter().filter(wanted).flat_map(|p| &p.by_tag);
        let mut all: Vec<_> = all.map(|one| (&*outcome.tags[one.tag], &*one.value, one.amount.events)).collect();
        all.sort_unstable();
        all
    }

    proptest! {
        #[test]
        fn all_that_is_told_apart_adds_up(events in prop::collection::vec((0..9u8, prop::option::of("[ab]|caf\u{e9}|desk"), prop::option::of("[xy](\\\\n)?")), 1..60)) {
            let plan = compiled(PLAN);
            let mut scratch = Scratch::default();
            let line = |(n, team, port): &(u8, Option<String>, Option<String>)| {
                let team = team.as_ref().map_or(String::new(), |team| format!(r#","team":"{team}""#));
                let port = port.as_ref().map_or(String::new(), |port| format!(r#","at":{{"port":"{port}"}}"#));
                format!(r#"{{"n":{n}{team}{port}}}"#)
            };
            let lines: Vec<String> = events.iter().map(line).collect();
            let mut outcomes: Vec<Outcome> = lines.chunks(20).map(|lines| body(&plan, lines, 0, &mut scratch)).collect();
            outcomes.extend(plan.release(60_000, true, &mut scratch).into_iter().map(|(_, outcome)| outcome));
            let mut came: BTreeMap<String, i64> = BTreeMap::new();
            for outcome in &mut outcomes {
                adds_up(outcome);
                for (tag, value, events) in of(outcome, Stage::Source, "gates", "", Measure::Passed) {
                    if tag == "team" {
                        *came.entry(value.to_owned()).or_default() += events;
                    }
                }
                outcome.spill("desk", "vault");
                adds_up(outcome);
            }
            // Counted by hand.
            let mut expected: BTreeMap<String, i64> = BTreeMap::new();
            for (n, team, _) in events.iter().filter(|(n, ..)| *n != 7) {
                let team = if *n < 3 { "desk".to_owned() } else { team.clone().unwrap_or_default() };
                *expected.entry(team).or_default() += 1;
            }
            prop_assert_eq!(came, expected);
        }
    }

    #[test]
    fn an_event_counts_by_the_values_that_it_has_at_each_place() {
        let plan = compiled(PLAN);
        let lines: Vec<String> =
            [r#"{"n":4,"team":"a","at":{"port":"x"}}"#, r#"{"n":1,"at":{"port":"x\ty"}}"#, r#"{"n":7,"team":"a"}"#].map(str::to_owned).to_vec();
        let outcome = body(&plan, &lines, 0, &mut Scratch::default());
        assert_eq!(
            of(&outcome, Stage::Source, "gates", "", Measure::Passed),
            [("at.port", "x", 1), ("at.port", "x\ty", 1), ("team", "a", 1), ("team", "desk", 1)]
        );
        assert_eq!(of(&outcome, Stage::Source, "gates", "", Measure::Removed), [("at.port", WITHOUT, 1), ("team", "a", 1)]);
        // The step behind the one that changed the tag counts by the new value, and so does the destination.
        assert_eq!(of(&outcome, Stage::Route, "rest", "gates", Measure::Changed), [("at.port", "x", 1), ("team", "late", 1)]);
        assert_eq!(of(&outcome, Stage::Route, "rest", "gates", Measure::Removed), [("at.port", "x\ty", 1), ("team", "desk", 1)]);
        assert_eq!(of(&outcome, Stage::Destination, "desk", "rest", Measure::Enqueued), [("at.port", "x", 1), ("team", "late", 1)]);
    }

    #[test]
    fn what_goes_as_it_was_received_counts_by_the_tags_that_steps_gave_it() {
        let plan = compiled(
            "account_by = ['team']\n[source.s]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = ['tag team = \"quays\"']\n[destination.raw]\nkind = 'archive'\nevents = 'as received'\n\
             store = '/v'\n[[route]]\nname = 'all'\nto = ['raw']\n",
        );
        let outcome = body(&plan, &[r#"{"n":1}"#.to_owned()], 0, &mut Scratch::default());
        adds_up(&outcome);
        assert_eq!(of(&outcome, Stage::Destination, "raw", "all", Measure::Enqueued), [("team", "quays", 1)]);
    }

    #[test]
    fn values_are_bounded() {
        let plan = compiled("account_by = ['even', 'id']\n[source.s]\nkind = 'http'\nlisten = '127.0.0.1:1'\n");
        let mut lines: Vec<String> = (0..MAX_VALUES + 10).map(|n| format!(r#"{{"even":{},"id":"v{n}"}}"#, n % 2 == 0)).collect();
        lines.push(format!(r#"{{"id":"{}"}}"#, "x".repeat(MAX_VALUE + 1)));
        let mut scratch = Scratch::default();
        for _ in 0..2 {
            let outcome = body(&plan, &lines, 0, &mut scratch);
            adds_up(&outcome);
            let values = of(&outcome, Stage::Source, "s", "", Measure::Passed);
            assert_eq!((values.len(), values[3]), (3 + MAX_VALUES - 1, ("id", OTHER, 13)));
        }
        let outcome = body(&plan, &[r#"{"id":"late"}"#.to_owned()], 0, &mut scratch);
        assert_eq!(of(&outcome, Stage::Source, "s", "", Measure::Passed), [("even", WITHOUT, 1), ("id", "late", 1)]);
        assert_eq!(plan.by_tag(br#"{"id":7}"#, Amount { events: 1, bytes: 8 })[1].value.as_ref(), "7");
    }
}
