//! What may stand next in a sentence, by what is in the streams.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_intake::Problem;
use rockrose_language::{Catalog, Literal, SentenceKind, following, proposals};
use rockrose_plan::{CheckedPlan, Report};
use rockrose_survey::{Field, Fields};

use super::draft::{alert_said, condition_said, step_said};
use super::extract::Body;
use super::survey::{Looked, seen};
use super::types::{self, CompleteAnswer, CompleteRequest, SentenceProposal};
use crate::App;
use crate::caller::Caller;

/// What is known of the events at a point is looked up again after so long, if it is asked for.
const FRESH_FOR: Duration = Duration::from_secs(15);
/// It is forgotten after so long.
const KEPT_FOR: Duration = Duration::from_secs(300);
/// Whoever asks for a point of which nothing is known waits so long for its sample to be looked at.
const PATIENCE: Duration = Duration::from_millis(10);
/// So many events of a sample are looked at.
const LOOKED_AT: usize = 5_000;
/// Of so many points it is kept.
const MOST_POINTS: usize = 100;

/// What is known of the events at a point: their fields, and the values of each, with the share of events that have them.
#[derive(Default)]
pub(crate) struct Known {
    fields: Vec<(String, f64)>,
    values: HashMap<String, Vec<(String, f64)>>,
}

/// What is known of the points that were asked for lately.
#[derive(Default)]
pub(crate) struct KnownPoints {
    kept: Mutex<HashMap<PointSeen, Kept>>,
}

/// What is known of a point.
struct Kept {
    /// Nothing, while its sample is looked at for the first time.
    known: Option<Arc<Known>>,
    since: Instant,
    /// Its sample is being looked at.
    is_looked_up: bool,
}

/// A point, and the grants of whoever looks at it.
type PointSeen = (String, String);

impl KnownPoints {
    fn kept(&self) -> MutexGuard<'_, HashMap<PointSeen, Kept>> {
        self.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What is known of a point, and whether whoever asks is to look it up, which is said to one of them.
    fn lately(&self, key: &PointSeen) -> (Option<Arc<Known>>, bool) {
        let mut all = self.kept();
        if let Some(kept) = all.get_mut(key).filter(|kept| kept.since.elapsed() < KEPT_FOR) {
            let is_due = kept.since.elapsed() >= FRESH_FOR && !std::mem::replace(&mut kept.is_looked_up, true);
            return (kept.known.clone(), is_due);
        }
        put(&mut all, key.clone(), Kept { known: None, since: Instant::now(), is_looked_up: true });
        (None, true)
    }

    fn keep(&self, key: PointSeen, known: &Arc<Known>) {
        put(&mut self.kept(), key, Kept { known: Some(Arc::clone(known)), since: Instant::now(), is_looked_up: false });
    }

    fn forget(&self, key: &PointSeen) {
        self.kept().remove(key);
    }
}

/// Keeps what is known of a point, if there is room.
fn put(all: &mut HashMap<PointSeen, Kept>, key: PointSeen, kept: Kept) {
    all.retain(|_, kept| kept.since.elapsed() < KEPT_FOR);
    if all.len() < MOST_POINTS || all.contains_key(&key) {
        all.insert(key, kept);
    }
}

impl Known {
    fn of(fields: &Fields) -> Known {
        let (events, _) = fields.total();
        let share = |times: u64| times as f64 / events.max(1) as f64;
        let mut known = Known::default();
        for field in fields.list() {
            known.fields.push((field.name.clone(), share(field.times)));
            // Personal data is masked, and what is masked is no value.
            let values = field.top.iter().filter(|(value, _)| !value.contains("***"));
            let values = values.filter_map(|(value, times)| Some((literal(&field, value)?, share(*times))));
            known.values.insert(field.name.clone(), values.collect());
        }
        known
    }

    /// The values of a field as it is named in a sentence, where a part of its path may be left out.
    fn values(&self, field: &str) -> Vec<(String, f64)> {
        let named = |name: &String| name == field || name.ends_with(&format!(".{field}"));
        self.values.get(field).or_else(|| self.values.iter().find(|(name, _)| named(name)).map(|(_, values)| values)).cloned().unwrap_or_default()
    }
}

/// A value as it is written in a sentence.
fn literal(field: &Field, value: &str) -> Option<String> {
    let [texts, numbers, truths, ..] = field.kinds;
    Some(match value {
        "true" | "false" if truths > 0 => value.to_owned(),
        number if numbers > texts && number.parse::<f64>().is_ok() => number.to_owned(),
        text if texts > 0 => Literal::Text(text.to_owned()).to_string(),
        _ => return None,
    })
}

/// What is known of a point, at once: what was found out lately, while it is looked up again. Nothing yet, if it was not asked for lately and its sample takes a while to look at.
async fn known(app: &Arc<App>, caller: &Arc<Caller>, point: &str) -> Result<Option<Arc<Known>>, Problem> {
    caller.open_eye(app, &super::place(point)?)?;
    // Whoever sees something else has something else kept.
    let key = (point.to_owned(), caller.grants.to_string());
    let (known, is_due) = app.known.lately(&key);
    if !is_due {
        return Ok(known);
    }
    let looked_up = tokio::spawn(look_up(Arc::clone(app), Arc::clone(caller), key));
    if known.is_some() {
        return Ok(known);
    }
    match tokio::time::timeout(PATIENCE, looked_up).await {
        Ok(done) => done.unwrap_or_else(|_| Err(Problem::internal("the sample could not be looked at"))).map(Some),
        Err(_) => Ok(None),
    }
}

/// Looks at the sample of a point and keeps what it tells.
async fn look_up(app: Arc<App>, caller: Arc<Caller>, key: PointSeen) -> Result<Arc<Known>, Problem> {
    let surveyed = async {
        let (_, seen) = seen(&app, &caller, &Looked { point: &key.0, when: None, leaving: false }).await?;
        let surveyed = tokio::task::spawn_blocking(move || {
            let mut fields = Fields::default();
            for one in seen.iter().step_by(seen.len().div_ceil(LOOKED_AT).max(1)) {
                fields.add(one.event.as_bytes(), one.times, one.at_ms);
            }
            Arc::new(Known::of(&fields))
        });
        surveyed.await.map_err(|_| Problem::internal("the sample could not be looked at"))
    };
    let found = surveyed.await;
    match &found {
        Ok(known) => app.known.keep(key, known),
        Err(_) => app.known.forget(&key),
    }
    found
}

/// What may stand at the end of a sentence that is not whole yet: words, fields with how often they are seen, values with their shares, names of the active plan.
#[utoipa::path(post, operation_id = "complete_sentence", path = "/api/v1/complete", tag = "understand", request_body = types::CompleteRequest,
    responses((status = 200, body = types::CompleteAnswer), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn complete(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<CompleteRequest>,
) -> Result<Json<CompleteAnswer>, Problem> {
    let kind = match request.kind.as_str() {
        "step" => SentenceKind::Step,
        "condition" => SentenceKind::Condition,
        "alert" => SentenceKind::Alert,
        other => {
            return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-kind", "No such sentence", format!("`{other}` is none of `step`, `condition` and `alert`")));
        }
    };
    let known = match &request.point {
        Some(point) => known(&app, &caller, point).await?,
        None => Some(Arc::default()),
    };
    let partial = known.is_none();
    let known = known.unwrap_or_default();
    let running = app.engine.running();
    let text = &request.text;
    let told = following(kind, text);
    let most = request.most.unwrap_or(50).min(200);
    let found = offered(&running.checked, &known, text, &told, most);
    let proposals = found.into_iter().map(|p| SentenceProposal { text: p.text, sort: p.sort.to_owned(), share: p.share }).collect();
    let mistake = told.mistake.map(|mistake| types::mistake(Report::new(text, &mistake)));
    let whole = match kind {
        SentenceKind::Step => step_said(text, 1),
        SentenceKind::Condition => condition_said(text),
        SentenceKind::Alert => alert_said(text),
    };
    Ok(Json(CompleteAnswer { from: told.from, proposals, mistake, whole, partial }))
}

fn offered(plan: &CheckedPlan, known: &Known, text: &str, told: &rockrose_language::Following, most: usize) -> Vec<rockrose_language::Proposal> {
    let names = |all: &mut dyn Iterator<Item = &String>| all.cloned().collect::<Vec<_>>();
    let tables = names(&mut plan.tables.iter().map(|t| &t.name));
    let routes = names(&mut plan.routes.iter().map(|r| &r.name));
    let recipes: Vec<String> = plan.recipe_names();
    let sources = names(&mut plan.sources.iter().map(|s| &s.name));
    let destinations = names(&mut plan.destinations.iter().map(|d| &d.name));
    let budgets = names(&mut plan.budgets.iter().map(|b| &b.name));
    let values = |field: &str| known.values(field);
    let catalog = Catalog {
        fields: &known.fields,
        values: &values,
        tables: &tables,
        recipes: &recipes,
        sources: &sources,
        destinations: &destinations,
        routes: &routes,
        budgets: &budgets,
    };
    proposals(text, told, &catalog, most)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_offered_as_they_are_written_in_sentences() {
        let mut fields = Fields::default();
        for n in 0..10 {
            let event = format!("{{\"port\":\"Tansy \\\"Quay\\\"\",\"http\":{{\"status\":{}}},\"paid\":true,\"who\":\"ann{n}@post.example\"}}", 200 + n % 2);
            fields.add(event.as_bytes(), 1, 0);
        }
        let known = Known::of(&fields);
        assert_eq!(known.values("port"), [("\"Tansy \\\"Quay\\\"\"".to_owned(), 1.0)]);
        assert_eq!(known.values("status").iter().map(|(v, _)| v.as_str()).collect::<Vec<_>>(), ["200", "201"]);
        assert_eq!(known.values("paid"), [("true".to_owned(), 1.0)]);
        assert_eq!((known.values("who"), known.values("none")), (Vec::new(), Vec::new()));
    }

    #[test]
    fn what_is_known_of_a_point_is_looked_up_again_by_one_while_all_are_answered() {
        let points = KnownPoints::default();
        let key = ("source:quays".to_owned(), String::new());
        let lately = || {
            let (known, is_due) = points.lately(&key);
            (known.is_some(), is_due)
        };
        // The first looks it up, and the others do not wait for it.
        assert_eq!([lately(), lately()], [(false, true), (false, false)]);
        points.keep(key.clone(), &Arc::default());
        assert_eq!(lately(), (true, false));
        let aged = |age: Duration| points.kept().get_mut(&key).unwrap().since = Instant::now().checked_sub(age).unwrap();
        aged(FRESH_FOR);
        assert_eq!([lately(), lately()], [(true, true), (true, false)]);
        points.keep(key.clone(), &Arc::default());
        assert_eq!(lately(), (true, false));
        aged(KEPT_FOR);
        assert_eq!(lately(), (false, true));
        points.forget(&key);
        assert!(points.kept().is_empty());
    }

    /// With 10 000 fields an answer is a search through their names, not through the events.
    #[test]
    fn many_fields_and_routes_are_searched_by_what_is_written() {
        let fields: Vec<(String, f64)> = (0..10_000).map(|n| (format!("field_{n}"), 1.0 / (n + 1) as f64)).collect();
        let known = Known { fields, values: HashMap::new() };
        let plan = CheckedPlan::read("").unwrap();
        let text = "drop field_99";
        let found = offered(&plan, &known, text, &following(SentenceKind::Step, text), 50);
        assert_eq!((found.len(), found[0].text.as_str(), found[1].text.as_str()), (50, "field_990", "field_991"));
    }
}
