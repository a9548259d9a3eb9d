//! `parse`.

use rockrose_event::field::{FieldId, Path};
use rockrose_event::json;
use rockrose_extract::{Extractor, Name};
use rockrose_language as language;

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{Buffers, EventDraft, StepContext};
use crate::effect::Effect;

/// The attribute by which an event says that a `parse` of one of its fields failed: that field's name.
const PARSE_FAILED: &str = "parse.failed";

#[derive(Debug)]
struct Parse {
    /// Each with the fields that it may write.
    extractors: Vec<(Extractor, Vec<FieldId>)>,
    field: FieldId,
    /// The field's name, as JSON.
    name: Vec<u8>,
    mark: FieldId,
}

impl Compile for language::Parse {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let extractors = self.formats.iter().map(|format| {
            let extractor = Extractor::new(format);
            let names = c.fields(extractor.names());
            (extractor, names)
        });
        let extractors = extractors.collect();
        let mut name = Vec::new();
        json::quote(self.field.flat().as_bytes(), &mut name);
        Box::new(Parse { extractors, field: c.field(&self.field), name, mark: c.field(&Path::name(PARSE_FAILED)) })
    }
}

impl RunStep for Parse {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let Buffers { text, found, extract, now_ms, .. } = &mut *c.buffers;
        let text = event.view().text(fields, self.field, text);
        let Some((_, names)) = text.and_then(|text| self.extractors.iter().find(|(e, _)| e.read(text, *now_ms, found, extract))) else {
            // The event stays as it was, but for the mark.
            event.write(fields, self.mark, &self.name);
            return Effect::Failed;
        };
        if found.pairs.is_empty() {
            return Effect::None;
        }
        let copy = event.edit(fields);
        let mut free = Vec::new();
        let mut whole = true;
        for (name, value) in &found.pairs {
            let token = found.value(value);
            match name {
                Name::Known(number) => whole &= copy.set(fields, names[*number as usize], token),
                Name::Free(_) => free.push((found.name(name, &[]).to_vec(), token.to_vec())),
            }
        }
        if !free.is_empty() {
            copy.merge(fields, &free);
        }
        if whole { Effect::Changed } else { Effect::Failed }
    }
}
