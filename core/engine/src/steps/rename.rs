//! `rename`.

use rockrose_event::field::{FieldId, FieldTable};
use rockrose_language::{self as language, Renaming};

use super::select::is_like;
use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::edit::EditBuffer;
use crate::effect::Effect;

#[derive(Debug)]
struct Rename(Vec<Renamed>);

/// One renaming.
#[derive(Debug)]
enum Renamed {
    Field(FieldId, String),
    Like(String, String),
}

impl Compile for language::Rename {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let one = |pair: &Renaming| match pair {
            Renaming::Field(from, to) => Renamed::Field(c.field(from), to.flat()),
            Renaming::Like(from, to) => Renamed::Like(from.clone(), to.clone()),
        };
        Box::new(Rename(self.0.iter().map(one).collect()))
    }
}

impl RunStep for Rename {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let mut changed = false;
        for pair in &self.0 {
            match pair {
                Renamed::Field(from, to) => {
                    if fields.find(*from, event.view().slots).present() {
                        event.edit(fields).rename(fields, *from, to);
                        changed = true;
                    }
                }
                Renamed::Like(from, to) => changed |= event.edit_if(fields, |copy| rename_like(copy, fields, from, to)),
            }
        }
        Effect::changed(changed)
    }
}

/// Renames the members at the top whose name is like `from`.
fn rename_like(copy: &mut EditBuffer, fields: &FieldTable, from: &str, to: &str) -> bool {
    copy.rename_members(fields, &mut |name| {
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
