//! What a destination's steps make of events that it refused, when these are to be sent to it again.

use std::collections::HashMap;

use rockrose_language::Step;

use crate::check::{CheckedPlan, Gate, Route};
use crate::checker::Checker;
use crate::destinations::Destination;
use crate::parse::reports;
use crate::report::Report;
use crate::section::At;
use crate::sources::Source;

/// The only source of a plan that [`CheckedPlan::anew`] makes.
const SOURCE: &str = "again";

impl Destination {
    /// The place among its steps, those of recipes included, from which they can be done anew: behind the last that is done to each event once.
    #[must_use]
    pub fn anew(&self, plan: &CheckedPlan) -> usize {
        plan.expanded(&self.always).iter().rposition(Step::is_done_once).map_or(0, |at| at + 1)
    }
}

impl CheckedPlan {
    /// Reads sentences that are to be steps of this plan: they may use its recipes and ask its tables.
    ///
    /// # Errors
    /// With all that is wrong with them. The text that is pointed at is all of them, a line each.
    pub fn steps(&self, sentences: &[String]) -> Result<Vec<Step>, Vec<Report>> {
        let text = sentences.join("\n");
        let mut start = 0;
        let at = sentences.iter().map(|sentence| {
            let at = start..start + sentence.len();
            start = at.end + 1;
            At { value: sentence.clone(), at }
        });
        let written: Vec<At<String>> = at.collect();
        let mut checker = Checker {
            text: &text,
            mistakes: Vec::new(),
            warnings: Vec::new(),
            recipes: self.recipes.clone(),
            tables: self.tables.iter().map(|t| (t.name.clone(), t.kind.word().to_owned())).collect(),
            columns: HashMap::new(),
            sources: self.sources.iter().map(|s| s.name.clone()).collect(),
            budgets: Some(self.budgets.iter().map(|b| b.name.clone()).collect()),
        };
        let steps = checker.steps(&written);
        if checker.mistakes.is_empty() { Ok(steps) } else { Err(reports(&text, checker.mistakes)) }
    }

    /// A plan of one source, one route called `via` and the destination called `destination`, for events that stand as they stood before that destination's steps: these, and `first`
    /// before them, are all that it does. Steps that are done to each event once were done, and are not among them. `None` if this plan has no such destination.
    #[must_use]
    pub fn anew(&self, destination: &str, via: &str, first: &[Step]) -> Option<CheckedPlan> {
        let destination = self.destinations.iter().find(|d| d.name == destination)?;
        let mut always = self.expanded(first);
        always.extend(self.expanded(&destination.always).split_off(destination.anew(self)));
        // Some source that can say all that events may have in common.
        let source = self.sources.iter().find(|s| s.kind.has_resources()).or_else(|| self.sources.first()).cloned().or_else(any_source)?;
        Some(CheckedPlan {
            text: String::new(),
            account_by: self.account_by.clone(),
            sources: vec![Source { name: SOURCE.to_owned(), on_arrival: Vec::new(), ..source }],
            routes: vec![Route {
                name: via.to_owned(),
                from: Vec::new(),
                when: Gate::Every,
                steps: Vec::new(),
                to: vec![destination.name.clone()],
                team: None,
            }],
            destinations: vec![Destination { always, ..destination.clone() }],
            tables: self.tables.clone(),
            alerts: Vec::new(),
            budgets: Vec::new(),
            collects: Vec::new(),
            assignments: Vec::new(),
            examples: Vec::new(),
            recipes: crate::recipe::Recipes::new(),
            warnings: Vec::new(),
        })
    }
}

impl CheckedPlan {
    /// A plan of one source with these steps, and nothing else.
    #[must_use]
    pub fn on_arrival(steps: &[Step]) -> Option<CheckedPlan> {
        let source = Source { on_arrival: steps.to_vec(), max_event: u64::MAX, ..any_source()? };
        let recipes = crate::recipe::Recipes::new();
        Some(CheckedPlan {
            text: String::new(),
            account_by: Vec::new(),
            sources: vec![source],
            routes: Vec::new(),
            destinations: Vec::new(),
            tables: Vec::new(),
            alerts: Vec::new(),
            budgets: Vec::new(),
            collects: Vec::new(),
            assignments: Vec::new(),
            examples: Vec::new(),
            recipes,
            warnings: Vec::new(),
        })
    }
}

/// A source, for a plan that has none.
fn any_source() -> Option<Source> {
    CheckedPlan::read("[source.any]\nkind = \"otlp\"\nlisten = \"127.0.0.1:4318\"").ok()?.sources.pop()
}

#[cfg(test)]
mod tests {
    use crate::CheckedPlan;

    fn plan(always: &str) -> CheckedPlan {
        let text = format!(
            "[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[recipe.tidy]\nsteps = ['remove debug.*']\n[destination.desk]\nkind = \"discard\"\nalways = [{always}]\n[[route]]\nname = \"all\"\nto = [\"desk\"]\n"
        );
        CheckedPlan::read(&text).unwrap()
    }

    #[test]
    fn steps_that_are_done_once_are_not_done_anew() {
        for (always, anew) in [
            ("", ""),
            ("'redact email', 'use tidy'", "redact email; remove debug.*"),
            ("'tag a = 1', 'sample 1 in 10', 'use tidy', 'drop n = 1'", "remove debug.*; drop n = 1"),
            ("'merge repeats within 3 seconds by message', 'limit 3 per second'", ""),
        ] {
            let of = plan(always);
            let first = of.steps(&["set port = \"Lowmere\"".to_owned()]).unwrap();
            for (first, begin) in [(&[][..], ""), (&first[..], "set port = \"Lowmere\"")] {
                let again = of.anew("desk", "all", first).unwrap();
                let sentences: Vec<String> = again.destinations[0].always.iter().map(ToString::to_string).collect();
                let expected: Vec<&str> = [begin, anew].into_iter().filter(|s| !s.is_empty()).collect();
                assert_eq!(sentences.join("; "), expected.join("; "));
                assert!(again.sources[0].on_arrival.is_empty() && again.routes[0].name == "all");
            }
        }
        assert!(plan("").anew("vault", "all", &[]).is_none());
    }

    #[test]
    fn a_sentence_that_is_wrong_is_pointed_at() {
        let wrong = plan("").steps(&["use tidy".to_owned(), "remov a".to_owned(), "use tydy".to_owned()]).unwrap_err();
        assert_eq!(wrong.iter().map(|r| (r.line, r.nearest.as_deref())).collect::<Vec<_>>(), [(2, Some("remove")), (3, Some("tidy"))]);
    }
}
