//! Lines as container runtimes write them to files: `time stream mark text`, or a JSON object with `log`, `stream` and `time`.

use rockrose_event::field::FieldTable;
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::scan;

use super::Found;

pub(super) const NAMES: &[&str] = &["time", "stream", "partial", "message"];

pub(super) fn read(text: &[u8], found: &mut Found, room: &mut Vec<u8>) -> Option<()> {
    if text.first() == Some(&b'{') { object(text, found, room) } else { line(text, found) }
}

fn line(text: &[u8], found: &mut Found) -> Option<()> {
    let mut parts = text.splitn(4, |b| *b == b' ');
    let (time, stream, mark) = (parts.next()?, parts.next()?, parts.next()?);
    let timely = time.len() >= 20 && time[..4].iter().all(u8::is_ascii_digit) && time[4] == b'-' && time[10] == b'T';
    if !timely || !matches!(stream, b"stdout" | b"stderr") {
        return None;
    }
    found.text(0, time);
    found.text(1, stream);
    // `F` ends a line, `P` says that its rest follows; marks may be joined by colons.
    match mark.split(|b| *b == b':').next()? {
        b"F" => {}
        b"P" => found.token(2, b"true"),
        _ => return None,
    }
    found.text(3, parts.next().unwrap_or_default());
    Some(())
}

fn object(text: &[u8], found: &mut Found, room: &mut Vec<u8>) -> Option<()> {
    let text = text.trim_ascii_end();
    let scanned = scan::scan(text, FieldTable::none(), &mut Vec::new()).ok()?;
    if scanned.end != text.len() {
        return None;
    }
    let mut log = false;
    for (key, value) in scan::members(text, Span { start: 0, end: text.len() as u32, kind: Kind::Object }) {
        let content = json::text(text, value, room);
        match key.of(text) {
            br#""log""# if value.is_text() => {
                let content = content.strip_suffix(b"\n").unwrap_or(content);
                found.text(3, content.strip_suffix(b"\r").unwrap_or(content));
                log = true;
            }
            br#""stream""# if value.is_text() => found.text(1, content),
            br#""time""# if value.is_text() => found.text(0, content),
            _ => {}
        }
    }
    log.then_some(())
}
