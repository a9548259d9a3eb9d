//! `remove a, debug.*` and `retain a, b`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use crate::cursor::{Cursor, Outcome};
use crate::list::write_list;
use crate::mistake::Mistake;

/// Removes fields.
#[derive(Clone, Debug, PartialEq)]
pub struct Remove(pub Vec<Selector>);

/// Removes all other fields.
#[derive(Clone, Debug, PartialEq)]
pub struct Retain(pub Vec<Selector>);

/// Fields chosen by path, or by what their name is like.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Selector {
    /// One field.
    Field(Path),
    /// All whose whole name (`outer.inner`) is like this; a `*` stands for any characters, or none.
    Like(String),
}

impl StepKind for Remove {
    const VERB: &'static str = "remove";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Remove> {
        c.list(selector).map(Remove)
    }

    fn explain(&self) -> String {
        format!("Removes the fields {}.", in_words(&self.0))
    }

    fn reads(&self, _out: &mut Vec<Path>) {}
}

impl Display for Remove {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("remove ")?;
        write_list(f, &self.0, ", ")
    }
}

impl StepKind for Retain {
    const VERB: &'static str = "retain";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Retain> {
        c.list(selector).map(Retain)
    }

    fn explain(&self) -> String {
        format!("Removes every field but {} (and sampled.weight).", in_words(&self.0))
    }

    fn reads(&self, _out: &mut Vec<Path>) {}
}

impl Display for Retain {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("retain ")?;
        write_list(f, &self.0, ", ")
    }
}

fn selector(c: &mut Cursor<'_>) -> Outcome<Selector> {
    match c.wildcard() {
        Some((at, like)) => {
            if like.bytes().all(|b| b == b'*') {
                return Err(
                    Mistake::new(at.start..at.start + 1, "`*` alone would be every field").expected("a beginning or an end, as in `debug.*` or `*_tmp`")
                );
            }
            Ok(Selector::Like(like))
        }
        None => c.path("a field, or a name with `*`").map(Selector::Field),
    }
}

fn in_words(chosen: &[Selector]) -> String {
    let one = |s: &Selector| match s {
        Selector::Field(path) => path.to_string(),
        Selector::Like(like) => format!("whose name is like {like}"),
    };
    chosen.iter().map(one).collect::<Vec<_>>().join(", ")
}

impl Display for Selector {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Selector::Field(path) => path.fmt(f),
            Selector::Like(like) => f.write_str(like),
        }
    }
}
