//! Sites that forward to each other: an event carries the nodes it has passed, and stops where it has been.
//!
//! All of it is said in sentences of the language, which stand behind those of the plan: at every source of a node that forwards, `drop` for what has passed here before; at a
//! destination that leads to another node, `drop` for what has passed there, and `set` for the mark of this one. So what stops is counted as any other step's.

use rockrose_language::{Step, parse_step};

/// The attribute that names the nodes that an event has passed.
pub const PASSED: &str = "rockrose.passed";

fn step(sentence: &str) -> Vec<Step> {
    match parse_step(sentence) {
        Ok(step) => vec![step],
        Err(_) => unreachable!("a node's name is letters and digits"),
    }
}

/// Stops what has passed `node`.
pub(crate) fn stop(node: &str) -> Vec<Step> {
    step(&format!("drop {PASSED} contains \"{node}\""))
}

/// Marks what leaves `node`.
pub(crate) fn mark(node: &str) -> Vec<Step> {
    step(&format!("set {PASSED} = first_of(join({PASSED}, \" \", \"{node}\"), \"{node}\")"))
}
