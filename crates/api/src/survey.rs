//! What is in a stream: its fields and the patterns of its messages.

use rockrose_survey as survey;
use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::ToSchema;

/// How often something came.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Counted {
    /// What.
    pub what: String,
    /// How many events.
    pub events: u64,
}

/// How numbers are spread.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct NumberSpread {
    /// The least of them.
    pub least: f64,
    /// What half of them do not exceed.
    pub p50: f64,
    /// What nine in ten do not exceed.
    pub p90: f64,
    /// What 99 in a hundred do not exceed.
    pub p99: f64,
    /// The largest.
    pub most: f64,
    /// Their mean.
    pub mean: f64,
}

/// What a field holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FieldSummary {
    /// Its name, a path with dots.
    pub name: String,
    /// In how many events it is.
    pub events: u64,
    /// In what share of all events, 0 to 1.
    pub share: f64,
    /// The bytes of its names and values.
    pub bytes: u64,
    /// Their share of all bytes, 0 to 1.
    pub bytes_share: f64,
    /// How many values are `text`, `number`, `boolean`, `null`, `object` or `list`.
    pub kinds: Vec<Counted>,
    /// How many different values it has.
    pub distinct: u64,
    /// Whether that is exact, and not an estimate.
    pub distinct_is_exact: bool,
    /// The most frequent values. Personal data in them is masked.
    pub top: Vec<Counted>,
    /// Of those values that are numbers.
    pub numbers: Option<NumberSpread>,
    /// How many of those that are numbers there are in each of 24 equal parts from the least to the largest; one part, if all are the same.
    #[serde(default)]
    pub shape: Vec<u64>,
    /// How many of those that are times there are in which stretch of time.
    #[serde(default)]
    pub rhythm: Vec<TrendSlot>,
    /// How long each of these stretches is, in milliseconds; 0 without any.
    #[serde(default)]
    pub rhythm_width_ms: i64,
    /// How well the field tells events apart by its most frequent values, in bits: 0 if it is the same in all events, if hardly a value comes twice, or if it is a time.
    #[serde(default)]
    pub tells: f64,
    /// The first of its times, in milliseconds since 1970, if they are times.
    pub first_ms: Option<i64>,
    /// The last of its times.
    pub last_ms: Option<i64>,
    /// The lengths of its values, in bytes.
    pub lengths: NumberSpread,
    /// One of its values. Personal data in it is masked.
    pub example: String,
    /// The detectors that found personal data in it.
    pub personal: Vec<PersonalData>,
    /// The parts of the active plan whose conditions or steps read it: `source:NAME`, `route:NAME`, `destination:NAME`. Nothing, where no plan is asked.
    #[serde(default)]
    pub read_by: Option<Vec<String>>,
}

/// Personal data found in a field.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonalData {
    /// The detector, by its word in sentences.
    pub detector: String,
    /// In what share of the values that were searched, 0 to 1.
    pub share: f64,
}

/// What the fields of events hold.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FieldsAnswer {
    /// For how many events this stands.
    pub events: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Those that carry most bytes first.
    pub fields: Vec<FieldSummary>,
    /// How many values were of fields that there was no room for.
    pub left_out: u64,
}

/// A part of a pattern that varies.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct VaryingPart {
    /// What its field is called.
    pub name: String,
    /// `integer`, `number`, `amount`, `time`, `ip`, `address`, `id`, `path`, `word`, `quoted`, `list` or `rest`.
    pub sort: String,
}

/// How many events there were in a stretch of time.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrendSlot {
    /// When it begins, in milliseconds since 1970.
    pub at_ms: i64,
    /// How many.
    pub events: u64,
}

/// Messages that are alike.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PatternSummary {
    /// The same for the same pattern, wherever it was found.
    pub id: String,
    /// Its text, with the names of what varies in braces.
    pub text: String,
    /// What varies.
    pub varying: Vec<VaryingPart>,
    /// How many events.
    pub events: u64,
    /// Their share of all events with a message, 0 to 1.
    pub share: f64,
    /// The bytes of their messages.
    pub bytes: u64,
    /// Their share of the bytes of all messages, 0 to 1.
    pub bytes_share: f64,
    /// How many there are of each severity: `unknown`, or `trace` to `fatal`.
    pub severities: Vec<Counted>,
    /// Where they came from.
    pub from: Vec<Counted>,
    /// When the first one came, in milliseconds since 1970.
    pub first_ms: i64,
    /// When the last one came.
    pub last_ms: i64,
    /// How many came when.
    pub trend: Vec<TrendSlot>,
    /// How long each stretch of the trend is, in milliseconds.
    pub trend_width_ms: i64,
    /// Some of them.
    pub examples: Vec<String>,
    /// The condition that they meet.
    pub condition: String,
    /// Sentences about them.
    pub sentences: PatternSentences,
    /// `new`, if none came before the time that was asked for; `gone`, if none came since; nothing else.
    #[serde(default)]
    pub news: Option<String>,
}

/// Sentences about a pattern's messages, each ready to be put into a plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PatternSentences {
    /// Reads what varies into fields.
    pub parse: Option<String>,
    /// Removes them.
    pub drop: String,
    /// Keeps one in ten.
    pub sample: String,
    /// Keeps ten a second.
    pub limit: String,
    /// Makes those that come within half a minute one event.
    pub merge: String,
    /// Counts them, so that their trend stays when they are cut.
    pub count: String,
    /// Measures the first number in them.
    pub measure: Option<String>,
}

/// The patterns of messages.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PatternsAnswer {
    /// How many events with a message this stands for.
    pub events: u64,
    /// The bytes of their messages.
    pub bytes: u64,
    /// The most frequent first.
    pub patterns: Vec<PatternSummary>,
    /// How many events are of patterns that there was no room for.
    pub others: u64,
}

/// An event of a sample.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SampledEvent {
    /// When it came, in milliseconds since 1970.
    pub at_ms: i64,
    /// The source that it came by.
    pub source: String,
    /// For how many events it stands.
    pub stands_for: u64,
    /// The event.
    #[schema(value_type = Object)]
    pub event: Box<RawValue>,
}

/// A sample of the events at a point.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SampleAnswer {
    /// How many events are kept.
    pub kept: usize,
    /// For how many they stand.
    pub stands_for: u64,
    /// The newest of them.
    pub events: Vec<SampledEvent>,
}

fn share(of: u64, all: u64) -> f64 {
    if all == 0 { 0.0 } else { of as f64 / all as f64 }
}

fn slots(trend: &survey::Trend) -> Vec<TrendSlot> {
    trend.slots().into_iter().map(|(at_ms, events)| TrendSlot { at_ms, events }).collect()
}

fn spread(of: survey::Numbers) -> NumberSpread {
    let survey::Numbers { least, p50, p90, p99, most, mean } = of;
    NumberSpread { least, p50, p90, p99, most, mean }
}

fn counted<'a>(names: impl Iterator<Item = &'a str>, counts: &[u64]) -> Vec<Counted> {
    names.zip(counts).filter(|(_, events)| **events > 0).map(|(what, events)| Counted { what: what.to_owned(), events: *events }).collect()
}

impl From<&survey::Fields> for FieldsAnswer {
    fn from(fields: &survey::Fields) -> FieldsAnswer {
        let (events, bytes) = fields.total();
        let list = fields.list().into_iter().map(|field| FieldSummary {
            events: field.times,
            share: share(field.times, events),
            bytes: field.bytes,
            bytes_share: share(field.bytes, bytes),
            kinds: counted(survey::KINDS.into_iter(), &field.kinds),
            distinct: field.distinct,
            distinct_is_exact: field.is_exact,
            top: field.top.into_iter().map(|(what, events)| Counted { what, events }).collect(),
            numbers: field.numbers.map(spread),
            shape: field.shape,
            rhythm: field.rhythm.as_ref().map(slots).unwrap_or_default(),
            rhythm_width_ms: field.rhythm.as_ref().map_or(0, survey::Trend::width_ms),
            tells: field.tells,
            first_ms: field.span_ms.map(|(first, _)| first),
            last_ms: field.span_ms.map(|(_, last)| last),
            lengths: spread(field.lengths),
            example: field.example,
            personal: field.personal.into_iter().map(|(detector, share)| PersonalData { detector: detector.to_owned(), share }).collect(),
            name: field.name,
            read_by: None,
        });
        FieldsAnswer { events, bytes, fields: list.collect(), left_out: fields.left_out() }
    }
}

impl FieldsAnswer {
    /// Adds which parts of a plan read each field.
    #[must_use]
    pub fn read_by(mut self, plan: &rockrose_plan::CheckedPlan) -> FieldsAnswer {
        let reads: Vec<(String, String)> = plan.reads().iter().map(|(part, path)| (format!("{}:{}", part.kind, part.name), path.to_string())).collect();
        for field in &mut self.fields {
            let mut parts: Vec<String> = reads.iter().filter(|(_, path)| rockrose_plan::reads_field(path, &field.name)).map(|(part, _)| part.clone()).collect();
            parts.dedup();
            field.read_by = Some(parts);
        }
        self
    }
}

impl PatternsAnswer {
    /// Says of each pattern whether it came up in the last `minutes` before `now_ms` (milliseconds since 1970), or came no more.
    pub fn notice(&mut self, now_ms: i64, minutes: i64) {
        let since = now_ms.saturating_sub(minutes.saturating_mul(60_000));
        // What has not been looked at for that long shows nothing new.
        let began = self.patterns.iter().map(|p| p.first_ms).min().unwrap_or(now_ms);
        for pattern in &mut self.patterns {
            pattern.news = match () {
                () if pattern.last_ms < since => Some("gone".to_owned()),
                () if pattern.first_ms >= since && began < since => Some("new".to_owned()),
                () => None,
            };
        }
    }

    /// What a miner has found in the texts of `field`.
    #[must_use]
    pub fn new(miner: &survey::Miner, field: &str) -> PatternsAnswer {
        let found = miner.patterns();
        let others = miner.others();
        let events = others.0 + found.list.iter().map(|p| p.times).sum::<u64>();
        let bytes = others.1 + found.list.iter().map(|p| p.bytes).sum::<u64>();
        let patterns = found.list.iter().map(|pattern| {
            let survey::Sentences { parse, drop, sample, limit, merge, count, measure } = pattern.sentences(field);
            PatternSummary {
                id: pattern.id.clone(),
                text: pattern.text.clone(),
                varying: pattern.varying.iter().map(|v| VaryingPart { name: v.name.clone(), sort: v.sort.word().to_owned() }).collect(),
                events: pattern.times,
                share: share(pattern.times, events),
                bytes: pattern.bytes,
                bytes_share: share(pattern.bytes, bytes),
                severities: counted(["unknown", "trace", "debug", "info", "warn", "error", "fatal"].into_iter(), &pattern.severities),
                from: pattern.origins.iter().map(|(what, events)| Counted { what: what.clone(), events: *events }).collect(),
                first_ms: pattern.first_ms,
                last_ms: pattern.last_ms,
                trend: slots(&pattern.trend),
                trend_width_ms: pattern.trend.width_ms(),
                examples: pattern.examples.clone(),
                condition: pattern.condition(field),
                sentences: PatternSentences { parse, drop, sample, limit, merge, count, measure },
                news: None,
            }
        });
        PatternsAnswer { events, bytes, patterns: patterns.collect(), others: others.0 }
    }
}
