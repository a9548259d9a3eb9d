//! The table, on the terminal and in `target/bench.json`.

use serde_json::{Value, json};

/// What a line's value counts.
#[derive(Clone, Copy)]
pub(crate) enum Unit {
    MegabytesPerSecond,
    Each,
}

/// What a ratio should come to.
#[derive(Clone, Copy)]
pub(crate) enum Goal {
    /// So many times the speed.
    AtLeast(f64),
    /// So many times the time.
    CostAtMost(f64),
    /// A value below this.
    Under(f64),
}

impl Goal {
    fn met(self, ratio: f64) -> bool {
        match self {
            Goal::AtLeast(goal) => ratio >= goal,
            Goal::CostAtMost(goal) => ratio <= goal,
            Goal::Under(goal) => ratio < goal,
        }
    }

    fn text(self) -> String {
        match self {
            Goal::AtLeast(goal) => format!("≥ {goal} speed"),
            Goal::CostAtMost(goal) => format!("≤ {goal} time"),
            Goal::Under(goal) => format!("< {goal}"),
        }
    }
}

/// One line of the table.
pub(crate) struct Line {
    pub(crate) what: &'static str,
    pub(crate) value: f64,
    pub(crate) unit: Unit,
    /// Floor, ratio to it, and the goal.
    pub(crate) against: Option<(&'static str, f64, Goal)>,
}

pub(crate) fn print(lines: &[Line]) {
    println!("{:<38} {:>12}  {:<24} {:>6}  {:<14} met", "what", "value", "floor", "ratio", "goal");
    for line in lines {
        let value = match line.unit {
            Unit::MegabytesPerSecond => format!("{:.0} MB/s", line.value),
            Unit::Each if line.value < 10.0 => format!("{:.4}", line.value),
            Unit::Each => format!("{:.0}", line.value),
        };
        match line.against {
            Some((floor, ratio, goal)) => {
                let met = if goal.met(ratio) { "yes" } else { "NO" };
                println!("{:<38} {value:>12}  {floor:<24} {ratio:>6.2}  {:<14} {met}", line.what, goal.text());
            }
            None => println!("{:<38} {value:>12}", line.what),
        }
    }
}

pub(crate) fn write(lines: &[Line]) {
    let entry = |line: &Line| {
        let unit = match line.unit {
            Unit::MegabytesPerSecond => "MB/s",
            Unit::Each => "each",
        };
        let mut entry = json!({ "what": line.what, "value": line.value, "unit": unit });
        if let Some((floor, ratio, goal)) = line.against {
            for (key, value) in [("floor", json!(floor)), ("ratio", json!(ratio)), ("goal", json!(goal.text())), ("met", json!(goal.met(ratio)))] {
                entry[key] = value;
            }
        }
        entry
    };
    let table = Value::from(lines.iter().map(entry).collect::<Vec<_>>());
    let written = std::fs::create_dir_all("target").and_then(|()| std::fs::write("target/bench.json", format!("{table:#}\n")));
    if let Err(e) = written {
        eprintln!("target/bench.json cannot be written: {e}");
    }
}
