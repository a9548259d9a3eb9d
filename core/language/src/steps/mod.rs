//! Steps: the list of all of them, and what each must say of itself.
//!
//! A step is one idea in one file here: its tree, how it is read, printed and explained, and the names it refers to. To add one, write its file (a type that
//! is a [`StepKind`]) and add a line to the list below; the engine has a list like it.

mod aggregate;
mod assign;
mod clause;
mod convert;
mod dedupe;
mod filter;
mod join;
mod limit;
mod locate;
mod look_up;
mod merge;
mod parse;
mod recipe;
mod redact;
mod rename;
mod resolve;
mod sample;
mod select;
mod trim;

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

pub use aggregate::{Count, Measure};
pub use assign::{Set, Tag};
pub use convert::{Conversion, Convert};
pub use dedupe::{Dedupe, Preference};
pub use filter::{Drop, Keep};
pub use join::{Join, Joining};
pub use limit::Limit;
pub use locate::Locate;
pub use look_up::LookUp;
pub use merge::Merge;
pub use parse::Parse;
pub use recipe::Use;
pub use redact::{Detector, Mask, Redact, Redaction, What};
pub use rename::{Rename, Renaming};
pub use resolve::Resolve;
pub use sample::{Rate, Sample};
pub use select::{Remove, Retain, Selector};
pub use trim::Trim;

use crate::budget::BudgetTest;
use crate::condition::{Condition, condition};
use crate::cursor::{Cursor, Outcome};
use crate::habits;
use crate::mistake::Mistake;

/// One kind of step. `Display` prints its canonical sentence, which reads back as the same tree.
pub(crate) trait StepKind: Display + Sized {
    /// The word that its sentence begins with.
    const VERB: &'static str;

    /// Reads what stands behind the verb.
    ///
    /// # Errors
    /// At the first place where the sentence cannot go on, with what was expected there.
    fn parse(c: &mut Cursor<'_>) -> Outcome<Self>;

    /// What it does, in plain words, as one or more whole sentences.
    fn explain(&self) -> String;

    /// Adds the fields that it reads.
    fn reads(&self, out: &mut Vec<Path>);

    /// The only fields that it can change; `None`, where that is not known before the event is.
    fn writes(&self) -> Option<Vec<&Path>> {
        None
    }

    /// The conditions that stand in it, besides the one that says which events it touches.
    fn conditions(&self) -> Vec<&Condition> {
        Vec::new()
    }

    /// What it names that stands elsewhere in the plan.
    fn refers_to(&self) -> Option<Reference<'_>> {
        None
    }

    /// Whether what it does to an event depends on others or on chance, so that it is done to each event once.
    const ONCE: bool = false;
}

/// Something that a step names and that the plan must have, or that all steps of a plan must agree on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reference<'a> {
    /// A table of this name and kind (`csv` or `places`).
    Table {
        /// Its name.
        name: &'a str,
        /// The kind that the step can ask.
        kind: &'static str,
        /// The columns that it takes; none, if it takes all there are.
        columns: Vec<String>,
    },
    /// A source.
    Source(&'a str),
    /// A recipe, with what is given for its parameters.
    Recipe(&'a Use),
    /// A metric that the step adds to. All steps that add to it must do so in the same way.
    Metric {
        /// Its name.
        name: &'a str,
        /// In which way, in words: `a count by status`.
        made: String,
    },
}

/// Makes [`Operation`] and [`STEP_VERBS`] from the list of steps, and hands each call to the step's own type.
macro_rules! steps {
    ($($(#[$doc:meta])* $name:ident,)*) => {
        /// What a step does.
        #[derive(Clone, Debug, PartialEq)]
        pub enum Operation { $($(#[$doc])* $name($name),)* }

        /// The word that each step begins with.
        pub const STEP_VERBS: &[&str] = &[$($name::VERB,)*];

        fn operation(c: &mut Cursor<'_>, verb: &str) -> Outcome<Operation> {
            $(if verb == $name::VERB { return $name::parse(c).map(Operation::$name); })*
            c.unexpected(&format!("a step: one of {}", STEP_VERBS.iter().map(|v| format!("`{v}`")).collect::<Vec<_>>().join(", ")), STEP_VERBS)
        }

        impl Operation {
            pub(crate) fn explain(&self) -> String {
                match self { $(Operation::$name(step) => step.explain(),)* }
            }

            /// Adds the fields that it reads.
            pub fn reads(&self, out: &mut Vec<Path>) {
                match self { $(Operation::$name(step) => step.reads(out),)* }
            }

            /// Whether it can change what a field of this path is. Where that is not known before the event is, it can.
            #[must_use]
            pub fn can_change(&self, path: &Path) -> bool {
                let written = match self { $(Operation::$name(step) => step.writes(),)* };
                written.is_none_or(|written| written.into_iter().any(|written| written.may_overlap(path)))
            }

            /// The conditions that stand in it, besides the one that says which events it touches.
            #[must_use]
            pub fn conditions(&self) -> Vec<&Condition> {
                match self { $(Operation::$name(step) => step.conditions(),)* }
            }

            /// What it names that stands elsewhere in the plan.
            #[must_use]
            pub fn refers_to(&self) -> Option<Reference<'_>> {
                match self { $(Operation::$name(step) => step.refers_to(),)* }
            }

            /// Whether what it does to an event depends on others or on chance (as that of `sample`, `limit` and `merge repeats`), so that it is done to each event once.
            #[must_use]
            pub fn is_done_once(&self) -> bool {
                match self { $(Operation::$name(_) => <$name>::ONCE,)* }
            }
        }

        impl Display for Operation {
            fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
                match self { $(Operation::$name(step) => step.fmt(f),)* }
            }
        }

        $(impl From<$name> for Operation {
            fn from(step: $name) -> Operation {
                Operation::$name(step)
            }
        })*
    };
}

// In the order in which they are offered where a step is expected.
steps! {
    /// Removes every event that does not meet a condition.
    Keep,
    /// Removes every event that meets a condition.
    Drop,
    /// Removes all but a share, and marks what stays with its weight.
    Sample,
    /// Removes what comes faster than a pace.
    Limit,
    /// Masks what must not be seen.
    Redact,
    /// Sets tags: attributes by which events are accounted for.
    Tag,
    /// Sets fields.
    Set,
    /// Gives fields' values another type.
    Convert,
    /// Removes fields.
    Remove,
    /// Removes all other fields.
    Retain,
    /// Renames fields.
    Rename,
    /// Reads a field's text and adds what it finds as fields.
    Parse,
    /// Adds what a table says of a field's value.
    LookUp,
    /// Adds where an address is, by a database of places.
    Locate,
    /// Adds the name of an address (DNS).
    Resolve,
    /// Keeps one of the copies of an event that come by several ways.
    Dedupe,
    /// Makes one event of those that repeat within a time.
    Merge,
    /// Makes one event of the lines of a text that was cut into lines.
    Join,
    /// Cuts a field's text to a size in bytes of UTF-8.
    Trim,
    /// Counts events in a metric.
    Count,
    /// Adds a field's value to a metric's histogram.
    Measure,
    /// Does all the steps of a recipe.
    Use,
}

/// One step: an operation, and the condition under which it touches an event.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// What is done.
    pub operation: Operation,
    /// Which events it touches; left out, all.
    pub when: Option<Condition>,
}

impl Step {
    /// Whether what it does to an event depends on others, on chance or on what is used of a budget, so that it is done to each event once.
    #[must_use]
    pub fn is_done_once(&self) -> bool {
        self.operation.is_done_once() || !self.budgets().is_empty()
    }

    /// The tests in it of how much of a budget is used.
    #[must_use]
    pub fn budgets(&self) -> Vec<&BudgetTest> {
        self.operation.conditions().into_iter().chain(&self.when).flat_map(Condition::budgets).collect()
    }

    /// What is doubtful in the sentence `text` that this was read from, though it is one.
    #[must_use]
    pub fn doubts(&self, text: &str) -> Vec<Mistake> {
        if let Operation::Redact(redact) = &self.operation { redact.doubts(text) } else { Vec::new() }
    }
}

impl Display for Step {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        self.operation.fmt(f)?;
        match &self.when {
            Some(when) => write!(f, " when {when}"),
            None => Ok(()),
        }
    }
}

/// Parses a whole text as one step.
///
/// # Errors
/// At the first place where the text is no step, with what was expected there and the nearest valid word.
pub fn parse_step(text: &str) -> Result<Step, Mistake> {
    whole(text).map_err(|mistake| habits::told(text, mistake, STEP_VERBS, |text| whole(text).ok().map(|step| step.to_string())))
}

fn whole(text: &str) -> Result<Step, Mistake> {
    read_step(&mut Cursor::new(text)?)
}

/// Reads a whole text as one step.
pub(crate) fn read_step(c: &mut Cursor<'_>) -> Outcome<Step> {
    let verb = c.peek_word();
    if STEP_VERBS.contains(&verb) {
        c.words(verb);
    }
    let operation = operation(c, verb)?;
    let when = if c.words("when") { Some(condition(c)?) } else { None };
    if c.done() { Ok(Step { operation, when }) } else { c.unexpected("`when` or the end of the step", &["when", "unless", "by", "and", "or", "else"]) }
}
