//! `kind = "otlp"`: OTLP log records, over gRPC and HTTP.

use super::listening::{KEYED, LISTENING, REQUESTS};
use super::{Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::Key;
use crate::section::Section;

/// A source that takes OTLP log records.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OtlpSource;

impl PlannedSource for OtlpSource {
    const WORD: &'static str = "otlp";
    const EXAMPLE: &'static str = "listen = \"127.0.0.1:4317\"\n\
        # Other hosts can send once it listens on 0.0.0.0; then senders need a key (`rockrose secret set otlp-in`):\n\
        # key = { secret = \"otlp-in\" }\n";
    const KEYS: &'static [&'static [Key]] = &[LISTENING, KEYED, REQUESTS];
    const GUARD: Option<Guard> = Some(Guard::Key);
    const HAS_RESOURCES: bool = true;

    fn read(_c: &mut Checker<'_>, _section: &Section, _certificates: Option<&SourceCertificates>) -> Option<OtlpSource> {
        Some(OtlpSource)
    }
}
