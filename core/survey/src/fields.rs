//! What the fields of events hold.

use std::collections::BTreeMap;

use rockrose_event::json::{Kind, Span, text};
use rockrose_event::scan;
use rockrose_event::time::{Reader, TimeForm};
use rockrose_language::Detector;

use crate::sketch::{Distinct, Spread, Top};
use crate::trend::Trend;

/// Most fields that are told apart.
pub const MOST_FIELDS: usize = 10_000;
/// Most levels of objects in objects that are looked into.
const DEEPEST: usize = 8;
/// Values of so many events are searched for personal data, of each field.
const SEARCHED: u64 = 500;
/// Longest part of a value that is searched, in bytes.
const SEARCHED_BYTES: usize = 4_096;
/// Longest example, in bytes.
const LONGEST_EXAMPLE: usize = 200;
/// Most values that are listed of a field.
const LISTED: usize = 10;
/// The shape of numbers is told in so many parts.
pub const SHAPE: usize = 24;
/// What takes the place of personal data.
const MASK: &str = "***";

/// The sorts of JSON values, as [`Field::kinds`] has them.
pub const KINDS: [&str; 6] = ["text", "number", "boolean", "null", "object", "list"];

/// What is known of one field.
#[derive(Clone, Debug)]
struct Known {
    times: u64,
    kinds: [u64; 6],
    /// Of names and values, as they are written.
    bytes: u64,
    distinct: Distinct,
    top: Top,
    numbers: Option<Box<Spread>>,
    /// Of times, in milliseconds since 1970.
    first_ms: i64,
    last_ms: i64,
    time_count: u64,
    rhythm: Option<Box<Trend>>,
    lengths: Spread,
    example: String,
    searched: u64,
    personal: [u64; Detector::ALL.len()],
}

impl Known {
    fn new() -> Known {
        Known {
            times: 0,
            kinds: [0; 6],
            bytes: 0,
            distinct: Distinct::new(),
            top: Top::default(),
            numbers: None,
            first_ms: i64::MAX,
            last_ms: i64::MIN,
            time_count: 0,
            rhythm: None,
            lengths: Spread::new(),
            example: String::new(),
            searched: 0,
            personal: [0; Detector::ALL.len()],
        }
    }
}

/// How numbers are spread.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Numbers {
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
#[derive(Clone, Debug, PartialEq)]
pub struct Field {
    /// Its name, a path with dots.
    pub name: String,
    /// In how many events it is.
    pub times: u64,
    /// How many values of each of the [`KINDS`].
    pub kinds: [u64; 6],
    /// The bytes of its names and values, as they are written.
    pub bytes: u64,
    /// How many different values it has.
    pub distinct: u64,
    /// Whether that is no estimate.
    pub is_exact: bool,
    /// The most frequent values, with how often they came at the least. Personal data in them is masked.
    pub top: Vec<(String, u64)>,
    /// Of those that are numbers.
    pub numbers: Option<Numbers>,
    /// The first and the last of those that are times, in milliseconds since 1970.
    pub span_ms: Option<(i64, i64)>,
    /// How many of those that are numbers there are in each of [`SHAPE`] equal parts from the least to the largest; one part, if all are the same.
    pub shape: Vec<u64>,
    /// How many of those that are times there are in which stretch.
    pub rhythm: Option<Trend>,
    /// How well the field tells events apart by the values that are listed, in bits: none if it is the same in all of them, if hardly one comes twice, or if it is a time.
    pub tells: f64,
    /// The lengths of its values, in bytes as they are written.
    pub lengths: Numbers,
    /// One of its values, personal data in it masked.
    pub example: String,
    /// The words of the detectors that found personal data in it, with the share of the values searched in which they did.
    pub personal: Vec<(&'static str, f64)>,
}

/// Gathers what the fields of events hold, in bounded memory.
pub struct Fields {
    known: BTreeMap<String, Known>,
    reader: Reader,
    times: u64,
    bytes: u64,
    scratch: Vec<u8>,
    /// Names that there was no room for.
    left_out: u64,
    slots: Vec<Span>,
}

impl Default for Fields {
    fn default() -> Fields {
        Fields { known: BTreeMap::new(), reader: Reader::new(&TimeForm::default()), times: 0, bytes: 0, scratch: Vec::new(), left_out: 0, slots: Vec::new() }
    }
}

impl Fields {
    /// Counts an event (one JSON object), standing for `times`. Says whether it is one. `now_ms` completes times that name no year.
    pub fn add(&mut self, event: &[u8], times: u64, now_ms: i64) -> bool {
        let Ok(scanned) = scan::scan_edited(event, rockrose_event::field::FieldTable::none(), &mut self.slots) else { return false };
        let Some(start) = event.iter().position(|b| *b == b'{') else { return false };
        self.times += times;
        self.bytes += times * event.len() as u64;
        let whole = Span { start: start as u32, end: scanned.end as u32, kind: Kind::Object };
        self.members(event, whole, &mut String::new(), times, now_ms, 0);
        true
    }

    fn members(&mut self, event: &[u8], object: Span, path: &mut String, times: u64, now_ms: i64, depth: usize) {
        for (key, value) in scan::members(event, object) {
            let before = path.len();
            if before > 0 {
                path.push('.');
            }
            path.push_str(&String::from_utf8_lossy(text(event, key, &mut self.scratch)));
            if value.kind == Kind::Object && depth < DEEPEST && value.end - value.start > 2 {
                self.members(event, value, path, times, now_ms, depth + 1);
            } else {
                self.value(path, event, key, value, times, now_ms);
            }
            path.truncate(before);
        }
    }

    fn value(&mut self, path: &str, event: &[u8], key: Span, value: Span, times: u64, now_ms: i64) {
        if !self.known.contains_key(path) {
            if self.known.len() >= MOST_FIELDS {
                self.left_out += times;
                return;
            }
            self.known.insert(path.to_owned(), Known::new());
        }
        let Some(known) = self.known.get_mut(path) else { return };
        let kind = match value.kind {
            Kind::Text | Kind::EscapedText => 0,
            Kind::Number => 1,
            Kind::True | Kind::False => 2,
            Kind::Null | Kind::Missing => 3,
            Kind::Object => 4,
            Kind::Array => 5,
        };
        known.times += times;
        known.kinds[kind] += times;
        let written = value.of(event);
        known.bytes += times * (u64::from(key.end - key.start) + 1 + written.len() as u64);
        known.lengths.add(written.len() as f64, times);
        let content = if value.is_text() { text(event, value, &mut self.scratch) } else { written };
        known.distinct.add(content);
        known.top.add(content, times);
        if known.example.is_empty() {
            known.example = String::from_utf8_lossy(&content[..content.len().min(LONGEST_EXAMPLE)]).into_owned();
        }
        let looks_like_number = content.first().is_some_and(|b| b.is_ascii_digit() || *b == b'-') && content.len() <= 24;
        if looks_like_number && let Some(number) = std::str::from_utf8(content).ok().and_then(|text| text.parse::<f64>().ok()).filter(|n| n.is_finite()) {
            known.numbers.get_or_insert_with(|| Box::new(Spread::new())).add(number, times);
        }
        let looks_like_time =
            value.is_text() && (10..=40).contains(&content.len()) && content[..4].iter().all(u8::is_ascii_digit) && matches!(content[4], b'-' | b'/');
        if looks_like_time && let Some(time) = self.reader.read(content, now_ms) {
            let at = time.as_millisecond();
            known.first_ms = known.first_ms.min(at);
            known.last_ms = known.last_ms.max(at);
            known.time_count += times;
            match &mut known.rhythm {
                Some(rhythm) => rhythm.add(at, times),
                None => known.rhythm = Some(Box::new(Trend::new(at, times))),
            }
        }
        if value.is_text() && known.searched < SEARCHED {
            known.searched += 1;
            let searched = &content[..content.len().min(SEARCHED_BYTES)];
            for (at, detector) in Detector::ALL.iter().enumerate() {
                known.personal[at] += u64::from(rockrose_redact::find(*detector, searched, 0).is_some());
            }
        }
    }

    /// Adds what another has gathered.
    pub fn merge(&mut self, other: &Fields) {
        self.times += other.times;
        self.bytes += other.bytes;
        self.left_out += other.left_out;
        for (name, theirs) in &other.known {
            if !self.known.contains_key(name) && self.known.len() >= MOST_FIELDS {
                self.left_out += theirs.times;
                continue;
            }
            let mine = self.known.entry(name.clone()).or_insert_with(Known::new);
            mine.times += theirs.times;
            mine.bytes += theirs.bytes;
            mine.kinds.iter_mut().zip(theirs.kinds).for_each(|(mine, theirs)| *mine += theirs);
            mine.distinct.merge(&theirs.distinct);
            mine.top.merge(&theirs.top);
            if let Some(theirs) = &theirs.numbers {
                mine.numbers.get_or_insert_with(|| Box::new(Spread::new())).merge(theirs);
            }
            (mine.first_ms, mine.last_ms) = (mine.first_ms.min(theirs.first_ms), mine.last_ms.max(theirs.last_ms));
            mine.time_count += theirs.time_count;
            match (&mut mine.rhythm, &theirs.rhythm) {
                (Some(mine), Some(theirs)) => mine.merge(theirs),
                (mine @ None, theirs) => mine.clone_from(theirs),
                _ => {}
            }
            mine.lengths.merge(&theirs.lengths);
            mine.searched += theirs.searched;
            mine.personal.iter_mut().zip(theirs.personal).for_each(|(mine, theirs)| *mine += theirs);
            if mine.example.is_empty() {
                mine.example.clone_from(&theirs.example);
            }
        }
    }

    /// How many events there were, and their bytes.
    #[must_use]
    pub fn total(&self) -> (u64, u64) {
        (self.times, self.bytes)
    }

    /// How many values were of fields that there was no room for.
    #[must_use]
    pub fn left_out(&self) -> u64 {
        self.left_out
    }

    /// All fields, those that carry most bytes first.
    #[must_use]
    pub fn list(&self) -> Vec<Field> {
        let mut list: Vec<Field> = self.known.iter().map(|(name, known)| field(name, known, self.times)).collect();
        list.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.name.cmp(&b.name)));
        list
    }
}

fn spread(of: &Spread) -> Numbers {
    let q = |at| of.quantile(at);
    Numbers { least: of.least, p50: q(0.5), p90: q(0.9), p99: q(0.99), most: of.most, mean: of.sum / of.times.max(1) as f64 }
}

/// How many bits the segments of a whole tell: listed values that come more than once, all others together, and events without the field.
fn tells(listed: &[(String, u64)], times: u64, of: u64) -> f64 {
    let again = || listed.iter().map(|(_, n)| *n).filter(|n| *n > 1);
    let others = times.saturating_sub(again().sum());
    let segments = again().chain([others, of.saturating_sub(times)]).filter(|n| *n > 0);
    segments.map(|n| n as f64 / of.max(1) as f64).map(|share| -share * share.log2()).sum::<f64>().max(0.0)
}

fn field(name: &str, known: &Known, of: u64) -> Field {
    let texts = known.searched.max(1) as f64;
    let personal = Detector::ALL
        .into_iter()
        .zip(known.personal)
        .filter(|(_, found)| *found > 0)
        .map(|(detector, found)| (detector.word(), found as f64 / texts))
        .collect();
    // Those that look the same once they are masked are one.
    let mut top: Vec<(String, u64)> = Vec::new();
    for (value, times) in known.top.list(usize::MAX) {
        let value = masked(&String::from_utf8_lossy(value));
        match top.iter_mut().find(|(known, _)| *known == value) {
            Some((_, count)) => *count += times,
            None => top.push((value, times)),
        }
    }
    top.sort_by_key(|(_, times)| std::cmp::Reverse(*times));
    top.truncate(LISTED);
    // Numbers in words and ids are none of an amount.
    let numbers = known.numbers.as_ref().filter(|numbers| 2 * numbers.times >= known.times);
    let is_time = 2 * known.time_count > known.times;
    Field {
        name: name.to_owned(),
        times: known.times,
        kinds: known.kinds,
        bytes: known.bytes,
        distinct: known.distinct.count(),
        is_exact: known.distinct.is_exact(),
        tells: if is_time { 0.0 } else { tells(&top, known.times, of) },
        top,
        shape: numbers.map(|numbers| numbers.shape(SHAPE)).unwrap_or_default(),
        numbers: numbers.map(|numbers| spread(numbers)),
        span_ms: is_time.then_some((known.first_ms, known.last_ms)),
        rhythm: known.rhythm.as_deref().filter(|_| is_time).cloned(),
        lengths: spread(&known.lengths),
        example: masked(&known.example),
        personal,
    }
}

/// A text with what the detectors find in it masked.
#[must_use]
pub fn masked(text: &str) -> String {
    let mut out = text.to_owned();
    for detector in Detector::ALL {
        let mut at = 0;
        while let Some(found) = rockrose_redact::find(detector, out.as_bytes(), at) {
            // What is found begins and ends at characters.
            if !out.is_char_boundary(found.start) || !out.is_char_boundary(found.end) || found.is_empty() {
                break;
            }
            out.replace_range(found.clone(), MASK);
            at = found.start + MASK.len();
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn gathered(events: &[String]) -> Fields {
        let mut fields = Fields::default();
        events.iter().for_each(|event| assert!(fields.add(event.as_bytes(), 1, 0), "{event}"));
        fields
    }

    fn events() -> Vec<String> {
        (0..200)
            .map(|n| {
                let port = ["Lowmere", "Lowmere", "Tansy Quay"][n % 3];
                let note = if n % 4 == 0 { format!(r#","note":"card of ann{n}@post.example""#) } else { String::new() };
                format!(
                    r#"{{"time":"2026-11-30T10:00:{:02}Z","port":"{port}","took":{},"http":{{"status":{},"ok":true}},"id":"t-{n}","tags":[1,2]{note}}}"#,
                    n % 60,
                    n,
                    200 + n % 2
                )
            })
            .collect()
    }

    #[test]
    fn each_field_is_told_of() {
        let events = events();
        let fields = gathered(&events);
        let list = fields.list();
        let of = |name: &str| list.iter().find(|f| f.name == name).unwrap_or_else(|| panic!("{name}"));
        assert_eq!(list.len(), 8);
        assert_eq!(fields.total(), (200, events.iter().map(|e| e.len() as u64).sum()));
        assert_eq!((of("port").times, of("port").distinct, of("port").is_exact), (200, 2, true));
        assert_eq!(of("port").top, [("Lowmere".to_owned(), 134), ("Tansy Quay".to_owned(), 66)]);
        let took = of("took").numbers.unwrap();
        assert_eq!((took.least, took.most, of("took").kinds), (0.0, 199.0, [0, 200, 0, 0, 0, 0]));
        assert!((95.0..105.0).contains(&took.p50) && (190.0..=199.0).contains(&took.p99) && took.mean == 99.5, "{took:?}");
        assert_eq!((of("http.ok").kinds[2], of("tags").kinds[5], of("note").times), (200, 200, 50));
        assert_eq!(of("time").span_ms, Some((1_796_032_800_000, 1_796_032_859_000)));
        assert!((150..=250).contains(&of("id").distinct) && !of("id").is_exact);
        assert_eq!((of("id").numbers, of("id").span_ms), (None, None));
        // How numbers and times are spread, and how well a field tells events apart.
        let (shape, rhythm) = (&of("took").shape, of("time").rhythm.as_ref().unwrap().slots());
        assert!(shape.len() == SHAPE && shape.iter().sum::<u64>() == 200 && of("port").shape.is_empty(), "{shape:?}");
        assert_eq!((rhythm.iter().map(|(_, n)| n).sum::<u64>(), &of("took").rhythm), (200, &None));
        assert!((0.9..0.93).contains(&of("port").tells) && (0.99..=1.0).contains(&of("http.status").tells), "{list:?}");
        assert!(of("http.ok").tells == 0.0 && of("id").tells == 0.0 && of("time").tells == 0.0, "{list:?}");
        // Personal data is found, and not shown.
        assert_eq!(of("note").personal, [("email", 1.0)]);
        assert_eq!(of("note").example, "card of ***");
        assert_eq!(of("note").top, [("card of ***".to_owned(), 48)], "those of the values that are kept");
        assert!(of("port").personal.is_empty());
        let shares: u64 = list.iter().map(|f| f.bytes).sum();
        assert!(shares < fields.total().1 && shares * 10 > fields.total().1 * 7, "{shares}");
    }

    #[test]
    fn two_that_are_merged_tell_what_one_would_have_told() {
        let events = events();
        let (one, other) = events.split_at(77);
        let mut merged = gathered(one);
        merged.merge(&gathered(other));
        assert_eq!(merged.total(), gathered(&events).total());
        for (a, b) in merged.list().iter().zip(gathered(&events).list()) {
            assert_eq!(
                (&a.name, a.times, a.kinds, a.bytes, a.distinct, a.numbers, a.span_ms),
                (&b.name, b.times, b.kinds, b.bytes, b.distinct, b.numbers, b.span_ms)
            );
        }
    }

    #[test]
    fn odd_events_are_borne_within_bounds() {
        let mut fields = Fields::default();
        for odd in ["", "[1]", "{", "{\"a\":}", "no event"] {
            assert!(!fields.add(odd.as_bytes(), 1, 0), "{odd}");
        }
        let deep = format!("{}1{}", "{\"b\":".repeat(60), "}".repeat(60));
        for odd in ["{}", "{\"\":{\"\":{}}}", "{\"a\":null,\"a\":[]}", "{\"a\":\"\\ud800\"}", deep.as_str()] {
            assert!(fields.add(odd.as_bytes(), 1, 0), "{odd}");
        }
        for n in 0..MOST_FIELDS + 100 {
            fields.add(format!("{{\"f{n}\":{n}}}").as_bytes(), 2, 0);
        }
        assert_eq!(fields.list().len(), MOST_FIELDS);
        assert!(fields.left_out() >= 200);
    }
}
