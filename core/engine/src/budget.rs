//! How much of each budget is used, at the moment: asked by steps and conditions, and added to by what passes.
//!
//! What passes a budget's place counts at once, so that a step that asks stops at the right event; what becomes of it (committed, or given back where the commit failed) is settled later
//! by whoever keeps the account. So a meter says exactly what the ledger does whenever nothing is under way.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};

use rockrose_ledger::Amount;
use rockrose_plan::{Budget, Used};

/// Parts of money (10⁻¹⁵ units) that are one step of a meter.
const MONEY_STEP: i128 = 1_000;

/// How much of one budget is used.
#[derive(Debug)]
pub struct BudgetMeter {
    most: i64,
    /// Steps that an event uses, and each of its bytes; of money, in parts.
    per_event: i128,
    per_byte: i128,
    scale: i128,
    used: AtomicI64,
    is_lifted: AtomicBool,
}

/// As many steps of a meter.
fn steps(used: Used) -> i64 {
    match used {
        Used::Bytes(n) | Used::Events(n) => n,
        Used::Money(money) => i64::try_from(money.parts() / MONEY_STEP).unwrap_or(i64::MAX),
    }
}

impl BudgetMeter {
    /// A meter of a budget of which so much is used.
    #[must_use]
    pub fn new(budget: &Budget, used: Used) -> BudgetMeter {
        let one = |amount: Amount| match budget.most {
            Used::Bytes(_) => i128::from(amount.bytes),
            Used::Events(_) => i128::from(amount.events),
            Used::Money(_) => budget.prices.iter().map(|(_, price)| price.of(amount).parts()).sum(),
        };
        let scale = if matches!(budget.most, Used::Money(_)) { MONEY_STEP } else { 1 };
        let (per_event, per_byte) = (one(Amount { events: 1, bytes: 0 }), one(Amount { events: 0, bytes: 1 }));
        BudgetMeter { most: steps(budget.most), per_event, per_byte, scale, used: AtomicI64::new(steps(used)), is_lifted: AtomicBool::new(false) }
    }

    /// Whether at least so many percent of the budget are used. Never of one that is lifted.
    #[must_use]
    pub fn is_used(&self, percent: u64) -> bool {
        !self.is_lifted.load(Ordering::Relaxed) && i128::from(self.used.load(Ordering::Relaxed)) * 100 >= i128::from(self.most) * i128::from(percent)
    }

    /// Until that is taken back, no step acts by the budget.
    pub fn lift(&self, is_lifted: bool) {
        self.is_lifted.store(is_lifted, Ordering::Relaxed);
    }

    /// Adds what the account came to.
    pub fn add(&self, used: Used) {
        self.used.fetch_add(steps(used), Ordering::Relaxed);
    }

    /// Takes away what the account came to in a period that is over.
    pub fn take_away(&self, used: Used) {
        self.used.fetch_sub(steps(used), Ordering::Relaxed);
    }

    /// An event passes. Returns what it counts for.
    #[inline]
    fn pass(&self, bytes: usize) -> i64 {
        let weight = ((self.per_event + self.per_byte * bytes as i128) / self.scale) as i64;
        self.used.fetch_add(weight, Ordering::Relaxed);
        weight
    }
}

/// A meter, and whether what passes counts for it: it does where a plan runs, not where it is only tried.
#[derive(Clone, Debug)]
pub struct BudgetGauge {
    /// How much is used.
    pub meter: Arc<BudgetMeter>,
    /// Whether what passes counts.
    pub counts: bool,
}

/// What a batch counts for meters until it is known what became of it: given back when this goes.
#[derive(Debug, Default)]
pub struct UnderWay(Vec<(Arc<BudgetMeter>, i64)>);

impl UnderWay {
    /// An event passes a place with these meters.
    #[inline]
    pub(crate) fn pass(&mut self, meters: &[Arc<BudgetMeter>], bytes: usize) {
        for meter in meters {
            let weight = meter.pass(bytes);
            match self.0.iter_mut().find(|(known, _)| Arc::ptr_eq(known, meter)) {
                Some((_, sum)) => *sum += weight,
                None => self.0.push((Arc::clone(meter), weight)),
            }
        }
    }
}

impl UnderWay {
    /// Replaces what the batch counts for a meter by what the account came to, in one step: nobody may see it without either.
    pub fn settle(&mut self, meter: &Arc<BudgetMeter>, used: Used) {
        let at = self.0.iter().position(|(known, _)| Arc::ptr_eq(known, meter));
        let counted = at.map_or(0, |at| self.0.swap_remove(at).1);
        meter.used.fetch_add(steps(used) - counted, Ordering::Relaxed);
    }
}

impl Drop for UnderWay {
    fn drop(&mut self) {
        for (meter, weight) in &self.0 {
            meter.used.fetch_sub(*weight, Ordering::Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use rockrose_event::record::{DeclaredFormat, split};
    use rockrose_plan::CheckedPlan;
    use rockrose_redact::HashKey;

    use super::*;
    use crate::{CompiledPlan, Environment, Outcome, Scratch};

    struct Running {
        plan: CompiledPlan,
        checked: CheckedPlan,
        meters: HashMap<String, Arc<BudgetMeter>>,
    }

    fn running(allows: &str, lines: &str, counts: bool) -> Running {
        let text = format!(
            "[source.gates]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[destination.vault]\nkind = 'discard'\n[budget.daily]\nallows = '{allows}'\n{lines}"
        );
        let checked = CheckedPlan::read(&text).unwrap();
        let meters: HashMap<String, Arc<BudgetMeter>> =
            checked.budgets.iter().map(|b| (b.name.clone(), Arc::new(BudgetMeter::new(b, b.most.nothing())))).collect();
        let budgets = meters.iter().map(|(name, meter)| (name.clone(), BudgetGauge { meter: Arc::clone(meter), counts })).collect();
        let plan = CompiledPlan::within(&checked, HashKey::new([0; 32]), &Environment { budgets, ..Environment::default() });
        Running { plan, checked, meters }
    }

    impl Running {
        fn process(&self, body: &str) -> Outcome {
            let records = split(body.as_bytes(), DeclaredFormat::Lines, usize::MAX).unwrap();
            self.plan.process(0, body.as_bytes(), &records, 1_000, None, &mut Scratch::default())
        }

        /// What the account says is used, of a batch.
        fn used(&self, outcome: &Outcome) -> Used {
            let budget = &self.checked.budgets[0];
            outcome.postings.iter().fold(budget.most.nothing(), |sum, posting| sum.and(budget.uses(&posting.account, posting.amount)))
        }
    }

    /// A hundred events of 30 bytes, every tenth of them an error.
    fn body() -> String {
        (0..100).map(|n| format!("{{\"n\":\"{n:03}\",\"level\":\"{}\"}}\n", if n % 10 == 0 { "error" } else { "debug" })).collect()
    }

    #[test]
    fn a_step_that_asks_a_budget_acts_from_the_very_event_on() {
        let desk = "[destination.desk]\nkind = 'discard'\nprice = { per_gb = 1000000, per_million = 1000000 }\nalways = ['drop severity < error when budget:daily >= 100 %']\n\
                    [[route]]\nname = 'web'\nto = ['desk', 'vault']\n";
        let len = body().lines().next().unwrap().len() as i64;
        // Bytes, events and money (each event costs 1 EUR and a thousandth for each byte).
        for (allows, passes) in [
            (format!("{} B a day at destination:desk", 50 * len), 50),
            ("50 events a day at destination:desk".to_owned(), 50),
            ("51.5 EUR a day at destination:desk".to_owned(), 51),
        ] {
            let running = running(&allows, desk, true);
            let outcome = running.process(&body());
            let sent = outcome.entries.iter().find(|e| e.destination == "desk").unwrap().amount.events;
            // What is exempt passes beyond it.
            let exempt = (0..100).filter(|n| n % 10 == 0 && *n >= passes).count() as i64;
            assert_eq!(sent, passes + exempt, "{allows}");
            assert_eq!(outcome.entries.iter().find(|e| e.destination == "vault").unwrap().amount.events, 100);
            let removed: Vec<_> = outcome.postings.iter().filter(|p| p.account.position == 1).collect();
            assert_eq!((removed[0].account.sentence.as_str(), removed[0].amount.events), ("drop severity < error when budget:daily >= 100 %", 100 - sent));
        }
    }

    #[test]
    fn what_is_not_committed_is_given_back_and_what_is_counts_as_the_account_says() {
        let desk = "[destination.desk]\nkind = 'discard'\nprice = { per_gb = 3.33 }\n[[route]]\nname = 'web'\ndo = ['keep not (budget:daily >= 100 %)']\nto = ['desk', 'vault']\n";
        for allows in [
            "1 GB a day at destination:desk",
            "9 events a day at route:web",
            "1 MB a day at source:gates",
            "5 EUR a month at route:web",
            "1 MB a day at route:web",
        ] {
            let running = running(allows, desk, true);
            let meter = &running.meters["daily"];
            drop(running.process(&body()));
            assert_eq!(meter.used.load(Ordering::Relaxed), 0, "{allows}");
            let mut outcome = running.process(&body());
            let (mut under_way, used) = (std::mem::take(&mut outcome.under_way), running.used(&outcome));
            let passed = meter.used.load(Ordering::Relaxed);
            // In one step: in between, nobody may see less, or more.
            under_way.settle(meter, used);
            assert_eq!(meter.used.load(Ordering::Relaxed), steps(used), "{allows}");
            drop(under_way);
            assert_eq!(meter.used.load(Ordering::Relaxed), steps(used), "{allows}");
            assert!(passed > 0 && (passed - steps(used)).abs() <= 100, "{allows}: {passed} against {used:?}");
        }
    }

    #[test]
    fn what_is_tried_counts_for_nothing_and_meets_the_budget_as_it_stands() {
        let route = "[[route]]\nname = 'web'\ndo = ['drop true when budget:daily >= 100 %']\nto = ['vault']\n[[route]]\nname = 'spill'\nwhen = 'budget:daily >= 100 %'\nto = ['vault']\n";
        let running = running("5 events a day at route:web", route, false);
        assert_eq!(running.process(&body()).entries.iter().map(|e| e.amount.events).sum::<i64>(), 100);
        let meter = &running.meters["daily"];
        meter.add(Used::Events(5));
        let outcome = running.process(&body());
        assert_eq!(outcome.entries.iter().map(|e| (e.route.as_str(), e.amount.events)).collect::<Vec<_>>(), [("spill", 100)]);
        meter.lift(true);
        assert_eq!(running.process(&body()).entries.iter().map(|e| e.route.as_str()).collect::<Vec<_>>(), ["web"]);
        meter.lift(false);
        meter.take_away(Used::Events(5));
        assert!(!meter.is_used(1) && running.process(&body()).entries.len() == 1);
    }
}
