//! Which parts of a plan read which fields.

use std::collections::HashMap;

use rockrose_event::field::Path;
use rockrose_language::Condition;

use crate::check::Gate;
use crate::{CheckedPlan, Part};

impl CheckedPlan {
    /// Every field that a condition or step reads, with the part of the plan in which it stands: a source, a route or a destination.
    #[must_use]
    pub fn reads(&self) -> Vec<(Part, Path)> {
        let gates = self.routes.iter().filter_map(|route| if let Gate::Condition(condition) = &route.when { Some((route, condition)) } else { None });
        let gates: HashMap<&str, &Condition> = gates.map(|(route, condition)| (route.name.as_str(), condition)).collect();
        let mut found = Vec::new();
        for (part, steps) in self.lists() {
            let mut read = Vec::new();
            if part.kind == "route"
                && let Some(condition) = gates.get(part.name.as_str())
            {
                condition.reads(&mut read);
            }
            for step in steps {
                step.operation.reads(&mut read);
                if let Some(when) = &step.when {
                    when.reads(&mut read);
                }
            }
            found.extend(read.into_iter().map(|path| (part.clone(), path)));
        }
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
