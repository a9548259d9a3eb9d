//! Comparing plans, reading points, taking rates.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use rockrose_engine::Point;
use rockrose_ledger::{Account, Amount, Measure, Stage};
use rockrose_plan::CheckedPlan;

use crate::meter::Meter;
use rockrose_language::Place;
use rockrose_plan::changes;

const BASE: &str = r#"
[source.in]
kind = "http"
listen = "127.0.0.1:1"
[destination.out]
kind = "discard"
[destination.file]
kind = "file"
path = "f"
[recipe.quiet]
steps = ['drop severity = debug']
[[route]]
name = "one"
do = ['use quiet']
to = ["out"]
[[route]]
name = "two"
when = 'a = 1'
to = ["out"]
"#;

fn compared(from: &str, to: &str) -> Vec<String> {
    let changed = BASE.replace(from, to);
    assert_ne!(changed, BASE, "{from}");
    let (old, new) = (CheckedPlan::read(BASE).unwrap(), CheckedPlan::read(&changed).unwrap());
    changes(&old, &new).into_iter().map(|c| format!("{} {} {}", c.change, c.part, c.name)).collect()
}

#[test]
fn what_differs_between_two_plans_is_named() {
    let none: [&str; 0] = [];
    assert_eq!(compared("\n[recipe", "\n\n# a note\n[recipe"), none, "a comment changes nothing that runs");
    assert_eq!(compared("when = 'a = 1'", "when = 'a  =  1'"), none, "nor does spacing");
    assert_eq!(compared("when = 'a = 1'", "when = 'a = 2'"), ["changed route two"]);
    assert_eq!(compared("'drop severity = debug'", "'drop severity < info'"), ["changed route one"], "a recipe shows in the routes that use it");
    assert_eq!(compared("127.0.0.1:1", "127.0.0.1:2"), ["changed source in"]);
    assert_eq!(compared("name = \"two\"", "name = \"three\""), ["added route three", "removed route two"]);
    assert_eq!(compared("[destination.file]\nkind = \"file\"\npath = \"f\"\n", ""), ["removed destination file"]);
    assert_eq!(compared("kind = \"file\"\npath = \"f\"", "kind = \"discard\""), ["changed destination file"]);
}

#[test]
fn points_are_read_and_found_in_the_plan() {
    let plan = CheckedPlan::read(BASE).unwrap();
    let compiled = rockrose_engine::CompiledPlan::new(&plan, rockrose_redact::HashKey::new([0; 32]));
    let point = |text: &str| Place::read(text).and_then(|place| crate::tail::point(&place, &compiled));
    assert_eq!(point("source:in"), Some(Point::Source(0)));
    assert_eq!(point("route:two"), Some(Point::Route(1)));
    assert_eq!(point("destination:file"), Some(Point::Destination(1)));
    assert_eq!(point("remainder"), Some(Point::Remainder));
    for none in ["route:three", "source:out", "in", "", "route", "remainder:x", "sources:in"] {
        assert_eq!(point(none), None, "{none}");
    }
}

#[test]
fn rates_are_differences_of_looks() {
    let account =
        |name: &str| Account { stage: Stage::Source, name: name.into(), via: String::new(), position: 0, sentence: String::new(), measure: Measure::Received };
    let sums = |a: i64, b: i64| {
        let amount = |events: i64| Amount { events, bytes: 10 * events };
        Arc::new(HashMap::from([(account("a"), amount(a)), (account("b"), amount(b))]))
    };
    let meter = Meter::default();
    assert_eq!(meter.read().rate(&account("a")), (0.0, 0.0), "before the first look");
    meter.add(sums(100, 5));
    assert_eq!(meter.read().rate(&account("a")), (0.0, 0.0), "one look is no rate");
    let begun = Instant::now();
    while begun.elapsed().is_zero() {}
    meter.add(sums(150, 5));
    let reading = meter.read();
    let (events, bytes) = reading.rate(&account("a"));
    assert!((events * reading.seconds() - 50.0).abs() < 1e-6 && (bytes - 10.0 * events).abs() < 1e-6);
    assert_eq!(reading.rate(&account("b")), (0.0, 0.0));
    assert_eq!(reading.rate(&account("unknown")), (0.0, 0.0));
    assert_eq!(reading.now[&account("a")].events, 150);
    // Old looks go: after many still ones the rate is nothing again.
    for _ in 0..20 {
        meter.add(sums(150, 5));
    }
    assert_eq!(meter.read().rate(&account("a")), (0.0, 0.0));
}
