//! `locate field in table`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::Path;

use super::clause::write_name;
use super::{Reference, StepKind};
use crate::cursor::{Cursor, Outcome};

/// What the added fields' names begin with where nothing else is given.
const PREFIX: &str = "geo";

/// Adds where an address is, by a database of places.
#[derive(Clone, Debug, PartialEq)]
pub struct Locate {
    /// The field that holds the address.
    pub field: Path,
    /// The table's name.
    pub table: String,
    /// What the added fields' names begin with.
    pub into: Path,
}

impl StepKind for Locate {
    const VERB: &'static str = "locate";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Locate> {
        let field = c.path("a field that holds an address")?;
        c.need_words("in")?;
        let table = c.name("the name of a table")?;
        let into = if c.words("as") { c.path("what the added fields' names begin with")? } else { Path::name(PREFIX) };
        Ok(Locate { field, table, into })
    }

    fn explain(&self) -> String {
        let Locate { field, table, into } = self;
        format!(
            "Looks the address in {field} up in the places of {table} and adds, as far as they are known, {into}.country, .region, .city, .latitude, .longitude, .network and .network_name."
        )
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.push(self.field.clone());
    }

    fn refers_to(&self) -> Option<Reference<'_>> {
        Some(Reference::Table { name: &self.table, kind: "places", columns: Vec::new() })
    }
}

impl Display for Locate {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "locate {} in ", self.field)?;
        write_name(f, &self.table)?;
        if self.into.segments() == [PREFIX] { Ok(()) } else { write!(f, " as {}", self.into) }
    }
}
