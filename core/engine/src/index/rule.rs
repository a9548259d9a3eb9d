//! A condition taken apart into rules: conjunctions of tests, of which one must hold.

use std::collections::BTreeMap;

use regex_syntax::hir::{Class, Hir, HirKind};
use rockrose_event::field::{FieldId, FieldTable};
use rockrose_language::{Condition, Literal, Pattern, Test};

use crate::expression::{Check, Expression};

/// Most conjunctions one condition is taken apart into; a wider one is asked as a whole.
pub(crate) const MAX_RULES: usize = 8;
/// Shortest literal worth looking for.
pub(crate) const SHORTEST: usize = 2;
/// Most sets of literals that are looked for on behalf of one rule on one field.
pub(crate) const LAYERS: usize = 4;

/// One test, or its opposite.
#[derive(Clone, Debug)]
pub(crate) struct Leaf {
    pub(crate) field: FieldId,
    pub(crate) test: Test,
    pub(crate) negated: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(crate) enum LookupKind {
    Text,
    Number,
    Level,
    Address,
    Beginning,
    Ending,
    Literals,
    /// Literals in whatever case.
    AnyCase,
}

impl LookupKind {
    /// Whether it says which literals stand in a text.
    pub(crate) fn finds_literals(self) -> bool {
        matches!(self, LookupKind::Literals | LookupKind::AnyCase)
    }
}

/// A rule's tests, by the axis that answers them.
pub(crate) type Asks = BTreeMap<(LookupKind, FieldId), Vec<(Check, Leaf)>>;

/// A rule in the making.
pub(crate) struct RuleDraft {
    pub(crate) route: u32,
    pub(crate) asks: Asks,
    /// All its tests, and by which axis each is wholly answered; each twice its number, and one more if it must not hold.
    pub(crate) tests: Vec<(Option<(LookupKind, FieldId)>, u32)>,
    /// All of its condition, where that was not taken apart.
    pub(crate) whole: Option<Expression>,
}

/// The condition as alternatives of tests that must all hold; `None` if that would be too many.
pub(crate) fn alternatives(condition: &Condition, negated: bool, fields: &mut FieldTable) -> Option<Vec<Vec<Leaf>>> {
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
        // Of a value that is worked out, no axis knows anything.
        Condition::Computed(..) | Condition::Budget(_) => None,
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
pub(crate) fn necessary(condition: &Condition, fields: &mut FieldTable) -> Vec<Leaf> {
    match condition {
        Condition::And(all) => all.iter().flat_map(|c| necessary(c, fields)).collect(),
        Condition::Field(path, test) => vec![Leaf { field: fields.want(path), test: test.clone(), negated: false }],
        _ => Vec::new(),
    }
}

/// Which axis of its field can answer a test; none if it must be asked.
pub(crate) fn sort(leaf: &Leaf) -> Option<LookupKind> {
    let of = |literal: &Literal| match literal {
        Literal::Text(_) | Literal::Bool(_) => LookupKind::Text,
        Literal::Number(_) => LookupKind::Number,
        Literal::Level(_) => LookupKind::Level,
    };
    Some(match &leaf.test {
        Test::Exists => LookupKind::Text,
        Test::Equals(literal) | Test::Differs(literal) => of(literal),
        Test::OneOf(literals) => {
            let first = of(literals.first()?);
            return literals.iter().all(|l| of(l) == first).then_some(first);
        }
        Test::Order(_, literal @ (Literal::Number(_) | Literal::Level(_))) | Test::Range(literal @ (Literal::Number(_) | Literal::Level(_)), _) => of(literal),
        Test::Network(_) => LookupKind::Address,
        Test::StartsWith(_) if !leaf.negated => LookupKind::Beginning,
        Test::EndsWith(_) if !leaf.negated => LookupKind::Ending,
        Test::Contains(text) if !leaf.negated && text.len() >= SHORTEST => LookupKind::Literals,
        Test::Matches(pattern) if !leaf.negated => return required(pattern).map(|(kind, _)| kind),
        _ => return None,
    })
}

/// Sets of literals: of each, at least one stands in every text that passes the test.
pub(crate) fn literals(test: &Test) -> Sets {
    match test {
        Test::Contains(text) => vec![vec![text.clone().into_bytes()]],
        Test::Matches(pattern) => required(pattern).map(|(_, sets)| sets).unwrap_or_default(),
        _ => Vec::new(),
    }
}

/// Sets of literals: of each, one stands in the text.
type Sets = Vec<Vec<Vec<u8>>>;

/// Literals as long as this rule out so much that those in whatever case are not asked for.
const LONG: usize = 4;

/// The sets of literals that stand in whatever the pattern matches, and on which axis they are looked for; `None` if there are none.
fn required(pattern: &Pattern) -> Option<(LookupKind, Sets)> {
    let parsed = regex_syntax::ParserBuilder::new().case_insensitive(pattern.ignore_case).utf8(false).build().parse(&pattern.source).ok()?;
    let best = |sets: &Sets| sets.first().and_then(|set| set.iter().map(Vec::len).min()).unwrap_or(0);
    let exact = longest_first(literals_of(&parsed, false));
    if best(&exact) < LONG {
        let any_case = longest_first(literals_of(&parsed, true));
        if best(&any_case) > best(&exact) {
            return Some((LookupKind::AnyCase, any_case));
        }
    }
    (!exact.is_empty()).then_some((LookupKind::Literals, exact))
}

/// Those worth looking for.
fn longest_first(mut sets: Sets) -> Sets {
    sets.retain(|set| set.iter().all(|l| l.len() >= SHORTEST));
    sets.sort_by_key(|set| std::cmp::Reverse(set.iter().map(Vec::len).min()));
    sets.truncate(LAYERS);
    sets
}

/// With `any_case`, literals are in lower case, to be found in whatever case.
fn literals_of(hir: &Hir, any_case: bool) -> Sets {
    /// Most literals in one set.
    const MOST: usize = 16;
    match hir.kind() {
        HirKind::Capture(capture) => literals_of(&capture.sub, any_case),
        HirKind::Repetition(repetition) if repetition.min > 0 => literals_of(&repetition.sub, any_case),
        HirKind::Concat(parts) => {
            // A letter in either case is a class of its own among the parts; those in a row are one literal.
            let (mut sets, mut run) = (Sets::new(), Vec::new());
            for part in parts {
                match piece(part, any_case) {
                    Some(piece) => run.extend(piece),
                    None => {
                        sets.push(vec![std::mem::take(&mut run)]);
                        sets.extend(literals_of(part, any_case));
                    }
                }
            }
            sets.push(vec![run]);
            longest_first(sets)
        }
        HirKind::Alternation(parts) => {
            let all: Option<Vec<_>> = parts.iter().map(|p| longest_first(literals_of(p, any_case)).into_iter().next()).collect();
            all.map(|a| a.concat()).filter(|a| a.len() <= MOST).into_iter().collect()
        }
        _ => piece(hir, any_case).map(|piece| vec![piece]).into_iter().collect(),
    }
}

/// The text that a part is, if it is one.
fn piece(hir: &Hir, any_case: bool) -> Option<Vec<u8>> {
    match hir.kind() {
        HirKind::Literal(literal) if any_case => Some(literal.0.to_ascii_lowercase()),
        HirKind::Literal(literal) => Some(literal.0.to_vec()),
        // `k` and `s` are more than two letters: others of Unicode count as they.
        HirKind::Class(class) if any_case => {
            let chars: Vec<char> = match class {
                Class::Unicode(class) => class.iter().filter(|range| range.start() == range.end()).map(|range| range.start()).collect(),
                Class::Bytes(class) => class.iter().filter(|range| range.start() == range.end()).map(|range| char::from(range.start())).collect(),
            };
            let count = match class {
                Class::Unicode(class) => class.iter().count(),
                Class::Bytes(class) => class.iter().count(),
            };
            match chars[..] {
                [a, b] if count == 2 && a.is_ascii_alphabetic() && b.is_ascii_alphabetic() && a.eq_ignore_ascii_case(&b) => {
                    Some(vec![a.to_ascii_lowercase() as u8])
                }
                _ => None,
            }
        }
        _ => None,
    }
}

pub(crate) fn all(leaves: &[(Check, Leaf)], text: &[u8]) -> bool {
    leaves.iter().all(|(check, leaf)| check.says(text) != leaf.negated)
}

/// The texts a test names.
pub(crate) fn values(test: &Test) -> Vec<Vec<u8>> {
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
pub(crate) fn bounds(test: &Test) -> Vec<f64> {
    // Minus zero is zero.
    let of = |l: &Literal| if let Literal::Number(n) = l { vec![*n + 0.0] } else { Vec::new() };
    match test {
        Test::Equals(l) | Test::Differs(l) | Test::Order(_, l) => of(l),
        Test::Range(a, b) => [of(a), of(b)].concat(),
        Test::OneOf(literals) => literals.iter().flat_map(of).collect(),
        _ => Vec::new(),
    }
}

pub(crate) fn sorted(mut points: Vec<f64>) -> Vec<f64> {
    points.sort_by(f64::total_cmp);
    points.dedup();
    points
}

/// A number below `n`, with no other bound between.
pub(crate) fn below(n: f64) -> f64 {
    if n == 0.0 { -1.0 } else { n - n.abs() }
}

pub(crate) fn above(n: f64) -> f64 {
    if n == 0.0 { 1.0 } else { n + n.abs() }
}
