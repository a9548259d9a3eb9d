//! `fields` and `patterns`: what is in a stream.

use std::path::{Path, PathBuf};

use clap::Args;
use rockrose_api::{FieldSummary, FieldsAnswer, PatternSummary, PatternsAnswer, SampleAnswer, TrendSlot};
use rockrose_engine::{Matcher, MatcherScratch};
use rockrose_language::{Place, parse_condition};
use rockrose_plan::Report;
use rockrose_survey::{BUDGET, Survey};

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::sample::Sample;
use crate::{Common, Exit, Failure, Outcome};

/// What is looked at.
#[derive(Args)]
pub(crate) struct Looked {
    /// A file (also gzip or Zstandard), `-` for standard input, or a point: source:NAME, route:NAME or remainder
    #[arg(value_name = "FILE|POINT")]
    on: PathBuf,
    /// Only events that meet this condition
    #[arg(long, value_name = "CONDITION")]
    when: Option<String>,
    /// Of a route: the events as they leave its steps, and not as it takes them
    #[arg(long)]
    leaving: bool,
}

/// Show what each field holds: how often it is there, its values, what it weighs, and personal data in it
#[derive(Args)]
pub struct FieldsArgs {
    #[command(flatten)]
    looked: Looked,
    /// Show everything about one field
    #[arg(long, value_name = "NAME")]
    field: Option<String>,
    /// Show at most N fields
    #[arg(long, default_value_t = 40, value_name = "N")]
    most: usize,
}

/// Show the patterns of the messages: how many there are of each, what they weigh, how they come
#[derive(Args)]
pub struct PatternsArgs {
    #[command(flatten)]
    looked: Looked,
    /// Look at the text of this field instead of the message
    #[arg(long, value_name = "NAME", default_value = "message")]
    field: String,
    /// Show everything about one pattern, with sentences that read, find and cut its messages
    #[arg(long, value_name = "ID")]
    show: Option<String>,
    /// Show at most N patterns
    #[arg(long, default_value_t = 30, value_name = "N")]
    most: usize,
    /// Show only patterns that came up in the last N minutes, and those that came no more
    #[arg(long, value_name = "N", conflicts_with_all = ["show"])]
    minutes: Option<i64>,
    /// Print the id of the pattern of each message instead, a line each
    #[arg(long, conflicts_with_all = ["show"])]
    each: bool,
}

/// Count the events that meet a condition, and show some of them
#[derive(Args)]
pub struct MatchArgs {
    /// The condition, in quotes
    condition: String,
    /// A file (also gzip or Zstandard), `-` for standard input, or a point: source:NAME, route:NAME or remainder
    #[arg(long, value_name = "FILE|POINT")]
    on: PathBuf,
    /// Of a route: the events as they leave its steps, and not as it takes them
    #[arg(long)]
    leaving: bool,
    /// Show at most N events
    #[arg(long, default_value_t = 10, value_name = "N")]
    most: usize,
}

/// A value is listed beside its field if at least this share of events has it.
const OFTEN: f64 = 0.02;

fn now_ms() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

/// A condition by its text.
fn condition(text: &str) -> Result<Matcher, Failure> {
    let condition = parse_condition(text).map_err(|m| Failure::new(Exit::BadPlan, Report::new(text, &m).render("the condition")))?;
    Ok(Matcher::new(&condition))
}

/// The point that is meant, if it is one and no file is called so.
fn point(on: &Path) -> Option<Place> {
    let text = on.to_str()?;
    if on.exists() { None } else { Place::read(text) }
}

/// A file's events, surveyed.
fn surveyed(looked: &Looked, field: &str, mut each: impl FnMut(&[u8])) -> Result<Survey, Failure> {
    let matcher = looked.when.as_deref().map(condition).transpose()?;
    let sample = Sample::read(&looked.on)?;
    let (mut survey, mut scratch, now) = (Survey::new(BUDGET, Some(field)), MatcherScratch::default(), now_ms());
    let from = survey.miner.origin(&looked.on.display().to_string());
    let unreadable = sample.each(now, |event| {
        if matcher.as_ref().is_none_or(|matcher| matcher.meets_next(event, now, &mut scratch)) {
            survey.add(event, 1, now, from);
            each(event);
        }
    })?;
    if sample.is_cut {
        eprintln!("{}", paint("(only the first 256 MB were looked at)", FAINT));
    }
    if unreadable > 0 {
        eprintln!("{}", paint(&format!("({unreadable} records could not be read)"), FAINT));
    }
    Ok(survey)
}

fn query(looked: &Looked, place: &Place) -> Vec<(&'static str, String)> {
    let mut query = vec![("point", place.to_string())];
    query.extend(looked.when.as_ref().map(|when| ("when", when.clone())));
    query.extend(looked.leaving.then(|| ("leaving", "true".to_owned())));
    query
}

async fn ask<T: serde::de::DeserializeOwned>(common: &Common, path: &str, query: &[(&'static str, String)]) -> Result<T, Failure> {
    let query: String = form_urlencoded::Serializer::new(String::new()).extend_pairs(query.iter().map(|(name, value)| (*name, value.as_str()))).finish();
    Client::new(common)?.get(&format!("{path}?{query}")).await?.read()
}

pub(crate) async fn matching(common: &Common, args: MatchArgs) -> Outcome {
    let matcher = condition(&args.condition)?;
    let (mut met, mut all, mut shown) = (0, 0, Vec::new());
    if let Some(place) = point(&args.on) {
        let looked = Looked { on: args.on, when: Some(args.condition), leaving: args.leaving };
        let mut query = query(&looked, &place);
        query.push(("most", args.most.clamp(1, 1_000).to_string()));
        let found: SampleAnswer = ask(common, "/api/v1/sample", &query).await?;
        let mut all_of_it = self::query(&Looked { when: None, ..looked }, &place);
        all_of_it.push(("most", "1".to_owned()));
        let whole: SampleAnswer = ask(common, "/api/v1/sample", &all_of_it).await?;
        (met, all) = (found.stands_for, whole.stands_for);
        shown.extend(found.events.into_iter().take(args.most).map(|e| e.event.get().to_owned()));
    } else {
        let (sample, now, mut scratch) = (Sample::read(&args.on)?, now_ms(), MatcherScratch::default());
        sample.each(now, |event| {
            all += 1;
            if matcher.meets_next(event, now, &mut scratch) {
                met += 1;
                if shown.len() < args.most {
                    shown.push(String::from_utf8_lossy(event).into_owned());
                }
            }
        })?;
    }
    if common.json {
        return format::print_json(&serde_json::json!({ "met": met, "events": all, "shown": shown }));
    }
    let share = if all == 0 { String::new() } else { format!(" ({})", percent(met as f64 / all as f64)) };
    let share = share.replace("()", "(none)");
    let lines: Vec<String> = shown.iter().map(|event| format::escaped(event).into_owned()).collect();
    format::blocks(&[format!("{} of {} meet it{share}", format::count(met as i64), format::events(all as i64)), lines.join("\n")])
}

fn percent(share: f64) -> String {
    match share {
        0.0 => String::new(),
        s if s < 0.001 => "<0.1 %".to_owned(),
        s => format!("{:.1} %", 100.0 * s),
    }
}

/// A trend as a row of blocks.
fn blocks(slots: &[TrendSlot], width_ms: i64) -> String {
    const BLOCKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let (Some(first), Some(last)) = (slots.first(), slots.last()) else { return String::new() };
    let most = slots.iter().map(|s| s.events).max().unwrap_or(1).max(1);
    let count = ((last.at_ms - first.at_ms) / width_ms.max(1)).min(63) + 1;
    let of = |at: i64| slots.iter().find(|s| s.at_ms == first.at_ms + at * width_ms).map_or(0, |s| s.events);
    (0..count).map(|at| if of(at) == 0 { ' ' } else { BLOCKS[((of(at) * 8).div_ceil(most) as usize - 1).min(7)] }).collect()
}

fn clipped(text: &str, most: usize) -> String {
    let text = format::escaped(text).replace('\n', "⏎");
    if text.chars().count() <= most { text } else { format!("{}…", text.chars().take(most - 1).collect::<String>()) }
}

fn number(n: f64) -> String {
    if n.fract() == 0.0 && n.abs() < 1e15 { format!("{n}") } else { format!("{n:.3}") }
}

pub(crate) async fn fields(common: &Common, args: FieldsArgs) -> Outcome {
    let answer: FieldsAnswer = match point(&args.looked.on) {
        Some(place) => ask(common, "/api/v1/fields", &query(&args.looked, &place)).await?,
        None => FieldsAnswer::from(&surveyed(&args.looked, "message", |_| {})?.fields),
    };
    if let Some(name) = &args.field {
        let field = answer.fields.iter().find(|f| f.name == *name).ok_or_else(|| Failure::new(Exit::Failed, format!("no event has a field `{name}`")))?;
        return if common.json { format::print_json(field) } else { show_field(field) };
    }
    if common.json {
        return format::print_json(&answer);
    }
    let row = |f: &FieldSummary| {
        // Where all values are rare, one of them tells as much.
        let often = f.top.iter().map(|v| (&v.what, v.events as f64 / f.events.max(1) as f64)).filter(|(_, share)| *share >= OFTEN);
        let mut top = often.take(3).map(|(value, share)| format!("{} {}", clipped(value, 24), percent(share))).collect::<Vec<_>>();
        if top.is_empty() {
            top.push(format!("such as {}", clipped(&f.example, 40)));
        }
        let personal = f.personal.iter().map(|p| p.detector.as_str()).collect::<Vec<_>>().join(", ");
        vec![
            format::escaped(&f.name).into_owned(),
            percent(f.share),
            percent(f.bytes_share),
            f.kinds.iter().map(|k| k.what.as_str()).collect::<Vec<_>>().join(", "),
            if personal.is_empty() { String::new() } else { paint(&personal, BAD) },
            format!("{}{}", if f.distinct_is_exact { "" } else { "~" }, format::count(i64::try_from(f.distinct).unwrap_or(i64::MAX))),
            if f.read_by.as_ref().is_some_and(Vec::is_empty) { "no" } else { "" }.to_owned(),
            top.join("  "),
        ]
    };
    let head = ["field", "in", "of all bytes", "kind", "personal data", "values", "read", "most frequent"];
    let table = format::table(&head, &[1, 2, 5], answer.fields.iter().take(args.most).map(row).collect());
    let total = format!("{}, {}", format::events(answer.events as i64), format::bytes(answer.bytes as f64));
    let more = answer.fields.len().saturating_sub(args.most);
    let more = if more > 0 { format!("\n{more} more; show them with --most") } else { String::new() };
    format::line(&format!("{total}\n\n{table}{more}"))
}

fn show_field(field: &FieldSummary) -> Outcome {
    let mut lines = vec![
        format!("{}: in {} of events, {} of all bytes", paint(&format::escaped(&field.name), HEAD), percent(field.share), percent(field.bytes_share)),
        format!("kinds     {}", field.kinds.iter().map(|k| format!("{} {}", format::count(k.events as i64), k.what)).collect::<Vec<_>>().join(", ")),
        format!("values    {}{}", if field.distinct_is_exact { "" } else { "about " }, field.distinct),
        format!("lengths   {} to {} bytes, half of them up to {}", field.lengths.least, field.lengths.most, number(field.lengths.p50)),
    ];
    if let Some(n) = field.numbers {
        let (least, p50, p90, p99, most) = (number(n.least), number(n.p50), number(n.p90), number(n.p99), number(n.most));
        lines.push(format!("numbers   {least} to {most}, mean {}; p50 {p50}, p90 {p90}, p99 {p99}", number(n.mean)));
    }
    if let (Some(first), Some(last)) = (field.first_ms, field.last_ms) {
        lines.push(format!("times     {} to {}", format::moment(first), format::moment(last)));
    }
    lines.extend(field.personal.iter().map(|p| paint(&format!("personal  {} in {} of the values searched", p.detector, percent(p.share)), BAD)));
    if let Some(parts) = &field.read_by {
        lines.push(if parts.is_empty() { "read by   no condition or step of the plan".to_owned() } else { format!("read by   {}", parts.join(", ")) });
    }
    lines.push(format!("example   {}", format::escaped(&field.example)));
    let rows =
        field.top.iter().map(|v| vec![percent(v.events as f64 / field.events.max(1) as f64), format::count(v.events as i64), clipped(&v.what, 100)]).collect();
    format::blocks(&[lines.join("\n"), format::table(&["share", "events", "value"], &[0, 1], rows)])
}

pub(crate) async fn patterns(common: &Common, args: PatternsArgs) -> Outcome {
    if args.each {
        return each(&args);
    }
    let mut answer: PatternsAnswer = match point(&args.looked.on) {
        Some(place) => {
            let mut query = query(&args.looked, &place);
            query.push(("field", args.field.clone()));
            query.extend(args.minutes.map(|minutes| ("minutes", minutes.to_string())));
            ask(common, "/api/v1/patterns", &query).await?
        }
        None => {
            let mut answer = PatternsAnswer::new(&surveyed(&args.looked, &args.field, |_| {})?.miner, &args.field);
            // A file ends with its last message.
            let end = answer.patterns.iter().map(|p| p.last_ms).max().unwrap_or(0);
            if let Some(minutes) = args.minutes {
                answer.notice(end, minutes.max(1));
            }
            answer
        }
    };
    if args.minutes.is_some() {
        answer.patterns.retain(|pattern| pattern.news.is_some());
    }
    if let Some(id) = &args.show {
        let mut found = answer.patterns.iter().filter(|p| p.id.starts_with(id.as_str()));
        let pattern = found.next().filter(|_| !id.is_empty()).ok_or_else(|| Failure::new(Exit::Failed, format!("there is no pattern `{id}`")))?;
        return if common.json { format::print_json(pattern) } else { show_pattern(pattern) };
    }
    if common.json {
        return format::print_json(&answer);
    }
    let row = |p: &PatternSummary| {
        let worst = p.severities.last().map(|s| s.what.clone()).filter(|s| s != "unknown").unwrap_or_default();
        vec![
            p.id[..8].to_owned(),
            percent(p.share),
            format::count(p.events as i64),
            percent(p.bytes_share),
            blocks(&p.trend, p.trend_width_ms),
            worst,
            match p.news.as_deref() {
                Some("new") => paint("new ", GOOD),
                Some(news) => format!("{news} "),
                None => String::new(),
            } + &clipped(&p.text, 110),
        ]
    };
    let head = ["id", "share", "events", "of bytes", "trend", "max severity", "pattern"];
    let table = format::table(&head, &[1, 2, 3], answer.patterns.iter().take(args.most).map(row).collect());
    let total = format!("{} with the field `{}`, {} patterns", format::events(answer.events as i64), args.field, answer.patterns.len());
    let mut notes = Vec::new();
    if answer.patterns.len() > args.most {
        notes.push(format!("{} more; show them with --most", answer.patterns.len() - args.most));
    }
    if answer.others > 0 {
        notes.push(format!("{} of rare patterns are not told apart", format::events(answer.others as i64)));
    }
    format::blocks(&[total, table, notes.join("\n")])
}

/// The id of the pattern of each message.
fn each(args: &PatternsArgs) -> Outcome {
    let mut texts: Vec<Vec<u8>> = Vec::new();
    let mut usual = rockrose_event::usual::Usual::new(&[&[args.field.as_str()]]);
    let is_message = args.field == "message";
    let survey = surveyed(&args.looked, &args.field, |event| {
        usual.read(event);
        let text = if is_message { usual.message(event).map(<[u8]>::to_vec) } else { usual.text_of(event, 0).map(String::into_bytes) };
        texts.push(text.unwrap_or_default());
    })?;
    let found = survey.miner.patterns();
    let ids: Vec<&str> = texts.iter().map(|text| found.of(text).map_or("-", |at| found.list[at].id.as_str())).collect();
    format::line(&ids.join("\n"))
}

fn show_pattern(p: &PatternSummary) -> Outcome {
    let events = |list: &[rockrose_api::Counted]| list.iter().map(|c| format!("{} {}", format::count(c.events as i64), c.what)).collect::<Vec<_>>().join(", ");
    let lines = [
        format!("{}  {}", paint(&p.id, HEAD), format::escaped(&p.text)),
        format!("events     {} ({}), {} of the bytes", format::count(p.events as i64), percent(p.share), percent(p.bytes_share)),
        format!("severity   {}", events(&p.severities)),
        format!("from       {}", format::escaped(&events(&p.from))),
        format!("seen       {} to {}", format::moment(p.first_ms), format::moment(p.last_ms)),
        format!("trend      {}", blocks(&p.trend, p.trend_width_ms)),
    ];
    let varying = p.varying.iter().map(|v| vec![v.name.clone(), v.sort.clone()]).collect();
    let varying = if p.varying.is_empty() { String::new() } else { format::table(&["varies", "as"], &[], varying) };
    let examples = p.examples.iter().map(|e| format!("  {}", clipped(e, 160))).collect::<Vec<_>>().join("\n");
    let s = &p.sentences;
    let sentences = [s.parse.as_ref(), Some(&s.drop), Some(&s.sample), Some(&s.limit), Some(&s.merge), Some(&s.count), s.measure.as_ref()];
    let sentences = sentences.into_iter().flatten().map(|s| format!("  {}", format::escaped(s))).collect::<Vec<_>>().join("\n");
    format::blocks(&[
        lines.join("\n"),
        varying,
        format!("{}\n{examples}", paint("examples", HEAD)),
        format!("{}\n  {}", paint("condition", HEAD), format::escaped(&p.condition)),
        format!("{}\n{sentences}", paint("sentences", HEAD)),
    ])
}
