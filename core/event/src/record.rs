//! Cuts a body into records: JSON lines, a JSON array, JSON objects, or plain text lines.
//!
//! Nothing is parsed into values here and nothing is copied: a [`Record`] says where one event's bytes stand. Whether
//! the bytes are an event is found when they are scanned. Only a body that *says* it is JSON can be refused
//! whole ([`BodyError`]); a body of lines never is.

use crate::field::FieldTable;
use crate::json::Kind;
use crate::scan::{self, Unreadable};
use crate::simd;

/// What the sender says of the body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeclaredFormat {
    /// `application/json`: one JSON document, or several behind one another.
    Json,
    /// Lines, one record each.
    Lines,
    /// Nothing that helps: judge by the bytes.
    Unknown,
}

/// How one record is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// It should be a JSON object.
    Object,
    /// A line of text, which becomes the message.
    Text,
    /// A JSON string, whose content becomes the message.
    QuotedText,
    /// It cannot be read, for this reason.
    Unreadable(&'static str),
}

/// Where one record stands in its body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Record {
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
    /// How it is written.
    pub form: Form,
    /// Its line, or its place in the array, counted from 1. Where a line is an array, each of its items counts as a line.
    pub number: u32,
}

/// Why a body that says it is JSON is not.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {reason}")]
pub struct BodyError {
    /// Offset of the first byte that is wrong.
    pub at: usize,
    /// Its line, from 1.
    pub line: usize,
    /// Its column in bytes, from 1.
    pub column: usize,
    /// What is wrong there.
    pub reason: &'static str,
}

impl BodyError {
    fn new(body: &[u8], at: usize, reason: &'static str) -> BodyError {
        let at = at.min(body.len());
        let before = &body[..at];
        let line = 1 + memchr::memchr_iter(b'\n', before).count();
        let column = 1 + at - memchr::memrchr(b'\n', before).map_or(0, |n| n + 1);
        BodyError { at, line, column, reason }
    }
}

/// The mark that some programs write before the first byte of a text in UTF-8.
const UTF8_MARK: &[u8] = b"\xef\xbb\xbf";

/// Whether there is nothing in a body but blanks, line ends and perhaps the mark of UTF-8.
#[must_use]
pub fn is_blank(body: &[u8]) -> bool {
    body.strip_prefix(UTF8_MARK).unwrap_or(body).trim_ascii().is_empty()
}

/// Cuts `body` into records; blank lines are none, and neither is the mark of UTF-8 at its head. A record of more than `max_record` bytes is [`Form::Unreadable`].
/// Fails only where `says` is [`DeclaredFormat::Json`] and the body is neither JSON nor lines of it.
pub fn split(body: &[u8], says: DeclaredFormat, max_record: usize) -> Result<Vec<Record>, BodyError> {
    let head = if body.starts_with(UTF8_MARK) { UTF8_MARK.len() } else { 0 };
    let first = body[head..].iter().position(|b| !b.is_ascii_whitespace());
    let Some(first) = first.map(|at| head + at) else { return Ok(Vec::new()) };
    let whole = match (says, body[first]) {
        (DeclaredFormat::Lines, _) => None,
        (_, b'[') => Some(array(body, first, max_record)),
        (_, b'{') if !first_line_is_an_object(&body[first..]) => Some(objects(body, first, max_record)),
        (DeclaredFormat::Json, b'{') | (DeclaredFormat::Unknown, _) => None,
        (DeclaredFormat::Json, b'"') => Some(objects(body, first, max_record)),
        (DeclaredFormat::Json, _) => Some(Err(BodyError::new(body, first, "expected an object or an array of objects"))),
    };
    match (whole, says) {
        (Some(Ok(records)), _) => Ok(records),
        (Some(Err(e)), DeclaredFormat::Json) => Err(e),
        _ => Ok(lines(body, head, max_record)),
    }
}

fn first_line_is_an_object(body: &[u8]) -> bool {
    let line = &body[..memchr::memchr(b'\n', body).unwrap_or(body.len())];
    if line.len() == body.len() {
        // One line only: `objects` reads it as well, and says better what is wrong.
        return false;
    }
    scan::scan(line, FieldTable::none(), &mut Vec::new()).is_ok()
}

const TOO_LONG: Form = Form::Unreadable("longer than the limit for one event");

fn lines(whole: &[u8], head: usize, max_record: usize) -> Vec<Record> {
    let body = &whole[head..];
    let mut records = Vec::with_capacity(body.len() / 256);
    let mut start = 0;
    let mut number = 0;
    let record = |from: usize, to: usize, form: Form, number: u32| Record {
        start: (head + from) as u32,
        end: (head + to) as u32,
        form: if to - from > max_record { TOO_LONG } else { form },
        number,
    };
    let mut line = |end: usize| {
        number += 1;
        let (mut from, mut to) = (start, end);
        while from < to && matches!(body[from], b' ' | b'\t' | b'\r') {
            from += 1;
        }
        while to > from && matches!(body[to - 1], b' ' | b'\t' | b'\r') {
            to -= 1;
        }
        if from < to {
            if body[from] == b'{' {
                records.push(record(from, to, Form::Object, number));
            } else if let Some(items) = items(&body[from..to], head + from, number, max_record) {
                number += items.len() as u32 - 1;
                records.extend(items);
            } else {
                // The blanks around a text are part of it.
                records.push(record(start, end - usize::from(body[end - 1] == b'\r'), Form::Text, number));
            }
        }
        start = end + 1;
    };
    simd::each(body, b'\n', &mut line);
    // Behind the last line end.
    line(body.len());
    records
}

/// The items of a line that is an array of objects and begins at `at` of its body. Any other line in brackets is text.
fn items(line: &[u8], at: usize, number: u32, max_record: usize) -> Option<Vec<Record>> {
    if !line.starts_with(b"[") || !line.ends_with(b"]") || line.get(skip_space(line, 1)) != Some(&b'{') {
        return None;
    }
    let mut items = array(line, 0, max_record).ok()?;
    for item in &mut items {
        (item.start, item.end, item.number) = (item.start + at as u32, item.end + at as u32, item.number + number - 1);
    }
    Some(items)
}

fn skip_space(body: &[u8], mut at: usize) -> usize {
    while body.get(at).is_some_and(|b| matches!(b, b' ' | b'\t' | b'\n' | b'\r')) {
        at += 1;
    }
    at
}

fn record(body: &[u8], at: usize, number: u32, max_record: usize) -> Result<Record, BodyError> {
    let span = scan::value_at(body, at).map_err(|Unreadable { at, reason }| BodyError::new(body, at, reason))?;
    let form = match span.kind {
        _ if (span.end - span.start) as usize > max_record => TOO_LONG,
        Kind::Object => Form::Object,
        Kind::Text | Kind::EscapedText => Form::QuotedText,
        _ => Form::Unreadable("neither an object nor a text"),
    };
    Ok(Record { start: span.start, end: span.end, form, number })
}

fn array(body: &[u8], first: usize, max_record: usize) -> Result<Vec<Record>, BodyError> {
    let mut records = Vec::new();
    let mut at = skip_space(body, first + 1);
    if body.get(at) == Some(&b']') {
        at += 1;
    } else {
        loop {
            let next = record(body, at, records.len() as u32 + 1, max_record)?;
            at = skip_space(body, next.end as usize);
            records.push(next);
            match body.get(at) {
                Some(b',') => at = skip_space(body, at + 1),
                Some(b']') => {
                    at += 1;
                    break;
                }
                Some(_) => return Err(BodyError::new(body, at, "expected `,` or `]`")),
                None => return Err(BodyError::new(body, at, "the array does not end")),
            }
        }
    }
    at = skip_space(body, at);
    if at < body.len() { Err(BodyError::new(body, at, "text after the end of the array")) } else { Ok(records) }
}

fn objects(body: &[u8], first: usize, max_record: usize) -> Result<Vec<Record>, BodyError> {
    let mut records = Vec::new();
    let mut at = first;
    while at < body.len() {
        if body[at] != body[first] {
            let reason = if body[first] == b'{' { "expected another object or the end" } else { "expected another text or the end" };
            return Err(BodyError::new(body, at, reason));
        }
        let next = record(body, at, records.len() as u32 + 1, max_record)?;
        at = skip_space(body, next.end as usize);
        records.push(next);
    }
    Ok(records)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn forms(body: &str, says: DeclaredFormat) -> Vec<(Form, String)> {
        let records = split(body.as_bytes(), says, 100).unwrap();
        records.iter().map(|r| (r.form, body[r.start as usize..r.end as usize].to_owned())).collect()
    }

    #[test]
    fn lines_arrays_objects_and_text() {
        let object = |s: &str| (Form::Object, s.to_owned());
        let text = |s: &str| (Form::Text, s.to_owned());
        for says in [DeclaredFormat::Json, DeclaredFormat::Unknown, DeclaredFormat::Lines] {
            assert_eq!(forms("{\"a\":1}\r\n\n {\"b\":2}", says), [object("{\"a\":1}"), object("{\"b\":2}")]);
            assert!(forms(" \n\n", says).is_empty());
        }
        for says in [DeclaredFormat::Json, DeclaredFormat::Unknown] {
            assert_eq!(forms(" [ {\"a\":1} ,\n{\"b\":2}, \"x\", 3 ] ", says).len(), 4);
            assert_eq!(forms("[{\"a\":1},\"x\"]", says)[1], (Form::QuotedText, "\"x\"".to_owned()));
            assert_eq!(forms("{\n \"a\":\n1}", says), [object("{\n \"a\":\n1}")]);
            assert_eq!(forms("{\"a\":1}{\"b\":2}", says), [object("{\"a\":1}"), object("{\"b\":2}")]);
        }
        assert_eq!(forms("[12:00] gate open\n  at the quay", DeclaredFormat::Unknown), [text("[12:00] gate open"), text("  at the quay")]);
        assert_eq!(forms("{\"a\":1}\n{broken", DeclaredFormat::Unknown), [object("{\"a\":1}"), object("{broken")]);
        assert_eq!(forms(&"x".repeat(101), DeclaredFormat::Unknown)[0].0, TOO_LONG);
    }

    #[test]
    fn a_text_keeps_its_blanks_and_a_body_loses_the_mark_of_utf8() {
        let text = |s: &str| (Form::Text, s.to_owned());
        assert_eq!(forms("  gate open \t\r\n\t \r\nshut  ", DeclaredFormat::Lines), [text("  gate open \t"), text("shut  ")]);
        for says in [DeclaredFormat::Json, DeclaredFormat::Unknown, DeclaredFormat::Lines] {
            for body in ["{\"a\":1}\n", "{\"a\":1}\n{\"b\":2}", "[{\"a\":1}]", "  {\"a\":1}"] {
                assert_eq!(forms(&format!("\u{feff}{body}"), says), forms(body, says), "{body}");
            }
        }
        assert_eq!(forms("\u{feff}gate open\n\u{feff}shut", DeclaredFormat::Unknown), [text("gate open"), text("\u{feff}shut")]);
        assert!(is_blank(b" \n\t\r\n") && is_blank("\u{feff}\n".as_bytes()) && !is_blank(b" x "));
    }

    #[test]
    fn an_array_on_a_line_is_its_events() {
        let body = "{\"a\":1}\n [{\"b\":2}, {\"c\":3},\"d\"] \n[12:00] gate\n[1,2]\n[{\"e\":]\n{\"f\":6}";
        for says in [DeclaredFormat::Json, DeclaredFormat::Unknown, DeclaredFormat::Lines] {
            let records = split(body.as_bytes(), says, 100).unwrap();
            let found: Vec<(u32, Form, &str)> = records.iter().map(|r| (r.number, r.form, &body[r.start as usize..r.end as usize])).collect();
            let expected = [
                (1, Form::Object, "{\"a\":1}"),
                (2, Form::Object, "{\"b\":2}"),
                (3, Form::Object, "{\"c\":3}"),
                (4, Form::QuotedText, "\"d\""),
                (5, Form::Text, "[12:00] gate"),
                (6, Form::Text, "[1,2]"),
                (7, Form::Text, "[{\"e\":]"),
                (8, Form::Object, "{\"f\":6}"),
            ];
            assert_eq!(found, expected);
        }
    }

    #[test]
    fn a_body_that_says_it_is_json_and_is_not_says_where() {
        let e = split(b"[{\"a\":1},\n {\"b\":}]", DeclaredFormat::Json, 100).unwrap_err();
        assert_eq!((e.line, e.column), (2, 7));
        assert!(split(b"hello", DeclaredFormat::Json, 100).is_err());
        assert!(split(b"[{\"a\":1}", DeclaredFormat::Json, 100).is_err());
        assert!(split(b"[{\"a\":1}] x", DeclaredFormat::Json, 100).is_err());
        assert!(split(b"{\"a\":1} \"x\"", DeclaredFormat::Json, 100).is_err());
        assert!(split(b"\"x\" {\"a\":1}", DeclaredFormat::Json, 100).is_err());
    }
}
