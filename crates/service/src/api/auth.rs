//! Who may come in.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Redirect, Response};
use rockrose_intake::Problem;
use rockrose_records::{Bearer, TokenKind};
use serde::Deserialize;

use super::extract::Asked;
use super::{records_problem, types};
use crate::{App, now_ms};

/// What a session's cookie is called. Browsers do not tell the ports of a host apart, so the name does.
fn cookie_name(app: &App) -> String {
    format!("rockrose_session_{}", app.address.port())
}

/// How long a browser stays signed in.
const SESSION_HOURS: i64 = 12;

/// Who sent a request.
#[derive(Clone, Debug)]
pub(crate) struct Identity(pub(crate) String);

fn bearer(headers: &HeaderMap) -> Option<String> {
    let (scheme, token) = headers.get(header::AUTHORIZATION)?.to_str().ok()?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim().to_owned())
}

fn session(app: &App, headers: &HeaderMap) -> Option<String> {
    let wanted = cookie_name(app);
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

pub(crate) async fn who(app: &App, method: &Method, headers: &HeaderMap) -> Result<(Identity, TokenKind), Problem> {
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
        return Err(Problem::new(
            StatusCode::FORBIDDEN,
            "other-site",
            "Not from this console",
            "a signed-in browser may change things only from the console's own pages",
        ));
    }
    let found: Option<Bearer> = app.records(move |r| r.bearer(&text, kind, now_ms())).await.map_err(|e| records_problem(&e))?;
    found.map(|b| (Identity(b.name), kind)).ok_or_else(|| Problem::unauthorised("this token or session is unknown or has expired"))
}

/// Lets only those in who are known.
pub(crate) async fn require(State(app): State<Arc<App>>, mut request: Request, next: Next) -> Response {
    match who(&app, request.method(), request.headers()).await {
        Ok((identity, kind)) => {
            request.extensions_mut().insert(identity);
            request.extensions_mut().insert(kind);
            next.run(request).await
        }
        Err(problem) => problem.into_response(),
    }
}

#[derive(Deserialize)]
pub(crate) struct SignIn {
    code: String,
}

/// A browser comes with a one-time code and leaves with a session.
pub(crate) async fn sign_in(State(app): State<Arc<App>>, Asked(SignIn { code }): Asked<SignIn>) -> Response {
    let now = now_ms();
    let Some(who) = app.codes.take(&code, now) else {
        return Redirect::to("/?link=ended").into_response();
    };
    let made = app.records(move |r| r.make_token(&who, TokenKind::Session, now, Some(now + SESSION_HOURS * 3_600_000))).await;
    let token = match made {
        Ok(token) => token,
        Err(e) => return records_problem(&e).into_response(),
    };
    let cookie = format!("{}={}; Path=/; HttpOnly; SameSite=Strict; Max-Age={}", cookie_name(&app), token.reveal(), SESSION_HOURS * 3_600);
    let mut response = Redirect::to("/").into_response();
    if let Ok(value) = HeaderValue::from_str(&cookie) {
        response.headers_mut().insert(header::SET_COOKIE, value);
    }
    response
}

/// Ends a browser's session.
pub(crate) async fn sign_out(State(app): State<Arc<App>>, headers: HeaderMap) -> Response {
    if !same_origin(&headers) {
        return Problem::new(StatusCode::FORBIDDEN, "other-site", "Not from this console", "sign out from the console's own pages").into_response();
    }
    if let Some(session) = session(&app, &headers) {
        let ended = app.records(move |r| match r.bearer(&session, TokenKind::Session, now_ms())? {
            Some(bearer) => r.end_token(bearer.id),
            None => Ok(false),
        });
        if let Err(e) = ended.await {
            return records_problem(&e).into_response();
        }
    }
    let mut response = StatusCode::NO_CONTENT.into_response();
    if let Ok(value) = HeaderValue::from_str(&format!("{}=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0", cookie_name(&app))) {
        response.headers_mut().insert(header::SET_COOKIE, value);
    }
    response
}

/// Makes a link that signs a browser in, once, within a quarter of an hour.
#[utoipa::path(post, path = "/api/v1/sign-in-links", tag = "people", responses((status = 200, body = types::SignInLink), (status = 401, body = types::Problem), (status = 403, body = types::Problem)))]
pub(crate) async fn make_link(
    State(app): State<Arc<App>>,
    axum::Extension(Identity(who)): axum::Extension<Identity>,
    axum::Extension(kind): axum::Extension<TokenKind>,
) -> Result<Json<types::SignInLink>, Problem> {
    if kind == TokenKind::Session {
        // Else a session would never end.
        return Err(Problem::new(StatusCode::FORBIDDEN, "token-needed", "Not from a session", "sign-in links are made with a token, by `rockrose link`"));
    }
    let code = app.codes.make(&who, now_ms()).map_err(|e| Problem::internal(e.to_string()))?;
    Ok(Json(types::SignInLink { url: format!("http://{}/sign-in?code={code}", app.address) }))
}
