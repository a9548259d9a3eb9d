//! A trial: what a plan, or a change of the active one, would do with events. Nothing is sent, counted or remembered.

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::ToSchema;

use crate::{Decision, PersonalData};

/// A change of a plan. Parts are named `source:NAME`, `destination:NAME`, `table:NAME`, `recipe:NAME` or `route:NAME`; steps are numbered from 1, as they are written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(tag = "edit", rename_all = "snake_case", deny_unknown_fields)]
pub enum PlanEdit {
    /// Adds a step to the list of a source, route, destination or recipe.
    AddStep {
        /// Whose list.
        part: String,
        /// The sentence.
        step: String,
        /// Its number in the list; behind the last, if none is said.
        #[serde(default)]
        number: Option<usize>,
    },
    /// Writes another sentence in place of a step.
    ChangeStep {
        /// Whose list.
        part: String,
        /// The step.
        number: usize,
        /// The sentence.
        step: String,
    },
    /// Removes a step.
    RemoveStep {
        /// Whose list.
        part: String,
        /// The step.
        number: usize,
    },
    /// Moves a step within its list.
    MoveStep {
        /// Whose list.
        part: String,
        /// The step.
        number: usize,
        /// Its number afterwards.
        to: usize,
    },
    /// Adds a source, destination, table, recipe or route, behind all others.
    AddPart {
        /// It, as it stands in a plan.
        text: String,
    },
    /// Removes a part, and the comment above it.
    RemovePart {
        /// The part.
        part: String,
    },
    /// Moves a route among the others.
    MoveRoute {
        /// Its name.
        name: String,
        /// Its number afterwards, from 1.
        to: usize,
    },
    /// Writes another example in place of one.
    ChangeExample {
        /// Its number among the examples, from 1.
        number: usize,
        /// The other, as it stands in a plan.
        text: String,
    },
    /// Removes an example, and the comment above it.
    RemoveExample {
        /// Its number among the examples, from 1.
        number: usize,
    },
    /// Sets one key of a part, or takes it away.
    Set {
        /// The part.
        part: String,
        /// The key.
        key: String,
        /// Its value, as it stands in a plan; nothing takes the key away.
        value: Option<String>,
    },
}

impl From<PlanEdit> for rockrose_plan::PlanEdit {
    fn from(edit: PlanEdit) -> rockrose_plan::PlanEdit {
        use rockrose_plan::PlanEdit as To;
        match edit {
            PlanEdit::AddStep { part, step, number } => To::AddStep { part, step, number },
            PlanEdit::ChangeStep { part, number, step } => To::ChangeStep { part, number, step },
            PlanEdit::RemoveStep { part, number } => To::RemoveStep { part, number },
            PlanEdit::MoveStep { part, number, to } => To::MoveStep { part, number, to },
            PlanEdit::AddPart { text } => To::AddPart { text },
            PlanEdit::RemovePart { part } => To::RemovePart { part },
            PlanEdit::MoveRoute { name, to } => To::MoveRoute { name, to },
            PlanEdit::ChangeExample { number, text } => To::ChangeExample { number, text },
            PlanEdit::RemoveExample { number } => To::RemoveExample { number },
            PlanEdit::Set { part, key, value } => To::Set { part, key, value },
        }
    }
}

/// A plan whose examples are run.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExamplesRequest {
    /// The plan; the active one, if it is left out.
    #[serde(default)]
    pub text: Option<String>,
}

/// What comes out of a plan's examples.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExamplesAnswer {
    /// In the plan's order.
    pub examples: Vec<ExampleTried>,
}

/// An example, and whether what it expects holds.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExampleTried {
    /// Its number among the examples, from 1.
    pub number: usize,
    /// What it shows, in its author's words.
    pub says: Option<String>,
    /// The source that its event comes by.
    pub source: String,
    /// The event, as a sender sends it.
    pub event: String,
    /// What must hold of it at each destination that it names.
    pub expectations: Vec<ExpectationTried>,
}

/// What must become of an event at a destination, and whether it does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExpectationTried {
    /// The destination.
    pub destination: String,
    /// A condition that it meets as it is sent there; `removed`, or `not sent`.
    pub expected: String,
    /// Why that does not hold, with the part that failed and the value that it had; null if it holds.
    pub failure: Option<String>,
}

/// An event of which an example is made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ExampleRequest {
    /// The plan; the active one, if it is left out.
    #[serde(default)]
    pub text: Option<String>,
    /// The source that the event comes by.
    pub source: String,
    /// The event, as a sender sends it: a JSON object, or a line of text.
    pub event: String,
    /// What the example shows.
    #[serde(default)]
    pub says: Option<String>,
}

/// An example that was made. It was added to no plan.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ExampleMade {
    /// It, as it stands in a plan: what becomes of the event now at each destination is what it expects.
    pub example: String,
}

/// Changes of a plan's text.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditRequest {
    /// The plan; the active one, if it is left out.
    #[serde(default)]
    pub text: Option<String>,
    /// The changes, one after the other.
    pub edits: Vec<PlanEdit>,
}

/// A changed plan. Nothing was applied.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditedPlan {
    /// The active revision.
    pub revision: i64,
    /// The document.
    pub text: String,
    /// Its difference from what was changed, as a unified diff.
    pub difference: String,
}

/// What is to be tried.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct TrialRequest {
    /// A plan; the active one, if it is left out.
    #[serde(default)]
    pub text: Option<String>,
    /// Changes of it.
    #[serde(default)]
    pub edits: Vec<PlanEdit>,
    /// Events as a sender would send them, one behind the other without a gap; without them, what the samples hold.
    #[serde(default)]
    pub events: Option<String>,
    /// The source that the events come by; of the samples, only those of this source.
    #[serde(default)]
    pub source: Option<String>,
    /// Show what becomes of events on this route.
    #[serde(default)]
    pub route: Option<String>,
    /// Show only events of which this becomes: `not taken`, `unchanged`, `changed`, `failed`, `removed` or `held`.
    #[serde(default)]
    pub show: Option<String>,
    /// Show so many events at the most; 20 if left out, at most 500.
    #[serde(default)]
    pub most: Option<usize>,
}

/// A number of events and of bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Volume {
    /// Events.
    pub events: i64,
    /// Bytes.
    pub bytes: i64,
}

/// One step in a trial.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrialStep {
    /// Its sentence.
    pub sentence: String,
    /// What came to it.
    pub came: Volume,
    /// What went on.
    pub went: Volume,
    /// Events that it removed.
    pub removed: i64,
    /// Events that it changed.
    pub changed: i64,
    /// Events that it could not do its work on.
    pub failed: i64,
    /// Events that it held at the end.
    pub held: i64,
    /// How long it worked on one event on average, in nanoseconds.
    pub nanos: Option<u64>,
    /// Personal data still in what goes on behind it.
    #[serde(default)]
    pub personal: Vec<PersonalField>,
}

/// A source, route or destination in a trial. Events count for as many as they stand for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrialPart {
    /// `source`, `route` or `destination`.
    pub part: String,
    /// Its name.
    pub name: String,
    /// What came to it.
    pub came: Volume,
    /// What went on.
    pub went: Volume,
    /// What went on by the active plan; nothing, if that does not have it.
    pub went_now: Option<Volume>,
    /// Its steps, recipes written out.
    pub steps: Vec<TrialStep>,
}

/// Personal data in a field.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonalField {
    /// The field.
    pub field: String,
    /// What the detectors found in it.
    pub found: Vec<PersonalData>,
}

/// What a destination would get.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrialDestination {
    /// Its name.
    pub name: String,
    /// What it gets in a month by the active plan.
    pub now: Volume,
    /// What it would get in a month.
    pub then: Volume,
    /// What that costs, now and then; nothing, if the plan has no price for it.
    pub money: Option<TrialMoney>,
    /// Personal data in what would be sent.
    pub personal: Vec<PersonalField>,
    /// Of these fields, those in which the active plan sends none.
    pub new_personal: Vec<String>,
}

/// What a destination costs in a month.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TrialMoney {
    /// By the active plan.
    pub now: f64,
    /// By the plan that was tried.
    pub then: f64,
    /// ISO 4217 code.
    pub currency: String,
}

/// A field that differs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FieldDifference {
    /// Its path.
    pub field: String,
    /// Its value before, in JSON; nothing, if it was not there.
    pub before: Option<String>,
    /// Its value after; nothing, if it is gone.
    pub after: Option<String>,
}

/// What a list of steps did with an event.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedPassage {
    /// `unchanged`, `changed`, `failed`, `removed` or `held`.
    pub outcome: String,
    /// The step that removed or holds it, or that could not do its work.
    pub step: Option<String>,
    /// What its steps changed.
    pub differences: Vec<FieldDifference>,
    /// The event afterwards, if it went on.
    #[schema(value_type = Option<Object>)]
    pub after: Option<Box<RawValue>>,
}

/// What became of an event on a route.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedRoute {
    /// The route.
    pub name: String,
    /// Whether it takes the event.
    pub taken: bool,
    /// The parts of its condition that decide, if it does not.
    pub parts: Vec<Decision>,
    /// What its steps did, if it does.
    pub passage: Option<TriedPassage>,
    /// What the steps of its destinations did, as far as it came there.
    pub destinations: Vec<TriedDestination>,
}

/// An event at a destination.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedDestination {
    /// The destination.
    pub name: String,
    /// What its steps did; the event afterwards is as it would be sent.
    pub passage: TriedPassage,
}

/// What became of one event.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedEvent {
    /// The source that it came by.
    pub source: String,
    /// When it came, in milliseconds since 1970.
    pub at_ms: i64,
    /// For how many events it stands.
    pub stands_for: u64,
    /// The event as it came: of a sample, as it left its source's own steps.
    pub event: String,
    /// What its source's steps did: of a sample, those that the active plan does not have.
    pub arrival: TriedPassage,
    /// At the route that was asked for; else at each that takes it.
    pub routes: Vec<TriedRoute>,
}

/// What a plan would do. Nothing was sent, counted or remembered.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrialAnswer {
    /// The active revision, which it is compared with.
    pub revision: i64,
    /// How many events were tried.
    pub events: u64,
    /// For how many they stand.
    pub stands_for: u64,
    /// Of them, those that cannot be read.
    pub unreadable: u64,
    /// Of them, those that no route takes, but routes of the remainder.
    pub remainder: Volume,
    /// The events without a gap on which steps were tried that look at the events around one: how long they took to come, in milliseconds. Nothing, if there are none.
    pub stretch_ms: Option<i64>,
    /// The stretch of real time, in milliseconds, from which a month's volume is estimated; nothing, if too little has flowed, or not all events may be seen.
    pub estimated_from_ms: Option<i64>,
    /// Sources, routes and destinations, in the plan's order.
    pub parts: Vec<TrialPart>,
    /// What each destination would get in a month.
    pub destinations: Vec<TrialDestination>,
    /// Some events, and what became of each.
    pub shown: Vec<TriedEvent>,
    /// What these events cannot tell, in sentences.
    pub cannot_tell: Vec<String>,
    /// The grants under which only some events, or some of what they hold, were tried; nothing, if all were.
    pub bounds: Option<Vec<String>>,
}
