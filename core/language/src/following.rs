//! What may stand at the end of a sentence that is cut off: words, fields, values, names.
//!
//! The sentence is read by the very parser that reads whole ones. Whatever the parser asks for at the end of the text, in vain, may stand there: so nothing that it can read is missing, and
//! there is no second grammar.

use std::cmp::Ordering;

use rockrose_event::field::Path;

use crate::alert::read_alert;
use crate::condition::read_condition;
use crate::cursor::Cursor;
use crate::mistake::Mistake;
use crate::steps::read_step;

/// What may stand at a place in a sentence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Want {
    /// A word of the language, or several.
    Word(String),
    /// A sign, such as `>=`.
    Sign(String),
    /// A field's name.
    Field,
    /// The name of something else in the plan.
    Name(NameOf),
    /// A value, in quotes if it is a text: of this field, where it is known which.
    Value(Option<Path>),
    /// A regular expression between slashes.
    Pattern,
}

/// Of what a name is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NameOf {
    /// A table.
    Table,
    /// A recipe.
    Recipe,
    /// A source.
    Source,
    /// A destination.
    Destination,
    /// A route.
    Route,
    /// A budget.
    Budget,
    /// Something that the sentence itself names.
    New,
}

impl NameOf {
    /// By what the parser says that it expects.
    pub(crate) fn read(what: &str) -> Option<NameOf> {
        let of = [
            ("the name of a table", NameOf::Table),
            ("the name of a recipe", NameOf::Recipe),
            ("the name of a source", NameOf::Source),
            ("a destination's name", NameOf::Destination),
            ("a source's name", NameOf::Source),
            ("a route's name", NameOf::Route),
            ("a budget's name", NameOf::Budget),
            ("the metric's name", NameOf::New),
            ("a parameter's name", NameOf::New),
        ];
        of.into_iter().find(|(said, _)| *said == what).map(|(_, of)| of)
    }
}

/// Which sort of sentence it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SentenceKind {
    /// A step.
    Step,
    /// A condition.
    Condition,
    /// What an alert watches.
    Alert,
}

/// What may stand at the end of a sentence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Following {
    /// The byte at which begins what is being written there: what is chosen takes the place of the text from here on.
    pub from: usize,
    /// What may stand from there on, in the order in which the parser asks for it.
    pub wants: Vec<Want>,
    /// What is wrong before that place; then nothing is known of it.
    pub mistake: Option<Mistake>,
}

/// What may stand at the end of `text`, which is the beginning of a sentence: its last word, name or text in quotes may be cut off as well.
#[must_use]
pub fn following(kind: SentenceKind, text: &str) -> Following {
    let from = last_piece(text);
    let before = &text[..from];
    let mut cursor = match Cursor::new(before) {
        Ok(cursor) => cursor,
        Err(mistake) => return Following { from, wants: Vec::new(), mistake: Some(mistake) },
    };
    let read = match kind {
        SentenceKind::Step => read_step(&mut cursor).map(|_| ()),
        SentenceKind::Condition => read_condition(&mut cursor).map(|_| ()),
        SentenceKind::Alert => read_alert(&mut cursor).map(|_| ()),
    };
    // A mistake at the end is that the sentence ends there.
    let end = before.trim_end().len();
    let mistake = read.err().filter(|mistake| mistake.at.start < end);
    let mut wants: Vec<Want> = Vec::new();
    if mistake.is_none() {
        for want in cursor.wants() {
            if !wants.contains(&want) {
                wants.push(want);
            }
        }
    }
    Following { from, wants, mistake }
}

/// Where the last word, name or text in quotes of a text begins; at its end, if it ends with white space or a sign.
fn last_piece(text: &str) -> usize {
    let (mut opened, mut escaped) = (None, false);
    for (at, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if opened.is_some() => escaped = true,
            '"' if opened.is_some() => opened = None,
            '"' => opened = Some(at),
            _ => {}
        }
    }
    let inside = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '-');
    opened.unwrap_or_else(|| text.trim_end_matches(inside).len())
}

/// What is known of the events and of the plan, for what may follow.
#[derive(Clone, Copy)]
pub struct Catalog<'a> {
    /// Fields that the events have, with the share of events that have each.
    pub fields: &'a [(String, f64)],
    /// Values of a field, with the share of events that have each.
    pub values: &'a dyn Fn(&str) -> Vec<(String, f64)>,
    /// Names of the plan's tables.
    pub tables: &'a [String],
    /// Names of its recipes.
    pub recipes: &'a [String],
    /// Names of its sources.
    pub sources: &'a [String],
    /// Names of its destinations.
    pub destinations: &'a [String],
    /// Names of its routes.
    pub routes: &'a [String],
    /// Names of its budgets.
    pub budgets: &'a [String],
}

/// Something that could stand there.
#[derive(Clone, Debug, PartialEq)]
pub struct Proposal {
    /// As it is written in the sentence.
    pub text: String,
    /// `word`, `sign`, `field`, `value`, `table`, `recipe`, `source`, `destination`, `route`, `budget` or `pattern`.
    pub sort: &'static str,
    /// In what share of the events it is, 0 to 1, where that is known.
    pub share: Option<f64>,
}

/// What could stand at the end of `text` by `following` of it: what begins as it is written there, at the most `most`.
#[must_use]
pub fn proposals(text: &str, following: &Following, catalog: &Catalog<'_>, most: usize) -> Vec<Proposal> {
    let written = &text[following.from..];
    let mut found: Vec<Proposal> = Vec::new();
    for want in &following.wants {
        match want {
            Want::Word(word) => offer(&mut found, written, word, "word"),
            Want::Sign(sign) => offer(&mut found, written, sign, "sign"),
            Want::Pattern => offer(&mut found, written, "/", "pattern"),
            Want::Field => shared(&mut found, written, catalog.fields.iter().map(|(name, share)| (field_in_sentence(name), *share)), "field"),
            Want::Value(Some(field)) => {
                let values = (catalog.values)(&field.to_string());
                shared(&mut found, written, values.into_iter(), "value");
            }
            Want::Name(NameOf::Table) => catalog.tables.iter().for_each(|name| offer(&mut found, written, name, "table")),
            Want::Name(NameOf::Recipe) => catalog.recipes.iter().for_each(|name| offer(&mut found, written, name, "recipe")),
            Want::Name(NameOf::Source) => catalog.sources.iter().for_each(|name| offer(&mut found, written, name, "source")),
            Want::Name(NameOf::Destination) => catalog.destinations.iter().for_each(|name| offer(&mut found, written, name, "destination")),
            Want::Name(NameOf::Route) => catalog.routes.iter().for_each(|name| offer(&mut found, written, name, "route")),
            Want::Name(NameOf::Budget) => catalog.budgets.iter().for_each(|name| offer(&mut found, written, name, "budget")),
            Want::Value(None) | Want::Name(NameOf::New) => {}
        }
        if found.len() >= most.saturating_mul(4) {
            break;
        }
    }
    found.truncate(most);
    found
}

/// Whether `text` goes on from what is written.
fn goes_on(text: &str, written: &str) -> bool {
    let head = text.get(..written.len()).unwrap_or_default();
    head.eq_ignore_ascii_case(written) && text.len() > written.len()
}

fn offer(found: &mut Vec<Proposal>, written: &str, text: &str, sort: &'static str) {
    if goes_on(text, written) && found.iter().all(|p| p.text != text) {
        found.push(Proposal { text: text.to_owned(), sort, share: None });
    }
}

/// Those with shares, the most frequent first.
fn shared(found: &mut Vec<Proposal>, written: &str, all: impl Iterator<Item = (String, f64)>, sort: &'static str) {
    let mut some: Vec<(String, f64)> = all.filter(|(text, _)| goes_on(text, written)).collect();
    some.sort_by(|(a, x), (b, y)| y.partial_cmp(x).unwrap_or(Ordering::Equal).then_with(|| a.cmp(b)));
    found.extend(some.into_iter().map(|(text, share)| Proposal { text, sort, share: Some(share) }));
}

/// A field's dotted name, as it is written in a sentence: with quotes where it needs them.
#[must_use]
pub fn field_in_sentence(name: &str) -> String {
    Path::of(name.split('.').map(str::to_owned).collect()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{parse_condition, parse_step};

    const FIELDS: &[(&str, f64)] = &[("gate", 0.5), ("severity", 1.0), ("path", 0.2), ("passenger.email", 0.1), ("odd name", 0.3)];

    fn words(kind: SentenceKind, text: &str) -> Vec<String> {
        let fields: Vec<(String, f64)> = FIELDS.iter().map(|(name, share)| ((*name).to_owned(), *share)).collect();
        let values = |field: &str| if field == "path" { vec![("\"/health\"".to_owned(), 0.6), ("\"/pay\"".to_owned(), 0.4)] } else { Vec::new() };
        let names = |all: &[&str]| all.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>();
        let (tables, recipes, sources, destinations) = (names(&["ports"]), names(&["shorten"]), names(&["kiosks"]), names(&["desk"]));
        let catalog = Catalog {
            fields: &fields,
            values: &values,
            tables: &tables,
            recipes: &recipes,
            sources: &sources,
            destinations: &destinations,
            routes: &[],
            budgets: &["desk-daily".to_owned()],
        };
        proposals(text, &following(kind, text), &catalog, 50).into_iter().map(|p| p.text).collect()
    }

    fn step(text: &str) -> Vec<String> {
        words(SentenceKind::Step, text)
    }

    #[test]
    fn what_may_stand_there_is_what_the_parser_asks_for() {
        assert!(step("").contains(&"drop".to_owned()) && step("").contains(&"look".to_owned()) && step("").len() > 20, "{:?}", step(""));
        assert_eq!(step("dr"), ["drop"]);
        assert_eq!(step("drop "), ["not", "(", "true", "false", "severity", "gate", "\"odd name\"", "path", "passenger.email"]);
        assert_eq!(step("drop pa"), ["path", "passenger.email"]);
        for test in ["=", "!=", "in", "contains", "starts", "exists", "older than"] {
            assert!(step("drop path ").contains(&test.to_owned()), "{test}: {:?}", step("drop path "));
        }
        assert_eq!(step("drop path = "), ["field", "true", "false", "\"/health\"", "\"/pay\""]);
        assert_eq!(step("drop path = \"/he"), ["\"/health\""]);
        assert_eq!(step("drop path starts "), ["with"]);
        assert_eq!(step("drop path starts with "), ["\"/health\"", "\"/pay\""]);
        for level in ["debug", "warn", "error"] {
            assert!(step("keep severity >= ").contains(&level.to_owned()), "{:?}", step("keep severity >= "));
        }
        for word in ["and", "or", "when"] {
            assert!(step("drop gate = 4 ").contains(&word.to_owned()), "{:?}", step("drop gate = 4 "));
        }
        assert!(step("sample 1 in 10 ").contains(&"by".to_owned()) && step("sample 1 in 10 ").contains(&"unless".to_owned()));
        for word in ["email", "card", "gate"] {
            assert!(step("redact ").contains(&word.to_owned()), "{:?}", step("redact "));
        }
        assert_eq!(step("use "), ["shorten"]);
        assert_eq!(step("look up gate in "), ["ports"]);
        assert_eq!(step("merge repeats within 5 se"), ["second", "seconds"]);
        assert_eq!(words(SentenceKind::Condition, "gate = 4 an"), ["and"]);
        assert_eq!(words(SentenceKind::Condition, "path in (\"/pay\", "), ["true", "false", "\"/health\"", "\"/pay\""]);
    }

    #[test]
    fn a_mistake_before_it_is_told_and_nothing_is_offered() {
        let told = following(SentenceKind::Step, "drop gate = = 4 and ");
        assert!(told.wants.is_empty() && told.mistake.is_some_and(|m| m.at.start == 12));
        assert_eq!(following(SentenceKind::Step, "drop ga").from, 5);
        assert_eq!(following(SentenceKind::Condition, "path = \"/a b").from, 7);
        assert_eq!(following(SentenceKind::Condition, "path = \"/a\" ").from, 12);
    }

    /// Wherever a sentence is cut off, what stands next in it is among what may stand there.
    #[test]
    fn wherever_a_sentence_is_cut_off_it_can_go_on_as_it_does() {
        for sentence in [
            "drop path starts with \"/health\" and not (gate in (1, 2) or severity >= warn)",
            "sample 1 in 20 by gate unless severity >= error",
            "limit 100 per second by gate when path exists",
            "redact email, card keep last 4 in path",
            "rename gate to path",
            "look up gate in ports as path",
            "merge repeats within 30 seconds by path, gate",
            "trim path to 2 KB",
            "remove gate, path",
            "use shorten when gate = 4",
        ] {
            parse_step(sentence).unwrap_or_else(|m| panic!("{sentence}: {m:?}"));
            let mut ends: Vec<usize> = sentence.match_indices(' ').map(|(at, _)| at + 1).collect();
            ends.insert(0, 0);
            for end in ends {
                let (before, rest) = sentence.split_at(end);
                // Inside quotes nothing but the quoted text goes on.
                if before.matches('"').count() % 2 == 1 {
                    continue;
                }
                let told = following(SentenceKind::Step, before);
                assert!(told.mistake.is_none(), "{before}: {:?}", told.mistake);
                let next = rest.split(' ').next().unwrap().trim_end_matches([',', ')']).trim_start_matches('(');
                let fits = |want: &Want| match want {
                    Want::Word(word) => word.split(' ').next() == Some(next),
                    Want::Sign(sign) => rest.starts_with(sign.as_str()),
                    Want::Field => FIELDS.iter().any(|(name, _)| *name == next),
                    Want::Name(_) => matches!(next, "ports" | "shorten"),
                    Want::Value(_) => next.starts_with('"') || next.starts_with(|c: char| c.is_ascii_digit()),
                    Want::Pattern => next.starts_with('/'),
                };
                let is_number = next.starts_with(|c: char| c.is_ascii_digit());
                assert!(is_number || told.wants.iter().any(fits), "{before}|{rest}: {:?}", told.wants);
            }
        }
        assert!(parse_condition("gate = 4").is_ok());
    }
}
