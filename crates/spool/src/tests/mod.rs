//! What is stored is there after a restart, whole or not at all, and the account moves with it.

mod model;
mod operate;
mod resent;
mod size;

use rockrose_ledger::{Earlier, Entry, Posting, Selection};

use super::*;

fn account(stage: Stage, name: &str, via: &str, measure: rockrose_ledger::Measure) -> Account {
    Account { stage, name: name.into(), via: via.into(), position: 0, sentence: String::new(), measure }
}

/// Three lines; `d` is due all of them, `e` the last two.
fn arrival(n: u32) -> Arrival {
    use rockrose_ledger::Measure::{Copies, Enqueued, Offered, Out, Passed, Read, Received, Routed, Taken};
    let lines = format!("{{\"n\":{n}}}\n{{\"m\":{n}}}\n{{\"o\":{n}}}\n").into_bytes();
    let each = (lines.len() / 3 - 1) as i64;
    let entry = |destination: &str, which: &[u32]| {
        let mut selection = Selection::default();
        which.iter().for_each(|l| selection.push(*l));
        Entry {
            destination: destination.into(),
            route: "r".into(),
            selection,
            earlier: Earlier::default(),
            amount: Amount { events: which.len() as i64, bytes: each * which.len() as i64 },
        }
    };
    let three = Amount { events: 3, bytes: 3 * each };
    let two = Amount { events: 2, bytes: 2 * each };
    let mut copies = three;
    copies += two;
    let postings = [Received, Read, Passed, Routed].map(|m| Posting::new(account(Stage::Source, "s", "", m), three)).into_iter();
    let postings = postings.chain([Taken, Out].map(|m| Posting::new(account(Stage::Route, "r", "s", m), three)));
    let postings = postings.chain([Posting::new(account(Stage::Route, "r", "s", Copies), copies)]);
    let postings = postings.chain([Offered, Enqueued].map(|m| Posting::new(account(Stage::Destination, "d", "r", m), three)));
    let postings = postings.chain([Offered, Enqueued].map(|m| Posting::new(account(Stage::Destination, "e", "r", m), two)));
    Arrival {
        source: "s".into(),
        arrived_ms: 60_000 * i64::from(n),
        data: pack(lines),
        entries: vec![entry("d", &[0, 1, 2]), entry("e", &[1, 2])],
        postings: postings.collect(),
        tags: Arc::default(),
        unread: Vec::new(),
        held: Vec::new(),
        metrics: Vec::new(),
        extras: CommitExtras::default(),
    }
}

async fn balanced(spool: &Spool) -> bool {
    let equations = spool.balance().await.unwrap();
    assert!(!equations.is_empty());
    equations.iter().all(Equation::holds)
}

#[tokio::test]
async fn stored_events_survive_and_settle_once() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let spool = Spool::open(&path).unwrap();
    let stored: Vec<_> = (1..=20).map(|n| spool.store(arrival(n))).collect();
    for one in stored {
        one.await.unwrap();
    }
    assert!(balanced(&spool).await);
    spool.close();
    assert!(matches!(spool.store(arrival(99)).await, Err(SpoolError::Closed)));

    let spool = Spool::open(&path).unwrap();
    assert_eq!(spool.waiting()["d"].amount.events, 60);
    assert_eq!(spool.waiting()["d"].oldest_ms, 60_000);
    let mut parcel = spool.next("d", 50).await.unwrap().unwrap();
    assert_eq!(parcel.front(4)[..], *b"{\"n\":1}\n{\"m\":1}\n{\"o\":1}\n{\"n\":2}\n");
    // A part of an entry, then one event of the next refused.
    spool.settle(parcel.settle(2, None, 60_000)).await.unwrap();
    assert!(balanced(&spool).await);
    spool.settle(parcel.settle(2, Some("bad event".into()), 60_000)).await.unwrap();
    assert!(balanced(&spool).await);
    assert_eq!(spool.waiting()["d"].amount.events, 56);
    assert_eq!(spool.waiting()["d"].oldest_ms, 120_000);
    let aside = spool.quarantined(10).await.unwrap();
    assert_eq!(aside.iter().map(|q| q.data.as_slice()).collect::<Vec<_>>(), [b"{\"n\":2}".as_slice(), b"{\"o\":1}"]);

    // What was not settled comes again, from where it stopped.
    let again = spool.next("d", 1).await.unwrap().unwrap();
    assert_eq!(again.front(9)[..], *b"{\"m\":2}\n");
    // A settlement made twice is refused whole.
    let mut first = spool.next("e", 1 << 20).await.unwrap().unwrap();
    let mut second = spool.next("e", 1 << 20).await.unwrap().unwrap();
    spool.settle(first.settle(40, None, 0)).await.unwrap();
    assert!(spool.settle(second.settle(40, None, 0)).await.is_err());
    assert!(spool.next("e", 100).await.unwrap().is_none());
    assert!(balanced(&spool).await);
    spool.close();
}

#[tokio::test]
async fn bytes_are_stored_once_and_freed_with_their_last_use() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let spool = Spool::open(&path).unwrap();
    spool.store(arrival(1)).await.unwrap();
    let batches = || {
        use diesel::prelude::*;
        schema::batch::table.count().get_result::<i64>(&mut connect::reader(&path).unwrap()).unwrap()
    };
    assert_eq!(batches(), 1);
    for destination in ["d", "e"] {
        assert_eq!(batches(), 1);
        let mut parcel = spool.next(destination, 1 << 20).await.unwrap().unwrap();
        let all = parcel.len();
        spool.settle(parcel.settle(all, None, 0)).await.unwrap();
    }
    assert_eq!(batches(), 0);
    spool.close();
}

#[tokio::test]
async fn the_ledger_sums_by_time_and_files_know_how_far_they_are() {
    let dir = tempfile::tempdir().unwrap();
    let spool = Spool::open(&dir.path().join("spool.db")).unwrap();
    for n in [5, 6, 7] {
        spool.store(arrival(n)).await.unwrap();
    }
    let received = |rows: Vec<LedgerRow>| rows.iter().filter(|r| r.account.measure.word() == "received").map(|r| r.amount.events).sum::<i64>();
    assert_eq!(received(spool.ledger(None, None).await.unwrap()), 9);
    assert_eq!(received(spool.ledger(Some(6), Some(7)).await.unwrap()), 3);
    assert_eq!(spool.minutes(Stage::Source, "s", 6).await.unwrap().iter().filter(|(m, ..)| *m == 7).count(), 4);
    let volumes = spool.volumes(6, 8).await.unwrap();
    assert_eq!(volumes[&(Stage::Source, "s".to_owned())].events, 6);
    assert!(volumes.keys().all(|(stage, _)| *stage != Stage::Destination) && spool.volumes(8, 9).await.unwrap().is_empty(), "{volumes:?}");
    let mut parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
    spool.settle(parcel.settle(1, None, 0).reaching("a.jsonl", 8)).await.unwrap();
    assert_eq!(spool.reached("d", "a.jsonl").await.unwrap(), Some(8));
    assert_eq!(spool.reached("d", "b.jsonl").await.unwrap(), None);
    spool.close();
}

#[tokio::test]
async fn a_spool_that_cannot_be_written_says_so() {
    let dir = tempfile::tempdir().unwrap();
    assert!(Spool::open(&dir.path().join("no/such/dir/spool.db")).is_err());
    std::fs::write(dir.path().join("junk.db"), vec![b'x'; 100_000]).unwrap();
    assert!(Spool::open(&dir.path().join("junk.db")).is_err());
}
