//! Syslog messages: RFC 5424, and the older writing of RFC 3164.

use rockrose_event::output::{FACILITIES, SEVERITIES};
use rockrose_event::time;
use rockrose_event::time::TimeForm;

use super::{Found, Name};

pub(super) const NAMES: &[&str] = &["facility", "severity", "time", "host", "app", "process", "message_id", "message"];

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
    read_with(text, &Clock { reader: &time::Reader::new(&TimeForm::default()), now_ms }, found)
}

/// How times are read.
struct Clock<'a> {
    reader: &'a time::Reader,
    now_ms: i64,
}

fn read_with(text: &[u8], clock: &Clock<'_>, found: &mut Found) -> Option<()> {
    let text = text.trim_ascii_end();
    let at = priority(text, found)?;
    if at > 0 && text[at..].starts_with(b"1 ") { rfc5424(text, at + 2, clock, found) } else { rfc3164(text, at, clock, found) }
}

/// Reads messages as events, each as far as it can be read. Kept from message to message.
pub struct SyslogReader {
    reader: time::Reader,
    found: Found,
}

/// The attribute by which an event says that its message could not be read whole, and why.
const BROKEN: &str = "syslog.broken";

impl SyslogReader {
    /// `zone` is that of times that name none (an IANA name or an offset; UTC, if left out or not known).
    #[must_use]
    pub fn new(zone: Option<&str>) -> SyslogReader {
        SyslogReader { reader: time::Reader::new(&TimeForm { zone: zone.map(str::to_owned), ..TimeForm::default() }), found: Found::default() }
    }

    /// Writes a message as a JSON object on a line of its own. One that cannot be read whole is the message of its event, beside what could be read; so are the bytes of one that
    /// are not UTF-8, replaced. `broken` says what its carrier found wrong with it already. `now_ms` completes times that name no year. Returns what is wrong with it, if anything is.
    pub fn line(&mut self, message: &[u8], broken: Option<&'static str>, now_ms: i64, out: &mut Vec<u8>) -> Option<&'static str> {
        let mut broken = broken;
        let replaced;
        let mut text = message;
        if simdutf8::basic::from_utf8(message).is_err() {
            broken = broken.or(Some("not UTF-8"));
            replaced = String::from_utf8_lossy(message);
            text = replaced.as_bytes();
        }
        while let [before @ .., b'\0' | b'\r' | b'\n'] = text {
            text = before;
        }
        self.found.clear();
        let whole = read_with(text, &Clock { reader: &self.reader, now_ms }, &mut self.found);
        if whole.is_none() {
            self.found.pairs.retain(|(name, _)| *name != Name::Known(7));
            match priority(text, &mut Found::default()) {
                // A priority and then no header: the rest is the message (RFC 3164, section 4.3.2).
                Some(at) if at > 0 && !text[at..].starts_with(b"1 ") => self.found.text(7, &text[at..]),
                _ => {
                    broken = broken.or(Some("neither RFC 5424 nor RFC 3164"));
                    self.found.text(7, text);
                }
            }
        }
        let start = out.len();
        for (name, value) in &self.found.pairs {
            out.push(b',');
            match name {
                Name::Known(number) => rockrose_event::json::quote(NAMES[*number as usize].as_bytes(), out),
                Name::Free(at) => rockrose_event::json::quote(&self.found.bytes[at.start as usize..at.end as usize], out),
            }
            out.push(b':');
            out.extend_from_slice(&self.found.bytes[value.start as usize..value.end as usize]);
        }
        if let Some(why) = broken {
            out.extend_from_slice(format!(",\"{BROKEN}\":").as_bytes());
            rockrose_event::json::quote(why.as_bytes(), out);
        }
        if out.len() == start {
            out.push(b'{');
        } else {
            // In place of the first comma.
            out[start] = b'{';
        }
        out.extend_from_slice(b"}\n");
        broken
    }
}

fn put_time(written: &[u8], clock: &Clock<'_>, found: &mut Found) -> Option<()> {
    let at = clock.reader.read(written, clock.now_ms)?;
    found.put(Name::Known(2), |out| {
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

fn rfc5424(text: &[u8], mut at: usize, clock: &Clock<'_>, found: &mut Found) -> Option<()> {
    let stamp = word(text, &mut at)?;
    if stamp != b"-" {
        put_time(stamp, clock, found)?;
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

fn rfc3164(text: &[u8], mut at: usize, clock: &Clock<'_>, found: &mut Found) -> Option<()> {
    if at > 0 && tag(&text[at..]).is_some_and(|tag| tag.process.is_some()) {
        // Some libraries leave out both time and host.
        tagged(&text[at..], found);
        return Some(());
    }
    // `Nov 23 10:00:00`, where some write the first days of a month with one sign; or what newer senders write in its place: a time without a space, which is more than a date.
    let named = [15, 14].into_iter().find(|len| text.get(at + len) == Some(&b' ') && put_time(&text[at..at + len], clock, found).is_some());
    if let Some(len) = named {
        at += len;
    } else {
        let len = memchr::memchr(b' ', text.get(at..)?)?;
        let written = Some(&text[at..at + len]).filter(|w| w.contains(&b':'))?;
        put_time(written, clock, found)?;
        at += len;
    }
    if text.get(at) != Some(&b' ') {
        return None;
    }
    at += 1;
    // Those that write to their own system leave out the host (RFC 3164, section 4.1.2, names it second): no host ends in a colon.
    let host_end = memchr::memchr(b' ', &text[at..]).map_or(text.len(), |len| at + len);
    let is_tag = |tag: Tag<'_>| at + tag.end == host_end || tag.process.is_some() && at + tag.end < host_end;
    if !tag(&text[at..]).is_some_and(is_tag) {
        found.text(3, word(text, &mut at)?);
    }
    tagged(&text[at..], found);
    Some(())
}

/// `app[pid]:` at the head of a message.
struct Tag<'a> {
    app: &'a [u8],
    process: Option<&'a [u8]>,
    /// One past the colon.
    end: usize,
}

/// The tag that a message begins with, if it has one.
fn tag(message: &[u8]) -> Option<Tag<'_>> {
    let len = message.iter().position(|b| matches!(b, b':' | b'[' | b' ')).filter(|len| (1..=48).contains(len))?;
    let (mut end, mut process) = (len, None);
    if message[len] == b'[' {
        let close = len + memchr::memchr(b']', &message[len..])?;
        (end, process) = (close + 1, Some(&message[len + 1..close]));
    }
    (message.get(end) == Some(&b':')).then_some(Tag { app: &message[..len], process, end: end + 1 })
}

/// Reads `app[pid]: message`; a message without a tag is all message.
fn tagged(text: &[u8], found: &mut Found) {
    let Some(Tag { app, process, end }) = tag(text) else {
        found.text(7, text);
        return;
    };
    found.text(4, app);
    if let Some(process) = process {
        found.text(5, process);
    }
    let message = &text[end..];
    found.text(7, message.strip_prefix(b" ").unwrap_or(message));
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    use super::*;

    fn read(message: &[u8]) -> Value {
        let mut out = Vec::new();
        // 2026-11-23T10:00:00Z
        let broken = SyslogReader::new(Some("+01:00")).line(message, None, 1_795_428_000_000, &mut out);
        let event: Value = serde_json::from_slice(&out).unwrap();
        assert_eq!(event[BROKEN].as_str(), broken);
        assert_eq!(out.iter().filter(|b| **b == b'\n').count(), 1);
        event
    }

    #[test]
    fn messages_become_events() {
        let event = read(b"<165>1 2026-11-23T09:59:58.5Z gate-4 boarding 77 ID7 [port@32473 name=\"Tansy \\\"Quay\\\"\"] stuck\n");
        let whole = json!({"facility": "local4", "severity": "notice", "time": "2026-11-23T09:59:58.5Z", "host": "gate-4", "app": "boarding", "process": "77",
            "message_id": "ID7", "port@32473.name": "Tansy \"Quay\"", "message": "stuck"});
        assert_eq!(event, whole);
        // The older writing is in the sender's own time.
        let event = read(b"<13>Nov 23 10:59:58 gate-4 sshd[9]: closed");
        assert_eq!(
            (&event["time"], &event["app"], &event["process"], &event["message"]),
            (&json!("2026-11-23T09:59:58Z"), &json!("sshd"), &json!("9"), &json!("closed"))
        );
        assert_eq!(event.get("syslog.broken"), None);
        let event = read(b"Nov 3 10:59:58 gate-4 sshd[9]: closed");
        assert_eq!((&event["time"], &event["host"], &event["app"]), (&json!("2026-11-03T09:59:58Z"), &json!("gate-4"), &json!("sshd")));
        // Without a host, as they are written to a system's own log, and without a time as well.
        let event = read(b"<13>Nov 23 10:59:58 sshd[9]: closed: twice");
        assert_eq!(
            event,
            json!({"facility": "user", "severity": "notice", "time": "2026-11-23T09:59:58Z", "app": "sshd", "process": "9", "message": "closed: twice"})
        );
        let event = read(b"<13>Nov 23 10:59:58 kernel: gate 4: shut");
        assert_eq!((event.get("host"), &event["app"], &event["message"]), (None, &json!("kernel"), &json!("gate 4: shut")));
        let event = read(b"<12>gated[99]: stuck");
        assert_eq!(event, json!({"facility": "user", "severity": "warning", "app": "gated", "process": "99", "message": "stuck"}));
        assert_eq!(read(b"<12>stuck: gate 4")["message"], "stuck: gate 4", "which may be no tag");
        let event = read(b"<13>Nov 23 10:59:58 2001:db8::4 sshd[9]: closed");
        assert_eq!((&event["host"], &event["app"]), (&json!("2001:db8::4"), &json!("sshd")));
        // A date alone is no time, so what follows is no host.
        assert_eq!(read(b"<13>2026-11-23 10:59:58 gated: closed")["message"], "2026-11-23 10:59:58 gated: closed");
    }

    #[test]
    fn broken_messages_are_read_as_far_as_they_go() {
        let event = read(b"<165>1 2026-11-23T09:59:58Z gate-4 boarding 77 ID7 [port name=\"Tansy");
        assert_eq!((&event["host"], &event["severity"]), (&json!("gate-4"), &json!("notice")));
        assert!(event["message"].as_str().unwrap().starts_with("<165>1") && event["syslog.broken"].is_string());
        assert_eq!(read(b"just words"), json!({"message": "just words", "syslog.broken": "neither RFC 5424 nor RFC 3164"}));
        assert_eq!(read(b"<999>odd")["message"], "<999>odd");
        // As Python's handler writes them.
        assert_eq!(read(b"<12>ticket read 7\0"), json!({"facility": "user", "severity": "warning", "message": "ticket read 7"}));
        let event = read(b"<13>Nov 23 10:59:58 gate-4 app: caf\xe9");
        assert_eq!((&event["message"], &event["syslog.broken"], &event["app"]), (&json!("caf\u{fffd}"), &json!("not UTF-8"), &json!("app")));
        assert_eq!(read(b"")["message"], "");
    }

    proptest::proptest! {
        #[test]
        fn whatever_comes_becomes_an_event(message in proptest::collection::vec(proptest::num::u8::ANY, 0..200), head in "(<[0-9]{1,4}>)?(1 )?[-0-9A-Za-z:\\[\\]\"= ]{0,40}") {
            let event = read(&[head.as_bytes(), &message[..]].concat());
            proptest::prop_assert!(event.is_object());
        }
    }
}
