//! Compiled conditions: each distinct test stands once in the plan, and its answer for an event is remembered.

use std::collections::HashMap;
use std::sync::Arc;

use memchr::memmem;
use rockrose_event::address::{Network, address};
use rockrose_event::field::{FieldId, FieldTable};
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::level::Level;
use rockrose_event::time::Reader;
use rockrose_language::{Comparison, Condition, Literal, Ordering, Program, Test};

use crate::budget::BudgetMeter;
use crate::value::CompiledValue;
use crate::view::{EventView, number};

/// A condition over numbered tests.
#[derive(Debug)]
pub(crate) enum Expression {
    Test(u32),
    All(Box<[Expression]>),
    Any(Box<[Expression]>),
    Not(Box<Expression>),
    /// So many percent of a budget are used.
    Budget(Arc<BudgetMeter>, u64),
    Constant(bool),
}

#[derive(Debug)]
struct Numbered {
    of: Subject,
    check: Check,
}

/// What a test is of.
#[derive(Debug)]
enum Subject {
    Field(FieldId),
    /// What is worked out from fields.
    Computed(CompiledValue),
}

/// All distinct tests of a plan.
#[derive(Debug, Default)]
pub(crate) struct Tests {
    all: Vec<Numbered>,
    /// By field and writing; what is of no single field, by its whole sentence.
    known: HashMap<(Option<FieldId>, String), u32>,
    budgets: HashMap<String, Arc<BudgetMeter>>,
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
    /// A comparison with another value of the event.
    Against(Comparison, CompiledValue),
    /// How long before its event's arrival a time lies, in milliseconds; negative for one that lies ahead.
    Age(Ordering, i64),
    Never,
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
    /// No tests yet, of a plan that can ask these meters.
    pub(crate) fn asking(budgets: HashMap<String, Arc<BudgetMeter>>) -> Tests {
        Tests { budgets, ..Tests::default() }
    }

    pub(crate) fn compile(&mut self, condition: &Condition, fields: &mut FieldTable) -> Expression {
        match condition {
            Condition::Constant(value) => Expression::Constant(*value),
            Condition::Not(inner) => Expression::Not(Box::new(self.compile(inner, fields))),
            Condition::Budget(test) => match self.budgets.get(&test.budget) {
                Some(meter) => Expression::Budget(Arc::clone(meter), test.percent),
                None => Expression::Constant(false),
            },
            Condition::And(all) => Expression::All(all.iter().map(|c| self.compile(c, fields)).collect()),
            Condition::Or(any) => Expression::Any(any.iter().map(|c| self.compile(c, fields)).collect()),
            Condition::Field(path, test) => {
                let field = fields.want(path);
                Expression::Test(self.number(field, test, fields))
            }
            Condition::Computed(value, test) => {
                let of = Subject::Computed(CompiledValue::new(value, fields));
                Expression::Test(self.numbered((None, condition.to_string()), fields, of, test))
            }
        }
    }

    /// The test's number: the same for the same test of the same field.
    pub(crate) fn number(&mut self, field: FieldId, test: &Test, fields: &mut FieldTable) -> u32 {
        self.numbered((Some(field), test.to_string()), fields, Subject::Field(field), test)
    }

    fn numbered(&mut self, key: (Option<FieldId>, String), fields: &mut FieldTable, of: Subject, test: &Test) -> u32 {
        let all = &mut self.all;
        *self.known.entry(key).or_insert_with(|| {
            all.push(Numbered { of, check: Check::within(test, fields) });
            (all.len() - 1) as u32
        })
    }

    /// Whether `expression` holds of `view`. With a memo, answers are shared between the routes of one event.
    pub(crate) fn holds(&self, expression: &Expression, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, memo: &mut Option<&mut Memo>) -> bool {
        match expression {
            Expression::Constant(value) => *value,
            Expression::Budget(meter, percent) => meter.is_used(*percent),
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
        let answer = match &test.of {
            Subject::Field(field) => test.check.holds(view, fields, fields.find(*field, view.slots), scratch),
            Subject::Computed(value) => value.text(view, fields, scratch).is_some_and(|text| test.check.says_of(&text, view, fields)),
        };
        if let Some(memo) = memo {
            memo.answers[number] = memo.event << 1 | u64::from(answer);
        }
        answer
    }
}

fn ordered<T: PartialOrd + ?Sized>(order: Ordering, left: &T, right: &T) -> bool {
    match order {
        Ordering::Less => left < right,
        Ordering::AtMost => left <= right,
        Ordering::Greater => left > right,
        Ordering::AtLeast => left >= right,
    }
}

/// Whether two values compare so: as numbers if both are, else as texts.
fn compares(comparison: Comparison, left: &[u8], right: &[u8]) -> bool {
    match (comparison, number(left), number(right)) {
        (Comparison::Equals, Some(a), Some(b)) => a == b,
        (Comparison::Differs, Some(a), Some(b)) => a != b,
        (Comparison::Order(order), Some(a), Some(b)) => ordered(order, &a, &b),
        (Comparison::Equals, ..) => left == right,
        (Comparison::Differs, ..) => left != right,
        (Comparison::Order(order), ..) => ordered(order, left, right),
    }
}

impl Check {
    /// The test, which may ask about other fields as well.
    fn within(test: &Test, fields: &mut FieldTable) -> Check {
        match test {
            Test::Against(comparison, value) => Check::Against(*comparison, CompiledValue::new(value, fields)),
            test => Check::compile(test),
        }
    }

    /// The test, as far as it is of one value.
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
            Test::OlderThan(time) => Check::Age(Ordering::Greater, time.ms()),
            Test::NewerThan(time) => Check::Age(Ordering::AtMost, time.ms()),
            Test::AheadBy(time) => Check::Age(Ordering::Less, -time.ms()),
            // The parser lets neither of the first two pass; the last is not of one value.
            Test::Order(_, Literal::Bool(_)) | Test::Range(..) | Test::Against(..) => Check::Never,
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

    fn holds(&self, view: EventView<'_>, fields: &FieldTable, span: Span, scratch: &mut Vec<u8>) -> bool {
        if matches!(self, Check::Exists) {
            return span.present();
        }
        if matches!(span.kind, Kind::Missing | Kind::Null) {
            return false;
        }
        let text = json::text(view.json, span, scratch);
        match self {
            Check::Against(..) | Check::Age(..) => self.says_of(text, view, fields),
            _ => self.says(text),
        }
    }

    /// Whether the test holds of a value of this event.
    #[inline(never)]
    fn says_of(&self, text: &[u8], view: EventView<'_>, fields: &FieldTable) -> bool {
        match self {
            Check::Against(comparison, value) => value.text(view, fields, &mut Vec::new()).is_some_and(|other| compares(*comparison, text, &other)),
            Check::Age(order, ms) => {
                Reader::default().read(text, view.arrived_ms).is_some_and(|time| ordered(*order, &view.arrived_ms.saturating_sub(time.as_millisecond()), ms))
            }
            _ => self.says(text),
        }
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
            Check::Never | Check::Against(..) | Check::Age(..) => false,
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
