//! `rename a to b, old_* to new_*`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use crate::cursor::{Cursor, Outcome};
use crate::list::write_list;
use crate::mistake::Mistake;

/// Renames fields.
#[derive(Clone, Debug, PartialEq)]
pub struct Rename(pub Vec<Renaming>);

/// One renaming.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Renaming {
    /// `a to b`
    Field(Path, Path),
    /// `old_* to new_*`: with as many stars on both sides.
    Like(String, String),
}

impl StepKind for Rename {
    const VERB: &'static str = "rename";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Rename> {
        c.list(renaming).map(Rename)
    }

    fn explain(&self) -> String {
        let one = |r: &Renaming| match r {
            Renaming::Field(from, to) => format!("{from} is called {to}"),
            Renaming::Like(from, to) => format!("names like {from} become {to}"),
        };
        format!("Renames: {}.", self.0.iter().map(one).collect::<Vec<_>>().join("; "))
    }

    fn reads(&self, _out: &mut Vec<Path>) {}
}

fn renaming(c: &mut Cursor<'_>) -> Outcome<Renaming> {
    let Some((_, from)) = c.wildcard() else {
        let from = c.path("a field")?;
        c.need_words("to")?;
        return Ok(Renaming::Field(from, c.path("the field's new name")?));
    };
    c.need_words("to")?;
    let here = c.here();
    let stars = |text: &str| text.matches('*').count();
    match c.wildcard() {
        Some((_, to)) if stars(&to) == stars(&from) => Ok(Renaming::Like(from, to)),
        Some((at, _)) => Err(Mistake::new(at, "not as many `*` as before `to`").expected("each `*` of the old name once in the new one")),
        None => Err(Mistake::new(here, "the new name has no `*`").expected("each `*` of the old name once in the new one")),
    }
}

impl Display for Rename {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("rename ")?;
        write_list(f, &self.0, ", ")
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
