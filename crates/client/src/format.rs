//! How numbers, times and tables are printed.

use std::borrow::Cow;
use std::io::{IsTerminal, Write};

use comfy_table::{CellAlignment, ContentArrangement, Table};
use serde::Serialize;

use crate::{Exit, Failure, Outcome};

/// Whether a terminal would do something else with a character than to show it, or show others in another order than they stand in.
fn acts(c: char) -> bool {
    let orders = matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}');
    orders || c.is_control() && !matches!(c, '\n' | '\t')
}

/// The length of the code at the beginning of `text` that sets a style, if it is one for which `own` holds.
fn style(text: &str, own: impl Fn(&str) -> bool) -> Option<usize> {
    let rest = text.strip_prefix("\x1b[")?;
    let end = rest.find(|c: char| !(c.is_ascii_digit() || c == ';'))?;
    (rest[end..].starts_with('m') && own(&rest[..end])).then_some("\x1b[".len() + end + 1)
}

/// A text in which nothing makes a terminal act, but for the codes of styles for which `own` holds: control characters and those that turn the order of others are shown as what they are. What
/// comes from events, files and other services may hold anything.
pub fn printable(text: &str, own: impl Fn(&str) -> bool) -> Cow<'_, str> {
    if !text.contains(acts) {
        return text.into();
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find(acts) {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        if let Some(len) = style(rest, &own) {
            out.push_str(&rest[..len]);
            rest = &rest[len..];
            continue;
        }
        let c = rest.chars().next().unwrap_or_default();
        match u32::from(c) {
            // Unicode has a picture of each.
            code @ 0..=0x1f => out.extend(char::from_u32(0x2400 + code)),
            0x7f => out.push('\u{2421}'),
            code => out.push_str(&format!("\\u{{{code:x}}}")),
        }
        rest = &rest[c.len_utf8()..];
    }
    out.push_str(rest);
    out.into()
}

/// Whether a style is one that [`paint`] writes, where it does.
fn painted(code: &str) -> bool {
    colour() && ["0", GOOD, BAD, FAINT, HEAD].contains(&code)
}

/// Prints one text and a line end; nothing in it makes a terminal act. A reader that went away ends the command quietly.
pub fn line(text: &str) -> Outcome {
    let mut out = std::io::stdout().lock();
    match writeln!(out, "{}", printable(text, painted)).and_then(|()| out.flush()) {
        Ok(()) => Ok(Exit::Done),
        Err(e) if e.kind() == std::io::ErrorKind::BrokenPipe => std::process::exit(0),
        Err(e) => Err(Failure::new(Exit::Failed, format!("cannot print: {e}"))),
    }
}

/// Prints a value for a program: members in order of their names, whatever the order in the type.
pub fn print_json(value: &impl Serialize) -> Outcome {
    let value = serde_json::to_value(value).map_err(anyhow::Error::from)?;
    line(&escaped(&format!("{value:#}")))
}

/// JSON in which what makes a terminal act is written with escapes: the same value to whoever reads it. Such characters only stand in texts.
pub(crate) fn escaped(json: &str) -> Cow<'_, str> {
    if !json.contains(acts) {
        return json.into();
    }
    json.chars()
        .fold(String::with_capacity(json.len()), |mut out, c| {
            if acts(c) {
                out.push_str(&format!("\\u{:04x}", u32::from(c)));
            } else {
                out.push(c);
            }
            out
        })
        .into()
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
    fn nothing_that_is_printed_makes_a_terminal_act() {
        let own = |code: &str| code == "31;1";
        for (text, shown) in [
            ("gate 4\tis open\nat Lowmere", "gate 4\tis open\nat Lowmere"),
            ("\x1b]0;owned\x07\x1b[2J\rhidden\x7f", "\u{241b}]0;owned\u{2407}\u{241b}[2J\u{240d}hidden\u{2421}"),
            ("\u{9b}31m\u{202e}evil\u{2066}", "\\u{9b}31m\\u{202e}evil\\u{2066}"),
            ("\x1b[31;1mfailing\x1b[8mconceal", "\x1b[31;1mfailing\u{241b}[8mconceal"),
            ("M\u{e4}rz \u{1f6a2}", "M\u{e4}rz \u{1f6a2}"),
        ] {
            assert_eq!(printable(text, own), shown, "{text:?}");
        }
        // For a program, the value is the same.
        let value = serde_json::json!({ "a\u{9b}": "\u{202e}x\x1b" });
        let text = value.to_string();
        let text = escaped(&text);
        assert!(!text.contains(acts) && serde_json::from_str::<serde_json::Value>(&text).unwrap() == value, "{text}");
    }

    #[test]
    fn numbers_read_well() {
        assert_eq!(count(1_234_567), "1\u{202f}234\u{202f}567");
        assert_eq!(count(-999), "-999");
        assert_eq!([bytes(999.0), bytes(1_000.0), bytes(999_960.0), bytes(-2_500_000.0)], ["999 B", "1.0 kB", "1.0 MB", "-2.5 MB"]);
        assert_eq!([rate(0.0), rate(3.26), rate(12.4), rate(1_234.0)], ["0/s", "3.3/s", "12/s", "1.2 k/s"]);
        assert_eq!([age(59_999), age(61_000), age(3_700_000), age(90_000_000)], ["59 s", "1 min", "1 h 1 min", "1 d 1 h"]);
    }
}
