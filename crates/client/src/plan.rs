//! `check`, `apply`, `revisions`, `revert`.

use std::fs::File;
use std::io::{IsTerminal, Read, Write};
use std::path::Path;

use reqwest::Method;
use rockrose_api::{Applied, ApplyRequest, CheckAnswer, CheckRequest, PlanChange, RevertRequest, RevisionDetail, RevisionEntry};
use rockrose_plan::{CheckedPlan, Report, first_plan, plain_path};
use serde_json::json;

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::{Common, Exit, Failure, Outcome};

pub(crate) fn read(path: &Path) -> Result<(String, String), Failure> {
    let fail = |e: std::io::Error| Failure::new(Exit::Failed, format!("cannot read {}: {e}", path.display()));
    if path == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(fail)?;
        return Ok((text, "standard input".into()));
    }
    Ok((std::fs::read_to_string(path).map_err(fail)?, path.display().to_string()))
}

fn summary(plan: &CheckedPlan) -> String {
    let several = |n: usize, one: &str| if n == 1 { format!("1 {one}") } else { format!("{n} {one}s") };
    format!("{}, {}, {}", several(plan.sources.len(), "source"), several(plan.routes.len(), "route"), several(plan.destinations.len(), "destination"))
}

pub(crate) fn mistakes(reports: &[Report], name: &str) -> String {
    let all: Vec<String> = reports.iter().map(|r| r.render(name)).collect();
    let many = if reports.len() == 1 { "1 mistake".to_owned() } else { format!("{} mistakes", reports.len()) };
    format!("{}\n{}", all.join("\n"), paint(&format!("{name}: {many}"), BAD))
}

/// The first bytes of a table's file, if it is here: the plan may be meant for another host.
fn beginning(path: &str) -> Option<Vec<u8>> {
    // The line that names the columns is within them, or is none.
    const MOST: u64 = 64 << 10;
    let mut beginning = Vec::new();
    std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file)?;
    File::open(path).ok()?.take(MOST).read_to_end(&mut beginning).ok()?;
    Some(beginning)
}

pub(crate) fn check(path: &Path, as_json: bool) -> Outcome {
    let (text, name) = read(path)?;
    match CheckedPlan::read_where(&text, plain_path, beginning) {
        Ok(plan) => {
            if as_json {
                return format::print_json(&json!({ "good": true, "mistakes": [], "warnings": plan.warnings }));
            }
            let mut blocks: Vec<String> = plan.warnings.iter().map(|w| w.render(&name).trim_end().to_owned()).collect();
            blocks.push(format!("{name}: {} ({})", paint("good", GOOD), summary(&plan)));
            format::blocks(&blocks)
        }
        Err(reports) => {
            if as_json {
                format::print_json(&json!({ "good": false, "mistakes": reports, "warnings": [] }))?;
            } else {
                format::line(&mistakes(&reports, &name))?;
            }
            Ok(Exit::BadPlan)
        }
    }
}

/// Asks for one answer, which may be left out.
fn ask_for(question: &str, unless: &str) -> Result<Vec<String>, Failure> {
    eprint!("{question} [{unless}] ");
    let mut answer = String::new();
    std::io::stderr().flush().and_then(|()| std::io::stdin().read_line(&mut answer)).map_err(anyhow::Error::from)?;
    let words: Vec<String> = answer.split([',', ' ']).map(str::trim).filter(|word| !word.is_empty()).map(str::to_owned).collect();
    Ok(if words.is_empty() { vec![unless.to_owned()] } else { words })
}

/// What comes in where nothing is said, and where it goes.
const FIRST: (&str, &str) = ("http", "file");

/// Writes a plan to start from. On a terminal it asks for what is not said.
pub(crate) fn new_plan(mut from: Vec<String>, mut to: Vec<String>, output: Option<&Path>) -> Outcome {
    if from.is_empty() && to.is_empty() && std::io::stdin().is_terminal() {
        from = ask_for("What comes in: http, otlp, syslog, tcp, file (several with commas)?", FIRST.0)?;
        to = ask_for("Where does it go: file, http, otlp, syslog, archive, discard?", FIRST.1)?;
    }
    let words = |given: &[String], unless: &'static str| if given.is_empty() { vec![unless.to_owned()] } else { given.to_vec() };
    let (from, to) = (words(&from, FIRST.0), words(&to, FIRST.1));
    let plan = first_plan(&from.iter().map(String::as_str).collect::<Vec<_>>(), &to.iter().map(String::as_str).collect::<Vec<_>>());
    let plan = plan.map_err(|e| Failure::new(Exit::Failed, e.to_string()))?;
    let Some(path) = output else { return format::line(plan.trim_end()) };
    let fail = |e: std::io::Error| Failure::new(Exit::Failed, format!("cannot write {}: {e}", path.display()));
    std::fs::File::create_new(path).and_then(|mut file| file.write_all(plan.as_bytes())).map_err(fail)?;
    format::line(&format!("Wrote {0}. Review it, then run: rockrose check {0} && rockrose apply {0}", path.display()))
}

/// Asks whether something is to be done; the answer is yes or no.
///
/// # Errors
/// If nobody can be asked, since standard input is no terminal.
pub fn ask(question: &str) -> Result<bool, Failure> {
    if !std::io::stdin().is_terminal() {
        return Err(Failure::new(Exit::Declined, "not interactive; pass --yes to continue without asking"));
    }
    eprint!("{question} [y/N] ");
    let mut answer = String::new();
    std::io::stderr().flush().and_then(|()| std::io::stdin().read_line(&mut answer)).map_err(anyhow::Error::from)?;
    Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
}

/// A unified diff, coloured on a terminal.
fn shown(difference: &str) -> String {
    let line = |l: &str| match l.chars().next() {
        Some('+') => paint(l, GOOD),
        Some('-') => paint(l, BAD),
        Some('@') => paint(l, FAINT),
        _ => l.to_owned(),
    };
    difference.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// What would change, in words and lines; and the newest revision it was compared with.
async fn compare(client: &Client, plan: &str, as_json: bool) -> Result<(i64, bool), Failure> {
    let answer: CheckAnswer = client.call(Method::POST, "/api/v1/plan/check", &CheckRequest { text: plan.to_owned() }).await?.read()?;
    let revision = answer.revision;
    if !answer.refused.is_empty() {
        return Err(Failure::new(Exit::BadPlan, format!("the plan cannot be applied:\n  {}", answer.refused.join("\n  "))));
    }
    if !answer.missing_secrets.is_empty() {
        let how: Vec<String> = answer.missing_secrets.iter().map(|m| format!("  rockrose secret set {m}")).collect();
        return Err(Failure::new(Exit::BadPlan, format!("the plan refers to secrets that are not set:\n{}", how.join("\n"))));
    }
    let same = answer.difference.is_empty();
    if as_json {
        return Ok((revision, same));
    }
    if same {
        format::line(&format!("Revision {revision} already has this plan."))?;
        return Ok((revision, same));
    }
    let change = |c: &PlanChange| {
        let sign = match c.change.as_str() {
            "added" => paint("added  ", GOOD),
            "removed" => paint("removed", BAD),
            _ => "changed".to_owned(),
        };
        format!("  {sign}  {} {}", c.part, c.name)
    };
    let changes: Vec<String> = answer.changes.iter().map(change).collect();
    let changes = if changes.is_empty() { "  only in how it is written".to_owned() } else { changes.join("\n") };
    let against = if revision == 0 { "an empty plan".to_owned() } else { format!("revision {revision}") };
    let mut blocks = vec![shown(&answer.difference), format!("{}\n{changes}", paint(&format!("Against {against}:"), HEAD))];
    blocks.extend(answer.warnings.iter().map(|w| format!("line {}: {}", w.line, w.message)));
    format::blocks(&blocks)?;
    Ok((revision, same))
}

pub(crate) async fn apply(common: &Common, path: &Path, why: &str, yes: bool) -> Outcome {
    let (plan, name) = read(path)?;
    if let Err(reports) = CheckedPlan::read(&plan) {
        if common.json {
            format::print_json(&json!({ "applied": false, "mistakes": reports }))?;
        } else {
            format::line(&mistakes(&reports, &name))?;
        }
        return Ok(Exit::BadPlan);
    }
    let client = Client::new(common)?;
    let (revision, same) = compare(&client, &plan, common.json).await?;
    if same {
        return if common.json { format::print_json(&json!({ "applied": false, "revision": revision })) } else { Ok(Exit::Done) };
    }
    if !yes && !ask(&format!("Apply as revision {}?", revision + 1))? {
        return Ok(Exit::Declined);
    }
    // What was shown is what is applied: if somebody else was faster, the service says so.
    let asked = ApplyRequest { text: plan, why: why.to_owned(), expected_revision: Some(revision) };
    let Applied { revision } = client.call(Method::POST, "/api/v1/revisions", &asked).await?.read()?;
    if common.json {
        return format::print_json(&json!({ "applied": true, "revision": revision }));
    }
    format::line(&format!("Revision {revision} is active."))
}

pub(crate) async fn revisions(common: &Common, number: Option<i64>) -> Outcome {
    let client = Client::new(common)?;
    if let Some(number) = number {
        let answer = client.get(&format!("/api/v1/revisions/{number}")).await?;
        if common.json {
            return answer.print();
        }
        let one: RevisionDetail = answer.read()?;
        let why = if one.why.is_empty() { String::new() } else { format!(": {}", one.why) };
        let head = format!("Revision {number}, {} by {}{why}", format::moment(one.at_ms), one.who);
        return format::blocks(&[paint(&head, HEAD), shown(&one.difference), one.text.trim_end().to_owned()]);
    }
    let answer = client.get("/api/v1/revisions").await?;
    if common.json {
        return answer.print();
    }
    let row = |r: RevisionEntry| {
        let runs = if r.running { "runs" } else { "" };
        let lines = format!("+{} -{}", r.lines_added, r.lines_removed);
        vec![r.number.to_string(), format::moment(r.at_ms), r.who, lines, runs.to_owned(), r.why]
    };
    let rows: Vec<_> = answer.read::<Vec<RevisionEntry>>()?.into_iter().map(row).collect();
    if rows.is_empty() {
        return format::line("No plan has been applied yet. `rockrose apply PLAN` applies one.");
    }
    format::line(&format::table(&["revision", "when", "who", "lines", "", "why"], &[0, 3], rows))
}

pub(crate) async fn revert(common: &Common, number: i64, why: &str, yes: bool) -> Outcome {
    let client = Client::new(common)?;
    let target: RevisionDetail = client.get(&format!("/api/v1/revisions/{number}")).await?.read()?;
    let (revision, same) = compare(&client, &target.text, common.json).await?;
    if same {
        return if common.json { format::print_json(&json!({ "applied": false, "revision": revision })) } else { Ok(Exit::Done) };
    }
    if !yes && !ask(&format!("Go back to revision {number}, as revision {}?", revision + 1))? {
        return Ok(Exit::Declined);
    }
    let asked = RevertRequest { why: why.to_owned() };
    let Applied { revision } = client.call(Method::POST, &format!("/api/v1/revisions/{number}/revert"), &asked).await?.read()?;
    if common.json {
        return format::print_json(&json!({ "applied": true, "revision": revision }));
    }
    format::line(&format!("Revision {revision} is active; it restores revision {number}."))
}
