//! Which skeletons are of one pattern: those that differ only where words vary.
//!
//! A word that varies is told from one that is part of the text by how many others stand in its place. How many there must be depends on what they look like and on what stands before:
//! after `user`, two names are enough; of states in capital letters it takes many.

use std::collections::{BTreeMap, HashMap, HashSet};

use crate::miner::{Skeleton, elements};
use crate::pieces::{Kind, Piece, cut};

/// Skeletons of one pattern.
#[derive(Clone, Debug)]
pub(crate) struct Group {
    /// Their keys, in order.
    pub(crate) members: Vec<u64>,
    /// The elements that vary though they are words, or though they are not in all of them.
    pub(crate) wild: Vec<u16>,
    /// From this element on, all varies.
    pub(crate) rest: Option<u16>,
}

/// What varies.
const VAR: u32 = 0;
/// A mark stands for itself behind this.
const MARKS: u32 = 1;
/// Numbers of words begin here.
const WORDS: u32 = 257;
/// Times that all are compared, at most.
const ROUNDS: usize = 6;
/// So many different endings make a common beginning a pattern.
const MANY_ENDINGS: usize = 12;
/// A common beginning has at least so many words.
const LONG_BEGINNING: usize = 3;

/// What a word looks like.
#[derive(Clone, Copy, Debug, Default)]
struct Look {
    /// In capital letters.
    is_loud: bool,
    /// Not as words of a language are written.
    is_name: bool,
    /// With dots in it.
    is_dotted: bool,
    /// It says yes or no.
    is_switch: bool,
    /// What follows is mostly a name.
    names_next: bool,
    /// What follows may be a name.
    leads_on: bool,
    /// Who or what something is done for, or by.
    is_about: bool,
}

impl Look {
    fn of(word: &[u8]) -> Look {
        const NAMES_NEXT: [&[u8]; 34] = [
            b"user",
            b"User",
            b"username",
            b"account",
            b"host",
            b"Host",
            b"hostname",
            b"node",
            b"device",
            b"class",
            b"named",
            b"interface",
            b"module",
            b"package",
            b"job",
            b"queue",
            b"topic",
            b"table",
            b"database",
            b"file",
            b"directory",
            b"folder",
            b"service",
            b"client",
            b"server",
            b"container",
            b"pod",
            b"image",
            b"group",
            b"method",
            b"function",
            b"domain",
            b"port",
            b"key",
        ];
        const LEADS_ON: [&[u8]; 16] =
            [b"for", b"by", b"from", b"to", b"of", b"on", b"in", b"at", b"with", b"as", b"via", b"into", b"is", b"named", b"called", b"process"];
        const SWITCHES: [&[u8]; 12] = [b"on", b"off", b"On", b"Off", b"true", b"false", b"True", b"False", b"yes", b"no", b"Yes", b"No"];
        let letters = || word.iter().filter(|b| b.is_ascii_alphabetic());
        let inner_capital = word.windows(2).any(|w| w[0].is_ascii_lowercase() && w[1].is_ascii_uppercase());
        Look {
            is_loud: word.len() > 1 && letters().count() > 1 && letters().all(u8::is_ascii_uppercase),
            is_dotted: word.contains(&b'.'),
            is_switch: SWITCHES.contains(&word),
            is_name: inner_capital || word.iter().any(|b| matches!(b, b'_' | b'.' | b'/' | b'-' | b'$' | b'@' | b'#' | b'*' | b'+')),
            names_next: NAMES_NEXT.contains(&word),
            leads_on: LEADS_ON.contains(&word),
            is_about: matches!(word, b"for" | b"by"),
        }
    }
}

/// Words by their numbers.
#[derive(Default)]
struct Words<'a> {
    numbers: HashMap<&'a [u8], u32>,
    looks: Vec<Look>,
}

impl<'a> Words<'a> {
    fn number(&mut self, word: &'a [u8]) -> u32 {
        let looks = &mut self.looks;
        *self.numbers.entry(word).or_insert_with(|| {
            looks.push(Look::of(word));
            WORDS + looks.len() as u32 - 1
        })
    }

    fn look(&self, element: u32) -> Look {
        element.checked_sub(WORDS).and_then(|word| self.looks.get(word as usize)).copied().unwrap_or_default()
    }
}

/// A pattern in the making.
struct Candidate {
    elements: Vec<u32>,
    /// Numbers of skeletons.
    members: Vec<usize>,
    /// What varied in a member already stays so.
    wild: Vec<u16>,
    rest: Option<u16>,
}

impl Candidate {
    fn words(&self) -> usize {
        self.elements.iter().filter(|e| **e >= WORDS).count()
    }
}

fn hash(elements: impl Iterator<Item = u32>) -> u64 {
    elements.fold(0x7a, |hash: u64, element| (hash.rotate_left(7) ^ u64::from(element)).wrapping_mul(0x9e37_79b9_7f4a_7c15))
}

/// How many different words in one place tell that it varies.
fn enough(words: &Words<'_>, at: usize, (before, after): (u32, u32), values: &HashSet<u32>) -> usize {
    let looks = || values.iter().filter(|value| **value >= WORDS).map(|value| words.look(*value));
    let most = |is: fn(Look) -> bool| 2 * looks().filter(|look| is(*look)).count() > values.len();
    let before = words.look(before);
    match () {
        () if looks().all(|look| look.is_switch) => 2,
        () if before.names_next => 2,
        // Something with digits in it stands there as well.
        () if values.contains(&VAR) => 3,
        () if most(|look| look.is_dotted) => 4,
        () if at == 0 => 10,
        () if most(|look| look.is_loud) => 8,
        () if most(|look| look.is_name) => 3,
        // `for ann from`
        () if before.is_about && words.look(after).leads_on => 2,
        () if before.leads_on => 4,
        () => 6,
    }
}

/// Puts skeletons together, each with its key, that are of one pattern. They come in order of their keys, and what is returned does not depend on anything else.
pub(crate) fn settle(skeletons: &[(u64, &Skeleton)]) -> Vec<Group> {
    let mut words = Words::default();
    let mut pieces: Vec<Piece> = Vec::new();
    // Only those that have as many elements and the same marks in the same places are compared.
    let mut buckets: BTreeMap<u64, Vec<Candidate>> = BTreeMap::new();
    let mut cut_off = Vec::new();
    for (number, (_, skeleton)) in skeletons.iter().enumerate() {
        let text = skeleton.example();
        cut(text, &mut pieces);
        let mut of: Vec<u32> = elements(&pieces)
            .iter()
            .map(|element| match pieces[usize::from(element.first)].kind {
                _ if element.is_var => VAR,
                Kind::Mark(mark) => MARKS + u32::from(mark),
                _ => words.number(pieces[usize::from(element.first)].of(text)),
            })
            .collect();
        for wild in &skeleton.wild {
            if let Some(element) = of.get_mut(usize::from(*wild)) {
                *element = VAR;
            }
        }
        let candidate = |elements| Candidate { elements, members: vec![number], wild: skeleton.wild.clone(), rest: skeleton.rest };
        match skeleton.rest {
            Some(rest) => {
                of.truncate(usize::from(rest));
                cut_off.push(candidate(of));
            }
            None => {
                let marks = of.iter().map(|e| if (MARKS..WORDS).contains(e) { *e } else { VAR });
                buckets.entry(hash(marks)).or_default().push(candidate(of));
            }
        }
    }
    let mut settled = Vec::new();
    for mut bucket in buckets.into_values() {
        for _ in 0..ROUNDS {
            let before = bucket.len();
            if before == 1 {
                break;
            }
            bucket = by_one_place(rare_words(bucket, &words), &words);
            if bucket.len() == before {
                break;
            }
        }
        settled.extend(bucket);
    }
    let settled = by_beginning(settled, cut_off);
    let mut groups: Vec<Group> = settled
        .into_iter()
        .map(|candidate| {
            let mut members: Vec<usize> = candidate.members;
            members.sort_unstable();
            Group { members: members.into_iter().map(|number| skeletons[number].0).collect(), wild: candidate.wild, rest: candidate.rest }
        })
        .collect();
    groups.sort_by_key(|group| group.members[0]);
    groups
}

/// Puts together candidates that become the same once some of their words count as varying, given that each of those places has enough different words.
fn joined(bucket: Vec<Candidate>, words: &Words<'_>, sets: &[Vec<usize>]) -> Vec<Candidate> {
    let mut bucket: Vec<Option<Candidate>> = bucket.into_iter().map(Some).collect();
    let mut joined = Vec::new();
    for set in sets {
        let of: Vec<&Candidate> = set.iter().filter_map(|at| bucket[*at].as_ref()).collect();
        let Some(first) = of.first().filter(|_| of.len() > 1) else { continue };
        let mut wild = Vec::new();
        let all_vary = (0..first.elements.len()).all(|place| {
            let values: HashSet<u32> = of.iter().map(|candidate| candidate.elements[place]).collect();
            if values.len() == 1 {
                return true;
            }
            wild.push(place as u16);
            // What stands before is a word, or what has varied is told by the word before that.
            let before = (0..place).rev().map(|before| first.elements[before]).find(|e| *e >= WORDS).unwrap_or(VAR);
            let after = first.elements.get(place + 1).copied().unwrap_or(VAR);
            values.len() >= enough(words, place, (before, after), &values)
        });
        if !all_vary || wild.is_empty() {
            continue;
        }
        let mut members: Vec<Candidate> = set.iter().filter_map(|at| bucket[*at].take()).collect();
        let mut whole = members.swap_remove(0);
        for place in &wild {
            whole.elements[usize::from(*place)] = VAR;
        }
        for member in members {
            whole.members.extend(member.members);
            whole.wild.extend(member.wild);
        }
        whole.wild.extend(wild);
        whole.wild.sort_unstable();
        whole.wild.dedup();
        joined.push(whole);
    }
    joined.extend(bucket.into_iter().flatten());
    // In an order of their own.
    joined.sort_by_key(|candidate| candidate.members.iter().min().copied());
    joined
}

/// The sets of at least two that have the same key, the largest first.
fn sets(keys: impl Iterator<Item = (u64, usize)>) -> Vec<Vec<usize>> {
    let mut by_key: HashMap<u64, Vec<usize>> = HashMap::new();
    for (key, at) in keys {
        by_key.entry(key).or_default().push(at);
    }
    let mut sets: Vec<Vec<usize>> = by_key.into_values().filter(|set| set.len() > 1).collect();
    sets.sort_by(|a, b| b.len().cmp(&a.len()).then_with(|| a.cmp(b)));
    sets
}

/// Words that stand in their place in one candidate only, beside enough that do not.
fn rare_words(bucket: Vec<Candidate>, words: &Words<'_>) -> Vec<Candidate> {
    let mut often: HashMap<(usize, u32), usize> = HashMap::new();
    for candidate in &bucket {
        for (place, element) in candidate.elements.iter().enumerate().filter(|(_, e)| **e >= WORDS) {
            *often.entry((place, *element)).or_default() += 1;
        }
    }
    let key = |candidate: &Candidate| {
        let is_rare = |place: usize, element: u32| element >= WORDS && often[&(place, element)] == 1 && !words.look(element).is_loud;
        let rare = candidate.elements.iter().enumerate().filter(|(place, e)| is_rare(*place, **e)).count();
        // At least half of the words must be left.
        let has_enough = rare > 0 && 2 * rare <= candidate.words();
        hash(candidate.elements.iter().enumerate().map(|(place, e)| if has_enough && is_rare(place, *e) { VAR } else { *e }))
    };
    let sets = sets(bucket.iter().enumerate().map(|(at, candidate)| (key(candidate), at)));
    joined(bucket, words, &sets)
}

/// Candidates that differ in one place only.
fn by_one_place(bucket: Vec<Candidate>, words: &Words<'_>) -> Vec<Candidate> {
    let mut keys = Vec::new();
    for (at, candidate) in bucket.iter().enumerate() {
        // At least one word must be left.
        let left = candidate.words();
        for (place, element) in candidate.elements.iter().enumerate() {
            let is_word = *element >= WORDS;
            if (is_word && left > 1) || (*element == VAR && left > 0) {
                let key = hash(candidate.elements.iter().enumerate().map(|(i, e)| if i == place { u32::MAX } else { *e }));
                keys.push((key, at));
            }
        }
    }
    let sets = sets(keys.into_iter());
    joined(bucket, words, &sets)
}

/// Candidates that begin alike, up to a colon or the like, and then go on in very many ways, however long.
fn by_beginning(settled: Vec<Candidate>, cut_off: Vec<Candidate>) -> Vec<Candidate> {
    let beginning = |candidate: &Candidate| {
        let is_end = |e: u32| matches!(e.checked_sub(MARKS), Some(mark) if matches!(mark as u8 as char, ':' | '-' | '=' | ';') && e < WORDS);
        let mut count = 0;
        let mut end = None;
        for (place, element) in candidate.elements.iter().enumerate() {
            count += usize::from(*element >= WORDS);
            if count >= LONG_BEGINNING && is_end(*element) && place + 1 < candidate.elements.len() {
                end = Some(place + 1);
                break;
            }
        }
        end
    };
    // By the beginning, those that go on from there.
    let mut by_key: BTreeMap<Vec<u32>, Vec<usize>> = BTreeMap::new();
    for (at, candidate) in settled.iter().enumerate() {
        if let Some(end) = beginning(candidate) {
            by_key.entry(candidate.elements[..end].to_vec()).or_default().push(at);
        }
    }
    let mut known: BTreeMap<Vec<u32>, Candidate> = BTreeMap::new();
    for candidate in cut_off {
        match known.get_mut(&candidate.elements) {
            Some(whole) => whole.members.extend(candidate.members),
            None => {
                known.insert(candidate.elements.clone(), candidate);
            }
        }
    }
    let mut settled: Vec<Option<Candidate>> = settled.into_iter().map(Some).collect();
    for (elements, set) in by_key {
        // Endings that are one pattern each count once.
        if set.len() < MANY_ENDINGS && !known.contains_key(&elements) {
            continue;
        }
        let rest = elements.len() as u16;
        let whole = known.entry(elements.clone()).or_insert_with(|| Candidate { elements, members: Vec::new(), wild: Vec::new(), rest: Some(rest) });
        for at in set {
            let Some(member) = settled[at].take() else { continue };
            whole.members.extend(member.members);
            whole.wild.extend(member.wild.into_iter().filter(|place| *place < rest));
        }
        whole.wild.sort_unstable();
        whole.wild.dedup();
    }
    settled.into_iter().flatten().chain(known.into_values()).collect()
}
