//! Sentences and their trees: what is read, how it prints, what is said of mistakes.

use proptest::prelude::*;

use super::*;
use crate::field::Path;

fn condition(text: &str) -> Condition {
    parse_condition(text).unwrap_or_else(|m| panic!("{text}: {m:?}"))
}

fn step(text: &str) -> Step {
    parse_step(text).unwrap_or_else(|m| panic!("{text}: {m:?}"))
}

#[test]
fn sentences_print_as_their_canonical_form() {
    for (written, canonical) in [
        ("a=1", "a = 1"),
        ("  not a = 1 and b exists or c contains \"x\"", "not (a = 1) and b exists or c contains \"x\""),
        ("(a = 1 or b = 2) and (c = 3 and d = 4)", "(a = 1 or b = 2) and c = 3 and d = 4"),
        ("not not a exists", "not not (a exists)"),
        ("severity>=warn and \"weird name\".x ~= \"Y\"", "severity >= warn and \"weird name\".x ~= \"Y\""),
        ("port in (80,443) and status in 500..599", "port in (80, 443) and status in 500..599"),
        ("ip in 192.0.2.0/24 or ip in 2001:db8::/32", "ip in 192.0.2.0/24 or ip in 2001:db8::/32"),
        (r"m matches /a\/b (\d+)/i and x = 1.50", r"m matches /a\/b (\d+)/i and x = 1.5"),
        ("user-agent starts with \"q\" and not true", "user-agent starts with \"q\" and not true"),
        ("severity in warn..error", "severity in warn..error"),
        ("a != -3e2", "a != -300"),
        ("\"when\" = \"a\\\"b\\n\\u{1}\"", "\"when\" = \"a\\\"b\\n\\u{1}\""),
    ] {
        assert_eq!(condition(written).to_string(), canonical);
        assert_eq!(condition(canonical), condition(written), "{canonical}");
    }
    for (written, canonical) in [
        ("sample 1 in 20 by trace_id,span_id unless severity>=error", "sample 1 in 20 by trace_id, span_id unless severity >= error"),
        ("sample 2.50% when a = 1", "sample 2.5% when a = 1"),
        ("redact email,card keep last 4 in message", "redact email, card keep last 4 in message"),
        ("redact /token=(\\S+)/ with \"***\"", "redact /token=(\\S+)/ with \"***\""),
        ("redact passenger.id as hash, \"email\"", "redact passenger.id as hash, \"email\""),
        ("tag team=\"payments\",site=host.site", "tag team = \"payments\", site = host.site"),
        ("set status=200, a = true, b = field \"odd name\"", "set status = 200, a = true, b = field \"odd name\""),
        ("remove debug.*, tmp_*, x", "remove debug.*, tmp_*, x"),
        ("rename lvl to severity , a to b", "rename lvl to severity, a to b"),
        ("parse message as logfmt", "parse message as key=value"),
        (
            "parse message as \"{client:ip} took {ms:integer} ms {{x}} {why}\" when a exists",
            "parse message as \"{client:ip} took {ms:integer} ms {{x}} {why}\" when a exists",
        ),
        ("parse message as /(?<code>\\d+)/", "parse message as /(?<code>\\d+)/"),
        ("trim message to 2KB", "trim message to 2 KB"),
        ("use card-safe", "use card-safe"),
        ("drop severity = debug or path starts with \"/health\" when x exists", "drop severity = debug or path starts with \"/health\" when x exists"),
    ] {
        assert_eq!(step(written).to_string(), canonical);
        assert_eq!(step(canonical), step(written), "{canonical}");
    }
}

#[test]
fn mistakes_point_and_suggest() {
    let wrong = |text: &str| parse_step(text).map(|_| ()).unwrap_err();
    for (text, at, nearest) in [
        ("sampel 1 in 10", "sampel", Some("sample")),
        ("drop severity >= wran", "wran", Some("warn")),
        ("drop service = boarding", "boarding", Some("\"boarding\"")),
        ("redact emial", "emial", Some("email")),
        ("drop message contain \"x\"", "contain", Some("contains")),
        ("parse message as jsn", "jsn", Some("json")),
        ("trim message to 2 XB", "XB", Some("B")),
        ("drop a = 1 adn b = 2", "adn", Some("and")),
        ("sample 3 in 10", "3", None),
        ("sample 0%", "0%", None),
        ("drop a in 599..500", "599..500", None),
        ("drop a in 192.0.2.0/40", "192.0.2.0/40", None),
        ("drop when = 1", "when", None),
        ("drop m matches /(/", "/(/", None),
        ("parse m as \"{a:intger}\"", "{a:intger}", Some("integer")),
        ("parse m as /(\\d+)/", "/(\\d+)/", None),
        ("drop a == 1", "==", None),
        ("remove *", "*", None),
    ] {
        let m = wrong(text);
        assert_eq!(&text[m.at.clone()], at, "{text}: {m:?}");
        assert_eq!(m.nearest.as_deref(), nearest, "{text}: {m:?}");
    }
    for unfinished in ["drop", "drop a", "drop a =", "drop a = \"x", "drop (a = 1", "sample", "tag a", "rename a to", "redact card keep", "drop m matches /x"] {
        let m = wrong(unfinished);
        assert!(m.at.end == unfinished.len() && m.expected.is_some(), "{unfinished}: {m:?}");
    }
}

#[test]
fn nesting_and_length_are_bounded() {
    assert!(parse_condition(&format!("{}a = 1{}", "(".repeat(40), ")".repeat(40))).is_ok());
    assert!(parse_condition(&"(".repeat(10_000)).is_err());
    assert!(parse_condition(&"not ".repeat(4_000)).is_err());
    assert!(parse_condition(&format!("a = \"{}\"", "x".repeat(MAX_SENTENCE))).is_err());
    assert!(parse_condition("m matches /(a{1000}){1000}/").is_err());
}

#[test]
fn every_sentence_in_the_language_page_is_read() {
    let page = include_str!("../../../../docs/language.md");
    let (mut conditions, mut steps) = (0, 0);
    let mut kind = "";
    for line in page.lines() {
        if let Some(fence) = line.strip_prefix("```") {
            kind = fence;
        } else if kind == "condition" && !line.is_empty() {
            condition(line);
            conditions += 1;
        } else if kind == "step" && !line.is_empty() {
            step(line);
            steps += 1;
        }
    }
    assert!(conditions >= 20 && steps >= 25, "{conditions} conditions, {steps} steps");
    for verb in STEP_VERBS {
        assert!(page.contains(&format!("\n{verb} ")), "an example of `{verb}`");
    }
}

#[test]
fn levels_read_what_senders_write() {
    for (text, level) in [
        ("WARNING", Level::Warn),
        ("err", Level::Error),
        ("Notice", Level::Info),
        ("17", Level::Error),
        ("crit", Level::Fatal),
        ("1", Level::Trace),
        ("emerg", Level::Fatal),
    ] {
        assert_eq!(Level::read(text.as_bytes()), Some(level), "{text}");
    }
    for text in ["", "0", "25", "loud", "-3", "1.5"] {
        assert_eq!(Level::read(text.as_bytes()), None, "{text}");
    }
}

fn path() -> impl Strategy<Value = Path> {
    let segment = prop_oneof![4 => "[a-z][a-z0-9_]{0,6}", 1 => "\\PC{1,5}", 1 => proptest::sample::select(RESERVED.to_vec()).prop_map(str::to_owned)];
    proptest::collection::vec(segment, 1..3).prop_map(Path::of)
}

fn literal() -> impl Strategy<Value = Literal> {
    prop_oneof![
        any::<String>().prop_map(Literal::Text),
        (-1e9..1e9f64).prop_map(Literal::Number),
        (-1000..1000i32).prop_map(|n| Literal::Number(n.into())),
        any::<bool>().prop_map(Literal::Bool)
    ]
}

fn test() -> impl Strategy<Value = Test> {
    prop_oneof![
        Just(Test::Exists),
        literal().prop_map(Test::Equals),
        literal().prop_map(Test::Differs),
        any::<String>().prop_map(Test::Alike),
        (-1e6..1e6f64).prop_map(|n| Test::Order(Ordering::AtLeast, Literal::Number(n))),
        any::<String>().prop_map(|t| Test::Order(Ordering::Less, Literal::Text(t))),
        (0..500u16, 500..999u16).prop_map(|(a, b)| Test::Range(Literal::Number(a.into()), Literal::Number(b.into()))),
        proptest::collection::vec(literal(), 1..4).prop_map(Test::OneOf),
        (any::<std::net::IpAddr>(), 0..=32u8).prop_map(|(base, prefix)| Test::Network(Network { base, prefix })),
        any::<String>().prop_map(Test::Contains),
        any::<String>().prop_map(Test::StartsWith),
        "[a-z\\\\.]{0,1}[a-z/]{1,4}".prop_map(|s| Test::Matches(Pattern { source: s.replace('\\', "").replace('/', "\\/"), ignore_case: s.len() % 2 == 0 })),
    ]
}

fn any_condition() -> impl Strategy<Value = Condition> {
    let leaf = prop_oneof![8 => (path(), test()).prop_map(|(p, t)| Condition::Field(p, t)), 1 => any::<bool>().prop_map(Condition::Constant)];
    leaf.prop_recursive(4, 16, 3, |inner| {
        let list = proptest::collection::vec(inner.clone(), 2..4);
        let flat = |and: bool| {
            move |items: Vec<Condition>| {
                let parts = items.into_iter().flat_map(|c| match c {
                    Condition::And(list) if and => list,
                    Condition::Or(list) if !and => list,
                    other => vec![other],
                });
                if and { Condition::And(parts.collect()) } else { Condition::Or(parts.collect()) }
            }
        };
        prop_oneof![list.clone().prop_map(flat(true)), list.prop_map(flat(false)), inner.prop_map(|c| Condition::Not(Box::new(c)))]
    })
}

fn any_step() -> impl Strategy<Value = Step> {
    let mask = prop_oneof![Just(Mask::Stars), (1..20usize).prop_map(Mask::KeepLast), any::<String>().prop_map(Mask::With), Just(Mask::Hash)];
    let detector = prop_oneof![Just(Detector::Email), Just(Detector::Card)].prop_map(What::Detector);
    let redaction = (detector, mask.clone()).prop_map(|(what, mask)| Redaction { what, mask });
    let name = prop_oneof![4 => path(), 1 => proptest::sample::select(vec!["mail", "email", "cart", "card"]).prop_map(Path::name)];
    let whole = (name, mask).prop_map(|(p, mask)| Redaction { what: What::Field(p), mask });
    let value = prop_oneof![literal().prop_map(Value::Literal), path().prop_map(Value::Field)];
    let selector = prop_oneof![
        path().prop_map(|path| Selector { path, prefix: false }),
        "[a-z]{1,4}".prop_map(|s| Selector { path: Path::of(vec!["a".into(), s]), prefix: true })
    ];
    let operation = prop_oneof![
        any_condition().prop_map(Operation::Keep),
        any_condition().prop_map(Operation::Drop),
        (1..1000u64, proptest::collection::vec(path(), 0..3), proptest::option::of(any_condition())).prop_map(|(n, by, unless)| Operation::Sample {
            rate: Rate::OneIn(n),
            by,
            unless
        }),
        (0.001..100f64).prop_map(|p| Operation::Sample { rate: Rate::Percent(p), by: Vec::new(), unless: None }),
        (proptest::collection::vec(redaction, 1..3), proptest::collection::vec(path(), 0..3)).prop_map(|(what, fields)| Operation::Redact { what, fields }),
        proptest::collection::vec(whole, 1..3).prop_map(|what| Operation::Redact { what, fields: Vec::new() }),
        proptest::collection::vec((path(), value.clone()), 1..3).prop_map(Operation::Tag),
        proptest::collection::vec((path(), value), 1..3).prop_map(Operation::Set),
        proptest::collection::vec(selector.clone(), 1..3).prop_map(Operation::Remove),
        proptest::collection::vec(selector, 1..3).prop_map(Operation::Retain),
        proptest::collection::vec((path(), path()), 1..3).prop_map(Operation::Rename),
        (path(), 1..9999u64).prop_map(|(field, count)| Operation::Trim { field, size: Size { count, unit: Unit::KB } }),
        path().prop_map(|field| Operation::Parse { field, format: Format::KeyValue }),
        ("[a-z]{1,5}").prop_map(Operation::Use),
    ];
    (operation, proptest::option::of(any_condition())).prop_map(|(operation, when)| Step { operation, when })
}

proptest! {
    #[test]
    fn a_printed_condition_reads_back(c in any_condition()) {
        let text = c.to_string();
        prop_assert_eq!(parse_condition(&text).map_err(|m| format!("{text}: {m:?}")), Ok(c));
    }

    #[test]
    fn a_printed_step_reads_back(s in any_step()) {
        let text = s.to_string();
        prop_assert_eq!(parse_step(&text).map_err(|m| format!("{text}: {m:?}")), Ok(s));
    }

    #[test]
    fn any_text_is_read_or_refused_with_a_place(text in "\\PC{0,60}") {
        if let Err(m) = parse_step(&text) {
            prop_assert!(m.at.start <= m.at.end && m.at.end <= text.len() && text.is_char_boundary(m.at.start) && text.is_char_boundary(m.at.end));
        }
    }

    #[test]
    fn near_sentences_never_break_the_reader(words in proptest::collection::vec(proptest::sample::select(vec!["drop", "keep", "a", "=", "1", "\"x\"", "and", "not", "(", ")", "in", "..", "/x/", "when", "by", "unless", "email", "keep last", "4", ",", "with", "%", "{", "é"]), 0..12)) {
        let text = words.join(" ");
        if let Err(m) = parse_step(&text) {
            prop_assert!(m.at.end <= text.len() && text.is_char_boundary(m.at.start));
        }
    }
}
