//! `resolve`.

use std::sync::Arc;

use rockrose_event::address::address;
use rockrose_event::field::FieldId;
use rockrose_event::json;
use rockrose_language as language;

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;
use crate::environment::Names;

struct Resolve {
    field: FieldId,
    into: FieldId,
    names: Option<Arc<dyn Names>>,
}

impl std::fmt::Debug for Resolve {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Resolve({:?} into {:?})", self.field, self.into)
    }
}

impl Compile for language::Resolve {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        Box::new(Resolve { field: c.field(&self.field), into: c.field(&self.into), names: c.names() })
    }
}

impl RunStep for Resolve {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let Some(text) = event.view().text(fields, self.field, &mut c.buffers.text) else { return Effect::None };
        let Some(ip) = address(text) else { return Effect::Failed };
        match self.names.as_ref().and_then(|names| names.name(ip)) {
            Some(Some(name)) => {
                c.buffers.token.clear();
                json::quote(name.as_bytes(), &mut c.buffers.token);
                event.write(fields, self.into, &c.buffers.token)
            }
            Some(None) => Effect::None,
            // Not known (yet): the batch does not wait.
            None => Effect::Failed,
        }
    }
}
