//! `count as metric by label` and `measure field as metric by label`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::clause::{by, grouped, write_by, write_name};
use super::{Reference, StepKind};
use crate::cursor::{Cursor, Outcome};
use crate::mistake::Mistake;

/// Longest name of a metric, in bytes.
const MAX_NAME: usize = 100;

/// Counts events in a metric.
#[derive(Clone, Debug, PartialEq)]
pub struct Count {
    /// The metric's name.
    pub name: String,
    /// Its labels.
    pub by: Vec<Path>,
}

/// Adds a field's value to a metric's histogram.
#[derive(Clone, Debug, PartialEq)]
pub struct Measure {
    /// The field that holds the number.
    pub field: Path,
    /// The metric's name.
    pub name: String,
    /// Its labels.
    pub by: Vec<Path>,
}

impl StepKind for Count {
    const VERB: &'static str = "count";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Count> {
        c.need_words("as")?;
        Ok(Count { name: metric(c)?, by: by(c)? })
    }

    fn explain(&self) -> String {
        let labels = grouped(&self.by, "", ", apart for each value of");
        format!("Counts events in the metric {}{labels}, weights of samples included. The event goes on unchanged.", self.name)
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend_from_slice(&self.by);
    }

    fn refers_to(&self) -> Option<Reference<'_>> {
        Some(Reference::Metric { name: &self.name, made: format!("a count {}", labels(&self.by)) })
    }
}

impl Display for Count {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("count as ")?;
        write_name(f, &self.name)?;
        write_by(f, &self.by)
    }
}

impl StepKind for Measure {
    const VERB: &'static str = "measure";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Measure> {
        let field = c.path("a field that holds a number")?;
        c.need_words("as")?;
        Ok(Measure { field, name: metric(c)?, by: by(c)? })
    }

    fn explain(&self) -> String {
        let labels = grouped(&self.by, "", ", apart for each value of");
        format!("Adds the number in {} to the histogram {}{labels}, weights of samples included. The event goes on unchanged.", self.field, self.name)
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.push(self.field.clone());
        out.extend_from_slice(&self.by);
    }

    fn refers_to(&self) -> Option<Reference<'_>> {
        Some(Reference::Metric { name: &self.name, made: format!("a histogram {}", labels(&self.by)) })
    }
}

impl Display for Measure {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "measure {} as ", self.field)?;
        write_name(f, &self.name)?;
        write_by(f, &self.by)
    }
}

fn labels(by: &[Path]) -> String {
    let all: Vec<_> = by.iter().map(Path::flat).collect();
    if all.is_empty() { "without labels".to_owned() } else { format!("by {}", all.join(", ")) }
}

fn metric(c: &mut Cursor<'_>) -> Outcome<String> {
    let start = c.at();
    let name = c.name("the metric's name")?;
    let good = !name.starts_with(|ch: char| ch.is_ascii_digit()) && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    if good && name.len() <= MAX_NAME {
        Ok(name)
    } else {
        Err(Mistake::new(c.since(start), format!("`{name}` cannot name a metric")).expected("letters, digits and `_`, no digit first, at most 100"))
    }
}
