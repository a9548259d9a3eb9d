//! Which fields a plan has any use for.

use std::collections::BTreeSet;

use rockrose_language::{Operation, Set, Tag};
use rockrose_plan::{CheckedPlan, reads_field};

/// The fields that any condition or step of the plan reads, or that somebody has tagged or set on purpose, by their names.
pub(crate) fn fields(plan: &CheckedPlan) -> BTreeSet<String> {
    let mut used: BTreeSet<String> = plan.reads().iter().map(|(_, path)| path.to_string()).collect();
    for step in plan.lists().flat_map(|(_, steps)| steps) {
        if let Operation::Tag(Tag(written)) | Operation::Set(Set(written)) = &step.operation {
            used.extend(written.iter().map(|(path, _)| path.to_string()));
        }
    }
    used
}

/// Names that nearly every reader of logs looks for.
const USUAL: &[&str] = &[
    "time",
    "timestamp",
    "ts",
    "date",
    "level",
    "severity",
    "lvl",
    "message",
    "msg",
    "body",
    "service",
    "host",
    "trace_id",
    "span_id",
    "id",
    "event",
    "name",
    "sampled",
    "merged",
];

/// Whether a field is read. What readers of logs look for everywhere counts as read.
pub(crate) fn is_read(field: &str, read: &BTreeSet<String>) -> bool {
    let first = field.split('.').next().unwrap_or(field);
    USUAL.contains(&first) || read.iter().any(|path| reads_field(path, field))
}
