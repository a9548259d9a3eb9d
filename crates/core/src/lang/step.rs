//! Parses steps.

use super::ast::{Detector, Format, Mask, Operation, Part, Place, Rate, Redaction, Selector, Size, Step, Template, Unit, Value, What};
use super::condition::condition;
use super::cursor::{Cursor, Outcome};
use super::mistake::Mistake;

/// The word each step begins with.
pub const STEP_VERBS: &[&str] = &["keep", "drop", "sample", "redact", "tag", "set", "remove", "retain", "rename", "parse", "trim", "use"];

/// Parses a whole text as one step.
pub fn parse_step(text: &str) -> Result<Step, Mistake> {
    let mut c = Cursor::new(text)?;
    let operation = operation(&mut c)?;
    let when = if c.words("when") { Some(condition(&mut c)?) } else { None };
    if c.done() { Ok(Step { operation, when }) } else { c.unexpected("`when` or the end of the step", &["when", "unless", "by", "and", "or"]) }
}

fn operation(c: &mut Cursor<'_>) -> Outcome<Operation> {
    let verb = c.peek_word();
    if !STEP_VERBS.contains(&verb) {
        return c.unexpected(&format!("a step: one of {}", STEP_VERBS.iter().map(|v| format!("`{v}`")).collect::<Vec<_>>().join(", ")), STEP_VERBS);
    }
    c.words(verb);
    match verb {
        "keep" => condition(c).map(Operation::Keep),
        "drop" => condition(c).map(Operation::Drop),
        "sample" => sample(c),
        "redact" => redact(c),
        "tag" => c.list(assignment).map(Operation::Tag),
        "set" => c.list(assignment).map(Operation::Set),
        "remove" => c.list(selector).map(Operation::Remove),
        "retain" => c.list(selector).map(Operation::Retain),
        "rename" => c
            .list(|c| {
                let from = c.path("a field")?;
                c.need_words("to")?;
                Ok((from, c.path("the field's new name")?))
            })
            .map(Operation::Rename),
        "parse" => parse(c),
        "trim" => {
            let field = c.path("a field")?;
            c.need_words("to")?;
            Ok(Operation::Trim { field, size: size(c)? })
        }
        _ => {
            if c.rest().starts_with('"') {
                return c.quoted("a recipe").map(Operation::Use);
            }
            let at = c.here();
            let path = c.path("the name of a recipe")?;
            match path.segments() {
                [name] => Ok(Operation::Use(name.clone())),
                _ => Err(Mistake::new(at, "a recipe's name has no dots").expected("the name of a recipe")),
            }
        }
    }
}

fn sample(c: &mut Cursor<'_>) -> Outcome<Operation> {
    let at = c.here();
    let start = c.at();
    let Some(first) = c.number() else {
        return c.unexpected("`1 in N` or a share such as `5%`", &[]);
    };
    let rate = if c.sign("%") {
        if first <= 0.0 || first > 100.0 {
            return Err(Mistake::new(start..c.at(), "a share must be above 0% and at most 100%"));
        }
        Rate::Percent(first)
    } else {
        if first != 1.0 {
            return Err(Mistake::new(at, "cannot sample this many").expected("`1 in N` or a share such as `5%`"));
        }
        c.need_words("in")?;
        Rate::OneIn(c.count("a whole number of at least 1")?)
    };
    let by = if c.words("by") { c.list(|c| c.path("a field to sample by"))? } else { Vec::new() };
    let unless = if c.words("unless") { Some(condition(c)?) } else { None };
    Ok(Operation::Sample { rate, by, unless })
}

fn redact(c: &mut Cursor<'_>) -> Outcome<Operation> {
    let what = c.list(redaction)?;
    let at = c.here();
    let fields = if c.words("in") { c.list(|c| c.path("a field to look in"))? } else { Vec::new() };
    if !fields.is_empty() && what.iter().any(|r| matches!(r.what, What::Field(_))) {
        return Err(Mistake::new(at, "a whole field is redacted here, so there is nothing to look in").expected("the fields on their own, without `in`"));
    }
    Ok(Operation::Redact { what, fields })
}

fn redaction(c: &mut Cursor<'_>) -> Outcome<Redaction> {
    let at = c.here();
    let what = if c.rest().starts_with('/') {
        What::Pattern(c.pattern()?)
    } else if let Some(detector) = Detector::ALL.into_iter().find(|d| c.written() == d.word()) {
        c.words(detector.word());
        What::Detector(detector)
    } else {
        let expected = "a detector (`email`, `card`), a regular expression between slashes, or a field";
        let quoted = c.rest().starts_with('"');
        let path = c.path(expected)?;
        if !quoted
            && let [word] = path.segments()
            && let Some(near) = super::nearest(word, Detector::ALL.map(Detector::word))
        {
            return Err(Mistake::new(at, format!("`{word}` is no detector"))
                .expected(format!("{expected}; a field of that name is written \"{word}\""))
                .near(word, [near]));
        }
        What::Field(path)
    };
    let mask = if c.words("keep") {
        c.need_words("last")?;
        Mask::KeepLast(c.count("how many characters to keep")? as usize)
    } else if c.words("with") {
        Mask::With(c.quoted("a text in quotes")?)
    } else if c.words("as") {
        c.need_words("hash")?;
        Mask::Hash
    } else {
        Mask::Stars
    };
    Ok(Redaction { what, mask })
}

fn assignment(c: &mut Cursor<'_>) -> Outcome<(crate::field::Path, Value)> {
    let field = c.path("a field")?;
    if !c.sign("=") {
        return c.unexpected("`=`", &[]);
    }
    if let Some(literal) = c.literal() {
        return Ok((field, Value::Literal(literal?)));
    }
    // `field "odd name"` tells a field from a text.
    let start = c.at();
    if c.words("field") && !c.rest().starts_with('"') {
        c.rewind(start);
    }
    let value = c.path("a text in quotes, a number, `true`, `false` or a field")?;
    Ok((field, Value::Field(value)))
}

fn selector(c: &mut Cursor<'_>) -> Outcome<Selector> {
    let at = c.here();
    let (path, prefix) = c.selector("a field, or a beginning with `*`", true)?;
    if prefix && path.segments() == [""] {
        return Err(Mistake::new(at.start..at.start + 1, "`*` alone would be every field").expected("a beginning, as in `debug.*` or `tmp_*`"));
    }
    Ok(Selector { path, prefix })
}

fn parse(c: &mut Cursor<'_>) -> Outcome<Operation> {
    const FORMATS: &[&str] = &["json", "key=value"];
    let field = c.path("a field")?;
    c.need_words("as")?;
    let format = if c.rest().starts_with('"') {
        let at = c.at();
        let text = c.quoted("a template")?;
        Format::Template(template(&text).map_err(|m| Mistake { at: at + 1 + m.at.start..at + 1 + m.at.end, ..m })?)
    } else if c.rest().starts_with('/') {
        let start = c.at();
        let pattern = c.pattern()?;
        let named = pattern.compile().is_ok_and(|r| r.capture_names().flatten().next().is_some());
        if !named {
            return Err(Mistake::new(start..c.at(), "the regular expression has no named group").expected("at least one group such as `(?<code>\\d+)`"));
        }
        Format::Pattern(pattern)
    } else if c.words("json") {
        Format::Json
    } else if c.sign("key=value") || c.words("logfmt") {
        Format::KeyValue
    } else {
        return c.unexpected("a format: `json`, `key=value`, a template in quotes or a regular expression between slashes", FORMATS);
    };
    Ok(Operation::Parse { field, format })
}

/// Reads a template; mistakes are relative to its text.
fn template(text: &str) -> Outcome<Template> {
    let mut parts: Vec<Part> = Vec::new();
    let mut literal = String::new();
    let mut at = 0;
    while let Some(ch) = text[at..].chars().next() {
        if text[at..].starts_with("{{") || text[at..].starts_with("}}") {
            literal.push(ch);
            at += 2;
        } else if ch == '{' {
            let Some(len) = text[at..].find('}') else {
                return Err(Mistake::new(at..text.len(), "a place that does not end").expected("a closing `}`"));
            };
            let inner = &text[at + 1..at + len];
            let (name, place) = inner.rsplit_once(':').map_or((inner, "text"), |(n, p)| (n, p.trim()));
            let Some(place) = Place::ALL.into_iter().find(|p| p.word() == place) else {
                let words = Place::ALL.map(Place::word);
                return Err(Mistake::new(at..at + len + 1, format!("`{place}` is not a type"))
                    .expected("`text`, `word`, `integer`, `number` or `ip`")
                    .near(place, words));
            };
            let mut cursor = Cursor::new(name)?;
            let shift = |m: Mistake| Mistake { at: at + 1 + m.at.start..at + 1 + m.at.end, ..m };
            let path = cursor.path("a field's name").map_err(shift)?;
            if !cursor.done() {
                return Err(Mistake::new(at..at + len + 1, "not a field's name").expected("`{name}` or `{name:type}`"));
            }
            if !literal.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut literal)));
            } else if matches!(parts.last(), Some(Part::Field(..))) {
                return Err(Mistake::new(at..at + len + 1, "two places with nothing between them").expected("some text between two places"));
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
        parts.push(Part::Text(literal));
    }
    if parts.iter().any(|p| matches!(p, Part::Field(..))) {
        Ok(Template { parts })
    } else {
        Err(Mistake::new(0..text.len(), "the template reads nothing").expected("at least one place such as `{ms:integer}`"))
    }
}

fn size(c: &mut Cursor<'_>) -> Outcome<Size> {
    let count = c.count("a size such as `2 KB`")?;
    let words = Unit::ALL.map(Unit::word);
    match Unit::ALL.into_iter().find(|u| c.words(u.word())) {
        Some(unit) => Ok(Size { count, unit }),
        None => c.unexpected("a unit: `B`, `KB`, `MB` or `GB`", &words),
    }
}
