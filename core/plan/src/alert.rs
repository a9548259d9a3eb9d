//! Alerts: what is watched, for how long it must be so, and what is told of it.

use std::time::Duration;

use rockrose_event::level::Level;
use rockrose_language::{AlertCondition, Bound, Counted, Mistake, Place, Reference, Side, Step, parse_alert};

use crate::checker::Checker;
use crate::keys::ALERT;
use crate::parse::ParsedPlan;
use crate::recipe::expand;
use crate::section::At;
use crate::{Destination, Route, Source, SourceKind};

/// Longest time for which a condition must hold, and after which it is told again.
const LONGEST: Duration = Duration::from_secs(7 * 86_400);

/// Something that is watched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Alert {
    /// Its name.
    pub name: String,
    /// What is trouble.
    pub when: AlertCondition,
    /// For so long it must be so.
    pub lasting: Duration,
    /// What ends it; nothing: that the condition does not hold any more.
    pub until: Option<AlertCondition>,
    /// How grave it is.
    pub severity: Level,
    /// What to do about it, in its author's words.
    pub advice: Option<String>,
    /// After so long it is told again, while it lasts; nothing: it is told once.
    pub again: Option<Duration>,
}

impl Checker<'_> {
    pub(super) fn alerts(&mut self, plan: &ParsedPlan, sources: &[Source], destinations: &[Destination], routes: &[Route]) -> Vec<Alert> {
        let steps = sources.iter().map(|s| &s.on_arrival).chain(destinations.iter().map(|d| &d.always)).chain(routes.iter().map(|r| &r.steps));
        // Recipes that have mistakes, or expand to too much, are told of elsewhere.
        let can_expand = !plan.alerts.is_empty() && self.mistakes.is_empty();
        let steps: Vec<Step> = if can_expand { steps.flat_map(|steps| expand(&self.recipes, steps)).collect() } else { Vec::new() };
        let metric = |step: &Step| match step.operation.refers_to() {
            Some(Reference::Metric { name, .. }) => Some(name.to_owned()),
            _ => None,
        };
        let metrics: Option<Vec<String>> = can_expand.then(|| steps.iter().filter_map(metric).collect());
        let mut found = Vec::new();
        for section in &plan.alerts {
            self.name(&section.name, "alert");
            self.keys(section, ALERT, "alert");
            let when = section.text("when").and_then(|when| self.watched(&when, plan, metrics.as_deref()));
            let until = section.text("until").and_then(|until| self.watched(&until, plan, metrics.as_deref()));
            let lasting = section.text("for").map_or(Duration::ZERO, |_| self.duration_up_to(section, "for", Duration::ZERO, LONGEST));
            let again = section.text("again").map(|_| self.duration_up_to(section, "again", Duration::ZERO, LONGEST));
            let severity = section.text("severity").and_then(|s| Level::ALL.into_iter().find(|level| level.word() == s.value)).unwrap_or(Level::Warn);
            let Some(when) = when else { continue };
            let advice = section.text("advice").map(|advice| advice.value.to_owned());
            found.push(Alert { name: section.name.value.clone(), when, lasting, until, severity, advice, again });
        }
        // What is told to nobody is seen only by those who look.
        let tells = |source: &Source| matches!(source.kind, SourceKind::Alerts(_)) && routes.iter().any(|route| route.takes_from(&source.name));
        if let Some(first) = plan.alerts.iter().chain(&plan.budgets).next().filter(|_| !destinations.is_empty() && !sources.iter().any(tells)) {
            let warning = Mistake::new(first.name.at.clone(), "alerts are shown, but nobody is told of them");
            self.warnings.push(warning.expected("a source of kind `alerts`, by which they come as events, and a route from it to whoever is to be told"));
        }
        found
    }

    /// What an alert watches, if it can be read and the plan has its place.
    fn watched(&mut self, written: &At<&str>, plan: &ParsedPlan, metrics: Option<&[String]>) -> Option<AlertCondition> {
        let condition = match parse_alert(written.value) {
            Ok(condition) => condition,
            Err(mistake) => {
                let mistake = self.placed(&written.at, written.value, mistake);
                self.mistakes.push(mistake);
                return None;
            }
        };
        let places: Vec<Place> = condition
            .place()
            .into_iter()
            .chain(condition.counted().into_iter().filter_map(|counted| match counted {
                Counted::At { place, .. } => Some(place.clone()),
                Counted::Metric(_) => None,
            }))
            .collect();
        let named = places.iter().filter_map(|place| plan.names_of(place));
        let budget = match &condition {
            AlertCondition::Budget { test, .. } => Some(("budget", test.budget.as_str(), plan.budgets.iter().map(|b| b.name.value.as_str()).collect())),
            _ => None,
        };
        let metrics = condition.counted().into_iter().filter_map(|counted| match counted {
            Counted::Metric(name) => metrics.map(|metrics| ("metric", name.as_str(), metrics.iter().map(String::as_str).collect())),
            Counted::At { .. } => None,
        });
        if let Some((what, name, known)) = named.chain(budget).chain(metrics).find(|(_, name, known): &(_, _, Vec<&str>)| !known.contains(name)) {
            let at = written.value.find(name).unwrap_or(0);
            let mistake = Mistake::new(at..at + name.len(), format!("there is no {what} `{name}`")).expected(format!("a {what} of this plan"));
            let mistake = self.placed(&written.at, written.value, mistake.near(name, known));
            self.mistakes.push(mistake);
            return None;
        }
        if let AlertCondition::Promise { destination, .. } = &condition
            && plan.destinations.iter().any(|d| d.name.value == *destination && d.text("within").is_none())
        {
            let at = written.value.find(destination.as_str()).unwrap_or(0);
            let mistake = Mistake::new(at..at + destination.len(), format!("the destination `{destination}` promises nothing"));
            let mistake = self.placed(&written.at, written.value, mistake);
            self.mistakes.push(mistake.expected("a promise there, as in `within = \"30 seconds for 99 %\"`"));
            return None;
        }
        if let AlertCondition::Volume { side: Side::Below, bound: Bound::Events(0), .. } = condition {
            let mistake = self.placed(&written.at, written.value, Mistake::new(0..written.value.len(), "this can never be so: no number is below 0"));
            self.mistakes.push(mistake.expected("`< 1`, for no event at all"));
            return None;
        }
        Some(condition)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use rockrose_event::level::Level;

    use crate::{CheckedPlan, canonical};

    const PLAN: &str = "[source.gates]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[source.watch]\nkind = \"alerts\"\n[destination.desk]\nkind = \"discard\"\n\
                        [[route]]\nname = \"all\"\ndo = ['count as gates']\nto = [\"desk\"]\n";

    fn read(lines: &str) -> Result<CheckedPlan, Vec<crate::Report>> {
        CheckedPlan::read(&format!("{PLAN}[alert.late]\n{lines}\n"))
    }

    #[test]
    fn alerts_are_read_and_their_mistakes_pointed_at() {
        let plan = read(
            "when = 'oldest event at destination:desk>10 minutes'\nfor = \"2 minutes\"\nuntil = 'oldest event at destination:desk > 1 minute'\nseverity = \"error\"\n\
             advice = \"Call the desk.\"\nagain = \"2 hours\"",
        )
        .unwrap();
        let alert = &plan.alerts[0];
        assert_eq!((alert.name.as_str(), alert.when.to_string().as_str()), ("late", "oldest event at destination:desk > 10 minutes"));
        assert_eq!((alert.lasting, alert.again), (Duration::from_secs(120), Some(Duration::from_secs(7_200))));
        assert_eq!((alert.severity, alert.advice.as_deref(), alert.until.is_some()), (Level::Error, Some("Call the desk."), true));
        assert!(canonical(&plan.text).unwrap().contains("when = 'oldest event at destination:desk > 10 minutes'"));
        let plain = read("when = 'ledger out of balance'").unwrap();
        assert_eq!(read("when = 'metric gates over 1 hour < 5'").unwrap().alerts.len(), 1);
        assert_eq!((plain.alerts[0].severity, plain.alerts[0].lasting, plain.warnings.len()), (Level::Warn, Duration::ZERO, 0));
        for (lines, line, says) in [
            ("", 12, "the alert `late` needs `when`"),
            ("when = 'events at route:al over 5 minutes > 5'", 13, "there is no route `al`"),
            ("when = 'source:gate silent for 5 minutes'", 13, "there is no source `gate`"),
            ("when = 'waiting at destination:dusk > 5 GB'", 13, "there is no destination `dusk`"),
            ("when = 'promise of destination:desk used >= 100 %'", 13, "the destination `desk` promises nothing"),
            ("when = 'metric gats over 5 minutes > 5'", 13, "there is no metric `gats`"),
            ("when = 'events at route:all over 5 minutes > 5 % of events at source:gats'", 13, "there is no source `gats`"),
            ("when = 'events at route:all over 5 minutes < 0'", 13, "this can never be so"),
            ("when = 'events at route:all over 5 seconds > 0'", 13, "counted by the minute"),
            ("when = 'ledger out of balance'\nuntil = 'ledger'", 14, "unexpected `ledger`"),
            ("when = 'ledger out of balance'\nfor = \"soon\"", 14, "`soon` is not a time"),
            ("when = 'ledger out of balance'\nseverity = \"grave\"", 14, "unexpected `grave`"),
            ("when = 'ledger out of balance'\ntell = [\"ann\"]", 14, "an alert has no `tell`"),
        ] {
            let reports = read(lines).unwrap_err();
            assert!(reports.iter().any(|r| r.line == line && r.message.contains(says)), "{lines}: {reports:?}");
        }
    }

    #[test]
    fn alerts_that_nobody_is_told_of_are_warned_of() {
        let alert = "[alert.late]\nwhen = 'ledger out of balance'\n";
        let warned = |plan: &str| CheckedPlan::read(&format!("{plan}{alert}")).unwrap().warnings.iter().any(|w| w.message.contains("nobody is told"));
        assert!(!warned(PLAN), "the route takes from every source");
        assert!(warned(&PLAN.replace("to = [", "from = [\"gates\"]\nto = [")));
        assert!(warned(&PLAN.replace("[source.watch]\nkind = \"alerts\"\n", "")));
    }
}
