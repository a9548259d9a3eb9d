//! What it costs a commit that the account is told apart by two tags of 200 values each: the same bodies, stored with and without.

use rockrose_engine::{CompiledPlan, Scratch};
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_plan::CheckedPlan;
use rockrose_redact::HashKey;
use rockrose_spool::{Arrival, Spool, pack};

use crate::end_to_end::{bodies, folder};
use crate::median;
use crate::report::{Goal, Line, Unit};

/// Bodies of a megabyte that are stored in a turn.
const BODIES: usize = 40;
/// Rounds in which both take their turn.
const ROUNDS: usize = 9;
/// What the account is told apart by.
pub(crate) const TAGS: &str = "account_by = [\"kiosk\", \"client_ip\"]\n";

/// A plan with the tags of `top`, and a spool.
struct Side {
    plan: CompiledPlan,
    spool: Spool,
    _folder: tempfile::TempDir,
}

fn side(top: &str) -> Option<Side> {
    let plan = format!(
        "{top}[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.desk]\nkind = \"discard\"\n[destination.vault]\nkind = \"discard\"\n\
         [[route]]\nname = \"all\"\ndo = ['redact email in message']\nto = [\"desk\"]\n[[route]]\nname = \"slow\"\nwhen = \"duration_ms > 1000\"\nto = [\"vault\"]\n"
    );
    let folder = folder()?;
    let plan = CompiledPlan::new(&CheckedPlan::read(&plan).ok()?, HashKey::new([0; 32]));
    Some(Side { plan, spool: Spool::open(&folder.path().join("spool.db")).ok()?, _folder: folder })
}

impl Side {
    /// Seconds of processor time that the commits of all bodies take: what leaves in between is settled apart, and not counted.
    async fn turn(&self, bodies: &[bytes::Bytes], minute: i64) -> Option<f64> {
        let mut scratch = Scratch::default();
        let mut arrivals = Vec::new();
        for body in bodies {
            let records = split(body, DeclaredFormat::Lines, 1 << 20).unwrap_or_default();
            let outcome = self.plan.process(0, body, &records, 0, None, &mut scratch);
            arrivals.push(Arrival {
                source: "in".into(),
                arrived_ms: minute * 60_000,
                data: pack(outcome.lines),
                entries: outcome.entries,
                postings: outcome.postings,
                tags: outcome.tags,
                ..Arrival::default()
            });
        }
        let used = || {
            let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
            time.tv_sec as f64 + time.tv_nsec as f64 / 1e9
        };
        let before = used();
        for arrival in arrivals {
            self.spool.store(arrival).await.ok()?;
        }
        let took = used() - before;
        for destination in ["desk", "vault"] {
            while let Some(mut batch) = self.spool.next(destination, 64 << 20).await.ok()? {
                let all = batch.len();
                self.spool.settle(batch.settle(all, None, minute * 60_000)).await.ok()?;
            }
        }
        Some(took)
    }
}

async fn rounds(corpus: &[u8]) -> Option<Vec<f64>> {
    let (plain, told_apart) = (side("")?, side(TAGS)?);
    let sent = bodies(corpus, BODIES);
    let mut ratios = Vec::new();
    // The first round only warms up.
    for round in 0..=ROUNDS {
        let minute = round as i64;
        let [without, with] = if round % 2 == 0 {
            let without = plain.turn(&sent, minute).await?;
            [without, told_apart.turn(&sent, minute).await?]
        } else {
            let with = told_apart.turn(&sent, minute).await?;
            [plain.turn(&sent, minute).await?, with]
        };
        if round > 0 {
            ratios.push(with / without);
        }
    }
    plain.spool.close();
    told_apart.spool.close();
    Some(ratios)
}

/// Adds the line to the table.
pub(crate) fn measure(corpus: &[u8], lines: &mut Vec<Line>) {
    let Ok(runtime) = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build() else { return };
    let Some(ratios) = runtime.block_on(rounds(corpus)) else {
        eprintln!("the commits with tags could not be measured");
        return;
    };
    let ratio = median(ratios);
    lines.push(Line { what: "commits by two tags", value: ratio, unit: Unit::Each, against: Some(("commits", ratio, Goal::CostAtMost(1.15))) });
}
