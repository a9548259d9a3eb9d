//! What a route carries, and the steps that could be worth it.

use std::collections::{BTreeSet, HashMap};

use rockrose_engine::trial::{Given, Samples};
use rockrose_engine::{CompiledPlan, Point, Scratch, Watch};
use rockrose_event::record::Record;
use rockrose_event::usual::Usual;
use rockrose_language::field_in_sentence;
use rockrose_survey::{BUDGET, Field, Fields, Pattern, Patterns, Survey};

use crate::reads::is_read;
use crate::{Material, Reason, only};

/// A step that could be worth it.
pub(crate) struct Candidate {
    pub(crate) reason: Reason,
    pub(crate) step: String,
    pub(crate) because: String,
    /// Bytes that it seems to save.
    bytes: u64,
}

/// What a route sends on.
pub(crate) struct Carried {
    fields: Fields,
    patterns: Patterns,
    /// How often each message came in the stretch, by its pattern's id: all, and how many different ones.
    repeats: HashMap<String, (u64, u64)>,
    /// The share of events in the stretch that came from two sources.
    copies: f64,
}

/// A pattern or a field with a smaller share of the bytes is not looked at.
const LEAST_SHARE: f64 = 0.05;
/// A path of health checks with a smaller share of the events is not looked at.
const LEAST_CHECKS: f64 = 0.005;
/// Fewer events of a kind say nothing.
const ENOUGH: u64 = 30;
/// A text is long from so many bytes on.
const LONG: f64 = 1_000.0;
/// Of each message so many must come in the stretch on average, for merging to be worth it.
const OFTEN: u64 = 3;
/// Paths by which it is asked whether a service is well.
const CHECKS: &[&str] = &["/health", "/ready", "/live", "/ping", "/alive", "/heartbeat"];
/// Most patterns of a route that are looked at.
const PATTERNS: usize = 12;

/// Events behind the steps of a route, each with its source, for how many it stands, and when it came.
fn behind(compiled: &CompiledPlan, route: &str, given: &[Given<'_>]) -> Vec<(String, Vec<u8>, u64, i64)> {
    let Some(number) = compiled.route(route) else { return Vec::new() };
    let watch = Watch::new(vec![Point::Route(number)], 1);
    let (mut scratch, mut found) = (Scratch::default(), Vec::new());
    for event in given {
        let Some(source) = compiled.source(event.source) else { continue };
        let record = Record { start: 0, end: event.event.len() as u32, form: event.form, number: 1 };
        let outcome = compiled.process(source, event.event, &[record], event.at_ms, Some(&watch), &mut scratch);
        // What a step holds back goes on later, much as it is.
        let passed = outcome.captures.into_iter().filter(|c| c.record == 1 && c.removed_by.is_none());
        found.extend(passed.map(|c| (event.source.to_owned(), c.after.unwrap_or(c.before), event.times, event.at_ms)));
        scratch.take_back(outcome.lines, outcome.ends);
    }
    found
}

impl Carried {
    pub(crate) fn of(material: &Material<'_>, route: &str, samples: Samples<'_>) -> Carried {
        let plan = only(material.plan.plan, route);
        let compile = || CompiledPlan::within(&plan, material.key.clone(), material.plan.environment);
        let mut survey = Survey::new(BUDGET, None);
        for (source, event, times, at_ms) in behind(&compile(), route, samples.some) {
            let from = survey.miner.origin(&source);
            survey.add(&event, times, at_ms, from);
        }
        let patterns = survey.miner.patterns();
        let (mut repeats, mut usual) = (HashMap::<String, HashMap<Vec<u8>, u64>>::new(), Usual::new(&[]));
        let mut whole: HashMap<Vec<u8>, (u64, BTreeSet<String>)> = HashMap::new();
        let stretch = behind(&compile(), route, samples.stretch);
        for (source, event, _, at_ms) in &stretch {
            usual.read(event);
            let time = usual.time(event, *at_ms).map_or(0, |time| time.as_millisecond());
            let Some(message) = usual.message(event).map(<[u8]>::to_vec) else { continue };
            let of = whole.entry([&message[..], &time.to_le_bytes()].concat()).or_default();
            of.0 += 1;
            of.1.insert(source.clone());
            if let Some(at) = patterns.of(&message) {
                *repeats.entry(patterns.list[at].id.clone()).or_default().entry(message).or_default() += 1;
            }
        }
        let copied: u64 = whole.values().filter(|(_, sources)| sources.len() > 1).map(|(count, _)| count / 2).sum();
        let copies = if stretch.is_empty() { 0.0 } else { copied as f64 / stretch.len() as f64 };
        let repeats = repeats.into_iter().map(|(id, of)| (id, (of.values().sum(), of.len() as u64))).collect();
        Carried { fields: survey.fields, patterns, repeats, copies }
    }

    /// Steps that could be worth it, those that seem to save most first.
    pub(crate) fn candidates(&self, read: &BTreeSet<String>) -> Vec<Candidate> {
        let (events, bytes) = self.fields.total();
        let fields = self.fields.list();
        let mut found: Vec<Candidate> = fields.iter().filter_map(|field| checks(field, events, bytes)).collect();
        let patterns = &self.patterns;
        let all: u64 = patterns.list.iter().map(|p| p.bytes).sum();
        for pattern in patterns.list.iter().take(PATTERNS).filter(|p| p.times >= ENOUGH && p.bytes as f64 >= LEAST_SHARE * all as f64) {
            found.extend(repetitive(pattern, events, bytes));
            if let Some((came, different)) = self.repeats.get(&pattern.id).filter(|(came, different)| *came >= ENOUGH && came / (*different).max(1) >= OFTEN) {
                found.push(Candidate {
                    reason: Reason::Repeats,
                    step: format!("merge repeats within 30 seconds by message when {}", pattern.condition("message")),
                    because: format!(
                        "the message `{}` came {came} times in a short while, {}",
                        pattern.text,
                        if *different == 1 { "each time the same".to_owned() } else { format!("in {different} ways of writing it") }
                    ),
                    bytes: (bytes as f64 * pattern.times as f64 / events.max(1) as f64 * (1.0 - *different as f64 / *came as f64)) as u64,
                });
            }
        }
        found.extend(unread(&fields, bytes, read));
        found.extend(fields.iter().filter_map(|field| long(field, bytes)));
        if self.copies >= LEAST_CHECKS {
            let because = format!("{:.1} % of the events come from two sources, alike to the time and the message", 100.0 * self.copies);
            found.push(Candidate {
                reason: Reason::Copies,
                step: "dedupe by time, message within 1 minute".to_owned(),
                because,
                bytes: (self.copies * bytes as f64) as u64,
            });
        }
        found.sort_by_key(|candidate| std::cmp::Reverse(candidate.bytes));
        found
    }
}

/// Requests by which something asks whether a service is well.
fn checks(field: &Field, events: u64, bytes: u64) -> Option<Candidate> {
    let name = field_in_sentence(&field.name);
    let of = |check: &&&str| -> u64 { field.top.iter().filter(|(value, _)| value.starts_with(**check)).map(|(_, times)| times).sum() };
    let check = CHECKS.iter().max_by_key(of)?;
    let times = of(&check);
    if times < ENOUGH || (times as f64) < LEAST_CHECKS * events as f64 {
        return None;
    }
    let share = times as f64 / events.max(1) as f64;
    Some(Candidate {
        reason: Reason::HealthChecks,
        step: format!("drop {name} starts with \"{check}\""),
        because: format!("{:.1} % of the events are requests for `{check}…`", 100.0 * share),
        bytes: (share * bytes as f64) as u64,
    })
}

/// A pattern that carries much and is of low severity.
fn repetitive(pattern: &Pattern, events: u64, bytes: u64) -> Option<Candidate> {
    /// Unknown, trace, debug and info.
    const LOW: usize = 4;
    let (low, high) = pattern.severities.split_at(LOW);
    let condition = pattern.condition("message");
    let share = pattern.times as f64 / events.max(1) as f64;
    let because = format!("{:.1} % of the events say `{}`", 100.0 * share, pattern.text);
    let only_debug = low[0] == 0 && low[3] == 0;
    let (step, left) = if only_debug { (format!("drop {condition}"), 0.0) } else { (format!("sample 1 in 10 when {condition}"), 0.1) };
    let is_low = high.iter().all(|times| *times == 0) && low[1..].iter().any(|times| *times > 0);
    is_low.then_some(Candidate { reason: Reason::Repetitive, step, because, bytes: (share * (1.0 - left) * bytes as f64) as u64 })
}

/// Fields that carry much and that nothing reads: of those within one another, the outermost.
fn unread(fields: &[Field], bytes: u64, read: &BTreeSet<String>) -> Vec<Candidate> {
    let is_wide = |field: &&Field| field.bytes as f64 >= LEAST_SHARE * bytes as f64 && !is_read(&field.name, read);
    let wide: Vec<&Field> = fields.iter().filter(is_wide).collect();
    let outermost = |field: &&&Field| !wide.iter().any(|other| field.name.strip_prefix(other.name.as_str()).is_some_and(|rest| rest.starts_with('.')));
    let candidate = |field: &&Field| Candidate {
        reason: Reason::UnreadField,
        step: format!("remove {}", field_in_sentence(&field.name)),
        because: format!("no condition or step reads `{}`, which carries {:.1} % of the bytes", field.name, 100.0 * field.bytes as f64 / bytes.max(1) as f64),
        bytes: field.bytes,
    };
    wide.iter().filter(outermost).map(candidate).collect()
}

fn long(field: &Field, bytes: u64) -> Option<Candidate> {
    let name = field_in_sentence(&field.name);
    // The lengths of texts only: those of objects are their parts'.
    let is_text = field.kinds[0] > 0 && field.kinds[4..].iter().all(|count| *count == 0);
    let wide = field.bytes as f64 >= LEAST_SHARE * bytes as f64;
    (is_text && wide && field.lengths.p99 > LONG).then(|| Candidate {
        reason: Reason::LongTexts,
        step: format!("trim {name} to 500 B"),
        because: format!(
            "`{name}` carries {:.1} % of the bytes; one in a hundred is longer than {:.0} bytes",
            100.0 * field.bytes as f64 / bytes.max(1) as f64,
            field.lengths.p99
        ),
        bytes: field.bytes / 2,
    })
}
