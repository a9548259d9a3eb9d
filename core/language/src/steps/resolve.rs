//! `resolve field as name`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use crate::cursor::{Cursor, Outcome};

/// Adds the name of an address (DNS).
#[derive(Clone, Debug, PartialEq)]
pub struct Resolve {
    /// The field that holds the address.
    pub field: Path,
    /// The field that the name is written to.
    pub into: Path,
}

impl StepKind for Resolve {
    const VERB: &'static str = "resolve";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Resolve> {
        let field = c.path("a field that holds an address")?;
        c.need_words("as")?;
        Ok(Resolve { field, into: c.path("the field for the name")? })
    }

    fn explain(&self) -> String {
        format!("Writes the name of the address in {} to {}, if it is known by then; the batch does not wait for it.", self.field, self.into)
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.push(self.field.clone());
    }
}

impl Display for Resolve {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "resolve {} as {}", self.field, self.into)
    }
}
