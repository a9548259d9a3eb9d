//! Events with whatever JSON allows in them.

/// An event with a number, and whatever else JSON allows. None of its names ends in `n`, by which the number is found again.
pub(super) fn odd_event(number: u32, random: &mut fastrand::Rng) -> String {
    fn value(depth: usize, random: &mut fastrand::Rng) -> String {
        const TEXTS: [&str; 11] =
            ["", "x", "\\ud800", "a\\udfffb", "\\ud83d\\ude80", "\\u0000\\u001f", "\\u2028", "\\\\ud800", "\\\"", "\u{fffd}\u{10ffff}", "] } , ="];
        const NUMBERS: [&str; 9] =
            ["1e999", "-1E+400", "1e-999", "0", "-0.0", "18446744073709551615", "100000000000000000000000000000001", "1.10", "-9223372036854775808"];
        let some = |random: &mut fastrand::Rng, each: &mut dyn FnMut(usize, &mut fastrand::Rng) -> String| {
            (0..random.usize(0..3)).map(|i| each(i, random)).collect::<Vec<_>>().join(",")
        };
        match random.usize(0..if depth == 0 { 5 } else { 8 }) {
            0 => "null".to_owned(),
            1 => random.bool().to_string(),
            2 => NUMBERS[random.usize(0..NUMBERS.len())].to_owned(),
            3 | 4 => format!("\"{}\"", TEXTS[random.usize(0..TEXTS.len())].repeat(random.usize(1..4))),
            5 => format!("[{}]", some(random, &mut |_, random| value(depth - 1, random))),
            6 => format!("{{{}}}", some(random, &mut |i, random| format!("\"k{i}\":{}", value(depth - 1, random)))),
            _ => {
                let levels = random.usize(10..58);
                format!("{}{}{}", "[".repeat(levels), value(0, random), "]".repeat(levels))
            }
        }
    }
    const NAMES: [&str; 16] = [
        "",
        "message",
        "time",
        "severity",
        "severity_number",
        "resource",
        "scope",
        "attributes",
        "trace_id",
        "host",
        "\\ud800",
        "a.b",
        "=]\\\"",
        "\u{e9}",
        "observed",
        "body",
    ];
    let members: String = (0..random.usize(0..5)).map(|_| format!(",\"{}\":{}", NAMES[random.usize(0..NAMES.len())], value(3, random))).collect();
    format!("{{\"n\":{number}{members}}}")
}
