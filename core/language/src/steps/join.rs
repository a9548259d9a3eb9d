//! `join lines starting with /…/ by file`, `join pieces while partial = true by file`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::StepKind;
use super::clause::{by, grouped, write_by};
use crate::condition::{Condition, condition};
use crate::cursor::{Cursor, Outcome};
use crate::pattern::Pattern;
use crate::quantity::{Time, TimeUnit, time};

/// How long the next line may take where nothing else is given.
const WITHIN: Time = Time { count: 5, unit: TimeUnit::Second };

/// Makes one event of the lines of a text that was cut into lines.
#[derive(Clone, Debug, PartialEq)]
pub struct Join {
    /// Which lines belong together.
    pub how: Joining,
    /// Each value of these is a stream of its own.
    pub by: Vec<Path>,
    /// How long the next line may take.
    pub within: Time,
}

/// Which lines `join lines` takes for one event, and which pieces `join pieces`.
#[derive(Clone, Debug, PartialEq)]
pub enum Joining {
    /// `starting with /…/`: a line that matches begins an event; all others belong to the one before.
    Starting(Pattern),
    /// `continued by /…/`: a line that matches is continued by the next.
    Continued(Pattern),
    /// `going on with /…/`: a line that matches belongs to the one before.
    Going(Pattern),
    /// `indented`: a line that begins with white space belongs to the one before.
    Indented,
    /// `without a time`: a line that does not tell its time near its beginning belongs to the one before.
    Timeless,
    /// `pieces while CONDITION`: an event that meets it is one piece of a text that goes on in the next, with nothing between.
    Pieces(Condition),
}

impl StepKind for Join {
    const VERB: &'static str = "join";
    const ONCE: bool = true;

    fn parse(c: &mut Cursor<'_>) -> Outcome<Join> {
        let how = if c.words("pieces") {
            c.need_words("while")?;
            Joining::Pieces(condition(c)?)
        } else {
            c.need_words("lines")?;
            joining(c)?
        };
        let within = |c: &mut Cursor<'_>| if c.words("within") { time(c).map(Some) } else { Ok(None) };
        // In either order.
        let early = within(c)?;
        let by = by(c)?;
        let within = if early.is_none() { within(c)? } else { early };
        Ok(Join { how, by, within: within.unwrap_or(WITHIN) })
    }

    fn explain(&self) -> String {
        let streams = grouped(&self.by, "", "; a stream for each value of");
        let lines = match &self.how {
            Joining::Pieces(condition) => {
                return format!(
                    "Makes one event of the pieces of a message that was cut: one of which this holds goes on in the next: {}{streams}. It waits {} for the next piece.",
                    condition.in_words(),
                    self.within
                );
            }
            Joining::Starting(p) => format!("a line that matches {p} begins an event, and the others belong to the one before"),
            Joining::Continued(p) => format!("a line that matches {p} is continued by the next"),
            Joining::Going(p) => format!("a line that matches {p} belongs to the one before"),
            Joining::Indented => "a line that begins with white space belongs to the one before".to_owned(),
            Joining::Timeless => "a line that does not begin with a time belongs to the one before".to_owned(),
        };
        format!("Makes one event of several lines of message: {lines}{streams}. It waits {} for the next line.", self.within)
    }

    fn conditions(&self) -> Vec<&Condition> {
        if let Joining::Pieces(condition) = &self.how { vec![condition] } else { Vec::new() }
    }

    fn reads(&self, out: &mut Vec<Path>) {
        if let Joining::Pieces(condition) = &self.how {
            condition.reads(out);
        }
        out.extend_from_slice(&self.by);
        out.push(Path::name("message"));
    }
}

fn joining(c: &mut Cursor<'_>) -> Outcome<Joining> {
    if c.words("starting") {
        c.need_words("with")?;
        return c.pattern().map(Joining::Starting);
    }
    if c.words("continued") {
        c.need_words("by")?;
        return c.pattern().map(Joining::Continued);
    }
    if c.words("going") {
        c.need_words("on with")?;
        return c.pattern().map(Joining::Going);
    }
    if c.words("indented") {
        return Ok(Joining::Indented);
    }
    if c.words("without") {
        c.need_words("a time")?;
        return Ok(Joining::Timeless);
    }
    let expected = "`starting with /…/`, `continued by /…/`, `going on with /…/`, `indented` or `without a time`";
    c.unexpected(expected, &["starting", "continued", "going", "indented", "without"])
}

impl Display for Join {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "join {}", self.how)?;
        write_by(f, &self.by)?;
        if self.within == WITHIN { Ok(()) } else { write!(f, " within {}", self.within) }
    }
}

impl Display for Joining {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Joining::Starting(pattern) => write!(f, "lines starting with {pattern}"),
            Joining::Continued(pattern) => write!(f, "lines continued by {pattern}"),
            Joining::Going(pattern) => write!(f, "lines going on with {pattern}"),
            Joining::Indented => f.write_str("lines indented"),
            Joining::Timeless => f.write_str("lines without a time"),
            Joining::Pieces(condition) => write!(f, "pieces while {condition}"),
        }
    }
}
