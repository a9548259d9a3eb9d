//! `trim`.

use rockrose_event::field::FieldId;
use rockrose_event::json;
use rockrose_language as language;

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;

/// What a text that was cut ends in.
const MARK: &str = "…";

#[derive(Debug)]
struct Trim {
    field: FieldId,
    /// The most that stays, the mark included, in bytes.
    bytes: usize,
}

impl Compile for language::Trim {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        Box::new(Trim { field: c.field(&self.field), bytes: usize::try_from(self.size.bytes()).unwrap_or(usize::MAX) })
    }
}

impl RunStep for Trim {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let view = event.view();
        let span = c.shared.fields.find(self.field, view.slots);
        if !span.is_text() {
            return Effect::None;
        }
        let text = json::text(view.json, span, &mut c.buffers.text);
        if text.len() <= self.bytes {
            return Effect::None;
        }
        let mut end = self.bytes.saturating_sub(MARK.len());
        while end > 0 && text[end] & 0xc0 == 0x80 {
            end -= 1;
        }
        let token = &mut c.buffers.token;
        token.clear();
        token.push(b'"');
        json::escape(&text[..end], token);
        if self.bytes >= MARK.len() {
            token.extend_from_slice(MARK.as_bytes());
        }
        token.push(b'"');
        event.edit(&c.shared.fields).replace(span.start as usize, span.end as usize, token);
        Effect::Changed
    }
}
