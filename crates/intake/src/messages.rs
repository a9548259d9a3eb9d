//! How a stream of bytes is cut into messages: syslog with lengths before them (RFC 6587) or one to a line, and lines of text.
//!
//! It has no I/O: it is given what was read so far, and says how much of that it used.

use rockrose_event::buffers;
use rockrose_extract::SyslogReader;

use crate::kinds::file::shortened;
use crate::{SenderFault, now_ms};

/// Most digits of a length before a message.
const LENGTH_DIGITS: usize = 7;

/// How a stream is cut into messages.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Framing {
    /// Lines: JSON or text.
    Lines,
    /// Syslog messages, with the zone of times that name none.
    Syslog {
        /// An IANA name or an offset.
        zone: Option<String>,
    },
}

/// Cuts a stream into messages, and makes lines of them.
pub(crate) struct Messages {
    framing: Framing,
    /// For syslog, what reads it.
    syslog: Option<SyslogReader>,
    pub(crate) lines: Vec<u8>,
    /// The messages as they came, while somebody looks.
    raw: Vec<Vec<u8>>,
    pub(crate) keeps_raw: bool,
    pub(crate) wrong: Vec<(SenderFault, String)>,
    /// How many messages of syslog are none, and what is wrong with the last.
    pub(crate) broken: (u64, &'static str),
    /// Why so, where that is known of the whole connection.
    pub(crate) because: Option<&'static str>,
    /// Whether lengths stand before the messages of this stream; not known before the first message that tells.
    counted: Option<bool>,
    /// The rest of a message that was too long is passed over: so many bytes, or up to the end of its line.
    pass_over: Option<PassOver>,
}

#[derive(Clone, Copy)]
enum PassOver {
    Bytes(usize),
    Line,
}

impl Messages {
    pub(crate) fn new(framing: Framing) -> Messages {
        let syslog = Messages::reader(&framing);
        Messages {
            framing,
            syslog,
            lines: Vec::new(),
            raw: Vec::new(),
            keeps_raw: false,
            wrong: Vec::new(),
            broken: (0, ""),
            because: None,
            counted: None,
            pass_over: None,
        }
    }

    fn reader(framing: &Framing) -> Option<SyslogReader> {
        match framing {
            Framing::Lines => None,
            Framing::Syslog { zone } => Some(SyslogReader::new(zone.as_deref())),
        }
    }

    /// The lines so far, and the messages as they came.
    pub(crate) fn take(&mut self) -> (Vec<u8>, Vec<Vec<u8>>) {
        (std::mem::take(&mut self.lines), std::mem::take(&mut self.raw))
    }

    /// Cuts what is whole (with `last`, all that is left) into messages of at most `max` bytes; returns how many bytes that was.
    pub(crate) fn cut(&mut self, bytes: &[u8], last: bool, framing: &Framing, max: usize) -> usize {
        if *framing != self.framing {
            (self.framing, self.syslog) = (framing.clone(), Messages::reader(framing));
        }
        let now = now_ms();
        if self.lines.capacity() == 0 {
            // What a message becomes is a little longer.
            self.lines = buffers::take(bytes.len() + bytes.len() / 2);
        }
        let mut at = 0;
        while at < bytes.len() {
            let rest = &bytes[at..];
            match self.pass_over {
                Some(PassOver::Bytes(n)) => {
                    at += n.min(rest.len());
                    self.pass_over = (n > rest.len()).then(|| PassOver::Bytes(n - rest.len()));
                    continue;
                }
                Some(PassOver::Line) => {
                    let end = self.end(rest);
                    at += end.map_or(rest.len(), |e| e + 1);
                    self.pass_over = end.is_none().then_some(PassOver::Line);
                    continue;
                }
                None => {}
            }
            if let Some((head, length)) = self.length(rest) {
                let have = rest.len() - head;
                if have < length.min(max) && !last {
                    break;
                }
                let message = &rest[head..head + length.min(have).min(max)];
                let broken = if length > max {
                    Some("longer than the limit for one event")
                } else if have < length {
                    Some("cut off")
                } else {
                    None
                };
                self.message(message, broken, now);
                at += head + message.len();
                if length > message.len() && !last {
                    self.pass_over = Some(PassOver::Bytes(length - message.len()));
                }
                continue;
            }
            if self.syslog.is_some() && rest[0] == b'<' {
                self.counted.get_or_insert(false);
            }
            match self.end(rest) {
                Some(end) if end <= max => {
                    self.message(&rest[..end], None, now);
                    at += end + 1;
                }
                None if rest.len() <= max && !last => break,
                None if rest.len() <= max => {
                    self.message(rest, None, now);
                    at = bytes.len();
                }
                _ => {
                    self.message(&rest[..max], Some("longer than the limit for one event"), now);
                    at += max;
                    self.pass_over = Some(PassOver::Line);
                }
            }
        }
        at
    }

    /// How long what stands before the first message is, and how long that message, if lengths stand before messages. Which of them a stream has is told by the first message that has a
    /// priority, and holds: so a message without one costs no more than itself.
    fn length(&mut self, rest: &[u8]) -> Option<(usize, usize)> {
        if self.syslog.is_none() || self.counted == Some(false) {
            return None;
        }
        let (head, length) = length_before(rest)?;
        if self.counted.is_none() {
            match rest.get(head) {
                // What comes next is not known yet.
                None => return Some((head, length)),
                Some(b'<') => {}
                // The first may be broken, but the one behind it not.
                Some(_) => {
                    let behind = rest.get(head + length..)?;
                    length_before(behind).filter(|(next, _)| behind.get(*next) == Some(&b'<'))?;
                }
            }
            self.counted = Some(true);
        }
        Some((head, length))
    }

    /// Where the first line ends. Some senders of syslog end messages with a NUL.
    fn end(&self, bytes: &[u8]) -> Option<usize> {
        if self.syslog.is_some() { memchr::memchr2(b'\n', 0, bytes) } else { memchr::memchr(b'\n', bytes) }
    }

    fn message(&mut self, message: &[u8], broken: Option<&'static str>, now_ms: i64) {
        if let Some(why) = broken {
            self.wrong.push((if why == "cut off" { SenderFault::Format } else { SenderFault::TooLarge }, format!("a message was {why}")));
        }
        let message = message.strip_suffix(b"\r").unwrap_or(message);
        if message.is_empty() {
            return;
        }
        if self.keeps_raw {
            self.raw.push(message.to_vec());
        }
        match &mut self.syslog {
            Some(reader) => {
                if let Some(why) = reader.line(message, broken, now_ms, &mut self.lines)
                    && broken.is_none()
                {
                    self.broken = (self.broken.0 + 1, why);
                }
            }
            // A line that was cut is text: JSON that breaks off could not be read.
            None if broken.is_some() => shortened(message, &mut self.lines),
            None => {
                self.lines.extend_from_slice(message);
                self.lines.push(b'\n');
            }
        }
    }
}

/// A length before a message (RFC 6587): how long it is itself, blank included, and what it says.
fn length_before(bytes: &[u8]) -> Option<(usize, usize)> {
    let digits = bytes.iter().take(LENGTH_DIGITS + 1).take_while(|b| b.is_ascii_digit()).count();
    if digits == 0 || digits > LENGTH_DIGITS || bytes[0] == b'0' || bytes.get(digits) != Some(&b' ') {
        return None;
    }
    let length: usize = std::str::from_utf8(&bytes[..digits]).ok()?.parse().ok()?;
    Some((digits + 1, length))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives a stream in pieces of `size` bytes, as a connection would; returns the lines and what was wrong.
    fn cut(framing: &Framing, stream: &[u8], size: usize) -> (String, Vec<String>) {
        let (mut messages, mut pending) = (Messages::new(framing.clone()), Vec::new());
        for piece in stream.chunks(size) {
            pending.extend_from_slice(piece);
            let used = messages.cut(&pending, false, framing, 64);
            pending.drain(..used);
        }
        assert_eq!(messages.cut(&pending, true, framing, 64), pending.len(), "the last cut uses all there is");
        let wrong = messages.wrong.drain(..).map(|(_, says)| says).collect();
        (String::from_utf8(messages.take().0).unwrap(), wrong)
    }

    fn lines(stream: &[u8], size: usize) -> (String, Vec<String>) {
        cut(&Framing::Lines, stream, size)
    }

    #[test]
    fn lines_are_the_same_however_the_stream_was_divided() {
        let stream = b"gate 3 opens\r\n\n{\"gate\":4}\nwithout an end";
        for size in 1..=stream.len() {
            assert_eq!(lines(stream, size), ("gate 3 opens\n{\"gate\":4}\nwithout an end\n".to_owned(), Vec::new()), "in pieces of {size}");
        }
    }

    #[test]
    fn a_line_that_is_too_long_is_cut_and_its_rest_passed_over() {
        let stream = [&[b'x'; 200][..], b"\nshort\n"].concat();
        for size in [1, 7, 64, 65, 199, 300] {
            let (kept, wrong) = lines(&stream, size);
            assert!(kept.ends_with("short\n") && kept.matches('\n').count() == 2, "in pieces of {size}: {kept}");
            assert!(kept.contains(&"x".repeat(64)) && !kept.contains(&"x".repeat(65)), "in pieces of {size}: {kept}");
            assert_eq!(wrong, ["a message was longer than the limit for one event"], "in pieces of {size}");
        }
    }

    #[test]
    fn a_message_with_a_length_is_cut_at_the_limit_and_the_next_begins_behind_it() {
        let counted = |text: &str| format!("{} {text}", text.len());
        let long = format!("<14>1 2026-11-23T10:00:00Z gates.example sail - - - {}", "x".repeat(200));
        let stream = counted(&long) + &counted("<14>1 - - - - - - boarding");
        for size in [1, 5, 64, 90, stream.len()] {
            let (kept, wrong) = cut(&Framing::Syslog { zone: None }, stream.as_bytes(), size);
            let lines: Vec<&str> = kept.lines().collect();
            assert_eq!(lines.len(), 2, "in pieces of {size}: {kept}");
            assert!(lines[0].contains("xxx") && lines[1].contains("boarding"), "in pieces of {size}: {kept}");
            assert_eq!(wrong, ["a message was longer than the limit for one event"], "in pieces of {size}");
        }
    }

    #[test]
    fn a_length_is_digits_and_a_blank() {
        assert_eq!(length_before(b"12 <34>1 -"), Some((3, 12)));
        assert_eq!(length_before(b"12 "), Some((3, 12)));
        for not in [&b"012 <34>"[..], b"12<34>", b"12345678 <34>", b" 12 <34>", b""] {
            assert_eq!(length_before(not), None, "{}", String::from_utf8_lossy(not));
        }
    }

    #[test]
    fn a_message_without_a_priority_costs_itself_whatever_its_framing() {
        let good = |n: usize| format!("<14>1 - - gated - - - gate {n}");
        let counted = |text: &str| format!("{} {text}", text.len());
        // The broken one stands first, in the middle, or has a line break in it.
        for broken in ["no priority", "7 <nothing", "two\nlines"] {
            for at in [0, 1_000] {
                let messages: String = (0..2_000).map(|n| (if n == at { counted(broken) } else { String::new() }) + &counted(&good(n))).collect();
                for size in [3, 64, 4_096] {
                    if at == 0 && size < 64 && broken.contains('\n') {
                        // Nothing tells yet what such a stream has.
                        continue;
                    }
                    let (kept, _) = cut(&Framing::Syslog { zone: None }, messages.as_bytes(), size);
                    let whole = kept.lines().filter(|l| l.contains("\"gate ")).count();
                    assert_eq!(whole, 2_000, "{broken:?} at {at}, in pieces of {size}");
                    assert!((2_001..=2_002).contains(&kept.lines().count()), "{broken:?} at {at}, in pieces of {size}: {}", kept.lines().count());
                }
            }
        }
        // Lines stay lines, whatever they begin with.
        let lines = format!("{}\n17 <34>1 no length\n{}\n", good(1), good(2));
        let (kept, _) = cut(&Framing::Syslog { zone: None }, lines.as_bytes(), 5);
        assert_eq!(kept.lines().count(), 3, "{kept}");
    }
}
