//! `check`, `apply`, `revisions`, `revert`.

use std::fs::File;
use std::io::{IsTerminal, Read, Write};
use std::path::Path;
use std::sync::Arc;

use clap::Subcommand;
use reqwest::Method;
use rockrose_api::{
    Applied, ApplyRequest, CheckAnswer, CheckRequest, EditRequest, EditedPlan, FirstHosts, Forecast, HostChange, PlanChange, PlanEdit, PlanMistake,
    RevertRequest, RevisionDetail, RevisionEntry, RunningPlan,
};
use rockrose_engine::{Environment, trial};
use rockrose_plan::{CheckedPlan, Report, first_plan, plain_path};
use rockrose_redact::HashKey;
use rockrose_tables::TableSlot;
use serde_json::json;

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::{Common, Exit, Failure, Outcome};

/// What is done with revisions.
#[derive(Subcommand)]
pub enum RevisionCommand {
    /// Show a revision: what it changed, its plan, and what was predicted of it against what really flowed
    Show {
        /// The revision's number
        number: i64,
    },
}

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
pub(crate) fn beginning(path: &str) -> Option<Vec<u8>> {
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
            let (failing, not_run) = failing(&plan);
            if !failing.is_empty() {
                return bad(&failing, &name, as_json);
            }
            if as_json {
                return format::print_json(&json!({ "good": true, "mistakes": [], "warnings": plan.warnings }));
            }
            let mut blocks: Vec<String> = plan.warnings.iter().map(|w| w.render(&name).trim_end().to_owned()).collect();
            blocks.push(format!("{name}: {} ({})", paint("good", GOOD), summary(&plan)));
            blocks.extend(not_run.map(|table| paint(&format!("Its examples are only run where the table {table} is."), FAINT)));
            format::blocks(&blocks)
        }
        Err(reports) => bad(&reports, &name, as_json),
    }
}

fn bad(reports: &[Report], name: &str, as_json: bool) -> Outcome {
    if as_json {
        format::print_json(&json!({ "good": false, "mistakes": reports, "warnings": [] }))?;
    } else {
        format::line(&mistakes(reports, name))?;
    }
    Ok(Exit::BadPlan)
}

/// The examples that fail; or the table that is not here, without which they cannot be run.
pub(crate) fn failing(plan: &CheckedPlan) -> (Vec<Report>, Option<String>) {
    if plan.examples.is_empty() {
        return (Vec::new(), None);
    }
    // The check has read those that stand in the plan.
    let mut tables = trial::tables_in(plan).unwrap_or_default();
    for table in plan.tables.iter().filter(|table| table.text.is_none()) {
        let read = std::fs::metadata(&table.path).ok().filter(std::fs::Metadata::is_file).and_then(|_| std::fs::read(&table.path).ok());
        let Some(read_table) = read.and_then(|bytes| table.kind.read(bytes).ok()) else { return (Vec::new(), Some(table.name.clone())) };
        tables.insert(table.name.clone(), Arc::new(TableSlot::of(read_table)));
    }
    let environment = Environment { tables, ..Environment::default() };
    (trial::failing_examples(plan, &HashKey::new([0; 32]), &environment, jiff::Timestamp::now().as_millisecond()), None)
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
        to = ask_for("Where does it go: file, http, otlp, syslog, mail, archive, discard?", FIRST.1)?;
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

fn report(m: PlanMistake) -> Report {
    Report { line: m.line, column: m.column, length: m.length, message: m.message, expected: m.expected, nearest: m.nearest, excerpt: m.excerpt }
}

/// A part that differs, and what of it.
fn changed(c: &PlanChange) -> Vec<String> {
    let sign = match c.change.as_str() {
        "added" => paint("added  ", GOOD),
        "removed" => paint("removed", BAD),
        _ => "changed".to_owned(),
    };
    std::iter::once(format!("  {sign}  {} {}", c.part, c.name)).chain(c.details.iter().map(|detail| format!("             {detail}"))).collect()
}

/// What a plan is predicted to change, destination by destination.
fn predicted(forecast: &Forecast) -> String {
    match forecast.estimated_from_ms {
        Some(from) => crate::trial::months(&forecast.destinations, from),
        None => paint("Too little has flowed to estimate a month from it.", FAINT),
    }
}

/// What would change, in words and lines; and the newest revision it was compared with.
async fn compare(client: &Client, plan: &str, as_json: bool) -> Result<(i64, bool), Failure> {
    let answer: CheckAnswer = client.call(Method::POST, "/api/v1/plan/check", &CheckRequest { text: plan.to_owned() }).await?.read()?;
    let revision = answer.revision;
    if !answer.mistakes.is_empty() {
        let reports: Vec<Report> = answer.mistakes.into_iter().map(report).collect();
        return Err(Failure::new(Exit::BadPlan, mistakes(&reports, "the plan")));
    }
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
    let changes: Vec<String> = answer.changes.iter().flat_map(changed).collect();
    let changes = if changes.is_empty() { "  only in how it is written".to_owned() } else { changes.join("\n") };
    let against = if revision == 0 { "an empty plan".to_owned() } else { format!("revision {revision}") };
    let mut blocks = vec![shown(&answer.difference), format!("{}\n{changes}", paint(&format!("Against {against}:"), HEAD))];
    if let Some(forecast) = &answer.forecast {
        blocks.push(predicted(forecast));
    }
    blocks.extend(on_hosts(&answer.hosts));
    let mut warnings: Vec<String> = answer.warnings.iter().map(|w| format!("line {}: {}", w.line, w.message)).collect();
    warnings.extend(answer.forecast.iter().flat_map(|f| f.advice.clone()));
    if !warnings.is_empty() {
        let lines: Vec<String> = warnings.iter().map(|w| format!("  {w}")).collect();
        blocks.push(format!("{}\n{}", paint("To consider:", HEAD), lines.join("\n")));
    }
    format::blocks(&blocks)?;
    Ok((revision, same))
}

/// What changes on which hosts; those that change alike stand together.
pub(crate) fn on_hosts(hosts: &[HostChange]) -> Option<String> {
    /// So many hosts are named.
    const NAMED: usize = 5;
    let mut alike: Vec<(&[String], Vec<&str>)> = Vec::new();
    for host in hosts {
        match alike.iter_mut().find(|(changes, _)| *changes == host.changes) {
            Some((_, names)) => names.push(&host.name),
            None => alike.push((&host.changes, vec![&host.name])),
        }
    }
    let line = |(changes, names): (&[String], Vec<&str>)| {
        let more = if names.len() > NAMED { format!(" and {} more", format::count((names.len() - NAMED) as i64)) } else { String::new() };
        format!("  {}{more}: {}", names[..names.len().min(NAMED)].join(", "), changes.join("; "))
    };
    let lines: Vec<String> = alike.into_iter().map(line).collect();
    let head = format!("On {} host{}:", format::count(hosts.len() as i64), if hosts.len() == 1 { "" } else { "s" });
    (!lines.is_empty()).then(|| format!("{}\n{}", paint(&head, HEAD), lines.join("\n")))
}

/// Applies the active plan with one step more.
pub(crate) async fn apply_step(common: &Common, step: String, part: String, why: &str, yes: bool) -> Outcome {
    let why = if why.is_empty() { format!("{step} at {part}") } else { why.to_owned() };
    let edits = vec![PlanEdit::AddStep { part, step, number: None }];
    let edited: EditedPlan = Client::new(common)?.call(Method::POST, "/api/v1/plan/edit", &EditRequest { text: None, edits }).await?.read()?;
    apply_text(common, edited.text, "the plan with this step", &why, yes, None).await
}

pub(crate) async fn apply(common: &Common, path: &Path, why: &str, yes: bool, first: Option<FirstHosts>) -> Outcome {
    let (plan, name) = read(path)?;
    apply_text(common, plan, &name, why, yes, first).await
}

/// Which hosts a change goes to first; for how long they have to be well is a time of the language.
pub(crate) fn first_hosts(hosts: Option<String>, well_for: &str) -> Result<Option<FirstHosts>, Failure> {
    let Some(hosts) = hosts else { return Ok(None) };
    let well_for_s =
        whole_seconds(well_for).ok_or_else(|| Failure::new(Exit::Failed, format!("`{well_for}` is no time, as in \"5 minutes\" or \"30 seconds\"")))?;
    Ok(Some(FirstHosts { hosts, well_for_s }))
}

fn whole_seconds(text: &str) -> Option<i64> {
    let (number, unit) = text.trim().split_once(' ')?;
    let each = match unit.trim().trim_end_matches('s') {
        "second" => 1,
        "minute" => 60,
        "hour" => 3_600,
        "day" => 86_400,
        _ => return None,
    };
    number.parse::<i64>().ok().filter(|number| *number >= 0)?.checked_mul(each)
}

pub(crate) async fn apply_text(common: &Common, plan: String, name: &str, why: &str, yes: bool, first: Option<FirstHosts>) -> Outcome {
    if let Err(reports) = CheckedPlan::read(&plan) {
        if common.json {
            format::print_json(&json!({ "applied": false, "mistakes": reports }))?;
        } else {
            format::line(&mistakes(&reports, name))?;
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
    let asked = ApplyRequest { text: plan, why: why.to_owned(), expected_revision: Some(revision), first };
    let Applied { revision } = client.call(Method::POST, "/api/v1/revisions", &asked).await?.read()?;
    if common.json {
        return format::print_json(&json!({ "applied": true, "revision": revision }));
    }
    format::line(&format!("Revision {revision} is active."))
}

/// What a revision was predicted to send, and what it really sent.
fn kept_promise(one: &RevisionDetail) -> String {
    let Some(forecast) = &one.forecast else { return String::new() };
    let head = paint("A month, as predicted when it was applied, and by what has flowed since:", HEAD);
    let rows = forecast.destinations.iter().map(|d| {
        let real = one.outcome.iter().find(|o| o.name == d.name).map(|o| o.month);
        let off = real.filter(|_| d.then.bytes > 0).map_or_else(String::new, |real| {
            let off = 100.0 * (real.bytes as f64 / d.then.bytes as f64 - 1.0);
            if off.abs() < 0.05 { "as predicted".to_owned() } else { format!("{off:+.1} %") }
        });
        let real = real.map_or_else(|| [String::new(), String::new()], |v| [format::count(v.events), format::bytes(v.bytes as f64)]);
        let [events, bytes] = real;
        let then = if forecast.estimated_from_ms.is_some() {
            [format::count(d.then.events), format::bytes(d.then.bytes as f64)]
        } else {
            [String::new(), String::new()]
        };
        let [then_events, then_bytes] = then;
        vec![d.name.clone(), format::bytes(d.now.bytes as f64), then_events, then_bytes, events, bytes, off]
    });
    let table =
        format::table(&["destination", "before: bytes", "predicted: events", "bytes", "real: events", "bytes", ""], &[1, 2, 3, 4, 5, 6], rows.collect());
    let of = match one.outcome_of_ms {
        Some(ms) => format!("What has flowed is told for {}.", format::age(ms)),
        None => "It has not been active for a whole minute.".to_owned(),
    };
    format!("{head}\n{table}\n{}", paint(&of, FAINT))
}

/// The difference between two revisions, in words and lines.
pub(crate) async fn diff(common: &Common, one: i64, other: Option<i64>) -> Outcome {
    let client = Client::new(common)?;
    let text = async |number: i64| -> Result<String, Failure> { Ok(client.get(&format!("/api/v1/revisions/{number}")).await?.read::<RevisionDetail>()?.text) };
    let running: RunningPlan = client.get("/api/v1/plan").await?.read()?;
    let (before, (number, after)) = match other {
        Some(other) => (text(one).await?, (other, text(other).await?)),
        None => (text(one).await?, (running.revision, running.text)),
    };
    let difference = similar::TextDiff::from_lines(&before, &after).unified_diff().context_radius(2).to_string();
    // One that an older version wrote may not be readable any more.
    let words = match (CheckedPlan::read(&before), CheckedPlan::read(&after)) {
        (Ok(before), Ok(after)) => rockrose_plan::changes(&before, &after),
        _ => Vec::new(),
    };
    let words: Vec<PlanChange> =
        words.into_iter().map(|c| PlanChange { part: c.part.to_owned(), name: c.name, change: c.change.to_owned(), details: c.details }).collect();
    if common.json {
        return format::print_json(&json!({ "from": one, "to": number, "changes": words, "difference": difference }));
    }
    if difference.is_empty() {
        return format::line(&format!("Revisions {one} and {number} are the same."));
    }
    let lines: Vec<String> = words.iter().flat_map(changed).collect();
    let lines = if lines.is_empty() { "  only in how it is written".to_owned() } else { lines.join("\n") };
    format::blocks(&[shown(&difference), format!("{}\n{lines}", paint(&format!("From revision {one} to {number}:"), HEAD))])
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
        return format::blocks(&[paint(&head, HEAD), shown(&one.difference), one.text.trim_end().to_owned(), kept_promise(&one)]);
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
    let asked = RevertRequest { why: why.to_owned(), expected_revision: Some(revision) };
    let Applied { revision } = client.call(Method::POST, &format!("/api/v1/revisions/{number}/revert"), &asked).await?.read()?;
    if common.json {
        return format::print_json(&json!({ "applied": true, "revision": revision }));
    }
    format::line(&format!("Revision {revision} is active; it restores revision {number}."))
}
