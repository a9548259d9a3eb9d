//! Parses the values that `set` and `tag` write: literals, fields, arithmetic, functions.

use rockrose_event::field::Path;
use rockrose_event::level::Level;

use super::ast::{Arithmetic, Function, Literal, Value};
use super::cursor::{Cursor, Outcome};
use super::mistake::Mistake;

const EXPECTED: &str = "a text in quotes, a number, `true`, `false`, a field or a function such as `lower(…)`";

/// `field = value`
pub(super) fn assignment(c: &mut Cursor<'_>) -> Outcome<(Path, Value)> {
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

/// Sums; products bind tighter.
fn value(c: &mut Cursor<'_>) -> Outcome<Value> {
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
    let (start, word) = (c.at(), c.peek_word());
    if !word.is_empty() && c.rest()[word.len()..].starts_with('(') {
        return call(c, word);
    }
    // `field "odd name"` tells a field from a text.
    if c.words("field") && !c.rest().starts_with('"') {
        c.rewind(start);
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
