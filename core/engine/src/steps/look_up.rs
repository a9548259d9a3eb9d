//! `look up`.

use std::sync::Arc;

use rockrose_event::field::FieldId;
use rockrose_language as language;
use rockrose_tables::{Table, TableSlot};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::{Effect, EffectSum};

#[derive(Debug)]
struct LookUp {
    field: FieldId,
    table: Arc<TableSlot>,
    /// The fields to write, each with its column; empty: all columns, by their names.
    outputs: Vec<(FieldId, String)>,
}

impl Compile for language::LookUp {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        let outputs = self.outputs.iter().map(|(path, column)| (c.field(path), column.clone().unwrap_or_else(|| path.flat()))).collect();
        Box::new(LookUp { field: c.field(&self.field), table: c.table(&self.table), outputs })
    }
}

impl RunStep for LookUp {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let Some(text) = event.view().text(fields, self.field, &mut c.buffers.text) else { return Effect::None };
        let table = self.table.get();
        let Some(Table::Rows(rows)) = table.as_deref() else { return Effect::Failed };
        // A value that the table does not have is no failure: it says nothing of it.
        let Some(row) = rows.find(text) else { return Effect::None };
        if self.outputs.is_empty() {
            let pairs: Vec<_> = rows.columns.iter().zip(row).map(|(name, value)| (name.clone().into_bytes(), value.clone())).collect();
            event.edit(fields).merge(fields, &pairs);
            return Effect::Changed;
        }
        let mut sum = EffectSum::default();
        for (field, column) in &self.outputs {
            // A table of one column needs no name.
            let place = rows.columns.iter().position(|c| c == column).or((rows.columns.len() == 1).then_some(0));
            sum.add(match place {
                Some(place) => event.write(fields, *field, &row[place]),
                None => Effect::Failed,
            });
        }
        sum.effect()
    }
}
