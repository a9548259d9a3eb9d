//! Instructions an event, counted by valgrind's callgrind where it is installed: a figure that does not waver with the machine's other work.

use std::process::Command;

/// For the core pass; nothing where it cannot be counted.
pub(crate) fn an_event() -> Option<f64> {
    // The same program with one round and with three: what lies between are two rounds and nothing else. `count` has a corpus of 20 000 events.
    let (one, three) = (counted("1")?, counted("3")?);
    Some((three - one) / 2.0 / 20_000.0)
}

fn counted(rounds: &str) -> Option<f64> {
    let program = std::env::current_exe().ok()?;
    let out = Command::new("valgrind")
        .args(["--tool=callgrind", "--callgrind-out-file=/dev/null"])
        .arg(program)
        .args(["count", "core pass", rounds])
        .output()
        .ok()?;
    let said = String::from_utf8_lossy(&out.stderr);
    let line = said.lines().find(|l| l.contains("Collected"))?;
    line.split_whitespace().last()?.parse().ok()
}
