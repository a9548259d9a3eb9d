//! Says in plain words what a sentence does, and to which fields.

use std::fmt::Write;

use rockrose_event::field::Path;

use crate::alert::parse_alert;
use crate::condition::{Condition, TESTS, parse_condition};
use crate::habits;
use crate::mistake::{Mistake, nearest};
use crate::steps::{STEP_VERBS, Step, parse_step};

/// Explains a step or a condition, in plain words.
///
/// # Errors
/// With the step's mistake if the text begins as a step does, else with the condition's.
pub fn explain(text: &str) -> Result<String, Mistake> {
    let verb = text.trim_start().split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default();
    if let Ok(alert) = parse_alert(text) {
        return Ok(alert.explained());
    }
    match (parse_step(text), parse_condition(text)) {
        (Ok(step), _) => Ok(of_step(&step)),
        (Err(_), Ok(condition)) => Ok(of_condition(&condition)),
        (Err(step), Err(condition)) => {
            // A field that is called nearly like a step has a comparison behind it.
            let behind = text.trim_start()[verb.len()..].trim_start();
            let next = behind.split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default();
            let is_test = behind.starts_with(['=', '!', '<', '>', '~', '.']) || TESTS.contains(&next) || habits::is_test(next);
            let near = || nearest(verb, STEP_VERBS.iter().copied()).is_some() || habits::is_step(verb);
            let is_step = STEP_VERBS.contains(&verb) || !is_test && near();
            Err(if is_step { step } else { condition })
        }
    }
}

fn of_step(step: &Step) -> String {
    let mut out = step.operation.explain();
    if let Some(when) = &step.when {
        let _ = write!(out, "\nOnly for events of which this holds: {}.", when.in_words());
    }
    let mut read = Vec::new();
    step.operation.reads(&mut read);
    step.when.iter().for_each(|c| c.reads(&mut read));
    let fields = named(&read);
    if !fields.is_empty() {
        let _ = write!(out, "\nIt looks at: {fields}.");
    }
    out
}

fn of_condition(condition: &Condition) -> String {
    let mut read = Vec::new();
    condition.reads(&mut read);
    let fields = named(&read);
    let looks = if fields.is_empty() { String::new() } else { format!("\nIt looks at: {fields}. Where a field is missing, its test is false.") };
    format!("True of an event if {}.{looks}", condition.in_words())
}

/// Each field once, in the order of their names.
fn named(paths: &[Path]) -> String {
    let mut names: Vec<String> = paths.iter().map(ToString::to_string).collect();
    names.sort();
    names.dedup();
    names.join(", ")
}
