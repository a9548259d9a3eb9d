//! What a step that holds events back costs the sources whose events never reach it: nothing.
//!
//! Two services run side by side, and take turns. In both a second source is sent a trickle; in one of them its route merges repeats. How fast the first source
//! takes bodies is to be the same in both.

use std::time::{Duration, Instant};

use crate::end_to_end::{CONNECTIONS, Served, bodies, free_port, post, start};
use crate::median;
use crate::report::{Goal, Line, Unit};

/// Bodies of a megabyte that are posted in a turn.
const BODIES: usize = 60;
/// Rounds in which each service takes its turn.
const ROUNDS: usize = 9;
/// How often the neighbour is sent a small body.
const TRICKLE: Duration = Duration::from_millis(20);

/// A service with two sources, the second of which has a route that does `step`.
struct Side {
    served: Served,
    ports: [u16; 2],
}

async fn side(step: &str) -> Option<Side> {
    let ports = [free_port(), free_port()];
    let plan = format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{}\"\n[source.neighbour]\nkind = \"http\"\nlisten = \"127.0.0.1:{}\"\n[destination.counted]\nkind = \"discard\"\n\
         [[route]]\nname = \"all\"\nfrom = [\"in\"]\ndo = ['redact email in message']\nto = [\"counted\"]\n\
         [[route]]\nname = \"beside\"\nfrom = [\"neighbour\"]\ndo = ['{step}']\nto = [\"counted\"]\n",
        ports[0], ports[1]
    );
    Some(Side { served: start(crate::end_to_end::folder()?, &plan, ports[0]).await?, ports })
}

/// Events a second that the first source takes, while its neighbour is sent a trickle.
async fn turn(side: &Side, sent: &[bytes::Bytes], events: usize) -> Option<f64> {
    let url = |port: u16| format!("http://127.0.0.1:{port}/in");
    let neighbour = url(side.ports[1]);
    let trickle = tokio::spawn(async move {
        loop {
            post(&neighbour, &[bytes::Bytes::from_static(b"{\"gate\":4}\n")], 1).await;
            tokio::time::sleep(TRICKLE).await;
        }
    });
    let begun = Instant::now();
    post(&url(side.ports[0]), sent, CONNECTIONS).await;
    let speed = events as f64 / begun.elapsed().as_secs_f64();
    trickle.abort();
    side.served.drained().await?;
    Some(speed)
}

async fn rounds(corpus: &[u8]) -> Option<Vec<[f64; 2]>> {
    let (plain, merging) = (side("tag line = \"quay\"").await?, side("merge repeats within 1 hour by gate").await?);
    let sent = bodies(corpus, BODIES);
    let events = sent.iter().map(|body| memchr::memchr_iter(b'\n', body).count()).sum();
    let mut rounds = Vec::new();
    // The first round only warms up; after it, each goes first in turn.
    for round in 0..=ROUNDS {
        let speeds = if round % 2 == 0 {
            let first = turn(&plain, &sent, events).await?;
            [first, turn(&merging, &sent, events).await?]
        } else {
            let first = turn(&merging, &sent, events).await?;
            [turn(&plain, &sent, events).await?, first]
        };
        if round > 0 {
            rounds.push(speeds);
        }
    }
    Some(rounds)
}

/// Measures, and adds to the table.
pub(crate) fn measure(corpus: &[u8], lines: &mut Vec<Line>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let Some(rounds) = runtime.block_on(rounds(corpus)) else {
        println!("neighbours: not measured; build the service first (cargo build --release -p rockrose-cli)\n");
        return;
    };
    let of = |each: &dyn Fn(&[f64; 2]) -> f64| median(rounds.iter().map(each).collect());
    let over = "a plain neighbour";
    lines.push(Line { what: "beside a plain neighbour: events a second", value: of(&|r| r[0]), unit: Unit::Each, against: None });
    let ratio = of(&|r| r[1] / r[0]);
    let against = Some((over, ratio, Goal::AtLeast(0.95)));
    lines.push(Line { what: "beside one that merges: events a second", value: of(&|r| r[1]), unit: Unit::Each, against });
}
