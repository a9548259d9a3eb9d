//! How much of each budget is used: kept beside the ledger and exactly as it says, so that steps that ask need not wait for a look at it.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use rockrose_alerts::BudgetReading;
use rockrose_engine::{BudgetGauge, BudgetMeter, UnderWay};
use rockrose_ledger::{Account, Amount, Forecast, Hours, Posting, forecast};
use rockrose_plan::{Budget, CheckedPlan, Used};
use rockrose_records::{Lift, RecordsError};
use rockrose_spool::{LedgerRow, SpoolError};

use crate::{App, now_ms};

/// How often it is looked whether a period is over.
const EVERY: Duration = Duration::from_secs(1);
/// After so long the forecasts are made anew, in milliseconds.
const FORESEEN_EVERY: i64 = 60_000;
/// So many hours are learnt from: five weeks.
const LEARNT_FROM: i64 = 35 * 24;
/// Minutes in an hour, and milliseconds in a minute.
const HOUR: i64 = 60;
const MINUTE_MS: i64 = 60_000;

/// A budget of the running plan, and how it stands.
#[derive(Clone)]
pub(crate) struct BudgetStanding {
    pub(crate) budget: Budget,
    pub(crate) used: Used,
    /// When its period begins and ends, in milliseconds since 1970.
    pub(crate) begins_ms: i64,
    pub(crate) ends_ms: i64,
    pub(crate) forecast: Option<Forecast>,
    pub(crate) lift: Option<Lift>,
}

struct Kept {
    standing: BudgetStanding,
    meter: Arc<BudgetMeter>,
}

impl Kept {
    /// A period is over: what was used of it is gone.
    fn turn(&mut self, now_ms: i64) {
        let of = &mut self.standing;
        (of.begins_ms, of.ends_ms) = of.budget.allowance.per.around(now_ms, &of.budget.zone);
        self.meter.take_away(of.used);
        of.used = of.used.nothing();
        of.forecast = None;
    }

    fn is_same(&self, budget: &Budget) -> bool {
        let of = &self.standing.budget;
        (&of.allowance, &of.zone, &of.prices) == (&budget.allowance, &budget.zone, &budget.prices)
    }
}

/// The budgets of the running plan.
#[derive(Default)]
pub(crate) struct Budgets {
    kept: Mutex<BTreeMap<String, Kept>>,
    /// Commits of which it is not yet noted what they use.
    under_way: AtomicU64,
    /// Commits of which that was noted.
    noted: AtomicU64,
}

/// A commit of which it is to be noted what it uses.
pub(crate) struct Committing<'a> {
    budgets: &'a Budgets,
    /// What it uses of each budget that it uses anything of.
    uses: Vec<(String, Used)>,
    at_ms: i64,
}

impl Committing<'_> {
    /// It is durable: what it uses takes the place of what it counted for while it was under way.
    pub(crate) fn done(self, under_way: &mut UnderWay) {
        let mut kept = self.budgets.kept();
        for (name, used) in &self.uses {
            let Some(kept) = kept.get_mut(name) else { continue };
            if self.at_ms >= kept.standing.ends_ms {
                kept.turn(self.at_ms);
            }
            if self.at_ms >= kept.standing.begins_ms {
                kept.standing.used = kept.standing.used.and(*used);
                under_way.settle(&kept.meter, *used);
            }
        }
        self.budgets.noted.fetch_add(1, Ordering::SeqCst);
    }
}

impl Drop for Committing<'_> {
    fn drop(&mut self) {
        self.budgets.under_way.fetch_sub(1, Ordering::SeqCst);
    }
}

/// What some amounts of accounts use of a budget.
fn used_by<'a>(budget: &Budget, counted: impl Iterator<Item = (&'a Account, Amount)>) -> Used {
    counted.fold(budget.most.nothing(), |sum, (account, amount)| sum.and(budget.uses(account, amount)))
}

/// What some rows of the ledger use of a budget.
fn used_in(budget: &Budget, rows: &[LedgerRow]) -> Used {
    used_by(budget, rows.iter().map(|row| (&row.account, row.amount)))
}

impl Budgets {
    fn kept(&self) -> MutexGuard<'_, BTreeMap<String, Kept>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Notes that these postings are about to be committed; they use something once that is done.
    pub(crate) fn committing(&self, postings: &[Posting], at_ms: i64) -> Committing<'_> {
        self.under_way.fetch_add(1, Ordering::SeqCst);
        let kept = self.kept();
        let used = |(name, kept): (&String, &Kept)| {
            let budget = &kept.standing.budget;
            let used = used_by(budget, postings.iter().map(|posting| (&posting.account, posting.amount)));
            (used != budget.most.nothing()).then(|| (name.clone(), used))
        };
        Committing { budgets: self, uses: kept.iter().filter_map(used).collect(), at_ms }
    }

    /// Keeps the budgets of a plan that is about to run, and no others. Those that stay as they were keep what is used; of others the ledger is asked.
    pub(crate) async fn keep(&self, app: &App, plan: &CheckedPlan) {
        let now = now_ms();
        let lifts = app.records(move |r| r.lifts(now)).await.unwrap_or_default();
        let unknown: Vec<&Budget> = {
            let mut kept = self.kept();
            kept.retain(|name, _| plan.budgets.iter().any(|budget| budget.name == *name));
            for budget in &plan.budgets {
                if let Some(known) = kept.get_mut(&budget.name).filter(|known| known.is_same(budget)) {
                    // Its bound may be another, and whom it tells.
                    known.standing.budget = budget.clone();
                }
            }
            plan.budgets.iter().filter(|budget| kept.get(&budget.name).is_none_or(|known| !known.is_same(budget))).collect()
        };
        let mut rows: HashMap<i64, Vec<LedgerRow>> = HashMap::new();
        for budget in unknown {
            let (begins_ms, ends_ms) = budget.allowance.per.around(now, &budget.zone);
            let minute = begins_ms.div_euclid(MINUTE_MS);
            if let Entry::Vacant(rows) = rows.entry(minute) {
                let read = app.spool.ledger(Some(minute), None).await;
                rows.insert(read.inspect_err(|e| tracing::error!(error = %e, "what is used of budgets cannot be read")).unwrap_or_default());
            }
            let used = used_in(budget, &rows[&minute]);
            let lift = lifts.iter().find(|lift| lift.budget == budget.name).cloned();
            let meter = Arc::new(BudgetMeter::new(budget, used));
            meter.lift(lift.is_some());
            let standing = BudgetStanding { budget: budget.clone(), used, begins_ms, ends_ms, forecast: None, lift };
            self.kept().insert(budget.name.clone(), Kept { standing, meter });
        }
    }

    /// The meters, for a plan that runs (`counts`), or for one that is tried as the budgets stand.
    pub(crate) fn gauges(&self, counts: bool) -> HashMap<String, BudgetGauge> {
        self.kept().iter().map(|(name, kept)| (name.clone(), BudgetGauge { meter: Arc::clone(&kept.meter), counts })).collect()
    }

    /// How they stand, in the order of their names.
    pub(crate) fn all(&self) -> Vec<BudgetStanding> {
        self.kept().values().map(|kept| kept.standing.clone()).collect()
    }

    /// What alerts read of each.
    pub(crate) fn readings(&self) -> HashMap<String, BudgetReading> {
        self.all().into_iter().map(|of| (of.budget.name.clone(), of.reading())).collect()
    }

    /// Until its period is over, no step acts by a budget. Nothing, if the plan has none of this name.
    pub(crate) async fn lift(&self, app: &App, name: &str, who: &str) -> Result<Option<Lift>, RecordsError> {
        let Some(until_ms) = self.kept().get(name).map(|kept| kept.standing.ends_ms) else { return Ok(None) };
        let lift = Lift { budget: name.to_owned(), until_ms, who: who.to_owned() };
        let kept = lift.clone();
        app.records(move |r| r.lift_budget(&kept)).await?;
        self.set_lift(name, Some(lift.clone()));
        Ok(Some(lift))
    }

    /// Steps act by a budget again. Says whether the plan has one of this name.
    pub(crate) async fn end_lift(&self, app: &App, name: &str) -> Result<bool, RecordsError> {
        let asked = name.to_owned();
        app.records(move |r| r.end_lift(&asked)).await?;
        Ok(self.set_lift(name, None))
    }

    fn set_lift(&self, name: &str, lift: Option<Lift>) -> bool {
        let mut kept = self.kept();
        let Some(kept) = kept.get_mut(name) else { return false };
        kept.meter.lift(lift.is_some());
        kept.standing.lift = lift;
        true
    }

    /// Begins periods anew that are over, and ends lifts with them.
    fn turn(&self, now_ms: i64) {
        for kept in self.kept().values_mut() {
            if now_ms >= kept.standing.ends_ms || now_ms < kept.standing.begins_ms {
                kept.turn(now_ms);
            }
            if kept.standing.lift.as_ref().is_some_and(|lift| lift.until_ms <= now_ms) {
                kept.meter.lift(false);
                kept.standing.lift = None;
            }
        }
    }

    /// Looks at the ledger whether it says the same. What was sent again is only noted there; and a clock that was set back begins a period that was begun before.
    async fn agree(&self, app: &App) -> Result<(), SpoolError> {
        let mut begins: Vec<i64> = self.all().iter().map(|of| of.begins_ms.div_euclid(MINUTE_MS)).collect();
        begins.dedup();
        let quiet = || (self.under_way.load(Ordering::SeqCst) == 0).then(|| self.noted.load(Ordering::SeqCst));
        for minute in begins {
            let Some(before) = quiet() else { return Ok(()) };
            let rows = app.spool.ledger(Some(minute), None).await?;
            let mut kept = self.kept();
            // Nothing was committed meanwhile, so that is what is used.
            if quiet() != Some(before) {
                return Ok(());
            }
            for kept in kept.values_mut().filter(|kept| kept.standing.begins_ms.div_euclid(MINUTE_MS) == minute) {
                let used = used_in(&kept.standing.budget, &rows);
                if used != kept.standing.used {
                    kept.meter.take_away(kept.standing.used);
                    kept.meter.add(used);
                    kept.standing.used = used;
                }
            }
        }
        Ok(())
    }

    /// What is to be expected by the ends of the periods.
    async fn foresee(&self, app: &App) -> Result<(), SpoolError> {
        let now = now_ms();
        let this_hour = now.div_euclid(MINUTE_MS * HOUR) * HOUR;
        for of in self.all() {
            let (stage, name, measure) = of.budget.counted();
            let since = this_hour - LEARNT_FROM * HOUR;
            let rows = app.spool.hours(stage, name, measure, since, this_hour).await?;
            let foreseen = rows.first().map(|(first, ..)| *first).and_then(|first| {
                let first = first / HOUR;
                let mut counts = vec![0.0; usize::try_from(this_hour / HOUR - first).unwrap_or(0)];
                for (minute, account, amount) in &rows {
                    let at = usize::try_from(minute / HOUR - first).unwrap_or(usize::MAX);
                    if let Some(count) = counts.get_mut(at) {
                        *count += of.budget.uses(account, *amount).to_f64();
                    }
                }
                forecast(&Hours { first, counts }, of.used.to_f64(), now, of.ends_ms)
            });
            if let Some(kept) = self.kept().get_mut(&of.budget.name).filter(|kept| kept.standing.begins_ms == of.begins_ms) {
                kept.standing.forecast = foreseen;
            }
        }
        Ok(())
    }
}

impl BudgetStanding {
    fn reading(&self) -> BudgetReading {
        let most = self.budget.most;
        let percent = |of: f64| (of / most.to_f64() * 100.0).floor() as i64;
        BudgetReading { allows: self.budget.allowance.to_string(), percent: self.used.percent_of(most), expected: self.forecast.map(|f| percent(f.expected)) }
    }
}

/// Looks after the budgets for as long as the service runs.
pub(crate) async fn run(app: Arc<App>) {
    let mut tick = tokio::time::interval(EVERY);
    tick.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut foreseen = None;
    loop {
        tick.tick().await;
        let now = now_ms();
        app.budgets.turn(now);
        let names: Vec<(String, i64)> = app.budgets.all().into_iter().map(|of| (of.budget.name, of.begins_ms)).collect();
        let due = foreseen.as_ref().is_none_or(|(known, at): &(Vec<(String, i64)>, i64)| *known != names || now - at >= FORESEEN_EVERY || now < *at);
        if due && !names.is_empty() {
            let looked = match app.budgets.agree(&app).await {
                Ok(()) => app.budgets.foresee(&app).await,
                Err(e) => Err(e),
            };
            if let Err(e) = looked {
                tracing::warn!(error = %e, "what is used of budgets cannot be read");
            }
            foreseen = Some((names, now));
        }
    }
}

#[cfg(test)]
mod tests {
    use rockrose_ledger::{Measure, Stage};

    use super::*;

    const DAY_MS: i64 = 86_400_000;

    /// Budgets of a plan that has run since the first day of 1970.
    fn budgets(lift: bool) -> Budgets {
        let plan = "[destination.desk]\nkind = 'discard'\n[budget.daily]\nallows = '100 events a day at destination:desk'\n[budget.monthly]\nallows = '1 MB a month at destination:desk'\n";
        let plan = CheckedPlan::read(plan).unwrap();
        let budgets = Budgets::default();
        for budget in plan.budgets {
            let (begins_ms, ends_ms) = budget.allowance.per.around(1_000, &budget.zone);
            let meter = Arc::new(BudgetMeter::new(&budget, budget.most.nothing()));
            let lift = lift.then(|| Lift { budget: budget.name.clone(), until_ms: ends_ms, who: "ann".into() });
            meter.lift(lift.is_some());
            let standing = BudgetStanding { used: budget.most.nothing(), begins_ms, ends_ms, forecast: None, lift, budget };
            budgets.kept().insert(standing.budget.name.clone(), Kept { standing, meter });
        }
        budgets
    }

    fn posting(events: i64) -> [Posting; 1] {
        let account =
            Account { stage: Stage::Destination, name: "desk".into(), via: "web".into(), position: 0, sentence: String::new(), measure: Measure::Enqueued };
        [Posting::new(account, Amount { events, bytes: events * 10 })]
    }

    fn used(budgets: &Budgets) -> Vec<(Used, bool)> {
        budgets.kept().values().map(|kept| (kept.standing.used, kept.meter.is_used(100))).collect()
    }

    #[test]
    fn a_period_that_is_over_begins_anew_with_the_first_commit_or_the_next_look() {
        let of = budgets(false);
        of.committing(&posting(100), 5_000).done(&mut UnderWay::default());
        assert_eq!(used(&of), [(Used::Events(100), true), (Used::Bytes(1_000), false)]);
        // What is not committed is not used.
        drop(of.committing(&posting(7), 6_000));
        assert_eq!(used(&of)[0].0, Used::Events(100));
        // The first commit of the next day comes before the next look; one of the day before counts no more.
        of.committing(&posting(3), DAY_MS).done(&mut UnderWay::default());
        of.committing(&posting(50), DAY_MS - 1).done(&mut UnderWay::default());
        assert_eq!(used(&of), [(Used::Events(3), false), (Used::Bytes(1_530), false)]);
        of.turn(2 * DAY_MS);
        assert_eq!(used(&of), [(Used::Events(0), false), (Used::Bytes(1_530), false)]);
        of.turn(31 * DAY_MS);
        assert_eq!(used(&of)[1].0, Used::Bytes(0));
    }

    #[test]
    fn a_lift_ends_with_its_period() {
        let of = budgets(true);
        of.committing(&posting(100), 5_000).done(&mut UnderWay::default());
        assert_eq!(used(&of)[0], (Used::Events(100), false), "it is counted, and nothing is done by it");
        of.turn(DAY_MS - 1);
        assert!(of.all().iter().all(|one| one.lift.is_some()));
        of.turn(DAY_MS);
        of.committing(&posting(100), DAY_MS).done(&mut UnderWay::default());
        assert_eq!(used(&of)[0], (Used::Events(100), true));
        assert_eq!(of.all().iter().map(|one| one.lift.is_some()).collect::<Vec<_>>(), [false, true], "that of the month goes on");
        assert!(of.set_lift("monthly", None) && !of.set_lift("yearly", None));
    }

    #[test]
    fn what_alerts_read_is_rounded_down() {
        let of = budgets(false);
        of.committing(&posting(99), 5_000).done(&mut UnderWay::default());
        let readings = of.readings();
        let daily = &readings["daily"];
        assert_eq!((daily.allows.as_str(), daily.percent, daily.expected), ("100 events a day at destination:desk", 99, None));
    }
}
