//! Which routes take an event, found without asking each route.
//!
//! Every route's condition becomes one or more *rules*: conjunctions of tests, of which one must hold. A rule is a bit. For each field that rules ask about there are
//! *axes*: the field's text, its number, its level, its address, how it begins or ends, the literals found in it. An axis divides all values into cells, and each cell knows
//! which rules its values leave possible. So an event is one look-up an axis (a hash, a search among the bounds of ranges, one pass of an automaton), and the
//! bit sets of its cells ANDed. A rule whose tests are all answered by axes is then decided; of the others only those still possible are asked one by one.
//! Of a regular expression the automaton finds the literals that must stand in whatever it matches; only where all of them do is it run.
//!
//! A rule that one axis leaves possible for very few values needs no bit set: it stands in the *lists* of those values' cells, and is asked when one of them comes.
//! The other rules that ask about the same axes stand together in a *group*, so that a group's few words are ANDed by its few axes and left alone once they are zero.
//! A cell's bits are a dense set plus the places where it differs from it, so that memory grows with what the plan says, not with rules times values.

mod group;
mod lookup;
mod rule;
mod search;
mod sources;

use std::collections::{BTreeMap, HashMap};

use rockrose_event::field::{FieldId, FieldTable};
use rockrose_language::{Condition, Test};

use crate::context::Shared;
use crate::expression::{Check, Expression, Memo, Tests};
use crate::view::EventView;
use group::{Concerned, Group, Part, has, set};
use lookup::{Axis, Lookup};
use rule::{Asks, LAYERS, LookupKind, RuleDraft, alternatives, necessary, sort};

pub(crate) use sources::{Indexes, Scope, SourceCandidates};

/// Most groups; rules of rarer make share the last one.
const MAX_GROUPS: usize = 16;
/// Most rules in a list, on average.
const MAX_LISTED: usize = 4;
/// Fewest rules of one make that are worth a group.
const OWN_GROUP: usize = 200;

#[derive(Debug)]
struct Rule {
    route: u32,
    /// Where in [`Index::asked`] those of its tests stand that no axis answers, each twice its number, and one more if it must not hold.
    asked: (u32, u32),
    /// All of its condition, where that was not taken apart.
    whole: Option<Expression>,
}

/// The rules that one axis finds by itself.
#[derive(Debug)]
struct Listed {
    axis: u32,
    /// By cell, or by the number of what was found: where its rules stand in `rules`.
    places: Vec<(u32, u32)>,
    rules: Vec<u32>,
    by_hits: bool,
}

/// All routes' conditions, as rules and axes.
#[derive(Debug, Default)]
pub(crate) struct Index {
    /// By bit.
    rules: Vec<Option<Rule>>,
    asked: Vec<u32>,
    axes: Vec<Axis>,
    listed: Vec<Listed>,
    groups: Vec<Group>,
}

/// What is known of one event, and where the answers go. Kept from event to event.
#[derive(Debug, Default)]
pub(crate) struct Candidates {
    /// For each axis, the event it was last looked up for, and its cell.
    seen: Vec<(u64, u32)>,
    /// For each axis, what was found in the text.
    found: Vec<Vec<u32>>,
    event: u64,
    bits: Vec<u64>,
    kept: Vec<u32>,
    met: Vec<(u32, u32)>,
}

/// What one index works with while it is asked about one event.
pub(crate) struct Asking<'a> {
    /// For texts that must be unescaped.
    pub(crate) scratch: &'a mut Vec<u8>,
    pub(crate) memo: &'a mut Memo,
    pub(crate) candidates: &'a mut Candidates,
    /// Where the routes go that take the event.
    pub(crate) routes: &'a mut Vec<u32>,
}

impl Index {
    /// Indexes `conditions`, each with the number of its route.
    pub(crate) fn build<'a>(conditions: impl Iterator<Item = (usize, &'a Condition)>, tests: &mut Tests, fields: &mut FieldTable) -> Index {
        let mut made: Vec<RuleDraft> = Vec::new();
        for (route, condition) in conditions {
            let (parts, complete) = match alternatives(condition, false, fields) {
                Some(parts) => (parts, true),
                None => (vec![necessary(condition, fields)], false),
            };
            for leaves in parts {
                let mut rule = RuleDraft { route: route as u32, asks: Asks::new(), tests: Vec::new(), whole: None };
                if !complete {
                    rule.whole = Some(tests.compile(condition, fields));
                }
                for leaf in &leaves {
                    let mut answered = None;
                    if let Some(sort) = sort(leaf) {
                        let known = rule.asks.entry((sort, leaf.field)).or_default();
                        let wholly = match sort {
                            LookupKind::Beginning | LookupKind::Ending => known.is_empty(),
                            LookupKind::Literals | LookupKind::AnyCase => known.len() < LAYERS && matches!(leaf.test, Test::Contains(_)),
                            _ => true,
                        };
                        answered = wholly.then_some((sort, leaf.field));
                        if wholly || sort.finds_literals() {
                            known.push((Check::compile(&leaf.test), leaf.clone()));
                        }
                    }
                    if complete {
                        rule.tests.push((answered, tests.number(leaf.field, &leaf.test, fields) << 1 | u32::from(leaf.negated)));
                    }
                }
                made.push(rule);
            }
        }
        Index::grouped(made)
    }

    fn grouped(made: Vec<RuleDraft>) -> Index {
        let mut axes: BTreeMap<(LookupKind, FieldId), u32> = BTreeMap::new();
        for key in made.iter().flat_map(|made| made.asks.keys()) {
            let next = axes.len() as u32;
            axes.entry(*key).or_insert(next);
        }
        let mut built: Vec<(u32, Axis)> = axes
            .iter()
            .map(|((sort, field), number)| {
                let leaves = made.iter().filter_map(|made| made.asks.get(&(*sort, *field))).flatten().map(|(_, leaf)| leaf);
                (*number, Axis { field: *field, lookup: Lookup::of(*sort, leaves) })
            })
            .collect();
        built.sort_by_key(|(number, _)| *number);
        let mut index = Index { axes: built.into_iter().map(|(_, axis)| axis).collect(), ..Index::default() };
        let mut makes: BTreeMap<Vec<(LookupKind, FieldId)>, Vec<RuleDraft>> = BTreeMap::new();
        let mut lists: BTreeMap<u32, Vec<(RuleDraft, Vec<u32>)>> = BTreeMap::new();
        for made in made {
            let few = made.asks.iter().filter_map(|(key, leaves)| {
                let axis = axes[key];
                let (share, cells) = index.axes[axis as usize].lookup.few(leaves)?;
                Some((share, axis, cells))
            });
            match few.min_by(|(a, ..), (b, ..)| a.total_cmp(b)) {
                Some((_, axis, cells)) => lists.entry(axis).or_default().push((made, cells)),
                None => makes.entry(made.asks.keys().copied().collect()).or_default().push(made),
            }
        }
        // Where lists are long after all, bit sets are quicker.
        let long = |rules: &[(RuleDraft, Vec<u32>)]| {
            let mut lengths: HashMap<u32, usize> = HashMap::new();
            rules.iter().flat_map(|(_, cells)| cells).for_each(|cell| *lengths.entry(*cell).or_default() += 1);
            // A list that is long is met more often than a short one.
            lengths.values().map(|len| len * len).sum::<usize>() > MAX_LISTED * lengths.values().sum::<usize>()
        };
        for axis in lists.iter().filter(|(_, rules)| long(rules)).map(|(axis, _)| *axis).collect::<Vec<_>>() {
            for (made, _) in lists.remove(&axis).into_iter().flatten() {
                makes.entry(made.asks.keys().copied().collect()).or_default().push(made);
            }
        }
        let mut makes: Vec<_> = makes.into_values().collect();
        makes.sort_by_key(|rules| std::cmp::Reverse(rules.len()));
        let own = makes.iter().take_while(|rules| rules.len() >= OWN_GROUP).count().min(MAX_GROUPS - 1);
        let rest: Vec<_> = makes.split_off(own).into_iter().flatten().collect();
        if !rest.is_empty() {
            makes.push(rest);
        }
        for rules in makes {
            index.group(rules, &axes);
        }
        let keys: HashMap<u32, (LookupKind, FieldId)> = axes.iter().map(|(key, number)| (*number, *key)).collect();
        for (axis, rules) in lists {
            index.list(axis, keys[&axis], rules);
        }
        index.rules.resize_with(index.rules.len().next_multiple_of(64), || None);
        index
    }

    fn list(&mut self, axis: u32, key: (LookupKind, FieldId), rules: Vec<(RuleDraft, Vec<u32>)>) {
        let mut by_cell: Vec<Vec<u32>> = Vec::new();
        for (made, cells) in rules {
            for cell in cells {
                if by_cell.len() <= cell as usize {
                    by_cell.resize(cell as usize + 1, Vec::new());
                }
                by_cell[cell as usize].push(self.rules.len() as u32);
            }
            // What the axis has answered is not asked again.
            self.rule(made, |of| *of == Some(key));
        }
        let mut listed = Listed {
            axis,
            places: Vec::with_capacity(by_cell.len()),
            rules: Vec::new(),
            by_hits: matches!(self.axes[axis as usize].lookup, Lookup::Ends(_) | Lookup::Literals(..)),
        };
        for rules in by_cell {
            let from = listed.rules.len() as u32;
            listed.rules.extend(rules);
            listed.places.push((from, listed.rules.len() as u32));
        }
        self.listed.push(listed);
    }

    /// Adds a rule; of its tests those need not be asked of which `answered` holds.
    fn rule(&mut self, made: RuleDraft, answered: impl Fn(&Option<(LookupKind, FieldId)>) -> bool) {
        let from = self.asked.len() as u32;
        self.asked.extend(made.tests.iter().filter(|(of, _)| !answered(of)).map(|(_, test)| test));
        self.rules.push(Some(Rule { route: made.route, asked: (from, self.asked.len() as u32), whole: made.whole }));
    }

    fn group(&mut self, rules: Vec<RuleDraft>, axes: &BTreeMap<(LookupKind, FieldId), u32>) {
        let (first, words) = (self.rules.len() / 64, rules.len().div_ceil(64));
        let mut mine: Vec<(LookupKind, FieldId)> = rules.iter().flat_map(|made| made.asks.keys().copied()).collect();
        mine.sort_unstable();
        mine.dedup();
        let mut parts: Vec<(f64, Part)> = Vec::new();
        for key in mine {
            let concerned: Vec<Concerned<'_>> = rules.iter().enumerate().filter_map(|(i, made)| Some((i as u32, made.asks.get(&key)?.as_slice()))).collect();
            let part = Part::build(axes[&key], &self.axes[axes[&key] as usize].lookup, &concerned, rules.len(), words);
            parts.push((part.leaves(rules.len()) + if key.0.finds_literals() { 0.2 } else { 0.0 }, part));
        }
        // What leaves least comes first; an automaton costs more than a look-up.
        parts.sort_by(|(a, _), (b, _)| a.total_cmp(b));
        self.groups.push(Group { first, words, parts: parts.into_iter().map(|(_, part)| part).collect() });
        rules.into_iter().for_each(|made| self.rule(made, Option::is_some));
        self.rules.resize_with((first + words) * 64, || None);
    }

    /// The rules of the routes for which `of` holds, as bits.
    pub(crate) fn mask(&self, of: impl Fn(usize) -> bool) -> Box<[u64]> {
        let mut bits = vec![0; self.rules.len() / 64];
        for (number, rule) in self.rules.iter().enumerate() {
            if rule.as_ref().is_some_and(|rule| of(rule.route as usize)) {
                set(&mut bits, number as u32);
            }
        }
        bits.into()
    }

    /// Adds to `asking.routes` the routes among `of` (see [`Index::mask`]) whose condition the event meets; a route may be added twice.
    pub(crate) fn find(&self, of: &[u64], view: EventView<'_>, shared: &Shared, asking: Asking<'_>) {
        let (Shared { fields, tests, .. }, Asking { scratch, memo, candidates, routes: found_routes }) = (shared, asking);
        candidates.event += 1;
        if candidates.seen.len() != self.axes.len() {
            let (seen, found) = (vec![(0, 0); self.axes.len()], vec![Vec::new(); self.axes.len()]);
            *candidates = Candidates { seen, found, event: 1, ..Candidates::default() };
        }
        for listed in &self.listed {
            let axis = listed.axis as usize;
            self.see(axis, view, fields, scratch, candidates);
            let Candidates { seen, found, .. } = &mut *candidates;
            let cell = [seen[axis].1];
            for place in if listed.by_hits { &found[axis][..] } else { &cell } {
                let (from, to) = listed.places.get(*place as usize).copied().unwrap_or_default();
                for number in &listed.rules[from as usize..to as usize] {
                    if let Some(rule) = &self.rules[*number as usize]
                        && has(of, *number)
                        && self.holds(rule, view, fields, tests, scratch, memo)
                    {
                        found_routes.push(rule.route);
                    }
                }
            }
        }
        for group in &self.groups {
            candidates.bits.clear();
            candidates.bits.extend_from_slice(&of[group.first..group.first + group.words]);
            for part in &group.parts {
                if candidates.bits.iter().zip(&part.concerns).fold(0, |any, (bits, concerns)| any | bits & concerns) == 0 {
                    continue;
                }
                self.see(part.axis as usize, view, fields, scratch, candidates);
                part.narrow(candidates);
            }
            for (at, word) in candidates.bits.iter().enumerate() {
                let mut left = *word;
                while left != 0 {
                    let bit = left.trailing_zeros();
                    left &= left - 1;
                    let Some(rule) = &self.rules[(group.first + at) * 64 + bit as usize] else { continue };
                    if self.holds(rule, view, fields, tests, scratch, memo) {
                        found_routes.push(rule.route);
                    }
                }
            }
        }
    }

    /// Whether what no axis has answered of a rule holds as well.
    #[inline(always)]
    fn holds(&self, rule: &Rule, view: EventView<'_>, fields: &FieldTable, tests: &Tests, scratch: &mut Vec<u8>, memo: &mut Memo) -> bool {
        let asked = &self.asked[rule.asked.0 as usize..rule.asked.1 as usize];
        asked.iter().all(|test| tests.answer((test >> 1) as usize, view, fields, scratch, &mut Some(memo)) != (test & 1 == 1))
            && rule.whole.as_ref().is_none_or(|whole| tests.holds(whole, view, fields, scratch, &mut Some(memo)))
    }

    /// Looks the event up on an axis, once.
    #[inline(always)]
    fn see(&self, axis: usize, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, candidates: &mut Candidates) {
        if candidates.seen[axis].0 != candidates.event {
            let cell = self.axes[axis].look_up(view, fields, scratch, &mut candidates.found[axis]);
            candidates.seen[axis] = (candidates.event, cell);
        }
    }
}
