//! `dedupe by a, b within 1 minute preferring source`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::clause::{write_by, write_name};
use super::{Reference, StepKind};
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
    /// The source whose copy is kept, if one is.
    pub prefer: Option<String>,
}

impl StepKind for Dedupe {
    const VERB: &'static str = "dedupe";
    const ONCE: bool = true;

    fn parse(c: &mut Cursor<'_>) -> Outcome<Dedupe> {
        let by = if c.words("by") { c.list(|c| c.path("a field that copies agree in"))? } else { Vec::new() };
        c.need_words("within")?;
        let within = time(c)?;
        let prefer = if c.words("preferring") { Some(c.name("the name of a source")?) } else { None };
        Ok(Dedupe { by, within, prefer })
    }

    fn explain(&self) -> String {
        let agree = if self.by.is_empty() { "in everything".to_owned() } else { format!("in {}", listed(&self.by)) };
        let within = self.within;
        match &self.prefer {
            None => format!("Lets the first of those that agree {agree} within {within} through, and removes the others."),
            Some(source) => format!(
                "Of those that agree {agree} within {within}, lets the one from {source} through and removes the others; one from elsewhere waits so long for it, and goes on if it does not come."
            ),
        }
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend_from_slice(&self.by);
    }

    fn refers_to(&self) -> Option<Reference<'_>> {
        self.prefer.as_deref().map(Reference::Source)
    }
}

impl Display for Dedupe {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("dedupe")?;
        write_by(f, &self.by)?;
        write!(f, " within {}", self.within)?;
        match &self.prefer {
            None => Ok(()),
            Some(source) => {
                f.write_str(" preferring ")?;
                write_name(f, source)
            }
        }
    }
}
