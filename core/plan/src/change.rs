//! What differs between two plans, and whether somebody who may only change what is a team's may make it so.

use std::collections::BTreeSet;

use crate::alert::Alert;
use crate::assignment::Assignment;
use crate::budget::Budget;
use crate::check::{Gate, Route};
use crate::{CheckedPlan, Destination, Example, Source};

/// A part of a plan that another plan has not, or has otherwise.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// `account by`, `source`, `table`, `destination`, `recipe`, `alert`, `budget`, `collect`, `assignment` or `route`.
    pub part: &'static str,
    /// Its name.
    pub name: String,
    /// `added`, `removed` or `changed`.
    pub change: &'static str,
    /// What was changed, a sentence each.
    pub details: Vec<String>,
}

impl std::fmt::Display for Change {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Change { part, name, change, .. } = self;
        write!(f, "the {part} `{name}` would be {change}")
    }
}

fn compare<T: PartialEq>(part: &'static str, old: &[T], new: &[T], name: fn(&T) -> &str, details: impl Fn(&T, &T) -> Vec<String>, out: &mut Vec<Change>) {
    let find = |list: &[T], n: &str| list.iter().position(|x| name(x) == n);
    for item in new {
        let (change, details) = match find(old, name(item)) {
            None => ("added", Vec::new()),
            Some(at) if old[at] != *item => ("changed", details(&old[at], item)),
            Some(_) => continue,
        };
        out.push(Change { part, name: name(item).to_owned(), change, details });
    }
    for item in old.iter().filter(|x| find(new, name(x)).is_none()) {
        out.push(Change { part, name: name(item).to_owned(), change: "removed", details: Vec::new() });
    }
}

/// Routes with their steps as they run, so that a changed recipe shows in the routes that use it.
fn expanded(plan: &CheckedPlan) -> Vec<Route> {
    plan.routes.iter().map(|r| Route { steps: plan.expanded(&r.steps), ..r.clone() }).collect()
}

/// What differs between two lists of sentences or names, each a sentence of its own.
fn listed<T: ToString>(what: &str, old: &[T], new: &[T]) -> Vec<String> {
    let [old, new] = [old, new].map(|list| list.iter().map(ToString::to_string).collect::<Vec<_>>());
    let beyond = |of: &[String], from: &[String]| {
        let mut left = from.to_vec();
        let is_new = |item: &&String| left.iter().position(|l| l == *item).map(|at| left.swap_remove(at)).is_none();
        of.iter().filter(is_new).cloned().collect::<Vec<_>>()
    };
    let mut found: Vec<String> = beyond(&old, &new).into_iter().map(|item| format!("{what} removed: {item}")).collect();
    found.extend(beyond(&new, &old).into_iter().map(|item| format!("{what} added: {item}")));
    if found.is_empty() && old != new {
        found.push(format!("each {what} stays, in another order"));
    }
    found
}

/// Assignments with their steps as they run.
fn assigned(plan: &CheckedPlan) -> Vec<Assignment> {
    plan.assignments.iter().map(|a| Assignment { steps: plan.expanded(&a.steps), ..a.clone() }).collect()
}

fn gate(when: &Gate) -> String {
    match when {
        Gate::Every => "every event".to_owned(),
        Gate::Remainder => "the remainder".to_owned(),
        Gate::Condition(condition) => condition.to_string(),
    }
}

fn route_details(old: &Route, new: &Route) -> Vec<String> {
    let mut found = Vec::new();
    if old.when != new.when {
        found.push(format!("takes {} instead of {}", gate(&new.when), gate(&old.when)));
    }
    found.extend(listed("source", &old.from, &new.from));
    found.extend(listed("step", &old.steps, &new.steps));
    found.extend(listed("destination", &old.to, &new.to));
    if old.team != new.team {
        found.push(new.team.as_ref().map_or_else(|| "belongs to no team".to_owned(), |team| format!("belongs to the team {team}")));
    }
    found
}

fn assignment_details(old: &Assignment, new: &Assignment) -> Vec<String> {
    let mut found = Vec::new();
    let hosts = |of: &Assignment| of.when.as_ref().map_or_else(|| "every host".to_owned(), |when| format!("hosts where {when}"));
    if old.when != new.when {
        found.push(format!("is for {} instead of {}", hosts(new), hosts(old)));
    }
    found.extend(listed("what is collected", &old.collect, &new.collect));
    found.extend(listed("step", &old.steps, &new.steps));
    if (old.max_rate, old.hold_at_most) != (new.max_rate, new.hold_at_most) {
        found.push("bounds what hosts send and hold otherwise".to_owned());
    }
    if old.text != new.text {
        found.push("gives another text to agents of another make".to_owned());
    }
    found
}

/// `settings` differ where nothing else does.
fn or_settings(mut found: Vec<String>, settings_differ: bool) -> Vec<String> {
    if settings_differ {
        found.push("its settings differ".to_owned());
    }
    found
}

/// The parts that were added, removed or changed from `old` to `new`. A changed recipe shows in the routes that use it.
#[must_use]
pub fn changes(old: &CheckedPlan, new: &CheckedPlan) -> Vec<Change> {
    let mut out = Vec::new();
    let source = |before: &Source, after: &Source| {
        let rest = Source { on_arrival: after.on_arrival.clone(), ..before.clone() };
        or_settings(listed("step", &before.on_arrival, &after.on_arrival), rest != *after)
    };
    let destination = |before: &Destination, after: &Destination| {
        let mut found = listed("step", &before.always, &after.always);
        if before.price != after.price {
            found.push(after.price.as_ref().map_or_else(|| "has no price any more".to_owned(), |p| format!("costs {p}")));
        }
        let rest = Destination { always: after.always.clone(), price: after.price.clone(), ..before.clone() };
        or_settings(found, rest != *after)
    };
    let [before, after] = [old, new].map(|plan| plan.account_by.iter().map(ToString::to_string).collect::<Vec<_>>());
    compare("account by", &before, &after, |tag| tag, |_, _| Vec::new(), &mut out);
    compare("source", &old.sources, &new.sources, |s| &s.name, source, &mut out);
    compare("table", &old.tables, &new.tables, |t| &t.name, |_, _| or_settings(Vec::new(), true), &mut out);
    compare("destination", &old.destinations, &new.destinations, |d| &d.name, destination, &mut out);
    let alert = |before: &Alert, after: &Alert| {
        let mut found = Vec::new();
        if before.when != after.when {
            found.push(format!("watches {} instead of {}", after.when, before.when));
        }
        let rest = Alert { when: after.when.clone(), ..before.clone() };
        or_settings(found, rest != *after)
    };
    let budget = |before: &Budget, after: &Budget| {
        let mut found = Vec::new();
        if before.allowance != after.allowance {
            found.push(format!("allows {} instead of {}", after.allowance, before.allowance));
        }
        // What is billed is told of the destination.
        let rest = Budget { allowance: after.allowance.clone(), most: after.most, prices: after.prices.clone(), ..before.clone() };
        or_settings(found, rest != *after)
    };
    compare("budget", &old.budgets, &new.budgets, |b| &b.name, budget, &mut out);
    compare("collect", &old.collects, &new.collects, |s| &s.name, source, &mut out);
    compare("assignment", &assigned(old), &assigned(new), |a| &a.name, assignment_details, &mut out);
    compare("alert", &old.alerts, &new.alerts, |a| &a.name, alert, &mut out);
    compare("route", &expanded(old), &expanded(new), |r| &r.name, route_details, &mut out);
    out
}

impl CheckedPlan {
    /// What keeps somebody from making this plan `new` who may change only the routes and recipes of `teams`, and only routes that lead to `destinations` (none: to any), in a sentence;
    /// nothing, if they may.
    ///
    /// A team's recipe that others use is theirs as well: it cannot be changed in a way that changes what their routes, sources or destinations do.
    #[must_use]
    pub fn beyond(&self, new: &CheckedPlan, teams: &[String], destinations: &[String]) -> Option<String> {
        let theirs = |team: &Option<String>| team.as_ref().is_some_and(|team| teams.contains(team));
        for change in changes(self, new) {
            let of = |plan: &CheckedPlan| plan.routes.iter().find(|route| route.name == change.name).cloned();
            let routes: Vec<Route> = if change.part == "route" { [of(self), of(new)].into_iter().flatten().collect() } else { Vec::new() };
            if routes.is_empty() || !routes.iter().all(|route| theirs(&route.team)) {
                return Some(change.to_string());
            }
            let other = routes.iter().flat_map(|route| &route.to).find(|to| !destinations.is_empty() && !destinations.contains(to));
            if let Some(to) = other {
                return Some(format!("{change}, which leads to the destination `{to}`"));
            }
        }
        // An example guards what others rely on: it may be added to, not taken away or changed.
        let same = |one: &Example, other: &Example| {
            (&one.source, &one.event) == (&other.source, &other.event)
                && one.expectations.iter().all(|e| other.expectations.iter().any(|o| (&o.destination, &o.outcome) == (&e.destination, &e.outcome)))
        };
        if let Some(example) = self.examples.iter().find(|example| !new.examples.iter().any(|kept| same(example, kept))) {
            let name = example.says.clone().unwrap_or_else(|| example.event.chars().take(60).collect());
            return Some(Change { part: "example", name, change: "changed", details: Vec::new() }.to_string());
        }
        let names: BTreeSet<&String> = self.recipes.keys().chain(new.recipes.keys()).collect();
        for name in names {
            let (before, after) = (self.recipes.get(name), new.recipes.get(name));
            if before != after && !before.into_iter().chain(after).all(|recipe| theirs(&recipe.team)) {
                let change = if before.is_none() {
                    "added"
                } else if after.is_none() {
                    "removed"
                } else {
                    "changed"
                };
                return Some(Change { part: "recipe", name: name.clone(), change, details: Vec::new() }.to_string());
            }
        }
        // The steps of sources and destinations are equal as written by now, but may use a recipe that is not.
        let source = new.sources.iter().chain(&new.collects).find(|s| self.expanded(&s.on_arrival) != new.expanded(&s.on_arrival));
        let destination = new.destinations.iter().find(|d| self.expanded(&d.always) != new.expanded(&d.always));
        let used = source.map(|s| ("source", &s.name)).or(destination.map(|d| ("destination", &d.name)));
        used.map(|(part, name)| Change { part, name: name.clone(), change: "changed", details: Vec::new() }.to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BEFORE: &str = r#"
[source.gates]
kind = "http"
listen = "127.0.0.1:1"
on_arrival = ['use shared']
[destination.desk]
kind = "discard"
[destination.vault]
kind = "discard"
[recipe.shared]
team = "gates"
steps = ['remove debug']
[recipe.own]
team = "gates"
steps = ['remove spare']
[recipe.quay]
team = "quay"
steps = ['remove spare']
[[route]]
name = "boarding"
team = "gates"
do = ['use own']
to = ["desk"]
[[route]]
name = "quay"
team = "quay"
do = ['use own']
to = ["desk"]
[[route]]
name = "everything"
to = ["vault"]
"#;

    #[test]
    fn a_change_says_what_changes() {
        let before = CheckedPlan::read(BEFORE).unwrap();
        let of = |from: &str, into: &str| {
            assert!(BEFORE.contains(from), "{from}");
            let after = CheckedPlan::read(&BEFORE.replacen(from, into, 1)).unwrap_or_else(|m| panic!("{into}: {m:?}"));
            changes(&before, &after).into_iter().map(|c| format!("{} {} {}: {}", c.part, c.name, c.change, c.details.join("; "))).collect::<Vec<_>>()
        };
        let own = "do = ['use own']\nto = [\"desk\"]";
        assert_eq!(
            of(own, "when = 'gate = 4'\ndo = ['drop gate = 5', 'use own']\nto = [\"desk\", \"vault\"]"),
            ["route boarding changed: takes gate = 4 instead of every event; step added: drop gate = 5; destination added: vault"]
        );
        assert_eq!(of("steps = ['remove debug']", "steps = ['remove a']"), Vec::<String>::new());
        assert_eq!(
            of("[recipe.own]\nteam = \"gates\"\nsteps = ['remove spare']", "[recipe.own]\nsteps = ['remove spare', 'trim message to 1 KB']"),
            ["route boarding changed: step added: trim message to 1 KB", "route quay changed: step added: trim message to 1 KB"]
        );
        assert_eq!(
            of("[destination.vault]\nkind = \"discard\"", "[destination.vault]\nkind = \"discard\"\nprice = { per_gb = 2.5 }\nalways = ['redact email']"),
            ["destination vault changed: step added: redact email; costs 2.50 EUR a GB"]
        );
        assert_eq!(of("listen = \"127.0.0.1:1\"", "listen = \"127.0.0.1:2\""), ["source gates changed: its settings differ"]);
    }

    #[test]
    fn a_team_changes_what_is_its_own_and_nothing_that_others_have_of_it() {
        let (teams, to) = (["gates".to_owned()], ["desk".to_owned()]);
        let before = CheckedPlan::read(BEFORE).unwrap();
        let beyond = |from: &str, into: &str| {
            assert!(BEFORE.contains(from), "{from}");
            let after = CheckedPlan::read(&BEFORE.replacen(from, into, 1)).unwrap_or_else(|m| panic!("{into}: {m:?}"));
            before.beyond(&after, &teams, &to)
        };
        let own = "name = \"boarding\"\nteam = \"gates\"\ndo = ['use own']\nto = [\"desk\"]";
        for (from, into) in [
            ("", "# a comment\n"),
            (own, "name = \"boarding\"\nteam = \"gates\"\nwhen = 'gate = 4'\nto = [\"desk\"]"),
            (own, &format!("{own}\n[[route]]\nname = \"more\"\nteam = \"gates\"\nto = [\"desk\"]")),
            ("[recipe.quay]", "[recipe.new]\nteam = \"gates\"\nsteps = ['remove a']\n[recipe.quay]"),
        ] {
            assert_eq!(beyond(from, into), None, "{into}");
        }
        for (from, into, says) in [
            (
                own,
                "name = \"boarding\"\nteam = \"gates\"\nto = [\"desk\", \"vault\"]",
                "the route `boarding` would be changed, which leads to the destination `vault`",
            ),
            (own, "name = \"boarding\"\nto = [\"desk\"]", "the route `boarding` would be changed"),
            ("name = \"quay\"\nteam = \"quay\"", "name = \"quay\"\nteam = \"gates\"", "the route `quay` would be changed"),
            (own, &format!("{own}\n[[route]]\nname = \"more\"\nto = [\"desk\"]"), "the route `more` would be added"),
            ("[[route]]\nname = \"everything\"\nto = [\"vault\"]\n", "", "the route `everything` would be removed"),
            (
                "[destination.vault]\nkind = \"discard\"",
                "[destination.vault]\nkind = \"discard\"\nalways = ['remove a']",
                "the destination `vault` would be changed",
            ),
            ("listen = \"127.0.0.1:1\"", "listen = \"127.0.0.1:2\"", "the source `gates` would be changed"),
            ("team = \"quay\"\nsteps = ['remove spare']", "team = \"quay\"\nsteps = ['remove a']", "the recipe `quay` would be changed"),
            // Its own recipes, where others use them.
            ("steps = ['remove spare']", "steps = ['remove a']", "the route `quay` would be changed"),
            ("steps = ['remove debug']", "steps = ['remove a']", "the source `gates` would be changed"),
        ] {
            assert_eq!(beyond(from, into).as_deref(), Some(says), "{into}");
        }
    }
}
