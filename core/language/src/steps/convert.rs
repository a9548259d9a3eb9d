//! `convert field to integer`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;
use rockrose_event::time::TimeForm;

use super::StepKind;
use super::clause::write_pairs;
use crate::cursor::{Cursor, Outcome};
use crate::time_form::{in_words, time_form};

/// Gives fields' values another type.
#[derive(Clone, Debug, PartialEq)]
pub struct Convert(pub Vec<(Path, Conversion)>);

/// The type that `convert` gives a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Conversion {
    /// A whole number.
    Integer,
    /// A number.
    Number,
    /// `true` or `false`.
    Boolean,
    /// A text.
    Text,
    /// A time, written as RFC 3339 in UTC.
    Time(TimeForm),
}

impl StepKind for Convert {
    const VERB: &'static str = "convert";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Convert> {
        c.list(conversion).map(Convert)
    }

    fn explain(&self) -> String {
        let one = |(path, to): &(Path, Conversion)| {
            let kind = match to {
                Conversion::Integer => "a whole number".to_owned(),
                Conversion::Number => "a number".to_owned(),
                Conversion::Boolean => "true or false".to_owned(),
                Conversion::Text => "a text".to_owned(),
                Conversion::Time(form) => format!("a time in UTC{}", in_words(form)),
            };
            format!("{path} becomes {kind}")
        };
        format!("Changes types: {}. A value that cannot be that stays as it is and is counted.", self.0.iter().map(one).collect::<Vec<_>>().join("; "))
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend(self.0.iter().map(|(path, _)| path.clone()));
    }
}

fn conversion(c: &mut Cursor<'_>) -> Outcome<(Path, Conversion)> {
    const WORDS: &[&str] = &["integer", "number", "boolean", "text", "time"];
    let field = c.path("a field")?;
    c.need_words("to")?;
    let to = match WORDS.iter().find(|w| c.words(w)) {
        Some(&"integer") => Conversion::Integer,
        Some(&"number") => Conversion::Number,
        Some(&"boolean") => Conversion::Boolean,
        Some(&"text") => Conversion::Text,
        Some(_) => Conversion::Time(time_form(c)?),
        None => return c.unexpected("a type: `integer`, `number`, `boolean`, `text` or `time`", WORDS),
    };
    Ok((field, to))
}

impl Display for Convert {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("convert ")?;
        write_pairs(f, "to", &self.0)
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
