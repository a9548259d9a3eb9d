//! `merge repeats`.

use std::sync::Arc;

use rockrose_event::field::{FieldId, Path};
use rockrose_language as language;

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{Buffers, EventDraft, StepContext};
use crate::effect::Effect;
use crate::window::{OpenStep, Windows, cut};

#[derive(Debug)]
struct Merge {
    windows: Arc<Windows>,
    within_ms: i64,
    by: Vec<FieldId>,
    time: FieldId,
}

impl Compile for language::Merge {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        Box::new(Merge { windows: c.windows(), within_ms: self.within.ms(), by: c.fields(&self.by), time: c.field(&Path::name("time")) })
    }
}

impl Merge {
    /// Writes the event's time, as its sender wrote it, to `buffers.token`; the batch's time if it has none.
    fn time(&self, event: &EventDraft<'_>, c: &mut StepContext<'_>) {
        let Buffers { text, token, now_ms, now_text, .. } = &mut *c.buffers;
        token.clear();
        match event.view().text(&c.shared.fields, self.time, text) {
            Some(time) => token.extend_from_slice(time),
            None => {
                if now_text.is_empty() {
                    *now_text = jiff::Timestamp::from_millisecond(*now_ms).unwrap_or_default().to_string();
                }
                token.extend_from_slice(now_text.as_bytes());
            }
        }
    }
}

impl RunStep for Merge {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        c.key(&self.by, event);
        self.time(event, c);
        let token = std::mem::take(&mut c.buffers.token);
        let time = String::from_utf8_lossy(&token);
        let now_ms = c.buffers.now_ms;
        let mut window = OpenStep::new(&self.windows, false, c);
        let effect = if window.state().is_some_and(|state| state.due_ms > now_ms) {
            window.count_repeat(&time);
            Effect::Removed
        } else {
            window.let_go();
            window.open_with(event.view().json, now_ms + self.within_ms, |state| {
                cut(&time).clone_into(&mut state.first);
                cut(&time).clone_into(&mut state.last);
            })
        };
        drop(window);
        drop(time);
        c.buffers.token = token;
        effect
    }

    fn windows(&self) -> Option<&Arc<Windows>> {
        Some(&self.windows)
    }
}
