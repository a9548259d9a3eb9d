//! `suggest`: steps that would save something, or keep personal data from leaving.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use clap::Args;
use reqwest::Method;
use rockrose_api::{Declined, Suggestion, SuggestionsAnswer};
use rockrose_engine::Environment;
use rockrose_engine::trial::{Given, Real, Samples, Side};
use rockrose_language::Place;
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;
use rockrose_suggest::Material;

use crate::client::Client;
use crate::format::{self, BAD, FAINT, GOOD, HEAD, paint};
use crate::sample::Sample;
use crate::{Common, Exit, Failure, Outcome};

/// Suggest steps that save something or keep personal data from leaving, each with what it would do
///
/// What each would save is measured by a trial on the samples. Nothing is applied: `rockrose try --step` shows what one does, `rockrose apply --step` applies it.
#[derive(Args)]
pub struct SuggestArgs {
    /// A point: source:NAME (only by its events), route:NAME or destination:NAME (only for it); or a file (also gzip or Zstandard), `-` for standard input
    #[arg(value_name = "FILE|POINT")]
    on: Option<PathBuf>,
    /// Only by events that meet this condition
    #[arg(long, value_name = "CONDITION")]
    when: Option<String>,
    /// Do not make this suggestion again
    #[arg(long, value_name = "ID", conflicts_with_all = ["on", "when"])]
    decline: Option<String>,
    /// Make a suggestion again that was declined
    #[arg(long, value_name = "ID", conflicts_with_all = ["on", "when", "decline"])]
    restore: Option<String>,
    /// Show at most N suggestions
    #[arg(long, default_value_t = 10, value_name = "N")]
    most: usize,
}

pub(crate) async fn suggest(common: &Common, args: SuggestArgs) -> Outcome {
    if let Some((id, method)) = args.decline.as_ref().map(|id| (id, Method::POST)).or(args.restore.as_ref().map(|id| (id, Method::DELETE))) {
        let id = percent_encoding::utf8_percent_encode(id, percent_encoding::NON_ALPHANUMERIC);
        let answer = Client::new(common)?.call(method, &format!("/api/v1/suggestions/{id}/decline"), &()).await?;
        if common.json {
            return answer.print();
        }
        let Declined { id, declined } = answer.read()?;
        return format::line(&if declined { format!("The suggestion {id} is not made again.") } else { format!("The suggestion {id} is made again.") });
    }
    let place = args.on.as_ref().and_then(|on| on.to_str().and_then(Place::read).filter(|_| !on.exists()));
    let told = match (&args.on, place) {
        (Some(file), None) => of_file(file, args.when.as_deref())?,
        (_, place) => {
            let mut query = form_urlencoded::Serializer::new(String::new());
            if let Some(place) = place {
                query.append_pair("point", &place.to_string());
            }
            if let Some(when) = &args.when {
                query.append_pair("when", when);
            }
            Client::new(common)?.get(&format!("/api/v1/suggestions?{}", query.finish())).await?.read()?
        }
    };
    if common.json {
        return format::print_json(&told);
    }
    show(&told, args.most, args.on.is_none())
}

/// A file's events, as if they were sent on as they are.
fn of_file(path: &Path, when: Option<&str>) -> Result<SuggestionsAnswer, Failure> {
    let when = when.map(|when| format!("when = {}\n", toml::Value::from(when))).unwrap_or_default();
    let text = format!(
        "[source.file]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.out]\nkind = \"discard\"\n[[route]]\nname = \"all\"\n{when}to = [\"out\"]\n"
    );
    let plan = CheckedPlan::read(&text).map_err(|mistakes| Failure::new(Exit::BadPlan, crate::plan::mistakes(&mistakes, "the condition")))?;
    let now = jiff::Timestamp::now().as_millisecond();
    let sample = Sample::read(path)?;
    let mut events: Vec<Vec<u8>> = Vec::new();
    sample.each(now, |event| events.push(event.to_vec()))?;
    let mut usual = rockrose_event::usual::Usual::new(&[]);
    let given: Vec<Given<'_>> = events
        .iter()
        .map(|event| {
            usual.read(event);
            Given::one("file", event, usual.time(event, now).map_or(now, jiff::Timestamp::as_millisecond))
        })
        .collect();
    let (environment, key, declined) = (Environment::default(), HashKey::new([0; 32]), HashSet::new());
    let passed: i64 = events.iter().map(|event| event.len() as i64).sum();
    let amount = rockrose_ledger::Amount { events: events.len() as i64, bytes: passed };
    let real = Real { sources: [("file".to_owned(), amount)].into(), branches: std::collections::HashMap::new() };
    let material = Material {
        plan: Side { plan: &plan, environment: &environment },
        key: &key,
        samples: Samples { some: &given, stretch: &given },
        real: &real,
        declined: &declined,
    };
    let found = rockrose_suggest::suggest(&material);
    let suggestions = found.iter().map(|s| Suggestion::new(s, |n| n, |_| None)).collect();
    Ok(SuggestionsAnswer { revision: 0, events: events.len() as u64, estimated_from_ms: None, suggestions, declined: 0 })
}

fn show(told: &SuggestionsAnswer, most: usize, whole: bool) -> Outcome {
    let mut blocks = Vec::new();
    let a_month = if told.estimated_from_ms.is_some() { " a month" } else { "" };
    for (number, s) in told.suggestions.iter().take(most).enumerate() {
        let money: Vec<String> = s.money.iter().filter(|m| m.amount >= 0.005).map(|m| format!("{:.2} {}", m.amount, m.currency)).collect();
        let saves = match (s.saves.bytes, money.is_empty()) {
            (0, _) => paint("keeps personal data from leaving", BAD),
            (bytes, true) => paint(&format!("saves {}{a_month}", format::bytes(bytes as f64)), GOOD),
            (bytes, false) => paint(&format!("saves {}{a_month}, {}", money.join(" and "), format::bytes(bytes as f64)), GOOD),
        };
        let share = if s.saves.bytes > 0 { format!(", {:.1} % of what {} sends", 100.0 * s.share, s.part.replace(':', " ")) } else { String::new() };
        let head = format!("{}. {}: {saves}{share}", number + 1, paint(&s.reason, HEAD));
        blocks.push(format!("{head}\n   {}\n   {}\n   {}", s.because, format::escaped(&s.step), paint(&format!("at {}, id {}", s.part, s.id), FAINT)));
    }
    if told.suggestions.is_empty() {
        blocks.push(format!("Nothing to suggest by {} looked at.", format::events(i64::try_from(told.events).unwrap_or(i64::MAX))));
    }
    let more = told.suggestions.len().saturating_sub(most);
    let mut notes = Vec::new();
    if more > 0 {
        notes.push(format!("{more} more; show them with --most"));
    }
    if told.declined > 0 {
        notes.push(format!("{} declined", told.declined));
    }
    if whole && !told.suggestions.is_empty() {
        notes.push("Try one with: rockrose try --step SENTENCE --at POINT; apply it with: rockrose apply --step SENTENCE --at POINT".to_owned());
    }
    blocks.push(paint(&notes.join("\n"), FAINT));
    format::blocks(&blocks)
}
