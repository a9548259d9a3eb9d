//! `kind = "http"`: a POST is a body of events.

use rockrose_language::Mistake;

use super::listening::{KEYED, LISTENING, REQUESTS};
use super::{Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::{Key, Shape, key};
use crate::section::Section;

/// A source that bodies are posted to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HttpSource;

impl PlannedSource for HttpSource {
    const WORD: &'static str = "http";
    const EXAMPLE: &'static str = "listen = \"127.0.0.1:8610\"\n\
        # Other hosts can send once it listens on 0.0.0.0; then senders need a key (`rockrose secret set http-in`):\n\
        # key = { secret = \"http-in\" }\n";
    const KEYS: &'static [&'static [Key]] = &[
        LISTENING,
        KEYED,
        REQUESTS,
        &[key(
            "may_set",
            Shape::Texts,
            "Fields that a request may set for all its events, by `?FIELD=…` or a header `Field-FIELD: …`. `time` and `host` take the place of what the events say.",
        )],
    ];
    const GUARD: Option<Guard> = Some(Guard::Key);

    fn read(_c: &mut Checker<'_>, _section: &Section, _certificates: Option<&SourceCertificates>) -> Option<HttpSource> {
        Some(HttpSource)
    }
}

/// The fields that a request may set.
pub(super) fn may_set(c: &mut Checker<'_>, section: &Section) -> Vec<String> {
    for field in section.texts("may_set") {
        let plain = !field.value.is_empty() && field.value.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'_' | b'-'));
        if !plain {
            let message = format!("`{}` is not a field that a request can set", field.value);
            c.mistakes.push(Mistake::new(field.at.clone(), message).expected("letters, digits, `.`, `_` and `-`"));
        }
    }
    section.texts("may_set").iter().map(|f| f.value.clone()).collect()
}
