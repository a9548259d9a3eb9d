//! How numbers, times and tables are printed.

use std::io::{IsTerminal, Write};

use comfy_table::{CellAlignment, ContentArrangement, Table};
use serde::Serialize;

use crate::{Exit, Failure, Outcome};

/// Prints one text and a line end. A reader that went away ends the command quietly.
pub fn line(text: &str) -> Outcome {
    let mut out = std::io::stdout().lock();
    match writeln!(out, "{text}").and_then(|()| out.flush()) {
        Ok(()) => Ok(Exit::Done),
        Err(e) if e.kind() == std::io::ErrorKind::BrokenPipe => std::process::exit(0),
        Err(e) => Err(Failure::new(Exit::Failed, format!("cannot print: {e}"))),
    }
}

/// Prints a value for a program: members in order of their names, whatever the order in the type.
pub fn print_json(value: &impl Serialize) -> Outcome {
    let value = serde_json::to_value(value).map_err(anyhow::Error::from)?;
    line(&format!("{value:#}"))
}

/// Whether colour may be used: only on a terminal, and not where `NO_COLOR` is set.
pub fn colour() -> bool {
    std::io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none_or(|v| v.is_empty())
}

/// A style's opening code, or nothing.
pub fn paint(text: &str, code: &str) -> String {
    if colour() { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_owned() }
}

/// The colour of what is well.
pub const GOOD: &str = "32";
/// The colour of what is wrong.
pub const BAD: &str = "31;1";
/// The colour of what matters less.
pub const FAINT: &str = "2";
/// The writing of headings.
pub const HEAD: &str = "1";

/// `1 event`, `2 events`.
#[must_use]
pub fn events(n: i64) -> String {
    format!("{} {}", count(n), if n.abs() == 1 { "event" } else { "events" })
}

/// A whole number with spaces between thousands.
#[must_use]
pub fn count(n: i64) -> String {
    let digits = n.unsigned_abs().to_string();
    let mut out = String::new();
    for (i, d) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push('\u{202f}');
        }
        out.push(d);
    }
    if n < 0 { format!("-{out}") } else { out }
}

/// Bytes in the unit that suits them.
pub fn bytes(n: f64) -> String {
    let (sign, mut n) = if n < 0.0 { ("-", -n) } else { ("", n) };
    if n < 1000.0 {
        return format!("{sign}{n:.0} B");
    }
    let mut unit = "";
    for next in ["kB", "MB", "GB", "TB"] {
        n /= 1000.0;
        unit = next;
        if n < 999.95 {
            break;
        }
    }
    format!("{sign}{n:.1} {unit}")
}

/// Events a second.
pub fn rate(n: f64) -> String {
    if n >= 1000.0 {
        format!("{:.1} k/s", n / 1000.0)
    } else if n >= 9.95 || n == 0.0 {
        format!("{n:.0}/s")
    } else {
        format!("{n:.1}/s")
    }
}

/// A span of time, in the unit that suits it.
pub fn age(ms: i64) -> String {
    let s = ms.max(0) / 1000;
    match s {
        0..60 => format!("{s} s"),
        60..3_600 => format!("{} min", s / 60),
        3_600..86_400 => format!("{} h {} min", s / 3_600, s % 3_600 / 60),
        _ => format!("{} d {} h", s / 86_400, s % 86_400 / 3_600),
    }
}

/// A moment, in local time.
pub fn moment(ms: i64) -> String {
    match jiff::Timestamp::from_millisecond(ms) {
        Ok(t) => t.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string(),
        Err(_) => ms.to_string(),
    }
}

/// A table whose columns named in `right` stand at the right.
pub fn table(head: &[&str], right: &[usize], rows: Vec<Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(head.iter().map(|h| paint(h, HEAD)));
    for row in rows {
        table.add_row(row);
    }
    for (i, column) in table.column_iter_mut().enumerate() {
        column.set_padding((0, 2));
        if right.contains(&i) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    let text = table.to_string();
    text.lines().map(str::trim_end).filter(|l| !l.is_empty()).collect::<Vec<_>>().join("\n")
}

/// Prints several blocks with blank lines between.
pub fn blocks(blocks: &[String]) -> Outcome {
    line(&blocks.iter().filter(|b| !b.is_empty()).cloned().collect::<Vec<_>>().join("\n\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!(count(1_234_567), "1\u{202f}234\u{202f}567");
        assert_eq!(count(-999), "-999");
        assert_eq!([bytes(999.0), bytes(1_000.0), bytes(999_960.0), bytes(-2_500_000.0)], ["999 B", "1.0 kB", "1.0 MB", "-2.5 MB"]);
        assert_eq!([rate(0.0), rate(3.26), rate(12.4), rate(1_234.0)], ["0/s", "3.3/s", "12/s", "1.2 k/s"]);
        assert_eq!([age(59_999), age(61_000), age(3_700_000), age(90_000_000)], ["59 s", "1 min", "1 h 1 min", "1 d 1 h"]);
    }
}
