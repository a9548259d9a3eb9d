//! A plan's text in canonical form: every sentence as it prints, `key = value` evenly spaced, comments and order kept.

use std::ops::Range;

use rockrose_event::json;
use rockrose_language::{parse_alert, parse_allowance, parse_condition, parse_step};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::parse::ParsedPlan;
use super::report::Report;

/// Keys whose texts are steps, and those whose texts are conditions.
const STEPS: [&str; 4] = ["on_arrival", "always", "do", "steps"];
const CONDITIONS: [&str; 2] = ["when", "until"];
const ALLOWANCE: &str = "allows";

/// One piece of the text and what takes its place.
type Edit = (Range<usize>, String);

/// The canonical form of a plan that can be read. It reads as the same plan, and its own canonical form is itself.
pub fn canonical(text: &str) -> Result<String, Vec<Report>> {
    // Whatever is wrong is said before anything is written.
    ParsedPlan::parse(text)?.check()?;
    let (document, _) = DeTable::parse_recoverable(text);
    let mut edits = Vec::new();
    table(text, document.get_ref(), &mut edits);
    edits.sort_by_key(|(at, _)| at.start);
    let (mut out, mut done) = (String::with_capacity(text.len()), 0);
    for (at, with) in edits {
        out.push_str(&text[done..at.start]);
        out.push_str(&with);
        done = at.end;
    }
    out.push_str(&text[done..]);
    // Texts over several lines keep their blanks.
    if out.contains("'''") || out.contains("\"\"\"") { Ok(out) } else { Ok(spaced(&out)) }
}

/// No blanks at the ends of lines, at most one empty line in a row, none at the beginning, one line end at the end.
fn spaced(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut empty = true;
    for line in text.lines().map(str::trim_end) {
        if line.is_empty() && empty {
            continue;
        }
        empty = line.is_empty();
        out.push_str(line);
        out.push('\n');
    }
    format!("{}\n", out.trim_end())
}

fn table(text: &str, entries: &DeTable<'_>, edits: &mut Vec<Edit>) {
    for (key, value) in entries.iter() {
        let (behind, before) = (key.span().end, value.span().start);
        if behind < before && text[behind..before].trim() == "=" && text[behind..before] != *" = " {
            edits.push((behind..before, " = ".to_owned()));
        }
        let name: &str = key.get_ref();
        if let DeValue::Array(items) = value.get_ref() {
            let spans: Vec<_> = items.iter().map(Spanned::span).collect();
            for pair in spans.windows(2) {
                // On one line, a comma and a blank; a list over several lines keeps them.
                let between = pair[0].end..pair[1].start;
                if between.start < between.end && text[between.clone()].trim_matches(' ') == "," && text[between.clone()] != *", " {
                    edits.push((between, ", ".to_owned()));
                }
            }
        }
        match value.get_ref() {
            DeValue::Table(inner) => table(text, inner, edits),
            DeValue::Array(items) if STEPS.contains(&name) => {
                items.iter().for_each(|item| sentence(text, item, edits, |t| parse_step(t).ok().map(|s| s.to_string())));
            }
            DeValue::Array(items) => items.iter().for_each(|item| {
                if let DeValue::Table(inner) = item.get_ref() {
                    table(text, inner, edits);
                }
            }),
            DeValue::String(_) if CONDITIONS.contains(&name) => {
                sentence(text, value, edits, |t| parse_condition(t).map(|c| c.to_string()).or_else(|_| parse_alert(t).map(|a| a.to_string())).ok());
            }
            DeValue::String(_) if name == ALLOWANCE => sentence(text, value, edits, |t| parse_allowance(t).map(|a| a.to_string()).ok()),
            _ => {}
        }
    }
}

/// The sentence as it prints. What cannot be read (a recipe's with parameters, `remainder`) stays.
fn sentence(text: &str, value: &Spanned<DeValue<'_>>, edits: &mut Vec<Edit>, print: impl Fn(&str) -> Option<String>) {
    let Some(printed) = value.get_ref().as_str().and_then(print) else { return };
    if Some(printed.as_str()) == value.get_ref().as_str() {
        return;
    }
    let written = if printed.contains('\'') || printed.contains(char::is_control) {
        // What JSON escapes in a text, TOML does in the same way.
        let mut quoted = Vec::new();
        json::quote(printed.as_bytes(), &mut quoted);
        String::from_utf8_lossy(&quoted).into_owned()
    } else {
        format!("'{printed}'")
    };
    if text[value.span()] != written {
        edits.push((value.span(), written));
    }
}
