//! Which parts of a plan read which fields.

use rockrose_event::field::Path;
use rockrose_language::Step;

use crate::check::Gate;
use crate::{CheckedPlan, Part};

impl CheckedPlan {
    /// Every field that a condition or step reads, with the part of the plan in which it stands: a source, a route or a destination.
    #[must_use]
    pub fn reads(&self) -> Vec<(Part, Path)> {
        let mut found = Vec::new();
        let mut add = |kind: &'static str, name: &str, gate: Option<&Gate>, steps: &[Step]| {
            let mut read = Vec::new();
            if let Some(Gate::Condition(condition)) = gate {
                condition.reads(&mut read);
            }
            for step in self.expanded(steps) {
                step.operation.reads(&mut read);
                if let Some(when) = &step.when {
                    when.reads(&mut read);
                }
            }
            let part = Part { kind, name: name.to_owned() };
            found.extend(read.into_iter().map(|path| (part.clone(), path)));
        };
        self.sources.iter().for_each(|s| add("source", &s.name, None, &s.on_arrival));
        self.routes.iter().for_each(|r| add("route", &r.name, Some(&r.when), &r.steps));
        self.destinations.iter().for_each(|d| add("destination", &d.name, None, &d.always));
        found
    }
}

/// Whether what reads `path` reads the field of that dotted name: the field itself, a part of it, or what it is a part of; a path may leave out the beginning of a name.
#[must_use]
pub fn reads_field(path: &str, field: &str) -> bool {
    let within = |outer: &str, inner: &str| inner.strip_prefix(outer).is_some_and(|rest| rest.starts_with('.'));
    path == field || within(field, path) || within(path, field) || field.strip_suffix(path).is_some_and(|rest| rest.ends_with('.'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_part_tells_which_fields_it_reads() {
        let text = "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\non_arrival = ['use own']\n[recipe.own]\nsteps = ['tag site = host.site when debug.thread exists']\n\
            [destination.x]\nkind = 'discard'\nalways = ['drop secret = true']\n[[route]]\nname = 'r'\nwhen = 'http.status = 200'\nto = ['x']\n";
        let read: Vec<String> = CheckedPlan::read(text).unwrap().reads().iter().map(|(part, path)| format!("{part} {path}")).collect();
        assert_eq!(read, ["source `a` host.site", "source `a` debug.thread", "route `r` http.status", "destination `x` secret"]);
        for (path, field, reads) in [
            ("http.status", "http.status", true),
            ("http.status", "http", true),
            ("http", "http.status", true),
            ("status", "http.status", true),
            ("status", "statuses", false),
            ("debug.thread", "debug.heap", false),
        ] {
            assert_eq!(reads_field(path, field), reads, "{path} {field}");
        }
    }
}
