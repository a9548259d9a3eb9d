//! How much the account grows in a month at 100 sources, 100 destinations and 3 tags of ten values each, and how long a report of that month takes to ask for.
//!
//! Something is counted at every source, destination and value in every hour, in one minute of it: what is kept by the hour and day is what a busy month leaves for good, and minutes
//! go after 35 days.

use std::sync::Arc;
use std::time::{Duration, Instant};

use rockrose_ledger::{Account, Amount, Measure, Posting, Stage, TagAmount};
use rockrose_spool::{Arrival, Spool};

use crate::end_to_end::folder;
use crate::report::{Goal, Line, Unit};

/// Sources, and destinations.
const PLACES: usize = 100;
const TAGS: [&str; 3] = ["team", "port", "service"];
/// Values of each tag.
const VALUES: usize = 10;
/// Hours of the month.
const HOURS: i64 = 30 * 24;

fn postings(values: &[Vec<Arc<str>>]) -> Vec<Posting> {
    let amount = Amount { events: 10 * VALUES as i64, bytes: 3_500 * VALUES as i64 };
    let by_tag = || -> Vec<TagAmount> {
        let one = |tag: usize| values[tag].iter().map(move |value| TagAmount { tag, value: Arc::clone(value), amount: Amount { events: 10, bytes: 3_500 } });
        (0..TAGS.len()).flat_map(one).collect()
    };
    let mut all = Vec::new();
    for n in 0..PLACES {
        let (source, route, destination) = (format!("source-{n}"), format!("route-{n}"), format!("destination-{n}"));
        let at = |stage, name: &str, via: &str, measure| Account {
            stage,
            name: name.to_owned(),
            via: via.to_owned(),
            position: 0,
            sentence: String::new(),
            measure,
        };
        all.extend([Measure::Received, Measure::Read, Measure::Passed, Measure::Routed].map(|measure| at(Stage::Source, &source, "", measure)));
        all.extend([Measure::Taken, Measure::Out, Measure::Copies].map(|measure| at(Stage::Route, &route, &source, measure)));
        all.extend([Measure::Offered, Measure::Enqueued, Measure::Delivered].map(|measure| at(Stage::Destination, &destination, &route, measure)));
    }
    let posting = |account: Account| Posting { by_tag: if account.is_by_tag() { by_tag() } else { Vec::new() }, account, amount };
    all.into_iter().map(posting).collect()
}

/// MB that the spool's file has at the end of the month, and the seconds that its report's questions take.
async fn month() -> Option<(f64, f64)> {
    let folder = folder()?;
    let path = folder.path().join("spool.db");
    let spool = Spool::open(&path).ok()?;
    let values: Vec<Vec<Arc<str>>> = TAGS.iter().map(|tag| (0..VALUES).map(|n| Arc::from(format!("{tag}-{n}"))).collect()).collect();
    let (all, tags) = (postings(&values), TAGS.map(Arc::from));
    let begins = 1_795_000_000_000_i64 / 3_600_000;
    for hour in begins..begins + HOURS {
        let arrival =
            Arrival { source: "source-0".into(), arrived_ms: hour * 3_600_000, postings: all.clone(), tags: Arc::from(tags.clone()), ..Arrival::default() };
        spool.store(arrival).await.ok()?;
    }
    // What is kept by the hour is summed up beside commits, now and then.
    for _ in 0..2 {
        tokio::time::sleep(Duration::from_secs(31)).await;
        spool.store(Arrival { arrived_ms: (begins + HOURS) * 3_600_000, ..Arrival::default() }).await.ok()?;
    }
    spool.store(Arrival::default()).await.ok()?;
    let (since, until) = (Some(begins * 60), Some((begins + HOURS) * 60));
    let asked = Instant::now();
    spool.ledger(since, until).await.ok()?;
    for tag in TAGS {
        spool.by_tag(tag, since, until).await.ok()?;
    }
    let took = asked.elapsed().as_secs_f64();
    spool.close();
    let size = std::fs::metadata(&path).ok()?.len() as f64 / 1e6;
    Some((size, took))
}

/// Adds the lines to the table.
pub(crate) fn measure(lines: &mut Vec<Line>) {
    let Ok(runtime) = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build() else { return };
    let Some((size, took)) = runtime.block_on(month()) else {
        eprintln!("a month of the account could not be measured");
        return;
    };
    lines.push(Line { what: "a month of the account: MB", value: size, unit: Unit::Each, against: Some(("", size, Goal::Under(50.0))) });
    lines.push(Line { what: "a month's report: seconds to ask", value: took, unit: Unit::Each, against: Some(("", took, Goal::Under(2.0))) });
}
