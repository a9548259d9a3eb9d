//! Compiled conditions: each distinct test stands once in the plan, and its answer for an event is remembered.

use std::collections::HashMap;
use std::sync::Arc;

use memchr::memmem;
use rockrose_event::address::{Network, address};
use rockrose_event::field::{FieldId, FieldTable};
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::level::Level;
use rockrose_event::simd;
use rockrose_language::{Condition, Literal, Ordering, Program, Test};

/// A condition over numbered tests.
#[derive(Debug)]
pub(crate) enum Expression {
    Test(u32),
    All(Box<[Expression]>),
    Any(Box<[Expression]>),
    Not(Box<Expression>),
    Constant(bool),
}

#[derive(Debug)]
struct Numbered {
    field: FieldId,
    check: Check,
}

/// All distinct tests of a plan.
#[derive(Debug, Default)]
pub(crate) struct Tests {
    all: Vec<Numbered>,
    /// By field and writing.
    known: HashMap<(FieldId, String), u32>,
}

#[derive(Debug)]
pub(crate) enum Check {
    Exists,
    Text(Box<[u8]>),
    Number(f64),
    Bool(bool),
    Level(Level),
    Differs(Box<Check>),
    Alike(String),
    OrderNumber(Ordering, f64),
    OrderText(Ordering, Box<[u8]>),
    OrderLevel(Ordering, Level),
    RangeNumber(f64, f64),
    RangeText(Box<[u8]>, Box<[u8]>),
    RangeLevel(Level, Level),
    OneOf(Vec<Check>),
    Network(Network),
    Contains(Box<memmem::Finder<'static>>),
    StartsWith(Box<[u8]>),
    EndsWith(Box<[u8]>),
    Matches(Arc<Program>),
    Never,
}

/// An event as steps and conditions see it: its bytes and where its fields stand in them.
#[derive(Clone, Copy)]
pub(crate) struct EventView<'a> {
    pub(crate) json: &'a [u8],
    pub(crate) slots: &'a [Span],
}

impl<'a> EventView<'a> {
    pub(crate) fn text(self, fields: &FieldTable, field: FieldId, scratch: &'a mut Vec<u8>) -> Option<&'a [u8]> {
        let span = fields.find(field, self.slots);
        (span.present() && span.kind != Kind::Null).then(|| json::text(self.json, span, scratch))
    }
}

/// The answers already known for one event. Kept from event to event so that nothing is allocated.
#[derive(Debug, Default)]
pub(crate) struct Memo {
    /// For each test, the event it was last answered for, doubled, plus the answer.
    answers: Vec<u64>,
    event: u64,
}

impl Memo {
    pub(crate) fn next_event(&mut self, tests: &Tests) {
        if self.answers.len() != tests.all.len() {
            self.answers = vec![0; tests.all.len()];
            self.event = 0;
        }
        self.event += 1;
    }
}

impl Tests {
    pub(crate) fn compile(&mut self, condition: &Condition, fields: &mut FieldTable) -> Expression {
        match condition {
            Condition::Constant(value) => Expression::Constant(*value),
            Condition::Not(inner) => Expression::Not(Box::new(self.compile(inner, fields))),
            Condition::And(all) => Expression::All(all.iter().map(|c| self.compile(c, fields)).collect()),
            Condition::Or(any) => Expression::Any(any.iter().map(|c| self.compile(c, fields)).collect()),
            Condition::Field(path, test) => {
                let field = fields.want(path);
                Expression::Test(self.number(field, test))
            }
        }
    }

    /// The test's number: the same for the same test of the same field.
    pub(crate) fn number(&mut self, field: FieldId, test: &Test) -> u32 {
        let all = &mut self.all;
        *self.known.entry((field, test.to_string())).or_insert_with(|| {
            all.push(Numbered { field, check: Check::compile(test) });
            (all.len() - 1) as u32
        })
    }

    /// Whether `expression` holds of `view`. With a memo, answers are shared between the routes of one event.
    pub(crate) fn holds(&self, expression: &Expression, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, memo: &mut Option<&mut Memo>) -> bool {
        match expression {
            Expression::Constant(value) => *value,
            Expression::Not(inner) => !self.holds(inner, view, fields, scratch, memo),
            Expression::All(all) => all.iter().all(|e| self.holds(e, view, fields, scratch, memo)),
            Expression::Any(any) => any.iter().any(|e| self.holds(e, view, fields, scratch, memo)),
            Expression::Test(number) => self.answer(*number as usize, view, fields, scratch, memo),
        }
    }

    /// Whether the test of that number holds of `view`.
    #[inline(always)]
    pub(crate) fn answer(&self, number: usize, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, memo: &mut Option<&mut Memo>) -> bool {
        if let Some(memo) = memo
            && memo.answers[number] >> 1 == memo.event
        {
            return memo.answers[number] & 1 == 1;
        }
        let test = &self.all[number];
        let answer = test.check.holds(view.json, fields.find(test.field, view.slots), scratch);
        if let Some(memo) = memo {
            memo.answers[number] = memo.event << 1 | u64::from(answer);
        }
        answer
    }
}

/// The number that the text `around[start..end]` is, if it is one.
#[inline(always)]
pub(crate) fn number_within(around: &[u8], start: usize, end: usize) -> Option<f64> {
    let len = end - start;
    let short = if (1..=8).contains(&len) { simd::decimal(around, start, len) } else { None };
    short.map_or_else(|| number(&around[start..end]), |n| Some(n as f64))
}

/// The number that a text is, if it is one.
pub(crate) fn number(text: &[u8]) -> Option<f64> {
    if !text.first().is_some_and(|b| b.is_ascii_digit() || matches!(b, b'-' | b'+' | b'.')) {
        return None;
    }
    if text.len() <= 15 && text.iter().all(u8::is_ascii_digit) {
        return Some(text.iter().fold(0u64, |n, b| n * 10 + u64::from(b - b'0')) as f64);
    }
    std::str::from_utf8(text).ok()?.parse().ok().filter(|n: &f64| n.is_finite())
}

fn ordered<T: PartialOrd + ?Sized>(order: Ordering, left: &T, right: &T) -> bool {
    match order {
        Ordering::Less => left < right,
        Ordering::AtMost => left <= right,
        Ordering::Greater => left > right,
        Ordering::AtLeast => left >= right,
    }
}

impl Check {
    pub(crate) fn compile(test: &Test) -> Check {
        match test {
            Test::Exists => Check::Exists,
            Test::Equals(literal) => Check::equals(literal),
            Test::Differs(literal) => Check::Differs(Box::new(Check::equals(literal))),
            Test::Alike(text) => Check::Alike(text.to_lowercase()),
            Test::Order(order, Literal::Number(n)) => Check::OrderNumber(*order, *n),
            Test::Order(order, Literal::Level(level)) => Check::OrderLevel(*order, *level),
            Test::Order(order, Literal::Text(text)) => Check::OrderText(*order, text.as_bytes().into()),
            Test::Range(Literal::Number(a), Literal::Number(b)) => Check::RangeNumber(*a, *b),
            Test::Range(Literal::Text(a), Literal::Text(b)) => Check::RangeText(a.as_bytes().into(), b.as_bytes().into()),
            Test::Range(Literal::Level(a), Literal::Level(b)) => Check::RangeLevel(*a, *b),
            Test::OneOf(literals) => Check::OneOf(literals.iter().map(Check::equals).collect()),
            Test::Network(network) => Check::Network(*network),
            Test::Contains(text) => Check::Contains(Box::new(memmem::Finder::new(text.as_bytes()).into_owned())),
            Test::StartsWith(text) => Check::StartsWith(text.as_bytes().into()),
            Test::EndsWith(text) => Check::EndsWith(text.as_bytes().into()),
            Test::Matches(pattern) => pattern.program().map_or(Check::Never, Check::Matches),
            // The parser lets neither pass.
            Test::Order(_, Literal::Bool(_)) | Test::Range(..) => Check::Never,
        }
    }

    fn equals(literal: &Literal) -> Check {
        match literal {
            Literal::Text(text) => Check::Text(text.as_bytes().into()),
            Literal::Number(n) => Check::Number(*n),
            Literal::Bool(b) => Check::Bool(*b),
            Literal::Level(level) => Check::Level(*level),
        }
    }

    fn holds(&self, json: &[u8], span: Span, scratch: &mut Vec<u8>) -> bool {
        if matches!(self, Check::Exists) {
            return span.present();
        }
        if matches!(span.kind, Kind::Missing | Kind::Null) {
            return false;
        }
        let text = json::text(json, span, scratch);
        self.says(text)
    }

    /// Whether the test holds of a number, whatever its writing. Only for tests that ask about numbers.
    pub(crate) fn says_number(&self, n: f64) -> bool {
        match self {
            Check::Number(m) => n == *m,
            Check::Differs(inner) => !inner.says_number(n),
            Check::OrderNumber(order, m) => ordered(*order, &n, m),
            Check::RangeNumber(a, b) => *a <= n && n <= *b,
            Check::OneOf(any) => any.iter().any(|c| c.says_number(n)),
            _ => false,
        }
    }

    pub(crate) fn says(&self, text: &[u8]) -> bool {
        match self {
            Check::Exists => true,
            Check::Never => false,
            Check::Text(t) => **t == *text,
            Check::Number(n) => number(text) == Some(*n),
            Check::Bool(b) => text == if *b { &b"true"[..] } else { b"false" },
            Check::Level(level) => Level::read(text) == Some(*level),
            Check::Differs(inner) => !inner.says(text),
            Check::Alike(lower) => match std::str::from_utf8(text) {
                Ok(t) if t.is_ascii() => t.eq_ignore_ascii_case(lower),
                Ok(t) => t.to_lowercase() == *lower,
                Err(_) => false,
            },
            Check::OrderNumber(order, n) => number(text).is_some_and(|x| ordered(*order, &x, n)),
            Check::OrderText(order, t) => ordered(*order, text, &**t),
            Check::OrderLevel(order, level) => Level::read(text).is_some_and(|l| ordered(*order, &l, level)),
            Check::RangeNumber(a, b) => number(text).is_some_and(|x| *a <= x && x <= *b),
            Check::RangeText(a, b) => **a <= *text && *text <= **b,
            Check::RangeLevel(a, b) => Level::read(text).is_some_and(|l| *a <= l && l <= *b),
            Check::OneOf(any) => any.iter().any(|c| c.says(text)),
            Check::Network(network) => address(text).is_some_and(|ip| network.contains(ip)),
            Check::Contains(finder) => finder.find(text).is_some(),
            Check::StartsWith(t) => text.starts_with(t),
            Check::EndsWith(t) => text.ends_with(t),
            Check::Matches(program) => program.is_match(text),
        }
    }
}
