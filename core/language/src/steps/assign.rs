//! `set field = value` and `tag name = value`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use super::clause::write_pairs;
use crate::cursor::{Cursor, Outcome};
use crate::value::{Value, assignment};

/// Sets tags: attributes by which events are accounted for.
#[derive(Clone, Debug, PartialEq)]
pub struct Tag(pub Vec<(Path, Value)>);

/// Sets fields.
#[derive(Clone, Debug, PartialEq)]
pub struct Set(pub Vec<(Path, Value)>);

impl StepKind for Tag {
    const VERB: &'static str = "tag";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Tag> {
        c.list(assignment).map(Tag)
    }

    fn explain(&self) -> String {
        format!("Tags the event, for the account by tag: {}.", in_words(&self.0))
    }

    fn reads(&self, out: &mut Vec<Path>) {
        self.0.iter().for_each(|(_, value)| value.reads(out));
    }

    fn writes(&self) -> Option<Vec<&Path>> {
        Some(self.0.iter().map(|(path, _)| path).collect())
    }
}

impl Display for Tag {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("tag ")?;
        write_pairs(f, "=", &self.0)
    }
}

impl StepKind for Set {
    const VERB: &'static str = "set";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Set> {
        c.list(assignment).map(Set)
    }

    fn explain(&self) -> String {
        format!("Writes fields: {}. Where something that is needed is missing, that field stays as it is.", in_words(&self.0))
    }

    fn reads(&self, out: &mut Vec<Path>) {
        self.0.iter().for_each(|(_, value)| value.reads(out));
    }

    fn writes(&self) -> Option<Vec<&Path>> {
        Some(self.0.iter().map(|(path, _)| path).collect())
    }
}

impl Display for Set {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("set ")?;
        write_pairs(f, "=", &self.0)
    }
}

fn in_words(pairs: &[(Path, Value)]) -> String {
    pairs.iter().map(|(path, value)| format!("{path} is {value}")).collect::<Vec<_>>().join("; ")
}
