//! People, tokens and sessions, what each may do, and the journal.

use std::sync::Arc;

use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use rockrose_grants::{Grants, Need, ROLES};
use rockrose_intake::Problem;
use rockrose_records::{JournalFilter, TokenEntry, TokenKind};
use serde::Deserialize;
use utoipa::IntoParams;

use super::auth::Subject;
use super::extract::{Asked, Body, Part};
use super::types::{
    JournalCheck, JournalEntry, MadeToken, Me, NewGrants, NewPassword, NewPerson, NewToken, OwnPassword, Person, PlanMistake, Role, Session, Token, WhoSees,
    WhoSeesRequest,
};
use super::{records_problem, types};
use crate::caller::{self, Caller};
use crate::{App, now_ms, sign_in};

/// Most entries of the journal in one answer.
const MAX_ENTRIES: i64 = 1_000;
/// Longest name, in characters.
const LONGEST_NAME: usize = 64;
/// Shortest and longest password, in characters.
const PASSWORD: std::ops::RangeInclusive<usize> = 12..=256;

fn lines(grants: &str) -> Vec<String> {
    grants.lines().map(str::to_owned).collect()
}

fn named(name: &str) -> Result<(), Problem> {
    let good = (1..=LONGEST_NAME).contains(&name.chars().count()) && !name.chars().any(char::is_control) && name.trim() == name && !name.contains('/');
    let detail = "a name has 1 to 64 characters: no control characters, no `/`, no white space at its ends";
    if good { Ok(()) } else { Err(Problem::new(StatusCode::BAD_REQUEST, "bad-name", "Not a name", detail)) }
}

/// Grants in canonical form, a sentence on each line, as they are kept.
fn granted(sentences: &[String]) -> Result<String, Problem> {
    if sentences.iter().any(|s| s.contains(['\n', '\r'])) {
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-grants", "The grants cannot be read", "a grant is one line"));
    }
    Grants::read(sentences).map(|grants| grants.to_string()).map_err(|wrong| {
        let detail = wrong.first().map(ToString::to_string).unwrap_or_default();
        let mistakes: Vec<PlanMistake> = wrong.into_iter().map(types::mistake).collect();
        let mistakes = serde_json::to_value(&mistakes).unwrap_or_default();
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-grants", "The grants cannot be read", detail).with("mistakes", mistakes)
    })
}

fn nobody(name: &str) -> Problem {
    Problem::not_found(format!("there is nobody called `{name}`"))
}

/// Who asks, and what they may do.
#[utoipa::path(get, path = "/api/v1/me", tag = "people", responses((status = 200, body = types::Me), (status = 401, body = types::Problem)))]
pub(crate) async fn me(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>) -> Result<Json<Me>, Problem> {
    let password = caller.is_person && own(&app, &caller).await?.is_some();
    Ok(Json(Me { name: caller.name.clone(), person: caller.is_person, grants: caller.grants.sentences(), expires_ms: caller.expires_ms, password }))
}

/// The hash of the caller's own password, if they are a person who has one.
async fn own(app: &App, caller: &Caller) -> Result<Option<String>, Problem> {
    let name = caller.name.clone();
    let person = app.records(move |r| r.person(&name)).await.map_err(|e| records_problem(&e))?;
    Ok(person.and_then(|person| person.password))
}

/// Changes one's own password, by the one until now. Other browsers are signed out.
///
/// Whoever has none cannot give themselves one: a session would never end by it.
#[utoipa::path(put, operation_id = "change_own_password", path = "/api/v1/me/password", tag = "people", request_body = types::OwnPassword,
    responses((status = 204), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 403, body = types::Problem), (status = 409, body = types::Problem), (status = 429, body = types::Problem)))]
pub(crate) async fn own_password(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<OwnPassword>,
) -> Result<StatusCode, Problem> {
    let kept = if caller.is_person { own(&app, &caller).await? } else { None };
    let Some(kept) = kept else {
        let detail = format!("{} does not sign in with a password; whoever has the grant `people` can set one", caller.name);
        return Err(Problem::new(StatusCode::CONFLICT, "no-password", "There is no password", detail));
    };
    let hash = hashed(&app, request.new).await?;
    if let Some(wait) = caller.from.and_then(|from| app.attempts.wait(from)) {
        return Err(Problem::too_many_failures(wait));
    }
    if !super::auth::is_right(&app, request.current, Some(kept)).await {
        if let Some(from) = caller.from {
            app.attempts.failed(from);
        }
        return Err(Problem::new(StatusCode::FORBIDDEN, "wrong-password", "The password is wrong", "the password until now is not this one"));
    }
    let (name, session) = (caller.name.clone(), caller.id);
    app.records(move |r| r.set_password(&name, Some(&hash), Some(session))).await.map_err(|e| records_problem(&e))?;
    app.access.send_replace(());
    Ok(StatusCode::NO_CONTENT)
}

/// A new password's hash, if it is one that may be set.
async fn hashed(app: &App, password: String) -> Result<String, Problem> {
    if !PASSWORD.contains(&password.chars().count()) {
        return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-password", "Not a password", "a password has 12 to 256 characters"));
    }
    let Ok(_place) = app.hashing.acquire().await else { return Err(Problem::unavailable("stopping", "the service is stopping")) };
    let hashed = tokio::task::spawn_blocking(move || sign_in::hashed(&password)).await;
    hashed.map_err(|e| Problem::internal(e.to_string()))?.map_err(|e| Problem::internal(e.to_string()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct RolesQuery {
    /// The team whose name stands in the grants of a role that is for a team. `TEAM` if left out.
    team: Option<String>,
}

/// Ready-made sets of grants.
#[utoipa::path(get, path = "/api/v1/roles", tag = "people", params(RolesQuery), responses((status = 200, body = Vec<types::Role>), (status = 401, body = types::Problem)))]
pub(crate) async fn roles(Asked(query): Asked<RolesQuery>) -> Json<Vec<Role>> {
    let team = query.team.unwrap_or_else(|| "TEAM".to_owned());
    let role = |role: &rockrose_grants::Role| Role {
        name: role.name.to_owned(),
        says: role.says.to_owned(),
        of_team: role.is_of_a_team(),
        grants: role.grants(&team),
    };
    Json(ROLES.iter().map(role).collect())
}

/// All people who sign in.
#[utoipa::path(get, path = "/api/v1/people", tag = "people", responses((status = 200, body = Vec<types::Person>), (status = 401, body = types::Problem)))]
pub(crate) async fn people(State(app): State<Arc<App>>) -> Result<Json<Vec<Person>>, Problem> {
    let found = app.records(|r| r.people()).await.map_err(|e| records_problem(&e))?;
    let person = |p: rockrose_records::Person| Person {
        name: p.name,
        grants: lines(&p.grants),
        password: p.password.is_some(),
        account: p.account.is_some(),
        made_ms: p.made_ms,
        made_by: p.made_by,
    };
    Ok(Json(found.into_iter().map(person).collect()))
}

/// Adds somebody. They sign in by a link, or with a password once they have one.
#[utoipa::path(post, operation_id = "add_person", path = "/api/v1/people", tag = "people", request_body = types::NewPerson,
    responses((status = 204), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 409, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn add(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<NewPerson>,
) -> Result<(Extension<Subject>, StatusCode), Problem> {
    named(&request.name)?;
    let grants = granted(&request.grants)?;
    let subject = Subject(format!("{}: {}", request.name, grants.replace('\n', "; ")));
    let by = caller.name.clone();
    app.records(move |r| r.add_person(&request.name, &grants, &by, now_ms())).await.map_err(|e| records_problem(&e))?;
    Ok((Extension(subject), StatusCode::NO_CONTENT))
}

/// Says what somebody may do from now on. It takes effect at once, on open streams as well.
#[utoipa::path(put, path = "/api/v1/people/{name}/grants", tag = "people", params(("name" = String, Path)), request_body = types::NewGrants,
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn grant(
    State(app): State<Arc<App>>,
    Part(name): Part<String>,
    Body(request): Body<NewGrants>,
) -> Result<(Extension<Subject>, StatusCode), Problem> {
    let grants = granted(&request.grants)?;
    let subject = Subject(format!("{name}: {}", grants.replace('\n', "; ")));
    let asked = name.clone();
    if !app.records(move |r| r.grant(&asked, &grants)).await.map_err(|e| records_problem(&e))? {
        return Err(nobody(&name));
    }
    app.access.send_replace(());
    Ok((Extension(subject), StatusCode::NO_CONTENT))
}

/// Gives somebody a password, or takes it away. They are signed out everywhere.
#[utoipa::path(put, operation_id = "set_password", path = "/api/v1/people/{name}/password", tag = "people", params(("name" = String, Path)), request_body = types::NewPassword,
    responses((status = 204), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn password(State(app): State<Arc<App>>, Part(name): Part<String>, Body(request): Body<NewPassword>) -> Result<StatusCode, Problem> {
    let hash = match request.password {
        None => None,
        Some(password) => Some(hashed(&app, password).await?),
    };
    let asked = name.clone();
    if !app.records(move |r| r.set_password(&asked, hash.as_deref(), None)).await.map_err(|e| records_problem(&e))? {
        return Err(nobody(&name));
    }
    app.access.send_replace(());
    Ok(StatusCode::NO_CONTENT)
}

/// Removes somebody, and signs them out everywhere.
#[utoipa::path(delete, operation_id = "remove_person", path = "/api/v1/people/{name}", tag = "people", params(("name" = String, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn remove(State(app): State<Arc<App>>, Part(name): Part<String>) -> Result<StatusCode, Problem> {
    let asked = name.clone();
    if !app.records(move |r| r.remove_person(&asked)).await.map_err(|e| records_problem(&e))? {
        return Err(nobody(&name));
    }
    app.access.send_replace(());
    Ok(StatusCode::NO_CONTENT)
}

/// Who may see an event at a place, and how it looks to each of them. Nothing is remembered of it.
#[utoipa::path(post, path = "/api/v1/people/who-sees", tag = "people", request_body = types::WhoSeesRequest,
    responses((status = 200, body = Vec<types::WhoSees>), (status = 400, body = types::Problem), (status = 401, body = types::Problem)))]
pub(crate) async fn who_sees(State(app): State<Arc<App>>, Body(request): Body<WhoSeesRequest>) -> Result<(Extension<Subject>, Json<Vec<WhoSees>>), Problem> {
    let place = super::place(&request.place)?;
    let subject = Subject(place.to_string());
    let everybody = app.records(|r| {
        let people = r.people()?.into_iter().map(|p| (p.name, true, p.grants));
        let tokens = r.tokens(TokenKind::Client, now_ms())?.into_iter().map(|t| (t.name, false, t.grants));
        Ok(people.chain(tokens).collect::<Vec<_>>())
    });
    let everybody = everybody.await.map_err(|e| records_problem(&e))?;
    let key = app.engine.key();
    let event = request.event.trim().to_owned().into_bytes();
    let seen = move || {
        let sees = |(name, person, grants): (String, bool, String)| {
            let shown = caller::read(&grants).eye(&place, &key).shows(&event, now_ms()).map(|event| String::from_utf8_lossy(&event).into_owned())?;
            Some(WhoSees { name, person, event: shown })
        };
        everybody.into_iter().filter_map(sees).collect()
    };
    let seen = tokio::task::spawn_blocking(seen).await.map_err(|_| Problem::internal("the grants could not be asked"))?;
    Ok((Extension(subject), Json(seen)))
}

/// All tokens of programs, the newest first.
#[utoipa::path(get, path = "/api/v1/tokens", tag = "people", responses((status = 200, body = Vec<types::Token>), (status = 401, body = types::Problem)))]
pub(crate) async fn tokens(State(app): State<Arc<App>>) -> Result<Json<Vec<Token>>, Problem> {
    let found = app.records(|r| r.tokens(TokenKind::Client, now_ms())).await.map_err(|e| records_problem(&e))?;
    let token = |t: TokenEntry| Token {
        id: t.id,
        name: t.name,
        grants: lines(&t.grants),
        made_ms: t.made_ms,
        made_by: t.made_by,
        expires_ms: t.expires_ms,
        used_ms: t.used_ms,
        used_from: t.used_from,
    };
    Ok(Json(found.into_iter().map(token).collect()))
}

/// Makes a token for a program. It is shown this once.
#[utoipa::path(post, path = "/api/v1/tokens", tag = "people", request_body = types::NewToken,
    responses((status = 200, body = types::MadeToken), (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 409, body = types::Problem), (status = 422, body = types::Problem)))]
pub(crate) async fn make_token(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<NewToken>,
) -> Result<(Extension<Subject>, Json<MadeToken>), Problem> {
    named(&request.name)?;
    let grants = granted(&request.grants)?;
    if request.days.is_some_and(|days| !(1..=3_650).contains(&days)) {
        return Err(Problem::new(StatusCode::BAD_REQUEST, "bad-end", "No such end", "a token is good for 1 to 3650 days"));
    }
    let now = now_ms();
    let expires_ms = request.days.map(|days| now + days * 86_400_000);
    let subject = Subject(format!("{}: {}", request.name, grants.replace('\n', "; ")));
    let by = caller.name.clone();
    let made = app.records(move |r| r.make_token(&request.name, &grants, &by, now, expires_ms)).await.map_err(|e| records_problem(&e))?;
    Ok((Extension(subject), Json(MadeToken { token: made.reveal().to_owned(), expires_ms })))
}

/// Revokes a token at once, and ends the sessions by its links.
#[utoipa::path(delete, operation_id = "revoke_token", path = "/api/v1/tokens/{id}", tag = "people", params(("id" = i64, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn revoke(State(app): State<Arc<App>>, Part(id): Part<i64>) -> Result<(Extension<Subject>, StatusCode), Problem> {
    let ended = app.records(move |r| r.end_token(id, TokenKind::Client)).await.map_err(|e| records_problem(&e))?;
    let name = ended.ok_or_else(|| Problem::not_found(format!("there is no token {id}")))?;
    app.access.send_replace(());
    Ok((Extension(Subject(name)), StatusCode::NO_CONTENT))
}

/// Sessions of browsers, the newest first: all of them for whoever may say what people do, else those of whoever asks.
#[utoipa::path(get, path = "/api/v1/sessions", tag = "people", responses((status = 200, body = Vec<types::Session>), (status = 401, body = types::Problem)))]
pub(crate) async fn sessions(State(app): State<Arc<App>>, Extension(caller): Extension<Arc<Caller>>) -> Result<Json<Vec<Session>>, Problem> {
    let found = app.records(|r| r.tokens(TokenKind::Session, now_ms())).await.map_err(|e| records_problem(&e))?;
    let all = caller.grants.allow(Need::People);
    let session = |t: TokenEntry| Session {
        mine: t.id == caller.id,
        id: t.id,
        name: t.name,
        made_ms: t.made_ms,
        expires_ms: t.expires_ms,
        used_ms: t.used_ms,
        used_from: t.used_from,
    };
    Ok(Json(found.into_iter().filter(|t| all || t.name == caller.name).map(session).collect()))
}

/// Ends a session at once, with the streams that are open by it: one's own, or anybody's for whoever may say what people do.
#[utoipa::path(delete, path = "/api/v1/sessions/{id}", tag = "people", params(("id" = i64, Path)),
    responses((status = 204), (status = 401, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn end_session(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Part(id): Part<i64>,
) -> Result<(Extension<Subject>, StatusCode), Problem> {
    let (all, who) = (caller.grants.allow(Need::People), caller.name.clone());
    let ended = app.records(move |r| {
        let theirs = all || r.tokens(TokenKind::Session, now_ms())?.iter().any(|t| t.id == id && t.name == who);
        if theirs { r.end_token(id, TokenKind::Session) } else { Ok(None) }
    });
    let name = ended.await.map_err(|e| records_problem(&e))?.ok_or_else(|| Problem::not_found(format!("there is no session {id}")))?;
    app.access.send_replace(());
    Ok((Extension(Subject(name)), StatusCode::NO_CONTENT))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct JournalQuery {
    /// Most entries; 100 if left out, at most 1000.
    most: Option<i64>,
    /// Only entries with smaller numbers.
    before: Option<i64>,
    /// Only entries since then, in milliseconds since 1970.
    since_ms: Option<i64>,
    /// Only entries by this name.
    who: Option<String>,
    /// Only entries of this action.
    action: Option<String>,
}

/// Who did what, the newest first.
#[utoipa::path(get, path = "/api/v1/journal", tag = "people", params(JournalQuery), responses((status = 200, body = Vec<types::JournalEntry>), (status = 401, body = types::Problem)))]
pub(crate) async fn journal(State(app): State<Arc<App>>, Asked(query): Asked<JournalQuery>) -> Result<Json<Vec<JournalEntry>>, Problem> {
    let JournalQuery { most, before, since_ms, who, action } = query;
    let filter = JournalFilter { most: most.unwrap_or(100).clamp(1, MAX_ENTRIES), before, since_ms, who, action };
    let found = app.records(move |r| r.journal(&filter)).await.map_err(|e| records_problem(&e))?;
    let entry = |e: rockrose_records::JournalEntry| JournalEntry {
        number: e.number,
        at_ms: e.at_ms,
        who: e.action.who,
        address: e.action.address,
        action: e.action.what,
        subject: e.action.subject,
        result: e.action.result,
    };
    Ok(Json(found.into_iter().map(entry).collect()))
}

/// Whether the journal is as it was written: its entries are chained by hashes.
#[utoipa::path(get, path = "/api/v1/journal/check", tag = "people", responses((status = 200, body = types::JournalCheck), (status = 401, body = types::Problem)))]
pub(crate) async fn check_journal(State(app): State<Arc<App>>) -> Result<Json<JournalCheck>, Problem> {
    let found = app.records(|r| r.check_journal()).await.map_err(|e| records_problem(&e))?;
    let rockrose_records::JournalCheck { entries, first, last, head, broken_at } = found;
    Ok(Json(JournalCheck { whole: broken_at.is_none(), entries, first, last, head, broken_at }))
}

#[cfg(test)]
mod tests {
    use rockrose_language::Place;

    use super::*;

    #[test]
    fn names_can_be_written_and_read() {
        for good in ["ann", "Ann of the Gates", "ann@ferries.example", "äöü"] {
            assert!(named(good).is_ok(), "{good}");
        }
        for bad in ["", " ann", "ann\n", "a/b", "\u{1b}[2J", &"a".repeat(65)] {
            assert!(named(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn grants_are_kept_as_they_print() {
        assert_eq!(granted(&["see  at route:a".into(), "operate".into()]).unwrap(), "see at route:a\noperate");
        assert_eq!(granted(&[]).unwrap(), "");
        for wrong in ["fly", "see\noperate", "see when"] {
            assert_eq!(granted(&[wrong.into()]).unwrap_err().status().as_u16(), 422, "{wrong}");
        }
    }

    #[test]
    fn places_of_the_language_are_those_of_the_api() {
        assert_eq!(super::super::place("route:a").unwrap(), Place::Route("a".into()));
        assert_eq!(super::super::place("rout:a").unwrap_err().status().as_u16(), 400);
    }
}
