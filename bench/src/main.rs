//! Measures the engine against floors taken in the same run, on one thread, and prints a table of ratios.
//!
//! The corpus is made from a seed: JSON lines of about 350 bytes and 12 to 15 fields in four orders. Every figure is the median of several rounds of processor time
//! on this thread. The same table is written to `target/bench.json`. Goals are ratios to floors, never absolute speeds.
#![allow(clippy::print_stdout, reason = "a table is what it is for")]

mod corpus;
mod floors;
mod passes;

use std::time::{Duration, Instant};

/// Runs of each measurement; the median counts.
const ROUNDS: usize = 7;

/// A measurement and what it is held against.
struct Line {
    what: &'static str,
    megabytes_per_second: f64,
    floor: &'static str,
    ratio: Option<f64>,
    goal: Option<f64>,
}

/// Time this thread has spent on a processor: other work on the machine does not count.
fn thread_time() -> Option<Duration> {
    let text = std::fs::read_to_string("/proc/thread-self/schedstat").ok()?;
    Some(Duration::from_nanos(text.split(' ').next()?.parse().ok()?))
}

fn measure(bytes: usize, mut work: impl FnMut()) -> f64 {
    work();
    let mut rounds: Vec<f64> = (0..ROUNDS)
        .map(|_| {
            let (wall, cpu) = (Instant::now(), thread_time());
            work();
            let spent = match (cpu, thread_time()) {
                (Some(before), Some(after)) if after > before => after - before,
                _ => wall.elapsed(),
            };
            bytes as f64 / 1e6 / spent.as_secs_f64()
        })
        .collect();
    rounds.sort_by(f64::total_cmp);
    rounds[ROUNDS / 2]
}

fn main() {
    if let Some(name) = std::env::args().nth(2) {
        // Only one pass, often: for a profiler to look at.
        let corpus = corpus::corpus(20_000, 7);
        for pass in passes::all().iter().filter(|p| p.what.starts_with(&name)) {
            (0..std::env::args().nth(3).and_then(|n| n.parse().ok()).unwrap_or(20)).for_each(|_| pass.run(&corpus));
        }
        if name == "tape" {
            (0..20).for_each(|_| floors::tape(&corpus));
        }
        return;
    }
    let quick = std::env::args().nth(1).as_deref() == Some("quick");
    let corpus = corpus::corpus(if quick { 20_000 } else { 100_000 }, 7);
    let events = corpus.iter().filter(|b| **b == b'\n').count();
    println!("{events} events, {} bytes each, {ROUNDS} rounds\n", corpus.len() / events);
    let run = |work: &mut dyn FnMut()| measure(corpus.len(), work);

    let split = run(&mut || floors::split(&corpus));
    let tape = run(&mut || floors::tape(&corpus));
    let tree = run(&mut || floors::tree_edit_write(&corpus));
    let mut lines = vec![
        Line { what: "floor: find line ends and check UTF-8", megabytes_per_second: split, floor: "", ratio: None, goal: None },
        Line { what: "floor: JSON to a tape, a line at a time", megabytes_per_second: tape, floor: "", ratio: None, goal: None },
        Line { what: "floor: JSON to a tree, edit, write", megabytes_per_second: tree, floor: "", ratio: None, goal: None },
    ];
    for pass in passes::all() {
        let speed = run(&mut || pass.run(&corpus));
        for (floor, base, goal) in [("tape", tape, pass.over_tape), ("tree", tree, pass.over_tree)] {
            if goal.is_some() {
                lines.push(Line { what: pass.what, megabytes_per_second: speed, floor, ratio: Some(speed / base), goal });
            }
        }
    }
    println!("{:<44} {:>8} {:>6} {:>7} {:>6}", "what", "MB/s", "floor", "ratio", "goal");
    for l in &lines {
        let number = |n: Option<f64>| n.map_or_else(String::new, |n| format!("{n:.2}"));
        let met = match (l.ratio, l.goal) {
            (Some(ratio), Some(goal)) if ratio >= goal => "met",
            (Some(_), Some(_)) => "not met",
            _ => "",
        };
        println!("{:<44} {:>8.0} {:>6} {:>7} {:>6}  {met}", l.what, l.megabytes_per_second, l.floor, number(l.ratio), number(l.goal));
    }
    let entry =
        |l: &Line| serde_json::json!({ "what": l.what, "megabytes_per_second": l.megabytes_per_second, "floor": l.floor, "ratio": l.ratio, "goal": l.goal });
    let report = serde_json::Value::from(lines.iter().map(entry).collect::<Vec<_>>());
    let written = std::fs::create_dir_all("target").and_then(|()| std::fs::write("target/bench.json", format!("{report:#}\n")));
    if let Err(e) = written {
        eprintln!("target/bench.json cannot be written: {e}");
    }
}
