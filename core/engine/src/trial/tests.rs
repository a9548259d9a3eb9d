use std::collections::HashMap;

use proptest::prelude::*;
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_ledger::{Measure, Stage};

use super::*;

/// Steps whose work on an event does not depend on the others.
const ALONE: &[&str] = &[
    "drop path starts with \"/health\"",
    "keep severity >= info",
    "sample 1 in 3 by trace",
    "redact email",
    "redact user as hash",
    "tag team = \"quays\" when n > 5",
    "remove spare",
    "trim message to 16 B",
    "parse message as logfmt",
    "convert n to integer",
    "rename lvl to severity",
    "count as seen by path",
];
/// Steps whose work does.
const PACED: &[&str] =
    &["limit 3 per second", "limit 1 per second by path", "merge repeats within 2 seconds by path", "sample to 2 per second by path", "sample 1 in 2"];
const EITHER: &[&str] = &[ALONE[0], ALONE[1], ALONE[2], ALONE[3], ALONE[5], ALONE[7], ALONE[8], ALONE[10], PACED[0], PACED[1], PACED[2], PACED[3], PACED[4]];
const CONDITIONS: &[&str] = &["", "severity >= warn", "n > 4 or path = \"/pay\"", "not (spare exists)", "remainder"];

fn read(text: &str) -> CheckedPlan {
    CheckedPlan::read(text).unwrap_or_else(|m| panic!("{text}\n{m:?}"))
}

fn list(steps: &[&str]) -> String {
    format!("[{}]", steps.iter().map(|s| format!("'{s}'")).collect::<Vec<_>>().join(", "))
}

/// A plan of two sources, two destinations and some routes.
fn plan(steps: &'static [&'static str]) -> impl Strategy<Value = CheckedPlan> {
    let some = move |most: usize| prop::collection::vec(prop::sample::select(steps), 0..=most);
    let route = (prop::sample::select(CONDITIONS), some(3), 0..3usize, any::<bool>());
    (some(2), some(1), prop::collection::vec(route, 1..5)).prop_map(|(arrival, always, routes)| {
        let mut text = format!(
            "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = {}\n[source.b]\nkind = 'http'\nlisten = '127.0.0.1:2'\n[destination.x]\nkind = 'discard'\nalways = {}\n[destination.y]\nkind = 'discard'\n",
            list(&arrival),
            list(&always)
        );
        for (number, (when, steps, to, from_a)) in routes.into_iter().enumerate() {
            let when = if when.is_empty() { String::new() } else { format!("when = '{when}'\n") };
            let from = if from_a { "from = ['a']\n" } else { "" };
            let to = ["['x']", "['y']", "['x', 'y']"][to];
            text.push_str(&format!("[[route]]\nname = 'r{number}'\n{from}{when}do = {}\nto = {to}\n", list(&steps)));
        }
        read(&text)
    })
}

/// Events as they come: by which source, what, how long after the one before, and for how many each stands.
fn events() -> impl Strategy<Value = Vec<(bool, String, i64, u64)>> {
    let path = prop::sample::select(&["/health/live", "/pay", "/board", "/timetable"][..]);
    let level = prop::sample::select(&["debug", "info", "warn", "error"][..]);
    let event = (path, level, 0..9, any::<bool>(), 0..4u8).prop_map(|(path, level, n, spare, trace)| {
        let spare = if spare { ",\"spare\":\"kept by ann@post.example\"" } else { "" };
        format!("{{\"path\":\"{path}\",\"lvl\":\"{level}\",\"n\":\"{n}\",\"trace\":\"t{trace}\",\"user\":\"u{n}\",\"message\":\"gate=4 took={n} for ann@post.example\"{spare}}}")
    });
    let broken = prop_oneof![20 => event, 1 => Just("{\"path\":".to_owned()), 1 => Just("tide is high".to_owned())];
    prop::collection::vec((any::<bool>(), broken, 0..700i64, 1..4u64), 1..60)
}

fn given<'a>(events: &'a [(bool, String, i64, u64)], weighted: bool) -> Vec<Given<'a>> {
    let mut at_ms = 1_000_000;
    let mut all = Vec::new();
    for (from_a, event, after, times) in events {
        at_ms += after;
        let form = split(event.as_bytes(), DeclaredFormat::Lines, 1 << 20).unwrap()[0].form;
        all.push(Given { source: if *from_a { "a" } else { "b" }, event: event.as_bytes(), form, at_ms, times: if weighted { *times } else { 1 } });
    }
    all
}

/// What the live pass does, an event a body: the account, each event for as many as it stands for, and what was seen of each event.
fn live(plan: &CheckedPlan, given: &[Given<'_>]) -> (BTreeMap<Account, Amount>, Vec<Vec<crate::Capture>>) {
    let compiled = CompiledPlan::new(plan, HashKey::new([1; 32]));
    let points = (0..2).flat_map(|n| [Point::Source(n), Point::Destination(n)]).chain((0..plan.routes.len()).map(Point::Route));
    let watch = Watch::new(points.collect(), 1_000);
    let (mut account, mut seen, mut scratch, mut looked) = (BTreeMap::<Account, Amount>::new(), Vec::new(), Scratch::default(), i64::MIN);
    let mut post = |outcome: &Outcome, times: i64| {
        for posting in &outcome.postings {
            *account.entry(posting.account.clone()).or_default() += Amount { events: posting.amount.events * times, bytes: posting.amount.bytes * times };
        }
    };
    for event in given {
        if event.at_ms.div_euclid(LOOK_EVERY) > looked {
            looked = event.at_ms.div_euclid(LOOK_EVERY);
            compiled.release(event.at_ms, false, &mut scratch).iter().for_each(|(_, outcome)| post(outcome, 1));
        }
        let records = split(event.event, DeclaredFormat::Lines, 1 << 20).unwrap();
        let outcome = compiled.process(compiled.source(event.source).unwrap(), event.event, &records, event.at_ms, Some(&watch), &mut scratch);
        post(&outcome, event.times as i64);
        seen.push(outcome.captures.into_iter().filter(|c| c.record > 0).map(|c| crate::Capture { record: 0, ..c }).collect());
    }
    (account, seen)
}

/// The totals that belong to an account.
fn expect_same(trial: &Trial, account: &BTreeMap<Account, Amount>) {
    let total = |stage: Stage, name: &str, measure: Measure, position: i32| {
        totals::sum(account, |a| a.stage == stage && a.name == name && a.measure == measure && a.position == position)
    };
    for list in &trial.lists {
        let went = [Measure::Passed, Measure::Out, Measure::Enqueued][list.stage as usize];
        assert_eq!(list.went, total(list.stage, &list.name, went, 0), "{} {}", list.stage.word(), list.name);
        for (step, position) in list.steps.iter().zip(1..) {
            let of = |measure| total(list.stage, &list.name, measure, position).events;
            let told = [of(Measure::Removed), of(Measure::Changed), of(Measure::Failed), of(Measure::Held)];
            assert_eq!([step.removed, step.changed, step.failed, step.held], told, "{} {}: {}", list.stage.word(), list.name, step.sentence);
        }
        // What came, less what the steps took away, is what went on.
        assert_eq!(list.steps.last().map_or(list.came, |s| s.went), list.went, "{} {}", list.stage.word(), list.name);
    }
    assert_eq!(trial.unreadable, totals::sum(account, |a| a.measure == Measure::Quarantined).events as u64);
}

fn expect_same_events(trial: &Trial, seen: &[Vec<crate::Capture>], given: &[Given<'_>], plan: &CheckedPlan) {
    let readable = seen.iter().filter(|captures| !captures.is_empty()).count();
    assert_eq!(trial.shown.len(), readable);
    for tried in &trial.shown {
        let live = &seen[tried.given];
        let own = |c: &crate::Capture| crate::Capture { record: 0, ..c.clone() };
        let mut all = vec![own(&tried.arrival)];
        for route in &tried.routes {
            all.extend(route.passing.iter().map(own));
            all.extend(route.destinations.iter().map(|(name, c)| {
                assert_eq!(c.point, Point::Destination(plan.destinations.iter().position(|d| d.name == *name).unwrap()));
                own(c)
            }));
        }
        assert_eq!(all.len(), live.len(), "{}", String::from_utf8_lossy(given[tried.given].event));
        assert!(live.iter().all(|c| all.contains(c)), "{all:?}\nand live {live:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]

    #[test]
    fn a_trial_does_with_each_event_what_the_live_pass_does(
        plan in plan(EITHER),
        events in events(),
    ) {
        let given = given(&events, false);
        let asked = Asked { consecutive: true, most: usize::MAX, ..Asked::default() };
        let trial = trial(&plan, HashKey::new([1; 32]), &Environment::default(), &given, &asked);
        let (account, seen) = live(&plan, &given);
        expect_same(&trial, &account);
        expect_same_events(&trial, &seen, &given, &plan);
        // Whether somebody looks changes nothing.
        let blind = super::trial(&plan, HashKey::new([1; 32]), &Environment::default(), &given, &Asked { most: 0, ..asked });
        prop_assert_eq!((&blind.lists, &blind.branches, &blind.sent), (&trial.lists, &trial.branches, &trial.sent));
    }

    #[test]
    fn an_event_of_a_sample_counts_for_as_many_as_it_stands_for(plan in plan(ALONE), events in events()) {
        let mut given = given(&events, true);
        // One without a key is drawn by the order in which it comes.
        given.retain(|g| g.form != Form::Text);
        let trial = trial(&plan, HashKey::new([1; 32]), &Environment::default(), &given, &Asked { most: usize::MAX, ..Asked::default() });
        let (account, seen) = live(&plan, &given);
        expect_same(&trial, &account);
        expect_same_events(&trial, &seen, &given, &plan);
        prop_assert_eq!(trial.stands_for, given.iter().map(|g| g.times).sum::<u64>());
    }
}

const TWO: &str = "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[destination.x]\nkind = 'discard'\nalways = ['redact email']\n\
    [[route]]\nname = 'pay'\nwhen = 'path = \"/pay\"'\ndo = ['drop n < 3', 'merge repeats within 5 seconds by path when n > 4']\nto = ['x']\n[[route]]\nname = 'all'\nto = ['x']\n";

fn event(path: &str, n: usize) -> Vec<u8> {
    format!("{{\"path\":\"{path}\",\"n\":{n},\"message\":\"for ann@post.example\"}}").into_bytes()
}

#[test]
fn the_events_shown_are_those_that_were_asked_for() {
    let events: Vec<Vec<u8>> = (0..500).map(|n| event(if n % 5 == 0 { "/pay" } else { "/board" }, n % 10)).collect();
    let given: Vec<Given<'_>> = events.iter().map(|e| Given::one("a", e, 0)).collect();
    let tried = |fate, route| {
        let asked = Asked { consecutive: true, most: 7, fate, route, ..Asked::default() };
        trial(&read(TWO), HashKey::new([1; 32]), &Environment::default(), &given, &asked).shown
    };
    assert_eq!(tried(None, None).len(), 7);
    for (fate, count) in [(Fate::Removed, 7), (Fate::Held, 1), (Fate::NotTaken, 7), (Fate::Unchanged, 0), (Fate::Failed, 0)] {
        let shown = tried(Some(fate), Some("pay"));
        assert_eq!(shown.len(), count, "{fate:?}");
        assert!(shown.iter().all(|t| t.routes.len() == 1 && t.routes[0].name == "pay" && t.routes[0].fate() == fate), "{fate:?}");
    }
    // What decides is told of what is not taken, and how an event leaves of what is.
    let not = &tried(Some(Fate::NotTaken), Some("pay"))[0].routes[0];
    assert_eq!((not.parts.len(), not.parts[0].sentence.as_str()), (1, "path = \"/pay\""));
    let sent = &tried(Some(Fate::Changed), Some("all"))[0].routes[0].destinations[0];
    assert_eq!(sent.0, "x");
    let [difference] = &differences(&sent.1.before, sent.1.after.as_ref().unwrap())[..] else { panic!() };
    assert_eq!(
        (difference.field.as_str(), difference.before.as_deref(), difference.after.as_deref()),
        ("message", Some("\"for ann@post.example\""), Some("\"for ***\""))
    );
    assert_eq!(
        differences(b"{\"a\":{\"b\":1,\"c\":2}}", b"{\"a\":{\"c\":2},\"d\":3}").into_iter().map(|d| (d.field, d.before, d.after)).collect::<Vec<_>>(),
        [("a.b".to_owned(), Some("1".to_owned()), None), ("d".to_owned(), None, Some("3".to_owned())),]
    );
}

#[test]
fn a_trial_says_what_a_sample_with_gaps_cannot_tell_and_can_be_abandoned() {
    let events: Vec<Vec<u8>> = (0..5_000).map(|n| event("/pay", n % 10)).collect();
    let given: Vec<Given<'_>> = events.iter().map(|e| Given::one("a", e, 0)).collect();
    let run = |asked: &Asked<'_>| trial(&read(TWO), HashKey::new([1; 32]), &Environment::default(), &given, asked);
    let gaps = run(&Asked::default());
    assert_eq!(gaps.cannot_tell.len(), 1);
    assert!(gaps.cannot_tell[0].starts_with("the route `pay`: what `merge repeats within 5 seconds by path when n > 4` does"), "{gaps:?}");
    assert!(run(&Asked { consecutive: true, ..Asked::default() }).cannot_tell.is_empty());
    assert!(gaps.lists.iter().flat_map(|l| &l.steps).all(|s| s.nanos.is_none()));
    let clock = || {
        static AT: std::sync::atomic::AtomicU64 = std::sync::atomic::AtomicU64::new(0);
        AT.fetch_add(10, std::sync::atomic::Ordering::Relaxed)
    };
    let timed = run(&Asked { clock: Some(clock), ..Asked::default() });
    assert!(timed.lists.iter().flat_map(|l| &l.steps).all(|s| s.nanos.is_some_and(|n| n > 0)), "{:?}", timed.lists);
    let asked = std::sync::atomic::AtomicU32::new(0);
    let stop = || asked.fetch_add(1, std::sync::atomic::Ordering::Relaxed) >= 1;
    let cut = run(&Asked { stop: &stop, ..Asked::default() });
    assert!(cut.is_cut && cut.lists[0].came.events == 2_000 && !gaps.is_cut, "{:?}", cut.lists[0]);
}

#[test]
fn a_prediction_keeps_to_what_really_flows() {
    // Half a minute of a steady stream, of which the sample is a tenth.
    let events: Vec<Vec<u8>> = (0..30_000).map(|n| event(if n % 5 == 0 { "/pay" } else { "/board" }, n / 5 % 10)).collect();
    let whole: Vec<Given<'_>> = events.iter().enumerate().map(|(n, e)| Given::one("a", e, n as i64)).collect();
    let sample: Vec<Given<'_>> = whole.iter().filter(|g| g.at_ms % 9 == 0).map(|g| Given { times: 9, ..*g }).collect();
    let now = TWO.replace("do = ['drop n < 3', 'merge repeats within 5 seconds by path when n > 4']", "do = ['trim message to 1 KB']");
    let run = |text: &str, given: &[Given<'_>], consecutive| {
        trial(&read(text), HashKey::new([1; 32]), &Environment::default(), given, &Asked { consecutive, ..Asked::default() })
    };
    let really = |text: &str, whole: &[Given<'_>]| {
        let trial = run(text, whole, true);
        let branches = trial.branches.iter().map(|b| ((b.route.clone(), b.destination.clone()), b.sent)).collect();
        (Real { sources: trial.lists.iter().filter(|l| l.stage == Stage::Source).map(|l| (l.name.clone(), l.went)).collect(), branches }, trial)
    };
    let (real, _) = really(&now, &whole);
    let environment = Environment::default();
    let predicted = |then: &str, some: &[Given<'_>], stretch: &[Given<'_>], real: &Real| {
        let (now, then) = (read(&now), read(then));
        let [now, then] = [&now, &then].map(|plan| Side { plan, environment: &environment });
        compare(now, then, &HashKey::new([1; 32]), Samples { some, stretch }, real, &Asked::default())
    };
    let off = |told: i64, real: i64| (told as f64 / real as f64 - 1.0).abs();
    for (name, then) in [
        ("dropped", now.replace("trim message to 1 KB", "drop n < 3")),
        ("sampled", now.replace("trim message to 1 KB", "sample 1 in 4")),
        ("a new route", format!("{now}[[route]]\nname = 'more'\nwhen = 'n = 3'\nto = ['x']\n")),
        ("removed", now.replace("[[route]]\nname = 'all'\nto = ['x']\n", "")),
    ] {
        let sent = really(&then, &whole).1.lists.iter().find(|l| l.stage == Stage::Destination).unwrap().went;
        for real in [&real, &Real { branches: HashMap::new(), ..real.clone() }] {
            let told = predicted(&then, &sample, &[], real).predicted;
            let [one] = &told[..] else { panic!("{told:?}") };
            assert!(off(one.then.bytes, sent.bytes) < 0.02 && off(one.then.events, sent.events) < 0.02, "{name}: {one:?}, really {sent:?}");
            assert!(off(one.now.events, 36_000) < 0.001, "{one:?}");
        }
    }
    // What depends on the pace is told from events without a gap: here of about ten seconds, for what comes in forty seconds.
    let long: Vec<Vec<u8>> = (0..40_000).map(|n| event(if n % 5 == 0 { "/pay" } else { "/board" }, n / 5 % 10)).collect();
    let long: Vec<Given<'_>> = long.iter().enumerate().map(|(n, e)| Given::one("a", e, n as i64)).collect();
    let sample: Vec<Given<'_>> = long.iter().filter(|g| g.at_ms % 9 == 0).map(|g| Given { times: 9, ..*g }).collect();
    let (real, _) = really(&now, &long);
    for step in ["merge repeats within 2 seconds by path, n", "limit 20 per second", "sample to 10 per second by n"] {
        let then = now.replace("trim message to 1 KB", step);
        let (_, trial) = really(&then, &long);
        let of = |stage| trial.lists.iter().find(|l| l.stage == stage).unwrap();
        let told = predicted(&then, &sample, &long[..9_300], &real);
        assert!(
            off(told.predicted[0].then.events, of(Stage::Destination).went.events) < 0.02,
            "{step}: {:?}, really {:?}",
            told.predicted,
            of(Stage::Destination)
        );
        // Its step takes away as much as it really does, and nothing is left that cannot be told.
        let list = told.then.lists.iter().find(|l| l.stage == Stage::Route).unwrap();
        assert!(off(list.steps[0].removed, of(Stage::Route).steps[0].removed) < 0.05 && told.then.cannot_tell.is_empty(), "{list:?}");
        // Events are shown of which the two plans make something different.
        let now = read(&now);
        let then = read(&then);
        let [before, after] = [&now, &then].map(|plan| Side { plan, environment: &environment });
        let asked = Asked { differing: true, most: 4, ..Asked::default() };
        let shown = compare(before, after, &HashKey::new([1; 32]), Samples { some: &sample, stretch: &[] }, &real, &asked).then.shown;
        // What is merged differs at once; a pace is not reached by the first few hundred.
        let pay = |t: &Tried| sample[t.given].event.starts_with(b"{\"path\":\"/pay\"");
        assert!(shown.len() == 4 && (!step.starts_with("merge") || shown.iter().all(pay)), "{step}");
        let then = then.text;
        // A stretch in which twice as many came on the route as usual does not make it twice as large, where it is not known what flowed.
        if step.starts_with("merge") {
            let odd: Vec<Given<'_>> =
                long[..9_300].iter().enumerate().filter(|(n, g)| n % 2 == 0 || g.event.starts_with(b"{\"path\":\"/pay\"")).map(|(_, g)| *g).collect();
            let unknown = Real { branches: HashMap::new(), ..real.clone() };
            let told = predicted(&then, &sample, &odd, &unknown).predicted;
            assert!(off(told[0].then.events, of(Stage::Destination).went.events) < 0.03 && off(told[0].now.events, 48_000) < 0.01, "{told:?}");
        }
        // Without a stretch it is said that this is no answer.
        assert_eq!(predicted(&then, &sample, &[], &real).then.cannot_tell.len(), 1);
    }
}

/// Events are kept as they go on behind each step, for as many as they stand for, and none is kept unless that was asked for.
#[test]
fn what_goes_on_behind_each_step_is_kept() {
    let plan = read(
        "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\n[destination.x]\nkind = 'discard'\n[[route]]\nname = 'r'\nto = ['x']\n\
         do = ['tag team = \"quays\"', 'drop n = 1', 'redact email', 'merge repeats within 1 minute by path']\n",
    );
    let events: Vec<Vec<u8>> = (0..4).map(|n| format!("{{\"n\":{n},\"mail\":\"ada{n}@ferries.example\"}}").into_bytes()).collect();
    let given: Vec<Given<'_>> = events.iter().map(|e| Given { times: 3, ..Given::one("a", e, 0) }).collect();
    let behind = |behind: usize| {
        let tried = trial(&plan, HashKey::new([1; 32]), &Environment::default(), &given, &Asked { behind, ..Asked::default() });
        let route = tried.lists.into_iter().find(|list| list.stage == Stage::Route).unwrap();
        route.steps.into_iter().map(|step| step.behind.into_iter().map(|(e, n)| (String::from_utf8(e).unwrap(), n)).collect()).collect::<Vec<Vec<_>>>()
    };
    let all = behind(10);
    assert_eq!(all.iter().map(Vec::len).collect::<Vec<_>>(), [4, 3, 3, 0]);
    assert_eq!(all[0][1], (r#"{"n":1,"mail":"ada1@ferries.example","team":"quays"}"#.to_owned(), 3));
    assert!(all[1].iter().all(|(event, _)| event.contains("@ferries.example")) && all[2].iter().all(|(event, _)| !event.contains("ada")), "{all:?}");
    assert_eq!(behind(2).iter().map(Vec::len).collect::<Vec<_>>(), [2, 2, 2, 0]);
    assert_eq!(behind(0).concat(), []);
}
