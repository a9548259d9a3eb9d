use std::collections::HashMap;

use rockrose_engine::Environment;

use super::*;

const PLAN: &str = "[source.kiosks]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[source.mirror]\nkind = 'http'\nlisten = '127.0.0.1:2'\n\
    [destination.desk]\nkind = 'discard'\nprice = { per_gb = 2.0 }\n[destination.vault]\nkind = 'discard'\nalways = ['redact email']\n\
    [[route]]\nname = 'all'\nwhen = 'kind exists'\nto = ['desk']\n[[route]]\nname = 'errors'\nwhen = 'severity >= error'\nto = ['vault']\n";

/// Ten minutes' worth: health checks, one chatty pattern, one repeated warning, errors with addresses, fields that nobody reads and long texts.
fn events() -> Vec<(&'static str, String, i64)> {
    let blob = "x".repeat(700);
    let trace = "at quay.timetable.render(line 40); ".repeat(80);
    let mut all = Vec::new();
    for n in 0..3_000i64 {
        let at = 1_796_032_800_000 + n * 20;
        let time = format!("\"time\":{at}");
        let event = match n % 10 {
            0 => format!("{{{time},\"kind\":\"request\",\"level\":\"info\",\"path\":\"/health/live\",\"message\":\"asked\"}}"),
            1..=4 => format!("{{{time},\"kind\":\"screen\",\"level\":\"info\",\"message\":\"screen {n} drawn in {} ms\",\"build\":\"{blob}\"}}", n % 90),
            5 | 6 => format!("{{{time},\"kind\":\"gate\",\"level\":\"warn\",\"message\":\"gate is slow\"}}"),
            7 => format!("{{{time},\"kind\":\"ticket\",\"level\":\"error\",\"message\":\"no ticket for ann{n}@post.example\"}}"),
            8 => format!("{{{time},\"kind\":\"page\",\"level\":\"warn\",\"message\":\"page {n} failed\",\"stack\":\"{trace}\"}}"),
            _ => format!("{{{time},\"kind\":\"sale\",\"level\":\"warn\",\"message\":\"sale {n} is late\"}}"),
        };
        if n % 10 == 9 {
            all.push(("mirror", event.clone(), at));
        }
        all.push(("kiosks", event, at));
    }
    all
}

fn found(declined: &HashSet<String>) -> (CheckedPlan, Vec<Suggestion>) {
    let plan = CheckedPlan::read(PLAN).unwrap();
    let events = events();
    let given: Vec<Given<'_>> = events.iter().map(|(source, event, at)| Given::one(source, event.as_bytes(), *at)).collect();
    let now = trial::trial(&plan, HashKey::new([1; 32]), &Environment::default(), &given, &Asked::default());
    let real = Real {
        sources: now.lists.iter().filter(|l| l.stage == Stage::Source).map(|l| (l.name.clone(), l.went)).collect(),
        branches: now.branches.iter().map(|b| ((b.route.clone(), b.destination.clone()), b.sent)).collect::<HashMap<_, _>>(),
    };
    let side = Side { plan: &plan, environment: &Environment::default() };
    let key = HashKey::new([1; 32]);
    let material = Material { plan: side, key: &key, samples: Samples { some: &given, stretch: &given }, real: &real, declined };
    let found = suggest(&material);
    (plan, found)
}

#[test]
fn each_thing_that_is_worth_it_is_found_and_measured() {
    let (plan, found) = found(&HashSet::new());
    let of = |reason: Reason| found.iter().filter(|s| s.reason == reason && s.part != "route:errors").collect::<Vec<_>>();
    let one = |reason: Reason| *of(reason).first().unwrap_or_else(|| panic!("{reason:?} in {found:#?}"));
    assert_eq!((one(Reason::PersonalData).part.as_str(), one(Reason::PersonalData).step.as_str()), ("destination:desk", "redact email"));
    assert_eq!(of(Reason::PersonalData).len(), 1, "the vault redacts: {found:#?}");
    assert_eq!(one(Reason::HealthChecks).step, "drop path starts with \"/health\"");
    assert_eq!(one(Reason::UnreadField).step, "remove build");
    assert_eq!(one(Reason::LongTexts).step, "trim stack to 500 B");
    assert!(one(Reason::Repetitive).step.starts_with("sample 1 in 10 when message matches /"), "{found:#?}");
    assert!(one(Reason::Repeats).step.starts_with("merge repeats within 30 seconds by message when message = \"gate is slow\""), "{found:#?}");
    assert_eq!(one(Reason::Copies).step, "dedupe by time, message within 1 minute");
    // What it saves is what is no longer sent: each health check of the three hundred.
    let checks = &one(Reason::HealthChecks).saves;
    let bytes = events().iter().filter(|(_, e, _)| e.contains("/health")).map(|(_, e, _)| e.len() as i64).sum::<i64>();
    assert_eq!(checks, &[("desk".to_owned(), Amount { events: 300, bytes })]);
    assert_eq!(one(Reason::Copies).saves[0].1.events, 300);
    let build = &one(Reason::UnreadField).saves[0].1;
    assert!(build.events == 0 && (build.bytes - 1_200 * 711).abs() < 1_200 * 10, "{build:?}");
    // First what protects, then by money; what saves next to nothing is not said.
    assert_eq!(found[0].reason, Reason::PersonalData);
    let money: Vec<f64> = found[1..].iter().map(|s| s.money(&plan)).collect();
    assert!(money.windows(2).all(|pair| pair[0] >= pair[1]) && money[0] > 0.0, "{money:?}");
    assert!(found[1..].iter().all(|s| s.bytes() as f64 >= 0.01 * s.of.bytes as f64));
    // Errors are never among what is to be cut.
    assert!(found.iter().all(|s| s.reason != Reason::Repetitive || !s.step.contains("ticket")), "{found:#?}");
}

#[test]
fn what_was_declined_or_is_done_is_not_said_again() {
    let (_, all) = found(&HashSet::new());
    let declined: HashSet<String> = all.iter().take(2).map(|s| s.id.clone()).collect();
    let (_, left) = found(&declined);
    assert_eq!(left.iter().map(|s| &s.id).collect::<Vec<_>>(), all.iter().skip(2).map(|s| &s.id).collect::<Vec<_>>());
    // Each has an id of its own, the same the next time.
    assert_eq!(all.iter().map(|s| &s.id).collect::<HashSet<_>>().len(), all.len());
}

#[test]
fn a_field_is_read_by_any_sentence_that_names_it_or_what_it_is_part_of() {
    let text = "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = ['use own']\n[recipe.own]\nsteps = ['tag site = host.site when debug.thread exists']\n\
        [destination.x]\nkind = 'discard'\n[[route]]\nname = 'r'\nwhen = 'http.status = 200'\nto = ['x']\n";
    let read = reads::fields(&CheckedPlan::read(text).unwrap());
    for (field, is_read) in [
        ("http.status", true),
        ("http", true),
        ("debug", true),
        ("debug.heap", false),
        ("host.site", true),
        ("site", true),
        ("spare", false),
        ("trace_id", true),
    ] {
        assert_eq!(reads::is_read(field, &read), is_read, "{field}: {read:?}");
    }
}

#[test]
fn of_nothing_nothing_is_suggested() {
    let plan = CheckedPlan::read(PLAN).unwrap();
    let side = Side { plan: &plan, environment: &Environment::default() };
    let key = HashKey::new([1; 32]);
    let nothing = Material { plan: side, key: &key, samples: Samples { some: &[], stretch: &[] }, real: &Real::default(), declined: &HashSet::new() };
    assert_eq!(suggest(&nothing), []);
}
