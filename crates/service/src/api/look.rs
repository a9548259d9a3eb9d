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
use rockrose_plan::{CheckedPlan, Source, SourceKind, is_name};
use serde_json::value::RawValue;

use super::agents::unknown;
use super::extract::{Body, Part};
use super::sources::{FILES, source_file};
use super::types::{self, AgentLook, AgentLooked, CollectedFiles, LookRequest, LookedInto, LookedKind};
use crate::agents::SILENT_AFTER;
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
        let kinds = kinds(&sample.families, request.name.as_deref().unwrap_or("files"), HashSet::new(), now_ms());
        let plan = (!kinds.is_empty()).then(|| plan_for(&request, &kinds));
        (sample, kinds, plan)
    });
    let (sample, kinds, plan) = looked.await.map_err(|_| Problem::internal("the files could not be examined"))?;
    Ok(Json(LookedInto {
        file_count: sample.files.len(),
        files: sample.files.iter().take(FILES).map(source_file).collect(),
        more: sample.more,
        kinds: kinds.into_iter().map(looked_kind).collect(),
        plan,
    }))
}

fn looked_kind(kind: FileKind) -> LookedKind {
    LookedKind {
        name: kind.name,
        file_count: kind.paths.len(),
        path: kind.path,
        lines: kind.lines.lines().take(SHOWN).map(str::to_owned).collect(),
        recognised: recognised(kind.found),
    }
}

/// How long an agent may take to answer. It is heard every few seconds, and then looks for some.
const AGENT_TIME: Duration = Duration::from_secs(30);

/// Asks an agent which files there are on its host, and says of which kinds they are, how the first events of each would be read, and how they would be collected. What may be looked at
/// is said by the host's owner.
#[utoipa::path(post, path = "/api/v1/agents/{name}/look", tag = "agents", params(("name" = String, Path)), request_body = AgentLook,
    responses((status = 200, body = AgentLooked), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 409, body = types::Problem), (status = 503, body = types::Problem)))]
pub(crate) async fn look_on_agent(State(app): State<Arc<App>>, Part(name): Part<String>, Body(request): Body<AgentLook>) -> Result<Json<AgentLooked>, Problem> {
    let agent = app.agents.called(&name).ok_or_else(|| unknown(&name))?;
    let cannot = |detail: String| Problem::new(StatusCode::CONFLICT, "not-shown", "Its files cannot be looked into", detail);
    if let Some(wrong) = request.name.as_ref().filter(|name| !is_name(name)) {
        let detail = format!("`{wrong}` cannot name what is collected: letters, digits, `-` and `_`, a letter first, at most 64");
        return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-name", "Not a name", detail));
    }
    if now_ms() - agent.heard_ms > SILENT_AFTER {
        return Err(cannot(format!("nothing is heard of {name} at the moment")));
    }
    if !agent.heard.shows_files {
        return Err(cannot(format!(
            "the owner of {name} does not let its files be looked into (`show_files` in its agent.toml), or it is an agent of another make"
        )));
    }
    let asked = app.agents.look(&agent.record.id, request.paths, request.exclude);
    let mut asked = asked.ok_or_else(|| Problem::unavailable("busy", format!("others look into the files of {name} at this moment")))?;
    let Ok(Some(sample)) = tokio::time::timeout(AGENT_TIME, asked.found()).await else {
        return Err(Problem::unavailable("no-answer", format!("{name} did not answer in time")));
    };
    drop(asked);
    let running = app.engine.running();
    let wanted = app.agents.wanted(&running, &agent.record.id);
    let looked = tokio::task::spawn_blocking(move || {
        let collects = wanted.map(|wanted| wanted.collects.clone()).unwrap_or_default();
        looked_on(sample, &running.checked, &collects, &agent.record.name, &agent.record.group, request.name.as_deref(), now_ms())
    });
    looked.await.map(Json).map_err(|_| Problem::internal("the files could not be examined"))
}

/// What was found on a host: what of it is collected already, by which of `collects`, and how the rest would be.
fn looked_on(sample: Sample, plan: &CheckedPlan, collects: &[String], host: &str, group: &str, name: Option<&str>, now_ms: i64) -> AgentLooked {
    let by = |path: &str| {
        let reads = |source: &&Source| match &source.kind {
            SourceKind::File(files) => rockrose_intake::would_read(&files.paths, &files.exclude, Path::new(path)),
            _ => false,
        };
        plan.collects.iter().filter(|source| collects.contains(&source.name)).find(reads).map(|source| source.name.clone())
    };
    let mut collected: Vec<CollectedFiles> = Vec::new();
    let mut note = |by: String| match collected.iter_mut().find(|files| files.by == by) {
        Some(files) => files.file_count += 1,
        None => collected.push(CollectedFiles { by, file_count: 1 }),
    };
    let mut families = sample.families;
    for family in &mut families {
        family.paths.retain(|path| match by(path) {
            Some(by) => {
                note(by);
                false
            }
            None => true,
        });
    }
    families.retain(|family| !family.paths.is_empty());
    let taken: HashSet<String> = plan.collects.iter().map(|source| source.name.clone()).collect();
    let kinds = kinds(&families, name.unwrap_or(group), taken, now_ms);
    let recipes = plan.recipe_names();
    let text = (!kinds.is_empty()).then(|| collects_for(&kinds, &recipes));
    let names: Vec<String> = kinds.iter().map(|kind| format!("{:?}", kind.name)).collect();
    let assignment = |name: &str, when: String| {
        let name = unused(name, |name| plan.assignments.iter().any(|assignment| assignment.name == name));
        format!("[assignment.{name}]\nwhen = '{when}'\ncollect = [{}]\n", names.join(", "))
    };
    let own: String = host.chars().map(|c| if c == '.' { '-' } else { c }).collect();
    let own = if is_name(&own) { own } else { format!("{group}-host") };
    let (for_host, for_group) =
        (assignment(name.unwrap_or(&own), format!("agent.name = \"{host}\"")), assignment(name.unwrap_or(group), format!("group = \"{group}\"")));
    let has_some = text.is_some();
    AgentLooked {
        file_count: sample.files.len(),
        files: sample.files.iter().map(source_file).collect(),
        more: sample.more,
        collected,
        kinds: kinds.into_iter().map(looked_kind).collect(),
        plan: text,
        for_host: has_some.then_some(for_host),
        for_group: has_some.then_some(for_group),
    }
}

/// The name, or if it is taken, one with a number behind it.
fn unused(name: &str, is_taken: impl Fn(&str) -> bool) -> String {
    let numbered = (2..).map(|n| format!("{name}-{n}"));
    std::iter::once(name.to_owned()).chain(numbered).find(|name| !is_taken(name)).unwrap_or_default()
}

/// What to add to a plan to collect these files on hosts: a section for each kind, and the recipes of its kits that the plan does not have.
fn collects_for(kinds: &[FileKind], recipes: &[String]) -> String {
    let by_file_name = kinds.iter().any(|kind| kind.paths.len() > 1);
    let mut text = "# Lines that are there already are skipped. With `begin_at = \"start\"`, they are collected as well.\n".to_owned();
    for (number, kind) in kinds.iter().enumerate() {
        text.push_str(if number == 0 { "" } else { "\n" });
        text.push_str(&section("collect", kind, &patterns(&kind.paths), &[], by_file_name));
    }
    text + &recipes_of(kinds, by_file_name, |kit| recipes.contains(&kit.name))
}

/// The section by which files of one kind are read.
fn section(table: &str, kind: &FileKind, paths: &[String], exclude: &[String], by_file_name: bool) -> String {
    let list = |items: &[String]| items.iter().map(|i| format!("{i:?}")).collect::<Vec<_>>().join(", ");
    let mut text = format!("[{table}.{}]\nkind = \"file\"\npaths = [{}]\n", kind.name, list(paths));
    if !exclude.is_empty() {
        text.push_str(&format!("exclude = [{}]\n", list(exclude)));
    }
    let mut steps = kind.found.steps.clone();
    if by_file_name {
        text.push_str("path_as = \"log.file.path\"\n");
        steps.iter_mut().filter(|s| s.starts_with("join lines")).for_each(|s| s.push_str(" by log.file.path"));
    }
    if !steps.is_empty() {
        text.push_str(&format!("on_arrival = [{}]\n", steps.iter().map(|s| format!("'{s}'")).collect::<Vec<_>>().join(", ")));
    }
    text
}

/// The recipes of the kits that read these files, but for those that are there.
fn recipes_of(kinds: &[FileKind], by_file_name: bool, is_there: impl Fn(&Kit) -> bool) -> String {
    let mut text = String::new();
    for kit in Kit::ready_made().iter().filter(|kit| !is_there(kit) && kinds.iter().any(|k| k.found.kits.contains(&kit.name.as_str()))) {
        let of_kit: String = kit.plan.lines().map(|line| if by_file_name { by_file(line) } else { line.to_owned() } + "\n").collect();
        text.push_str(&format!("\n{of_kit}"));
    }
    text
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
fn kinds(families: &[Family], name: &str, mut taken: HashSet<String>, now_ms: i64) -> Vec<FileKind> {
    let mut kinds: Vec<FileKind> = Vec::new();
    for Family { paths, path, lines } in families {
        let found = kit::recognise(lines, now_ms);
        match kinds.iter_mut().find(|k| k.found.steps == found.steps) {
            Some(kind) => kind.paths.extend_from_slice(paths),
            None => kinds.push(FileKind { name: String::new(), paths: paths.clone(), path: path.clone(), lines: lines.clone(), found }),
        }
    }
    kinds.sort_by_key(|k| std::cmp::Reverse(k.paths.len()));
    let several = kinds.len() > 1;
    for kind in &mut kinds {
        let own = match kind.found.kits.last() {
            _ if !several => name.to_owned(),
            Some(kit) => format!("{name}-{kit}"),
            None => format!("{name}-text"),
        };
        kind.name = unused(&own, |name| taken.contains(name));
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
    // Which line belongs to which is only known by file.
    let by_file_name = kinds.iter().any(|k| k.paths.len() > 1);
    let mut plan = "# Lines that are there already are skipped. With `begin_at = \"start\"`, they are read as well.\n".to_owned();
    for (number, kind) in kinds.iter().enumerate() {
        let (paths, exclude) = match number {
            0 => (request.paths.clone(), [&request.exclude[..], &kinds[1..].iter().flat_map(|k| patterns(&k.paths)).collect::<Vec<_>>()].concat()),
            _ => (patterns(&kind.paths), request.exclude.clone()),
        };
        let gap = if number == 0 { "" } else { "\n" };
        plan.push_str(gap);
        plan.push_str(&section("source", kind, &paths, &exclude, by_file_name));
    }
    plan + &recipes_of(kinds, by_file_name, |_| false)
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

    fn planned(request: &LookRequest, families: &[Family]) -> (Vec<FileKind>, String) {
        let kinds = kinds(families, request.name.as_deref().unwrap_or("files"), HashSet::new(), 1_795_428_000_000);
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
        let (_, plan) = planned(&request, &[family(&["/var/log/a.log", "/var/log/a.log.1"], JAVA)]);
        assert!(plan.contains("use trace-java"), "{plan}");
        let joins: Vec<&str> = plan.lines().filter(|l| l.contains("join lines")).collect();
        assert!(!joins.is_empty() && joins.iter().all(|l| l.contains(" by log.file.path'")), "{plan}");
        assert!(!planned(&request, &[family(&["/var/log/a.log"], JAVA)]).1.contains("by log.file.path"));
    }

    #[test]
    fn what_a_host_does_not_collect_yet_becomes_collects_and_an_assignment() {
        let text = "[source.hosts]\nkind = \"agents\"\nlisten = \"127.0.0.1:8640\"\n[destination.v]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"v\"]\n\
            [collect.gates]\nkind = \"file\"\npaths = [\"/var/log/barrier.log\"]\n[assignment.gates]\ncollect = [\"gates\"]\n";
        let plan = CheckedPlan::read(text).unwrap();
        let families =
            vec![family(&["/var/log/barrier.log"], "one\n"), family(&["/var/log/web.log", "/var/log/web.log.1"], ACCESS), family(&["/var/log/odd.log"], JAVA)];
        let sample = Sample { families: families.clone(), ..Sample::default() };
        let looked = looked_on(sample.clone(), &plan, &["gates".to_owned()], "gate-1.lowmere.example", "gates", None, 1_795_428_000_000);
        assert_eq!(looked.collected.iter().map(|c| (c.by.as_str(), c.file_count)).collect::<Vec<_>>(), [("gates", 1)]);
        assert_eq!(looked.kinds.iter().map(|k| k.name.as_str()).collect::<Vec<_>>(), ["gates-access-log", "gates-app-text"]);
        let (more, host, group) = (looked.plan.unwrap(), looked.for_host.unwrap(), looked.for_group.unwrap());
        for (assignment, named, when) in
            [(&host, "gate-1-lowmere-example", "agent.name = \"gate-1.lowmere.example\""), (&group, "gates-2", "group = \"gates\"")]
        {
            let whole = format!("{text}{more}\n{assignment}");
            let read = CheckedPlan::read(&whole).unwrap_or_else(|e| panic!("{e:?} in {whole}"));
            let added = read.assignments.last().unwrap();
            assert_eq!((added.name.as_str(), added.when.as_ref().unwrap().to_string().as_str()), (named, when));
            assert_eq!(added.collect, ["gates-access-log", "gates-app-text"]);
            assert!(read.recipe_names().contains(&"access-log".to_owned()), "{whole}");
        }
        // A recipe that the plan has is not added again, and with nothing new there is nothing to add.
        let again = CheckedPlan::read(&format!("{text}{more}")).unwrap();
        let looked = looked_on(sample, &again, &["gates".to_owned()], "gate-1", "gates", Some("web"), 1_795_428_000_000);
        let more = looked.plan.unwrap();
        assert!(!more.contains("[recipe.") && more.contains("[collect.web-access-log]"), "{more}");
        let known = Sample { families: families[..1].to_vec(), ..Sample::default() };
        assert!(looked_on(known, &plan, &["gates".to_owned()], "gate-1", "gates", None, 0).for_host.is_none());
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
        let (kinds, plan) = planned(&request, &families);
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
