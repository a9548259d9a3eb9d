//! Examples: given events, and what must hold of each at the destinations. They are run whenever the plan is checked where it is to run, and before every apply.

use std::fmt::{self, Display, Formatter};
use std::ops::Range;

use rockrose_language::{Condition, Mistake, parse_condition};

use crate::checker::Checker;
use crate::keys::EXAMPLE;
use crate::parse::ParsedPlan;
use crate::report::Report;
use crate::section::{At, Raw};
use crate::{Destination, Source};

/// An event, and what must become of it.
#[derive(Clone, Debug, PartialEq)]
pub struct Example {
    /// What it shows, in its author's words.
    pub says: Option<String>,
    /// The source that it comes by.
    pub source: String,
    /// The event, as a sender sends it: a JSON object, or a line of text.
    pub event: String,
    /// What must hold of it at each destination that it names.
    pub expectations: Vec<Expectation>,
}

/// What must become of an event at a destination.
#[derive(Clone, Debug, PartialEq)]
pub struct Expectation {
    /// The destination.
    pub destination: String,
    /// What must hold.
    pub outcome: Expected,
    /// Where it stands in the document.
    pub at: Range<usize>,
}

/// What must hold.
#[derive(Clone, Debug, PartialEq)]
pub enum Expected {
    /// It is sent there, and as it is sent, it meets this.
    Meets(Condition),
    /// A step on its way there removes it.
    Removed,
    /// It is not sent there.
    NotSent,
}

impl Display for Expected {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Expected::Meets(condition) => condition.fmt(f),
            Expected::Removed => f.write_str("removed"),
            Expected::NotSent => f.write_str("not sent"),
        }
    }
}

impl Expectation {
    /// What is said at its place in the plan.
    #[must_use]
    pub fn report(&self, plan: &str, message: impl Into<String>) -> Report {
        Report::new(plan, &Mistake::new(self.at.clone(), message.into()))
    }
}

impl Checker<'_> {
    pub(super) fn examples(&mut self, plan: &ParsedPlan, sources: &[Source], destinations: &[Destination]) -> Vec<Example> {
        let mut found = Vec::new();
        for section in &plan.examples {
            self.keys(section, EXAMPLE, "example");
            let known: Vec<&str> = sources.iter().map(|s| s.name.as_str()).collect();
            if let Some(source) = section.text("source")
                && !known.contains(&source.value)
            {
                let mistake = Mistake::new(source.at.clone(), format!("there is no source `{}`", source.value));
                self.mistakes.push(mistake.expected("a source of the plan").near(source.value, known.iter().copied()));
            }
            let Some(At { value: Raw::Expectations(list), at }) = section.get("expect") else { continue };
            if list.is_empty() {
                self.mistakes.push(Mistake::new(at.clone(), "`expect` is empty").expected("at least one destination: `{ desk = \"severity = warn\" }`"));
            }
            let names: Vec<&str> = destinations.iter().map(|d| d.name.as_str()).collect();
            let mut expectations = Vec::new();
            for (destination, written) in list {
                if !names.contains(&destination.value.as_str()) {
                    let mistake = Mistake::new(destination.at.clone(), format!("there is no destination `{}`", destination.value));
                    self.mistakes.push(mistake.expected("a destination of the plan").near(&destination.value, names.iter().copied()));
                }
                let outcome = match written.value.trim() {
                    "removed" => Expected::Removed,
                    "not sent" => Expected::NotSent,
                    text => match parse_condition(text) {
                        Ok(condition) => {
                            self.may_ask(&condition, &At { value: &written.value, at: written.at.clone() });
                            Expected::Meets(condition)
                        }
                        Err(mistake) => {
                            let mistake = self.placed(&written.at, &written.value, mistake);
                            self.mistakes.push(mistake);
                            continue;
                        }
                    },
                };
                expectations.push(Expectation { destination: destination.value.clone(), outcome, at: written.at.clone() });
            }
            let (Some(source), Some(event)) = (section.text("source"), section.text("event")) else { continue };
            let says = section.text("says").map(|says| says.value.to_owned());
            found.push(Example { says, source: source.value.to_owned(), event: event.value.to_owned(), expectations });
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use crate::{CheckedPlan, Expected};

    const PLAN: &str =
        "[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.desk]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"desk\"]\n";

    #[test]
    fn examples_are_read_and_their_mistakes_pointed_at() {
        let example = |lines: &str| CheckedPlan::read(&format!("{PLAN}[[example]]\n{lines}\n"));
        let plan = example("says = \"a gate\"\nsource = \"gates\"\nevent = '{\"gate\":4}'\nexpect = { desk = \"gate = 4\" }").unwrap();
        assert_eq!((plan.examples.len(), plan.examples[0].event.as_str(), plan.examples[0].says.as_deref()), (1, "{\"gate\":4}", Some("a gate")));
        assert!(matches!(&plan.examples[0].expectations[..], [e] if e.destination == "desk" && matches!(e.outcome, Expected::Meets(_))));
        let outcome = |word: &str| {
            example(&format!("source = \"gates\"\nevent = \"x\"\nexpect = {{ desk = \"{word}\" }}")).map(|p| p.examples[0].expectations[0].outcome.clone())
        };
        assert_eq!((outcome("removed").unwrap(), outcome("not sent").unwrap()), (Expected::Removed, Expected::NotSent));
        for (lines, line, says) in [
            ("source = \"gate\"\nevent = \"x\"\nexpect = { desk = \"removed\" }", 10, "there is no source `gate`"),
            ("source = \"gates\"\nevent = \"x\"\nexpect = { desc = \"removed\" }", 12, "there is no destination `desc`"),
            ("source = \"gates\"\nevent = \"x\"\nexpect = { desk = \"gate =\" }", 12, "ends too early"),
            ("source = \"gates\"\nevent = \"x\"\nexpect = { desk = 4 }", 12, "unexpected a whole number"),
            ("source = \"gates\"\nevent = \"x\"\nexpect = {}", 12, "`expect` is empty"),
            ("source = \"gates\"\nevent = \"x\"", 9, "`expect`"),
            ("source = \"gates\"\nevents = \"x\"\nexpect = { desk = \"removed\" }", 11, "an example has no `events`"),
        ] {
            let reports = example(lines).unwrap_err();
            assert!(reports.iter().any(|r| r.line == line && r.message.contains(says)), "{lines}: {reports:?}");
        }
    }
}
