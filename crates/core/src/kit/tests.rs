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
fn a_kit_with_mistakes_says_which() {
    let kit = |text: &str| Kit::read("own", text).map(|k| k.wrong_examples(NOW)).unwrap_or_else(|e| vec![e]).join("\n");
    assert!(kit("says = 'x'\nsteps = ['parse mesage']\nfits = 'true'").contains("parse"), "{}", kit("says = 'x'\nsteps = ['parse mesage']\nfits = 'true'"));
    assert!(kit("says = 'x'\nsteps = []\nfits = 'a ='").contains("fits"));
    assert!(kit("says = 'x'\nsteps = []\nfits = 'true'\nmore = 1").contains("more"));
    let example = "says = 'x'\nsteps = ['set b = 2']\nfits = 'b = 2'\n[[example]]\nlines = ['{\"a\":{\"c\":1}}']\ngives = { b = 3, \"a.c\" = 1 }";
    assert_eq!(kit(example), "example 1: `b` is 2, not 3, in {\"a\":{\"c\":1},\"b\":2}");
    assert!(Kit::read("no name", "").is_err());
}
