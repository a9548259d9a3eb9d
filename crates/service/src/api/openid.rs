//! Signing in to the console through a company's OpenID Connect provider: the way there and back.

use std::sync::Arc;

use axum::Json;
use axum::extract::{Query, Request, State};
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Redirect, Response};
use rockrose_openid::{Journey, Journeys, OpenIdError, Provider};
use rockrose_records::{AccountOf, Holder};
use serde::Deserialize;

use super::auth::{address, admit, closed_cookie, cookie_of, turned_away};
use super::types::SignInWays;
use crate::sign_in::Invited;
use crate::{App, now_ms};

/// Where the provider sends browsers back to.
pub(crate) const BACK: &str = "/sign-in/openid/back";
/// What the journal calls it.
const HOW: &str = "by the OpenID Connect provider";

/// A provider, and the browsers that are on their way to it.
pub(crate) struct OpenId {
    pub(crate) provider: Provider,
    pub(crate) journeys: Journeys,
}

/// Why somebody comes back without being signed in. The sign-in page says it in words.
#[derive(Clone, Copy)]
enum Wrong {
    /// The provider cannot be asked.
    Provider,
    /// Its answer is not good.
    Answer,
    /// They chose none of their accounts there.
    Declined,
    /// They took too long, or came with another browser.
    Journey,
    /// Nobody of that name was added.
    Unknown,
    /// The name is somebody's who has another account.
    Account,
    /// Too many failures.
    Wait,
    /// The service failed.
    Service,
}

impl Wrong {
    fn word(self) -> &'static str {
        match self {
            Wrong::Provider => "provider",
            Wrong::Answer => "answer",
            Wrong::Declined => "declined",
            Wrong::Journey => "journey",
            Wrong::Unknown => "unknown",
            Wrong::Account => "account",
            Wrong::Wait => "wait",
            Wrong::Service => "service",
        }
    }
}

impl IntoResponse for Wrong {
    fn into_response(self) -> Response {
        Redirect::to(&format!("/sign-in?wrong={}", self.word())).into_response()
    }
}

/// What a browser carries on its way is called so. It goes with requests that other sites lead to, since the provider leads back.
fn cookie_name(app: &App) -> String {
    format!("rockrose_openid_{}", app.address.port())
}

fn cookie(app: &App, carried: &str, seconds: i64) -> String {
    closed_cookie(app, &format!("{}={carried}; Path=/sign-in/openid", cookie_name(app)), "Lax", seconds)
}

/// How one can sign in, besides by a link or with a password.
pub(crate) async fn ways(State(app): State<Arc<App>>) -> Json<SignInWays> {
    Json(SignInWays { openid: app.openid.as_ref().map(|openid| openid.provider.label()) })
}

/// Sends a browser to the provider.
pub(crate) async fn begin(State(app): State<Arc<App>>) -> Response {
    let Some(openid) = &app.openid else { return Wrong::Provider.into_response() };
    let Ok(journey) = openid.journeys.begin(now_ms()) else { return Wrong::Service.into_response() };
    match openid.provider.begin(&journey, &app.site.url(BACK)).await {
        Ok(to) => ([(header::SET_COOKIE, cookie(&app, &journey.carried, 600))], Redirect::to(&to)).into_response(),
        Err(e) => {
            tracing::warn!("nobody can sign in by the OpenID Connect provider: {e}");
            Wrong::Provider.into_response()
        }
    }
}

/// What the provider sends a browser back with.
#[derive(Deserialize)]
pub(crate) struct Return {
    state: Option<String>,
    code: Option<String>,
    error: Option<String>,
}

/// A browser comes back from the provider, and leaves with a session, or with a word that says why not.
pub(crate) async fn back(State(app): State<Arc<App>>, Query(came): Query<Return>, request: Request) -> Response {
    let from = address(request.extensions());
    if from.and_then(|from| app.attempts.wait(from)).is_some() {
        return Wrong::Wait.into_response();
    }
    let arrived = match arrived(&app, &came, request.headers()).await {
        Ok(invited) => admit(&app, from, invited, HOW).await.map_err(|_| Wrong::Service),
        Err((wrong, who, why)) => {
            turned_away(&app, from, &who, HOW, &why).await;
            Err(wrong)
        }
    };
    let mut response = match arrived {
        Ok(session) => ([(header::SET_COOKIE, session)], Redirect::to("/")).into_response(),
        Err(wrong) => wrong.into_response(),
    };
    // What it carried is used up either way.
    if let Ok(value) = cookie(&app, "", 0).parse() {
        response.headers_mut().append(header::SET_COOKIE, value);
    }
    response
}

/// Who came back; or what the sign-in page says, and what the journal says of whom.
async fn arrived(app: &App, came: &Return, headers: &HeaderMap) -> Result<Invited, (Wrong, String, String)> {
    let nobody = |wrong: Wrong| (wrong, String::new(), wrong.word().to_owned());
    let openid = app.openid.as_ref().ok_or_else(|| nobody(Wrong::Provider))?;
    let carried = cookie_of(headers, &cookie_name(app)).unwrap_or_default();
    let journey: Journey = openid.journeys.back(&carried, came.state.as_deref().unwrap_or_default(), now_ms()).ok_or_else(|| nobody(Wrong::Journey))?;
    let code = match (&came.code, came.error.as_deref()) {
        (Some(code), None) => code,
        (_, Some("access_denied")) => return Err(nobody(Wrong::Declined)),
        _ => return Err(nobody(Wrong::Answer)),
    };
    let account = openid.provider.finish(&journey, code, &app.site.url(BACK)).await.map_err(|e| {
        tracing::warn!("nobody was signed in by the OpenID Connect provider: {e}");
        (if matches!(e, OpenIdError::Unreachable(_)) { Wrong::Provider } else { Wrong::Answer }, String::new(), e.to_string())
    })?;
    let name = account.name.clone();
    let of = app.records(move |r| r.person_of_account(&account.id, &account.name)).await.map_err(|_| nobody(Wrong::Service))?;
    match of {
        AccountOf::Person(name) => Ok(Invited { holder: Holder::Person(name.clone()), name }),
        AccountOf::Other => Err((Wrong::Account, name, Wrong::Account.word().to_owned())),
        AccountOf::Nobody => Err((Wrong::Unknown, name, Wrong::Unknown.word().to_owned())),
    }
}
