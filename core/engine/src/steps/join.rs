//! `join lines` and `join pieces`.

use std::sync::Arc;

use regex::bytes::Regex;
use rockrose_event::field::{FieldId, Path};
use rockrose_extract::tells_its_time;
use rockrose_language::{self as language, Joining, Pattern};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;
use crate::expression::Expression;
use crate::window::{OpenStep, Windows};

#[derive(Debug)]
struct Join {
    windows: Arc<Windows>,
    how: How,
    within_ms: i64,
    by: Vec<FieldId>,
    message: FieldId,
}

#[derive(Debug)]
enum How {
    Starting(Regex),
    Continued(Regex),
    Going(Regex),
    Indented,
    Timeless,
    Pieces(Expression),
}

impl Compile for language::Join {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let compiled = |p: &Pattern| p.compile().unwrap_or_else(|e| unreachable!("the parser compiled it: {e}"));
        let how = match &self.how {
            Joining::Starting(p) => How::Starting(compiled(p)),
            Joining::Continued(p) => How::Continued(compiled(p)),
            Joining::Going(p) => How::Going(compiled(p)),
            Joining::Indented => How::Indented,
            Joining::Timeless => How::Timeless,
            Joining::Pieces(condition) => How::Pieces(c.expression(condition)),
        };
        Box::new(Join { windows: c.windows(), how, within_ms: self.within.ms(), by: c.fields(&self.by), message: c.field(&Path::name("message")) })
    }
}

impl How {
    /// Whether `line` belongs to the lines before it.
    fn belongs(&self, line: &[u8], spare: &mut Vec<u8>) -> bool {
        match self {
            How::Starting(start) => !start.is_match(line),
            How::Going(on) => on.is_match(line),
            How::Indented => line.starts_with(b" ") || line.starts_with(b"\t"),
            How::Timeless => !tells_its_time(line, spare),
            How::Continued(_) | How::Pieces(_) => true,
        }
    }

    /// Whether another line may follow `line`, which is that of `event`.
    fn goes_on(&self, line: &[u8], event: &EventDraft<'_>, c: &mut StepContext<'_>) -> bool {
        match self {
            How::Continued(on) => on.is_match(line),
            How::Pieces(more) => c.holds(more, event),
            _ => true,
        }
    }

    /// What stands between two lines.
    fn between(&self) -> &'static str {
        if matches!(self, How::Pieces(_)) { "" } else { "\n" }
    }
}

impl RunStep for Join {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        c.key(&self.by, event);
        let mut text = std::mem::take(&mut c.buffers.text);
        let effect = match event.view().text(&c.shared.fields, self.message, &mut text) {
            Some(line) => self.line(line, event, c),
            None => Effect::None,
        };
        c.buffers.text = text;
        effect
    }

    fn windows(&self) -> Option<&Arc<Windows>> {
        Some(&self.windows)
    }
}

impl Join {
    fn line(&self, line: &[u8], event: &EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let json = event.view().json;
        let due_ms = c.buffers.now_ms + self.within_ms;
        let goes_on = self.how.goes_on(line, event, c);
        let text = String::from_utf8_lossy(line);
        let mut window = OpenStep::new(&self.windows, false, c);
        let belongs = window.state().is_some() && self.how.belongs(line, &mut window.c.buffers.token);
        if belongs && window.has_room_for_line(line) {
            window.add_line(self.how.between(), &text, json.len(), due_ms);
            if !goes_on {
                window.let_go();
            }
            return Effect::Held;
        }
        window.let_go();
        if !goes_on {
            return Effect::None;
        }
        window.open_with(json, due_ms, |state| state.text = Some(text.into_owned()))
    }
}
