//! `try`: what a plan, or one step more, would do with events, and what it would save.

use std::path::{Path, PathBuf};

use clap::Args;
use reqwest::Method;
use rockrose_api::{PersonalField, PlanEdit, TrialAnswer, TrialDestination, TrialPart, TrialRequest, TriedEvent, TriedPassage, TriedRoute, Volume};
use rockrose_language::Place;

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::sample::Sample;
use crate::{Common, Exit, Failure, Outcome};

/// Most bytes of a file that are sent.
const MOST_SENT: usize = 7 << 20;

/// Try a plan, or one step more, on real events: what goes, what changes, what it saves. Nothing is applied, sent or counted
#[derive(Args)]
pub struct TryArgs {
    /// The plan; `-` for standard input. The active plan if omitted
    plan: Option<PathBuf>,
    /// Try this step, added to those of --at
    #[arg(long, value_name = "SENTENCE", requires = "at")]
    step: Option<String>,
    /// Where the step is added: source:NAME, route:NAME, destination:NAME or recipe:NAME
    #[arg(long, value_name = "POINT", requires = "step")]
    at: Option<String>,
    /// The step's number in that list; behind the last if omitted
    #[arg(long, value_name = "N", requires = "step")]
    number: Option<usize>,
    /// Events to try it on: source:NAME (its sample), or a file as a sender would send it (also gzip or Zstandard). The samples of all sources if omitted
    #[arg(long, value_name = "FILE|POINT")]
    on: Option<PathBuf>,
    /// The source by which a file's events come
    #[arg(long, value_name = "NAME")]
    source: Option<String>,
    /// Show this route, step by step
    #[arg(long, value_name = "NAME")]
    route: Option<String>,
    /// Show events of which this becomes: not-taken, unchanged, changed, failed, removed or held
    #[arg(long, value_name = "OUTCOME")]
    show: Option<String>,
    /// Show at most N events; 3 if omitted, 10 with --show
    #[arg(long, value_name = "N")]
    most: Option<usize>,
}

fn request(args: &TryArgs) -> Result<TrialRequest, Failure> {
    let text = args.plan.as_deref().map(crate::plan::read).transpose()?.map(|(text, _)| text);
    let edits = match (&args.step, &args.at) {
        (Some(step), Some(part)) => vec![PlanEdit::AddStep { part: part.clone(), step: step.clone(), number: args.number }],
        _ => Vec::new(),
    };
    let mut request = TrialRequest { text, edits, source: args.source.clone(), route: args.route.clone(), show: args.show.clone(), ..TrialRequest::default() };
    // A step of a route is best seen on that route.
    if let (None, Some(Place::Route(name))) = (&request.route, args.at.as_deref().and_then(Place::read)) {
        request.route = Some(name);
    }
    request.most = Some(args.most.unwrap_or(if args.show.is_some() { 10 } else { 3 }));
    if let Some(on) = &args.on {
        match on.to_str().and_then(Place::read).filter(|_| !on.exists()) {
            Some(Place::Source(name)) => request.source = Some(name),
            Some(Place::Route(name)) => request.route = Some(name),
            Some(other) => return Err(Failure::new(Exit::Failed, format!("there is no sample of {other}; try it on source:NAME, or on a file"))),
            None => request.events = Some(events(on)?),
        }
    }
    Ok(request)
}

fn events(path: &Path) -> Result<String, Failure> {
    let sample = Sample::read(path)?;
    let (text, is_cut) = sample.text(MOST_SENT);
    if is_cut {
        eprintln!("{}", paint("(only the first 7 MB are tried)", FAINT));
    }
    Ok(text)
}

pub(crate) async fn run(common: &Common, args: TryArgs) -> Outcome {
    let asked = request(&args)?;
    let answer = Client::new(common)?.call(Method::POST, "/api/v1/trial", &asked).await?;
    if common.json {
        return answer.print();
    }
    let told: TrialAnswer = answer.read()?;
    let mut blocks = vec![head(&told, asked.events.is_some())];
    if asked.events.is_none() {
        blocks.push(destinations(&told));
    }
    blocks.push(parts(&told, &asked));
    blocks.push(personal(&told, &asked));
    if !told.shown.is_empty() {
        let shown: Vec<String> = told.shown.iter().map(event).collect();
        blocks.push(shown.join("\n\n"));
    } else if let Some(show) = &args.show {
        blocks.push(format!("Of these events, none is {}.", show.replace('-', " ")));
    }
    if !told.cannot_tell.is_empty() {
        let lines: Vec<String> = told.cannot_tell.iter().map(|s| format!("  {s}")).collect();
        blocks.push(format!("{}\n{}", paint("What these events cannot tell:", HEAD), lines.join("\n")));
    }
    format::blocks(&blocks)
}

fn head(told: &TrialAnswer, given: bool) -> String {
    let number = |n: u64| format::events(i64::try_from(n).unwrap_or(i64::MAX));
    let mut lines = vec![match given {
        true => format!("Tried on {}, against revision {}.", number(told.events), told.revision),
        false => format!("Tried on {} of the samples, which stand for {}, against revision {}.", number(told.events), number(told.stands_for), told.revision),
    }];
    if told.unreadable > 0 {
        lines.push(paint(&format!("{} cannot be read.", number(told.unreadable)), BAD));
    }
    if let Some(bounds) = &told.bounds {
        lines.push(paint(&format!("Only what you may see was tried: {}.", bounds.join("; ")), FAINT));
    }
    lines.join("\n")
}

fn percent(before: f64, after: f64) -> String {
    if before == 0.0 {
        return String::new();
    }
    let change = 100.0 * (after / before - 1.0);
    match change {
        c if c.abs() < 0.05 => "same".to_owned(),
        c if c > 0.0 => paint(&format!("+{c:.1} %"), BAD),
        c => paint(&format!("{c:.1} %"), GOOD),
    }
}

fn volume(v: Volume) -> String {
    format::bytes(v.bytes as f64)
}

fn destinations(told: &TrialAnswer) -> String {
    let Some(from) = told.estimated_from_ms else {
        return match told.bounds {
            Some(_) => String::new(),
            None => paint("Too little has flowed to estimate a month from it.", FAINT),
        };
    };
    months(&told.destinations, from)
}

/// What each destination gets in a month, and would get, estimated from what flowed in `from` milliseconds.
pub(crate) fn months(destinations: &[TrialDestination], from: i64) -> String {
    let row = |d: &TrialDestination| {
        let money = |amount: fn(&rockrose_api::TrialMoney) -> f64| d.money.as_ref().map_or_else(String::new, |m| format!("{:.2} {}", amount(m), m.currency));
        vec![
            d.name.clone(),
            format::count(d.now.events),
            volume(d.now),
            format::count(d.then.events),
            volume(d.then),
            percent(d.now.bytes as f64, d.then.bytes as f64),
            money(|m| m.now),
            money(|m| m.then),
        ]
    };
    let table = format::table(
        &["destination", "now: events", "bytes", "then: events", "bytes", "", "cost now", "then"],
        &[1, 2, 3, 4, 5, 6, 7],
        destinations.iter().map(row).collect(),
    );
    let head = paint(&format!("A month, estimated from the last {}:", format::age(from)), HEAD);
    let mut saved: Vec<(&str, f64)> = Vec::new();
    for money in destinations.iter().filter_map(|d| d.money.as_ref()) {
        match saved.iter_mut().find(|(currency, _)| *currency == money.currency) {
            Some((_, sum)) => *sum += money.now - money.then,
            None => saved.push((&money.currency, money.now - money.then)),
        }
    }
    let says = |(currency, sum): &(&str, f64)| match sum {
        s if s.abs() < 0.005 => None,
        s if *s > 0.0 => Some(paint(&format!("It saves {s:.2} {currency} a month."), GOOD)),
        s => Some(paint(&format!("It costs {:.2} {currency} more a month.", -s), BAD)),
    };
    let saved: Vec<String> = saved.iter().filter_map(says).collect();
    format!("{head}\n{table}{}{}", if saved.is_empty() { "" } else { "\n" }, saved.join("\n"))
}

/// Steps one by one where something differs, or where they were asked for; else what comes and goes.
fn parts(told: &TrialAnswer, asked: &TrialRequest) -> String {
    let edited: Vec<&str> = asked.edits.iter().filter_map(|e| if let PlanEdit::AddStep { part, .. } = e { Some(part.as_str()) } else { None }).collect();
    let is_asked = |p: &&TrialPart| match &asked.route {
        Some(route) => p.part == "route" && p.name == *route || edited.contains(&format!("{}:{}", p.part, p.name).as_str()),
        None => p.went_now != Some(p.went) || edited.contains(&format!("{}:{}", p.part, p.name).as_str()) || asked.text.is_none() && asked.edits.is_empty(),
    };
    let shown = told.parts.iter().filter(is_asked).filter(|p| p.part != "source" || !p.steps.is_empty());
    shown.map(part).collect::<Vec<_>>().join("\n\n")
}

fn part(p: &TrialPart) -> String {
    let now = p.went_now.filter(|now| *now != p.went).map_or_else(String::new, |now| format!(" (now {}, {})", format::count(now.events), volume(now)));
    let head = format!(
        "{}: {}, {} came; {}, {} went on{now}",
        paint(&format!("{} {}", p.part, p.name), HEAD),
        format::events(p.came.events),
        volume(p.came),
        format::count(p.went.events),
        volume(p.went)
    );
    let number = |n: i64| if n == 0 { String::new() } else { format::count(n) };
    let row = |s: &rockrose_api::TrialStep| {
        let saved = s.came.bytes - s.went.bytes;
        let saved = if saved == 0 { String::new() } else { format!("{}{}", if saved < 0 { "+" } else { "-" }, format::bytes(saved.abs() as f64)) };
        let time = s.nanos.map_or_else(String::new, |n| format!("{:.1} µs", n as f64 / 1000.0));
        vec![s.sentence.clone(), number(s.removed), number(s.changed), number(s.failed), number(s.held), saved, time]
    };
    if p.steps.is_empty() {
        return head;
    }
    let mut heads = vec!["step", "removed", "changed", "failed", "held", "bytes", "an event"];
    let mut rows: Vec<Vec<String>> = p.steps.iter().map(row).collect();
    if p.steps.iter().any(|s| !s.personal.is_empty()) {
        heads.push("personal data left");
        rows.iter_mut().zip(&p.steps).for_each(|(row, step)| row.push(personal_fields(&step.personal)));
    }
    format!("{head}\n{}", format::table(&heads, &[1, 2, 3, 4, 5, 6], rows))
}

/// The fields that hold personal data, with what was found in each.
fn personal_fields(fields: &[PersonalField]) -> String {
    let field = |p: &PersonalField| format!("{} ({})", p.field, p.found.iter().map(|f| f.detector.as_str()).collect::<Vec<_>>().join(", "));
    fields.iter().map(field).collect::<Vec<_>>().join(", ")
}

fn personal(told: &TrialAnswer, asked: &TrialRequest) -> String {
    let mut lines = Vec::new();
    for destination in &told.destinations {
        let fields = personal_fields(&destination.personal);
        if !destination.new_personal.is_empty() {
            lines.push(paint(
                &format!("{} would get personal data that it does not get now, in {}.", destination.name, destination.new_personal.join(", ")),
                BAD,
            ));
        } else if !fields.is_empty() && asked.edits.is_empty() {
            lines.push(format!("{} gets personal data in {}.", destination.name, fields));
        }
    }
    lines.join("\n")
}

fn event(tried: &TriedEvent) -> String {
    let stands_for = if tried.stands_for > 1 { format!(", one of {}", format::count(tried.stands_for as i64)) } else { String::new() };
    let mut lines = vec![
        paint(&format!("source {}, {}{stands_for}", tried.source, format::moment(tried.at_ms)), HEAD),
        format!("  {}", format::escaped(tried.event.trim_end())),
    ];
    if tried.arrival.outcome != "unchanged" {
        lines.extend(passage("  at its source", &tried.arrival));
    }
    tried.routes.iter().for_each(|r| route(r, &mut lines));
    if tried.routes.is_empty() && tried.arrival.after.is_some() {
        lines.push("  no route takes it".to_owned());
    }
    lines.join("\n")
}

fn passage(head: &str, passage: &TriedPassage) -> Vec<String> {
    let by = passage.step.as_ref().map_or_else(String::new, |step| format!(" by {step}"));
    let outcome = match passage.outcome.as_str() {
        outcome @ ("removed" | "failed") => paint(outcome, BAD),
        outcome => outcome.to_owned(),
    };
    let mut lines = vec![format!("{head}: {outcome}{by}")];
    for difference in &passage.differences {
        if let Some(before) = &difference.before {
            lines.push(paint(&format!("    - {}: {}", difference.field, format::escaped(before)), BAD));
        }
        if let Some(after) = &difference.after {
            lines.push(paint(&format!("    + {}: {}", difference.field, format::escaped(after)), GOOD));
        }
    }
    lines
}

fn route(tried: &TriedRoute, lines: &mut Vec<String>) {
    let Some(own) = &tried.passage else {
        lines.push(format!("  route {} does not take it", tried.name));
        for part in &tried.parts {
            let seen: Vec<String> =
                part.seen.iter().map(|s| s.value.as_ref().map_or_else(|| format!("there is no {}", s.field), |v| format!("{} is {v}", s.field))).collect();
            let seen = if seen.is_empty() { String::new() } else { format!("  ({})", format::escaped(&seen.join(", "))) };
            lines.push(format!("    fails: {}{seen}", part.sentence));
        }
        return;
    };
    lines.extend(passage(&format!("  route {}", tried.name), own));
    for destination in &tried.destinations {
        lines.extend(passage(&format!("  to {}", destination.name), &destination.passage));
    }
}
