//! The detectors on a made set of lines with known spans, and on what looks like them and is not.

use crate::lang::Detector;
use crate::redact::find;

/// Pseudo-random numbers (xorshift), the same at every run.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, n: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % n as u64) as usize
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.below(from.len())]
    }

    fn digits(&mut self, n: usize) -> String {
        (0..n).map(|_| char::from(b'0' + self.below(10) as u8)).collect()
    }
}

fn all(detector: Detector, text: &str) -> Vec<String> {
    let (mut found, mut at) = (Vec::new(), 0);
    while let Some(span) = find(detector, text.as_bytes(), at) {
        found.push(text[span.clone()].to_owned());
        at = span.end;
    }
    found
}

/// The digit that makes `digits` pass the Luhn check when put behind them; written apart from the code under test.
fn check_digit(digits: &str) -> char {
    let mut sum = 0;
    for (i, c) in digits.chars().rev().enumerate() {
        let d = c.to_digit(10).unwrap();
        sum += match i % 2 {
            0 if d >= 5 => d * 2 - 9,
            0 => d * 2,
            _ => d,
        };
    }
    char::from_digit((10 - sum % 10) % 10, 10).unwrap()
}

fn card(n: &mut Numbers) -> String {
    let (start, length) =
        [("4", 16), ("4", 13), ("51", 16), ("55", 16), ("2221", 16), ("34", 15), ("37", 15), ("6011", 16), ("65", 16), ("36", 14), ("62", 19)][n.below(11)];
    let mut digits = format!("{start}{}", n.digits(length - 1 - start.len()));
    digits.push(check_digit(&digits));
    match n.below(3) {
        0 => digits,
        which => {
            let between = if which == 1 { " " } else { "-" };
            let groups: Vec<&str> = if length == 15 {
                vec![&digits[..4], &digits[4..10], &digits[10..]]
            } else {
                (0..length).step_by(4).map(|i| &digits[i..(i + 4).min(length)]).collect()
            };
            groups.join(between)
        }
    }
}

#[test]
fn every_card_number_is_found_whole() {
    let mut n = Numbers(11);
    for _ in 0..4_000 {
        let number = card(&mut n);
        let before = n.pick(&["", "card ", "pan=", "\"", "(", "card:", "paid 12.50 with ", "é ", "ref 7, ", "\n", "gate-3 #"]);
        let after = n.pick(&["", " declined", ".", ",", "\"", ")", ";exp 12/27", " é", "\n", ". Next", "!"]);
        assert_eq!(all(Detector::Card, &format!("{before}{number}{after}")), [number.as_str()], "{before}{number}{after}");
    }
}

#[test]
fn numbers_that_are_no_cards_are_left() {
    let mut n = Numbers(12);
    for _ in 0..4_000 {
        let number: String = card(&mut n).chars().filter(char::is_ascii_digit).collect();
        let last = number.chars().last().unwrap().to_digit(10).unwrap();
        let wrong = format!("{}{}", &number[..number.len() - 1], (last + 1 + n.below(9) as u32) % 10);
        let none = match n.below(8) {
            0 => wrong,
            1 => format!("trace {:08x}{number}", 0xabcd_0000u32 + n.below(0xffff) as u32),
            2 => format!("{number}f"),
            3 => format!("0.{number}"),
            4 => format!("{number}{}", n.digits(8)),
            5 => format!("x{number}"),
            6 => format!("id_{number}_a"),
            _ => format!("{number}.{}", n.digits(2)),
        };
        assert!(all(Detector::Card, &none).is_empty(), "{none}");
    }
    for none in [
        "2026-11-23 10:15:30.123",
        "+44 20 7946 0958",
        "192.0.2.1 198.51.100.2",
        "1700000000000000000",
        "8000000000000002",
        "1111111111111117",
        "12:34:56:78:90:12:34:56",
        "GB29 NWBK 6016 1331 9268 19x",
    ] {
        assert!(all(Detector::Card, none).is_empty(), "{none}");
    }
}

#[test]
fn every_address_is_found_whole() {
    let mut n = Numbers(13);
    for _ in 0..4_000 {
        let local = n.pick(&["ann", "a", "ann.pell", "ann+ferry", "ann_pell", "ANN-PELL", "a.b.c.d", "o'hara", "ann%quay", "x1", "été", "1909"]);
        let domain = n.pick(&[
            "post.example",
            "mail.post.example",
            "x-y.example",
            "POST.EXAMPLE",
            "a1.b2.example",
            "überfahrt.example",
            "post.xn--vermgensberatung-pwb",
            "q.test",
            "lowmere.museum",
        ]);
        let address = format!("{local}@{domain}");
        let before = n.pick(&["", "to ", "<", "mailto:", "user=", "\"", "(", "to:", "[", ", ", "é ", "email:\t", "//"]);
        let after = n.pick(&["", " bounced", ">", ".", ", and", "\"", ")", "?subject=x", ":", "; ", "\n", "/inbox", "!"]);
        assert_eq!(all(Detector::Email, &format!("{before}{address}{after}")), [address.as_str()], "{before}{address}{after}");
    }
    let many: Vec<String> = (0..50).map(|i| format!("walker{i}@post.example")).collect();
    assert_eq!(all(Detector::Email, &many.join(",")), many);
}

#[test]
fn what_only_looks_like_an_address_is_left() {
    for none in [
        "@quay",
        "quay@",
        "a @ b.example",
        "a@b",
        "a@.example",
        "a@b.",
        "a@b..c",
        "a@b.c",
        "a@b.1",
        "@@",
        "a@@b.example x",
        "git@ host",
        "5 @ 3.50",
        "x@-",
        "user@localhost",
        "é@",
        "@media (min-width)",
        "\"@type\":\"x\"",
        "v1@2.3.4",
        "npm @scope/name",
        "user@[192.0.2.1]",
    ] {
        assert!(all(Detector::Email, none).is_empty(), "{none}: {:?}", all(Detector::Email, none));
    }
}

#[test]
fn any_bytes_give_spans_inside_them() {
    let mut n = Numbers(14);
    let parts = ["@", ".", "-", " ", "4", "41", "111", "a", "é", "x.example", "\u{0}", "4111 1111 1111 1111", "a@b.example", "'", "%"];
    for _ in 0..20_000 {
        let text: String = (0..n.below(12)).map(|_| n.pick(&parts)).collect();
        for detector in Detector::ALL {
            let mut at = 0;
            while let Some(span) = find(detector, text.as_bytes(), at) {
                assert!(at <= span.start && span.start < span.end && span.end <= text.len());
                assert!(text.is_char_boundary(span.start) && text.is_char_boundary(span.end), "{text:?} {span:?}");
                at = span.end;
            }
        }
    }
}
