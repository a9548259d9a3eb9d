//! `limit N per second`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use super::clause::{by, exempted, grouped, unless, write_by, write_unless};
use crate::condition::Condition;
use crate::cursor::{Cursor, Outcome};
use crate::quantity::{Pace, pace};

/// Removes what comes faster than a pace.
#[derive(Clone, Debug, PartialEq)]
pub struct Limit {
    /// How many may pass.
    pub pace: Pace,
    /// Each value of these has a pace of its own.
    pub by: Vec<Path>,
    /// Events that always pass and are not counted.
    pub unless: Option<Condition>,
}

impl StepKind for Limit {
    const VERB: &'static str = "limit";
    const ONCE: bool = true;

    fn parse(c: &mut Cursor<'_>) -> Outcome<Limit> {
        let pace = pace(c)?;
        Ok(Limit { pace, by: by(c)?, unless: unless(c)? })
    }

    fn explain(&self) -> String {
        let by = grouped(&self.by, ", all together", ", for each value of");
        let always = exempted(self.unless.as_ref(), "An event always passes, uncounted,");
        format!("Lets {} events pass per {}{by}, and removes what comes faster.{always}", self.pace.count, self.pace.per.word())
    }

    fn conditions(&self) -> Vec<&Condition> {
        self.unless.iter().collect()
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend_from_slice(&self.by);
        self.unless.iter().for_each(|c| c.reads(out));
    }
}

impl Display for Limit {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "limit {}", self.pace)?;
        write_by(f, &self.by)?;
        write_unless(f, self.unless.as_ref())
    }
}
