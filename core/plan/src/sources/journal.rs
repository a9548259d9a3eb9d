//! `kind = "journal"`: what people and programs did with the service itself.

use super::{Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::Key;
use crate::section::Section;

/// The service's own journal, entry by entry, from its beginning.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct JournalSource;

impl PlannedSource for JournalSource {
    const WORD: &'static str = "journal";
    const EXAMPLE: &'static str = "# Who did what with this service; each entry is an event.\n";
    const KEYS: &'static [&'static [Key]] = &[];
    const GUARD: Option<Guard> = None;

    fn read(_c: &mut Checker<'_>, _section: &Section, _certificates: Option<&SourceCertificates>) -> Option<JournalSource> {
        Some(JournalSource)
    }

    fn takes(&self) -> (bool, bool) {
        (false, false)
    }

    fn reads(&self) -> String {
        "the service's journal".to_owned()
    }
}
