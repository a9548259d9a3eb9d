//! What a batch did at each source, route, step and destination, and the postings that come of it.

use std::collections::HashMap;

use rockrose_ledger::{Account, Amount, Earlier, Measure, Posting, Selection, Stage, TagAmount};

use super::outcome::StepTime;
use crate::by_tag;
use crate::compile::CompiledPlan;
use crate::effect::StepTally;
use crate::steps::CompiledStep;

#[derive(Debug, Default)]
pub(super) struct SourceTally {
    pub(super) rewritten: Amount,
    pub(super) quarantined: Amount,
    pub(super) passed: Amount,
    pub(super) routed: Amount,
    pub(super) remainder: Amount,
    pub(super) steps: Vec<StepTally>,
}

#[derive(Debug, Default)]
pub(super) struct RouteTally {
    pub(super) touched: bool,
    pub(super) taken: Amount,
    pub(super) out: Amount,
    pub(super) copies: Amount,
    pub(super) steps: Vec<StepTally>,
}

#[derive(Debug, Default)]
pub(super) struct BranchTally {
    pub(super) offered: Amount,
    pub(super) enqueued: Amount,
    pub(super) selection: Selection,
    /// How the selected events stood before the destination's steps.
    pub(super) earlier: Earlier,
    pub(super) steps: Vec<StepTally>,
}

/// What a batch did at each route and branch. Kept from batch to batch, so that a plan of many routes costs a batch only those it touched.
#[derive(Debug, Default)]
pub(super) struct Tallies {
    /// The plan they are for.
    plan: u64,
    pub(super) routes: Vec<RouteTally>,
    pub(super) branches: Vec<BranchTally>,
    pub(super) touched: Vec<u32>,
}

impl Tallies {
    pub(super) fn begin(&mut self, plan: &CompiledPlan) {
        if self.plan != plan.shared.fields.stamp() || self.routes.len() != plan.routes.len() {
            self.plan = plan.shared.fields.stamp();
            self.routes = plan.routes.iter().map(|r| RouteTally { steps: tallies(&r.steps), ..RouteTally::default() }).collect();
            let steps = |(route, place): &(usize, usize)| &plan.destinations[plan.routes[*route].to[*place]].steps;
            self.branches = plan.branches.iter().map(|b| BranchTally { steps: tallies(steps(b)), ..BranchTally::default() }).collect();
        }
        self.touched.clear();
    }

    /// Notes that something is to be posted for a route.
    pub(super) fn touch(&mut self, number: usize) {
        if !std::mem::replace(&mut self.routes[number].touched, true) {
            self.touched.push(number as u32);
        }
    }
}

pub(super) fn tallies(steps: &[CompiledStep]) -> Vec<StepTally> {
    vec![StepTally::default(); steps.len()]
}

pub(super) struct Posts<'a> {
    pub(super) postings: Vec<Posting>,
    pub(super) times: Vec<StepTime>,
    pub(super) stage: Stage,
    pub(super) name: &'a str,
    pub(super) via: &'a str,
    /// Where the accounts of the list begin in what was counted by tag.
    pub(super) accounts: u32,
    pub(super) by_tag: HashMap<u32, Vec<TagAmount>>,
}

impl Posts<'_> {
    fn post(&mut self, position: usize, sentence: &str, measure: Measure, amount: Amount) {
        if !amount.is_zero() {
            let account = Account {
                stage: self.stage,
                name: self.name.to_owned(),
                via: self.via.to_owned(),
                position: position as i32,
                sentence: sentence.to_owned(),
                measure,
            };
            let place = match measure {
                Measure::Passed | Measure::Enqueued => Some(by_tag::leaves(self.accounts)),
                Measure::Removed => Some(by_tag::removed(self.accounts, position - 1)),
                Measure::Changed => Some(by_tag::changed(self.accounts, position - 1)),
                _ => None,
            };
            let by_tag = place.and_then(|place| self.by_tag.remove(&place)).unwrap_or_default();
            self.postings.push(Posting { account, amount, by_tag });
        }
    }

    pub(super) fn add(&mut self, measure: Measure, amount: Amount) {
        self.post(0, "", measure, amount);
    }

    /// Posts what the steps did, and forgets it.
    pub(super) fn steps(&mut self, steps: &[CompiledStep], tallies: &mut [StepTally]) {
        for (i, (step, tally)) in steps.iter().zip(tallies).enumerate() {
            let tally = std::mem::take(tally);
            self.post(i + 1, &step.sentence, Measure::Removed, tally.removed);
            self.post(i + 1, &step.sentence, Measure::Changed, tally.changed);
            self.post(i + 1, &step.sentence, Measure::Failed, tally.failed);
            self.post(i + 1, &step.sentence, Measure::Held, tally.held);
            if let (events @ 1.., nanos) = tally.timed {
                self.times.push(StepTime { stage: self.stage, name: self.name.to_owned(), position: i + 1, events, nanos });
            }
        }
    }
}
