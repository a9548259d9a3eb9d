//! How sources are doing: what they heard last, what is wrong with their senders, and what to paste to send to them.

use std::sync::Arc;
use std::time::Duration;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_engine::kit::{self, Kit};
use rockrose_intake::{FileSeen, FileState, Hearing, Problem, Wrong};
use rockrose_ledger::{Measure, Stage};
use rockrose_plan::{Source as Planned, SourceKind, SyslogSource};
use rockrose_records::Side;
use serde::Deserialize;
use serde_json::value::RawValue;
use utoipa::IntoParams;

use super::auth::Identity;
use super::extract::{Asked, Body, Part};
use super::rates::Book;
use super::types::{self, CaughtRecord, Freshness, LookRequest, LookedInto, SendLine, Source, SourceFile, SourceKey, SourceState, Trouble};
use crate::{App, now_ms, queues};

/// A source whose last event came longer ago than this is quiet, in milliseconds.
const QUIET_AFTER: i64 = 5 * 60_000;

/// Most files of a source that are told one by one.
const FILES: usize = 1_000;

/// The sources of the plan that runs.
#[utoipa::path(get, path = "/api/v1/sources", tag = "connect", responses((status = 200, body = Vec<Source>), (status = 401, body = types::Problem)))]
pub(crate) async fn sources(State(app): State<Arc<App>>) -> Result<Json<Vec<Source>>, Problem> {
    let (running, now) = (app.engine.running(), now_ms());
    let reading = app.meter.read();
    let book = Book::new(&reading);
    Ok(Json(running.checked.sources.iter().map(|planned| told(&app, &book, planned, now)).collect()))
}

fn told(app: &App, book: &Book<'_>, planned: &Planned, now: i64) -> Source {
    let hearing = app.sources.heard(&planned.name).get();
    let (state, says) = state(app, &planned.name, &hearing, now);
    let of_files = hearing.files.iter().filter(|f| f.state.is_trouble()).take(FILES).map(|f| Trouble {
        what: "file".to_owned(),
        says: format!("{}: {}", f.path, f.says),
        remedy: file_remedy(f.state).to_owned(),
        from: None,
        times: 1,
        last_ms: now,
    });
    let troubles = of_files.chain(hearing.troubles.iter().map(|t| Trouble {
        what: word(t.what).to_owned(),
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
        freshness: hearing.ages.freshness().map(|f| Freshness { half_ms: f.half, most_ms: f.most, nearly_all_ms: f.nearly_all }),
        paused_by: app.engine.paused(Side::Source, &planned.name).map(|p| p.who),
        file_count: hearing.files.len(),
        files: hearing.files.iter().take(FILES).map(source_file).collect(),
        troubles: troubles.collect(),
        send: send(planned),
    }
}

fn file_word(state: FileState) -> &'static str {
    match state {
        FileState::Current => "current",
        FileState::Behind => "behind",
        FileState::Copy => "copy",
        FileState::Denied => "denied",
        FileState::Binary => "binary",
        FileState::Damaged => "damaged",
        FileState::Gone => "gone",
        FileState::Odd => "odd",
        FileState::Missing => "missing",
        FileState::TooMany => "too many",
    }
}

/// What helps against the state of a file.
fn file_remedy(state: FileState) -> &'static str {
    match state {
        FileState::Denied => "let the user that the service runs as read it and its folders, by its group or an access list",
        FileState::Binary => "leave it out with `but_not`, or have it written as UTF-8",
        FileState::Damaged => "see whether it is still being packed or copied; it is tried again when it changes",
        FileState::Gone => "keep rotated files until they are read: let `paths` meet their names as well",
        FileState::Odd => "let `paths` meet files only",
        FileState::Missing => "see whether the path is right, and whether the folder is there; it is taken up as soon as it appears",
        FileState::TooMany => "divide them among several sources, or narrow `paths`",
        FileState::Current | FileState::Behind | FileState::Copy => "",
    }
}

fn known<'a>(running: &'a crate::engine::Running, name: &str) -> Result<&'a Planned, Problem> {
    running.checked.sources.iter().find(|s| s.name == name).ok_or_else(|| Problem::not_found(format!("the plan has no source `{name}`")))
}

/// Takes nothing more from a source's senders until it is resumed, over restarts and plans. Those that can wait are told to; datagrams are lost, and counted.
#[utoipa::path(post, operation_id = "pause_source", path = "/api/v1/sources/{name}/pause", tag = "connect", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn pause(State(app): State<Arc<App>>, Extension(who): Extension<Identity>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    known(&app.engine.running(), &name)?;
    super::pause(&app, Side::Source, &name, who.0).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Lets a paused source take events again.
#[utoipa::path(post, operation_id = "resume_source", path = "/api/v1/sources/{name}/resume", tag = "connect", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn resume(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    if !super::resume(&app, Side::Source, &name).await? {
        known(&app.engine.running(), &name)?;
    }
    Ok(StatusCode::NO_CONTENT)
}

/// Makes a new key for a source; the one before is good no more, at once. The new one is shown this once.
#[utoipa::path(post, path = "/api/v1/sources/{name}/key", tag = "connect", params(("name" = String, Path)),
    responses((status = 200, body = types::SourceKey), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn new_key(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<Json<SourceKey>, Problem> {
    let secret = key_of(&app, &name)?;
    let key = fresh_key()?;
    super::secrets::keep(&app, &secret, key.clone()).await?;
    let running = app.engine.running();
    let planned = known(&running, &name)?;
    let url = matches!(planned.kind, SourceKind::Http(_)).then(|| {
        let (scheme, host, port) = reached_at(planned);
        format!("{scheme}://{host}:{port}/in/{key}")
    });
    Ok(Json(SourceKey { key, url }))
}

/// Makes a source's key good no more: nobody can send to it until it has a new one.
#[utoipa::path(delete, path = "/api/v1/sources/{name}/key", tag = "connect", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn revoke_key(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    let secret = key_of(&app, &name)?;
    // Nobody knows this one, and nobody is told.
    super::secrets::keep(&app, &secret, fresh_key()?).await?;
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
pub(crate) async fn test(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<Json<types::Probe>, Problem> {
    let (running, now) = (app.engine.running(), now_ms());
    let planned = known(&running, &name)?;
    let mut steps = Vec::new();
    let mut step = |step: &str, good: bool, says: String| steps.push(types::ProbeStep { step: step.to_owned(), good, ms: 0.0, says });
    let hearing = app.sources.heard(&name).get();
    if let SourceKind::File(_) = &planned.kind {
        match bad_files(&hearing.files) {
            Some((bad, says)) => step("files", false, format!("{says}; {}", file_remedy(bad.state))),
            None => {
                let size: u64 = hearing.files.iter().map(|f| f.size).sum();
                step("files", !hearing.files.is_empty(), format!("{} files, {size} bytes", hearing.files.len()));
            }
        }
    }
    for settings in app.sources.settings_of(&name).await {
        for looked in rockrose_intake::look(&settings).await {
            steps.push(types::ProbeStep { step: looked.step.to_owned(), good: looked.good, ms: looked.ms, says: looked.says });
        }
    }
    let mut step = |step: &str, good: bool, says: String| steps.push(types::ProbeStep { step: step.to_owned(), good, ms: 0.0, says });
    let routes: Vec<&str> = running.checked.routes.iter().filter(|r| r.takes_from(&name)).map(|r| r.name.as_str()).collect();
    match routes.len() {
        0 => step("routes", false, "no route takes from it, so its events go nowhere".to_owned()),
        n if n > 5 => step("routes", true, format!("{n} routes take from it")),
        _ => step("routes", true, format!("{} take{} from it", routes.join(", "), if routes.len() == 1 { "s" } else { "" })),
    }
    let mut reached = running.compiled.source(&name).into_iter().flat_map(|number| running.compiled.reached_from(number));
    let full = reached.find_map(|to| queues::pushes_back(&app.spool, &running.checked, &running.checked.destinations[*to]));
    match (app.engine.paused(Side::Source, &name), full) {
        (Some(paused), _) => step("room", false, format!("{} has paused it", paused.who)),
        (None, Some(full)) => step("room", false, format!("the destination `{full}` holds all it may, so senders are told to wait")),
        (None, None) => step("room", true, "there is room for what it takes".to_owned()),
    }
    let (state, says) = state(&app, &name, &hearing, now);
    step("heard", matches!(state, SourceState::Flowing | SourceState::Quiet), says);
    Ok(Json(types::Probe { good: steps.iter().all(|s| s.good), steps }))
}

/// Events of a sample that are shown.
const SHOWN: usize = 5;

/// Looks into files before they are read: which there are, what stands in the newest, what it was recognised as and how its first events would be read.
#[utoipa::path(post, operation_id = "look_into_files", path = "/api/v1/files/look", tag = "connect", request_body = types::LookRequest,
    responses((status = 200, body = types::LookedInto), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn look(Body(request): Body<LookRequest>) -> Result<Json<LookedInto>, Problem> {
    if request.paths.is_empty() {
        return Err(Problem::new(StatusCode::BAD_REQUEST, "no-paths", "No files were named", "`paths` is empty"));
    }
    let looked = tokio::task::spawn_blocking(move || {
        let sample = rockrose_intake::sample(&request.paths, &request.but_not);
        let recognised = sample.path.is_some().then(|| kit::recognise(&sample.lines, now_ms()));
        let plan = recognised.as_ref().map(|found| plan_for(&request, found, sample.files.iter().filter(|f| !f.state.is_trouble()).count()));
        (sample, recognised, plan)
    });
    let (sample, recognised, plan) = looked.await.map_err(|_| Problem::internal("the files could not be looked at"))?;
    Ok(Json(LookedInto {
        file_count: sample.files.len(),
        files: sample.files.iter().take(FILES).map(source_file).collect(),
        path: sample.path,
        lines: sample.lines.lines().take(SHOWN).map(str::to_owned).collect(),
        recognised: recognised.map(|found| types::Recognised {
            says: found.says,
            kits: found.kits.iter().map(|&k| k.to_owned()).collect(),
            steps: found.steps,
            share: found.share,
            timed: found.timed,
            time: found.time,
            events: found.events.into_iter().take(SHOWN).filter_map(|e| RawValue::from_string(e).ok()).collect(),
        }),
        plan,
    }))
}

/// What to add to a plan to read these files.
fn plan_for(request: &LookRequest, found: &kit::Recognised, files: usize) -> String {
    let list = |items: &[String]| items.iter().map(|i| format!("{i:?}")).collect::<Vec<_>>().join(", ");
    let mut plan = format!("[source.{}]\nkind = \"file\"\npaths = [{}]\n", request.name.as_deref().unwrap_or("files"), list(&request.paths));
    if !request.but_not.is_empty() {
        plan.push_str(&format!("but_not = [{}]\n", list(&request.but_not)));
    }
    // Which line belongs to which is only known by file.
    let mut steps = found.steps.clone();
    if files > 1 {
        plan.push_str("path_as = \"log.file.path\"\n");
        steps.iter_mut().filter(|s| s.starts_with("join lines")).for_each(|s| s.push_str(" by log.file.path"));
    }
    if !steps.is_empty() {
        plan.push_str(&format!("on_arrival = [{}]\n", steps.iter().map(|s| format!("'{s}'")).collect::<Vec<_>>().join(", ")));
    }
    for kit in Kit::ready_made().iter().filter(|k| found.kits.contains(&k.name.as_str())) {
        let of_kit: String = kit.plan.lines().map(|line| if files > 1 { by_file(line) } else { line.to_owned() } + "\n").collect();
        plan.push_str(&format!("\n{of_kit}"));
    }
    plan
}

/// A line of a kit's plan; where it puts lines together, those of each file apart.
fn by_file(line: &str) -> String {
    match line.rfind(['\'', '"']).filter(|_| line.trim_start().trim_start_matches(['\'', '"']).starts_with("join lines")) {
        Some(end) => format!("{} by log.file.path{}", &line[..end], &line[end..]),
        None => line.to_owned(),
    }
}

fn source_file(f: &FileSeen) -> SourceFile {
    SourceFile { path: f.path.clone(), state: file_word(f.state).to_owned(), says: f.says.clone(), size: f.size, offset: f.offset }
}

/// The kits that are built in.
#[utoipa::path(get, path = "/api/v1/kits", tag = "connect", responses((status = 200, body = Vec<types::KitShown>), (status = 401, body = types::Problem)))]
pub(crate) async fn kits() -> Json<Vec<types::KitShown>> {
    let one = |kit: &Kit| types::KitShown { name: kit.name.clone(), says: kit.says.clone(), steps: kit.steps.clone(), plan: kit.plan.clone() };
    Json(Kit::ready_made().iter().map(one).collect())
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
pub(crate) async fn next(State(app): State<Arc<App>>, Part(name): Part<String>, Asked(query): Asked<NextQuery>) -> Result<Json<Vec<CaughtRecord>>, Problem> {
    known(&app.engine.running(), &name)?;
    let (most, wait) = (query.events.unwrap_or(10).clamp(1, 100), Duration::from_secs(query.wait.unwrap_or(10).min(60)));
    let caught = app.sources.heard(&name).catch();
    let mut caught = caught.ok_or_else(|| Problem::unavailable("too-many-viewers", "16 look at this source already"))?;
    let mut all = Vec::new();
    let over = tokio::time::sleep(wait);
    tokio::pin!(over);
    while all.len() < most {
        let one = tokio::select! {
            () = &mut over => break,
            () = app.stopping.cancelled() => break,
            one = caught.recv() => one,
        };
        let Some(one) = one else { break };
        let json = |bytes: Vec<u8>| RawValue::from_string(String::from_utf8_lossy(&bytes).into_owned()).ok();
        let (read, unreadable) = match one.read {
            Ok(read) => (json(read), None),
            Err(why) => (None, Some(why)),
        };
        let raw = String::from_utf8_lossy(&one.raw).into_owned();
        all.push(CaughtRecord { at_ms: one.at_ms, raw, read, unreadable, after: one.after.and_then(json), stopped_by: one.stopped_by });
    }
    Ok(Json(all))
}

/// What is to be said of a source, in a word and a sentence. It is only flowing while events flow, whatever else is well.
pub(crate) fn state(app: &App, name: &str, hearing: &Hearing, now_ms: i64) -> (SourceState, String) {
    match app.engine.paused(Side::Source, name) {
        Some(paused) => (SourceState::Paused, format!("{} has paused it", paused.who)),
        None => heard_state(hearing, now_ms),
    }
}

/// The first file that is in trouble, and how many are, in words.
fn bad_files(files: &[FileSeen]) -> Option<(&FileSeen, String)> {
    let bad = files.iter().find(|f| f.state.is_trouble())?;
    let count = files.iter().filter(|f| f.state.is_trouble()).count();
    let of = if files.len() == 1 { String::new() } else { format!("{count} of {} files cannot be read; ", files.len()) };
    Some((bad, format!("{of}{}: {}", bad.path, bad.says)))
}

fn heard_state(hearing: &Hearing, now_ms: i64) -> (SourceState, String) {
    // What keeps a file from being read does so as long as it is told.
    let bad_files = bad_files(&hearing.files);
    let worst = hearing.troubles.first();
    // What only some records or senders have wrong does not make a source that flows a troubled one. Records that cannot be read are counted beside it.
    let lately = hearing.troubles.iter().find(|t| t.what != Wrong::Unreadable && now_ms - t.last_ms < QUIET_AFTER);
    match (hearing.last_event_ms, worst) {
        (Some(last), _)
            if now_ms - last < QUIET_AFTER
                && let Some(lately) = lately =>
        {
            (SourceState::Flowing, format!("events flow, but {}", lately.says))
        }
        (Some(last), _) if now_ms - last < QUIET_AFTER => {
            (SourceState::Flowing, bad_files.map_or_else(|| "events flow".to_owned(), |(_, says)| format!("events flow, but {says}")))
        }
        (_, _) if let Some((_, says)) = bad_files => (SourceState::Troubled, says),
        (Some(last), Some(worst)) if worst.last_ms > last => (SourceState::Troubled, worst.says.clone()),
        (Some(_), _) => (SourceState::Quiet, "it was heard before, and is quiet now".to_owned()),
        (None, Some(worst)) => (SourceState::Troubled, worst.says.clone()),
        (None, None) if !hearing.files.is_empty() => (SourceState::Unheard, "its files are read to their ends; nothing was written to them since".to_owned()),
        (None, None) if hearing.connections > 0 => (SourceState::Unheard, "senders are connected, but have sent nothing".to_owned()),
        (None, None) => (SourceState::Unheard, "nothing has come yet".to_owned()),
    }
}

fn word(what: Wrong) -> &'static str {
    match what {
        Wrong::Key => "key",
        Wrong::Address => "address",
        Wrong::PlainText => "plain text",
        Wrong::Tls => "tls",
        Wrong::Format => "format",
        Wrong::TooLarge => "too large",
        Wrong::Unreadable => "unreadable",
        Wrong::PushedBack => "pushed back",
        Wrong::Lost => "lost",
        Wrong::Clock => "clock",
    }
}

/// What helps against it.
fn remedy(what: Wrong, planned: &Planned) -> &'static str {
    match (what, &planned.kind) {
        (Wrong::Key, SourceKind::Http(_)) => "let the sender show the key as `Authorization: Bearer KEY`, or post to `/in/KEY`",
        (Wrong::Key, _) => "let the sender show the key as `Authorization: Bearer KEY`",
        (Wrong::Address, _) => "add the sender's network to `allow`, if it may send",
        (Wrong::PlainText, _) => "switch on TLS at the sender, or send to a source without `certificate`",
        (Wrong::Tls, _) if planned.certificates.is_none() => "switch off TLS at the sender, or give the source a `certificate`",
        (Wrong::Tls, _) => "see that the sender trusts the certificate, and shows one of its own if `client_ca` asks for it",
        (Wrong::Clock, SourceKind::Syslog(_)) => "set the source's `zone` to the senders', or their clocks right",
        (Wrong::Clock, _) => "set the senders' clocks right, or convert their times with their zone: `convert time to time in \"ZONE\"`",
        (Wrong::TooLarge, SourceKind::File(_)) => "raise the source's `max_event`",
        (Wrong::Format, SourceKind::Otlp(_)) => "send logs as OTLP, over gRPC or to `/v1/logs`; other JSON and lines go to a source of kind `http`",
        (Wrong::Format, SourceKind::Http(_)) => "post JSON or lines to `/in`; OTLP goes to a source of kind `otlp`, syslog to one of kind `syslog`",
        (Wrong::Format, SourceKind::Syslog(_)) => "send whole messages, RFC 5424 or RFC 3164; lines go to a source of kind `tcp`, HTTP to one of kind `http`",
        (Wrong::Format, _) => "send lines of JSON or text; HTTP goes to a source of kind `http`, syslog to one of kind `syslog`",
        (Wrong::TooLarge, _) => "let the sender send less at once, or raise the source's limits",
        (Wrong::Unreadable, _) => "look at what came in quarantine",
        (Wrong::PushedBack, _) => "see which destination is full, or cannot be written to",
        (Wrong::Lost, _) => "send over TCP, which waits, or less",
    }
}

/// Scheme, host and port by which senders reach a source that listens.
fn reached_at(planned: &Planned) -> (&'static str, String, u16) {
    let scheme = if planned.certificates.is_some() { "https" } else { "http" };
    let (host, port) = match planned.listen.map(|l| (l.ip(), l.port())) {
        None => ("HOST".to_owned(), 0),
        Some((ip, port)) if ip.is_unspecified() => ("HOST".to_owned(), port),
        Some((ip, port)) if ip.is_ipv6() => (format!("[{ip}]"), port),
        Some((ip, port)) => (ip.to_string(), port),
    };
    (scheme, host, port)
}

/// What to paste to send to a source.
fn send(planned: &Planned) -> Vec<SendLine> {
    let (scheme, host, port) = reached_at(planned);
    let line = |with: &str, line: String| SendLine { with: with.to_owned(), line };
    let key = |written: &str| if planned.key.is_some() { written.to_owned() } else { String::new() };
    let over_tls = planned.certificates.is_some();
    match &planned.kind {
        SourceKind::Http(_) => vec![
            line("curl, one event", format!("curl {}-d '{{\"message\":\"hello\"}}' {scheme}://{host}:{port}/in", key("-H 'Authorization: Bearer KEY' "))),
            line("curl, a file of lines", format!("curl {}--data-binary @events.jsonl {scheme}://{host}:{port}/in", key("-H 'Authorization: Bearer KEY' "))),
        ],
        SourceKind::Otlp(_) => vec![
            line(
                "an OpenTelemetry SDK, gRPC",
                format!(
                    "export OTEL_LOGS_EXPORTER=otlp OTEL_EXPORTER_OTLP_PROTOCOL=grpc OTEL_EXPORTER_OTLP_ENDPOINT={scheme}://{host}:{port}{}",
                    key(" OTEL_EXPORTER_OTLP_HEADERS='authorization=Bearer%20KEY'")
                ),
            ),
            line(
                "an OpenTelemetry SDK, HTTP",
                format!(
                    "export OTEL_LOGS_EXPORTER=otlp OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf OTEL_EXPORTER_OTLP_ENDPOINT={scheme}://{host}:{port}{}",
                    key(" OTEL_EXPORTER_OTLP_HEADERS='authorization=Bearer%20KEY'")
                ),
            ),
        ],
        SourceKind::Syslog(SyslogSource { tcp, udp, .. }) => {
            let mut lines = Vec::new();
            if *udp {
                lines.push(line("logger, UDP", format!("logger --udp --server {host} --port {port} --rfc5424 hello")));
            }
            if *tcp && !over_tls {
                lines.push(line("logger, TCP", format!("logger --tcp --octet-count --server {host} --port {port} --rfc5424 hello")));
            }
            let protocol = match (tcp, over_tls) {
                (true, true) => "TLS",
                (true, false) => "TCP",
                (false, _) => "UDP",
            };
            let framing = if *tcp { ", framing octet-counted or by lines" } else { "" };
            lines.push(line("a syslog daemon", format!("protocol {protocol}, host {host}, port {port}, RFC 5424 or RFC 3164{framing}")));
            if !over_tls {
                let address = if *tcp { "tcp" } else { "udp" };
                let options = format!("--log-opt syslog-address={address}://{host}:{port} --log-opt syslog-format=rfc5424micro");
                lines.push(line("a container runtime", format!("--log-driver syslog {options}")));
            }
            lines
        }
        SourceKind::File(files) => {
            let path = files.paths.first().map_or("", String::as_str);
            let shown = if path.contains(['*', '?', '[']) { "FILE" } else { path };
            vec![line("bash", format!("echo hello >> {shown}"))]
        }
        SourceKind::Tcp(_) if over_tls => vec![line("openssl", format!("echo hello | openssl s_client -quiet -connect {host}:{port}"))],
        SourceKind::Tcp(_) => vec![line("bash", format!("echo hello > /dev/tcp/{host}/{port}"))],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_several_files_are_put_together_by_file() {
        let lines = "2026-11-23 10:00:00 ERROR no berth\njava.lang.IllegalStateException: full\n\tat a.B.c(B.java:1)\n\tat a.B.d(B.java:2)\n";
        let found = kit::recognise(lines, 1_795_428_000_000);
        let request = LookRequest { name: None, paths: vec!["/var/log/*.log".into()], but_not: Vec::new() };
        let plan = plan_for(&request, &found, 2);
        assert!(plan.contains("use trace-java"), "{plan}");
        let joins: Vec<&str> = plan.lines().filter(|l| l.contains("join lines")).collect();
        assert!(!joins.is_empty() && joins.iter().all(|l| l.contains(" by log.file.path'")), "{plan}");
        let rest = "[destination.v]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"v\"]\n";
        assert!(rockrose_plan::CheckedPlan::read(&format!("{plan}{rest}")).is_ok(), "{plan}");
        assert!(!plan_for(&request, &found, 1).contains("by log.file.path"));
    }

    #[test]
    fn a_source_is_green_only_while_events_flow() {
        let now = 10 * QUIET_AFTER;
        let trouble = |last_ms| rockrose_intake::Trouble { what: Wrong::Key, says: "this is not the key".into(), from: None, times: 1, last_ms };
        let file = |path: &str, state, says: &str| FileSeen { path: path.into(), state, says: says.into(), size: 7, offset: 0 };
        let files =
            || vec![file("/var/log/quay.log", FileState::Current, "read to its end"), file("/var/log/gate.log", FileState::Denied, "permission denied")];
        let hearing = |last_event_ms, connections, troubles| Hearing { last_event_ms, connections, troubles, ..Hearing::default() };
        for (hearing, expected) in [
            (hearing(None, 0, vec![]), (SourceState::Unheard, "nothing has come yet")),
            (hearing(None, 2, vec![]), (SourceState::Unheard, "senders are connected, but have sent nothing")),
            (hearing(None, 2, vec![trouble(now)]), (SourceState::Troubled, "this is not the key")),
            (hearing(Some(now - 1_000), 0, vec![trouble(now)]), (SourceState::Flowing, "events flow, but this is not the key")),
            (hearing(Some(now - 1_000), 0, vec![trouble(now - QUIET_AFTER)]), (SourceState::Flowing, "events flow")),
            (
                Hearing { files: files(), ..hearing(Some(now - 1_000), 0, vec![]) },
                (SourceState::Flowing, "events flow, but 1 of 2 files cannot be read; /var/log/gate.log: permission denied"),
            ),
            (
                Hearing { files: files()[1..].to_vec(), ..hearing(Some(now - QUIET_AFTER), 0, vec![]) },
                (SourceState::Troubled, "/var/log/gate.log: permission denied"),
            ),
            (hearing(Some(now - QUIET_AFTER), 0, vec![trouble(1)]), (SourceState::Quiet, "it was heard before, and is quiet now")),
            (hearing(Some(now - QUIET_AFTER), 0, vec![trouble(now)]), (SourceState::Troubled, "this is not the key")),
        ] {
            let (state, says) = heard_state(&hearing, now);
            assert_eq!((state, says.as_str()), expected);
        }
    }
}
