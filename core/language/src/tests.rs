//! Sentences and their trees: what is read, how it prints, what is said of mistakes.

use proptest::prelude::*;
use rockrose_event::address::Network;
use rockrose_event::field::{Path, RESERVED};
use rockrose_event::time::TimeForm;

use super::*;

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
        ("drop m matches /(/", "(", None),
        ("drop m matches /ab[/ or x = 1", "[", None),
        ("drop m matches /a(?=b)/", "(?=", None),
        ("drop m matches /a(?<!b)/", "(?<!", None),
        ("drop m matches /x(?>a)b/", "(?>", None),
        ("drop m matches /x(?1)/", "(?1", None),
        ("drop m matches /(a)\\1/", "\\1", None),
        ("drop m matches /é\\q/", "\\q", None),
        ("convert a to time in \"Europe/Lisbn\"", "\"Europe/Lisbn\"", Some("Europe/Lisbon")),
        ("parse m as \"{a:intger}\"", "intger", Some("integer")),
        ("redact emial in message", "emial", Some("email")),
        ("set a = lowr(b)", "lowr", Some("lower")),
        ("limit 5 per secnd", "secnd", Some("second")),
        ("convert a to integr", "integr", Some("integer")),
        ("merge repeets within 3 seconds by a", "repeets", Some("repeats")),
        ("set a = replace(b, \"x\")", "replace(b, \"x\")", None),
        ("rename a_* to b", "b", None),
        ("convert a to time in \"Lowmere/Quay\"", "\"Lowmere/Quay\"", None),
        ("merge repeats within 25 hours by a", "25 hours", None),
        ("count as 9lives", "9lives", None),
        ("parse m as json els xml", "els", Some("else")),
        ("parse m as /(\\d+)/", "/(\\d+)/", None),
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
fn what_may_be_meant_as_a_detector_is_doubted() {
    for (sentence, word, near) in [
        ("redact ssn", "ssn", "national_id"),
        ("redact email, ip in message", "", ""),
        ("redact email, ip", "ip", "ipv4, ipv6"),
        ("redact credit_card keep last 4", "credit_card", "card"),
        ("redact phone_number", "phone_number", "phone"),
        ("redact Token", "Token", "secret"),
        ("redact pii as hash", "pii", "all"),
    ] {
        let read = match parse_step(sentence) {
            Ok(read) => read,
            Err(mistake) => {
                assert!(word.is_empty() && mistake.nearest.as_deref() == Some("redact ipv4, ipv6 in …"), "{sentence}: {mistake:?}");
                continue;
            }
        };
        let doubts = read.doubts(sentence);
        assert!(matches!(&doubts[..], [d] if &sentence[d.at.clone()] == word && d.nearest.as_deref() == Some(near)), "{sentence}: {doubts:?}");
    }
    for sure in ["redact \"ssn\"", "redact passenger.ip", "redact ticket", "redact national_id", "drop ssn exists"] {
        assert_eq!(step(sure).doubts(sure), [], "{sure}");
    }
    let all = step("redact all keep last 4 in message");
    assert!(matches!(&all.operation, Operation::Redact(r) if r.what.len() == Detector::ALL.len() && r.what.iter().all(|w| w.mask == Mask::KeepLast(4))));
    assert_eq!(step(&step("redact \"all\"").to_string()), step("redact \"all\""));
}

#[test]
fn nesting_and_length_are_bounded() {
    assert!(parse_condition(&format!("{}a = 1{}", "(".repeat(40), ")".repeat(40))).is_ok());
    assert!(parse_condition(&"(".repeat(10_000)).is_err());
    assert!(parse_condition(&"not ".repeat(4_000)).is_err());
    assert!(parse_condition(&format!("a = \"{}\"", "x".repeat(MAX_SENTENCE))).is_err());
    assert!(parse_condition("m matches /(a{1000}){1000}/").is_err());
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
        "[a-z\\\\.]{0,1}[a-z/]{1,4}".prop_map(|s| Test::Matches(Pattern::new(s.replace('\\', "").replace('/', "\\/"), s.len() % 2 == 0))),
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
    let mask = prop_oneof![
        Just(Mask::Stars),
        (1..20usize).prop_map(Mask::KeepLast),
        (1..20usize).prop_map(Mask::KeepFirst),
        any::<String>().prop_map(Mask::With),
        Just(Mask::Hash)
    ];
    let detector = proptest::sample::select(Detector::ALL.to_vec()).prop_map(What::Detector);
    let redaction = (detector, mask.clone()).prop_map(|(what, mask)| Redaction { what, mask });
    let name = prop_oneof![4 => path(), 1 => proptest::sample::select(vec!["mail", "email", "cart", "card"]).prop_map(Path::name)];
    let whole = (name, mask).prop_map(|(p, mask)| Redaction { what: What::Field(p), mask });
    let value = prop_oneof![literal().prop_map(Value::Literal), path().prop_map(Value::Field)].prop_recursive(3, 12, 3, |inner| {
        let sign = proptest::sample::select(vec![Arithmetic::Plus, Arithmetic::Minus, Arithmetic::Times, Arithmetic::Over]);
        let call = proptest::collection::vec(inner.clone(), 1..4).prop_flat_map(|values| {
            let fit: Vec<_> = Function::ALL.into_iter().filter(|f| (f.takes().0..=f.takes().1).contains(&values.len())).collect();
            proptest::sample::select(fit).prop_map(move |f| Value::Call(f, values.clone()))
        });
        prop_oneof![(inner.clone(), sign, inner).prop_map(|(a, s, b)| Value::Computed(Box::new(a), s, Box::new(b))), call]
    });
    let selector = prop_oneof![path().prop_map(Selector::Field), "[a-z]{1,4}\\.?\\*[a-z_]{0,3}".prop_map(Selector::Like)];
    let pace = (1..1000u64, proptest::sample::select(TimeUnit::ALL.to_vec())).prop_map(|(count, per)| Pace { count, per });
    let time = (1..20u64, proptest::sample::select(TimeUnit::ALL.to_vec())).prop_map(|(count, unit)| Time { count, unit });
    let paths = || proptest::collection::vec(path(), 0..3);
    let form = (proptest::option::of(Just("%d/%b/%Y %H:%M:%S".to_owned())), proptest::option::of(Just("Europe/Lisbon".to_owned())))
        .prop_map(|(format, zone)| TimeForm { format, zone });
    let conversion = prop_oneof![
        Just(Conversion::Integer),
        Just(Conversion::Number),
        Just(Conversion::Boolean),
        Just(Conversion::Text),
        form.clone().prop_map(Conversion::Time)
    ];
    let pattern = || Just(Pattern::new("^\\d+ (?<a>x)".into(), true));
    let joining = prop_oneof![
        pattern().prop_map(Joining::Starting),
        pattern().prop_map(Joining::Continued),
        pattern().prop_map(Joining::Going),
        Just(Joining::Indented),
        Just(Joining::Timeless),
        any_condition().prop_map(Joining::Pieces)
    ];
    let preference = prop_oneof![Just(Preference::Source("odd name".to_owned())), any_condition().prop_map(Preference::Where)];
    let renaming = prop_oneof![(path(), path()).prop_map(|(a, b)| Renaming::Field(a, b)), Just(Renaming::Like("old_*.x*".into(), "*_new_*".into()))];
    let template = (path(), form).prop_map(|(path, form)| Template {
        parts: vec![
            Part::Text("at {".into()),
            Part::Field(Some(path.clone()), Placeholder::Time(form)),
            Part::Text(" \"".into()),
            Part::Field(None, Placeholder::Word),
            Part::Text(": ".into()),
            Part::Field(Some(path), Placeholder::Rest),
        ],
    });
    let columns = || proptest::collection::vec(prop_oneof![path(), Just(Path::name("-"))], 1..4);
    let format = prop_oneof![
        proptest::sample::select(vec![Format::Json, Format::KeyValue, Format::AccessLog, Format::Syslog, Format::ContainerLog, Format::Xml]),
        columns().prop_map(Format::Csv),
        columns().prop_map(Format::W3cLog),
        template.prop_map(Format::Template),
        pattern().prop_map(Format::Pattern),
    ];
    let more =
        prop_oneof![
            (pace.clone(), paths()).prop_map(|(pace, by)| Operation::from(Sample { rate: Rate::Target(pace), by, unless: None })),
            (pace, paths(), proptest::option::of(any_condition())).prop_map(|(pace, by, unless)| Operation::from(Limit { pace, by, unless })),
            proptest::collection::vec((path(), conversion), 1..3).prop_map(|x| Convert(x).into()),
            (path(), proptest::collection::vec(format, 1..3)).prop_map(|(field, formats)| Operation::from(Parse { field, formats })),
            (path(), "[a-z]{1,5}", proptest::collection::vec((path(), proptest::option::of("[a-z ]{1,5}")), 0..3))
                .prop_map(|(field, table, outputs)| Operation::from(LookUp { field, table, outputs })),
            (path(), "[a-z]{1,5}", path()).prop_map(|(field, table, into)| Operation::from(Locate { field, table, into })),
            (path(), path()).prop_map(|(field, into)| Operation::from(Resolve { field, into })),
            (time.clone(), proptest::collection::vec(path(), 1..3)).prop_map(|(within, by)| Operation::from(Merge { within, by })),
            (time.clone(), proptest::collection::vec(path(), 0..3), proptest::option::of(preference))
                .prop_map(|(within, by, prefer)| Operation::from(Dedupe { by, within, prefer })),
            (joining, paths(), time).prop_map(|(how, by, within)| Operation::from(Join { how, by, within })),
            ("[a-z_]{1,9}", paths()).prop_map(|(name, by)| Operation::from(Count { name, by })),
            (path(), "[a-z_]{1,9}", paths()).prop_map(|(field, name, by)| Operation::from(Measure { field, name, by })),
            (
                "[a-z]{1,5}",
                Just(vec![("field".to_owned(), "a.b".to_owned()), ("with".to_owned(), "\"x, )\"".to_owned()), ("how".to_owned(), "/a,(b)/".to_owned())])
            )
                .prop_map(|(recipe, arguments)| Operation::from(Use { recipe, arguments })),
        ];
    let operation = prop_oneof![
        any_condition().prop_map(|x| Keep(x).into()),
        any_condition().prop_map(|x| Drop(x).into()),
        (1..1000u64, proptest::collection::vec(path(), 0..3), proptest::option::of(any_condition())).prop_map(|(n, by, unless)| Operation::from(Sample {
            rate: Rate::OneIn(n),
            by,
            unless
        })),
        (0.001..100f64).prop_map(|p| Operation::from(Sample { rate: Rate::Percent(p), by: Vec::new(), unless: None })),
        (proptest::collection::vec(redaction, 1..3), proptest::collection::vec(path(), 0..3))
            .prop_map(|(what, fields)| Operation::from(Redact { what, fields })),
        proptest::collection::vec(whole, 1..3).prop_map(|what| Operation::from(Redact { what, fields: Vec::new() })),
        proptest::collection::vec((path(), value.clone()), 1..3).prop_map(|x| Tag(x).into()),
        proptest::collection::vec((path(), value), 1..3).prop_map(|x| Set(x).into()),
        proptest::collection::vec(selector.clone(), 1..3).prop_map(|x| Remove(x).into()),
        proptest::collection::vec(selector, 1..3).prop_map(|x| Retain(x).into()),
        proptest::collection::vec(renaming, 1..3).prop_map(|x| Rename(x).into()),
        (path(), 1..9999u64).prop_map(|(field, count)| Operation::from(Trim { field, size: Size { count, unit: Unit::KB } })),
        ("[a-z]{1,5}").prop_map(|recipe| Operation::from(Use { recipe, arguments: Vec::new() })),
    ];
    let operation = prop_oneof![operation, more];
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

#[test]
fn groups_are_taken_only_from_what_is_small_enough_for_every_event() {
    let says = |sentence: &str| parse_step(sentence).err().map(|m| m.message).unwrap_or_default();
    let groups = |n: usize| "(a)".repeat(n);
    for step in ["redact /{}/", "parse message as /(?<x>b){}/"] {
        let with = |pattern: &str| says(&step.replace("{}", pattern));
        assert_eq!(with(&groups(30)), "", "{step}");
        assert!(with(&groups(33)).contains("too many"), "{step}: {}", with(&groups(33)));
        assert!(with(&groups(4_000)).contains("too many"), "{step}");
        assert_eq!(with(&"(?:a)".repeat(33)), "", "{step}: those that take nothing are none");
        assert!(with("(.{1,900})").contains("too large"), "{step}: {}", with("(.{1,900})"));
    }
    // Conditions take nothing from groups.
    assert!(parse_condition(&format!("message matches /{}/", groups(200))).is_ok());
}
