//! `locate`.

use std::sync::Arc;

use rockrose_event::address::address;
use rockrose_event::field::{FieldId, Path};
use rockrose_event::json;
use rockrose_language as language;
use rockrose_tables::{Table, TableSlot};

use super::{Compile, RunStep};
use crate::compile_context::{CompileContext, StepList};
use crate::context::{EventDraft, StepContext};
use crate::effect::{Effect, EffectSum};

/// What is added, in the order of [`Locate::into`].
const NAMES: [&str; 7] = ["country", "region", "city", "latitude", "longitude", "network", "network_name"];

#[derive(Debug)]
struct Locate {
    field: FieldId,
    table: Arc<TableSlot>,
    into: [FieldId; NAMES.len()],
}

impl Compile for language::Locate {
    fn compile(&self, c: &mut CompileContext<'_>, _at: &mut StepList) -> Box<dyn RunStep> {
        // A field below another: `geo` and `city` make `geo.city`.
        let below = |name: &str| Path::of([self.into.segments(), &[name.to_owned()]].concat());
        Box::new(Locate { field: c.field(&self.field), table: c.table(&self.table), into: NAMES.map(|name| c.field(&below(name))) })
    }
}

impl RunStep for Locate {
    fn run(&self, event: &mut EventDraft<'_>, c: &mut StepContext<'_>) -> Effect {
        let fields = &c.shared.fields;
        let Some(text) = event.view().text(fields, self.field, &mut c.buffers.text) else { return Effect::None };
        let Some(ip) = address(text) else { return Effect::Failed };
        let table = self.table.get();
        let Some(Table::Places(places)) = table.as_deref() else { return Effect::Failed };
        let Some(located) = places.find(ip) else { return Effect::None };
        let text = |text: Option<String>| {
            text.map(|t| {
                let mut token = Vec::new();
                json::quote(t.as_bytes(), &mut token);
                token
            })
        };
        let degrees = |n: Option<f64>| n.filter(|n| n.is_finite()).map(|n| n.to_string().into_bytes());
        let values = [
            text(located.country),
            text(located.region),
            text(located.city),
            degrees(located.latitude),
            degrees(located.longitude),
            located.network.map(|n| n.to_string().into_bytes()),
            text(located.network_name),
        ];
        let mut sum = EffectSum::default();
        for (field, token) in self.into.iter().zip(values) {
            if let Some(token) = token {
                sum.add(event.write(fields, *field, &token));
            }
        }
        sum.effect()
    }
}
