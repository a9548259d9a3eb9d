//! Runs every sentence of docs/language.md over the events that stand below it there.

use std::net::IpAddr;
use std::sync::Arc;

use rockrose_event::address::Network;
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_language::{STEP_VERBS, parse_condition, parse_step};
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;
use rockrose_tables::{Located, Match, Places, Rows, Table, TableSlot};

use super::{CompiledPlan, Environment, Matcher, Names, Outcome, Scratch};

/// 2026-11-23T10:00:00Z.
const NOW: i64 = 1_795_428_000_000;

const PAGE: &str = include_str!("../../../docs/language.md");

struct OneName;

impl Names for OneName {
    fn name(&self, address: IpAddr) -> Option<Option<String>> {
        (address.to_string() == "192.0.2.7").then(|| Some("gate-7.ferries.example".to_owned()))
    }
}

fn plan(step: &str) -> CompiledPlan {
    let text = format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.out]\nkind = \"discard\"\n\
         [table.ports]\nkind = \"csv\"\npath = \"ports.csv\"\nkey = \"code\"\n\
         [table.owners]\nkind = \"csv\"\npath = \"owners.csv\"\nkey = \"net\"\nmatch = \"network\"\n[table.places]\nkind = \"places\"\npath = \"places.mmdb\"\n\
         [recipe.card-safe]\nsteps = ['redact card in message']\n[recipe.hide]\nparameters = [\"what\", \"field\"]\nsteps = ['redact $what in $field']\n\
         [[route]]\nname = \"r\"\ndo = ['''{step}''']\nto = [\"out\"]\n"
    );
    let checked = CheckedPlan::read(&text).unwrap_or_else(|r| panic!("{step}: {}", r.iter().map(|r| r.render("plan")).collect::<String>()));
    let rows = |file: &str, key: &str, how| Arc::new(TableSlot::of(Table::Rows(Rows::read(file.as_bytes(), key, how).unwrap())));
    let lowmere = Located { country: Some("ZZ".into()), city: Some("Lowmere".into()), latitude: Some(50.5), longitude: Some(-4.25), ..Located::default() };
    let network = Network { base: "192.0.2.0".parse().unwrap(), prefix: 24 };
    let places = Places::read(rockrose_tables::database(&[(network, lowmere)], 1_795_428_000)).unwrap();
    let tables = [
        ("ports".to_owned(), rows("code,port,berths\nTQ,Tansy Quay,4\n", "code", Match::Exact)),
        ("owners".to_owned(), rows("net,who\n192.0.2.0/24,quays\n", "net", Match::Network)),
        ("places".to_owned(), Arc::new(TableSlot::of(Table::Places(Box::new(places))))),
    ];
    let environment = Environment { tables: tables.into_iter().collect(), names: Some(Arc::new(OneName)), ..Environment::default() };
    CompiledPlan::within(&checked, HashKey::new([7; 32]), &environment)
}

fn lines(outcome: &Outcome) -> Vec<String> {
    String::from_utf8(outcome.lines.clone()).unwrap().lines().map(str::to_owned).collect()
}

/// What comes out of a step for events that go in one after the other, windows closed at the end.
fn out(step: &str, events: &[&str]) -> Vec<String> {
    let plan = plan(step);
    let mut scratch = Scratch::default();
    let mut found = Vec::new();
    for event in events {
        let records = split(event.as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap();
        let outcome = plan.process(0, event.as_bytes(), &records, NOW, None, &mut scratch);
        assert!(outcome.quarantined.is_empty(), "{step}: {event}: {:?}", outcome.quarantined);
        found.extend(lines(&outcome));
    }
    for (_, outcome) in plan.release(NOW, true, &mut scratch) {
        found.extend(lines(&outcome));
    }
    found
}

/// The sentences of the blocks of one kind, each with the lines below it.
fn sentences(kind: &str) -> Vec<(&'static str, Vec<&'static str>)> {
    let (mut found, mut inside): (Vec<(&str, Vec<&str>)>, _) = (Vec::new(), false);
    for line in PAGE.lines() {
        if let Some(fence) = line.strip_prefix("```") {
            inside = fence == kind;
        } else if inside && let Some(below) = line.strip_prefix("    ") {
            found.last_mut().unwrap_or_else(|| panic!("a sentence above {line}")).1.push(below);
        } else if inside && !line.is_empty() {
            found.push((line, Vec::new()));
        }
    }
    found
}

#[test]
fn every_condition_of_the_page_holds_where_it_says() {
    let all = sentences("condition");
    assert!(all.len() >= 20, "{}", all.len());
    for (sentence, cases) in all {
        let condition = parse_condition(sentence).unwrap_or_else(|m| panic!("{sentence}: {m:?}"));
        assert_eq!(parse_condition(&condition.to_string()), Ok(condition.clone()), "{sentence}");
        assert!(!cases.is_empty(), "{sentence} is shown on an event");
        let alone = Matcher::new(&condition);
        let routed = plan(&format!("keep {sentence}"));
        for case in cases {
            let (expected, event) = case.split_once(' ').unwrap();
            let expected = match expected {
                "true" => true,
                "false" => false,
                other => panic!("{other}"),
            };
            assert_eq!(alone.meets(event.trim().as_bytes(), NOW), expected, "{sentence}: {event}");
            let records = split(event.trim().as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap();
            let kept = routed.process(0, event.trim().as_bytes(), &records, NOW, None, &mut Scratch::default());
            assert_eq!(!kept.lines.is_empty(), expected, "{sentence}: {event}");
        }
    }
}

#[test]
fn every_step_of_the_page_does_what_it_shows() {
    let all = sentences("step");
    for verb in STEP_VERBS {
        assert!(all.iter().any(|(s, _)| s.starts_with(&format!("{verb} "))), "an example of `{verb}`");
    }
    for (sentence, cases) in all {
        let step = parse_step(sentence).unwrap_or_else(|m| panic!("{sentence}: {m:?}"));
        assert_eq!(parse_step(&step.to_string()), Ok(step));
        let of = |what: &str| cases.iter().filter_map(|c| c.strip_prefix(what)).map(str::trim).collect::<Vec<_>>();
        let (given, expected) = (of("in "), of("out "));
        assert!(!given.is_empty() && !expected.is_empty() && given.len() + expected.len() == cases.len(), "{sentence} is shown on events");
        let expected: Vec<&str> = expected.into_iter().filter(|e| *e != "removed").collect();
        assert_eq!(out(sentence, &given), expected, "{sentence}");
    }
}

#[test]
fn every_sentence_of_the_page_can_be_explained() {
    for (sentence, _) in sentences("condition").into_iter().chain(sentences("step")) {
        let said = rockrose_language::explain(sentence).unwrap_or_else(|m| panic!("{sentence}: {m:?}"));
        assert!(said.len() > 20 && said.ends_with('.'), "{sentence}: {said}");
    }
    assert!(rockrose_language::explain("drop a =").is_err() && rockrose_language::explain("a =").is_err());
}

/// A name that stands twice must not carry a value past a redaction behind a step that holds events back.
#[test]
fn what_was_held_back_hides_nothing_from_the_steps_behind() {
    let event = r#"{"gate":4,"message":"paid with 4111111111111111","message":"ok"}"#;
    for merge in ["merge repeats within 1 hour by gate", "join lines indented by gate"] {
        for events in [vec![event], vec![event, event]] {
            for line in out(&format!("{merge}''', '''redact card in message"), &events) {
                assert!(!line.contains("4111") && line.matches("message").count() == 1, "{merge}: {line}");
            }
        }
    }
}
