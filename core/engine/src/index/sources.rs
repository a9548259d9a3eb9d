//! Which routes' conditions are asked of the events of which source.
//!
//! Routes that take from the same sources share an index, and a source asks only the indexes of its own routes: what a body costs does not grow with the
//! routes of other sources. Where that would make a source ask many indexes, all routes stand in one, and each source looks at its own rules in it.

use std::collections::BTreeMap;

use rockrose_event::field::FieldTable;
use rockrose_language::Condition;

use super::{Asking, Candidates, Index};
use crate::context::Shared;
use crate::expression::{Memo, Tests};
use crate::view::EventView;

/// Most indexes that one source asks.
const MAX_ASKED: usize = 8;

/// The indexes of a plan.
#[derive(Debug, Default)]
pub(crate) struct Indexes {
    all: Vec<Index>,
}

/// How the routes of one source are found: the indexes that it asks, each with its rules in it.
#[derive(Debug, Default)]
pub(crate) struct Scope {
    asked: Vec<(usize, Box<[u64]>)>,
}

/// What is known of one event, for each index, and the routes that take it. Kept from event to event.
#[derive(Debug, Default)]
pub(crate) struct SourceCandidates {
    by_index: Vec<Candidates>,
    /// The routes that take the event, in order.
    pub(crate) routes: Vec<u32>,
}

impl Indexes {
    /// Indexes the conditions of routes, by number; `None` for a route that is found otherwise. `fed` has for each source the routes that it feeds. Returns
    /// how each source's routes are found as well.
    pub(crate) fn build(conditions: &[Option<&Condition>], fed: &[Vec<usize>], tests: &mut Tests, fields: &mut FieldTable) -> (Indexes, Vec<Scope>) {
        // For each route, the sources that feed it: routes that agree in them share an index.
        let mut sources_of = vec![Vec::new(); conditions.len()];
        for (source, routes) in fed.iter().enumerate() {
            routes.iter().for_each(|route| sources_of[*route].push(source));
        }
        let mut shares: BTreeMap<&[usize], Vec<usize>> = BTreeMap::new();
        for (route, sources) in sources_of.iter().enumerate().filter(|(_, sources)| !sources.is_empty()) {
            shares.entry(sources).or_default().push(route);
        }
        let mut asked_by = vec![0; fed.len()];
        shares.keys().flat_map(|sources| *sources).for_each(|source| asked_by[*source] += 1);
        let mut scopes: Vec<Scope> = fed.iter().map(|_| Scope::default()).collect();
        if asked_by.iter().any(|asked| *asked > MAX_ASKED) {
            let all = conditions.iter().enumerate().filter_map(|(route, condition)| Some((route, (*condition)?)));
            let index = Index::build(all, tests, fields);
            for (scope, routes) in scopes.iter_mut().zip(fed) {
                let mut mine = vec![false; conditions.len()];
                routes.iter().for_each(|route| mine[*route] = true);
                scope.asked.push((0, index.mask(|route| mine[route])));
            }
            return (Indexes { all: vec![index] }, scopes);
        }
        let mut all = Vec::new();
        for (sources, routes) in &shares {
            let index = Index::build(routes.iter().filter_map(|route| Some((*route, conditions[*route]?))), tests, fields);
            sources.iter().for_each(|source| scopes[*source].asked.push((all.len(), index.mask(|_| true))));
            all.push(index);
        }
        (Indexes { all }, scopes)
    }

    /// Puts into `candidates.routes` the routes of `scope` whose condition the event meets, each once and in order.
    pub(crate) fn find(&self, scope: &Scope, view: EventView<'_>, shared: &Shared, scratch: &mut Vec<u8>, memo: &mut Memo, candidates: &mut SourceCandidates) {
        let SourceCandidates { by_index, routes } = candidates;
        routes.clear();
        if by_index.len() != self.all.len() {
            by_index.clear();
            by_index.resize_with(self.all.len(), Candidates::default);
        }
        for (number, rules) in &scope.asked {
            let candidates = &mut by_index[*number];
            self.all[*number].find(rules, view, shared, Asking { scratch, memo, candidates, routes });
        }
        // A route may have been found by several of its rules.
        if routes.len() > 1 {
            routes.sort_unstable();
            routes.dedup();
        }
    }
}
