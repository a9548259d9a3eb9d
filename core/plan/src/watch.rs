//! The ready-made alerts of a plan: for each of its sources and destinations, and for the service itself.

use std::fmt::Write as _;
use std::mem::discriminant;

use rockrose_language::{AlertCondition, parse_alert};

use crate::sources::SourceKind;
use crate::{CheckedPlan, Source};

/// What is said of them where kits are listed.
pub const WATCH_SAYS: &str =
    "Alerts for what a plan has: sources that are silent or send too little, destinations that fail or fall behind, the ledger, the disk, tokens, agents";

/// An alert that a plan may have.
struct Proposed {
    name: String,
    when: String,
    lasting: &'static str,
    severity: &'static str,
    advice: String,
}

fn proposed(name: String, when: String, lasting: &'static str, severity: &'static str, advice: impl Into<String>) -> Proposed {
    Proposed { name, when, lasting, severity, advice: advice.into() }
}

/// Whether something outside sends to a source, so that silence means trouble.
fn is_sent_to(source: &Source) -> bool {
    !matches!(source.kind, SourceKind::Alerts(_) | SourceKind::Agents(_) | SourceKind::Journal(_))
}

fn all(plan: &CheckedPlan) -> Vec<Proposed> {
    let mut found = Vec::new();
    for source in plan.sources.iter().filter(|source| is_sent_to(source)) {
        let name = &source.name;
        let look = format!("Look with `rockrose source senders {name}` who sent last, and whether they still can.");
        found.push(proposed(format!("{name}-silent"), format!("source:{name} silent for 1 hour"), "", "error", look.as_str()));
        found.push(proposed(format!("{name}-few"), format!("events at source:{name} over 1 hour < 20 % of last week"), "10 minutes", "warn", look));
        let look = "Look with `rockrose quarantine list` what is wrong with the records.";
        found.push(proposed(
            format!("{name}-unreadable"),
            format!("events quarantined at source:{name} over 15 minutes > 5 % of events at source:{name}"),
            "",
            "warn",
            look,
        ));
    }
    for destination in &plan.destinations {
        let name = &destination.name;
        let look =
            format!("Look with `rockrose destination show {name}` what it answers, and with `rockrose destination test {name}` how far it can be reached.");
        found.push(proposed(format!("{name}-failing"), format!("destination:{name} failing for 5 minutes"), "", "error", look.as_str()));
        found.push(proposed(format!("{name}-behind"), format!("oldest event at destination:{name} > 15 minutes"), "", "warn", look.as_str()));
        let refused = format!("events quarantined at destination:{name} over 15 minutes > 0");
        found.push(proposed(
            format!("{name}-refuses"),
            refused,
            "",
            "warn",
            "Look with `rockrose quarantine list` why, mend it, and send them again with `rockrose quarantine resend`.",
        ));
        if destination.within.is_some() {
            found.push(proposed(format!("{name}-promise"), format!("promise of destination:{name} used >= 100 %"), "5 minutes", "warn", look));
        }
    }
    if plan.sources.iter().any(|source| matches!(source.kind, SourceKind::Agents(_))) {
        let look = "Look at `rockrose agent status` on the host.";
        found.push(proposed("agent-silent".into(), "any agent silent for 10 minutes".into(), "", "warn", look));
    }
    let whole = "Report it with what `rockrose ledger` prints: events may be missing.";
    found.push(proposed("ledger-off".into(), "ledger out of balance".into(), "", "fatal", whole));
    let disk = "Make room, or let less be held: a full disk stops what comes in.";
    found.push(proposed("disk-nearly-full".into(), "disk >= 90 %".into(), "5 minutes", "error", disk));
    let token = "Make another with `rockrose token make`, and give it to the program.";
    found.push(proposed("token-ends".into(), "any token ends within 168 hours".into(), "", "warn", token));
    found
}

impl CheckedPlan {
    /// The ready-made alerts that this plan does not have yet, as sections of a plan: none where an alert of the plan watches a thing of the same sort at the same place, or has the name.
    #[must_use]
    pub fn watch(&self) -> String {
        let of_sort = |a: &AlertCondition, b: &AlertCondition| {
            let quarantined = |of: &AlertCondition| of.to_string().contains(" quarantined ");
            discriminant(a) == discriminant(b) && a.place() == b.place() && quarantined(a) == quarantined(b)
        };
        let is_new = |one: &Proposed| {
            let condition = parse_alert(&one.when).ok();
            self.alerts.iter().all(|known| known.name != one.name && condition.as_ref().is_some_and(|condition| !of_sort(&known.when, condition)))
        };
        let mut text = String::new();
        for Proposed { name, when, lasting, severity, advice } in all(self).into_iter().filter(is_new) {
            // Writing to memory does not fail.
            let _ = write!(text, "{}[alert.{name}]\nwhen = '{when}'\n", if text.is_empty() { "" } else { "\n" });
            if !lasting.is_empty() {
                let _ = writeln!(text, "for = \"{lasting}\"");
            }
            let _ = write!(text, "severity = \"{severity}\"\nadvice = \"{advice}\"\n");
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PLAN: &str = "[source.gates]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[source.watch]\nkind = 'alerts'\n[destination.desk]\nkind = 'discard'\nwithin = '1 minute for 95 %'\n\
        [destination.told]\nkind = 'discard'\n[[route]]\nname = 'all'\nfrom = ['gates']\nto = ['desk']\n[[route]]\nname = 'tell'\nfrom = ['watch']\nto = ['told']\n";

    #[test]
    fn all_that_is_proposed_is_a_plan_and_nothing_is_proposed_twice() {
        let plan = CheckedPlan::read(PLAN).unwrap();
        let text = plan.watch();
        let with = CheckedPlan::read(&format!("{PLAN}\n{text}")).unwrap_or_else(|told| panic!("{told:?}\n{text}"));
        let names: Vec<&str> = with.alerts.iter().map(|alert| alert.name.as_str()).collect();
        assert_eq!(
            names,
            [
                "gates-silent",
                "gates-few",
                "gates-unreadable",
                "desk-failing",
                "desk-behind",
                "desk-refuses",
                "desk-promise",
                "told-failing",
                "told-behind",
                "told-refuses",
                "ledger-off",
                "disk-nearly-full",
                "token-ends"
            ]
        );
        assert!(with.warnings.is_empty(), "{:?}", with.warnings);
        assert_eq!(with.watch(), "");
    }

    #[test]
    fn what_the_plan_watches_already_is_left_to_it() {
        let own = "[alert.slow]\nwhen = 'oldest event at destination:desk > 1 minute'\n[alert.gates-silent]\nwhen = 'ledger out of balance'\n";
        let text = CheckedPlan::read(&format!("{PLAN}{own}")).unwrap().watch();
        for (name, stands) in
            [("desk-behind", false), ("gates-silent", false), ("ledger-off", false), ("desk-failing", true), ("told-behind", true), ("gates-few", true)]
        {
            assert_eq!(text.contains(&format!("[alert.{name}]")), stands, "{name} in\n{text}");
        }
    }
}
