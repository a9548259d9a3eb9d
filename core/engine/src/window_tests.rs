//! Steps that hold events back, at each place of a plan: what they hold, when it goes on, and that the account of every batch adds up.

use std::collections::BTreeMap;

use rockrose_event::record::{DeclaredFormat, split};
use rockrose_ledger::{Amount, Measure, Posting, WindowState};

use super::tests::{NOW, arrived, plan};
use super::window::MAX_BYTES;
use super::{CompiledPlan, Outcome, Scratch};

/// A plan whose source, route and destination do what is given.
fn with(on_arrival: &str, steps: &str, always: &str) -> CompiledPlan {
    let list = |step: &str| if step.is_empty() { String::new() } else { format!("'''{step}'''") };
    plan(&format!(
        "[source.s]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = [{}]\n[source.t]\nkind = 'http'\nlisten = '127.0.0.1:2'\n\
         [destination.d]\nkind = 'discard'\nalways = [{}]\n[destination.e]\nkind = 'discard'\n\
         [[route]]\nname = 'r'\ndo = [{}]\nto = ['d', 'e']\n[[route]]\nname = 'q'\nwhen = 'gate = 9'\nto = ['d']\n",
        list(on_arrival),
        list(always),
        list(steps)
    ))
}

const PLACES: [&str; 3] = ["on_arrival", "do", "always"];

/// The plan that has the step at one of the three places.
fn at(place: &str, step: &str) -> CompiledPlan {
    let here = |p: &str| if p == place { step } else { "" };
    with(here("on_arrival"), here("do"), here("always"))
}

/// A node that keeps what batches leave: its account, its windows and its lines.
struct Node {
    plan: CompiledPlan,
    scratch: Scratch,
    kept: BTreeMap<u128, WindowState>,
    postings: Vec<Posting>,
    lines: Vec<(String, String, String)>,
}

impl Node {
    fn new(plan: CompiledPlan) -> Node {
        Node { plan, scratch: Scratch::default(), kept: BTreeMap::new(), postings: Vec::new(), lines: Vec::new() }
    }

    fn keep(&mut self, outcome: Outcome) {
        for change in &outcome.windows {
            match &change.state {
                Some(held) => self.kept.insert(change.id, held.clone()),
                None => self.kept.remove(&change.id),
            };
        }
        for entry in &outcome.entries {
            for line in arrived(&outcome, &entry.route, &entry.destination) {
                self.lines.push((entry.route.clone(), entry.destination.clone(), line));
            }
        }
        self.postings.extend(outcome.postings);
    }

    fn send(&mut self, source: usize, now_ms: i64, body: &str) {
        let records = split(body.as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap();
        let outcome = self.plan.process(source, body.as_bytes(), &records, now_ms, None, &mut self.scratch);
        assert!(outcome.quarantined.is_empty());
        self.keep(outcome);
    }

    fn release(&mut self, now_ms: i64, all: bool) {
        for (_, outcome) in self.plan.release(now_ms, all, &mut self.scratch) {
            self.keep(outcome);
        }
    }

    /// What is posted of one measure.
    fn sum(&self, measure: Measure) -> Amount {
        self.postings.iter().filter(|p| p.account.measure == measure).fold(Amount::default(), |mut sum, p| {
            sum += p.amount;
            sum
        })
    }

    /// What came to a destination by a route.
    fn at(&self, route: &str, destination: &str) -> Vec<&str> {
        self.lines.iter().filter(|(r, d, _)| r == route && d == destination).map(|(_, _, line)| line.as_str()).collect()
    }

    fn balances(&self) {
        let mut waiting: BTreeMap<String, Amount> = BTreeMap::new();
        for (_, destination, line) in &self.lines {
            waiting.entry(destination.clone()).or_default().count(line.len());
        }
        let mut sums = BTreeMap::new();
        for posting in &self.postings {
            *sums.entry(&posting.account).or_default() += posting.amount;
        }
        for equation in rockrose_ledger::balance(sums, &waiting) {
            assert!(equation.holds(), "{equation:?}");
        }
        let held: i64 = self.kept.values().map(|h| h.amount().events).sum();
        assert_eq!(self.sum(Measure::Held).events, held, "the account has what the windows hold");
    }
}

#[test]
fn repeats_are_merged_wherever_the_step_stands() {
    for place in PLACES {
        let mut node = Node::new(at(place, "merge repeats within 10 seconds by gate"));
        for i in 0..3 {
            node.send(0, NOW + i * 1_000, &format!("{{\"gate\":4,\"time\":\"t{i}\"}}\n{{\"gate\":5}}\n"));
            node.balances();
        }
        assert_eq!(node.kept.len(), 2, "{place}");
        // Destination `e` has no steps: it has all, unless they are held before.
        assert_eq!(node.at("r", "e").len(), if place == "always" { 6 } else { 0 }, "{place}");
        node.release(NOW + 9_999, false);
        assert_eq!(node.kept.len(), 2, "{place}: not due yet");
        node.release(NOW + 10_000, false);
        node.balances();
        assert_eq!(node.kept.len(), 0, "{place}");
        let merged = node.at("r", "d");
        assert_eq!(merged.len(), 2, "{place}");
        let fours = merged.iter().find(|l| l.contains("\"gate\":4")).unwrap();
        assert_eq!(*fours, r#"{"gate":4,"time":"t0","merged.count":3,"merged.first":"t0","merged.last":"t2"}"#, "{place}");
        assert_eq!(node.sum(Measure::Removed).events, 4, "{place}: the others are gone into the two");
    }
}

#[test]
fn a_repeat_behind_the_window_opens_the_next() {
    for place in PLACES {
        let mut node = Node::new(at(place, "merge repeats within 10 seconds by gate"));
        node.send(0, NOW, "{\"gate\":1,\"n\":0}\n");
        // Nobody has asked what is due in the meantime.
        node.send(0, NOW + 60_000, "{\"gate\":1,\"n\":1}\n{\"gate\":1,\"n\":2}\n");
        node.balances();
        assert_eq!(node.at("r", "d"), [r#"{"gate":1,"n":0}"#], "{place}: one that stayed alone goes as it came");
        node.release(0, true);
        node.balances();
        let all = node.at("r", "d");
        assert_eq!(all.len(), 2, "{place}");
        assert!(all[1].starts_with(r#"{"gate":1,"n":1,"merged.count":2,"#), "{place}: {all:?}");
    }
}

#[test]
fn sources_routes_and_destinations_have_windows_of_their_own() {
    // By both sources, and through both routes to the destination that merges.
    let mut node = Node::new(at("always", "merge repeats within 1 minute by gate"));
    node.send(0, NOW, "{\"gate\":9}\n{\"gate\":9}\n");
    node.send(1, NOW, "{\"gate\":9}\n");
    node.balances();
    assert_eq!(node.kept.len(), 4, "two sources, two routes");
    node.release(NOW, true);
    node.balances();
    let counts: Vec<bool> = node.at("q", "d").iter().map(|l| l.contains("\"merged.count\":2")).collect();
    assert_eq!(counts.len(), 2);
    assert_eq!(counts.iter().filter(|two| **two).count(), 1, "the source that sent two");
}

#[test]
fn lines_are_joined_wherever_the_step_stands() {
    let stack = ["stopped at the quay", "  by crew", "\tby vessel", "on again"];
    for place in PLACES {
        let mut node = Node::new(at(place, "join lines indented within 5 seconds by gate"));
        for (i, line) in stack.iter().enumerate() {
            node.send(0, NOW + i as i64, &format!("{}\n", serde_json::json!({"gate": 1, "message": line})));
            node.balances();
        }
        let joined = serde_json::json!({"gate": 1, "message": "stopped at the quay\n  by crew\n\tby vessel"}).to_string();
        assert_eq!(node.at("r", "d"), [joined.as_str()], "{place}: a line that begins anew ends the one before");
        // Each line keeps the window open for a while longer.
        node.release(NOW + 5_002, false);
        assert_eq!(node.kept.len(), 1, "{place}");
        node.release(NOW + 5_003, false);
        assert_eq!((node.kept.len(), node.at("r", "d").len()), (0, 2), "{place}");
        node.balances();
    }
}

#[test]
fn what_begins_and_what_goes_on_tells_lines_apart() {
    let run = |step: &str, lines: &[&str]| {
        let mut node = Node::new(at("do", step));
        for line in lines {
            node.send(0, NOW, &format!("{}\n", serde_json::json!({"message": line})));
        }
        node.release(NOW, true);
        node.balances();
        node.at("r", "d").iter().map(|l| serde_json::from_str::<serde_json::Value>(l).unwrap()["message"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(run(r"join lines starting with /^\d{4}-/", &["2026- a", "b", "c", "2026- d"]), ["2026- a\nb\nc", "2026- d"]);
    assert_eq!(run(r"join lines starting with /^\d{4}-/", &["b", "c", "2026- d", "e"]), ["b\nc", "2026- d\ne"], "what comes before the first start");
    assert_eq!(run(r"join lines continued by /\\$/", &["a\\", "b\\", "c", "d", "e\\"]), ["a\\\nb\\\nc", "d", "e\\"]);
    assert_eq!(run("join lines indented", &[" lonely", "  more", "next"]), [" lonely\n  more", "next"]);
}

#[test]
fn a_joined_text_is_bounded() {
    let mut node = Node::new(at("do", "join lines indented"));
    let long = "x".repeat(200_000);
    node.send(0, NOW, "{\"message\":\"start\"}\n");
    for _ in 0..12 {
        node.send(0, NOW, &format!("{{\"message\":\" {long}\"}}\n"));
        node.balances();
    }
    node.release(NOW, true);
    node.balances();
    let lengths: Vec<usize> = node.at("r", "d").iter().map(|l| l.len()).collect();
    assert!(lengths.len() >= 3 && lengths.iter().all(|l| *l <= 256_000 + 100), "{lengths:?}");
    assert!(lengths.iter().sum::<usize>() >= 12 * 200_000, "nothing is cut off");
}

#[test]
fn windows_are_bounded_in_number() {
    let mut node = Node::new(at("do", "merge repeats within 1 hour by n"));
    let body: String = (0..52_000).map(|i| format!("{{\"n\":{i}}}\n")).collect();
    node.send(0, NOW, &body);
    node.balances();
    let (held, through) = (node.kept.len(), node.at("r", "d").len());
    assert_eq!(held + through, 52_000);
    assert!(held == 50_000, "{held} held: those that find no room go by themselves");
    assert_eq!(node.sum(Measure::Failed).events, through as i64, "and are counted");
}

#[test]
fn what_was_kept_goes_on_after_a_restart_and_what_has_no_step_is_told() {
    for place in PLACES {
        let step = "merge repeats within 1 minute by gate";
        let mut node = Node::new(at(place, step));
        node.send(0, NOW, "{\"gate\":1}\n{\"gate\":1}\n{\"gate\":2}\n");
        let kept: Vec<(u128, WindowState)> = node.kept.iter().map(|(id, held)| (*id, held.clone())).collect();
        // The same plan, compiled anew.
        node.plan = at(place, step);
        assert!(node.plan.restore(kept.clone()).is_empty(), "{place}");
        node.send(0, NOW + 1, "{\"gate\":1}\n");
        node.release(NOW, true);
        node.balances();
        assert!(node.at("r", "d").iter().any(|l| l.contains("\"merged.count\":3")), "{place}: it went on where it stood");
        // A plan without that step, with another sentence there, or with it elsewhere.
        let elsewhere = PLACES[(PLACES.iter().position(|p| *p == place).unwrap() + 1) % 3];
        for other in [with("", "", ""), at(place, "merge repeats within 2 minutes by gate"), at(elsewhere, step)] {
            assert_eq!(other.restore(kept.clone()).len(), 2, "{place}");
            assert!(other.release(NOW, true, &mut Scratch::default()).is_empty());
        }
    }
}

#[test]
fn what_is_let_go_meets_the_steps_behind() {
    let steps = "merge repeats within 1 minute by gate''', '''drop gate = 2''', '''tag seen = true''', '''redact email in message";
    let mut node = Node::new(at("do", steps));
    node.send(0, NOW, "{\"gate\":1,\"message\":\"to ann@post.example\"}\n{\"gate\":2}\n{\"gate\":1}\n{\"gate\":2}\n");
    assert!(node.lines.is_empty());
    node.release(NOW, true);
    node.balances();
    let lines = node.at("r", "d");
    assert_eq!(lines.len(), 1);
    assert!(lines[0].contains("\"seen\":true") && lines[0].contains("\"merged.count\":2") && !lines[0].contains("ann@"), "{lines:?}");
    // Two windows one behind the other.
    let mut node = Node::new(at("do", "join lines indented by gate''', '''merge repeats within 1 minute by message"));
    for _ in 0..3 {
        node.send(0, NOW, "{\"gate\":1,\"message\":\"a\"}\n{\"gate\":1,\"message\":\" b\"}\n");
    }
    node.release(NOW, true);
    node.balances();
    assert!(node.kept.is_empty(), "what the first lets go, the second does too");
    let lines = node.at("r", "d");
    assert_eq!(lines.len(), 1, "{lines:?}");
    assert!(lines[0].starts_with(r#"{"gate":1,"message":"a\n b","merged.count":3"#), "{lines:?}");
}

#[test]
fn one_that_looks_on_sees_which_step_holds_an_event() {
    use super::{Point, Watch};
    let plan = at("do", "merge repeats within 1 minute by gate");
    let body = b"{\"gate\":1}\n{\"gate\":1}\n";
    let records = split(body, DeclaredFormat::Lines, 1 << 20).unwrap();
    let outcome = plan.process(0, body, &records, NOW, Some(&Watch::new(vec![Point::Route(0)], 9)), &mut Scratch::default());
    let seen: Vec<_> = outcome.captures.iter().map(|c| (c.after.is_some(), c.held_by.is_some(), c.removed_by.is_some())).collect();
    assert_eq!(seen, [(false, true, false), (false, false, true)], "the first is held, the second is gone into it");
    assert_eq!(outcome.captures[0].held_by.as_deref(), Some("merge repeats within 1 minute by gate"));
}

#[test]
fn the_first_copy_goes_on_whichever_way_it_comes() {
    for place in ["do", "always"] {
        let mut node = Node::new(at(place, "dedupe by id within 10 seconds"));
        node.send(0, NOW, "{\"id\":1,\"by\":\"s\"}\n{\"id\":2,\"by\":\"s\"}\n{\"by\":\"s\"}\n");
        node.send(1, NOW + 1_000, "{\"id\":1,\"by\":\"t\"}\n{\"id\":3,\"by\":\"t\"}\n{\"by\":\"t\"}\n");
        node.balances();
        let lines = node.at("r", "d");
        assert_eq!(lines.iter().filter(|l| l.contains("\"id\"")).count(), 3, "{place}: {lines:?}");
        assert_eq!(lines.iter().filter(|l| !l.contains("\"id\"")).count(), 2, "{place}: without an id there are no copies");
        // What is known outlives the plan and a restart, until it is due.
        node.release(NOW + 2_000, true);
        assert_eq!(node.kept.len(), 3, "{place}");
        let kept: Vec<_> = node.kept.iter().map(|(id, held)| (*id, held.clone())).collect();
        node.plan = at(place, "dedupe by id within 10 seconds");
        assert!(node.plan.restore(kept).is_empty());
        node.send(1, NOW + 9_000, "{\"id\":2,\"by\":\"t\"}\n");
        assert_eq!(node.at("r", "d").len(), 5, "{place}: known after a restart");
        node.release(NOW + 11_000, false);
        assert!(node.kept.is_empty(), "{place}");
        node.send(1, NOW + 12_000, "{\"id\":2,\"by\":\"t\"}\n");
        assert_eq!(node.at("r", "d").len(), 6, "{place}: too late to be a copy");
        node.balances();
    }
}

#[test]
fn the_preferred_copy_takes_the_place_of_one_that_waits() {
    let mut node = Node::new(at("do", "dedupe by id within 10 seconds preferring t"));
    node.send(0, NOW, "{\"id\":1,\"by\":\"s\"}\n{\"id\":2,\"by\":\"s\"}\n{\"id\":2,\"by\":\"s\"}\n");
    node.balances();
    assert_eq!((node.at("r", "d").len(), node.sum(Measure::Held).events), (0, 2), "they wait");
    node.send(1, NOW + 1_000, "{\"id\":1,\"by\":\"t\"}\n{\"id\":3,\"by\":\"t\"}\n{\"id\":3,\"by\":\"t\"}\n");
    node.send(0, NOW + 2_000, "{\"id\":3,\"by\":\"s\"}\n{\"id\":1,\"by\":\"s\"}\n");
    node.balances();
    assert_eq!(node.at("r", "d"), [r#"{"id":1,"by":"t"}"#, r#"{"id":3,"by":"t"}"#]);
    node.release(NOW + 10_000, false);
    node.balances();
    assert_eq!(node.at("r", "d").last(), Some(&r#"{"id":2,"by":"s"}"#), "the preferred did not come");
    node.release(NOW + 12_000, false);
    assert!(node.kept.is_empty());
    // One that waited too long goes on when the next comes, though nobody has asked.
    node.send(0, NOW + 20_000, "{\"id\":4,\"by\":\"s\"}\n");
    node.send(0, NOW + 40_000, "{\"id\":4,\"by\":\"s\"}\n");
    node.balances();
    assert_eq!((node.at("r", "d").len(), node.sum(Measure::Held).events), (4, 1));
}

#[test]
fn of_two_hosts_that_read_one_stream_the_preferred_is_kept() {
    let mut node = Node::new(at("do", "dedupe by id within 10 seconds preferring where host = \"gate-1\""));
    node.send(0, NOW, "{\"id\":1,\"host\":\"gate-2\"}\n{\"id\":2,\"host\":\"gate-1\"}\n{\"id\":3,\"host\":\"gate-2\"}\n");
    node.send(0, NOW + 1_000, "{\"id\":1,\"host\":\"gate-1\"}\n{\"id\":2,\"host\":\"gate-2\"}\n");
    node.balances();
    assert_eq!(node.at("r", "d"), [r#"{"id":2,"host":"gate-1"}"#, r#"{"id":1,"host":"gate-1"}"#]);
    node.release(NOW + 10_000, false);
    node.balances();
    assert_eq!(node.at("r", "d").last(), Some(&r#"{"id":3,"host":"gate-2"}"#), "the preferred host is away");
}

#[test]
fn pieces_are_put_together_with_nothing_between() {
    let mut node = Node::new(at("do", "join pieces while more = true by stream within 10 seconds"));
    node.send(
        0,
        NOW,
        "{\"stream\":1,\"message\":\"no b\",\"more\":true}\n{\"stream\":2,\"message\":\"open\"}\n{\"stream\":1,\"message\":\"er\",\"more\":true}\n",
    );
    node.balances();
    assert_eq!((node.at("r", "d").len(), node.sum(Measure::Held).events), (1, 2), "a whole line of another stream does not wait");
    node.send(0, NOW + 1_000, "{\"stream\":1,\"message\":\"th\"}\n{\"stream\":1,\"message\":\"next\"}\n{\"stream\":1,\"message\":\"lost\",\"more\":true}\n");
    node.balances();
    assert_eq!(node.at("r", "d")[1..], [r#"{"stream":1,"message":"no berth","more":true}"#, r#"{"stream":1,"message":"next"}"#]);
    node.release(NOW + 20_000, false);
    node.balances();
    assert_eq!(node.at("r", "d").last(), Some(&r#"{"stream":1,"message":"lost","more":true}"#), "its rest did not come");
}

#[test]
fn each_source_is_told_which_windows_its_events_can_reach() {
    let plan = plan(
        "[source.plain]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[source.joined]\nkind = 'http'\nlisten = '127.0.0.1:2'\non_arrival = ['join lines indented']\n\
         [source.merged]\nkind = 'http'\nlisten = '127.0.0.1:3'\n[destination.d]\nkind = 'discard'\n[destination.e]\nkind = 'discard'\nalways = ['dedupe by id within 1 minute']\n\
         [[route]]\nname = 'a'\nfrom = ['plain', 'joined']\nto = ['d']\n\
         [[route]]\nname = 'b'\nfrom = ['merged']\ndo = ['merge repeats within 1 minute by gate']\nto = ['d']\n\
         [[route]]\nname = 'c'\nfrom = ['merged']\nwhen = 'remainder'\nto = ['e']\n\
         [[route]]\nname = 'f'\nfrom = ['joined']\nwhen = 'gate = 9'\nto = ['e']\n",
    );
    assert_eq!(plan.window_count(), 3, "numbered in the order of an event's way: arrival, route, destination");
    assert_eq!([plan.windows_of(0), plan.windows_of(1), plan.windows_of(2)], [&[][..], &[0, 2], &[1, 2]]);
    assert_eq!([plan.windows_from(0), plan.windows_from(1), plan.windows_from(2)], [vec![0, 2], vec![1, 2], vec![2]]);
    assert_eq!([plan.reached_from(0), plan.reached_from(1), plan.reached_from(2)], [&[0][..], &[0, 1], &[0, 1]]);
}

#[test]
fn what_is_restored_of_some_windows_leaves_the_others_alone() {
    let mut node = Node::new(with("merge repeats within 1 minute by gate", "", "dedupe by id within 1 minute"));
    node.send(0, NOW, "{\"gate\":1,\"id\":1}\n{\"gate\":1,\"id\":2}\n");
    node.release(NOW, true);
    node.send(0, NOW + 1, "{\"gate\":2,\"id\":3}\n");
    let kept: Vec<(u128, WindowState)> = node.kept.iter().map(|(id, held)| (*id, held.clone())).collect();
    assert_eq!(kept.len(), 2, "one merges at arrival, one knows a copy at the destination");
    // The arrival's windows lose what was never committed; the destination's keep theirs.
    node.plan.restore_windows(&[0], Vec::new());
    assert!(!node.plan.any_due(0, None) && node.plan.any_due(1, Some(NOW + 60_000)));
    node.plan.restore_windows(&[0], kept);
    assert!(node.plan.any_due(0, None));
    node.release(NOW + 2, true);
    node.balances();
}

#[test]
fn a_window_is_copied_once_a_batch_however_many_lines_it_takes() {
    let plan = at("do", "join lines indented by gate");
    let body = format!("{{\"gate\":1,\"message\":\"a\"}}\n{}", "{\"gate\":1,\"message\":\" b\"}\n".repeat(500));
    let records = split(body.as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap();
    let outcome = plan.process(0, body.as_bytes(), &records, NOW, None, &mut Scratch::default());
    assert_eq!(outcome.windows.len(), 1);
    assert_eq!(outcome.windows[0].state.as_ref().unwrap().events, 501);
    // One that is opened and closed in the same batch is told once as well, as closed.
    let plan = at("do", "join lines continued by /\\\\$/ by gate");
    let body = "{\"gate\":1,\"message\":\"a\\\\\"}\n{\"gate\":1,\"message\":\"b\"}\n".repeat(20);
    let records = split(body.as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap();
    let outcome = plan.process(0, body.as_bytes(), &records, NOW, None, &mut Scratch::default());
    assert_eq!(outcome.windows.iter().map(|w| w.state.is_some()).collect::<Vec<_>>(), [false]);
}

#[test]
fn joined_text_counts_against_the_bound_of_all_windows() {
    let mut node = Node::new(at("do", "join lines indented by n"));
    let line = format!(" {}", "x".repeat(100_000));
    // Each stream comes to about 300 KB: its first event, that event's text, and a line behind it. The bound has room for some 220 of them.
    for n in 0..300 {
        node.send(0, NOW, &format!("{{\"n\":{n},\"message\":\"{0}\"}}\n{{\"n\":{n},\"message\":\"{line}\"}}\n", &line[1..]));
    }
    node.balances();
    let held: usize = node.kept.values().map(WindowState::size).sum();
    assert!(held <= MAX_BYTES, "{held} bytes are held");
    assert!(held > MAX_BYTES / 2, "{held} bytes are held");
    assert!(node.sum(Measure::Failed).events > 0, "what finds no room goes on by itself, and is counted");
    node.release(NOW, true);
    node.balances();
    assert!(node.kept.is_empty());
}

#[test]
fn a_time_is_kept_to_its_bound() {
    let mut node = Node::new(at("do", "merge repeats within 1 minute by gate"));
    node.send(0, NOW, &format!("{{\"gate\":1,\"time\":\"{}\"}}\n", "é".repeat(10_000)).repeat(2));
    let state = node.kept.values().next().unwrap();
    assert!(state.first.len() <= 64 && state.last.len() <= 64 && state.last.starts_with('é'));
    node.release(NOW, true);
    node.balances();
}
