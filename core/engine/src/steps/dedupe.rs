//! `dedupe`.

use std::sync::Arc;

use rockrose_event::field::FieldId;
use rockrose_language::{self as language, Preference};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;
use crate::expression::Expression;
use crate::window::{OpenStep, Windows};

#[derive(Debug)]
struct Dedupe {
    windows: Arc<Windows>,
    within_ms: i64,
    by: Vec<FieldId>,
    prefer: Prefer,
}

#[derive(Debug)]
enum Prefer {
    First,
    Source(String),
    Where(Expression),
}

impl Compile for language::Dedupe {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let prefer = match &self.prefer {
            None => Prefer::First,
            Some(Preference::Source(source)) => Prefer::Source(source.clone()),
            Some(Preference::Where(condition)) => Prefer::Where(c.expression(condition)),
        };
        Box::new(Dedupe { windows: c.windows(), within_ms: self.within.ms(), by: c.fields(&self.by), prefer })
    }
}

impl RunStep for Dedupe {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        if self.by.is_empty() {
            c.buffers.key.clear();
            c.buffers.key.extend_from_slice(event.view().json);
        } else if !c.key(&self.by, event) {
            // Nothing by which it could be a copy.
            return Effect::None;
        }
        let is_preferred = match &self.prefer {
            Prefer::First => true,
            Prefer::Source(source) => source == c.place.source,
            Prefer::Where(condition) => c.holds(condition, event),
        };
        let now_ms = c.buffers.now_ms;
        let mut window = OpenStep::new(&self.windows, true, c);
        match window.state().filter(|known| known.due_ms > now_ms).map(|known| known.amount()) {
            // One that waited long enough goes on; a mark is gone.
            None => window.let_go(),
            // The preferred copy takes the place of the one that waits for it.
            Some(waits) if waits.events > 0 && is_preferred => {
                if let Some(gone) = window.close() {
                    window.c.count_removed(gone.json.as_bytes(), waits);
                }
            }
            Some(_) => return Effect::Removed,
        }
        let due_ms = now_ms + self.within_ms;
        if is_preferred { window.open_mark(due_ms) } else { window.open_with(event.view().json, due_ms, |_| {}) }
    }

    fn windows(&self) -> Option<&Arc<Windows>> {
        Some(&self.windows)
    }
}
