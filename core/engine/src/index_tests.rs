//! The index against asking each route by itself: the same answers for any conditions and any events.

use std::fmt::Write;

use proptest::prelude::*;
use proptest::sample::select;
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_language::parse_condition;
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;

use super::{CompiledPlan, Matcher, Scratch};

/// 2026-11-23T10:00:00Z.
const NOW: i64 = 1_795_428_000_000;

fn plan(conditions: &[String]) -> CompiledPlan {
    let mut text = "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.out]\nkind = \"discard\"\n".to_owned();
    for (i, condition) in conditions.iter().enumerate() {
        let _ = write!(text, "[[route]]\nname = \"r{i}\"\nwhen = '''{condition}'''\nto = [\"out\"]\n");
    }
    let checked = CheckedPlan::read(&text).unwrap_or_else(|r| panic!("{text}\n{}", r.iter().map(|r| r.render("plan")).collect::<String>()));
    CompiledPlan::new(&checked, HashKey::new([0; 32]))
}

/// The routes that take `event`, by number.
fn taken(plan: &CompiledPlan, event: &str, scratch: &mut Scratch) -> Vec<usize> {
    let records = split(event.as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap();
    let outcome = plan.process(0, event.as_bytes(), &records, NOW, None, scratch);
    assert!(outcome.quarantined.is_empty(), "{event}");
    outcome.entries.iter().map(|e| e.route[1..].parse().unwrap()).collect()
}

/// The same, each condition asked alone.
fn asked(conditions: &[String], event: &str) -> Vec<usize> {
    let meets = |c: &String| Matcher::new(&parse_condition(c).unwrap()).meets(event.as_bytes(), NOW);
    conditions.iter().enumerate().filter(|(_, c)| meets(c)).map(|(i, _)| i).collect()
}

fn test() -> impl Strategy<Value = String> {
    let field = select(vec!["a", "b", "h.s", "severity"]);
    let number = select(vec!["-3", "0", "1", "2", "2.5", "7", "404"]);
    let text = select(vec!["x", "xy", "yz", "zebra crossing", "", "404", "warn", "true", "192.0.2.7"]);
    let network = select(vec!["192.0.2.0/24", "192.0.2.7/32", "0.0.0.0/0", "255.255.255.0/24", "2001:db8::/32", "::/0"]);
    let regex = select(vec![
        "xy+",
        "(one|two) gates?",
        "z.*c",
        "^x",
        "[0-9]+",
        "(?i)ZEBRA",
        "gate \\d+ (open|shut)",
        "(?i)kiosk|quay",
        "(?i)[a-z]+ (?:open|SHUT)",
        "[Gg]ate",
        "(?i)sk",
        "(?i)quäy",
        "(?i-u)gates",
    ]);
    let of = |form: &'static str| (field.clone(), text.clone()).prop_map(move |(f, t)| form.replace('F', f).replace('T', t));
    prop_oneof![
        of("F = \"T\""),
        of("F != \"T\""),
        of("F contains \"T\""),
        of("F starts with \"T\""),
        of("F ends with \"T\""),
        of("F ~= \"T\""),
        of("F >= \"T\""),
        (field.clone(), select(vec!["=", "!=", "<", "<=", ">", ">="]), number.clone()).prop_map(|(f, s, n)| format!("{f} {s} {n}")),
        (field.clone(), select(vec!["-3..0", "0..0", "1..2", "2..7", "2.5..404"])).prop_map(|(f, r)| format!("{f} in {r}")),
        (field.clone(), select(vec!["(1, 2, 7)", "(\"x\", \"yz\")", "(\"x\", 7, true)", "(true, \"xy\")"])).prop_map(|(f, l)| format!("{f} in {l}")),
        (field.clone(), network).prop_map(|(f, n)| format!("{f} in {n}")),
        (field.clone(), regex).prop_map(|(f, r)| format!("{f} matches /{r}/")),
        field.clone().prop_map(|f| format!("{f} exists")),
        select(vec!["severity >= warn", "severity = info", "severity in debug..warn", "severity != error"]).prop_map(str::to_owned),
        select(vec!["true", "false"]).prop_map(str::to_owned),
        (field.clone(), select(vec!["=", "!=", "<", ">="]), field.clone()).prop_map(|(f, s, other)| format!("{f} {s} field {other}")),
        (field.clone(), text.clone()).prop_map(|(f, t)| format!("lower({f}) = \"{t}\"")),
        (field.clone(), select(vec!["length(F) > 2", "F * 2 in 2..14", "F + 1 != 2", "F older than 5 seconds", "F newer than 9 hours", "F ahead by 1 hour"]))
            .prop_map(|(f, form)| form.replace('F', f)),
    ]
}

fn condition() -> impl Strategy<Value = String> {
    test().prop_recursive(3, 12, 3, |inner| {
        let list = proptest::collection::vec(inner.clone(), 2..4);
        prop_oneof![
            list.clone().prop_map(|l| format!("({})", l.join(" and "))),
            list.prop_map(|l| format!("({})", l.join(" or "))),
            inner.prop_map(|i| format!("not ({i})")),
        ]
    })
}

fn event() -> impl Strategy<Value = String> {
    let value = select(vec![
        "null",
        "true",
        "0",
        "-0",
        "1",
        "1.0",
        "2",
        "2.5",
        "7e0",
        "404",
        "-3",
        "\"x\"",
        "\"xy\"",
        "\"xyy yz\"",
        "\"\\u0078\"",
        "\"404\"",
        "\"zebra crossing\"",
        "\"ZEBRA\"",
        "\"warn\"",
        "\"INFO\"",
        "\"13\"",
        "\"192.0.2.7\"",
        "\"::ffff:192.0.2.9\"",
        "\"255.255.255.255\"",
        "\"2001:db8::1\"",
        "\"two gates\"",
        "\"gate 4 open\"",
        "\"GATE 4 Open\"",
        "\"the Kiosk\"",
        "\"the \u{212a}iosk\"",
        "\"a de\u{17f}k\"",
        "\"two QUÄYS\"",
        "1795428000",
        "\"2026-11-23T09:59:54Z\"",
        "\"2026-11-23T12:00:00Z\"",
        "{\"s\":\"xy\"}",
        "{\"s\":2}",
        "[]",
        "\"\"",
    ]);
    let name = select(vec!["a", "b", "h", "h.s", "level", "severity", "other"]);
    proptest::collection::vec((name, value), 0..6).prop_map(|members| {
        let members: Vec<_> = members.iter().map(|(n, v)| format!("\"{n}\":{v}")).collect();
        format!("{{{}}}", members.join(","))
    })
}

proptest! {
    // Each case is a plan and hundreds of answers.
    #![proptest_config(ProptestConfig { cases: ProptestConfig::default().cases / 4, ..ProptestConfig::default() })]

    #[test]
    fn the_index_says_what_each_route_would(conditions in proptest::collection::vec(condition(), 1..40), events in proptest::collection::vec(event(), 1..12)) {
        let plan = plan(&conditions);
        let mut scratch = Scratch::default();
        for event in &events {
            prop_assert_eq!(taken(&plan, event, &mut scratch), asked(&conditions, event), "{}", event);
        }
    }
}

/// So many that few have automata of their own, asked often enough that some get one meanwhile.
#[test]
fn the_same_with_many_regular_expressions() {
    let conditions: Vec<String> = (0..400usize)
        .map(|i| match i % 4 {
            0 => format!("m matches /^gate {i} (?:open|shut) by \\w+/"),
            1 => format!("m matches /(?i)kiosk-{} .* [0-9]+ ms/", i % 40),
            2 => format!("m matches /[a-f]{{{}}}$/", 1 + i % 9),
            _ => format!("m matches /quay\\s+(?:{}|{i})\\b/i", i % 30),
        })
        .collect();
    let plan = plan(&conditions);
    let mut scratch = Scratch::default();
    let alone: Vec<_> = conditions.iter().map(|c| Matcher::new(&parse_condition(c).unwrap())).collect();
    for i in 0..1_500usize {
        let text = match i % 5 {
            0 => format!("gate {} open by ann", i % 400),
            1 => format!("KIOSK-{} took 3{i} MS", i % 44),
            2 => "abcdefabcdef"[..i % 12].to_owned(),
            3 => format!("at Quay   {}", i % 400),
            _ => "nothing of note".to_owned(),
        };
        let event = format!("{{\"m\":\"{text}\"}}");
        let expected: Vec<usize> = alone.iter().enumerate().filter(|(_, m)| m.meets(event.as_bytes(), NOW)).map(|(i, _)| i).collect();
        assert_eq!(taken(&plan, &event, &mut scratch), expected, "{event}");
    }
}

/// Many routes of one make, so that they have groups, lists and shared dense sets of their own.
#[test]
fn the_same_with_routes_in_the_thousands() {
    let conditions: Vec<String> = (0..3_000usize)
        .map(|i| match i % 6 {
            0 => format!("n in {}..{} and s = \"k{}\"", i % 700, i % 700 + i % 40, i % 9),
            1 => format!("s in (\"k{}\", \"q{i}\") and not (n > {})", i % 9, i % 500),
            2 => format!("ip in 10.{}.{}.0/{} or n = {i}", i % 3, i % 200, 18 + i % 8),
            3 => format!("s contains \"{}\" and n < {}", i % 60, i % 900),
            4 => format!("not (s = \"k{}\") and n >= {}.5", i % 9, i % 800),
            _ => format!("s starts with \"k{}\" or s ends with \"{i}\"", i % 30),
        })
        .collect();
    let plan = plan(&conditions);
    let mut scratch = Scratch::default();
    let alone: Vec<_> = conditions.iter().map(|c| Matcher::new(&parse_condition(c).unwrap())).collect();
    for i in 0..60usize {
        let event = format!("{{\"n\":{},\"s\":\"{}{}\",\"ip\":\"10.{}.{}.9\"}}", i * 13 % 905, ["k", "q", "z4"][i % 3], i * 31 % 3_000, i % 4, i * 7 % 201);
        let expected: Vec<usize> = alone.iter().enumerate().filter(|(_, m)| m.meets(event.as_bytes(), NOW)).map(|(i, _)| i).collect();
        assert_eq!(taken(&plan, &event, &mut scratch), expected, "{event}");
        assert!(!expected.is_empty());
    }
}
