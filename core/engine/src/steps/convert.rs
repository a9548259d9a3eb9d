//! `convert`.

use rockrose_event::field::FieldId;
use rockrose_event::json::{self, Kind, Span};
use rockrose_event::scan;
use rockrose_event::time::{self, TimeForm};
use rockrose_language::{self as language, Conversion};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::{Effect, EffectSum};
use crate::value::has_text;
use crate::view::number;

/// Past this, whole numbers have lost digits.
const LARGEST_INTEGER: f64 = 9_007_199_254_740_992.0;

#[derive(Debug)]
struct Convert(Vec<(FieldId, Conversion, time::Reader)>);

impl Compile for language::Convert {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let readers = self.0.iter().map(|(path, to)| {
            let form = if let Conversion::Time(form) = to { form.clone() } else { TimeForm::default() };
            (c.field(path), to.clone(), time::Reader::new(&form))
        });
        Box::new(Convert(readers.collect()))
    }
}

impl RunStep for Convert {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let mut sum = EffectSum::default();
        for (field, to, reader) in &self.0 {
            let view = event.view();
            let span = fields.find(*field, view.slots);
            if !has_text(span.kind) {
                continue;
            }
            let text = json::text(view.json, span, &mut c.buffers.text);
            c.buffers.token.clear();
            sum.add(match converted(text, span.kind, to, reader, c.buffers.now_ms, &mut c.buffers.token) {
                Some(()) => event.write(fields, *field, &c.buffers.token),
                None => Effect::Failed,
            });
        }
        sum.effect()
    }
}

/// Appends a value in another type, as JSON; nothing if it cannot be that.
fn converted(text: &[u8], kind: Kind, to: &Conversion, reader: &time::Reader, now_ms: i64, out: &mut Vec<u8>) -> Option<()> {
    let trimmed = text.trim_ascii();
    let is_number = || scan::value_at(trimmed, 0).is_ok_and(|s: Span| s.kind == Kind::Number && s.start == 0 && s.end as usize == trimmed.len());
    match to {
        Conversion::Text => json::quote(text, out),
        Conversion::Number if is_number() => out.extend_from_slice(trimmed),
        Conversion::Integer if is_number() && !trimmed.iter().any(|b| matches!(b, b'.' | b'e' | b'E')) => out.extend_from_slice(trimmed),
        Conversion::Number | Conversion::Integer => {
            let n = match kind {
                Kind::True => 1.0,
                Kind::False => 0.0,
                _ => number(trimmed)?,
            };
            let n = if *to == Conversion::Integer { n.trunc() } else { n };
            if *to == Conversion::Integer && n.abs() > LARGEST_INTEGER {
                return None;
            }
            out.extend_from_slice((n + 0.0).to_string().as_bytes());
        }
        Conversion::Boolean => {
            let is = |words: &[&str]| words.iter().any(|w| trimmed.eq_ignore_ascii_case(w.as_bytes()));
            let value = if is(&["true", "yes", "on", "1", "t", "y"]) {
                "true"
            } else if is(&["false", "no", "off", "0", "f", "n"]) {
                "false"
            } else {
                return None;
            };
            out.extend_from_slice(value.as_bytes());
        }
        Conversion::Time(_) => {
            let at = reader.read(trimmed, now_ms)?;
            out.push(b'"');
            time::write(at, out);
            out.push(b'"');
        }
    }
    Some(())
}
