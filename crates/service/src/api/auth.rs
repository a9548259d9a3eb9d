//! Who may come in.

use std::net::IpAddr;
use std::sync::Arc;

use axum::extract::{MatchedPath, Request, State};
use axum::http::{Extensions, HeaderMap, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use rockrose_grants::Need;
use rockrose_intake::{Peer, Problem, ProblemKind};
use rockrose_records::{Action, Bearer, Holder, TokenKind};

use super::extract::Body;
use super::permits::permit;
use super::types::{LinkRequest, SignIn};
use super::{records_problem, types};
use crate::caller::Caller;
use crate::sign_in::{self, Invited};
use crate::{App, journal, now_ms};

/// What a session's cookie is called. Browsers do not tell the ports of a host apart, so the name does.
fn cookie_name(app: &App) -> String {
    format!("rockrose_session_{}", app.address.port())
}

/// A session's cookie.
fn cookie(app: &App, session: &str, seconds: i64) -> String {
    closed_cookie(app, &format!("{}={session}; Path=/", cookie_name(app)), "Strict", seconds)
}

/// A cookie that no script reads. One that comes over TLS goes back over nothing else.
pub(super) fn closed_cookie(app: &App, cookie: &str, same_site: &str, seconds: i64) -> String {
    let secure = if app.site.is_safe() { "; Secure" } else { "" };
    format!("{cookie}; HttpOnly; SameSite={same_site}; Max-Age={seconds}{secure}")
}

/// How long a browser stays signed in.
const SESSION_HOURS: i64 = 12;

fn bearer(headers: &HeaderMap) -> Option<String> {
    let (scheme, token) = headers.get(header::AUTHORIZATION)?.to_str().ok()?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim().to_owned())
}

fn session(app: &App, headers: &HeaderMap) -> Option<String> {
    cookie_of(headers, &cookie_name(app))
}

/// What a browser carries under a name.
pub(super) fn cookie_of(headers: &HeaderMap, wanted: &str) -> Option<String> {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|v| v.to_str().ok()).flat_map(|v| v.split(';'));
    cookies.filter_map(|c| c.trim().split_once('=')).find(|(name, _)| *name == wanted).map(|(_, value)| value.to_owned())
}

/// A page of another site cannot make a signed-in browser change anything here.
fn same_origin(headers: &HeaderMap) -> bool {
    if let Some(site) = headers.get("sec-fetch-site").and_then(|v| v.to_str().ok()) {
        return site == "same-origin";
    }
    let host = headers.get(header::HOST).and_then(|v| v.to_str().ok());
    let origin = headers.get(header::ORIGIN).and_then(|v| v.to_str().ok()).and_then(|o| o.split_once("://"));
    matches!((host, origin), (Some(host), Some((_, origin))) if host == origin)
}

fn other_site(detail: &str) -> Problem {
    Problem::new(StatusCode::FORBIDDEN, "other-site", "Not from this console", detail)
}

/// Whence a request came.
pub(super) fn address(extensions: &Extensions) -> Option<IpAddr> {
    extensions.get::<Peer>().map(|peer| peer.0.ip())
}

/// Who makes a request.
///
/// # Errors
/// If it shows nothing by which they are known.
pub(crate) async fn who(app: &App, method: &Method, headers: &HeaderMap, extensions: &Extensions) -> Result<Caller, Problem> {
    let (text, kind) = match (bearer(headers), session(app, headers)) {
        (Some(token), _) => (token, TokenKind::Client),
        (None, Some(session)) => (session, TokenKind::Session),
        (None, None) => {
            return Err(Problem::unauthorised(
                "not authenticated; pass --token or --config, send `Authorization: Bearer TOKEN`, or sign in to the console by a link (`rockrose link`)",
            ));
        }
    };
    if kind == TokenKind::Session && !method.is_safe() && !same_origin(headers) {
        return Err(other_site("a signed-in browser may change things only from the console's own pages"));
    }
    let from = address(extensions);
    let shown_from = from.map(|a| a.to_canonical().to_string()).unwrap_or_default();
    let found: Option<Bearer> = app.records(move |r| r.bearer(&text, kind, &shown_from, now_ms())).await.map_err(|e| records_problem(&e))?;
    found.map(|bearer| Caller::new(bearer, kind, from)).ok_or_else(|| Problem::unauthorised("this token or session is unknown or has expired"))
}

/// What an answer tells the journal of what was done: among its extensions.
#[derive(Clone, Debug)]
pub(crate) struct Subject(pub(crate) String);

/// Lets only those in who are known, and to what they were granted; what they do is noted.
pub(crate) async fn require(State(app): State<Arc<App>>, mut request: Request, next: Next) -> Response {
    let (method, path) = (request.method().clone(), request.uri().path().to_owned());
    let permit = request.extensions().get::<MatchedPath>().and_then(|at| permit(method.as_str(), at.as_str()));
    let Some(permit) = permit else {
        // A method that the path does not take is told so by the router.
        let known = request.extensions().get::<MatchedPath>().is_some_and(|at| super::permits::PERMITS.iter().any(|p| p.path == at.as_str()));
        return if known { next.run(request).await } else { Problem::not_granted("nobody may do this").into_response() };
    };
    let from = address(request.extensions());
    let caller = match who(&app, &method, request.headers(), request.extensions()).await {
        Ok(caller) => Arc::new(caller),
        Err(problem) => return problem.into_response(),
    };
    let response = match caller.must(permit.needs) {
        Ok(()) => {
            request.extensions_mut().insert(Arc::clone(&caller));
            next.run(request).await
        }
        Err(problem) => problem.into_response(),
    };
    if let Some(what) = permit.noted {
        let subject = response.extensions().get::<Subject>().map_or_else(|| permit.subject(&path), |subject| subject.0.clone());
        let result = match response.extensions().get::<ProblemKind>() {
            Some(kind) => format!("refused: {}", kind.0),
            None if response.status().is_success() => "done".to_owned(),
            None => format!("failed: {}", response.status().as_u16()),
        };
        let action = Action { who: caller.name.clone(), what: what.to_owned(), subject, result, ..Action::default() };
        if method.is_safe() { journal::note_look(&app, from, action).await } else { journal::note(&app, from, action).await }
    }
    response
}

/// A browser comes with a link's code, or with a name and a password, and leaves with a session.
pub(crate) async fn sign_in(State(app): State<Arc<App>>, request: Request) -> Response {
    let (headers, from) = (request.headers().clone(), address(request.extensions()));
    let asked = match <Body<SignIn> as axum::extract::FromRequest<()>>::from_request(request, &()).await {
        Ok(Body(asked)) => asked,
        Err(problem) => return problem.into_response(),
    };
    if !same_origin(&headers) {
        return other_site("sign in from the console's own pages").into_response();
    }
    if let Some(wait) = from.and_then(|from| app.attempts.wait(from)) {
        return Problem::too_many_failures(wait).into_response();
    }
    let (name, how) = (asked.name.clone().unwrap_or_default(), if asked.code.is_some() { "by a link" } else { "by password" });
    let invited = match known(&app, asked).await {
        Ok(invited) => invited,
        Err(problem) => return problem.into_response(),
    };
    let Some(invited) = invited else {
        turned_away(&app, from, &name, how, "not-signed-in").await;
        let detail = if how == "by a link" { "this link has been used or has expired" } else { "the name or the password is wrong" };
        return Problem::unauthorised(detail).into_response();
    };
    match admit(&app, from, invited, how).await {
        Ok(cookie) => (StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie)]).into_response(),
        Err(problem) => problem.into_response(),
    }
}

fn signing_in(who: &str, how: &str, result: String) -> Action {
    Action { who: who.to_owned(), what: "sign in".to_owned(), subject: how.to_owned(), result, ..Action::default() }
}

/// Somebody is not let in: it is noted, and their address has one failure more.
pub(super) async fn turned_away(app: &App, from: Option<IpAddr>, who: &str, how: &str, why: &str) {
    if let Some(from) = from {
        app.attempts.failed(from);
    }
    journal::note(app, from, signing_in(who, how, format!("refused: {why}"))).await;
}

/// Somebody is let in: they get a session, and it is noted. Returns the session's cookie.
pub(super) async fn admit(app: &App, from: Option<IpAddr>, invited: Invited, how: &str) -> Result<String, Problem> {
    if let Some(from) = from {
        app.attempts.succeeded(from);
    }
    let Invited { name, holder } = invited;
    let (now, who) = (now_ms(), name.clone());
    let made = app.records(move |r| r.make_session(&who, &holder, now, now + SESSION_HOURS * 3_600_000)).await;
    let token = made.map_err(|e| records_problem(&e))?;
    journal::note(app, from, signing_in(&name, how, "done".to_owned())).await;
    Ok(cookie(app, token.reveal(), SESSION_HOURS * 3_600))
}

/// Who shows this, if it is right.
async fn known(app: &App, asked: SignIn) -> Result<Option<Invited>, Problem> {
    if let Some(code) = asked.code {
        return Ok(app.codes.take(&code, now_ms()));
    }
    let (Some(name), Some(password)) = (asked.name, asked.password) else {
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "bad-body", "The body cannot be read", "a `code`, or a `name` and a `password`"));
    };
    let asked = name.clone();
    let person = app.records(move |r| r.person(&asked)).await.map_err(|e| records_problem(&e))?;
    let is_right = is_right(app, password, person.and_then(|person| person.password)).await;
    Ok(is_right.then(|| Invited { holder: Holder::Person(name.clone()), name }))
}

/// Whether `password` is the one whose hash was kept. Few at once are looked at: each takes its memory.
pub(super) async fn is_right(app: &App, password: String, kept: Option<String>) -> bool {
    let Ok(_place) = app.hashing.acquire().await else { return false };
    tokio::task::spawn_blocking(move || sign_in::is_right(&password, kept.as_deref())).await.unwrap_or(false)
}

/// Ends a browser's session, and the streams that are open by it.
pub(crate) async fn sign_out(State(app): State<Arc<App>>, headers: HeaderMap, extensions: Extensions) -> Response {
    if !same_origin(&headers) {
        return other_site("sign out from the console's own pages").into_response();
    }
    if let Some(session) = session(&app, &headers) {
        let ended = app.records(move |r| match r.bearer(&session, TokenKind::Session, "", now_ms())? {
            Some(bearer) => r.end_token(bearer.id, TokenKind::Session),
            None => Ok(None),
        });
        match ended.await {
            Err(e) => return records_problem(&e).into_response(),
            Ok(None) => {}
            Ok(Some(who)) => {
                app.access.send_replace(());
                let action = Action { who, what: "sign out".to_owned(), result: "done".to_owned(), ..Action::default() };
                journal::note(&app, address(&extensions), action).await;
            }
        }
    }
    (StatusCode::NO_CONTENT, [(header::SET_COOKIE, cookie(&app, "", 0))]).into_response()
}

/// Makes a link that signs a browser in, once, within a quarter of an hour: a person, or whoever holds the token that asks.
#[utoipa::path(post, path = "/api/v1/sign-in-links", tag = "people", request_body = types::LinkRequest,
    responses((status = 200, body = types::SignInLink), (status = 401, body = types::Problem), (status = 403, body = types::Problem), (status = 404, body = types::Problem)))]
pub(crate) async fn make_link(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Body(request): Body<LinkRequest>,
) -> Result<(Extension<Subject>, Json<types::SignInLink>), Problem> {
    if caller.kind == TokenKind::Session {
        // Else a session would never end.
        return Err(Problem::new(StatusCode::FORBIDDEN, "token-needed", "Not from a session", "sign-in links are made with a token, by `rockrose link`"));
    }
    let invited = match request.person {
        None => Invited { name: caller.name.clone(), holder: Holder::Token(caller.id) },
        Some(name) => {
            caller.must(&[Need::People])?;
            let asked = name.clone();
            let person = app.records(move |r| r.person(&asked)).await.map_err(|e| records_problem(&e))?;
            let person = person.ok_or_else(|| Problem::not_found(format!("there is nobody called `{name}`")))?;
            Invited { name: person.name.clone(), holder: Holder::Person(person.name) }
        }
    };
    let subject = Subject(invited.name.clone());
    let code = app.codes.make(invited, now_ms()).map_err(|e| Problem::internal(e.to_string()))?;
    Ok((Extension(subject), Json(types::SignInLink { url: app.site.url(&format!("/sign-in?code={code}")) })))
}
