//! Steps that change which fields an event has, or how much of one: `remove`, `retain`, `rename`, `trim`.

use rockrose_event::field::{FieldId, FieldTable, WEIGHT};
use rockrose_event::json;

use super::compile::CompiledPlan;
use super::steps::{Buffers, Effect, Passage};
use super::work::{Fate, Work};

/// Fields that a step names.
#[derive(Debug)]
pub(super) enum Chosen {
    /// One, with its flat name.
    Field(FieldId, String),
    /// All whose flat name is like this.
    Like(String),
}

/// Names that are meant in one event, each with whether it has stars.
struct Meant(Vec<(String, bool)>);

impl Meant {
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

/// One renaming.
#[derive(Debug)]
pub(super) enum Renamed {
    Field(FieldId, String),
    Like(String, String),
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

impl Passage<'_> {
    /// The names that are meant in this event, and whether each has stars: of a view, the usual name that is there.
    fn named(&self, plan: &CompiledPlan, chosen: &[Chosen]) -> Meant {
        let slots = self.view().slots;
        let one = |chosen: &Chosen| match chosen {
            Chosen::Like(like) => (like.clone(), true),
            Chosen::Field(field, flat) => (plan.fields.usual_name(*field, slots).unwrap_or(flat).to_owned(), false),
        };
        Meant(chosen.iter().map(one).collect())
    }

    pub(super) fn remove(&mut self, plan: &CompiledPlan, chosen: &[Chosen]) -> Effect {
        let meant = self.named(plan, chosen);
        let fields = &plan.fields;
        let gone = self.own_if(plan, |work| {
            work.filter(&plan.fields, &|n| {
                if meant.is(fields, n) {
                    Fate::Drop
                } else if meant.is_below(fields, n) {
                    Fate::Descend
                } else {
                    Fate::Keep
                }
            })
        });
        if gone { Effect::Changed } else { Effect::None }
    }

    pub(super) fn retain(&mut self, plan: &CompiledPlan, chosen: &[Chosen]) -> Effect {
        let meant = self.named(plan, chosen);
        let fields = &plan.fields;
        let gone = self.own_if(plan, |work| {
            work.filter(&plan.fields, &|n| {
                if n == WEIGHT || meant.is(fields, n) {
                    Fate::Keep
                } else if n == "sampled" || meant.is_below(fields, n) {
                    Fate::DescendOrDrop
                } else {
                    Fate::Drop
                }
            })
        });
        if gone { Effect::Changed } else { Effect::None }
    }

    pub(super) fn rename(&mut self, plan: &CompiledPlan, pairs: &[Renamed]) -> Effect {
        let mut changed = false;
        for pair in pairs {
            match pair {
                Renamed::Field(from, to) => {
                    if plan.fields.find(*from, self.view().slots).present() {
                        self.own(plan).rename(&plan.fields, *from, to);
                        changed = true;
                    }
                }
                Renamed::Like(from, to) => changed |= self.own_if(plan, |work| rename_like(work, plan, from, to)),
            }
        }
        if changed { Effect::Changed } else { Effect::None }
    }

    pub(super) fn trim(&mut self, plan: &CompiledPlan, field: FieldId, bytes: usize, buffers: &mut Buffers) -> Effect {
        const MARK: &str = "…";
        let view = self.view();
        let span = plan.fields.find(field, view.slots);
        if !span.is_text() {
            return Effect::None;
        }
        let text = json::text(view.json, span, &mut buffers.text);
        if text.len() <= bytes {
            return Effect::None;
        }
        let mut end = bytes.saturating_sub(MARK.len());
        while end > 0 && text[end] & 0xc0 == 0x80 {
            end -= 1;
        }
        buffers.token.clear();
        buffers.token.push(b'"');
        json::escape(&text[..end], &mut buffers.token);
        if bytes >= MARK.len() {
            buffers.token.extend_from_slice(MARK.as_bytes());
        }
        buffers.token.push(b'"');
        let token = std::mem::take(&mut buffers.token);
        self.own(plan).replace(span.start as usize, span.end as usize, &token);
        buffers.token = token;
        Effect::Changed
    }
}

/// Whether the flat name `inner` lies below `outer`.
fn below(outer: &str, inner: &str) -> bool {
    inner.len() > outer.len() && inner.starts_with(outer) && inner[outer.len()..].starts_with('.')
}

/// Renames the members at the top whose name is like `from`.
fn rename_like(work: &mut Work, plan: &CompiledPlan, from: &str, to: &str) -> bool {
    work.rename_members(&plan.fields, &mut |name| {
        let mut parts = Vec::new();
        is_like(from, name, &mut parts).then(|| {
            let mut fresh = String::new();
            let mut parts = parts.iter();
            for (i, piece) in to.split('*').enumerate() {
                if i > 0 {
                    fresh.push_str(parts.next().copied().unwrap_or_default());
                }
                fresh.push_str(piece);
            }
            fresh
        })
    })
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
