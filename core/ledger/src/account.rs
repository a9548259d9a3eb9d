//! The account of every event and byte, and the equations it must satisfy.
//!
//! Work on a batch yields [`Posting`]s; the caller adds them to what it keeps, in the same transaction as the events themselves. [`balance`]
//! takes the sums and says of each place whether its account is right, to the event and to the byte.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::TagAmount;

/// Where in the plan something was counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Stage {
    /// A source, its `on_arrival` steps included.
    Source,
    /// A route and its `do` steps.
    Route,
    /// A destination and its `always` steps.
    Destination,
}

impl Stage {
    /// The word it is kept under.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["source", "route", "destination"][self as usize]
    }

    /// Reads the word back.
    #[must_use]
    pub fn read(word: &str) -> Option<Stage> {
        [Stage::Source, Stage::Route, Stage::Destination].into_iter().find(|p| p.word() == word)
    }
}

macro_rules! measures {
    ($($(#[$doc:meta])* $name:ident = $word:literal,)*) => {
        /// What was counted. Each is a number of events and of bytes.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(rename_all = "lowercase")]
        pub enum Measure { $($(#[$doc])* $name,)* }

        impl Measure {
            /// All of them, in the order an event meets them.
            pub const ALL: &[Measure] = &[$(Measure::$name,)*];

            /// The word it is kept under.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self { $(Measure::$name => $word,)* }
            }
        }
    };
}

measures! {
    /// At a source: datagrams that were lost before they were received. Where only the system counted them, their bytes are estimated.
    Lost = "lost",
    /// At a source: records that came, in the bytes they came in.
    Received = "received",
    /// At a source: records that were read as events, in the bytes they came in.
    Read = "read",
    /// At a source: bytes saved (or, below zero, added) by writing a record as one line of JSON.
    Rewritten = "rewritten",
    /// At a step: events it removed.
    Removed = "removed",
    /// At a step: events it changed, and the bytes that saved (or, below zero, added).
    Changed = "changed",
    /// At a step: events it could not do its work on; they go on as they were.
    Failed = "failed",
    /// What a step holds back, less what it gave out again. At a step of any place.
    Held = "held",
    /// At a source: events that came through its steps.
    Passed = "passed",
    /// At a source: events that at least one route took.
    Routed = "routed",
    /// At a source: events that no route took.
    Remainder = "remainder",
    /// At a route: events it took.
    Taken = "taken",
    /// At a route: events that came through its steps.
    Out = "out",
    /// At a route: copies handed to its destinations.
    Copies = "copies",
    /// At a destination: copies that came to it.
    Offered = "offered",
    /// At a destination: events durably queued.
    Enqueued = "enqueued",
    /// At a destination: events it accepted.
    Delivered = "delivered",
    /// At a source: records that could not be read. At a destination: events it refused for good.
    Quarantined = "quarantined",
    /// At a destination: events that were let go: by an operator, since they waited too long, or to make room.
    Discarded = "discarded",
    /// At a destination: events that went to another, since it held all it might.
    Spilled = "spilled",
}

impl Measure {
    /// Reads the word back.
    #[must_use]
    pub fn read(word: &str) -> Option<Measure> {
        Measure::ALL.iter().copied().find(|m| m.word() == word)
    }
}

/// A number of events and of bytes. Signed, since a step can add bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Amount {
    /// Events.
    pub events: i64,
    /// Bytes.
    pub bytes: i64,
}

impl Amount {
    /// Adds one event of so many bytes.
    #[inline]
    pub fn count(&mut self, bytes: usize) {
        self.events += 1;
        self.bytes += bytes as i64;
    }

    /// Whether it is nothing at all.
    #[must_use]
    pub fn is_zero(self) -> bool {
        self == Amount::default()
    }
}

impl std::ops::AddAssign for Amount {
    fn add_assign(&mut self, other: Amount) {
        self.events += other.events;
        self.bytes += other.bytes;
    }
}

impl std::ops::Sub for Amount {
    type Output = Amount;
    fn sub(self, other: Amount) -> Amount {
        Amount { events: self.events - other.events, bytes: self.bytes - other.bytes }
    }
}

/// What an amount is counted under.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Account {
    /// The stage that the account is kept for.
    pub stage: Stage,
    /// The name of the source, route or destination.
    pub name: String,
    /// At a route, the source the events came from; at a destination, the route. Empty where it is not told apart.
    pub via: String,
    /// At a step, its place in its list, from 1; else 0.
    pub position: i32,
    /// At a step, its canonical sentence; else empty.
    pub sentence: String,
    /// What is counted.
    pub measure: Measure,
}

impl Account {
    /// At a destination, of what came by `via`.
    #[must_use]
    pub fn at_destination(name: &str, via: &str, measure: Measure) -> Account {
        Account { stage: Stage::Destination, name: name.to_owned(), via: via.to_owned(), position: 0, sentence: String::new(), measure }
    }
}

/// An amount to be added to an account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Posting {
    /// The account.
    pub account: Account,
    /// What is added.
    pub amount: Amount,
    /// The same by the values of the tags that the plan tells apart: of each tag all of it. Empty, where that is not told ([`Account::is_by_tag`]).
    pub by_tag: Vec<TagAmount>,
}

impl Posting {
    /// What is not told apart by tags.
    #[must_use]
    pub fn new(account: Account, amount: Amount) -> Posting {
        Posting { account, amount, by_tag: Vec::new() }
    }
}

/// One equation of the account and whether it holds.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Equation {
    /// Where it stands.
    #[serde(rename = "place")]
    pub stage: Stage,
    /// The name of the source, route or destination.
    pub name: String,
    /// It in words, as `received = read + quarantined`.
    pub says: String,
    /// Left side.
    pub left: Amount,
    /// Right side.
    pub right: Amount,
}

impl Equation {
    /// Whether both sides agree, in events and in bytes.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.left == self.right
    }
}

/// Sets up every equation of design over `rows` (sums since the beginning) and `waiting` (what each destination's queue holds).
#[must_use]
pub fn balance<'a>(rows: impl IntoIterator<Item = (&'a Account, Amount)>, waiting: &BTreeMap<String, Amount>) -> Vec<Equation> {
    let mut sums: BTreeMap<(Stage, &str), BTreeMap<Measure, Amount>> = BTreeMap::new();
    let mut offered: BTreeMap<&str, Amount> = BTreeMap::new();
    for (account, amount) in rows {
        let place = sums.entry((account.stage, &account.name)).or_default();
        *place.entry(account.measure).or_default() += amount;
        if account.measure == Measure::Offered {
            *offered.entry(&account.via).or_default() += amount;
        }
    }
    for name in waiting.keys() {
        sums.entry((Stage::Destination, name)).or_default();
    }
    let mut equations = Vec::new();
    for ((stage, name), measures) in &sums {
        let of = |m: Measure| measures.get(&m).copied().unwrap_or_default();
        let sum = |parts: &[Measure]| {
            let mut total = Amount::default();
            for part in parts {
                let mut amount = of(*part);
                // Changed and rewritten events stay; only their bytes leave the sum.
                if matches!(part, Measure::Changed | Measure::Rewritten) {
                    amount.events = 0;
                }
                total += amount;
            }
            total
        };
        let mut say =
            |says: &str, left: Amount, right: Amount| equations.push(Equation { stage: *stage, name: (*name).to_owned(), says: says.to_owned(), left, right });
        match stage {
            Stage::Source => {
                say("received = read + quarantined", of(Measure::Received), sum(&[Measure::Read, Measure::Quarantined]));
                say(
                    "read = removed + held + passed",
                    of(Measure::Read),
                    sum(&[Measure::Removed, Measure::Held, Measure::Rewritten, Measure::Changed, Measure::Passed]),
                );
                say("passed = routed + remainder", of(Measure::Passed), sum(&[Measure::Routed, Measure::Remainder]));
            }
            Stage::Route => {
                say("taken = out + removed + held", of(Measure::Taken), sum(&[Measure::Out, Measure::Removed, Measure::Held, Measure::Changed]));
                say("copies = offered to destinations", of(Measure::Copies), offered.get(name).copied().unwrap_or_default());
            }
            Stage::Destination => {
                say("offered = enqueued + removed + held", of(Measure::Offered), sum(&[Measure::Enqueued, Measure::Removed, Measure::Held, Measure::Changed]));
                let mut right = sum(&[Measure::Delivered, Measure::Quarantined, Measure::Discarded, Measure::Spilled]);
                right += waiting.get(*name).copied().unwrap_or_default();
                say("enqueued = delivered + waiting + quarantined + discarded + spilled", of(Measure::Enqueued), right);
            }
        }
    }
    equations
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(stage: Stage, name: &str, via: &str, measure: Measure, events: i64, bytes: i64) -> (Account, Amount) {
        (Account { stage, name: name.into(), via: via.into(), position: 0, sentence: String::new(), measure }, Amount { events, bytes })
    }

    #[test]
    fn a_lost_event_or_byte_shows() {
        let good = vec![
            row(Stage::Source, "s", "", Measure::Received, 10, 100),
            row(Stage::Source, "s", "", Measure::Read, 9, 95),
            row(Stage::Source, "s", "", Measure::Quarantined, 1, 5),
            row(Stage::Source, "s", "", Measure::Rewritten, 2, -20),
            row(Stage::Source, "s", "", Measure::Passed, 9, 115),
            row(Stage::Source, "s", "", Measure::Routed, 8, 100),
            row(Stage::Source, "s", "", Measure::Remainder, 1, 15),
            row(Stage::Route, "r", "s", Measure::Taken, 8, 100),
            row(Stage::Route, "r", "s", Measure::Changed, 3, 7),
            row(Stage::Route, "r", "s", Measure::Out, 8, 93),
            row(Stage::Route, "r", "s", Measure::Copies, 8, 93),
            row(Stage::Destination, "d", "r", Measure::Offered, 8, 93),
            row(Stage::Destination, "d", "r", Measure::Enqueued, 8, 93),
            row(Stage::Destination, "d", "", Measure::Delivered, 5, 50),
        ];
        let waiting = BTreeMap::from([("d".to_owned(), Amount { events: 3, bytes: 43 })]);
        let check = |rows: &[(Account, Amount)]| balance(rows.iter().map(|(a, n)| (a, *n)), &waiting).iter().filter(|e| !e.holds()).count();
        assert_eq!(check(&good), 0);
        for i in 0..good.len() {
            let mut bad = good.clone();
            bad[i].1.bytes += 1;
            assert!(check(&bad) > 0, "row {i} by one byte");
            if good[i].0.measure != Measure::Changed && good[i].0.measure != Measure::Rewritten {
                let mut bad = good.clone();
                bad[i].1.events -= 1;
                assert!(check(&bad) > 0, "row {i} by one event");
            }
        }
    }

    #[test]
    fn words_read_back() {
        assert!(Measure::ALL.iter().all(|m| Measure::read(m.word()) == Some(*m)));
        assert_eq!(Stage::read("route"), Some(Stage::Route));
    }
}
