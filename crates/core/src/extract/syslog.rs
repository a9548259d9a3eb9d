//! Syslog messages: RFC 5424, and the older writing of RFC 3164.

use super::Found;
use crate::lang::TimeForm;
use crate::time;

pub(super) const NAMES: &[&str] = &["facility", "severity", "time", "host", "app", "process", "message_id", "message"];

const FACILITIES: [&str; 24] = [
    "kernel", "user", "mail", "daemon", "auth", "syslog", "printer", "news", "uucp", "clock", "authpriv", "ftp", "ntp", "audit", "alert", "cron", "local0",
    "local1", "local2", "local3", "local4", "local5", "local6", "local7",
];
const SEVERITIES: [&str; 8] = ["emergency", "alert", "critical", "error", "warning", "notice", "info", "debug"];

/// `<34>`: facility and severity; returns the place behind it.
fn priority(text: &[u8], found: &mut Found) -> Option<usize> {
    if text.first() != Some(&b'<') {
        // Files and some relays leave it out.
        return Some(0);
    }
    let close = memchr::memchr(b'>', text.get(..5.min(text.len()))?)?;
    let number: usize = std::str::from_utf8(&text[1..close]).ok()?.parse().ok()?;
    found.text(0, FACILITIES.get(number / 8)?.as_bytes());
    found.text(1, SEVERITIES[number % 8].as_bytes());
    Some(close + 1)
}

pub(super) fn read(text: &[u8], now_ms: i64, found: &mut Found) -> Option<()> {
    let text = text.trim_ascii_end();
    let at = priority(text, found)?;
    if at > 0 && text[at..].starts_with(b"1 ") { rfc5424(text, at + 2, now_ms, found) } else { rfc3164(text, at, now_ms, found) }
}

fn put_time(written: &[u8], now_ms: i64, found: &mut Found) -> Option<()> {
    let at = time::Reader::new(&TimeForm::default()).read(written, now_ms)?;
    found.put(super::Name::Known(2), |out| {
        out.push(b'"');
        time::write(at, out);
        out.push(b'"');
    });
    Some(())
}

fn word<'a>(text: &'a [u8], at: &mut usize) -> Option<&'a [u8]> {
    let rest = text.get(*at..)?;
    let len = memchr::memchr(b' ', rest).unwrap_or(rest.len());
    *at = (*at + len + 1).min(text.len());
    (len > 0).then(|| &rest[..len])
}

fn rfc5424(text: &[u8], mut at: usize, now_ms: i64, found: &mut Found) -> Option<()> {
    let stamp = word(text, &mut at)?;
    if stamp != b"-" {
        put_time(stamp, now_ms, found)?;
    }
    for number in [3, 4, 5, 6] {
        let value = word(text, &mut at)?;
        if value != b"-" {
            found.text(number, value);
        }
    }
    if text.get(at) == Some(&b'-') {
        at += 1;
    } else {
        at = structured(text, at, found)?;
    }
    match text.get(at) {
        None => Some(()),
        Some(b' ') => {
            let message = &text[at + 1..];
            found.text(7, message.strip_prefix("\u{feff}".as_bytes()).unwrap_or(message));
            Some(())
        }
        Some(_) => None,
    }
}

/// `[id name="value" …][…]`, each as `id.name`; returns the place behind it.
fn structured(text: &[u8], mut at: usize, found: &mut Found) -> Option<usize> {
    if text.get(at) != Some(&b'[') {
        return None;
    }
    while text.get(at) == Some(&b'[') {
        at += 1;
        let id_len = text[at..].iter().position(|b| matches!(b, b' ' | b']'))?;
        let id = &text[at..at + id_len];
        at += id_len;
        while text.get(at) == Some(&b' ') {
            at += 1;
            let name_len = memchr::memchr(b'=', &text[at..])?;
            let name = [id, b".", &text[at..at + name_len]].concat();
            at += name_len + 1;
            if text.get(at) != Some(&b'"') {
                return None;
            }
            at += 1;
            let mut value = Vec::new();
            loop {
                match text.get(at)? {
                    b'"' => break,
                    b'\\' if matches!(text.get(at + 1), Some(b'"' | b'\\' | b']')) => {
                        value.push(text[at + 1]);
                        at += 2;
                    }
                    b => {
                        value.push(*b);
                        at += 1;
                    }
                }
            }
            at += 1;
            let name = found.free(&name);
            found.put(name, |out| super::quote(&value, out));
        }
        if text.get(at) != Some(&b']') {
            return None;
        }
        at += 1;
    }
    Some(at)
}

fn rfc3164(text: &[u8], mut at: usize, now_ms: i64, found: &mut Found) -> Option<()> {
    // `Nov 23 10:00:00`, or what newer senders write in its place: a time without a space.
    if put_time(text.get(at..at + 15)?, now_ms, found).is_some() {
        at += 15;
    } else {
        let len = memchr::memchr(b' ', &text[at..])?;
        put_time(&text[at..at + len], now_ms, found)?;
        at += len;
    }
    if text.get(at) != Some(&b' ') {
        return None;
    }
    at += 1;
    let host = word(text, &mut at)?;
    found.text(3, host);
    // `app[pid]: message`; a message without a tag is all message.
    let rest = &text[at..];
    let tag = rest.iter().position(|b| matches!(b, b':' | b'[' | b' ')).unwrap_or(0);
    let (mut end, mut pid) = (tag, None);
    if tag > 0 && rest.get(tag) == Some(&b'[') {
        let close = memchr::memchr(b']', rest)?;
        pid = Some(&rest[tag + 1..close]);
        end = close + 1;
    }
    if tag > 0 && tag <= 48 && rest.get(end) == Some(&b':') {
        found.text(4, &rest[..tag]);
        if let Some(pid) = pid {
            found.text(5, pid);
        }
        let message = &rest[end + 1..];
        found.text(7, message.strip_prefix(b" ").unwrap_or(message));
    } else {
        found.text(7, rest);
    }
    Some(())
}
