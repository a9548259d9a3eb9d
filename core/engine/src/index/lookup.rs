//! Where an event's value stands among all that rules ask of its field.

use std::net::IpAddr;

use aho_corasick::{AhoCorasick, AhoCorasickKind};
use rockrose_event::address::Network;
use rockrose_event::address::address as ip;
use rockrose_event::field::{FieldId, FieldTable};
use rockrose_event::json::{self, Kind};
use rockrose_event::level::Level;
use rockrose_event::simd;
use rockrose_event::texts::Texts;
use rockrose_language::Test;

use super::rule::{Leaf, LookupKind, above, all, below, bounds, literals, sorted, values};
use super::search::Sorted;
use crate::expression::Check;
use crate::view::{EventView, number_within};

/// Most cells in whose lists one rule stands, and the most of all cells of its axis they may be.
pub(crate) const MAX_LISTS: usize = 64;
pub(crate) const FEW_CELLS: f64 = 0.04;
/// Literals of as many bytes together are looked for by a full table.
pub(crate) const SMALL_LITERALS: usize = 8_000;

/// Cells with a fixed meaning stand first.
pub(crate) const MISSING: usize = 0;
pub(crate) const NULL: usize = 1;
/// There, but nothing the axis knows.
pub(crate) const OTHER: usize = 2;
pub(crate) const FIRST: usize = 3;

/// How a value's cell is found, or what is found in it.
#[derive(Debug)]
pub(crate) enum Lookup {
    /// The cells of the values that are named, and the length of the longest.
    Text(Texts, usize),
    /// Sorted; the cell of what lies between two, and of each itself, in turn.
    Number(Sorted<f64>),
    /// Cells by level, lowest first; and the levels that go by the usual spellings.
    Level(Texts),
    /// Where ranges of addresses begin or have ended, sorted.
    Address { v4: Sorted<u32>, v6: Sorted<u128> },
    /// Beginnings, or endings.
    Ends(Ends),
    /// Literals, by number.
    Literals(Box<AhoCorasick>, Texts),
}

#[derive(Debug)]
pub(crate) struct Axis {
    pub(crate) field: FieldId,
    pub(crate) lookup: Lookup,
}

impl Lookup {
    /// The look-up that tells apart whatever `leaves` ask of a field.
    pub(crate) fn of<'a>(sort: LookupKind, leaves: impl Iterator<Item = &'a Leaf>) -> Lookup {
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
            LookupKind::Text => {
                let texts = distinct(leaves.flat_map(|leaf| values(&leaf.test)));
                Lookup::Text(numbered(&texts, FIRST), texts.iter().map(Vec::len).max().unwrap_or(0))
            }
            LookupKind::Number => Lookup::Number(Sorted::new(sorted(leaves.flat_map(|leaf| bounds(&leaf.test)).collect()))),
            LookupKind::Level => {
                let mut usual = Texts::default();
                for level in Level::ALL {
                    let word = level.word();
                    let capital = word[..1].to_ascii_uppercase() + &word[1..];
                    [word, &capital, &word.to_ascii_uppercase()].iter().for_each(|word| usual.insert(word.as_bytes(), level as u32));
                }
                Lookup::Level(usual)
            }
            LookupKind::Address => {
                let mut starts: Vec<_> = leaves.flat_map(extents).collect();
                starts.sort_unstable();
                starts.dedup();
                let (v4, v6): (Vec<_>, Vec<_>) = starts.into_iter().partition(|(six, _)| !six);
                Lookup::Address { v4: Sorted::new(v4.into_iter().map(|(_, a)| a as u32).collect()), v6: Sorted::new(v6.into_iter().map(|(_, a)| a).collect()) }
            }
            LookupKind::Beginning | LookupKind::Ending => {
                let text = |leaf: &Leaf| if let Test::StartsWith(text) | Test::EndsWith(text) = &leaf.test { Some(text.clone().into_bytes()) } else { None };
                let texts = distinct(leaves.filter_map(text));
                Lookup::Ends(Ends::new(&texts, numbered(&texts, 0), sort == LookupKind::Ending))
            }
            LookupKind::Literals | LookupKind::AnyCase => {
                let texts = distinct(leaves.flat_map(|leaf| literals(&leaf.test)).flatten());
                // A full table is quicker to follow, but takes some hundred bytes for each byte of the literals.
                let small = texts.iter().map(Vec::len).sum::<usize>() <= SMALL_LITERALS;
                let any_case = sort == LookupKind::AnyCase;
                match AhoCorasick::builder().ascii_case_insensitive(any_case).kind(small.then_some(AhoCorasickKind::DFA)).build(&texts) {
                    Ok(automaton) => Lookup::Literals(Box::new(automaton), numbered(&texts, 0)),
                    Err(_) => unreachable!("the literals of a plan of 4 MiB fit an automaton"),
                }
            }
        }
    }
}

impl Lookup {
    /// The cells (or what is found) in which alone `leaves` can hold, and what share of all they are; nothing if they are many, or if another value than those named will do.
    pub(crate) fn few(&self, leaves: &[(Check, Leaf)]) -> Option<(f64, Vec<u32>)> {
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
                let place = |n: f64| points.below(n);
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
            Lookup::Ends(Ends { texts, .. }) => {
                let [(_, leaf)] = leaves else { return None };
                let (Test::StartsWith(text) | Test::EndsWith(text)) = &leaf.test else { return None };
                listed(texts.get(text.as_bytes()).into_iter().collect(), texts.len())
            }
            Lookup::Literals(_, texts) => {
                let [(_, leaf)] = leaves else { return None };
                let [only] = &literals(&leaf.test)[..] else { return None };
                listed(only.iter().filter_map(|literal| texts.get(literal)).collect(), texts.len())
            }
            Lookup::Level(_) => None,
        }
    }
}

impl Axis {
    /// The cell of the event's value; what is found in it goes to `found`, by number.
    pub(crate) fn look_up(&self, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, found: &mut Vec<u32>) -> u32 {
        found.clear();
        let span = fields.find(self.field, view.slots);
        let cell = match span.kind {
            Kind::Missing => MISSING,
            Kind::Null => NULL,
            _ => {
                let (around, start, end) = json::text_within(view.json, span, scratch);
                match &self.lookup {
                    Lookup::Text(cells, _) => cells.within(around, start, end).map_or(OTHER, |c| c as usize),
                    Lookup::Number(points) => number_within(around, start, end).map_or(OTHER, |n| {
                        let at = points.below(n);
                        FIRST + 2 * at + usize::from(points.get(at) == Some(&n))
                    }),
                    Lookup::Level(usual) => {
                        let level = usual.within(around, start, end).or_else(|| Level::read(&around[start..end]).map(|level| level as u32));
                        level.map_or(OTHER, |level| FIRST + level as usize)
                    }
                    Lookup::Address { v4, v6 } => ip(&around[start..end]).map_or(OTHER, |ip| FIRST + place_of(v4, v6, key(ip))),
                    Lookup::Ends(ends) => {
                        ends.find(around, start, end, found);
                        OTHER
                    }
                    Lookup::Literals(automaton, _) => {
                        found.extend(automaton.find_overlapping_iter(&around[start..end]).map(|hit| hit.pattern().as_u32()));
                        OTHER
                    }
                }
            }
        };
        cell as u32
    }
}

/// Texts that others begin or end with.
#[derive(Debug)]
pub(crate) struct Ends {
    pub(crate) texts: Texts,
    /// How long they are, the shortest first.
    lengths: Vec<usize>,
    /// They are endings.
    last: bool,
    /// A bit for each outermost piece, of as many bytes as the shortest has (at most eight), at the place it is hashed to. Most texts meet none.
    pieces: Vec<u64>,
}

impl Ends {
    fn new(texts: &[Vec<u8>], numbered: Texts, last: bool) -> Ends {
        let mut lengths: Vec<usize> = texts.iter().map(Vec::len).collect();
        lengths.sort_unstable();
        lengths.dedup();
        let mut ends = Ends { texts: numbered, lengths, last, pieces: vec![0; (texts.len() / 4 + 1).next_power_of_two()] };
        for text in texts {
            let bit = ends.piece(text, 0, text.len());
            ends.pieces[bit / 64] |= 1 << (bit % 64);
        }
        ends
    }

    /// The bit of the outermost piece of `around[start..end]`, which is no shorter than the shortest.
    #[inline(always)]
    fn piece(&self, around: &[u8], start: usize, end: usize) -> usize {
        let len = self.lengths[0].min(8);
        let word = simd::eight(around, if self.last { end - len } else { start });
        let piece = if len < 8 { word & ((1 << (8 * len)) - 1) } else { word };
        (piece.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 32) as usize & (64 * self.pieces.len() - 1)
    }

    /// Puts into `found` the numbers of those that `around[start..end]` begins or ends with.
    #[inline(always)]
    fn find(&self, around: &[u8], start: usize, end: usize, found: &mut Vec<u32>) {
        let len = end - start;
        if len < self.lengths[0] {
            return;
        }
        let bit = self.piece(around, start, end);
        if self.pieces[bit / 64] >> (bit % 64) & 1 == 0 {
            return;
        }
        for own in self.lengths.iter().take_while(|own| **own <= len) {
            let from = if self.last { end - own } else { start };
            found.extend(self.texts.within(around, from, from + own));
        }
    }
}

/// How many of the places where ranges begin or have ended lie at or before an address.
#[inline]
pub(crate) fn place_of(v4: &Sorted<u32>, v6: &Sorted<u128>, (six, address): (bool, u128)) -> usize {
    if six { v4.len() + v6.up_to(address) } else { v4.up_to(address as u32) }
}

pub(crate) fn extents(leaf: &Leaf) -> Vec<(bool, u128)> {
    if let Test::Network(network) = &leaf.test { extent(network) } else { Vec::new() }
}

pub(crate) fn key(ip: IpAddr) -> (bool, u128) {
    match ip.to_canonical() {
        IpAddr::V4(v4) => (false, u128::from(u32::from(v4))),
        IpAddr::V6(v6) => (true, u128::from(v6)),
    }
}

pub(crate) fn address((six, bits): (bool, u128)) -> IpAddr {
    if six { IpAddr::V6(bits.into()) } else { IpAddr::V4((bits as u32).into()) }
}

/// Where a network begins, and where what follows it does.
pub(crate) fn extent(network: &Network) -> Vec<(bool, u128)> {
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
