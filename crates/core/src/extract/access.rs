//! The access log of web servers: the common format, and the combined one with referrer and user agent.

use super::Found;
use crate::time;

pub(super) const NAMES: &[&str] = &["client", "ident", "user", "time", "method", "path", "protocol", "status", "bytes", "referrer", "user_agent"];

/// A word up to the next space; `at` goes behind the space.
fn word<'a>(text: &'a [u8], at: &mut usize) -> Option<&'a [u8]> {
    let rest = text.get(*at..)?;
    let len = memchr::memchr(b' ', rest)?;
    *at += len + 1;
    (len > 0).then(|| &rest[..len])
}

/// A text in double quotes; `at` goes behind the closing one. A backslash before a quote or a backslash goes.
fn quoted<'a>(text: &'a [u8], at: &mut usize, room: &'a mut Vec<u8>) -> Option<&'a [u8]> {
    if text.get(*at) != Some(&b'"') {
        return None;
    }
    let start = *at + 1;
    let mut end = start + memchr::memchr2(b'"', b'\\', text.get(start..)?)?;
    if text[end] == b'"' {
        *at = end + 1;
        return Some(&text[start..end]);
    }
    room.clear();
    let mut from = start;
    while text[end] == b'\\' {
        room.extend_from_slice(&text[from..end]);
        if matches!(text.get(end + 1), Some(b'"' | b'\\')) {
            room.push(text[end + 1]);
        } else {
            room.extend_from_slice(text.get(end..end + 2)?);
        }
        from = end + 2;
        end = from + memchr::memchr2(b'"', b'\\', text.get(from..)?)?;
    }
    room.extend_from_slice(&text[from..end]);
    *at = end + 1;
    Some(room)
}

fn put(found: &mut Found, number: usize, text: &[u8]) {
    if text != b"-" {
        found.text(number, text);
    }
}

fn whole_number(text: &[u8]) -> bool {
    !text.is_empty() && text.len() <= 15 && text.iter().all(u8::is_ascii_digit) && (text[0] != b'0' || text.len() == 1)
}

pub(super) fn read(text: &[u8], found: &mut Found, room: &mut Vec<u8>) -> Option<()> {
    let text = text.trim_ascii_end();
    let mut at = 0;
    for number in 0..3 {
        let word = word(text, &mut at)?;
        put(found, number, word);
    }
    if text.get(at) != Some(&b'[') || text.get(at + 27) != Some(&b']') || text.get(at + 28) != Some(&b' ') {
        return None;
    }
    let seconds = time::access_seconds(&text[at + 1..at + 27])?;
    found.put(super::Name::Known(3), |out| {
        out.push(b'"');
        time::write_seconds(seconds, out);
        out.push(b'"');
    });
    at += 29;
    let request = quoted(text, &mut at, room)?;
    // Method, path and protocol; what is none of it (a broken request) stands as the path.
    let first = memchr::memchr(b' ', request);
    let last = memchr::memrchr(b' ', request);
    match (first, last) {
        (Some(first), Some(last)) if first < last && request[..first].iter().all(u8::is_ascii_uppercase) => {
            found.text(4, &request[..first]);
            found.text(5, &request[first + 1..last]);
            found.text(6, &request[last + 1..]);
        }
        _ => put(found, 5, request),
    }
    if text.get(at) != Some(&b' ') {
        return None;
    }
    at += 1;
    let status = word(text, &mut at)?;
    if status.len() != 3 || !whole_number(status) {
        return None;
    }
    found.token(7, status);
    let rest = &text[at..];
    let len = memchr::memchr(b' ', rest).unwrap_or(rest.len());
    match &rest[..len] {
        b"-" => {}
        size if whole_number(size) => found.token(8, size),
        _ => return None,
    }
    at += len;
    for number in [9, 10] {
        if at == text.len() {
            return Some(());
        }
        at += 1;
        let value = quoted(text, &mut at, room)?;
        put(found, number, value);
    }
    // Servers add fields of their own behind these.
    matches!(text.get(at), None | Some(b' ')).then_some(())
}
