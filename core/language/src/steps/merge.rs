//! `merge repeats within 30 seconds by a, b`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use super::clause::write_by;
use crate::cursor::{Cursor, Outcome};
use crate::list::listed;
use crate::quantity::{Time, time};

/// Makes one event of those that repeat within a time.
#[derive(Clone, Debug, PartialEq)]
pub struct Merge {
    /// How long a window is open.
    pub within: Time,
    /// What events must agree in.
    pub by: Vec<Path>,
}

impl StepKind for Merge {
    const VERB: &'static str = "merge";
    const ONCE: bool = true;

    fn parse(c: &mut Cursor<'_>) -> Outcome<Merge> {
        c.need_words("repeats")?;
        c.need_words("within")?;
        let within = time(c)?;
        c.need_words("by")?;
        Ok(Merge { within, by: c.list(|c| c.path("a field that repeats agree in"))? })
    }

    fn explain(&self) -> String {
        format!(
            "Holds an event back for {} and lets those that agree with it in {} go into it; then it goes on, with merged.count, merged.first and merged.last.",
            self.within,
            listed(&self.by)
        )
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend_from_slice(&self.by);
    }
}

impl Display for Merge {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "merge repeats within {}", self.within)?;
        write_by(f, &self.by)
    }
}
