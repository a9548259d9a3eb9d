#![doc = include_str!("crate.md")]

mod eye;
mod role;

pub use eye::Eye;
pub use role::{ROLES, Role};

use std::fmt::{self, Display, Formatter};

use rockrose_language::{Grant, Place, parse_grant};
use rockrose_plan::{CheckedPlan, Report};
use rockrose_redact::HashKey;

/// Most grants that somebody may have.
pub const MAX_GRANTS: usize = 64;

/// What a request needs of whoever makes it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Need {
    /// To be known: what shows no event and changes nothing.
    Known,
    /// To see some events; which, is asked of each.
    See,
    /// To see all events as they are, everywhere.
    SeeAll,
    /// To operate something; what, is asked of it.
    Operate,
    /// To change some of the plan; what, is asked of the change.
    Change,
    /// To change all of the plan.
    ChangeAll,
    /// To set secrets.
    Secrets,
    /// To say who may do what.
    People,
    /// To read the journal.
    Audit,
}

impl Need {
    /// The grant that is missing where it is not met, as a sentence of the language.
    #[must_use]
    pub fn grant(self) -> &'static str {
        match self {
            Need::Known => "",
            Need::See | Need::SeeAll => "see",
            Need::Operate => "operate",
            Need::Change | Need::ChangeAll => "change",
            Need::Secrets => "secrets",
            Need::People => "people",
            Need::Audit => "audit",
        }
    }
}

/// All that somebody may do. Whoever has none may do nothing.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Grants(Vec<Grant>);

impl Grants {
    /// Reads grants, a sentence each.
    ///
    /// # Errors
    /// With all that is wrong with them. The text that is pointed at is all of them, a line each.
    pub fn read(sentences: &[impl AsRef<str>]) -> Result<Grants, Vec<Report>> {
        let text = sentences.iter().map(AsRef::as_ref).collect::<Vec<&str>>().join("\n");
        let (mut grants, mut wrong, mut start) = (Vec::new(), Vec::new(), 0);
        if sentences.len() > MAX_GRANTS {
            wrong.push(Report::new(&text, &rockrose_language::Mistake::new(0..0, format!("more than {MAX_GRANTS} grants"))));
        }
        for sentence in sentences.iter().map(AsRef::as_ref).take(MAX_GRANTS) {
            match parse_grant(sentence) {
                Ok(grant) => grants.push(grant),
                Err(mut mistake) => {
                    mistake.at = mistake.at.start + start..mistake.at.end + start;
                    wrong.push(Report::new(&text, &mistake));
                }
            }
            start += sentence.len() + 1;
        }
        if wrong.is_empty() { Ok(Grants(grants)) } else { Err(wrong) }
    }

    /// The grants, one by one.
    #[must_use]
    pub fn list(&self) -> &[Grant] {
        &self.0
    }

    /// Their sentences.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        self.0.iter().map(ToString::to_string).collect()
    }

    /// Whether somebody with these grants may make a request that needs so much. What it is about is asked further on.
    #[must_use]
    pub fn allow(&self, need: Need) -> bool {
        self.0.iter().any(|grant| match (need, grant) {
            (Need::Known, _)
            | (Need::See, Grant::See { .. })
            | (Need::Operate, Grant::Operate { .. })
            | (Need::Change, Grant::Change { .. })
            | (Need::Secrets, Grant::Secrets)
            | (Need::People, Grant::People)
            | (Need::Audit, Grant::Audit) => true,
            (Need::SeeAll, Grant::See { at, when, after }) => at.is_empty() && when.is_none() && after.is_none(),
            (Need::ChangeAll, Grant::Change { teams, to }) => teams.is_empty() && to.is_empty(),
            _ => false,
        })
    }

    /// Whether they may pause, resume, test and purge what is there, and send its events again.
    #[must_use]
    pub fn operates(&self, place: &Place) -> bool {
        self.0.iter().any(|grant| matches!(grant, Grant::Operate { at } if at.is_empty() || at.contains(place)))
    }

    /// Whether they may do so everywhere.
    #[must_use]
    pub fn operates_everywhere(&self) -> bool {
        self.0.iter().any(|grant| matches!(grant, Grant::Operate { at } if at.is_empty()))
    }

    /// Whether they may make the plan `before` the plan `after`.
    ///
    /// # Errors
    /// If not: what of it they may not do, in a sentence.
    pub fn change(&self, before: &CheckedPlan, after: &CheckedPlan) -> Result<(), String> {
        if self.allow(Need::ChangeAll) {
            return Ok(());
        }
        let mut why = "no plan may be applied".to_owned();
        for grant in &self.0 {
            if let Grant::Change { teams, to } = grant {
                match before.beyond(after, teams, to) {
                    None => return Ok(()),
                    Some(beyond) => why = beyond,
                }
            }
        }
        Err(why)
    }

    /// Whether they see every event at a place as it is. Compiles nothing, unlike [`Grants::eye`].
    #[must_use]
    pub fn sees_all(&self, place: &Place) -> bool {
        self.0.iter().any(|grant| matches!(grant, Grant::See { at, when: None, after: None } if at.is_empty() || at.contains(place)))
    }

    /// The grants under which they see some of the events at a place, a sentence each; nothing, if they see all.
    #[must_use]
    pub fn bounds(&self, place: &Place) -> Option<Vec<String>> {
        let is_here = |grant: &&Grant| matches!(grant, Grant::See { at, .. } if at.is_empty() || at.contains(place));
        (!self.sees_all(place)).then(|| self.0.iter().filter(is_here).map(ToString::to_string).collect())
    }

    /// What they see of the events at a place. `key` is the one under which values are hashed.
    #[must_use]
    pub fn eye(&self, place: &Place, key: &HashKey) -> Eye {
        Eye::new(&self.0, place, key)
    }
}

impl Display for Grants {
    /// A sentence on each line.
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(&self.sentences().join("\n"))
    }
}

#[cfg(test)]
mod tests;
