//! Looking into files before they are read, and the kits by which they are recognised.

use axum::Json;
use axum::http::StatusCode;
use rockrose_engine::kit::{self, Kit};
use rockrose_intake::Problem;
use serde_json::value::RawValue;

use super::extract::Body;
use super::sources::{FILES, source_file};
use super::types::{self, LookRequest, LookedInto};
use crate::now_ms;

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
        let sample = rockrose_intake::sample(&request.paths, &request.exclude);
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
    if !request.exclude.is_empty() {
        plan.push_str(&format!("exclude = [{}]\n", list(&request.exclude)));
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

/// The kits that are built in.
#[utoipa::path(get, path = "/api/v1/kits", tag = "connect", responses((status = 200, body = Vec<types::KitShown>), (status = 401, body = types::Problem)))]
pub(crate) async fn kits() -> Json<Vec<types::KitShown>> {
    let one = |kit: &Kit| types::KitShown { name: kit.name.clone(), says: kit.says.clone(), steps: kit.steps.clone(), plan: kit.plan.clone() };
    Json(Kit::ready_made().iter().map(one).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_several_files_are_put_together_by_file() {
        let lines = "2026-11-23 10:00:00 ERROR no berth\njava.lang.IllegalStateException: full\n\tat a.B.c(B.java:1)\n\tat a.B.d(B.java:2)\n";
        let found = kit::recognise(lines, 1_795_428_000_000);
        let request = LookRequest { name: None, paths: vec!["/var/log/*.log".into()], exclude: Vec::new() };
        let plan = plan_for(&request, &found, 2);
        assert!(plan.contains("use trace-java"), "{plan}");
        let joins: Vec<&str> = plan.lines().filter(|l| l.contains("join lines")).collect();
        assert!(!joins.is_empty() && joins.iter().all(|l| l.contains(" by log.file.path'")), "{plan}");
        let rest = "[destination.v]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"v\"]\n";
        assert!(rockrose_plan::CheckedPlan::read(&format!("{plan}{rest}")).is_ok(), "{plan}");
        assert!(!plan_for(&request, &found, 1).contains("by log.file.path"));
    }
}
