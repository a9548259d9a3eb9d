//! `limit`.

use rockrose_event::field::FieldId;
use rockrose_language as language;

use super::pace::Buckets;
use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;
use crate::expression::Expression;

#[derive(Debug)]
struct Limit {
    buckets: Buckets,
    by: Vec<FieldId>,
    unless: Option<Expression>,
}

impl Compile for language::Limit {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let buckets = Buckets::new(self.pace.count, self.pace.per.ms());
        Box::new(Limit { buckets, by: c.fields(&self.by), unless: c.condition(self.unless.as_ref()) })
    }
}

impl RunStep for Limit {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        if self.unless.as_ref().is_some_and(|unless| c.holds(unless, event)) {
            return Effect::None;
        }
        c.key(&self.by, event);
        Effect::removed(!self.buckets.pass(&c.buffers.key, c.buffers.now_ms))
    }
}
