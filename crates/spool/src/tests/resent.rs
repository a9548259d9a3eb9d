//! What a destination refused is sent again as its steps make of it now; the account comes out, and it is known what became of each.

use std::sync::Arc;

use rockrose_ledger::{Amount, Earlier, Measure, Stage, TagAmount};

use super::{arrival, balanced};
use crate::{Became, Discard, Fate, Refused, Resend, ResentEvent, Spool, SpoolError, Which};

/// What `spool` holds refused: four events of `d`, which stood with a field more, and one of `e`.
async fn refusing(spool: &Spool) {
    for n in [1, 2] {
        let mut arrival = arrival(n);
        // The steps of `d` took a field off all but the last.
        let mut earlier = Earlier::default();
        for (stood, leaves) in [("{\"n\":N,\"x\":1}", "{\"n\":N}"), ("{\"m\":N,\"x\":1}", "{\"m\":N}"), ("{\"o\":N}", "{\"o\":N}")] {
            earlier.push(stood.replace('N', &n.to_string()).as_bytes(), leaves.replace('N', &n.to_string()).as_bytes());
        }
        arrival.entries[0].earlier = earlier;
        let taken_off = Amount { events: 2, bytes: 12 };
        for posting in &mut arrival.postings {
            match (posting.account.name.as_str(), posting.account.measure) {
                ("d", Measure::Offered) | ("r", Measure::Copies | Measure::Out | Measure::Taken) | ("s", _) => posting.amount.bytes += taken_off.bytes,
                _ => {}
            }
        }
        let step = super::account(Stage::Destination, "d", "r", Measure::Changed);
        let step = rockrose_ledger::Account { position: 1, sentence: "remove x".into(), ..step };
        arrival.postings.push(rockrose_ledger::Posting::new(step, taken_off));
        spool.store(arrival).await.unwrap();
    }
    // One that is delivered, then those that are refused: from the middle of an entry on.
    for (destination, delivered) in [("d", 1), ("e", 3)] {
        let mut parcel = spool.next(destination, 1 << 20).await.unwrap().unwrap();
        spool.settle(parcel.settle(delivered, None, 0)).await.unwrap();
        spool.settle(parcel.settle(99, Some("no".into()), 0)).await.unwrap();
    }
    assert!(balanced(spool).await);
}

async fn waits(spool: &Spool, destination: &str) -> Vec<String> {
    let parcel = spool.next(destination, 1 << 20).await.unwrap();
    parcel.map_or_else(Vec::new, |p| String::from_utf8_lossy(&p.front(99)).lines().map(str::to_owned).collect())
}

fn text(event: &[u8]) -> &str {
    std::str::from_utf8(event).unwrap()
}

#[tokio::test]
async fn refused_events_are_given_as_they_stood_before_the_steps() {
    let dir = tempfile::tempdir().unwrap();
    let spool = Spool::open(&dir.path().join("spool.db")).unwrap();
    refusing(&spool).await;
    let all = spool.refused(Refused::default(), 99, 1 << 20).await.unwrap();
    let stood: Vec<_> = all.iter().map(|e| (e.destination.as_str(), text(&e.earlier))).collect();
    let expected =
        [("d", "{\"m\":1,\"x\":1}"), ("d", "{\"o\":1}"), ("d", "{\"n\":2,\"x\":1}"), ("d", "{\"m\":2,\"x\":1}"), ("d", "{\"o\":2}"), ("e", "{\"o\":2}")];
    assert_eq!(stood, expected);
    // In pieces, by number, by destination.
    let some = async |which: Refused, most, bytes| spool.refused(which, most, bytes).await.unwrap().iter().map(|e| e.id).collect::<Vec<_>>();
    assert_eq!(some(Refused::default(), 2, 1 << 20).await, [1, 2]);
    assert_eq!(some(Refused { above: 2, up_to: Some(5), ..Refused::default() }, 99, 30).await, [3, 4]);
    assert_eq!(some(Refused::default(), 99, 1).await, [1], "one, however large");
    assert_eq!(some(Refused { destination: Some("e".into()), ..Refused::default() }, 99, 1 << 20).await, [6]);
    assert_eq!(some(Refused { ids: Some(vec![2, 6, 77]), ..Refused::default() }, 99, 1 << 20).await, [2, 6]);
    spool.close();
}

#[tokio::test]
async fn each_goes_as_it_leaves_now_and_its_fate_is_known() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let spool = Spool::open(&path).unwrap();
    refusing(&spool).await;
    let event = |id, leaving: Result<&str, &str>| ResentEvent {
        id,
        leaving: leaving.map(|l| l.as_bytes().to_vec()).map_err(str::to_owned),
        values: Default::default(),
    };
    let events = vec![event(1, Ok("{\"m\":1,\"x\":1}")), event(2, Err("drop o exists")), event(3, Ok("{}")), event(4, Ok("{\"m\":2,\"y\":22}"))];
    // The steps that run now saved this.
    let step = |measure, events, bytes| {
        let account = super::account(Stage::Destination, "d", "r", measure);
        let account = rockrose_ledger::Account { position: 1, sentence: "now".into(), ..account };
        rockrose_ledger::Posting::new(account, Amount { events, bytes })
    };
    let postings = vec![step(Measure::Removed, 1, 7), step(Measure::Changed, 2, 11 - 1)];
    let resend = Resend { run: 7, at_ms: 60_000, events, postings, tags: Arc::default() };
    assert_eq!(spool.resend(resend.clone()).await.unwrap().events, 3);
    assert!(balanced(&spool).await, "{:?}", spool.balance().await.unwrap());
    assert!(matches!(spool.resend(resend).await, Err(SpoolError::Settled)), "they are gone from quarantine");
    assert!(balanced(&spool).await);
    assert_eq!(waits(&spool, "d").await, ["{\"m\":1,\"x\":1}", "{}", "{\"m\":2,\"y\":22}"]);
    spool.close();

    // Over a restart.
    let spool = Spool::open(&path).unwrap();
    let mut parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
    spool.settle(parcel.settle(1, None, 9)).await.unwrap();
    spool.settle(parcel.settle(1, Some("still no".into()), 9)).await.unwrap();
    assert!(balanced(&spool).await);
    let fates = async |spool: &Spool| spool.fates(7).await.unwrap().into_iter().map(|f: Fate| (f.id, f.became, f.detail, f.again)).collect::<Vec<_>>();
    let removed = (2, Became::Removed, "drop o exists".to_owned(), None);
    let delivered = (1, Became::Delivered, String::new(), None);
    let refused = (3, Became::Refused, "still no".to_owned(), Some(7));
    assert_eq!(fates(&spool).await, [delivered.clone(), removed.clone(), refused.clone(), (4, Became::Waiting, String::new(), None)]);
    // Refused again, it still stands as it did before any step.
    let again = spool.refused(Refused { ids: Some(vec![7]), ..Refused::default() }, 9, 99).await.unwrap();
    assert_eq!(text(&again[0].earlier), "{\"n\":2,\"x\":1}");
    spool.discard(Discard { destination: "d".into(), which: Which::All, at_ms: 9 }).await.unwrap();
    assert_eq!(fates(&spool).await, [delivered, removed, refused, (4, Became::Discarded, String::new(), None)]);
    assert!(balanced(&spool).await);
    assert_eq!(spool.fates(8).await.unwrap(), []);
    spool.close();
}

#[tokio::test]
async fn what_is_sent_again_moves_from_one_value_of_a_tag_to_another() {
    let dir = tempfile::tempdir().unwrap();
    let spool = Spool::open(&dir.path().join("spool.db")).unwrap();
    let tags: Arc<[Arc<str>]> = Arc::from([Arc::from("port")]);
    let value = |value: &str, amount| vec![TagAmount { tag: 0, value: Arc::from(value), amount }];
    let mut first = arrival(1);
    for posting in first.postings.iter_mut().filter(|posting| posting.account.is_by_tag()) {
        posting.by_tag = value("Lowmere", posting.amount);
    }
    first.tags = Arc::clone(&tags);
    spool.store(first).await.unwrap();
    let mut parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
    spool.settle(parcel.settle(3, Some("no".into()), 0)).await.unwrap();
    let one = |id, leaving: Result<&str, &str>| ResentEvent {
        id,
        leaving: leaving.map(|l| l.as_bytes().to_vec()).map_err(str::to_owned),
        values: ["Lowmere", "Skerry Point"].map(|port| value(port, Amount::default())),
    };
    let events = vec![one(1, Ok("{\"n\":1,\"more\":1}")), one(2, Err("drop m exists"))];
    let account = rockrose_ledger::Account { position: 1, sentence: "now".into(), ..super::account(Stage::Destination, "d", "r", Measure::Removed) };
    let posting = |account, events, bytes| {
        let amount = Amount { events, bytes };
        rockrose_ledger::Posting { account, amount, by_tag: value("Lowmere", amount) }
    };
    let changed = rockrose_ledger::Account { measure: Measure::Changed, ..account.clone() };
    let postings = vec![posting(account, 1, 7), posting(changed, 1, -9)];
    spool.resend(Resend { run: 1, at_ms: 60_000, events, postings, tags }).await.unwrap();
    let queued = spool.by_tag("port", None, None).await.unwrap();
    let told: Vec<_> = queued
        .iter()
        .filter(|(_, row)| row.account.name == "d" && row.account.measure == Measure::Enqueued)
        .map(|(value, row)| (value.as_str(), row.amount))
        .collect();
    assert_eq!(told, [("Lowmere", Amount { events: 1, bytes: 7 }), ("Skerry Point", Amount { events: 1, bytes: 16 })]);
    assert!(balanced(&spool).await, "{:?}", spool.balance().await.unwrap());
    spool.close();
}
