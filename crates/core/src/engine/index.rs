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

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;

use aho_corasick::{AhoCorasick, AhoCorasickKind};
use regex_syntax::hir::{Hir, HirKind};

use super::test::{Check, Expression, Memo, Tests, View, number};
use crate::field::{FieldId, FieldTable};
use crate::json::{self, Kind};
use crate::lang::{Condition, Level, Literal, Network, Pattern, Test};
use crate::texts::Texts;

/// Most conjunctions one condition is taken apart into; a wider one is asked as a whole.
const MAX_RULES: usize = 8;
/// Most groups; rules of rarer make share the last one.
const MAX_GROUPS: usize = 16;
/// Most cells in whose lists one rule stands, and the most of all cells of its axis they may be.
const MAX_LISTS: usize = 64;
const FEW_CELLS: f64 = 0.04;
/// Most rules in a list, on average.
const MAX_LISTED: usize = 4;
/// Fewest rules of one make that are worth a group.
const OWN_GROUP: usize = 200;
/// How many cells of a searched axis share one dense set.
const SHARED: usize = 32;
/// Literals of as many bytes together are looked for by a full table.
const SMALL_LITERALS: usize = 8_000;
/// Shortest literal worth looking for.
const SHORTEST: usize = 2;
/// Most sets of literals that are looked for on behalf of one rule on one field.
const LAYERS: usize = 4;

/// One test, or its opposite.
#[derive(Clone, Debug)]
struct Leaf {
    field: FieldId,
    test: Test,
    negated: bool,
}

#[derive(Debug)]
struct Rule {
    route: u32,
    /// What decides it when the axes do not.
    whole: Expression,
    /// The axes say all there is to say.
    decided: bool,
}

/// Cells with a fixed meaning stand first.
const MISSING: usize = 0;
const NULL: usize = 1;
/// There, but nothing the axis knows.
const OTHER: usize = 2;
const FIRST: usize = 3;

/// How a value's cell is found, or what is found in it.
#[derive(Debug)]
enum Lookup {
    /// The cells of the values that are named, and the length of the longest.
    Text(Texts, usize),
    /// Sorted; the cell of what lies between two, and of each itself, in turn.
    Number(Vec<f64>),
    /// Cells by level, lowest first.
    Level,
    /// Where ranges of addresses begin or have ended, sorted.
    Address { v4: Vec<u32>, v6: Vec<u128> },
    /// How long beginnings (or endings) are, and their numbers.
    Ends { lengths: Vec<usize>, texts: Texts, last: bool },
    /// Literals, by number.
    Literals(Box<AhoCorasick>, Texts),
}

#[derive(Debug)]
struct Axis {
    field: FieldId,
    lookup: Lookup,
}

#[derive(Clone, Copy, Debug)]
struct Cell {
    /// Which dense set.
    base: u32,
    /// Which rules of the lists are in the cell beyond it, and which are not.
    added: (u32, u32),
    removed: (u32, u32),
}

/// What one axis says of the rules of one group.
#[derive(Debug)]
struct Part {
    axis: u32,
    words: usize,
    /// The rules it has a say in.
    concerns: Vec<u64>,
    dense: Vec<u64>,
    lists: Vec<u32>,
    cells: Vec<Cell>,
    /// Of what is found in a text: by its number, the rules it leaves possible, and in which layer; of a rule in several layers, each must be met.
    hits: Vec<Vec<(u32, u32)>>,
    layers: usize,
}

/// Rules that stand together.
#[derive(Debug)]
struct Group {
    /// Where its words begin.
    first: usize,
    words: usize,
    parts: Vec<Part>,
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
pub(super) struct Index {
    /// By bit.
    rules: Vec<Option<Rule>>,
    axes: Vec<Axis>,
    listed: Vec<Listed>,
    groups: Vec<Group>,
}

/// What is known of one event, and where the answers go. Kept from event to event.
#[derive(Debug, Default)]
pub(super) struct Candidates {
    /// For each axis, the event it was last looked up for, and its cell.
    seen: Vec<(u64, u32)>,
    /// For each axis, what was found in the text.
    found: Vec<Vec<u32>>,
    event: u64,
    bits: Vec<u64>,
    kept: Vec<u32>,
    met: Vec<(u32, u32)>,
    /// The routes that take the event, in order.
    pub(super) routes: Vec<u32>,
}

fn set(bits: &mut [u64], at: u32) {
    bits[at as usize / 64] |= 1 << (at % 64);
}

fn has(bits: &[u64], at: u32) -> bool {
    bits[at as usize / 64] >> (at % 64) & 1 == 1
}

/// The condition as alternatives of tests that must all hold; `None` if that would be too many.
fn alternatives(condition: &Condition, negated: bool, fields: &mut FieldTable) -> Option<Vec<Vec<Leaf>>> {
    let any = |parts: &[Condition], fields: &mut FieldTable| {
        let mut all = Vec::new();
        for part in parts {
            all.extend(alternatives(part, negated, fields)?);
        }
        (all.len() <= MAX_RULES).then_some(all)
    };
    match condition {
        Condition::Constant(value) => Some(if *value == negated { Vec::new() } else { vec![Vec::new()] }),
        Condition::Not(inner) => alternatives(inner, !negated, fields),
        Condition::Field(path, test) => Some(vec![vec![Leaf { field: fields.want(path), test: test.clone(), negated }]]),
        Condition::Or(parts) if !negated => any(parts, fields),
        Condition::And(parts) if negated => any(parts, fields),
        Condition::Or(parts) | Condition::And(parts) => {
            let mut product = vec![Vec::new()];
            for part in parts {
                let next = alternatives(part, negated, fields)?;
                if product.len() * next.len() > MAX_RULES {
                    return None;
                }
                product = product.iter().flat_map(|so_far: &Vec<Leaf>| next.iter().map(move |more| [so_far.as_slice(), more].concat())).collect();
            }
            Some(product)
        }
    }
}

/// The tests that must hold for the condition to hold, as far as they can be read off.
fn necessary(condition: &Condition, fields: &mut FieldTable) -> Vec<Leaf> {
    match condition {
        Condition::And(all) => all.iter().flat_map(|c| necessary(c, fields)).collect(),
        Condition::Field(path, test) => vec![Leaf { field: fields.want(path), test: test.clone(), negated: false }],
        _ => Vec::new(),
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Sort {
    Text,
    Number,
    Level,
    Address,
    Beginning,
    Ending,
    Literals,
}

/// Which axis of its field can answer a test; none if it must be asked.
fn sort(leaf: &Leaf) -> Option<Sort> {
    let of = |literal: &Literal| match literal {
        Literal::Text(_) | Literal::Bool(_) => Sort::Text,
        Literal::Number(_) => Sort::Number,
        Literal::Level(_) => Sort::Level,
    };
    Some(match &leaf.test {
        Test::Exists => Sort::Text,
        Test::Equals(literal) | Test::Differs(literal) => of(literal),
        Test::OneOf(literals) => {
            let first = of(literals.first()?);
            return literals.iter().all(|l| of(l) == first).then_some(first);
        }
        Test::Order(_, literal @ (Literal::Number(_) | Literal::Level(_))) | Test::Range(literal @ (Literal::Number(_) | Literal::Level(_)), _) => of(literal),
        Test::Network(_) => Sort::Address,
        Test::StartsWith(_) if !leaf.negated => Sort::Beginning,
        Test::EndsWith(_) if !leaf.negated => Sort::Ending,
        Test::Contains(text) if !leaf.negated && text.len() >= SHORTEST => Sort::Literals,
        Test::Matches(pattern) if !leaf.negated && !required(pattern).is_empty() => Sort::Literals,
        _ => return None,
    })
}

/// Sets of literals: of each, at least one stands in every text that passes the test.
fn literals(test: &Test) -> Vec<Vec<Vec<u8>>> {
    match test {
        Test::Contains(text) => vec![vec![text.clone().into_bytes()]],
        Test::Matches(pattern) => required(pattern),
        _ => Vec::new(),
    }
}

fn required(pattern: &Pattern) -> Vec<Vec<Vec<u8>>> {
    /// Most literals in one set.
    const MOST: usize = 16;
    type Sets = Vec<Vec<Vec<u8>>>;
    fn longest_first(mut sets: Sets) -> Sets {
        sets.retain(|set| set.iter().all(|l| l.len() >= SHORTEST));
        sets.sort_by_key(|set| std::cmp::Reverse(set.iter().map(Vec::len).min()));
        sets.truncate(LAYERS);
        sets
    }
    fn of(hir: &Hir) -> Sets {
        match hir.kind() {
            HirKind::Literal(literal) => vec![vec![literal.0.to_vec()]],
            HirKind::Capture(capture) => of(&capture.sub),
            HirKind::Repetition(repetition) if repetition.min > 0 => of(&repetition.sub),
            HirKind::Concat(parts) => longest_first(parts.iter().flat_map(of).collect()),
            HirKind::Alternation(parts) => {
                let all: Option<Vec<_>> = parts.iter().map(|p| longest_first(of(p)).into_iter().next()).collect();
                all.map(|a| a.concat()).filter(|a| a.len() <= MOST).into_iter().collect()
            }
            _ => Vec::new(),
        }
    }
    let parsed = regex_syntax::ParserBuilder::new().case_insensitive(pattern.ignore_case).utf8(false).build().parse(&pattern.source);
    parsed.map(|hir| longest_first(of(&hir))).unwrap_or_default()
}

/// A rule's tests, by the axis that answers them.
type Asks = BTreeMap<(Sort, FieldId), Vec<(Check, Leaf)>>;

/// A rule in the making.
struct Made {
    route: u32,
    /// The axes say all there is to say.
    decided: bool,
    asks: Asks,
    /// All its tests, and by which axis each is wholly answered.
    tests: Vec<(Option<(Sort, FieldId)>, Expression)>,
}

/// A rule of a group: its place there, and its tests on the axis in question.
type Concerned<'a> = (u32, &'a [(Check, Leaf)]);

impl Index {
    /// Indexes `conditions`, each with the number of its route.
    pub(super) fn build<'a>(conditions: impl Iterator<Item = (usize, &'a Condition)>, tests: &mut Tests, fields: &mut FieldTable) -> Index {
        let mut made: Vec<Made> = Vec::new();
        for (route, condition) in conditions {
            let (parts, complete) = match alternatives(condition, false, fields) {
                Some(parts) => (parts, true),
                None => (vec![necessary(condition, fields)], false),
            };
            for leaves in parts {
                let mut rule = Made { route: route as u32, decided: true, asks: Asks::new(), tests: Vec::new() };
                if !complete {
                    rule.tests.push((None, tests.compile(condition, fields)));
                }
                for leaf in &leaves {
                    let mut answered = None;
                    if let Some(sort) = sort(leaf) {
                        let known = rule.asks.entry((sort, leaf.field)).or_default();
                        let wholly = match sort {
                            Sort::Beginning | Sort::Ending => known.is_empty(),
                            Sort::Literals => known.len() < LAYERS && matches!(leaf.test, Test::Contains(_)),
                            _ => true,
                        };
                        answered = wholly.then_some((sort, leaf.field));
                        if wholly || sort == Sort::Literals {
                            known.push((Check::compile(&leaf.test), leaf.clone()));
                        }
                    }
                    if complete {
                        let test = tests.number(leaf.field, &leaf.test);
                        rule.tests.push((answered, if leaf.negated { Expression::Not(Box::new(test)) } else { test }));
                    }
                }
                rule.decided = rule.tests.iter().all(|(answered, _)| answered.is_some());
                made.push(rule);
            }
        }
        Index::grouped(made)
    }

    fn grouped(made: Vec<Made>) -> Index {
        let mut axes: BTreeMap<(Sort, FieldId), u32> = BTreeMap::new();
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
        let mut makes: BTreeMap<Vec<(Sort, FieldId)>, Vec<Made>> = BTreeMap::new();
        let mut lists: BTreeMap<u32, Vec<(Made, Vec<u32>)>> = BTreeMap::new();
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
        let long = |rules: &[(Made, Vec<u32>)]| {
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
        let keys: HashMap<u32, (Sort, FieldId)> = axes.iter().map(|(key, number)| (*number, *key)).collect();
        for (axis, rules) in lists {
            index.list(axis, keys[&axis], rules);
        }
        index.rules.resize_with(index.rules.len().next_multiple_of(64), || None);
        index
    }

    fn list(&mut self, axis: u32, key: (Sort, FieldId), rules: Vec<(Made, Vec<u32>)>) {
        let mut by_cell: Vec<Vec<u32>> = Vec::new();
        for (made, cells) in rules {
            for cell in cells {
                if by_cell.len() <= cell as usize {
                    by_cell.resize(cell as usize + 1, Vec::new());
                }
                by_cell[cell as usize].push(self.rules.len() as u32);
            }
            // What the axis has answered is not asked again.
            let answered = |of: &Option<(Sort, FieldId)>| *of == Some(key);
            let rest = made.tests.into_iter().filter(|(of, _)| !answered(of)).map(|(_, test)| test).collect();
            self.rules.push(Some(Rule { route: made.route, whole: Expression::All(rest), decided: false }));
        }
        let mut listed = Listed {
            axis,
            places: Vec::with_capacity(by_cell.len()),
            rules: Vec::new(),
            by_hits: matches!(self.axes[axis as usize].lookup, Lookup::Ends { .. } | Lookup::Literals(..)),
        };
        for rules in by_cell {
            let from = listed.rules.len() as u32;
            listed.rules.extend(rules);
            listed.places.push((from, listed.rules.len() as u32));
        }
        self.listed.push(listed);
    }

    fn group(&mut self, rules: Vec<Made>, axes: &BTreeMap<(Sort, FieldId), u32>) {
        let (first, words) = (self.rules.len() / 64, rules.len().div_ceil(64));
        let mut mine: Vec<(Sort, FieldId)> = rules.iter().flat_map(|made| made.asks.keys().copied()).collect();
        mine.sort_unstable();
        mine.dedup();
        let mut parts: Vec<(f64, Part)> = Vec::new();
        for key in mine {
            let concerned: Vec<Concerned<'_>> = rules.iter().enumerate().filter_map(|(i, made)| Some((i as u32, made.asks.get(&key)?.as_slice()))).collect();
            let part = Part::build(axes[&key], &self.axes[axes[&key] as usize].lookup, &concerned, rules.len(), words);
            parts.push((part.leaves(rules.len()) + if key.0 == Sort::Literals { 0.2 } else { 0.0 }, part));
        }
        // What leaves least comes first; an automaton costs more than a look-up.
        parts.sort_by(|(a, _), (b, _)| a.total_cmp(b));
        self.groups.push(Group { first, words, parts: parts.into_iter().map(|(_, part)| part).collect() });
        let rule =
            |made: Made| Rule { route: made.route, decided: made.decided, whole: Expression::All(made.tests.into_iter().map(|(_, test)| test).collect()) };
        self.rules.extend(rules.into_iter().map(|made| Some(rule(made))));
        self.rules.resize_with((first + words) * 64, || None);
    }

    /// The rules of the routes for which `of` holds, as bits.
    pub(super) fn mask(&self, of: impl Fn(usize) -> bool) -> Box<[u64]> {
        let mut bits = vec![0; self.rules.len() / 64];
        for (number, rule) in self.rules.iter().enumerate() {
            if rule.as_ref().is_some_and(|rule| of(rule.route as usize)) {
                set(&mut bits, number as u32);
            }
        }
        bits.into()
    }

    /// Puts into `candidates.routes` the routes among `of` (see [`Index::mask`]) whose condition the event meets.
    #[expect(clippy::too_many_arguments, reason = "the event's parts and buffers, borrowed apart")]
    pub(super) fn find(
        &self,
        of: &[u64],
        view: View<'_>,
        fields: &FieldTable,
        tests: &Tests,
        scratch: &mut Vec<u8>,
        memo: &mut Memo,
        candidates: &mut Candidates,
    ) {
        candidates.routes.clear();
        candidates.event += 1;
        if candidates.seen.len() != self.axes.len() {
            *candidates = Candidates { seen: vec![(0, 0); self.axes.len()], found: vec![Vec::new(); self.axes.len()], event: 1, ..Candidates::default() };
        }
        for listed in &self.listed {
            let axis = listed.axis as usize;
            self.see(axis, view, fields, scratch, candidates);
            let Candidates { seen, found, routes, .. } = candidates;
            let cell = [seen[axis].1];
            for place in if listed.by_hits { &found[axis][..] } else { &cell } {
                let (from, to) = listed.places.get(*place as usize).copied().unwrap_or_default();
                for number in &listed.rules[from as usize..to as usize] {
                    if let Some(rule) = &self.rules[*number as usize]
                        && has(of, *number)
                        && tests.holds(&rule.whole, view, fields, scratch, &mut Some(memo))
                    {
                        routes.push(rule.route);
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
                    if rule.decided || tests.holds(&rule.whole, view, fields, scratch, &mut Some(memo)) {
                        candidates.routes.push(rule.route);
                    }
                }
            }
        }
        // A route may have been found by several of its rules.
        if candidates.routes.len() > 1 {
            candidates.routes.sort_unstable();
            candidates.routes.dedup();
        }
    }

    /// Looks the event up on an axis, once.
    #[inline(always)]
    fn see(&self, axis: usize, view: View<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, candidates: &mut Candidates) {
        if candidates.seen[axis].0 != candidates.event {
            let cell = self.axes[axis].look_up(view, fields, scratch, &mut candidates.found[axis]);
            candidates.seen[axis] = (candidates.event, cell);
        }
    }
}

impl Lookup {
    /// The look-up that tells apart whatever `leaves` ask of a field.
    fn of<'a>(sort: Sort, leaves: impl Iterator<Item = &'a Leaf>) -> Lookup {
        fn numbered(texts: &[Vec<u8>], from: usize) -> Texts {
            let mut numbered = Texts::default();
            texts.iter().enumerate().for_each(|(i, text)| numbered.insert(text, (from + i) as u32));
            numbered
        }
        fn distinct(texts: impl Iterator<Item = Vec<u8>>) -> Vec<Vec<u8>> {
            let mut texts: Vec<_> = texts.collect();
            texts.sort();
            texts.dedup();
            texts
        }
        match sort {
            Sort::Text => {
                let texts = distinct(leaves.flat_map(|leaf| values(&leaf.test)));
                Lookup::Text(numbered(&texts, FIRST), texts.iter().map(Vec::len).max().unwrap_or(0))
            }
            Sort::Number => Lookup::Number(sorted(leaves.flat_map(|leaf| bounds(&leaf.test)).collect())),
            Sort::Level => Lookup::Level,
            Sort::Address => {
                let mut starts: Vec<_> = leaves.flat_map(extents).collect();
                starts.sort_unstable();
                starts.dedup();
                let (v4, v6): (Vec<_>, Vec<_>) = starts.into_iter().partition(|(six, _)| !six);
                Lookup::Address { v4: v4.into_iter().map(|(_, a)| a as u32).collect(), v6: v6.into_iter().map(|(_, a)| a).collect() }
            }
            Sort::Beginning | Sort::Ending => {
                let text = |leaf: &Leaf| if let Test::StartsWith(text) | Test::EndsWith(text) = &leaf.test { Some(text.clone().into_bytes()) } else { None };
                let texts = distinct(leaves.filter_map(text));
                let mut lengths: Vec<usize> = texts.iter().map(Vec::len).collect();
                lengths.sort_unstable();
                lengths.dedup();
                Lookup::Ends { lengths, texts: numbered(&texts, 0), last: sort == Sort::Ending }
            }
            Sort::Literals => {
                let texts = distinct(leaves.flat_map(|leaf| literals(&leaf.test)).flatten());
                // A full table is quicker to follow, but takes some hundred bytes for each byte of the literals.
                let small = texts.iter().map(Vec::len).sum::<usize>() <= SMALL_LITERALS;
                match AhoCorasick::builder().kind(small.then_some(AhoCorasickKind::DFA)).build(&texts) {
                    Ok(automaton) => Lookup::Literals(Box::new(automaton), numbered(&texts, 0)),
                    Err(_) => unreachable!("the literals of a plan of 4 MiB fit an automaton"),
                }
            }
        }
    }
}

impl Lookup {
    /// The cells (or what is found) in which alone `leaves` can hold, and what share of all they are; nothing if they are many, or if another value than those named will do.
    fn few(&self, leaves: &[(Check, Leaf)]) -> Option<(f64, Vec<u32>)> {
        let there = |test: &Test, negated: bool| matches!(test, Test::Exists) != negated;
        if leaves.iter().all(|(_, leaf)| leaf.negated) || leaves.iter().all(|(_, leaf)| there(&leaf.test, leaf.negated)) {
            return None;
        }
        let listed = |cells: Vec<u32>, all: usize| {
            let share = cells.len() as f64 / all.max(1) as f64;
            (cells.len() <= MAX_LISTS && share <= FEW_CELLS).then_some((share, cells))
        };
        match self {
            Lookup::Text(texts, longest) => {
                if all(leaves, &vec![b'x'; longest + 1]) {
                    return None;
                }
                let mut cells: Vec<u32> = Vec::new();
                for value in leaves.iter().flat_map(|(_, leaf)| values(&leaf.test)).filter(|value| all(leaves, value)) {
                    cells.extend(texts.get(&value));
                }
                cells.sort_unstable();
                cells.dedup();
                listed(cells, texts.len())
            }
            Lookup::Number(points) => {
                if all(leaves, b"x") {
                    return None;
                }
                let holds = |n: f64| leaves.iter().all(|(check, leaf)| check.says_number(n) != leaf.negated);
                let own = sorted(leaves.iter().flat_map(|(_, leaf)| bounds(&leaf.test)).collect());
                let (first, last) = (own.first()?, own.last()?);
                if holds(below(*first)) || holds(above(*last)) {
                    return None;
                }
                let place = |n: f64| points.partition_point(|p| *p < n);
                let mut cells = Vec::new();
                for (i, n) in own.iter().enumerate() {
                    let at = 2 * place(*n) + 1;
                    if holds(*n) {
                        cells.push((FIRST + at) as u32);
                    }
                    if let Some(next) = own.get(i + 1)
                        && holds(n + (next - n) / 2.0)
                    {
                        let end = 2 * place(*next) + 1;
                        if end - at > MAX_LISTS {
                            return None;
                        }
                        cells.extend((at + 1..end).map(|cell| (FIRST + cell) as u32));
                    }
                }
                listed(cells, 2 * points.len() + 1)
            }
            Lookup::Address { v4, v6 } => {
                let [(_, leaf)] = leaves else { return None };
                let ends = extents(leaf);
                let (first, end) = (place_of(v4, v6, *ends.first()?), place_of(v4, v6, *ends.get(1)?));
                if end - first > MAX_LISTS { None } else { listed((first..end).map(|cell| (FIRST + cell) as u32).collect(), v4.len() + v6.len() + 1) }
            }
            Lookup::Ends { texts, .. } => {
                let [(_, leaf)] = leaves else { return None };
                let (Test::StartsWith(text) | Test::EndsWith(text)) = &leaf.test else { return None };
                listed(texts.get(text.as_bytes()).into_iter().collect(), texts.len())
            }
            Lookup::Literals(_, texts) => {
                let [(_, leaf)] = leaves else { return None };
                let [only] = &literals(&leaf.test)[..] else { return None };
                listed(only.iter().filter_map(|literal| texts.get(literal)).collect(), texts.len())
            }
            Lookup::Level => None,
        }
    }
}

impl Axis {
    /// The cell of the event's value; what is found in it goes to `found`, by number.
    fn look_up(&self, view: View<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, found: &mut Vec<u32>) -> u32 {
        found.clear();
        let span = fields.find(self.field, view.slots);
        let cell = match span.kind {
            Kind::Missing => MISSING,
            Kind::Null => NULL,
            _ => {
                let text = json::text(view.json, span, scratch);
                match &self.lookup {
                    Lookup::Text(cells, _) => cells.get(text).map_or(OTHER, |c| c as usize),
                    Lookup::Number(points) => number(text).map_or(OTHER, |n| {
                        let at = points.partition_point(|p| *p < n);
                        FIRST + 2 * at + usize::from(points.get(at) == Some(&n))
                    }),
                    Lookup::Level => Level::read(text).map_or(OTHER, |level| FIRST + level as usize),
                    Lookup::Address { v4, v6 } => super::test::ip(text).map_or(OTHER, |ip| FIRST + place_of(v4, v6, key(ip))),
                    Lookup::Ends { lengths, texts, last } => {
                        for len in lengths.iter().take_while(|len| **len <= text.len()) {
                            let end = if *last { text.len() } else { *len };
                            found.extend(texts.within(text, end - len, end));
                        }
                        OTHER
                    }
                    Lookup::Literals(automaton, _) => {
                        found.extend(automaton.find_overlapping_iter(text).map(|hit| hit.pattern().as_u32()));
                        OTHER
                    }
                }
            }
        };
        cell as u32
    }
}

impl Part {
    fn build(axis: u32, lookup: &Lookup, rules: &[Concerned<'_>], count: usize, words: usize) -> Part {
        // The rules that it does not concern are in every cell.
        let (mut others, mut concerns) = (vec![0; words], vec![0; words]);
        (0..count as u32).for_each(|rule| set(&mut others, rule));
        for (rule, _) in rules {
            set(&mut concerns, *rule);
            others[*rule as usize / 64] &= !(1 << (rule % 64));
        }
        let mut part = Part { axis, words, concerns, dense: Vec::new(), lists: Vec::new(), cells: Vec::new(), hits: Vec::new(), layers: 0 };
        // Missing and null: every test but `exists` is false.
        for there in [false, true] {
            part.dense_cell(&others, rules, |leaves| leaves.iter().all(|(_, leaf)| (there && leaf.test == Test::Exists) != leaf.negated));
        }
        match lookup {
            Lookup::Text(cells, longest) => part.text(cells, *longest, &others, rules),
            Lookup::Number(points) => part.number(points, &others, rules),
            Lookup::Level => {
                part.dense_cell(&others, rules, |leaves| all(leaves, b""));
                for level in Level::ALL {
                    part.dense_cell(&others, rules, |leaves| all(leaves, level.word().as_bytes()));
                }
            }
            Lookup::Address { v4, v6 } => part.address(v4, v6, &others, rules),
            Lookup::Ends { texts, .. } => {
                part.hits = vec![Vec::new(); texts.len()];
                part.layers = 1;
                part.dense_cell(&others, rules, |_| false);
                for (rule, leaves) in rules {
                    for (_, leaf) in *leaves {
                        if let Test::StartsWith(text) | Test::EndsWith(text) = &leaf.test {
                            let number = texts.get(text.as_bytes()).expect("every text was numbered");
                            part.hits[number as usize].push((0, *rule));
                        }
                    }
                }
            }
            Lookup::Literals(_, texts) => part.literals(texts, &others, rules),
        }
        part
    }

    /// The share of its rules that an event leaves on average, cells counted alike.
    fn leaves(&self, count: usize) -> f64 {
        if self.layers > 0 || self.cells.len() <= OTHER {
            return 0.0;
        }
        let of = |cell: &Cell| {
            let base: u32 = self.dense(cell.base as usize).iter().map(|w| w.count_ones()).sum();
            f64::from(base + (cell.added.1 - cell.added.0)) - f64::from(cell.removed.1 - cell.removed.0)
        };
        self.cells[OTHER..].iter().map(of).sum::<f64>() / ((self.cells.len() - OTHER) * count) as f64
    }

    fn dense(&self, base: usize) -> &[u64] {
        &self.dense[base * self.words..(base + 1) * self.words]
    }

    /// A cell with a dense set of its own: the rules not concerned, and those for which `holds`.
    fn dense_cell(&mut self, others: &[u64], rules: &[Concerned<'_>], holds: impl Fn(&[(Check, Leaf)]) -> bool) {
        let mut bits = others.to_vec();
        for (rule, _) in rules.iter().filter(|(_, leaves)| holds(leaves)) {
            set(&mut bits, *rule);
        }
        self.whole_cell(&bits);
    }

    fn whole_cell(&mut self, bits: &[u64]) {
        let base = (self.dense.len() / self.words) as u32;
        self.dense.extend_from_slice(bits);
        self.cells.push(Cell { base, added: (0, 0), removed: (0, 0) });
    }

    /// A cell that differs from the dense set `base` in the rules `toggled`.
    fn toggled_cell(&mut self, base: usize, toggled: &[u32]) {
        let mut list = |present: bool| {
            let from = self.lists.len() as u32;
            let dense = &self.dense[base * self.words..(base + 1) * self.words];
            self.lists.extend(toggled.iter().filter(|rule| has(dense, **rule) == present));
            (from, self.lists.len() as u32)
        };
        let (added, removed) = (list(false), list(true));
        self.cells.push(Cell { base: base as u32, added, removed });
    }

    fn text(&mut self, cells: &Texts, longest: usize, others: &[u64], rules: &[Concerned<'_>]) {
        // A text that no test names: longer than each of them.
        let stranger = vec![b'x'; longest + 1];
        self.dense_cell(others, rules, |leaves| all(leaves, &stranger));
        let mut toggled: Vec<Vec<u32>> = vec![Vec::new(); cells.len()];
        for (rule, leaves) in rules {
            let usual = all(leaves, &stranger);
            for value in leaves.iter().flat_map(|(_, leaf)| values(&leaf.test)) {
                let cell = cells.get(&value).expect("every text was numbered");
                let toggled = &mut toggled[cell as usize - FIRST];
                if all(leaves, &value) != usual && toggled.last() != Some(rule) {
                    toggled.push(*rule);
                }
            }
        }
        for toggled in toggled {
            if toggled.len() > self.words {
                let mut bits = self.dense(OTHER).to_vec();
                toggled.iter().for_each(|rule| bits[*rule as usize / 64] ^= 1 << (rule % 64));
                self.whole_cell(&bits);
            } else {
                self.toggled_cell(OTHER, &toggled);
            }
        }
    }

    fn number(&mut self, points: &[f64], others: &[u64], rules: &[Concerned<'_>]) {
        // There, but no number.
        self.dense_cell(others, rules, |leaves| all(leaves, b"x"));
        let holds = |leaves: &[(Check, Leaf)], n: f64| leaves.iter().all(|(check, leaf)| check.says_number(n) != leaf.negated);
        let place = |n: f64| points.partition_point(|p| *p < n);
        // What changes on the way into each cell.
        let mut changes: Vec<Vec<u32>> = vec![Vec::new(); 2 * points.len() + 1];
        let mut lowest = others.to_vec();
        for (rule, leaves) in rules {
            let own = sorted(leaves.iter().flat_map(|(_, leaf)| bounds(&leaf.test)).collect());
            let mut was = holds(leaves, own.first().map_or(0.0, |n| below(*n)));
            if was {
                set(&mut lowest, *rule);
            }
            for (i, n) in own.iter().enumerate() {
                let after = own.get(i + 1).map_or_else(|| above(*n), |next| n + (next - n) / 2.0);
                for (cell, at) in [(2 * place(*n) + 1, *n), (2 * place(*n) + 2, after)] {
                    let is = holds(leaves, at);
                    if is != was {
                        changes[cell].push(*rule);
                        was = is;
                    }
                }
            }
        }
        self.run_of_cells(lowest, &changes);
    }

    fn address(&mut self, v4: &[u32], v6: &[u128], others: &[u64], rules: &[Concerned<'_>]) {
        self.dense_cell(others, rules, |leaves| all(leaves, b"x"));
        let mut changes: Vec<Vec<u32>> = vec![Vec::new(); v4.len() + v6.len() + 1];
        let mut lowest = others.to_vec();
        for (rule, leaves) in rules {
            let mut own: Vec<_> = leaves.iter().flat_map(|(_, leaf)| extents(leaf)).collect();
            own.sort_unstable();
            own.dedup();
            let mut was = leaves.iter().all(|(_, leaf)| leaf.negated);
            if was {
                set(&mut lowest, *rule);
            }
            for start in own {
                let is = leaves.iter().all(|(_, leaf)| matches!(&leaf.test, Test::Network(n) if n.contains(address(start))) != leaf.negated);
                if is != was {
                    changes[place_of(v4, v6, start)].push(*rule);
                    was = is;
                }
            }
        }
        self.run_of_cells(lowest, &changes);
    }

    /// Cells in a row, each given by what changes on the way into it. The first holds `now`.
    fn run_of_cells(&mut self, mut now: Vec<u64>, changes: &[Vec<u32>]) {
        let mut base = 0;
        // What differs from the shared set by now: a rule that changed twice does not.
        let mut toggled: Vec<u32> = Vec::new();
        for (cell, changed) in changes.iter().enumerate() {
            for rule in changed {
                now[*rule as usize / 64] ^= 1 << (rule % 64);
                match toggled.iter().position(|t| t == rule) {
                    Some(at) => {
                        toggled.swap_remove(at);
                    }
                    None => toggled.push(*rule),
                }
            }
            if cell % SHARED == 0 || toggled.len() > 2 * SHARED {
                base = self.dense.len() / self.words;
                toggled.clear();
                self.whole_cell(&now);
            } else {
                self.toggled_cell(base, &toggled);
            }
        }
    }

    fn literals(&mut self, texts: &Texts, others: &[u64], rules: &[Concerned<'_>]) {
        self.hits = vec![Vec::new(); texts.len()];
        let mut sets: Vec<(u32, Vec<Vec<Vec<u8>>>)> = Vec::new();
        for (rule, leaves) in rules {
            let mut all: Vec<_> = leaves.iter().flat_map(|(_, leaf)| literals(&leaf.test)).collect();
            all.truncate(LAYERS);
            sets.push((*rule, all));
        }
        self.layers = sets.iter().map(|(_, sets)| sets.len()).max().unwrap_or(0);
        // The dense set of a layer holds the rules that want nothing there.
        for layer in 0..self.layers {
            let mut bits = others.to_vec();
            sets.iter().filter(|(_, sets)| sets.len() <= layer).for_each(|(rule, _)| set(&mut bits, *rule));
            self.whole_cell(&bits);
        }
        for (rule, sets) in &sets {
            for (layer, literals) in sets.iter().enumerate() {
                for literal in literals {
                    let number = texts.get(literal).expect("every text was numbered");
                    self.hits[number as usize].push((layer as u32, *rule));
                }
            }
        }
    }

    /// Takes out of the bits the rules that the event's value on this axis rules out.
    fn narrow(&self, candidates: &mut Candidates) {
        let Candidates { bits, kept, met, found, seen, .. } = candidates;
        let cell = seen[self.axis as usize].1 as usize;
        if self.layers > 0 && cell == OTHER {
            met.clear();
            for hit in &found[self.axis as usize] {
                met.extend(self.hits[*hit as usize].iter().filter(|(_, rule)| has(bits, *rule)));
            }
            for layer in 0..self.layers {
                kept.clear();
                kept.extend(met.iter().filter(|(l, rule)| *l as usize == layer && has(bits, *rule)).map(|(_, rule)| *rule));
                keep(bits, self.dense(OTHER + layer));
                kept.iter().for_each(|rule| set(bits, *rule));
            }
            return;
        }
        let cell = self.cells[cell];
        if cell.added.1 == cell.added.0 && cell.removed.1 == cell.removed.0 {
            keep(bits, self.dense(cell.base as usize));
            return;
        }
        let list = |(from, to): (u32, u32)| &self.lists[from as usize..to as usize];
        kept.clear();
        kept.extend(list(cell.added).iter().filter(|rule| has(bits, **rule)));
        keep(bits, self.dense(cell.base as usize));
        for rule in list(cell.removed) {
            bits[*rule as usize / 64] &= !(1 << (rule % 64));
        }
        kept.iter().for_each(|rule| set(bits, *rule));
    }
}

#[inline]
fn keep(bits: &mut [u64], dense: &[u64]) {
    bits.iter_mut().zip(dense).for_each(|(bits, dense)| *bits &= dense);
}

/// The texts a test names.
fn values(test: &Test) -> Vec<Vec<u8>> {
    let bytes = |l: &Literal| match l {
        Literal::Text(text) => text.clone().into_bytes(),
        other => other.to_string().into_bytes(),
    };
    match test {
        Test::Equals(literal) | Test::Differs(literal) => vec![bytes(literal)],
        Test::OneOf(literals) => literals.iter().map(bytes).collect(),
        _ => Vec::new(),
    }
}

/// The numbers a test names.
fn bounds(test: &Test) -> Vec<f64> {
    // Minus zero is zero.
    let of = |l: &Literal| if let Literal::Number(n) = l { vec![*n + 0.0] } else { Vec::new() };
    match test {
        Test::Equals(l) | Test::Differs(l) | Test::Order(_, l) => of(l),
        Test::Range(a, b) => [of(a), of(b)].concat(),
        Test::OneOf(literals) => literals.iter().flat_map(of).collect(),
        _ => Vec::new(),
    }
}

fn sorted(mut points: Vec<f64>) -> Vec<f64> {
    points.sort_by(f64::total_cmp);
    points.dedup();
    points
}

/// How many of the places where ranges begin or have ended lie at or before an address.
#[inline]
fn place_of(v4: &[u32], v6: &[u128], (six, address): (bool, u128)) -> usize {
    if six { v4.len() + v6.partition_point(|s| *s <= address) } else { v4.partition_point(|s| u128::from(*s) <= address) }
}

fn extents(leaf: &Leaf) -> Vec<(bool, u128)> {
    if let Test::Network(network) = &leaf.test { extent(network) } else { Vec::new() }
}

fn all(leaves: &[(Check, Leaf)], text: &[u8]) -> bool {
    leaves.iter().all(|(check, leaf)| check.says(text) != leaf.negated)
}

/// A number below `n`, with no other bound between.
fn below(n: f64) -> f64 {
    if n == 0.0 { -1.0 } else { n - n.abs() }
}

fn above(n: f64) -> f64 {
    if n == 0.0 { 1.0 } else { n + n.abs() }
}

fn key(ip: IpAddr) -> (bool, u128) {
    match ip.to_canonical() {
        IpAddr::V4(v4) => (false, u128::from(u32::from(v4))),
        IpAddr::V6(v6) => (true, u128::from(v6)),
    }
}

fn address((six, bits): (bool, u128)) -> IpAddr {
    if six { IpAddr::V6(bits.into()) } else { IpAddr::V4((bits as u32).into()) }
}

/// Where a network begins, and where what follows it does.
fn extent(network: &Network) -> Vec<(bool, u128)> {
    let (six, base) = key(network.base);
    // A mapped IPv4 address in IPv6 writing counts its prefix in 32 bits as any other.
    let width = if six { 128 } else { 32 };
    let free = width - u32::from(network.prefix).min(width);
    let mask = if free >= 128 { u128::MAX } else { (1 << free) - 1 };
    let (first, last) = (base & !mask, base | mask);
    let end = if six { u128::MAX } else { u128::from(u32::MAX) };
    let mut ends = vec![(six, first)];
    if last < end {
        ends.push((six, last + 1));
    } else if !six {
        ends.push((true, 0));
    }
    ends
}
