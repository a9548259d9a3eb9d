//! Stages: a change of what hosts collect goes to a few of them first, then on to all, or back by itself.

use std::fmt;

use rockrose_engine::Matcher;
use rockrose_language::{Condition, parse_condition};
use sha2::{Digest, Sha256};

/// A host of the first stage may take so long to run by its new plan, in milliseconds, unless something else is said.
const TAKE_TIME_MS: i64 = 60_000;
/// What is wrong with a host for so long is wrong with what it was given, in milliseconds: files may be missing for a moment.
const PATIENCE_MS: i64 = 10_000;

/// Which of the hosts that change are first.
#[derive(Clone, Debug, PartialEq)]
pub enum First {
    /// So many in a hundred of them, one at least.
    Percent(f64),
    /// Those whose facts meet a condition.
    Meeting(Condition),
}

/// Why it is not said which hosts are first.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotFirst {
    /// The share is none.
    #[error("`{0}` is no share of hosts: more than 0 %, and less than 100 %")]
    Share(String),
    /// The condition has a mistake.
    #[error("which hosts are first is neither a share, as in `5%`, nor a condition on their facts: {0}")]
    Condition(String),
}

impl First {
    /// Reads `5%`, or a condition on facts.
    ///
    /// # Errors
    /// If it is neither.
    pub fn read(text: &str) -> Result<First, NotFirst> {
        if let Some(share) = text.trim().strip_suffix('%') {
            let percent: f64 = share.trim().parse().map_err(|_| NotFirst::Share(text.to_owned()))?;
            return if percent > 0.0 && percent < 100.0 { Ok(First::Percent(percent)) } else { Err(NotFirst::Share(text.to_owned())) };
        }
        parse_condition(text).map(First::Meeting).map_err(|mistake| NotFirst::Condition(mistake.message))
    }

    /// The ids of the hosts that are first, of those that change: each an id and its facts, one JSON object. The same ones each time.
    #[must_use]
    pub fn choose(&self, changing: &[(String, Vec<u8>)]) -> Vec<String> {
        match self {
            First::Meeting(condition) => {
                let matcher = Matcher::new(condition);
                changing.iter().filter(|(_, facts)| matcher.meets(facts, 0)).map(|(id, _)| id.clone()).collect()
            }
            First::Percent(percent) => {
                // In an order that has nothing to do with how hosts are named.
                let mut ids: Vec<([u8; 32], &String)> = changing.iter().map(|(id, _)| (Sha256::digest(id).into(), id)).collect();
                ids.sort();
                let most = (changing.len() as f64 * percent / 100.0).ceil() as usize;
                ids.into_iter().take(most).map(|(_, id)| id.clone()).collect()
            }
        }
    }
}

impl fmt::Display for First {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            First::Percent(percent) => write!(f, "{percent}%"),
            First::Meeting(condition) => condition.fmt(f),
        }
    }
}

/// How a host of the first stage stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It runs by what it was given, and nothing is wrong that was not before.
    Well,
    /// It has not taken it yet.
    Taking,
    /// Something is wrong that was not before, in a sentence.
    Ailing(String),
    /// It could not run it, in its own words; that does not mend itself.
    Refused(String),
}

/// How a stage goes, as far as it was judged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Progress {
    /// When it began, in milliseconds since 1970.
    pub started_ms: i64,
    /// How long a host may take to run by what it was given, in milliseconds.
    pub take_ms: i64,
    /// How long all of the first have to be well, in milliseconds.
    pub well_for_ms: i64,
    /// Since when they are.
    pub well_since_ms: Option<i64>,
    /// Since when one ails.
    pub ailing_since_ms: Option<i64>,
}

impl Default for Progress {
    fn default() -> Progress {
        Progress { started_ms: 0, take_ms: TAKE_TIME_MS, well_for_ms: 0, well_since_ms: None, ailing_since_ms: None }
    }
}

/// What is to be done with a stage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It is too early to tell.
    Wait,
    /// It goes on to all hosts.
    GoOn,
    /// It goes back, and why.
    GoBack(String),
}

impl Progress {
    /// Judges the hosts of the first stage, each a name and how it stands.
    pub fn judge(&mut self, hosts: &[(String, Standing)], now_ms: i64) -> Verdict {
        let (mut says, mut all_well) = (None, true);
        for (name, standing) in hosts {
            let wrong = match standing {
                Standing::Well => continue,
                Standing::Refused(why) => return Verdict::GoBack(format!("{name} cannot run it: {why}")),
                Standing::Taking if now_ms - self.started_ms < self.take_ms => None,
                Standing::Taking => return Verdict::GoBack(format!("{name} has not taken it within {} s", self.take_ms / 1_000)),
                Standing::Ailing(why) => Some(format!("{name}: {why}")),
            };
            all_well = false;
            says = says.or(wrong);
        }
        match says {
            Some(why) => {
                self.well_since_ms = None;
                let since = *self.ailing_since_ms.get_or_insert(now_ms);
                return if now_ms - since >= PATIENCE_MS { Verdict::GoBack(why) } else { Verdict::Wait };
            }
            None => self.ailing_since_ms = None,
        }
        if !all_well {
            self.well_since_ms = None;
            return Verdict::Wait;
        }
        let since = *self.well_since_ms.get_or_insert(now_ms);
        if now_ms - since >= self.well_for_ms { Verdict::GoOn } else { Verdict::Wait }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_and_a_condition_choose_the_same_hosts_each_time() {
        let hosts: Vec<(String, Vec<u8>)> = (0..200).map(|n| (format!("{n:032x}"), format!("{{\"group\":\"g{}\"}}", n % 2).into_bytes())).collect();
        let share = First::read(" 5 %").unwrap();
        let chosen = share.choose(&hosts);
        assert_eq!((chosen.len(), &chosen), (10, &share.choose(&hosts)));
        assert_ne!(chosen, hosts[..10].iter().map(|(id, _)| id.clone()).collect::<Vec<_>>(), "not simply the first by name");
        assert_eq!(share.choose(&hosts[..1]).len(), 1, "one at least");
        assert!(share.choose(&[]).is_empty());
        let condition = First::read("group = \"g1\"").unwrap();
        assert_eq!((condition.choose(&hosts).len(), condition.to_string()), (100, "group = \"g1\"".to_owned()));
        for wrong in ["0%", "100%", "-1%", "x%", "NaN%", "group ="] {
            assert!(First::read(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn it_goes_on_when_all_were_well_for_so_long_and_back_when_one_is_not() {
        let begin = |well_for_ms| Progress { started_ms: 0, well_for_ms, ..Progress::default() };
        let host = |standing: Standing| vec![("kiosk-7".to_owned(), Standing::Well), ("kiosk-8".to_owned(), standing)];
        let mut progress = begin(30_000);
        assert_eq!(progress.judge(&host(Standing::Taking), 5_000), Verdict::Wait);
        assert_eq!(progress.judge(&host(Standing::Well), 10_000), Verdict::Wait);
        assert_eq!(progress.judge(&host(Standing::Ailing("no berth".into())), 20_000), Verdict::Wait, "for a moment");
        assert_eq!(progress.judge(&host(Standing::Well), 25_000), Verdict::Wait, "it counts from anew");
        assert_eq!(progress.judge(&host(Standing::Well), 54_999), Verdict::Wait);
        assert_eq!(progress.judge(&host(Standing::Well), 55_000), Verdict::GoOn);
        let back = |says: &str| Verdict::GoBack(says.to_owned());
        let mut progress = begin(30_000);
        assert_eq!(progress.judge(&host(Standing::Refused("line 1".into())), 1_000), back("kiosk-8 cannot run it: line 1"));
        assert_eq!(progress.judge(&host(Standing::Ailing("no berth".into())), 40_000), Verdict::Wait);
        assert_eq!(progress.judge(&host(Standing::Ailing("no berth".into())), 50_000), back("kiosk-8: no berth"));
        assert_eq!(begin(0).judge(&host(Standing::Taking), 60_000), back("kiosk-8 has not taken it within 60 s"));
        assert_eq!(begin(0).judge(&[], 1), Verdict::GoOn, "nobody is left of the first");
    }
}
