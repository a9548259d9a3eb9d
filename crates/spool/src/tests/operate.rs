//! Queues emptied, cut and filled again by hand: the account moves with them.

use rockrose_ledger::Measure;

use super::*;
use crate::{Discard, Which};

fn discard(destination: &str, which: Which) -> Discard {
    Discard { destination: destination.into(), which, at_ms: 600_000 }
}

async fn sum(spool: &Spool, destination: &str, measure: Measure) -> Amount {
    let mut sum = Amount::default();
    for row in spool.ledger(None, None).await.unwrap() {
        if row.account.name == destination && row.account.measure == measure {
            sum += row.amount;
        }
    }
    sum
}

#[tokio::test]
async fn what_waits_is_let_go_whole_by_age_or_down_to_a_size() {
    let dir = tempfile::tempdir().unwrap();
    let spool = Spool::open(&dir.path().join("spool.db")).unwrap();
    for n in 1..=10 {
        spool.store(arrival(n)).await.unwrap();
    }
    let before = spool.waiting()["d"];
    assert_eq!((before.amount.events, before.oldest_ms), (30, 60_000));
    // Each arrival came a minute after the one before.
    let gone = spool.discard(discard("d", Which::QueuedBefore(4 * 60_000))).await.unwrap();
    assert_eq!(gone.events, 9);
    assert_eq!((spool.waiting()["d"].amount.events, spool.waiting()["d"].oldest_ms), (21, 4 * 60_000));
    // A part of the oldest is delivered before it goes.
    let mut parcel = spool.next("d", 1).await.unwrap().unwrap();
    spool.settle(parcel.settle(1, None, 0)).await.unwrap();
    let most = spool.waiting()["d"].amount.bytes / 2;
    spool.discard(discard("d", Which::DownTo(most))).await.unwrap();
    let left = spool.waiting()["d"];
    assert!(left.amount.bytes <= most && left.amount.bytes > most - 40, "the oldest go, and no more than must: {left:?} of {most}");
    assert!(spool.next("d", 1 << 20).await.unwrap().unwrap().front(1).starts_with(b"{\"n\""), "an entry goes whole");
    assert!(balanced(&spool).await);
    assert!(spool.discard(discard("d", Which::DownTo(most))).await.unwrap().is_zero(), "there is nothing more to do");
    spool.discard(discard("d", Which::All)).await.unwrap();
    assert_eq!(spool.waiting()["d"].amount, Amount::default());
    assert_eq!(spool.waiting()["d"].oldest_ms, 0);
    assert_eq!(sum(&spool, "d", Measure::Discarded).await.events, 29);
    // The other destination's queue is as it was, and can be read: the bytes they shared are still there.
    assert_eq!(spool.waiting()["e"].amount.events, 20);
    let mut all = spool.next("e", 1 << 20).await.unwrap().unwrap();
    assert_eq!(all.len(), 20);
    spool.settle(all.settle(20, None, 0)).await.unwrap();
    assert!(balanced(&spool).await);
    assert!(spool.discard(discard("nobody", Which::All)).await.unwrap().is_zero());
    spool.close();
}

#[tokio::test]
async fn a_settlement_that_comes_too_late_harms_nobody_in_its_commit() {
    let dir = tempfile::tempdir().unwrap();
    let spool = Spool::open(&dir.path().join("spool.db")).unwrap();
    spool.store(arrival(1)).await.unwrap();
    let mut parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
    spool.discard(discard("d", Which::All)).await.unwrap();
    // Sent together, so that they share a commit.
    let (late, stored) = tokio::join!(spool.settle(parcel.settle(3, None, 0)), spool.store(arrival(2)));
    assert!(matches!(late, Err(SpoolError::Settled)), "{late:?}");
    stored.unwrap();
    assert_eq!(spool.waiting()["d"].amount.events, 3);
    assert!(balanced(&spool).await);
    spool.close();
}

#[tokio::test]
async fn what_is_under_way_is_not_handed_out_again() {
    let dir = tempfile::tempdir().unwrap();
    let spool = Spool::open(&dir.path().join("spool.db")).unwrap();
    for n in 1..=6 {
        spool.store(arrival(n)).await.unwrap();
    }
    let mut claimed = Vec::new();
    let mut seen = Vec::new();
    while let Some(parcel) = spool.next_but("d", 30, claimed.clone()).await.unwrap() {
        claimed.extend(parcel.entries());
        seen.extend_from_slice(&parcel.front(99));
        assert!(claimed.len() <= 6);
    }
    assert_eq!(claimed.len(), 6);
    let ones = seen.split(|b| *b == b'\n').filter(|l| l.starts_with(b"{\"n\"")).count();
    assert_eq!(ones, 6, "each once");
    spool.close();
}

/// An arrival of lines that are packed.
fn packed_arrival(n: u32) -> Arrival {
    let lines: String = (0..3).map(|line| format!("{{\"n\":{n},\"line\":{line},\"text\":\"{}\"}}\n", "gate open ".repeat(20))).collect();
    Arrival { data: pack(lines.into_bytes()), ..arrival(n) }
}

#[tokio::test]
async fn whole_batches_are_at_hand_as_they_are_packed() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let spool = Spool::open(&path).unwrap();
    for n in 1..=3 {
        spool.store(packed_arrival(n)).await.unwrap();
    }
    spool.close();
    // Once from the disk, and once from what was unpacked before.
    let spool = Spool::open(&path).unwrap();
    for _ in 0..2 {
        let parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
        assert_eq!((parcel.len(), parcel.frames(8)), (9, None), "not for a part");
        let frames = parcel.frames(9).unwrap().concat();
        assert_eq!(zstd::stream::decode_all(&frames[..]).unwrap(), parcel.front(9));
    }
    let mut parcel = spool.next("e", 1 << 20).await.unwrap().unwrap();
    assert_eq!((parcel.len(), parcel.frames(6)), (6, None), "only some lines of each batch are due there");
    spool.settle(parcel.settle(1, None, 0)).await.unwrap();
    let mut parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
    spool.settle(parcel.settle(1, None, 0)).await.unwrap();
    assert_eq!((parcel.len(), parcel.frames(8)), (8, None), "some are settled");
    let parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
    assert_eq!((parcel.len(), parcel.frames(8)), (8, None), "some were settled before");
    spool.store(arrival(4)).await.unwrap();
    let claimed: Vec<i64> = parcel.entries().collect();
    let small = spool.next_but("d", 1 << 20, claimed).await.unwrap().unwrap();
    assert_eq!((small.len(), small.frames(3)), (3, None), "too small to be packed");
    spool.close();
}

#[tokio::test]
async fn what_is_damaged_on_the_disk_is_given_up_and_counted() {
    use diesel::prelude::*;
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let spool = Spool::open(&path).unwrap();
    for n in 1..=3 {
        spool.store(arrival(n)).await.unwrap();
    }
    spool.close();
    // One byte of the second batch.
    let mut c = connect::reader(&path).unwrap();
    diesel::sql_query("PRAGMA query_only = OFF").execute(&mut c).unwrap();
    let mut data: Vec<u8> = schema::batch::table.find(2).select(schema::batch::data).first(&mut c).unwrap();
    data[3] ^= 1;
    diesel::update(schema::batch::table.find(2)).set(schema::batch::data.eq(&data)).execute(&mut c).unwrap();
    drop(c);
    let spool = Spool::open(&path).unwrap();
    let damaged = spool.next("d", 1 << 20).await;
    assert!(matches!(damaged, Err(SpoolError::Damaged(2))), "{damaged:?}");
    let gone = spool.give_up(GiveUp { batch: 2, at_ms: 0 }).await.unwrap();
    assert_eq!(gone.events, 5);
    assert!(balanced(&spool).await);
    assert_eq!((spool.waiting()["d"].amount.events, spool.waiting()["e"].amount.events), (6, 4));
    for (destination, events) in [("d", 6), ("e", 4)] {
        let mut parcel = spool.next(destination, 1 << 20).await.unwrap().unwrap();
        assert_eq!(parcel.len(), events);
        spool.settle(parcel.settle(events, None, 0)).await.unwrap();
    }
    let aside: Vec<String> = spool.quarantined(9).await.unwrap().into_iter().map(|q| q.reason).collect();
    assert!(aside.len() == 2 && aside.iter().all(|why| why.contains("damaged on disk")), "{aside:?}");
    assert!(balanced(&spool).await);
    spool.close();
}
