//! `set` and `tag`.

use rockrose_event::field::{FieldId, Path};
use rockrose_language::{self as language, Value};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::{Effect, EffectSum};
use crate::value::CompiledValue;

#[derive(Debug)]
struct Assign(Vec<(FieldId, CompiledValue)>);

fn compiled(pairs: &[(Path, Value)], c: &mut CompileContext<'_>) -> Box<dyn RunStep> {
    Box::new(Assign(pairs.iter().map(|(path, value)| (c.field(path), CompiledValue::new(value, &mut c.fields))).collect()))
}

impl Compile for language::Tag {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        compiled(&self.0, c)
    }
}

impl Compile for language::Set {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        compiled(&self.0, c)
    }
}

impl RunStep for Assign {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let mut sum = EffectSum::default();
        for (field, value) in &self.0 {
            if let CompiledValue::Token(token) = value {
                sum.add(event.write(fields, *field, token));
                continue;
            }
            let token = &mut c.buffers.token;
            token.clear();
            if value.write(event.view(), fields, &mut c.buffers.text, token).is_some() {
                sum.add(event.write(fields, *field, token));
            }
        }
        sum.effect()
    }
}
