//! `remove` and `retain`.

use rockrose_event::field::{FieldId, FieldTable, WEIGHT};
use rockrose_language::{self as language, Selector};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::edit::Fate;
use crate::effect::Effect;

/// The object that the weight stands in where it is not an attribute with a dotted name.
const WEIGHT_PARENT: &str = "sampled";

/// Fields that a step names.
#[derive(Debug)]
enum Chosen {
    /// One, with its flat name.
    Field(FieldId, String),
    /// All whose flat name is like this.
    Like(String),
}

/// Names that are meant in one event, each with whether it has stars.
struct Meant(Vec<(String, bool)>);

impl Meant {
    /// The names that are meant in this event: of a view, the usual name that is there.
    fn in_event(chosen: &[Chosen], event: &EventDraft<'_>, fields: &FieldTable) -> Meant {
        let slots = event.view().slots;
        let one = |chosen: &Chosen| match chosen {
            Chosen::Like(like) => (like.clone(), true),
            Chosen::Field(field, flat) => (fields.usual_name(*field, slots).unwrap_or(flat).to_owned(), false),
        };
        Meant(chosen.iter().map(one).collect())
    }

    /// Whether `name` is one of them, as it is or as it is called.
    fn is(&self, fields: &FieldTable, name: &str) -> bool {
        let is = |name: &str| self.0.iter().any(|(meant, stars)| if *stars { is_like(meant, name, &mut Vec::new()) } else { meant == name });
        is(name) || is(fields.called(name))
    }

    /// Whether a name below `outer` could be one of them.
    fn is_below(&self, fields: &FieldTable, outer: &str) -> bool {
        let is_below = |outer: &str| self.0.iter().any(|(meant, stars)| if *stars { reaches_below(meant, outer) } else { below(outer, meant) });
        fields.looks_in(outer) || is_below(outer) || is_below(fields.called(outer))
    }
}

impl Chosen {
    /// Each with the field that it names, so that a view's usual names are found.
    fn of(selectors: &[Selector], c: &mut CompileContext<'_>) -> Vec<Chosen> {
        let one = |selector: &Selector| match selector {
            Selector::Field(path) => Chosen::Field(c.field(path), path.flat()),
            Selector::Like(like) => Chosen::Like(like.clone()),
        };
        selectors.iter().map(one).collect()
    }
}

#[derive(Debug)]
struct Remove(Vec<Chosen>);

#[derive(Debug)]
struct Retain(Vec<Chosen>);

impl Compile for language::Remove {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        Box::new(Remove(Chosen::of(&self.0, c)))
    }
}

impl Compile for language::Retain {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        Box::new(Retain(Chosen::of(&self.0, c)))
    }
}

impl RunStep for Remove {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let meant = Meant::in_event(&self.0, event, fields);
        let fate = |n: &str| {
            if meant.is(fields, n) {
                Fate::Drop
            } else if meant.is_below(fields, n) {
                Fate::Descend
            } else {
                Fate::Keep
            }
        };
        Effect::changed(event.edit_if(fields, |copy| copy.filter(fields, &fate)))
    }
}

impl RunStep for Retain {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let meant = Meant::in_event(&self.0, event, fields);
        let fate = |n: &str| {
            if n == WEIGHT || meant.is(fields, n) {
                Fate::Keep
            } else if n == WEIGHT_PARENT || meant.is_below(fields, n) {
                Fate::DescendOrDrop
            } else {
                Fate::Drop
            }
        };
        Effect::changed(event.edit_if(fields, |copy| copy.filter(fields, &fate)))
    }
}

/// Whether `name` is like `pattern`, in which each `*` stands for any characters; what they stand for goes to `parts`.
pub(super) fn is_like<'a>(pattern: &str, name: &'a str, parts: &mut Vec<&'a str>) -> bool {
    parts.clear();
    let mut pieces = pattern.split('*');
    let Some(mut rest) = pieces.next().and_then(|first| name.strip_prefix(first)) else { return false };
    let mut pieces = pieces.peekable();
    while let Some(piece) = pieces.next() {
        // The last piece stands at the end; the others where they come first.
        let at = if pieces.peek().is_none() { rest.ends_with(piece).then(|| rest.len() - piece.len()) } else { rest.find(piece) };
        let Some(at) = at else { return false };
        parts.push(&rest[..at]);
        rest = &rest[at + piece.len()..];
    }
    rest.is_empty()
}

/// Whether a name below `outer` (followed by a dot) could be like `pattern`.
fn reaches_below(pattern: &str, outer: &str) -> bool {
    let plain = pattern.split('*').next().unwrap_or_default();
    let starred = plain.len() < pattern.len();
    if plain.len() > outer.len() { plain.starts_with(outer) && plain[outer.len()..].starts_with('.') } else { starred && outer.starts_with(plain) }
}

/// Whether the flat name `inner` lies below `outer`.
fn below(outer: &str, inner: &str) -> bool {
    inner.len() > outer.len() && inner.starts_with(outer) && inner[outer.len()..].starts_with('.')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stars_stand_for_anything() {
        let mut parts = Vec::new();
        for (pattern, name, expected) in [
            ("debug.*", "debug.x.y", Some(vec!["x.y"])),
            ("*_tmp", "a_tmp", Some(vec!["a"])),
            ("a*b*c", "a1b2b3c", Some(vec!["1", "2b3"])),
            ("tmp_*_id", "tmp_7_id", Some(vec!["7"])),
            ("tmp_*_id", "tmp_id", None),
            ("a*", "b", None),
            ("a*a", "a", None),
            ("**", "x", Some(vec!["", "x"])),
        ] {
            assert_eq!(is_like(pattern, name, &mut parts).then(|| parts.clone()), expected, "{pattern} {name}");
        }
        assert!(
            reaches_below("a.b*", "a") && reaches_below("*.x", "a") && reaches_below("a*", "ab") && !reaches_below("b*", "a") && !reaches_below("a.b", "ab")
        );
    }
}
