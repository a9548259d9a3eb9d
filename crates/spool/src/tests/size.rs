//! The file's size, and what a start reads of it.

use diesel::connection::SimpleConnection;

use super::*;

/// About a MB, due at one destination.
fn large() -> Arrival {
    let line = format!("{{\"x\":\"{}\"}}\n", "x".repeat(1_000));
    let (mut selection, mut amount) = (Selection::default(), Amount::default());
    for i in 0..1_000 {
        selection.push(i);
        amount.count(line.len() - 1);
    }
    let entries = vec![Entry { destination: "d".into(), route: "r".into(), selection, earlier: Earlier::default(), amount }];
    let data = Packed::plain(line.repeat(1_000).into_bytes());
    Arrival {
        source: "s".into(),
        arrived_ms: 1,
        data,
        entries,
        postings: Vec::new(),
        unread: Vec::new(),
        held: Vec::new(),
        tags: std::sync::Arc::default(),
        metrics: Vec::new(),
        extras: CommitExtras::default(),
    }
}

async fn settle_next(spool: &Spool) -> bool {
    let Some(mut parcel) = spool.next("d", 4 << 20).await.unwrap() else { return false };
    let all = parcel.len();
    spool.settle(parcel.settle(all, None, 0)).await.unwrap();
    true
}

#[tokio::test]
async fn the_file_levels_off_while_a_destination_keeps_up_and_shrinks_behind_a_backlog() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let megabytes = || std::fs::metadata(&path).unwrap().len() >> 20;
    let spool = Spool::open(&path).unwrap();
    for _ in 0..150 {
        spool.store(large()).await.unwrap();
        assert!(settle_next(&spool).await);
    }
    assert!(megabytes() < 40, "{} MB after 150 MB went through", megabytes());
    for _ in 0..160 {
        spool.store(large()).await.unwrap();
    }
    while settle_next(&spool).await {}
    // One more write, so that the writer looks around.
    let begun = std::time::Instant::now();
    while megabytes() > 60 {
        assert!(begun.elapsed().as_secs() < 30, "still {} MB", megabytes());
        spool.store(arrival(1)).await.unwrap();
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    spool.close();
}

#[tokio::test]
async fn what_waits_is_known_at_a_start_without_counting_it() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let spool = Spool::open(&path).unwrap();
    for n in 1..5 {
        spool.store(arrival(n)).await.unwrap();
    }
    let mut parcel = spool.next("d", 1 << 20).await.unwrap().unwrap();
    spool.settle(parcel.settle(4, None, 0)).await.unwrap();
    let before = spool.waiting();
    assert_eq!((before["d"].amount.events, before["d"].oldest_ms, before["e"].amount.events), (8, 120_000, 8));
    spool.close();
    assert_eq!(Spool::open(&path).unwrap().waiting(), before);
    // A file from before the sums were kept is counted once.
    let mut c = connect::reader(&path).unwrap();
    c.batch_execute("PRAGMA query_only = OFF; DROP TABLE due; DELETE FROM __diesel_schema_migrations WHERE version = '20261123000003';").unwrap();
    drop(c);
    let spool = Spool::open(&path).unwrap();
    assert_eq!(spool.waiting(), before);
    spool.close();
}
