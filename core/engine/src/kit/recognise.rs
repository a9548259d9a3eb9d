//! Finds out of what kind lines are: by running the kits over them, so that what is shown before use is what will happen.

use rockrose_event::usual::Usual;
use rockrose_extract::{InDigits, date_in_digits, tells_its_time};

use super::{Kit, LinesAre, events_of};

/// So many of the lines must fit a kit for it to be taken though a later one may fit better.
const SURE: f64 = 0.8;
/// Fewer than this, and nothing is recognised.
pub(super) const LIKELY: f64 = 0.5;
/// So many of the lines in traces make them worth joining.
const SOME_TRACES: f64 = 0.02;
/// Kits whose lines may have traces among them.
const WITH_TRACES: [&str; 3] = ["container", "system-log", "app-text"];
/// Most columns of a table that is recognised.
const MAX_COLUMNS: usize = 64;

/// What lines were recognised as, and what to do with them.
#[derive(Clone, Debug, PartialEq)]
pub struct Recognised {
    /// What the lines are, in a sentence.
    pub says: String,
    /// The kits whose recipes the steps use.
    pub kits: Vec<&'static str>,
    /// Steps for the source's `on_arrival`.
    pub steps: Vec<String>,
    /// The share of the lines that is so, from 0 to 1.
    pub share: f64,
    /// The share of the events whose time can be read then, from 0 to 1.
    pub timed: f64,
    /// The first event's time as it is read, RFC 3339, if it has one.
    pub time: Option<String>,
    /// The events that become of the lines.
    pub events: Vec<String>,
}

/// Finds out of what kind lines are. Those at the beginning and end may be cut off.
#[must_use]
pub fn recognise(lines: &str, now_ms: i64) -> Recognised {
    // Lines that say themselves what they hold are nothing else.
    if let Some((steps, share, says)) = tabbed(lines) {
        let Read { steps, events, timed, time } = Read::of(&[], steps, lines, now_ms);
        return Recognised { says: says.to_owned(), kits: Vec::new(), steps, share, timed, time, events };
    }
    let is_trace = |kit: &&Kit| kit.name.starts_with("trace-");
    // The lines of traces are put together before anything is read out of them.
    let share_of = |kit: &'static Kit| (kit, kit.share(lines, now_ms));
    let traces = Kit::ready_made().iter().filter(is_trace).map(share_of);
    let trace = traces.filter(|(_, share)| *share >= SOME_TRACES).max_by(|a, b| a.1.total_cmp(&b.1));
    let goes_on = trace.is_none() && lines.lines().any(|l| l.starts_with([' ', '\t']) && !l.trim().is_empty());
    let mut kits: Vec<&'static str> = trace.iter().map(|(kit, _)| kit.name.as_str()).collect();
    let mut steps: Vec<String> = kits.iter().map(|k| format!("use {k}")).collect();
    let others: Vec<&'static Kit> = Kit::ready_made().iter().filter(|k| !is_trace(k)).collect();
    let shares: Vec<(&'static Kit, f64)> = match trace {
        None => others.into_iter().map(share_of).collect(),
        Some((trace, _)) => {
            let of_joined = |kit: &'static Kit| {
                let steps = [steps.clone(), vec![format!("use {}", kit.name)]].concat();
                let events = events_of(&format!("{}\n{}", trace.plan, kit.plan), &steps, lines, now_ms);
                (kit, events.iter().filter(|e| kit.fits.meets(e.as_bytes(), now_ms)).count() as f64 / events.len().max(1) as f64)
            };
            others.into_iter().filter(|k| WITH_TRACES.contains(&k.name.as_str()) && k.is_for(lines)).map(of_joined).collect()
        }
    };
    let sure = shares.iter().find(|(_, share)| *share >= SURE);
    let best = shares.iter().filter(|(_, share)| *share >= LIKELY).max_by(|a, b| a.1.total_cmp(&b.1));
    let (mut share, mut says) = trace.map_or((0.0, "text".to_owned()), |(kit, share)| (share, first_small(&kit.says)));
    if let Some((kit, of)) = sure.or(best) {
        says = if trace.is_some() { format!("{}; among them {says}", first_small(&kit.says)) } else { first_small(&kit.says) };
        share = *of;
        kits.push(kit.name.as_str());
        steps.push(format!("use {}", kit.name));
        if goes_on && kit.lines_are == LinesAre::Text {
            steps.insert(0, "join lines indented".to_owned());
        }
    } else if trace.is_some() {
        // They are read as they stand.
    } else if let Some((step, of, what)) = columns(lines) {
        (share, says) = (of, what);
        steps.push(step);
    } else if let Some((found, of, what)) = dates_in_digits(lines) {
        (share, says) = (of, what.to_owned());
        steps.extend(found);
    } else if lines.lines().filter(|l| l.trim_start().starts_with('{')).count() * 2 > lines.lines().count() {
        (share, says) = (1.0, "JSON lines".to_owned());
    } else if goes_on {
        steps.push("join lines indented".to_owned());
    }
    let mut read = Read::of(&kits, steps, lines, now_ms);
    if let Some((with, joined)) = joined_by_time(&kits, &read, lines, now_ms) {
        let kit = Kit::ready_made().iter().find(|k| k.name == TIMED).map_or("", |k| &k.says);
        says = trace.map_or_else(|| first_small(kit), |(trace, _)| format!("{}; among them {}", first_small(kit), first_small(&trace.says)));
        (share, kits, read) = (joined.timed, with, joined);
    }
    let Read { steps, events, timed, time } = read;
    Recognised { says, kits, steps, share, timed, time, events }
}

/// What steps make of lines.
struct Read {
    steps: Vec<String>,
    events: Vec<String>,
    /// The share of them whose time can be read.
    timed: f64,
    /// The time that was read from the first line.
    time: Option<String>,
}

impl Read {
    fn of(kits: &[&str], steps: Vec<String>, lines: &str, now_ms: i64) -> Read {
        let recipes: String = Kit::ready_made().iter().filter(|k| kits.contains(&k.name.as_str())).map(|k| k.plan.as_str()).collect();
        let events = events_of(&recipes, &steps, lines, now_ms);
        let mut usual = Usual::new(&[]);
        let times = events.iter().map(|event| {
            usual.read(event.as_bytes());
            usual.time(event.as_bytes(), now_ms).map(|t| t.to_string())
        });
        let times: Vec<Option<String>> = times.collect();
        let timed = times.iter().flatten().count() as f64 / times.len().max(1) as f64;
        Read { steps, events, timed, time: times.into_iter().flatten().next() }
    }
}

/// So many of the events tell their time if as good as all do.
const ALL: f64 = 0.98;
/// So many of the lines must tell a time for the others to belong to them.
const SOME_BEGIN: f64 = 0.2;

/// The kit for lines that tell their time.
const TIMED: &str = "app-text";

/// What becomes of lines if those that tell no time belong to the ones before, whatever they look like, and the kits that are used then; only if more tell their time so than by the
/// `kits` alone.
fn joined_by_time(kits: &[&'static str], read: &Read, lines: &str, now_ms: i64) -> Option<(Vec<&'static str>, Read)> {
    let is_text = !lines.lines().any(|l| l.starts_with('{')) && kits.iter().all(|kit| *kit == TIMED || kit.starts_with("trace-"));
    if !is_text || read.timed >= ALL {
        return None;
    }
    let all = lines.lines().filter(|l| !l.trim().is_empty()).count();
    let mut room = Vec::new();
    let begin = lines.lines().filter(|l| tells_its_time(l.as_bytes(), &mut room)).count();
    if (begin as f64) < SOME_BEGIN * all as f64 {
        return None;
    }
    let mut with = kits.to_vec();
    with.extend((!kits.contains(&TIMED)).then_some(TIMED));
    let steps = std::iter::once("join lines without a time".to_owned()).chain(with.iter().map(|k| format!("use {k}"))).collect();
    let joined = Read::of(&with, steps, lines, now_ms);
    (joined.timed > read.timed && joined.timed >= SURE).then_some((with, joined))
}

fn first_small(says: &str) -> String {
    // A name in capitals stays one.
    if says.chars().nth(1).is_some_and(char::is_uppercase) { says.to_owned() } else { says[..1].to_lowercase() + &says[1..] }
}

const DAY_FIRST: (&str, &str, &str) = ("%d", "%m", "lines that begin with a date, the day first");
const MONTH_FIRST: (&str, &str, &str) = ("%m", "%d", "lines that begin with a date, the month first");

/// Lines that begin with a date in digits, day or month first: which it is shows in the days past the twelfth, over all lines; where there are none of those, it is not guessed but for
/// dates with dashes or full stops.
fn dates_in_digits(lines: &str) -> Option<([String; 2], f64, &'static str)> {
    let all = lines.lines().filter(|l| !l.trim().is_empty()).count();
    let heads: Vec<InDigits> = lines.lines().filter_map(date_in_digits).collect();
    let InDigits { sign, zoned, .. } = *heads.first()?;
    let share = heads.iter().filter(|h| (h.sign, h.zoned) == (sign, zoned)).count() as f64 / all.max(1) as f64;
    let most = |of: fn(&InDigits) -> u32| heads.iter().map(of).max().unwrap_or(0);
    let (first, second, what) = match (most(|h| h.first), most(|h| h.second)) {
        (13..=31, ..=12) => DAY_FIRST,
        (..=12, 13..=31) => MONTH_FIRST,
        // With full stops or dashes the day comes first, as good as everywhere.
        (..=12, ..=12) if sign != '/' => DAY_FIRST,
        _ => return None,
    };
    let sign_in_regex = if sign == '-' { "-".to_owned() } else { format!("\\{sign}") };
    let (zone_in_regex, zone) = if zoned { (r" [+-]\d{4}", " %z") } else { ("", "") };
    let pattern =
        format!(r"^\[?(?<time>\d\d?{sign_in_regex}\d\d?{sign_in_regex}\d{{4}} \d\d?:\d\d:\d\d{zone_in_regex})(?:[.,]\d+)?\]?[ \t:,|-]*(?<message>(?s:.*))$");
    let steps = [format!("parse message as /{pattern}/"), format!("convert time to time \"{first}{sign}{second}{sign}%Y %H:%M:%S{zone}\"")];
    (share >= SURE).then_some((steps, share, what))
}

/// Columns with tabs between them, which a `#fields` line names; a `#types` line says what each holds.
fn tabbed(lines: &str) -> Option<(Vec<String>, f64, &'static str)> {
    let listed = |what: &str| lines.lines().find_map(|l| Some(l.strip_prefix(what)?.split('\t').collect::<Vec<_>>()));
    let names: Vec<&str> = listed("#fields\t")?;
    let plain = |name: &&str| {
        name.split('.').all(|part| {
            part.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && part.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-'))
        })
    };
    if !(1..=MAX_COLUMNS).contains(&names.len()) || !names.iter().all(plain) {
        return None;
    }
    let types = listed("#types\t").unwrap_or_default();
    let mut steps = vec!["drop message starts with \"#\"".to_owned(), format!("parse message as tsv({})", names.join(", "))];
    let of = |kind: &[&str]| names.iter().zip(&types).filter(|(_, of)| kind.contains(of)).map(|(name, _)| *name).collect::<Vec<_>>();
    let times = of(&["time"]);
    if let Some(first) = times.first().filter(|first| **first != "time" && !names.contains(&"time")) {
        steps.push(format!("rename {first} to time"));
    }
    for (i, name) in times.iter().enumerate() {
        let name = if i == 0 && !names.contains(&"time") { "time" } else { name };
        steps.push(format!("convert {name} to time"));
    }
    let texts = of(&["string", "addr", "enum", "subnet"]);
    if !texts.is_empty() {
        steps.push(format!("convert {}", texts.iter().map(|name| format!("{name} to text")).collect::<Vec<_>>().join(", ")));
    }
    for name in of(&["bool"]) {
        steps.push(format!("set {name} = true when {name} = \"T\""));
        steps.push(format!("set {name} = false when {name} = \"F\""));
    }
    Some((steps, 1.0, "values with tabs between them, whose `#fields` line names the columns"))
}

/// Columns that a line at the top names: of a W3C extended log, or of comma-separated values.
fn columns(lines: &str) -> Option<(String, f64, String)> {
    let column = |name: &str| -> Option<String> {
        let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-' | b'(' | b')' | b'.' | b' '));
        plain.then(|| name.trim().replace(' ', "_"))
    };
    if let Some(fields) = lines.lines().find_map(|l| l.strip_prefix("#Fields:")) {
        let names: Option<Vec<String>> = fields.split_whitespace().map(column).collect();
        return Some((format!("parse message as w3c log({})", names?.join(", ")), 1.0, "a W3C extended log, whose `#Fields` name its columns".to_owned()));
    }
    let first = lines.lines().next()?;
    let names: Vec<String> = first.split(',').map(|n| column(n.trim().trim_matches('"'))).collect::<Option<_>>()?;
    if !(3..=MAX_COLUMNS).contains(&names.len()) || names.iter().any(|n| n.starts_with(|c: char| !c.is_ascii_alphabetic() && c != '_')) {
        return None;
    }
    let rows: Vec<&str> = lines.lines().skip(1).filter(|l| !l.is_empty()).collect();
    let fit = rows.iter().filter(|row| row.matches(',').count() + 1 >= names.len()).count();
    let share = fit as f64 / rows.len().max(1) as f64;
    (share >= SURE && !rows.is_empty())
        .then(|| (format!("parse message as csv({})", names.join(", ")), share, "comma-separated values, whose first line names the columns".to_owned()))
}
