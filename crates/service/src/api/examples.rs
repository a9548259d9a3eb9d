//! The examples of a plan: run, and made of events.

use std::sync::Arc;

use axum::extract::State;
use axum::{Extension, Json};
use rockrose_engine::trial::{example_of, tried_examples};
use rockrose_grants::Need;
use rockrose_intake::Problem;
use rockrose_language::Place;
use rockrose_plan::Example;

use super::bad;
use super::extract::Body;
use super::trial::{key, proposed};
use super::types::{self, ExampleMade, ExampleRequest, ExampleTried, ExamplesAnswer, ExamplesRequest, ExpectationTried};
use crate::apply::aside;
use crate::caller::Caller;
use crate::{App, now_ms};

/// Runs the examples of a plan, each by itself, and says what holds. Nothing is sent, counted or remembered.
#[utoipa::path(post, operation_id = "run_examples", path = "/api/v1/plan/examples", tag = "plan", request_body = types::ExamplesRequest,
    responses((status = 200, body = types::ExamplesAnswer), (status = 401, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn run(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<ExamplesRequest>,
) -> Result<Json<ExamplesAnswer>, Problem> {
    // As they are sent, events may tell what stands in tables.
    let is_told = caller.grants.allow(Need::SeeAll) || caller.grants.allow(Need::Change);
    let told = |why: String| if is_told { why } else { format!("it does not hold; {}'s grants do not show why", caller.name) };
    let running = app.engine.running();
    let (plan, environment) = proposed(&app, &caller, &running, request.text.as_deref(), Vec::new()).await?;
    let key = key(&app, &caller);
    let (examples, tried) = aside(&app, move || {
        let tried = tried_examples(&plan, &key, &environment, now_ms());
        (plan.examples, tried)
    })
    .await;
    let one = |(number, (example, failures)): (usize, (Example, Vec<Option<String>>))| ExampleTried {
        number: number + 1,
        says: example.says,
        source: example.source,
        event: example.event,
        expectations: example
            .expectations
            .into_iter()
            .zip(failures)
            .map(|(e, failure)| ExpectationTried { destination: e.destination, expected: e.outcome.to_string(), failure: failure.map(told) })
            .collect(),
    };
    Ok(Json(ExamplesAnswer { examples: examples.into_iter().zip(tried).enumerate().map(one).collect() }))
}

/// Makes an example of an event: what becomes of it now at each destination is what it expects. It is added to no plan.
#[utoipa::path(post, operation_id = "make_example", path = "/api/v1/plan/examples/make", tag = "plan", request_body = types::ExampleRequest,
    responses((status = 200, body = types::ExampleMade), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn make(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<ExampleRequest>,
) -> Result<Json<ExampleMade>, Problem> {
    let running = app.engine.running();
    let ExampleRequest { text, source, event, says } = request;
    let (plan, environment) = proposed(&app, &caller, &running, text.as_deref(), Vec::new()).await?;
    if plan.sources.iter().all(|s| s.name != source) {
        return Err(Problem::not_found(format!("the plan has no source `{source}`")));
    }
    // Whoever sees only some of the events learns by this of no others.
    if !caller.open_eye(&app, &Place::Source(source.clone()))?.sees_all() {
        return Err(Problem::not_granted(format!("{} does not see all that comes by `{source}`, so may not make an example of it", caller.name)));
    }
    let key = key(&app, &caller);
    let given = Example { says: says.filter(|says| !says.trim().is_empty()), source, event, expectations: Vec::new() };
    let made = aside(&app, move || example_of(&plan, &key, &environment, &given, now_ms())).await;
    made.map(|example| Json(ExampleMade { example })).map_err(|why| bad("bad-events", "The event cannot be read", why))
}
