//! Measures the engine against floors taken in the same run, on one thread, and prints a table of ratios.
//!
//! The corpus is made from a seed: JSON lines of about 350 bytes and 12 to 15 fields in four orders. All works take turns, round after round, so that whatever else the
//! machine does meets all of them; each figure is the median over the rounds of processor time on this thread, and each ratio the median of the rounds' ratios. The same
//! table is written to `target/bench.json`. Goals are ratios to floors, never absolute speeds.
//!
//! Where the service's binary stands beside this one, the whole of it is measured against the sum of its parts as well.
//!
//! `full` and `quick` measure; `service` only the whole service, `sources [KIND]` how fast it takes events by each protocol, `agents [N]` what so many agents cost the service that manages them, `neighbours` what a step that holds events back
//! costs other sources, `tags` what commits cost that tell the account apart by tags, `records` what a month of the account takes; `only NAME ROUNDS` runs one work for a profiler to look at, and says how long it took; `count NAME ROUNDS`
//! runs it without a look at the clock, for one that counts instructions.
#![allow(clippy::print_stdout, reason = "a table is what it is for")]

mod agents;
mod allocations;
mod by_tag;
mod corpus;
mod end_to_end;
mod floors;
mod instructions;
mod neighbours;
mod passes;
mod records;
mod report;
mod sources;

use report::{Goal, Line, Unit};

/// Something to be measured: its name, how many bytes one run reads, and the run.
pub(crate) struct Work<'a> {
    pub(crate) name: &'static str,
    pub(crate) bytes: usize,
    pub(crate) run: Box<dyn FnMut() + 'a>,
}

/// What is held against what.
struct Comparison {
    what: &'static str,
    over: &'static str,
    goal: Goal,
}

const COMPARISONS: &[Comparison] = &[
    Comparison { what: "core pass", over: "floor: tape", goal: Goal::AtLeast(1.2) },
    Comparison { what: "core pass", over: "floor: tree", goal: Goal::AtLeast(6.0) },
    Comparison { what: "nothing changed", over: "floor: tape", goal: Goal::AtLeast(1.5) },
    Comparison { what: "1 % taken", over: "floor: tape", goal: Goal::AtLeast(2.0) },
    Comparison { what: "1 000 routes", over: "10 routes", goal: Goal::CostAtMost(1.25) },
    Comparison { what: "10 000 routes", over: "10 routes", goal: Goal::CostAtMost(2.5) },
    Comparison { what: "small bodies beside 10 000 routes", over: "small bodies beside 10 routes", goal: Goal::CostAtMost(1.1) },
    Comparison { what: "200 regex routes", over: "10 regex routes", goal: Goal::CostAtMost(4.0) },
    Comparison { what: "core pass by two tags", over: "core pass", goal: Goal::CostAtMost(1.1) },
    Comparison { what: "all detectors", over: "core pass", goal: Goal::AtLeast(0.5) },
    Comparison { what: "tail under a condition", over: "tail", goal: Goal::CostAtMost(1.1) },
    Comparison { what: "trial of 100 routes", over: "100 routes", goal: Goal::AtLeast(0.5) },
    Comparison { what: "patterns", over: "floor: words", goal: Goal::AtLeast(0.25) },
    Comparison { what: "parse by template", over: "floor: regex for it", goal: Goal::AtLeast(3.0) },
    Comparison { what: "parse access log", over: "floor: regex for access", goal: Goal::AtLeast(3.0) },
];

/// Processor time of this thread that `work` takes: other work on the machine does not count.
fn seconds(work: &mut dyn FnMut()) -> f64 {
    let now = || {
        let time = rustix::time::clock_gettime(rustix::time::ClockId::ThreadCPUTime);
        time.tv_sec as f64 + time.tv_nsec as f64 / 1e9
    };
    let before = now();
    work();
    now() - before
}

fn median(mut of: Vec<f64>) -> f64 {
    of.sort_by(f64::total_cmp);
    of[of.len() / 2]
}

fn main() {
    let mut arguments = std::env::args().skip(1);
    let mode = arguments.next().unwrap_or_default();
    // Only this process installs one, so it cannot be there already.
    let _ = rustls::crypto::ring::default_provider().install_default();
    if mode == "agents" {
        agents::measure(arguments.next().and_then(|n| n.parse().ok()).unwrap_or(2_000));
        return;
    }
    if mode == "sink" {
        end_to_end::sink();
        return;
    }
    let (events, rounds) = if mode == "full" { (60_000, 15) } else { (20_000, 7) };
    let corpus = corpus::corpus(events, 7);
    if mode == "service" || mode == "sources" || mode == "neighbours" || mode == "tags" || mode == "records" {
        let mut lines = Vec::new();
        if mode == "service" {
            end_to_end::measure(&corpus, 400, 32_000, 5.0, &mut lines);
        } else if mode == "records" {
            records::measure(&mut lines);
        } else if mode == "tags" {
            by_tag::measure(&corpus, &mut lines);
        } else if mode == "neighbours" {
            neighbours::measure(&corpus, &mut lines);
        } else {
            sources::measure(&corpus, sources::BODIES, arguments.next().as_deref(), &mut lines);
        }
        report::print(&lines);
        return;
    }
    let texts = corpus::Texts::of(events / 2, 11);
    let mut works = floors::all(&corpus, &texts);
    let wanted = (mode == "only" || mode == "count").then(|| std::env::args().nth(2).unwrap_or_default());
    works.extend(passes::all(&corpus, &texts, wanted.as_deref()));
    if wanted.is_some() {
        let (name, rounds) = (arguments.next().unwrap_or_default(), arguments.next().and_then(|n| n.parse().ok()).unwrap_or(10));
        for work in works.iter_mut().filter(|w| w.name.starts_with(&name)) {
            if mode == "count" {
                (0..rounds).for_each(|_| (work.run)());
                continue;
            }
            let times: Vec<f64> = (0..rounds).map(|_| seconds(&mut work.run) / events as f64 * 1e9).collect();
            let quickest = times.iter().copied().fold(f64::INFINITY, f64::min);
            println!("{}: {:.0} ns an event, {quickest:.0} in the quickest round", work.name, median(times));
        }
        return;
    }
    println!("{events} events, {} bytes each, {rounds} rounds\n", corpus.len() / events);
    for work in &mut works {
        (work.run)();
    }
    // By work, by round.
    let mut times = vec![Vec::new(); works.len()];
    for _ in 0..rounds {
        for (work, times) in works.iter_mut().zip(&mut times) {
            times.push(seconds(&mut work.run));
        }
    }
    let speed = |i: usize| works[i].bytes as f64 / 1e6 / median(times[i].clone());
    let names: Vec<&str> = works.iter().map(|w| w.name).collect();
    let place = |name: &str| names.iter().position(|known| *known == name).unwrap_or_else(|| panic!("no work is called {name}"));
    let mut lines: Vec<Line> =
        works.iter().enumerate().map(|(i, w)| Line { what: w.name, value: speed(i), unit: Unit::MegabytesPerSecond, against: None }).collect();
    for comparison in COMPARISONS {
        let (mine, floor) = (place(comparison.what), place(comparison.over));
        // Time a byte against time a byte: of a cost, how many times as much; of a speed, how many times as fast.
        let scale = works[floor].bytes as f64 / works[mine].bytes as f64;
        let cost = median(times[mine].iter().zip(&times[floor]).map(|(m, f)| m / f * scale).collect());
        let ratio = if matches!(comparison.goal, Goal::CostAtMost(_)) { cost } else { 1.0 / cost };
        lines.push(Line {
            what: comparison.what,
            value: speed(mine),
            unit: Unit::MegabytesPerSecond,
            against: Some((comparison.over, ratio, comparison.goal)),
        });
    }
    // A body takes some buffers of its own, and so does a window that is opened; shared among thousands of events they come to nearly nothing, and an event
    // adds none.
    for (work, what) in [
        ("core pass", "core pass: heap allocations an event"),
        ("merge repeats", "merge repeats: heap allocations an event"),
        ("join lines", "join lines: heap allocations an event"),
    ] {
        let number = place(work);
        let allocated = allocations::during(|| (works[number].run)()) as f64 / events as f64;
        lines.push(Line { what, value: allocated, unit: Unit::Each, against: Some(("", allocated, Goal::Under(0.05))) });
    }
    for (work, what) in [("merge repeats", "merge repeats: ns an event"), ("join lines", "join lines: ns an event")] {
        let number = place(work);
        lines.push(Line { what, value: median(times[number].clone()) / events as f64 * 1e9, unit: Unit::Each, against: None });
    }
    if mode == "full"
        && let Some(count) = instructions::an_event()
    {
        lines.push(Line { what: "core pass: instructions an event", value: count, unit: Unit::Each, against: None });
    }
    let (large, small, waiting) = if mode == "full" { (400, 32_000, 5.0) } else { (100, 8_000, 0.5) };
    end_to_end::measure(&corpus, large, small, waiting, &mut lines);
    sources::measure(&corpus, sources::BODIES, None, &mut lines);
    neighbours::measure(&corpus, &mut lines);
    by_tag::measure(&corpus, &mut lines);
    records::measure(&mut lines);
    report::print(&lines);
    report::write(&lines);
}
