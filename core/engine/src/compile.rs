//! From a checked plan to what the engine runs.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

use rockrose_event::field::{FieldId, FieldTable, Path, WEIGHT};
use rockrose_event::time::TimeForm;
use rockrose_event::{json, scan, time};
use rockrose_extract::Extractor;
use rockrose_language::{self as lang, Conversion, Literal, Rate, Renaming, Selector, Step, Value, What};
use rockrose_plan::{CheckedPlan, Gate, SourceKind};
use rockrose_redact::HashKey;
use rockrose_tables::TableSlot;

use super::index::Index;
use super::metric::Sets;
use super::pace::{Buckets, Targets};
use super::passed;
use super::redaction::Target;
use super::shape::{Chosen, Renamed};
use super::steps::{Do, Joined, Operation};
use super::test::{Expression, Tests};
use super::value::Written;
use super::window::Windows;
use crate::sample::Sampler;

/// Names of addresses, as far as they are known. Asking must not wait.
pub trait Names: Send + Sync {
    /// The name of `address`: known, known to have none, or not known (yet).
    fn name(&self, address: IpAddr) -> Option<Option<String>>;
}

/// What a plan asks beyond the events themselves.
#[derive(Clone, Default)]
pub struct Environment {
    /// Tables, by name. One that is missing finds nothing.
    pub tables: HashMap<String, Arc<TableSlot>>,
    /// What `resolve` asks.
    pub names: Option<Arc<dyn Names>>,
    /// The name of this node among those it forwards to: letters and digits. Empty, it marks nothing.
    pub node: String,
}

/// A plan ready to run. It is immutable but for what steps remember, and shared between threads.
pub struct CompiledPlan {
    pub(super) fields: FieldTable,
    pub(super) tests: Tests,
    pub(super) index: Index,
    pub(super) sources: Vec<Source>,
    pub(super) routes: Vec<Route>,
    pub(super) destinations: Vec<Destination>,
    pub(super) key: HashKey,
    pub(super) names: Option<Arc<dyn Names>>,
    /// What steps hold back, by their number.
    pub(super) windows: Vec<Windows>,
    /// Route and place in its `to`, for every branch.
    pub(super) branches: Vec<(usize, usize)>,
    /// Some destination keeps events as they were received.
    pub(super) keeps_received: bool,
}

#[derive(Debug)]
pub(super) struct Source {
    pub(super) name: String,
    pub(super) steps: Vec<Do>,
    /// The rules of the routes it feeds, those for the remainder left out.
    pub(super) rules: Box<[u64]>,
    /// Their routes, for whoever asks what can be reached.
    pub(super) routes: Vec<usize>,
    /// The routes it feeds that take the remainder.
    pub(super) remainder_routes: Vec<usize>,
}

#[derive(Debug)]
pub(super) struct Route {
    pub(super) name: String,
    pub(super) steps: Vec<Do>,
    /// Destinations, by number.
    pub(super) to: Vec<usize>,
    /// Its first branch.
    pub(super) branch: usize,
    /// No destination of it has steps of its own.
    pub(super) direct: bool,
}

#[derive(Debug)]
pub(super) struct Destination {
    pub(super) name: String,
    pub(super) steps: Vec<Do>,
    /// Events go there as they were received.
    pub(super) as_received: bool,
}

/// The attribute by which an event says that a `parse` of one of its fields failed: that field's name.
pub(super) const PARSE_FAILED: &str = "parse.failed";

/// The condition of a route that has none.
const EVERY: lang::Condition = lang::Condition::Constant(true);

/// Where a list of steps stands; samples in different places are salted apart.
#[derive(Clone, Copy)]
enum StepList {
    Arrival = 0,
    Route = 1,
    Always = 2,
}

impl std::fmt::Debug for CompiledPlan {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "CompiledPlan({} routes)", self.routes.len())
    }
}

struct Compiler<'a> {
    plan: &'a CheckedPlan,
    environment: &'a Environment,
    windows: usize,
    /// By metric, so that all steps of one metric share its bound.
    sets: HashMap<String, Arc<Sets>>,
    fields: FieldTable,
    tests: Tests,
}

impl CompiledPlan {
    /// Compiles `plan`; `key` hashes what is redacted `as hash`.
    #[must_use]
    pub fn new(plan: &CheckedPlan, key: HashKey) -> CompiledPlan {
        CompiledPlan::within(plan, key, &Environment::default())
    }

    /// The same, with what its steps ask beyond the events.
    #[must_use]
    pub fn within(plan: &CheckedPlan, key: HashKey, environment: &Environment) -> CompiledPlan {
        // Only where events can have one is it looked at.
        let shared = plan.sources.iter().any(|s| s.kind == SourceKind::Otlp);
        let fields = if shared { FieldTable::with_resource() } else { FieldTable::default() };
        let mut c = Compiler { plan, environment, windows: 0, sets: HashMap::new(), fields, tests: Tests::default() };
        let numbers: HashMap<&str, usize> = plan.destinations.iter().enumerate().map(|(i, d)| (d.name.as_str(), i)).collect();
        // In the order of an event's way, so that windows are numbered in it.
        let node = environment.node.as_str();
        let forwards = !node.is_empty() && plan.destinations.iter().any(|d| d.kind.forward().is_some());
        let stop = if forwards { passed::stop(node) } else { Vec::new() };
        let mut arrivals: Vec<_> = plan.sources.iter().map(|source| c.steps(&[&source.on_arrival[..], &stop].concat(), StepList::Arrival)).collect();
        let mut branches = Vec::new();
        let mut routes = Vec::new();
        for (number, route) in plan.routes.iter().enumerate() {
            let steps = c.steps(&route.steps, StepList::Route);
            let to: Vec<usize> = route.to.iter().filter_map(|name| numbers.get(name.as_str()).copied()).collect();
            let branch = branches.len();
            branches.extend((0..to.len()).map(|i| (number, i)));
            let plain = |d: &rockrose_plan::Destination| d.always.is_empty() && d.kind.forward().is_none() && !d.kind.as_received();
            let direct = to.iter().all(|d: &usize| plain(&plan.destinations[*d]));
            routes.push(Route { name: route.name.clone(), steps, to, branch, direct });
        }
        let conditions = plan.routes.iter().enumerate().filter_map(|(number, route)| match &route.when {
            Gate::Condition(condition) => Some((number, condition)),
            Gate::Every => Some((number, &EVERY)),
            Gate::Remainder => None,
        });
        let index = Index::build(conditions, &mut c.tests, &mut c.fields);
        let mut sources = Vec::new();
        for (source, steps) in plan.sources.iter().zip(arrivals.drain(..)) {
            let feeds = |remainder: bool| {
                let fed = plan.routes.iter().enumerate().filter(move |(_, r)| r.takes_from(&source.name) && (r.when == Gate::Remainder) == remainder);
                fed.map(|(i, _)| i).collect::<Vec<_>>()
            };
            let routes = feeds(false);
            let mut fed = vec![false; plan.routes.len()];
            routes.iter().for_each(|r| fed[*r] = true);
            sources.push(Source { name: source.name.clone(), steps, rules: index.mask(|r| fed[r]), routes, remainder_routes: feeds(true) });
        }
        let always = |d: &rockrose_plan::Destination| match d.kind.forward() {
            Some(there) if forwards => {
                let there = there.map(passed::stop).unwrap_or_default();
                [&d.always[..], &there, &passed::mark(node)].concat()
            }
            _ => d.always.clone(),
        };
        let destinations = plan
            .destinations
            .iter()
            .map(|d| Destination { name: d.name.clone(), steps: c.steps(&always(d), StepList::Always), as_received: d.kind.as_received() })
            .collect();
        CompiledPlan {
            fields: c.fields,
            tests: c.tests,
            index,
            sources,
            routes,
            destinations,
            key,
            names: environment.names.clone(),
            windows: (0..c.windows).map(|_| Windows::default()).collect(),
            branches,
            keeps_received: plan.destinations.iter().any(|d| d.kind.as_received()),
        }
    }

    /// The number of the source called `name`.
    #[must_use]
    pub fn source(&self, name: &str) -> Option<usize> {
        self.sources.iter().position(|s| s.name == name)
    }

    /// The number of the route called `name`.
    #[must_use]
    pub fn route(&self, name: &str) -> Option<usize> {
        self.routes.iter().position(|r| r.name == name)
    }

    /// The number of the destination called `name`.
    #[must_use]
    pub fn destination(&self, name: &str) -> Option<usize> {
        self.destinations.iter().position(|d| d.name == name)
    }

    /// The names of the destinations that events of `source` can reach.
    pub fn reached_from(&self, source: usize) -> impl Iterator<Item = &str> {
        let source = &self.sources[source];
        let routes = source.routes.iter().chain(&source.remainder_routes);
        routes.flat_map(|r| &self.routes[*r].to).map(|d| self.destinations[*d].name.as_str())
    }

    /// Whether one event, given as JSON, meets `condition`. For looking at single events; a plan's own conditions are compiled once.
    #[must_use]
    pub fn matcher(condition: &lang::Condition) -> Matcher {
        let (mut fields, mut tests) = (FieldTable::with_resource(), Tests::default());
        let expression = tests.compile(condition, &mut fields);
        Matcher { fields, tests, expression }
    }
}

/// One condition, compiled on its own.
#[derive(Debug)]
pub struct Matcher {
    fields: FieldTable,
    tests: Tests,
    expression: Expression,
}

impl Matcher {
    /// Whether the event `json` (one object) meets the condition. What is not an event meets none.
    #[must_use]
    pub fn meets(&self, json: &[u8]) -> bool {
        let mut slots = Vec::new();
        if std::str::from_utf8(json).is_err() || scan::scan(json, &self.fields, &mut slots).is_err() {
            return false;
        }
        self.tests.holds(&self.expression, super::test::View { json, slots: &slots }, &self.fields, &mut Vec::new(), &mut None)
    }
}

impl Compiler<'_> {
    fn steps(&mut self, steps: &[Step], stand: StepList) -> Vec<Do> {
        let mut out = Vec::new();
        let mut samples = 0;
        for step in self.plan.expanded(steps) {
            out.push(self.step(&step, stand, &mut samples));
        }
        out
    }

    fn wanted(&mut self, paths: &[Path]) -> Vec<FieldId> {
        paths.iter().map(|p| self.fields.want(p)).collect()
    }

    fn condition(&mut self, condition: Option<&lang::Condition>) -> Option<Expression> {
        condition.map(|c| self.tests.compile(c, &mut self.fields))
    }

    fn value(&mut self, value: &Value) -> Written {
        match value {
            Value::Literal(literal) => Written::Token(token(literal)),
            Value::Field(from) => Written::Copy(self.fields.want(from)),
            Value::Computed(left, sign, right) => Written::Computed(Box::new(self.value(left)), *sign, Box::new(self.value(right))),
            Value::Call(function, values) => Written::Call(*function, values.iter().map(|v| self.value(v)).collect()),
        }
    }

    fn table(&self, name: &str) -> Arc<TableSlot> {
        self.environment.tables.get(name).cloned().unwrap_or_default()
    }

    fn window(&mut self) -> usize {
        self.windows += 1;
        self.windows - 1
    }

    fn sets(&mut self, metric: &str) -> Arc<Sets> {
        Arc::clone(self.sets.entry(metric.to_owned()).or_default())
    }

    fn labels(&mut self, by: &[Path]) -> Vec<(String, FieldId)> {
        by.iter().map(|path| (path.flat(), self.fields.want(path))).collect()
    }

    /// A field below another: `geo` and `city` make `geo.city`.
    fn below(&mut self, outer: &Path, name: &str) -> FieldId {
        let mut segments = outer.segments().to_vec();
        segments.push(name.to_owned());
        self.fields.want(&Path::of(segments))
    }

    fn step(&mut self, step: &Step, stand: StepList, samples: &mut u64) -> Do {
        let when = self.condition(step.when.as_ref());
        let operation = match &step.operation {
            lang::Operation::Keep(c) => Operation::Keep(self.tests.compile(c, &mut self.fields)),
            lang::Operation::Drop(c) => Operation::Drop(self.tests.compile(c, &mut self.fields)),
            lang::Operation::Sample { rate, by, unless } => {
                let salt = (stand as u64) << 32 | *samples;
                *samples += 1;
                // The first sample on a route hashes as the first on any other: their choices nest.
                let targets = if let Rate::Target(pace) = rate { Some(Targets::new(pace.count, pace.per.ms())) } else { None };
                Operation::Sample {
                    sampler: Sampler::new(rate.weight().unwrap_or(1.0), salt),
                    weight: rate.weight().unwrap_or(1.0),
                    targets,
                    by: self.wanted(by),
                    unless: self.condition(unless.as_ref()),
                    mark: self.fields.want(&Path::name(WEIGHT)),
                }
            }
            lang::Operation::Limit { pace, by, unless } => {
                Operation::Limit { buckets: Buckets::new(pace.count, pace.per.ms()), by: self.wanted(by), unless: self.condition(unless.as_ref()) }
            }
            lang::Operation::Redact { what, fields } => {
                let targets = what.iter().map(|r| {
                    let target = match &r.what {
                        What::Detector(d) => Some(Target::Detector(*d)),
                        What::Pattern(p) => p.compile().ok().map(Target::Pattern),
                        What::Field(path) => Some(Target::Field(self.fields.want(path))),
                    };
                    target.map(|t| (t, r.mask.clone()))
                });
                let targets = targets.collect::<Vec<_>>().into_iter().flatten().collect();
                Operation::Redact { targets, within: self.wanted(fields) }
            }
            lang::Operation::Tag(pairs) | lang::Operation::Set(pairs) => {
                Operation::Set(pairs.iter().map(|(path, value)| (self.fields.want(path), self.value(value))).collect())
            }
            lang::Operation::Convert(pairs) => {
                let readers = pairs.iter().map(|(path, to)| {
                    let form = if let Conversion::Time(form) = to { form.clone() } else { TimeForm::default() };
                    (self.fields.want(path), to.clone(), time::Reader::new(&form))
                });
                Operation::Convert(readers.collect())
            }
            lang::Operation::Remove(selectors) => Operation::Remove(self.chosen(selectors)),
            lang::Operation::Retain(selectors) => Operation::Retain(self.chosen(selectors)),
            lang::Operation::Rename(pairs) => Operation::Rename(
                pairs
                    .iter()
                    .map(|pair| match pair {
                        Renaming::Field(from, to) => Renamed::Field(self.fields.want(from), to.flat()),
                        Renaming::Like(from, to) => Renamed::Like(from.clone(), to.clone()),
                    })
                    .collect(),
            ),
            lang::Operation::Parse { field, formats } => {
                let extractors = formats.iter().map(|format| {
                    let extractor = Extractor::new(format);
                    let names = self.wanted(extractor.names());
                    (extractor, names)
                });
                Operation::Parse {
                    extractors: extractors.collect(),
                    field: self.fields.want(field),
                    name: token(&Literal::Text(field.flat())),
                    mark: self.fields.want(&Path::name(PARSE_FAILED)),
                }
            }
            lang::Operation::LookUp { field, table, outputs } => Operation::LookUp {
                field: self.fields.want(field),
                table: self.table(table),
                outputs: outputs.iter().map(|(path, column)| (self.fields.want(path), column.clone().unwrap_or_else(|| path.flat()))).collect(),
            },
            lang::Operation::Locate { field, table, into } => {
                let names = ["country", "region", "city", "latitude", "longitude", "network", "network_name"];
                Operation::Locate { field: self.fields.want(field), table: self.table(table), into: names.map(|name| self.below(into, name)) }
            }
            lang::Operation::Resolve { field, into } => Operation::Resolve { field: self.fields.want(field), into: self.fields.want(into) },
            lang::Operation::Dedupe { by, within, prefer } => {
                Operation::Dedupe { window: self.window(), within_ms: within.ms(), by: self.wanted(by), prefer: prefer.clone() }
            }
            lang::Operation::Merge { within, by } => {
                Operation::Merge { window: self.window(), within_ms: within.ms(), by: self.wanted(by), time: self.fields.want(&Path::name("time")) }
            }
            lang::Operation::Join { how, by, within } => {
                let compiled = |p: &lang::Pattern| p.compile().unwrap_or_else(|e| unreachable!("the parser compiled it: {e}"));
                let how = match how {
                    lang::Joining::Starting(p) => Joined::Starting(compiled(p)),
                    lang::Joining::Continued(p) => Joined::Continued(compiled(p)),
                    lang::Joining::Going(p) => Joined::Going(compiled(p)),
                    lang::Joining::Indented => Joined::Indented,
                    lang::Joining::Timeless => Joined::Timeless,
                };
                Operation::Join { window: self.window(), how, within_ms: within.ms(), by: self.wanted(by), message: self.fields.want(&Path::name("message")) }
            }
            lang::Operation::Trim { field, size } => {
                Operation::Trim { field: self.fields.want(field), bytes: usize::try_from(size.bytes()).unwrap_or(usize::MAX) }
            }
            lang::Operation::Count { name, by } => Operation::Count {
                name: name.clone(),
                field: None,
                sets: self.sets(name),
                labels: self.labels(by),
                mark: self.fields.want(&Path::name(WEIGHT)),
            },
            lang::Operation::Measure { field, name, by } => Operation::Count {
                name: name.clone(),
                field: Some(self.fields.want(field)),
                sets: self.sets(name),
                labels: self.labels(by),
                mark: self.fields.want(&Path::name(WEIGHT)),
            },
            lang::Operation::Use { recipe, .. } => unreachable!("recipe {recipe} was expanded by the check"),
        };
        Do { operation, when, sentence: step.to_string() }
    }

    /// Each with the field it names, so that a view's usual names are found.
    fn chosen(&mut self, selectors: &[Selector]) -> Vec<Chosen> {
        let one = |selector: &Selector| match selector {
            Selector::Field(path) => Chosen::Field(self.fields.want(path), path.flat()),
            Selector::Like(like) => Chosen::Like(like.clone()),
        };
        selectors.iter().map(one).collect()
    }
}

/// A literal as JSON.
fn token(literal: &Literal) -> Vec<u8> {
    let mut out = Vec::new();
    match literal {
        Literal::Text(text) => json::quote(text.as_bytes(), &mut out),
        Literal::Number(n) => out.extend_from_slice(n.to_string().as_bytes()),
        Literal::Bool(b) => out.extend_from_slice(b.to_string().as_bytes()),
        Literal::Level(level) => json::quote(level.word().as_bytes(), &mut out),
    }
    out
}
