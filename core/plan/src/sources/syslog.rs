//! `kind = "syslog"`: syslog messages, over TCP or TLS, UDP, or both.

use rockrose_event::time::zone_is_known;
use rockrose_language::Mistake;

use super::listening::LISTENING;
use super::{Guard, PlannedSource, SourceCertificates};
use crate::checker::Checker;
use crate::keys::{Key, Shape, key};
use crate::section::Section;

const OVER: &[&str] = &["tcp", "udp"];

/// A source that takes syslog messages.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SyslogSource {
    /// Over TCP or TLS.
    pub tcp: bool,
    /// Over UDP.
    pub udp: bool,
    /// The zone of times that name none.
    pub zone: Option<String>,
}

impl PlannedSource for SyslogSource {
    const WORD: &'static str = "syslog";
    const EXAMPLE: &'static str = "listen = \"127.0.0.1:5514\"\n\
        # Other hosts can send once it listens on 0.0.0.0; then their networks must be named:\n\
        # allow = [\"192.0.2.0/24\"]\n";
    const KEYS: &'static [&'static [Key]] = &[
        LISTENING,
        &[
            key("over", Shape::Word(OVER), "`tcp` (messages after their lengths, or lines) or `udp`. Both at once if left out; only `tcp` with a certificate."),
            key("zone", Shape::Text, "The time zone of times that name none, as in \"Europe/Berlin\" or \"+01:00\". UTC if left out."),
        ],
    ];
    const GUARD: Option<Guard> = Some(Guard::Network);

    fn read(c: &mut Checker<'_>, section: &Section, certificates: Option<&SourceCertificates>) -> Option<SyslogSource> {
        let over = section.text("over").map(|o| o.value);
        if let (Some("udp"), Some(_), Some(written)) = (over, certificates, section.get("certificate")) {
            c.mistakes.push(Mistake::new(written.at.clone(), "datagrams are not made safe by a certificate").expected("`over = \"tcp\"`, or no certificate"));
        }
        let zone = section.text("zone");
        if let Some(zone) = zone.as_ref().filter(|z| !zone_is_known(z.value)) {
            let message = format!("`{}` is no time zone", zone.value);
            c.mistakes.push(Mistake::new(zone.at.clone(), message).expected("a name such as \"Europe/Berlin\", or an offset such as \"+01:00\""));
        }
        let zone = zone.map(|z| z.value.to_owned());
        Some(SyslogSource { tcp: over != Some("udp"), udp: over != Some("tcp") && certificates.is_none(), zone })
    }

    fn takes(&self) -> (bool, bool) {
        (self.tcp, self.udp)
    }
}
