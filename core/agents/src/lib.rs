#![doc = include_str!("crate.md")]

mod facts;
mod stage;

use rockrose_engine::Matcher;
use rockrose_plan::{Assignment, CENTRE_HEADER, CheckedPlan, Contradiction};
use sha2::{Digest, Sha256};

pub use facts::{MOST_FACTS, facts};
pub use stage::{First, NotFirst, Progress, Standing, Verdict};

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
    /// What it collects: names of `[collect.NAME]`.
    pub collects: Vec<String>,
    /// The plan of its agent, without the destination `centre`.
    pub text: String,
    /// What its agent is given: that plan, or, to one of another make, the texts of the assignments.
    pub files: Vec<HostFile>,
    /// What the assignments cannot do together. Then there is no text.
    pub contradictions: Vec<Contradiction>,
}

/// A file of what an agent is given.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostFile {
    /// Its name: `plan.toml`, or the assignment's.
    pub name: String,
    /// Its media type.
    pub content_type: String,
    /// What stands in it.
    pub text: String,
}

/// The make of an agent, as far as it matters here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Make {
    /// This program.
    Ours,
    /// Another that speaks the protocol.
    Other,
}

impl HostPlan {
    /// What changes where this is followed by `next`, a sentence each.
    #[must_use]
    pub fn changes(&self, next: &HostPlan) -> Vec<String> {
        let beyond = |of: &[String], from: &[String]| of.iter().filter(|name| !from.contains(name)).cloned().collect::<Vec<_>>();
        let mut found: Vec<String> = beyond(&next.collects, &self.collects).iter().map(|name| format!("collects {name} as well")).collect();
        found.extend(beyond(&self.collects, &next.collects).iter().map(|name| format!("collects {name} no longer")));
        found.extend(beyond(&next.assignments, &self.assignments).iter().map(|name| format!("the assignment {name} is for it")));
        found.extend(beyond(&self.assignments, &next.assignments).iter().map(|name| format!("the assignment {name} is not for it any more")));
        if found.is_empty() && self.hash() != next.hash() {
            // How much may be sent and kept stands at the end.
            let collected = |plan: &HostPlan| plan.text.split(CENTRE_HEADER).next().unwrap_or_default().to_owned();
            let is_bound = !self.text.is_empty() && collected(self) == collected(next);
            let how = if is_bound { "may send or keep another amount of it" } else { "reads or shapes it otherwise" };
            found.push(format!("collects the same, but {how}"));
        }
        found
    }

    /// The SHA-256 of what the agent is given, by which it and the server name it.
    #[must_use]
    pub fn hash(&self) -> [u8; 32] {
        let mut hash = Sha256::new();
        for file in &self.files {
            hash.update(file.text.as_bytes());
        }
        hash.finalize().into()
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
    pub fn host(&self, plan: &CheckedPlan, facts: &[u8], make: Make) -> HostPlan {
        let meeting = self.meeting(plan, facts);
        let assignments = meeting.iter().map(|assignment| assignment.name.clone()).collect();
        if make == Make::Other {
            let file = |assignment: &&Assignment| {
                let (text, content_type) = assignment.text.clone()?;
                Some(HostFile { name: assignment.name.clone(), content_type, text })
            };
            return HostPlan {
                assignments,
                collects: Vec::new(),
                text: String::new(),
                files: meeting.iter().filter_map(file).collect(),
                contradictions: Vec::new(),
            };
        }
        let contradictions = plan.contradictions(&meeting);
        let text = if contradictions.is_empty() { plan.host_plan(&meeting) } else { String::new() };
        let file = HostFile { name: "plan.toml".to_owned(), content_type: "application/toml".to_owned(), text: text.clone() };
        let collects = meeting.iter().flat_map(|assignment| assignment.collect.iter().cloned()).collect();
        HostPlan { assignments, collects, text, files: vec![file], contradictions }
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
        let host = |facts: &str| assigner.host(&plan, facts.as_bytes(), Make::Ours);
        let one = host(r#"{"host.name":"kiosk-1","labels":{"port":"Lowmere"}}"#);
        assert_eq!(one.assignments, ["all"]);
        let both = host(r#"{"host.name":"gate-1","labels":{"port":"Lowmere"}}"#);
        assert_eq!(both.assignments, ["all", "lowmere"]);
        assert!(both.text.contains("[source.more]") && both.text.starts_with(one.text.split("[[route]]").next().unwrap()), "{}", both.text);
        assert_ne!(one.hash(), both.hash());
        assert_eq!(one.changes(&both), ["collects more as well", "the assignment lowmere is for it"]);
        assert_eq!(both.changes(&one), ["collects more no longer", "the assignment lowmere is not for it any more"]);
        let other = CheckedPlan::read(&PLAN.replace("/var/log/a.log", "/var/log/c.log")).unwrap();
        let shaped = Assigner::new(&other).host(&other, br#"{"host.name":"kiosk-1"}"#, Make::Ours);
        assert_eq!((one.changes(&one).len(), one.changes(&shaped)), (0, vec!["collects the same, but reads or shapes it otherwise".to_owned()]));
        let bound = CheckedPlan::read(&PLAN.replace("[assignment.all]\n", "[assignment.all]\nmax_rate = \"1 MB\"\n")).unwrap();
        let bound = Assigner::new(&bound).host(&bound, br#"{"host.name":"kiosk-1"}"#, Make::Ours);
        assert_eq!([one.changes(&bound), bound.changes(&one)].concat(), ["collects the same, but may send or keep another amount of it"; 2]);
        assert_eq!(one.hash(), host(r#"{"host.name":"other"}"#).hash(), "the same plan has the same name");
        let odd = host(r#"{"os.type":"windows"}"#);
        assert_eq!((odd.assignments.len(), odd.contradictions.len(), odd.text.as_str()), (2, 1, ""));
        let lists = CheckedPlan::read(&PLAN.replace("os.type = \"windows\"", "programs contains \"postgres\" and listening.ports contains \"5432\"")).unwrap();
        let runs = |facts: &str| Assigner::new(&lists).host(&lists, facts.as_bytes(), Make::Ours).assignments.len();
        assert_eq!(
            (runs(r#"{"programs":["cron","postgres"],"listening.ports":["22","5432"]}"#), runs(r#"{"programs":["cron"],"listening.ports":["5432"]}"#)),
            (2, 1)
        );
        let other = assigner.host(&plan, br#"{"os.type":"windows"}"#, Make::Other);
        assert!(other.files.is_empty() && other.contradictions.is_empty(), "what others are given are texts");
    }
}
