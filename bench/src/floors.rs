//! What well-kept libraries take for the plain parts of the work.

use std::hint::black_box;

use serde_json::Value;

fn lines(corpus: &[u8]) -> impl Iterator<Item = &[u8]> {
    corpus.split(|b| *b == b'\n').filter(|l| !l.is_empty())
}

/// Line ends and UTF-8 only.
pub(crate) fn split(corpus: &[u8]) {
    let mut start = 0;
    for end in memchr::memchr_iter(b'\n', corpus) {
        black_box(std::str::from_utf8(&corpus[start..end]).is_ok());
        start = end + 1;
    }
}

/// simd-json to its tape.
pub(crate) fn tape(corpus: &[u8]) {
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
pub(crate) fn tree_edit_write(corpus: &[u8]) {
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
