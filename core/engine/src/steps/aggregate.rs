//! `count` and `measure`.

use std::collections::BTreeMap;
use std::sync::Arc;

use rockrose_event::field::{FieldId, Path, WEIGHT};
use rockrose_language as language;
use rockrose_ledger::{Added, Series, bucket};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::Effect;
use crate::label_sets::LabelSets;
use crate::view::number;

/// Longest label value, in bytes; a longer one is cut.
const MAX_LABEL: usize = 200;

#[derive(Debug)]
struct Aggregate {
    metric: String,
    /// Of `measure`: the field that holds the number.
    field: Option<FieldId>,
    /// Shared by all steps of the metric.
    sets: Arc<LabelSets>,
    labels: Vec<(String, FieldId)>,
    /// The field that carries the event's weight.
    mark: FieldId,
}

fn compiled(metric: &str, field: Option<&Path>, by: &[Path], c: &mut CompileContext<'_>) -> Box<dyn RunStep> {
    let labels = by.iter().map(|path| (path.flat(), c.field(path))).collect();
    let field = field.map(|path| c.field(path));
    Box::new(Aggregate { metric: metric.to_owned(), field, sets: c.label_sets(metric), labels, mark: c.field(&Path::name(WEIGHT)) })
}

impl Compile for language::Count {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        compiled(&self.name, None, &self.by, c)
    }
}

impl Compile for language::Measure {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        compiled(&self.name, Some(&self.field), &self.by, c)
    }
}

impl RunStep for Aggregate {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let weight = c.weight(self.mark, event);
        let view = event.view();
        let (fields, text) = (&c.shared.fields, &mut c.buffers.text);
        let value = match self.field {
            None => None,
            Some(field) => match view.text(fields, field, text).map(number) {
                None => return Effect::None,
                Some(None) => return Effect::Failed,
                Some(value) => value,
            },
        };
        let values = self.labels.iter().map(|(_, field)| view.text(fields, *field, text).map(label).unwrap_or_default());
        let values = self.sets.admit(values.collect());
        let labels = self.labels.iter().map(|(name, _)| name.clone()).zip(values).collect();
        let added = c.buffers.metrics.entry(Series { metric: self.metric.clone(), labels }).or_default();
        added.add(&Added { count: weight, values: value.map(|v| (v * weight, BTreeMap::from([(bucket(v), weight)]))) });
        Effect::None
    }
}

/// A label's value, cut to its bound.
fn label(text: &[u8]) -> String {
    let mut end = text.len().min(MAX_LABEL);
    while end > 0 && end < text.len() && text[end] & 0xc0 == 0x80 {
        end -= 1;
    }
    String::from_utf8_lossy(&text[..end]).into_owned()
}
