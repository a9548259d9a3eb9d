//! Events as lines of text by a template, and as rows of CSV.

use crate::field::Path;
use crate::usual::FieldReader;

/// A line's template: text with fields in braces, as in `{time} {severity} {message}`. `{{` and `}}` are braces.
pub struct LineTemplate {
    /// Text, and behind each but the last the field at the same place.
    texts: Vec<String>,
    asked: FieldReader,
}

impl LineTemplate {
    /// Reads a template. What is wrong is said with the byte where it stands.
    pub fn new(template: &str) -> Result<LineTemplate, (usize, &'static str)> {
        let (mut texts, mut names) = (vec![String::new()], Vec::new());
        let mut rest = template;
        let at = |rest: &str| template.len() - rest.len();
        while let Some(next) = rest.find(['{', '}']) {
            let last = texts.len() - 1;
            texts[last].push_str(&rest[..next]);
            rest = &rest[next..];
            if rest.starts_with("{{") || rest.starts_with("}}") {
                texts[last].push_str(&rest[..1]);
                rest = &rest[2..];
                continue;
            }
            if rest.starts_with('}') {
                return Err((at(rest), "`}` closes nothing; a brace is written `}}`"));
            }
            let Some(end) = rest.find('}') else { return Err((at(rest), "`{` is not closed; a brace is written `{{`")) };
            let name = rest[1..end].trim();
            if name.is_empty() || name.split('.').any(|part| !Path::plain(part)) {
                return Err((at(rest) + 1, "a field's name is expected here"));
            }
            names.push(name.to_owned());
            texts.push(String::new());
            rest = &rest[end + 1..];
        }
        let last = texts.len() - 1;
        texts[last].push_str(rest);
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        Ok(LineTemplate { texts, asked: FieldReader::new(&names) })
    }

    /// Writes one event as a line, its line end included. A field that is missing is `-`; line breaks inside become `\n`.
    pub fn write(&mut self, event: &[u8], out: &mut Vec<u8>) {
        self.asked.read(event);
        for (i, text) in self.texts.iter().enumerate() {
            if i > 0 {
                match self.asked.text(event, i - 1) {
                    None | Some(b"") => out.push(b'-'),
                    Some(value) => one_line(value, out),
                }
            }
            out.extend_from_slice(text.as_bytes());
        }
        out.push(b'\n');
    }
}

fn one_line(value: &[u8], out: &mut Vec<u8>) {
    for b in value {
        match b {
            b'\n' => out.extend_from_slice(b"\\n"),
            b'\r' => out.extend_from_slice(b"\\r"),
            other => out.push(*other),
        }
    }
}

/// Rows of CSV (RFC 4180), a column for each of some fields.
pub struct CsvRows {
    columns: Vec<String>,
    asked: FieldReader,
    formulas: bool,
}

impl CsvRows {
    /// With these columns, each a field by its path with dots. Unless `formulas` may stand there, a text that a spreadsheet would run has an apostrophe before it.
    #[must_use]
    pub fn new(columns: &[String], formulas: bool) -> CsvRows {
        let names: Vec<&str> = columns.iter().map(String::as_str).collect();
        CsvRows { columns: columns.to_vec(), asked: FieldReader::new(&names), formulas }
    }

    /// The row of the columns' names.
    pub fn head(&self, out: &mut Vec<u8>) {
        for (i, column) in self.columns.iter().enumerate() {
            cell(i, column.as_bytes(), false, out);
        }
        out.push(b'\n');
    }

    /// Writes one event as a row; a field that is missing is an empty cell.
    pub fn write(&mut self, event: &[u8], out: &mut Vec<u8>) {
        self.asked.read(event);
        for i in 0..self.columns.len() {
            let value = self.asked.text(event, i).unwrap_or_default();
            cell(i, value, !self.formulas && is_formula(value), out);
        }
        out.push(b'\n');
    }
}

/// Whether a spreadsheet takes a text for a formula: by its first sign. Numbers are none.
fn is_formula(value: &[u8]) -> bool {
    matches!(value.first(), Some(b'=' | b'+' | b'-' | b'@' | b'\t' | b'\r'))
        && !std::str::from_utf8(value).is_ok_and(|text| text.parse::<f64>().is_ok_and(f64::is_finite))
}

fn cell(place: usize, value: &[u8], as_text: bool, out: &mut Vec<u8>) {
    if place > 0 {
        out.push(b',');
    }
    if as_text {
        let text = [b"'", value].concat();
        return cell(0, &text, false, out);
    }
    if !value.iter().any(|b| matches!(b, b',' | b'"' | b'\n' | b'\r')) {
        out.extend_from_slice(value);
        return;
    }
    out.push(b'"');
    for b in value {
        if *b == b'"' {
            out.push(b'"');
        }
        out.push(*b);
    }
    out.push(b'"');
}
