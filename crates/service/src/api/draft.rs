//! Drafts of the plan: each person has one, which survives their browser; and what a plan consists of.

use std::collections::BTreeMap;
use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use diffy::ConflictStyle;
use rockrose_intake::Problem;
use rockrose_language::{AlertCondition, Mistake, explain, parse_alert, parse_condition, parse_step};
use rockrose_plan::{CheckedPlan, OutlinedPart, Report, outline};
use rockrose_records::Draft;

use super::extract::Body;
use super::trial::with;
use super::types::{
    self, DraftChange, DraftConflict, DraftRenewal, DraftedPart, OtherDraft, OutlinePart, OutlineRequest, OutlineSentence, PlanDraft, PlanOutline, mistake,
};
use super::{bad, records_problem};
use crate::apply::on_its_own_thread;
use crate::caller::Caller;
use crate::{App, now_ms};

/// The parts of a plan by their names, as they are written. A text that cannot be read has none.
fn parts(text: &str) -> BTreeMap<String, String> {
    let named = |p: OutlinedPart| (format!("{}:{}", p.part.kind, p.part.name), p.text);
    outline(text).unwrap_or_default().into_iter().map(named).collect()
}

/// The parts that `of` has otherwise than `from`, as they are in `of`.
fn changed(from: &BTreeMap<String, String>, of: &BTreeMap<String, String>) -> Vec<DraftedPart> {
    let names = from.keys().chain(of.keys().filter(|name| !from.contains_key(*name)));
    names.filter(|name| from.get(*name) != of.get(*name)).map(|name| DraftedPart { part: name.clone(), text: of.get(name).cloned() }).collect()
}

/// The text of a revision; nothing before the first.
async fn text_of(app: &Arc<App>, revision: i64) -> Result<String, Problem> {
    let found = app.records(move |r| r.revision(revision)).await.map_err(|e| records_problem(&e))?;
    Ok(found.map(|r| r.text).unwrap_or_default())
}

async fn kept(app: &Arc<App>, who: &str) -> Result<Option<Draft>, Problem> {
    let who = who.to_owned();
    app.records(move |r| r.draft(&who)).await.map_err(|e| records_problem(&e))
}

async fn told(app: &Arc<App>, who: &str) -> Result<PlanDraft, Problem> {
    let running = app.engine.running();
    let all = app.records(|r| r.drafts()).await.map_err(|e| records_problem(&e))?;
    let (mine, theirs): (Vec<Draft>, Vec<Draft>) = all.into_iter().partition(|draft| draft.who == who);
    let mut others = Vec::new();
    for draft in theirs {
        let base = text_of(app, draft.revision).await?;
        let parts = on_its_own_thread(move || changed(&parts(&base), &parts(&draft.text))).await;
        others.push(OtherDraft { who: draft.who, at_ms: draft.at_ms, parts });
    }
    let active = running.revision;
    Ok(match mine.into_iter().next() {
        Some(draft) => PlanDraft { revision: draft.revision, active, version: draft.version, at_ms: Some(draft.at_ms), text: draft.text, others },
        None => PlanDraft { revision: active, active, version: 0, at_ms: None, text: running.checked.text.clone(), others },
    })
}

fn elsewhere() -> Problem {
    let detail = "the draft was changed elsewhere meanwhile, in another window perhaps; nothing was overwritten";
    Problem::new(StatusCode::CONFLICT, "draft-changed", "The draft was changed elsewhere", detail.to_owned())
}

/// Keeps a draft in place of the one that had the version before it.
async fn keep(app: &Arc<App>, draft: Draft) -> Result<(), Problem> {
    let is_kept = app.records(move |r| r.set_draft(&draft)).await.map_err(|e| records_problem(&e))?;
    if is_kept { Ok(()) } else { Err(elsewhere()) }
}

/// One's draft of the plan, or the active plan if one has none; and what others are changing.
#[utoipa::path(get, operation_id = "plan_draft", path = "/api/v1/plan/draft", tag = "plan",
    responses((status = 200, body = types::PlanDraft), (status = 401, body = types::Problem)))]
pub(crate) async fn draft(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>) -> Result<Json<PlanDraft>, Problem> {
    Ok(Json(told(&app, &caller.name).await?))
}

/// Changes one's draft, or begins one from the active plan. It may have mistakes; nothing is applied.
#[utoipa::path(put, operation_id = "change_draft", path = "/api/v1/plan/draft", tag = "plan", request_body = types::DraftChange,
    responses((status = 200, body = types::PlanDraft), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn change(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<DraftChange>,
) -> Result<Json<PlanDraft>, Problem> {
    let before = kept(&app, &caller.name).await?;
    if before.as_ref().map_or(0, |draft| draft.version) != request.version {
        return Err(elsewhere());
    }
    let running = app.engine.running();
    let revision = before.as_ref().map_or(running.revision, |draft| draft.revision);
    let text = request.text.or(before.map(|draft| draft.text)).unwrap_or_else(|| running.checked.text.clone());
    let text = if request.edits.is_empty() { text } else { with(&text, request.edits)? };
    keep(&app, Draft { who: caller.name.clone(), revision, version: request.version + 1, at_ms: now_ms(), text }).await?;
    Ok(Json(told(&app, &caller.name).await?))
}

/// Forgets one's draft.
#[utoipa::path(delete, operation_id = "discard_draft", path = "/api/v1/plan/draft", tag = "plan",
    responses((status = 200, body = types::PlanDraft), (status = 401, body = types::Problem)))]
pub(crate) async fn discard(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>) -> Result<Json<PlanDraft>, Problem> {
    let who = caller.name.clone();
    app.records(move |r| r.remove_draft(&who)).await.map_err(|e| records_problem(&e))?;
    Ok(Json(told(&app, &caller.name).await?))
}

/// Takes up into one's draft what was applied since it began. Where both changed the same lines, nothing is changed unless it is said whose are kept.
#[utoipa::path(post, operation_id = "renew_draft", path = "/api/v1/plan/draft/renew", tag = "plan", request_body = types::DraftRenewal,
    responses((status = 200, body = types::PlanDraft), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 409, body = types::Problem)))]
pub(crate) async fn renew(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<DraftRenewal>,
) -> Result<Json<PlanDraft>, Problem> {
    let prefer = match request.prefer.as_deref() {
        None => None,
        Some("mine") => Some(Prefer::Mine),
        Some("active") => Some(Prefer::Active),
        Some(other) => return Err(bad("bad-preference", "No such preference", format!("`{other}` is neither `mine` nor `active`"))),
    };
    let Some(draft) = kept(&app, &caller.name).await?.filter(|draft| draft.version == request.version) else { return Err(elsewhere()) };
    let running = app.engine.running();
    let base = text_of(&app, draft.revision).await?;
    let (mine, active) = (draft.text.clone(), running.checked.text.clone());
    let merged = on_its_own_thread(move || merged(&base, &mine, &active, prefer)).await;
    let text = merged.map_err(|conflicts| {
        let detail = "your draft and the active plan changed the same lines; say whose are kept";
        let told = serde_json::to_value(conflicts).unwrap_or_default();
        Problem::new(StatusCode::CONFLICT, "draft-conflict", "Both changed the same lines", detail.to_owned()).with("conflicts", told)
    })?;
    keep(&app, Draft { revision: running.revision, version: draft.version + 1, at_ms: now_ms(), text, ..draft }).await?;
    Ok(Json(told(&app, &caller.name).await?))
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Prefer {
    Mine,
    Active,
}

/// Both plans' changes of `base` in one text.
fn merged(base: &str, mine: &str, active: &str, prefer: Option<Prefer>) -> Result<String, Vec<DraftConflict>> {
    let marked = match diffy::MergeOptions::new().set_conflict_style(ConflictStyle::Merge).merge(base, mine, active) {
        Ok(text) => return Ok(text),
        Err(marked) => marked,
    };
    let Some(prefer) = prefer else {
        let [base, mine, active] = [base, mine, active].map(parts);
        let both = changed(&base, &mine).into_iter().filter(|part| base.get(&part.part) != active.get(&part.part));
        let conflicts = both.map(|part| DraftConflict { active: active.get(&part.part).cloned(), mine: part.text, part: part.part });
        return Err(conflicts.filter(|c| c.mine != c.active).collect());
    };
    let (mut text, mut side) = (String::new(), None);
    for line in marked.split_inclusive('\n') {
        match (side, line) {
            (None, line) if line.starts_with("<<<<<<<") => side = Some(Prefer::Mine),
            (Some(Prefer::Mine), line) if line.starts_with("=======") => side = Some(Prefer::Active),
            (Some(Prefer::Active), line) if line.starts_with(">>>>>>>") => side = None,
            (Some(of), _) if of != prefer => {}
            (_, line) => text.push_str(line),
        }
    }
    Ok(text)
}

/// What a plan consists of, as it is written: its sentences with what each does or what is wrong with it, and what differs from the active plan.
#[utoipa::path(post, operation_id = "outline_plan", path = "/api/v1/plan/outline", tag = "plan", request_body = types::OutlineRequest,
    responses((status = 200, body = types::PlanOutline), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn outlined(State(app): State<Arc<App>>, Body(request): Body<OutlineRequest>) -> Json<PlanOutline> {
    let running = app.engine.running();
    let text = request.text.unwrap_or_else(|| running.checked.text.clone());
    Json(on_its_own_thread(move || outline_of(&text, &running.checked)).await)
}

fn outline_of(text: &str, active: &CheckedPlan) -> PlanOutline {
    let found = match outline(text) {
        Ok(found) => found,
        Err(why) => return PlanOutline { parts: Vec::new(), removed: Vec::new(), unreadable: Some(why.to_string()) },
    };
    let checked = CheckedPlan::read(text).ok();
    let before = parts(&active.text);
    let runs_as = |sentence: &str| match (&checked, parse_step(sentence)) {
        (Some(plan), Ok(step)) => plan.expanded(&[step]).len(),
        _ => 1,
    };
    let one = |p: OutlinedPart| {
        let part = format!("{}:{}", p.part.kind, p.part.name);
        let change = match before.get(&part) {
            None => Some("added".to_owned()),
            Some(text) => (*text != p.text).then(|| "changed".to_owned()),
        };
        let when_said = if p.part.kind == "alert" { alert_said } else { condition_said };
        let steps = p.steps.iter().map(|step| step_said(step, runs_as(step))).collect();
        OutlinePart { part, kind: p.kind, comment: p.comment, when: p.when.as_deref().map(when_said), from: p.from, to: p.to, steps, text: p.text, change }
    };
    let parts: Vec<OutlinePart> = found.into_iter().map(one).collect();
    let removed = before.into_keys().filter(|name| parts.iter().all(|p| p.part != *name)).collect();
    PlanOutline { parts, removed, unreadable: None }
}

/// What a route's condition does, or what is wrong with it.
pub(super) fn condition_said(when: &str) -> OutlineSentence {
    if when.trim() == "remainder" {
        return OutlineSentence { sentence: when.to_owned(), says: Some("True of an event if no other route takes it.".to_owned()), mistake: None, runs_as: 1 };
    }
    said(when, parse_condition(when).err(), 1)
}

/// What an alert watches, or what is wrong with that.
pub(super) fn alert_said(when: &str) -> OutlineSentence {
    let read = parse_alert(when);
    let says = read.as_ref().ok().map(AlertCondition::explained);
    OutlineSentence { says, ..said(when, read.err(), 1) }
}

/// What a step does, or what is wrong with it.
pub(super) fn step_said(step: &str, runs_as: usize) -> OutlineSentence {
    said(step, parse_step(step).err(), runs_as)
}

fn said(sentence: &str, wrong: Option<Mistake>, runs_as: usize) -> OutlineSentence {
    let says = if wrong.is_none() { explain(sentence).ok() } else { None };
    let mistake = wrong.map(|wrong| mistake(Report::new(sentence, &wrong)));
    OutlineSentence { sentence: sentence.to_owned(), says, mistake, runs_as }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BASE: &str = "[source.a]\nkind = 'http'\nlisten = '127.0.0.1:1'\n\n[destination.x]\nkind = 'discard'\n\n[[route]]\nname = 'r'\ndo = ['drop a = 1']\nto = ['x']\n\n[[route]]\nname = 's'\ndo = ['drop b = 1']\nto = ['x']\n";

    #[test]
    fn what_both_changed_is_merged_and_nobodys_lines_are_lost_unasked() {
        let mine = BASE.replace("drop a = 1", "drop a = 2");
        let theirs = BASE.replace("drop b = 1", "drop b = 2");
        let both = merged(BASE, &mine, &theirs, None).ok().unwrap();
        assert!(both.contains("drop a = 2") && both.contains("drop b = 2") && !both.contains("= 1'"), "{both}");

        let theirs = BASE.replace("drop a = 1", "drop a = 3").replace("drop b = 1", "drop b = 2");
        let conflicts = merged(BASE, &mine, &theirs, None).err().unwrap();
        let named: Vec<_> = conflicts.iter().map(|c| c.part.as_str()).collect();
        assert_eq!(named, ["route:r"]);
        assert!(conflicts[0].mine.as_deref().unwrap().contains("a = 2") && conflicts[0].active.as_deref().unwrap().contains("a = 3"));
        for (prefer, kept) in [(Prefer::Mine, "drop a = 2"), (Prefer::Active, "drop a = 3")] {
            let text = merged(BASE, &mine, &theirs, Some(prefer)).ok().unwrap();
            assert_eq!(text, BASE.replace("drop a = 1", kept).replace("drop b = 1", "drop b = 2"));
        }
    }

    #[test]
    fn an_outline_says_what_each_sentence_does_or_what_is_wrong_with_it() {
        let active = CheckedPlan::read(BASE).unwrap();
        let text = BASE.replace("name = 's'", "name = 't'\nwhen = 'severity >'").replace("['drop a = 1']", "['drop a = 1', 'use two']")
            + "[recipe.two]\nsteps = ['trim message to 1 KB', 'drop c = 1']\n";
        let told = outline_of(&text, &active);
        let change = |part: &str| told.parts.iter().find(|p| p.part == part).unwrap().change.as_deref();
        assert_eq!([change("source:a"), change("route:r"), change("route:t"), change("recipe:two")], [None, Some("changed"), Some("added"), Some("added")]);
        assert_eq!(told.removed, ["route:s"]);
        let when = told.parts.last().unwrap().when.as_ref().unwrap();
        assert!(when.says.is_none() && when.mistake.as_ref().unwrap().column == 11, "{when:?}");
        let route = |text: &str| outline_of(text, &active).parts.into_iter().find(|p| p.part == "route:r").unwrap();
        assert_eq!(route(&text.replace("severity >", "severity > info")).steps.iter().map(|s| s.runs_as).collect::<Vec<_>>(), [1, 2]);
        assert!(route(BASE).steps[0].says.as_deref().unwrap().contains('a'));
        assert!(outline_of("[source", &active).unreadable.is_some());
    }
}
