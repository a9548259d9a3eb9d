//! Which fields a plan reads.

use std::collections::BTreeSet;

use rockrose_language::{Operation, Set, Tag};
use rockrose_plan::{CheckedPlan, Gate};

/// The fields that any condition or step of the plan reads, or that somebody has tagged or set on purpose, by their names.
pub(crate) fn fields(plan: &CheckedPlan) -> BTreeSet<String> {
    let mut read = Vec::new();
    for route in &plan.routes {
        if let Gate::Condition(condition) = &route.when {
            condition.reads(&mut read);
        }
    }
    let lists = plan.sources.iter().map(|s| &s.on_arrival).chain(plan.routes.iter().map(|r| &r.steps)).chain(plan.destinations.iter().map(|d| &d.always));
    for step in lists.flat_map(|steps| plan.expanded(steps)) {
        step.operation.reads(&mut read);
        if let Operation::Tag(Tag(written)) | Operation::Set(Set(written)) = &step.operation {
            read.extend(written.iter().map(|(path, _)| path.clone()));
        }
        if let Some(when) = &step.when {
            when.reads(&mut read);
        }
    }
    read.iter().map(ToString::to_string).collect()
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

/// Whether a field is read: itself, a part of it, or what it is a part of. What readers of logs look for everywhere counts as read.
pub(crate) fn is_read(field: &str, read: &BTreeSet<String>) -> bool {
    let first = field.split('.').next().unwrap_or(field);
    let meets = |path: &String| {
        path == field
            || path.strip_prefix(field).is_some_and(|rest| rest.starts_with('.'))
            || field.strip_prefix(path.as_str()).is_some_and(|rest| rest.starts_with('.'))
            || field.strip_suffix(path.as_str()).is_some_and(|rest| rest.ends_with('.'))
    };
    USUAL.contains(&first) || read.iter().any(meets)
}
