//! Where a mistake is said to be, and how it looks.

use rockrose_language::Mistake;

use super::Report;

fn report(document: &str, at: std::ops::Range<usize>) -> Report {
    Report::new(document, &Mistake::new(at, "wrong").expected("right"))
}

#[test]
fn lines_and_columns_count_from_one_in_characters() {
    let document = "first\nsécond line\r\n\tthird";
    for (what, line, column, excerpt) in [("first", 1, 1, "first"), ("line", 2, 8, "sécond line"), ("third", 3, 2, "\tthird")] {
        let at = document.find(what).unwrap();
        let r = report(document, at..at + what.len());
        assert_eq!((r.line, r.column, r.length, r.excerpt.as_str()), (line, column, what.chars().count(), excerpt), "{what}");
    }
    // At the very end, beyond it, and inside a character.
    let end = report(document, document.len()..document.len());
    assert_eq!((end.line, end.column, end.length), (3, 7, 1));
    assert_eq!(report(document, 500..900).line, 3);
    assert_eq!(report("é", 1..1).column, 1);
    assert_eq!(report("", 0..0), Report { excerpt: String::new(), ..report("", 0..0) });
    // One that runs over its line is marked to the line's end.
    assert_eq!(report("ab\ncd", 1..5).length, 1);
}

#[test]
fn the_caret_stands_under_its_place() {
    let caret = |document: &str, at: std::ops::Range<usize>| {
        let shown = report(document, at).render("p.toml");
        let lines: Vec<&str> = shown.lines().collect();
        (lines[1].to_owned(), lines[2].to_owned())
    };
    let (line, mark) = caret("when = 'é wran'", 11..15);
    assert_eq!(line.chars().nth(mark.chars().position(|c| c == '^').unwrap()), Some('w'), "{line}\n{mark}");
    assert_eq!(mark.matches('^').count(), 4);
    let (line, mark) = caret("\twran", 1..5);
    assert!(line.contains("| \twran") && mark.contains("| \t^^^^"), "a tab keeps its width: {line:?} {mark:?}");
    // A place far out on a long line is shown with what stands around it.
    let long = format!("{}wran{}", "x ".repeat(400), " y".repeat(400));
    let at = long.find("wran").unwrap();
    let (line, mark) = caret(&long, at..at + 4);
    assert!(line.chars().count() < 200);
    let place = mark.chars().position(|c| c == '^').unwrap();
    assert_eq!(line.chars().skip(place).take(4).collect::<String>(), "wran", "{line}\n{mark}");
}

#[test]
fn words_and_sentence_agree() {
    let mistake = Mistake::new(0..4, "unexpected `wran`").expected("a level").near("wran", ["warn", "error"]);
    let r = Report::new("wran", &mistake);
    assert_eq!(r.to_string(), "line 1, column 1: unexpected `wran`; did you mean `warn`?; expected a level");
    assert_eq!(r.render("p"), "p:1:1: unexpected `wran`\n 1 | wran\n   | ^^^^\n   = did you mean `warn`?\n   = expected a level\n");
    for (written, near) in [("Warn", Some("warn")), ("wrn", Some("warn")), ("warning", None), ("zzz", None), ("errro", Some("error")), ("", None)] {
        assert_eq!(rockrose_language::nearest(written, ["warn", "error"]), near, "{written}");
    }
}
