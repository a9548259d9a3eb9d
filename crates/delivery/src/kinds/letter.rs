//! Events as people read them in a letter: a subject, and for each event its severity, time and message with the other fields below.

use rockrose_event::level::Level;
use rockrose_event::output::{each, portable};
use rockrose_event::usual::Usual;
use serde_json::Value;

/// Longest subject, in characters.
const SUBJECT: usize = 120;
/// Deepest objects that are written out; what is deeper stands as a text.
const DEPTH: usize = 16;
/// Longest value of a field, in characters.
const VALUE: usize = 2_000;

/// A letter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Letter {
    /// What it is about, on one line.
    pub(crate) subject: String,
    /// The events.
    pub(crate) text: String,
    /// How many could be read.
    pub(crate) events: usize,
}

/// One event, as it is told.
struct Told {
    severity: Option<String>,
    level: Option<Level>,
    message: String,
}

/// On one line, cut to so many characters.
fn line(text: &str, most: usize) -> String {
    let words: Vec<&str> = text.split_whitespace().collect();
    let text: String = words.join(" ").chars().filter(|c| !c.is_control()).collect();
    match text.char_indices().nth(most) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text,
    }
}

/// Writes the events of `lines`, JSON objects a line each, as a letter; `before` stands before its subject. `now_ms` completes times that name no year.
pub(crate) fn letter(lines: &[u8], before: Option<&str>, now_ms: i64) -> Letter {
    let mut usual = Usual::new(&[]);
    let (mut told, mut text, mut plain) = (Vec::<Told>::new(), String::new(), Vec::new());
    for event in each(lines) {
        // What JSON allows and most readers do not take is rewritten.
        plain.clear();
        portable(event, DEPTH, &mut plain);
        let Ok(Value::Object(fields)) = serde_json::from_slice::<Value>(&plain) else { continue };
        usual.read(event);
        let severity = usual.severity(event);
        let time = usual.time(event, now_ms);
        let message = usual.message(event).map(|m| String::from_utf8_lossy(m).into_owned()).unwrap_or_default();
        let level = severity.as_ref().and_then(|s| Level::read(s.as_bytes()));
        if !text.is_empty() {
            text.push('\n');
        }
        let head: Vec<String> = [severity.clone(), time.map(|t| t.to_string())].into_iter().flatten().collect();
        if !head.is_empty() {
            text.push_str(&line(&head.join(" "), VALUE));
            text.push('\n');
        }
        if !message.is_empty() {
            text.push_str(&message);
            text.push('\n');
        }
        let mut fields: Vec<(&String, &Value)> = fields.iter().collect();
        fields.sort_by_key(|(name, _)| *name);
        for (name, value) in fields {
            let value = match value {
                Value::String(text) if *text == message => continue,
                Value::String(text) => text.clone(),
                other => other.to_string(),
            };
            text.push_str(&format!("    {}: {}\n", line(name, SUBJECT), line(&value, VALUE)));
        }
        told.push(Told { severity, level, message });
    }
    let gravest = told.iter().max_by_key(|t| t.level);
    let about = |t: &Told| [t.severity.clone().map(|s| format!("[{s}]")), Some(t.message.clone())].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let about = match (told.len(), gravest) {
        (1, Some(one)) => about(one),
        (many, Some(gravest)) => format!("{} (and {} more)", line(&about(gravest), SUBJECT - 20), many - 1),
        (_, None) => String::new(),
    };
    let subject = line(&[before.unwrap_or_default(), &about].join(" "), SUBJECT);
    let subject = if subject.is_empty() { "an event".to_owned() } else { subject };
    Letter { subject, text, events: told.len() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_letter_tells_of_the_gravest_first_and_of_all_below() {
        let one = "{\"time\":\"2026-12-01T12:00:00Z\",\"severity\":\"error\",\"message\":\"desk-late: 12 events wait\",\"advice\":\"Call the desk.\",\"since\":{\"h\":2}}\n";
        let told = letter(one.as_bytes(), None, 0);
        assert_eq!((told.subject.as_str(), told.events), ("[error] desk-late: 12 events wait", 1));
        assert_eq!(
            told.text,
            "error 2026-12-01T12:00:00Z\ndesk-late: 12 events wait\n    advice: Call the desk.\n    severity: error\n    since: {\"h\":2}\n    time: 2026-12-01T12:00:00Z\n"
        );
        let three = format!("{{\"message\":\"a\"}}\n{{\"level\":\"warn\",\"msg\":\"b\"}}\n{one}");
        let told = letter(three.as_bytes(), Some("Saltmarsh"), 0);
        assert_eq!((told.subject.as_str(), told.events), ("Saltmarsh [error] desk-late: 12 events wait (and 2 more)", 3));
        assert!(told.text.starts_with("a\n\nwarn\nb\n    level: warn\n\nerror 2026"), "{}", told.text);
    }

    #[test]
    fn a_subject_is_one_short_line_whatever_a_message_holds() {
        let odd = letter(format!("{{\"message\":\"a\\r\\nBcc: x@y.example\\u0000 {}\"}}\n", "long ".repeat(100)).as_bytes(), None, 0);
        assert!(
            odd.subject.starts_with("a Bcc: x@y.example long") && odd.subject.chars().count() <= SUBJECT + 1 && !odd.subject.contains(char::is_control),
            "{odd:?}"
        );
        assert_eq!(letter(b"{}\n", None, 0).subject, "an event");
        assert_eq!(letter(b"[1]\n", None, 0).events, 0);
    }
}
