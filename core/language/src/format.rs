//! Parses the formats that `parse` reads, line templates among them.

use rockrose_event::field::Path;

use super::ast::{Format, Part, Place, Template};
use super::cursor::{Cursor, Outcome};
use super::mistake::Mistake;
use super::step::time_form;

const EXPECTED: &str = "`json`, `key=value`, `csv(…)`, `access log`, `syslog`, `w3c log(…)`, `container log`, `timed line`, `xml`, a template in quotes or a regular expression between slashes";
const WORDS: &[&str] = &["json", "logfmt", "key=value", "csv", "access", "syslog", "w3c", "container", "timed", "xml"];

/// One format, or several with `else` between.
pub(super) fn formats(c: &mut Cursor<'_>) -> Outcome<Vec<Format>> {
    let mut formats = vec![format(c)?];
    while c.words("else") {
        formats.push(format(c)?);
    }
    Ok(formats)
}

fn format(c: &mut Cursor<'_>) -> Outcome<Format> {
    if c.words("json") {
        return Ok(Format::Json);
    }
    if c.sign("key=value") || c.words("logfmt") {
        return Ok(Format::KeyValue);
    }
    if c.words("csv") {
        return names(c).map(Format::Csv);
    }
    if c.words("w3c") {
        c.need_words("log")?;
        return names(c).map(Format::W3cLog);
    }
    for (word, second, format) in [("access", "log", Format::AccessLog), ("container", "log", Format::ContainerLog), ("timed", "line", Format::TimedLine)] {
        if c.words(word) {
            return c.need_words(second).map(|()| format);
        }
    }
    for (word, format) in [("syslog", Format::Syslog), ("xml", Format::Xml)] {
        if c.words(word) {
            return Ok(format);
        }
    }
    let start = c.at();
    if c.rest().starts_with('/') {
        let pattern = c.pattern()?;
        let named = pattern.compile().is_ok_and(|r| r.capture_names().flatten().next().is_some());
        return if named {
            Ok(Format::Pattern(pattern))
        } else {
            Err(Mistake::new(start..c.at(), "the regular expression has no named group").expected("a group such as `(?<code>…)` for each field"))
        };
    }
    if c.rest().starts_with('"') {
        let text = c.quoted(EXPECTED)?;
        return match template(&text) {
            Ok(template) => Ok(Format::Template(template)),
            // Its places count from behind the opening quote; escapes before them would shift that, so the whole is shown then.
            Err(m) if c.before(start + 1).starts_with(&text) => Err(Mistake { at: start + 1 + m.at.start..start + 1 + m.at.end, ..m }),
            Err(m) => Err(Mistake { at: start..c.at(), ..m }),
        };
    }
    c.unexpected(EXPECTED, WORDS)
}

/// The names of columns, `-` for one that is passed over.
fn names(c: &mut Cursor<'_>) -> Outcome<Vec<Path>> {
    if !c.sign("(") {
        return c.unexpected("`(` and the columns' names", &[]);
    }
    let names = c.list(|c| if c.sign("-") { Ok(Path::name("-")) } else { c.column("a column's name, or `-` for one to pass over") })?;
    if c.sign(")") { Ok(names) } else { c.unexpected("`,` or `)`", &[]) }
}

fn template(text: &str) -> Outcome<Template> {
    let mut parts: Vec<Part> = Vec::new();
    let mut literal = String::new();
    let mut at = 0;
    while let Some(ch) = text[at..].chars().next() {
        if text[at..].starts_with("{{") || text[at..].starts_with("}}") {
            literal.push(ch);
            at += 2;
        } else if ch == '{' {
            let Some(len) = end_of_place(&text[at..]) else {
                return Err(Mistake::new(at..text.len(), "a place that does not end").expected("a closing `}`"));
            };
            let shift = |m: Mistake| Mistake { at: at + 1 + m.at.start..at + 1 + m.at.end, ..m };
            let (path, place) = place(&text[at + 1..at + len]).map_err(shift)?;
            if !literal.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut literal)));
            } else if matches!(parts.last(), Some(Part::Field(..))) {
                return Err(Mistake::new(at..at + len + 1, "two places with nothing between them").expected("some text between two places"));
            }
            if matches!(parts.iter().rev().find(|p| matches!(p, Part::Field(..))), Some(Part::Field(_, Place::Rest))) {
                return Err(Mistake::new(at..at + len + 1, "nothing is left behind a place of type `rest`"));
            }
            parts.push(Part::Field(path, place));
            at += len + 1;
        } else if ch == '}' {
            return Err(Mistake::new(at..at + 1, "a `}` without its `{`").expected("`}}` for a brace that stands in the line"));
        } else {
            literal.push(ch);
            at += ch.len_utf8();
        }
    }
    if !literal.is_empty() {
        if matches!(parts.last(), Some(Part::Field(_, Place::Rest))) {
            return Err(Mistake::new(text.len() - 1..text.len(), "nothing is left behind a place of type `rest`"));
        }
        parts.push(Part::Text(literal));
    }
    if parts.iter().any(|p| matches!(p, Part::Field(Some(_), _))) {
        Ok(Template { parts })
    } else {
        Err(Mistake::new(0..text.len(), "the template reads nothing").expected("at least one place such as `{ms:integer}`"))
    }
}

/// Where the brace stands that closes the place; a brace in quotes does not.
fn end_of_place(text: &str) -> Option<usize> {
    let (mut quoted, mut escaped) = (false, false);
    for (i, ch) in text.char_indices() {
        match ch {
            '"' if !escaped => quoted = !quoted,
            '}' if !quoted => return Some(i),
            _ => {}
        }
        escaped = ch == '\\' && !escaped;
    }
    None
}

/// `name`, `name:type` or `_` for what is passed over.
fn place(inner: &str) -> Outcome<(Option<Path>, Place)> {
    let mut c = Cursor::new(inner)?;
    let path = if c.words("_") { None } else { Some(c.path("a field's name, as in `{name}` or `{name:type}`")?) };
    let mut place = if path.as_ref().is_some_and(|p| p.segments() == ["rest"]) { Place::Rest } else { Place::Text };
    if c.sign(":") {
        place = match c.peek_word() {
            "text" => Place::Text,
            "word" => Place::Word,
            "integer" => Place::Integer,
            "number" => Place::Number,
            "ip" => Place::Ip,
            "rest" => Place::Rest,
            "time" => Place::Time(rockrose_event::time::TimeForm::default()),
            other => {
                let words: Vec<_> = Place::WORDS.iter().map(|w| format!("`{w}`")).collect();
                return Err(Mistake::new(c.here(), format!("`{other}` is not a type")).expected(words.join(", ")).near(other, Place::WORDS));
            }
        };
        c.words(place.word());
        if let Place::Time(form) = &mut place {
            *form = time_form(&mut c)?;
        }
    }
    if c.done() { Ok((path, place)) } else { c.unexpected("`{name}` or `{name:type}`", &[]) }
}
