//! Events, surveyed: the patterns of their messages and what their fields hold.

use rockrose_event::level::Level;
use rockrose_event::usual::Usual;

use crate::fields::Fields;
use crate::miner::{Line, Miner, Origin};

/// Gathers what is in a stream of events, in bounded memory.
pub struct Survey {
    /// The patterns of their messages.
    pub miner: Miner,
    /// What their fields hold.
    pub fields: Fields,
    usual: Usual,
    /// Another field than the message is mined.
    other: bool,
}

impl Survey {
    /// With about `budget` bytes for patterns. `field` is the one whose text is mined, if it is not the message.
    #[must_use]
    pub fn new(budget: usize, field: Option<&str>) -> Survey {
        let field = field.filter(|field| *field != "message");
        let usual = field.map_or_else(|| Usual::new(&[]), |field| Usual::new(&[&[field]]));
        Survey { miner: Miner::new(budget), fields: Fields::default(), usual, other: field.is_some() }
    }

    /// Counts an event (one JSON object) that came at `arrived_ms` (milliseconds since 1970), standing for `times`. Says whether it is one. An event without a message is of no pattern.
    pub fn add(&mut self, event: &[u8], times: u64, arrived_ms: i64, from: Origin) -> bool {
        if !self.fields.add(event, times, arrived_ms) {
            return false;
        }
        self.usual.read(event);
        let at_ms = self.usual.time(event, arrived_ms).map_or(arrived_ms, |time| time.as_millisecond());
        let severity = self.usual.severity(event).and_then(|text| Level::read(text.as_bytes())).map_or(0, |level| level as u8 + 1);
        if self.other {
            if let Some(text) = self.usual.text_of(event, 0) {
                self.miner.add(&Line { text: text.as_bytes(), at_ms, times, severity, from });
            }
        } else if let Some(text) = self.usual.message(event) {
            self.miner.add(&Line { text, at_ms, times, severity, from });
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::BUDGET;

    #[test]
    fn events_are_surveyed_by_their_usual_names() {
        for (field, text) in [(None, "gate {gate} opens"), (Some("message"), "gate {gate} opens"), (Some("where.port"), "Lowmere")] {
            let mut survey = Survey::new(BUDGET, field);
            let from = survey.miner.origin("source:gates");
            for n in 0..10 {
                let event = format!(r#"{{"ts":"2026-11-30T10:00:{n:02}Z","lvl":"warn","msg":"gate {n} opens","where":{{"port":"Lowmere"}}}}"#);
                assert!(survey.add(event.as_bytes(), 2, 0, from));
            }
            assert!(survey.add(b"{\"n\":1}", 1, 0, from) && !survey.add(b"gate", 1, 0, from));
            let found = survey.miner.patterns();
            assert_eq!((found.list.len(), found.list[0].text.as_str(), found.list[0].times, found.list[0].severities[4]), (1, text, 20, 20));
            assert_eq!((found.list[0].first_ms, found.list[0].last_ms), (1_796_032_800_000, 1_796_032_809_000));
            assert_eq!(survey.fields.total().0, 21);
        }
    }
}
