//! `parse field as FORMAT else FORMAT`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use crate::cursor::{Cursor, Outcome};
use crate::format::{Format, formats};
use crate::list::write_list;

/// Reads a field's text and adds what it finds as fields.
#[derive(Clone, Debug, PartialEq)]
pub struct Parse {
    /// The field to read.
    pub field: Path,
    /// How it may be written; the first that fits is taken. One or more.
    pub formats: Vec<Format>,
}

impl StepKind for Parse {
    const VERB: &'static str = "parse";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Parse> {
        let field = c.path("a field")?;
        c.need_words("as")?;
        Ok(Parse { field, formats: formats(c)? })
    }

    fn explain(&self) -> String {
        let ways = self.formats.iter().map(Format::in_words).collect::<Vec<_>>().join(", else as ");
        format!(
            "Reads {} as {ways} and adds what it finds as fields. If it is none of that, the event stays as it was, parse.failed says so, and it is counted.",
            self.field
        )
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.push(self.field.clone());
    }
}

impl Display for Parse {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "parse {} as ", self.field)?;
        write_list(f, &self.formats, " else ")
    }
}
