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
    const EXAMPLE: &'static str = "listen = \"127.0.0.1:8611\"\n\
        # Other hosts can send once it listens on 0.0.0.0; then their networks must be named:\n\
        # allow = [\"192.0.2.0/24\"]\n";
    const KEYS: &'static [&'static [Key]] = &[LISTENING];
    const GUARD: Option<Guard> = Some(Guard::Network);

    fn read(_c: &mut Checker<'_>, _section: &Section, _certificates: Option<&SourceCertificates>) -> Option<TcpSource> {
        Some(TcpSource)
    }
}
