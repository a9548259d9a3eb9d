//! `dedupe by a, b within 1 minute preferring source`, or `… preferring where CONDITION`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::clause::{write_by, write_name};
use super::{Reference, StepKind};
use crate::condition::{Condition, condition};
use crate::cursor::{Cursor, Outcome};
use crate::list::listed;
use crate::quantity::{Time, time};

/// Keeps one of the copies of an event that come by several ways.
#[derive(Clone, Debug, PartialEq)]
pub struct Dedupe {
    /// What copies agree in; nothing: in all.
    pub by: Vec<Path>,
    /// For how long a copy is known.
    pub within: Time,
    /// Which copy is kept, if not the first.
    pub prefer: Option<Preference>,
}

/// Which of several copies is kept.
#[derive(Clone, Debug, PartialEq)]
pub enum Preference {
    /// The one that comes from a source.
    Source(String),
    /// One that meets a condition, as that it comes from a host.
    Where(Condition),
}

impl StepKind for Dedupe {
    const VERB: &'static str = "dedupe";
    const ONCE: bool = true;

    fn parse(c: &mut Cursor<'_>) -> Outcome<Dedupe> {
        let by = if c.words("by") { c.list(|c| c.path("a field that copies agree in"))? } else { Vec::new() };
        c.need_words("within")?;
        let within = time(c)?;
        let prefer = match c.words("preferring") {
            false => None,
            true if c.words("where") => Some(Preference::Where(condition(c)?)),
            true => Some(Preference::Source(c.name("the name of a source, or `where` and a condition")?)),
        };
        Ok(Dedupe { by, within, prefer })
    }

    fn explain(&self) -> String {
        let agree = if self.by.is_empty() { "in everything".to_owned() } else { format!("in {}", listed(&self.by)) };
        let within = self.within;
        match &self.prefer {
            None => format!("Lets the first of those that agree {agree} within {within} through, and removes the others."),
            Some(Preference::Where(condition)) => format!(
                "Of those that agree {agree} within {within}, lets one of which this holds through and removes the others: {}; another waits so long for it, and goes on if it does not come.",
                condition.in_words()
            ),
            Some(Preference::Source(source)) => format!(
                "Of those that agree {agree} within {within}, lets the one from {source} through and removes the others; one from elsewhere waits so long for it, and goes on if it does not come."
            ),
        }
    }

    fn conditions(&self) -> Vec<&Condition> {
        if let Some(Preference::Where(condition)) = &self.prefer { vec![condition] } else { Vec::new() }
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend_from_slice(&self.by);
        if let Some(Preference::Where(condition)) = &self.prefer {
            condition.reads(out);
        }
    }

    fn refers_to(&self) -> Option<Reference<'_>> {
        match &self.prefer {
            Some(Preference::Source(source)) => Some(Reference::Source(source)),
            _ => None,
        }
    }
}

impl Display for Dedupe {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("dedupe")?;
        write_by(f, &self.by)?;
        write!(f, " within {}", self.within)?;
        match &self.prefer {
            None => Ok(()),
            Some(Preference::Where(condition)) => write!(f, " preferring where {condition}"),
            Some(Preference::Source(source)) => {
                f.write_str(" preferring ")?;
                write_name(f, source)
            }
        }
    }
}
