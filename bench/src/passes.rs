//! The engine's passes: split, validate, pull, route, edit, write.

use std::fmt::Write;
use std::hint::black_box;

use rockrose_api::Passed;
use rockrose_engine::trial::{Asked, Given, trial};
use rockrose_engine::{CompiledPlan, Environment, Point, Scratch, Watch};
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_extract::{Buffers, Extractor, Found};
use rockrose_grants::Grants;
use rockrose_language::{Operation, Parse, Place, parse_step};
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;
use rockrose_survey::{self as survey, BUDGET, Miner};

use crate::Work;
use crate::corpus::Texts;

/// When the batches come, in milliseconds since 1970.
const NOW: i64 = 1_795_428_000_000;

/// What the template reads, as a regex with named groups.
pub(crate) const TEMPLATE_REGEX: &str = r"^(?<client>\d+\.\d+\.\d+\.\d+) took (?<ms>\d+) ms for (?<path>\S+): (?<end>.+)$";
/// What `access log` reads, as a regex with named groups.
pub(crate) const ACCESS_REGEX: &str = r#"^(?<client>\S+) (?<ident>\S+) (?<user>\S+) \[(?<time>[^\]]+)\] "(?<method>\S+) (?<path>\S+) (?<protocol>[^"]+)" (?<status>\d{3}) (?<size>\d+|-) "(?<referer>[^"]*)" "(?<agent>[^"]*)"$"#;

/// Size of a body, in bytes.
const BODY: usize = 1 << 20;
/// Size of a small body: a dozen events.
const SMALL_BODY: usize = 4 << 10;

/// The whole text through a plan of one source, in bodies of about 1 MiB.
fn pass<'a>(name: &'static str, text: &'a [u8], routes: &str) -> Work<'a> {
    pass_in(BODY, name, text, "", routes)
}

/// The whole text through the source `in` of a plan, in bodies of about so many bytes. `top` stands above the plan's sections.
fn pass_in<'a>(size: usize, name: &'static str, text: &'a [u8], top: &str, rest: &str) -> Work<'a> {
    let document = format!("{top}[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.out]\nkind = \"discard\"\n{rest}");
    let plan = match CheckedPlan::read(&document) {
        Ok(plan) => CompiledPlan::new(&plan, HashKey::new([0; 32])),
        Err(reports) => panic!("{}", reports.iter().map(|r| r.render(name)).collect::<String>()),
    };
    let mut scratch = Scratch::default();
    let run = move || {
        let mut start = 0;
        while start < text.len() {
            let reach = (start + size).min(text.len());
            let end = text[..reach].iter().rposition(|b| *b == b'\n').map_or(reach, |n| n + 1);
            let body = &text[start..end];
            if let Ok(records) = split(body, DeclaredFormat::Lines, 1 << 20) {
                let outcome = plan.process(0, body, &records, NOW, None, &mut scratch);
                black_box(outcome.lines.len());
                scratch.take_back(outcome.lines, outcome.ends);
            }
            start = end;
        }
    };
    Work { name, bytes: text.len(), run: Box::new(run) }
}

/// Every event captured at a route, shown to somebody with a grant, and written as the live tail writes it.
fn tail<'a>(name: &'static str, text: &'a [u8], grant: &str) -> Work<'a> {
    let routes = route("all", "message exists", "'tag team = \"quays\"'");
    let document = format!("[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.out]\nkind = \"discard\"\n{routes}");
    let key = HashKey::new([0; 32]);
    let Ok(plan) = CheckedPlan::read(&document).map(|plan| CompiledPlan::new(&plan, key.clone())) else { unreachable!("the plan is good") };
    let Ok(grants) = Grants::read(&[grant]) else { unreachable!("the grant is good") };
    let mut eye = grants.eye(&Place::Route("all".into()), &key);
    let (mut scratch, watch) = (Scratch::default(), Watch::new(vec![Point::Route(0)], usize::MAX));
    let run = move || {
        for body in text.chunk_by(|a, _| *a != b'\n') {
            let records = split(body, DeclaredFormat::Lines, 1 << 20).unwrap_or_default();
            let outcome = plan.process(0, body, &records, NOW, Some(&watch), &mut scratch);
            for capture in outcome.captures {
                let Some(before) = eye.shows_event(&capture.before, NOW) else { continue };
                let after = capture.after.as_deref().and_then(|after| eye.shows_event(after, NOW));
                black_box(Passed { at_ms: NOW, before: &before, after: after.as_deref(), removed_by: None, held_by: None }.line().len());
            }
            scratch.take_back(outcome.lines, outcome.ends);
        }
    };
    Work { name, bytes: text.len(), run: Box::new(run) }
}

/// So many events are tried.
const TRIED: usize = 100_000;

/// A trial of a plan over events, each with a time of its own, twenty of them shown: the plan is compiled anew each time.
fn tried<'a>(name: &'static str, text: &'a [u8], rest: &str) -> Work<'a> {
    let document = format!("[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.out]\nkind = \"discard\"\n{rest}");
    let Ok(plan) = CheckedPlan::read(&document) else { unreachable!("the plan is good") };
    let events: Vec<&[u8]> = text.split(|b| *b == b'\n').filter(|line| !line.is_empty()).cycle().take(TRIED).collect();
    let bytes = events.iter().map(|event| event.len() + 1).sum();
    let run = move || {
        let given: Vec<Given<'_>> = events.iter().enumerate().map(|(n, event)| Given::one("in", event, NOW + n as i64)).collect();
        let asked = Asked { consecutive: true, most: 20, ..Asked::default() };
        black_box(trial(&plan, HashKey::new([0; 32]), &Environment::default(), &given, &asked).events);
    };
    Work { name, bytes, run: Box::new(run) }
}

/// So many times a text is mined.
const MINED: usize = 100;

/// The patterns of the lines of a text, which come again and again: a million lines of a text of ten thousand.
fn mining<'a>(name: &'static str, text: &'a [u8]) -> Work<'a> {
    let run = move || {
        let mut miner = Miner::new(BUDGET);
        let from = miner.origin("bench");
        for _ in 0..MINED {
            let mut start = 0;
            for end in memchr::memchr_iter(b'\n', text) {
                miner.add(&survey::Line { text: &text[start..end], at_ms: NOW, times: 1, severity: 3, from });
                start = end + 1;
            }
        }
        black_box(miner.patterns().list.len());
    };
    Work { name, bytes: MINED * text.len(), run: Box::new(run) }
}

/// Every line of a text read by a format of `parse`, and nothing else: the floors do the same with a regex.
fn extraction<'a>(name: &'static str, text: &'a [u8], format: &str) -> Work<'a> {
    let extractor = match parse_step(&format!("parse message as {format}")).map(|s| s.operation) {
        Ok(Operation::Parse(Parse { formats, .. })) => Extractor::new(&formats[0]),
        other => panic!("{name}: {other:?}"),
    };
    let (mut found, mut room) = (Found::default(), Buffers::default());
    let run = move || {
        let mut start = 0;
        for end in memchr::memchr_iter(b'\n', text) {
            black_box(extractor.read(&text[start..end], NOW, &mut found, &mut room));
            start = end + 1;
        }
    };
    Work { name, bytes: text.len(), run: Box::new(run) }
}

/// Ten routes over five fields.
const CONDITIONS: [&str; 10] = [
    "service = \"boarding\"",
    "service = \"payments\" and severity >= error",
    "http.status in 500..599",
    "duration_ms > 1900",
    "port = \"Lowmere\" and severity >= warn",
    "service in (\"crew\", \"vessel\") and http.status = 404",
    "http.status = 404 and duration_ms < 100",
    "port = \"Skerry Point\" and duration_ms in 500..600",
    "severity >= error",
    "service = \"kiosk\" and not (severity >= warn)",
];

fn route(name: &str, when: &str, steps: &str) -> String {
    format!("[[route]]\nname = \"{name}\"\nwhen = '''{when}'''\ndo = [{steps}]\nto = [\"out\"]\n")
}

/// `count` routes of seven shapes in turn, each of which takes few events or none.
fn mixed(count: usize) -> String {
    let mut plan = String::new();
    for i in 0..count {
        let when = match i % 7 {
            0 => format!("service = \"payments\" and kiosk = \"k-{}\" and http.status = {}", i % 400, 500 + i % 90),
            1 => format!("kiosk in (\"k-{}\", \"q-{i}\", \"r-{i}\") and duration_ms < 3", i % 90),
            2 => format!("duration_ms in {}..{} and service = \"none-{}\"", i % 2_000, i % 2_000 + 2, i % 50),
            3 => format!("message contains \"walker{i} at \" or http.path ends with \"/missing/{i}\""),
            4 => format!("client_ip in 198.51.{}.{}/30 and severity >= warn", i / 256 % 256, i % 256),
            5 => format!("(service = \"crew\" or port = \"Lowmere\") and trace_id starts with \"{i:06x}\""),
            _ => format!("kiosk = \"k-{}\" and not (duration_ms > {}) and http.method != \"POST\"", i % 300, i % 40),
        };
        let _ = write!(plan, "{}", route(&format!("r{i}"), &when, ""));
    }
    plan
}

/// Ten routes of the source `in`, and `count` of another source.
fn beside(count: usize) -> String {
    let of = |source: &str, routes: String| routes.replace("[[route]]\nname = \"r", &format!("[[route]]\nfrom = [\"{source}\"]\nname = \"{source}-r"));
    format!("[source.other]\nkind = \"http\"\nlisten = \"127.0.0.1:2\"\n{}{}", of("in", mixed(10)), of("other", mixed(count)))
}

/// `count` routes by regular expression over the message.
fn regexes(count: usize) -> String {
    let words = ["gate", "receipt", "crossing", "berth", "ticket", "refund", "pier", "lamp"];
    let when = |i: usize| format!("message matches /{} [a-z]+ (shut|open|late) {i}[0-9]* times?/", words[i % words.len()]);
    (0..count).map(|i| route(&format!("r{i}"), &when(i), "")).collect()
}

/// All passes; of which only the one that is `wanted`, if one is.
pub(crate) fn all<'a>(corpus: &'a [u8], texts: &'a Texts, wanted: Option<&str>) -> Vec<Work<'a>> {
    // Nine routes are decided for every event and take none; the tenth takes all and does the work.
    let decided: String = CONDITIONS[1..].iter().enumerate().map(|(i, c)| route(&format!("r{i}"), &format!("({c}) and sequence < 0"), "")).collect();
    let with = |steps: &str| format!("{decided}{}", route("all", "message exists", steps));
    let passes: Vec<(&'static str, &[u8], String)> = vec![
        ("core pass", corpus, with("'redact email in message', 'tag team = \"quays\"'")),
        ("nothing changed", corpus, with("")),
        ("1 % taken", corpus, route("few", "duration_ms < 20", "")),
        ("10 routes", corpus, mixed(10)),
        ("100 routes", corpus, mixed(100)),
        ("1 000 routes", corpus, mixed(1_000)),
        ("10 000 routes", corpus, mixed(10_000)),
        // Windows are open after the first events, and stay open.
        ("merge repeats", corpus, with("'merge repeats within 24 hours by service'")),
        ("join lines", corpus, with("'join lines starting with /^a first line/ by service'")),
        ("10 regex routes", corpus, regexes(10)),
        ("200 regex routes", corpus, regexes(200)),
        (
            "all detectors",
            corpus,
            with("'redact email, card, iban, phone, national_id, ipv4, ipv6, mac, secret, url_password, private_key in message', 'tag team = \"quays\"'"),
        ),
    ];
    let mut works: Vec<Work<'a>> =
        passes.into_iter().filter(|(name, ..)| wanted.is_none_or(|w| name.starts_with(w))).map(|(name, text, routes)| pass(name, text, &routes)).collect();
    for (name, count) in [("small bodies beside 10 routes", 10), ("small bodies beside 10 000 routes", 10_000)] {
        if wanted.is_none_or(|w| name.starts_with(w)) {
            works.push(pass_in(SMALL_BODY, name, corpus, "", &beside(count)));
        }
    }
    if wanted.is_none_or(|w| "core pass by two tags".starts_with(w)) {
        works.push(pass_in(BODY, "core pass by two tags", corpus, crate::by_tag::TAGS, &with("'redact email in message', 'tag team = \"quays\"'")));
    }
    if wanted.is_none_or(|w| "trial of 100 routes".starts_with(w)) {
        works.push(tried("trial of 100 routes", corpus, &mixed(100)));
    }
    works.push(tail("tail", corpus, "see"));
    works.push(tail("tail under a condition", corpus, "see when message exists"));
    works.push(extraction("parse by template", &texts.calls, "\"{client:ip} took {ms:integer} ms for {path:word}: {end}\""));
    works.push(mining("patterns", &texts.messages));
    works.push(extraction("parse access log", &texts.access, "access log"));
    works
}
