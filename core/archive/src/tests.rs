use super::*;

fn origin(place: i64) -> Origin {
    Origin { entry: 7, place, route: "all".into(), queued_ms: 1_795_420_800_123 }
}

fn parts(names: &[&str]) -> Vec<Part> {
    names.iter().map(|n| Part::read(n).unwrap()).collect()
}

#[test]
fn events_stand_under_their_own_time_and_values() {
    let mut divider = Divider::new(&parts(&["date", "hour", "service", "host.name"]));
    for (event, folder) in [
        (r#"{"time":"2026-01-02T03:04:05Z","service":"boarding","host":{"name":"g4"}}"#, "date=2026-01-02/hour=03/service=boarding/host.name=g4/"),
        // Of the time when it was queued.
        (r#"{"service":"a b/../c","host.name":""}"#, "date=2026-11-23/hour=08/service=a%20b%2F..%2Fc/host.name=/"),
        (r#"{"time":"soon","service":"..","host.name":"-"}"#, "date=2026-11-23/hour=08/service=%2E./host.name=%2D/"),
        (r#"{"service":"_other"}"#, "date=2026-11-23/hour=08/service=%5Fother/host.name=-/"),
        (r#"{"service":"Köln"}"#, "date=2026-11-23/hour=08/service=K%C3%B6ln/host.name=-/"),
    ] {
        assert_eq!(divider.folder(event.as_bytes(), &origin(0)), folder, "{event}");
    }
    assert_eq!(Part::read("a b"), None);
    assert_eq!(Part::read("labels.region"), Some(Part::Field("labels.region".into())));
}

#[test]
fn a_field_of_many_values_makes_no_more_folders_than_it_may() {
    let mut divider = Divider::new(&parts(&["user"]));
    let folders: Vec<String> = (0..300).map(|n| divider.folder(format!("{{\"user\":{n}}}").as_bytes(), &origin(n))).collect();
    assert_eq!((folders[0].as_str(), folders[255].as_str(), folders[256].as_str()), ("user=0/", "user=255/", "user=_other/"));
    assert_eq!(divider.folder(b"{\"user\":9}", &origin(0)), "user=9/");
    // The next batch begins anew.
    let mut divider = Divider::new(&parts(&["user"]));
    assert_eq!(divider.folder(b"{\"user\":299}", &origin(0)), "user=299/");
}

#[test]
fn a_name_is_the_same_each_time() {
    assert_eq!(object_name(&origin(3), "0123456789abcdef"), "20261123T080000.123-0123456789abcdef-7-3");
}

#[test]
fn an_index_tells_what_cannot_be_there() {
    let mut indexer = Indexer::default();
    for n in 0..1_000 {
        let event = format!(
            r#"{{"time":"2026-01-02T03:{:02}:05Z","service":"s{}","trace":"t{n}","msg":"m{n}","deep":{{"n":{}}},"list":[1],"none":null}}"#,
            n % 60,
            n % 3,
            n % 2
        );
        assert!(indexer.add(event.as_bytes(), 0).is_some());
        if n == 499 {
            indexer.end_block(0, 100);
        }
    }
    assert_eq!(indexer.add(br#"{"service":"s9"}"#, 0), None);
    indexer.end_block(100, 50);
    let index = indexer.finish("x.jsonl.zst", "json lines", 150);
    assert_eq!((index.events, index.without_time, index.more_fields), (1_001, 1, false));
    assert_eq!(index.times, Some(("2026-01-02T03:00:05Z".into(), "2026-01-02T03:59:05Z".into())));
    assert_eq!(index.blocks.iter().map(|b| (b.offset, b.size, b.events)).collect::<Vec<_>>(), [(0, 100, 500), (100, 50, 501)]);
    let listed = |name: &str| index.fields[name].clone();
    assert_eq!(listed("service"), FieldIndex::Values(["s0", "s1", "s2", "s9"].map(str::to_owned).into()));
    assert_eq!(listed("deep.n"), FieldIndex::Values(["0", "1"].map(str::to_owned).into()));
    assert!(!index.fields.contains_key("list") && !index.fields.contains_key("none"));
    assert_eq!(listed("msg"), FieldIndex::Many);
    let FieldIndex::Filter(filter) = listed("trace") else { panic!("{:?}", listed("trace")) };
    assert!((0..1_000).all(|n| filter.may_have(&format!("t{n}"))));
    let wrong = (1_000..11_000).filter(|n| filter.may_have(&format!("t{n}"))).count();
    assert!(wrong < 200, "{wrong} of 10 000 seem to be there");
    let text = serde_json::to_string(&index).unwrap();
    assert_eq!(serde_json::from_str::<Index>(&text).unwrap(), index);
}

#[test]
fn an_index_stays_small() {
    let mut indexer = Indexer::default();
    for n in 0..30_000 {
        let members: Vec<String> = (0..12).map(|f| format!("\"f{f}\":\"{n}\"")).collect();
        indexer.add(format!("{{{},\"g{n}\":1}}", members.join(",")).as_bytes(), 0);
    }
    let index = indexer.finish("x", "parquet", 1);
    assert!(index.more_fields && index.fields.len() == 64);
    assert_eq!(index.fields["f0"], FieldIndex::Many);
    assert!(serde_json::to_string(&index).unwrap().len() < 500_000);
}
