//! Trials: what a plan, or a change of the active one, would do with events; and changes of a plan's text.

use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use axum::extract::State;
use axum::{Extension, Json};
use rockrose_engine::trial::{self, Asked, Comparison, Fate, ListTotals, Real, Samples, Side, Tried};
use rockrose_engine::{Capture, Environment};
use rockrose_event::record::{DeclaredFormat, split};
use rockrose_event::usual::Usual;
use rockrose_grants::{Eye, Need};
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_ledger::Amount;
use rockrose_plan::{CheckedPlan, Gate, edited};
use rockrose_redact::HashKey;
use serde_json::value::RawValue;

use super::auth::Subject;
use super::extract::Body;
use super::look::Asking;
use super::plan::{difference, problem};
use super::types::{
    self, EditRequest, EditedPlan, FieldDifference, TrialAnswer, TrialPart, TrialRequest, TrialStep, TriedDestination, TriedEvent, TriedPassage, TriedRoute,
};
use super::why::decision;
use super::{bad, spool_problem};
use crate::apply::{Refusal, aside, checked, environment_of, out_of_reach};
use crate::caller::Caller;
use crate::engine::Running;
use crate::trial::{Event, Held, RealError, as_given, destinations, held, nanos, personal, real, volume};
use crate::{App, now_ms};

/// So many events are searched for personal data behind each step.
const BEHIND: usize = 100;
/// Most events that are shown.
const MOST_SHOWN: usize = 500;

/// Changes a plan's text, keeping its comments and its order. Nothing is applied.
#[utoipa::path(post, operation_id = "edit_plan", path = "/api/v1/plan/edit", tag = "plan", request_body = types::EditRequest,
    responses((status = 200, body = types::EditedPlan), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn edit(State(app): State<Arc<App>>, Body(request): Body<EditRequest>) -> Result<Json<EditedPlan>, Problem> {
    let running = app.engine.running();
    let before = request.text.unwrap_or_else(|| running.checked.text.clone());
    let text = with(&before, request.edits)?;
    let after = text.clone();
    let difference = aside(&app, move || difference(&before, &after)).await;
    Ok(Json(EditedPlan { revision: running.revision, text, difference }))
}

pub(super) fn with(text: &str, edits: Vec<types::PlanEdit>) -> Result<String, Problem> {
    let edits: Vec<rockrose_plan::PlanEdit> = edits.into_iter().map(Into::into).collect();
    edited(text, &edits).map_err(|e| bad("bad-edit", "The plan cannot be changed so", e.to_string()))
}

/// What a plan, or a change of the active one, would do with events: those of the samples, or given ones. Nothing is sent, counted or remembered.
///
/// Compared with the active plan, it says what each step takes away and each destination would get in a month, and shows some events as they would be sent.
#[utoipa::path(post, path = "/api/v1/trial", tag = "plan", request_body = types::TrialRequest,
    responses((status = 200, body = types::TrialAnswer), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn trial(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<TrialRequest>,
) -> Result<(Extension<Subject>, Json<TrialAnswer>), Problem> {
    let fate = match &request.show {
        None => None,
        Some(word) => Some(Fate::read(word).ok_or_else(|| {
            let words: Vec<String> = Fate::ALL.iter().map(|fate| format!("`{}`", fate.word())).collect();
            bad("bad-outcome", "No such outcome", format!("`{word}` is none of {}", words.join(", ")))
        })?),
    };
    let running = app.engine.running();
    let (plan, environment) = proposed(&app, &caller, &running, request.text.as_deref(), request.edits).await?;
    let subject = request.route.as_ref().map_or_else(|| "all".to_owned(), |route| format!("route:{route}"));
    if let Some(route) = request.route.as_ref().filter(|name| plan.routes.iter().all(|r| r.name != **name)) {
        return Err(Problem::not_found(format!("the plan has no route `{route}`")));
    }
    if let Some(source) = request.source.as_ref().filter(|name| plan.sources.iter().all(|s| s.name != **name)) {
        return Err(Problem::not_found(format!("the plan has no source `{source}`")));
    }
    let most = request.most.unwrap_or(20).min(MOST_SHOWN);
    let given = match request.events {
        Some(events) => given(&app, &caller, &plan, request.source.as_deref(), events).await?,
        None => sampled(&app, &caller, &running, request.source.as_deref(), request.route.as_deref()).await?,
    };
    let tried = Tryout { running, plan, environment, given, route: request.route, fate, most, key: key(&app, &caller) };
    let answer = tried.run(&app).await?;
    Ok((Extension(Subject(subject)), Json(answer)))
}

/// What is hashed in a trial of somebody who does not see everything is hashed with a key that nobody knows: else they could ask for the hash of whatever they like.
pub(super) fn key(app: &App, caller: &Caller) -> HashKey {
    if caller.grants.allow(Need::SeeAll) {
        return app.engine.key();
    }
    let mut key = [0; 32];
    // Without randomness there is no other key either.
    let _ = getrandom::fill(&mut key);
    HashKey::new(key)
}

/// The plan that is to be tried, checked, with the tables that it asks.
pub(super) async fn proposed(
    app: &Arc<App>,
    caller: &Caller,
    running: &Arc<Running>,
    text: Option<&str>,
    edits: Vec<types::PlanEdit>,
) -> Result<(CheckedPlan, Environment), Problem> {
    if text.is_none() && edits.is_empty() {
        return Ok((running.checked.clone(), running.environment.clone()));
    }
    let text = text.unwrap_or(&running.checked.text);
    let text = if edits.is_empty() { text.to_owned() } else { with(text, edits)? };
    let plan = checked(app, &text).await.map_err(|mistakes| problem(Refusal::Mistakes(mistakes)))?;
    // Through a plan of their own, tables and hashes could be asked.
    if !caller.grants.allow(Need::SeeAll)
        && let Err(why) = caller.grants.change(&running.checked, &plan)
    {
        return Err(Problem::not_granted(format!("{} may neither see all events nor make this change, so may not try it: {why}", caller.name)));
    }
    if plan.tables != running.checked.tables {
        caller.must(&[Need::ChangeAll])?;
        let beyond = out_of_reach(app, &plan).await.map_err(|e| super::records_problem(&e))?;
        if !beyond.is_empty() {
            return Err(problem(Refusal::OutOfReach(beyond)));
        }
    }
    let environment = environment_of(app, running, &plan).await.map_err(|(table, why)| problem(Refusal::Table { table, why }))?;
    Ok((plan, environment))
}

/// Events for a trial, and how they came.
struct Material {
    held: Held,
    /// The plans that they are for: the running one, and what is to be made of the one that is tried.
    behind: Behind,
    bounds: Option<Vec<String>>,
}

/// Where the events were before.
enum Behind {
    /// They are as a sender sends them.
    Nothing,
    /// They have left the steps of their sources.
    Arrival,
    /// They are those that a route takes, and nothing else is to be tried.
    Gate(String),
}

/// Events that whoever asks gives.
async fn given(app: &Arc<App>, caller: &Arc<Caller>, plan: &CheckedPlan, source: Option<&str>, events: String) -> Result<Material, Problem> {
    let source = match (source, &plan.sources[..]) {
        (Some(source), _) => source.to_owned(),
        (None, [only]) => only.name.clone(),
        (None, all) => {
            let names: Vec<String> = all.iter().map(|s| format!("`{}`", s.name)).collect();
            return Err(bad("no-source", "Which source?", format!("say by which source the events come: {}", names.join(", "))));
        }
    };
    let place = Place::Source(source.clone());
    let mut eye = caller.open_eye(app, &place)?;
    let bounds = caller.grants.bounds(&place);
    let max_event = plan.sources.iter().find(|s| s.name == source).map_or(usize::MAX, |s| s.max_event as usize);
    let read = tokio::task::spawn_blocking(move || {
        let body = events.into_bytes();
        let records = split(&body, DeclaredFormat::Unknown, max_event).map_err(|e| e.to_string())?;
        let (mut usual, now) = (Usual::new(&[]), now_ms());
        let source: Arc<str> = source.into();
        let mut held = Held::default();
        for record in records {
            let bytes = &body[record.start as usize..record.end as usize];
            let Some(bytes) = eye.shows(bytes, now).map(Cow::into_owned) else { continue };
            usual.read(&bytes);
            let at_ms = usual.time(&bytes, now).map_or(now, jiff::Timestamp::as_millisecond);
            held.stretch.push(Event { source: Arc::clone(&source), bytes, form: record.form, at_ms, times: 1 });
        }
        Ok::<_, String>(held)
    });
    let held = read.await.map_err(|_| Problem::internal("the events could not be read"))?;
    let held = held.map_err(|why| bad("bad-events", "The events cannot be read", why))?;
    Ok(Material { held, behind: Behind::Nothing, bounds })
}

/// The events of the samples that whoever asks may see.
async fn sampled(app: &Arc<App>, caller: &Arc<Caller>, running: &Arc<Running>, source: Option<&str>, route: Option<&str>) -> Result<Material, Problem> {
    let sources: Vec<String> = running.checked.sources.iter().map(|s| s.name.clone()).filter(|name| source.is_none_or(|source| source == name)).collect();
    let mut eyes: HashMap<String, Eye> = sources.iter().map(|name| (name.clone(), caller.eye(app, &Place::Source(name.clone())))).collect();
    eyes.retain(|_, eye| !eye.is_blind());
    if eyes.is_empty() && !sources.is_empty() {
        return at_route(app, caller, running, source, route).await;
    }
    let sources: Vec<String> = sources.into_iter().filter(|name| eyes.contains_key(name)).collect();
    let mut bounds: Vec<String> = sources.iter().filter_map(|name| caller.grants.bounds(&Place::Source(name.clone()))).flatten().collect();
    bounds.sort();
    bounds.dedup();
    if sources.len() < running.checked.sources.len() && source.is_none() && bounds.is_empty() {
        bounds = caller.grants.sentences();
    }
    let app = Arc::clone(app);
    let looked = tokio::task::spawn_blocking(move || {
        let mut shows = |source: &str, event: &[u8], at_ms: i64| eyes.get_mut(source)?.shows(event, at_ms).map(Cow::into_owned);
        held(&app, &sources, now_ms(), &mut shows)
    });
    let held = looked.await.map_err(|_| Problem::internal("the sample could not be looked at"))?;
    Ok(Material { held, behind: Behind::Arrival, bounds: (!bounds.is_empty()).then_some(bounds) })
}

/// The events of a route's sample, for those who see events there and at no source.
async fn at_route(app: &Arc<App>, caller: &Arc<Caller>, running: &Arc<Running>, source: Option<&str>, route: Option<&str>) -> Result<Material, Problem> {
    let not = || Problem::not_granted(format!("{} may see no events at the sources; name a route whose events they may see", caller.name));
    let route = route.filter(|name| running.compiled.route(name).is_some()).ok_or_else(not)?.to_owned();
    let place = Place::Route(route.clone());
    let mut eye = caller.open_eye(app, &place)?;
    let bounds = caller.grants.bounds(&place);
    let (app, running, source) = (Arc::clone(app), Arc::clone(running), source.map(str::to_owned));
    let looked = tokio::task::spawn_blocking(move || {
        let found = app.samples.at(&place, false, &running.checked, app.engine.key(), &running.environment, now_ms()).unwrap_or_default();
        let form = rockrose_event::record::Form::Object;
        let of = found.into_iter().filter(|(from, _)| source.as_ref().is_none_or(|source| source == from));
        let some = of.filter_map(|(from, sampled)| {
            let bytes = eye.shows(&sampled.event, sampled.at_ms)?.into_owned();
            Some(Event { source: from.into(), bytes, form, at_ms: sampled.at_ms, times: sampled.times })
        });
        Held { some: some.collect(), stretch: Vec::new() }
    });
    let held = looked.await.map_err(|_| Problem::internal("the sample could not be looked at"))?;
    Ok(Material { held, behind: Behind::Gate(route), bounds: Some(bounds.unwrap_or_else(|| caller.grants.sentences())) })
}

/// A plan of one route, which takes whatever comes.
fn only(plan: &CheckedPlan, route: &str) -> CheckedPlan {
    let mut plan = trial::behind_arrival(plan);
    plan.routes.retain(|r| r.name == route);
    for route in &mut plan.routes {
        route.when = Gate::Every;
    }
    plan
}

/// All that a trial needs.
struct Tryout {
    running: Arc<Running>,
    plan: CheckedPlan,
    environment: Environment,
    given: Material,
    route: Option<String>,
    fate: Option<Fate>,
    most: usize,
    key: HashKey,
}

impl Tryout {
    async fn run(self, app: &Arc<App>) -> Result<TrialAnswer, Problem> {
        let basis = match (&self.given.behind, &self.given.bounds) {
            (Behind::Arrival, None) => real(app, self.running.revision, now_ms()).await.map_err(|e| real_problem(&e))?,
            _ => None,
        };
        let stop = Arc::new(AtomicBool::new(false));
        // Whoever goes away does not leave their trial behind.
        let _asked = Asking(Arc::clone(&stop));
        Ok(aside(app, move || self.compared(basis, &stop)).await)
    }

    fn compared(self, basis: Option<(Real, i64)>, stop: &AtomicBool) -> TrialAnswer {
        let Tryout { running, plan, environment, given, route, fate, most, key } = self;
        let (now, (then, mut cannot_tell)) = match &given.behind {
            Behind::Nothing => (running.checked.clone(), (plan.clone(), Vec::new())),
            Behind::Arrival => (trial::behind_arrival(&running.checked), trial::behind_arrival_of(&running.checked, &plan)),
            Behind::Gate(route) => (only(&running.checked, route), (only(&plan, route), Vec::new())),
        };
        let stop = || stop.load(Ordering::Acquire);
        let differing = fate.is_none() && plan.text != running.checked.text;
        let asked = Asked { route: route.as_deref(), fate, differing, most, behind: BEHIND, clock: Some(nanos), stop: &stop, ..Asked::default() };
        let (some, stretch) = (as_given(&given.held.some), as_given(&given.held.stretch));
        let (now, then) = (Side { plan: &now, environment: &running.environment }, Side { plan: &then, environment: &environment });
        let (real, of_ms) = basis.map_or_else(|| (Real::default(), None), |(real, of_ms)| (real, Some(of_ms)));
        let all_there = matches!(given.behind, Behind::Nothing);
        let compared = if all_there {
            let run = |side: Side<'_>, most: usize, behind: usize| {
                trial::trial(side.plan, key.clone(), side.environment, &stretch, &Asked { consecutive: true, most, behind, ..asked })
            };
            Comparison { now: run(now, 0, 0), then: run(then, most, BEHIND), predicted: Vec::new() }
        } else {
            trial::compare(now, then, &key, Samples { some: &some, stretch: &stretch }, &real, &asked)
        };
        let destinations = destinations(&running.checked, &plan, &compared, of_ms);
        let Comparison { now: now_trial, then: then_trial, .. } = compared;
        let names: HashSet<&str> = then_trial.lists.iter().map(|l| l.name.as_str()).collect();
        cannot_tell.extend(then_trial.cannot_tell.iter().cloned());
        if then_trial.is_cut || now_trial.is_cut {
            cannot_tell.push("the trial was stopped before the last event".to_owned());
        }
        if !all_there && some.is_empty() {
            cannot_tell.push("the samples hold no events yet".to_owned());
        }
        let went_now: HashMap<(&str, &str), Amount> =
            now_trial.lists.iter().filter(|l| names.contains(l.name.as_str())).map(|l| ((l.stage.word(), l.name.as_str()), l.went)).collect();
        let shown_of = if all_there || then_trial.shows_stretch { &given.held.stretch } else { &given.held.some };
        let long = |events: &[Event]| events.iter().map(|e| e.at_ms).max().zip(events.iter().map(|e| e.at_ms).min()).map(|(last, first)| last - first);
        TrialAnswer {
            revision: running.revision,
            events: then_trial.events,
            stands_for: then_trial.stands_for,
            unreadable: then_trial.unreadable,
            remainder: volume(then_trial.remainder),
            stretch_ms: long(&given.held.stretch),
            estimated_from_ms: of_ms,
            parts: then_trial.lists.iter().map(|list| part(list, went_now.get(&(list.stage.word(), list.name.as_str())).copied())).collect(),
            destinations,
            shown: then_trial.shown.iter().map(|tried| shown(tried, &shown_of[tried.given])).collect(),
            cannot_tell,
            bounds: given.bounds,
        }
    }
}

pub(super) fn real_problem(e: &RealError) -> Problem {
    match e {
        RealError::Spool(e) => spool_problem(e),
        RealError::Records(e) => super::records_problem(e),
    }
}

fn part(list: &ListTotals, went_now: Option<Amount>) -> TrialPart {
    let step = |step: &trial::StepTotals| TrialStep {
        sentence: step.sentence.clone(),
        came: volume(step.came),
        went: volume(step.went),
        removed: step.removed,
        changed: step.changed,
        failed: step.failed,
        held: step.held,
        nanos: step.nanos,
        personal: personal(&step.behind),
    };
    TrialPart {
        part: list.stage.word().to_owned(),
        name: list.name.clone(),
        came: volume(list.came),
        went: volume(list.went),
        went_now: went_now.map(volume),
        steps: list.steps.iter().map(step).collect(),
    }
}

fn passage(capture: &Capture) -> TriedPassage {
    let differences = capture.after.as_ref().map(|after| trial::differences(&capture.before, after)).unwrap_or_default();
    let difference = |d: trial::Difference| FieldDifference { field: d.field, before: d.before, after: d.after };
    TriedPassage {
        outcome: capture.fate().word().to_owned(),
        step: capture.removed_by.clone().or_else(|| capture.held_by.clone()).or_else(|| capture.failed_by.clone()),
        differences: differences.into_iter().map(difference).collect(),
        after: capture.after.as_ref().and_then(|after| RawValue::from_string(String::from_utf8_lossy(after).into_owned()).ok()),
    }
}

fn shown(tried: &Tried, event: &Event) -> TriedEvent {
    let route = |route: &trial::TriedRoute| TriedRoute {
        name: route.name.clone(),
        taken: route.passing.is_some(),
        parts: route.parts.iter().cloned().map(decision).collect(),
        passage: route.passing.as_ref().map(passage),
        destinations: route.destinations.iter().map(|(name, capture)| TriedDestination { name: name.clone(), passage: passage(capture) }).collect(),
    };
    TriedEvent {
        source: event.source.to_string(),
        at_ms: event.at_ms,
        stands_for: tried.times,
        event: String::from_utf8_lossy(&event.bytes).into_owned(),
        arrival: passage(&tried.arrival),
        routes: tried.routes.iter().map(route).collect(),
    }
}
