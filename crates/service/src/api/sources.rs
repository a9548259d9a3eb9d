//! How sources are doing: what they heard last, what is wrong with their senders; pausing, keys and tests of them.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_intake::{Ages, FileSeen, Problem, SenderFault, SourceStatus, paste_lines, remedy, url_with_key};
use rockrose_language::Place;
use rockrose_ledger::{Measure, Stage};
use rockrose_plan::Source as Planned;
use rockrose_records::Side;
use serde::Deserialize;
use serde_json::value::RawValue;
use utoipa::IntoParams;

use super::extract::{Asked, Part};
use super::rates::Book;
use super::types::{self, CaughtRecord, Freshness, SendLine, Sender, SenderList, Source, SourceFile, SourceKey, SourceState, Trouble};
use crate::caller::{Caller, Watched};
use crate::{App, PartCondition, now_ms, queues};

/// A source whose last event came longer ago than this is quiet, in milliseconds.
const QUIET_AFTER: i64 = 5 * 60_000;

/// Most files of a source that are told one by one.
pub(super) const FILES: usize = 1_000;

/// The sources of the active plan.
#[utoipa::path(get, path = "/api/v1/sources", tag = "connect", responses((status = 200, body = Vec<Source>), (status = 401, body = types::Problem)))]
pub(crate) async fn sources(State(app): State<Arc<App>>) -> Result<Json<Vec<Source>>, Problem> {
    let (running, now) = (app.engine.running(), now_ms());
    let reading = app.meter.read();
    let book = Book::new(&reading);
    Ok(Json(running.checked.sources.iter().map(|planned| told(&app, &book, planned, now)).collect()))
}

fn told(app: &App, book: &Book<'_>, planned: &Planned, now: i64) -> Source {
    let hearing = app.sources.monitor(&planned.name).get();
    let (state, says) = state(app, &planned.name, &hearing, now);
    let of_files = hearing.files.iter().filter(|f| f.state.is_trouble()).take(FILES).map(|f| Trouble {
        what: "file".to_owned(),
        says: format!("{}: {}", f.path, f.says),
        remedy: f.state.remedy().to_owned(),
        from: None,
        times: 1,
        last_ms: now,
    });
    let troubles = of_files.chain(hearing.troubles.iter().map(|t| Trouble {
        what: t.what.word().to_owned(),
        says: t.says.clone(),
        remedy: remedy(t.what, planned).to_owned(),
        from: t.from.map(|a| a.to_string()),
        times: t.times,
        last_ms: t.last_ms,
    }));
    Source {
        name: planned.name.clone(),
        kind: planned.kind.word().to_owned(),
        listen: planned.place(),
        keyed: planned.key.is_some(),
        safe: planned.certificates.is_some(),
        state,
        says,
        events: hearing.events,
        last_event_ms: hearing.last_event_ms,
        last_from: hearing.last_from.map(|a| a.to_string()),
        connections: hearing.connections,
        received: book.gauge(Stage::Source, &planned.name, Measure::Received),
        unreadable: book.gauge(Stage::Source, &planned.name, Measure::Quarantined),
        freshness: freshness(&hearing.ages),
        paused_by: app.engine.paused(Side::Source, &planned.name).map(|p| p.who),
        file_count: hearing.files.len(),
        receive_buffer_bytes: hearing.receive_buffer,
        files: hearing.files.iter().take(FILES).map(source_file).collect(),
        troubles: troubles.collect(),
        send: paste_lines(planned).into_iter().map(|p| SendLine { with: p.with.to_owned(), line: p.line }).collect(),
    }
}

fn freshness(ages: &Ages) -> Option<Freshness> {
    ages.freshness().map(|f| Freshness { half_ms: f.half, most_ms: f.most, nearly_all_ms: f.nearly_all })
}

/// Who sends to a source, how much, and whether their clocks are right.
#[utoipa::path(get, path = "/api/v1/sources/{name}/senders", tag = "connect", params(("name" = String, Path)),
    responses((status = 200, body = types::SenderList), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn senders(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<Json<SenderList>, Problem> {
    known(&app.engine.running(), &name)?;
    let seen = app.sources.monitor(&name).who_sends();
    let all: u64 = seen.other_bytes + seen.senders.iter().map(|s| s.bytes).sum::<u64>();
    let sender = |s: &rockrose_intake::Sender| Sender {
        from: s.from.map(|a| a.to_string()),
        events: s.events,
        unreadable: s.unreadable,
        bytes: s.bytes,
        share: s.bytes as f64 / all.max(1) as f64,
        first_ms: s.first_ms,
        last_ms: s.last_ms,
        freshness: freshness(&s.ages),
        clock: s.clock_off(),
    };
    let senders = seen.senders.iter().map(sender).collect();
    Ok(Json(SenderList { now_ms: now_ms(), senders, others: seen.others, other_events: seen.other_events, other_bytes: seen.other_bytes }))
}

fn known<'a>(running: &'a crate::engine::Running, name: &str) -> Result<&'a Planned, Problem> {
    running.checked.sources.iter().find(|s| s.name == name).ok_or_else(|| Problem::not_found(format!("the plan has no source `{name}`")))
}

/// Takes nothing more from a source's senders until it is resumed, over restarts and plans. Those that can wait are told to; datagrams are lost, and counted.
#[utoipa::path(post, operation_id = "pause_source", path = "/api/v1/sources/{name}/pause", tag = "connect", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn pause(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    caller.must_operate(&Place::Source(name.clone()))?;
    known(&app.engine.running(), &name)?;
    super::pause(&app, Side::Source, &name, caller.name.clone()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Lets a paused source take events again.
#[utoipa::path(post, operation_id = "resume_source", path = "/api/v1/sources/{name}/resume", tag = "connect", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn resume(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    caller.must_operate(&Place::Source(name.clone()))?;
    if !super::resume(&app, Side::Source, &name).await? {
        known(&app.engine.running(), &name)?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Makes a new key for a source; the old key stops working at once. The new one is shown this once.
#[utoipa::path(post, path = "/api/v1/sources/{name}/key", tag = "connect", params(("name" = String, Path)),
    responses((status = 200, body = types::SourceKey), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn new_key(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<Json<SourceKey>, Problem> {
    let secret = key_of(&app, &name)?;
    let key = fresh_key()?;
    super::secrets::keep(&app, &secret, key.clone(), None).await?;
    let running = app.engine.running();
    let planned = known(&running, &name)?;
    let url = url_with_key(planned, &key);
    Ok(Json(SourceKey { key, url }))
}

/// Revokes a source's key: nobody can send to it until it has a new one.
#[utoipa::path(delete, path = "/api/v1/sources/{name}/key", tag = "connect", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn revoke_key(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    let secret = key_of(&app, &name)?;
    // Nobody knows this one, and nobody is told.
    super::secrets::keep(&app, &secret, fresh_key()?, None).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn fresh_key() -> Result<String, Problem> {
    rockrose_records::random_text().map_err(|e| Problem::internal(e.to_string()))
}

/// The secret that holds a source's key.
fn key_of(app: &App, name: &str) -> Result<String, Problem> {
    let running = app.engine.running();
    let planned = known(&running, name)?;
    let key = planned.key.as_ref().map(|k| k.0.clone());
    key.ok_or_else(|| {
        let detail = format!("the source `{name}` asks for no key; give it one in the plan: `key = {{ secret = \"{name}\" }}`");
        Problem::new(StatusCode::CONFLICT, "no-key", "The source has no key", detail)
    })
}

/// Looks at a source as a sender would, without sending an event: whether it can be reached, whether what it takes has somewhere to go, what it has heard.
#[utoipa::path(post, operation_id = "test_source", path = "/api/v1/sources/{name}/test", tag = "connect", params(("name" = String, Path)),
    responses((status = 200, body = types::Probe), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn test(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(name): Part<String>,
) -> Result<Json<types::Probe>, Problem> {
    caller.must_operate(&Place::Source(name.clone()))?;
    let (running, now) = (app.engine.running(), now_ms());
    known(&running, &name)?;
    let mut steps = Vec::new();
    let hearing = app.sources.monitor(&name).get();
    for looked in app.sources.probe(&name).await {
        steps.push(types::ProbeStep { step: looked.step.to_owned(), good: looked.good, ms: looked.ms, says: looked.says });
    }
    let mut step = |step: &str, good: bool, says: String| steps.push(types::ProbeStep { step: step.to_owned(), good, ms: 0.0, says });
    let routes: Vec<&str> = running.checked.routes.iter().filter(|r| r.takes_from(&name)).map(|r| r.name.as_str()).collect();
    match routes.len() {
        0 => step("routes", false, "no route takes from it, so its events are not delivered anywhere".to_owned()),
        n if n > 5 => step("routes", true, format!("{n} routes take from it")),
        _ => step("routes", true, format!("{} take{} from it", routes.join(", "), if routes.len() == 1 { "s" } else { "" })),
    }
    let mut reached = running.compiled.source(&name).into_iter().flat_map(|number| running.compiled.reached_from(number));
    let full = reached.find_map(|to| queues::pushes_back(&app.spool, &running.checked, &running.checked.destinations[*to]));
    match (app.engine.paused(Side::Source, &name), full) {
        (Some(paused), _) => step("room", false, format!("{} paused it", paused.who)),
        (None, Some(full)) => step("room", false, format!("the queue of the destination `{full}` is at its limit, so senders are told to wait")),
        (None, None) => step("room", true, "there is room in the queues".to_owned()),
    }
    let (state, says) = state(&app, &name, &hearing, now);
    step("heard", matches!(state, SourceState::Flowing | SourceState::Quiet), says);
    Ok(Json(types::Probe { good: steps.iter().all(|s| s.good), steps }))
}

pub(super) fn source_file(f: &FileSeen) -> SourceFile {
    SourceFile { path: f.path.clone(), state: f.state.word().to_owned(), says: f.says.clone(), size: f.size, offset: f.offset }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct NextQuery {
    /// How many, at the most 100. 10 if left out.
    events: Option<usize>,
    /// How long to wait for them, in seconds, at the most 60. 10 if left out.
    wait: Option<u64>,
}

/// The next records that come to a source, as they came and as they were read. Answers once there are so many, or when the time is over, with those that came.
#[utoipa::path(get, operation_id = "next_records", path = "/api/v1/sources/{name}/next", tag = "connect", params(("name" = String, Path), NextQuery),
    responses((status = 200, body = Vec<CaughtRecord>), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 503, body = types::Problem)))]
pub(crate) async fn next(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(name): Part<String>,
    Asked(query): Asked<NextQuery>,
) -> Result<Json<Vec<CaughtRecord>>, Problem> {
    let place = Place::Source(name.clone());
    let mut watched = Watched::new(&app, Arc::clone(&caller));
    let mut eye = caller.open_eye(&app, &place)?;
    known(&app.engine.running(), &name)?;
    let (most, wait) = (query.events.unwrap_or(10).clamp(1, 100), Duration::from_secs(query.wait.unwrap_or(10).min(60)));
    let caught = app.sources.monitor(&name).catch();
    let mut caught = caught.ok_or_else(|| Problem::unavailable("too-many-viewers", "16 viewers of this source are connected already"))?;
    let mut all = Vec::new();
    let over = tokio::time::sleep(wait);
    tokio::pin!(over);
    while all.len() < most {
        let one = tokio::select! {
            () = &mut over => break,
            () = app.stopping.cancelled() => break,
            () = watched.stale() => match watched.again().await.and_then(|caller| caller.open_eye(&app, &place).ok()) {
                Some(now) => {
                    eye = now;
                    continue;
                }
                None => break,
            },
            one = caught.recv() => one,
        };
        let Some(one) = one else { break };
        let json = |bytes: &[u8]| RawValue::from_string(String::from_utf8_lossy(bytes).into_owned()).ok();
        let (read, unreadable) = match one.read {
            Ok(read) => match eye.shows(&read, one.at_ms) {
                Some(shown) => (json(&shown), None),
                None => continue,
            },
            // What is no event can be told from others by nothing.
            Err(_) if !eye.sees_all() => continue,
            Err(why) => (None, Some(why)),
        };
        let raw = eye.sees_all().then(|| String::from_utf8_lossy(&one.raw).into_owned());
        let after = one.after.and_then(|after| json(&eye.shows(&after, one.at_ms)?));
        all.push(CaughtRecord { at_ms: one.at_ms, raw, read, unreadable, after, stopped_by: one.stopped_by });
    }
    Ok(Json(all))
}

/// What is to be said of a source, in a word and a sentence. It is only flowing while events flow, whatever else is well.
pub(crate) fn state(app: &App, name: &str, hearing: &SourceStatus, now_ms: i64) -> (SourceState, String) {
    match app.engine.paused(Side::Source, name) {
        Some(paused) => (SourceState::Paused, format!("{} paused it", paused.who)),
        None => heard_state(hearing, now_ms),
    }
}

fn heard_state(hearing: &SourceStatus, now_ms: i64) -> (SourceState, String) {
    // What keeps a file from being read does so as long as it is told.
    let bad_files = hearing.bad_files();
    let worst = hearing.troubles.first();
    // What only some records or senders have wrong does not make a source that flows a troubled one. Records that cannot be read are counted beside it.
    let lately = hearing.troubles.iter().find(|t| t.what != SenderFault::Unreadable && now_ms - t.last_ms < QUIET_AFTER);
    match (hearing.last_event_ms, worst) {
        (Some(last), _)
            if now_ms - last < QUIET_AFTER
                && let Some(lately) = lately =>
        {
            (SourceState::Flowing, format!("events arrive, but {}", lately.says))
        }
        (Some(last), _) if now_ms - last < QUIET_AFTER => {
            (SourceState::Flowing, bad_files.map_or_else(|| "events flow".to_owned(), |(_, says)| format!("events arrive, but {says}")))
        }
        (_, _) if let Some((_, says)) = bad_files => (SourceState::Troubled, says),
        (Some(last), Some(worst)) if worst.last_ms > last => (SourceState::Troubled, worst.says.clone()),
        (Some(_), _) => (SourceState::Quiet, "no recent events".to_owned()),
        (None, Some(worst)) => (SourceState::Troubled, worst.says.clone()),
        (None, None) if !hearing.files.is_empty() => (SourceState::Unheard, "its files have been read to the end; nothing was appended since".to_owned()),
        (None, None) if hearing.connections > 0 => (SourceState::Unheard, "senders are connected, but have sent nothing".to_owned()),
        (None, None) => (SourceState::Unheard, "no events received yet".to_owned()),
    }
}

/// How a source is doing, and what helps where something is wrong.
pub(crate) fn source_condition(app: &App, planned: &Planned, now: i64) -> PartCondition {
    let hearing = app.sources.monitor(&planned.name).get();
    let (state, says) = state(app, &planned.name, &hearing, now);
    let bad_file = hearing.bad_files().map(|(file, _)| file.remedy());
    let fine = bad_file.is_none() && state != SourceState::Troubled;
    let remedy = bad_file.or_else(|| hearing.troubles.first().map(|trouble| remedy(trouble.what, planned).to_owned())).filter(|_| !fine);
    PartCondition { part: format!("source:{}", planned.name), fine, says, remedy: remedy.unwrap_or_default() }
}

#[cfg(test)]
mod tests {
    use rockrose_intake::FileState;

    use super::*;

    #[test]
    fn a_source_is_green_only_while_events_flow() {
        let now = 10 * QUIET_AFTER;
        let trouble = |last_ms| rockrose_intake::Trouble { what: SenderFault::Key, says: "wrong key".into(), from: None, times: 1, last_ms };
        let file = |path: &str, state, says: &str| FileSeen { path: path.into(), state, says: says.into(), size: 7, offset: 0 };
        let files =
            || vec![file("/var/log/quay.log", FileState::Current, "read to its end"), file("/var/log/gate.log", FileState::Denied, "permission denied")];
        let hearing = |last_event_ms, connections, troubles| SourceStatus { last_event_ms, connections, troubles, ..SourceStatus::default() };
        for (hearing, expected) in [
            (hearing(None, 0, vec![]), (SourceState::Unheard, "no events received yet")),
            (hearing(None, 2, vec![]), (SourceState::Unheard, "senders are connected, but have sent nothing")),
            (hearing(None, 2, vec![trouble(now)]), (SourceState::Troubled, "wrong key")),
            (hearing(Some(now - 1_000), 0, vec![trouble(now)]), (SourceState::Flowing, "events arrive, but wrong key")),
            (hearing(Some(now - 1_000), 0, vec![trouble(now - QUIET_AFTER)]), (SourceState::Flowing, "events flow")),
            (
                SourceStatus { files: files(), ..hearing(Some(now - 1_000), 0, vec![]) },
                (SourceState::Flowing, "events arrive, but 1 of 2 files cannot be read; /var/log/gate.log: permission denied"),
            ),
            (
                SourceStatus { files: files()[1..].to_vec(), ..hearing(Some(now - QUIET_AFTER), 0, vec![]) },
                (SourceState::Troubled, "/var/log/gate.log: permission denied"),
            ),
            (hearing(Some(now - QUIET_AFTER), 0, vec![trouble(1)]), (SourceState::Quiet, "no recent events")),
            (hearing(Some(now - QUIET_AFTER), 0, vec![trouble(now)]), (SourceState::Troubled, "wrong key")),
        ] {
            let (state, says) = heard_state(&hearing, now);
            assert_eq!((state, says.as_str()), expected);
        }
    }
}
