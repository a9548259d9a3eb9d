//! `look up field in table as output = column`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::clause::write_name;
use super::{Reference, StepKind};
use crate::cursor::{Cursor, Outcome};

/// Adds what a table says of a field's value.
#[derive(Clone, Debug, PartialEq)]
pub struct LookUp {
    /// The field whose value is looked up.
    pub field: Path,
    /// The table's name.
    pub table: String,
    /// The fields to write, each with the column it takes (the one of its own name if none is given). Empty: every column, by its name.
    pub outputs: Vec<(Path, Option<String>)>,
}

impl StepKind for LookUp {
    const VERB: &'static str = "look";

    fn parse(c: &mut Cursor<'_>) -> Outcome<LookUp> {
        c.need_words("up")?;
        let field = c.path("a field")?;
        c.need_words("in")?;
        let table = c.name("the name of a table")?;
        let outputs = if c.words("as") { c.list(output)? } else { Vec::new() };
        Ok(LookUp { field, table, outputs })
    }

    fn explain(&self) -> String {
        let LookUp { field, table, outputs } = self;
        let one = |(path, column): &(Path, Option<String>)| column.as_ref().map_or_else(|| path.to_string(), |c| format!("{path} (from the column {c})"));
        let what = if outputs.is_empty() { "every other column, by its name".to_owned() } else { outputs.iter().map(one).collect::<Vec<_>>().join(", ") };
        format!("Looks the value of {field} up in the table {table} and adds {what}. A value that the table does not have changes nothing.")
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.push(self.field.clone());
    }

    fn refers_to(&self) -> Option<Reference<'_>> {
        let columns = self.outputs.iter().map(|(path, column)| column.clone().unwrap_or_else(|| path.flat())).collect();
        Some(Reference::Table { name: &self.table, kind: "csv", columns })
    }
}

fn output(c: &mut Cursor<'_>) -> Outcome<(Path, Option<String>)> {
    let path = c.path("a field to write")?;
    if !c.sign("=") {
        return Ok((path, None));
    }
    let column = if c.rest().starts_with('"') { c.quoted("a column")? } else { c.path("a column of the table")?.flat() };
    Ok((path, Some(column)))
}

impl Display for LookUp {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "look up {} in ", self.field)?;
        write_name(f, &self.table)?;
        for (i, (path, column)) in self.outputs.iter().enumerate() {
            write!(f, "{}{path}", if i == 0 { " as " } else { ", " })?;
            if let Some(column) = column {
                f.write_str(" = ")?;
                write_name(f, column)?;
            }
        }
        Ok(())
    }
}
