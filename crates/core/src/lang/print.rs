//! Trees back to canonical sentences.

use std::fmt::{self, Display, Formatter};

use super::ast::{
    Condition, Format, Literal, Mask, Network, Operation, Ordering, Part, Pattern, Rate, Redaction, Selector, Size, Step, Template, Test, Value, What,
};
use super::write_quoted;

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

impl Display for Network {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.base, self.prefix)
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

impl Display for Operation {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Operation::Keep(c) => write!(f, "keep {c}"),
            Operation::Drop(c) => write!(f, "drop {c}"),
            Operation::Sample { rate, by, unless } => {
                write!(f, "sample {rate}")?;
                if !by.is_empty() {
                    f.write_str(" by ")?;
                    list(f, by, ", ")?;
                }
                match unless {
                    Some(unless) => write!(f, " unless {unless}"),
                    None => Ok(()),
                }
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
            Operation::Remove(fields) => {
                f.write_str("remove ")?;
                list(f, fields, ", ")
            }
            Operation::Retain(fields) => {
                f.write_str("retain ")?;
                list(f, fields, ", ")
            }
            Operation::Rename(pairs) => assigns(f, "rename ", "to", pairs),
            Operation::Parse { field, format } => write!(f, "parse {field} as {format}"),
            Operation::Trim { field, size } => write!(f, "trim {field} to {size}"),
            Operation::Use(recipe) => {
                f.write_str("use ")?;
                if crate::field::Path::plain(recipe) { f.write_str(recipe) } else { write_quoted(f, recipe) }
            }
        }
    }
}

impl Display for Rate {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Rate::OneIn(n) => write!(f, "1 in {n}"),
            Rate::Percent(p) => write!(f, "{p}%"),
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
            Mask::With(text) => {
                f.write_str(" with ")?;
                write_quoted(f, text)
            }
            Mask::Hash => f.write_str(" as hash"),
        }
    }
}

impl Display for Value {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Value::Literal(literal) => literal.fmt(f),
            // A quoted word is text here, so an odd name is written as a path of one quoted segment.
            Value::Field(path) => match path.segments() {
                [only] if !crate::field::Path::plain(only) => write!(f, "field {path}"),
                _ if !crate::field::Path::plain(&path.segments()[0]) => write!(f, "field {path}"),
                _ => path.fmt(f),
            },
        }
    }
}

impl Display for Selector {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        if !self.prefix {
            return self.path.fmt(f);
        }
        let segments = self.path.segments();
        let (last, before) = segments.split_last().map_or(("", segments), |(l, b)| (l.as_str(), b));
        if !before.is_empty() {
            write!(f, "{}.", crate::field::Path::of(before.to_vec()))?;
        }
        write!(f, "{last}*")
    }
}

impl Display for Format {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Format::Json => f.write_str("json"),
            Format::KeyValue => f.write_str("key=value"),
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
                Part::Field(path, super::ast::Place::Text) => write!(f, "{{{path}}}")?,
                Part::Field(path, place) => write!(f, "{{{path}:{}}}", place.word())?,
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
