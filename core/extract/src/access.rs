//! The access log of web servers: the common format, and the combined one with referrer and user agent.

use rockrose_event::{simd, time};

use super::Found;

pub(super) const NAMES: &[&str] = &["client", "ident", "user", "time", "method", "path", "protocol", "status", "bytes", "referrer", "user_agent"];

/// A word up to the next space; `at` goes behind the space.
fn word<'a>(text: &'a [u8], at: &mut usize) -> Option<&'a [u8]> {
    let (start, end) = (*at, simd::find(text, *at, b' ')?);
    *at = end + 1;
    (end > start).then(|| &text[start..end])
}

/// A text in double quotes; `at` goes behind the closing one. A backslash before a quote or a backslash goes. Says whether nothing in it needs an escape in JSON.
fn quoted<'a>(text: &'a [u8], at: &mut usize, room: &'a mut Vec<u8>) -> Option<(&'a [u8], bool)> {
    if text.get(*at) != Some(&b'"') {
        return None;
    }
    let start = *at + 1;
    let stop = simd::string_stop(text, start);
    if text.get(stop) == Some(&b'"') {
        *at = stop + 1;
        return Some((&text[start..stop], true));
    }
    room.clear();
    let mut from = start;
    let mut end = start + memchr::memchr2(b'"', b'\\', text.get(start..)?)?;
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
    Some((room, false))
}

fn put(found: &mut Found, number: usize, text: &[u8], plain: bool) {
    match text {
        b"-" => {}
        _ if plain => found.plain(number, text),
        _ => found.text(number, text),
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
        put(found, number, word, false);
    }
    if text.get(at) != Some(&b'[') || text.get(at + 27) != Some(&b']') || text.get(at + 28) != Some(&b' ') {
        return None;
    }
    let mut known = Some(());
    found.put(super::Name::Known(3), |out| {
        out.push(b'"');
        known = time::write_access(&text[at + 1..at + 27], out);
        out.push(b'"');
    });
    known?;
    at += 29;
    let (request, plain) = quoted(text, &mut at, room)?;
    // Method, path and protocol; what is none of it (a broken request) stands as the path.
    let first = simd::find(request, 0, b' ');
    let last = request.iter().rposition(|b| *b == b' ');
    match (first, last) {
        (Some(first), Some(last)) if first < last && request[..first].iter().all(u8::is_ascii_uppercase) => {
            found.plain(4, &request[..first]);
            put(found, 5, &request[first + 1..last], plain);
            put(found, 6, &request[last + 1..], plain);
        }
        _ => put(found, 5, request, plain),
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
    let len = simd::find(rest, 0, b' ').unwrap_or(rest.len());
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
        if text.get(at) == Some(&b'-') {
            at += 1;
            continue;
        }
        let (value, plain) = quoted(text, &mut at, room)?;
        put(found, number, value, plain);
    }
    // Servers add fields of their own behind these.
    matches!(text.get(at), None | Some(b' ')).then_some(())
}
