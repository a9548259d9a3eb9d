//! Clauses that several steps share: `by …`, `unless …`, lists and names.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::{Path, write_quoted};

use crate::condition::{Condition, condition};
use crate::cursor::{Cursor, Outcome};
use crate::list::{listed, write_list};

/// ` by a, b`, where it stands.
pub(super) fn by(c: &mut Cursor<'_>) -> Outcome<Vec<Path>> {
    if c.words("by") { c.list(|c| c.path("a field")) } else { Ok(Vec::new()) }
}

/// ` unless CONDITION`, where it stands.
pub(super) fn unless(c: &mut Cursor<'_>) -> Outcome<Option<Condition>> {
    if c.words("unless") { condition(c).map(Some) } else { Ok(None) }
}

/// Prints pairs as `a SIGN b`, separated by commas.
pub(super) fn write_pairs<A: Display, B: Display>(f: &mut Formatter<'_>, sign: &str, pairs: &[(A, B)]) -> fmt::Result {
    for (i, (a, b)) in pairs.iter().enumerate() {
        write!(f, "{}{a} {sign} {b}", if i == 0 { "" } else { ", " })?;
    }
    Ok(())
}

/// Prints ` by a, b`, if there is anything to go by.
pub(super) fn write_by(f: &mut Formatter<'_>, fields: &[Path]) -> fmt::Result {
    if fields.is_empty() {
        return Ok(());
    }
    f.write_str(" by ")?;
    write_list(f, fields, ", ")
}

/// Prints ` unless CONDITION`, if there is one.
pub(super) fn write_unless(f: &mut Formatter<'_>, condition: Option<&Condition>) -> fmt::Result {
    match condition {
        Some(condition) => write!(f, " unless {condition}"),
        None => Ok(()),
    }
}

/// Prints a name of one segment, in quotes where it must be.
pub(super) fn write_name(f: &mut Formatter<'_>, name: &str) -> fmt::Result {
    if Path::plain(name) { f.write_str(name) } else { write_quoted(f, name) }
}

/// `each` and the fields, or `alone` where there are none.
pub(super) fn grouped(fields: &[Path], alone: &str, each: &str) -> String {
    if fields.is_empty() { alone.to_owned() } else { format!("{each} {}", listed(fields)) }
}

/// ` THEN if CONDITION.`, if there is a condition.
pub(super) fn exempted(condition: Option<&Condition>, then: &str) -> String {
    condition.map_or_else(String::new, |c| format!(" {then} if {}.", c.in_words()))
}
