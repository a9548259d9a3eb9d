//! Parses steps.

use rockrose_event::field::Path;
use rockrose_event::time::TimeForm;

use super::ast::{Conversion, Detector, Joining, Mask, Operation, Pace, Rate, Redaction, Renaming, Selector, Size, Step, Time, TimeUnit, Unit, What};
use super::condition::condition;
use super::cursor::{Cursor, Outcome};
use super::format::formats;
use super::mistake::Mistake;
use super::value::assignment;

/// The word each step begins with.
pub const STEP_VERBS: &[&str] = &[
    "keep", "drop", "sample", "limit", "redact", "tag", "set", "convert", "remove", "retain", "rename", "parse", "look", "locate", "resolve", "dedupe",
    "merge", "join", "trim", "count", "measure", "use",
];

/// How long `join lines` waits for the next line where nothing is said.
pub(crate) const JOIN_WITHIN: Time = Time { count: 5, unit: TimeUnit::Second };

/// Parses a whole text as one step.
pub fn parse_step(text: &str) -> Result<Step, Mistake> {
    let mut c = Cursor::new(text)?;
    let operation = operation(&mut c)?;
    let when = if c.words("when") { Some(condition(&mut c)?) } else { None };
    if c.done() { Ok(Step { operation, when }) } else { c.unexpected("`when` or the end of the step", &["when", "unless", "by", "and", "or", "else"]) }
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
        "sample" => {
            let rate = rate(c)?;
            Ok(Operation::Sample { rate, by: by(c)?, unless: unless(c)? })
        }
        "limit" => {
            let pace = pace(c)?;
            Ok(Operation::Limit { pace, by: by(c)?, unless: unless(c)? })
        }
        "redact" => redact(c),
        "tag" => c.list(assignment).map(Operation::Tag),
        "set" => c.list(assignment).map(Operation::Set),
        "convert" => c.list(conversion).map(Operation::Convert),
        "remove" => c.list(selector).map(Operation::Remove),
        "retain" => c.list(selector).map(Operation::Retain),
        "rename" => c.list(renaming).map(Operation::Rename),
        "parse" => {
            let field = c.path("a field")?;
            c.need_words("as")?;
            Ok(Operation::Parse { field, formats: formats(c)? })
        }
        "look" => look_up(c),
        "locate" => {
            let field = c.path("a field that holds an address")?;
            c.need_words("in")?;
            let table = c.name("the name of a table")?;
            let into = if c.words("as") { c.path("what the added fields' names begin with")? } else { Path::name("geo") };
            Ok(Operation::Locate { field, table, into })
        }
        "resolve" => {
            let field = c.path("a field that holds an address")?;
            c.need_words("as")?;
            Ok(Operation::Resolve { field, into: c.path("the field for the name")? })
        }
        "dedupe" => {
            let by = if c.words("by") { c.list(|c| c.path("a field that copies agree in"))? } else { Vec::new() };
            c.need_words("within")?;
            let within = time(c)?;
            let prefer = if c.words("preferring") { Some(c.name("the name of a source")?) } else { None };
            Ok(Operation::Dedupe { by, within, prefer })
        }
        "merge" => {
            c.need_words("repeats")?;
            c.need_words("within")?;
            let within = time(c)?;
            c.need_words("by")?;
            Ok(Operation::Merge { within, by: c.list(|c| c.path("a field that repeats agree in"))? })
        }
        "join" => join_lines(c),
        "trim" => {
            let field = c.path("a field")?;
            c.need_words("to")?;
            Ok(Operation::Trim { field, size: size(c)? })
        }
        "count" => {
            c.need_words("as")?;
            Ok(Operation::Count { name: metric(c)?, by: by(c)? })
        }
        "measure" => {
            let field = c.path("a field that holds a number")?;
            c.need_words("as")?;
            Ok(Operation::Measure { field, name: metric(c)?, by: by(c)? })
        }
        _ => recipe(c),
    }
}

fn by(c: &mut Cursor<'_>) -> Outcome<Vec<Path>> {
    if c.words("by") { c.list(|c| c.path("a field")) } else { Ok(Vec::new()) }
}

fn unless(c: &mut Cursor<'_>) -> Outcome<Option<super::Condition>> {
    if c.words("unless") { condition(c).map(Some) } else { Ok(None) }
}

fn rate(c: &mut Cursor<'_>) -> Outcome<Rate> {
    if c.words("to") {
        return pace(c).map(Rate::Target);
    }
    let at = c.here();
    let start = c.at();
    let Some(first) = c.number() else {
        return c.unexpected("`1 in N`, a share such as `5%`, or `to N per second`", &["to"]);
    };
    if c.sign("%") {
        if first <= 0.0 || first > 100.0 {
            return Err(Mistake::new(c.since(start), "a share must be above 0% and at most 100%"));
        }
        return Ok(Rate::Percent(first));
    }
    if first != 1.0 {
        return Err(Mistake::new(at, "cannot sample this many").expected("`1 in N`, a share such as `5%`, or `to N per second`"));
    }
    c.need_words("in")?;
    c.count("a whole number of at least 1").map(Rate::OneIn)
}

fn pace(c: &mut Cursor<'_>) -> Outcome<Pace> {
    let count = c.count("how many, as in `100 per second`")?;
    c.need_words("per")?;
    Ok(Pace { count, per: unit(c, "`second`, `minute` or `hour`")? })
}

fn unit(c: &mut Cursor<'_>, expected: &str) -> Outcome<TimeUnit> {
    // Of the two forms the one that is expected here comes first, so that it is what is suggested.
    let words: &[&str] = if expected.contains("seconds") { &["seconds", "minutes", "hours"] } else { &["second", "minute", "hour"] };
    match TimeUnit::ALL.into_iter().find(|u| c.words(u.word()) || c.words(&format!("{}s", u.word()))) {
        Some(unit) => Ok(unit),
        None => c.unexpected(expected, words),
    }
}

fn time(c: &mut Cursor<'_>) -> Outcome<Time> {
    /// Longest window: a day.
    const MOST: i64 = 24 * 3_600_000;
    let start = c.at();
    let count = c.count("a time such as `30 seconds`")?;
    let time = Time { count, unit: unit(c, "`seconds`, `minutes` or `hours`")? };
    if time.ms() > MOST { Err(Mistake::new(c.since(start), "longer than a day").expected("at most 24 hours")) } else { Ok(time) }
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
        let words: Vec<_> = Detector::ALL.iter().map(|d| format!("`{}`", d.word())).collect();
        let expected = format!("a detector ({}), a regular expression between slashes, or a field", words.join(", "));
        let quoted = c.rest().starts_with('"');
        let path = c.path(&expected)?;
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
        let first = c.words("first");
        if !first && !c.words("last") {
            return c.unexpected("`last` or `first`", &["last", "first"]);
        }
        let count = c.count("how many characters to keep")? as usize;
        if first { Mask::KeepFirst(count) } else { Mask::KeepLast(count) }
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

fn conversion(c: &mut Cursor<'_>) -> Outcome<(Path, Conversion)> {
    const WORDS: &[&str] = &["integer", "number", "boolean", "text", "time"];
    let field = c.path("a field")?;
    c.need_words("to")?;
    let to = match WORDS.iter().find(|w| c.words(w)) {
        Some(&"integer") => Conversion::Integer,
        Some(&"number") => Conversion::Number,
        Some(&"boolean") => Conversion::Boolean,
        Some(&"text") => Conversion::Text,
        Some(_) => Conversion::Time(time_form(c)?),
        None => return c.unexpected("a type: `integer`, `number`, `boolean`, `text` or `time`", WORDS),
    };
    Ok((field, to))
}

/// `"%d/%b/%Y" in "Europe/Lisbon"`, each of them if it stands there.
pub(super) fn time_form(c: &mut Cursor<'_>) -> Outcome<TimeForm> {
    let mut form = TimeForm::default();
    if c.rest().starts_with('"') {
        let start = c.at();
        let format = c.quoted("a time's format")?;
        if let Err(why) = rockrose_event::time::check_format(&format) {
            return Err(
                Mistake::new(c.since(start), format!("not a time's format: {why}")).expected("`%Y`, `%m`, `%d`, `%H`, `%M`, `%S`, `%b`, `%z` and the like")
            );
        }
        form.format = Some(format);
    }
    if c.words("in") {
        let start = c.at();
        let zone = c.quoted("a time zone in quotes, as in \"Europe/Lisbon\"")?;
        if !rockrose_event::time::zone_is_known(&zone) {
            return Err(Mistake::new(c.since(start), format!("there is no time zone `{zone}`")).expected("a zone's IANA name or an offset such as \"+02:00\""));
        }
        form.zone = Some(zone);
    }
    Ok(form)
}

fn selector(c: &mut Cursor<'_>) -> Outcome<Selector> {
    match c.wildcard() {
        Some((at, like)) => {
            if like.bytes().all(|b| b == b'*') {
                return Err(
                    Mistake::new(at.start..at.start + 1, "`*` alone would be every field").expected("a beginning or an end, as in `debug.*` or `*_tmp`")
                );
            }
            Ok(Selector::Like(like))
        }
        None => c.path("a field, or a name with `*`").map(Selector::Field),
    }
}

fn renaming(c: &mut Cursor<'_>) -> Outcome<Renaming> {
    let Some((_, from)) = c.wildcard() else {
        let from = c.path("a field")?;
        c.need_words("to")?;
        return Ok(Renaming::Field(from, c.path("the field's new name")?));
    };
    c.need_words("to")?;
    let here = c.here();
    let stars = |text: &str| text.matches('*').count();
    match c.wildcard() {
        Some((_, to)) if stars(&to) == stars(&from) => Ok(Renaming::Like(from, to)),
        Some((at, _)) => Err(Mistake::new(at, "not as many `*` as before `to`").expected("each `*` of the old name once in the new one")),
        None => Err(Mistake::new(here, "the new name has no `*`").expected("each `*` of the old name once in the new one")),
    }
}

fn look_up(c: &mut Cursor<'_>) -> Outcome<Operation> {
    c.need_words("up")?;
    let field = c.path("a field")?;
    c.need_words("in")?;
    let table = c.name("the name of a table")?;
    let output = |c: &mut Cursor<'_>| {
        let path = c.path("a field to write")?;
        let column =
            if c.sign("=") { Some(if c.rest().starts_with('"') { c.quoted("a column")? } else { c.path("a column of the table")?.flat() }) } else { None };
        Ok((path, column))
    };
    let outputs = if c.words("as") { c.list(output)? } else { Vec::new() };
    Ok(Operation::LookUp { field, table, outputs })
}

fn join_lines(c: &mut Cursor<'_>) -> Outcome<Operation> {
    c.need_words("lines")?;
    let how = if c.words("starting") {
        c.need_words("with")?;
        Joining::Starting(c.pattern()?)
    } else if c.words("continued") {
        c.need_words("by")?;
        Joining::Continued(c.pattern()?)
    } else if c.words("going") {
        c.need_words("on with")?;
        Joining::Going(c.pattern()?)
    } else if c.words("indented") {
        Joining::Indented
    } else if c.words("without") {
        c.need_words("a time")?;
        Joining::Timeless
    } else {
        let expected = "`starting with /…/`, `continued by /…/`, `going on with /…/`, `indented` or `without a time`";
        return c.unexpected(expected, &["starting", "continued", "going", "indented", "without"]);
    };
    let within = |c: &mut Cursor<'_>| if c.words("within") { time(c).map(Some) } else { Ok(None) };
    // In either order.
    let early = within(c)?;
    let by = by(c)?;
    let within = if early.is_none() { within(c)? } else { early };
    Ok(Operation::Join { how, by, within: within.unwrap_or(JOIN_WITHIN) })
}

fn metric(c: &mut Cursor<'_>) -> Outcome<String> {
    let start = c.at();
    let name = c.name("the metric's name")?;
    let good = !name.starts_with(|ch: char| ch.is_ascii_digit()) && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    if good && name.len() <= 100 {
        Ok(name)
    } else {
        Err(Mistake::new(c.since(start), format!("`{name}` cannot name a metric")).expected("letters, digits and `_`, no digit first, at most 100"))
    }
}

fn recipe(c: &mut Cursor<'_>) -> Outcome<Operation> {
    let recipe = c.name("the name of a recipe")?;
    let mut arguments: Vec<(String, String)> = Vec::new();
    if c.sign("(") {
        arguments = c.list(|c| {
            let name = c.name("a parameter's name")?;
            if !c.sign("=") {
                return c.unexpected("`=`", &[]);
            }
            let written = c.argument()?;
            Ok((name, written))
        })?;
        if !c.sign(")") {
            return c.unexpected("`,` or `)`", &[]);
        }
    }
    Ok(Operation::Use { recipe, arguments })
}

fn size(c: &mut Cursor<'_>) -> Outcome<Size> {
    let count = c.count("a size such as `2 KB`")?;
    let words = Unit::ALL.map(Unit::word);
    match Unit::ALL.into_iter().find(|u| c.words(u.word())) {
        Some(unit) => Ok(Size { count, unit }),
        None => c.unexpected("a unit: `B`, `KB`, `MB` or `GB`", &words),
    }
}
