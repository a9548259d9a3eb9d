//! `kit`: what is known of kinds of logs, shown, tried and added to the plan.

use std::path::Path;

use anyhow::Context;
use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{ApplyRequest, RunningPlan};
use rockrose_engine::kit::Kit;
use rockrose_plan::{CheckedPlan, PlanEdit, WATCH_SAYS, edited};
use serde_json::json;

use rockrose_client::format::{self, GOOD, paint};
use rockrose_client::{Client, Common, Exit, Failure, Outcome, ask};

#[derive(Subcommand)]
pub(crate) enum KitCommand {
    /// List the kits that are built in
    List,
    /// Show a kit: its purpose, its steps, and the events that its examples give
    Show {
        /// A kit's name, or a file
        kit: String,
    },
    /// Try the examples of a kit
    Try {
        /// A kit's name, or a file
        kit: String,
    },
    /// Add a kit's recipe and tables to the active plan, or to a plan's file; the kit `watch` adds alerts for what the plan has
    Add {
        /// A kit's name, or a file
        kit: String,
        /// Plan file to add it to, instead of the active plan
        #[arg(long, value_name = "FILE")]
        plan: Option<std::path::PathBuf>,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
}

/// A kit that is built in, or one of a file.
fn find(name: &str) -> Result<Kit, Failure> {
    let failed = |why: String| Failure::new(Exit::Failed, why);
    let is_file = name.contains('/') || Path::new(name).extension().is_some_and(|e| e == "toml");
    if !is_file {
        let built_in = Kit::ready_made().iter().find(|k| k.name == name);
        let text = built_in.map(|k| k.text.clone()).ok_or_else(|| failed(format!("there is no kit `{name}`; `rockrose kit list` shows those there are")))?;
        return Kit::read(name, &text).map_err(|e| failed(e.to_string()));
    }
    let text = std::fs::read_to_string(name).with_context(|| format!("cannot read {name}"))?;
    let stem = Path::new(name).file_stem().and_then(|s| s.to_str()).unwrap_or_default();
    Kit::read(stem, &text).map_err(|e| failed(format!("{name}: {e}")))
}

fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

fn show(kit: &Kit) -> Outcome {
    let steps: Vec<String> = kit.steps.iter().map(|s| format!("  {s}")).collect();
    let mut blocks = vec![format!("{}: {}", paint(&kit.name, format::HEAD), kit.says), steps.join("\n")];
    for example in &kit.examples {
        let came: Vec<String> = example.lines.iter().map(|l| format!("came      {l}")).collect();
        let read: Vec<String> = kit.run(&example.lines.join("\n"), now_ms()).into_iter().map(|e| format!("goes on   {e}")).collect();
        blocks.push([came, read].concat().join("\n"));
    }
    format::blocks(&blocks)
}

/// The kit that is made for each plan: its alerts.
const WATCH: &str = "watch";

/// What is added to a plan, and what is said then.
struct Addition {
    name: String,
    text: String,
    next: String,
}

/// The recipe and the tables of a kit, or for `watch` the alerts that a plan does not have yet.
fn addition(name: &str, plan: &str) -> Result<Addition, Failure> {
    if name != WATCH {
        let kit = find(name)?;
        let next = format!("The recipe `{0}` is there. Let a source use it:\n\n  on_arrival = ['use {0}']", kit.name);
        return Ok(Addition { text: kit.plan.clone(), name: kit.name, next });
    }
    let checked = CheckedPlan::read(plan).map_err(|mistakes| {
        let mistakes: String = mistakes.iter().map(|m| m.render("the plan")).collect();
        Failure::new(Exit::BadPlan, format!("the plan has mistakes\n{mistakes}"))
    })?;
    let text = checked.watch();
    let next = match text.matches("[alert.").count() {
        1 => "An alert is there.".to_owned(),
        n => format!("{n} alerts are there."),
    };
    let next = format!("{next} See them with `rockrose alert list`, and when they would have been on with `rockrose alert try`.");
    Ok(Addition { name: name.to_owned(), text, next })
}

async fn add(common: &Common, kit: &str, plan: Option<&Path>, yes: bool) -> Outcome {
    let client = if plan.is_none() { Some(Client::new(common)?) } else { None };
    let (text, revision) = match (&client, plan) {
        (Some(client), _) => {
            let running: RunningPlan = client.get("/api/v1/plan").await?.read()?;
            (running.text, running.revision)
        }
        (None, Some(path)) => (std::fs::read_to_string(path).with_context(|| format!("cannot read {}", path.display()))?, 0),
        (None, None) => (String::new(), 0),
    };
    let kit = addition(kit, &text)?;
    if kit.text.is_empty() {
        return format::line("The plan watches all of this already.");
    }
    let added = edited(&text, &[PlanEdit::AddPart { text: kit.text.clone() }]);
    let with = added.map_err(|e| Failure::new(Exit::BadPlan, format!("the kit cannot be added: {e}")))?;
    if let Err(mistakes) = CheckedPlan::read(&with) {
        let mistakes: String = mistakes.iter().map(|m| m.render("the plan")).collect();
        return Err(Failure::new(Exit::BadPlan, format!("with the kit the plan has mistakes\n{mistakes}")));
    }
    if !yes && !ask(&format!("{}\nAdd this to the plan?", kit.text))? {
        return Ok(Exit::Declined);
    }
    match (&client, plan) {
        (Some(client), _) => {
            let asked = ApplyRequest { text: with, why: format!("the kit {}", kit.name), expected_revision: Some(revision), first: None };
            client.call(Method::POST, "/api/v1/revisions", &asked).await?;
        }
        (None, Some(path)) => std::fs::write(path, with).with_context(|| format!("cannot write {}", path.display()))?,
        (None, None) => {}
    }
    if common.json {
        let mut added = json!({ "added": kit.name });
        if kit.name == WATCH {
            added["plan"] = kit.text.into();
        } else {
            added["use"] = format!("on_arrival = ['use {}']", kit.name).into();
        }
        return format::print_json(&added);
    }
    format::line(&kit.next)
}

pub(crate) async fn kit(common: &Common, command: KitCommand) -> Outcome {
    match command {
        KitCommand::List => {
            if common.json {
                let mut all: Vec<_> = Kit::ready_made().iter().map(|k| json!({ "name": k.name, "says": k.says, "steps": k.steps })).collect();
                all.push(json!({ "name": WATCH, "says": WATCH_SAYS, "steps": [] }));
                return format::print_json(&json!(all));
            }
            let kits = Kit::ready_made().iter().map(|k| (k.name.as_str(), k.says.as_str()));
            let rows = kits.chain([(WATCH, WATCH_SAYS)]).map(|(name, says)| vec![name.to_owned(), says.to_owned()]).collect();
            format::line(&format::table(&["kit", "for"], &[], rows))
        }
        KitCommand::Show { kit } if kit == WATCH => format::line(&format!(
            "{}: {WATCH_SAYS}.\nIt is made for each plan: `rockrose kit add watch` shows what it would add, and asks.",
            paint(WATCH, format::HEAD)
        )),
        KitCommand::Show { kit } => {
            let kit = find(&kit)?;
            if common.json { format::print_json(&json!({ "name": kit.name, "says": kit.says, "steps": kit.steps, "plan": kit.plan })) } else { show(&kit) }
        }
        KitCommand::Try { kit } if kit == WATCH => {
            if common.json {
                format::print_json(&json!({ "examples": 0, "wrong": [] }))
            } else {
                format::line("It has no examples: its alerts are tried with `rockrose alert try`.")
            }
        }
        KitCommand::Try { kit } => {
            let kit = find(&kit)?;
            let wrong = kit.wrong_examples(now_ms());
            if common.json {
                format::print_json(&json!({ "examples": kit.examples.len(), "wrong": wrong }))?;
            } else if wrong.is_empty() {
                let says = match kit.examples.len() {
                    1 => "The example gives the expected event.".to_owned(),
                    n => format!("All {n} examples give the expected events."),
                };
                format::line(&paint(&says, GOOD))?;
            }
            if wrong.is_empty() { Ok(Exit::Done) } else { Err(Failure::new(Exit::Failed, wrong.join("\n"))) }
        }
        KitCommand::Add { kit, plan, yes } => add(common, &kit, plan.as_deref(), yes).await,
    }
}
