//! `use recipe(parameter = value)`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::clause::write_name;
use super::{Reference, StepKind};
use crate::cursor::{Cursor, Outcome};

/// Does all the steps of a recipe. The plan puts the recipe's steps in its place before it is compiled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Use {
    /// The recipe's name.
    pub recipe: String,
    /// Its parameters' values, as written.
    pub arguments: Vec<(String, String)>,
}

impl StepKind for Use {
    const VERB: &'static str = "use";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Use> {
        let recipe = c.name("the name of a recipe")?;
        let mut arguments: Vec<(String, String)> = Vec::new();
        if c.sign("(") {
            arguments = c.list(|c| {
                let name = c.name("a parameter's name")?;
                if !c.sign("=") {
                    return c.unexpected("`=`", &[]);
                }
                let written = c.argument()?;
                Ok((name, written))
            })?;
            if !c.sign(")") {
                return c.unexpected("`,` or `)`", &[]);
            }
        }
        Ok(Use { recipe, arguments })
    }

    fn explain(&self) -> String {
        let given: Vec<_> = self.arguments.iter().map(|(name, given)| format!("{name} as {given}")).collect();
        let given = if given.is_empty() { String::new() } else { format!(", with {}", given.join(", ")) };
        format!("Does all the steps of the recipe {}{given}.", self.recipe)
    }

    fn reads(&self, _out: &mut Vec<Path>) {}

    fn refers_to(&self) -> Option<Reference<'_>> {
        Some(Reference::Recipe(self))
    }
}

impl Display for Use {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("use ")?;
        write_name(f, &self.recipe)?;
        for (i, (parameter, given)) in self.arguments.iter().enumerate() {
            f.write_str(if i == 0 { "(" } else { ", " })?;
            write_name(f, parameter)?;
            write!(f, " = {given}")?;
        }
        f.write_str(if self.arguments.is_empty() { "" } else { ")" })
    }
}
