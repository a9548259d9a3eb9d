//! `sample 1 in N`, `sample P%`, `sample to N per second`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use super::clause::{by, exempted, grouped, unless, write_by, write_unless};
use crate::condition::Condition;
use crate::cursor::{Cursor, Outcome};
use crate::mistake::Mistake;
use crate::quantity::{Pace, pace};

/// Removes all but a share, and marks what stays with its weight.
#[derive(Clone, Debug, PartialEq)]
pub struct Sample {
    /// How many stay.
    pub rate: Rate,
    /// The key: events that agree in it are kept or removed together. Empty: each is chosen for itself.
    pub by: Vec<Path>,
    /// Events that are always kept, unmarked.
    pub unless: Option<Condition>,
}

/// What share of events a `sample` keeps.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Rate {
    /// `1 in N`, N at least 1.
    OneIn(u64),
    /// `P%`, above 0 and at most 100.
    Percent(f64),
    /// `to N per second`: whatever share comes to about that.
    Target(Pace),
}

impl Rate {
    /// How many events one kept event stands for; nothing where that depends on how many come.
    #[must_use]
    pub fn weight(self) -> Option<f64> {
        match self {
            Rate::OneIn(n) => Some(n as f64),
            Rate::Percent(p) => Some(100.0 / p),
            Rate::Target(_) => None,
        }
    }
}

impl StepKind for Sample {
    const VERB: &'static str = "sample";
    const ONCE: bool = true;

    fn parse(c: &mut Cursor<'_>) -> Outcome<Sample> {
        let rate = rate(c)?;
        Ok(Sample { rate, by: by(c)?, unless: unless(c)? })
    }

    fn explain(&self) -> String {
        let share = match self.rate {
            Rate::OneIn(n) => format!("Keeps one event in {n}"),
            Rate::Percent(p) => format!("Keeps {p} % of the events"),
            Rate::Target(pace) => format!("Keeps about {} events per {}, by whatever share comes to that", pace.count, pace.per.word()),
        };
        let key = match self.rate {
            Rate::Target(_) => grouped(&self.by, ", all together", ", for each value of"),
            _ => grouped(&self.by, ", whatever it holds", "; events that agree in these are kept or removed together:"),
        };
        let always = exempted(self.unless.as_ref(), "An event is always kept, unmarked,");
        format!("{share}{key}. What is kept says in sampled.weight how many events it stands for.{always}")
    }

    fn conditions(&self) -> Vec<&Condition> {
        self.unless.iter().collect()
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend_from_slice(&self.by);
        self.unless.iter().for_each(|c| c.reads(out));
    }
}

fn rate(c: &mut Cursor<'_>) -> Outcome<Rate> {
    const EXPECTED: &str = "`1 in N`, a share such as `5%`, or `to N per second`";
    if c.words("to") {
        return pace(c).map(Rate::Target);
    }
    let at = c.here();
    let start = c.at();
    let Some(first) = c.number() else {
        return c.unexpected(EXPECTED, &["to"]);
    };
    if c.sign("%") {
        if first <= 0.0 || first > 100.0 {
            return Err(Mistake::new(c.since(start), "a share must be above 0% and at most 100%"));
        }
        return Ok(Rate::Percent(first));
    }
    if first != 1.0 {
        return Err(Mistake::new(at, "cannot sample this many").expected(EXPECTED));
    }
    c.need_words("in")?;
    c.count("a whole number of at least 1").map(Rate::OneIn)
}

impl Display for Sample {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "sample {}", self.rate)?;
        write_by(f, &self.by)?;
        write_unless(f, self.unless.as_ref())
    }
}

impl Display for Rate {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Rate::OneIn(n) => write!(f, "1 in {n}"),
            Rate::Percent(p) => write!(f, "{p}%"),
            Rate::Target(pace) => write!(f, "to {pace}"),
        }
    }
}
