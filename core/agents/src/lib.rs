#![doc = include_str!("crate.md")]

mod facts;

use rockrose_engine::Matcher;
use rockrose_plan::{Assignment, CheckedPlan, Contradiction};
use sha2::{Digest, Sha256};

pub use facts::{MOST_FACTS, facts};

/// The conditions of a plan's assignments, compiled.
#[derive(Debug)]
pub struct Assigner {
    /// Of each assignment, in the plan's order; nothing: it is for every host.
    matchers: Vec<Option<Matcher>>,
}

/// What a host is to collect.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostPlan {
    /// The assignments that are for it, in the plan's order.
    pub assignments: Vec<String>,
    /// The plan of its agent, without the destination `centre`.
    pub text: String,
    /// What the assignments cannot do together. Then there is no text.
    pub contradictions: Vec<Contradiction>,
}

impl HostPlan {
    /// The SHA-256 of the text, by which agents and server name it.
    #[must_use]
    pub fn hash(&self) -> [u8; 32] {
        Sha256::digest(self.text.as_bytes()).into()
    }
}

impl Assigner {
    /// Compiles the conditions of the plan's assignments.
    #[must_use]
    pub fn new(plan: &CheckedPlan) -> Assigner {
        Assigner { matchers: plan.assignments.iter().map(|assignment| assignment.when.as_ref().map(Matcher::new)).collect() }
    }

    /// The assignments of `plan`, of which this was made, that are for a host with these facts: one JSON object.
    pub fn meeting<'a>(&self, plan: &'a CheckedPlan, facts: &[u8]) -> Vec<&'a Assignment> {
        let meets = |matcher: &Option<Matcher>| matcher.as_ref().is_none_or(|matcher| matcher.meets(facts, 0));
        plan.assignments.iter().zip(&self.matchers).filter(|(_, matcher)| meets(matcher)).map(|(assignment, _)| assignment).collect()
    }

    /// What a host with these facts is to collect.
    #[must_use]
    pub fn host(&self, plan: &CheckedPlan, facts: &[u8]) -> HostPlan {
        let meeting = self.meeting(plan, facts);
        let contradictions = plan.contradictions(&meeting);
        let text = if contradictions.is_empty() { plan.host_plan(&meeting) } else { String::new() };
        HostPlan { assignments: meeting.iter().map(|assignment| assignment.name.clone()).collect(), text, contradictions }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = "[collect.log]\nkind = \"file\"\npaths = [\"/var/log/a.log\"]\n[collect.more]\nkind = \"file\"\npaths = [\"/var/log/b.log\"]\n\
                        [assignment.all]\ncollect = [\"log\"]\n\
                        [assignment.lowmere]\nwhen = 'labels.port = \"Lowmere\" and host.name starts with \"gate\"'\ncollect = [\"more\"]\n\
                        [assignment.odd]\nwhen = 'os.type = \"windows\"'\ncollect = [\"log\"]\n";

    #[test]
    fn assignments_that_meet_a_host_add_up_and_what_contradicts_is_not_sent() {
        let plan = CheckedPlan::read(PLAN).unwrap();
        let assigner = Assigner::new(&plan);
        let host = |facts: &str| assigner.host(&plan, facts.as_bytes());
        let one = host(r#"{"host.name":"kiosk-1","labels":{"port":"Lowmere"}}"#);
        assert_eq!(one.assignments, ["all"]);
        let both = host(r#"{"host.name":"gate-1","labels":{"port":"Lowmere"}}"#);
        assert_eq!(both.assignments, ["all", "lowmere"]);
        assert!(both.text.contains("[source.more]") && both.text.starts_with(one.text.split("[[route]]").next().unwrap()), "{}", both.text);
        assert_ne!(one.hash(), both.hash());
        assert_eq!(one.hash(), host(r#"{"host.name":"other"}"#).hash(), "the same plan has the same name");
        let odd = host(r#"{"os.type":"windows"}"#);
        assert_eq!((odd.assignments.len(), odd.contradictions.len(), odd.text.as_str()), (2, 1, ""));
    }
}
