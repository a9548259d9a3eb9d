//! The values of `set`, one by one: what they come to, of which type, and when they come to nothing.

use rockrose_language::parse_step;
use serde_json::Value;

use super::tests::through;

/// What `set out = VALUE` writes for the event, as JSON; nothing if it writes nothing.
fn value(of: &str, event: &str) -> Option<String> {
    let line = through(&[&format!("set out = {of}")], event).expect("`set` removes nothing");
    let event: Value = serde_json::from_str(&line).unwrap();
    event.get("out").map(ToString::to_string)
}

fn hold(event: &str, cases: &[(&str, &str)]) {
    for (of, expected) in cases {
        assert_eq!(value(of, event).as_deref(), Some(*expected), "{of} of {event}");
    }
}

#[test]
fn arithmetic_binds_as_usual_and_reads_numbers_out_of_texts() {
    hold(
        r#"{"a":7,"b":2,"price":12.5,"text":"40","neg":-3,"big":12345678901234567890,"small":0.1,"e":"1e3"}"#,
        &[
            ("1 + 2 * 3", "7"),
            ("(1 + 2) * 3", "9"),
            ("10 - 4 - 3", "3"),
            ("100 / 10 / 2", "5"),
            ("a + b", "9"),
            ("a - b * 2", "3"),
            ("a / b", "3.5"),
            ("a * -1", "-7"),
            ("price * 4", "50"),
            ("text + 2", "42"),
            ("e + 1", "1001"),
            ("neg * neg", "9"),
            ("neg - neg", "0"),
            ("small + 0.2", "0.3"),
            ("small * 3", "0.3"),
            ("1 / 3 * 3", "1"),
            ("round(a / 3, 2)", "2.33"),
            ("round(price)", "13"),
            ("round(neg / 2)", "-2"),
            ("round(a, -4)", "7"),
            ("length(text) + 1", "3"),
            ("big + 0", "12345678901234567000"),
        ],
    );
}

#[test]
fn what_cannot_be_computed_writes_nothing() {
    let event = r#"{"a":7,"word":"quay","null":null,"list":[1],"object":{"x":1},"yes":true}"#;
    for of in ["a / 0", "word + 1", "missing + 1", "null + 1", "list + 1", "object + 1", "yes + 1", "missing", "lower(missing)", "lower(null)", "round(word)"] {
        assert_eq!(value(of, event), None, "{of}");
    }
    for of in
        ["join(word, missing)", "replace(missing, \"a\", \"b\")", "part(word, missing)", "part(word, 1, word)", "first_of(missing, null)", "length(missing)"]
    {
        assert_eq!(value(of, event), None, "{of}");
    }
    // Nothing written is no failure, and the event stays as it was.
    assert_eq!(through(&["set a = missing, word = a / 0"], event).as_deref(), Some(event));
}

#[test]
fn copies_keep_their_type_and_their_writing() {
    hold(
        r#"{"i":1.10,"t":"a\u0022b\\c","n":null,"y":true,"l":[1, 2],"o":{"x":{"y":"z"}},"big":123456789012345678901234567890}"#,
        &[
            ("t", r#""a\"b\\c""#),
            ("n", "null"),
            ("y", "true"),
            ("l", "[1,2]"),
            ("o.x", r#"{"y":"z"}"#),
            ("o.x.y", r#""z""#),
            ("first_of(n, l)", "[1,2]"),
            ("first_of(missing, y)", "true"),
            ("join(y, l, o.x.y)", r#""true[1, 2]z""#),
        ],
    );
    let exact = through(&["set out = i, more = big"], r#"{"i":1.10,"big":123456789012345678901234567890}"#).unwrap();
    assert!(exact.contains(r#""out":1.10,"more":123456789012345678901234567890"#), "{exact}");
}

#[test]
fn texts_are_cut_and_put_together_by_characters() {
    hold(
        r#"{"port":"Skerry Point","e":"Überfähre","s":"a\tb","n":42,"empty":"","flag":"🏁🏳"}"#,
        &[
            ("upper(port)", r#""SKERRY POINT""#),
            ("lower(e)", r#""überfähre""#),
            ("upper(e)", r#""ÜBERFÄHRE""#),
            ("length(e)", "9"),
            ("length(flag)", "2"),
            ("length(empty)", "0"),
            ("part(port, 1, 6)", r#""Skerry""#),
            ("part(port, 8)", r#""Point""#),
            ("part(port, -5)", r#""Point""#),
            ("part(port, -5, 2)", r#""Po""#),
            ("part(port, 0, 2)", r#""Sk""#),
            ("part(port, 99)", r#""""#),
            ("part(port, -99, 3)", r#""Ske""#),
            ("part(e, 1, 1)", r#""Ü""#),
            ("part(n, 1, 1)", r#""4""#),
            ("replace(port, \"r\", \"R\")", r#""SkeRRy Point""#),
            ("replace(port, \"\", \"x\")", r#""Skerry Point""#),
            ("replace(port, \" Point\", \"\")", r#""Skerry""#),
            ("replace(s, \"\\t\", \" \")", r#""a b""#),
            ("join(n, \"/\", port)", r#""42/Skerry Point""#),
            ("join(\"a\\\"b\", s)", r#""a\"ba\tb""#),
            ("lower(join(port, upper(\"x\")))", r#""skerry pointx""#),
            ("first_of(missing, empty, port)", r#""""#),
        ],
    );
}

#[test]
fn a_value_is_bounded() {
    let long = "x".repeat(700_000);
    let event = format!(r#"{{"t":"{long}"}}"#);
    assert_eq!(value("join(t, t)", &event), None, "longer than a megabyte");
    assert_eq!(value("replace(t, \"x\", \"yyyy\")", &event), None);
    assert!(value("join(t, \"!\")", &event).is_some_and(|v| v.len() == 700_003));
}

#[test]
fn several_pairs_are_written_one_after_the_other() {
    let swapped = through(&["set a = b, b = a"], r#"{"a":1,"b":2}"#).unwrap();
    assert_eq!(swapped, r#"{"a":2,"b":2}"#, "the second sees what the first wrote");
    assert_eq!(through(&["set n = n + 1, n = n * 2"], r#"{"n":1}"#).unwrap(), r#"{"n":4}"#);
    assert_eq!(through(&["set o.x = 1"], r#"{"o":{"x":0}}"#).unwrap(), r#"{"o":{"x":1}}"#, "in its place");
    assert_eq!(through(&["set o.x = 1"], r#"{"o":7}"#).unwrap(), r#"{"o":7,"o.x":1}"#, "at the top where there is no place");
    assert_eq!(through(&["set message = \"x\""], r#"{"msg":"y"}"#).unwrap(), r#"{"msg":"x"}"#, "a view is written where it was found");
    assert_eq!(through(&["set severity = warn"], r#"{"level":"info"}"#).unwrap(), r#"{"level":"warn"}"#);
}

#[test]
fn a_level_is_a_word_beside_severity_only() {
    assert_eq!(through(&["set severity = warn"], r#"{"x":1}"#).unwrap(), r#"{"x":1,"severity":"warn"}"#);
    assert_eq!(through(&["set other = warn"], r#"{"warn":3}"#).unwrap(), r#"{"warn":3,"other":3}"#);
    assert_eq!(through(&["set severity = warn.was"], r#"{"warn":{"was":"info"}}"#).unwrap(), r#"{"warn":{"was":"info"},"severity":"info"}"#);
    assert_eq!(through(&["set severity = field \"warn\""], r#"{"warn":"error"}"#).unwrap(), r#"{"warn":"error","severity":"error"}"#);
    for (written, canonical) in [
        ("set  severity=warn", "set severity = warn"),
        ("set severity = field \"warn\"", "set severity = field \"warn\""),
        ("set level = fatal, x = 1", "set level = field \"fatal\", x = 1"),
    ] {
        let step = parse_step(written).unwrap();
        assert_eq!(step.to_string(), canonical);
        assert_eq!(parse_step(canonical), Ok(step));
    }
}

#[test]
fn a_sentence_that_cannot_mean_anything_is_refused() {
    for wrong in [
        "set a = ",
        "set a = 1 +",
        "set a = (1 + 2",
        "set a = lower()",
        "set a = lower(b, c)",
        "set a = part(b)",
        "set a = replace(b, c)",
        "set a = join()",
        "set a = shout(b)",
        "set a = 1 2",
        "set = 1",
        "set a 1",
        "set a = \"open",
    ] {
        assert!(parse_step(wrong).is_err(), "{wrong}");
    }
}
