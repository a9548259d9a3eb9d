//! One suite of properties that every kind of destination has, whatever its other end does.
//!
//! A kind is one line in [`Sort::ALL`] and one in each `match` of it; a property is one function and one line in [`every_kind_has_every_property`].
//! What stands at the other end is the stand-in of the kind's protocol, reached through a [`Relay`] that can garble and break off answers.

mod cut_off;
mod odd;
mod relay;
mod sort;

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use standin::{Schedule, StandIn};

use self::cut_off::CutOff;
use self::odd::odd_event;
use self::relay::{Does, Relay};
use self::sort::Sort;
use super::*;
use crate::probe;

/// How long an answer may take: so long that none is late on a busy machine, and events are sent twice for it.
const PATIENCE: Duration = Duration::from_secs(15);
/// How long where nothing is answered for a while.
const LITTLE_PATIENCE: Duration = Duration::from_millis(700);

/// A destination of one kind, with its queue and its other end.
struct Case {
    sort: Sort,
    place: Place,
    /// Where what arrives stands.
    out: PathBuf,
    target: Target,
    relay: Option<Relay>,
    _stop: Option<CancellationToken>,
}

impl Case {
    async fn new(sort: Sort, other_end: StandIn, script: &'static [Does]) -> Case {
        Case::patient(sort, other_end, script, PATIENCE).await
    }

    /// A destination that waits so long for an answer.
    async fn patient(sort: Sort, other_end: StandIn, script: &'static [Does], timeout: Duration) -> Case {
        let place = place();
        let out = place.out.with_file_name("kept");
        std::fs::create_dir_all(out.parent().unwrap()).unwrap();
        let nowhere: SocketAddr = ([127, 0, 0, 1], 9).into();
        let Some(speaks) = sort.speaks() else { return Case { target: sort.target(nowhere, &out, timeout), sort, place, out, relay: None, _stop: None } };
        let (stand_in, stop) = stand_in(StandIn { speaks, into: Some(out.clone()), ..other_end }, "127.0.0.1:0").await;
        // Datagrams do not go through a relay.
        if sort == Sort::SyslogDatagrams {
            return Case { target: sort.target(stand_in, &out, timeout), sort, place, out, relay: None, _stop: Some(stop) };
        }
        let relay = Relay::before(stand_in, script).await;
        Case { target: sort.target(relay.address, &out, timeout), sort, place, out, relay: Some(relay), _stop: Some(stop) }
    }

    async fn well(sort: Sort) -> Case {
        Case::new(sort, StandIn::default(), &[]).await
    }

    async fn queue(&self, range: std::ops::Range<u32>) {
        for start in range.clone().step_by(30) {
            queue(&self.place.spool, "d", &numbered(start..(start + 30).min(range.end))).await;
        }
    }

    fn start(&self) -> Worker {
        worker(&self.place, self.target.clone())
    }

    async fn until(&self, what: &str, holds: impl FnMut() -> bool) {
        until(&format!("{:?}: {what}", self.sort), holds).await;
    }

    async fn drains(&self, w: &Worker, what: &str) {
        self.until(&format!("{what}; {:?}", w.health().get().last_error), || drained(&self.place.spool, "d")).await;
        self.until("it is well in the end", || matches!(w.health().get().state, State::Healthy | State::Slow)).await;
    }

    /// All arrived, and nothing else: each once and in order, or at least once.
    async fn has(&self, numbers: impl Iterator<Item = u32>, once: bool) {
        let expected: Vec<u32> = numbers.collect();
        let have = || {
            let mut have = self.sort.numbers(&self.out)?;
            if !once {
                have.sort_unstable();
                have.dedup();
            }
            Some(have)
        };
        // A receiver that does not answer may read what it was sent later.
        self.until("all arrives", || have().is_none_or(|have| have.len() >= expected.len())).await;
        assert!(have().is_none_or(|have| have == expected), "{:?}: {:?}", self.sort, have());
    }

    async fn nothing_is_set_aside(&self) {
        let aside = self.place.spool.quarantined(1).await.unwrap();
        assert!(aside.is_empty(), "{:?}: {}", self.sort, aside[0].reason);
    }

    async fn end(self, w: Worker) {
        w.stop(Duration::from_secs(5)).await;
    }
}

async fn takes_everything_once_and_in_order(sort: Sort) {
    let case = Case::well(sort).await;
    let w = case.start();
    // Of datagrams no more than wait in the system's queue, however late their receiver has its turn.
    let many = if sort == Sort::SyslogDatagrams { 100 } else { 300 };
    case.queue(0..many).await;
    case.drains(&w, "it is drained").await;
    case.has(0..many, true).await;
    case.nothing_is_set_aside().await;
    w.stop(Duration::from_secs(5)).await;
    case.queue(many..many + 1).await;
    assert_eq!(case.place.spool.waiting()["d"].amount.events, 1, "{sort:?}: a worker that was stopped sends nothing");
}

/// What is slow, says that it cannot now, hangs or closes half-way is tried again until it is well.
async fn survives(sort: Sort, mood: &'static str) {
    if sort.speaks().is_none() || sort == Sort::SyslogDatagrams {
        return;
    }
    let schedule = Schedule::read(&format!("{mood} for 500ms, well for 1m")).unwrap();
    let patience = if mood == "hanging" { LITTLE_PATIENCE } else { PATIENCE };
    let case = Case::patient(sort, StandIn { schedule, ..StandIn::default() }, &[], patience).await;
    case.queue(0..300).await;
    let w = case.start();
    case.drains(&w, mood).await;
    if sort.is_answered() || !matches!(mood, "failing" | "closing") {
        case.has(0..300, false).await;
    }
    case.nothing_is_set_aside().await;
    case.end(w).await;
}

async fn survives_slowness(sort: Sort) {
    survives(sort, "slow 20ms").await;
}

async fn survives_failures(sort: Sort) {
    survives(sort, "failing").await;
}

async fn survives_one_that_hangs(sort: Sort) {
    survives(sort, "hanging").await;
}

async fn survives_one_that_closes(sort: Sort) {
    survives(sort, "closing").await;
}

/// Sends over connections that break in ways that no stand-in does by itself, and says what is told of it.
async fn survives_connections(sort: Sort, script: &'static [Does]) {
    // A mail server speaks first: with one that waits to be spoken to, both wait.
    let patience = if sort == Sort::Mail { LITTLE_PATIENCE } else { PATIENCE };
    let case = Case::patient(sort, StandIn::default(), script, patience).await;
    let Some(relay) = &case.relay else { return };
    case.queue(0..60).await;
    let w = case.start();
    case.drains(&w, &format!("{script:?}")).await;
    if sort.is_answered() {
        case.has(0..60, false).await;
        assert!(relay.connections.load(Ordering::SeqCst) > script.len(), "{sort:?}: every connection of the script was used");
        let error = w.health().get().last_error.unwrap_or_default();
        assert!(!error.is_empty() && !error.contains("sandpiper"), "{sort:?}: {error}");
    }
    case.nothing_is_set_aside().await;
    case.end(w).await;
}

async fn survives_garbage(sort: Sort) {
    survives_connections(sort, &[Does::Garbles, Does::Garbles]).await;
}

async fn survives_answers_that_break_off(sort: Sort) {
    survives_connections(sort, &[Does::ClosesHalfWay, Does::Closes]).await;
}

async fn sets_aside_only_what_is_refused(sort: Sort) {
    if !sort.can_be_refused() {
        return;
    }
    // As it is written in lines, and as the stand-in writes log records.
    let case = Case::new(sort, StandIn { refuse_text: Some("\"n\":37}".into()), ..StandIn::default() }, &[]).await;
    case.queue(0..90).await;
    let w = case.start();
    case.drains(&w, "all others").await;
    case.has((0..90).filter(|n| *n != 37), true).await;
    let aside = case.place.spool.quarantined(10).await.unwrap();
    assert_eq!(aside.iter().map(|a| &a.data[..]).collect::<Vec<_>>(), [b"{\"n\":37}"], "{sort:?}");
    assert!(aside[0].reason.contains("does not accept"), "{sort:?}: {}", aside[0].reason);
    case.end(w).await;
}

async fn keeps_waiting_what_is_refused_altogether(sort: Sort) {
    if !sort.can_be_refused() {
        return;
    }
    let case = Case::new(sort, StandIn { refuse_text: Some("n".into()), ..StandIn::default() }, &[]).await;
    case.queue(0..90).await;
    let w = case.start();
    case.until("it is told", || w.health().get().last_error.is_some_and(|e| e.contains("refuses everything"))).await;
    let waiting = case.place.spool.waiting()["d"].amount.events;
    assert!((1..90).contains(&waiting), "{sort:?}: {waiting} wait");
    case.end(w).await;
}

async fn sends_less_at_once_where_it_is_too_much(sort: Sort) {
    if !sort.can_be_refused() {
        return;
    }
    let case = Case::new(sort, StandIn { most_events: 7, ..StandIn::default() }, &[]).await;
    case.queue(0..90).await;
    let w = case.start();
    case.drains(&w, "a few at a time").await;
    case.has(0..90, true).await;
    case.nothing_is_set_aside().await;
    case.end(w).await;
}

/// What cannot be reached or written waits, with the reason, and goes on by itself.
async fn comes_back(sort: Sort) {
    if matches!(sort, Sort::Discard | Sort::SyslogDatagrams) {
        return;
    }
    let mut case = Case::well(sort).await;
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    match sort.speaks() {
        Some(_) => case.target = sort.target(free, &case.out, PATIENCE),
        // A folder stands where the file should, or a file where the folder should.
        None if sort == Sort::File => std::fs::create_dir_all(&case.out).unwrap(),
        None => std::fs::write(&case.out, "in the way").unwrap(),
    }
    case.queue(0..30).await;
    let w = case.start();
    case.until("it fails", || w.health().get().failures >= 2).await;
    let health = w.health().get();
    assert!(health.state == State::Failing && health.last_error.is_some() && health.next_try_ms.is_some(), "{sort:?}");
    assert_eq!(case.place.spool.waiting()["d"].amount.events, 30, "{sort:?}");
    let mut _again = None;
    match sort.speaks() {
        Some(speaks) => _again = Some(stand_in(StandIn { speaks, into: Some(case.out.clone()), ..StandIn::default() }, &free.to_string()).await),
        None if sort == Sort::File => std::fs::remove_dir(&case.out).unwrap(),
        None => std::fs::remove_file(&case.out).unwrap(),
    }
    case.drains(&w, "it is back").await;
    case.has(0..30, true).await;
    case.end(w).await;
}

/// A worker that is killed between sending and settling, over and over, loses nothing; where it is promised, nothing stands there twice.
async fn resumes_after_kills(sort: Sort) {
    let case = Case::well(sort).await;
    for round in 0..6 {
        case.queue(round * 30..(round + 1) * 30).await;
        // Some of it is settled before.
        if round % 2 == 1 {
            let w = case.start();
            case.until("some is settled", || case.place.spool.waiting()["d"].amount.events < 30).await;
            w.stop(Duration::from_secs(5)).await;
            case.queue(180 + round * 30..180 + (round + 1) * 30).await;
        }
        let sent = Arc::new(AtomicUsize::new(0));
        let w = worker(&case.place, CutOff { inner: case.target.clone(), sent: Arc::clone(&sent) });
        case.until("it has sent", || sent.load(Ordering::SeqCst) > 0 || drained(&case.place.spool, "d")).await;
        w.stop(Duration::ZERO).await;
    }
    case.queue(360..390).await;
    let w = case.start();
    case.drains(&w, "the rest").await;
    let all = (0..6).flat_map(|round| {
        let again = if round % 2 == 1 { 180 + round * 30..180 + (round + 1) * 30 } else { 0..0 };
        (round * 30..(round + 1) * 30).chain(again)
    });
    let mut all: Vec<u32> = all.chain(360..390).collect();
    if !sort.promises_exactly_once() {
        all.sort_unstable();
    }
    case.has(all.into_iter(), sort.promises_exactly_once()).await;
    case.nothing_is_set_aside().await;
    case.end(w).await;
}

/// Whatever stands in an event, it arrives once, or is set aside with the reason: what leaves and what is counted agree.
async fn writes_or_sets_aside_every_event(sort: Sort) {
    let case = Case::well(sort).await;
    let mut random = fastrand::Rng::with_seed(14);
    let events: Vec<String> = (0..240).map(|number| odd_event(number, &mut random)).collect();
    for event in &events {
        // What cannot be read as an event never comes here.
        let scanned = rockrose_event::scan::scan(event.as_bytes(), &rockrose_event::field::FieldTable::default(), &mut Vec::new());
        assert!(scanned.is_ok(), "{event}: {scanned:?}");
    }
    let w = case.start();
    for (chunk, some) in (1..).zip(events.chunks(60)) {
        queue(&case.place.spool, "d", some).await;
        if sort == Sort::SyslogDatagrams {
            // Of datagrams no more than wait in the system's queue.
            case.until("these arrive", || sort.numbers(&case.out).is_none_or(|have| have.len() >= chunk * 60)).await;
        }
    }
    case.drains(&w, "odd events").await;
    let aside = case.place.spool.quarantined(1_000).await.unwrap();
    let number = |event: &[u8]| String::from_utf8_lossy(event)["{\"n\":".len()..].chars().take_while(char::is_ascii_digit).collect::<String>().parse().unwrap();
    let set_aside: Vec<u32> = aside.iter().map(|a| number(&a.data)).collect();
    assert!(aside.iter().all(|a| !a.reason.is_empty()), "{sort:?}");
    // Only a receiver that reads JSON strictly refuses any.
    assert!(set_aside.is_empty() || sort == Sort::Http, "{sort:?}: {}: {}", aside[0].reason, String::from_utf8_lossy(&aside[0].data));
    case.until("all others arrive", || sort.numbers(&case.out).is_none_or(|have| have.len() + set_aside.len() >= events.len())).await;
    if let Some(have) = sort.numbers(&case.out) {
        let mut all: Vec<u32> = have.into_iter().chain(set_aside).collect();
        all.sort_unstable();
        assert_eq!(all, (0..240).collect::<Vec<_>>(), "{sort:?}");
    }
    case.end(w).await;
}

/// A look says that all is well where it is, and which step is not where it is not.
async fn can_be_looked_at(sort: Sort) {
    let case = Case::well(sort).await;
    let steps = probe(&WorkerSettings::new("d", case.target.clone())).await;
    assert!(!steps.is_empty() && steps.iter().all(|step| step.good && !step.says.is_empty()), "{sort:?}: {steps:?}");
    if matches!(sort, Sort::Discard | Sort::SyslogDatagrams) {
        return;
    }
    let free = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let nowhere = case.out.join("in the way");
    if sort.speaks().is_none() {
        std::fs::write(case.out.with_extension("other"), "in the way").unwrap();
    }
    let there = if sort.speaks().is_none() { case.out.with_extension("other").join("below") } else { nowhere };
    let steps = probe(&WorkerSettings::new("d", sort.target(free, &there, PATIENCE))).await;
    assert!(steps.last().is_some_and(|step| !step.good && !step.says.is_empty()), "{sort:?}: {steps:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_kind_has_every_property() {
    let mut running = tokio::task::JoinSet::new();
    macro_rules! properties {
        ($($property:ident,)*) => {$(
            for sort in Sort::ALL {
                running.spawn($property(sort));
            }
            // A few at a time, so that an answer in time is one.
            while running.len() > 12 {
                running.join_next().await.unwrap().unwrap();
            }
        )*};
    }
    properties! {
        takes_everything_once_and_in_order,
        survives_slowness,
        survives_failures,
        survives_one_that_hangs,
        survives_one_that_closes,
        survives_garbage,
        survives_answers_that_break_off,
        sets_aside_only_what_is_refused,
        keeps_waiting_what_is_refused_altogether,
        sends_less_at_once_where_it_is_too_much,
        comes_back,
        resumes_after_kills,
        writes_or_sets_aside_every_event,
        can_be_looked_at,
    }
    while let Some(done) = running.join_next().await {
        done.unwrap();
    }
}
