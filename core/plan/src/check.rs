//! Second stage: what the document means. Names refer to something, sentences parse, values are in bounds.

use std::collections::{HashMap, HashSet, VecDeque};
use std::path::{self, Component, PathBuf};

use rockrose_event::field::Path;
use rockrose_language::{Condition, Mistake, Operation, Reference, Step, parse_condition, parse_step};
use rockrose_tables::{Match, Places, Rows, Table, TableError};

use crate::alert::Alert;
use crate::assignment::Assignment;
use crate::budget::Budget;
use crate::checker::{Checker, SecretName};
use crate::destinations::{Destination, WhenFull, spills};
use crate::edit::Part;
use crate::example::Example;
use crate::keys::{RECIPE, ROUTE, TABLE};
use crate::parse::{ParsedPlan, reports};
use crate::recipe::{Recipe, Recipes, expand, expanded_len, unknown_parameter, written_patterns};
use crate::report::Report;
use crate::section::{At, Raw, Section};
use crate::sources::{Files, Source, SourceKind};

/// Most routes, sources and destinations together.
const MAX_PARTS: usize = 20_000;
/// Most regular expressions. Each is compiled in the check, which takes most of a millisecond.
const MAX_PATTERNS: usize = 10_000;
/// Most steps that recipes may expand to in one place.
const MAX_STEPS: usize = 1_000;

/// A plan whose every part was checked. Only this can be compiled.
#[derive(Clone, Debug)]
pub struct CheckedPlan {
    /// The document.
    pub text: String,
    /// The fields of events by whose values the account is told apart.
    pub account_by: Vec<Path>,
    /// Where events come from, in the document's order.
    pub sources: Vec<Source>,
    /// Where they go.
    pub destinations: Vec<Destination>,
    /// What leads events from sources to destinations, in the order of the plan.
    pub routes: Vec<Route>,
    /// Files that steps ask.
    pub tables: Vec<TableFile>,
    /// What is watched, as it is written down; [`CheckedPlan::all_alerts`] has those of the budgets as well.
    pub alerts: Vec<Alert>,
    /// What may pass.
    pub budgets: Vec<Budget>,
    /// What agents may collect on their hosts.
    pub collects: Vec<Source>,
    /// Which hosts collect what.
    pub assignments: Vec<Assignment>,
    /// Given events, and what must become of each.
    pub examples: Vec<Example>,
    pub(super) recipes: Recipes,
    /// What is odd but not wrong.
    pub warnings: Vec<Report>,
}

/// A file that steps ask.
#[derive(Clone, Debug, PartialEq)]
pub struct TableFile {
    /// Its name in the plan.
    pub name: String,
    /// The file.
    pub path: String,
    /// What would be in the file, where the plan says it itself.
    pub text: Option<String>,
    /// What it is.
    pub kind: TableKind,
}

/// What a table's file is.
#[derive(Clone, Debug, PartialEq)]
pub enum TableKind {
    /// Rows, found by a key.
    Csv {
        /// The key's column.
        key: String,
        /// How a value meets it.
        how: Match,
    },
    /// Places of addresses.
    Places,
}

impl TableKind {
    /// Reads a table of this kind out of the bytes of its file.
    ///
    /// # Errors
    /// What is wrong with them.
    pub fn read(&self, bytes: Vec<u8>) -> Result<Table, TableError> {
        match self {
            TableKind::Csv { key, how } => Rows::read(&bytes, key, *how).map(Table::Rows),
            TableKind::Places => Places::read(bytes).map(|places| Table::Places(Box::new(places))),
        }
    }

    /// The word that it has in a plan.
    pub(super) fn word(&self) -> &'static str {
        match self {
            TableKind::Csv { .. } => "csv",
            TableKind::Places => "places",
        }
    }
}

/// Which events a route takes.
#[derive(Clone, Debug, PartialEq)]
pub enum Gate {
    /// All.
    Every,
    /// Those that meet a condition.
    Condition(Condition),
    /// Those that no other route takes.
    Remainder,
}

/// A route.
#[derive(Clone, Debug, PartialEq)]
pub struct Route {
    /// Its name.
    pub name: String,
    /// The sources it takes from; empty: all.
    pub from: Vec<String>,
    /// Which events it takes.
    pub when: Gate,
    /// What is done to them.
    pub steps: Vec<Step>,
    /// The destinations that each get a copy.
    pub to: Vec<String>,
    /// Whose it is.
    pub team: Option<String>,
}

impl Route {
    /// Whether it takes from the source called `source`.
    #[must_use]
    pub fn takes_from(&self, source: &str) -> bool {
        self.from.is_empty() || self.from.iter().any(|f| f == source)
    }
}

/// A path without `.` and `..`, as far as that can be said without looking at the files.
#[must_use]
pub fn plain_path(path: &str) -> PathBuf {
    let mut plain = PathBuf::new();
    for part in path::Path::new(path).components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir if matches!(plain.components().next_back(), Some(Component::Normal(_))) => {
                plain.pop();
            }
            Component::ParentDir if plain.has_root() => {}
            other => plain.push(other),
        }
    }
    plain
}

impl CheckedPlan {
    /// Reads and checks a plan in one go.
    pub fn read(text: &str) -> Result<CheckedPlan, Vec<Report>> {
        ParsedPlan::parse(text)?.check()
    }

    /// Reads and checks a plan in one go, and whether no two destinations write to one file, and whether tables have the columns that steps name. `resolve` says which file a path leads to:
    /// where the plan is to run, with links followed; elsewhere by the path alone ([`plain_path`]). `beginning` gives the first bytes of a table's file, if it can be read there.
    ///
    /// # Errors
    /// With all that is wrong with it.
    pub fn read_where(text: &str, resolve: impl Fn(&str) -> PathBuf, beginning: impl Fn(&str) -> Option<Vec<u8>>) -> Result<CheckedPlan, Vec<Report>> {
        let plan = ParsedPlan::parse(text)?.check_with(beginning)?;
        let shared = plan.shared_files(resolve);
        if shared.is_empty() { Ok(plan) } else { Err(shared) }
    }

    /// Destinations that would write to one file, at the places where they name it. `resolve` says which file a path leads to.
    fn shared_files(&self, resolve: impl Fn(&str) -> PathBuf) -> Vec<Report> {
        let mut found: Vec<(&Destination, PathBuf)> = Vec::new();
        let Ok(parsed) = ParsedPlan::parse(&self.text) else { return Vec::new() };
        let path_of = |name: &str| parsed.destinations.iter().find(|section| section.name.value == name)?.get("path").map(|path| path.at.clone());
        let mut mistakes = Vec::new();
        for destination in &self.destinations {
            let Some(file) = destination.kind.file().map(&resolve) else { continue };
            if let Some((other, _)) = found.iter().find(|(_, theirs)| *theirs == file) {
                for (at, other) in [(path_of(&other.name), destination), (path_of(&destination.name), other)] {
                    let mistake = Mistake::new(at.unwrap_or_default(), format!("the destination `{}` writes to this file as well", other.name));
                    mistakes.push(mistake.expected("a file of its own"));
                }
            }
            found.push((destination, file));
        }
        reports(&self.text, mistakes)
    }

    /// Warnings of sources that would read files which the service writes itself, and so feed on themselves, at the patterns that meet them. `own` says of the files of a source which those are.
    #[must_use]
    pub fn feeding_on_itself(&self, own: impl Fn(&Files) -> Vec<PathBuf>) -> Vec<Report> {
        let parsed = ParsedPlan::parse(&self.text).ok();
        let at = |name: &str| Some(parsed.as_ref()?.sources.iter().find(|section| section.name.value == name)?.get("paths")?.at.clone());
        let of = |source: &Source| {
            let SourceKind::File(files) = &source.kind else { return Vec::new() };
            let warn = |path: &PathBuf| {
                let message = format!("the source `{}` reads {}, which this service writes itself: it would feed on itself", source.name, path.display());
                Mistake::new(at(&source.name).unwrap_or_default(), message).expected("patterns that leave it out, or its name in `exclude`")
            };
            own(files).iter().map(warn).collect()
        };
        reports(&self.text, self.sources.iter().flat_map(of).collect())
    }

    /// What a destination that keeps events as they were received undoes of the redactions on the way there, in words that follow its name.
    #[must_use]
    pub fn undone_redaction(&self, destination: &Destination) -> Option<String> {
        if !destination.kind.as_received() {
            return None;
        }
        let redacts = |steps: &[Step]| self.expanded(steps).into_iter().find(|step| matches!(step.operation, Operation::Redact(_)));
        let mut on_the_way = self.routes.iter().filter(|r| r.to.contains(&destination.name)).flat_map(|route| {
            let from = self.sources.iter().filter(|s| route.takes_from(&s.name)).map(|s| (format!("the source `{}`", s.name), &s.on_arrival));
            std::iter::once((format!("the route `{}`", route.name), &route.steps)).chain(from)
        });
        let (of, step) = on_the_way.find_map(|(of, steps)| Some((of, redacts(steps)?)))?;
        Some(format!("keeps events as they were received, without what `{step}` of {of} masks"))
    }

    /// Its lists of steps, recipes written out, each with the part that it belongs to: of sources, of routes, of destinations, in the plan's order.
    pub fn lists(&self) -> impl Iterator<Item = (Part, Vec<Step>)> + '_ {
        let sources = self.sources.iter().map(|s| ("source", &s.name, &s.on_arrival));
        let routes = self.routes.iter().map(|r| ("route", &r.name, &r.steps));
        let destinations = self.destinations.iter().map(|d| ("destination", &d.name, &d.always));
        let all = sources.chain(routes).chain(destinations);
        all.map(|(kind, name, steps)| (Part { kind, name: name.clone() }, self.expanded(steps)))
    }

    /// The names of its recipes, in order.
    #[must_use]
    pub fn recipe_names(&self) -> Vec<String> {
        let mut names: Vec<String> = self.recipes.keys().cloned().collect();
        names.sort_unstable();
        names
    }

    /// The steps with every `use` replaced by its recipe's steps. A `when` on the `use` holds for each of them.
    #[must_use]
    pub fn expanded(&self, steps: &[Step]) -> Vec<Step> {
        expand(&self.recipes, steps)
    }

    /// All secrets that the plan refers to.
    #[must_use]
    pub fn secrets(&self) -> Vec<&SecretName> {
        let theirs = self.destinations.iter().flat_map(|d| d.kind.secrets());
        let mut all: Vec<_> = self.sources.iter().filter_map(|s| s.key.as_ref()).chain(theirs).collect();
        all.sort_by(|a, b| a.0.cmp(&b.0));
        all.dedup();
        all
    }
}

impl ParsedPlan {
    /// Gives the document its meaning, or says all that is wrong with it, in the document's order.
    pub fn check(self) -> Result<CheckedPlan, Vec<Report>> {
        self.check_with(|_| None)
    }

    /// As [`ParsedPlan::check`], and whether tables have the columns that steps name; `beginning` gives the first bytes of a table's file.
    fn check_with(self, beginning: impl Fn(&str) -> Option<Vec<u8>>) -> Result<CheckedPlan, Vec<Report>> {
        let patterns: usize = self.sentences().map(written_patterns).sum();
        if patterns > MAX_PATTERNS {
            let mistake = Mistake::new(0..0, format!("the plan has {patterns} regular expressions, more than {MAX_PATTERNS}"));
            return Err(reports(&self.text, vec![mistake.expected("fewer, as by one expression with `|` or by a table that `look up` asks")]));
        }
        let kind = |t: &Section| t.text("kind").map_or_else(String::new, |k| k.value.to_owned());
        let tables = self.tables.iter().map(|t| (t.name.value.clone(), kind(t))).collect();
        let mut c = Checker {
            text: &self.text,
            mistakes: self.mistakes.clone(),
            warnings: Vec::new(),
            recipes: Recipes::new(),
            tables,
            columns: HashMap::new(),
            sources: self.sources.iter().map(|s| s.name.value.clone()).collect(),
            budgets: Some(self.budgets.iter().map(|b| b.name.value.clone()).collect()),
        };
        if self.sources.len() + self.destinations.len() + self.routes.len() > MAX_PARTS {
            c.mistakes.push(Mistake::new(0..0, "more than 20 000 sources, routes and destinations"));
        }
        let tables: Vec<TableFile> = self.tables.iter().filter_map(|t| c.table(t)).collect();
        for table in &tables {
            let TableKind::Csv { key, .. } = &table.kind else { continue };
            let content = table.text.as_ref().map(|text| text.clone().into_bytes()).or_else(|| beginning(&table.path));
            if let Some(columns) = content.and_then(|content| rockrose_tables::columns(&content, key)) {
                c.columns.insert(table.name.clone(), columns);
            }
        }
        let account_by = c.account_by(&self.account_by);
        c.recipes(&self.recipes);
        let sources: Vec<Source> = self.sources.iter().filter_map(|s| c.source(s)).collect();
        let destinations: Vec<Destination> = self.destinations.iter().filter_map(|s| c.destination(s)).collect();
        c.mistakes.extend(spills(&self.destinations, &destinations));
        let routes = c.routes(&self);
        c.whole(&self, &sources, &destinations, &routes);
        let alerts = c.alerts(&self, &sources, &destinations, &routes);
        let budgets = c.budgets(&self, &destinations, &routes, &alerts);
        // What runs on hosts does not know what the account here says.
        c.budgets = None;
        let examples = c.examples(&self, &sources, &destinations);
        let collects: Vec<Source> = self.collects.iter().filter_map(|section| c.collect(section)).collect();
        let assignments = c.assignments(&self, &sources, &tables);
        let Checker { recipes, mistakes, mut warnings, .. } = c;
        if !mistakes.is_empty() {
            return Err(reports(&self.text, mistakes));
        }
        let mut plan = CheckedPlan {
            text: self.text,
            account_by,
            sources,
            destinations,
            routes,
            tables,
            alerts,
            budgets,
            collects,
            assignments,
            examples,
            recipes,
            warnings: Vec::new(),
        };
        for destination in &plan.destinations {
            let Some(undone) = plan.undone_redaction(destination) else { continue };
            let at = self.destinations.iter().find(|s| s.name.value == destination.name).and_then(|s| s.get("events")).map(|e| e.at.clone());
            let mistake = Mistake::new(at.unwrap_or_default(), format!("`{}` {undone}", destination.name));
            warnings.push(mistake.expected("`events = \"as shaped\"`, if nothing unmasked may be kept there"));
        }
        plan.warnings = reports(&plan.text, warnings);
        Ok(plan)
    }
}

impl ParsedPlan {
    /// All texts and lists of texts, among them all sentences.
    fn sentences(&self) -> impl Iterator<Item = &str> {
        let sections = [&self.sources, &self.destinations, &self.routes, &self.recipes, &self.collects, &self.assignments].into_iter().flatten();
        sections.flat_map(|section| section.entries.iter()).flat_map(|(_, entry)| match &entry.value {
            Raw::Text(text) => vec![text.as_str()],
            Raw::Texts(list) => list.iter().map(|item| item.value.as_str()).collect(),
            _ => Vec::new(),
        })
    }
}

impl Checker<'_> {
    fn recipes(&mut self, sections: &[Section]) {
        for section in sections {
            self.name(&section.name, "recipe");
            self.keys(section, RECIPE, "recipe");
            let parameters: Vec<String> = section.texts("parameters").iter().map(|p| p.value.clone()).collect();
            for (i, parameter) in section.texts("parameters").iter().enumerate() {
                self.name(parameter, "parameter");
                if parameters[..i].contains(&parameter.value) {
                    self.mistakes.push(Mistake::new(parameter.at.clone(), format!("the parameter `{}` is named twice", parameter.value)));
                }
                if !section.texts("steps").iter().any(|s| s.value.contains(&format!("${}", parameter.value))) {
                    self.warnings.push(Mistake::new(parameter.at.clone(), format!("no step uses the parameter `${}`", parameter.value)));
                }
            }
            // A step that asks for a parameter that is none would be wrong wherever the recipe is used.
            let mut texts = Vec::new();
            for step in section.texts("steps") {
                match unknown_parameter(&step.value, &parameters) {
                    Some(mistake) => {
                        let mistake = self.placed(&step.at, &step.value, mistake);
                        self.mistakes.push(mistake);
                    }
                    None => texts.push(step.value.clone()),
                }
            }
            let team = section.text("team").map(|team| team.value.to_owned());
            self.recipes.insert(section.name.value.clone(), Recipe { parameters, texts, team });
        }
        // A recipe that uses itself, by whatever way, would never end.
        for section in sections {
            // Each recipe that can be reached, and the one that it was reached from first.
            let mut reached: HashMap<String, String> = HashMap::new();
            let mut next = VecDeque::from([section.name.value.clone()]);
            while let Some(name) = next.pop_front() {
                for used in self.recipes.get(&name).map(Recipe::uses).unwrap_or_default() {
                    if !reached.contains_key(&used) {
                        reached.insert(used.clone(), name.clone());
                        next.push_back(used);
                    }
                }
            }
            if reached.contains_key(&section.name.value) {
                let mut way = vec![section.name.value.as_str()];
                while let Some(from) = reached.get(way[way.len() - 1]) {
                    way.push(from);
                    if *from == section.name.value {
                        break;
                    }
                }
                way.reverse();
                let message = format!("the recipe `{}` uses itself: {}", section.name.value, way.join(" → "));
                self.mistakes.push(Mistake::new(section.name.at.clone(), message));
                self.recipes.insert(section.name.value.clone(), Recipe { parameters: Vec::new(), texts: Vec::new(), team: None });
            }
        }
        // A recipe without parameters can be read as it stands; one with them, where it is used.
        for section in sections.iter().filter(|s| s.texts("parameters").is_empty()) {
            let readable: Vec<At<String>> = section.texts("steps").iter().filter(|s| unknown_parameter(&s.value, &[]).is_none()).cloned().collect();
            self.steps(&readable);
        }
    }

    fn table(&mut self, section: &Section) -> Option<TableFile> {
        self.name(&section.name, "table");
        self.keys(section, TABLE, "table");
        let text = section.text("text");
        let path = match (section.text("path"), &text) {
            (Some(path), None) => path.value.to_owned(),
            (None, Some(_)) => String::new(),
            (path, _) => {
                let at = path.map_or(section.name.at.clone(), |p| p.at);
                let message = format!("the table `{}` stands in a file or in the plan", section.name.value);
                self.mistakes.push(Mistake::new(at, message).expected("either `path` or `text`"));
                return None;
            }
        };
        let text = text.map(|t| t.value.to_owned());
        let kind = match section.text("kind")?.value {
            "places" => TableKind::Places,
            _ => {
                let how = section.text("match").and_then(|m| Match::ALL.into_iter().find(|w| w.word() == m.value)).unwrap_or(Match::Exact);
                let key = section.text("key")?;
                if let Some(Err(why)) = text.as_ref().map(|text| Rows::read(text.as_bytes(), key.value, how)) {
                    let at = section.get("text").map_or(key.at.clone(), |t| t.at.clone());
                    self.mistakes.push(Mistake::new(at, format!("the table `{}` cannot be read: {why}", section.name.value)));
                }
                TableKind::Csv { key: key.value.to_owned(), how }
            }
        };
        Some(TableFile { name: section.name.value.clone(), path, text, kind })
    }

    fn routes(&mut self, plan: &ParsedPlan) -> Vec<Route> {
        let sources: Vec<&str> = plan.sources.iter().map(|s| s.name.value.as_str()).collect();
        let destinations: Vec<&str> = plan.destinations.iter().map(|s| s.name.value.as_str()).collect();
        let mut seen = HashSet::new();
        let mut routes = Vec::new();
        for section in &plan.routes {
            self.keys(section, ROUTE, "route");
            let name = section.text("name");
            if let Some(name) = &name {
                self.name(&At { value: name.value.to_owned(), at: name.at.clone() }, "route");
                if !seen.insert(name.value.to_owned()) {
                    self.mistakes.push(Mistake::new(name.at.clone(), format!("there are two routes called `{}`", name.value)).expected("another name"));
                }
            }
            let refer = |list: &[At<String>], known: &[&str], what: &str, mistakes: &mut Vec<Mistake>| {
                let mut used = HashSet::new();
                for item in list {
                    if !known.contains(&item.value.as_str()) {
                        let expected = if known.is_empty() {
                            format!("a {what}, but the plan has none")
                        } else {
                            format!("one of {}", known.iter().take(12).map(|k| format!("`{k}`")).collect::<Vec<_>>().join(", "))
                        };
                        mistakes.push(
                            Mistake::new(item.at.clone(), format!("there is no {what} `{}`", item.value))
                                .expected(expected)
                                .near(&item.value, known.iter().copied()),
                        );
                    } else if !used.insert(&item.value) {
                        mistakes.push(Mistake::new(item.at.clone(), format!("the {what} `{}` is named twice", item.value)));
                    }
                }
                list.iter().map(|i| i.value.clone()).collect::<Vec<_>>()
            };
            let from = refer(section.texts("from"), &sources, "source", &mut self.mistakes);
            let to = refer(section.texts("to"), &destinations, "destination", &mut self.mistakes);
            for key in ["from", "to"] {
                if let Some(At { value: Raw::Texts(list), at }) = section.get(key)
                    && list.is_empty()
                {
                    self.mistakes.push(Mistake::new(at.clone(), format!("`{key}` is empty")).expected("at least one name"));
                }
            }
            let when = match section.text("when") {
                None => Gate::Every,
                Some(text) if text.value.trim() == "remainder" => Gate::Remainder,
                Some(text) => match parse_condition(text.value) {
                    Ok(condition) => {
                        self.may_ask(&condition, &text);
                        Gate::Condition(condition)
                    }
                    Err(mistake) => {
                        let mistake = self.placed(&text.at, text.value, mistake);
                        self.mistakes.push(mistake);
                        Gate::Every
                    }
                },
            };
            let steps = self.steps(section.texts("do"));
            let team = section.text("team").map(|team| team.value.to_owned());
            routes.push(Route { name: name.map_or_else(String::new, |n| n.value.to_owned()), from, when, steps, to, team });
        }
        routes
    }

    /// What can only be seen of the plan as a whole.
    fn whole(&mut self, plan: &ParsedPlan, sources: &[Source], destinations: &[Destination], routes: &[Route]) {
        for (i, source) in sources.iter().enumerate() {
            if let Some(other) = sources[..i].iter().find(|s| s.listen.is_some() && s.listen == source.listen && s.kind.meets(&source.kind))
                && let Some(at) = plan.sources.iter().find(|s| s.name.value == source.name).and_then(|s| s.text("listen"))
            {
                self.mistakes.push(Mistake::new(at.at, format!("`{}` listens there already", other.name)).expected("another port"));
            }
            if routes.iter().all(|r| !r.takes_from(&source.name))
                && let Some(section) = plan.sources.iter().find(|s| s.name.value == source.name)
            {
                self.warnings.push(Mistake::new(section.name.at.clone(), format!("no route takes from the source `{}`", source.name)));
            }
        }
        for section in &plan.destinations {
            let spilled = destinations.iter().any(|d| d.when_full == WhenFull::Spill(section.name.value.clone()));
            if !spilled && routes.iter().all(|r| !r.to.contains(&section.name.value)) {
                self.warnings.push(Mistake::new(section.name.at.clone(), format!("no route goes to the destination `{}`", section.name.value)));
            }
        }
        let mut sizes = HashMap::new();
        let mut metrics: HashMap<String, String> = HashMap::new();
        for (section, key) in
            plan.sources.iter().map(|s| (s, "on_arrival")).chain(plan.destinations.iter().map(|s| (s, "always"))).chain(plan.routes.iter().map(|s| (s, "do")))
        {
            let steps: Vec<Step> = section.texts(key).iter().filter_map(|t| parse_step(&t.value).ok()).collect();
            if expanded_len(&self.recipes, &steps, &mut sizes) > MAX_STEPS {
                if let Some(at) = section.get(key) {
                    self.mistakes.push(Mistake::new(at.at.clone(), "more than 1 000 steps, those of recipes included"));
                }
                continue;
            }
            for step in expand(&self.recipes, &steps) {
                let Some(Reference::Metric { name, made }) = step.operation.refers_to() else { continue };
                match metrics.get(name) {
                    Some(known) if *known != made => {
                        if let Some(at) = section.get(key) {
                            self.mistakes.push(
                                Mistake::new(at.at.clone(), format!("the metric `{name}` is made in two ways: {known}, and {made}"))
                                    .expected("the same labels everywhere, or another name"),
                            );
                        }
                    }
                    Some(_) => {}
                    None => {
                        metrics.insert(name.to_owned(), made);
                    }
                }
            }
        }
    }
}
