//! Kits: for one kind of log each, a recipe, how to tell that lines are of this kind, and examples of what comes out.
//!
//! A kit is a file that can be passed on; those of the folder `kits/` are built in. Nothing here is done in another way than in a plan: a kit's steps are run by a plan made for them.

mod recognise;

use std::collections::HashMap;
use std::sync::{Mutex, OnceLock, PoisonError};

use rockrose_event::record::{DeclaredFormat, split};
use rockrose_event::usual::Usual;
use rockrose_language::{Mistake, parse_condition};
use rockrose_plan::{CheckedPlan, Report, is_name};
use rockrose_redact::HashKey;
use rockrose_tables::TableError;
use serde::Deserialize;
use serde_json::{Map, Value};

use crate::{CompiledPlan, Environment, Matcher, Scratch};

pub use recognise::{Recognised, recognise};

/// The kits that are built in, the most particular first: what meets one of them may meet a later one as well.
const READY_MADE: &[(&str, &str)] = &[
    ("windows-xml", include_str!("../../../../kits/windows-xml.toml")),
    ("windows-json", include_str!("../../../../kits/windows-json.toml")),
    ("container", include_str!("../../../../kits/container.toml")),
    ("access-log", include_str!("../../../../kits/access-log.toml")),
    ("balancer-log", include_str!("../../../../kits/balancer-log.toml")),
    ("proxy-log", include_str!("../../../../kits/proxy-log.toml")),
    ("error-log", include_str!("../../../../kits/error-log.toml")),
    ("audit-log", include_str!("../../../../kits/audit-log.toml")),
    ("firewall", include_str!("../../../../kits/firewall.toml")),
    ("sign-in-log", include_str!("../../../../kits/sign-in-log.toml")),
    ("system-log", include_str!("../../../../kits/system-log.toml")),
    ("app-json", include_str!("../../../../kits/app-json.toml")),
    ("trace-java", include_str!("../../../../kits/trace-java.toml")),
    ("trace-python", include_str!("../../../../kits/trace-python.toml")),
    ("trace-javascript", include_str!("../../../../kits/trace-javascript.toml")),
    ("trace-go", include_str!("../../../../kits/trace-go.toml")),
    ("key-value", include_str!("../../../../kits/key-value.toml")),
    ("app-text", include_str!("../../../../kits/app-text.toml")),
    ("app-level", include_str!("../../../../kits/app-level.toml")),
];

/// Which lines a kit is for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum LinesAre {
    /// JSON objects.
    Json,
    /// Text that is not JSON.
    Text,
    /// Either.
    #[default]
    Either,
}

/// An example: lines, and what must stand in the one event that becomes of them.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Example {
    /// What comes.
    pub lines: Vec<String>,
    /// Some of the fields of what goes on.
    pub gives: Map<String, Value>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    says: String,
    steps: Vec<String>,
    fits: String,
    #[serde(default)]
    lines_are: LinesAre,
    #[serde(default)]
    table: HashMap<String, TableOf>,
    #[serde(default)]
    example: Vec<Example>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct TableOf {
    kind: String,
    key: String,
    #[serde(rename = "match")]
    how: Option<String>,
    text: String,
}

/// A kit, read and checked.
pub struct Kit {
    /// What it is called, and its recipe in a plan.
    pub name: String,
    /// What it is for.
    pub says: String,
    /// Its sentences.
    pub steps: Vec<String>,
    /// Which lines it is for.
    pub lines_are: LinesAre,
    /// What comes, and what must become of it.
    pub examples: Vec<Example>,
    /// Its recipe and its tables, as they stand in a plan.
    pub plan: String,
    /// The file's text.
    pub text: String,
    fits: Matcher,
    /// Held from the first of some lines until the last of them is out of the windows, so that two who look do not see each other's lines.
    compiled: Mutex<CompiledPlan>,
}

impl std::fmt::Debug for Kit {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Kit").field("name", &self.name).finish_non_exhaustive()
    }
}

/// What is wrong with a kit.
#[derive(Debug, thiserror::Error)]
pub enum KitError {
    /// It cannot be called that.
    #[error("`{0}` cannot name a kit: letters, digits, `-` and `_`, a letter first, at most 64")]
    Name(String),
    /// Its file is no TOML, or has not what a kit has.
    #[error("{}", .0.to_string().trim_end())]
    File(#[from] toml::de::Error),
    /// Its `fits` is no condition.
    #[error("`fits`: {}", .0.message)]
    Fits(Mistake),
    /// Its steps or its tables have mistakes.
    #[error("{}", .0.iter().map(|report| report.render("kit")).collect::<String>())]
    Plan(Vec<Report>),
    /// The text of one of its tables cannot be read.
    #[error("the table `{table}`: {source}")]
    Table {
        /// The table's name.
        table: String,
        /// What is wrong with its text.
        source: TableError,
    },
}

fn quoted(text: &str) -> String {
    if text.contains('\'') { toml::Value::from(text).to_string() } else { format!("'{text}'") }
}

impl Kit {
    /// Reads a kit's file. `name` is what the kit is called: of a file, its name without the ending.
    ///
    /// # Errors
    /// What is wrong with its name, its file, or what stands in it.
    pub fn read(name: &str, text: &str) -> Result<Kit, KitError> {
        if !is_name(name) {
            return Err(KitError::Name(name.to_owned()));
        }
        let file: File = toml::from_str(text)?;
        let mut plan = format!("# {}.\n[recipe.{name}]\nsteps = [\n", file.says);
        file.steps.iter().for_each(|step| plan.push_str(&format!("  {},\n", quoted(step))));
        plan.push_str("]\n");
        let mut tables: Vec<_> = file.table.iter().collect();
        tables.sort_by_key(|(name, _)| name.as_str());
        for (table, TableOf { kind, key, how, text }) in tables {
            let how = how.as_ref().map_or_else(String::new, |how| format!("match = \"{how}\"\n"));
            plan.push_str(&format!("\n[table.{table}]\nkind = \"{kind}\"\nkey = \"{key}\"\n{how}text = \"\"\"\n{}\"\"\"\n", text.replace('\\', "\\\\")));
        }
        let condition = parse_condition(&file.fits).map_err(KitError::Fits)?;
        let compiled = compiled(&[format!("use {name}")], &plan)?;
        Ok(Kit {
            name: name.to_owned(),
            says: file.says,
            steps: file.steps,
            lines_are: file.lines_are,
            examples: file.example,
            plan,
            text: text.to_owned(),
            fits: Matcher::new(&condition),
            compiled: Mutex::new(compiled),
        })
    }

    /// The kits that are built in.
    #[must_use]
    pub fn ready_made() -> &'static [Kit] {
        static KITS: OnceLock<Vec<Kit>> = OnceLock::new();
        KITS.get_or_init(|| {
            let read = |(name, text): &(&str, &str)| Kit::read(name, text).unwrap_or_else(|e| unreachable!("the kit `{name}` is tested: {e}"));
            READY_MADE.iter().map(read).collect()
        })
    }

    /// What becomes of lines that come at `now_ms`, in the order in which it goes on.
    #[must_use]
    pub fn run(&self, lines: &str, now_ms: i64) -> Vec<String> {
        run(&self.compiled.lock().unwrap_or_else(PoisonError::into_inner), lines, now_ms)
    }

    /// Whether most lines are of the sort that it is for.
    fn is_for(&self, lines: &str) -> bool {
        let (all, json) =
            lines.lines().fold((0, 0), |(all, json), l| (all + usize::from(!l.trim().is_empty()), json + usize::from(l.trim_start().starts_with('{'))));
        match self.lines_are {
            LinesAre::Json => json * 2 > all,
            LinesAre::Text => json * 2 <= all,
            LinesAre::Either => true,
        }
    }

    /// The share of the lines that are of this kind, from 0 to 1.
    #[must_use]
    pub fn share(&self, lines: &str, now_ms: i64) -> f64 {
        let all = lines.lines().filter(|l| !l.trim().is_empty()).count();
        if all == 0 || !self.is_for(lines) {
            return 0.0;
        }
        let mut usual = Usual::new(&[]);
        let fit = self.run(lines, now_ms).into_iter().filter(|event| self.fits.meets(event.as_bytes(), now_ms)).map(|event| {
            usual.read(event.as_bytes());
            1 + usual.message(event.as_bytes()).map_or(0, |m| memchr::memchr_iter(b'\n', m.trim_ascii_end()).count())
        });
        (fit.sum::<usize>() as f64 / all as f64).min(1.0)
    }

    /// What is wrong with its examples: nothing, if each comes out as it says.
    #[must_use]
    pub fn wrong_examples(&self, now_ms: i64) -> Vec<String> {
        let mut wrong = Vec::new();
        for (number, example) in self.examples.iter().enumerate().map(|(i, e)| (i + 1, e)) {
            let events = self.run(&example.lines.join("\n"), now_ms);
            let [event] = &events[..] else {
                wrong.push(format!("example {number}: {} events come of it, not one", events.len()));
                continue;
            };
            let Ok(Value::Object(event_read)) = serde_json::from_str(event) else { continue };
            for (field, expected) in &example.gives {
                // A field's name may be a path, and numbers are equal whatever their writing.
                let found = event_read.get(field).or_else(|| {
                    field.split('.').try_fold(None, |at: Option<&Value>, part| Some(Some(at.map_or_else(|| event_read.get(part), |v| v.get(part))?))).flatten()
                });
                if found != Some(expected) {
                    let found = found.map_or_else(|| "nothing".to_owned(), Value::to_string);
                    wrong.push(format!("example {number}: `{field}` is {found}, not {expected}, in {event}"));
                }
            }
            if !self.fits.meets(event.as_bytes(), now_ms) {
                wrong.push(format!("example {number}: `fits` does not hold of {event}"));
            }
        }
        wrong
    }
}

fn run(plan: &CompiledPlan, lines: &str, now_ms: i64) -> Vec<String> {
    let mut scratch = Scratch::default();
    let records = split(lines.as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap_or_default();
    let outcome = plan.process(0, lines.as_bytes(), &records, now_ms, None, &mut scratch);
    let later = plan.release(now_ms, true, &mut scratch);
    let all = std::iter::once(&outcome).chain(later.iter().map(|(_, o)| o));
    all.flat_map(|o| String::from_utf8_lossy(&o.lines).lines().map(str::to_owned).collect::<Vec<_>>()).collect()
}

/// A plan whose only source does these steps and sends everything on; `parts` are the recipes and tables that they use.
fn compiled(steps: &[String], parts: &str) -> Result<CompiledPlan, KitError> {
    let steps: Vec<String> = steps.iter().map(|s| quoted(s)).collect();
    let plan = format!(
        "[source.lines]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\non_arrival = [{}]\n[destination.out]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"out\"]\n{parts}",
        steps.join(", ")
    );
    let checked = CheckedPlan::read(&plan).map_err(KitError::Plan)?;
    let tables = crate::trial::tables_in(&checked).map_err(|(table, source)| KitError::Table { table, source })?;
    Ok(CompiledPlan::within(&checked, HashKey::new([0; 32]), &Environment { tables, ..Environment::default() }))
}

/// What steps make of lines.
fn events_of(parts: &str, steps: &[String], lines: &str, now_ms: i64) -> Vec<String> {
    compiled(steps, parts).map(|plan| run(&plan, lines, now_ms)).unwrap_or_default()
}

#[cfg(test)]
mod tests;
