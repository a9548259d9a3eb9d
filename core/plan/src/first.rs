//! A plan to start from: a section for each thing that comes and each place it goes to, with what is changed first as comments.

use std::fmt::Write as _;

use crate::destinations::{DESTINATION_EXAMPLES, DestinationExample};
use crate::sources::{SOURCE_EXAMPLES, SourceExample};

/// What was asked for is no kind of source or destination.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("there is no {what} of kind `{kind}`; there are {}", known.join(", "))]
pub struct UnknownKind {
    /// `source` or `destination`.
    pub what: &'static str,
    /// The word that was given.
    pub kind: String,
    /// The words that there are.
    pub known: Vec<&'static str>,
}

/// A commented plan with a source of each of the kinds `from`, a destination of each of the kinds `to`, and one route that takes everything from there to there. It is good as it stands,
/// but for the paths and addresses that it has to guess.
///
/// # Errors
/// If one of the words is no kind.
pub fn first_plan(from: &[&str], to: &[&str]) -> Result<String, UnknownKind> {
    let (from, to) = (once(from), once(to));
    let mut plan = String::from(
        "# A plan to start from. Check it with `rockrose check plan.toml`, apply it with `rockrose apply plan.toml`.\n\
         # Keys are explained in docs/plan.md, sentences in docs/language.md.\n\n# What comes in.\n",
    );
    for kind in &from {
        let example = SOURCE_EXAMPLES.iter().find(|e| e.kind == *kind);
        let SourceExample { body, .. } =
            example.ok_or_else(|| UnknownKind { what: "source", kind: (*kind).to_owned(), known: SOURCE_EXAMPLES.iter().map(|e| e.kind).collect() })?;
        let _ = write!(plan, "[source.{kind}-in]\nkind = \"{kind}\"\n{body}# on_arrival = ['tag team = \"quays\"']\n\n");
    }
    plan.push_str("# Where it goes.\n");
    for kind in &to {
        let example = DESTINATION_EXAMPLES.iter().find(|e| e.kind == *kind);
        let DestinationExample { body, .. } = example.ok_or_else(|| UnknownKind {
            what: "destination",
            kind: (*kind).to_owned(),
            known: DESTINATION_EXAMPLES.iter().map(|e| e.kind).collect(),
        })?;
        let _ = write!(
            plan,
            "[destination.{kind}-out]\nkind = \"{kind}\"\n{body}# Done to every event that leaves here:\n# always = ['redact email, card keep last 4']\n\n"
        );
    }
    let names = to.iter().map(|kind| format!("\"{kind}-out\"")).collect::<Vec<_>>().join(", ");
    let _ = write!(
        plan,
        "# Which events go where, and what is done to them. Each event goes by every route that takes it.\n[[route]]\nname = \"everything\"\n\
         # when = 'severity >= warn'\n# do = ['drop path starts with \"/health\"', 'sample 1 in 10 unless severity >= error']\nto = [{names}]\n\n\
         # What no other route takes.\n# [[route]]\n# name = \"the-rest\"\n# when = \"remainder\"\n# to = [{names}]\n"
    );
    Ok(plan)
}

/// Each word once.
fn once<'a>(words: &[&'a str]) -> Vec<&'a str> {
    let mut once: Vec<&str> = Vec::new();
    for word in words {
        if !once.contains(word) {
            once.push(word);
        }
    }
    once
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::CheckedPlan;

    /// The plan with its comments taken away where they are keys, sections or lists.
    fn uncommented(plan: &str) -> String {
        let line = |l: &str| {
            l.strip_prefix("# ")
                .filter(|rest| rest.starts_with('[') || rest.split_once(" = ").is_some_and(|(key, _)| !key.contains(' ')))
                .unwrap_or(l)
                .to_owned()
        };
        plan.lines().map(|l| line(l) + "\n").collect()
    }

    #[test]
    fn a_first_plan_is_good_with_its_comments_and_without_for_every_kind() {
        for source in SOURCE_EXAMPLES {
            for destination in DESTINATION_EXAMPLES {
                let plan = first_plan(&[source.kind], &[destination.kind]).unwrap();
                for text in [&plan, &uncommented(&plan)] {
                    let read = CheckedPlan::read(text).unwrap_or_else(|e| panic!("{text}\n{e:#?}"));
                    assert!(read.warnings.is_empty(), "{text}\n{:#?}", read.warnings);
                }
                assert_ne!(uncommented(&plan), plan);
            }
        }
        let all = first_plan(&SOURCE_EXAMPLES.iter().map(|e| e.kind).collect::<Vec<_>>(), &["file", "discard", "file"]).unwrap();
        let read = CheckedPlan::read(&all).unwrap();
        assert_eq!((read.sources.len(), read.destinations.len(), read.routes[0].to.len()), (SOURCE_EXAMPLES.len(), 2, 2));
        assert_eq!(
            first_plan(&["carrier pigeon"], &[]).unwrap_err().to_string(),
            "there is no source of kind `carrier pigeon`; there are http, otlp, syslog, tcp, file, system_journal, journal, alerts, agents"
        );
    }
}
