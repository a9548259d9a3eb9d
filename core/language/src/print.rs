//! Trees back to canonical sentences.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::{Path, write_quoted};
use rockrose_event::level::Level;

use super::JOIN_WITHIN;
use super::ast::{
    Arithmetic, Condition, Conversion, Format, Joining, Literal, Mask, Operation, Ordering, Pace, Part, Pattern, Place, Rate, Redaction, Renaming, Selector,
    Size, Step, Template, Test, Time, Value, What,
};

fn list<T: Display>(f: &mut Formatter<'_>, items: &[T], between: &str) -> fmt::Result {
    for (i, item) in items.iter().enumerate() {
        if i > 0 {
            f.write_str(between)?;
        }
        item.fmt(f)?;
    }
    Ok(())
}

impl Display for Condition {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Condition::Or(any) => list(f, any, " or "),
            Condition::And(all) => {
                for (i, one) in all.iter().enumerate() {
                    if i > 0 {
                        f.write_str(" and ")?;
                    }
                    if matches!(one, Condition::Or(_)) { write!(f, "({one})")? } else { one.fmt(f)? }
                }
                Ok(())
            }
            Condition::Not(inner) => match **inner {
                Condition::Not(_) | Condition::Constant(_) => write!(f, "not {inner}"),
                _ => write!(f, "not ({inner})"),
            },
            Condition::Field(path, test) => write!(f, "{path} {test}"),
            Condition::Constant(value) => value.fmt(f),
        }
    }
}

impl Display for Test {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let quoted = |f: &mut Formatter<'_>, words: &str, text: &str| {
            f.write_str(words)?;
            write_quoted(f, text)
        };
        match self {
            Test::Exists => f.write_str("exists"),
            Test::Equals(v) => write!(f, "= {v}"),
            Test::Differs(v) => write!(f, "!= {v}"),
            Test::Alike(text) => quoted(f, "~= ", text),
            Test::Order(order, v) => write!(f, "{order} {v}"),
            Test::Range(from, to) => write!(f, "in {from}..{to}"),
            Test::OneOf(items) => {
                f.write_str("in (")?;
                list(f, items, ", ")?;
                f.write_str(")")
            }
            Test::Network(network) => write!(f, "in {network}"),
            Test::Contains(text) => quoted(f, "contains ", text),
            Test::StartsWith(text) => quoted(f, "starts with ", text),
            Test::EndsWith(text) => quoted(f, "ends with ", text),
            Test::Matches(pattern) => write!(f, "matches {pattern}"),
        }
    }
}

impl Display for Ordering {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Ordering::Less => "<",
            Ordering::AtMost => "<=",
            Ordering::Greater => ">",
            Ordering::AtLeast => ">=",
        })
    }
}

impl Display for Literal {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Literal::Text(text) => write_quoted(f, text),
            Literal::Number(n) => n.fmt(f),
            Literal::Bool(b) => b.fmt(f),
            Literal::Level(level) => f.write_str(level.word()),
        }
    }
}

impl Display for Pattern {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "/{}/{}", self.source, if self.ignore_case { "i" } else { "" })
    }
}

impl Display for Step {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        self.operation.fmt(f)?;
        match &self.when {
            Some(when) => write!(f, " when {when}"),
            None => Ok(()),
        }
    }
}

struct Assign<'a, A, B>(&'a A, &'static str, &'a B);

impl<A: Display, B: Display> Display for Assign<'_, A, B> {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} {} {}", self.0, self.1, self.2)
    }
}

fn assigns<A: Display, B: Display>(f: &mut Formatter<'_>, verb: &str, sign: &'static str, pairs: &[(A, B)]) -> fmt::Result {
    f.write_str(verb)?;
    let pairs: Vec<_> = pairs.iter().map(|(a, b)| Assign(a, sign, b)).collect();
    list(f, &pairs, ", ")
}

/// ` by a, b`, if there is anything to go by.
fn by(f: &mut Formatter<'_>, fields: &[Path]) -> fmt::Result {
    if fields.is_empty() {
        return Ok(());
    }
    f.write_str(" by ")?;
    list(f, fields, ", ")
}

fn unless(f: &mut Formatter<'_>, condition: Option<&Condition>) -> fmt::Result {
    match condition {
        Some(condition) => write!(f, " unless {condition}"),
        None => Ok(()),
    }
}

/// A name of one segment, in quotes where it must be.
fn name(f: &mut Formatter<'_>, name: &str) -> fmt::Result {
    if Path::plain(name) { f.write_str(name) } else { write_quoted(f, name) }
}

impl Display for Operation {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Operation::Keep(c) => write!(f, "keep {c}"),
            Operation::Drop(c) => write!(f, "drop {c}"),
            Operation::Sample { rate, by: key, unless: always } => {
                write!(f, "sample {rate}")?;
                by(f, key)?;
                unless(f, always.as_ref())
            }
            Operation::Limit { pace, by: key, unless: always } => {
                write!(f, "limit {pace}")?;
                by(f, key)?;
                unless(f, always.as_ref())
            }
            Operation::Redact { what, fields } => {
                f.write_str("redact ")?;
                list(f, what, ", ")?;
                if !fields.is_empty() {
                    f.write_str(" in ")?;
                    list(f, fields, ", ")?;
                }
                Ok(())
            }
            Operation::Tag(pairs) => assigns(f, "tag ", "=", pairs),
            Operation::Set(pairs) => assigns(f, "set ", "=", pairs),
            Operation::Convert(pairs) => assigns(f, "convert ", "to", pairs),
            Operation::Remove(fields) => {
                f.write_str("remove ")?;
                list(f, fields, ", ")
            }
            Operation::Retain(fields) => {
                f.write_str("retain ")?;
                list(f, fields, ", ")
            }
            Operation::Rename(pairs) => {
                f.write_str("rename ")?;
                list(f, pairs, ", ")
            }
            Operation::Parse { field, formats } => {
                write!(f, "parse {field} as ")?;
                list(f, formats, " else ")
            }
            Operation::LookUp { field, table, outputs } => {
                write!(f, "look up {field} in ")?;
                name(f, table)?;
                for (i, (path, column)) in outputs.iter().enumerate() {
                    write!(f, "{}{path}", if i == 0 { " as " } else { ", " })?;
                    if let Some(column) = column {
                        f.write_str(" = ")?;
                        name(f, column)?;
                    }
                }
                Ok(())
            }
            Operation::Locate { field, table, into } => {
                write!(f, "locate {field} in ")?;
                name(f, table)?;
                if into.segments() == ["geo"] { Ok(()) } else { write!(f, " as {into}") }
            }
            Operation::Resolve { field, into } => write!(f, "resolve {field} as {into}"),
            Operation::Dedupe { by: key, within, prefer } => {
                f.write_str("dedupe")?;
                by(f, key)?;
                write!(f, " within {within}")?;
                match prefer {
                    None => Ok(()),
                    Some(source) => {
                        f.write_str(" preferring ")?;
                        name(f, source)
                    }
                }
            }
            Operation::Merge { within, by: key } => {
                write!(f, "merge repeats within {within}")?;
                by(f, key)
            }
            Operation::Join { how, by: key, within } => {
                write!(f, "join lines {how}")?;
                by(f, key)?;
                if *within == JOIN_WITHIN { Ok(()) } else { write!(f, " within {within}") }
            }
            Operation::Trim { field, size } => write!(f, "trim {field} to {size}"),
            Operation::Count { name: metric, by: labels } => {
                f.write_str("count as ")?;
                name(f, metric)?;
                by(f, labels)
            }
            Operation::Measure { field, name: metric, by: labels } => {
                write!(f, "measure {field} as ")?;
                name(f, metric)?;
                by(f, labels)
            }
            Operation::Use { recipe, arguments } => {
                f.write_str("use ")?;
                name(f, recipe)?;
                for (i, (parameter, given)) in arguments.iter().enumerate() {
                    f.write_str(if i == 0 { "(" } else { ", " })?;
                    name(f, parameter)?;
                    write!(f, " = {given}")?;
                }
                f.write_str(if arguments.is_empty() { "" } else { ")" })
            }
        }
    }
}

impl Display for Rate {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Rate::OneIn(n) => write!(f, "1 in {n}"),
            Rate::Percent(p) => write!(f, "{p}%"),
            Rate::Target(pace) => write!(f, "to {pace}"),
        }
    }
}

impl Display for Pace {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} per {}", self.count, self.per.word())
    }
}

impl Display for Time {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}{}", self.count, self.unit.word(), if self.count == 1 { "" } else { "s" })
    }
}

impl Display for Joining {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Joining::Starting(pattern) => write!(f, "starting with {pattern}"),
            Joining::Continued(pattern) => write!(f, "continued by {pattern}"),
            Joining::Going(pattern) => write!(f, "going on with {pattern}"),
            Joining::Indented => f.write_str("indented"),
            Joining::Timeless => f.write_str("without a time"),
        }
    }
}

impl Display for Conversion {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Conversion::Integer => f.write_str("integer"),
            Conversion::Number => f.write_str("number"),
            Conversion::Boolean => f.write_str("boolean"),
            Conversion::Text => f.write_str("text"),
            Conversion::Time(form) => write!(f, "time{form}"),
        }
    }
}

impl Display for Renaming {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Renaming::Field(from, to) => write!(f, "{from} to {to}"),
            Renaming::Like(from, to) => write!(f, "{from} to {to}"),
        }
    }
}

impl Display for Redaction {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match &self.what {
            What::Detector(detector) => f.write_str(detector.word())?,
            What::Pattern(pattern) => pattern.fmt(f)?,
            What::Field(path) => {
                // A field that is called (nearly) like a detector is told from it by its quotes.
                let near = |word: &str| super::nearest(word, super::ast::Detector::ALL.map(super::ast::Detector::word)).is_some();
                match path.segments() {
                    [only] if near(only) => write_quoted(f, only)?,
                    _ => path.fmt(f)?,
                }
            }
        }
        match &self.mask {
            Mask::Stars => Ok(()),
            Mask::KeepLast(n) => write!(f, " keep last {n}"),
            Mask::KeepFirst(n) => write!(f, " keep first {n}"),
            Mask::With(text) => {
                f.write_str(" with ")?;
                write_quoted(f, text)
            }
            Mask::Hash => f.write_str(" as hash"),
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
                list(f, values, ", ")?;
                f.write_str(")")
            }
        }
    }
}

impl Display for Selector {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Selector::Field(path) => path.fmt(f),
            Selector::Like(like) => f.write_str(like),
        }
    }
}

/// Columns in parentheses; `-` is one that is passed over.
fn columns(f: &mut Formatter<'_>, columns: &[Path]) -> fmt::Result {
    for (i, column) in columns.iter().enumerate() {
        f.write_str(if i == 0 { "(" } else { ", " })?;
        match column.segments() {
            [only] if only == "-" => f.write_str("-")?,
            _ => column.fmt(f)?,
        }
    }
    f.write_str(")")
}

impl Display for Format {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Format::Json => f.write_str("json"),
            Format::KeyValue => f.write_str("key=value"),
            Format::Csv(names) => {
                f.write_str("csv")?;
                columns(f, names)
            }
            Format::AccessLog => f.write_str("access log"),
            Format::Syslog => f.write_str("syslog"),
            Format::W3cLog(names) => {
                f.write_str("w3c log")?;
                columns(f, names)
            }
            Format::ContainerLog => f.write_str("container log"),
            Format::TimedLine => f.write_str("timed line"),
            Format::Xml => f.write_str("xml"),
            Format::Template(template) => write_quoted(f, &template.to_string()),
            Format::Pattern(pattern) => pattern.fmt(f),
        }
    }
}

impl Display for Template {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        for part in &self.parts {
            match part {
                Part::Text(text) => f.write_str(&text.replace('{', "{{").replace('}', "}}"))?,
                Part::Field(path, place) => {
                    f.write_str("{")?;
                    match path {
                        Some(path) => path.fmt(f)?,
                        None => f.write_str("_")?,
                    }
                    let usual = if path.as_ref().is_some_and(|p| p.segments() == ["rest"]) { Place::Rest } else { Place::Text };
                    if *place != usual {
                        write!(f, ":{}", place.word())?;
                    }
                    if let Place::Time(form) = place {
                        form.fmt(f)?;
                    }
                    f.write_str("}")?;
                }
            }
        }
        Ok(())
    }
}

impl Display for Size {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.count, self.unit.word())
    }
}
