//! From a checked plan to what the engine runs.

use std::collections::HashMap;

use super::extract::Extractor;
use super::index::Index;
use super::steps::{Do, Operation, Target, Written};
use super::test::{Expression, Tests};
use crate::field::{FieldId, FieldTable, Path, WEIGHT};
use crate::json;
use crate::lang::{self, Format, Literal, Selector, Step, Value, What};
use crate::plan::{CheckedPlan, Gate};
use crate::redact::HashKey;
use crate::sample::Sampler;

/// A plan ready to run. It is immutable and shared between threads.
#[derive(Debug)]
pub struct CompiledPlan {
    pub(super) fields: FieldTable,
    pub(super) tests: Tests,
    pub(super) index: Index,
    pub(super) sources: Vec<Source>,
    pub(super) routes: Vec<Route>,
    pub(super) destinations: Vec<Destination>,
    pub(super) key: HashKey,
    /// Route and place in its `to`, for every branch.
    pub(super) branches: Vec<(usize, usize)>,
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
}

#[derive(Debug)]
pub(super) struct Destination {
    pub(super) name: String,
    pub(super) steps: Vec<Do>,
}

/// The condition of a route that has none.
const EVERY: lang::Condition = lang::Condition::Constant(true);

/// Where a list of steps stands; samples in different places are salted apart.
#[derive(Clone, Copy)]
enum Stand {
    Arrival = 0,
    Route = 1,
    Always = 2,
}

struct Compiler<'a> {
    plan: &'a CheckedPlan,
    fields: FieldTable,
    tests: Tests,
}

impl CompiledPlan {
    /// Compiles `plan`; `key` hashes what is redacted `as hash`.
    #[must_use]
    pub fn new(plan: &CheckedPlan, key: HashKey) -> CompiledPlan {
        let mut c = Compiler { plan, fields: FieldTable::default(), tests: Tests::default() };
        let numbers: HashMap<&str, usize> = plan.destinations.iter().enumerate().map(|(i, d)| (d.name.as_str(), i)).collect();
        let mut branches = Vec::new();
        let mut routes = Vec::new();
        for (number, route) in plan.routes.iter().enumerate() {
            let steps = c.steps(&route.steps, Stand::Route);
            let to: Vec<usize> = route.to.iter().filter_map(|name| numbers.get(name.as_str()).copied()).collect();
            let branch = branches.len();
            branches.extend((0..to.len()).map(|i| (number, i)));
            routes.push(Route { name: route.name.clone(), steps, to, branch });
        }
        let conditions = plan.routes.iter().enumerate().filter_map(|(number, route)| match &route.when {
            Gate::Condition(condition) => Some((number, condition)),
            Gate::Every => Some((number, &EVERY)),
            Gate::Remainder => None,
        });
        let index = Index::build(conditions, &mut c.tests, &mut c.fields);
        let mut sources = Vec::new();
        for source in &plan.sources {
            let feeds = |remainder: bool| {
                let fed = plan.routes.iter().enumerate().filter(move |(_, r)| r.takes_from(&source.name) && (r.when == Gate::Remainder) == remainder);
                fed.map(|(i, _)| i).collect::<Vec<_>>()
            };
            let routes = feeds(false);
            let mut fed = vec![false; plan.routes.len()];
            routes.iter().for_each(|r| fed[*r] = true);
            sources.push(Source {
                name: source.name.clone(),
                steps: c.steps(&source.on_arrival, Stand::Arrival),
                rules: index.mask(|r| fed[r]),
                routes,
                remainder_routes: feeds(true),
            });
        }
        let destinations = plan.destinations.iter().map(|d| Destination { name: d.name.clone(), steps: c.steps(&d.always, Stand::Always) }).collect();
        CompiledPlan { fields: c.fields, tests: c.tests, index, sources, routes, destinations, key, branches }
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
        let (mut fields, mut tests) = (FieldTable::default(), Tests::default());
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
        if std::str::from_utf8(json).is_err() || json::scan(json, &self.fields, &mut slots).is_err() {
            return false;
        }
        self.tests.holds(&self.expression, super::test::View { json, slots: &slots }, &self.fields, &mut Vec::new(), &mut None)
    }
}

impl Compiler<'_> {
    fn steps(&mut self, steps: &[Step], stand: Stand) -> Vec<Do> {
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

    fn step(&mut self, step: &Step, stand: Stand, samples: &mut u64) -> Do {
        let when = step.when.as_ref().map(|c| self.tests.compile(c, &mut self.fields));
        let operation = match &step.operation {
            lang::Operation::Keep(c) => Operation::Keep(self.tests.compile(c, &mut self.fields)),
            lang::Operation::Drop(c) => Operation::Drop(self.tests.compile(c, &mut self.fields)),
            lang::Operation::Sample { rate, by, unless } => {
                let salt = (stand as u64) << 32 | *samples;
                *samples += 1;
                // The first sample on a route hashes as the first on any other: their choices nest.
                Operation::Sample {
                    sampler: Sampler::new(rate.weight(), salt),
                    weight: rate.weight(),
                    by: self.wanted(by),
                    unless: unless.as_ref().map(|c| self.tests.compile(c, &mut self.fields)),
                    mark: self.fields.want(&Path::name(WEIGHT)),
                }
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
                let written = pairs.iter().map(|(path, value)| {
                    let value = match value {
                        Value::Literal(literal) => Written::Token(token(literal)),
                        Value::Field(from) => Written::Copy(self.fields.want(from)),
                    };
                    (self.fields.want(path), value)
                });
                Operation::Set(written.collect())
            }
            lang::Operation::Remove(selectors) => Operation::Remove(self.selectors(selectors)),
            lang::Operation::Retain(selectors) => Operation::Retain(self.selectors(selectors)),
            lang::Operation::Rename(pairs) => Operation::Rename(pairs.iter().map(|(from, to)| (self.fields.want(from), to.flat())).collect()),
            lang::Operation::Parse { field, format } => {
                let extractor = match format {
                    Format::Json => Extractor::Json,
                    Format::KeyValue => Extractor::KeyValue,
                    Format::Template(template) => Extractor::Template(template.parts.clone()),
                    Format::Pattern(pattern) => match pattern.compile() {
                        Ok(regex) => {
                            let groups = regex.capture_names().enumerate().filter_map(|(i, n)| Some((i, n?.to_owned()))).collect();
                            Extractor::Pattern(regex, groups)
                        }
                        Err(_) => Extractor::Template(Vec::new()),
                    },
                };
                Operation::Parse { field: self.fields.want(field), extractor }
            }
            lang::Operation::Trim { field, size } => {
                Operation::Trim { field: self.fields.want(field), bytes: usize::try_from(size.bytes()).unwrap_or(usize::MAX) }
            }
            lang::Operation::Use(name) => unreachable!("recipe {name} was expanded by the check"),
        };
        Do { operation, when, sentence: step.to_string() }
    }

    /// Each with the field it names, so that a view's usual names are found.
    fn selectors(&mut self, selectors: &[Selector]) -> Vec<(Option<FieldId>, String)> {
        selectors.iter().map(|s| if s.prefix { (None, s.path.flat()) } else { (Some(self.fields.want(&s.path)), s.path.flat()) }).collect()
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
