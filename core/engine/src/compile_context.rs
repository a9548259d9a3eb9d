//! What a step is given while it is compiled: fields, tests, tables, windows and the rest that the steps of a plan share.

use std::collections::HashMap;
use std::sync::Arc;

use rockrose_event::field::{FieldId, FieldTable, Path};
use rockrose_language::Condition;
use rockrose_tables::TableSlot;

use crate::environment::{Environment, Names};
use crate::expression::{Expression, Tests};
use crate::label_sets::LabelSets;
use crate::window::Windows;

/// What compiling a list of steps keeps in mind from step to step.
#[derive(Clone, Copy, Debug)]
pub(crate) struct StepList {
    /// Samples in different kinds of lists are salted apart.
    kind: u64,
    samples: u64,
}

impl StepList {
    pub(crate) const ON_ARRIVAL: StepList = StepList { kind: 0, samples: 0 };
    pub(crate) const ROUTE: StepList = StepList { kind: 1, samples: 0 };
    pub(crate) const ALWAYS: StepList = StepList { kind: 2, samples: 0 };

    /// The salt of the next sample in the list.
    pub(crate) fn next_sample(&mut self) -> u64 {
        self.samples += 1;
        self.kind << 32 | (self.samples - 1)
    }
}

/// What the steps of a plan share, as far as they are compiled.
pub(crate) struct CompileContext<'a> {
    environment: &'a Environment,
    pub(crate) windows: Vec<Arc<Windows>>,
    /// By metric, so that all steps of one metric share its bound.
    label_sets: HashMap<String, Arc<LabelSets>>,
    pub(crate) fields: FieldTable,
    pub(crate) tests: Tests,
    /// The fields by which the account is told apart.
    pub(crate) account_by: &'a [Path],
}

impl<'a> CompileContext<'a> {
    pub(crate) fn new(environment: &'a Environment, fields: FieldTable, account_by: &'a [Path]) -> CompileContext<'a> {
        let meters = environment.budgets.iter().map(|(name, gauge)| (name.clone(), Arc::clone(&gauge.meter))).collect();
        CompileContext { environment, windows: Vec::new(), label_sets: HashMap::new(), fields, tests: Tests::asking(meters), account_by }
    }

    /// The field of a path.
    pub(crate) fn field(&mut self, path: &Path) -> FieldId {
        self.fields.want(path)
    }

    /// The fields of several paths.
    pub(crate) fn fields(&mut self, paths: &[Path]) -> Vec<FieldId> {
        paths.iter().map(|path| self.fields.want(path)).collect()
    }

    /// A condition, compiled.
    pub(crate) fn expression(&mut self, condition: &Condition) -> Expression {
        self.tests.compile(condition, &mut self.fields)
    }

    /// A condition that may be left out, compiled.
    pub(crate) fn condition(&mut self, condition: Option<&Condition>) -> Option<Expression> {
        condition.map(|c| self.expression(c))
    }

    /// The table of that name; an empty place for one if there is none.
    pub(crate) fn table(&self, name: &str) -> Arc<TableSlot> {
        self.environment.tables.get(name).cloned().unwrap_or_default()
    }

    /// What tells the names of addresses.
    pub(crate) fn names(&self) -> Option<Arc<dyn Names>> {
        self.environment.names.clone()
    }

    /// Windows for one more step.
    pub(crate) fn windows(&mut self) -> Arc<Windows> {
        let windows = Arc::new(Windows::new(self.windows.len() as u32));
        self.windows.push(Arc::clone(&windows));
        windows
    }

    /// The label sets that a metric has had.
    pub(crate) fn label_sets(&mut self, metric: &str) -> Arc<LabelSets> {
        Arc::clone(self.label_sets.entry(metric.to_owned()).or_default())
    }
}
