//! The formats that `parse` reads, line templates among them.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::{Path, write_quoted};
use rockrose_event::time::TimeForm;

use crate::cursor::{Cursor, Outcome};
use crate::list::listed;
use crate::mistake::Mistake;
use crate::pattern::Pattern;
use crate::time_form::time_form;

/// How a text is written that `parse` reads.
#[derive(Clone, Debug, PartialEq)]
pub enum Format {
    /// A JSON object.
    Json,
    /// `key=value` pairs, values quoted where they have spaces.
    KeyValue,
    /// Values separated by commas (RFC 4180), under these names.
    Csv(Vec<Path>),
    /// Values separated by tabs, under these names.
    Tsv(Vec<Path>),
    /// The access log of web servers, common or combined.
    AccessLog,
    /// A syslog message, RFC 5424 or RFC 3164.
    Syslog,
    /// A W3C extended log's values, under these names.
    W3cLog(Vec<Path>),
    /// A line as container runtimes write it: time, stream and a mark before the text, or a JSON object around it.
    ContainerLog,
    /// A line of an application that tells a time and mostly a level, in whatever order and writing.
    TimedLine,
    /// An XML element: its attributes, and the texts of the elements right inside it.
    Xml,
    /// A line template: `"{client:ip} took {ms:integer} ms"`.
    Template(Template),
    /// A regular expression with named groups.
    Pattern(Pattern),
}

/// A line template, in parts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Template {
    /// Literal text and places in turn.
    pub parts: Vec<Part>,
}

/// A part of a line template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// Text that must stand there.
    Text(String),
    /// A value that is read into a field; into none, where no field is given.
    Field(Option<Path>, Placeholder),
}

/// What a template's place accepts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Placeholder {
    /// Everything up to the text that follows, at least one character.
    Text,
    /// Characters other than white space.
    Word,
    /// A whole number.
    Integer,
    /// A number.
    Number,
    /// An IPv4 or IPv6 address.
    Ip,
    /// All that is left, be it nothing. Only at the end.
    Rest,
    /// A time.
    Time(TimeForm),
}

impl Placeholder {
    /// The words for them in templates.
    pub const WORDS: [&str; 7] = ["text", "word", "integer", "number", "ip", "rest", "time"];

    /// The word for it in templates.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Placeholder::Text => "text",
            Placeholder::Word => "word",
            Placeholder::Integer => "integer",
            Placeholder::Number => "number",
            Placeholder::Ip => "ip",
            Placeholder::Rest => "rest",
            Placeholder::Time(_) => "time",
        }
    }
}

const EXPECTED: &str = "`json`, `key=value`, `csv(…)`, `tsv(…)`, `access log`, `syslog`, `w3c log(…)`, `container log`, `timed line`, `xml`, a template in quotes or a regular expression between slashes";
const WORDS: &[&str] = &["json", "logfmt", "key=value", "csv", "tsv", "access", "syslog", "w3c", "container", "timed", "xml"];

/// One format, or several with `else` between.
pub(crate) fn formats(c: &mut Cursor<'_>) -> Outcome<Vec<Format>> {
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
    if c.words("tsv") {
        return names(c).map(Format::Tsv);
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
        let pattern = c.grouped_pattern()?;
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
            let (path, place) = placeholder(&text[at + 1..at + len]).map_err(shift)?;
            if !literal.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut literal)));
            } else if matches!(parts.last(), Some(Part::Field(..))) {
                return Err(Mistake::new(at..at + len + 1, "two places with nothing between them").expected("some text between two places"));
            }
            if matches!(parts.iter().rev().find(|p| matches!(p, Part::Field(..))), Some(Part::Field(_, Placeholder::Rest))) {
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
        if matches!(parts.last(), Some(Part::Field(_, Placeholder::Rest))) {
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
fn placeholder(inner: &str) -> Outcome<(Option<Path>, Placeholder)> {
    let mut c = Cursor::new(inner)?;
    let path = if c.words("_") { None } else { Some(c.path("a field's name, as in `{name}` or `{name:type}`")?) };
    let mut place = if path.as_ref().is_some_and(|p| p.segments() == ["rest"]) { Placeholder::Rest } else { Placeholder::Text };
    if c.sign(":") {
        place = match c.peek_word() {
            "text" => Placeholder::Text,
            "word" => Placeholder::Word,
            "integer" => Placeholder::Integer,
            "number" => Placeholder::Number,
            "ip" => Placeholder::Ip,
            "rest" => Placeholder::Rest,
            "time" => Placeholder::Time(TimeForm::default()),
            other => {
                let words: Vec<_> = Placeholder::WORDS.iter().map(|w| format!("`{w}`")).collect();
                return Err(Mistake::new(c.here(), format!("`{other}` is not a type")).expected(words.join(", ")).near(other, Placeholder::WORDS));
            }
        };
        c.words(place.word());
        if let Placeholder::Time(form) = &mut place {
            *form = time_form(&mut c)?;
        }
    }
    if c.done() { Ok((path, place)) } else { c.unexpected("`{name}` or `{name:type}`", &[]) }
}

impl Format {
    /// What it is, in plain words.
    pub(crate) fn in_words(&self) -> String {
        match self {
            Format::Json => "a JSON object".to_owned(),
            Format::KeyValue => "key=value pairs".to_owned(),
            Format::Csv(names) => format!("values separated by commas ({})", listed(names)),
            Format::Tsv(names) => format!("values separated by tabs ({})", listed(names)),
            Format::AccessLog => "a line of a web server's access log".to_owned(),
            Format::Syslog => "a syslog message".to_owned(),
            Format::W3cLog(names) => format!("a line of a W3C extended log ({})", listed(names)),
            Format::ContainerLog => "a container runtime's line".to_owned(),
            Format::TimedLine => "a line that tells its time and level".to_owned(),
            Format::Xml => "an XML element".to_owned(),
            Format::Template(template) => format!("`{template}`"),
            Format::Pattern(pattern) => format!("{pattern}"),
        }
    }
}

/// Columns in parentheses; `-` is one that is passed over.
fn columns(f: &mut Formatter<'_>, columns: &[Path]) -> fmt::Result {
    for (i, column) in columns.iter().enumerate() {
        f.write_str(if i == 0 { "(" } else { ", " })?;
        match column.segments() {
            [only] if only == "-" => f.write_str("-")?,
            _ => column.fmt(f)?,
        }
    }
    f.write_str(")")
}

impl Display for Format {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Format::Json => f.write_str("json"),
            Format::KeyValue => f.write_str("key=value"),
            Format::Csv(names) => {
                f.write_str("csv")?;
                columns(f, names)
            }
            Format::Tsv(names) => {
                f.write_str("tsv")?;
                columns(f, names)
            }
            Format::AccessLog => f.write_str("access log"),
            Format::Syslog => f.write_str("syslog"),
            Format::W3cLog(names) => {
                f.write_str("w3c log")?;
                columns(f, names)
            }
            Format::ContainerLog => f.write_str("container log"),
            Format::TimedLine => f.write_str("timed line"),
            Format::Xml => f.write_str("xml"),
            Format::Template(template) => write_quoted(f, &template.to_string()),
            Format::Pattern(pattern) => pattern.fmt(f),
        }
    }
}

impl Display for Template {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        for part in &self.parts {
            match part {
                Part::Text(text) => f.write_str(&text.replace('{', "{{").replace('}', "}}"))?,
                Part::Field(path, place) => {
                    f.write_str("{")?;
                    match path {
                        Some(path) => path.fmt(f)?,
                        None => f.write_str("_")?,
                    }
                    let usual = if path.as_ref().is_some_and(|p| p.segments() == ["rest"]) { Placeholder::Rest } else { Placeholder::Text };
                    if *place != usual {
                        write!(f, ":{}", place.word())?;
                    }
                    if let Placeholder::Time(form) = place {
                        form.fmt(f)?;
                    }
                    f.write_str("}")?;
                }
            }
        }
        Ok(())
    }
}
