//! Totals and rates out of the meter's last reading, by source, route, destination and step.

use std::collections::BTreeMap;

use rockrose_event::field::Path;
use rockrose_language::Step;
use rockrose_ledger::{Account, Measure, Stage};

use super::types::{FlowStep, Gauge, Share};
use crate::meter::Reading;

/// Gauges by stage, name and measure, added up over whatever they are told apart by.
pub(super) struct Book<'a> {
    reading: &'a Reading,
    by_name: BTreeMap<(Stage, &'a str), Vec<&'a Account>>,
}

impl<'a> Book<'a> {
    pub(super) fn new(reading: &'a Reading) -> Book<'a> {
        let mut by_name: BTreeMap<(Stage, &str), Vec<&Account>> = BTreeMap::new();
        for account in reading.now.keys() {
            by_name.entry((account.stage, &account.name)).or_default().push(account);
        }
        Book { reading, by_name }
    }

    fn sum(&self, stage: Stage, name: &str, chosen: impl Fn(&Account) -> bool) -> Gauge {
        let mut gauge = Gauge::default();
        for account in self.by_name.get(&(stage, name)).into_iter().flatten().filter(|a| chosen(a)) {
            let amount = self.reading.now.get(account).copied().unwrap_or_default();
            let (events, bytes) = self.reading.rate(account);
            gauge.events += amount.events;
            gauge.bytes += amount.bytes;
            gauge.events_per_second += events;
            gauge.bytes_per_second += bytes;
        }
        gauge
    }

    pub(super) fn gauge(&self, stage: Stage, name: &str, measure: Measure) -> Gauge {
        self.sum(stage, name, |a| a.measure == measure)
    }

    pub(super) fn shares(&self, stage: Stage, name: &str, measure: Measure) -> Vec<Share> {
        let accounts = self.by_name.get(&(stage, name)).into_iter().flatten();
        let mut via: Vec<&str> = accounts.filter(|a| a.measure == measure).map(|a| a.via.as_str()).collect();
        via.sort_unstable();
        via.dedup();
        via.into_iter().map(|from| Share { from: from.to_owned(), gauge: self.sum(stage, name, |a| a.measure == measure && a.via == from) }).collect()
    }

    /// The steps of one place, and what they did; `never_met` says of each which of its fields no event has had ([`rockrose_engine::CompiledPlan::never_met`]).
    pub(super) fn steps(&self, stage: Stage, name: &str, steps: &[Step], never_met: &[(u64, Vec<Path>)]) -> Vec<FlowStep> {
        let line = |(i, step): (usize, &Step)| {
            let (position, sentence) = (i as i32 + 1, step.to_string());
            let of = |measure: Measure| self.sum(stage, name, |a| a.measure == measure && a.position == position && a.sentence == sentence);
            let caveat = never_met.get(i).and_then(|(events, fields)| never_had(*events, fields));
            let (removed, changed, failed, held) = (of(Measure::Removed), of(Measure::Changed), of(Measure::Failed), of(Measure::Held));
            FlowStep { removed, changed, failed, held, position, sentence, caveat }
        };
        steps.iter().enumerate().map(line).collect()
    }
}

/// So many events have come before a field that none of them had is spoken of.
const ENOUGH: u64 = 1_000;

/// What is said of fields that a redaction names and no event has had.
fn never_had(events: u64, fields: &[Path]) -> Option<String> {
    if events < ENOUGH || fields.is_empty() {
        return None;
    }
    let names: Vec<String> = fields.iter().map(|field| format!("`{field}`")).collect();
    Some(format!("none of {events} events had {}", names.join(" or ")))
}
