//! `trim field to 2 KB`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use crate::cursor::{Cursor, Outcome};
use crate::quantity::{Size, size};

/// Cuts a field's text to a size in bytes of UTF-8.
#[derive(Clone, Debug, PartialEq)]
pub struct Trim {
    /// The field.
    pub field: Path,
    /// The most that stays, a closing `…` included.
    pub size: Size,
}

impl StepKind for Trim {
    const VERB: &'static str = "trim";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Trim> {
        let field = c.path("a field")?;
        c.need_words("to")?;
        Ok(Trim { field, size: size(c)? })
    }

    fn explain(&self) -> String {
        format!("Cuts {} to {}, between characters; what was cut ends in `…`.", self.field, self.size)
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.push(self.field.clone());
    }
}

impl Display for Trim {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "trim {} to {}", self.field, self.size)
    }
}
