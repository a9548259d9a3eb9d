//! Grants: sentences that say what somebody may see and do.

use std::fmt::{self, Display, Formatter};

use crate::condition::{Condition, condition};
use crate::cursor::{Cursor, Outcome};
use crate::list::listed;
use crate::literal::Literal;
use crate::mistake::Mistake;
use crate::steps::{Operation, Step, parse_step};

/// A place of a plan at which events can be looked at, by name.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Place {
    /// A source: `source:NAME`.
    Source(String),
    /// A route: `route:NAME`.
    Route(String),
    /// A destination: `destination:NAME`.
    Destination(String),
    /// What no route takes: `remainder`.
    Remainder,
}

/// The forms in which a place is written.
const PLACES: &str = "`source:NAME`, `route:NAME`, `destination:NAME` or `remainder`";

impl Place {
    /// Reads `source:NAME`, `route:NAME`, `destination:NAME` or `remainder`; the name may be any text.
    #[must_use]
    pub fn read(text: &str) -> Option<Place> {
        if text == "remainder" {
            return Some(Place::Remainder);
        }
        let (kind, name) = text.split_once(':')?;
        Place::of(kind, name.to_owned())
    }

    fn of(kind: &str, name: String) -> Option<Place> {
        match kind {
            "source" => Some(Place::Source(name)),
            "route" => Some(Place::Route(name)),
            "destination" => Some(Place::Destination(name)),
            _ => None,
        }
    }

    pub(crate) fn parse(c: &mut Cursor<'_>) -> Outcome<Place> {
        if c.words("remainder") {
            return Ok(Place::Remainder);
        }
        for kind in ["source", "route", "destination"] {
            if c.words(kind) {
                if !c.sign(":") {
                    return c.unexpected("`:` and a name", &[]);
                }
                let what = format!("a {kind}'s name");
                return c.name(&what).map(|name| Place::of(kind, name).unwrap_or(Place::Remainder));
            }
        }
        c.unexpected(PLACES, &["source", "route", "destination", "remainder"])
    }
}

impl Display for Place {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let (kind, name) = match self {
            Place::Source(name) => ("source", name),
            Place::Route(name) => ("route", name),
            Place::Destination(name) => ("destination", name),
            Place::Remainder => return f.write_str("remainder"),
        };
        write!(f, "{kind}:{}", rockrose_event::field::Path::name(name))
    }
}

/// One thing that somebody may do. `Display` prints its canonical sentence, which reads back as the same grant.
#[derive(Clone, Debug, PartialEq)]
pub enum Grant {
    /// `see [at PLACE, …] [when CONDITION] [after redact …]`: looks at events, wherever they are shown.
    See {
        /// At these places; empty: at all of them.
        at: Vec<Place>,
        /// Only events that meet this.
        when: Option<Condition>,
        /// What is done to an event before it is shown: a redaction.
        after: Option<Box<Step>>,
    },
    /// `operate [at PLACE, …]`: pauses, resumes, tests, sends again and purges.
    Operate {
        /// At these places; empty: at all of them.
        at: Vec<Place>,
    },
    /// `change [team "NAME", … [to DESTINATION, …]]`: applies plans.
    Change {
        /// Only routes and recipes of these teams; empty: all of the plan.
        teams: Vec<String>,
        /// Only routes that lead to these destinations; empty: to any.
        to: Vec<String>,
    },
    /// `secrets`: sets and removes secrets, and makes keys of sources.
    Secrets,
    /// `people`: adds and removes people and tokens, and says what they may do.
    People,
    /// `audit`: reads the journal.
    Audit,
}

/// The word that each grant begins with.
pub const GRANT_WORDS: &[&str] = &["see", "operate", "change", "secrets", "people", "audit"];

/// Reads a grant.
///
/// ```
/// let grant = rockrose_language::parse_grant("see at route:boarding when team = \"gates\" after redact email, card").unwrap();
/// assert_eq!(grant.to_string(), "see at route:boarding when team = \"gates\" after redact email, card");
/// ```
///
/// # Errors
/// At the first place where the sentence cannot go on, with what was expected there.
pub fn parse_grant(text: &str) -> Result<Grant, Mistake> {
    let mut c = Cursor::new(text)?;
    let grant = grant(&mut c, text)?;
    if c.done() { Ok(grant) } else { c.unexpected("the end of the grant", &["at", "when", "after", "team", "to"]) }
}

fn grant(c: &mut Cursor<'_>, text: &str) -> Outcome<Grant> {
    let places = |c: &mut Cursor<'_>| if c.words("at") { c.list(Place::parse) } else { Ok(Vec::new()) };
    if c.words("see") {
        let at = places(c)?;
        let start = c.at();
        let when = if c.words("when") { Some(condition(c)?) } else { None };
        if when.iter().any(|when| !when.budgets().is_empty()) {
            return Err(Mistake::new(c.since(start), "what somebody may see does not depend on what is used of a budget").expected("a condition on the event"));
        }
        let mut after = None;
        if c.words("after") {
            let start = c.at();
            let step = parse_step(c.rest()).map_err(|m| Mistake { at: m.at.start + start..m.at.end + start, ..m })?;
            if !matches!(step.operation, Operation::Redact(_)) {
                return Err(Mistake::new(start..text.trim_end().len(), "events are shown as they are, or redacted").expected("`redact …`"));
            }
            after = Some(Box::new(step));
            c.rewind(text.len());
        }
        return Ok(Grant::See { at, when, after });
    }
    if c.words("operate") {
        return places(c).map(|at| Grant::Operate { at });
    }
    if c.words("change") {
        let (mut teams, mut to) = (Vec::new(), Vec::new());
        if c.words("team") {
            teams = c.list(|c| c.quoted("a team's name in quotes"))?;
            if c.words("to") {
                to = c.list(|c| c.name("a destination's name"))?;
            }
        }
        return Ok(Grant::Change { teams, to });
    }
    for (word, grant) in [("secrets", Grant::Secrets), ("people", Grant::People), ("audit", Grant::Audit)] {
        if c.words(word) {
            return Ok(grant);
        }
    }
    c.unexpected(&format!("a grant: one of {}", GRANT_WORDS.iter().map(|w| format!("`{w}`")).collect::<Vec<_>>().join(", ")), GRANT_WORDS)
}

impl Display for Grant {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        let places = |f: &mut Formatter<'_>, at: &[Place]| if at.is_empty() { Ok(()) } else { write!(f, " at {}", listed(at)) };
        match self {
            Grant::See { at, when, after } => {
                f.write_str("see")?;
                places(f, at)?;
                when.iter().try_for_each(|when| write!(f, " when {when}"))?;
                after.iter().try_for_each(|after| write!(f, " after {after}"))
            }
            Grant::Operate { at } => {
                f.write_str("operate")?;
                places(f, at)
            }
            Grant::Change { teams, to } => {
                f.write_str("change")?;
                if !teams.is_empty() {
                    write!(f, " team {}", listed(&teams.iter().map(|t| Literal::Text(t.clone())).collect::<Vec<_>>()))?;
                }
                if !to.is_empty() {
                    write!(f, " to {}", listed(&to.iter().map(|d| rockrose_event::field::Path::name(d)).collect::<Vec<_>>()))?;
                }
                Ok(())
            }
            Grant::Secrets => f.write_str("secrets"),
            Grant::People => f.write_str("people"),
            Grant::Audit => f.write_str("audit"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn grants_read_back_as_they_print() {
        for sentence in [
            "see",
            "see at route:boarding, source:kiosks, remainder",
            "see when team = \"gates\" and severity >= warn",
            "see at destination:cold-store when team = \"gates\" or port = 4 after redact email, card keep last 4 in message when line = 2",
            "see after redact passenger.id as hash",
            "see at route:\"when\"",
            "operate",
            "operate at source:kiosks, destination:desk",
            "change",
            "change team \"gates\", \"the quay\"",
            "change team \"gates\" to desk, cold-store",
            "secrets",
            "people",
            "audit",
        ] {
            let grant = parse_grant(sentence).unwrap_or_else(|m| panic!("{sentence}: {m:?}"));
            assert_eq!(grant.to_string(), sentence);
        }
        assert_eq!(parse_grant("  see  at  route : a ,remainder").unwrap().to_string(), "see at route:a, remainder");
    }

    #[test]
    fn what_is_no_grant_is_said_at_its_place() {
        for (sentence, at, message, nearest) in [
            ("watch", 0..5, "unexpected `watch`", None),
            ("sea", 0..3, "unexpected `sea`", Some("see")),
            ("see at routes:a", 7..13, "unexpected `routes`", Some("route")),
            ("see at route a", 13..14, "unexpected `a`", None),
            ("see when", 8..8, "the sentence ends too early", None),
            ("see when team = gates", 16..21, "", None),
            ("see after drop a = 1", 10..20, "events are shown as they are, or redacted", None),
            ("see after redact emial", 17..22, "", None),
            ("see after redact email, ", 24..24, "", None),
            ("change team gates", 12..17, "unexpected `gates`", None),
            ("change to desk", 7..9, "unexpected `to`", None),
            ("secrets people", 8..14, "unexpected `people`", None),
            ("", 0..0, "the sentence ends too early", None),
        ] {
            let mistake = parse_grant(sentence).expect_err(sentence);
            assert!(mistake.message.contains(message), "{sentence}: {mistake:?}");
            assert_eq!(mistake.at.start, at.start, "{sentence}: {mistake:?}");
            if message.starts_with("unexpected") {
                assert_eq!((mistake.at, mistake.nearest.as_deref()), (at, nearest), "{sentence}");
            }
        }
    }

    #[test]
    fn places_are_read_whatever_their_names() {
        assert_eq!(Place::read("route:a:b"), Some(Place::Route("a:b".into())));
        assert_eq!(Place::read("remainder"), Some(Place::Remainder));
        assert_eq!((Place::read("table:a"), Place::read("kiosks")), (None, None));
    }
}
