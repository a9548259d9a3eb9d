//! `keep` and `drop`.

use rockrose_language as language;

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;
use crate::expression::Expression;

#[derive(Debug)]
struct Filter {
    condition: Expression,
    /// Events that meet the condition stay; else those that do not.
    keeps: bool,
}

impl Compile for language::Keep {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        Box::new(Filter { condition: c.expression(&self.0), keeps: true })
    }
}

impl Compile for language::Drop {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        Box::new(Filter { condition: c.expression(&self.0), keeps: false })
    }
}

impl RunStep for Filter {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        Effect::removed(c.holds(&self.condition, event) != self.keeps)
    }
}
