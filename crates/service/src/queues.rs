//! What happens when a destination holds all it may: its sources are pushed back, its oldest go, or what comes spills to another.

use rockrose_engine::Outcome;
use rockrose_plan::{CheckedPlan, Destination, WhenFull};
use rockrose_spool::{Discard, Spool, Which};

use crate::{App, now_ms};

fn find<'a>(plan: &'a CheckedPlan, name: &str) -> Option<&'a Destination> {
    plan.destinations.iter().find(|d| d.name == name)
}

/// Whether a destination holds all it may.
pub(crate) fn is_full(spool: &Spool, destination: &Destination) -> bool {
    spool.waiting_bytes(&destination.name) as u64 >= destination.hold_at_most
}

/// Where what is due at `from` goes now: there, or to the first on its way of spilling that has room; to the last, if none has.
fn goes_to<'a>(spool: &Spool, plan: &'a CheckedPlan, from: &'a Destination) -> &'a Destination {
    let mut at = from;
    // A checked plan spills in no circle.
    while let WhenFull::Spill(to) = &at.when_full
        && is_full(spool, at)
    {
        let Some(next) = find(plan, to) else { break };
        at = next;
    }
    at
}

/// The full destination for whose sake whatever reaches `destination` must be pushed back, if there is one.
pub(crate) fn pushes_back<'a>(spool: &Spool, plan: &'a CheckedPlan, destination: &'a Destination) -> Option<&'a str> {
    let last = goes_to(spool, plan, destination);
    (last.when_full == WhenFull::PushBack && is_full(spool, last)).then_some(last.name.as_str())
}

/// Sends on what is due at destinations that are full and spill.
pub(crate) fn spill(spool: &Spool, plan: &CheckedPlan, outcome: &mut Outcome) {
    for destination in plan.destinations.iter().filter(|d| matches!(d.when_full, WhenFull::Spill(_))) {
        let to = goes_to(spool, plan, destination);
        if to.name != destination.name {
            outcome.spill(&destination.name, &to.name);
        }
    }
}

/// Lets the oldest go where that is what a full destination does.
pub(crate) async fn make_room(app: &App, plan: &CheckedPlan) {
    for destination in plan.destinations.iter().filter(|d| d.when_full == WhenFull::DropOldest) {
        let most = i64::try_from(destination.hold_at_most).unwrap_or(i64::MAX);
        if app.spool.waiting_bytes(&destination.name) > most {
            let discard = Discard { destination: destination.name.clone(), which: Which::DownTo(most), at_ms: now_ms() };
            if let Err(e) = app.spool.discard(discard).await {
                tracing::error!(destination = destination.name, error = %e, "what has waited longest could not be let go");
            }
        }
    }
}
