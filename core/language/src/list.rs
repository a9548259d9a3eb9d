//! How several items are printed one after another.

use std::fmt::{self, Display, Formatter, Write};

/// Prints items with `between` between them.
pub(crate) fn write_list<T: Display>(f: &mut Formatter<'_>, items: &[T], between: &str) -> fmt::Result {
    for (i, item) in items.iter().enumerate() {
        if i > 0 {
            f.write_str(between)?;
        }
        item.fmt(f)?;
    }
    Ok(())
}

/// Items in words, separated by commas.
pub(crate) fn listed<T: Display>(items: &[T]) -> String {
    let mut out = String::new();
    for (i, item) in items.iter().enumerate() {
        let _ = write!(out, "{}{item}", if i == 0 { "" } else { ", " });
    }
    out
}
