//! `kind = "tcp"`: lines over TCP.

use super::listening::LISTENING;
use super::{Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::Key;
use crate::section::Section;

/// A source that takes lines over TCP.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TcpSource;

impl PlannedSource for TcpSource {
    const WORD: &'static str = "tcp";
    const KEYS: &'static [&'static [Key]] = &[LISTENING];
    const GUARD: Option<Guard> = Some(Guard::Network);

    fn read(_c: &mut Checker<'_>, _section: &Section, _certificates: Option<&SourceCertificates>) -> Option<TcpSource> {
        Some(TcpSource)
    }
}
