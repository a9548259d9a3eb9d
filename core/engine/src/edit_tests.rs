//! Edits by splice and by rebuilding: after each, every known field is where the bytes say it is.

use proptest::prelude::*;
use rockrose_event::field::{FieldId, FieldTable, Path};
use rockrose_event::json::Span;
use rockrose_event::scan;

use crate::edit::{EditBuffer, Fate};

const NAMES: [&[&str]; 7] = [&["a"], &["b"], &["c"], &["a", "x"], &["a", "y"], &["message"], &["c", "d", "e"]];

struct Bench {
    table: FieldTable,
    fields: Vec<FieldId>,
    work: EditBuffer,
}

fn bench(event: &str) -> Bench {
    let mut table = FieldTable::default();
    let fields = NAMES.iter().map(|n| table.want(&Path::of(n.iter().map(|s| (*s).to_owned()).collect()))).collect();
    let mut slots = Vec::new();
    let scanned = scan::scan(event.as_bytes(), &table, &mut slots).unwrap();
    let mut work = EditBuffer::default();
    work.load(event.as_bytes(), &slots, scanned.duplicates, &table);
    Bench { table, fields, work }
}

impl Bench {
    fn text(&self) -> &str {
        std::str::from_utf8(self.work.json()).unwrap()
    }

    /// The spans that are kept must be those that a fresh scan finds.
    fn spans_are_right(&self) {
        let mut fresh: Vec<Span> = Vec::new();
        scan::scan_edited(self.work.json(), &self.table, &mut fresh).unwrap();
        assert_eq!(self.work.slots, fresh, "{}", self.text());
    }

    fn set(&mut self, field: usize, token: &str) {
        assert!(self.work.set(&self.table, self.fields[field], token.as_bytes()));
        self.spans_are_right();
    }
}

#[test]
fn values_are_set_in_place_or_at_the_end() {
    let mut b = bench(r#"{ "b" : 1 , "a" : { "x" : "q" , "z" : 0 } }"#);
    b.set(1, "\"longer than before\"");
    assert_eq!(b.text(), r#"{ "b" : "longer than before" , "a" : { "x" : "q" , "z" : 0 } }"#);
    b.set(3, "7");
    assert_eq!(b.text(), r#"{ "b" : "longer than before" , "a" : { "x" : 7 , "z" : 0 } }"#);
    b.set(4, "true");
    assert!(b.text().ends_with(r#"} ,"a.y":true}"#) || b.text().ends_with(r#"},"a.y":true}"#), "{}", b.text());
    b.set(0, "null");
    assert_eq!(b.text(), r#"{ "b" : "longer than before" , "a" : null,"a.y":true}"#);
    b.set(0, r#"{"x":"back","y":1}"#);
    b.set(3, "\"\\u0041\"");
    assert!(b.text().contains(r#""a" : {"x":"\u0041","y":1}"#), "{}", b.text());
}

#[test]
fn members_are_dropped_kept_and_emptied() {
    let fate = |n: &str| match n {
        "a.x" | "b" | "c.d.e" => Fate::Drop,
        "a" | "c" | "c.d" => Fate::Descend,
        _ => Fate::Keep,
    };
    let mut b = bench(r#"{"a":{"x":1,"y":2},"b":[{"b":1}],"c":{"d":{"e":0}},"z":"b"}"#);
    assert!(b.work.filter(&b.table, &fate));
    b.spans_are_right();
    assert_eq!(b.text(), r#"{"a":{"y":2},"z":"b"}"#);
    assert!(!b.work.filter(&b.table, &fate), "nothing more to drop");
    let mut b = bench(r#"{"a":"not an object","\u0062":1,"c":{}}"#);
    assert!(b.work.filter(&b.table, &fate), "an escaped name is that name");
    assert_eq!(b.text(), r#"{"a":"not an object","c":{}}"#);
}

#[test]
fn names_are_changed_where_they_stand() {
    let mut b = bench(r#"{"b":1,"q":2,"a":{"x":3}}"#);
    assert!(b.work.rename(&b.table, b.fields[1], "c"));
    b.spans_are_right();
    assert_eq!(b.text(), r#"{"c":1,"q":2,"a":{"x":3}}"#);
    assert!(b.work.rename(&b.table, b.fields[3], "q"));
    b.spans_are_right();
    assert_eq!(b.text(), r#"{"c":1,"q":3}"#);
    assert!(!b.work.rename(&b.table, b.fields[5], "m"));
    assert!(b.work.rename(&b.table, b.fields[2], "odd \"name\""));
    assert_eq!(b.text(), r#"{"odd \"name\"":1,"q":3}"#);
}

#[test]
fn merging_replaces_and_adds_each_once() {
    let mut b = bench(r#"{"b":1,"a":2}"#);
    let pairs = [("a", "9"), ("n", "1"), ("n", "2"), ("message", "\"m\"")].map(|(n, t)| (n.as_bytes().to_vec(), t.as_bytes().to_vec()));
    b.work.merge(&b.table, &pairs);
    b.spans_are_right();
    assert_eq!(b.text(), r#"{"b":1,"a":9,"n":2,"message":"m"}"#);
    let mut b = bench("{}");
    b.work.merge(&b.table, &pairs[..1]);
    assert_eq!(b.text(), r#"{"a":9}"#);
}

#[test]
fn of_names_that_stand_twice_the_last_is_loaded() {
    let b = bench(r#"{"a":{"x":1,"x":2},"b":1,"a":{"y":3,"y":{"q":1,"q":2}}}"#);
    assert_eq!(b.text(), r#"{"b":1,"a":{"y":{"q":2}}}"#);
    b.spans_are_right();
}

#[test]
fn edits_may_go_beyond_what_may_arrive() {
    // As deep, and as wide, as an event may be when it comes.
    let deep = format!("{{\"a\":{{\"x\":1}},\"b\":{}{}}}", "[".repeat(scan::MAX_DEPTH - 1), "]".repeat(scan::MAX_DEPTH - 1));
    let mut b = bench(&deep);
    let nested = b.table.find(b.fields[1], &b.work.slots).of(b.work.json()).to_vec();
    for _ in 0..20 {
        let token = b.table.find(b.fields[0], &b.work.slots).of(b.work.json()).to_vec();
        assert!(b.work.set(&b.table, b.fields[3], &token));
        assert!(b.work.set(&b.table, b.fields[4], &nested));
        b.spans_are_right();
    }
    // Nested without end it is not: the edit is left out, and the event stays as it was.
    let far = format!("{}{}", "[".repeat(scan::EDITED_DEPTH), "]".repeat(scan::EDITED_DEPTH));
    let before = b.text().to_owned();
    assert!(!b.work.set(&b.table, b.fields[3], far.as_bytes()));
    assert_eq!(b.text(), before);
    assert_eq!([scan::depth(b"1"), scan::depth(br#"{"a":["]","\\","\"[[",{}]}"#), scan::depth(b"[[],[[]]]")], [0, 3, 3]);

    let wide = format!("{{{}\"z\":0}}", (1..scan::MAX_MEMBERS).map(|i| format!("\"f{i}\":{i},")).collect::<String>());
    let mut b = bench(&wide);
    let pairs: Vec<_> = (0..500).map(|i| (format!("g{i}").into_bytes(), b"1".to_vec())).collect();
    b.work.merge(&b.table, &pairs);
    b.set(0, "1");
    b.spans_are_right();
    assert!(b.work.filter(&b.table, &|n| if n.starts_with('f') { Fate::Drop } else { Fate::Keep }));
    assert!(b.text().starts_with(r#"{"z":0,"g0":1"#) && b.text().ends_with(r#""g499":1,"a":1}"#));
}

proptest! {
    #[test]
    fn spans_follow_every_edit(edits in proptest::collection::vec((0usize..7, prop_oneof![Just("1"), Just("\"text\""), Just("\"\\n\""), Just("{\"x\":1,\"d\":{\"e\":2}}"), Just("[1,{\"x\":2}]"), Just("null"), Just("false")], 0usize..4), 1..12)) {
        let mut b = bench(r#"{"z":0,"a":{"x":"1","q":[]},"c":{"d":{"e":"f"}},"msg":"m"}"#);
        for (field, token, what) in edits {
            match what {
                0 | 1 => b.set(field, token),
                2 => {
                    let span = b.table.find(b.fields[field], &b.work.slots);
                    if span.is_text() {
                        b.work.replace(span.start as usize, span.end as usize, b"\"***\"");
                    }
                }
                _ => {
                    b.work.rename(&b.table, b.fields[field], "c");
                }
            }
            b.spans_are_right();
        }
    }
}
