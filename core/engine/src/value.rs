//! The values that steps write and conditions compare, computed for one event.

use rockrose_event::field::{FieldId, FieldTable};
use rockrose_event::json::{self, Kind};
use rockrose_language::{Arithmetic, Function, Literal, Value};

use crate::view::{EventView, number};

/// Longest text a value may come to, in bytes.
const MAX_TEXT: usize = 1 << 20;

/// A compiled value.
#[derive(Debug)]
pub(crate) enum CompiledValue {
    /// As it stands, as JSON.
    Token(Vec<u8>),
    /// A field's value, with its type.
    Copy(FieldId),
    Computed(Box<CompiledValue>, Arithmetic, Box<CompiledValue>),
    Call(Function, Vec<CompiledValue>),
}

/// What a value came to.
enum Result {
    /// Appended to the buffer as JSON already.
    Json,
    Text(Vec<u8>),
    Number(f64),
}

impl CompiledValue {
    pub(crate) fn new(value: &Value, fields: &mut FieldTable) -> CompiledValue {
        match value {
            Value::Literal(literal) => CompiledValue::Token(token(literal)),
            Value::Field(from) => CompiledValue::Copy(fields.want(from)),
            Value::Computed(left, sign, right) => {
                CompiledValue::Computed(Box::new(CompiledValue::new(left, fields)), *sign, Box::new(CompiledValue::new(right, fields)))
            }
            Value::Call(function, values) => CompiledValue::Call(*function, values.iter().map(|v| CompiledValue::new(v, fields)).collect()),
        }
    }

    /// Appends the value as JSON; nothing where a field that it needs is missing, or where it cannot be computed.
    pub(crate) fn write(&self, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, out: &mut Vec<u8>) -> Option<()> {
        match self.come_to(view, fields, scratch, out)? {
            Result::Json => {}
            Result::Text(text) => json::quote(&text, out),
            Result::Number(n) => out.extend_from_slice(written(n)?.as_bytes()),
        }
        Some(())
    }

    fn come_to(&self, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>, out: &mut Vec<u8>) -> Option<Result> {
        Some(match self {
            CompiledValue::Token(token) => {
                out.extend_from_slice(token);
                Result::Json
            }
            CompiledValue::Copy(from) => {
                let span = fields.find(*from, view.slots);
                if !span.present() {
                    return None;
                }
                out.extend_from_slice(span.of(view.json));
                Result::Json
            }
            CompiledValue::Computed(left, sign, right) => {
                let (a, b) = (left.number(view, fields, scratch)?, right.number(view, fields, scratch)?);
                let n = match sign {
                    Arithmetic::Plus => a + b,
                    Arithmetic::Minus => a - b,
                    Arithmetic::Times => a * b,
                    Arithmetic::Over => a / b,
                };
                Result::Number(n)
            }
            CompiledValue::Call(Function::FirstOf, values) => {
                let mark = out.len();
                for value in values {
                    match value.come_to(view, fields, scratch, out) {
                        Some(Result::Json) if &out[mark..] == b"null" => out.truncate(mark),
                        Some(found) => return Some(found),
                        None => out.truncate(mark),
                    }
                }
                return None;
            }
            CompiledValue::Call(function, values) => return call(*function, values, view, fields, scratch),
        })
    }

    fn number(&self, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>) -> Option<f64> {
        let mut out = Vec::new();
        match self.come_to(view, fields, scratch, &mut out)? {
            Result::Number(n) => Some(n),
            Result::Text(text) => number(&text),
            Result::Json => number(&plain(&out)),
        }
    }

    /// The value as a text; nothing where a field that it needs is missing or null, or where it cannot be computed.
    pub(crate) fn text(&self, view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>) -> Option<Vec<u8>> {
        let mut out = Vec::new();
        match self.come_to(view, fields, scratch, &mut out)? {
            Result::Number(n) => written(n).map(String::into_bytes),
            Result::Text(text) => Some(text),
            Result::Json if out == b"null" => None,
            Result::Json => Some(plain(&out).into_owned()),
        }
    }
}

/// A JSON token as text: a string's content, any other's own writing.
fn plain(token: &[u8]) -> std::borrow::Cow<'_, [u8]> {
    if token.first() != Some(&b'"') {
        return token.into();
    }
    let inner = &token[1..token.len() - 1];
    if !inner.contains(&b'\\') {
        return inner.into();
    }
    let mut text = Vec::new();
    json::unescape(inner, &mut text);
    text.into()
}

/// A number in JSON's writing; nothing for what is not finite.
fn written(n: f64) -> Option<String> {
    // Sums of decimals come out as people write them.
    let rounded = (n * 1e9).round() / 1e9;
    let n = if n.fract() != 0.0 && rounded.is_finite() && (n - rounded).abs() <= n.abs() * 1e-12 { rounded } else { n };
    n.is_finite().then(|| if n == 0.0 { "0".to_owned() } else { n.to_string() })
}

fn call(function: Function, values: &[CompiledValue], view: EventView<'_>, fields: &FieldTable, scratch: &mut Vec<u8>) -> Option<Result> {
    let mut text = |at: usize| values.get(at)?.text(view, fields, scratch);
    Some(match function {
        Function::Join => {
            let mut joined = Vec::new();
            for at in 0..values.len() {
                joined.extend_from_slice(&text(at)?);
                if joined.len() > MAX_TEXT {
                    return None;
                }
            }
            Result::Text(joined)
        }
        Function::Lower => Result::Text(String::from_utf8_lossy(&text(0)?).to_lowercase().into_bytes()),
        Function::Upper => Result::Text(String::from_utf8_lossy(&text(0)?).to_uppercase().into_bytes()),
        Function::Replace => {
            let (of, what, by) = (text(0)?, text(1)?, text(2)?);
            if what.is_empty() {
                return Some(Result::Text(of));
            }
            let mut out = Vec::with_capacity(of.len());
            let mut from = 0;
            for at in memchr::memmem::find_iter(&of, &what) {
                out.extend_from_slice(&of[from..at]);
                out.extend_from_slice(&by);
                from = at + what.len();
                if out.len() > MAX_TEXT {
                    return None;
                }
            }
            out.extend_from_slice(&of[from..]);
            Result::Text(out)
        }
        Function::Part => {
            let of = text(0)?;
            let chars: Vec<char> = String::from_utf8_lossy(&of).chars().collect();
            let from = values[1].number(view, fields, scratch)?;
            let from = if from < 0.0 { chars.len() as f64 + from } else { (from - 1.0).max(0.0) };
            let most = match values.get(2) {
                Some(count) => count.number(view, fields, scratch)?.max(0.0) as usize,
                None => usize::MAX,
            };
            Result::Text(chars.into_iter().skip(from.max(0.0) as usize).take(most).collect::<String>().into_bytes())
        }
        Function::Length => Result::Number(String::from_utf8_lossy(&text(0)?).chars().count() as f64),
        Function::Round => {
            let n = values[0].number(view, fields, scratch)?;
            let decimals = match values.get(1) {
                Some(count) => count.number(view, fields, scratch)?.clamp(0.0, 12.0) as i32,
                None => 0,
            };
            let scale = 10f64.powi(decimals);
            Result::Number((n * scale).round() / scale)
        }
        // Answered by the caller, whose value keeps its type.
        Function::FirstOf => return None,
    })
}

/// Whether a value of this kind has a text of its own.
pub(crate) fn has_text(kind: Kind) -> bool {
    !matches!(kind, Kind::Missing | Kind::Null)
}

/// A literal as JSON.
fn token(literal: &Literal) -> Vec<u8> {
    let mut out = Vec::new();
    match literal {
        Literal::Text(text) => json::quote(text.as_bytes(), &mut out),
        Literal::Number(n) => out.extend_from_slice(n.to_string().as_bytes()),
        Literal::Bool(b) => out.extend_from_slice(b.to_string().as_bytes()),
        Literal::Level(level) => json::quote(level.word().as_bytes(), &mut out),
    }
    out
}
