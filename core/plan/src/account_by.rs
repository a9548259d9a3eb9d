//! The tags by which the account is told apart: `account_by`, at the top of the plan.

use rockrose_event::field::Path;
use rockrose_language::{Mistake, parse_field};

use crate::checker::Checker;
use crate::section::At;

/// Most tags by which an account is told apart.
pub const MAX_TAGS: usize = 4;
/// What stands in a plan, for those who wrote something else.
const EXPECTED: &str = "fields of events, as in `account_by = [\"team\", \"port\"]`";

impl Checker<'_> {
    /// The fields that `account_by` names.
    pub(super) fn account_by(&mut self, written: &[At<String>]) -> Vec<Path> {
        let mut found: Vec<Path> = Vec::new();
        for (number, one) in written.iter().enumerate() {
            let mistake = match parse_field(&one.value) {
                Err(mistake) => self.placed(&one.at, &one.value, mistake),
                Ok(path) if found.contains(&path) => Mistake::new(one.at.clone(), format!("`{path}` stands twice")).expected(EXPECTED),
                Ok(path) if number < MAX_TAGS => {
                    found.push(path);
                    continue;
                }
                Ok(_) => Mistake::new(one.at.clone(), "the account is told apart by too many fields").expected(format!("at most {MAX_TAGS}")),
            };
            self.mistakes.push(mistake);
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use crate::{CheckedPlan, changes};

    const REST: &str =
        "[source.gates]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[destination.vault]\nkind = 'discard'\n[[route]]\nname = 'all'\nto = ['vault']\n";

    #[test]
    fn tags_are_fields_of_events() {
        let plan = CheckedPlan::read(&format!("account_by = ['team', 'host.\"site name\"']\n{REST}")).unwrap();
        assert_eq!(plan.account_by.iter().map(ToString::to_string).collect::<Vec<_>>(), ["team", "host.\"site name\""]);
        assert!(CheckedPlan::read(REST).unwrap().account_by.is_empty());
    }

    #[test]
    fn mistakes_are_pointed_at() {
        for (written, line, message) in [
            ("account_by = 'team'", 1, "unexpected a text"),
            ("account_by = [1]", 1, "unexpected a whole number"),
            ("account_by = ['team', 'port',\n 'team']", 2, "`team` stands twice"),
            ("account_by = ['a b']", 1, "unexpected `b`"),
            ("account_by = ['a', 'b', 'c', 'd', 'e']", 1, "the account is told apart by too many fields"),
            ("acount_by = ['a']", 1, "a plan has no `acount_by`"),
        ] {
            let told = CheckedPlan::read(&format!("{written}\n{REST}")).unwrap_err();
            assert_eq!((told.len(), told[0].line, told[0].message.as_str()), (1, line, message), "{written}");
        }
        // Below a section's header it would be that section's.
        let below = CheckedPlan::read(&format!("{REST}account_by = ['team']")).unwrap_err();
        assert!(below[0].expected.as_ref().is_some_and(|e| e.contains("above the first section")), "{below:?}");
    }

    #[test]
    fn a_changed_list_shows() {
        let plan = |by: &str| CheckedPlan::read(&format!("account_by = [{by}]\n{REST}")).unwrap();
        let told: Vec<String> = changes(&plan("'team', 'port'"), &plan("'team', 'vessel'")).iter().map(ToString::to_string).collect();
        assert_eq!(told, ["the account by `vessel` would be added", "the account by `port` would be removed"]);
        assert!(plan("'team'").beyond(&plan("'port'"), &["quays".to_owned()], &[]).is_some());
    }
}
