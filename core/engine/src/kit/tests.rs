use super::recognise::LIKELY;
use super::*;

/// 2026-11-23T12:00:00Z
const NOW: i64 = 1_795_435_200_000;

#[test]
fn every_kit_does_what_its_examples_say() {
    let mut wrong = Vec::new();
    for (name, text) in READY_MADE {
        match Kit::read(name, text) {
            Ok(kit) => {
                assert!(!kit.examples.is_empty() && !kit.says.is_empty(), "{name}");
                wrong.extend(kit.wrong_examples(NOW).into_iter().map(|w| format!("{name}: {w}")));
            }
            Err(e) => wrong.push(format!("{name}: {e}")),
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_kit_is_recognised_by_its_own_lines() {
    for kit in Kit::ready_made() {
        let lines: Vec<String> = kit.examples.iter().flat_map(|e| e.lines.clone()).collect();
        let found = recognise(&lines.join("\n"), NOW);
        assert!(found.kits.contains(&kit.name.as_str()), "{}: {found:#?}", kit.name);
        assert!(found.share >= LIKELY, "{found:#?}");
    }
}

#[test]
fn columns_text_and_what_goes_on_in_the_next_line() {
    let csv = recognise("gate,port,opened\nG4,Lowmere,3\nG5,Tansy Quay,4\n", NOW);
    assert_eq!(csv.steps, ["parse message as csv(gate, port, opened)"]);
    assert!(csv.events[1].contains("\"port\":\"Lowmere\""), "{csv:?}");
    let w3c = recognise("#Version: 1.0\n#Fields: date time cs-method cs(User-Agent)\n2026-11-23 10:00:00 GET kiosk\n", NOW);
    assert_eq!(w3c.steps, ["parse message as w3c log(date, time, cs-method, cs(User-Agent))"]);
    let text = recognise("gate open\n  at the quay\ngate shut\n", NOW);
    assert_eq!((&text.steps[..], text.events.len(), text.timed), (&["join lines indented".to_owned()][..], 2, 0.0));
    let json = recognise("{\"a\":1}\n{\"a\":2}\n", NOW);
    assert_eq!((json.says.as_str(), json.steps.len()), ("JSON lines", 0));
    let app = "2026-11-23 10:00:00 INFO open\n2026-11-23 10:00:01 ERROR no berth\ncom.x.NoBerthException: full\n\tat com.x.A.b(A.java:1)\n2026-11-23 10:00:02 INFO shut\n";
    let app = recognise(app, NOW);
    assert_eq!(app.kits, ["trace-java", "app-text"], "{app:?}");
    assert_eq!((app.events.len(), app.timed, app.time.as_deref()), (3, 1.0, Some("2026-11-23T10:00:00Z")));
}

#[test]
fn lines_without_a_time_belong_to_those_that_tell_one() {
    let odd = "[23-Nov-2026 10:00:00 UTC] Warning: low ink\n[23-Nov-2026 10:00:01 UTC] Error: no berth\nStack trace:\n#0 {main}\n  thrown in quay.php\n[23-Nov-2026 10:00:02 UTC] gate open\n";
    let odd = recognise(odd, NOW);
    assert_eq!(odd.steps, ["join lines without a time", "use app-text"]);
    assert_eq!((odd.events.len(), odd.timed), (3, 1.0), "{odd:?}");
    assert!(odd.events[1].contains("no berth\\nStack trace:") && odd.events[1].contains("\"severity\":\"Error\""), "{odd:?}");
    // Whose first line tells the time, and the second what happened; with a trace behind.
    let two = "Nov 23, 2026 10:00:00 AM Gate open\nINFO: opened\nNov 23, 2026 10:00:01 AM Gate shut\nSEVERE: stuck\njava.lang.IllegalStateException: no berth\n\tat Gate.shut(Gate.java:4)\n";
    let two = recognise(two, NOW);
    assert_eq!((two.kits.as_slice(), two.events.len(), two.timed), (&["trace-java", "app-text"][..], 2, 1.0), "{two:?}");
    // A few times among much else are no beginnings, and events of JSON are whole.
    let few = recognise(&format!("Log started: 2026-11-23 10:00:00\n{}", "unpacking\n".repeat(9)), NOW);
    assert_eq!((few.says.as_str(), few.events.len()), ("text", 10));
    let mixed = recognise("2026-11-23 10:00:00 W | gate: slow\n{\"a\":1}\n{\"a\":2}\n", NOW);
    assert!(!mixed.steps.iter().any(|s| s.starts_with("join")), "{mixed:?}");
}

#[test]
fn whether_the_day_or_the_month_is_first_shows_over_all_lines() {
    let day = recognise("05/11/2026 10:00:00.25 gate open\n23/11/2026 9:00:00 gate shut\n", NOW);
    assert_eq!((day.timed, day.time.as_deref(), day.share), (1.0, Some("2026-11-05T10:00:00Z"), 1.0), "{day:?}");
    assert!(day.says.contains("the day first") && day.events[1] == "{\"message\":\"gate shut\",\"time\":\"2026-11-23T09:00:00Z\"}", "{day:?}");
    let month = recognise("[11-05-2026 10:00:00] gate open\n[11-23-2026 10:00:01]: gate shut\n", NOW);
    assert_eq!((month.timed, month.time.as_deref()), (1.0, Some("2026-11-05T10:00:00Z")), "{month:?}");
    assert!(month.events[1].contains("\"gate shut\""), "{month:?}");
    let zoned = recognise("23-11-2026 10:00:00 +0300 gate open\n24-11-2026 10:00:00 +0300 gate shut\n", NOW);
    assert_eq!((zoned.timed, zoned.time.as_deref()), (1.0, Some("2026-11-23T07:00:00Z")), "{zoned:?}");
    // All of the first days of a month, of both sorts, or no dates at all: not guessed.
    for lines in [
        "05/11/2026 10:00:00 a\n06/11/2026 10:00:00 b\n",
        "23/11/2026 10:00:00 a\n11/23/2026 10:00:00 b\n",
        "5/6/7 tickets\n1-2-3 go\n",
        "1.2.3.4 10:00:00\n",
        "23/11/2026 10:00:00 PM a\n",
        "23/11/2026 10:00:00.5 +0300 a\n",
        "23/11/2026 10:00 a\n",
    ] {
        assert_eq!(recognise(lines, NOW).says, "text", "{lines}");
    }
}

/// Kinds of which no kit had lines: libraries' logs are none of the system's, and columns with tabs have names and types.
#[test]
fn logs_of_libraries_and_columns_with_tabs() {
    let library = "2026-11-23T10:00:00.5Z INFO gates.timetable: loaded\n2026-11-23T10:00:01.5Z ERROR gates.berths: none is free\n";
    let library = recognise(library, NOW);
    assert_eq!((library.kits.as_slice(), library.timed), (&["app-text"][..], 1.0), "{library:?}");
    assert_eq!(library.events[1], r#"{"message":"none is free","time":"2026-11-23T10:00:01.5Z","severity":"ERROR","logger":"gates.berths"}"#);
    let system = recognise("2026-11-23T10:00:00.5Z quay-4 gated: opened\n2026-11-23T10:00:01.5Z info-desk gated: shut\n", NOW);
    assert_eq!(system.kits, ["system-log"], "{system:?}");
    let level = recognise("INFO:gates:loaded\nWARNING:gates:slow\n", NOW);
    assert_eq!((level.kits.as_slice(), level.timed), (&["app-level"][..], 0.0), "{level:?}");
    let tabs = "#fields\tts\tuid\tid.orig_h\tid.orig_p\tlocal\n#types\ttime\tstring\taddr\tport\tbool\n1795428000.5\t17\t192.0.2.7\t51512\tT\n1795428001.5\tC2\t-\t51513\tF\n";
    let tabs = recognise(tabs, NOW);
    assert_eq!((tabs.timed, tabs.events.len(), tabs.time.as_deref()), (1.0, 2, Some("2026-11-23T10:00:00.5Z")), "{tabs:?}");
    assert!(tabs.events[0].ends_with(r#""time":"2026-11-23T10:00:00.5Z","uid":"17","id.orig_h":"192.0.2.7","id.orig_p":51512,"local":true}"#), "{tabs:?}");
    assert!(tabs.events[1].ends_with(r#""uid":"C2","id.orig_p":51513,"local":false}"#), "{tabs:?}");
    let dashes = recognise("05-11-2026 10:00:00 gate open\n06-11-2026 10:00:00 gate shut\n", NOW);
    assert_eq!(dashes.time.as_deref(), Some("2026-11-05T10:00:00Z"), "{dashes:?}");
}

#[test]
fn json_of_applications_is_recognised_whatever_its_members_order() {
    let line = r#"{"caller":"gate.go:17","level":"info","msg":"open","ts":"2026-11-23T10:00:00.5Z"}"#;
    let found = recognise(&[line; 3].join("\n"), NOW);
    assert_eq!((found.kits.as_slice(), found.timed), (&["app-json"][..], 1.0), "{found:?}");
}

#[test]
fn a_kit_with_mistakes_says_which() {
    let kit = |text: &str| Kit::read("own", text).map(|k| k.wrong_examples(NOW)).unwrap_or_else(|e| vec![e.to_string()]).join("\n");
    assert!(kit("says = 'x'\nsteps = ['parse mesage']\nfits = 'true'").contains("parse"), "{}", kit("says = 'x'\nsteps = ['parse mesage']\nfits = 'true'"));
    assert!(kit("says = 'x'\nsteps = []\nfits = 'a ='").contains("fits"));
    assert!(kit("says = 'x'\nsteps = []\nfits = 'true'\nmore = 1").contains("more"));
    let example = "says = 'x'\nsteps = ['set b = 2']\nfits = 'b = 2'\n[[example]]\nlines = ['{\"a\":{\"c\":1}}']\ngives = { b = 3, \"a.c\" = 1 }";
    assert_eq!(kit(example), "example 1: `b` is 2, not 3, in {\"a\":{\"c\":1},\"b\":2}");
    assert!(Kit::read("no name", "").is_err());
}

#[test]
fn two_who_look_at_once_do_not_see_each_others_lines() {
    let kit = Kit::ready_made().iter().find(|k| k.name == "trace-java").unwrap();
    let trace = |n: usize| format!("2026-11-23 10:00:00 ERROR no berth {n}\njava.lang.IllegalStateException: full {n}\n\tat a.B.c(B.java:{n})\n");
    std::thread::scope(|scope| {
        for n in 0..8 {
            scope.spawn(move || {
                let expected = kit.run(&trace(n), 0);
                for _ in 0..20 {
                    assert_eq!(kit.run(&trace(n), 0), expected);
                    assert!(expected.iter().all(|event| event.contains(&n.to_string())), "{expected:?}");
                }
            });
        }
    });
}

#[test]
fn a_line_that_a_container_runtime_has_cut_is_put_together() {
    let kit = Kit::ready_made().iter().find(|kit| kit.name == "container").unwrap();
    let line = |log: &str| format!("{{\"log\":\"{log}\",\"stream\":\"stdout\",\"time\":\"2026-11-23T10:00:00Z\"}}\n");
    // Such a runtime cuts at 16 KiB, and only the last piece ends its line.
    let long = "a".repeat(16 << 10);
    let lines = [line(&long), line("b\\n"), line("short"), line("next\\n")].concat();
    let events = events_of(&kit.plan, &["use container".to_owned()], &lines, NOW);
    let message = |event: &String| serde_json::from_str::<serde_json::Value>(event).unwrap()["message"].as_str().unwrap().trim_end().to_owned();
    assert_eq!(events.iter().map(message).collect::<Vec<_>>(), [format!("{long}b"), "short".to_owned(), "next".to_owned()]);
}
