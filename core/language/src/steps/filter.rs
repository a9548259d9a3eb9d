//! `keep CONDITION` and `drop CONDITION`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use crate::condition::{Condition, condition};
use crate::cursor::{Cursor, Outcome};

/// Removes every event that does not meet the condition.
#[derive(Clone, Debug, PartialEq)]
pub struct Keep(pub Condition);

/// Removes every event that meets the condition.
#[derive(Clone, Debug, PartialEq)]
pub struct Drop(pub Condition);

impl StepKind for Keep {
    const VERB: &'static str = "keep";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Keep> {
        condition(c).map(Keep)
    }

    fn explain(&self) -> String {
        format!("Removes every event but those of which this holds: {}.", self.0.in_words())
    }

    fn conditions(&self) -> Vec<&Condition> {
        vec![&self.0]
    }

    fn reads(&self, out: &mut Vec<Path>) {
        self.0.reads(out);
    }
}

impl Display for Keep {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "keep {}", self.0)
    }
}

impl StepKind for Drop {
    const VERB: &'static str = "drop";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Drop> {
        condition(c).map(Drop)
    }

    fn explain(&self) -> String {
        format!("Removes every event of which this holds: {}.", self.0.in_words())
    }

    fn conditions(&self) -> Vec<&Condition> {
        vec![&self.0]
    }

    fn reads(&self, out: &mut Vec<Path>) {
        self.0.reads(out);
    }
}

impl Display for Drop {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "drop {}", self.0)
    }
}
