//! Looking into files before they are read, and the kits by which they are recognised.

use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use rockrose_engine::kit::{self, Kit};
use rockrose_intake::{Budget, Family, Problem, Sample};
use serde_json::value::RawValue;

use super::extract::Body;
use super::sources::{FILES, source_file};
use super::types::{self, LookRequest, LookedInto, LookedKind};
use crate::{App, now_ms};

/// How long files are looked for, and somebody waits for others who look.
const LOOK_TIME: Duration = Duration::from_secs(10);
/// Most files and folders that are looked through.
const LOOK_ENTRIES: usize = 200_000;
/// Events of a sample that are shown.
const SHOWN: usize = 5;

/// Looks into files before they are read: which there are, of which kinds they are, how the first events of each would be read, and which sources to add to a plan.
#[utoipa::path(post, operation_id = "look_into_files", path = "/api/v1/files/look", tag = "connect", request_body = types::LookRequest,
    responses((status = 200, body = types::LookedInto), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn look(State(app): State<Arc<App>>, Body(request): Body<LookRequest>) -> Result<Json<LookedInto>, Problem> {
    if request.paths.is_empty() {
        return Err(Problem::new(StatusCode::BAD_REQUEST, "no-paths", "No files were named", "`paths` is empty"));
    }
    // One at a time, and for some seconds, so that those who take events in are not held up.
    let place = tokio::time::timeout(LOOK_TIME, app.looking.clone().acquire_owned()).await;
    let Ok(Ok(place)) = place else { return Err(Problem::unavailable("busy", "others look into files at this moment")) };
    let mut budget = Budget::new(LOOK_ENTRIES, LOOK_TIME);
    // Whoever goes away does not leave their question behind.
    let _asked = Asking(budget.cancelled());
    let scope = app.scope.clone();
    let looked = tokio::task::spawn_blocking(move || {
        let _place = place;
        let sample = rockrose_intake::sample(&request.paths, &request.exclude, &scope, &mut budget);
        let kinds = kinds(&sample, &request, now_ms());
        let plan = (!kinds.is_empty()).then(|| plan_for(&request, &kinds));
        (sample, kinds, plan)
    });
    let (sample, kinds, plan) = looked.await.map_err(|_| Problem::internal("the files could not be examined"))?;
    let kind = |kind: FileKind| LookedKind {
        name: kind.name,
        file_count: kind.paths.len(),
        path: kind.path,
        lines: kind.lines.lines().take(SHOWN).map(str::to_owned).collect(),
        recognised: recognised(kind.found),
    };
    Ok(Json(LookedInto {
        file_count: sample.files.len(),
        files: sample.files.iter().take(FILES).map(source_file).collect(),
        more: sample.more,
        kinds: kinds.into_iter().map(kind).collect(),
        plan,
    }))
}

/// Somebody who waits for an answer.
pub(super) struct Asking(pub(super) Arc<AtomicBool>);

impl Drop for Asking {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Release);
    }
}

/// Files that one source reads, since they are read by the same steps.
struct FileKind {
    /// What the source is called.
    name: String,
    paths: Vec<String>,
    /// The file that was written last, and its first lines.
    path: String,
    lines: String,
    found: kit::Recognised,
}

/// The kinds of files in a sample, those of which there are most first.
fn kinds(sample: &Sample, request: &LookRequest, now_ms: i64) -> Vec<FileKind> {
    let mut kinds: Vec<FileKind> = Vec::new();
    for Family { paths, path, lines } in &sample.families {
        let found = kit::recognise(lines, now_ms);
        match kinds.iter_mut().find(|k| k.found.steps == found.steps) {
            Some(kind) => kind.paths.extend_from_slice(paths),
            None => kinds.push(FileKind { name: String::new(), paths: paths.clone(), path: path.clone(), lines: lines.clone(), found }),
        }
    }
    kinds.sort_by_key(|k| std::cmp::Reverse(k.paths.len()));
    let name = request.name.as_deref().unwrap_or("files");
    let several = kinds.len() > 1;
    let mut taken = HashSet::new();
    for kind in &mut kinds {
        let own = match kind.found.kits.last() {
            _ if !several => name.to_owned(),
            Some(kit) => format!("{name}-{kit}"),
            None => format!("{name}-text"),
        };
        let numbered = (2..).map(|n| format!("{own}-{n}"));
        kind.name = std::iter::once(own.clone()).chain(numbered).find(|name| !taken.contains(name)).unwrap_or_default();
        taken.insert(kind.name.clone());
    }
    kinds
}

/// Patterns that meet these files and those that a rotation makes of them.
fn patterns(paths: &[String]) -> Vec<String> {
    let mut patterns: Vec<String> = Vec::new();
    // The plainest first: it may meet others.
    let mut paths: Vec<&String> = paths.iter().collect();
    paths.sort_by_key(|path| (path.len(), *path));
    for path in paths {
        if rockrose_intake::would_read(&patterns, &[], Path::new(path)) {
            continue;
        }
        let (folder, name) = path.rsplit_once('/').map_or(("", path.as_str()), |(folder, name)| (folder, name));
        let mut pattern = if folder.is_empty() && !path.starts_with('/') { String::new() } else { format!("{}/", glob_escaped(folder)) };
        let mut digits = false;
        for c in name.chars() {
            match c {
                '0'..='9' if digits => {}
                '0'..='9' => pattern.push_str("[0-9]*"),
                c => pattern.push_str(&glob_escaped(c.encode_utf8(&mut [0; 4]))),
            }
            digits = c.is_ascii_digit();
        }
        // What a rotation adds stands behind the ending.
        if name.trim_start_matches('.').contains('.') && !pattern.ends_with('*') {
            pattern.push('*');
        }
        patterns.push(pattern);
    }
    patterns
}

/// A text in which no character stands for others.
fn glob_escaped(text: &str) -> String {
    text.chars().map(|c| if matches!(c, '*' | '?' | '[' | ']') { format!("[{c}]") } else { c.to_string() }).collect()
}

/// What to add to a plan to read these files: a source for each kind. The first reads all that was asked for but what the others read, and so what comes later.
fn plan_for(request: &LookRequest, kinds: &[FileKind]) -> String {
    let list = |items: &[String]| items.iter().map(|i| format!("{i:?}")).collect::<Vec<_>>().join(", ");
    // Which line belongs to which is only known by file.
    let by_file_name = kinds.iter().any(|k| k.paths.len() > 1);
    let mut plan = "# Lines that are there already are skipped. With `begin_at = \"start\"`, they are read as well.\n".to_owned();
    for (number, kind) in kinds.iter().enumerate() {
        let (paths, exclude) = match number {
            0 => (request.paths.clone(), [&request.exclude[..], &kinds[1..].iter().flat_map(|k| patterns(&k.paths)).collect::<Vec<_>>()].concat()),
            _ => (patterns(&kind.paths), request.exclude.clone()),
        };
        let gap = if number == 0 { "" } else { "\n" };
        plan.push_str(&format!("{gap}[source.{}]\nkind = \"file\"\npaths = [{}]\n", kind.name, list(&paths)));
        if !exclude.is_empty() {
            plan.push_str(&format!("exclude = [{}]\n", list(&exclude)));
        }
        let mut steps = kind.found.steps.clone();
        if by_file_name {
            plan.push_str("path_as = \"log.file.path\"\n");
            steps.iter_mut().filter(|s| s.starts_with("join lines")).for_each(|s| s.push_str(" by log.file.path"));
        }
        if !steps.is_empty() {
            plan.push_str(&format!("on_arrival = [{}]\n", steps.iter().map(|s| format!("'{s}'")).collect::<Vec<_>>().join(", ")));
        }
    }
    for kit in Kit::ready_made().iter().filter(|kit| kinds.iter().any(|k| k.found.kits.contains(&kit.name.as_str()))) {
        let of_kit: String = kit.plan.lines().map(|line| if by_file_name { by_file(line) } else { line.to_owned() } + "\n").collect();
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

/// Most bytes of lines that are looked at to recognise them.
const RECOGNISED: usize = 64 << 10;

fn recognised(found: kit::Recognised) -> types::Recognised {
    types::Recognised {
        says: found.says,
        kits: found.kits.iter().map(|&k| k.to_owned()).collect(),
        steps: found.steps,
        share: found.share,
        timed: found.timed,
        time: found.time,
        events: found.events.into_iter().take(SHOWN).filter_map(|e| RawValue::from_string(e).ok()).collect(),
    }
}

/// Says what lines are, and by which kit and steps they would be read. Nothing is kept of them.
#[utoipa::path(post, operation_id = "recognise_lines", path = "/api/v1/kits/recognise", tag = "connect", request_body = types::RecogniseRequest,
    responses((status = 200, body = types::Recognised), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn recognise(Body(request): Body<types::RecogniseRequest>) -> Result<Json<types::Recognised>, Problem> {
    let mut lines = request.lines;
    if lines.len() > RECOGNISED {
        let end = lines[..lines.floor_char_boundary(RECOGNISED)].rfind('\n').unwrap_or(0);
        lines.truncate(end);
    }
    let found = tokio::task::spawn_blocking(move || kit::recognise(&lines, now_ms())).await;
    found.map(|found| Json(recognised(found))).map_err(|_| Problem::internal("the lines could not be looked at"))
}

/// The kits that are built in.
#[utoipa::path(get, path = "/api/v1/kits", tag = "connect", responses((status = 200, body = Vec<types::KitShown>), (status = 401, body = types::Problem)))]
pub(crate) async fn kits() -> Json<Vec<types::KitShown>> {
    let one = |kit: &Kit| types::KitShown { name: kit.name.clone(), says: kit.says.clone(), steps: kit.steps.clone(), plan: kit.plan.clone() };
    Json(Kit::ready_made().iter().map(one).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    const JAVA: &str = "2026-11-23 10:00:00 ERROR no berth\njava.lang.IllegalStateException: full\n\tat a.B.c(B.java:1)\n\tat a.B.d(B.java:2)\n";
    const ACCESS: &str = "192.0.2.7 - - [23/Nov/2026:10:00:00 +0000] \"GET /berths HTTP/1.1\" 200 512\n";

    fn family(paths: &[&str], lines: &str) -> Family {
        Family { paths: paths.iter().map(|&p| p.to_owned()).collect(), path: paths[0].to_owned(), lines: lines.to_owned() }
    }

    fn planned(request: &LookRequest, families: Vec<Family>) -> (Vec<FileKind>, String) {
        let kinds = kinds(&Sample { families, ..Sample::default() }, request, 1_795_428_000_000);
        let plan = plan_for(request, &kinds);
        let rest = "[destination.v]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"v\"]\n";
        if let Err(e) = rockrose_plan::CheckedPlan::read(&format!("{plan}{rest}")) {
            panic!("{e:?} in {plan}");
        }
        (kinds, plan)
    }

    #[test]
    fn lines_of_several_files_are_put_together_by_file() {
        let request = LookRequest { name: None, paths: vec!["/var/log/*.log".into()], exclude: Vec::new() };
        let (_, plan) = planned(&request, vec![family(&["/var/log/a.log", "/var/log/a.log.1"], JAVA)]);
        assert!(plan.contains("use trace-java"), "{plan}");
        let joins: Vec<&str> = plan.lines().filter(|l| l.contains("join lines")).collect();
        assert!(!joins.is_empty() && joins.iter().all(|l| l.contains(" by log.file.path'")), "{plan}");
        assert!(!planned(&request, vec![family(&["/var/log/a.log"], JAVA)]).1.contains("by log.file.path"));
    }

    #[test]
    fn each_kind_of_file_has_a_source_and_each_file_one_of_them() {
        let request = LookRequest { name: Some("quay".into()), paths: vec!["/logs/*".into()], exclude: vec!["*.tmp".into()] };
        let families = vec![
            family(&["/logs/web-3.log.1", "/logs/web-3.log", "/logs/web-12.log"], ACCESS),
            family(&["/logs/app.log", "/logs/app.log.2.gz"], JAVA),
            family(&["/logs/odd[1].txt"], "one\ntwo\n"),
            family(&["/logs/more.txt"], "three\n"),
        ];
        let all: Vec<String> = families.iter().flat_map(|f| f.paths.clone()).collect();
        let (kinds, plan) = planned(&request, families);
        let named: Vec<_> = kinds.iter().map(|k| (k.name.as_str(), k.paths.len())).collect();
        assert_eq!(named, [("quay-access-log", 3), ("quay-app-text", 2), ("quay-text", 2)], "{plan}");
        let checked = rockrose_plan::CheckedPlan::read(&plan).unwrap_or_else(|e| panic!("{e:?}"));
        let later = ["/logs/app.log.3", "/logs/web-7.log.1.gz", "/logs/more.txt.1", "/logs/unknown.log"].map(str::to_owned);
        for path in all.iter().chain(&later) {
            let reading = checked.sources.iter().filter(|s| match &s.kind {
                rockrose_plan::SourceKind::File(f) => rockrose_intake::would_read(&f.paths, &f.exclude, Path::new(path)),
                _ => false,
            });
            assert_eq!(reading.count(), 1, "{path} in\n{plan}");
        }
    }
}
