//! Rules that stand together as bits, and what each axis says of them.

use rockrose_event::level::Level;
use rockrose_event::texts::Texts;
use rockrose_language::Test;

use super::Candidates;
use super::lookup::{Ends, FIRST, Lookup, OTHER, address, extents, place_of};
use super::rule::{LAYERS, Leaf, above, all, below, bounds, literals, sorted, values};
use super::search::Sorted;
use crate::expression::Check;

/// How many cells of a searched axis share one dense set.
pub(crate) const SHARED: usize = 32;

/// Rules that stand together.
#[derive(Debug)]
pub(crate) struct Group {
    /// Where its words begin.
    pub(crate) first: usize,
    pub(crate) words: usize,
    pub(crate) parts: Vec<Part>,
}

/// What one axis says of the rules of one group.
#[derive(Debug)]
pub(crate) struct Part {
    pub(crate) axis: u32,
    pub(crate) words: usize,
    /// The rules it has a say in.
    pub(crate) concerns: Vec<u64>,
    pub(crate) dense: Vec<u64>,
    pub(crate) lists: Vec<u32>,
    pub(crate) cells: Vec<Cell>,
    /// Of what is found in a text: by its number, the rules it leaves possible, and in which layer; of a rule in several layers, each must be met.
    pub(crate) hits: Vec<Vec<(u32, u32)>>,
    pub(crate) layers: usize,
}

#[derive(Clone, Copy, Debug)]
pub(crate) struct Cell {
    /// Which dense set.
    base: u32,
    /// Which rules of the lists are in the cell beyond it, and which are not.
    added: (u32, u32),
    removed: (u32, u32),
}

/// A rule of a group: its place there, and its tests on the axis in question.
pub(crate) type Concerned<'a> = (u32, &'a [(Check, Leaf)]);

impl Part {
    pub(crate) fn build(axis: u32, lookup: &Lookup, rules: &[Concerned<'_>], count: usize, words: usize) -> Part {
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
            Lookup::Level(_) => {
                part.dense_cell(&others, rules, |leaves| all(leaves, b""));
                for level in Level::ALL {
                    part.dense_cell(&others, rules, |leaves| all(leaves, level.word().as_bytes()));
                }
            }
            Lookup::Address { v4, v6 } => part.address(v4, v6, &others, rules),
            Lookup::Ends(Ends { texts, .. }) => {
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
    pub(crate) fn leaves(&self, count: usize) -> f64 {
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

    fn number(&mut self, points: &Sorted<f64>, others: &[u64], rules: &[Concerned<'_>]) {
        // There, but no number.
        self.dense_cell(others, rules, |leaves| all(leaves, b"x"));
        let holds = |leaves: &[(Check, Leaf)], n: f64| leaves.iter().all(|(check, leaf)| check.says_number(n) != leaf.negated);
        let place = |n: f64| points.below(n);
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

    fn address(&mut self, v4: &Sorted<u32>, v6: &Sorted<u128>, others: &[u64], rules: &[Concerned<'_>]) {
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
    pub(crate) fn narrow(&self, candidates: &mut Candidates) {
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

pub(crate) fn set(bits: &mut [u64], at: u32) {
    bits[at as usize / 64] |= 1 << (at % 64);
}

pub(crate) fn has(bits: &[u64], at: u32) -> bool {
    bits[at as usize / 64] >> (at % 64) & 1 == 1
}

#[inline]
pub(crate) fn keep(bits: &mut [u64], dense: &[u64]) {
    bits.iter_mut().zip(dense).for_each(|(bits, dense)| *bits &= dense);
}
