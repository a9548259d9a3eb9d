//! Assignments: which hosts collect what, and the plan that an agent is given.

use std::collections::{BTreeSet, VecDeque};
use std::fmt::Write as _;

use rockrose_event::json;
use rockrose_language::{Condition, Mistake, Operation, Reference, Step, parse_condition};

use crate::check::{CheckedPlan, TableFile};
use crate::checker::{Checker, MB};
use crate::edit::{EditError, Part, apart};
use crate::keys::ASSIGNMENT;
use crate::parse::{ParsedPlan, reports};
use crate::recipe::expand;
use crate::report::Report;
use crate::section::{At, Section};
use crate::sources::{Source, SourceKind};

/// The destination to which the plan of an agent sends everything. The agent adds it itself.
pub const CENTRE: &str = "centre";
/// How its section begins. The plan of an agent ends with it, where assignments bound what is sent and what waits.
pub const CENTRE_HEADER: &str = "[destination.centre]";

/// What hosts that meet a condition collect.
#[derive(Clone, Debug, PartialEq)]
pub struct Assignment {
    /// Its name.
    pub name: String,
    /// Which hosts it is for, by what their agents say of them; nothing: all.
    pub when: Option<Condition>,
    /// What they collect: names in [`CheckedPlan::collects`].
    pub collect: Vec<String>,
    /// What is done to each event before it leaves the host.
    pub steps: Vec<Step>,
    /// Most bytes that their agents send in a second.
    pub max_rate: Option<u64>,
    /// Most bytes that may wait on them.
    pub hold_at_most: Option<u64>,
    /// The configuration of agents of another make, and its media type.
    pub text: Option<(String, String)>,
}

/// Why a host that meets several assignments cannot do what they say together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contradiction {
    /// The assignments.
    pub assignments: Vec<String>,
    /// What they cannot do together, in a sentence without the host.
    pub says: String,
}

impl Checker<'_> {
    /// A source that is opened on hosts.
    pub(super) fn collect(&mut self, section: &Section) -> Option<Source> {
        let source = self.source(section)?;
        if matches!(source.kind, SourceKind::Journal(_) | SourceKind::Alerts(_) | SourceKind::Agents(_)) {
            let at = section.text("kind").map_or(section.name.at.clone(), |kind| kind.at);
            let message = format!("agents collect no source of kind `{}`", source.kind.word());
            self.mistakes.push(Mistake::new(at, message).expected("one of \"file\", \"system_journal\", \"syslog\", \"otlp\", \"http\", \"tcp\""));
        }
        if let Some(key) = section.get("key") {
            self.mistakes
                .push(Mistake::new(key.at.clone(), "secrets are not given to agents").expected("a source that listens on the host alone, as on 127.0.0.1"));
        }
        Some(source)
    }

    pub(super) fn assignments(&mut self, plan: &ParsedPlan, sources: &[Source], tables: &[TableFile]) -> Vec<Assignment> {
        let known: Vec<&str> = plan.collects.iter().map(|section| section.name.value.as_str()).collect();
        let mut found: Vec<Assignment> = Vec::new();
        for section in &plan.assignments {
            self.name(&section.name, "assignment");
            self.keys(section, ASSIGNMENT, "assignment");
            let when = section.text("when").and_then(|text| match parse_condition(text.value) {
                Ok(condition) => {
                    self.may_ask(&condition, &text);
                    Some(condition)
                }
                Err(mistake) => {
                    let mistake = self.placed(&text.at, text.value, mistake);
                    self.mistakes.push(mistake);
                    None
                }
            });
            let mut collect: Vec<String> = Vec::new();
            for name in section.texts("collect") {
                if !known.contains(&name.value.as_str()) {
                    let mistake = Mistake::new(name.at.clone(), format!("there is no `[collect.{}]`", name.value)).expected("the name of what is collected");
                    self.mistakes.push(mistake.near(&name.value, known.iter().copied()));
                } else if collect.contains(&name.value) {
                    self.mistakes.push(Mistake::new(name.at.clone(), format!("`{}` is named twice", name.value)));
                }
                collect.push(name.value.clone());
            }
            if let Some(empty) = section.get("collect").filter(|_| section.texts("collect").is_empty()) {
                self.mistakes.push(Mistake::new(empty.at.clone(), "`collect` is empty").expected("at least one name of `[collect.NAME]`"));
            }
            let steps = self.edge_steps(section, "do", tables);
            let content_type = section.text("content_type").map_or("text/yaml", |written| written.value);
            let text = section.text("text").map(|text| (text.value.to_owned(), content_type.to_owned()));
            if collect.is_empty() && text.is_none() && section.get("collect").is_none() && !section.flawed {
                let mistake = Mistake::new(section.name.at.clone(), format!("the assignment `{}` assigns nothing", section.name.value));
                self.mistakes.push(mistake.expected("`collect`, for agents of this make, or `text`, for those of another"));
            }
            if let (None, Some(at)) = (&text, section.get("content_type")) {
                self.mistakes.push(Mistake::new(at.at.clone(), "there is no `text` of which this would be said"));
            }
            let mut bound = |key: &str, most: u64| section.text(key).map(|_| self.size(section, key, 0, most)).filter(|bytes| *bytes > 0);
            let (max_rate, hold_at_most) = (bound("max_rate", 10_000 * MB), bound("hold_at_most", 10_000_000 * MB));
            found.push(Assignment { name: section.name.value.clone(), when, collect, steps, max_rate, hold_at_most, text });
        }
        for section in &plan.collects {
            self.edge_steps_again(section, tables);
            if !found.iter().any(|assignment| assignment.collect.contains(&section.name.value)) {
                self.warnings.push(Mistake::new(section.name.at.clone(), format!("no assignment collects `{}`", section.name.value)));
            }
        }
        let has_door = sources.iter().any(|source| matches!(source.kind, SourceKind::Agents(_)));
        if let Some(first) = plan.assignments.first().filter(|_| !has_door) {
            let warning = Mistake::new(first.name.at.clone(), "nothing is assigned: there is no source for agents");
            self.warnings.push(warning.expected("a source of kind `agents`, at which agents enrol"));
        }
        found
    }

    /// Steps that are done on hosts.
    fn edge_steps(&mut self, section: &Section, key: &str, tables: &[TableFile]) -> Vec<Step> {
        let steps = self.steps(section.texts(key));
        self.ask_only_what_is_sent(section.texts(key), &steps, tables);
        steps
    }

    /// As [`Checker::edge_steps`], for steps whose own mistakes were told before.
    fn edge_steps_again(&mut self, section: &Section, tables: &[TableFile]) {
        let written = section.texts("on_arrival");
        let steps: Vec<Step> = written.iter().filter_map(|text| rockrose_language::parse_step(&text.value).ok()).collect();
        self.ask_only_what_is_sent(written, &steps, tables);
    }

    /// A file of this machine is not on the hosts: what steps there ask stands in the plan.
    fn ask_only_what_is_sent(&mut self, written: &[At<String>], steps: &[Step], tables: &[TableFile]) {
        // With mistakes elsewhere, sentences and steps do not go together one by one.
        if written.len() != steps.len() || !self.mistakes.is_empty() {
            return;
        }
        for (text, step) in written.iter().zip(steps) {
            let in_file = expand(&self.recipes, std::slice::from_ref(step)).iter().find_map(|step| {
                let Some(Reference::Table { name, .. }) = step.operation.refers_to() else { return None };
                tables.iter().find(|table| table.name == name && table.text.is_none()).map(|table| table.name.clone())
            });
            if let Some(table) = in_file {
                let mistake = Mistake::new(text.at.clone(), format!("the table `{table}` is a file that hosts do not have"));
                self.mistakes.push(mistake.expected("a table whose `text` stands in the plan, or the step in a route"));
            }
        }
    }
}

/// A text in quotes, as TOML has it.
fn quoted(text: &str) -> String {
    let mut out = Vec::new();
    json::quote(text.as_bytes(), &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

fn list(items: impl Iterator<Item = String>) -> String {
    format!("[{}]", items.collect::<Vec<_>>().join(", "))
}

impl CheckedPlan {
    /// The recipes that steps use, and those that these use.
    fn used_recipes<'a>(&self, steps: impl Iterator<Item = &'a Step>) -> BTreeSet<String> {
        let used = |step: &Step| if let Operation::Use(used) = &step.operation { Some(used.recipe.clone()) } else { None };
        let (mut found, mut next) = (BTreeSet::new(), steps.filter_map(used).collect::<VecDeque<_>>());
        while let Some(name) = next.pop_front() {
            if let Some(recipe) = self.recipes.get(&name)
                && found.insert(name)
            {
                next.extend(recipe.uses());
            }
        }
        found
    }

    fn used_tables<'a>(&self, steps: impl IntoIterator<Item = &'a Step>) -> BTreeSet<String> {
        let steps: Vec<Step> = steps.into_iter().cloned().collect();
        let table = |step: &Step| if let Some(Reference::Table { name, .. }) = step.operation.refers_to() { Some(name.to_owned()) } else { None };
        self.expanded(&steps).iter().filter_map(table).collect()
    }

    /// The assignments of these names, with what they collect, and the recipes and tables of their steps, as a text that can be added to another plan; all of them, if none is named.
    ///
    /// # Errors
    /// If the plan has none of such a name.
    pub fn assignments_apart(&self, names: &[String]) -> Result<String, EditError> {
        let part = |kind: &'static str, name: &String| Part { kind, name: name.clone() };
        if let Some(name) = names.iter().find(|name| !self.assignments.iter().any(|assignment| assignment.name == **name)) {
            return Err(EditError::NoPart(part("assignment", name)));
        }
        let meant: Vec<&Assignment> = self.assignments.iter().filter(|assignment| names.is_empty() || names.contains(&assignment.name)).collect();
        let collects: Vec<&Source> = self.collects.iter().filter(|source| meant.iter().any(|a| a.collect.contains(&source.name))).collect();
        let steps: Vec<&Step> = collects.iter().flat_map(|source| &source.on_arrival).chain(meant.iter().flat_map(|a| &a.steps)).collect();
        let recipes = self.used_recipes(steps.iter().copied());
        let tables = self.used_tables(steps.iter().copied());
        let parts = meant.iter().map(|assignment| part("assignment", &assignment.name)).chain(collects.iter().map(|source| part("collect", &source.name)));
        let parts = parts.chain(recipes.iter().map(|name| part("recipe", name))).chain(tables.iter().map(|name| part("table", name)));
        apart(&self.text, &parts.collect::<Vec<_>>())
    }

    /// The plan of an agent whose host these assignments are for, without the destination `centre` to which all of it leads: the agent knows how it reaches that. What the agent collects
    /// tells by which source and which assignment it came, in `agent.collect` and `agent.assignment`.
    #[must_use]
    pub fn host_plan(&self, assignments: &[&Assignment]) -> String {
        let Ok(parsed) = ParsedPlan::parse(&self.text) else { return String::new() };
        let mut out = String::new();
        let entries = |out: &mut String, section: &Section, but: &str| {
            for (key, value) in section.entries.iter().filter(|(key, _)| key.name != but) {
                let _ = writeln!(out, "{} = {}", key.name, &self.text[value.at.clone()]);
            }
        };
        let collects: Vec<&Source> = self.collects.iter().filter(|source| assignments.iter().any(|a| a.collect.contains(&source.name))).collect();
        for source in &collects {
            let Some(section) = parsed.collects.iter().find(|section| section.name.value == source.name) else { continue };
            let _ = writeln!(out, "[source.{}]", source.name);
            entries(&mut out, section, "on_arrival");
            let own = format!("tag agent.collect = {}", quoted(&source.name));
            let steps = source.on_arrival.iter().map(ToString::to_string).chain([own]);
            let _ = writeln!(out, "on_arrival = {}\n", list(steps.map(|step| quoted(&step))));
        }
        let steps: Vec<&Step> = collects.iter().flat_map(|s| &s.on_arrival).chain(assignments.iter().flat_map(|a| &a.steps)).collect();
        let recipes = self.used_recipes(steps.iter().copied());
        for section in parsed.recipes.iter().filter(|section| recipes.contains(&section.name.value)) {
            let _ = writeln!(out, "[recipe.{}]", section.name.value);
            entries(&mut out, section, "team");
            out.push('\n');
        }
        let asked = self.used_tables(steps);
        for section in parsed.tables.iter().filter(|section| asked.contains(&section.name.value)) {
            let _ = writeln!(out, "[table.{}]", section.name.value);
            entries(&mut out, section, "");
            out.push('\n');
        }
        for assignment in assignments.iter().filter(|assignment| !assignment.collect.is_empty()) {
            let tag = format!("tag agent.assignment = {}", quoted(&assignment.name));
            let steps = [tag].into_iter().chain(assignment.steps.iter().map(ToString::to_string));
            let from = list(assignment.collect.iter().map(|name| quoted(name)));
            let steps = list(steps.map(|step| quoted(&step)));
            let _ = writeln!(out, "[[route]]\nname = {}\nfrom = {from}\ndo = {steps}\nto = [\"{CENTRE}\"]\n", quoted(&assignment.name));
        }
        let least = |of: fn(&Assignment) -> Option<u64>| assignments.iter().filter_map(|assignment| of(assignment)).min();
        let bounds = [("max_rate", least(|a| a.max_rate)), ("hold_at_most", least(|a| a.hold_at_most))];
        if !collects.is_empty() && bounds.iter().any(|(_, bound)| bound.is_some()) {
            // The last section: the agent goes on with how it reaches the centre.
            let _ = writeln!(out, "{CENTRE_HEADER}");
            for (key, bound) in bounds {
                if let Some(bytes) = bound {
                    let _ = writeln!(out, "{key} = \"{bytes} B\"");
                }
            }
        }
        out
    }

    /// A contradiction that is so for the host called `host`, as a mistake at the later of its assignments.
    #[must_use]
    pub fn contradicted(&self, contradiction: &Contradiction, host: &str) -> Vec<Report> {
        let Ok(parsed) = ParsedPlan::parse(&self.text) else { return Vec::new() };
        let last = contradiction.assignments.last();
        let at = parsed.assignments.iter().find(|section| Some(&section.name.value) == last).map(|section| section.name.at.clone());
        let names = contradiction.assignments.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(" and ");
        let verb = if contradiction.assignments.len() == 1 { "is" } else { "are" };
        let mistake = Mistake::new(at.unwrap_or_default(), format!("{names} {verb} for the host {host}: {}", contradiction.says));
        reports(&self.text, vec![mistake.expected("conditions of which a host meets only one, or what does not clash")])
    }

    /// What a host cannot do that all of these assignments are for.
    #[must_use]
    pub fn contradictions(&self, assignments: &[&Assignment]) -> Vec<Contradiction> {
        let mut found = Vec::new();
        let mut collected: Vec<(&Assignment, &Source)> = Vec::new();
        for assignment in assignments {
            for source in assignment.collect.iter().filter_map(|name| self.collects.iter().find(|source| source.name == *name)) {
                let clash = collected.iter().find_map(|(other, theirs)| Some((*other, clash(theirs, source)?)));
                if let Some((other, says)) = clash {
                    let mut assignments = vec![other.name.clone(), assignment.name.clone()];
                    assignments.dedup();
                    found.push(Contradiction { assignments, says });
                }
                collected.push((assignment, source));
            }
        }
        found
    }
}

/// Why two sources cannot be collected on one host.
fn clash(one: &Source, other: &Source) -> Option<String> {
    if one.name == other.name {
        return Some(format!("both collect `{}`, which would send its events twice", one.name));
    }
    if let (Some(listen), true) = (one.listen, one.listen == other.listen && one.kind.meets(&other.kind)) {
        return Some(format!("`{}` and `{}` would both listen on {listen}", one.name, other.name));
    }
    if let (SourceKind::SystemJournal(journal), SourceKind::SystemJournal(others)) = (&one.kind, &other.kind)
        && journal.meets(others)
    {
        return Some(format!("`{}` and `{}` would both read {}", one.name, other.name, other.place()));
    }
    let (SourceKind::File(files), SourceKind::File(others)) = (&one.kind, &other.kind) else { return None };
    let path = files.paths.iter().find(|path| others.paths.contains(path))?;
    Some(format!("`{}` and `{}` would both read {path}", one.name, other.name))
}

#[cfg(test)]
mod tests {
    use crate::{CheckedPlan, Report};

    const PLAN: &str = r#"
[source.hosts]
kind = "agents"
listen = "127.0.0.1:8640"
[destination.desk]
kind = "discard"
[[route]]
name = "all"
to = ["desk"]
[recipe.inner]
steps = ['remove spare']
[recipe.tidy]
team = "quays"
steps = ['remove debug', 'use inner']
[recipe.other]
steps = ['remove other']
[table.quays]
kind = "csv"
key = "id"
text = '''
id,name
1,Lowmere
'''
[collect.kiosk-log]
kind = "file"
paths = [
  "/var/log/kiosk/*.log", # all of them
]
on_arrival = ['parse message as json', 'use tidy']
[collect.gate-lines]
kind = "tcp"
listen = "127.0.0.1:9000"
[assignment.kiosks]
when = 'group = "kiosks" and os.type = "linux"'
collect = ["kiosk-log"]
do = ['look up quay in quays as quay', 'drop severity = debug']
[assignment.gates]
when = 'host.name starts with "gate"'
collect = ["gate-lines"]
"#;

    fn wrong(lines: &str) -> Vec<Report> {
        CheckedPlan::read(&format!("{PLAN}{lines}\n")).unwrap_err()
    }

    #[test]
    fn the_plan_of_an_agent_has_what_it_needs_and_no_more() {
        let plan = CheckedPlan::read(PLAN).unwrap();
        assert!(plan.warnings.is_empty(), "{:?}", plan.warnings);
        let both: Vec<_> = plan.assignments.iter().collect();
        let kiosks = plan.host_plan(&both[..1]);
        let read = CheckedPlan::read(&format!("{kiosks}[destination.centre]\nkind = \"discard\"\n")).unwrap_or_else(|e| panic!("{kiosks}\n{e:?}"));
        assert_eq!(read.sources.iter().map(|s| s.name.as_str()).collect::<Vec<_>>(), ["kiosk-log"]);
        assert_eq!((read.recipe_names(), read.tables.len()), (vec!["inner".to_owned(), "tidy".to_owned()], 1));
        let steps = |steps: &[rockrose_language::Step]| steps.iter().map(ToString::to_string).collect::<Vec<_>>();
        assert_eq!(steps(&read.sources[0].on_arrival), ["parse message as json", "use tidy", "tag agent.collect = \"kiosk-log\""]);
        assert_eq!(steps(&read.routes[0].steps), ["tag agent.assignment = \"kiosks\"", "look up quay in quays as quay", "drop severity = debug"]);
        let all = plan.host_plan(&both);
        assert!(all.contains("[source.gate-lines]\nkind = \"tcp\"") && all.contains("name = \"gates\"\nfrom = [\"gate-lines\"]"), "{all}");
        assert_eq!(plan.host_plan(&[]), "");
        // Of several bounds, the least counts; the agent goes on with how it reaches the centre.
        let bounded = PLAN.replace("collect = [\"kiosk-log\"]", "collect = [\"kiosk-log\"]\nmax_rate = \"1 MB\"\nhold_at_most = \"2 GB\"");
        let bounded = bounded.replace("collect = [\"gate-lines\"]", "collect = [\"gate-lines\"]\nmax_rate = \"200 KB\"");
        let plan = CheckedPlan::read(&bounded).unwrap();
        let text = plan.host_plan(&plan.assignments.iter().collect::<Vec<_>>());
        let read = CheckedPlan::read(&format!("{text}kind = \"discard\"\n")).unwrap_or_else(|e| panic!("{text}\n{e:?}"));
        assert_eq!(
            (read.destinations[0].name.as_str(), read.destinations[0].max_rate, read.destinations[0].hold_at_most),
            ("centre", Some(200_000), 2_000_000_000)
        );
        assert!(plan.contradictions(&both).is_empty());
    }

    #[test]
    fn what_contradicts_on_one_host_is_told() {
        for (more, says) in [
            ("[assignment.again]\ncollect = [\"kiosk-log\"]", "both collect `kiosk-log`"),
            ("[collect.twin]\nkind = \"syslog\"\nlisten = \"127.0.0.1:9000\"\n[assignment.again]\ncollect = [\"twin\"]", "would both listen on 127.0.0.1:9000"),
            (
                "[collect.twin]\nkind = \"file\"\npaths = [\"/a\", \"/var/log/kiosk/*.log\"]\n[assignment.again]\ncollect = [\"twin\"]",
                "would both read /var/log/kiosk/*.log",
            ),
        ] {
            let plan = CheckedPlan::read(&format!("{PLAN}{more}\n")).unwrap();
            let found = plan.contradictions(&plan.assignments.iter().collect::<Vec<_>>());
            assert!(found.len() == 1 && found[0].says.contains(says) && found[0].assignments[1] == "again", "{found:?}");
        }
    }

    #[test]
    fn mistakes_of_assignments_are_pointed_at() {
        for (lines, line, says) in [
            ("[assignment.x]\ncollect = [\"kiosk-logs\"]", 41, "there is no `[collect.kiosk-logs]`"),
            ("[assignment.x]\nwhen = 'group ='\ncollect = [\"kiosk-log\"]", 41, "expected"),
            ("[assignment.x]\nwhen = 'group = 1'", 40, "assigns nothing"),
            ("[assignment.x]\ncollect = [\"kiosk-log\"]\ncontent_type = \"text/plain\"", 42, "there is no `text`"),
            ("[assignment.x]\ncollect = [\"kiosk-log\"]\nmax_rate = \"0 B\"", 42, "the size is out of bounds"),
            ("[assignment.x]\ncollect = []", 41, "`collect` is empty"),
            ("[assignment.x]\ncollect = [\"kiosk-log\"]\ndo = ['use tidi']", 42, "there is no recipe `tidi`"),
            ("[collect.x]\nkind = \"journal\"", 41, "agents collect no source of kind `journal`"),
            ("[collect.x]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\nkey = { secret = \"a\" }", 43, "secrets are not given to agents"),
            (
                "[table.f]\nkind = \"csv\"\nkey = \"a\"\npath = \"/t.csv\"\n[assignment.x]\ncollect = [\"gate-lines\"]\ndo = ['look up a in f as b']",
                46,
                "is a file that hosts do not have",
            ),
        ] {
            let reports = wrong(lines);
            assert!(reports.iter().any(|r| r.line == line && (r.message.contains(says) || says == "expected")), "{lines}: {reports:?}");
        }
        let warned = CheckedPlan::read(&PLAN.replace("kind = \"agents\"", "kind = \"http\"").replace("[assignment.gates]", "[assignment.gates]\n")).unwrap();
        assert!(warned.warnings.iter().any(|w| w.message.contains("no source for agents")), "{:?}", warned.warnings);
    }
}
