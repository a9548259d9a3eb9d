//! From a checked plan to what the engine runs.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use rockrose_event::field::{FieldTable, Path};
use rockrose_language::{Condition, Place, Step};
use rockrose_ledger::Stage;
use rockrose_plan::{self as plan, CheckedPlan, Gate};
use rockrose_redact::HashKey;

use crate::budget::BudgetMeter;
use crate::by_tag::{self, Tags};
use crate::compile_context::{CompileContext, StepList};
use crate::context::Shared;
use crate::environment::Environment;
use crate::forward;
use crate::index::{Indexes, Scope};
use crate::steps::{self, CompiledStep};
use crate::window::Windows;

/// A plan ready to run. It is immutable but for what steps remember, and shared between threads.
pub struct CompiledPlan {
    pub(crate) shared: Shared,
    pub(crate) indexes: Indexes,
    pub(crate) sources: Vec<Source>,
    pub(crate) routes: Vec<Route>,
    pub(crate) destinations: Vec<Destination>,
    /// What steps hold back, by the windows' number.
    pub(crate) windows: Vec<Arc<Windows>>,
    /// Route and place in its `to`, for every branch.
    pub(crate) branches: Vec<(usize, usize)>,
    /// Of each branch, where its accounts begin in what is counted by tag.
    pub(crate) branch_accounts: Vec<u32>,
    /// Some destination keeps events as they were received.
    pub(crate) keeps_received: bool,
}

#[derive(Debug)]
pub(crate) struct Source {
    pub(crate) name: String,
    pub(crate) steps: Vec<CompiledStep>,
    /// How the routes that it feeds are found, those for the remainder left out.
    pub(crate) scope: Scope,
    /// The routes that it feeds which take the remainder.
    pub(crate) remainder_routes: Vec<usize>,
    /// The destinations that its events can reach, each once.
    pub(crate) reaches: Vec<usize>,
    /// The windows that its events can reach, in rising order.
    pub(crate) windows: Vec<usize>,
    /// What counts what arrives there.
    pub(crate) meters: Vec<Arc<BudgetMeter>>,
    /// Where its accounts begin in what is counted by tag.
    pub(crate) accounts: u32,
}

#[derive(Debug)]
pub(crate) struct Route {
    pub(crate) name: String,
    pub(crate) steps: Vec<CompiledStep>,
    /// Destinations, by number.
    pub(crate) to: Vec<usize>,
    /// Its first branch.
    pub(crate) branch: usize,
    /// No destination of it has steps of its own.
    pub(crate) direct: bool,
    /// What counts what leaves by it.
    pub(crate) meters: Vec<Arc<BudgetMeter>>,
    /// Where its accounts begin in what is counted by tag.
    pub(crate) accounts: u32,
}

#[derive(Debug)]
pub(crate) struct Destination {
    pub(crate) name: String,
    pub(crate) steps: Vec<CompiledStep>,
    /// The first of the steps that can be done anew: behind those that are done to each event once.
    pub(crate) anew: usize,
    /// Events go there as they were received.
    pub(crate) as_received: bool,
    /// What counts what is queued for it.
    pub(crate) meters: Vec<Arc<BudgetMeter>>,
}

/// The condition of a route that has none.
const EVERY: Condition = Condition::Constant(true);

impl std::fmt::Debug for CompiledPlan {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "CompiledPlan({} routes)", self.routes.len())
    }
}

/// What is gathered while the parts of a plan are compiled.
struct Compiler<'a> {
    plan: &'a CheckedPlan,
    environment: &'a Environment,
    context: CompileContext<'a>,
}

impl CompiledPlan {
    /// Compiles `plan`; `key` hashes what is redacted `as hash`.
    #[must_use]
    pub fn new(plan: &CheckedPlan, key: HashKey) -> CompiledPlan {
        CompiledPlan::within(plan, key, &Environment::default())
    }

    /// Compiles `plan` with what its steps ask beyond the events.
    #[must_use]
    pub fn within(plan: &CheckedPlan, key: HashKey, environment: &Environment) -> CompiledPlan {
        let mut c = Compiler::new(plan, environment);
        // In the order of an event's way, so that windows are numbered in it.
        let arrivals = c.arrivals();
        let (mut routes, branches) = c.routes();
        let fed: Vec<Vec<usize>> = plan.sources.iter().map(|source| fed_by(plan, source, false)).collect();
        let conditions: Vec<Option<&Condition>> = plan
            .routes
            .iter()
            .map(|route| match &route.when {
                Gate::Condition(condition) => Some(condition),
                Gate::Every => Some(&EVERY),
                Gate::Remainder => None,
            })
            .collect();
        let (indexes, scopes) = Indexes::build(&conditions, &fed, &mut c.context.tests, &mut c.context.fields);
        let destinations = c.destinations();
        let mut sources = Vec::new();
        for (((source, steps), scope), fed) in plan.sources.iter().zip(arrivals).zip(scopes).zip(fed) {
            let remainder_routes = fed_by(plan, source, true);
            let taking: Vec<&Route> = fed.iter().chain(&remainder_routes).map(|r| &routes[*r]).collect();
            let reaches: BTreeSet<usize> = taking.iter().flat_map(|route| route.to.iter().copied()).collect();
            let met = steps.iter().chain(taking.iter().flat_map(|route| &route.steps)).chain(reaches.iter().flat_map(|d| &destinations[*d].steps));
            let windows: BTreeSet<usize> = met.filter_map(|step| step.step.windows()).map(|windows| windows.number()).collect();
            let (reaches, windows) = (reaches.into_iter().collect(), windows.into_iter().collect());
            let meters = c.meters(&Place::Source(source.name.clone()));
            sources.push(Source { name: source.name.clone(), steps, scope, remainder_routes, reaches, windows, meters, accounts: 0 });
        }
        let tags = c.tags();
        let CompileContext { fields, tests, windows, .. } = c.context;
        let branch_accounts = number_accounts(&mut sources, &mut routes, &destinations);
        let keeps_received = plan.destinations.iter().any(|d| d.kind.as_received());
        CompiledPlan { shared: Shared { fields, tests, key, tags }, indexes, sources, routes, destinations, windows, branches, branch_accounts, keeps_received }
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

    /// What a redaction names and no event has had since the plan was applied: for each step of the source, route or destination of that number, how many events it looked at, and the fields.
    #[must_use]
    pub fn never_met(&self, stage: Stage, number: usize) -> Vec<(u64, Vec<Path>)> {
        let steps = match stage {
            Stage::Source => self.sources.get(number).map(|s| &s.steps),
            Stage::Route => self.routes.get(number).map(|r| &r.steps),
            Stage::Destination => self.destinations.get(number).map(|d| &d.steps),
        };
        steps.into_iter().flatten().map(|step| step.step.never_met()).collect()
    }

    /// The numbers of the destinations that events of `source` can reach, each once: places in the plan's list of destinations.
    #[must_use]
    pub fn reached_from(&self, source: usize) -> &[usize] {
        &self.sources[source].reaches
    }
}

/// The routes that take from `source`: those for the remainder, or the others.
fn fed_by(plan: &CheckedPlan, source: &plan::Source, remainder: bool) -> Vec<usize> {
    let fed = plan.routes.iter().enumerate().filter(|(_, r)| r.takes_from(&source.name) && (r.when == Gate::Remainder) == remainder);
    fed.map(|(number, _)| number).collect()
}

/// Gives the accounts of each list of steps their places in what is counted by tag; returns those of the branches.
fn number_accounts(sources: &mut [Source], routes: &mut [Route], destinations: &[Destination]) -> Vec<u32> {
    let mut next = 0;
    let mut begin = |steps: usize| {
        let at = next;
        next += by_tag::places(steps);
        at
    };
    sources.iter_mut().for_each(|source| source.accounts = begin(source.steps.len()));
    routes.iter_mut().for_each(|route| route.accounts = begin(route.steps.len()));
    routes.iter().flat_map(|route| &route.to).map(|to| begin(destinations[*to].steps.len())).collect()
}

impl<'a> Compiler<'a> {
    fn new(plan: &'a CheckedPlan, environment: &'a Environment) -> Compiler<'a> {
        // Only where events can have one is it looked at.
        let shared = plan.sources.iter().any(|s| s.kind.has_resources());
        let fields = if shared { FieldTable::with_resource() } else { FieldTable::default() };
        Compiler { plan, environment, context: CompileContext::new(environment, fields, &plan.account_by) }
    }

    /// The meters of the budgets of a place for which what passes counts.
    fn meters(&self, place: &Place) -> Vec<Arc<BudgetMeter>> {
        let of = self.plan.budgets.iter().filter(|budget| budget.allowance.at == *place);
        of.filter_map(|budget| self.environment.budgets.get(&budget.name)).filter(|gauge| gauge.counts).map(|gauge| Arc::clone(&gauge.meter)).collect()
    }

    /// What the account is told apart by.
    fn tags(&mut self) -> Tags {
        let names = self.plan.account_by.iter().map(|path| Arc::from(path.to_string())).collect();
        Tags { names, fields: self.context.fields(&self.plan.account_by) }
    }

    /// Whether some destination leads to another node, and this one has a name that events can carry there.
    fn forwards(&self) -> bool {
        !self.environment.node.is_empty() && self.plan.destinations.iter().any(|d| d.kind.forward().is_some())
    }

    /// The steps of each source.
    fn arrivals(&mut self) -> Vec<Vec<CompiledStep>> {
        let stop = if self.forwards() { forward::stop(&self.environment.node) } else { Vec::new() };
        self.plan.sources.iter().map(|source| self.steps(&[&source.on_arrival[..], &stop].concat(), StepList::ON_ARRIVAL)).collect()
    }

    /// The routes, and the route and place in its `to` of each branch.
    fn routes(&mut self) -> (Vec<Route>, Vec<(usize, usize)>) {
        let plan = self.plan;
        let numbers: HashMap<&str, usize> = plan.destinations.iter().enumerate().map(|(i, d)| (d.name.as_str(), i)).collect();
        let (mut routes, mut branches) = (Vec::new(), Vec::new());
        for (number, route) in plan.routes.iter().enumerate() {
            let steps = self.steps(&route.steps, StepList::ROUTE);
            let to: Vec<usize> = route.to.iter().filter_map(|name| numbers.get(name.as_str()).copied()).collect();
            let branch = branches.len();
            branches.extend((0..to.len()).map(|i| (number, i)));
            let plain = |d: &plan::Destination| d.always.is_empty() && d.kind.forward().is_none() && !d.kind.as_received();
            let direct = to.iter().all(|d: &usize| plain(&plan.destinations[*d]));
            let meters = self.meters(&Place::Route(route.name.clone()));
            routes.push(Route { name: route.name.clone(), steps, to, branch, direct, meters, accounts: 0 });
        }
        (routes, branches)
    }

    fn destinations(&mut self) -> Vec<Destination> {
        let (plan, forwards) = (self.plan, self.forwards());
        let node = self.environment.node.as_str();
        let always = |d: &plan::Destination| match d.kind.forward() {
            Some(there) if forwards => {
                let there = there.map(forward::stop).unwrap_or_default();
                [&d.always[..], &there, &forward::mark(node)].concat()
            }
            _ => d.always.clone(),
        };
        let one = |d: &plan::Destination| Destination {
            name: d.name.clone(),
            steps: self.steps(&always(d), StepList::ALWAYS),
            anew: d.anew(plan),
            as_received: d.kind.as_received(),
            meters: self.meters(&Place::Destination(d.name.clone())),
        };
        plan.destinations.iter().map(one).collect()
    }

    fn steps(&mut self, written: &[Step], mut list: StepList) -> Vec<CompiledStep> {
        self.plan.expanded(written).iter().map(|step| steps::compile(step, &mut self.context, &mut list)).collect()
    }
}
