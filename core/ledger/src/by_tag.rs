//! The account told apart by the values of tags: another cut of the same account, with an equation of its own.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::{Account, Amount, Equation, Measure, Stage};

/// The value under which events count that do not have the field.
pub const WITHOUT: &str = "";
/// The value under which an account stands that was counted while the plan did not tell the tag apart.
pub const BEFORE: &str = "(before)";

/// What was counted of the events that have one value of a tag.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TagAmount {
    /// Which of the tags that stand beside the postings, from 0.
    pub tag: usize,
    /// Its value; [`WITHOUT`], where an event does not have it.
    pub value: Arc<str>,
    /// How much of the posting.
    pub amount: Amount,
}

impl Account {
    /// Whether what is counted here is told apart by tags: what comes through a source's steps, what steps take away, and what is queued for a destination or spilled by it.
    #[must_use]
    pub fn is_by_tag(&self) -> bool {
        match self.measure {
            Measure::Removed | Measure::Changed => true,
            Measure::Passed => self.stage == Stage::Source,
            Measure::Enqueued | Measure::Spilled => self.stage == Stage::Destination,
            _ => false,
        }
    }
}

/// For each tag and place: that what was counted there is what was counted by the values of the tag. `rows` are the sums of the account since the beginning, `by_tag` those of each value of
/// each tag that the plan tells apart now. Of a place with several measures, the first that does not add up is told; else their sum.
#[must_use]
pub fn balance_by_tag<'a>(rows: impl IntoIterator<Item = (&'a Account, Amount)>, by_tag: &BTreeMap<Arc<str>, BTreeMap<Account, Amount>>) -> Vec<Equation> {
    if by_tag.is_empty() {
        return Vec::new();
    }
    let counted: BTreeMap<&Account, Amount> = rows.into_iter().filter(|(account, _)| account.is_by_tag()).collect();
    let mut equations = Vec::new();
    for (tag, sums) in by_tag {
        let accounts: BTreeSet<&Account> = counted.keys().copied().chain(sums.keys()).collect();
        let mut places: BTreeMap<(Stage, &str), (Amount, Amount)> = BTreeMap::new();
        let mut broken = BTreeSet::new();
        for account in accounts {
            let place = (account.stage, account.name.as_str());
            let left = counted.get(account).copied().unwrap_or_default();
            let right = sums.get(account).copied().unwrap_or_default();
            if broken.contains(&place) {
                continue;
            }
            let sum = places.entry(place).or_default();
            if left == right {
                sum.0 += left;
                sum.1 += right;
            } else {
                *sum = (left, right);
                broken.insert(place);
            }
        }
        let equation = |((stage, name), (left, right)): ((Stage, &str), (Amount, Amount))| Equation {
            stage,
            name: name.to_owned(),
            says: format!("counted = counted by {tag}"),
            left,
            right,
        };
        equations.extend(places.into_iter().map(equation));
    }
    equations
}

#[cfg(test)]
mod tests {
    use super::*;

    fn account(measure: Measure, position: i32) -> Account {
        Account { position, ..Account::at_destination("desk", "web", measure) }
    }

    #[test]
    fn what_is_missing_under_a_value_shows_even_if_something_else_makes_up_for_it() {
        let rows = [(account(Measure::Enqueued, 0), Amount { events: 5, bytes: 50 }), (account(Measure::Removed, 1), Amount { events: 2, bytes: 20 })];
        let other = [(account(Measure::Offered, 0), Amount { events: 7, bytes: 70 })];
        let told = |by: &[(Account, Amount)]| {
            let tags = BTreeMap::from([(Arc::from("team"), by.iter().cloned().collect())]);
            balance_by_tag(rows.iter().chain(&other).map(|(account, amount)| (account, *amount)), &tags)
        };
        let good = told(&rows);
        assert_eq!(good.len(), 1);
        assert!(good[0].holds() && good[0].says == "counted = counted by team" && good[0].left.events == 7);
        let moved = [(rows[0].0.clone(), Amount { events: 4, bytes: 40 }), (rows[1].0.clone(), Amount { events: 3, bytes: 30 })];
        assert!(!told(&moved)[0].holds());
        assert!(!told(&rows[..1])[0].holds());
        assert!(balance_by_tag(rows.iter().map(|(account, amount)| (account, *amount)), &BTreeMap::new()).is_empty());
    }

    #[test]
    fn what_is_told_apart() {
        let source = |measure| Account { stage: Stage::Source, name: "s".into(), via: String::new(), position: 0, sentence: String::new(), measure };
        assert!(source(Measure::Passed).is_by_tag() && source(Measure::Removed).is_by_tag() && !source(Measure::Received).is_by_tag());
        assert!(account(Measure::Spilled, 0).is_by_tag() && !account(Measure::Delivered, 0).is_by_tag() && !account(Measure::Offered, 0).is_by_tag());
    }
}
