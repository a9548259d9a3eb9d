use std::collections::{HashMap, HashSet};

use rockrose_extract::{Buffers, Extractor, Found};
use rockrose_language::{Operation, Parse, parse_condition, parse_step};

use crate::sets;
use crate::{BUDGET, Line, Miner, Pattern};

fn mine<'a>(lines: impl IntoIterator<Item = &'a str>, budget: usize) -> Miner {
    let mut miner = Miner::new(budget);
    let from = miner.origin("here");
    for (at, text) in lines.into_iter().enumerate() {
        miner.add(&Line { text: text.as_bytes(), at_ms: at as i64, times: 1, severity: 0, from });
    }
    miner
}

/// The share of lines whose group is just the one of their template.
fn accuracy(labels: &[usize], groups: &[Option<usize>]) -> f64 {
    let mut of_label: HashMap<usize, HashSet<usize>> = HashMap::new();
    let mut of_group: HashMap<Option<usize>, HashSet<usize>> = HashMap::new();
    for (line, (label, group)) in labels.iter().zip(groups).enumerate() {
        of_label.entry(*label).or_default().insert(line);
        of_group.entry(*group).or_default().insert(line);
    }
    let right: usize =
        of_group.iter().filter(|(_, lines)| lines.iter().next().is_some_and(|line| of_label[&labels[*line]] == **lines)).map(|(_, lines)| lines.len()).sum();
    right as f64 / labels.len() as f64
}

#[test]
fn messages_of_fourteen_programs_are_told_apart_as_their_authors_would() {
    let mut sum = 0.0;
    let mut read_in_all = (0, 0);
    let mut missed = 0;
    for (name, lines) in sets::all(2_000) {
        let (labels, texts): (Vec<usize>, Vec<&str>) = lines.iter().map(|(label, text)| (*label, text.as_str())).unzip();
        let found = mine(texts.iter().copied(), BUDGET).patterns();
        let patterns = &found.list;
        assert_eq!(patterns.iter().map(|p| p.times).sum::<u64>(), 2_000);
        let groups: Vec<Option<usize>> = texts.iter().map(|text| found.of(text.as_bytes())).collect();
        let accuracy = accuracy(&labels, &groups);
        sum += accuracy;
        // What its sentence reads of each pattern's lines.
        let (mut read, mut asked) = (0, 0);
        for (at, pattern) in patterns.iter().enumerate().filter(|(_, p)| !p.varying.is_empty()) {
            let of: Vec<&str> = texts.iter().zip(&groups).filter(|(_, group)| **group == Some(at)).map(|(text, _)| *text).collect();
            let sentence = pattern.parse("message").unwrap();
            let Operation::Parse(Parse { formats, .. }) = parse_step(&sentence).unwrap_or_else(|m| panic!("{sentence}: {m:?}")).operation else { panic!() };
            let extractors: Vec<Extractor> = formats.iter().map(Extractor::new).collect();
            let (mut found, mut room) = (Found::default(), Buffers::default());
            let reads = |text: &&&str| extractors.iter().any(|e| e.read(text.as_bytes(), 0, &mut found, &mut room));
            let n = of.iter().filter(reads).count();
            if n < of.len() && std::env::var("SHOW").is_ok() {
                println!("{n} of {}: {sentence}", of.len());
            }
            (read, asked) = (read + n, asked + of.len());
        }
        for pattern in patterns {
            let of = pattern.sentences("message");
            for sentence in [Some(&of.drop), Some(&of.sample), Some(&of.limit), Some(&of.merge), Some(&of.count), of.parse.as_ref(), of.measure.as_ref()]
                .into_iter()
                .flatten()
            {
                parse_step(sentence).unwrap_or_else(|m| panic!("{sentence}: {m:?}"));
            }
        }
        // What the condition of each finds.
        let mut wrong = 0;
        for (at, pattern) in patterns.iter().enumerate() {
            let condition = pattern.condition("message");
            let matcher = rockrose_engine::Matcher::new(&parse_condition(&condition).unwrap_or_else(|m| panic!("{condition}: {m:?}")));
            for (text, group) in texts.iter().zip(&groups) {
                let event = format!("{{\"message\":{}}}", serde_json::Value::from(*text));
                wrong += usize::from(matcher.meets(event.as_bytes(), 0) != (*group == Some(at)));
            }
        }
        missed += wrong;
        read_in_all = (read_in_all.0 + read, read_in_all.1 + asked);
        if std::env::var("SHOW").is_ok() {
            let templates = labels.iter().collect::<HashSet<_>>().len();
            println!("{name}: {accuracy:.3}, {} patterns of {templates} templates, {read} of {asked} read, {wrong} found wrong", patterns.len());
            if accuracy < 0.99 {
                patterns.iter().for_each(|p| println!("   {:5} {}", p.times, p.text));
            }
        }
    }
    let mean = sum / 14.0;
    assert!(missed < 28_000 / 100, "{missed}");
    println!("mean {mean:.3}");
    assert!(mean >= 0.97, "{mean}");
    assert!(read_in_all.0 as f64 >= 0.99 * read_in_all.1 as f64, "{read_in_all:?}");
}

/// Lines of all sets, in an order that depends on the seed.
fn mixed(seed: u64, lines: usize) -> Vec<String> {
    let mut all: Vec<String> = sets::all(lines).into_iter().flat_map(|(_, lines)| lines.into_iter().map(|(_, text)| text)).collect();
    fastrand::Rng::with_seed(seed).shuffle(&mut all);
    all
}

fn told(patterns: &[Pattern]) -> Vec<(String, u64, u64)> {
    let mut told: Vec<_> = patterns.iter().map(|p| (p.id.clone(), p.times, p.bytes)).collect();
    told.sort();
    told
}

#[test]
fn two_miners_that_are_merged_find_what_one_would_have_found() {
    let lines = mixed(1, 500);
    let of = |lines: &[String]| mine(lines.iter().map(String::as_str), BUDGET);
    let whole = of(&lines).patterns().list;
    assert_eq!(told(&of(&mixed(2, 500)).patterns().list), told(&whole), "in whatever order");
    let (one, other) = lines.split_at(3_000);
    for (first, second) in [(one, other), (other, one)] {
        let mut merged = of(first);
        merged.merge(&of(second));
        assert_eq!(told(&merged.patterns().list), told(&whole));
        assert!(merged.patterns().list.iter().all(|p| p.origins == [("here".to_owned(), p.times)]));
    }
}

#[test]
fn memory_is_bounded_whatever_comes() {
    let mut random = fastrand::Rng::with_seed(4);
    let budget = 1 << 20;
    let check = |what: &str, miner: &Miner, times: u64| {
        assert!(miner.size() <= budget + (16 << 10), "{what}: {}", miner.size());
        let found: u64 = miner.patterns().list.iter().map(|p| p.times).sum();
        assert_eq!(found + miner.others().0, times, "{what}: all are counted");
    };
    // Bytes without sense.
    let mut miner = Miner::new(budget);
    let from = miner.origin("here");
    for at in 0..20_000 {
        let text: Vec<u8> = (0..random.usize(1..200)).map(|_| random.u8(..)).collect();
        miner.add(&Line { text: &text, at_ms: at, times: 1, severity: 9, from });
    }
    check("noise", &miner, 20_000);
    // A million patterns that have nothing in common, and one message that comes in between.
    let mut miner = Miner::new(budget);
    let from = miner.origin("here");
    let word = |mut n: u64| {
        let mut word = String::new();
        while n > 0 {
            word.push(char::from(b'a' + (n % 26) as u8));
            n /= 26;
        }
        word
    };
    for at in 0..100_000u64 {
        let text = if at % 4 == 0 {
            "gate opens for boarding".to_owned()
        } else {
            format!("{} x{} {}", word(at * 7_919 + 1), "-".repeat((at % 9) as usize), word(at * 104_729 + 1))
        };
        miner.add(&Line { text: text.as_bytes(), at_ms: at as i64, times: 1, severity: 0, from });
    }
    check("words", &miner, 100_000);
    assert_eq!(miner.patterns().list.iter().find(|p| p.text == "gate opens for boarding").map(|p| p.times), Some(25_000));
    // An event of 256 KB, and an empty one.
    let mut miner = Miner::new(budget);
    let from = miner.origin("here");
    for text in [vec![b'x'; 256 << 10], b"a ".repeat(128 << 10), b"[".repeat(256 << 10), b"a:".repeat(128 << 10), b"=\"".repeat(128 << 10), Vec::new()] {
        miner.add(&Line { text: &text, at_ms: i64::MAX, times: 1, severity: 0, from });
    }
    check("large", &miner, 6);
}

#[test]
fn a_pattern_tells_how_grave_how_often_and_since_when() {
    let mut miner = Miner::new(BUDGET);
    let (kiosks, gates) = (miner.origin("source:kiosks"), miner.origin("source:gates"));
    for n in 0..100i64 {
        let text = format!("ticket {n} printed");
        let (severity, from) = if n % 10 == 0 { (5, gates) } else { (3, kiosks) };
        miner.add(&Line { text: text.as_bytes(), at_ms: 1_000_000 + n * 1_000, times: 3, severity, from });
    }
    let found = miner.patterns();
    let pattern = &found.list[0];
    assert_eq!((pattern.times, pattern.first_ms, pattern.last_ms), (300, 1_000_000, 1_099_000));
    assert_eq!((pattern.severities[3], pattern.severities[5]), (270, 30));
    assert_eq!(pattern.origins, [("source:gates".to_owned(), 30), ("source:kiosks".to_owned(), 270)]);
    assert_eq!(pattern.trend.slots().iter().map(|(_, n)| n).sum::<u64>(), 300);
    assert_eq!(pattern.examples[0], "ticket 0 printed");
    assert_eq!(pattern.bytes, 3 * (10 * 16 + 90 * 17));
}
