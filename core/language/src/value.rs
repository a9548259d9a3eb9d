//! The values that `set` and `tag` write: literals, fields, arithmetic and functions.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::{Path, RESERVED};
use rockrose_event::level::Level;

use crate::cursor::{Cursor, Outcome};
use crate::list::write_list;
use crate::literal::Literal;
use crate::mistake::Mistake;

/// A value that a step writes. Where a field that it needs is missing, nothing is written.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    /// As written.
    Literal(Literal),
    /// A copy of a field.
    Field(Path),
    /// Two numbers, computed.
    Computed(Box<Value>, Arithmetic, Box<Value>),
    /// A function of values.
    Call(Function, Vec<Value>),
}

/// An operation on two numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Arithmetic {
    /// `+`
    Plus,
    /// `-`
    Minus,
    /// `*`
    Times,
    /// `/`; by zero, nothing is written.
    Over,
}

/// A function in a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Function {
    /// `join(a, " ", b)`: the texts behind one another.
    Join,
    /// `lower(a)`
    Lower,
    /// `upper(a)`
    Upper,
    /// `replace(a, "x", "y")`: every `x` in the text by `y`.
    Replace,
    /// `part(a, 1, 4)`: so many characters from the given one on, counted from 1; to the end if no number is given. A negative place counts from the end.
    Part,
    /// `first_of(a, b, "none")`: the first that is there.
    FirstOf,
    /// `length(a)`: of a text, in characters.
    Length,
    /// `round(a, 2)`: to so many decimals; to a whole number if none are given.
    Round,
}

impl Function {
    /// All functions, in the order in which messages name them.
    pub const ALL: [Function; 8] =
        [Function::Join, Function::Lower, Function::Upper, Function::Replace, Function::Part, Function::FirstOf, Function::Length, Function::Round];

    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["join", "lower", "upper", "replace", "part", "first_of", "length", "round"][self as usize]
    }

    /// Fewest and most values it takes.
    #[must_use]
    pub fn takes(self) -> (usize, usize) {
        [(1, 64), (1, 1), (1, 1), (3, 3), (2, 3), (1, 64), (1, 1), (1, 2)][self as usize]
    }
}

const EXPECTED: &str = "a text in quotes, a number, `true`, `false`, a field or a function such as `lower(…)`";

/// `field = value`
pub(crate) fn assignment(c: &mut Cursor<'_>) -> Outcome<(Path, Value)> {
    let field = c.path("a field")?;
    if !c.sign("=") {
        return c.unexpected("`=`", &[]);
    }
    // Beside `severity` the levels are words, as in conditions.
    if field.is_severity()
        && let Some(level) = Level::ALL.into_iter().find(|l| c.peek_word() == l.word() && !c.rest()[l.word().len()..].starts_with('.'))
    {
        c.words(level.word());
        return Ok((field, Value::Literal(Literal::Level(level))));
    }
    Ok((field, value(c)?))
}

/// Whether a function begins here, and so a value that is no field's.
pub(crate) fn calls(c: &Cursor<'_>) -> bool {
    let word = c.peek_word();
    !word.is_empty() && c.rest()[word.len()..].starts_with('(')
}

/// Whether a sign of arithmetic stands here, apart from what follows.
pub(crate) fn is_computed(c: &Cursor<'_>) -> bool {
    let rest = c.rest();
    rest.starts_with(['+', '-', '*', '/']) && rest[1..].starts_with(' ')
}

/// `field NAME`, if it stands here: what tells a field from a text, where either may stand.
pub(crate) fn named_field(c: &mut Cursor<'_>) -> Outcome<Option<Path>> {
    let start = c.at();
    if c.words("field") {
        let word = c.peek_word();
        if c.rest().starts_with('"') || word.starts_with(|ch: char| ch.is_ascii_alphabetic() || ch == '_') && !RESERVED.contains(&word) {
            return c.path("a field").map(Some);
        }
        c.rewind(start);
    }
    Ok(None)
}

/// Sums; products bind tighter.
pub(crate) fn value(c: &mut Cursor<'_>) -> Outcome<Value> {
    let mut left = product(c)?;
    loop {
        let sign = if c.sign("+") {
            Arithmetic::Plus
        } else if c.sign("-") {
            Arithmetic::Minus
        } else {
            return Ok(left);
        };
        left = Value::Computed(Box::new(left), sign, Box::new(product(c)?));
    }
}

fn product(c: &mut Cursor<'_>) -> Outcome<Value> {
    let mut left = single(c)?;
    loop {
        let sign = if c.sign("*") {
            Arithmetic::Times
        } else if c.sign("/") {
            Arithmetic::Over
        } else {
            return Ok(left);
        };
        left = Value::Computed(Box::new(left), sign, Box::new(single(c)?));
    }
}

fn single(c: &mut Cursor<'_>) -> Outcome<Value> {
    if c.sign("(") {
        c.deeper()?;
        let inner = value(c)?;
        c.shallower();
        return if c.sign(")") { Ok(inner) } else { c.unexpected("`)` or a sign such as `+`", &[]) };
    }
    if let Some(literal) = c.literal() {
        return literal.map(Value::Literal);
    }
    if calls(c) {
        return call(c, c.peek_word());
    }
    if let Some(path) = named_field(c)? {
        return Ok(Value::Field(path));
    }
    c.path(EXPECTED).map(Value::Field)
}

fn call(c: &mut Cursor<'_>, word: &str) -> Outcome<Value> {
    let here = c.here();
    let Some(function) = Function::ALL.into_iter().find(|f| f.word() == word) else {
        let words: Vec<_> = Function::ALL.iter().map(|f| format!("`{}`", f.word())).collect();
        return Err(Mistake::new(here.start..here.start + word.len(), format!("there is no function `{word}`"))
            .expected(format!("one of {}", words.join(", ")))
            .near(word, Function::ALL.map(Function::word)));
    };
    c.words(word);
    c.sign("(");
    c.deeper()?;
    let given = c.list(value)?;
    c.shallower();
    if !c.sign(")") {
        return c.unexpected("`,` or `)`", &[]);
    }
    let (fewest, most) = function.takes();
    if given.len() < fewest || given.len() > most {
        let takes = if fewest == most { format!("{fewest}") } else { format!("{fewest} to {most}") };
        return Err(Mistake::new(c.since(here.start), format!("`{word}` is given {}", given.len())).expected(format!("{takes} values")));
    }
    Ok(Value::Call(function, given))
}

impl Value {
    /// Adds the fields that it is made of.
    pub(crate) fn reads(&self, out: &mut Vec<Path>) {
        match self {
            Value::Literal(_) => {}
            Value::Field(path) => out.push(path.clone()),
            Value::Computed(left, _, right) => [left, right].into_iter().for_each(|v| v.reads(out)),
            Value::Call(_, values) => values.iter().for_each(|v| v.reads(out)),
        }
    }
}

impl Arithmetic {
    fn sign(self) -> &'static str {
        ["+", "-", "*", "/"][self as usize]
    }

    fn binds_tight(self) -> bool {
        matches!(self, Arithmetic::Times | Arithmetic::Over)
    }
}

impl Display for Value {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Value::Literal(literal) => literal.fmt(f),
            // A quoted word is text here, so an odd name is written as a path of one quoted segment.
            Value::Field(path) if !Path::plain(&path.segments()[0]) => write!(f, "field {path}"),
            // One that is called as a level is: beside `severity` that would be the level.
            Value::Field(path) if Level::ALL.iter().any(|l| path.segments() == [l.word()]) => write!(f, "field \"{path}\""),
            Value::Field(path) => path.fmt(f),
            Value::Computed(left, sign, right) => {
                match &**left {
                    Value::Computed(_, inner, _) if sign.binds_tight() && !inner.binds_tight() => write!(f, "({left})")?,
                    _ => left.fmt(f)?,
                }
                write!(f, " {} ", sign.sign())?;
                match &**right {
                    Value::Computed(_, inner, _) if sign.binds_tight() || !inner.binds_tight() => write!(f, "({right})"),
                    _ => right.fmt(f),
                }
            }
            Value::Call(function, values) => {
                write!(f, "{}(", function.word())?;
                write_list(f, values, ", ")?;
                f.write_str(")")
            }
        }
    }
}
