//! `kind = "alerts"`: what the alerts of the plan tell.

use super::{Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::Key;
use crate::section::Section;

/// The alerts that begin, last and end, from when the source is first there.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AlertSource;

impl PlannedSource for AlertSource {
    const WORD: &'static str = "alerts";
    const EXAMPLE: &'static str = "# Alerts that begin and end; each is an event.\n";
    const KEYS: &'static [&'static [Key]] = &[];
    const GUARD: Option<Guard> = None;

    fn read(_c: &mut Checker<'_>, _section: &Section, _certificates: Option<&SourceCertificates>) -> Option<AlertSource> {
        Some(AlertSource)
    }

    fn takes(&self) -> (bool, bool) {
        (false, false)
    }

    fn reads(&self) -> String {
        "the alerts of the plan".to_owned()
    }
}
