//! What well-kept libraries take for the plain parts of the work.

use std::hint::black_box;

use serde_json::Value;

use crate::Work;
use crate::corpus::Texts;

fn lines(corpus: &[u8]) -> impl Iterator<Item = &[u8]> {
    corpus.split(|b| *b == b'\n').filter(|l| !l.is_empty())
}

/// All floors.
pub(crate) fn all<'a>(corpus: &'a [u8], texts: &'a Texts) -> Vec<Work<'a>> {
    let bytes = corpus.len();
    let template = regex::bytes::Regex::new(crate::passes::TEMPLATE_REGEX).expect("a regex");
    let access = regex::bytes::Regex::new(crate::passes::ACCESS_REGEX).expect("a regex");
    vec![
        Work { name: "floor: line ends and UTF-8", bytes, run: Box::new(|| split(corpus)) },
        Work { name: "floor: tape", bytes, run: Box::new(|| tape(corpus)) },
        Work { name: "floor: tree", bytes, run: Box::new(|| tree_edit_write(corpus)) },
        Work { name: "floor: words", bytes: texts.messages.len(), run: Box::new(|| words(&texts.messages)) },
        Work { name: "floor: regex for it", bytes: texts.calls.len(), run: Box::new(move || named_groups(&template, &texts.calls)) },
        Work { name: "floor: regex for access", bytes: texts.access.len(), run: Box::new(move || named_groups(&access, &texts.access)) },
    ]
}

/// Line ends and UTF-8 only.
fn split(corpus: &[u8]) {
    let mut start = 0;
    for end in memchr::memchr_iter(b'\n', corpus) {
        black_box(std::str::from_utf8(&corpus[start..end]).is_ok());
        start = end + 1;
    }
}

/// Each line split into words at its white space.
fn words(text: &[u8]) {
    let mut start = 0;
    for end in memchr::memchr_iter(b'\n', text) {
        let words = text[start..end].split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
        black_box(words.fold(0, |longest, word| longest.max(word.len())));
        start = end + 1;
    }
}

/// simd-json to its tape, a line at a time.
fn tape(corpus: &[u8]) {
    let mut buffer = Vec::new();
    let mut buffers = simd_json::Buffers::default();
    for line in lines(corpus) {
        buffer.clear();
        buffer.extend_from_slice(line);
        let tape = simd_json::to_tape_with_buffers(&mut buffer, &mut buffers);
        black_box(tape.map(|t| t.0.len()).unwrap_or(0));
    }
}

/// serde_json to a tree, one field masked and one added, and written again.
fn tree_edit_write(corpus: &[u8]) {
    let mut out = Vec::with_capacity(corpus.len());
    for line in lines(corpus) {
        let Ok(mut event) = serde_json::from_slice::<Value>(line) else { continue };
        if event["message"].as_str().is_some_and(|m| m.contains('@')) {
            event["message"] = "***".into();
        }
        event["team"] = "quays".into();
        if serde_json::to_writer(&mut out, &event).is_ok() {
            out.push(b'\n');
        }
    }
    black_box(out.len());
}

/// A named-group regex over each line of text, its groups written as the members of a JSON object.
fn named_groups(regex: &regex::bytes::Regex, texts: &[u8]) {
    let names: Vec<_> = regex.capture_names().enumerate().filter_map(|(i, n)| Some((i, n?.to_owned()))).collect();
    let mut out = Vec::new();
    let mut places = regex.capture_locations();
    for line in lines(texts) {
        out.clear();
        if regex.captures_read(&mut places, line).is_some() {
            for (i, name) in &names {
                if let Some((from, to)) = places.get(*i) {
                    out.extend_from_slice(b"\"");
                    out.extend_from_slice(name.as_bytes());
                    out.extend_from_slice(b"\":\"");
                    out.extend_from_slice(&line[from..to]);
                    out.extend_from_slice(b"\",");
                }
            }
        }
        black_box(out.len());
    }
}
