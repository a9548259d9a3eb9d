//! Values written in a sentence.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::write_quoted;
use rockrose_event::level::Level;

/// A value written in a sentence.
#[derive(Clone, Debug, PartialEq)]
pub enum Literal {
    /// `"text"`
    Text(String),
    /// A number; compares with numbers and with numeric strings, as a number.
    Number(f64),
    /// `true` or `false`
    Bool(bool),
    /// A severity word, only beside the `severity` field.
    Level(Level),
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
