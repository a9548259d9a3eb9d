//! A pattern, and the sentences that read, find and cut its messages.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use crate::miner::{Element, MANY, ONE, SEVERITIES, Shape, Skeleton, elements};
use crate::pieces::{Kind, Piece, Sort, cut};
use crate::settle::Group;
use crate::trend::Trend;

/// Most examples of a pattern.
const MOST_EXAMPLES: usize = 5;
/// Most ways of writing it that one `parse` sentence reads.
const MOST_FORMATS: usize = 6;
/// Most numbers beside one another that are fields of their own; more are a list.
const MOST_BESIDE: usize = 6;
/// Longest name of a field.
const LONGEST_NAME: usize = 40;

/// A part of a pattern that varies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Varying {
    /// What its field is called.
    pub name: String,
    /// What it is made of.
    pub sort: Sort,
}

/// Messages that are alike.
#[derive(Clone, Debug)]
pub struct Pattern {
    /// The same for the same pattern, wherever it was found.
    pub id: String,
    /// Its text, with the names of what varies in braces.
    pub text: String,
    /// What varies, in the order of the text.
    pub varying: Vec<Varying>,
    /// How many messages there were.
    pub times: u64,
    /// Their bytes.
    pub bytes: u64,
    /// When the first one came, in milliseconds since 1970.
    pub first_ms: i64,
    /// When the last one came.
    pub last_ms: i64,
    /// How many there were of each severity: unknown, then trace to fatal.
    pub severities: [u64; SEVERITIES],
    /// Where they came from, and how many from there.
    pub origins: Vec<(String, u64)>,
    /// How many came when.
    pub trend: Trend,
    /// Some of them.
    pub examples: Vec<String>,
    /// Ways of writing it as templates of `parse`, the most frequent first, with how many were written so.
    pub formats: Vec<(String, u64)>,
    /// A regular expression that meets its messages.
    pub expression: String,
}

impl Pattern {
    /// The sentence that reads what varies into fields; nothing, if nothing does.
    #[must_use]
    pub fn parse(&self, field: &str) -> Option<String> {
        if self.varying.is_empty() {
            return None;
        }
        let mut sentence = format!("parse {field} as ");
        for (i, (format, _)) in self.formats.iter().take(MOST_FORMATS).enumerate() {
            let _ = write!(sentence, "{}{}", if i == 0 { "" } else { " else " }, quoted(format));
        }
        Some(sentence)
    }

    /// The condition that its messages meet.
    #[must_use]
    pub fn condition(&self, field: &str) -> String {
        match (self.varying.is_empty(), self.examples.as_slice()) {
            (true, [only]) => format!("{field} = {}", quoted(only)),
            _ => format!("{field} matches /{}/", self.expression.replace('/', "\\/")),
        }
    }
}

/// Sentences about a pattern's messages, each ready to be put into a plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sentences {
    /// Reads what varies into fields; nothing, if nothing does.
    pub parse: Option<String>,
    /// Removes them.
    pub drop: String,
    /// Keeps one in ten.
    pub sample: String,
    /// Keeps ten a second.
    pub limit: String,
    /// Makes those that come within half a minute one event.
    pub merge: String,
    /// Counts them, so that their trend stays when they are cut.
    pub count: String,
    /// Measures the first number that `parse` reads, if it reads one.
    pub measure: Option<String>,
}

impl Pattern {
    /// Sentences about its messages, whose text is in `field`.
    #[must_use]
    pub fn sentences(&self, field: &str) -> Sentences {
        let condition = self.condition(field);
        let name = format!("messages_{}", &self.id[..8]);
        let number = self.varying.iter().find(|v| matches!(v.sort, Sort::Integer | Sort::Number));
        Sentences {
            parse: self.parse(field),
            drop: format!("drop {condition}"),
            sample: format!("sample 1 in 10 when {condition}"),
            limit: format!("limit 10 per second when {condition}"),
            merge: format!("merge repeats within 30 seconds by severity when {condition}"),
            count: format!("count as {name} when {condition}"),
            measure: number.map(|number| format!("measure {0} as {name}_{0} when {condition}", number.name)),
        }
    }
}

/// A text as the language writes it.
fn quoted(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    out.push('"');
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            c if c.is_control() => {
                let _ = write!(out, "\\u{{{:x}}}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// A writing of the pattern, cut into pieces.
struct Writing<'a> {
    shape: &'a Shape,
    text: String,
    pieces: Vec<Piece>,
    elements: Vec<Element>,
    /// Of each element, which of those that vary it is.
    slots: Vec<Option<usize>>,
    /// The element that is all that is left.
    rest: usize,
}

/// What is known of a part that varies, from all writings.
#[derive(Clone, Default)]
struct Slot {
    sorts: u16,
    /// How many pieces it had.
    counts: BTreeSet<usize>,
    /// That it has had one, two, three or more: a bit for each.
    had: u16,
    is_quoted: bool,
    is_rest: bool,
    /// What stands before it.
    before: Option<String>,
}

impl Slot {
    fn sort(&self) -> Sort {
        let only = |sorts: &[Sort]| sorts.iter().fold(0, |all, sort| all | 1 << *sort as u16) & self.sorts == self.sorts;
        match () {
            () if self.is_rest => Sort::Rest,
            () if self.is_list() => Sort::List,
            () if only(&[Sort::Integer]) => Sort::Integer,
            () if only(&[Sort::Integer, Sort::Number]) => Sort::Number,
            () if only(&[Sort::Integer, Sort::Number, Sort::Amount]) => Sort::Amount,
            () if only(&[Sort::Time]) => Sort::Time,
            () if only(&[Sort::Ip]) => Sort::Ip,
            () if only(&[Sort::Ip, Sort::Address]) => Sort::Address,
            () if only(&[Sort::Path]) => Sort::Path,
            () if self.is_quoted => Sort::Quoted,
            () if only(&[Sort::Id, Sort::Integer, Sort::Amount, Sort::Number]) => Sort::Id,
            () => Sort::Word,
        }
    }

    fn is_list(&self) -> bool {
        self.had.count_ones() > 1 || self.counts.len() > 1 || self.counts.last().is_some_and(|count| *count > MOST_BESIDE)
    }

    /// As how many fields it is read.
    fn fields(&self) -> usize {
        if self.is_rest || self.is_list() { 1 } else { self.counts.last().copied().unwrap_or(1).max(1) }
    }
}

pub(crate) fn build<'a>(group: &Group, skeleton: impl Fn(u64) -> &'a Skeleton, origins: &[String]) -> Pattern {
    let members: Vec<&Skeleton> = group.members.iter().map(|key| skeleton(*key)).collect();
    let rest = group.rest.map_or(usize::MAX, usize::from);
    let mut writings: Vec<Writing<'a>> = Vec::new();
    for member in &members {
        for shape in &member.shapes {
            writings.push(Writing::new(shape, &group.wild, rest));
        }
    }
    let slots = slots(&writings);
    let names = names(&slots);
    let mut tally = members[0].tally.clone();
    members[1..].iter().for_each(|member| tally.merge(&member.tally));
    let mut formats: BTreeMap<String, u64> = BTreeMap::new();
    for writing in &writings {
        *formats.entry(writing.format(&slots, &names, true)).or_default() += writing.shape.times;
    }
    let mut formats: Vec<(String, u64)> = formats.into_iter().collect();
    formats.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    let mut seen = BTreeSet::new();
    let examples = writings.iter().map(|writing| writing.text.clone()).filter(|text| seen.insert(text.clone())).take(MOST_EXAMPLES).collect();
    let mut from: Vec<(String, u64)> =
        tally.origins.iter().map(|(origin, times)| (origins.get(usize::from(*origin)).cloned().unwrap_or_default(), *times)).collect();
    from.sort();
    let varying = names.iter().flatten().cloned().collect();
    Pattern {
        id: format!("{:016x}", xxhash_rust::xxh3::xxh3_64(&writings[0].canonical())),
        text: tidy(&writings[0].format(&slots, &names, false)),
        varying,
        times: tally.times,
        bytes: tally.bytes,
        first_ms: tally.first_ms,
        last_ms: tally.last_ms,
        severities: tally.severities,
        origins: from,
        trend: tally.trend,
        examples,
        formats,
        expression: expression(&writings, &slots),
    }
}

/// White space as one blank.
fn tidy(text: &str) -> String {
    text.split_ascii_whitespace().collect::<Vec<_>>().join(" ")
}

impl<'a> Writing<'a> {
    fn new(shape: &'a Shape, wild: &[u16], rest: usize) -> Writing<'a> {
        // What is no UTF-8 is shown replaced, and cut anew, so that places are those of the text.
        let text = String::from_utf8_lossy(&shape.example).into_owned();
        let mut pieces = Vec::new();
        cut(text.as_bytes(), &mut pieces);
        let mut elements = elements(&pieces);
        elements.truncate(rest.saturating_add(1));
        if let Some(last) = elements.get_mut(rest) {
            *last = Element { first: last.first, end: pieces.len() as u16, is_var: true };
        }
        for place in wild {
            if let Some(element) = elements.get_mut(usize::from(*place)) {
                element.is_var = true;
            }
        }
        let mut count = 0;
        let slots = elements
            .iter()
            .map(|element| {
                element.is_var.then(|| {
                    count += 1;
                    count - 1
                })
            })
            .collect();
        Writing { shape, text, pieces, elements, slots, rest }
    }

    /// The pieces of an element that are parts of it, not commas between them.
    fn parts(&self, element: &Element) -> Vec<Piece> {
        let pieces = &self.pieces[usize::from(element.first)..usize::from(element.end)];
        let parts: Vec<Piece> = pieces.iter().filter(|p| matches!(p.kind, Kind::Var(_))).copied().collect();
        if parts.is_empty() { pieces.first().copied().into_iter().collect() } else { parts }
    }

    /// The text as a template of `parse`, or as it is shown.
    fn format(&self, slots: &[Slot], names: &[Vec<Varying>], typed: bool) -> String {
        let mut out = String::new();
        let mut at = 0;
        let literal = |out: &mut String, text: &str| out.push_str(&text.replace('{', "{{").replace('}', "}}"));
        for (element, slot) in self.elements.iter().zip(&self.slots) {
            let Some((slot, names)) = slot.and_then(|slot| Some((slots.get(slot)?, names.get(slot)?))) else { continue };
            let parts = self.parts(element);
            let first = parts.first().map_or(at, |p| p.start as usize);
            let last = self.pieces[usize::from(element.end) - 1].end as usize;
            literal(&mut out, self.text.get(at..first).unwrap_or_default());
            at = last;
            if slot.is_rest {
                at = self.text.len();
            }
            if names.len() == parts.len() && !slot.is_rest && !slot.is_list() {
                let mut between = first;
                for (part, name) in parts.iter().zip(names) {
                    literal(&mut out, self.text.get(between..part.start as usize).unwrap_or_default());
                    place(&mut out, name, typed);
                    between = part.end as usize;
                }
                at = between;
            } else if let Some(name) = names.first() {
                place(&mut out, name, typed);
            }
        }
        let is_cut = self.shape.is_cut();
        let tail = if is_cut { self.pieces.last().map_or(at, |p| p.start as usize).max(at) } else { self.text.len() };
        literal(&mut out, self.text.get(at..tail).unwrap_or_default());
        if is_cut && !self.slots.last().is_some_and(|last| last.and_then(|slot| slots.get(slot)).is_some_and(|slot| slot.is_rest)) {
            out.push_str(if typed { "{_:rest}" } else { " {…}" });
        }
        out
    }

    /// What makes the pattern the one it is, for its id.
    fn canonical(&self) -> Vec<u8> {
        let mut out = Vec::new();
        for element in &self.elements {
            match element.is_var {
                true => out.push(0),
                false => out.extend_from_slice(self.pieces[usize::from(element.first)].of(self.text.as_bytes())),
            }
            out.push(0x1f);
        }
        out
    }
}

fn place(out: &mut String, of: &Varying, typed: bool) {
    let sort = match of.sort {
        Sort::Integer => ":integer",
        Sort::Number => ":number",
        Sort::Ip => ":ip",
        Sort::Rest => ":rest",
        Sort::List => "",
        _ => ":word",
    };
    let _ = write!(out, "{{{}{}}}", of.name, if typed { sort } else { "" });
}

/// What is known of each part that varies.
fn slots(writings: &[Writing<'_>]) -> Vec<Slot> {
    let mut slots: Vec<Slot> = Vec::new();
    for writing in writings {
        // What varies by itself has its sorts noted, in order.
        let mut noted = writing.shape.sorts.iter();
        for (place, (element, slot)) in writing.elements.iter().zip(&writing.slots).enumerate() {
            let Some(number) = *slot else { continue };
            if slots.len() <= number {
                slots.resize(number + 1, Slot::default());
            }
            let first = writing.pieces[usize::from(element.first)];
            let slot = &mut slots[number];
            let by_itself = matches!(first.kind, Kind::Var(_));
            let noted = if by_itself { noted.next().copied().unwrap_or(0) } else { 1 << Sort::Word as u16 };
            slot.sorts |= noted & (ONE - 1);
            slot.had |= noted & !(ONE - 1);
            slot.is_rest |= place == writing.rest;
            let parts = writing.parts(element).len();
            slot.counts.insert(parts);
            // More than three are told apart only for the whole of it.
            let many = parts > 3 && !writing.shape.is_even;
            slot.had |= if many { ONE | MANY } else { 0 };
            let mark = |piece: Option<&Piece>| piece.is_some_and(|p| matches!(p.kind, Kind::Mark(b'"' | b'\'')));
            let around = |at: Option<usize>| at.and_then(|at| writing.pieces.get(at));
            slot.is_quoted |= mark(around(usize::from(element.first).checked_sub(1))) && mark(around(Some(usize::from(element.end))));
            if slot.before.is_none() {
                slot.before = writing.name_before(place);
            }
        }
    }
    slots
}

impl Writing<'_> {
    /// The word that stands before an element, as far as it says what that is.
    fn name_before(&self, place: usize) -> Option<String> {
        let before = self.elements[..place].iter().rev().take(2).take_while(|e| !e.is_var);
        for element in before {
            let piece = self.pieces[usize::from(element.first)];
            match piece.kind {
                Kind::Word => return Some(String::from_utf8_lossy(piece.of(self.text.as_bytes())).into_owned()),
                Kind::Mark(b'=' | b':' | b'[' | b'(' | b'"' | b'\'' | b'#') => {}
                _ => return None,
            }
        }
        None
    }
}

/// What the fields of each part are called.
fn names(slots: &[Slot]) -> Vec<Vec<Varying>> {
    let mut taken: BTreeSet<String> = BTreeSet::new();
    let mut all = Vec::new();
    for slot in slots {
        let sort = slot.sort();
        let what = match sort {
            Sort::Integer | Sort::Number | Sort::Amount => "number",
            Sort::Time => "at",
            Sort::Ip | Sort::Address => "address",
            Sort::Id => "id",
            Sort::Path => "path",
            Sort::Word => "name",
            Sort::Quoted => "text",
            Sort::List => "list",
            Sort::Rest => "rest",
        };
        let before = slot.before.as_deref().map(tame).unwrap_or_default();
        const LEADS: [&str; 20] =
            ["for", "by", "from", "to", "of", "on", "in", "at", "with", "as", "via", "into", "is", "and", "or", "not", "when", "the", "a", "after"];
        let stem = match before.as_str() {
            "" => what.to_owned(),
            lead if LEADS.contains(&lead) => format!("{lead}_{what}"),
            name => name.to_owned(),
        };
        let varying = (0..slot.fields()).map(|_| {
            let mut name = stem.clone();
            let mut number = 2;
            while !taken.insert(name.clone()) {
                name = format!("{stem}_{number}");
                number += 1;
            }
            Varying { name, sort }
        });
        all.push(varying.collect());
    }
    all
}

/// A word as the name of a field.
fn tame(word: &str) -> String {
    let kept: String = word.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' }).take(LONGEST_NAME).collect();
    let kept = kept.trim_matches('_').to_owned();
    if kept.starts_with(|c: char| c.is_ascii_alphabetic()) { kept } else { String::new() }
}

/// A regular expression that meets the pattern's messages.
fn expression(writings: &[Writing<'_>], slots: &[Slot]) -> String {
    let first = &writings[0];
    let mut out = String::from("^\\s*");
    for (place, element) in first.elements.iter().enumerate() {
        if place > 0 {
            // How wide the gap before it is, in all writings.
            let gaps: BTreeSet<bool> = writings.iter().filter_map(|w| w.gap(place)).collect();
            out.push_str(match (gaps.contains(&true), gaps.contains(&false)) {
                (true, true) => "\\s*",
                (true, false) => "\\s+",
                _ => "",
            });
        }
        match first.slots[place].and_then(|slot| slots.get(slot)) {
            Some(slot) if slot.is_rest => {
                out.push_str(".*");
                return out;
            }
            Some(slot) => {
                let is_wide = slot.is_list() || slot.fields() > 1;
                out.push_str(if is_wide { ".+?" } else { "\\S+?" });
            }
            None => escape(&String::from_utf8_lossy(first.pieces[usize::from(element.first)].of(first.text.as_bytes())), &mut out),
        }
        let units: BTreeSet<Option<String>> = writings.iter().map(|w| w.unit(place)).collect();
        if units.iter().any(Option::is_some) {
            // Numbers in them may be others.
            let named: BTreeSet<String> = units.iter().flatten().map(|unit| if unit.starts_with('*') { "\\*\\d+".to_owned() } else { unit.clone() }).collect();
            let named: Vec<String> = named.into_iter().collect();
            let _ = write!(out, "(?:\\s*(?:{})){}", named.join("|"), if units.contains(&None) { "?" } else { "" });
        }
    }
    out.push_str(if writings.iter().any(|w| w.shape.is_cut()) { "" } else { "\\s*$" });
    out
}

impl Writing<'_> {
    fn gap(&self, place: usize) -> Option<bool> {
        let (before, here) = (self.elements.get(place.checked_sub(1)?)?, self.elements.get(place)?);
        let unit = self.pieces.get(usize::from(before.end)).filter(|p| p.kind == Kind::Unit);
        Some(unit.map_or(self.pieces[usize::from(before.end) - 1].end, |unit| unit.end) < self.pieces[usize::from(here.first)].start)
    }

    /// The unit behind an element.
    fn unit(&self, place: usize) -> Option<String> {
        let element = self.elements.get(place)?;
        let behind = self.pieces.get(usize::from(element.end)).filter(|p| p.kind == Kind::Unit)?;
        Some(String::from_utf8_lossy(behind.of(self.text.as_bytes())).into_owned())
    }
}

fn escape(text: &str, out: &mut String) {
    for c in text.chars() {
        if !c.is_ascii_alphanumeric()
            && c.is_ascii()
            && c != '_'
            && !c.is_ascii_control()
            && !matches!(c, '/' | '<' | '>' | '"' | '\'' | '!' | '%' | ',' | ':' | ';' | '=' | '@' | '`' | ' ')
        {
            out.push('\\');
        }
        out.push(c);
    }
}
